package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"tavrin/internal/core/guard"
	"tavrin/internal/core/require"
	"tavrin/wire"
)

// command writes the command that takes a step, or several, one a line. Of a change that is not opened yet the number is N.
func command(s wire.Step) string {
	a := s.Arguments
	n := "N"
	if a.Change > 0 {
		n = fmt.Sprint(a.Change)
	}
	by := ""
	if len(a.Strategies) > 0 {
		by = " --strategy " + a.Strategies[0]
	}
	switch s.Action {
	case require.DoApprove:
		return fmt.Sprintf("tavrin review approve %s --revision %d", n, a.Revision)
	case require.DoWithdraw:
		return "tavrin review withdraw " + n
	case require.DoResolve:
		return "tavrin thread list " + n
	case require.DoEditTitle:
		return "tavrin change edit " + n + " --title …"
	case require.DoEditDescription:
		return "tavrin change edit " + n + " --description …"
	case require.DoEditDependencies:
		return "tavrin change edit " + n + " --depends-on …"
	case require.DoMarkReady:
		return "tavrin change edit " + n + " --draft=false"
	case require.DoReopen:
		return "tavrin change reopen " + n
	case require.DoClose:
		return "tavrin change close " + n
	case require.DoUpdate:
		return "tavrin change update " + n
	case require.DoPush:
		return "git push origin HEAD:refs/heads/" + guard.Quote(a.Branch)
	case require.DoRestore:
		return fmt.Sprintf("git push origin %.10s:refs/heads/%s", a.Commit, guard.Quote(a.Branch))
	case require.DoFold:
		return "git rebase --interactive --autosquash origin/" + guard.Quote(a.Branch)
	case require.DoReword:
		return "git rebase --interactive origin/" + guard.Quote(a.Branch)
	case require.DoSign:
		return "git rebase --exec 'git commit --amend --no-edit --gpg-sign' origin/" + guard.Quote(a.Branch)
	case require.DoSignOff:
		return "git rebase --signoff origin/" + guard.Quote(a.Branch)
	case require.DoJoin:
		return "tavrin queue join " + n + by
	case require.DoRejoin:
		return fmt.Sprintf("tavrin queue leave %s && tavrin queue join %s%s", n, n, by)
	case require.DoRerun:
		return fmt.Sprintf("tavrin check rerun %s --name %s", a.Commit, guard.Quote(a.Check))
	case require.DoAskTracker:
		return "tavrin change tickets " + n + " --ask"
	case require.DoSeeGate:
		return "tavrin change gate " + n
	case require.DoChangeRules:
		return "tavrin rules try FILE, then tavrin rules apply FILE --reason …"
	}
	return ""
}

// marks show a requirement's state by shape, so that it can be read without colour.
var marks = map[require.State]string{require.Met: "[x]", require.Missing: "[ ]", require.Pending: "[~]", require.NotAsked: " - ",
	require.Waived: "<o>"}

// worst orders the states of requirements as they are printed.
var worst = []require.State{require.Missing, require.Pending, require.Waived, require.Met, require.NotAsked}

// footnotes number the sources of what is printed, each once.
type footnotes struct{ texts []string }

// marks are the numbers of a text, such as "[2]".
func (f *footnotes) mark(text string) string {
	if text == "" {
		return ""
	}
	n := slices.Index(f.texts, text)
	if n < 0 {
		n = len(f.texts)
		f.texts = append(f.texts, text)
	}
	return fmt.Sprintf("[%d]", n+1)
}

// list prints the sources that were marked.
func (f *footnotes) list(w io.Writer) {
	for i, text := range f.texts {
		row(w, fmt.Sprintf("[%d]", i+1), text)
	}
}

// printGate prints what a gate asks, the worst first: what is missing with what is to be done and by whom, what holds in a
// line each, and at the end what is not asked.
func printGate(w io.Writer, r wire.Report) {
	notes := &footnotes{}
	shown := slices.Clone(r.Requirements)
	slices.SortStableFunc(shown, func(a, b wire.Requirement) int {
		level := func(q wire.Requirement) int {
			if q.Level == require.Advisory && !q.Holds() {
				return 1
			}
			return 0
		}
		if x, y := level(a), level(b); x != y && !a.Holds() && !b.Holds() {
			return x - y
		}
		return slices.Index(worst, a.State) - slices.Index(worst, b.State)
	})
	var notAsked []string
	fmt.Fprintln(w)
	for _, q := range shown {
		if q.State == require.NotAsked {
			notAsked = append(notAsked, q.Title+" ("+q.Next+")")
			continue
		}
		what := q.Title
		if q.Lacks != "" {
			what = q.Lacks
		}
		if q.Level == require.Advisory {
			what += " (advisory)"
		}
		mark := notes.mark(q.Because)
		row(w, marks[q.State], state(q.State), what, mark)
		if q.State != require.Met && q.Next != "" {
			row(w, "", "", q.Next)
		}
		for _, step := range q.Steps {
			who := ""
			if few := require.FewOr(step.Who); len(step.Who) > 0 && !strings.Contains(q.Next, few) {
				who = few + ": " // unless the line above has named them
			}
			row(w, "", "", "> "+who+command(step))
		}
	}
	if n := len(notAsked); n > 0 {
		are := "are"
		if n == 1 {
			are = "is"
		}
		fmt.Fprintln(w)
		row(w, fmt.Sprintf("%d more %s not asked of this change:", n, are))
		for _, q := range notAsked {
			row(w, " - ", q)
		}
	}
	fmt.Fprintln(w)
	notes.list(w)
}
