package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/internal/core/lint"
	"tavrin/wire"
)

// rulesOf is which rules a command is about: a house's, or those of the repository at hand.
type rulesOf struct {
	p     *program
	house string
}

// place finds it out.
func (r *rulesOf) place(ctx context.Context, c *client.Client) (string, error) {
	if r.house != "" {
		return r.house, nil
	}
	h, err := r.p.here(ctx, c)
	return h.repo, err
}

// onRules is answer for a command about rules, which --house turns to a house's.
func onRules[T any](r *rulesOf, use, short string, args cobra.PositionalArgs,
	call func(ctx context.Context, c *client.Client, where string, args []string) (T, error), table func(w io.Writer,
		v T)) *cobra.Command {
	c := answer(r.p, use, short, args, func(ctx context.Context, c *client.Client, args []string) (v T, err error) {
		where, err := r.place(ctx, c)
		if err != nil {
			return v, err
		}
		return call(ctx, c, where, args)
	}, table)
	return r.options(c)
}

// options gives a command the options that say whose rules it is about.
func (r *rulesOf) options(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&r.house, "house", "", "the rules of this house, instead of a repository's")
	return r.p.aboutRepo(c)
}

func (p *program) rules() *cobra.Command {
	r := &rulesOf{p: p}
	return group("rules", "Say what protects branches",
		r.apply(), r.show(), r.lint(), r.try(), r.test(), p.explain(), p.match(), r.history(), r.differences(), r.restore(),
		r.suspend(), r.resume(), r.suspensions(), r.proposals(), r.decide("agree ID",
			"Agree to a loosening that somebody else proposed", true),
		r.decide("decline ID", "Decline a proposal, or withdraw your own", false), p.templates(), p.schema())
}

func (r *rulesOf) show() *cobra.Command {
	var version int
	c := onRules(r, "show", "Print the rules in force; what it prints can be applied again", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, where string, _ []string) (wire.Rules, error) {
			return c.Rules(ctx, where, version)
		}, func(_ io.Writer, v wire.Rules) {
			if v.Version == 0 {
				fmt.Fprintln(r.p.err, "no rules have been applied yet: tavrin rules template, then tavrin rules apply "+
					"FILE --reason TEXT")
				return
			}
			fmt.Fprintf(r.p.err, "version %d, applied by %s %s: %s\n", v.Version, whoApplied(v), ago(v.AppliedAt),
				plain(v.Reason))
			if v.ToJudge > 0 {
				fmt.Fprintln(r.p.err, toJudge(v))
			}
			fmt.Fprint(r.p.out, block(v.Text))
		})
	c.Flags().IntVar(&version, "version", 0, "an earlier version")
	return c
}

// toJudge says how many open changes are still to be looked at under rules that are in force.
func toJudge(v wire.Rules) string {
	return fmt.Sprintf("%s still to be looked at, for the checks that they ask for now; it goes on by itself (tavrin rules show says how far it is)",
		counted(v.ToJudge, "open change"))
}

func whoApplied(v wire.Rules) string {
	if v.AgreedBy != "" {
		return v.AppliedBy + ", agreed by " + v.AgreedBy
	}
	return v.AppliedBy
}

func (p *program) explain() *cobra.Command {
	var branch string
	c := inRepo(p, "explain", "Say what protects a branch, setting by setting, and where each comes from", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) (wire.BranchRules, error) {
			return h.ExplainBranch(ctx, h.repo, branch)
		}, func(w io.Writer, e wire.BranchRules) {
			notes := &footnotes{}
			for _, s := range e.Sentences {
				var from []string
				for _, source := range s.Sources {
					from = append(from, notes.mark(source.String()))
				}
				fixed := ""
				if s.FixedBy != "" {
					fixed = "fixed by " + s.FixedBy
				}
				row(w, s.Text, strings.Join(from, " "), fixed)
			}
			fmt.Fprintln(w)
			notes.list(w)
			if !e.Exists {
				fmt.Fprintf(p.err, "there is no branch %s now; this is what would hold\n", plain(e.Branch))
			}
		})
	c.Flags().StringVar(&branch, "branch", "main", "the branch, one that exists or one that may come")
	return c
}

