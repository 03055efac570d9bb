package fold

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestPlan(t *testing.T) {
	for _, c := range []struct{ messages, comes string }{
		{"a|b", "0:a|1:b"},
		{"a|b|fixup! a", "0+2:a|1:b"},
		{"a|b|fixup! a|fixup! b|fixup! a", "0+2,4:a|1+3:b"},
		{"a|fixup! c", "0:a|1:fixup! c"},
		{"fixup! a|a", "0:fixup! a|1:a"},
		{"a\n\nlong|squash! a\n\nmore", "0+1:a\n\nlong\n\nmore\n"},
		{"a|squash! a", "0+1:a\n"},
		{"a\n\nlong|amend! a\n\nb\n\nshort", "0+1:b\n\nshort"},
		{"a|amend! a", "0+1:a"},
		{"a|amend! a\n\nb|squash! a\n\nx", "0+1,2:b\n\nx\n"},
		{"a|squash! a\n\nx|amend! a\n\nb|squash! a\n\ny", "0+1,2,3:a\n\nx\n\nb\n\ny\n"},
		{"a|fixup! fixup! a|fixup! amend! squash! a", "0+1,2:a"},
		{"a b|a|fixup! a", "0:a b|1+2:a"},
		{"a b|c|fixup! a", "0+2:a b|1:c"},
		{"a|b|a|fixup! a", "0+3:a|1:b|2:a"},
		{"a|fixup! 0000", "0+1:a"}, // ids begin with their place
		{"a|b|fixup! 000", "0:a|1:b|2:fixup! 000"},
		{"two\nlines|fixup! two lines", "0+1:two\nlines"},
		{"a|fixup!a", "0:a|1:fixup!a"},
		{"a|FIXUP! a", "0:a|1:FIXUP! a"},
		{"a|fixup! a\n\na body", "0+1:a"},
		{" \n\na \n\nb|c", "0:a \n\nb|1:c"}, // as it is written anew: its blank lines before the subject go
		{"a\n \nb|fixup! a", "0+1:a\n \nb"},
		{"a \n\n\n# b  |squash! a\n \nmore\n\n\n", "0+1:a\n\n# b\n\nmore\n"},
		{"a|\n\nfixup! a", "0+1:a"},
		{"a|fixup! a|fixup! 0001", "0+1,2:a"}, // of the fixup itself
	} {
		var commits []Commit
		for i, m := range strings.Split(c.messages, "|") {
			commits = append(commits, Commit{fmt.Sprintf("%04d%036d", i, 7), m})
		}
		var got []string
		for _, f := range Plan(commits) {
			with := strings.Trim(strings.Join(strings.Fields(fmt.Sprint(f.With)), ","), "[]")
			got = append(got, strings.TrimSuffix(fmt.Sprintf("%d+%s", f.Into, with), "+")+":"+f.Message)
		}
		if strings.Join(got, "|") != c.comes {
			t.Errorf("%q comes to %q, want %q", c.messages, strings.Join(got, "|"), c.comes)
		}
	}
}

// Whatever the messages, each commit comes exactly once, those without a mark in their order.
func TestEveryCommitComesOnce(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		var commits []Commit
		for i := range rng.IntN(12) {
			m := ""
			for range rng.IntN(3) {
				m += []string{"fixup! ", "squash! ", "amend! "}[rng.IntN(3)]
			}
			m += []string{"a", "b", "a b", "", "0003", "c"}[rng.IntN(6)] + []string{"", "\n\nbody", "\nsecond line"}[rng.IntN(3)]
			commits = append(commits, Commit{fmt.Sprintf("%04d%036d", i, 7), m})
		}
		var all []int
		last := -1
		for _, f := range Plan(commits) {
			if f.Into < last {
				t.Fatalf("%v: %d comes after %d", commits, f.Into, last)
			}
			last = f.Into
			all = append(append(all, f.Into), f.With...)
		}
		slices.Sort(all)
		for i := range commits {
			if len(all) != len(commits) || all[i] != i {
				t.Fatalf("%+v comes as %v", commits, all)
			}
		}
	}
}
