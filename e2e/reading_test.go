package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tavrin/wire"
)

// paths lists the paths of a difference, with what of them is remarkable.
func pathsOf(d wire.Diff) string {
	var out []string
	for _, f := range d.Files {
		text := f.Path
		if f.Read {
			text += "*"
		}
		out = append(out, text)
	}
	return strings.Join(out, " ")
}

// reads gives a reading of a change.
func (w *town) reads(login string, k wire.Change, q wire.Reading) wire.Diff {
	w.t.Helper()
	d, err := w.as(login).Diff(w.t.Context(), repo, k.Number, q, false)
	w.ok(err)
	return d
}

// Between two revisions, what came only from a rebase is taken out, and what the author changed is not.
func TestWhatCameSince(t *testing.T) {
	w := newTown(t)
	ines := w.begin(simple)
	ctx := t.Context()
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "README.md", lines(20, map[int]string{2: "mine"}), "one")
	w.commit("tamsin", dir, "pumps/a", "a\n", "two")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	if d := w.reads("odo", k, wire.Reading{}); d.Looked != 0 || pathsOf(d) != "README.md pumps/a" {
		t.Errorf("at first: looked %d, %s", d.Looked, pathsOf(d))
	}
	w.ok(w.as("odo").Looked(ctx, repo, k.Number, 1))

	// The target changes the same file elsewhere, and another; the author rebases and changes pumps/a.
	w.commit("ines", ines, "README.md", lines(20, map[int]string{15: "theirs"}), "theirs")
	w.commit("ines", ines, "other", "o\n", "other")
	w.must("ines", ines, "push", "-q", "origin", "HEAD:refs/heads/aside")
	w.landDirectly(ines)
	w.must("tamsin", dir, "fetch", "-q", "origin")
	w.must("tamsin", dir, "rebase", "-q", "origin/main")
	w.must("tamsin", dir, "push", "-q", "-f", "origin", "topic")
	if d := w.reads("odo", k, wire.Reading{Since: 1}); pathsOf(d) != "" || len(d.NotTaken) != 0 {
		t.Errorf("after a clean rebase, since revision 1: %s, not taken out %v", pathsOf(d), d.NotTaken)
	}
	w.commit("tamsin", dir, "pumps/a", "a\nb\n", "three")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	d := w.reads("odo", k, wire.Reading{Since: 1})
	if pathsOf(d) != "pumps/a" || !strings.Contains(d.Patch, "+b") || strings.Contains(d.Patch, "theirs") || d.Revision != 3 || d.Looked != 1 {
		t.Errorf("since revision 1: %s\n%s", pathsOf(d), d.Patch)
	}
	if back := w.reads("odo", k, wire.Reading{Revision: 1, Since: 3}); pathsOf(back) != "pumps/a" || !strings.Contains(back.Patch, "-b") {
		t.Errorf("the other way round: %s", back.Patch)
	}
	has(t, w.says("odo", 0, "+b", "change", "diff", "1", "--new", "--repo", repo), "pumps/a")
	if out := w.says("odo", 0, "", "change", "diff", "1", "--new", "--repo", repo); out != "" {
		t.Errorf("looked at, and still new:\n%s", out)
	}

	// A review is a look; and a look at something earlier takes nothing back.
	if _, err := w.as("wren").Review(ctx, repo, k.Number, wire.NewReview{Verdict: "comment", Revision: 3, Text: "read"}); err != nil {
		t.Fatal(err)
	}
	w.ok(w.as("wren").Looked(ctx, repo, k.Number, 1))
	if d := w.reads("wren", k, wire.Reading{}); d.Looked != 3 {
		t.Errorf("wren looked at revision %d", d.Looked)
	}

	// Where the two do not go together, the file shows both, and says so.
	w.commit("ines", ines, "README.md", lines(20, map[int]string{2: "clash", 15: "theirs"}), "clash")
	w.landDirectly(ines)
	w.must("tamsin", dir, "fetch", "-q", "origin")
	if _, err := w.gitAs("tamsin", dir, "rebase", "origin/main"); err == nil {
		t.Fatal("no conflict")
	}
	w.ok(os.WriteFile(filepath.Join(dir, "README.md"), []byte(lines(20, map[int]string{2: "mine and clash", 15: "theirs"})), 0o644))
	w.must("tamsin", dir, "add", "README.md")
	w.must("tamsin", dir, "-c", "core.editor=true", "rebase", "--continue")
	w.must("tamsin", dir, "push", "-q", "-f", "origin", "topic")
	d = w.reads("odo", k, wire.Reading{Since: 3})
	if pathsOf(d) != "README.md" || fmt.Sprint(d.NotTaken) != "[README.md]" || !strings.Contains(d.Patch, "+mine and clash") || strings.Contains(d.Patch, "<<<<<") {
		t.Errorf("after a conflict: %s, not taken out %v\n%s", pathsOf(d), d.NotTaken, d.Patch)
	}
	for q, words := range map[wire.Reading]string{{Since: 9}: "has no revision 9", {Revision: 9}: "has no revision 9"} {
		_, err := w.as("odo").Diff(ctx, repo, k.Number, q, false)
		problem(t, err, 404, words)
	}
	_, err := w.as("odo").Diff(ctx, repo, k.Number, wire.Reading{Commit: strings.Repeat("1", 40)}, false)
	problem(t, err, 422, "does not bring a commit")
}

