package glob

import (
	"fmt"
	"testing"
)

func TestMatch(t *testing.T) {
	cases := []struct {
		pattern   string
		yes, noes []string
	}{
		{"main", []string{"main"}, []string{"Main", "main2", "x/main", ""}},
		{"*", []string{"main", ""}, []string{"a/b"}},
		{"**", []string{"main", "a/b", "a/b/c"}, nil},
		{"release/*", []string{"release/1", "release/"}, []string{"release", "release/1/2"}},
		{"release/**", []string{"release/1", "release/1/2"}, []string{"release", "prerelease/1"}},
		{"**/*.md", []string{"a.md", "docs/a.md", "docs/b/a.md"}, []string{"a.mdx", "docs/a"}},
		{"a/**/z", []string{"a/z", "a/b/z", "a/b/c/z"}, []string{"az", "a/bz"}},
		{"v?.[0-9]", []string{"v1.2", "vx.0"}, []string{"v1.x", "v/.1", "v12.3"}},
		{"[!a-c]x", []string{"dx", "zx"}, []string{"ax", "cx", "/x", "x"}},
		{"{hot,bug}fix/*", []string{"hotfix/1", "bugfix/a"}, []string{"fix/1", "hotbugfix/1"}},
		{"a.b+c(d)", []string{"a.b+c(d)"}, []string{"aXb+c(d)"}},
		{`\*`, []string{"*"}, []string{"a"}},
		{"größe/*", []string{"größe/ä"}, []string{"grösse/ä"}},
		{"a\nb", []string{"a\nb"}, []string{"ab"}},
	}
	for _, c := range cases {
		p, err := Compile(c.pattern)
		if err != nil {
			t.Fatalf("%q: %v", c.pattern, err)
		}
		for _, name := range c.yes {
			if !p.Match(name) {
				t.Errorf("%q should match %q", c.pattern, name)
			}
		}
		for _, name := range c.noes {
			if p.Match(name) {
				t.Errorf("%q should not match %q", c.pattern, name)
			}
		}
	}
}

func TestCompileRefusesWhatCannotBeMeant(t *testing.T) {
	for _, text := range []string{"", "[", "[]", "[!]", "{a", "a}", `a\`, "a\x00", "[a/b]"} {
		if _, err := Compile(text); err == nil {
			t.Errorf("%q was accepted", text)
		}
	}
}

func TestListExclusionsWinWhateverTheOrder(t *testing.T) {
	for _, texts := range [][]string{{"firmware/**", "!**/*.md"}, {"!**/*.md", "firmware/**"}} {
		l, err := CompileList(texts)
		if err != nil {
			t.Fatal(err)
		}
		if !l.Match("firmware/valves/a.c") || l.Match("firmware/README.md") || l.Match("docs/a.c") {
			t.Errorf("%q matches wrongly", texts)
		}
	}
	if _, err := CompileList([]string{"!a"}); err == nil {
		t.Error("a list of exclusions alone was accepted")
	}
}

func FuzzCompile(f *testing.F) {
	for _, s := range []string{"main", "release/**", "{a,b}[!c-d]?*", `\`, "**/x", "[-a]", "[^]", "é[é-ü]"} {
		f.Add(s, "release/é")
	}
	f.Fuzz(func(t *testing.T, pattern, name string) {
		p, err := Compile(pattern)
		if err != nil {
			return
		}
		p.Match(name)
		if p.String() != pattern {
			t.Errorf("%q reads back as %q", pattern, p.String())
		}
	})
}

func ExampleCompileList() {
	valves, _ := CompileList([]string{"firmware/valves/**", "!**/*.md"})
	fmt.Println(valves.Match("firmware/valves/open.c"), valves.Match("firmware/valves/README.md"))
	// Output: true false
}
