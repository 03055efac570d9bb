// Package chosen decides what of another repository an import brings, and which branch is the default then. Whoever imports
// asks it: the service that fetches, and the command line that pushes a local folder.
package chosen

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/core/glob"
)

// Import is what an import brings.
type Import struct {
	Refs    []string // whole names of branches and tags, the default branch first
	Tags    int
	LeftOut []string // branches that were not asked for
	Default string   // the default branch; empty: nothing says which, as of what has no branch
}

// Branches is how many of the refs are branches.
func (i Import) Branches() int { return len(i.Refs) - i.Tags }

// Wrong is what is wrong with what was asked for. Field is branches or default_branch.
type Wrong struct{ Field, Text string }

func (w *Wrong) Error() string { return w.Text }

// Of chooses of the whole names of branches and tags those that are to be imported: all tags, and the branches that globs
// match, of which none mean all. The default branch is the one that is asked for, else the only one there is, else head, that
// of the other repository. An error is a *Wrong.
func Of(refs, globs []string, asked, head string) (Import, error) {
	out := Import{LeftOut: []string{}, Default: asked}
	if len(globs) == 0 {
		globs = []string{"**"}
	}
	wanted, err := glob.CompileList(globs)
	if err != nil {
		return out, &Wrong{"branches", err.Error()}
	}
	var branches, tags []string
	for _, ref := range refs {
		branch, isBranch := strings.CutPrefix(ref, "refs/heads/")
		switch {
		case !isBranch:
			tags = append(tags, ref)
		case wanted.Match(branch):
			branches = append(branches, ref)
		default:
			out.LeftOut = append(out.LeftOut, branch)
		}
	}
	if len(branches) == 0 {
		if len(out.LeftOut) > 0 {
			return out, &Wrong{"branches", "there is no branch that matches " + strings.Join(globs, ", ")}
		}
		return out, nil
	}
	if len(branches) == 1 {
		head = strings.TrimPrefix(branches[0], "refs/heads/")
	}
	out.Default = cmp.Or(asked, head)
	first := slices.Index(branches, "refs/heads/"+out.Default)
	if first < 0 {
		return out, &Wrong{"default_branch", fmt.Sprintf("which branch is the default? %q is not among what is imported", out.Default)}
	}
	branches[0], branches[first] = branches[first], branches[0]
	out.Refs, out.Tags = slices.Concat(branches, tags), len(tags)
	return out, nil
}
