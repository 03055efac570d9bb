package facts

import (
	"fmt"
	"slices"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/require"
	"tavrin/internal/git"
	"tavrin/internal/git/rehearsal"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

// WantsOf refuses a check robot's token the content of a commit that none of the checks it names was ever asked for on.
func WantsOf(db *gorm.DB, a accounts.Actor, repo *records.Repository, commit string) error {
	if a.Scope() != accounts.ScopeChecks {
		return nil
	}
	var asked int64
	err := db.Model(&records.CheckRun{}).Where("repository_id = ? AND commit_id = ? AND asked_for <> '' AND name IN "+
		"(SELECT check_name FROM token_bindings WHERE token_id = ? AND repository_id = ?)",
		repo.ID, commit, a.Token(), repo.ID).Count(&asked).Error
	if err == nil && asked == 0 {
		err = problem.New(problem.Forbidden, "this token is for reporting checks: it reads the commits that its checks are "+
			"wanted on, and %.10s is none", commit)
	}
	return err
}

// ShownBy is what a revision shows.
func ShownBy(r records.Revision) rehearsal.Shown { return rehearsal.Shown{Base: r.Base, Head: r.Head} }

// Kept makes of a log what is kept of each commit with a revision.
func Kept(log []git.Commit) []records.BroughtCommit {
	out := make([]records.BroughtCommit, len(log))
	for i, c := range log {
		message := c.Subject
		if c.Body != "" {
			message += "\n\n" + c.Body
		}
		signature, signed := c.Signature()
		out[i] = records.BroughtCommit{ID: c.ID, Message: message, Parents: len(c.Parents), Email: c.Author.Email, Signed: signed,
			Key: signature.Key, BadSignature: signature.Bad, Reserved: c.Reserved()}
	}
	return out
}

// StandingReviews returns each person's newest approval or objection, unless that one is withdrawn.
func StandingReviews(db *gorm.DB, c records.Change) ([]records.Review, error) {
	all, err := standingReviews(db, []int64{c.ID})
	return all[c.ID], err
}

// standingReviews returns those of many changes, by change.
func standingReviews(db *gorm.DB, changes []int64) (map[int64][]records.Review, error) {
	var rows []records.Review
	err := db.Where("change_id IN ? AND verdict <> 'comment'", changes).Order("id").Find(&rows).Error
	type word struct {
		change int64
		login  string
	}
	newest := map[word]int64{}
	for _, r := range rows {
		newest[word{r.ChangeID, r.Login}] = r.ID
	}
	out := map[int64][]records.Review{}
	for _, r := range rows {
		if newest[word{r.ChangeID, r.Login}] == r.ID && r.WithdrawnAt == nil {
			out[r.ChangeID] = append(out[r.ChangeID], r)
		}
	}
	return out, err
}

// NewestRuns returns the newest attempt of each check on each of the commits, by commit and name.
func NewestRuns(db *gorm.DB, repo int64, commits ...string) ([]records.CheckRun, error) {
	var rows []records.CheckRun
	err := db.Where("repository_id = ? AND commit_id IN ?", repo,
		commits).Order("commit_id, name, attempt DESC").Find(&rows).Error
	return slices.CompactFunc(rows, func(a, b records.CheckRun) bool {
		return a.CommitID == b.CommitID &&
			a.Name == b.Name
	}), err
}

// gateChecks gives the gate the newest attempts of the checks on commits, by commit.
func gateChecks(db *gorm.DB, repo int64, commits []string) (map[string][]change.Check, error) {
	out := map[string][]change.Check{}
	for chunk := range slices.Chunk(commits, 500) {
		rows, err := NewestRuns(db, repo, chunk...)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.CommitID] = append(out[r.CommitID], gateCheck(r))
		}
	}
	return out, nil
}

// gateCheck gives the gate an attempt of a check.
func gateCheck(r records.CheckRun) change.Check {
	c := change.Check{Name: r.Name, State: change.CheckState(r.State), Attempt: r.Attempt, By: r.ReportedBy,
		Runner: r.Runner, Summary: r.Summary, RanOn: r.RanOn}
	if r.FinishedAt != nil {
		c.At = r.FinishedAt.UTC()
	}
	return c
}

