package transport

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"tavrin/internal/git"
)

// connect checks that everything the new tips need is there and within the bounds, and notes the commits that came.
func (in *Incoming) connect(ctx context.Context, tips []string) error {
	ask, err := startAsking(ctx, in.view)
	if err != nil {
		return err
	}
	defer ask.Close()
	list, err := in.listed(ask)
	if err != nil {
		return err
	}
	if near, err := in.walkNear(ctx, ask, tips, list); err != nil {
		return err
	} else if !near {
		if err := in.walkAll(ctx, tips, list); err != nil {
			return err
		}
	}
	b := in.repo.Place().Bounds()
	look := slices.Concat(in.order, in.rode)
	if int64(len(look)) > b.PushCommits {
		if refs, err := in.repo.Refs(ctx, "refs/heads/"); err != nil || len(refs) > 0 {
			return cmp.Or[error](err, b.Reach("push.commits", "this push brings %d commits", len(look)))
		}
		look = nil // the first push of a long history: where it ends is what anybody will look at
		for _, tip := range tips {
			if _, came := in.commits[tip]; came {
				look = append(look, tip)
			}
		}
	}
	return in.measure(ask, look)
}

// walkAll lists what the new tips need beyond what any ref holds, and finds out of what came beside that whether it is new.
func (in *Incoming) walkAll(ctx context.Context, tips []string, list *packed) error {
	absent, err := in.walk(ctx, tips, nil, list)
	if err == nil {
		err = in.unheld(ctx, absent)
	}
	if err != nil {
		return err
	}
	in.rode, err = lacking(ctx, in.repo, in.unneeded(list))
	return err
}

// unneeded lists the commits that came and that nothing needs that the push moves.
func (in *Incoming) unneeded(list *packed) []string {
	var ids []string
	for _, id := range list.commits {
		if _, needed := in.commits[id]; !needed {
			ids = append(ids, id)
		}
	}
	return ids
}

const (
	// manyRefs is from how many refs on it costs more to read where they all stand than to look at what is near first.
	manyRefs = 200
	// fewCommits is of how many commits it is looked where they stand.
	fewCommits = 100
)

// walkNear does what walkAll does without reading every ref's commit, where few commits came that stand on what the
// default branch or the tip of some ref holds; near says whether they did. When every commit that came is new to the
// repository, none is held by a ref, and when what the tips need beyond a few refs all came, nothing else is missing: what
// a walk from all refs would list is the same then.
func (in *Incoming) walkNear(ctx context.Context, ask asked, tips []string, list *packed) (near bool, err error) {
	if len(list.commits) == 0 || len(list.commits) > fewCommits {
		return false, nil
	}
	refs, err := in.repo.Refs(ctx, "refs/")
	if err != nil || len(refs) < manyRefs {
		return false, err
	}
	standsOn, err := parents(ask, list.commits)
	if err != nil {
		return false, err
	}
	head := in.repo.HeadRef()
	var held []string
	for _, r := range refs {
		if (r.Name == head || standsOn[r.ID]) && !slices.Contains(held, r.ID) {
			held = append(held, r.ID)
		}
	}
	if len(held) == 0 {
		return false, nil
	}
	news, err := lacking(ctx, in.repo, list.commits)
	if err != nil || len(news) < len(list.commits) {
		return false, err
	}
	if absent, err := in.walk(ctx, tips, held, list); err != nil || len(absent) > 0 {
		return false, ctx.Err() // whatever it was, a walk from all refs says it
	}
	in.rode = in.unneeded(list)
	return true, nil
}

// parents are those of some commits.
func parents(ask asked, ids []string) (map[string]bool, error) {
	all := map[string]bool{}
	return all, ask.each("contents", ids, func(id string) error {
		text, err := ask.Answer(id, "commit")
		for _, parent := range git.ParseHeader(text).Parents {
			all[parent] = true
		}
		return err
	})
}

// lacking returns those of the objects that the repository does not have.
func lacking(ctx context.Context, repo *git.Repo, ids []string) ([]string, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	out, err := repo.Place().Run(ctx, strings.NewReader(strings.Join(ids, "\n")+"\n"), "cat-file", "--batch-check=%(objectname)",
		"--buffer")
	if err != nil {
		return nil, err
	}
	var lacks []string
	for line := range strings.Lines(string(out)) {
		if id, missing, _ := strings.Cut(strings.TrimSpace(line), " "); missing != "" {
			lacks = append(lacks, id)
		}
	}
	return lacks, nil
}

// walk lists what the new tips need beyond what some commits hold, or all refs where there are none, and returns what of it
// did not come with the push; of what is needed beyond some commits only the first, since there may be years of it. In the
// listing a commit's line begins with its time, any other object's with its id.
func (in *Incoming) walk(ctx context.Context, tips, held []string, list *packed) (absent []string, err error) {
	args := []string{"rev-list", "--objects", "--no-object-names", "--timestamp", "--parents", "--stdin"}
	if len(held) == 0 {
		args = append(args, "--not", "--all")
	}
	h, err := in.view.Place().Help(ctx, args...)
	if err != nil {
		return nil, err
	}
	for _, id := range tips {
		io.WriteString(h.In, id+"\n") // an error shows when it ends
	}
	for _, id := range held {
		io.WriteString(h.In, "^"+id+"\n")
	}
	h.In.Close()
	in.commits, in.order = map[string][]string{}, nil
	for {
		line, err := h.Out.ReadString('\n')
		f := strings.Fields(line)
		if err != nil || len(f) == 0 {
			break
		}
		id := f[0]
		if len(f) >= 2 && !git.IsID(f[0]) && git.IsID(f[1]) {
			id = f[1]
			in.commits[id] = f[2:]
			in.order = append(in.order, id)
		}
		if list.has(id) {
			continue
		}
		if absent = append(absent, id); len(held) > 0 {
			h.Close()
			return absent, nil
		}
	}
	err = h.Wait()
	if failed := (*git.CommandError)(nil); errors.As(err, &failed) && !failed.Killed {
		return nil, fmt.Errorf("the pack lacks objects that its commits need (a push from a shallow clone must " +
			"bring what the repository lacks)")
	}
	return absent, err
}

// unheld refuses a push that points at objects which neither came with it nor are held by a ref: they rode along in
// somebody else's pack, and it would not be told whose they are. The listing of what a push needs is not exact, so that
// what is absent is mostly held by an old commit; that is found out here.
func (in *Incoming) unheld(ctx context.Context, absent []string) error {
	if len(absent) == 0 {
		return nil
	}
	sought := map[string]bool{}
	for _, id := range absent {
		sought[id] = true
	}
	h, err := in.repo.Place().Help(ctx, "rev-list", "--objects", "--no-object-names", "--all")
	if err != nil {
		return err
	}
	for len(sought) > 0 {
		line, err := h.Out.ReadString('\n')
		if err != nil {
			break
		}
		delete(sought, strings.TrimSpace(line))
	}
	h.Close()
	if len(sought) == 0 {
		return nil
	}
	return fmt.Errorf("the pack lacks objects that its commits need: no branch or tag holds them, and they did not " +
		"come with this push (try git -c push.negotiate=false push --no-thin)")
}
