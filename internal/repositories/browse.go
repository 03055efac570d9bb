package repositories

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/hosted"
	"tavrin/internal/problem"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// Lines says of each line of a file which commit it comes from, and which change brought that.
func (s *Repositories) Lines(ctx context.Context, a accounts.Actor, name, at, path string) (wire.LineOrigins, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return wire.LineOrigins{}, err
	}
	if err := treePath(path); err != nil {
		return wire.LineOrigins{}, err
	}
	commit, err := s.commitAt(ctx, repo, at)
	if err != nil {
		return wire.LineOrigins{}, err
	}
	v := wire.LineOrigins{Commit: commit, Path: strings.Trim(path, "/"), Origins: []wire.LineOrigin{}}
	_, more, err := s.disk.Bare(repo).File(ctx, commit, v.Path, hosted.MaxFileBytes)
	switch {
	case errors.Is(err, git.ErrNotFound):
		return v, problem.New(problem.Unknown, "%s has no file %q at %.10s", name, path, commit)
	case err != nil:
		return v, err
	case more:
		return v, problem.New(problem.Conflict, "%s is too large to follow each line of it", path)
	}
	blocks, err := recall.Of(s.memory, recall.Key{What: "lines", Repo: repo.ID, Of: commit + v.Path}, recall.ByLength,
		func() ([]git.LineBlock, error) { return s.disk.Bare(repo).Blame(ctx, commit, v.Path) })
	if err != nil {
		return v, err
	}
	var ids []string
	for _, b := range blocks {
		ids = append(ids, b.Commit)
	}
	branch := at
	if at == "" {
		branch = repo.DefaultBranch
	}
	landed, err := s.facts.LandingsOf(db, repo, slices.Compact(slices.Sorted(slices.Values(ids))), branch)
	for _, b := range blocks {
		o := wire.LineOrigin{First: b.First, Last: b.Last, Commit: b.Commit, Subject: typed.Shown(b.Subject),
			Author: typed.Shown(b.Author), AuthoredAt: b.When}
		if l, ok := landed[b.Commit]; ok {
			o.Landed = &l
		}
		v.Origins = append(v.Origins, o)
	}
	return v, err
}

const maxHistory = 200 // commits in one answer

// Branches lists a repository's branches with what protects them.
func (s *Repositories) Branches(ctx context.Context, a accounts.Actor, name string) ([]wire.Branch, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	bare := s.disk.Bare(repo)
	heads, err := bare.Refs(ctx, "refs/heads/")
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(heads))
	for i, h := range heads {
		ids[i] = h.ID
	}
	states, err := facts.CheckStates(db, repo.ID, ids)
	if err != nil {
		return nil, err
	}
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return nil, err
	}
	set := force.Now()
	tips, err := bare.Commits(ctx, ids)
	if err != nil {
		return nil, fmt.Errorf("read the tips of the branches: %w", err)
	}
	uses, err := usesOf(db, repo, heads)
	if err != nil {
		return nil, err
	}
	branches := []wire.Branch{}
	for i, h := range heads {
		use := uses[strings.TrimPrefix(h.Name, "refs/heads/")]
		b := wire.Branch{Open: append([]int{}, use.open...), Landed: use.landed, Name: strings.TrimPrefix(h.Name, "refs/heads/"), Commit: h.ID, Subject: tips[i].Subject,
			Author:      tips[i].Author.Name,
			CommittedAt: tips[i].CommittedAt, Protections: set.For(strings.TrimPrefix(h.Name,
				"refs/heads/")).Names(), Checks: states[h.ID]}
		b.Default = b.Name == repo.DefaultBranch
		branches = append(branches, b)
	}
	slices.SortStableFunc(branches, func(x, y wire.Branch) int { return order(x.Default, y.Default) })
	return branches, nil
}

// use is what a branch is used for: open changes from it or to it; or the change by which what it holds has landed.
type use struct {
	open   []int
	landed int
}

// usesOf finds what branches are used for, by their names.
func usesOf(db *gorm.DB, repo *records.Repository, heads []git.Ref) (map[string]use, error) {
	out := map[string]use{}
	var open []records.Change
	err := db.Select("number, source, target").Where("repository_id = ? AND state IN ('draft', 'open')", repo.ID).Order("number").Find(&open).Error
	for _, c := range open {
		for _, branch := range []string{c.Source, c.Target} {
			u := out[branch]
			u.open = append(u.open, c.Number)
			out[branch] = u
		}
	}
	if err != nil {
		return nil, err
	}
	for some := range slices.Chunk(heads, 500) {
		at := map[string]string{}
		for _, h := range some {
			at[strings.TrimPrefix(h.Name, "refs/heads/")] = h.ID
		}
		var landed []struct {
			Source, Head string
			Number       int
		}
		err := db.Raw("SELECT c.source, c.number, r.head FROM changes c JOIN revisions r ON r.change_id = c.id AND r.number = c.revision "+
			"WHERE c.repository_id = ? AND c.source IN ? AND c.state = 'landed' ORDER BY c.number", repo.ID, slices.Collect(maps.Keys(at))).Scan(&landed).Error
		if err != nil {
			return nil, err
		}
		for _, l := range landed {
			if at[l.Source] == l.Head {
				u := out[l.Source]
				u.landed = l.Number
				out[l.Source] = u
			}
		}
	}
	return out, nil
}

