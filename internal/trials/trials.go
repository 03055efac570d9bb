package trials

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
	"tavrin/internal/core/statement"
	"tavrin/internal/core/trial"
	"tavrin/internal/facts"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
	"tavrin/internal/tasks"
	"tavrin/wire"
)

// most is the largest number of landings that a document is tried on.
const mostLandings = 500

// mostQueues is for how many queues it is foreseen what other settings would have changed.
const mostQueues = 3

// Trial is the task of TryRules, for the rules of a house whose repositories are many.
func (s *Trials) Trial(a accounts.Actor, where, text string, last int) tasks.Work {
	return tasks.Work{
		What: "try rules of " + where,
		May: func(ctx context.Context, a accounts.Actor) error {
			_, err := rulebook.RuleShelf(s.records.Read(ctx), a, where, false)
			return err
		},
		Do: func(ctx context.Context, tell func(float64, string), result *wire.Task) error {
			trial, err := s.try(ctx, a, where, text, last, tell)
			result.Trial = &trial
			return err
		},
	}
}

// TryRules says what a document would change if it were applied: the effective settings of branches, the gate of every
// open change, and what it would have stopped of the last landings.
func (s *Trials) TryRules(ctx context.Context, a accounts.Actor, where, text string,
	last int) (wire.RulesTrial, error) {
	return s.try(ctx, a, where, text, last, func(float64, string) {})
}

