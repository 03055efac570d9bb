package reading

import (
	"context"
	"slices"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/gate"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/records"
	"tavrin/internal/waivers"
	"tavrin/wire"
)

// Revisions lists a change's revisions, newest first, with the commits of each.
func (s *Reader) Revisions(ctx context.Context, a accounts.Actor, name string, number int) ([]wire.Revision, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := facts.ChangeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return nil, err
	}
	var rows []records.Revision
	if err := db.Where("change_id = ?", c.ID).Order("number DESC").Limit(100).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []wire.Revision{}
	for _, r := range rows {
		log, err := s.disk.Bare(repo).Log(ctx, r.Head, []string{r.Base}, 0, 100)
		if err != nil {
			return nil, err
		}
		commits, err := s.CommitViews(db, repo, log, c.Target)
		if err != nil {
			return nil, err
		}
		known, err := facts.GateCommits(db, repo.ID, r.Commits)
		if err != nil {
			return nil, err
		}
		for i := range commits {
			for _, k := range known {
				if k.ID == commits[i].ID {
					commits[i].Signature, commits[i].SignedBy = k.Signature.State.Words(), k.Signature.By
				}
			}
		}
		out = append(out, wire.Revision{Number: r.Number, Head: r.Head, Base: r.Base, PushedBy: r.PushedBy, SameDifference: r.SameAsLast, Kind: string(r.Kind),
			Files: r.Files, Added: r.Added, Removed: r.Removed, Commits: commits, CreatedAt: r.CreatedAt})
	}
	return out, nil
}

// CommitViews describes commits as a branch has them.
func (s *Reader) CommitViews(db *gorm.DB, repo *records.Repository, log []git.Commit, branch string) ([]wire.Commit, error) {
	ids := make([]string, len(log))
	for i, c := range log {
		ids[i] = c.ID
	}
	states, err := facts.CheckStates(db, repo.ID, ids)
	if err != nil {
		return nil, err
	}
	landed, err := s.facts.LandingsOf(db, repo, ids, branch)
	if err != nil {
		return nil, err
	}
	overrides, err := waivers.OverrideViews(db.Where("overrides.repository_id = ? AND used_as IN ?", repo.ID, ids))
	if err != nil {
		return nil, err
	}
	commits := []wire.Commit{}
	for _, c := range log {
		v := wire.Commit{ID: c.ID, Subject: c.Subject, Body: c.Body, Author: c.Author.Name, AuthoredAt: c.Author.When, Parents: c.Parents, Checks: states[c.ID]}
		if l, ok := landed[c.ID]; ok {
			v.Change, v.Landed = l.Number, &l
		}
		if i := slices.IndexFunc(overrides, func(o wire.Override) bool { return o.UsedAs == c.ID }); i >= 0 {
			v.Override = &overrides[i]
		}
		commits = append(commits, v)
	}
	return commits, nil
}
