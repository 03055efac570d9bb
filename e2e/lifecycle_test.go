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

// A change that goes to another branch keeps its history, gets a revision, is judged by that branch's rules and leaves
// the queue; an approval lives on exactly when the difference is the same (P5, P6).
func TestP6Retarget(t *testing.T) {
	w := newTown(t)
	ines := w.begin(simple + "  - {name: releases, branches: release/**, require: [{approvals: 2}]}\n")
	ctx := t.Context()
	author := w.as("tamsin")
	w.must("ines", ines, "checkout", "-q", "-b", "r")
	w.must("ines", ines, "push", "-q", "origin", "main:refs/heads/wip")
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	w.join("tamsin", k, "")
	w.rehearsed(k)
	other := "wip"
	now, err := author.EditChange(ctx, repo, k.Number, wire.ChangeEdit{Target: &other})
	w.ok(err)
	if now.Target != "wip" || now.Revision != 2 || now.Entry == nil || now.Entry.State != "withdrawn" || w.standing(k)["odo"] != "approve" {
		t.Errorf("retargeted: %+v, entry %+v", now, now.Entry)
	}
	has(t, now.Entry.Reason, "tamsin had it go to wip instead of main: join again")
	if !now.Ready { // nothing protects wip
		t.Errorf("to wip: %s", now.Summary)
	}
	main := "main"
	now, err = author.EditChange(ctx, repo, k.Number, wire.ChangeEdit{Target: &main})
	w.ok(err)
	if !now.Ready || now.Revision != 3 { // the same difference, so odo's approval lives
		t.Errorf("back to main: %s", now.Summary)
	}
	revisions, err := author.Revisions(ctx, repo, k.Number)
	w.ok(err)
	if revisions[0].Kind != "retargeted" || !revisions[0].SameDifference || revisions[0].Head != revisions[2].Head {
		t.Errorf("revisions are %+v", revisions)
	}

	// A branch that lacks a commit of main: the change brings that one too, by somebody else, and nobody approved it.
	w.must("ines", ines, "push", "-q", "origin", "main:refs/heads/base")
	w.land(w.propose("tamsin", "first", "b", "b\n"), "rebase")
	second := w.propose("wren", "second", "c", "c\n")
	w.approve("odo", second)
	base := "base"
	now, err = w.as("wren").EditChange(ctx, repo, second.Number, wire.ChangeEdit{Target: &base})
	w.ok(err)
	if now.Files != 2 || !slices.Equal(now.Authors, []string{"tamsin", "wren"}) {
		t.Errorf("it brings %d files by %v", now.Files, now.Authors)
	}
	now, err = w.as("wren").EditChange(ctx, repo, second.Number, wire.ChangeEdit{Target: &main})
	w.ok(err)
	if !now.Ready { // it brings what odo approved, whatever it brought in between
		t.Errorf("back to main: %s", now.Summary)
	}

	nowhere, itself, topic := "nowhere", "second", "topic"
	for target, words := range map[*string]string{&nowhere: "no branch nowhere", &itself: "source and target would both be second"} {
		_, err = w.as("wren").EditChange(ctx, repo, second.Number, wire.ChangeEdit{Target: target})
		problem(t, err, 422, words)
	}
	twin, err := w.as("wren").OpenChange(ctx, repo, wire.NewChange{Source: "second", Target: "wip", Title: "Twin"})
	w.ok(err)
	title := "Renamed"
	_, err = w.as("wren").EditChange(ctx, repo, twin.Number, wire.ChangeEdit{Target: &main, Title: &title})
	problem(t, err, 409, "brings second into main already")
	if same, _ := author.Change(ctx, repo, twin.Number); same.Title != "Twin" || same.Revision != 1 || same.Target != "wip" {
		t.Errorf("half of the edit was done: %+v", same)
	}
	_, err = w.as("odo").EditChange(ctx, repo, twin.Number, wire.ChangeEdit{Target: &topic})
	problem(t, err, 403, "for its authors")
}

