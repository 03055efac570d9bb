package kind_test

import (
	"maps"
	"strings"
	"testing"

	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/rules"
)

// A ticket leads where the rules say, whatever it is called, and nowhere else.
func TestTicketLinks(t *testing.T) {
	for _, c := range []struct{ link, wrong string }{
		{"https://tickets.example/{ticket}", ""}, {"http://tickets.example:8080/t?id={ticket}#top", ""},
		{"https://tickets.example/", "with {ticket} in it"}, {"javascript:{ticket}", "is no address"}, {"https://{ticket}.example/{ticket}", "is no address"},
		{"/t/{ticket}", "is no address"}, {"{ticket}", "is no address"},
	} {
		doc, findings := rules.Parse("tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{ticket: 'FEN-[^ ]+', link: '" + c.link + "'}]}\n")
		if (len(findings) == 0) != (c.wrong == "") || len(findings) > 0 && !strings.Contains(findings[0].Message, c.wrong) {
			t.Errorf("%s: %v", c.link, findings)
		}
		if c.wrong != "" || len(findings) > 0 {
			continue
		}
		got := gate.TicketLinks(doc.Alone(1), change.Facts{Target: "main", Title: "FEN-31 and FEN-4/../x?y"})
		want := map[string]string{"FEN-31": strings.ReplaceAll(c.link, "{ticket}", "FEN-31"), "FEN-4/../x?y": strings.ReplaceAll(c.link, "{ticket}", "FEN-4%2F..%2Fx%3Fy")}
		if !maps.Equal(got, want) {
			t.Errorf("%s: %v, want %v", c.link, got, want)
		}
	}
}
