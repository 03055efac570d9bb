package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"tavrin/wire"
)

// tidied is a branch that is of no more use, and what became of it.
type tidied struct {
	Name   string    `json:"name"`
	Commit string    `json:"commit"`
	Why    string    `json:"why"`
	Last   time.Time `json:"last_commit"`
	Done   string    `json:"done,omitempty"`
}

// tidyBranches lists the branches that are of no more use, and deletes them.
func (p *program) tidyBranches() *cobra.Command {
	var stale time.Duration
	var remove bool
	c := inRepo(p, "tidy", "List the branches that are of no more use: what they hold has landed, or nobody works on them; and delete them", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) ([]tidied, error) {
			all, err := h.Branches(ctx, h.repo)
			if err != nil {
				return nil, err
			}
			out := useless(all, stale, time.Now())
			if !remove {
				return out, nil
			}
			for some := range slices.Chunk(out, 100) {
				var list []wire.BranchAt
				for _, b := range some {
					list = append(list, wire.BranchAt{Name: b.Name, Commit: b.Commit})
				}
				done, err := h.DeleteBranches(ctx, h.repo, list)
				if err != nil {
					return nil, err
				}
				for i, d := range done {
					some[i].Done = cmp.Or(d.Why, "deleted")
				}
			}
			return out, nil
		}, func(w io.Writer, all []tidied) {
			row(w, "BRANCH", "TIP", "LAST COMMIT", "WHY", "")
			for _, b := range all {
				row(w, b.Name, short(b.Commit), ago(b.Last), b.Why, b.Done)
			}
			if !remove {
				row(w, "delete them: tavrin repo tidy --delete")
			}
		})
	c.Flags().DurationVar(&stale, "stale", 90*24*time.Hour, "also branches without an open change whose last commit is older than this; 0: none")
	c.Flags().BoolVar(&remove, "delete", false, "delete them")
	return c
}

// useless lists the branches that are of no more use: not protected, not the default one, without an open change, and landed
// or stale.
func useless(all []wire.Branch, stale time.Duration, now time.Time) []tidied {
	out := []tidied{}
	for _, b := range all {
		t := tidied{Name: b.Name, Commit: b.Commit, Last: b.CommittedAt}
		switch age := now.Sub(b.CommittedAt); {
		case b.Default || len(b.Protections) > 0 || len(b.Open) > 0:
			continue
		case b.Landed > 0:
			t.Why = fmt.Sprintf("landed with change %d", b.Landed)
		case stale > 0 && age > stale:
			t.Why = "no open change, and no commit for a while"
		default:
			continue
		}
		out = append(out, t)
	}
	return out
}