func TestDependencies(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	author := w.as("tamsin")
	first := w.propose("tamsin", "first", "a", "a\n")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "second", "origin/first")
	w.commit("tamsin", dir, "b", "b\n", "second")
	w.must("tamsin", dir, "push", "-q", "origin", "second")
	second, err := author.OpenChange(ctx, repo, wire.NewChange{Source: "second", Title: "Second", DependsOn: []int{first.Number}})
	w.ok(err)
	w.approve("odo", second)
	w.join("tamsin", second, "")
	has(t, w.until(second, "waiting", func(k wire.Change) bool { return k.Entry.State == "waiting" }).Summary, "change 1 not landed on main")
	has(t, w.says("tamsin", 3, "waits for", "change", "gate", "2", "--repo", repo), `"Bring first" is open; this waits for it, and goes on by itself`)

	for on, words := range map[int]string{2: "cannot wait for itself", 9: "there is no change 9"} {
		_, err := author.EditChange(ctx, repo, 2, wire.ChangeEdit{DependsOn: &[]int{on}})
		problem(t, err, 422, words)
	}
	_, err = author.EditChange(ctx, repo, 1, wire.ChangeEdit{DependsOn: &[]int{2}})
	problem(t, err, 422, "change 2 waits for change 1 already, so that neither could ever land")
	_, err = author.CloseChange(ctx, repo, 1)
	w.ok(err)
	has(t, w.says("tamsin", 3, "was closed: reopen it", "change", "gate", "2", "--repo", repo), "> tamsin: tavrin change reopen 1")
	_, err = author.ReopenChange(ctx, repo, 1)
	w.ok(err)
	w.land(first, "rebase")
	w.report(w.rehearsed(second), "unit", "passed") // nobody came back for it
	if now := w.landed(second); fmt.Sprint(now.DependsOn) != "[1]" {
		t.Errorf("it depended on %v", now.DependsOn)
	}

	third := w.propose("tamsin", "third", "c", "c\n")
	w.says("tamsin", 0, "revision 1 for main", "change", "edit", "3", "--depends-on", "1,2", "--repo", repo)
	if now, err := author.Change(ctx, repo, third.Number); err != nil || fmt.Sprint(now.DependsOn) != "[1 2]" {
		t.Errorf("depends on %v, %v", now.DependsOn, err)
	}
	w.says("tamsin", 0, "is open", "change", "edit", "3", "--depends-on", "0", "--repo", repo)
	if now, err := author.Change(ctx, repo, third.Number); err != nil || len(now.DependsOn) != 0 {
		t.Errorf("depends on %v, %v", now.DependsOn, err)
	}
}

// A new change begins with the rules' description, whose checklist its gate then asks for; tickets are found.
func TestDescriptionsBegin(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nchanges:\n  description: |\n    Why:\n\n    - [ ] tried on a bench valve\nprotect:\n  - {name: trunk, branches: main, require: [{tasks: done}, {ticket: 'FEN-[0-9]+', level: advisory}]}\n")
	ctx := t.Context()
	_, err := w.as("admin").ApplyRules(ctx, "growers", wire.NewRules{Text: "tavrin: rules/1\nchanges: {description: \"Members told: \"}\n", Reason: "for all"}, -1)
	w.ok(err)
	k := w.propose("tamsin", "topic", "a", "a\n")
	if k.Description != "Members told:\n\nWhy:\n\n- [ ] tried on a bench valve" || k.Ready {
		t.Errorf("it begins with %q, ready %v", k.Description, k.Ready)
	}
	text := "FEN-7, then FEN-12: - done\n- [x] tried on a bench valve"
	k, err = w.as("tamsin").EditChange(ctx, repo, k.Number, wire.ChangeEdit{Description: &text})
	w.ok(err)
	if !k.Ready || fmt.Sprint(k.Tickets) != "[FEN-7 FEN-12]" {
		t.Errorf("ready %v, tickets %v", k.Ready, k.Tickets)
	}
	dir := w.clone("wren")
	w.must("wren", dir, "checkout", "-q", "-b", "own")
	w.commit("wren", dir, "b", "b\n", "b")
	w.must("wren", dir, "push", "-q", "origin", "own")
	has(t, w.says("wren", 0, "Members told", "change", "preview", "--source", "own", "--repo", repo, "-o", "json"), "tried on a bench valve")
	own, err := w.as("wren").OpenChange(ctx, repo, wire.NewChange{Source: "own", Title: "Own", Description: new("own words")})
	w.ok(err)
	if own.Description != "own words" || !own.Ready {
		t.Errorf("its author's words became %q", own.Description)
	}
	_, err = w.as("ines").ApplyRules(ctx, repo, wire.NewRules{Text: "tavrin: rules/1\nchanges: {description: \"" + strings.Repeat("x", 9000) + "\"}\n", Reason: "long"}, -1)
	if err == nil {
		t.Error("a description of 9,000 bytes was taken")
	}
}

// One command brings a branch up to its target; approvals live on, and authorship is not laundered (P6).
func TestP6Update(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	w.says("tamsin", 1, "topic has everything of main already", "change", "update", "1", "--repo", repo)
	w.land(w.propose("tamsin", "other", "b", "b\n"), "rebase")
	w.says("wren", 1, "updating change 1 is for its authors", "change", "update", "1", "--repo", repo)
	w.says("tamsin", 0, "topic has everything of main now; change 1 is at revision 2", "change", "update", "1", "--repo", repo)
	now, err := w.as("ines").Change(ctx, repo, 1)
	w.ok(err)
	if now.Behind != 0 || now.Ahead != 1 || !now.Ready || !slices.Equal(now.Authors, []string{"tamsin"}) || w.tip("topic") != now.Head {
		t.Errorf("updated: %+v", now)
	}
	w.land(w.propose("tamsin", "third", "c", "c\n"), "rebase")
	now, err = w.as("ines").UpdateBranch(ctx, repo, 1, "merge") // a maintainer may, and does not become an author by it
	w.ok(err)
	if now.Behind != 0 || !now.Ready || !slices.Equal(now.Authors, []string{"tamsin"}) {
		t.Errorf("updated by a merge: %+v", now)
	}
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "clash")
	w.commit("tamsin", dir, "README.md", "mine\n", "mine")
	w.must("tamsin", dir, "push", "-q", "origin", "clash")
	clash := w.openChange("tamsin", "clash")
	w.land(w.propose("tamsin", "theirs", "README.md", "theirs\n"), "rebase")
	before := w.tip("clash")
	_, err = w.as("tamsin").UpdateBranch(ctx, repo, clash.Number, "rebase")
	problem(t, err, 409, "clash and main do not go together in README.md", "git rebase origin/main")
	if w.tip("clash") != before {
		t.Error("a branch that could not be updated moved")
	}
}

