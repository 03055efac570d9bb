package chosen

import (
	"strings"
	"testing"
)

func TestOf(t *testing.T) {
	const h, g = "refs/heads/", "refs/tags/"
	for _, c := range []struct {
		name, refs, globs, asked, head string
		want                           string // the refs, the default, what is left out; or what is wrong
	}{
		{"nothing there", "", "", "", "", "  "},
		{"nothing there, and a branch is asked for", "", "", "trunk", "main", " trunk "},
		{"tags alone", g + "v1", "", "", "main", "  "},
		{"all", h + "a " + h + "main " + g + "v1", "", "", "main", h + "main " + h + "a " + g + "v1 main "},
		{"another default", h + "a " + h + "main", "", "a", "main", h + "a " + h + "main a "},
		{"the only one", h + "side", "", "", "main", h + "side side "},
		{"some", h + "main " + h + "release/1 " + h + "topic " + g + "v1", "main release/**", "", "main", h + "main " + h + "release/1 " + g + "v1 main topic"},
		{"the only one that is left", h + "main " + h + "side", "side", "", "main", h + "side side main"},
		{"none matches", h + "main", "x", "", "main", "!there is no branch that matches x"},
		{"none matches, with tags", h + "main " + g + "v1", "x", "", "main", "!there is no branch that matches x"},
		{"the default is left out", h + "main " + h + "a " + h + "b", "a b", "", "main", `!"main" is not among`},
		{"nothing says which", h + "a " + h + "b", "", "", "", `!"" is not among`},
		{"a default that there is not", h + "a", "", "b", "a", `!"b" is not among`},
		{"globs that are none", h + "a", "[", "", "a", "!"},
	} {
		got, err := Of(strings.Fields(c.refs), strings.Fields(c.globs), c.asked, c.head)
		if wrong, fails := strings.CutPrefix(c.want, "!"); fails {
			if err == nil || !strings.Contains(err.Error(), wrong) {
				t.Errorf("%s: %+v, %v", c.name, got, err)
			}
			continue
		}
		said := strings.Join(got.Refs, " ") + " " + got.Default + " " + strings.Join(got.LeftOut, " ")
		if err != nil || said != c.want || got.Branches() != strings.Count(said, h) {
			t.Errorf("%s: %q, %v; want %q", c.name, said, err, c.want)
		}
	}
}