func (p *program) match() *cobra.Command {
	return inRepo(p, "match GLOB|KIND", "Show which branches a glob or a branch kind matches now", cobra.ExactArgs(1),
		func(ctx context.Context, h here, args []string) (wire.PatternMatches, error) {
			return h.MatchBranches(ctx, h.repo, args[0])
		}, func(w io.Writer, m wire.PatternMatches) {
			what := "the glob " + m.Pattern
			if m.Kind {
				what = fmt.Sprintf("the branch kind %s (%s)", m.Pattern, strings.Join(m.Globs, ", "))
			}
			if len(m.Branches) == 0 {
				fmt.Fprintf(p.err, "%s matches no branch there is now; globs are case-sensitive, and * stops at a /\n",
					what)
			}
			for _, b := range m.Branches {
				row(w, b)
			}
		})
}

func (r *rulesOf) history() *cobra.Command {
	return onRules(r, "history", "List the versions: who, when and why", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, where string, _ []string) ([]wire.Rules, error) {
			return c.RulesVersions(ctx, where)
		}, func(w io.Writer, versions []wire.Rules) {
			row(w, "VERSION", "BY", "WHEN", "REASON")
			for _, v := range versions {
				row(w, v.Version, whoApplied(v), ago(v.AppliedAt), v.Reason)
			}
		})
}

func (r *rulesOf) differences() *cobra.Command {
	var from, to int
	c := onRules(r, "diff", "Compare two versions, and say what of it loosens", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, where string, _ []string) ([]wire.Difference, error) {
			if to == 0 {
				newest, err := c.Rules(ctx, where, 0)
				if err != nil {
					return nil, err
				}
				if to = newest.Version; from < 0 {
					from = max(0, to-1)
				}
			}
			return c.RulesDifferences(ctx, where, max(0, from), to)
		}, printDifferences)
	c.Flags().IntVar(&from, "from", -1, "the earlier version (default: the one before; 0: the empty document)")
	c.Flags().IntVar(&to, "to", 0, "the later version (default: the one in force)")
	return c
}

func printDifferences(w io.Writer, differences []wire.Difference) {
	for _, d := range differences {
		effect := "tightens, or neither"
		if d.Loosens {
			effect = "loosens"
			if d.Why != "" {
				effect += ": " + d.Why
			}
		}
		row(w, d.What, dash(d.Was)+" -> "+dash(d.Now), effect, fmt.Sprintf("line %d", d.Line))
	}
	if len(differences) == 0 {
		row(w, "no difference")
	}
}

func (r *rulesOf) apply() *cobra.Command {
	var reason string
	var ifVersion int
	c := onRules(r, "apply FILE", "Apply a document: it becomes the rules in force", cobra.ExactArgs(1),
		func(ctx context.Context, c *client.Client, where string, args []string) (wire.RulesApplied, error) {
			text, err := r.p.readFile(args[0])
			if err != nil {
				return wire.RulesApplied{}, err
			}
			v, err := c.ApplyRules(ctx, where, wire.NewRules{Text: text, Reason: reason}, ifVersion)
			return v, r.p.inFile(args[0], err)
		}, r.p.printApplied)
	c.Flags().StringVar(&reason, "reason", "", "why the rules change (needed)")
	c.Flags().IntVar(&ifVersion, "if-version", -1, "apply only if this is the version in force")
	return needs(c, "reason")
}

func (p *program) printApplied(w io.Writer, v wire.RulesApplied) {
	if v.Proposal != nil {
		row(w, fmt.Sprintf("proposal %d was made: it loosens the rules, and one of %s, other than you, has to "+
			"agree: tavrin rules agree %d", v.Proposal.ID, list(v.Proposal.AgreedBy), v.Proposal.ID))
		printDifferences(w, v.Proposal.Differences)
		return
	}
	if v.Unchanged {
		row(w, fmt.Sprintf("rules version %d is this very document, and in force: no version was made of it again", v.Version))
	} else {
		row(w, fmt.Sprintf("rules version %d is in force", v.Version))
	}
	if v.ToJudge > 0 {
		row(w, toJudge(v.Rules))
	}
	loosened := slices.DeleteFunc(slices.Clone(v.Differences), func(d wire.Difference) bool { return !d.Loosens })
	if len(loosened) > 0 && v.Version > 1 { // the first loosens nothing that there was
		row(w, fmt.Sprintf("it loosens %s:", counted(len(loosened), "setting")))
		printDifferences(w, loosened)
	}
	p.printAdvice("", v.Advice)
}