// landDirectly moves main to a clone's HEAD, with the protection out of the way.
func (w *town) landDirectly(dir string) {
	w.t.Helper()
	w.apply("tavrin: rules/1\n")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:main")
	w.apply(simple)
}

func TestReadingCommitsFilesAndSpace(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	_ = dir
	clone := w.clone("tamsin")
	w.must("tamsin", clone, "checkout", "-q", "-b", "base")
	w.commit("tamsin", clone, "old/name", lines(30, nil), "files")
	w.commit("tamsin", clone, "tool", "x\n", "tool")
	w.commit("tamsin", clone, "spaced", "if x {\ny\n}\n", "spaced")
	w.commit("tamsin", clone, "image", "\x00\x01", "image")
	w.land(func() wire.Change {
		w.must("tamsin", clone, "push", "-q", "origin", "base")
		return w.openChange("tamsin", "base")
	}(), "rebase")
	w.must("tamsin", clone, "fetch", "-q", "origin")
	w.must("tamsin", clone, "checkout", "-q", "-b", "topic", "origin/main")
	w.must("tamsin", clone, "mv", "old", "new")
	w.ok(os.Chmod(filepath.Join(clone, "tool"), 0o755))
	one := w.commit("tamsin", clone, "spaced", "if x {\n\ty\n}\n", "move and indent")
	w.commit("tamsin", clone, "go.sum", "h1\n", "sums")
	w.commit("tamsin", clone, "image", "\x00\x02", "image")
	w.must("tamsin", clone, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	d, err := w.as("odo").Diff(t.Context(), repo, k.Number, wire.Reading{}, true)
	w.ok(err)
	of := func(path string) wire.FileDiff {
		t.Helper()
		i := slices.IndexFunc(d.Files, func(f wire.FileDiff) bool { return f.Path == path })
		if i < 0 {
			t.Fatalf("no %s in %s", path, pathsOf(d))
		}
		return d.Files[i]
	}
	if f := of("new/name"); f.Status != "renamed" || f.OldPath != "old/name" || f.Similarity != 100 {
		t.Errorf("moved: %+v", f)
	}
	if f := of("tool"); f.OldMode != "100644" || f.NewMode != "100755" || f.Added != 0 {
		t.Errorf("mode: %+v", f)
	}
	if !of("image").Binary || !of("go.sum").Generated || of("spaced").Generated || d.Patch != "" {
		t.Errorf("files are %+v", d.Files)
	}
	has(t, w.says("odo", 0, "only moved", "change", "diff", "2", "--stat", "--repo", repo), "old/name to new/name", "tool (mode 100644 to 100755)", "image (binary)", "go.sum (generated)")
	if d := w.reads("odo", k, wire.Reading{Space: "ignored"}); strings.Contains(pathsOf(d), "spaced") || !strings.Contains(pathsOf(d), "tool") || strings.Contains(d.Patch, "spaced") {
		t.Errorf("without white space: %s\n%s", pathsOf(d), d.Patch)
	}
	if d := w.reads("odo", k, wire.Reading{Commit: one}); pathsOf(d) != "new/name spaced tool" {
		t.Errorf("one commit: %s", pathsOf(d))
	}
	f, err := w.as("odo").FileDiff(t.Context(), repo, k.Number, of("spaced").File, wire.Reading{Context: 1})
	w.ok(err)
	if f.Path != "spaced" || !strings.Contains(f.Patch, "+\ty") || strings.Contains(f.Patch, "tool") {
		t.Errorf("one file: %+v", f)
	}
	if f, err = w.as("odo").FileDiff(t.Context(), repo, k.Number, of("new/name").File, wire.Reading{}); err != nil || !strings.Contains(f.Patch, "rename from old/name") {
		t.Errorf("a moved file: %+v, %v", f, err)
	}
	_, err = w.as("odo").FileDiff(t.Context(), repo, k.Number, "nonsense", wire.Reading{})
	problem(t, err, 404, `no file "nonsense"`)
	has(t, w.says("odo", 0, "-y", "change", "diff", "2", "--path", "spaced", "--repo", repo), "+")
	w.says("odo", 1, "no file nowhere", "change", "diff", "2", "--path", "nowhere", "--repo", repo)
	has(t, w.says("odo", 0, one, "change", "commits", "2", "--repo", repo), "move and indent", "not signed")
}

// A tick lives as long as the file's difference does: through a rebase, not through a change of it.
func TestTicks(t *testing.T) {
	w := newTown(t)
	ines := w.begin(simple)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "README.md", lines(20, map[int]string{2: "mine"}), "one")
	w.commit("tamsin", dir, "b", "b\n", "two")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	w.says("odo", 0, "README.md of change 1 is ticked as read, at revision 1", "change", "read", "1", "README.md", "--repo", repo)
	w.says("odo", 0, "b of change 1 is ticked", "change", "read", "1", "b", "--repo", repo)
	read := func(login, want string) {
		t.Helper()
		if got := pathsOf(w.reads(login, k, wire.Reading{})); got != want {
			t.Errorf("%s has read %s, not %s", login, got, want)
		}
	}
	read("odo", "README.md* b*")
	read("wren", "README.md b")
	w.commit("ines", ines, "README.md", lines(20, map[int]string{15: "theirs"}), "theirs")
	w.landDirectly(ines)
	w.must("tamsin", dir, "fetch", "-q", "origin")
	w.must("tamsin", dir, "rebase", "-q", "origin/main")
	w.must("tamsin", dir, "push", "-q", "-f", "origin", "topic")
	read("odo", "README.md* b*")
	w.commit("tamsin", dir, "b", "c\n", "three")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	read("odo", "README.md* b")
	w.says("odo", 0, "not ticked any more", "change", "read", "1", "README.md", "--undo", "--repo", repo)
	read("odo", "README.md b")
	w.says("odo", 1, "no file c", "change", "read", "1", "c", "--repo", repo)
	err := w.as("odo").Tick(t.Context(), repo, k.Number, 0, "none", true)
	problem(t, err, 404, `has no file "none"`)
}

