package checks

import (
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/journal"
	"tavrin/internal/records"
	"tavrin/wire"
)

// moved asks, in the transaction in which a branch came to another commit, for what the rules want on its new tip.
func (s *Checks) moved(tx *records.Tx, repo *records.Repository, _ journal.Line, e event.Event) error {
	branch, tip := "", ""
	switch e := e.(type) {
	case event.BranchCreated:
		branch, tip = e.Branches()[0], e.New
	case event.BranchMoved:
		branch, tip = e.Branches()[0], e.New
	case event.ChangeLanded:
		branch, tip = e.Target, e.New
	default:
		return nil
	}
	force, err := s.rulebook.RulesOf(tx.DB, repo)
	if err != nil {
		return err
	}
	for _, c := range force.Set.Checks() {
		if len(c.OnTip) == 0 || !c.Tips.Match(branch) {
			continue
		}
		if err := s.ask(tx, repo, c, tip, purpose{name: "branch/" + branch, target: branch}, false); err != nil {
			return err
		}
	}
	return nil
}

// RedTips lists the branches whose tip is red: a check that the rules want on it has failed there.
func (s *Checks) RedTips(db *gorm.DB, repo *records.Repository) ([]wire.RedTip, error) {
	var rows []struct {
		Name, Target, CommitID, State, Summary, Link string
		FinishedAt                                   *time.Time
		CreatedAt                                    time.Time
	}
	// The newest attempt of each check on each branch: beside max(), SQLite takes the other columns from the row that has it.
	err := db.Raw("SELECT max(id), name, target, commit_id, state, summary, link, finished_at, created_at FROM check_runs "+
		"WHERE repository_id = ? AND change_number = 0 AND target <> '' GROUP BY target, name", repo.ID).Scan(&rows).Error
	out := []wire.RedTip{}
	for _, r := range rows {
		if state := change.CheckState(r.State); state != change.Failed && state != change.Errored {
			continue
		}
		tip, err := s.disk.Bare(repo).At("refs/heads/" + r.Target)
		if err != nil || tip != r.CommitID { // it is no tip any more, or the branch is gone
			continue
		}
		red := wire.RedTip{Branch: r.Target, Commit: r.CommitID, Check: r.Name, State: r.State, Summary: r.Summary, Link: r.Link, Since: r.CreatedAt}
		if r.FinishedAt != nil {
			red.Since = *r.FinishedAt
		}
		out = append(out, red)
	}
	return out, err
}
