package rulebook

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/bounds"
	"tavrin/internal/core/event"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/lint"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
	"tavrin/internal/core/webhook"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// Draft is a document that is not applied, within what would be in force with it.
type Draft struct {
	Shelf    shelf
	version  int // that it has, or would have
	Was, Now *rules.Document
	Repos    []records.Repository // where it would hold
}

// DraftOf reads a document as one that might be applied. Findings are a problem that carries them.
func DraftOf(db *gorm.DB, a accounts.Actor, where, text string) (Draft, error) {
	h, err := RuleShelf(db, a, where, false)
	if err != nil {
		return Draft{}, err
	}
	d := Draft{Shelf: h}
	last, err := h.Newest(db)
	if err != nil {
		return d, err
	}
	d.version = last.Version + 1
	if h.repo != nil {
		d.Repos = []records.Repository{*h.repo}
	} else if d.Repos, err = readableIn(db, a, *h.house); err != nil {
		return d, err
	}
	d.Was, d.Now, err = readNew(db, h, last, text, d.Repos)
	return d, err
}

// readableIn lists the repositories of a house that an actor may read.
func readableIn(db *gorm.DB, a accounts.Actor, house records.House) ([]records.Repository, error) {
	all, err := accounts.Readable(db, a)
	return slices.DeleteFunc(slices.Clone(all), func(r records.Repository) bool { return r.HouseID != house.ID }), err
}

// With puts the draft in the place of its version in force, for one repository.
func (d Draft) With(repo *records.Repository, force *InForce) (*rules.Set, error) {
	if d.Shelf.repo == nil {
		own, err := documentOf(force.Own, rules.Under{House: d.Now, Accepted: true})
		return layered(repo, d.Now, d.version, own, force.Own.Version), err
	}
	house, err := documentOf(force.House, ofHouse)
	return layered(repo, house, force.House.Version, d.Now, d.version), err
}

// CheckRules reads a document without applying it. With a place, a repository or a house, it is read as that one's,
// and lint looks at it too.
func (s *Rulebook) CheckRules(ctx context.Context, a accounts.Actor, where, text string,
	ofHouse bool) (wire.RulesCheck, error) {
	out := wire.RulesCheck{Findings: []grammar.Finding{}, Says: []wire.Protection{}, Advice: []wire.Advice{}}
	var doc *rules.Document
	if where == "" {
		var findings []grammar.Finding
		if doc, findings = (rules.Under{OfHouse: ofHouse}).Parse(text); findings != nil {
			out.Findings = findings
		}
	} else {
		snap := s.records.View(ctx)
		defer snap.Close()
		d, err := DraftOf(snap.DB, a, where, text)
		if found := problem.FindingsOf(err); found != nil {
			out.Findings = found
		} else if err != nil {
			return out, err
		}
		if doc = d.Now; doc != nil {
			if out.Advice, err = s.Advice(ctx, snap.DB, d); err != nil {
				return out, err
			}
		}
	}
	if out.Valid = len(out.Findings) == 0; !out.Valid {
		return out, nil
	}
	for _, p := range doc.Protections {
		one := rules.Document{Protections: []rules.Protection{p}}
		one.Protections[0].Repositories = glob.List{}
		said := wire.Protection{Name: p.Name, Branches: append([]string{}, p.Text...), Tags: append([]string{}, p.TagText...), Sentences: []string{}}
		sentences := one.Alone(0).TagSentences()
		if it := &one.Protections[0]; p.TagText == nil {
			if len(p.FromText) == 0 { // absent it means those that it is for, which everything is to stand for now
				it.From, it.FromText = p.Branches, p.Text
			}
			it.Branches = everything
			sentences = one.Alone(0).For("any").Sentences()
		}
		for _, sentence := range sentences {
			said.Sentences = append(said.Sentences, sentence.Text)
		}
		out.Says = append(out.Says, said)
	}
	return out, nil
}

// everything matches every branch, to put a protection into words whatever it is for.
var everything = must(glob.CompileList([]string{"**"}))

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// Advice lints a draft in every repository where it would hold and that the actor may read.
func (s *Rulebook) Advice(ctx context.Context, db *gorm.DB, d Draft) ([]wire.Advice, error) {
	return s.adviceWithin(ctx, db, d, 0)
}

