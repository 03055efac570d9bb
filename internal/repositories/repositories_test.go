package repositories_test

import (
	"os"
	"path/filepath"
	"testing"

	"tavrin/internal/accounts"
	"tavrin/internal/core/people"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/wire"
)

// A repository is there whole or not at all, and only where somebody may make one.
func TestRepositoriesAreMade(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	make := func(a accounts.Actor, n wire.NewRepository) error {
		_, err := l.Repositories.CreateRepository(ctx, a, n)
		return err
	}
	wren := l.Person("wren", "writer")
	l.Is(make(wren, wire.NewRepository{Name: "growers/pumps"}), problem.Forbidden, "making repositories")
	l.Is(make(l.Admin, wire.NewRepository{Name: lab.Name}), problem.Conflict, "already")
	l.Is(make(l.Admin, wire.NewRepository{Name: "growers/../x"}), problem.Invalid, "is not a repository")
	l.Is(make(l.Admin, wire.NewRepository{Name: "growers/x", ImportURL: "https://elsewhere.invalid/x"}), problem.Invalid, "is not on the list")
	l.Is(make(l.Admin, wire.NewRepository{Name: "millers/x"}), problem.Unknown, "no house")
	l.Ok(make(l.Admin, wire.NewRepository{Name: "growers/pumps", DefaultBranch: "trunk", Public: true}))
	left, err := filepath.Glob(filepath.Join(l.Dir, "repositories", "new-*"))
	if err != nil || len(left) != 0 {
		t.Errorf("left over are %v, %v", left, err)
	}
	if dirs, err := os.ReadDir(filepath.Join(l.Dir, "repositories")); err != nil || len(dirs) != 2 {
		t.Errorf("on disk are %v, %v", dirs, err)
	}
	all, err := l.Repositories.Repositories(ctx, wren)
	l.Ok(err)
	if len(all) != 2 || all[0].Name != lab.Name || all[0].Role != string(people.Writer) || all[1].Role != string(people.Reader) || all[1].DefaultBranch != "trunk" || !all[1].Empty {
		t.Errorf("the repositories are %+v", all)
	}
}

// Branches, history, folders and lines are shown as Git has them.
func TestLookingIn(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	first := l.Commit("main", "", "docs/a=one\ntwo\n")
	second := l.Commit("main", "main", "docs/a=one\nTWO\n", "b=1")
	branches, err := l.Repositories.Branches(ctx, l.Admin, lab.Name)
	l.Ok(err)
	if len(branches) != 1 || branches[0].Commit != second || !branches[0].Default {
		t.Errorf("the branches are %+v", branches)
	}
	history, err := l.Repositories.History(ctx, l.Admin, lab.Name, "", 0, 10)
	l.Ok(err)
	if len(history) != 2 || history[0].ID != second || history[1].ID != first {
		t.Errorf("the history is %+v", history)
	}
	tree, err := l.Repositories.Tree(ctx, l.Admin, lab.Name, first, "")
	l.Ok(err)
	if len(tree.Entries) != 1 || tree.Entries[0].Name != "docs" {
		t.Errorf("the tree is %+v", tree)
	}
	lines, err := l.Repositories.Lines(ctx, l.Admin, lab.Name, "main", "docs/a")
	l.Ok(err)
	if len(lines.Origins) != 2 || lines.Origins[0].Commit != first || lines.Origins[1].Commit != second {
		t.Errorf("the lines are %+v", lines)
	}
	for at, path := range map[string]string{"main": "none", "nowhere": "b", second: "../b"} {
		if _, err := l.Repositories.Tree(ctx, l.Admin, lab.Name, at, path); err == nil {
			t.Errorf("%s at %s is shown", path, at)
		}
	}
}
