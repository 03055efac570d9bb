package conflicts

import (
	"context"
	"slices"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/guard"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/git/rehearsal"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// Of says where a change and its target as it is now do not go together: by the same merge by which it is judged and
// landed.
func (s *Conflicts) Of(ctx context.Context, a accounts.Actor, name string, number int) (wire.Conflicts, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	repo, c, err := facts.ChangeRow(snap.DB, a, name, number, people.Reader)
	if err != nil {
		return wire.Conflicts{}, err
	}
	if c.State != "draft" && c.State != "open" {
		return wire.Conflicts{}, problem.New(problem.Conflict, "change %d is %s, so it conflicts with nothing", number, c.State)
	}
	r, err := facts.RevisionRow(snap.DB, c)
	if err != nil {
		return wire.Conflicts{}, err
	}
	bare := s.disk.Bare(repo)
	out := wire.Conflicts{Target: c.Target, Source: c.Source, Head: r.Head, Files: []wire.ConflictFile{}, Commands: []string{}}
	if out.Tip, err = bare.At("refs/heads/" + c.Target); err != nil {
		return out, err
	}
	if out.Tip == "" {
		return out, problem.New(problem.Conflict, "the branch %s is gone", c.Target)
	}
	if out.Files, err = Where(ctx, bare, s.facts, snap.DB, repo, c, r, out.Tip); err != nil || len(out.Files) == 0 {
		return out, err
	}
	source, target := guard.Quote(c.Source), guard.Quote(c.Target)
	out.Commands = []string{"git fetch origin", "git switch " + source, "git rebase origin/" + target, "git add -A && git rebase --continue",
		"git push --force-with-lease origin " + source}
	return out, nil
}

// Where says where a revision and a commit of the target do not go together, and which changes that landed touched that.
func Where(ctx context.Context, bare *git.Repo, f *facts.Gatherer, db *gorm.DB, repo *records.Repository, c records.Change, r records.Revision,
	tip string) ([]wire.ConflictFile, error) {
	out := []wire.ConflictFile{}
	found, err := rehearsal.Conflicts(ctx, bare, facts.ShownBy(r), tip, sides(c))
	if err != nil {
		return out, err
	}
	var since []string
	for _, x := range found {
		since = append(since, x.Since...)
	}
	landed, err := f.LandingsOf(db, repo, slices.Compact(slices.Sorted(slices.Values(since))), c.Target)
	if err != nil {
		return out, err
	}
	for _, x := range found {
		v := wire.ConflictFile{Path: x.Path, What: x.What, Places: append([]string{}, x.Places...), More: x.More, With: []int{}}
		for _, id := range x.Since {
			if l, is := landed[id]; is && !slices.Contains(v.With, l.Number) {
				v.With = append(v.With, l.Number)
			}
		}
		out = append(out, v)
	}
	return out, nil
}
