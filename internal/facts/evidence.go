package facts

import (
	"fmt"
	"slices"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/gate"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

// WantsOf refuses a witness's token the content of a commit that none of the checks it names was ever asked for on.
func WantsOf(db *gorm.DB, a accounts.Actor, repo *records.Repository, commit string) error {
	if a.Scope() != accounts.ScopeWitness {
		return nil
	}
	var asked int64
	err := db.Model(&records.CheckRun{}).Where("repository_id = ? AND commit_id = ? AND asked_for <> '' AND name IN (SELECT check_name FROM token_bindings WHERE token_id = ? AND repository_id = ?)",
		repo.ID, commit, a.Token(), repo.ID).Count(&asked).Error
	if err == nil && asked == 0 {
		err = problem.New(problem.Forbidden, "this is a witness's token: it reads the commits that its checks are wanted on, and %.10s is none", commit)
	}
	return err
}

// ShownBy is what a revision shows.
func ShownBy(r records.Revision) git.Shown { return git.Shown{Base: r.Base, Head: r.Head} }

// Kept makes of a log what is kept of each commit with a revision.
func Kept(log []git.Commit) []records.BroughtCommit {
	out := make([]records.BroughtCommit, len(log))
	for i, c := range log {
		message := c.Subject
		if c.Body != "" {
			message += "\n\n" + c.Body
		}
		signature, signed := c.Signature()
		out[i] = records.BroughtCommit{ID: c.ID, Message: message, Parents: len(c.Parents), Signed: signed, Key: signature.Key, BadSignature: signature.Bad, Reserved: c.Reserved()}
	}
	return out
}

// StandingReviews returns each person's newest approval or objection, unless that one is withdrawn.
func StandingReviews(db *gorm.DB, c records.Change) ([]records.Review, error) {
	var rows []records.Review
	err := db.Where("change_id = ? AND verdict <> 'comment'", c.ID).Order("id").Find(&rows).Error
	newest := map[string]records.Review{}
	for _, r := range rows {
		newest[r.Login] = r
	}
	var out []records.Review
	for _, r := range newest {
		if r.WithdrawnAt == nil {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b records.Review) int { return int(a.ID - b.ID) })
	return out, err
}

// NewestRuns returns the newest attempt of each check on each of the commits, by commit and name.
func NewestRuns(db *gorm.DB, repo int64, commits ...string) ([]records.CheckRun, error) {
	var rows []records.CheckRun
	err := db.Where("repository_id = ? AND commit_id IN ?", repo, commits).Order("commit_id, name, attempt DESC").Find(&rows).Error
	return slices.CompactFunc(rows, func(a, b records.CheckRun) bool { return a.CommitID == b.CommitID && a.Name == b.Name }), err
}

// gateChecks gives the gate the newest attempts of the checks on a commit.
func gateChecks(db *gorm.DB, repo int64, commit string) ([]gate.Check, error) {
	rows, err := NewestRuns(db, repo, commit)
	checks := []gate.Check{}
	for _, r := range rows {
		c := gate.Check{Name: r.Name, State: gate.CheckState(r.State), Attempt: r.Attempt, By: r.ReportedBy, Runner: r.Runner, Summary: r.Summary}
		if r.FinishedAt != nil {
			c.At = r.FinishedAt.UTC()
		}
		checks = append(checks, c)
	}
	return checks, err
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
			states[r.CommitID] = string(gate.Worse(gate.CheckState(states[r.CommitID]), gate.CheckState(r.State)))
		}
	}
	return states, nil
}

// GateCommits are the commits of a revision, or of a push, as the gate knows them: each signature with whose key it is by
// our own table, at this moment.
func GateCommits(db *gorm.DB, repo int64, rows []records.BroughtCommit) ([]gate.Commit, error) {
	var keys []string
	for _, r := range rows {
		if r.Key != "" {
			keys = append(keys, r.Key)
		}
	}
	owners := map[string]string{}
	if len(keys) > 0 {
		var found []struct{ Fingerprint, Login string }
		err := db.Raw("SELECT k.fingerprint, a.login FROM account_keys k JOIN accounts a ON a.id = k.account_id WHERE k.removed_at IS NULL AND k.fingerprint IN ?", keys).Scan(&found).Error
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			owners[f.Fingerprint] = f.Login
		}
	}
	var claims []string
	for _, r := range rows {
		if r.Reserved != "" {
			claims = append(claims, r.ID)
		}
	}
	landed, err := LandedAmong(db, repo, claims)
	if err != nil {
		return nil, err
	}
	out := make([]gate.Commit, len(rows))
	for i, r := range rows {
		out[i] = gate.Commit{ID: r.ID, Message: r.Message, Parents: r.Parents, Reserved: r.Reserved, Landed: landed[r.ID]}
		switch {
		case r.BadSignature != "":
			out[i].Signature.State = gate.BadlyMade
		case r.Key != "" && owners[r.Key] != "":
			out[i].Signature = gate.Signature{State: gate.Good, By: owners[r.Key]}
		case r.Key != "":
			out[i].Signature.State = gate.UnknownKey
		case r.Signed:
			out[i].Signature.State = gate.Unread
		}
	}
	return out, nil
}

