package rehearsal

import (
	"bytes"
	"context"
	"strings"

	"tavrin/internal/git"
)

const (
	// maxMarked is how large a file may be in which what conflicts is shown, in bytes; most is in how many files, and how
	// many places of each; around, how many lines before and behind are shown with one; longest, how many lines of one.
	maxMarked = 1 << 20
	most      = 20
	around    = 3
	longest   = 200
)

// Conflict is one file in which a change and a commit do not go together.
type Conflict struct {
	Path   string
	What   string   // what is the matter, where it is more than lines
	Places []string // what stands on the two sides, with Git's marks; the first of them
	More   int      // places besides
	// Since are commits between the shown base and the commit that touched the file, the newest first.
	Since []string
}

// Sides name the two sides in the marks.
type Sides struct{ Ours, Theirs string }

// Conflicts says where a change and a commit do not go together, and shows both sides; nothing, where they do.
func Conflicts(ctx context.Context, repo *git.Repo, s Shown, onto string, names Sides) (out []Conflict, err error) {
	err = on(repo.Place()).with(ctx, onto, func(ctx context.Context, c *crew) error {
		out, err = c.conflicts(ctx, s, onto, names)
		return err
	})
	return out, err
}

func (c *crew) conflicts(ctx context.Context, s Shown, onto string, names Sides) ([]Conflict, error) {
	tree, standIn, stages, err := c.marked(ctx, c.view, s, onto)
	if err != nil || len(stages) == 0 {
		return nil, err
	}
	var out []Conflict
	told := conflictOf(stages)
	for i, path := range told.Files {
		f := Conflict{Path: path, What: strings.Trim(strings.TrimPrefix(told.Text[i], visiblePath(path)), " ()")}
		if i < most {
			if f.Places, f.More, err = c.view.places(ctx, tree, path, standIn, s.Head, names); err != nil {
				return nil, err
			}
			since, err := c.view.at.Run(ctx, nil, "rev-list", "--max-count=5", onto, "^"+s.Base, "--", ":(literal)"+path)
			if err != nil {
				return nil, err
			}
			f.Since = strings.Fields(string(since))
		}
		out = append(out, f)
	}
	return out, nil
}

// places reads the marked places of a file in a merged tree; none, where it is not there, is no text, or is too large.
func (r ground) places(ctx context.Context, tree, path, ours, theirs string, names Sides) (places []string, more int, err error) {
	listed, err := r.at.Run(ctx, nil, "ls-tree", tree, "--", ":(literal)"+path)
	if err != nil || !bytes.Contains(listed, []byte(" blob ")) {
		return nil, 0, err
	}
	text, cut, err := r.at.Limited(ctx, maxMarked, "cat-file", "blob", tree+":"+path)
	if err != nil || cut || strings.IndexByte(text, 0) >= 0 {
		return nil, 0, err
	}
	all := placesIn(strings.ToValidUTF8(text, "\uFFFD"), ours, theirs, names)
	return all[:min(len(all), most)], max(0, len(all)-most), nil
}

// placesIn finds what Git marked between two commits, with the lines around it and the sides named.
func placesIn(text, ours, theirs string, names Sides) []string {
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	var out []string
	begin := -1
	for i, line := range lines {
		switch line {
		case "<<<<<<< " + ours:
			begin = i
		case ">>>>>>> " + theirs:
			if begin < 0 {
				continue // it stood in the file
			}
			place := append([]string{}, lines[max(0, begin-around):begin]...)
			place = append(place, "<<<<<<< "+names.Ours)
			within := lines[begin+1 : i]
			if len(within) > longest {
				within = append(append([]string{}, within[:longest]...), "…")
			}
			place = append(append(place, within...), ">>>>>>> "+names.Theirs)
			place = append(place, lines[i+1:min(len(lines), i+1+around)]...)
			out = append(out, strings.Join(place, "\n"))
			begin = -1
		}
	}
	return out
}
