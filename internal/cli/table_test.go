package cli

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"unicode/utf8"

	"tavrin/internal/core/require"
	"tavrin/wire"
)

// laidOut prints rows on a table of some width, with colours or without.
func laidOut(t *testing.T, width int, paint bool, rows ...[]any) string {
	t.Helper()
	t.Setenv("COLUMNS", fmt.Sprint(width))
	var out bytes.Buffer
	w := &table{out: &out, paint: paint}
	for _, r := range rows {
		w.row(r...)
	}
	w.flush()
	return out.String()
}

func TestTables(t *testing.T) {
	cases := []struct {
		name  string
		width int
		rows  [][]any
		want  string
	}{
		{"columns are as wide as their widest cell", 120, [][]any{{"A", "WORDS"}, {"long", "x"}}, "A     WORDS\nlong  x\n"},
		{"numbers stand at the right", 120, [][]any{{"N", "WHAT"}, {7, "x"}, {12, "y"}}, "N   WHAT\n 7  x\n12  y\n"},
		{"what is too wide goes on below", 40, [][]any{{"a", strings.Repeat("word ", 9) + "end", "c"}},
			"a  word word word word word word word  c\n   word word end\n"},
		{"a word that is too wide is broken", 40, [][]any{{"a", strings.Repeat("x", 60), "c"}},
			"a  " + strings.Repeat("x", 34) + "  c\n   " + strings.Repeat("x", 26) + "\n"},
		{"the last cell of a short row reaches over empty ones", 60, [][]any{{"a", "b", "c"}, {"", "> a command of some words"}},
			"a  b  c\n   > a command of some words\n"},
		{"a row of one cell is printed as it is", 40, [][]any{{strings.Repeat("word ", 12) + "end"}}, strings.Repeat("word ", 12) + "end\n"},
		{"what a terminal would act on is not printed", 120, [][]any{{"a\x1b[2Jb", "c"}}, "a [2Jb  c\n"},
	}
	for _, c := range cases {
		if got := laidOut(t, c.width, false, c.rows...); got != c.want {
			t.Errorf("%s:\n%q, not\n%q", c.name, got, c.want)
		}
	}
}

// Whatever is in them, tables of several columns keep to the width as long as each column can have twelve, and lose no word.
func TestTablesFit(t *testing.T) {
	words := []string{"a", "gate", "valves/**", "growers/irrigation", "1b16c40d5c", "ünïcödé", "0123456789"}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 13))
		var rows [][]any
		wanted := 0
		for range 1 + r.IntN(6) {
			var cells []any
			for range 2 + r.IntN(6) {
				var text []string
				for range r.IntN(30) {
					text = append(text, words[r.IntN(len(words))])
				}
				cells = append(cells, strings.Join(text, " "))
				wanted += len(strings.Join(text, ""))
			}
			rows = append(rows, cells)
		}
		out := laidOut(t, 120, false, rows...)
		got := 0
		for line := range strings.Lines(out) {
			if n := utf8.RuneCountInString(strings.TrimRight(line, "\n")); n > 120 {
				t.Fatalf("seed %d: a line of %d columns: %s", seed, n, line)
			}
			got += len(strings.Join(strings.Fields(line), ""))
		}
		if got != wanted {
			t.Fatalf("seed %d: %d bytes of %d are printed:\n%s", seed, got, wanted, out)
		}
	}
}

// A state says the same in colour and without; colours are for terminals alone, and NO_COLOR ends them.
func TestStatesInColour(t *testing.T) {
	rows := [][]any{{state("missing"), "1 approval"}, {state("met"), "no objection"}}
	plainly, coloured := laidOut(t, 120, false, rows...), laidOut(t, 120, true, rows...)
	if strings.Contains(plainly, "\x1b") || !strings.Contains(coloured, "\x1b["+rust+"mmissing\x1b[0m  1 approval") {
		t.Errorf("%q and %q", plainly, coloured)
	}
	for _, code := range []string{teal, ochre, rust, slate} {
		coloured = strings.ReplaceAll(coloured, "\x1b["+code+"m", "")
	}
	if strings.ReplaceAll(coloured, "\x1b[0m", "") != plainly {
		t.Errorf("in colour it says %q, without %q", coloured, plainly)
	}
	if newTable(&bytes.Buffer{}).paint {
		t.Error("what is not a terminal is painted")
	}
}

// Every action that a gate names has a command that there is.
func TestEveryStepHasACommand(t *testing.T) {
	args := require.Arguments{Change: 4, Revision: 2, Check: "unit test", Commit: "1b16c40d5c", Branch: "valves/east", Strategies: []string{"squash"}}
	for _, action := range require.Actions {
		text := command(require.Step{Action: action, Arguments: args})
		if text == "" {
			t.Errorf("%s has no command", action)
			continue
		}
		for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == '&' || r == ',' }) {
			words := strings.Fields(strings.TrimPrefix(strings.TrimSpace(part), "then "))
			if words[0] == "git" {
				continue
			}
			if words[0] != "tavrin" {
				t.Errorf("%s: %q is no command", action, part)
				continue
			}
			found, rest, err := Root().Find(words[1:])
			if err != nil || !found.Runnable() || found.HasSubCommands() {
				t.Errorf("%s: %q is none of the commands: %v", action, part, err)
				continue
			}
			for _, word := range rest {
				name, isFlag := strings.CutPrefix(word, "--")
				name, _, _ = strings.Cut(name, "=")
				if isFlag && found.Flags().Lookup(name) == nil && found.InheritedFlags().Lookup(name) == nil {
					t.Errorf("%s: %q has no option %s", action, part, word)
				}
			}
		}
	}
}

// A gate is printed with the worst first, what is to be done below it, and each source once.
func TestGatesArePrinted(t *testing.T) {
	ask := func(state require.State, level require.Level, title, lacks, because string) wire.Requirement {
		return wire.Requirement{Title: title, Lacks: lacks, State: state, Level: level, Because: because}
	}
	r := wire.Report{Requirements: []wire.Requirement{
		ask(require.Met, require.Required, "the change is open", "", "every change"),
		ask(require.NotAsked, require.Required, "many eyes", "", "trunk, line 9"),
		ask(require.Missing, require.Advisory, "a ticket", "no ticket named", "trunk, line 3"),
		ask(require.Pending, require.Required, "check unit passes", "unit not run yet", "trunk, line 4"),
		ask(require.Missing, require.Required, "approval", "1 approval", "trunk, line 3"),
	}}
	r.Requirements[1].Next = "asked when the lines changed are over 400"
	r.Requirements[4].Next = "odo could give it"
	r.Requirements[4].Steps = []wire.Step{
		{Action: require.DoApprove, Arguments: require.Arguments{Change: 4, Revision: 1}, Who: []string{"odo"}},
		{Action: require.DoSeeGate, Arguments: require.Arguments{Change: 3}, Who: []string{"ines", "wren"}},
	}
	t.Setenv("COLUMNS", "120")
	var out bytes.Buffer
	w := &table{out: &out}
	printGate(w, r)
	w.flush()
	want := `
[ ]  missing  1 approval                  [1]
              odo could give it
              > tavrin review approve 4 --revision 1
              > ines or wren: tavrin change gate 3
[~]  pending  unit not run yet            [2]
[ ]  missing  no ticket named (advisory)  [1]
[x]  met      the change is open          [3]

1 more is not asked of this change:
 -   many eyes (asked when the lines changed are over 400)

[1]  trunk, line 3
[2]  trunk, line 4
[3]  every change
`
	if out.String() != want {
		t.Errorf("printed is\n%s", out.String())
	}
}
