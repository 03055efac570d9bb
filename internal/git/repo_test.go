package git_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/git"
	"tavrin/internal/git/internal/process"
	"tavrin/internal/git/workshop"
)

func TestMoveRefsIsCompareAndSwap(t *testing.T) {
	w := workshop.New(t)
	w.Write("a", "1")
	one := w.Commit("one")
	w.Write("a", "2")
	two := w.Commit("two")
	w.Push()
	ctx := t.Context()
	if err := w.Repo.MoveRefs(ctx, git.Move{"refs/heads/main", one, two}); !errors.Is(err, git.ErrMoved) {
		t.Errorf("P3: a move from a commit the ref is not at: %v", err)
	}
	both := []git.Move{{"refs/heads/new", "", one}, {"refs/heads/main", one, two}}
	if err := w.Repo.MoveRefs(ctx, both...); !errors.Is(err, git.ErrMoved) {
		t.Errorf("half a transaction: %v", err)
	}
	if _, err := w.Repo.Tip(ctx, "refs/heads/new"); !errors.Is(err, git.ErrNotFound) {
		t.Error("half a transaction was carried out")
	}
	if err := w.Repo.MoveRefs(ctx, git.Move{"refs/heads/main", two, one}); err != nil {
		t.Error(err)
	}
}

func TestPackKeepsEverything(t *testing.T) {
	t.Parallel()
	w := workshop.New(t)
	var last string
	for i := range git.ManyPacks + 1 {
		w.Write("a", fmt.Sprint(i))
		last = w.Commit(fmt.Sprint(i))
		w.Push()
		w.Git("--git-dir="+w.Bare, "repack", "-q", "-d")
	}
	if packed, err := w.Repo.Pack(t.Context()); err != nil || !packed {
		t.Fatalf("packed %v, %v", packed, err)
	}
	if packed, err := w.Repo.Pack(t.Context()); err != nil || packed {
		t.Errorf("packed a tidy repository: %v, %v", packed, err)
	}
	if log, err := w.Repo.Log(t.Context(), last, nil, 0, 100); err != nil || len(log) != git.ManyPacks+1 {
		t.Errorf("%d commits, %v", len(log), err)
	}
}

