package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"tavrin/internal/bounds"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/lint"
	"tavrin/internal/core/rules"
	"tavrin/internal/core/trial"
	"tavrin/internal/store"
	"tavrin/wire"
)

// draft is a document that is not applied, within what would be in force with it.
type draft struct {
	shelf    shelf
	last     store.RulesVersion
	was, now *rules.Document
	repos    []store.Repository // where it would hold
}

// draftOf reads a document as one that might be applied. Findings are a problem that carries them.
func (s *Service) draftOf(db *gorm.DB, a Actor, where, text string) (draft, error) {
	h, err := s.ruleShelf(db, a, where, false)
	if err != nil {
		return draft{}, err
	}
	d := draft{shelf: h}
	if d.last, err = h.newest(db); err != nil {
		return d, err
	}
	if h.repo != nil {
		d.repos = []store.Repository{*h.repo}
	} else if d.repos, err = s.readableIn(db, a, *h.house); err != nil {
		return d, err
	}
	d.was, d.now, err = s.readNew(db, h, d.last, text, d.repos)
	return d, err
}

// readableIn lists the repositories of a house that an actor may read.
func (s *Service) readableIn(db *gorm.DB, a Actor, house store.House) ([]store.Repository, error) {
	all, err := s.readable(db, a)
	return slices.DeleteFunc(slices.Clone(all), func(r store.Repository) bool { return r.HouseID != house.ID }), err
}

// with puts the draft in the place of its version in force, for one repository.
func (d draft) with(repo *store.Repository, force *inForce) (*rules.Set, error) {
	if d.shelf.repo == nil {
		own, err := documentOf(force.own, rules.Under{House: d.now, Accepted: true})
		return layered(repo, d.now, d.last.Version+1, own, force.own.Version), err
	}
	house, err := documentOf(force.house, ofHouse)
	return layered(repo, house, force.house.Version, d.now, d.last.Version+1), err
}

// CheckRules reads a document without applying it. With a place, a repository or a house, it is read as that one's,
// and lint looks at it too.
func (s *Service) CheckRules(ctx context.Context, a Actor, where, text string, ofHouse bool) (wire.RulesCheck, error) {
	out := wire.RulesCheck{Findings: []rules.Finding{}, Sentences: []string{}, Advice: []wire.Advice{}}
	var doc *rules.Document
	if where == "" {
		var findings []rules.Finding
		if doc, findings = (rules.Under{OfHouse: ofHouse}).Parse(text); findings != nil {
			out.Findings = findings
		}
	} else {
		d, err := s.draftOf(s.store.Read(ctx), a, where, text)
		if found := findingsOf(err); found != nil {
			out.Findings = found
		} else if err != nil {
			return out, err
		}
		if doc = d.now; doc != nil {
			if out.Advice, err = s.advice(ctx, d); err != nil {
				return out, err
			}
		}
	}
	if out.Valid = len(out.Findings) == 0; !out.Valid {
		return out, nil
	}
	for _, p := range doc.Protections {
		one := rules.Document{Protections: []rules.Protection{p}}
		one.Protections[0].Branches, one.Protections[0].Repositories = everything, glob.List{}
		for _, sentence := range one.Alone(0).For("any").Sentences() {
			out.Sentences = append(out.Sentences, fmt.Sprintf("%s (%s): %s", p.Name, strings.Join(p.Text, ", "), sentence.Text))
		}
	}
	return out, nil
}

// findingsOf returns the findings that a problem carries.
func findingsOf(err error) []rules.Finding {
	if p, ok := err.(*Problem); ok {
		return p.Findings
	}
	return nil
}

// everything matches every branch, to put a protection into words whatever it is for.
var everything = must(glob.CompileList([]string{"**"}))

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// advice lints a draft in every repository where it would hold and that the actor may read.
func (s *Service) advice(ctx context.Context, d draft) ([]wire.Advice, error) {
	db := s.store.Read(ctx)
	out := []wire.Advice{}
	for i := range d.repos {
		repo := &d.repos[i]
		force, err := s.rulesOf(db, repo)
		if err != nil {
			return nil, err
		}
		set, err := d.with(repo, force)
		if err != nil {
			return nil, err
		}
		world, err := s.world(ctx, db, repo)
		if err != nil {
			return nil, err
		}
		for _, found := range lint.Lint(d.now, set, d.shelf.of(), world) {
			if len(d.repos) > 1 {
				found.Text = repo.Name + ": " + found.Text
			}
			out = append(out, found)
		}
	}
	if d.shelf.repo == nil && d.now != nil {
		var all []string
		repos, err := repositoriesOf(db, *d.shelf.house)
		if err != nil {
			return nil, err
		}
		for _, r := range repos {
			all = append(all, r.Name)
		}
		out = append(out, lint.ForNone(d.now, all)...)
	}
	return lint.Told(out), nil
}