// KeepTree records the tree of a commit on which checks are asked for.
func KeepTree(tx *gorm.DB, repo int64, commit, tree string) error {
	return tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&records.CommitTree{RepositoryID: repo, CommitID: commit, Tree: tree}).Error
}

// PassesOfSameTree returns the newest passes of a check on other commits that have the tree of the given one, those of whom
// nobody knows the tree left out.
func PassesOfSameTree(db *gorm.DB, repo int64, check, commit string) ([]records.CheckRun, error) {
	const most = 5 // of which one is to count
	var rows []records.CheckRun
	err := db.Raw("SELECT r.* FROM commit_trees this JOIN commit_trees other ON other.repository_id = this.repository_id "+
		"AND other.tree = this.tree AND other.commit_id <> this.commit_id "+
		"JOIN check_runs r ON r.repository_id = other.repository_id AND r.commit_id = other.commit_id AND r.name = ? "+
		"WHERE this.repository_id = ? AND this.commit_id = ? AND r.state = 'passed' AND r.ran_on = '' "+
		"AND NOT EXISTS (SELECT 1 FROM check_runs later WHERE later.repository_id = r.repository_id AND "+
		"later.commit_id = r.commit_id AND later.name = r.name AND later.attempt > r.attempt) "+
		"ORDER BY r.finished_at DESC LIMIT ?", check, repo, commit, most).Scan(&rows).Error
	return rows, err
}

// Counts says whether an answer would count for everything that asks for the check at a place. The gate itself is asked, with
// it and without it.
func (g Gathered) Counts(at require.Place, r records.CheckRun) bool {
	before := g.Judge()
	g.report = nil
	switch {
	case at == require.AtHead:
		g.Facts.HeadChecks = answered(g.Facts.HeadChecks, gateCheck(r))
	case g.Facts.Rehearsal == nil:
		return false
	default:
		on := *g.Facts.Rehearsal
		on.Checks = answered(on.Checks, gateCheck(r))
		g.Facts.Rehearsal = &on
	}
	with, asked := g.Judge(), false
	for i, q := range before.Requirements {
		if (q.At == string(require.AtRehearsal)) != (at == require.AtRehearsal) || !slices.Contains(q.Checks, r.Name) || q.State == require.NotAsked {
			continue
		}
		if asked = true; i >= len(with.Requirements) || with.Requirements[i].Key != q.Key || with.Requirements[i].Have != q.Have+1 {
			return false
		}
	}
	return asked
}

// answered is checks with another answer, in the place of the one before it.
func answered(all []change.Check, c change.Check) []change.Check {
	all = slices.DeleteFunc(slices.Clone(all), func(x change.Check) bool { return x.Name == c.Name })
	return append(all, c)
}

// CheckStates combines the newest attempts on each of the commits into one state: the worst of them.
func CheckStates(db *gorm.DB, repo int64, commits []string) (map[string]string, error) {
	states := map[string]string{}
	for chunk := range slices.Chunk(commits, 500) {
		rows, err := NewestRuns(db, repo, chunk...)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			states[r.CommitID] = string(change.Worse(change.CheckState(states[r.CommitID]), change.CheckState(r.State)))
		}
	}
	return states, nil
}

// GateCommits are the commits of a revision, or of a push, as the gate knows them: each signature with whose key it is
// by our own table, at this moment.
func GateCommits(db *gorm.DB, repo int64, rows []records.BroughtCommit) ([]change.Commit, error) {
	signers, err := signersOf(db, repo, rows)
	return signers.commits(rows), err
}

// signers is whose keys signed commits, and which of those that carry a reserved trailer are known to have landed.
type signers struct {
	owners map[string]string   // by fingerprint
	landed map[string]bool     // by commit
	on     map[string][]string // branches that commits have landed on, of those that others were picked from or are
}