// LandedAmong says which of the commits the records know as landed.
func LandedAmong(db *gorm.DB, repo int64, commits []string) (map[string]bool, error) {
	landed := map[string]bool{}
	for chunk := range slices.Chunk(commits, 500) {
		var some []string
		if err := db.Model(&records.LandedCommit{}).Where("repository_id = ? AND commit_id IN ?", repo, chunk).Pluck("commit_id", &some).Error; err != nil {
			return nil, err
		}
		for _, id := range some {
			landed[id] = true
		}
	}
	return landed, nil
}

// dependencies gives the gate the changes that a change waits for.
func dependencies(db *gorm.DB, c records.Change) ([]gate.Dependency, error) {
	var out []gate.Dependency
	err := db.Raw("SELECT c.number, c.title, c.state, c.target FROM change_dependencies d JOIN changes c ON c.id = d.on_id WHERE d.change_id = ? ORDER BY c.number", c.ID).Scan(&out).Error
	return out, err
}

// liveOverrides gives the gate the overrides of a change that were neither used nor have ended.
func liveOverrides(db *gorm.DB, c records.Change) ([]gate.Override, error) {
	var rows []records.Override
	err := db.Where("change_id = ? AND ref = ? AND used_at IS NULL AND ended_at IS NULL", c.ID, "refs/heads/"+c.Target).Order("id").Find(&rows).Error
	var out []gate.Override
	for _, r := range rows {
		o := gate.Override{ID: r.ID, By: r.MadeBy, Because: r.Because, Revision: r.Revision, Tip: r.Tip, Until: r.Until}
		for _, x := range r.Aside {
			o.Requirements = append(o.Requirements, gate.Named(x))
		}
		out = append(out, o)
	}
	return out, err
}

// gateReviews gives the gate the standing reviews, each with whether the difference is still the one reviewed: as the newest
// revision was compared with the reviewed one and, where there is a rehearsal, as both were brought to its base.
func gateReviews(db *gorm.DB, c records.Change, newest records.Revision, rehearsal *records.Rehearsal) ([]gate.Review, error) {
	standing, err := StandingReviews(db, c)
	if err != nil {
		return nil, err
	}
	if len(standing) == 0 {
		return []gate.Review{}, nil
	}
	var disabled []string
	if err := db.Model(&records.Account{}).Where("disabled AND login IN (SELECT login FROM reviews WHERE change_id = ?)", c.ID).Pluck("login", &disabled).Error; err != nil {
		return nil, err
	}
	out := []gate.Review{}
	for _, r := range standing {
		review := gate.Review{By: r.Login, Verdict: gate.Verdict(r.Verdict), Revision: r.Revision, Title: r.Title, Description: r.Description, Teams: r.Teams, Disabled: slices.Contains(disabled, r.Login),
			SameDifference: r.Revision == newest.Number || slices.Contains(newest.SameAs, r.Revision)}
		if rehearsal != nil && review.Verdict == gate.Approve && r.Revision != newest.Number { // an objection is not lost by this
			review.SameDifference = review.SameDifference && slices.Contains(rehearsal.SameAs, r.Revision)
		}
		if review.SameDifference && r.Revision != newest.Number && len(newest.History.Hidden) > 0 {
			var then records.Revision
			if err := db.Where("change_id = ? AND number = ?", c.ID, r.Revision).First(&then).Error; err != nil {
				return nil, err
			}
			for _, path := range newest.History.Hidden {
				if !slices.Contains(then.History.Hidden, path) && !slices.Contains(then.Paths, path) {
					review.Hidden = append(review.Hidden, path)
				}
			}
		}
		out = append(out, review)
	}
	return out, nil
}

// Where puts into words what a thread is about.
func Where(t records.Thread) string {
	text := "the change"
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

// gateThreads gives the gate the discussions that need an answer.
func gateThreads(db *gorm.DB, c records.Change) ([]gate.Thread, error) {
	var rows []records.Thread
	err := db.Where("change_id = ? AND needs_answer", c.ID).Order("id").Find(&rows).Error
	var out []gate.Thread
	for _, t := range rows {
		out = append(out, gate.Thread{ID: t.ID, By: t.BegunBy, Where: Where(t), SettledBy: t.SettledBy})
	}
	return out, err
}
