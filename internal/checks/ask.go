package checks

import (
	"context"
	"fmt"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
	"tavrin/internal/facts"
	"tavrin/internal/records"
)

// ask makes sure that a check is asked for on a commit. A check whose command has changed since, or, with fresh,
// one that ended otherwise than passed, is asked for once more.
func (s *Checks) ask(tx *records.Tx, repo *records.Repository, c rules.Check, commit string, why purpose,
	fresh bool) error {
	var run records.CheckRun
	err := tx.Where("repository_id = ? AND commit_id = ? AND name = ?", repo.ID, commit,
		c.Name).Order("attempt DESC").Limit(1).Find(&run).Error
	if err != nil {
		return err
	}
	changed := run.Command != c.Command || (run.ReportedBy != "" && c.ReportedBy != "" && run.ReportedBy != c.ReportedBy)
	ended := change.CheckState(run.State).Final() && run.State != string(change.Passed)
	if run.ID != 0 && !changed && !(fresh && ended) {
		return nil
	}
	if run.ID != 0 && !change.CheckState(run.State).Final() {
		if err := tx.Model(&run).Updates(map[string]any{"state": "cancelled", "finished_at": s.records.Now(),
			"lease_hash": "", "summary": "its definition changed"}).Error; err != nil {
			return err
		}
	}
	next := why.of(records.CheckRun{CommitID: commit, Attempt: run.Attempt})
	if c.SeesTree && why.counts != nil && (run.ID == 0 || changed) {
		if done, err := s.reuse(tx, repo, c, next, why); done || err != nil {
			return err
		}
	}
	_, err = s.nextAttempt(tx, repo, c, next, records.Itself)
	return err
}

// reuse answers an attempt of a check that sees only the tree, which follows the one given, with the pass on another commit of
// the same tree, as it was and when it was. There is none that counts: it has to run.
func (s *Checks) reuse(tx *records.Tx, repo *records.Repository, c rules.Check, next records.CheckRun, why purpose) (bool, error) {
	passes, err := facts.PassesOfSameTree(tx.DB, repo.ID, c.Name, next.CommitID)
	if err != nil {
		return false, err
	}
	for _, r := range passes {
		if r.Command != c.Command || !why.counts(r) {
			continue
		}
		next.RepositoryID, next.Name, next.State, next.RanOn = repo.ID, c.Name, string(change.Passed), r.CommitID
		next.Attempt++
		next.Link, next.Summary, next.ReportedBy, next.Runner, next.Command = r.Link, r.Summary, r.ReportedBy, r.Runner, r.Command
		next.Numbers, next.Annotations, next.TimeoutSeconds = r.Numbers, r.Annotations, r.TimeoutSeconds
		next.StartedAt, next.FinishedAt, next.CreatedAt = r.StartedAt, r.FinishedAt, s.records.Now()
		if err := tx.Create(&next).Error; err != nil {
			return false, err
		}
		var same records.CommitTree
		if err := tx.Where("repository_id = ? AND commit_id = ?", repo.ID, next.CommitID).First(&same).Error; err != nil {
			return false, err
		}
		return true, tx.Record(records.Itself, repo, event.CheckReused{OfCheck: ofCheck(next), For: next.AskedFor, RanOn: r.CommitID, Tree: same.Tree, By: r.ReportedBy})
	}
	return false, nil
}

// purpose is why a check is asked for.
type purpose struct {
	name   string // such as change/4 or rehearsal/7
	number int    // of the change
	target string
	// counts says whether the answer of an attempt on another commit would do; nil: there is no gate that could say so.
	counts func(records.CheckRun) bool
}

func forHead(g facts.Gathered) purpose {
	return purpose{fmt.Sprintf("change/%d", g.Change.Number), g.Change.Number, g.Change.Target,
		func(r records.CheckRun) bool { return g.Counts(require.AtHead, r) }}
}

func forRehearsal(g facts.Gathered, r records.Rehearsal) purpose {
	return purpose{RehearsalName(r), g.Change.Number, g.Change.Target,
		func(r records.CheckRun) bool { return g.Counts(require.AtRehearsal, r) }}
}

// of puts the purpose on an attempt.
func (p purpose) of(r records.CheckRun) records.CheckRun {
	r.AskedFor, r.ChangeNumber, r.Target = p.name, p.number, p.target
	return r
}

// nextAttempt asks for the attempt of a check that follows the one given, which may be none.
func (s *Checks) nextAttempt(tx *records.Tx, repo *records.Repository, c rules.Check, last records.CheckRun,
	by string) (records.CheckRun, error) {
	next := records.CheckRun{RepositoryID: repo.ID, CommitID: last.CommitID, Name: c.Name, Attempt: last.Attempt + 1,
		State: string(change.Waiting), AskedFor: last.AskedFor, ChangeNumber: last.ChangeNumber, Target: last.Target,
		Command: c.Command, TimeoutSeconds: int(c.Timeout / time.Second), CreatedAt: s.records.Now()}
	if err := tx.Create(&next).Error; err != nil {
		return next, err
	}
	return next, tx.Record(by, repo, event.CheckAsked{OfCheck: ofCheck(next), For: next.AskedFor})
}

