package rehearsal

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/git/workshop"
)

// What conflicts is shown as it stands on both sides, for every kind of conflict, and whatever the files hold.
func TestConflictsAreShown(t *testing.T) {
	w := newShop(t)
	w.Write("a", workshop.Lines(30, nil))
	w.Write("ä \"b\" :(x)*", workshop.Lines(9, nil))
	w.Write("gone", "g\n")
	w.Write("bin", "\x00a")
	w.Write("fine", workshop.Lines(9, nil))
	base := w.Commit("start")
	w.Git("checkout", "-q", "-b", "topic")
	w.Write("a", workshop.Lines(30, map[int]string{2: "topic", 20: "topic's", 25: ">>>>>>> nothing"}))
	w.Write("ä \"b\" :(x)*", workshop.Lines(9, map[int]string{4: "topic"}))
	w.Write("gone", "topic\n")
	w.Write("bin", "\x00t")
	w.Write("fine", workshop.Lines(9, map[int]string{0: "topic"}))
	w.Write("new", "topic\n")
	head := w.Commit("topic")
	w.Git("checkout", "-q", "main")
	w.Write("a", workshop.Lines(30, map[int]string{2: "main", 20: "main's", 25: "other"}))
	w.Write("ä \"b\" :(x)*", workshop.Lines(9, map[int]string{4: "main"}))
	w.Git("rm", "-q", "gone")
	w.Write("bin", "\x00m")
	w.Write("fine", workshop.Lines(9, map[int]string{8: "main"}))
	w.Write("new", "main\n")
	onto := w.Commit("main")
	w.Push()
	before := w.Git("--git-dir="+w.Bare, "count-objects", "-v")
	all, err := Conflicts(t.Context(), w.Repo, Shown{base, head}, onto, Sides{"main", "change 4 (topic)"})
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, c := range all {
		told = append(told, fmt.Sprintf("%s|%s|%d", c.Path, c.What, len(c.Places)))
		if !slices.Equal(c.Since, []string{onto}) || c.More != 0 {
			t.Errorf("%s: since %v, and %d more", c.Path, c.Since, c.More)
		}
	}
	slices.Sort(told)
	want := []string{"a||3", "bin||0", "gone|removed or renamed on one side, changed on the other|0", "new|added on both sides|1", "ä \"b\" :(x)*||1"}
	if !slices.Equal(told, want) {
		t.Errorf("%q, want %q", told, want)
	}
	i := slices.IndexFunc(all, func(c Conflict) bool { return c.Path == "a" })
	place := "line 0\nline 1\n<<<<<<< main\nmain\n=======\ntopic\n>>>>>>> change 4 (topic)\nline 3\nline 4\nline 5"
	if got := all[i].Places[0]; got != place {
		t.Errorf("it is shown as\n%s", got)
	}
	if got := all[i].Places[2]; !strings.Contains(got, ">>>>>>> nothing\n>>>>>>> change 4 (topic)") {
		t.Errorf("what looks like a mark is shown as\n%s", got)
	}
	if all, err := Conflicts(t.Context(), w.Repo, Shown{base, head}, base, Sides{}); err != nil || all != nil {
		t.Errorf("on its own base: %v, %v", all, err)
	}
	if after := w.Git("--git-dir="+w.Bare, "count-objects", "-v"); after != before {
		t.Errorf("objects are left:\n%s\n%s", before, after)
	}
}
