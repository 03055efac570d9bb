package e2e

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/internal/service"
	"tavrin/wire"
)

// allWays lets changes land by every strategy, with one approval and the owners of valves.
const allWays = `tavrin: rules/1
areas:
  valves: {paths: "valves/**", owners: team:hydraulics}
protect:
  - name: trunk
    branches: [main, "release/**"]
    push: role:maintainer
    require: [{approvals: 1}, {owners: every touched area}, {checks: [unit]}]
    land: {strategies: [rebase, squash, merge], default: rebase}
`

// lacks fails the test when a change's gate has a requirement.
func (w *town) lacks(k wire.Change, key string) {
	w.t.Helper()
	r, err := w.as("ines").Gate(w.t.Context(), repo, k.Number)
	w.ok(err)
	for _, q := range r.Requirements {
		if strings.HasPrefix(q.Key, key) && q.State != "not-asked" {
			w.t.Errorf("the gate has %+v", q)
		}
	}
}

// A branch whose history brings what its difference does not show says so, is judged for it where the strategy would bring it,
// and lands nothing but what it shows (P2).
func TestP2WhatTheDifferenceDoesNotShow(t *testing.T) {
	w := newTown(t)
	w.begin(allWays)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "side")
	w.commit("tamsin", dir, "valves/east", "open wide\n", "side")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic", "main")
	w.commit("tamsin", dir, "docs", "one line\n", "one line")
	w.must("tamsin", dir, "merge", "-q", "-s", "ours", "-m", "apply it", "side")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	if k.Files != 1 || len(k.Hidden) != 1 || k.Hidden[0] != "valves/east" {
		t.Errorf("it shows %d files and hides %v", k.Files, k.Hidden)
	}
	out, _, _ := w.run("tamsin", dir, "change", "show", "1", "--repo", repo)
	has(t, out, "its commits touch valves/east, which its difference does not show")
	if q := w.requirement(k, "owners/valves"); q.State != "missing" { // by rebase, the default, its commits come too
		t.Errorf("the owners are not asked: %+v", q)
	}
	w.approve("wren", k)
	w.approve("odo", k)
	w.join("tamsin", k, "rebase")
	now := w.ejected(k)
	has(t, now.Entry.Reason, "by rebase something else than was shown would land in valves/east", "--strategy squash or merge", "git rebase origin/main")

	w.join("tamsin", k, "squash")
	w.until(k, "rehearsing", func(k wire.Change) bool { return k.Entry.State == "rehearsing" })
	w.lacks(k, "owners/valves")
	w.report(w.rehearsed(k), "unit", "passed")
	landed := w.landed(k)
	w.must("tamsin", dir, "fetch", "-q", "origin")
	if out := w.must("tamsin", dir, "ls-tree", "-r", "--name-only", landed.LandedCommit); out != "README.md\ndocs" {
		t.Errorf("it landed %q", out)
	}
}

