package carry

import (
	"math/rand/v2"
	"strings"
	"testing"
)

func TestReplace(t *testing.T) {
	cases := []struct {
		name, text string
		with       []Replacement
		want, err  string
	}{
		{"nothing", "a\nb\n", nil, "a\nb\n", ""},
		{"one line", "a\nb\nc\n", []Replacement{{2, 2, "B"}}, "a\nB\nc\n", ""},
		{"a range by more", "a\nb\nc\n", []Replacement{{1, 2, "x\ny\nz\n"}}, "x\ny\nz\nc\n", ""},
		{"taken out", "a\nb\nc\n", []Replacement{{2, 3, ""}}, "a\n", ""},
		{"an empty line", "a\nb\n", []Replacement{{2, 2, "\n"}}, "a\n\n", ""},
		{"several, in any order", "a\nb\nc\nd\n", []Replacement{{4, 4, "D"}, {1, 2, "AB"}}, "AB\nc\nD\n", ""},
		{"side by side", "a\nb\n", []Replacement{{1, 1, "A"}, {2, 2, "B"}}, "A\nB\n", ""},
		{"no line feed at the end", "a\nb", []Replacement{{2, 2, "B\n"}}, "a\nB", ""},
		{"carriage returns", "a\r\nb\r\n", []Replacement{{1, 1, "x\ny"}}, "x\r\ny\r\nb\r\n", ""},
		{"carriage returns typed", "a\nb\n", []Replacement{{1, 1, "x\r\ny\r\n"}}, "x\ny\nb\n", ""},
		{"overlapping", "a\nb\nc\n", []Replacement{{1, 2, "x"}, {2, 3, "y"}}, "", "two replacements are for line 2"},
		{"past the end", "a\n", []Replacement{{1, 2, "x"}}, "", "no lines 1 to 2 in a text of 1 lines"},
		{"before the beginning", "a\n", []Replacement{{0, 1, "x"}}, "", "no lines 0 to 1"},
		{"backwards", "a\nb\n", []Replacement{{2, 1, "x"}}, "", "no lines 2 to 1"},
		{"an empty text", "", []Replacement{{1, 1, "x"}}, "", "no lines 1 to 1 in a text of 0 lines"},
	}
	for _, c := range cases {
		got, err := Replace(c.text, c.with...)
		if (err == nil) != (c.err == "") || err != nil && !strings.Contains(err.Error(), c.err) || got != c.want {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
}

// Putting a line's own text in its place changes nothing, whatever the text and its line ends.
func TestReplacingByTheSame(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		end := []string{"\n", "\r\n"}[rng.IntN(2)]
		lines := make([]string, 1+rng.IntN(8))
		for i := range lines {
			lines[i] = strings.Repeat("x", 1+rng.IntN(3))
		}
		text := strings.Join(lines, end) + []string{"", end}[rng.IntN(2)]
		first := 1 + rng.IntN(len(lines))
		last := first + rng.IntN(len(lines)-first+1)
		got, err := Replace(text, Replacement{first, last, strings.Join(lines[first-1:last], "\n")})
		if err != nil || got != text {
			t.Fatalf("lines %d to %d of %q by themselves: %q, %v", first, last, text, got, err)
		}
	}
}
