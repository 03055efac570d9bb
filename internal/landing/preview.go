package landing

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/changes"
	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git/rehearsal"
	"tavrin/internal/records"
	"tavrin/wire"
)

// Preview says what a change would meet that is not opened yet: its gate, the areas it would touch and whose approval
// would be enough, who would be asked, and whether it merges. Nothing is recorded.
func (s *Conductor) Preview(ctx context.Context, a accounts.Actor, name string,
	n wire.NewChange) (wire.Preview, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return wire.Preview{}, err
	}
	if n.Target == "" {
		n.Target = repo.DefaultBranch
	}
	head, tip, err := s.changes.PreviewEnds(ctx, repo, n)
	if err != nil {
		return wire.Preview{}, err
	}
	description, err := s.changes.FirstDescription(db, repo, n)
	if err != nil {
		return wire.Preview{}, err
	}
	c := records.Change{RepositoryID: repo.ID, Title: n.Title, Description: description, Source: n.Source,
		Target: n.Target, State: "open", OpenedBy: a.Login()}
	p, err := s.changes.RevisionOf(ctx, db, repo, c, nil, head, a.Login())
	if err != nil {
		return wire.Preview{}, err
	}
	authors, err := changes.Contributors(db, repo, p)
	if err != nil {
		return wire.Preview{}, err
	}
	wrote, err := changes.CommitAuthors(db, repo, p.Brought)
	if err != nil {
		return wire.Preview{}, err
	}
	p.Row.Authors = slices.Compact(slices.Sorted(slices.Values(append(p.Row.Authors, authors...))))
	p.Row.CommitAuthors = slices.Compact(slices.Sorted(slices.Values(wrote)))
	c.Revision = p.Row.Number
	g, err := s.facts.GatherRevision(db, repo, c, p.Row)
	if err != nil {
		return wire.Preview{}, err
	}
	v := wire.Preview{Source: n.Source, Description: description, Target: n.Target, Head: head, Base: p.Row.Base,
		Commits: len(p.Brought), Files: p.Row.Files, Added: p.Row.Added, Removed: p.Row.Removed,
		Report: g.Judge(), Areas: facts.AreasOf(g), Reviewers: []wire.Reviewer{}}
	for _, r := range changes.WantedReviewers(g.Set, c, gate.Comes(g.Set, g.Facts)) {
		v.Reviewers = append(v.Reviewers, wire.Reviewer{Who: r.Who, Optional: r.Optional, Reason: r.Reason})
	}
	v.Conflict, err = s.wouldNotLand(ctx, db, repo, g, tip)
	return v, err
}

// wouldNotLand says in words why what was worked out of a change would not land on the target as it is now; nothing
// when it would.
func (s *Conductor) wouldNotLand(ctx context.Context, db *gorm.DB, repo *records.Repository, g facts.Gathered,
	tip string) (string, error) {
	strategy, _, err := g.Set.Without(g.Facts.Suspended).For(g.Change.Target).Choose("")
	if err != nil {
		strategy = change.Squash // any will do to see whether it goes together with the target
	}
	plan, err := planOf(db, repo, &g, records.Rehearsal{Base: tip, Head: g.Revision.Head, Strategy: string(strategy)})
	if err != nil {
		return "", err
	}
	err = rehearsal.Try(ctx, s.disk.Bare(repo), plan)
	switch {
	case errors.As(err, new(*rehearsal.ConflictError)):
		return fmt.Sprintf("%v: update it to the target and resolve the conflict there", err), nil
	case errors.As(err, new(*rehearsal.DifferentError)):
		return fmt.Sprintf("%v: another strategy may land it, or update it to the target", err), nil
	case errors.As(err, new(rehearsal.NothingError)):
		return err.Error(), nil
	}
	return "", err
}
