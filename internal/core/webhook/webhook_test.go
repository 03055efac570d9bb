package webhook

import (
	"crypto/rand"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"testing/quick"
	"time"

	standard "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"tavrin/internal/core/event"
	"tavrin/internal/core/journal"
)

func TestFilter(t *testing.T) {
	asked, moved := event.Named("check.asked"), event.Named("branch.moved")
	for _, c := range []struct {
		kinds, branches, paths string
		wrong                  string
		check, branch          bool
	}{
		{"check.asked", "", "", "", true, false},
		{"check.*", "", "", "", true, false},
		{"*", "", "", "", true, true},
		{"*,!check.*", "", "", "", false, true},
		{"branch.moved", "main", "", "", false, true},
		{"branch.moved", "release/*", "", "", false, true},
		{"chek.asked", "", "", `"chek.asked" is no kind`, false, false},
		{"check.asked,chek.*", "", "", `"chek.*" is no kind`, false, false},
		{"token.created", "", "", "never leave", false, false},
		{"token.*", "", "", "is no kind of event that is sent", false, false},
		{"check.*,!check.*", "", "", "no event would be sent", false, false},
		{"", "", "", "no event would be sent", false, false},
		{"check.asked", "[", "", "branches:", false, false},
		{"check.asked", "", "[", "paths:", false, false},
	} {
		f, err := NewFilter(list(c.kinds), list(c.branches), list(c.paths))
		if c.wrong != "" {
			if err == nil || !strings.Contains(err.Error(), c.wrong) {
				t.Errorf("%s: %v, want %q", c.kinds, err, c.wrong)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", c.kinds, err)
			continue
		}
		if f.Takes(asked) != c.check || f.Takes(moved) != c.branch {
			t.Errorf("%s takes %v and %v, want %v and %v", c.kinds, f.Takes(asked), f.Takes(moved), c.check, c.branch)
		}
	}
	f, err := NewFilter([]string{"*"}, []string{"main", "release/*"}, []string{"valves/**"})
	if err != nil || !f.OnBranch([]string{"release/4"}) || f.OnBranch([]string{"evening"}) || f.OnBranch(nil) ||
		!f.Brings([]string{"docs/a", "valves/open.go"}) || f.Brings([]string{"docs/a"}) || f.Brings(nil) {
		t.Errorf("branches and paths do not narrow as they should: %v", err)
	}
	all, _ := NewFilter([]string{"*"}, nil, nil)
	if !all.OnBranch(nil) || !all.Brings(nil) {
		t.Error("a filter without branches and paths leaves something out")
	}
}

func list(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(text, ",")
}

// Whatever a filter sends may leave the service (P11).
func TestP11NothingAboutAccessIsSent(t *testing.T) {
	f, err := NewFilter([]string{"**", "*"}, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range f.Sent() {
		if !k.Leaves {
			t.Errorf("%s would be sent", k.Name)
		}
	}
}

// The standard's own library takes what is signed here, and what is signed there is taken here.
func TestSignaturesAreTheStandards(t *testing.T) {
	for _, length := range []int{24, 32, 64} {
		random := make([]byte, length)
		rand.Read(random)
		secret, other := NewSecret(random), NewSecret(append([]byte{random[0] ^ 0xff}, random[1:]...))
		theirs, err := standard.NewWebhook(secret)
		if err != nil {
			t.Fatal(err)
		}
		now, body := time.Now(), []byte(`{"type":"tavrin.check.asked"}`)
		signature, err := Sign("msg_1", now, body, other, secret) // the secret was replaced: both sign
		if err != nil {
			t.Fatal(err)
		}
		h := http.Header{}
		for name, value := range map[string]string{HeaderID: "msg_1", HeaderTimestamp: stamp(now), HeaderSignature: signature} {
			h.Set(name, value)
		}
		if err := theirs.Verify(body, h); err != nil {
			t.Errorf("the standard's library refuses it: %v", err)
		}
		if err := theirs.Verify(append(body, ' '), h); err == nil {
			t.Error("the standard's library takes another body")
		}
		signed, err := theirs.Sign("msg_2", now, body)
		if err != nil {
			t.Fatal(err)
		}
		if err := Verify(secret, "msg_2", stamp(now), signed, body, now); err != nil {
			t.Errorf("what the standard's library signs is refused: %v", err)
		}
		for what, err := range map[string]error{
			"another body":   Verify(secret, "msg_2", stamp(now), signed, []byte("{}"), now),
			"another id":     Verify(secret, "msg_3", stamp(now), signed, body, now),
			"another secret": Verify(other, "msg_2", stamp(now), signed, body, now),
			"an old one":     Verify(secret, "msg_2", stamp(now), signed, body, now.Add(Tolerance+2*time.Second)),
			"one to come":    Verify(secret, "msg_2", stamp(now), signed, body, now.Add(-Tolerance-2*time.Second)),
			"no signature":   Verify(secret, "msg_2", stamp(now), "", body, now),
			"no time":        Verify(secret, "msg_2", "", signed, body, now),
		} {
			if err == nil {
				t.Errorf("%s is taken", what)
			}
		}
	}
	for _, bad := range []string{"", "whsec_", "whsec_c2hvcnQ=", "MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "whsec_*"} {
		if ValidSecret(bad) == nil {
			t.Errorf("%q is taken as a secret", bad)
		}
	}
}

func stamp(at time.Time) string { b, _ := json.Marshal(at.Unix()); return string(b) }

// Pauses grow, each differs from that before by more than what is spread, and none is longer than the longest.
func TestPausesGrow(t *testing.T) {
	grow := func(failed uint8, a, b float64) bool {
		n := int(failed%40) + 1
		x, y := Pause(n, spread(a)), Pause(n+1, spread(b))
		return x > 0 && y <= LongestPause*6/5 && (n >= len(pauses) || y > x)
	}
	if err := quick.Check(grow, nil); err != nil {
		t.Error(err)
	}
}

func spread(f float64) float64 {
	if f < 0 {
		f = -f
	}
	for f > 1 {
		f /= 10
	}
	return f
}

func TestTemplates(t *testing.T) {
	known := map[string]any{"id": "7", "type": "tavrin.check.asked", "source": "s", "subject": "commit/9f", "time": "2026-11-02T08:30:00Z",
		"data": map[string]any{"text": `say "no", ünder`, "details": map[string]any{"attempt": int64(2), "names": []any{"a", "b"}, "draft": false, "none": nil}}}
	for _, c := range []struct{ kind, text, want, wrong string }{
		{"", "plain", "plain", ""},
		{"", "${data.details.attempt}", "2", ""},
		{"", "a${id}b${id}c", "a7b7c", ""},
		{"", "$${id} ${'}'} ${ {'a': 1}['a'] }", "${id} } 1", ""},
		{"", "${data.details.names}", `["a","b"]`, ""},
		{"", "${data.details.none}${data.details.draft}", "false", ""},
		{"", "${has(data.details.link) ? data.details.link : 'no link'}", "no link", ""},
		{"", "${data.details.link}", "", "no such key"},
		{"", "${id", "", "not closed"},
		{"", "${id +}", "", "is not right"},
		{"", "${nothing}", "", "undeclared reference"},
		{"url", "/x/${data.text}?q=${subject}", "/x/say%20%22no%22%2C%20%C3%BCnder?q=commit%2F9f", ""},
		{"application/x-www-form-urlencoded", "t=${data.text}", "t=say+%22no%22%2C+%C3%BCnder", ""},
		{"text/plain", "${data.text}", `say "no", ünder`, ""},
		{"application/json", `{"t": "${data.text}", "n": "${data.details.attempt}", "m": "no ${data.details.attempt}", "k": [1.50, true, "${data.details.names}"]}`,
			`{"k":[1.50,true,["a","b"]],"m":"no 2","n":2,"t":"say \"no\", ünder"}`, ""},
		{"application/json; charset=utf-8", `"${data.details}"`, `{"attempt":2,"draft":false,"names":["a","b"],"none":null}`, ""},
		{"application/json", `{"t": ${data.text}}`, "", "no JSON document"},
		{"application/json", `{} {}`, "", "no JSON document"},
		{"application/json", `{"a": "${id +}"}`, "", "is not right"},
		{"", "${[1,2,3].map(a, [1,2,3].map(b, [1,2,3].map(c, [1,2,3].map(d, [1,2,3,4,5,6,7,8,9].map(e, [1,2,3,4,5,6,7,8,9].map(f, [1,2,3,4,5,6,7,8,9].map(g, [1,2,3,4,5,6,7,8,9].map(h, h))))))))}",
			"", "cost limit"},
		{"", strings.Repeat("x", MaxTemplate+1), "", "at most"},
		{"", strings.Repeat("${id}", maxExpressions+1), "", "at most"},
		{"application/json", "[" + strings.Repeat(`"${id}",`, maxExpressions) + `"${id}"]`, "", "at most"},
	} {
		var got string
		var err error
		switch c.kind {
		case "", "url":
			var tpl Template
			if tpl, err = ParseTemplate(c.text); err == nil && c.kind == "url" {
				got, err = tpl.Escaped(known)
			} else if err == nil {
				got, err = tpl.Text(known, func(s string) string { return s })
			}
		default:
			var f Form
			if f, err = ParseBody(c.text, c.kind); err == nil {
				var body []byte
				body, err = f.Body(known)
				got = string(body)
			}
		}
		switch {
		case c.wrong == "" && (err != nil || got != c.want):
			t.Errorf("%.60s is %s (%v), want %s", c.text, got, err, c.want)
		case c.wrong != "" && (err == nil || !strings.Contains(err.Error(), c.wrong)):
			t.Errorf("%.60s: %v, want %q", c.text, err, c.wrong)
		}
	}
}

// Whatever an event says, a JSON body is JSON with the same shape, and an address has the same number of pieces.
func TestValuesStayValues(t *testing.T) {
	form, err := ParseBody(`{"a": "${data.text}", "b": {"c": "x ${data.text} y"}}`, JSONType)
	if err != nil {
		t.Fatal(err)
	}
	address, err := ParseTemplate("https://builds.example/${data.text}/run?a=${data.text}&b=1")
	if err != nil {
		t.Fatal(err)
	}
	holds := func(text string) bool {
		text = strings.ToValidUTF8(text, "")
		cloud, err := json.Marshal(map[string]any{"id": "1", "data": map[string]any{"text": text}})
		if err != nil {
			return false
		}
		known, err := Variables(cloud)
		if err != nil {
			return false
		}
		body, err := form.Body(known)
		var back struct {
			A string
			B struct{ C string }
		}
		if err != nil || json.Unmarshal(body, &back) != nil || back.A != text || back.B.C != "x "+text+" y" {
			return false
		}
		to, err := address.Escaped(known)
		return err == nil && strings.Count(to, "/") == 4 && strings.Count(to, "?") == 1 && strings.Count(to, "&") == 1 && !strings.ContainsAny(to, "# \n")
	}
	for _, text := range []string{"", "a/../b", "?x&y#z", "\"}", "\n", "${id}", "%2e%2e"} {
		if !holds(text) {
			t.Errorf("%q gets out of its place", text)
		}
	}
	if err := quick.Check(holds, &quick.Config{MaxCount: 500}); err != nil {
		t.Error(err)
	}
}

// A template may ask for whatever the example of its kind has, and the event itself has what CloudEvents asks for.
func TestCloudEventsAreWhole(t *testing.T) {
	for _, k := range event.Kinds {
		data, err := json.Marshal(k.Example)
		if err != nil {
			t.Fatal(err)
		}
		line := journal.Line{Seq: 7, At: time.Unix(0, 0).UTC(), Actor: "ines", Kind: k.Name, Repository: "growers/irrigation",
			Subject: k.Example.Subject(), Text: k.Example.Text("ines"), Data: data}
		cloud, err := json.Marshal(journal.Cloud(line, "https://tavrin.example"))
		if err != nil {
			t.Fatal(err)
		}
		known, err := Variables(cloud)
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range []string{"id", "source", "type"} {
			if known[name] == "" {
				t.Errorf("an event %s has no %s", k.Name, name)
			}
		}
		if known["source"] != "https://tavrin.example/repositories/growers/irrigation" || known["type"] != "tavrin."+k.Name {
			t.Errorf("an event %s is %s of %s", k.Name, known["type"], known["source"])
		}
	}
}

func TestConditions(t *testing.T) {
	known := map[string]any{"id": "7", "type": "tavrin.change.landed", "source": "", "subject": "change/4", "time": "",
		"data": map[string]any{"details": map[string]any{"tickets": []any{"FEN-31"}}}}
	for _, c := range []struct {
		text, wrong string
		holds       bool
	}{
		{"", "", true}, {"true", "", true}, {"type == 'tavrin.change.landed'", "", true}, {"has(data.details.tickets)", "", true},
		{"size(data.details.tickets) > 1", "", false}, {"data.details.number > 3", "no such key", false}, {"data.details.tickets", "neither true nor false", false},
		{"subject", "is not true or false", false}, {"subject ==", "is not right", false},
	} {
		p, err := ParseCondition(c.text)
		holds := false
		if err == nil {
			holds, err = p.Holds(known)
		}
		if holds != c.holds || (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%q holds: %v, %v; want %v, %q", c.text, holds, err, c.holds, c.wrong)
		}
	}
}

func TestWhatBecomesOfADelivery(t *testing.T) {
	for _, c := range []struct {
		v     Verdict
		tried Tried
		want  State
		pause time.Duration
	}{
		{Delivered, Tried{Failed: 1, Spread: 0.5}, Sent, 0},
		{Delivered, Tried{Since: 2 * GiveUp, Failed: 30, Spread: 0.5}, Sent, 0},
		{Again, Tried{Failed: 1, Spread: 0.5}, Waiting, time.Second},
		{Again, Tried{Since: GiveUp - 1, Failed: 9, Spread: 0.5}, Waiting, time.Hour},
		{Again, Tried{Since: GiveUp, Failed: 9, Spread: 0.5}, Parked, 0},
		{Again, Tried{Failed: 1, Asked: 2 * time.Minute, Spread: 0.5}, Waiting, 2 * time.Minute},
		{Again, Tried{Failed: 1, Asked: 1000 * time.Hour, Spread: 0.5}, Waiting, LongestPause},
		{Again, Tried{Failed: 7, Asked: time.Second, Spread: 0.5}, Waiting, time.Hour},
		{Gone, Tried{Failed: 1, Spread: 0.5}, Parked, 0},
	} {
		if got := Next(c.v, c.tried); got != (After{c.want, c.pause}) {
			t.Errorf("after %d with %+v it is %+v, want %s, %s", c.v, c.tried, got, c.want, c.pause)
		}
	}
	for status, v := range map[int]Verdict{199: Again, 200: Delivered, 204: Delivered, 299: Delivered, 301: Again, 400: Again, 404: Again, 410: Gone, 429: Again, 500: Again} {
		if Of(status) != v {
			t.Errorf("%d means %d", status, Of(status))
		}
	}
}