// order sorts what is true first.
func order(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return -1
	}
	return 1
}

// commitAt finds the commit that a branch name, a tag, an id or the beginning of one means.
func (s *Repositories) commitAt(ctx context.Context, repo *records.Repository, at string) (string, error) {
	bare := s.disk.Bare(repo)
	if at == "" {
		at = repo.DefaultBranch
	}
	if git.IsID(at) {
		return s.disk.Commit(ctx, repo, at)
	}
	for _, prefix := range []string{"refs/heads/", "refs/tags/"} {
		if id, err := bare.Tip(ctx, prefix+at); err == nil {
			return id, nil
		}
	}
	found, err := bare.Named(ctx, at)
	if err != nil || len(found) == 1 {
		return strings.Join(found, ""), err
	}
	if len(found) > 1 {
		return s.disk.Commit(ctx, repo, at) // which says that there are several
	}
	return "", problem.New(problem.Unknown, "%s has no branch, tag or commit %q%s", repo.Name, at, s.disk.Meant(ctx, repo, at))
}

// History lists commits from a branch, tag or commit backwards.
func (s *Repositories) History(ctx context.Context, a accounts.Actor, name, at string, skip,
	limit int) ([]wire.Commit, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	from, err := s.commitAt(ctx, repo, at)
	if err != nil {
		return nil, err
	}
	if limit <= 0 {
		limit = 30
	}
	log, err := s.disk.Bare(repo).Log(ctx, from, nil, max(0, skip), min(limit, maxHistory))
	if err != nil {
		return nil, err
	}
	if at == "" {
		at = repo.DefaultBranch
	}
	return s.reading.CommitViews(db, repo, log, at)
}

// treePath says what is wrong with a path in a tree, if anything.
func treePath(path string) error {
	if strings.ContainsRune(path, 0) || !utf8.ValidString(path) || slices.Contains(strings.Split(path, "/"), "..") {
		return problem.Wrong("path", "%q is not a path in a tree", path)
	}
	return nil
}

// RawFile finds a file, and returns what writes its bytes.
func (s *Repositories) RawFile(ctx context.Context, a accounts.Actor, name, at,
	path string) (send func(io.Writer) error, err error) {
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Reader)
	if err == nil {
		err = cmp.Or(s.access.MayCall(a, "get-file"), treePath(path))
	}
	if err != nil {
		return nil, err
	}
	commit, err := s.commitAt(ctx, repo, at)
	if err != nil {
		return nil, err
	}
	bare := s.disk.Bare(repo)
	if path = strings.Trim(path, "/"); path == "" || !bare.HasFile(ctx, commit, path) {
		return nil, problem.New(problem.Unknown, "%s has no file %q at %.10s", repo.Name, path, commit)
	}
	return func(w io.Writer) error { return bare.SendFile(ctx, commit, path, w) }, nil
}

// Tree shows a folder or a file at a commit.
func (s *Repositories) Tree(ctx context.Context, a accounts.Actor, name, at, path string) (wire.Tree, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	repo, err := accounts.Reach(snap.DB, a, name, people.Reader)
	if err != nil {
		return wire.Tree{}, err
	}
	if err := treePath(path); err != nil {
		return wire.Tree{}, err
	}
	path = strings.Trim(path, "/")
	commit, err := s.commitAt(ctx, repo, at)
	if err != nil {
		return wire.Tree{}, err
	}
	if err := facts.WantsOf(snap.DB, a, repo, commit); err != nil {
		return wire.Tree{}, err
	}
	v := wire.Tree{Commit: commit, Path: path}
	bare := s.disk.Bare(repo)
	entries, err := bare.Tree(ctx, commit, path)
	if err == nil {
		v.Entries = []wire.TreeEntry{}
		for _, e := range entries {
			v.Entries = append(v.Entries, wire.TreeEntry(e))
		}
		return v, nil
	}
	text, partial, err := bare.File(ctx, commit, path, hosted.MaxFileBytes)
	if errors.Is(err, git.ErrNotFound) {
		return v, problem.New(problem.Unknown, "%s has no %q at %.10s", repo.Name, path, commit)
	}
	v.File, v.Partial, v.Binary = true, partial, strings.ContainsRune(text, 0)
	if !v.Binary {
		v.Text = strings.ToValidUTF8(text, "\uFFFD")
	}
	return v, err
}
