package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"tavrin/internal/core/gate"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

// saveLanded records which commits a landing brought.
func saveLanded(db *gorm.DB, l store.Landing, commits []string) error {
	rows := make([]store.LandedCommit, len(commits))
	for i, id := range commits {
		rows[i] = store.LandedCommit{RepositoryID: l.RepositoryID, CommitID: id, LandingID: l.ID}
	}
	if len(rows) == 0 {
		return nil
	}
	return db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(rows, 500).Error
}

// saveSources records the commits of a landed revision as they were before they landed: where another change brings them
// too, they are not replayed.
func saveSources(db *gorm.DB, l store.Landing, r store.Revision) error {
	rows := make([]store.LandedSource, len(r.Commits))
	for i, c := range r.Commits {
		rows[i] = store.LandedSource{RepositoryID: l.RepositoryID, CommitID: c.ID, LandingID: l.ID}
	}
	if len(rows) == 0 {
		return nil
	}
	return db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(rows, 500).Error
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

// landingsOf finds the landings that brought commits, by commit: the one that brought it to the named branch, else the
// first that brought it anywhere.
func (s *Service) landingsOf(db *gorm.DB, repo *store.Repository, commits []string, branch string) (map[string]wire.LandedAs, error) {
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
		v := wire.LandedAs{Number: r.Number, Title: r.Title, Target: r.Target, Strategy: r.Strategy, LandedBy: r.LandedBy, Top: r.New == r.CommitID}
		if v.Approvers, v.Authors, err = s.peopleOfLanding(db, repo, r.Intent); err != nil {
			return nil, err
		}
		out[r.CommitID] = v
	}
	return out, nil
}

// peopleOfLanding says whose approvals counted for a landing, and who its authors were.
func (s *Service) peopleOfLanding(db *gorm.DB, repo *store.Repository, id int64) (approvers, authors []string, err error) {
	type people struct{ approvers, authors []string }
	p, err := remembered(s, key{"landing", repo.ID, fmt.Sprint(id)}, light, func() (people, error) {
		var intent store.Intent
		if err := db.First(&intent, id).Error; err != nil {
			return people{}, err
		}
		report, err := s.judgedThen(db, repo, &intent)
		if err != nil {
			return people{}, err
		}
		var facts gate.Facts
		err = json.Unmarshal([]byte(intent.Facts), &facts)
		return people{report.Approvers, facts.Authors}, err
	})
	return p.approvers, p.authors, err
}

// Lines says of each line of a file which commit it comes from, and which change brought that.
func (s *Service) Lines(ctx context.Context, a Actor, name, at, path string) (wire.LineOrigins, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return wire.LineOrigins{}, err
	}
	if err := treePath(path); err != nil {
		return wire.LineOrigins{}, err
	}
	commit, err := s.commitAt(ctx, repo, at)
	if err != nil {
		return wire.LineOrigins{}, err
	}
	v := wire.LineOrigins{Commit: commit, Path: strings.Trim(path, "/"), Origins: []wire.LineOrigin{}}
	_, more, err := s.bare(repo).File(ctx, commit, v.Path, MaxFileBytes)
	switch {
	case errors.Is(err, git.ErrNotFound):
		return v, problem(Unknown, "%s has no file %q at %.10s", name, path, commit)
	case err != nil:
		return v, err
	case more:
		return v, problem(Conflict, "%s is too large to follow each line of it", path)
	}
	blocks, err := remembered(s, key{"lines", repo.ID, commit + v.Path}, byLength, func() ([]git.LineBlock, error) { return s.bare(repo).Blame(ctx, commit, v.Path) })
	if err != nil {
		return v, err
	}
	var ids []string
	for _, b := range blocks {
		ids = append(ids, b.Commit)
	}
	branch := at
	if at == "" {
		branch = repo.DefaultBranch
	}
	landed, err := s.landingsOf(db, repo, slices.Compact(slices.Sorted(slices.Values(ids))), branch)
	for _, b := range blocks {
		o := wire.LineOrigin{First: b.First, Last: b.Last, Commit: b.Commit, Subject: shown(b.Subject), Author: shown(b.Author), AuthoredAt: b.When}
		if l, ok := landed[b.Commit]; ok {
			o.Landed = &l
		}
		v.Origins = append(v.Origins, o)
	}
	return v, err
}
