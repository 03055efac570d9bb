package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/internal/core/chosen"
	"tavrin/wire"
)

// createRepository makes a repository, empty or imported.
func (p *program) createRepository() *cobra.Command {
	n := wire.NewRepository{}
	var from string
	c := answer(p, "create HOUSE/NAME", "Make a repository, empty or imported from a local folder or a URL",
		cobra.ExactArgs(1), func(ctx context.Context, c *client.Client, args []string) (made, error) {
			n.Name = args[0]
			if from == "" && len(n.Branches) > 0 {
				return made{}, misuse("--branches chooses of what is imported: give --import too")
			}
			r, err := p.makeRepository(ctx, c, from, n)
			return made{r, c.GitURL(r.Name)}, err
		}, func(w io.Writer, r made) {
			row(w, "made "+r.Name)
			if i := r.Imported; i != nil {
				row(w, fmt.Sprintf("it brought %s and %s; %s is the default branch", counted(i.Branches, "branch"), counted(i.Tags, "tag"),
					r.DefaultBranch))
				if len(i.LeftOut) > 0 {
					row(w, fmt.Sprintf("left out: %s", some(i.LeftOut)))
				}
			}
			row(w, cloneCommand(r))
		})
	c.Flags().StringVar(&from, "import", "", "folder of a Git repository, or a URL on the administrator's list")
	c.Flags().StringSliceVar(&n.Branches, "branches", nil, "globs: import only these branches, such as main or \"release/**\"; may be "+
		"given several times (default: all)")
	c.Flags().StringVar(&n.DefaultBranch, "default-branch", "", "default branch (default: that of what is imported, asked for on a "+
		"terminal, or main)")
	c.Flags().BoolVar(&n.Public, "public", false, "readable without signing in")
	return c
}

// some lists the first names of many.
func some(names []string) string {
	const most = 10
	if len(names) > most {
		return fmt.Sprintf("%s and %d others", strings.Join(names[:most], ", "), len(names)-most)
	}
	return list(names)
}

// makeRepository makes a repository. A local folder is imported by pushing, a URL by the service.
func (p *program) makeRepository(ctx context.Context, c *client.Client, from string, n wire.NewRepository) (wire.Repository, error) {
	if from == "" || strings.Contains(from, "://") {
		n.ImportURL = from
		return c.CreateRepository(ctx, n)
	}
	refs, imported, err := p.toImport(ctx, from, &n)
	if err != nil {
		return wire.Repository{}, err
	}
	n.Branches = nil
	r, err := c.CreateRepository(ctx, n)
	if err != nil {
		return r, err
	}
	if err := p.pushAll(ctx, c, from, n.Name, refs); err != nil {
		return r, fmt.Errorf("%s was made, but the import did not work: %w; push to it yourself, or delete it (tavrin repo delete "+
			"%s) and try again", n.Name, err, n.Name)
	}
	r, err = c.Repository(ctx, n.Name)
	r.Imported = imported
	return r, err
}

// localRef is a branch or tag of a local folder, by its whole name.
type localRef struct{ ID, Name string }

// toImport lists the branches and tags of a local folder that are to be imported, and has the default branch chosen.
func (p *program) toImport(ctx context.Context, from string, n *wire.NewRepository) ([]localRef, *wire.Imported, error) {
	out, err := exec.CommandContext(ctx, "git", "-C", from, "for-each-ref", "--format=%(objectname) %(refname)", "refs/heads/", "refs/tags/").Output()
	if err != nil {
		return nil, nil, fmt.Errorf("%s is not a Git repository", from)
	}
	ids := map[string]string{}
	var names []string
	for line := range strings.Lines(string(out)) {
		id, name, _ := strings.Cut(strings.TrimSpace(line), " ")
		ids[name] = id
		names = append(names, name)
	}
	head := ""
	if out, err := exec.CommandContext(ctx, "git", "-C", from, "symbolic-ref", "--quiet", "--short", "HEAD").Output(); err == nil {
		head = strings.TrimSpace(string(out))
	}
	brings, err := chosen.Of(names, n.Branches, n.DefaultBranch, head)
	if p.interactive && n.DefaultBranch == "" && len(names)-len(brings.LeftOut) > 1 {
		brings, err = chosen.Of(names, n.Branches, p.askDefault(names, brings.LeftOut, head), head)
	}
	if err != nil {
		return nil, nil, misuse("%w: --branches and --default-branch say what is meant", err)
	}
	if len(brings.Refs) == 0 {
		return nil, nil, fmt.Errorf("%s has no branch to import", from)
	}
	n.DefaultBranch = brings.Default
	refs := make([]localRef, len(brings.Refs))
	for i, name := range brings.Refs {
		refs[i] = localRef{ids[name], name}
	}
	return refs, &wire.Imported{Branches: brings.Branches(), Tags: brings.Tags, LeftOut: brings.LeftOut}, nil
}

// askDefault asks which branch is the default; no answer takes the one that is offered.
func (p *program) askDefault(names, leftOut []string, head string) string {
	var branches []string
	for _, name := range names {
		if branch, is := strings.CutPrefix(name, "refs/heads/"); is && !slices.Contains(leftOut, branch) {
			branches = append(branches, branch)
		}
	}
	if len(branches) < 2 {
		return ""
	}
	fmt.Fprintf(p.err, "Which branch is the default: %s? [%s] ", plain(some(branches)), plain(head))
	typed, _ := bufio.NewReader(p.in).ReadString('\n')
	return strings.TrimSpace(typed)
}

// atOnce is how many refs are pushed at once.
const atOnce = 500

// pushAll imports branches and tags of a local folder by pushing them, so many at once. Each piece goes from a repository of
// its own, which borrows the folder's objects: where git pushes by http, it looks for each ref among all that there are.
func (p *program) pushAll(ctx context.Context, c *client.Client, folder, name string, refs []localRef) error {
	objects, err := exec.CommandContext(ctx, "git", "-C", folder, "rev-parse", "--path-format=absolute", "--git-path", "objects").Output()
	if err != nil {
		return fmt.Errorf("%s is not a Git repository", folder)
	}
	dir, err := os.MkdirTemp("", "tavrin-import-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if out, err := exec.CommandContext(ctx, "git", "init", "-q", "--bare", "--template=", dir).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, strings.TrimSpace(block(string(out))))
	}
	if err := os.MkdirAll(filepath.Join(dir, "objects", "info"), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "objects", "info", "alternates"), objects, 0o600); err != nil {
		return err
	}
	for piece := range slices.Chunk(refs, atOnce) {
		var packed strings.Builder
		for _, ref := range slices.SortedFunc(slices.Values(piece), func(a, b localRef) int { return strings.Compare(a.Name, b.Name) }) {
			fmt.Fprintf(&packed, "%s %s\n", ref.ID, ref.Name)
		}
		if err := os.WriteFile(filepath.Join(dir, "packed-refs"), []byte(packed.String()), 0o600); err != nil {
			return err
		}
		cmd, err := gitWithToken(ctx, c, "-C", dir, "push", "--quiet", c.GitURL(name), "refs/heads/*:refs/heads/*", "refs/tags/*:refs/tags/*")
		if err != nil {
			return err
		}
		if out, err := cmd.CombinedOutput(); err != nil {
			return errors.New(strings.TrimSpace(block(string(out))))
		}
	}
	return nil
}
