package e2e

import (
	"fmt"
	"slices"
	"strings"
	"tavrin/internal/core/change"
	"testing"

	"tavrin/wire"
)

// standing returns who stands with what on a change.
func (w *town) standing(k wire.Change) map[string]string {
	w.t.Helper()
	reviews, err := w.as("ines").Reviews(w.t.Context(), repo, k.Number)
	w.ok(err)
	out := map[string]string{}
	for _, r := range reviews {
		if r.Standing {
			out[r.By] = r.Verdict
		}
	}
	return out
}

func TestReviewsReplaceAndWithdraw(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	k := w.propose("tamsin", "topic", "a", "a\n")
	say := func(login, verdict string) {
		t.Helper()
		_, err := w.as(login).Review(ctx, repo, k.Number, wire.NewReview{Verdict: change.Verdict(verdict), Revision: 1, Text: "words"})
		w.ok(err)
	}
	ready := func() bool {
		t.Helper()
		now, err := w.as("ines").Change(ctx, repo, k.Number)
		w.ok(err)
		return now.Ready
	}
	steps := []struct {
		who, does string
		ready     bool
		standing  string
	}{
		{"odo", "object", false, "map[odo:object]"},
		{"wren", "approve", false, "map[odo:object wren:approve]"},
		{"odo", "comment", false, "map[odo:object wren:approve]"}, // a comment changes nothing
		{"odo", "approve", true, "map[odo:approve wren:approve]"}, // an approval takes the objection's place
		{"wren", "withdraw", true, "map[odo:approve]"},
		{"odo", "withdraw", false, "map[]"}, // the objection before it does not come back
		{"pavo", "comment", false, "map[]"},
		{"pavo", "approve", false, "map[pavo:approve]"}, // who may only read may say so; it does not count
		{"wren", "approve", true, "map[pavo:approve wren:approve]"},
	}
	for i, s := range steps {
		if s.does == "withdraw" {
			_, err := w.as(s.who).Withdraw(ctx, repo, k.Number)
			w.ok(err)
		} else {
			say(s.who, s.does)
		}
		if got := fmt.Sprint(w.standing(k)); got != s.standing || ready() != s.ready {
			t.Errorf("step %d, %s %ss: standing %s, ready %v", i, s.who, s.does, got, ready())
		}
	}
	_, err := w.as("odo").Withdraw(ctx, repo, k.Number)
	problem(t, err, 409, "odo has no standing approval or objection")
}

func TestLifeOfAChange(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "a", "a\n", "one")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	author := w.as("tamsin")
	k, err := author.OpenChange(ctx, repo, wire.NewChange{Source: "topic", Title: "First", Description: new("Why"), Draft: true})
	w.ok(err)
	if k.Number != 1 || k.State != "draft" || k.Target != "main" || k.Ready || k.Files != 1 || k.Added != 1 || k.Removed != 0 {
		t.Errorf("opened as %+v", k)
	}
	w.approve("odo", k)
	w.join("tamsin", k, "squash") // a draft may join; it waits
	w.until(k, "waiting", func(k wire.Change) bool { return strings.Contains(k.Entry.Reason, "still a draft") })
	no, title := false, "Second"
	k, err = author.EditChange(ctx, repo, 1, wire.ChangeEdit{Draft: &no, Title: &title})
	w.ok(err)
	if k.State != "open" || k.Title != "Second" || k.Description != "Why" {
		t.Errorf("edited to %+v", k)
	}
	w.rehearsed(k)
	_, err = w.as("wren").EditChange(ctx, repo, 1, wire.ChangeEdit{Title: &title})
	problem(t, err, 403, "for its authors (tamsin) and maintainers")
	_, err = w.as("wren").CloseChange(ctx, repo, 1)
	problem(t, err, 403, "closing change 1 is for its authors")
	_, err = w.as("wren").Leave(ctx, repo, 1)
	problem(t, err, 403, "withdrawing change 1")
	_, err = author.CloseChange(ctx, repo, 1)
	w.ok(err)
	w.ejected(k)
	_, err = author.CloseChange(ctx, repo, 1)
	problem(t, err, 409, "is closed")
	_, err = author.Join(ctx, repo, 1, wire.NewEntry{})
	problem(t, err, 409, "is closed, so it cannot join")
	_, err = w.as("odo").Review(ctx, repo, 1, wire.NewReview{Verdict: "approve", Revision: 1})
	problem(t, err, 409, "only an open change is reviewed")

	w.commit("tamsin", dir, "a", "a\nb\n", "while it was closed")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	if now, err := author.Change(ctx, repo, 1); err != nil || now.Revision != 1 {
		t.Errorf("a closed change is at revision %d, %v", now.Revision, err)
	}
	k, err = author.ReopenChange(ctx, repo, 1)
	w.ok(err)
	if k.State != "open" || k.Revision != 2 || k.Ready { // odo approved something else
		t.Errorf("reopened as %+v", k)
	}
	revisions, err := author.Revisions(ctx, repo, 1)
	w.ok(err)
	if len(revisions) != 2 || revisions[0].Number != 2 || len(revisions[0].Commits) != 2 || revisions[0].SameDifference {
		t.Errorf("revisions are %+v", revisions)
	}
	first, err := author.Diff(ctx, repo, 1, wire.Reading{Revision: 1}, false)
	w.ok(err)
	second, err := author.Diff(ctx, repo, 1, wire.Reading{}, false)
	w.ok(err)
	if strings.Contains(first.Patch, "+b") || !strings.Contains(second.Patch, "+b") || second.Revision != 2 {
		t.Errorf("differences are\n%s\n%s", first.Patch, second.Patch)
	}
	// The source branch may go: the revision stays readable, and lands once the branch is back.
	w.must("tamsin", dir, "push", "-q", "origin", ":topic")
	w.stands(k, "source", "missing", "topic was deleted")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	w.land(k, "squash")
	_, err = author.ReopenChange(ctx, repo, 1)
	problem(t, err, 409, "is landed")
	landed, err := author.Changes(ctx, repo, wire.ChangeFilter{State: "landed", Limit: 10})
	w.ok(err)
	open, err := author.Changes(ctx, repo, wire.ChangeFilter{Limit: 10})
	w.ok(err)
	if len(landed) != 1 || len(open) != 0 || landed[0].Entry.State != "landed" {
		t.Errorf("%d landed, %d open", len(landed), len(open))
	}
}

