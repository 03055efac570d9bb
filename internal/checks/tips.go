package checks

import (
	"gorm.io/gorm"

	"tavrin/internal/core/event"
	"tavrin/internal/core/journal"
	"tavrin/internal/facts"
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
		if e.Tip != "" {
			return nil // another landed with it, on top of it
		}
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
	return facts.RedTips(db, s.disk.Bare(repo).RefFiles(), repo)
}
