package areas

import (
	"fmt"
	"slices"
	"testing"

	"tavrin/internal/core/glob"
	"tavrin/internal/core/rules"
)

func set(t testing.TB, text string) *rules.Set {
	t.Helper()
	doc, findings := rules.Parse("tavrin: rules/1\nareas:\n" + text)
	if findings != nil {
		t.Fatal(findings)
	}
	return doc.Alone(4)
}

const tree = `  valves: {paths: ["firmware/valves/**", "!**/*.md", "!**/*.none"], owners: team:hydraulics}
  firmware: {paths: [firmware/**, hardware/**], owners: team:firmware}
  docs: {paths: "**/*.md", owners: team:field}
`

func TestEveryMatchingAreaApplies(t *testing.T) {
	s := set(t, tree)
	got := ""
	for _, touched := range s.Touched([]string{"firmware/valves/east.prog", "firmware/valves/README.md", "ledger/x"}) {
		got += fmt.Sprintf("%s%v ", touched.Name, touched.Paths)
	}
	want := "docs[firmware/valves/README.md] firmware[firmware/valves/east.prog firmware/valves/README.md] valves[firmware/valves/east.prog] "
	if got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
	if len(s.Touched(nil)) != 0 {
		t.Error("nothing changed and an area is touched")
	}
}

func TestOfSaysWhy(t *testing.T) {
	s := set(t, tree)
	got := ""
	for _, o := range Of(s, "firmware/valves/README.md") {
		got += fmt.Sprintf("%s by %s from %s; ", o.Area.Name, o.Pattern, o.Area.From)
	}
	if want := `docs by **/*.md from "area docs" (rules version 4, line 5); firmware by firmware/** from "area firmware" (rules version 4, line 4); `; got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	if len(Of(s, "ledger/tariff.csv")) != 0 {
		t.Error("nobody owns the ledger, and somebody is named")
	}
}

func TestSharesAndIdlePatterns(t *testing.T) {
	s := set(t, tree)
	paths := []string{"README.md", "Makefile", "firmware/valves/a.c", "firmware/valves/a.md", "ledger/a.csv", "ledger/deep/b.csv"}
	got := ""
	for _, x := range Shares(s, paths, 2) {
		got += fmt.Sprintf("%s:%d/%d ", x.Folder, x.Unowned(), x.Files)
	}
	if want := ":3/6 firmware:0/2 firmware/valves:0/2 ledger:2/2 ledger/deep:1/1 "; got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	var idle []string
	for _, x := range IdlePatterns(s, paths) {
		idle = append(idle, x.Area.Name+" "+x.Pattern)
	}
	if want := []string{"firmware hardware/**", "valves !**/*.none"}; !slices.Equal(idle, want) {
		t.Errorf("idle patterns %q, want %q", idle, want)
	}
}

// A path is in an area exactly when one of its patterns matches and no exclusion does, whatever they are.
func FuzzTouched(f *testing.F) {
	f.Add("firmware/**", "**/*.md", "firmware/valves/a.md")
	f.Add("*", "{a,b}", "a")
	f.Fuzz(func(t *testing.T, include, exclude, path string) {
		list, err := glob.CompileList([]string{include, "!" + exclude})
		in, err1 := glob.Compile(include)
		out, err2 := glob.Compile(exclude)
		if err != nil || err1 != nil || err2 != nil {
			return
		}
		doc := &rules.Document{Areas: []rules.Area{{Name: "a", Paths: list}}}
		touched := doc.Alone(1).Touched([]string{path, path})
		want := in.Match(path) && !out.Match(path)
		if (len(touched) == 1) != want || (want && !slices.Equal(touched[0].Paths, []string{path, path})) {
			t.Errorf("%q in %q but %q: %v", path, include, exclude, touched)
		}
	})
}

func ExampleOf() {
	doc, _ := rules.Parse("tavrin: rules/1\nareas:\n  valves: {paths: firmware/valves/**, owners: team:hydraulics}\n")
	for _, o := range Of(doc.Alone(1), "firmware/valves/open.c") {
		fmt.Println(o.Area.Name, o.Area.Owners, "by", o.Pattern)
	}
	// Output: valves [team:hydraulics] by firmware/valves/**
}