func (r *rulesOf) restore() *cobra.Command {
	var reason string
	c := onRules(r, "restore VERSION", "Restore an earlier version: its document becomes the next version",
		cobra.ExactArgs(1), func(ctx context.Context, c *client.Client, where string, args []string) (wire.RulesApplied,
			error) {
			n, err := number(args[0], "a version; see tavrin rules history")
			if err != nil {
				return wire.RulesApplied{}, err
			}
			return c.RestoreRules(ctx, where, int(n), reason)
		}, r.p.printApplied)
	c.Flags().StringVar(&reason, "reason", "", "why (needed)")
	return needs(c, "reason")
}

// number reads a positive number; what says what it is the number of.
func number(arg, what string) (int64, error) {
	var n int64
	if _, err := fmt.Sscanf(arg, "%d", &n); err != nil || n < 1 || fmt.Sprint(n) != arg {
		return 0, misuse("%q is not the number of %s", arg, what)
	}
	return n, nil
}

// lint reads a file of rules and prints what it says, what is wrong with it and what is to be warned of.
func (r *rulesOf) lint() *cobra.Command {
	p := r.p
	c := &cobra.Command{Use: "lint FILE", Short: "Read a document without applying it: what it says, and what is wrong with " +
		"it; exit 3 when something can never hold", Args: cobra.ExactArgs(1)}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		text, err := p.readFile(args[0])
		if err != nil {
			return err
		}
		c, err := p.client()
		if err != nil {
			return err
		}
		var checked wire.RulesCheck
		where, outside := r.place(cmd.Context(), c)
		switch {
		case outside == nil:
			checked, err = c.LintRules(cmd.Context(), where, text)
		case p.repo != "":
			return outside
		default:
			fmt.Fprintln(p.err, "read by itself; --repo or --house says for whom, and then it is held against what is there")
			checked, err = c.CheckRules(cmd.Context(), text, false)
		}
		if err != nil {
			return err
		}
		err = p.print(checked, func(w io.Writer) {
			for _, said := range checked.Says {
				row(w, fmt.Sprintf("%s, for %s:", said.Name, strings.Join(slices.Concat(said.Branches, tagsOf(said)), ", ")))
				for _, s := range said.Sentences {
					row(w, "", s)
				}
				fmt.Fprintln(w)
			}
			p.printFindings(args[0], checked.Findings)
			p.printAdvice(args[0]+":", checked.Advice)
			if checked.Valid && len(checked.Advice) == 0 {
				fmt.Fprintln(w)
				row(w, "Nothing is wrong with it.")
			}
		})
		switch {
		case err != nil:
			return err
		case !checked.Valid:
			return &exitError{status: statusError}
		case blocked(checked.Advice):
			return &exitError{status: statusNotYet}
		}
		return nil
	}
	return r.options(c)
}

// tagsOf lists the tags that a protection is for.
func tagsOf(p wire.Protection) []string {
	var out []string
	for _, glob := range p.Tags {
		out = append(out, "tags "+glob)
	}
	return out
}

func blocked(advice []wire.Advice) bool {
	for _, a := range advice {
		if a.Severity == "blocked" {
			return true
		}
	}
	return false
}

func (p *program) printAdvice(file string, advice []wire.Advice) {
	order := []lint.Severity{lint.Blocked, lint.Fragile, lint.Note}
	advice = slices.SortedStableFunc(slices.Values(advice), func(a, b wire.Advice) int {
		return slices.Index(order, a.Severity) - slices.Index(order, b.Severity)
	})
	for _, a := range advice {
		fmt.Fprintf(p.err, "%s%d: %s: %s", file, a.Line, a.Severity, plain(a.Text))
		if a.Edit != "" {
			fmt.Fprintf(p.err, "; %s", plain(a.Edit))
		}
		fmt.Fprintln(p.err)
	}
}

