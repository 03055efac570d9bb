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
	"tavrin/internal/problem"
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
		Report: gate.Judge(g.Set, g.Facts), Areas: facts.AreasOf(g), Reviewers: []wire.Reviewer{}}
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
	plan, err := s.planOf(db, repo, &g, records.Rehearsal{Base: tip, Head: g.Revision.Head, Strategy: string(strategy)})
	if err != nil {
		return "", err
	}
	return obstacle(rehearsal.Try(ctx, s.disk.Bare(repo), plan))
}

// obstacle says in words why a change would not land on the target as it is now; an error that is another stays one.
func obstacle(err error) (string, error) {
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

// PreviewLanding says which commits a landing of a change would bring to its target as that is now, by a strategy or, where
// none is given, by the entry's or the rules' default. Nothing is recorded.
func (s *Conductor) PreviewLanding(ctx context.Context, a accounts.Actor, name string, number int,
	n wire.LandingQuestion) (wire.LandingPreview, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	repo, c, err := facts.ChangeRow(snap.DB, a, name, number, people.Reader)
	if err != nil {
		return wire.LandingPreview{}, err
	}
	if c.State != "draft" && c.State != "open" {
		return wire.LandingPreview{}, problem.New(problem.Conflict, "change %d is %s: tavrin change landing %d shows how it landed, if it has", number, c.State, number)
	}
	g, err := s.facts.Gather(snap.DB, repo, c)
	if err != nil {
		return wire.LandingPreview{}, err
	}
	by := change.Strategy(n.Strategy)
	if by == "" {
		by = g.Facts.Strategy
	}
	asker, _ := g.Facts.People.Of(a.Login())
	if by, _, err = g.Set.Without(g.Facts.Suspended).Binding(c.Target, asker.Is).Choose(by); err != nil {
		return wire.LandingPreview{}, problem.Wrong("strategy", "%v", err)
	}
	if n.Message != "" {
		g.Facts.Message = n.Message
	}
	tip, err := s.disk.Bare(repo).At("refs/heads/" + c.Target)
	if err != nil {
		return wire.LandingPreview{}, err
	}
	if tip == "" {
		return wire.LandingPreview{}, problem.New(problem.Conflict, "the branch %s is gone", c.Target)
	}
	r, err := s.wouldBe(ctx, snap.DB, repo, &g, by, tip)
	if err != nil {
		return wire.LandingPreview{}, err
	}
	plan, err := s.planOf(snap.DB, repo, &g, r)
	if err != nil {
		return wire.LandingPreview{}, err
	}
	out := wire.LandingPreview{Strategy: by, Target: c.Target, Base: tip, Commits: []wire.PreviewedCommit{}}
	commits, err := rehearsal.Show(ctx, s.disk.Bare(repo), plan)
	if err != nil {
		out.Obstacle, err = obstacle(err)
		return out, err
	}
	for _, k := range commits {
		v := wire.PreviewedCommit{Subject: k.Subject, Body: k.Body, Author: k.Author.Name, Parents: len(k.Parents),
			Kept: slices.ContainsFunc(g.Revision.Commits, func(o records.BroughtCommit) bool { return o.ID == k.ID })}
		if v.Kept {
			v.ID = k.ID // the others get theirs when they are built
		}
		out.Commits = append(out.Commits, v)
	}
	for _, k := range g.Revision.Commits {
		if k.Signed && !slices.ContainsFunc(out.Commits, func(v wire.PreviewedCommit) bool { return v.ID == k.ID }) {
			out.SignaturesLost++
		}
	}
	with := ""
	if s.signs && slices.ContainsFunc(out.Commits, func(v wire.PreviewedCommit) bool { return !v.Kept }) {
		out.SignedWith = s.key.SSH()
		with = s.key.Fingerprint()
	}
	out.Signatures = change.SignaturesOf(out.SignaturesLost, with)
	return out, nil
}

// wouldBe is the rehearsal that would be made.
func (s *Conductor) wouldBe(ctx context.Context, db *gorm.DB, repo *records.Repository, g *facts.Gathered, by change.Strategy, tip string) (r records.Rehearsal, err error) {
	log, err := s.disk.Bare(repo).LogAll(ctx, g.Revision.Head, []string{g.Revision.Base}, "change.commits")
	if err != nil {
		return r, err
	}
	opener, err := accounts.AccountByLogin(db, g.Change.OpenedBy)
	if err != nil {
		return r, err
	}
	now := s.records.Now()
	r = records.Rehearsal{Base: tip, Head: g.Revision.Head, Strategy: string(by), AuthorName: opener.Name, AuthorEmail: opener.Email, AuthoredAt: now, CommittedAt: now}
	r.Message, err = finalMessage(db, repo, g, by, log, opener.Email)
	return r, err
}