// Who rewrites a branch that others pushed to is told so, and how to put it back.
func TestRewritingOthersWork(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	mine := w.clone("tamsin")
	w.must("tamsin", mine, "checkout", "-q", "-b", "shared")
	w.commit("tamsin", mine, "a", "a\n", "a")
	w.must("tamsin", mine, "push", "-q", "origin", "shared")
	w.must("tamsin", mine, "commit", "-q", "--amend", "-m", "a, better")
	if out := w.must("tamsin", mine, "push", "-f", "origin", "shared"); strings.Contains(out, "You rewrote") {
		t.Errorf("rewriting one's own work was remarked on:\n%s", out)
	}
	theirs := w.clone("wren")
	w.must("wren", theirs, "checkout", "-q", "shared")
	stood := w.commit("wren", theirs, "b", "b\n", "b")
	w.must("wren", theirs, "push", "-q", "origin", "shared")
	w.ok(os.WriteFile(filepath.Join(mine, "a"), []byte("c\n"), 0o644))
	w.must("tamsin", mine, "commit", "-q", "-a", "--amend", "-m", "a, best")
	out := w.must("tamsin", mine, "push", "-f", "origin", "shared")
	has(t, out, "You rewrote shared, which wren had pushed to as well: it stood at "+stood[:10], "git push --force-with-lease origin "+stood+":refs/heads/shared")
	w.must("wren", theirs, "push", "--force", "origin", stood+":refs/heads/shared")
}

// A source branch may be deleted and used again: the change stays at its newest revision, keeps what it had, and goes on
// from what comes, whose approvals are its own.
func TestSourceDeletedAndReused(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	comment := w.suggest("odo", k, "a", 1, 1, "b")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "push", "-q", "origin", ":topic")
	now := w.openedAs(1)
	if !now.SourceGone || now.State != "open" || now.Revision != 1 || now.Ready {
		t.Errorf("its source deleted: %+v", now)
	}
	has(t, w.says("tamsin", 0, "goes on when the branch is pushed again", "change", "show", "1", "--repo", repo), "topic to main")
	w.says("tamsin", 1, "no branch topic", "change", "update", "1", "--repo", repo)
	w.says("odo", 0, "+a", "change", "diff", "1", "--repo", repo)

	// Used again for something that shares no history: the change does not follow, and the pusher is told.
	w.must("tamsin", dir, "checkout", "-q", "--orphan", "other")
	w.commit("tamsin", dir, "b", "b\n", "something else")
	out := w.must("tamsin", dir, "push", "origin", "other:topic")
	has(t, out, `Change 1, "Bring topic", stays at revision 1 and does not follow`, "share no history")
	if now = w.openedAs(1); now.Revision != 1 || now.SourceGone {
		t.Errorf("after an unrelated push: %+v", now)
	}
	w.says("tamsin", 1, "topic has just moved", "thread", "apply", "1", fmt.Sprint(comment), "--repo", repo) // not onto something else
	// Used again for other work: a revision that nobody has approved.
	w.must("tamsin", dir, "checkout", "-q", "-b", "more", "origin/main")
	w.commit("tamsin", dir, "c", "c\n", "other work")
	w.must("tamsin", dir, "push", "-q", "-f", "origin", "more:topic")
	if now = w.openedAs(1); now.Revision != 2 || now.Ready {
		t.Errorf("after other work: revision %d, ready %v", now.Revision, now.Ready)
	}
	// Without its source a change does not land; what was reviewed is kept, and counts when the branch is back.
	w.approve("odo", now)
	w.must("tamsin", dir, "push", "-q", "origin", ":topic")
	w.join("tamsin", now, "")
	w.until(now, "waiting", func(k wire.Change) bool { return k.Entry != nil && k.Entry.State == "waiting" })
	w.stands(now, "source", "missing", "topic was deleted")
	w.must("tamsin", dir, "push", "-q", "origin", "more:topic")
	w.report(w.rehearsed(now), "unit", "passed")
	w.landed(now)
}