func TestTargetsOfOtherBranches(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple + "  - {name: lines, branches: 'release/**', push: role:writer, delete: allowed, require: [{approvals: 1}]}\n")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:refs/heads/release/1")
	work := w.clone("tamsin")
	w.must("tamsin", work, "checkout", "-q", "-b", "fix")
	w.commit("tamsin", work, "fix", "x\n", "fix")
	w.must("tamsin", work, "push", "-q", "origin", "fix")
	ctx := t.Context()
	k, err := w.as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: "fix", Target: "release/1", Title: "Fix"})
	w.ok(err)
	main, err := w.as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: "fix", Target: "main", Title: "Fix on main"}) // one branch, two targets
	w.ok(err)
	w.approve("odo", k)
	w.join("tamsin", k, "merge")
	w.landed(k) // no check is asked for there
	q, err := w.as("ines").Queue(ctx, repo, "release/1")
	w.ok(err)
	if len(q.Recent) != 1 || q.Tip != w.tip("release/1") {
		t.Errorf("the queue of release/1 is %+v", q)
	}
	// A change out of the release line gets a revision when something lands there.
	back, err := w.as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: "release/1", Target: "main", Title: "Back to main"})
	w.ok(err)
	w.commit("tamsin", work, "fix", "y\n", "fix more")
	w.must("tamsin", work, "push", "-q", "origin", "fix:refs/heads/fix2")
	more, err := w.as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: "fix2", Target: "release/1", Title: "More"})
	w.ok(err)
	w.approve("odo", more)
	w.join("tamsin", more, "rebase")
	w.landed(more)
	if now := w.until(back, "revised", func(k wire.Change) bool { return k.Revision == 2 }); now.Head != w.tip("release/1") {
		t.Errorf("the change out of release/1 is at %s", now.Head)
	}
	// The target goes away while something waits for it.
	w.commit("tamsin", work, "fix", "z\n", "fix still more")
	w.must("tamsin", work, "push", "-q", "origin", "fix:refs/heads/fix3")
	late, err := w.as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: "fix3", Target: "release/1", Title: "Too late"})
	w.ok(err)
	w.join("tamsin", late, "")
	w.must("ines", dir, "push", "-q", "origin", ":release/1")
	w.join("wren", main, "") // anything makes the queue look again
	if k := w.ejected(late); !strings.Contains(k.Entry.Reason, "release/1 is gone") {
		t.Errorf("ejected because %s", k.Entry.Reason)
	}
}

func TestLookingAround(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	k := w.propose("tamsin", "topic", "firmware/east.prog", "open\n")
	w.report(k.Head, "lint", "failed")
	w.land(k, "merge")
	c := w.as("pavo")
	branches, err := c.Branches(ctx, repo)
	w.ok(err)
	if len(branches) != 2 || !branches[0].Default || fmt.Sprint(branches[0].Protections) != "[trunk]" || branches[0].Checks != "passed" || branches[1].Name != "topic" || branches[1].Checks != "failed" {
		t.Errorf("branches are %+v", branches)
	}
	history, err := c.History(ctx, repo, "main", 10)
	w.ok(err)
	var said []string
	for _, h := range history {
		said = append(said, fmt.Sprintf("%s %s %d", h.Subject, h.Checks, h.Change))
	}
	if fmt.Sprint(said) != "[Bring topic passed 1 change firmware/east.prog failed 1 start  0]" {
		t.Errorf("history is %v", said)
	}
	for at, want := range map[string]string{"": "[README.md firmware]", "topic": "[README.md firmware]", history[2].ID: "[README.md]"} {
		tree, err := c.Tree(ctx, repo, at, "")
		w.ok(err)
		var names []string
		for _, e := range tree.Entries {
			names = append(names, e.Name)
		}
		if fmt.Sprint(names) != want {
			t.Errorf("the root at %q is %v", at, names)
		}
	}
	file, err := c.Tree(ctx, repo, "", "firmware/east.prog")
	w.ok(err)
	if !file.File || file.Text != "open\n" || file.Binary {
		t.Errorf("the file is %+v", file)
	}
	names, err := c.CheckNames(ctx, repo)
	w.ok(err)
	if len(names) != 2 || names[0].Name != "lint" || names[0].Demanded || !names[1].Demanded || names[1].LastSeen == nil {
		t.Errorf("checks are %+v", names)
	}
	about, err := c.Repository(ctx, repo)
	w.ok(err)
	if about.Role != "reader" || about.Empty || about.RulesVersion != 1 || about.OpenChanges != 0 {
		t.Errorf("the repository is %+v", about)
	}
	houses, err := c.Houses(ctx)
	w.ok(err)
	if len(houses) != 1 || houses[0].Role != "none" || houses[0].Repositories != 1 {
		t.Errorf("houses are %+v", houses)
	}
	explained, err := c.ExplainBranch(ctx, repo, "not/there/yet")
	w.ok(err)
	if explained.Protected || len(explained.Sentences) != 1 {
		t.Errorf("a branch that may come: %+v", explained)
	}
}