// An approval is for what its reviewer saw: it is compared with what would land straight, never through the revisions in
// between, and once more with what the rehearsal's base makes of both (P6).
func TestP6ApprovalsAreComparedStraight(t *testing.T) {
	w := newTown(t)
	ines := w.begin(allWays)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	half := w.commit("tamsin", dir, "x", "x\n", "half")
	w.commit("tamsin", dir, "y", "y\n", "other half")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	w.approve("wren", k)

	// Main gets the half, so that the rest brings the same to it; then the half is taken back.
	w.must("ines", ines, "fetch", "-q")
	w.must("ines", ines, "cherry-pick", half)
	w.must("ines", ines, "push", "-q", "origin", "HEAD:main")
	w.must("tamsin", dir, "fetch", "-q")
	w.must("tamsin", dir, "rebase", "-q", "origin/main")
	w.must("tamsin", dir, "push", "-q", "-f", "origin", "topic")
	k = w.openedAs(1)
	if q := w.requirement(k, "approvals"); q.State != "met" || k.Revision != 2 {
		t.Errorf("revision %d brings to main what was approved, and: %+v", k.Revision, q)
	}
	w.must("ines", ines, "revert", "--no-edit", "HEAD")
	w.must("ines", ines, "push", "-q", "origin", "HEAD:main")
	w.join("tamsin", k, "squash")
	now := w.ejected(k)
	has(t, now.Entry.Reason, "approvals were for something else than would land on main", "wren's of revision 1", "tavrin review approve 1")
	w.must("tamsin", dir, "fetch", "-q")
	w.must("tamsin", dir, "rebase", "-q", "origin/main")
	w.must("tamsin", dir, "push", "-q", "-f", "origin", "topic")
	k = w.openedAs(1)
	if q := w.requirement(k, "approvals"); q.State == "met" || k.Revision != 3 {
		t.Errorf("half of it lands on an approval of the whole, at revision %d: %+v", k.Revision, q)
	}
	// Another history with the tree that was approved: what it brings besides is not approved.
	w.must("tamsin", dir, "reset", "-q", "--hard", "origin/main")
	w.commit("tamsin", dir, "secret", "s\n", "secret")
	w.must("tamsin", dir, "rm", "-q", "secret")
	w.commit("tamsin", dir, "x", "x\n", "x")
	w.commit("tamsin", dir, "y", "y\n", "y")
	w.must("tamsin", dir, "push", "-q", "-f", "origin", "topic")
	k = w.openedAs(1)
	q := w.requirement(k, "approvals")
	if q.State == "met" {
		t.Error("an approval counts for commits that nobody saw")
	}
	has(t, q.Next, "commits since touch secret, which the difference does not show")
}

// Where source and target have merged each other's commits, no one difference shows what comes: that is asked for first.
func TestSeveralMergeBases(t *testing.T) {
	w := newTown(t)
	ines := w.begin(allWays)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	one := w.commit("tamsin", dir, "x", "x\n", "one")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	w.must("ines", ines, "fetch", "-q")
	two := w.commit("ines", ines, "d", "d\n", "two")
	w.must("ines", ines, "merge", "-q", "--no-ff", "-m", "main takes it in", one)
	w.must("ines", ines, "push", "-q", "origin", "HEAD:main")
	w.must("tamsin", dir, "fetch", "-q")
	w.must("tamsin", dir, "merge", "-q", "--no-ff", "-m", "topic takes it in", two)
	w.commit("tamsin", dir, "y", "y\n", "three")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	w.approve("wren", k)
	q := w.requirement(k, "base")
	if q.State != "missing" || w.openedAs(1).Ready {
		t.Fatalf("it may land: %+v", q)
	}
	has(t, q.Next, "have merged each other's commits (2 common ancestors)", "update the branch")
	_, err := w.as("tamsin").UpdateBranch(t.Context(), repo, k.Number, "merge")
	w.ok(err)
	k = w.openedAs(1)
	w.lacks(k, "base")
	w.approve("wren", k)
	w.join("tamsin", k, "merge")
	w.report(w.rehearsed(k), "unit", "passed")
	w.landed(k)
}

// A linear history has no use for a merge: updating rebases there.
func TestUpdateKeepsALine(t *testing.T) {
	w := newTown(t)
	ines := w.begin(strings.Replace(allWays, "strategies: [rebase, squash, merge]", "strategies: [rebase]", 1))
	k := w.propose("tamsin", "topic", "x", "x\n")
	w.commit("ines", ines, "d", "d\n", "main moves")
	w.must("ines", ines, "push", "-q", "origin", "HEAD:main")
	_, err := w.as("tamsin").UpdateBranch(t.Context(), repo, k.Number, "merge")
	problem(t, err, 409, "keeps a linear history", "by rebase")
	_, err = w.as("tamsin").UpdateBranch(t.Context(), repo, k.Number, "rebase")
	w.ok(err)
}