func (r *rulesOf) try() *cobra.Command {
	var last int
	c := onRules(r, "try FILE", "Say what a document would change: for branches, open changes and the last landings",
		cobra.ExactArgs(1), func(ctx context.Context, c *client.Client, where string, args []string) (wire.RulesTrial,
			error) {
			text, err := r.p.readFile(args[0])
			if err != nil {
				return wire.RulesTrial{}, err
			}
			try := c.TryRules
			if !strings.Contains(where, "/") { // a house may have hundreds of repositories
				try = func(ctx context.Context, where, text string, last int) (wire.RulesTrial, error) {
					return c.TryHouseRules(ctx, where, text, last, r.p.progress())
				}
			}
			t, err := try(ctx, where, text, last)
			if err == nil && len(t.Findings) > 0 {
				r.p.printFindings(args[0], t.Findings)
				err = &exitError{status: statusError}
			}
			return t, err
		}, r.p.printTrial)
	c.Flags().IntVar(&last, "last", 20, "how many of the last landings to judge again")
	return c
}

func (p *program) printTrial(w io.Writer, t wire.RulesTrial) {
	printDifferences(w, t.Differences)
	if len(t.SecondBy) > 0 {
		row(w, "it loosens: one of "+list(t.SecondBy)+" has to agree besides you")
	}
	for _, b := range t.Branches {
		row(w)
		row(w, fmt.Sprintf("%s of %s", cmp.Or(b.Branch, "areas, tags, checks and labels"), b.Repository))
		for _, s := range b.Gone {
			row(w, "  -", s)
		}
		for _, s := range b.Come {
			row(w, "  +", s)
		}
	}
	row(w)
	counts := map[string]int{}
	worst := []string{"blocked", "freed", "different", "unchanged"}
	changes := slices.SortedStableFunc(slices.Values(t.Changes), func(a, b wire.ChangeTrial) int {
		return slices.Index(worst, a.Outcome) - slices.Index(worst, b.Outcome)
	})
	for i, k := range changes {
		counts[k.Outcome]++
		if k.Outcome == "unchanged" {
			continue
		}
		if i == 0 {
			row(w, "OPEN CHANGE", "BECOMES", "THEN", "NO LONGER")
		}
		row(w, fmt.Sprintf("%s %d", k.Repository, k.Number), state(k.Outcome), semicolons(k.Missing), semicolons(k.Dropped))
	}
	row(w, fmt.Sprintf("%s: %d blocked, %d freed, %d for other reasons than now, %d as they are",
		counted(len(t.Changes), "open change"), counts["blocked"], counts["freed"], counts["different"], counts["unchanged"]))
	for _, q := range t.Queues {
		row(w, fmt.Sprintf("%s of %s, with %s: %s", q.Branch, q.Repository, q.With, q.Words))
	}
	row(w)
	stopped := 0
	var reasons []string // each once, what stops most first
	stops := map[string][]wire.LandingTrial{}
	for _, l := range t.Landed {
		if l.Stopped {
			stopped++
		}
		for _, reason := range l.By {
			if stops[reason] == nil {
				reasons = append(reasons, reason)
			}
			stops[reason] = append(stops[reason], l)
		}
	}
	slices.SortStableFunc(reasons, func(a, b string) int { return len(stops[b]) - len(stops[a]) })
	for i, reason := range reasons {
		if i == 0 {
			row(w, "STOPS", "LANDED CHANGES")
		}
		var which []string
		repository := ""
		for _, l := range stops[reason] { // a repository's are together
			if l.Repository != repository {
				repository = l.Repository
				which = append(which, fmt.Sprintf("%s %d", repository, l.Number))
				continue
			}
			which = append(which, strconv.Itoa(l.Number))
		}
		row(w, reason, list(which))
	}
	if len(t.Landed) > 0 {
		row(w, fmt.Sprintf("of the last %d landings it would have stopped %d", len(t.Landed), stopped))
	} else {
		row(w, "nothing has landed that could be judged again")
	}
	p.printAdvice("", t.Advice)
}