// A maintainer of a house makes repositories in it and gives roles there, and nowhere else.
func TestMaintainersOfHouses(t *testing.T) {
	w := newTown(t)
	ctx := t.Context()
	_, err := w.admin.CreateHouse(ctx, "barn")
	w.ok(err)
	maintainer := w.as("wren")
	_, err = maintainer.CreateRepository(ctx, wire.NewRepository{Name: "barn/tools"})
	problem(t, err, 403, "for maintainers of house barn")
	w.ok(w.admin.Grant(ctx, "barn", "wren", "maintainer"))
	_, err = maintainer.CreateRepository(ctx, wire.NewRepository{Name: "barn/tools", DefaultBranch: "trunk"})
	w.ok(err)
	w.ok(maintainer.Grant(ctx, "barn", "odo", "reader"))
	w.ok(maintainer.Grant(ctx, "barn/tools", "tamsin", "writer"))
	problem(t, maintainer.Grant(ctx, "growers", "wren", "maintainer"), 403, "maintainers of house growers")
	problem(t, maintainer.Grant(ctx, "none", "wren", "maintainer"), 404, "no house")
	_, err = maintainer.CreateRepository(ctx, wire.NewRepository{Name: "growers/other"})
	problem(t, err, 403, "maintainers of house growers")
	_, err = maintainer.CreateHouse(ctx, "mill")
	problem(t, err, 403, "service administrators")
	for login, want := range map[string][]string{"odo": {"barn/tools", repo}, "tamsin": {"barn/tools", repo}, "pavo": {repo}} {
		repos, err := w.as(login).Repositories(ctx)
		w.ok(err)
		var names []string
		for _, r := range repos {
			names = append(names, r.Name)
		}
		if !slices.Equal(names, want) {
			t.Errorf("%s reads %v", login, names)
		}
	}
}

func TestListsAreFiltered(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nlabels: {urgent: {set_by: role:writer}}\nprotect:\n  - {name: trunk, branches: main, require: [{approvals: 1}]}\n")
	ctx := t.Context()
	w.must("ines", w.clone("ines"), "push", "-q", "origin", "HEAD:refs/heads/release/1")
	for i, who := range []string{"tamsin", "wren", "tamsin", "odo"} {
		w.propose(who, fmt.Sprintf("Topic-%d", i), fmt.Sprintf("f%d", i), "a\n")
	}
	other := "release/1"
	_, err := w.as("wren").EditChange(ctx, repo, 2, wire.ChangeEdit{Target: &other})
	w.ok(err)
	_, err = w.as("odo").SetLabels(ctx, repo, 4, []string{"urgent"}, nil)
	w.ok(err)
	_, err = w.as("tamsin").CloseChange(ctx, repo, 3)
	w.ok(err)
	for q, want := range map[wire.ChangeFilter]string{
		{}: "[4 2 1]", {State: "all"}: "[4 3 2 1]", {State: "closed"}: "[3]", {Target: "release/1"}: "[2]", {By: "tamsin"}: "[1]", {By: "tamsin", State: "all"}: "[3 1]", {Label: "urgent"}: "[4]",
		{Search: "TOPIC-2", State: "all"}: "[3]", {Search: "%"}: "[]", {Limit: 2}: "[4 2]", {Limit: 2, Before: 2}: "[1]", {Search: "none"}: "[]", {By: "nobody"}: "[]",
	} {
		changes, err := w.as("pavo").Changes(ctx, repo, q)
		w.ok(err)
		got := []int{}
		for _, k := range changes {
			got = append(got, k.Number)
		}
		if fmt.Sprint(got) != want {
			t.Errorf("%+v gives %v, not %s", q, got, want)
		}
	}
	has(t, w.says("pavo", 0, "Topic-1", "change", "list", "--target", "release/1", "--repo", repo), "release/1")
}