// Nothing is judged on a part: what is beyond a bound is refused, by its name, and one less goes through.
func TestNothingIsJudgedOnAPart(t *testing.T) {
	w := newTown(t)
	dir := w.begin(allWays + "      \n")
	w.close()
	w.open(service.Options{Bounds: bound(t, "push.direct-commits=2", "change.commits=3", "change.message-bytes=3000", "push.commits=5", "push.text-bytes=2000", "push.object-bytes=100000")})
	w.must("ines", dir, "remote", "set-url", "origin", w.gitURL())
	add := func(n int, message string) {
		for i := range n {
			w.commit("ines", dir, "f", fmt.Sprint(i, message), fmt.Sprintf("%s %d", message, i))
		}
	}
	refused := func(words string, args ...string) {
		t.Helper()
		out, err := w.gitAs("ines", dir, append([]string{"push", "origin"}, args...)...)
		if err == nil {
			t.Errorf("%v was taken", args)
		}
		has(t, out, words)
	}
	add(3, "direct")
	refused("push.direct-commits", "HEAD:main")
	w.must("ines", dir, "push", "-q", "origin", "HEAD~1:main")

	w.must("ines", dir, "checkout", "-q", "-b", "topic", "HEAD~1")
	add(3, "topic")
	w.must("ines", dir, "push", "-q", "origin", "topic")
	k := w.openChange("ines", "topic")
	add(1, "one more")
	out := w.must("ines", dir, "push", "origin", "topic")
	has(t, out, "stays at revision 1 and does not follow", "change.commits is 3")
	if now := w.openedAs(1); now.Revision != 1 || now.Head != k.Head {
		t.Errorf("it follows: %+v", now)
	}
	add(2, "many")
	w.must("ines", dir, "push", "origin", "topic:refs/heads/other")
	_, err := w.as("ines").OpenChange(t.Context(), repo, wire.NewChange{Source: "other", Title: "Many"})
	problem(t, err, 422, "change.commits is 3")

	w.must("ines", dir, "checkout", "-q", "-b", "wide", "topic~5")
	add(6, "six")
	refused("push.commits is 5", "wide")
	w.must("ines", dir, "push", "-q", "origin", "wide~1:refs/heads/wide")
	w.must("ines", dir, "checkout", "-q", "-b", "large", "topic~5")
	w.commit("ines", dir, "f", strings.Repeat("x", 100_001), "large")
	refused("push.object-bytes is 100000", "large")
	w.must("ines", dir, "reset", "-q", "--hard", "HEAD~1")
	w.commit("ines", dir, "f", strings.Repeat("x", 100_000), "just so")
	w.must("ines", dir, "push", "-q", "origin", "large")
	w.must("ines", dir, "checkout", "-q", "-b", "wordy", "topic~5")
	w.commit("ines", dir, "f", "wordy", strings.Repeat("word ", 400))
	refused("push.text-bytes is 2000", "wordy")
	w.must("ines", dir, "reset", "-q", "--hard", "HEAD~1")
	add(2, strings.Repeat("x", 1500))
	w.must("ines", dir, "push", "-q", "origin", "wordy")
	_, err = w.as("ines").OpenChange(t.Context(), repo, wire.NewChange{Source: "wordy", Title: "Wordy"})
	problem(t, err, 422, "change.message-bytes is 3000")
}

// What only the service says is genuine in what the records know as landed, and nowhere else.
func TestReservedTrailersAreTheServices(t *testing.T) {
	w := newTown(t)
	ines := w.begin(allWays)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "x", "x\n", "Open\n\nApproved-by : Odo <odo@fennmoor.example>")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	w.approve("odo", k)
	w.join("tamsin", k, "merge")
	w.until(k, "waiting", func(k wire.Change) bool { return k.Entry != nil && k.Entry.State == "waiting" && !k.Ready })
	has(t, w.requirement(k, "trailers").Next, "Approved-by", "reword")
	_, err := w.as("tamsin").Leave(t.Context(), repo, k.Number)
	w.ok(err)
	w.join("tamsin", k, "rebase")
	w.report(w.rehearsed(k), "unit", "passed")
	k = w.landed(k)
	w.must("ines", ines, "fetch", "-q")
	if text := w.must("ines", ines, "log", "-1", "--format=%B", "origin/main"); text != "Open" {
		t.Errorf("it landed with %q", text)
	}
	// By hand it is refused, whoever pushes it.
	w.must("ines", ines, "reset", "-q", "--hard", "origin/main")
	w.commit("ines", ines, "z", "z\n", "Z\n\nLanded-change: growers/irrigation 1")
	out, err := w.gitAs("ines", ines, "push", "origin", "HEAD:main")
	if err == nil {
		t.Error("a made-up trailer was pushed to main")
	}
	has(t, out, "claims what only the service says", "Landed-change")

	// What landed with genuine ones goes on, to a release line, as it is.
	w.must("ines", ines, "push", "-q", "origin", "origin/main~1:refs/heads/release/1")
	done := w.land(w.propose("tamsin", "other", "y", "y\n"), "squash")
	w.must("ines", ines, "fetch", "-q")
	has(t, w.must("ines", ines, "log", "-1", "--format=%B", "origin/main"), "Landed-change: growers/irrigation 2", "Approved-by: Odo")
	w.must("ines", ines, "push", "-q", "origin", done.LandedCommit+":refs/heads/backport")
	back, err := w.as("tamsin").OpenChange(t.Context(), repo, wire.NewChange{Source: "backport", Target: "release/1", Title: "Back to the release"})
	w.ok(err)
	w.approve("odo", back)
	w.approve("wren", back)
	w.join("tamsin", back, "merge")
	w.report(w.rehearsed(back), "unit", "passed")
	w.landed(back)
}

