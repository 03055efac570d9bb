package git

import (
	"bufio"
	"context"
	"fmt"
	"strings"

	"tavrin/internal/git/internal/process"
)

// Log lists commits reachable from the commit `from` and not from those in `not`, newest first: at most limit, after
// the first skip.
func (r History) Log(ctx context.Context, from string, not []string, skip, limit int) ([]Commit, error) {
	ids, err := r.list(ctx, from, not, fmt.Sprintf("--skip=%d", skip), fmt.Sprintf("--max-count=%d", limit))
	if err != nil {
		return nil, err
	}
	return r.Commits(ctx, ids)
}

// LogAll lists all commits reachable from the commit `from` and not from those in `not`, newest first. More than the
// named bound allows, or longer messages than the bounds allow, are an error: nothing is left out.
func (r History) LogAll(ctx context.Context, from string, not []string, bound string) ([]Commit, error) {
	b := r.at.Bounds()
	ids, err := r.list(ctx, from, not, fmt.Sprintf("--max-count=%d", b.Of(bound)+1))
	if err != nil {
		return nil, err
	}
	if int64(len(ids)) > b.Of(bound) {
		return nil, b.Reach(bound, "%.10s brings more than %d commits", from, b.Of(bound))
	}
	commits, err := r.Commits(ctx, ids)
	size := int64(0)
	for _, c := range commits {
		size += int64(len(c.raw))
	}
	if size > b.ChangeMessageBytes {
		return nil, b.Reach("change.message-bytes", "the commits of %.10s have %d bytes of text", from, size)
	}
	return commits, err
}

// Between lists the ids of the commits reachable from the commit `from` and not from those in `not`, newest first.
func (r History) Between(ctx context.Context, from string, not []string) ([]string, error) {
	return r.list(ctx, from, not)
}

func (r History) list(ctx context.Context, from string, not []string, args ...string) ([]string, error) {
	args = append(append([]string{"rev-list", "--topo-order"}, args...), from)
	for _, n := range not {
		args = append(args, "^"+n)
	}
	out, err := r.at.Run(ctx, nil, append(args, "--")...)
	return strings.Fields(string(out)), err
}

// Commits reads the commits with these ids, in their order.
func (r History) Commits(ctx context.Context, ids []string) ([]Commit, error) {
	commits := make([]Commit, 0, len(ids))
	err := r.eachCommit(ctx, ids, func(id, text string) error {
		commits = append(commits, parseCommit(id, text))
		return nil
	})
	return commits, err
}

// eachCommit reads the commits with these ids, in their order, as stored.
func (r History) eachCommit(ctx context.Context, ids []string, f func(id, text string) error) error {
	if len(ids) == 0 {
		return nil
	}
	h, err := r.at.Help(ctx, "cat-file", "--batch", "--buffer")
	if err != nil {
		return err
	}
	defer h.Close()
	go func() { // a reader that waits for each answer would wait as often as there are commits
		w := bufio.NewWriter(h.In)
		for _, id := range ids {
			w.WriteString(id + "\n")
		}
		w.Flush() // a helper that is gone takes nothing more: its answers, read below, end with its error
		h.In.Close()
	}()
	for _, id := range ids {
		text, err := h.Answer(id, "commit")
		if err != nil {
			return err
		}
		if err := f(id, text); err != nil {
			return err
		}
	}
	return nil
}

// HasCommit says whether the repository has the commit.
func (r History) HasCommit(ctx context.Context, id string) bool {
	if !IsID(id) {
		return false
	}
	out, err := r.at.Run(ctx, nil, "cat-file", "-t", id)
	return err == nil && strings.TrimSpace(string(out)) == "commit"
}

// mostTag is the longest text of a tag that is read for its signature, in bytes.
const mostTag = 1 << 20

// TagSignature reads the signature of a tag's object; object says whether the id is that of one, signed whether it carries
// a signature, of whatever kind.
func (r History) TagSignature(ctx context.Context, id string) (s KeySignature, object, signed bool, err error) {
	if !IsID(id) {
		return s, false, false, nil
	}
	kind, err := r.at.Run(ctx, nil, "cat-file", "-t", id)
	if err != nil || strings.TrimSpace(string(kind)) != "tag" {
		return s, false, false, err
	}
	text, more, err := r.at.Limited(ctx, mostTag, "cat-file", "tag", id)
	if err != nil || more {
		return s, true, false, err
	}
	s, signed = readTagSignature(string(text))
	return s, true, signed, nil
}

// Holding lists the branches that hold a commit; none hold one that is not there.
func (r History) Holding(ctx context.Context, commit string) ([]string, error) {
	if !r.HasCommit(ctx, commit) {
		return nil, ctx.Err()
	}
	out, err := r.at.Run(ctx, nil, "for-each-ref", "--contains="+commit, "--format=%(refname:lstrip=2)", "refs/heads/")
	return strings.Fields(string(out)), err
}

// IsAncestor says whether commit a is b or comes before it.
func (r History) IsAncestor(ctx context.Context, a, b string) (bool, error) {
	_, err := r.at.Run(ctx, nil, "merge-base", "--is-ancestor", a, b)
	if process.ExitCode(err) == 1 {
		return false, nil
	}
	return err == nil, err
}

// AheadBehind counts the commits that a commit has and a ref has not, and the other way round.
func (r History) AheadBehind(ctx context.Context, commit, ref string) (ahead, behind int, err error) {
	out, err := r.at.Run(ctx, nil, "rev-list", "--count", "--left-right", commit+"..."+ref, "--")
	if err != nil {
		return 0, 0, err
	}
	_, err = fmt.Sscan(string(out), &ahead, &behind)
	return ahead, behind, err
}

// MergeBases returns the best common ancestors of two commits: none when they share no history, several where each has
// taken in what the other had.
func (r History) MergeBases(ctx context.Context, a, b string) ([]string, error) {
	out, err := r.at.Run(ctx, nil, "merge-base", "--all", a, b)
	if process.ExitCode(err) == 1 {
		return nil, nil
	}
	return strings.Fields(string(out)), err
}

// Parent returns the first parent of a commit, or EmptyTree for one that has none.
func (r History) Parent(ctx context.Context, commit string) (string, error) {
	out, err := r.at.Run(ctx, nil, "rev-list", "--max-count=1", "--parents", commit, "--")
	if err != nil {
		return "", err
	}
	if ids := strings.Fields(string(out)); len(ids) > 1 {
		return ids[1], nil
	}
	return EmptyTree, nil
}