func signersOf(db *gorm.DB, repo int64, rows []records.BroughtCommit) (signers, error) {
	s := signers{owners: map[string]string{}}
	var keys, claims, picked []string
	for _, r := range rows {
		if from := change.PickedFrom(r.Message); from != "" {
			picked = append(picked, from)
		}
		if r.Key != "" {
			keys = append(keys, r.Key)
		}
		if r.Reserved != "" {
			claims = append(claims, r.ID)
		}
	}
	for chunk := range slices.Chunk(keys, 500) {
		var found []struct{ Fingerprint, Login string }
		err := db.Raw("SELECT k.fingerprint, a.login FROM account_keys k JOIN accounts a ON a.id = k.account_id "+
			"WHERE k.removed_at IS NULL AND k.fingerprint IN ?", chunk).Scan(&found).Error
		if err != nil {
			return s, err
		}
		for _, f := range found {
			s.owners[f.Fingerprint] = f.Login
		}
	}
	var err error
	if s.landed, err = LandedAmong(db, repo, claims); err != nil {
		return s, err
	}
	s.on, err = landedOn(db, repo, picked)
	return s, err
}

// landedOn lists the branches that commits have landed on, as the records know it.
func landedOn(db *gorm.DB, repo int64, commits []string) (map[string][]string, error) {
	out := map[string][]string{}
	for chunk := range slices.Chunk(commits, 500) {
		var found []struct{ CommitID, Target string }
		err := db.Raw("SELECT k.commit_id, c.target FROM landed_commits k JOIN landings l ON l.id = k.landing_id "+
			"JOIN changes c ON c.id = l.change_id WHERE k.repository_id = ? AND k.commit_id IN ?", repo, chunk).Scan(&found).Error
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			out[f.CommitID] = append(out[f.CommitID], f.Target)
		}
	}
	return out, nil
}

// commits gives the gate the commits of one revision.
func (s signers) commits(rows []records.BroughtCommit) []change.Commit {
	out := make([]change.Commit, len(rows))
	for i, r := range rows {
		out[i] = change.Commit{ID: r.ID, Message: r.Message, Parents: r.Parents, Email: r.Email,
			PickedFrom: change.PickedFrom(r.Message), On: slices.Clone(r.On), Reserved: r.Reserved,
			Landed: s.landed[r.ID]}
		if from := out[i].PickedFrom; from != "" {
			out[i].On = append(out[i].On, s.on[from]...)
		}
		switch {
		case r.BadSignature != "":
			out[i].Signature.State = change.BadlyMade
		case r.Key != "" && s.owners[r.Key] != "":
			out[i].Signature = change.Signature{State: change.Good, By: s.owners[r.Key]}
		case r.Key != "":
			out[i].Signature.State = change.UnknownKey
		case r.Signed:
			out[i].Signature.State = change.Unread
		}
	}
	return out
}

// LandedAmong says which of the commits the records know as landed.
func LandedAmong(db *gorm.DB, repo int64, commits []string) (map[string]bool, error) {
	landed := map[string]bool{}
	for chunk := range slices.Chunk(commits, 500) {
		var some []string
		if err := db.Model(&records.LandedCommit{}).Where("repository_id = ? AND commit_id IN ?", repo,
			chunk).Pluck("commit_id", &some).Error; err != nil {
			return nil, err
		}
		for _, id := range some {
			landed[id] = true
		}
	}
	return landed, nil
}

// Where puts into words what a thread is about.
func Where(t records.Thread) string {
	text := event.TheChange
	if t.CommitID != "" {
		text = fmt.Sprintf("commit %.10s", t.CommitID)
	}
	if t.Path != "" {
		text = t.Path
	}
	switch {
	case t.FirstLine > 0 && t.LastLine > t.FirstLine:
		text += fmt.Sprintf(", lines %d to %d", t.FirstLine, t.LastLine)
	case t.FirstLine > 0:
		text += fmt.Sprintf(", line %d", t.FirstLine)
	}
	if t.Before {
		text += " before the change"
	}
	return text
}
