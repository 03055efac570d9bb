package facts

import (
	"context"
	"fmt"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/people"
	"tavrin/internal/core/statement"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/signing"
	"tavrin/wire"
)

// Landing returns how a change landed, with its statement.
func (s *Gatherer) Landing(ctx context.Context, a accounts.Actor, name string, number int) (wire.Landing, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return wire.Landing{}, err
	}
	return s.landingView(db, repo, c)
}

func (s *Gatherer) landingView(db *gorm.DB, repo *records.Repository, c records.Change) (wire.Landing, error) {
	var l records.Landing
	if err := db.Where("change_id = ?", c.ID).First(&l).Error; err != nil {
		return wire.Landing{}, records.OrUnknown(err, "change %d has not landed", c.Number)
	}
	signed, err := SignedFor(l)
	return wire.Landing{Number: c.Number, Target: c.Target, Old: l.Old, New: l.New, Strategy: l.Strategy,
		Revision: l.Revision, RulesVersion: l.RulesVersion, HouseVersion: l.HouseVersion,
		LandedBy: l.LandedBy, LandedAt: l.LandedAt, Report: signed.Report.Gate(), Statement: l.Statement}, err
}

// SignedFor reads the statement that was signed of a landing.
func SignedFor(l records.Landing) (statement.Landing, error) {
	payload, err := signing.Payload(l.Statement)
	if err != nil {
		return statement.Landing{}, fmt.Errorf("landing %d: %w", l.ID, err)
	}
	s, err := statement.Read(payload)
	if err != nil {
		return statement.Landing{}, fmt.Errorf("landing %d: %w", l.ID, err)
	}
	return s.Predicate, nil
}

// landingOf is what is told of the landing that brought a commit.
type landingOf struct {
	CommitID string
	New      string
	Number   int
	Title    string
	Target   string
	Strategy string
	LandedBy string
	Intent   int64
}

// LandingsOf finds the landings that brought commits, by commit: the one that brought it to the named branch, else the
// first that brought it anywhere.
func (s *Gatherer) LandingsOf(db *gorm.DB, repo *records.Repository, commits []string,
	branch string) (map[string]wire.LandedAs, error) {
	var rows []landingOf
	err := db.Raw(`SELECT k.commit_id, l.new, c.number, c.title, c.target, l.strategy, l.landed_by, l.intent_id AS intent
FROM landed_commits k JOIN landings l ON l.id = k.landing_id JOIN changes c ON c.id = l.change_id WHERE k.repository_id = ? AND k.commit_id IN ? ORDER BY l.id`, repo.ID, commits).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	out := map[string]wire.LandedAs{}
	for _, r := range rows {
		if had, ok := out[r.CommitID]; ok && (had.Target == branch || r.Target != branch) {
			continue
		}
		v := wire.LandedAs{Number: r.Number, Title: r.Title, Target: r.Target, Strategy: r.Strategy,
			LandedBy: r.LandedBy, Top: r.New == r.CommitID}
		if v.Approvers, v.Authors, err = s.peopleOfLanding(db, repo, r.Intent); err != nil {
			return nil, err
		}
		out[r.CommitID] = v
	}
	return out, nil
}

// peopleOfLanding says whose approvals counted for a landing, and who its authors were.
func (s *Gatherer) peopleOfLanding(db *gorm.DB, repo *records.Repository,
	id int64) (approvers, authors []string, err error) {
	type people struct{ approvers, authors []string }
	p, err := recall.Of(s.memory, recall.Key{What: "landing", Repo: repo.ID, Of: fmt.Sprint(id)}, recall.Light,
		func() (people, error) {
			var l records.Landing
			if err := db.Where("intent_id = ?", id).First(&l).Error; err != nil {
				return people{}, err
			}
			signed, err := SignedFor(l)
			if err != nil {
				return people{}, err
			}
			facts, err := statement.ReadFacts(signed.Facts)
			return people{signed.Report.Approvers, facts.Authors}, err
		})
	return p.approvers, p.authors, err
}
