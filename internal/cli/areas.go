package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/wire"
)

// area answers who owns what.
func (p *program) area() *cobra.Command {
	return group("area", "Ask who owns what, what nobody owns, and how reviews are spread", p.listAreas(),
		p.owners(), p.changeAreas(), p.gaps(),
		inRepo(p, "workload", "Show how open reviews are spread over people", cobra.NoArgs,
			func(ctx context.Context, h here, _ []string) ([]wire.ReviewLoad, error) {
				return h.ReviewLoads(ctx, h.repo)
			}, func(w io.Writer, loads []wire.ReviewLoad) {
				row(w, "PERSON", "COULD APPROVE", "NOBODY ELSE COULD", "WAS ASKED", "HAS SPOKEN")
				for _, l := range loads {
					row(w, l.Login, l.Could, l.Only, l.Asked, l.Given)
				}
			}))
}

func (p *program) listAreas() *cobra.Command {
	return inRepo(p, "list", "List the areas in force", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) ([]wire.Area, error) {
			return h.Areas(ctx, h.repo)
		}, func(w io.Writer, areas []wire.Area) {
			row(w, "AREA", "PATHS", "OWNERS", "PEOPLE", "REQUIRES", "FILES", "FROM")
			for _, a := range areas {
				row(w, a.Name, list(a.Paths), list(a.Owners), list(a.People), list(a.Requires), a.Files,
					from(a.Source))
			}
		})
}

// from names a source shortly: the document if it is a house's, and the line.
func from(s wire.Source) string {
	if s.Document != "" {
		return fmt.Sprintf("%s, line %d", s.Document, s.Line)
	}
	return fmt.Sprintf("line %d", s.Line)
}

func (p *program) owners() *cobra.Command {
	return inRepo(p, "owners PATH", "Say who owns a path, and why", cobra.ExactArgs(1),
		func(ctx context.Context, h here, args []string) (wire.PathOwners, error) {
			return h.WhoOwns(ctx, h.repo, args[0])
		}, func(w io.Writer, o wire.PathOwners) {
			if len(o.Areas) == 0 {
				row(w, "nobody owns "+o.Path)
			}
			for _, a := range o.Areas {
				row(w, fmt.Sprintf("%s is owned by %s (%s)", o.Path, list(a.Owners), list(a.People)),
					fmt.Sprintf("in area %s by %s, says %s", a.Area, a.Pattern, a.Source))
			}
			if o.Files == 0 {
				fmt.Fprintf(p.err, "there is no %s on the default branch now\n", plain(o.Path))
			}
		})
}

func (p *program) changeAreas() *cobra.Command {
	return onChange(p, "change N", "Say which areas a change touches, and whose approval would be enough",
		func(ctx context.Context, h here, n int) (wire.ChangeAreas, error) {
			return h.ChangeAreas(ctx, h.repo, n)
		}, func(w io.Writer, c wire.ChangeAreas) {
			for _, a := range c.Areas {
				row(w, a.Area, counted(len(a.Paths), "path"), "owned by "+list(a.Owners), "("+list(a.People)+")")
			}
			if len(c.Unowned) > 0 {
				row(w, "owned by nobody", strings.Join(c.Unowned, ", "))
			}
			switch {
			case len(c.Hopeless) > 0:
				row(w, "no approvals can meet", strings.Join(c.Hopeless, "; "))
			case len(c.Enough) == 0:
				row(w, "no approval is missing")
			case c.Exact:
				row(w, "enough would be", strings.Join(c.Enough, " and "))
			default:
				row(w, "enough would be", strings.Join(c.Enough, " and ")+" (perhaps fewer)")
			}
		})
}

func (p *program) gaps() *cobra.Command {
	var depth int
	c := inRepo(p, "gaps", "Show what nobody owns, folder by folder, and which globs match nothing", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) (wire.OwnershipGaps, error) {
			return h.OwnershipGaps(ctx, h.repo, depth)
		}, func(w io.Writer, g wire.OwnershipGaps) {
			row(w, "FOLDER", "FILES", "OWNED BY NOBODY", "SHARE")
			for _, f := range g.Folders {
				name := f.Folder + "/"
				if f.Folder == "" {
					name = "(all)"
				}
				row(w, name, f.Files, f.Unowned, fmt.Sprintf("%d %%", 100*f.Unowned/max(f.Files, 1)))
			}
			for _, i := range g.Idle {
				row(w, fmt.Sprintf("area %s: %s matches nothing", i.Area, i.Pattern), from(i.Source))
			}
		})
	c.Flags().IntVar(&depth, "depth", 2, "how deep folders are counted")
	return c
}

// label sets and removes labels of a change.
func (p *program) label() *cobra.Command {
	var set, remove []string
	c := onChange(p, "label N", "Set and remove labels that the rules define",
		func(ctx context.Context, h here, n int) (wire.Change, error) {
			if len(set)+len(remove) == 0 {
				return wire.Change{}, misuse("say which: --set LABEL, --remove LABEL")
			}
			return h.SetLabels(ctx, h.repo, n, set, remove)
		}, func(w io.Writer, c wire.Change) {
			row(w, fmt.Sprintf("change %d is labelled %s", c.Number, list(c.Labels)))
		})
	c.Flags().StringSliceVar(&set, "set", nil, "label to set; may be given several times")
	c.Flags().StringSliceVar(&remove, "remove", nil, "label to remove; may be given several times")
	return c
}