// semicolons lists phrases that have commas of their own.
func semicolons(phrases []string) string { return cmp.Or(strings.Join(phrases, "; "), "-") }

func (r *rulesOf) test() *cobra.Command {
	var document string
	c := &cobra.Command{Use: "test EXAMPLES...", Short: "Run examples against a document or the rules in force; " +
		"exit 3 when one comes out otherwise", Args: cobra.MinimumNArgs(1)}
	r.p.aboutRepo(c)
	c.Flags().StringVar(&document, "rules", "", "file of the rules document (default: the rules in force)")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		client, err := r.p.client()
		if err != nil {
			return err
		}
		h, err := r.p.here(cmd.Context(), client)
		if err != nil {
			return err
		}
		text := ""
		if document != "" {
			if text, err = r.p.readFile(document); err != nil {
				return err
			}
		}
		var all wire.ExampleResults
		for _, file := range args {
			examples, err := r.p.readFile(file)
			if err != nil {
				return err
			}
			results, err := h.TestRules(cmd.Context(), h.repo, text, examples)
			if err != nil {
				return fmt.Errorf("%s: %w", file, r.p.inFile(document, err))
			}
			for i := range results.Results {
				results.Results[i].Name = fmt.Sprintf("%s:%d: %s", file, results.Results[i].Line,
					results.Results[i].Name)
			}
			all.Passed, all.Failed, all.Results = all.Passed+results.Passed, all.Failed+results.Failed, append(all.Results, results.Results...)
		}
		err = r.p.print(all, func(w io.Writer) {
			for _, x := range all.Results {
				if !x.Passed {
					row(w, x.Name)
					row(w, "  "+x.Says)
				}
			}
			row(w, fmt.Sprintf("%d as expected, %d otherwise", all.Passed, all.Failed))
		})
		if err == nil && all.Failed > 0 {
			return &exitError{status: statusNotYet}
		}
		return err
	}
	return c
}

func (p *program) templates() *cobra.Command {
	return answer(p, "template [NAME]", "List documents to start from, or print one", cobra.MaximumNArgs(1),
		func(ctx context.Context, c *client.Client, args []string) ([]wire.Template, error) {
			all, err := c.RulesTemplates(ctx)
			if err != nil || len(args) == 0 {
				return all, err
			}
			var names []string
			for _, t := range all {
				if t.Name == args[0] {
					fmt.Fprint(p.out, t.Text)
					return nil, nil
				}
				names = append(names, t.Name)
			}
			return nil, misuse("there is no template %q; one of %s", args[0], strings.Join(names, ", "))
		}, func(w io.Writer, all []wire.Template) {
			for _, t := range all {
				row(w, t.Name, t.For)
			}
		})
}

func (p *program) schema() *cobra.Command {
	return answer(p, "schema [repository|house]", "Print the JSON Schema of the rules document, for editors", cobra.MaximumNArgs(1),
		func(ctx context.Context, c *client.Client, args []string) (json.RawMessage, error) {
			if len(args) > 0 && args[0] != "house" && args[0] != "repository" {
				return nil, misuse("the document of a repository or of a house, not of %q", args[0])
			}
			return c.RulesSchema(ctx, len(args) > 0 && args[0] == "house")
		}, func(_ io.Writer, schema json.RawMessage) { fmt.Fprintln(p.out, string(schema)) })
}

func (p *program) readFile(path string) (string, error) {
	if path == "-" {
		text, err := io.ReadAll(io.LimitReader(p.in, 2<<20))
		return string(text), err
	}
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, 2<<20))
	return string(text), err
}

// inFile puts the file's name before each finding of a refused document.
func (p *program) inFile(file string, err error) error {
	var problem *client.Problem
	if !errors.As(err, &problem) || len(problem.Findings) == 0 {
		return err
	}
	fmt.Fprintln(p.err, "tavrin:", problem.Detail)
	p.printFindings(file, problem.Findings)
	return &exitError{status: statusError}
}

func (p *program) printFindings(file string, findings []wire.Finding) {
	for _, f := range findings {
		fmt.Fprintf(p.err, "%s:%s\n%s\n", file, f, block(f.Excerpt))
	}
}
