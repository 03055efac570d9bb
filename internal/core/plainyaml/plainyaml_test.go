package plainyaml

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml/parser"
)

// many is a text of about so many bytes, made of the lines that line gives.
func many(bytes int, line func(i int) string) string {
	var b strings.Builder
	for i := 0; b.Len() < bytes; i++ {
		b.WriteString(line(i))
	}
	return b.String()
}

func keys(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "k%d: 1\n", i)
	}
	return b.String()
}

// What is refused, each at its bound and one over it where there is one.
func TestCheck(t *testing.T) {
	for _, c := range []struct{ name, text, says string }{
		{"empty", "", ""},
		{"a mapping", "a: 1\nb: [x, {y: z}]\n", ""},
		{"one document begun and ended", "---\na: 1\n...\n", ""},
		{"bytes at the bound", "#" + strings.Repeat("x", MaxBytes-1), ""},
		{"a byte over it", "#" + strings.Repeat("x", MaxBytes), "1:1: bytes"},
		{"no UTF-8", "a: \xff", "1:1: UTF-8"},
		{"a NUL", "a: \x00", "1:1: NUL"},
		{"entries at the bound", keys(MaxEntries), ""},
		{"one over it", keys(MaxEntries + 1), "2001:1: entries"},
		{"entries below a key at the bound", "a:\n" + strings.ReplaceAll(keys(MaxEntries), "k", "  k"), ""},
		{"one over it below a key", "a:\n" + strings.ReplaceAll(keys(MaxEntries+1), "k", "  k"), "2002:3: entries"},
		{"in the entry of a list", "- a: 1\n" + strings.ReplaceAll(keys(MaxEntries), "k", "  k"), "2001:3: entries"},
		{"below an explicit key", "? a\n: b\n" + keys(MaxEntries), "2001:1: entries"},
		{"keys that are lists", many(20*MaxEntries, func(i int) string { return "[" + strings.Repeat("a", i%7) + "]: 1\n" }), "entries"},
		{"comments are no entries", keys(MaxEntries) + strings.Repeat("# so\n", 3000), ""},
		{"two mappings at the bound", "a:\n" + strings.ReplaceAll(keys(MaxEntries), "k", "  k") + "b:\n" + strings.ReplaceAll(keys(MaxEntries), "k", "  k"), ""},
		{"entries of a list, each a mapping", "a:\n" + strings.Repeat("  - {b: 1}\n", 5000) + strings.Repeat("  - b: 1\n    c: 2\n", 5000), ""},
		{"a list in the column of its key", "a:\n" + strings.Repeat("- b: 1\n  c: 2\n", 5000) + "d: 1\n", ""},
		{"a list over many lines", "a: [\n" + strings.Repeat("x,\n", 5000) + "]\n", ""},
		{"a text over many lines", "a: |\n" + strings.Repeat("  x: y\n", 5000), ""},
		{"lists in each other at the bound", strings.Repeat("[", MaxDepth-1) + strings.Repeat("]", MaxDepth-1), ""},
		{"one over it", strings.Repeat("[", MaxDepth) + strings.Repeat("]", MaxDepth), fmt.Sprintf("1:%d: deep", MaxDepth)},
		{"on a line each", strings.Repeat("[\n", 100_000), "32:1: deep"},
		{"mappings in each other", "a: " + strings.Repeat("{a: ", 100_000), "1:"},
		{"dashes on a line", strings.Repeat("- ", 50_000) + "x\n", "deep"},
		{"explicit keys on a line", strings.Repeat("? ", 50_000) + "x\n", "deep"},
		{"both", strings.Repeat("- ? ", 25_000) + "x\n", "deep"},
		{"by indentation", many(100_000, func(i int) string { return strings.Repeat(" ", i) + "a:\n" }), "33:33: deep"},
		{"documents", strings.Repeat("---\na: 1\n", 100_000), "3:1: several"},
		{"ends of documents", strings.Repeat("...\n", 100_000), "2:1: several"},
		{"an anchor", "a: &x 1\n", "1:4: anchor"},
		{"an alias", "a: *x\n", "1:4: alias"},
		{"anchors in a row", "a: " + strings.Repeat("&x ", 30_000), "anchor"},
		{"a tag", "a: !!str 1\n", "1:4: tag"},
		{"tags in a row", "a: " + strings.Repeat("! ", 30_000), "tag"},
		{"a directive", "%YAML 1.2\n---\na: 1\n", "1:1: directive"},
	} {
		trouble := Check(c.text, "the document")
		if (c.says == "") != (trouble == nil) {
			t.Errorf("%s: %v", c.name, trouble)
			continue
		}
		if trouble == nil {
			continue
		}
		said := fmt.Sprintf("%d:%d: %s; %s", trouble.Line, trouble.Column, trouble.Message, trouble.Right)
		where, word, found := strings.Cut(c.says, ": ")
		if !found {
			where, word = "", c.says
		}
		if !strings.HasPrefix(said, where) || !strings.Contains(said, word) {
			t.Errorf("%s: it says %q, not %q", c.name, said, c.says)
		}
	}
}

// What passes can be parsed without harm, and what the project's own documents hold passes.
func FuzzCheck(f *testing.F) {
	files, _ := filepath.Glob("../rules/templates/*.yaml")
	for _, name := range append(files, "../../../demo/rules.yaml") {
		if text, err := os.ReadFile(name); err == nil {
			if trouble := Check(string(text), name); trouble != nil {
				f.Errorf("%s: %v", name, trouble)
			}
			f.Add(string(text))
		}
	}
	for _, text := range []string{"a:\n- b: 1\n  ? [c]\n  : d\n", "- - - x\n", "a: >-\n  b\n # c\nd: 'e\n\n  f'\n", "---\n{a: [b, {c: d}]}\n"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if Check(text, "it") != nil {
			return
		}
		defer func() { _ = recover() }() // whoever parses deals with what the library makes of nonsense
		_, _ = parser.ParseBytes([]byte(text), 0)
	})
}

// Documents of the full length, each of a shape that a parser may be slow at.
func BenchmarkHostile(b *testing.B) {
	for name, text := range map[string]string{
		"mappings": many(MaxBytes-40_000, func(i int) string {
			if i%MaxEntries == 0 {
				return fmt.Sprintf("m%d:\n  a: 1\n", i)
			}
			return "  b: 1\n"
		}),
		"lists":    "a:\n" + strings.Repeat("- x\n", MaxBytes/4-8),
		"flow":     "a: {" + many(MaxBytes-100, func(i int) string { return fmt.Sprintf("k%d: 1, ", i) }) + "}\n",
		"comments": "a: 1\n" + strings.Repeat("#\n", MaxBytes/2-8),
		"anchors":  "a: " + strings.Repeat("&x ", MaxBytes/3-8),
		"deep":     strings.Repeat("[\n", MaxBytes/2),
		"quotes":   strings.Repeat("\"", MaxBytes),
		"text":     "a: |\n" + strings.Repeat("  x\n", MaxBytes/4-8),
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if Check(text, "it") == nil {
					_, _ = parser.ParseBytes([]byte(text), 0, parser.AllowDuplicateMapKey())
				}
			}
		})
	}
}
