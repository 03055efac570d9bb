package journal

import (
	"encoding/json"
	"testing"
	"time"
)

func chain(n int) []Line {
	var lines []Line
	prev := ""
	for i := range n {
		l := Line{Seq: int64(i + 1), At: time.Date(2026, 11, 1, 8, i, 0, 5, time.UTC), Actor: "ines", Kind: "change.opened", Subject: "change/1", Text: "x",
			Data: json.RawMessage(`{"a":1}`), Prev: prev}
		l.Hash = Sum(l)
		prev = l.Hash
		lines = append(lines, l)
	}
	return lines
}

func verify(lines []Line) error {
	var v Verifier
	for _, l := range lines {
		if err := v.Next(l); err != nil {
			return err
		}
	}
	return nil
}

func TestP10AnyAlterationIsSeen(t *testing.T) {
	if err := verify(chain(5)); err != nil {
		t.Fatal(err)
	}
	alterations := map[string]func([]Line) []Line{
		"actor":      func(l []Line) []Line { l[2].Actor = "odo"; return l },
		"kind":       func(l []Line) []Line { l[2].Kind = "x"; return l },
		"time":       func(l []Line) []Line { l[2].At = l[2].At.Add(1); return l },
		"text":       func(l []Line) []Line { l[2].Text = "y"; return l },
		"data":       func(l []Line) []Line { l[2].Data = json.RawMessage(`{"a":2}`); return l },
		"subject":    func(l []Line) []Line { l[2].Subject = "change/2"; return l },
		"repository": func(l []Line) []Line { l[2].Repository = "a/b"; return l },
		"left out":   func(l []Line) []Line { return append(l[:2], l[3:]...) },
		"swapped":    func(l []Line) []Line { l[1], l[2] = l[2], l[1]; return l },
		"made anew":  func(l []Line) []Line { l[2].Text = "y"; l[2].Hash = Sum(l[2]); return l },
		"first gone": func(l []Line) []Line { return l[1:] },
	}
	for name, alter := range alterations {
		if verify(alter(chain(5))) == nil {
			t.Errorf("%s: the alteration was not seen", name)
		}
	}
}

func TestTimeZoneDoesNotMatter(t *testing.T) {
	l := chain(1)[0]
	l.At = l.At.In(time.FixedZone("east", 3600))
	if Sum(l) != l.Hash {
		t.Error("the same instant in another zone has another hash")
	}
}