// try is TryRules, which tells how far it is. Each repository is looked at as it is at one moment.
func (s *Trials) try(ctx context.Context, a accounts.Actor, where, text string, last int, tell func(float64, string)) (wire.RulesTrial, error) {
	out := wire.RulesTrial{Findings: []wire.Finding{}, Advice: []wire.Advice{}, Differences: []wire.Difference{},
		SecondBy: []string{}, Branches: []wire.BranchTrial{}, Changes: []wire.ChangeTrial{}, Landed: []wire.LandingTrial{}, Queues: []wire.QueueTrial{}}
	if last < 0 || last > mostLandings {
		return out, problem.Wrong("last", "a document is tried on the last 0 to %d landings", mostLandings)
	}
	d, err := s.begin(ctx, a, where, text, &out)
	if err != nil || len(out.Findings) > 0 {
		return out, err
	}
	for i := range d.Repos {
		tell(0.05+0.95*float64(i)/float64(len(d.Repos)), fmt.Sprintf("repository %d of %d", i+1, len(d.Repos)))
		if err := s.tryIn(ctx, d, &d.Repos[i], last, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// begin reads a document that is tried, and says in what it differs from the one in force.
func (s *Trials) begin(ctx context.Context, a accounts.Actor, where, text string, out *wire.RulesTrial) (rulebook.Draft, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	d, err := rulebook.DraftOf(db, a, where, text)
	if found := problem.FindingsOf(err); found != nil {
		out.Findings = found
		return d, nil
	}
	if err != nil {
		return d, err
	}
	differences, err := rulebook.Differences(db, d.Shelf, d.Was, d.Now)
	if err != nil {
		return d, err
	}
	out.Differences = append(out.Differences, differences...)
	out.Loosens = rules.Loosens(out.Differences)
	if d.Was != nil && out.Loosens {
		for _, p := range d.Was.AgreedBy {
			out.SecondBy = append(out.SecondBy, p.String())
		}
	}
	if out.Advice, err = s.rulebook.Advice(ctx, db, d); err != nil {
		return d, err
	}
	return d, nil
}

// tryIn tries a draft on one repository.
func (s *Trials) tryIn(ctx context.Context, d rulebook.Draft, repo *records.Repository, last int,
	out *wire.RulesTrial) error {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return err
	}
	then, err := d.With(repo, force)
	if err != nil {
		return err
	}
	heads, err := s.disk.Bare(repo).Refs(ctx, "refs/heads/")
	if err != nil {
		return err
	}
	was, would := force.Now(), then.Without(force.Suspended)
	compare := func(branch string, was, would []rules.Sentence) {
		a, b := texts(was), texts(would)
		if t := (wire.BranchTrial{Repository: repo.Name, Branch: branch, Gone: without(a, b), Come: without(b, a)}); len(t.Gone)+len(t.Come) > 0 {
			out.Branches = append(out.Branches, t)
		}
	}
	for _, h := range heads {
		branch := strings.TrimPrefix(h.Name, "refs/heads/")
		a, b := was.For(branch), would.For(branch)
		compare(branch, a.Sentences(), b.Sentences())
		if len(out.Queues) < mostQueues {
			t, err := s.forecasts.Beside(ctx, db, repo, branch, a.Queue.Settings(), b.Queue.Settings())
			if err != nil {
				return err
			}
			if t != nil {
				out.Queues = append(out.Queues, *t)
			}
		}
	}
	beside := func(set *rules.Set) []rules.Sentence { // what is of no branch
		return slices.Concat(set.AreaSentences(), set.TagSentences(), set.DefinitionSentences())
	}
	compare("", beside(was), beside(would))
	var open []records.Change
	if err := db.Where("repository_id = ? AND state IN ('draft', 'open')",
		repo.ID).Order("number DESC").Find(&open).Error; err != nil {
		return err
	}
	gathered, err := s.facts.GatherAll(db, repo, open)
	if err != nil {
		return err
	}
	for _, g := range gathered {
		if err := ctx.Err(); err != nil {
			return err
		}
		out.Changes = append(out.Changes, changeTrial(repo.Name, g.Change, g.Judge(), gate.JudgeAsked(then, g.Facts)))
	}
	var landings []records.Landing
	if err := db.Where("repository_id = ?", repo.ID).Order("id DESC").Limit(last).Find(&landings).Error; err != nil {
		return err
	}
	for _, l := range landings {
		t, err := landingTrial(db, repo, l, then)
		if err != nil {
			return err
		}
		out.Landed = append(out.Landed, t)
	}
	return nil
}

func texts(sentences []rules.Sentence) []string {
	var out []string
	for _, s := range sentences {
		out = append(out, s.Text)
	}
	return out
}

// without returns what is in a and not in b.
func without(a, b []string) []string {
	return append([]string{}, slices.DeleteFunc(slices.Clone(a),
		func(s string) bool { return slices.Contains(b, s) })...)
}

// missing lists what a report says is missing, the rehearsal's checks too.
func missing(r gate.Report) []string {
	var out []string
	for _, q := range r.Requirements {
		if q.Level == require.Required && !q.Holds() {
			out = append(out, q.Lacks)
		}
	}
	return out
}

func changeTrial(repo string, c records.Change, now, then gate.Report) wire.ChangeTrial {
	t := wire.ChangeTrial{Repository: repo, Number: c.Number, Title: c.Title, Target: c.Target, ReadyNow: now.Ready,
		ReadyThen: then.Ready,
		Missing:   without(missing(then), missing(now)), Dropped: without(missing(now), missing(then))}
	switch {
	case now.Ready && !then.Ready:
		t.Outcome = "blocked"
	case !now.Ready && then.Ready:
		t.Outcome = "freed"
	case len(t.Missing)+len(t.Dropped) > 0:
		t.Outcome = "different"
	default:
		t.Outcome = "unchanged"
	}
	return t
}

// landingTrial judges the facts of a landing again, under other rules.
func landingTrial(db *gorm.DB, repo *records.Repository, l records.Landing, set *rules.Set) (wire.LandingTrial, error) {
	var c records.Change
	if err := db.First(&c, l.ChangeID).Error; err != nil {
		return wire.LandingTrial{}, err
	}
	signed, err := facts.SignedFor(l)
	if err != nil {
		return wire.LandingTrial{}, err
	}
	given, err := statement.ReadFacts(signed.Facts)
	if err != nil {
		return wire.LandingTrial{}, fmt.Errorf("landing %d: %w", l.ID, err)
	}
	report := gate.JudgeAsked(set, given)
	t := wire.LandingTrial{Repository: repo.Name, Number: c.Number, Title: c.Title, Target: given.Target,
		LandedAt: l.LandedAt, Stopped: !report.Clear, By: []string{}}
	for _, q := range report.Requirements {
		if q.Level == require.Required && !q.Holds() {
			t.By = append(t.By, fmt.Sprintf("%s, says %s", q.Title, q.Because))
		}
	}
	return t, nil
}

// TestRules runs examples against a document that is not applied, or, without one, against the rules in force.
func (s *Trials) TestRules(ctx context.Context, a accounts.Actor, name, text,
	examples string) (wire.ExampleResults, error) {
	out := wire.ExampleResults{Results: []wire.ExampleResult{}}
	file, err := trial.Parse(examples)
	if err != nil {
		return out, problem.Wrong("examples", "%v", err)
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return out, err
	}
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return out, err
	}
	set := force.Now()
	if text != "" {
		d, err := rulebook.DraftOf(db, a, name, text)
		if err != nil {
			return out, err
		}
		if set, err = d.With(repo, force); err != nil {
			return out, err
		}
	}
	people, err := accounts.PeopleOf(db, repo)
	if err != nil {
		return out, err
	}
	out.Results = append(out.Results, trial.Run(file, examples, set, name, people)...)
	for _, r := range out.Results {
		if r.Passed {
			out.Passed++
		} else {
			out.Failed++
		}
	}
	return out, nil
}
