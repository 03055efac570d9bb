package glob

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"tavrin/internal/often"
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
		{"{a,b/{c,d}}/x", []string{"a/x", "b/c/x", "b/d/x"}, []string{"b/x", "c/x"}},
		{"a,b", []string{"a,b"}, []string{"a"}},
		{"{,x}a", []string{"a", "xa"}, []string{"x"}},
		{`{a\,b,c}`, []string{"a,b", "c"}, []string{"a"}},
		{"[{,}]", []string{"{", ",", "}"}, []string{""}},
		{`[\]]x`, []string{"]x"}, []string{"x", `\]x`, `\x`}},
		{`[]a]`, []string{"]", "a"}, []string{"", "[", "b"}},
		{`[!]a]`, []string{"b", "["}, []string{"]", "a", "/"}},
		{`[^a]`, []string{"b", "^"}, []string{"a", "/"}},
		{`[a^]`, []string{"a", "^"}, []string{"b"}},
		{`[\\a]`, []string{`\`, "a"}, []string{"b"}},
		{`[a\-c]`, []string{"a", "-", "c"}, []string{"b"}},
		{`[a-]`, []string{"a", "-"}, []string{"b"}},
		{`[[]x`, []string{"[x"}, []string{"x"}},
		{`[\[-\]]`, []string{"[", "]", `\`}, []string{"a", "^"}},
		{"*a*b", []string{"ab", "xaxb", "aab", "abab"}, []string{"a/b", "ba"}},
		{"**a*b/**/c", []string{"x/ab/c", "a/xaxb/y/c"}, []string{"a/b/c"}},
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
	for _, text := range []string{"", "[", "[]", "[!]", "{a", "a}", `a\`, "a\x00", "[a/b]", "[z-a]", "[[:alpha:]]", `[\]`, `[a\`, "[+-/]", "{a,b", "a}b", "{{{{{{{{{{a}}}}}}}}}}", strings.Repeat("{a,b}", 9), strings.Repeat("a", 513)} {
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

// translated gives the regular expression (RE2) that a pattern stands for: another way to the same answer.
func translated(row string) *regexp.Regexp {
	var b strings.Builder
	b.WriteString(`\A(?s:`)
	for i := 0; i < len(row); i++ {
		switch rest := row[i:]; {
		case rest[0] == '\\':
			_, size := utf8.DecodeRuneInString(rest[1:])
			b.WriteString(regexp.QuoteMeta(rest[1 : 1+size]))
			i += size
		case strings.HasPrefix(rest, "**/") && (i == 0 || row[i-1] == '/'):
			b.WriteString(`(?:.*/)?`)
			i += 2
		case strings.HasPrefix(rest, "**"):
			b.WriteString(`.*`)
			i++
		case rest[0] == '*':
			b.WriteString(`[^/]*`)
		case rest[0] == '?':
			b.WriteString(`[^/]`)
		default:
			_, size := utf8.DecodeRuneInString(rest)
			b.WriteString(regexp.QuoteMeta(rest[:size]))
			i += size - 1
		}
	}
	b.WriteString(`)\z`)
	return regexp.MustCompile(b.String())
}

// generated makes a pattern and a name out of few letters, so that they often nearly match.
func generated(rng *rand.Rand) (pattern, name string) {
	parts := []string{"a", "b", "/", "*", "**", "**/", "?", "é", ".", `\*`, "ab"}
	for range 1 + rng.IntN(7) {
		pattern += parts[rng.IntN(len(parts))]
	}
	letters := []string{"a", "b", "/", "é", ".", "*", "ab"}
	for range rng.IntN(9) {
		name += letters[rng.IntN(len(letters))]
	}
	return pattern, name
}

func TestMatchAgreesWithRegularExpressions(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	matched := 0
	for range often.Times(50_000) {
		pattern, name := generated(rng)
		p, err := Compile(pattern)
		if err != nil {
			t.Fatal(err)
		}
		want := translated(pattern).MatchString(name)
		if p.Match(name) != want {
			t.Fatalf("%q on %q: %v, and the expression %s says %v", pattern, name, !want, translated(pattern), want)
		}
		if want {
			matched++
		}
	}
	if matched < 500 {
		t.Errorf("only %d of the generated names matched: the test says little", matched)
	}
}

func TestIndexAgreesWithLists(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	hits := 0
	for range 300 {
		var lists []List
		var texts [][]string
		for range 1 + rng.IntN(12) {
			pattern, _ := generated(rng)
			list := []string{pattern}
			for range rng.IntN(3) {
				more, _ := generated(rng)
				list = append(list, []string{"", "!"}[rng.IntN(2)]+more)
			}
			l, err := CompileList(list)
			if err != nil {
				t.Fatal(err)
			}
			lists, texts = append(lists, l), append(texts, list)
		}
		x := NewIndex(lists)
		for range 200 {
			_, name := generated(rng)
			var want []int
			for i, l := range lists {
				if l.Match(name) {
					want = append(want, i)
				}
			}
			if got := x.Of(name, nil); !slices.Equal(got, want) {
				t.Fatalf("%q is in %v of %q by the index, in %v by the lists", name, got, texts, want)
			}
			hits += len(want)
		}
	}
	if hits < 1000 {
		t.Errorf("only %d hits: the test says little", hits)
	}
}

func ExampleIndex() {
	valves, _ := CompileList([]string{"firmware/valves/**", "!**/*.md"})
	docs, _ := CompileList([]string{"**/*.md"})
	x := NewIndex([]List{valves, docs})
	fmt.Println(x.Of("firmware/valves/open.c", nil), x.Of("firmware/valves/README.md", nil), x.Of("ledger/x", nil))
	// Output: [0] [1] []
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
		matched := p.Match(name)
		if l, err := CompileList([]string{pattern}); err == nil && !strings.HasPrefix(pattern, "!") && (len(NewIndex([]List{l}).Of(name, nil)) == 1) != matched {
			t.Errorf("%q on %q: the pattern says %v, the index does not", pattern, name, matched)
		}
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
