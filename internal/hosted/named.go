package hosted

import (
	"context"
	"strings"

	"tavrin/internal/core/near"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

// Commit finds the commit that somebody named by its id, or by as much of the beginning as tells it from all others here.
func (d *Disk) Commit(ctx context.Context, repo *records.Repository, text string) (string, error) {
	if text = strings.ToLower(text); !git.MayNameCommit(text) {
		return "", problem.Wrong("commit", "%q is not a commit id: four to forty hexadecimal digits", text)
	}
	found, err := d.Bare(repo).Named(ctx, text)
	switch {
	case err != nil:
		return "", err
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return "", problem.New(problem.Unknown, "%s has %d commits that begin with %s: give more of the id", repo.Name,
			len(found), text)
	}
	return "", problem.New(problem.Unknown, "%s has no commit %q", repo.Name, text)
}

// NoBranch says that a repository has no such branch, and which may have been meant. field is the part of the request that
// named it, if any.
func (d *Disk) NoBranch(ctx context.Context, repo *records.Repository, field, branch string) error {
	p := &problem.Problem{Kind: problem.Unknown, Text: repo.Name + " has no branch " + branch + d.Meant(ctx, repo, branch)}
	if field != "" {
		p.Kind, p.Field = problem.Invalid, field
	}
	return p
}

// Meant says which branch or tag may have been meant by a name that there is not; see near.Meant.
func (d *Disk) Meant(ctx context.Context, repo *records.Repository, name string) string {
	refs, err := d.Bare(repo).Refs(ctx, "refs/")
	if err != nil {
		return "" // it only helps
	}
	var names []string
	for _, r := range refs {
		for _, kind := range []string{"refs/heads/", "refs/tags/"} {
			if short, ok := strings.CutPrefix(r.Name, kind); ok {
				names = append(names, short)
			}
		}
	}
	return near.Meant(name, names)
}