// Paths and texts that are not UTF-8, and control characters, are shown and can be asked for.
func TestUnreadableDifference(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "bad\xff\x1bname", "text \xfe\xff\x1b[31m red\r\n", "bad")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	d := w.reads("odo", k, wire.Reading{})
	if len(d.Files) != 1 || d.Files[0].Path != "bad\uFFFD\x1bname" || !strings.Contains(d.Patch, "text \uFFFD") {
		t.Errorf("difference is %+v\n%q", d.Files, d.Patch)
	}
	f, err := w.as("odo").FileDiff(t.Context(), repo, k.Number, d.Files[0].File, wire.Reading{})
	w.ok(err)
	has(t, f.Patch, "+text \uFFFD")
	w.ok(w.as("odo").Tick(t.Context(), repo, k.Number, 1, d.Files[0].File, true))
	if d := w.reads("odo", k, wire.Reading{}); !d.Files[0].Read {
		t.Error("a file with such a name cannot be ticked")
	}
	for _, args := range [][]string{{"change", "diff", "1"}, {"change", "diff", "1", "--stat"}} {
		if out := w.says("odo", 0, "bad", append(args, "--repo", repo)...); strings.ContainsAny(out, "\x1b\r") {
			t.Errorf("%v printed a control character: %q", args, out)
		}
	}
}