// Objects that ride along in one person's push count as theirs, and nobody's push may point at what it does not bring.
func TestP6ObjectsThatRideAlong(t *testing.T) {
	w := newTown(t)
	w.begin(allWays)
	main := w.tip("main")
	odo := w.clone("odo")
	theirs := w.commit("odo", odo, "valves/east", "odo's work\n", "odo's") // rides along
	w.must("odo", odo, "checkout", "-q", "-b", "harmless", main)
	own := w.commit("odo", odo, "docs", "d\n", "harmless")
	if out := w.rawPush("odo", odo, []string{strings.Repeat("0", 40) + " " + own + " refs/heads/harmless"}, own+"\n"+theirs+"\n^"+main+"\n"); !strings.Contains(out, "ok refs/heads/harmless") {
		t.Fatalf("the push says %q", out)
	}
	tamsin := w.clone("tamsin")
	if out := w.rawPush("tamsin", tamsin, []string{strings.Repeat("0", 40) + " " + theirs + " refs/heads/topic"}, "^"+main+"\n"); !strings.Contains(out, "did not come with this push") || w.tip("topic") != "" {
		t.Errorf("a push may point at what rode along: %q", out)
	}
	w.must("tamsin", tamsin, "fetch", "-q", odo, "main") // odo hands it over
	w.must("tamsin", tamsin, "push", "-q", "origin", theirs+":refs/heads/topic")
	k := w.openChange("tamsin", "topic")
	if strings.Join(k.Authors, " ") != "odo tamsin" {
		t.Errorf("the authors are %v", k.Authors)
	}
	w.approve("odo", k)
	if q := w.requirement(k, "approvals"); q.State == "met" {
		t.Errorf("who wrote it approves it: %+v", q)
	}
}

// rawPush pushes commands and a pack of what git pack-objects makes of revisions, and returns the answer as it comes.
func (w *town) rawPush(login, dir string, commands []string, revisions string) string {
	w.t.Helper()
	return w.postPush(login, w.pushBody(dir, commands, revisions))
}

// pushBody is what git sends for a push.
func (w *town) pushBody(dir string, commands []string, revisions string) string {
	w.t.Helper()
	pack := exec.Command("git", "pack-objects", "--revs", "--stdout", "--thin", "-q")
	pack.Dir, pack.Stdin = dir, strings.NewReader(revisions)
	packed, err := pack.Output()
	w.ok(err)
	var body strings.Builder
	for i, c := range commands {
		if i == 0 {
			c += "\x00report-status"
		}
		fmt.Fprintf(&body, "%04x%s", len(c)+4, c)
	}
	body.WriteString("0000")
	body.Write(packed)
	return body.String()
}

func (w *town) postPush(login, body string) string {
	w.t.Helper()
	req, err := http.NewRequest("POST", w.gitURL()+"/git-receive-pack", strings.NewReader(body))
	w.ok(err)
	req.SetBasicAuth("x", w.tokens[login])
	req.Header.Set("Content-Type", "application/x-git-receive-pack-request")
	res, err := http.DefaultClient.Do(req)
	w.ok(err)
	defer res.Body.Close()
	var out strings.Builder
	buf := make([]byte, 64<<10)
	for {
		n, err := res.Body.Read(buf)
		out.Write(buf[:n])
		if err != nil {
			return out.String()
		}
	}
}

