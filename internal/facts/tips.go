package facts

import (
	"slices"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/records"
	"tavrin/wire"
)

// RedTips lists the branches whose tip is red: a check that the rules want on it has failed there.
func RedTips(db *gorm.DB, refs *git.RefFiles, repo *records.Repository) ([]wire.RedTip, error) {
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
		tip, err := refs.At("refs/heads/" + r.Target)
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

// redTips adds, to the facts about changes whose rules want to know, the checks that failed on the target's tip.
func redTips(db *gorm.DB, refs *git.RefFiles, repo *records.Repository, all []Gathered) error {
	wants := map[string]bool{}
	for _, g := range all {
		if _, known := wants[g.Change.Target]; !known {
			wants[g.Change.Target] = asksOfTip(g.Set, g.Change.Target)
		}
	}
	if !slices.ContainsFunc(all, func(g Gathered) bool { return wants[g.Change.Target] }) {
		return nil
	}
	red, err := RedTips(db, refs, repo)
	for i := range all {
		for _, r := range red {
			if f := &all[i].Facts; r.Branch == f.Target && wants[f.Target] {
				f.RedTip = append(f.RedTip, change.Check{Name: r.Check, State: change.CheckState(r.State)})
			}
		}
	}
	return err
}

func asksOfTip(set *rules.Set, target string) bool {
	return slices.ContainsFunc(set.For(target).Requirements, func(q require.Sourced) bool { return q.Kind.OfTip })
}
