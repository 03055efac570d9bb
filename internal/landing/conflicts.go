package landing

import (
	"context"
	"fmt"
	"slices"

	"tavrin/internal/accounts"
	"tavrin/internal/core/guard"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git/rehearsal"
	"tavrin/internal/problem"
	"tavrin/wire"
)

// Conflicts says where a change and its target as it is now do not go together: by the same merge by which it is judged and
// landed.
func (s *Conductor) Conflicts(ctx context.Context, a accounts.Actor, name string, number int) (wire.Conflicts, error) {
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
	found, err := rehearsal.Conflicts(ctx, bare, facts.ShownBy(r), out.Tip, rehearsal.Sides{Ours: c.Target, Theirs: fmt.Sprintf("change %d (%s)", number, c.Source)})
	if err != nil || len(found) == 0 {
		return out, err
	}
	var since []string
	for _, f := range found {
		since = append(since, f.Since...)
	}
	landed, err := s.facts.LandingsOf(snap.DB, repo, slices.Compact(slices.Sorted(slices.Values(since))), c.Target)
	if err != nil {
		return out, err
	}
	for _, f := range found {
		v := wire.ConflictFile{Path: f.Path, What: f.What, Places: append([]string{}, f.Places...), More: f.More, With: []int{}}
		for _, id := range f.Since {
			if l, is := landed[id]; is && !slices.Contains(v.With, l.Number) {
				v.With = append(v.With, l.Number)
			}
		}
		out.Files = append(out.Files, v)
	}
	source, target := guard.Quote(c.Source), guard.Quote(c.Target)
	out.Commands = []string{"git fetch origin", "git switch " + source, "git rebase origin/" + target, "git add -A && git rebase --continue",
		"git push --force-with-lease origin " + source}
	return out, nil
}