func TestTidyRemovesWhatAKilledProcessLeaves(t *testing.T) {
	w := workshop.New(t)
	w.Write("a", "1")
	one := w.Commit("one")
	w.Push()
	for _, name := range []string{"refs/heads/main.lock", "HEAD.lock", "objects/pack/tmp_pack_x"} {
		if err := os.WriteFile(filepath.Join(w.Bare, name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	os.MkdirAll(filepath.Join(w.Bare, process.ScratchPrefix+"1", "ab"), 0o755)
	if err := w.Repo.Tidy(); err != nil {
		t.Fatal(err)
	}
	if err := w.Repo.MoveRefs(t.Context(), git.Move{"refs/heads/main", one, ""}); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(filepath.Join(w.Bare, process.ScratchPrefix+"1")); err == nil {
		t.Error("a scratch folder was left")
	}
}

func TestReadingHistoryTreesAndFiles(t *testing.T) {
	w := workshop.New(t)
	w.Write("dir/ü file", "text\n")
	w.Write("bin", "\x00\x01")
	one := w.Commit("subject\n\nbody of it\n\nSigned-off-by: x")
	w.Git("mv", "dir/ü file", "dir/moved")
	w.Write("dir/moved", "text\nmore\n")
	w.Write("bin", "\x00\x02")
	two := w.Commit("move")
	w.Push()
	ctx := t.Context()
	log, err := w.Repo.Log(ctx, two, nil, 0, 10)
	if err != nil || len(log) != 2 || log[1].Subject != "subject" || !strings.HasPrefix(log[1].Body, "body of it") || log[0].Parents[0] != one || log[0].Author.Email != "ines@fennmoor.example" {
		t.Errorf("log is %+v, %v", log, err)
	}
	files, err := w.Repo.Diff(ctx, one, two)
	want := []git.FileDiff{{Path: "bin", Status: "changed", Binary: true, Added: 1, Removed: 1, OldMode: "100644", NewMode: "100644"},
		{Path: "dir/moved", OldPath: "dir/ü file", Status: "renamed", Added: 1, OldMode: "100644", NewMode: "100644", Similarity: files[len(files)-1].Similarity}}
	told := func(files []git.FileDiff) string { // what others see of it
		text, err := json.Marshal(files)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	if err != nil || told(files) != told(want) {
		t.Errorf("difference is %+v, %v", files, err)
	}
	tree, err := w.Repo.Tree(ctx, two, "dir")
	if err != nil || len(tree) != 1 || tree[0] != (git.TreeEntry{"moved", "blob", 10}) {
		t.Errorf("tree is %+v, %v", tree, err)
	}
	text, more, err := w.Repo.File(ctx, two, "dir/moved", 4)
	if err != nil || text != "text" || !more {
		t.Errorf("file is %q, %v, %v", text, more, err)
	}
	if _, _, err := w.Repo.File(ctx, two, "none", 4); !errors.Is(err, git.ErrNotFound) {
		t.Errorf("a file that is not there: %v", err)
	}
	patch, cut, err := w.Repo.Patch(ctx, one, two, 60, git.DiffOptions{Context: 3}, false)
	if err != nil || !cut || len(patch) != 60 {
		t.Errorf("a cut patch is %q, %v, %v", patch, cut, err)
	}
	if _, err := w.Repo.MergeBases(ctx, one, strings.Repeat("1", 40)); err == nil {
		t.Error("a merge base with a commit that is not there")
	}
}
func TestCommitFiles(t *testing.T) {
	w := workshop.New(t)
	w.Write("tool", "a\n")
	w.Write("dir/x", "x\n")
	w.Write("other", "o\n")
	if err := os.Chmod(filepath.Join(w.Dir, "tool"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("tool", filepath.Join(w.Dir, "link")); err != nil {
		t.Fatal(err)
	}
	one := w.Commit("one")
	w.Push()
	ctx := t.Context()
	me := git.Signature{Name: "Wren Askew", Email: "wren@fennmoor.example"}
	two, err := w.Repo.CommitFiles(ctx, one, []git.Written{{"tool", "b\n"}, {"dir/x", ""}}, me, me, "two\n")
	if err != nil {
		t.Fatal(err)
	}
	files, err := w.Repo.Diff(ctx, one, two)
	if err != nil || len(files) != 2 || files[1].Path != "tool" || files[1].NewMode != "100755" {
		t.Errorf("it differs in %+v, %v", files, err)
	}
	log, err := w.Repo.Log(ctx, two, []string{one}, 0, 5)
	if err != nil || len(log) != 1 || log[0].Author.Name != "Wren Askew" || log[0].Parents[0] != one {
		t.Errorf("log is %+v, %v", log, err)
	}
	for _, path := range []string{"none", "dir", "link", "*"} {
		if _, err := w.Repo.CommitFiles(ctx, one, []git.Written{{path, "x"}}, me, me, "x\n"); !errors.Is(err, git.ErrNotFound) {
			t.Errorf("%s was written: %v", path, err)
		}
	}
}

func TestBlame(t *testing.T) {
	w := workshop.New(t)
	w.Write("a", "1\n2\n3\n")
	one := w.Commit("one")
	w.Write("a", "1\n2\nmore\n3\n")
	two := w.Commit("two")
	w.Git("mv", "a", "b")
	w.Commit("moved")
	w.Push()
	blocks, err := w.Repo.Blame(t.Context(), w.Git("rev-parse", "HEAD"), "b")
	var told []string
	for _, b := range blocks {
		told = append(told, fmt.Sprintf("%d-%d %s %s %s", b.First, b.Last, b.Commit, b.Subject, b.Author))
	}
	want := []string{"1-2 " + one + " one Ines Varga", "3-3 " + two + " two Ines Varga", "4-4 " + one + " one Ines Varga"}
	if err != nil || !slices.Equal(told, want) {
		t.Errorf("blamed on %q, %v", told, err)
	}
}

// No attribute of the tree hides a difference, and every file counts, whatever bytes it holds.
func TestDifferencesAreWhole(t *testing.T) {
	w := workshop.New(t)
	w.Write(".gitattributes", "* -diff\n*.sh binary\n")
	w.Write("a", "a\n")
	one := w.Commit("start")
	w.Write("a", "b\n")
	w.Write("run.sh", "echo one\x00\necho two\n")
	w.Write("long", strings.Repeat("x", 4000))
	w.Write("noise", strings.Repeat("\x00\x01\x02\xff", 100))
	os.Chmod(w.Dir+"/a", 0o755)
	os.Symlink("/etc/passwd", w.Dir+"/link")
	w.Git("update-index", "--add", "--cacheinfo", "160000,"+strings.Repeat("1", 40)+",sub")
	w.Write(".gitmodules", "[submodule \"sub\"]\n\tpath = sub\n\turl = ../sub\n\tignore = all\n")
	w.Git("add", ".gitmodules", "a", "run.sh", "long", "noise", "link")
	w.Git("commit", "-q", "-m", "two")
	two := w.Git("rev-parse", "HEAD")
	w.Push()
	files, err := w.Repo.Diff(t.Context(), one, two)
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]git.FileDiff{}
	for _, f := range files {
		got[f.Path] = f
	}
	for path, want := range map[string]git.FileDiff{
		"a": {Added: 1, Removed: 1, NewMode: "100755"}, "run.sh": {Added: 2, Odd: true, NewMode: "100644"}, "long": {Added: 20, NewMode: "100644"},
		"noise": {Added: 10, Binary: true, NewMode: "100644"}, "link": {Added: 1, NewMode: "120000"}, "sub": {Added: 1, NewMode: "160000"},
	} {
		if f := got[path]; f.Added != want.Added || f.Removed != want.Removed || f.Odd != want.Odd || f.Binary != want.Binary || f.NewMode != want.NewMode {
			t.Errorf("%s is %+v", path, f)
		}
	}
	text, _, err := w.Repo.Patch(t.Context(), one, two, 1<<20, git.DiffOptions{Context: 3}, true, "run.sh", "a", "sub", "link")
	for _, part := range []string{"+echo two", "-a", "+b", "+Subproject commit 1111", "+/etc/passwd", "new mode 100755"} {
		if err != nil || !strings.Contains(text, part) {
			t.Errorf("%q is missing, %v:\n%s", part, err, text)
		}
	}
}

// What people put into a commit cannot look like the end of it, like another, or like something that Git says.
func TestCommitsAreReadAsStored(t *testing.T) {
	w := workshop.New(t)
	w.Write("a", "a\n")
	first := w.Commit("start")
	tree := w.Git("rev-parse", first+"^{tree}")
	raw := func(text string) string {
		w.Helper()
		out, err := w.TryWith(strings.NewReader(text), "hash-object", "-t", "commit", "-w", "--stdin", "--literally")
		if err != nil {
			t.Fatal(err, out)
		}
		return strings.TrimSpace(out)
	}
	head := "tree " + tree + "\nparent " + first + "\nauthor Odo <odo@fennmoor.example> 1700000000 +0200\ncommitter Ines <ines@fennmoor.example> 1700000001 +0000\n"
	cases := []struct {
		name, text, subject, body, author string
		when                              int64
	}{
		{"a byte 1 in the message", head + "\nopen\x01the valve\n\nbody\x01\n", "open\x01the valve", "body\x01", "Odo", 1700000000},
		{"what looks like another commit", head + "\nopen\n\n" + strings.Repeat("0", 40) + " commit 3\nabc\n", "open", strings.Repeat("0", 40) + " commit 3\nabc", "Odo", 1700000000},
		{"no message", head + "\n", "", "", "Odo", 1700000000},
		{"a subject of two lines", head + "\nopen\nwide\n\nbody\n", "open wide", "body", "Odo", 1700000000},
		{"Latin-1", head + "encoding ISO-8859-1\n\n\xe4gypten\n", "ägypten", "", "Odo", 1700000000},
		{"an unknown encoding", head + "encoding x-nothing\n\n\xe4\n", "\uFFFD", "", "Odo", 1700000000},
		{"a year that cannot be written", "tree " + tree + "\nauthor A <a> 99999999999999 +0000\ncommitter A <a> 5 +0000\n\nx\n", "x", "", "A", -62135596800},
		{"an author without end", "tree " + tree + "\nauthor A > <<b> 7 +0000\ncommitter\n\nx\n", "x", "", "A >", 7},
		{"parents that are none", head + "parent 0000\nnote parent\n\nx\n", "x", "", "Odo", 1700000000},
	}
	var ids []string
	for _, c := range cases {
		ids = append(ids, raw(c.text))
	}
	for i, id := range ids {
		w.Git("update-ref", fmt.Sprintf("refs/heads/odd%d", i), id)
	}
	w.Push()
	got, err := w.Repo.Commits(t.Context(), ids)
	if err != nil {
		t.Fatal(err)
	}
	for i, c := range cases {
		k := got[i]
		if k.ID != ids[i] || k.Subject != c.subject || k.Body != c.body || k.Author.Name != c.author || k.Author.When.Unix() != c.when {
			t.Errorf("%s: %+v", c.name, k)
		}
		if !strings.HasPrefix(c.name, "a year") && !strings.HasPrefix(c.name, "an author") && (len(k.Parents) != 1 || k.Parents[0] != first) {
			t.Errorf("%s: parents are %v", c.name, k.Parents)
		}
		if y := k.Author.When.Year(); y > 9999 || y < 1 {
			t.Errorf("%s: the year %d cannot be written down", c.name, y)
		}
	}
	log, err := w.Repo.LogAll(t.Context(), ids[0], []string{first}, "change.commits")
	if err != nil || len(log) != 1 || log[0].ID != ids[0] {
		t.Errorf("log is %v, %v", log, err)
	}
}