// AskForHead asks for the checks that the gate wants on a change's head.
func (s *Checks) AskForHead(tx *records.Tx, repo *records.Repository, g facts.Gathered) error {
	for _, q := range g.Judge().Requirements {
		if q.At == "rehearsal" || q.State == require.NotAsked {
			continue
		}
		for _, name := range q.Checks {
			if err := s.ask(tx, repo, g.Set.Check(name), g.Revision.Head, forHead(g), false); err != nil {
				return err
			}
		}
	}
	return nil
}

// AskUnderNewRules asks, after the rules changed, for what they want on the heads of some open changes and on their rehearsals
// under way: a new check runs on the same commit, a changed one runs again.
func (s *Checks) AskUnderNewRules(tx *records.Tx, repo *records.Repository, changes []records.Change) error {
	all, err := s.facts.GatherAll(tx.DB, repo, changes)
	if err != nil {
		return err
	}
	for _, g := range all {
		err := s.AskForHead(tx, repo, g)
		if err == nil {
			err = s.askRehearsals(tx, repo, g)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// askRehearsals asks for what the rules want on each rehearsal under way that a change takes part in.
func (s *Checks) askRehearsals(tx *records.Tx, repo *records.Repository, g facts.Gathered) error {
	if g.Entry == nil || g.Entry.EndedAt != nil {
		return nil
	}
	var parts []records.Rehearsal
	if err := tx.Where("entry_id = ? AND ended = '' AND tested <> ''", g.Entry.ID).Order("id").Find(&parts).Error; err != nil {
		return err
	}
	for _, r := range parts {
		if err := s.AskRehearsal(tx, repo, g.On(r, nil), r, false); err != nil {
			return err
		}
	}
	return nil
}

// RehearsalName names a part of a rehearsal as that for which a check is asked.
func RehearsalName(r records.Rehearsal) string { return fmt.Sprintf("rehearsal/%d", r.ID) }

// rehearsalChecks lists the checks wanted on the change's rehearsal, required and advisory.
func rehearsalChecks(g facts.Gathered) []rules.Check {
	var out []rules.Check
	for _, q := range g.Judge().Requirements {
		if q.At != "rehearsal" || q.State == require.NotAsked {
			continue
		}
		for _, name := range q.Checks {
			out = append(out, g.Set.Check(name))
		}
	}
	return out
}

// Renew asks once more for the checks of a live entry whose pass has grown too old.
func (s *Checks) Renew(ctx context.Context, repo *records.Repository, g facts.Gathered) error {
	for _, q := range g.Judge().Requirements {
		if len(q.Rerun) == 0 {
			continue
		}
		commit, why := g.Revision.Head, forHead(g)
		if q.At == "rehearsal" && g.Rehearsal != nil {
			commit, why = g.Rehearsal.Tested, forRehearsal(g, *g.Rehearsal)
		}
		for _, name := range q.Rerun {
			err := s.records.Write(ctx, func(tx *records.Tx) error {
				var run records.CheckRun
				err := tx.Where("repository_id = ? AND commit_id = ? AND name = ?", repo.ID, commit,
					name).Order("attempt DESC").Limit(1).Find(&run).Error
				if err != nil || !change.CheckState(run.State).Final() {
					return err
				}
				_, err = s.nextAttempt(tx, repo, g.Set.Check(name), why.of(run), records.Itself)
				return err
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// AskRehearsal asks for the checks that a change wants on the commit that is tested for it in a rehearsal; fresh: also for
// those that ended otherwise than passed.
func (s *Checks) AskRehearsal(tx *records.Tx, repo *records.Repository, g facts.Gathered, r records.Rehearsal,
	fresh bool) error {
	for _, c := range rehearsalChecks(g) {
		if err := s.ask(tx, repo, c, r.Tested, forRehearsal(g, r), fresh); err != nil {
			return err
		}
	}
	return nil
}

// ofCheck is what every event of an attempt tells.
func ofCheck(r records.CheckRun) event.OfCheck {
	return event.OfCheck{Name: r.Name, Commit: r.CommitID, Attempt: r.Attempt, Number: r.ChangeNumber, Target: r.Target}
}

// CallOff cancels what is still open of the checks of a rehearsal that is of no more use.
func CallOff(tx *records.Tx, repo *records.Repository, parts []records.Rehearsal, why string) error {
	names := make([]string, len(parts))
	for i, r := range parts {
		names[i] = RehearsalName(r)
	}
	return tx.Model(&records.CheckRun{}).Where("repository_id = ? AND commit_id = ? AND asked_for IN ? AND state IN "+
		"('waiting', 'running')",
		repo.ID, parts[0].Tested, names).
		Updates(map[string]any{"state": "cancelled", "finished_at": tx.Now(), "lease_hash": "", "lease_until": nil,
			"summary": why}).Error
}