// world gathers what lint knows of a repository.
func (s *Service) world(ctx context.Context, db *gorm.DB, repo *store.Repository) (lint.World, error) {
	w := lint.World{Repository: repo.Name, At: s.now(), Known: map[string]bool{}, Disabled: map[string]bool{}, Witnesses: map[string][]string{}, Reported: map[string]time.Time{}}
	var err error
	if w.People, err = peopleOf(db, repo); err != nil {
		return w, err
	}
	var accounts []store.Account
	if err := db.Find(&accounts).Error; err != nil {
		return w, err
	}
	for _, a := range accounts {
		who := map[bool]string{true: "robot:", false: "person:"}[a.Robot] + a.Login
		w.Known[who], w.Disabled[who] = !a.Disabled, a.Disabled
	}
	var teams []string
	if err := db.Model(&store.Team{}).Pluck("name", &teams).Error; err != nil {
		return w, err
	}
	for _, t := range teams {
		w.Known["team:"+t] = true
	}
	var bindings []struct{ Login, CheckName, Scope string }
	err = db.Raw(`SELECT a.login, b.check_name, t.scope FROM token_bindings b JOIN tokens t ON t.id = b.token_id JOIN accounts a ON a.id = t.account_id
WHERE b.repository_id = ? AND t.revoked_at IS NULL AND (t.expires_at IS NULL OR t.expires_at > ?) AND NOT a.disabled`, repo.ID, s.now()).Scan(&bindings).Error
	if err != nil {
		return w, err
	}
	for _, b := range bindings {
		if Scope(b.Scope) == ScopeRunner {
			w.Runner = true
		} else {
			w.Witnesses[b.CheckName] = append(w.Witnesses[b.CheckName], b.Login)
		}
	}
	var runs []store.CheckRun
	err = db.Raw("SELECT * FROM check_runs WHERE id IN (SELECT max(id) FROM check_runs WHERE repository_id = ? AND finished_at IS NOT NULL GROUP BY name)", repo.ID).Scan(&runs).Error
	if err != nil {
		return w, err
	}
	for _, r := range runs {
		w.Reported[r.Name] = r.CreatedAt
	}
	bare := s.bare(repo)
	heads, err := bare.Refs(ctx, "refs/heads/")
	if err != nil {
		return w, err
	}
	for _, h := range heads {
		branch := strings.TrimPrefix(h.Name, "refs/heads/")
		w.Branches = append(w.Branches, branch)
		if branch == repo.DefaultBranch {
			if w.Paths, err = bare.Paths(ctx, h.ID); errors.As(err, new(*bounds.Reached)) {
				w.Paths, err = nil, nil // not known
			}
			if err != nil {
				return w, err
			}
		}
	}
	return w, nil
}

// most is the largest number of landings that a document is tried on.
const mostLandings = 500