// What a reviewer saw of the title and description is kept, and the gate says what was altered since where it ends up in the
// message.
func TestAlteredAfterAnApproval(t *testing.T) {
	w := newTown(t)
	w.begin(allWays)
	k := w.propose("tamsin", "topic", "x", "x\n")
	w.approve("wren", k)
	title := "Something else entirely"
	_, err := w.as("tamsin").EditChange(t.Context(), repo, k.Number, wire.ChangeEdit{Title: &title})
	w.ok(err)
	reviews, err := w.as("wren").Reviews(t.Context(), repo, k.Number)
	w.ok(err)
	if len(reviews[0].Altered) != 1 || !strings.Contains(reviews[0].Altered[0], `the title was "Bring topic" then`) {
		t.Errorf("altered: %v", reviews[0].Altered)
	}
	since := func() string {
		r, err := w.as("wren").Gate(t.Context(), repo, k.Number)
		w.ok(err)
		return strings.Join(r.Reviews[0].Since, "; ")
	}
	if s := since(); s != "" { // a rebase keeps its own messages
		t.Errorf("by rebase: %s", s)
	}
	w.join("tamsin", k, "squash")
	has(t, since(), `the title, of which the final message is made, was "Bring topic"`)
	out, _, _ := w.run("wren", w.dir, "change", "gate", "1", "--repo", repo)
	has(t, out, `the title, of which the final message is made, was "Bring topic"`)
}

// Names that would mislead everybody who has them in a clone, or keep protected ones out, are refused; what is there may go.
func TestNamesThatHarmOthers(t *testing.T) {
	w := newTown(t)
	dir := w.begin(allWays)
	head := w.tip("main")
	w.must("ines", dir, "push", "-q", "origin", head+":refs/tags/v1", head+":refs/heads/topic")
	for ref, words := range map[string]string{
		"refs/tags/HEAD": "git keeps for itself", "refs/heads/HEAD": "git keeps for itself", "refs/heads/FETCH_HEAD": "git keeps for itself", "refs/tags/refs/heads/main": "reads like the full name",
		"refs/tags/heads/main": "reads like the full name", "refs/heads/tags/v1": "reads like the full name", "refs/tags/" + head: "reads like the id of a commit", "refs/tags/-d": "begins with",
		"refs/heads/mаin": "cannot be told from the branch", "refs/heads/Topic": "cannot be told from the branch", "refs/tags/main": "cannot be told from the branch", "refs/heads/V1": "cannot be told from the tag",
		"refs/heads/to\u200bpic": "not a name git allows", "refs/heads/tορic": "cannot be told from the branch", "refs/heads/release": "stand in the way",
	} {
		out := w.rawPush("ines", dir, []string{strings.Repeat("0", 40) + " " + head + " " + ref}, "^"+head+"\n")
		if !strings.Contains(out, "ng "+ref) {
			t.Errorf("%s was taken: %q", ref, out)
		}
		if out, err := w.gitAs("ines", dir, "push", "origin", head+":"+ref); err == nil || !strings.Contains(out, words) && !strings.Contains(out, "invalid") {
			t.Errorf("%s: %s", ref, out)
		}
	}
	if out := w.rawPush("wren", dir, []string{strings.Repeat("0", 40) + " " + head + " refs/heads/twins", strings.Repeat("0", 40) + " " + head + " refs/heads/TWINS"}, "^"+head+"\n"); strings.Count(out, "ng refs/") != 1 {
		t.Errorf("two that look alike in one push: %q", out)
	}
	w.must("ines", filepath.Join(w.dir, "data", "repositories", "1.git"), "update-ref", "refs/tags/heads/old", head)
	w.must("ines", dir, "push", "-q", "origin", ":refs/tags/heads/old")
	if _, err := os.Stat(filepath.Join(w.dir, "data", "repositories", "1.git", "refs/tags/heads/old")); err == nil {
		t.Error("what was there already cannot go")
	}
}