// adviceWithin is Advice, which says so where it did not come to all repositories within a time; 0: however long it takes.
func (s *Rulebook) adviceWithin(ctx context.Context, db *gorm.DB, d Draft, most time.Duration) ([]wire.Advice, error) {
	out := []wire.Advice{}
	begun := time.Now()
	for i := range d.Repos {
		repo := &d.Repos[i]
		if most > 0 && i > 0 && time.Since(begun) > most {
			out = append(out, wire.Advice{Severity: lint.Note, Text: fmt.Sprintf("it was looked at in %d of %d repositories: tavrin rules lint looks at all of them", i, len(d.Repos))})
			break
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		force, err := s.RulesOf(db, repo)
		if err != nil {
			return nil, err
		}
		set, err := d.With(repo, force)
		if err != nil {
			return nil, err
		}
		world, err := s.world(ctx, db, repo)
		if err != nil {
			return nil, err
		}
		for _, found := range lint.Lint(d.Now, set, d.Shelf.of(), world) {
			if len(d.Repos) > 1 {
				found.Text = repo.Name + ": " + found.Text
			}
			out = append(out, found)
		}
	}
	if d.Shelf.repo == nil && d.Now != nil {
		var all []string
		repos, err := accounts.RepositoriesOf(db, *d.Shelf.house)
		if err != nil {
			return nil, err
		}
		for _, r := range repos {
			all = append(all, r.Name)
		}
		out = append(out, lint.ForNone(d.Now, all)...)
	}
	return lint.Told(out), nil
}

// hooks adds what lint knows of webhooks.
func hooks(db *gorm.DB, repo *records.Repository, w *lint.World) error {
	var rows []records.Webhook
	err := db.Where("off = '' AND deleted_at IS NULL").Order("id").Find(&rows).Error
	for _, h := range rows {
		if !h.Sends(repo) {
			continue
		}
		f, err := webhook.NewFilter(h.Kinds, h.Branches, h.Paths)
		w.Told = w.Told || err == nil && f.Takes(event.Named("check.asked"))
		if h.RepositoryID != nil && h.FailingSince != nil && w.At.Sub(*h.FailingSince) >= 24*time.Hour {
			w.Failing = append(w.Failing, lint.Failing{ID: h.ID, Name: h.Name, Since: *h.FailingSince, Trouble: h.Trouble})
		}
	}
	return err
}

// principals are whom a document may name, and those of them who are disabled.
type principals struct{ known, disabled map[string]bool }

func principalsOf(db *gorm.DB) (principals, error) {
	out := principals{map[string]bool{}, map[string]bool{}}
	var all []records.Account
	if err := db.Select("login", "robot", "disabled").Find(&all).Error; err != nil {
		return out, err
	}
	for _, a := range all {
		kind := people.ByLogin
		if a.Robot {
			kind = people.ByRobot
		}
		who := people.Principal{Kind: kind, Name: a.Login}.String()
		out.known[who], out.disabled[who] = !a.Disabled, a.Disabled
	}
	var teams []string
	err := db.Model(&records.Team{}).Pluck("name", &teams).Error
	for _, t := range teams {
		out.known["team:"+t] = true
	}
	return out, err
}

// world gathers what lint knows of a repository.
func (s *Rulebook) world(ctx context.Context, db *gorm.DB, repo *records.Repository) (lint.World, error) {
	w := lint.World{Repository: repo.Name, At: s.records.Now(),
		Reporters: map[string][]string{}, Reported: map[string]time.Time{}}
	var err error
	if w.People, err = accounts.PeopleOf(db, repo); err != nil {
		return w, err
	}
	who, err := records.Known(db, records.Access, "principals", func() (principals, error) { return principalsOf(db) })
	if err != nil {
		return w, err
	}
	w.Known, w.Disabled = who.known, who.disabled
	var bindings []struct{ Login, CheckName, Scope string }
	err = db.Raw(`SELECT a.login, b.check_name, t.scope FROM token_bindings b JOIN tokens t ON t.id = b.token_id JOIN accounts a ON a.id = t.account_id
WHERE b.repository_id = ? AND t.revoked_at IS NULL AND (t.expires_at IS NULL OR t.expires_at > ?) AND NOT a.disabled`, repo.ID, s.records.Now()).Scan(&bindings).Error
	if err != nil {
		return w, err
	}
	for _, b := range bindings {
		if b.Scope == string(accounts.ScopeRunner) {
			w.Runner = true
		} else {
			w.Reporters[b.CheckName] = append(w.Reporters[b.CheckName], b.Login)
		}
	}
	// Each name by itself, and of each the newest: however many attempts there were, none of them is gone through.
	var runs []records.CheckRun
	err = db.Raw(`WITH RECURSIVE names (name) AS (
  SELECT min(name) FROM check_runs WHERE repository_id = @repo
  UNION ALL SELECT (SELECT min(name) FROM check_runs WHERE repository_id = @repo AND name > names.name) FROM names WHERE names.name IS NOT NULL)
SELECT r.* FROM names n JOIN check_runs r ON r.id = (SELECT max(id) FROM check_runs WHERE repository_id = @repo AND name = n.name AND finished_at IS NOT NULL)`,
		map[string]any{"repo": repo.ID}).Scan(&runs).Error
	if err != nil {
		return w, err
	}
	for _, r := range runs {
		w.Reported[r.Name] = r.CreatedAt
	}
	if err := hooks(db, repo, &w); err != nil {
		return w, err
	}
	bare := s.disk.Bare(repo)
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

// RulesSchema is the JSON Schema of the rules document, for editors.
func RulesSchema(ofHouse bool) (json.RawMessage, error) { return rules.Schema(ofHouse) }

// RulesTemplates lists documents to start from.
func RulesTemplates() ([]wire.Template, error) {
	found, err := rules.Templates()
	out := []wire.Template{}
	for _, t := range found {
		out = append(out, wire.Template(t))
	}
	return out, err
}