// TryRules says what a document would change if it were applied: the effective settings of branches, the gate of every
// open change, and what it would have stopped of the last landings.
func (s *Service) TryRules(ctx context.Context, a Actor, where, text string, last int) (wire.RulesTrial, error) {
	out := wire.RulesTrial{Findings: []wire.Finding{}, Advice: []wire.Advice{}, Differences: []wire.Difference{}, SecondBy: []string{}, Branches: []wire.BranchTrial{}, Changes: []wire.ChangeTrial{}, Landed: []wire.LandingTrial{}}
	if last < 0 || last > mostLandings {
		return out, invalid("last", "a document is tried on the last 0 to %d landings", mostLandings)
	}
	db := s.store.Read(ctx)
	d, err := s.draftOf(db, a, where, text)
	if found := findingsOf(err); found != nil {
		out.Findings = found
		return out, nil
	}
	if err != nil {
		return out, err
	}
	differences, err := s.differences(db, d.shelf, d.was, d.now)
	if err != nil {
		return out, err
	}
	out.Differences = append(out.Differences, differences...)
	out.Loosens = rules.Loosens(out.Differences)
	if d.was != nil && out.Loosens {
		for _, p := range d.was.AgreedBy {
			out.SecondBy = append(out.SecondBy, p.String())
		}
	}
	if out.Advice, err = s.advice(ctx, d); err != nil {
		return out, err
	}
	for i := range d.repos {
		if err := s.tryIn(ctx, db, d, &d.repos[i], last, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// tryIn tries a draft on one repository.
func (s *Service) tryIn(ctx context.Context, db *gorm.DB, d draft, repo *store.Repository, last int, out *wire.RulesTrial) error {
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return err
	}
	then, err := d.with(repo, force)
	if err != nil {
		return err
	}
	heads, err := s.bare(repo).Refs(ctx, "refs/heads/")
	if err != nil {
		return err
	}
	for _, h := range heads {
		branch := strings.TrimPrefix(h.Name, "refs/heads/")
		was, would := sentencesOf(force.now(), branch), sentencesOf(then.Without(force.suspended), branch)
		b := wire.BranchTrial{Repository: repo.Name, Branch: branch, Gone: without(was, would), Come: without(would, was)}
		if len(b.Gone)+len(b.Come) > 0 {
			out.Branches = append(out.Branches, b)
		}
	}
	var open []store.Change
	if err := db.Where("repository_id = ? AND state IN ('draft', 'open')", repo.ID).Order("number DESC").Find(&open).Error; err != nil {
		return err
	}
	for _, c := range open {
		g, err := s.gather(db, repo, c)
		if err != nil {
			return err
		}
		out.Changes = append(out.Changes, changeTrial(repo.Name, c, g.judge(), gate.Judge(then, g.facts)))
	}
	var landings []store.Landing
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

func sentencesOf(set *rules.Set, branch string) []string {
	var out []string
	for _, s := range slices.Concat(set.For(branch).Sentences(), set.AreaSentences(), set.DefinitionSentences()) {
		out = append(out, s.Text)
	}
	return out
}

// without returns what is in a and not in b.
func without(a, b []string) []string {
	return append([]string{}, slices.DeleteFunc(slices.Clone(a), func(s string) bool { return slices.Contains(b, s) })...)
}

// missing lists what a report still asks for, the rehearsal's checks too.
func missing(r gate.Report) []string {
	var out []string
	for _, q := range r.Requirements {
		if q.Level == rules.Required && !q.Holds() {
			out = append(out, q.Title)
		}
	}
	return out
}

func changeTrial(repo string, c store.Change, now, then gate.Report) wire.ChangeTrial {
	t := wire.ChangeTrial{Repository: repo, Number: c.Number, Title: c.Title, Target: c.Target, ReadyNow: now.Ready, ReadyThen: then.Ready,
		Missing: without(missing(then), missing(now)), Dropped: without(missing(now), missing(then))}
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
func landingTrial(db *gorm.DB, repo *store.Repository, l store.Landing, set *rules.Set) (wire.LandingTrial, error) {
	var intent store.Intent
	var c store.Change
	if err := db.First(&intent, l.IntentID).Error; err != nil {
		return wire.LandingTrial{}, err
	}
	if err := db.First(&c, l.ChangeID).Error; err != nil {
		return wire.LandingTrial{}, err
	}
	var facts gate.Facts
	if err := json.Unmarshal([]byte(intent.Facts), &facts); err != nil {
		return wire.LandingTrial{}, fmt.Errorf("facts of intent %d: %w", intent.ID, err)
	}
	report := gate.Judge(set, facts)
	t := wire.LandingTrial{Repository: repo.Name, Number: c.Number, Title: c.Title, Target: facts.Target, LandedAt: l.LandedAt, Stopped: !report.Clear, By: []string{}}
	for _, q := range report.Requirements {
		if q.Level == rules.Required && !q.Holds() {
			t.By = append(t.By, fmt.Sprintf("%s, says %s", q.Title, q.Because))
		}
	}
	return t, nil
}

// TestRules runs examples against a document that is not applied, or, without one, against the rules in force.
func (s *Service) TestRules(ctx context.Context, a Actor, name, text, examples string) (wire.ExampleResults, error) {
	out := wire.ExampleResults{Results: []wire.ExampleResult{}}
	file, err := trial.Parse(examples)
	if err != nil {
		return out, invalid("examples", "%v", err)
	}
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return out, err
	}
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return out, err
	}
	set := force.now()
	if text != "" {
		d, err := s.draftOf(db, a, name, text)
		if err != nil {
			return out, err
		}
		if set, err = d.with(repo, force); err != nil {
			return out, err
		}
	}
	people, err := peopleOf(db, repo)
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

// RulesSchema is the JSON Schema of the rules document, for editors.
func (s *Service) RulesSchema(ofHouse bool) (json.RawMessage, error) { return rules.Schema(ofHouse) }

// RulesTemplates lists documents to start from.
func (s *Service) RulesTemplates() ([]wire.Template, error) {
	found, err := rules.Templates()
	out := []wire.Template{}
	for _, t := range found {
		out = append(out, wire.Template(t))
	}
	return out, err
}
