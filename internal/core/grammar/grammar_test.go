package grammar

import (
	"fmt"
	"strings"
	"testing"

	"github.com/goccy/go-yaml/parser"
)

var keys = []Key{{Path: "who", Shape: Who}, {Path: "many", Shape: Number}, {Path: "list", Shape: Lines}, {Path: "only", Shape: Text, House: true},
	{Path: "in", Shape: Mapping}, {Path: "in.one", Shape: Word}}

// read reads a document of the made-up keys.
func read(t *testing.T, text string, house bool) *Reader {
	t.Helper()
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		t.Fatal(err)
	}
	r := NewReader(text, New(keys), house)
	for _, f := range r.Keys(file.Docs[0].Body, "the document", "") {
		switch f.Name {
		case "who":
			r.Principals(f, false)
		case "many":
			r.Number(f, 1, 9)
		case "list":
			r.Texts(f)
		case "only":
			r.Text(f)
		case "in":
			for _, g := range r.Keys(f.Value, "it", "in") {
				OneOf(r, g, "a", "b")
			}
		}
	}
	return r
}

// Everything wrong is told at once, in the order of lines, with its place and what would be right.
func TestFindings(t *testing.T) {
	r := read(t, "who: team:a\nmany: 12\nwrong: 1\nin: {one: c}\nonly: x\n", false)
	found := r.Findings()
	for i, want := range []string{`2:7: "many" is 12; a whole number from 1 to 9`, `3:1: unknown key "wrong" in the document; one of who, many, list, in`,
		`4:11: "one" cannot be "c"; one of a, b`, `5:1: unknown key "only"`} {
		if i >= len(found) || !strings.HasPrefix(found[i].String(), want) {
			t.Fatalf("finding %d of %v is not %q", i, found, want)
		}
	}
	if !strings.Contains(found[0].Excerpt, ">    2 | many: 12\n       |       ^") {
		t.Errorf("the excerpt is\n%s", found[0].Excerpt)
	}
	if r := read(t, "only: x\nin: {one: b}\n", true); r.Found() != 0 {
		t.Errorf("a house's document may not say only: %v", r.Findings())
	}
}

// Of too much the first is told, and how much more there is; lists are bounded.
func TestFindingsAndListsAreBounded(t *testing.T) {
	var b strings.Builder
	for i := range MaxFindings + 7 {
		fmt.Fprintf(&b, "k%d: 1\n", i)
	}
	r := read(t, b.String(), false)
	if found := r.Findings(); len(found) != MaxFindings+1 || !strings.Contains(found[MaxFindings].Message, "7 findings more") || r.Found() != MaxFindings+7 {
		t.Errorf("%d findings, the last %+v", len(found), found[len(found)-1])
	}
	if r := read(t, "list: ["+strings.Repeat("a, ", MaxItems)+"a]", false); r.Found() != 1 {
		t.Errorf("a list of more than %d: %v", MaxItems, r.Findings())
	}
	if r := read(t, "list: ["+strings.Repeat("a, ", MaxItems-1)+"a]", false); r.Found() != 0 {
		t.Errorf("a list of %d: %v", MaxItems, r.Findings())
	}
}

func TestTexts(t *testing.T) {
	if Set([]string{"b", "a", "a"}) != Set([]string{"a", "b"}) || Set([]string{"a,b"}) == Set([]string{"a", "b"}) || GlobSet(nil) == GlobSet([]string{}) {
		t.Error("sets are told apart wrongly")
	}
	if got := GlobWords([]string{"main", "!old/*", "next"}); got != "main or next, but not old/*," {
		t.Error(got)
	}
	if got := Shown([]string{"b", "a, c", "b"}); got != `"a, c", b` {
		t.Error(got)
	}
}
