package transport

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"tavrin/internal/bounds"
	"tavrin/internal/git"
	"tavrin/internal/git/workshop"
)

func FuzzReadRequest(f *testing.F) {
	f.Add([]byte("0000"))
	f.Add([]byte(packet(git.ZeroID+" "+strings.Repeat("a", 40)+" refs/heads/x\x00report-status push-options") + "0000" + packet("x=y") + "0000"))
	f.Add([]byte("0003"))
	b := bounds.Default()
	b.PushRefs, b.PushCommandBytes = 20, 2000
	f.Fuzz(func(t *testing.T, body []byte) {
		q, err := readRequest(bufio.NewReader(strings.NewReader(string(body))), &b)
		if err == nil && q != nil {
			if q.reached == nil && len(q.updates) > 20 {
				t.Errorf("%d updates", len(q.updates))
			}
			for _, u := range q.updates {
				if u.Problem == "" && git.CheckRef(u.Ref) != nil {
					t.Errorf("%q passed", u.Ref)
				}
			}
			report(q, nil, make([]Result, len(q.updates)), []string{"x"})
		}
	})
}

func FuzzReadListed(f *testing.F) {
	f.Add(strings.Repeat("a", 40) + " blob 12\n")
	f.Fuzz(func(t *testing.T, line string) {
		id, kind, size, ok := readListed(line)
		if ok && (!git.IsID(id) || size < 0 || !strings.HasPrefix(line, id+" "+kind+" ")) {
			t.Errorf("%q was read as %s %s %d", line, id, kind, size)
		}
	})
}

func FuzzReadTree(f *testing.F) {
	f.Add("100644 a\x00" + strings.Repeat("x", 20) + "40000 b\x00" + strings.Repeat("y", 20))
	f.Fuzz(func(t *testing.T, text string) {
		for left := text; left != ""; {
			_, id, rest, ok := readEntry(left)
			if !ok {
				return
			}
			if len(rest) >= len(left) || !git.IsID(id) {
				t.Fatalf("%q was read as %s with %q left", left, id, rest)
			}
			left = rest
		}
	})
}

// Trees are measured before anything walks them, each against its bound.
func TestTreesAreMeasured(t *testing.T) {
	w := workshop.New(t)
	w.Write("a/b/c/file", "x")
	w.Write("a/other", "x")
	tree := w.Git("rev-parse", w.Commit("start")+"^{tree}")
	w.Push()
	for bound, b := range map[string]bounds.Bounds{
		"":                               {PushTreeDepth: 3, PushTreePaths: 2},
		"the bound push.tree-depth is 2": {PushTreeDepth: 2, PushTreePaths: 2},
		"the bound push.tree-paths is 1": {PushTreeDepth: 3, PushTreePaths: 1},
	} {
		ask, err := startAsking(t.Context(), w.Repo)
		if err != nil {
			t.Fatal(err)
		}
		m := measuring{asked: ask, known: &measured{}, b: &b}
		for range 2 { // measured, and remembered
			if _, err := m.tree(tree, 0); bound == "" && err != nil || bound != "" && (err == nil || !strings.Contains(err.Error(), bound)) {
				t.Errorf("%q: %v", bound, err)
			}
		}
		ask.Close()
	}
}

// What a request for single commits asks for is looked at before git sees it, however it is written.
func TestOnlyWanted(t *testing.T) {
	good, bad := strings.Repeat("a", 40), strings.Repeat("b", 40)
	line := func(text string) string { return fmt.Sprintf("%04x%s", len(text)+4, text) }
	may := func(id string) error {
		if id != good {
			return errors.New("not " + id[:4])
		}
		return nil
	}
	for _, c := range []struct{ body, wrong string }{
		{line("command=fetch") + "0001" + line("thin-pack\n") + line("want "+good+"\n") + line("done\n") + "0000", ""},
		{line("want "+good+" side-band-64k ofs-delta\n") + line("want "+good+"\n") + "0000" + line("done\n"), ""},
		{line("command=ls-refs\n") + "0001" + line("peel\n") + "0000", ""},
		{line("have "+bad+"\n") + line("want "+good+"\n") + "0000", ""},
		{"", ""},
		{line("want "+bad+"\n") + "0000", "not bbbb"},
		{line("want "+good+"\n") + line("want "+bad+"\n") + "0000", "not bbbb"},
		{line("want "+good+"\n") + "0000" + line("want "+bad+"\n") + "0000", "not bbbb"},
		{line("want-ref refs/heads/main\n") + "0000", "by its whole id"},
		{line("want " + good[:39] + "\n"), "by its whole id"}, {line("want " + strings.ToUpper(good) + "\n"), "by its whole id"}, {line("want  " + good + "\n"), "by its whole id"},
		{line("want\t" + good + "\n"), "by its whole id"}, {line("want " + good + "x"), "by its whole id"},
		{line("deepen-not refs/heads/main\n"), "as a number"},
		{"0003", "not the length"}, {"00zz", "not the length"}, {"0032want", "too early"}, {"00", "too early"}, {line("want " + good)[:20], "too early"},
		{strings.Repeat(line("have "+bad+"\n"), 25000), "too "},
	} {
		r, err := OnlyWanted(strings.NewReader(c.body), may)
		if (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%.80q: %v, want %q", c.body, err, c.wrong)
			continue
		}
		if err == nil {
			if back, err := io.ReadAll(r); err != nil || string(back) != c.body {
				t.Errorf("%.80q comes back as %.80q, %v", c.body, back, err)
			}
		}
	}
	many := ""
	for n := range 200 {
		many += line(fmt.Sprintf("want %040x\n", n))
	}
	if _, err := OnlyWanted(strings.NewReader(many), func(string) error { return nil }); err == nil || !strings.Contains(err.Error(), "more than 100") {
		t.Errorf("200 at once: %v", err)
	}
}
