package reading

import (
	"context"
	"slices"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/waivers"
	"tavrin/wire"
)

// Revisions lists a change's revisions, newest first, with the commits of each.
func (s *Reader) Revisions(ctx context.Context, a accounts.Actor, name string, number int) ([]wire.Revision, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return nil, err
	}
	var rows []records.Revision
	if err := db.Where("change_id = ?", c.ID).Order("number DESC").Limit(100).Find(&rows).Error; err != nil {
		return nil, err
	}
	logs := make([][]git.Commit, len(rows))
	var all []git.Commit
	var brought []records.BroughtCommit
	for i, r := range rows {
		k := recall.Key{What: "log", Repo: repo.ID, Of: r.Base + r.Head}
		logs[i], err = recall.Of(s.memory, k, recall.ByLength, func() ([]git.Commit, error) {
			return s.disk.Bare(repo).Log(ctx, r.Head, []string{r.Base}, 0, 100)
		})
		if err != nil {
			return nil, err
		}
		all, brought = append(all, logs[i]...), append(brought, r.Commits...)
	}
	views, err := s.CommitViews(db, repo, all, c.Target)
	if err != nil {
		return nil, err
	}
	known, err := facts.GateCommits(db, repo.ID, brought)
	if err != nil {
		return nil, err
	}
	signed := map[string]change.Signature{}
	for _, k := range known {
		signed[k.ID] = k.Signature
	}
	out := []wire.Revision{}
	for i, r := range rows {
		commits := views[:len(logs[i]):len(logs[i])]
		views = views[len(logs[i]):]
		for n := range commits {
			if by, ok := signed[commits[n].ID]; ok {
				commits[n].Signature, commits[n].SignedBy = by.State.Words(), by.By
			}
		}
		out = append(out, wire.Revision{
			Number: r.Number, Head: r.Head, Base: r.Base, PushedBy: r.PushedBy, SameDifference: r.SameAsLast, Kind: string(r.Kind),
			Files: r.Files, Added: r.Added, Removed: r.Removed, Commits: commits, CreatedAt: r.CreatedAt,
		})
	}
	return out, nil
}

// CommitViews describes commits as a branch has them.
func (s *Reader) CommitViews(db *gorm.DB, repo *records.Repository, log []git.Commit,
	branch string) ([]wire.Commit, error) {
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
	waivers, err := waivers.WaiverViews(db.Where("waivers.repository_id = ? AND used_as IN ?", repo.ID, ids))
	if err != nil {
		return nil, err
	}
	commits := []wire.Commit{}
	for _, c := range log {
		v := wire.Commit{ID: c.ID, Subject: c.Subject, Body: c.Body, Author: c.Author.Name, AuthoredAt: c.Author.When,
			Parents: c.Parents, Checks: states[c.ID]}
		if l, ok := landed[c.ID]; ok {
			v.Change, v.Landed = l.Number, &l
		}
		if i := slices.IndexFunc(waivers, func(o wire.Waiver) bool { return o.UsedAs == c.ID }); i >= 0 {
			v.Waiver = &waivers[i]
		}
		commits = append(commits, v)
	}
	return commits, nil
}
