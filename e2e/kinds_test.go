package e2e

import (
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tavrin/internal/service"
	"tavrin/wire"
)

// Tags that rules protect, by git itself: who makes them, that they neither move nor go, and that they are signed.
func TestProtectedTags(t *testing.T) {
	w := newTown(t)
	dir := w.begin("tavrin: rules/1\nprotect:\n" +
		"  - name: releases\n    tags: v*\n    create: role:maintainer\n    require: [{signed: every tag}]\n" +
		"  - name: trials\n    tags: try/**\n    create: role:writer\n    rewrite: allowed\n    delete: allowed\n")
	key := w.sshKey("ed25519")
	w.addKey("ines", key)
	signing := []string{"-c", "gpg.format=ssh", "-c", "user.signingkey=" + key + ".pub"}
	tag := func(args ...string) { w.must("ines", dir, append(signing, append([]string{"tag"}, args...)...)...) }
	refused := func(login, dir string, words []string, args ...string) {
		t.Helper()
		out, err := w.gitAs(login, dir, append([]string{"push", "origin"}, args...)...)
		if err == nil {
			t.Errorf("%s pushed %v: %s", login, args, out)
		}
		has(t, out, words...)
	}
	tag("v0")
	refused("ines", dir, []string{"releases: ", "v0: "}, "v0") // one without an object has nothing to sign
	tag("-a", "-m", "the first", "v1-plain")
	refused("ines", dir, []string{"v1-plain"}, "v1-plain")
	tag("-s", "-m", "the first", "v1")
	w.must("ines", dir, "push", "-q", "origin", "v1")
	other := w.clone("tamsin")
	w.must("tamsin", other, "tag", "v2")
	refused("tamsin", other, []string{"tags such as v2 are made by role:maintainer"}, "v2")
	w.commit("ines", dir, "b", "b\n", "later")
	tag("-f", "-s", "-m", "the first, again", "v1")
	refused("ines", dir, []string{"v1 is there already, and it does not move"}, "-f", "v1")
	refused("ines", dir, []string{"v1 is not deleted"}, ":refs/tags/v1")

	w.must("tamsin", other, "tag", "try/1")
	w.must("tamsin", other, "push", "-q", "origin", "try/1")
	refused("tamsin", other, nil, ":refs/tags/try/1") // what rules allow, they allow to maintainers
	w.must("ines", dir, "push", "-q", "origin", ":refs/tags/try/1")
	w.must("tamsin", other, "tag", "free")
	w.must("tamsin", other, "push", "-q", "origin", "free")
	w.says("tamsin", 0, "Tags try/** may be moved by maintainers who may make them.", "rules", "explain", "--repo", repo)
	file := w.file("tags.yaml", "tavrin: rules/1\nprotect:\n  - {name: releases, tags: v*, create: role:maintainer}\n")
	w.says("tamsin", 0, "releases, for tags v*:\n  Tags v* are made by role:maintainer.\n  Tags v* do not move.\n", "rules", "lint", file, "--repo", repo)

	// Suspended it does not bind, and does not say that it does.
	_, err := w.as("ines").Suspend(t.Context(), repo, "releases", 10*time.Minute, "to move one")
	w.ok(err)
	if out := w.says("tamsin", 0, "", "rules", "explain", "--repo", repo); strings.Contains(out, "Tags v*") {
		t.Errorf("a suspended protection speaks: %s", out)
	}
	w.must("ines", dir, "push", "-q", "-f", "origin", "v1")
}

// A backport's commits are on the trunk already, or say from where there they were picked.
func TestBackportsComeFromTheTrunk(t *testing.T) {
	w := newTown(t)
	dir := w.begin("tavrin: rules/1\n")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:refs/heads/release/1")
	lines := "tavrin: rules/1\nbranches: {trunk: main, release: release/**}\nprotect:\n  - {name: lines, branches: release, require: [{already_on: trunk}]}\n"
	w.apply(lines)

	mended := w.commit("ines", dir, "valves", "shut\n", "Shut the valve")
	w.must("ines", dir, "checkout", "-q", "-b", "backport", "origin/release/1")
	w.must("ines", dir, "cherry-pick", "-x", mended)
	w.must("ines", dir, "push", "-q", "origin", "backport")
	k, err := w.as("ines").OpenChange(t.Context(), repo, wire.NewChange{Source: "backport", Target: "release/1", Title: "Shut it here too"})
	w.ok(err)
	w.stands(k, "already_on", "missing", "1 commit not on trunk yet")
	w.must("ines", dir, "push", "-q", "origin", mended+":main")
	w.untilStands(k, "already_on", "met")
	w.must("ines", dir, "push", "-q", "-f", "origin", mended+"~1:main") // and gone again: what holds it is what is there now
	w.untilStands(k, "already_on", "missing")

	// Rules that come later find out too.
	w.must("ines", dir, "push", "-q", "origin", mended+":refs/heads/valves")
	w.apply(strings.Replace(lines, "already_on: trunk", "already_on: valves", 1))
	w.untilStands(k, "already_on", "met")
	w.says("pavo", 0, "commits of revision 1 of change 1 were found on valves", "journal", "list", "--repo", repo)
}

// untilStands waits until a requirement is in a state.
func (w *town) untilStands(k wire.Change, key, state string) {
	w.t.Helper()
	w.until(k, key+" "+state, func(wire.Change) bool { return string(w.requirement(k, key).State) == state })
}

// Things that rules could not say before, each through the API.
func TestKindsOfRequirements(t *testing.T) {
	w := newTown(t)
	var ahead atomic.Int64
	w.close()
	w.open(service.Options{Now: func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }})
	w.admin = w.as("admin")
	w.begin(requiring("revision_age: 1h"))
	k := w.propose("tamsin", "topic", "docs/a", "a\nb\nc\n")
	for _, c := range []struct{ asks, key, state, says string }{
		{"revision_age: 1h", "revision_age", "pending", "revision 1 too new"},
		{"size: at most 2 lines", "size", "missing", "too large: "},
		{"size: at most 3 lines and 1 file", "size", "met", ""},
		{"{size: at most 1 line, hint: ask hydraulics how to cut it}", "size", "missing", "ask hydraulics how to cut it"},
		{"signed_off: every commit", "signed_off", "missing", "1 commit without the author's sign-off"},
		{"{approvals: 2, unless: {paths: 'docs/**'}}", "approvals", "not-asked", "2 approvals"},
		{"{approvals: 2, unless: {paths: 'ledger/**'}}", "approvals", "missing", "2 approvals"},
		{"{approvals: 2, when: {added: 'docs/**'}}", "approvals", "missing", "2 approvals"},
		{"{approvals: 2, when: {removed: '**'}}", "approvals", "not-asked", ""},
		{"{approvals: 2, when: {renamed: '**'}}", "approvals", "not-asked", ""},
		{"{approvals: 2, when: {author: 'robot:builder'}}", "approvals", "not-asked", ""},
		{"queued_by: not an author", "queued_by", "not-asked", "no author may"},
	} {
		w.apply(requiring(c.asks))
		w.stands(k, c.key, c.state, c.says)
	}

	// Whoever asks to land is no author: the queue takes it from them, and holds it until somebody else asks.
	w.apply(requiring("queued_by: not an author"))
	w.join("tamsin", k, "squash")
	w.stands(k, "queued_by", "missing", "tamsin is an author, and joined")
	_, err := w.as("tamsin").Leave(t.Context(), repo, k.Number)
	w.ok(err)
	w.join("wren", k, "squash")
	w.stands(w.landed(k), "queued_by", "met", "")

	// An approval that has grown too old is asked for again, and a sign-off holds for pushes too.
	w.apply(requiring("{approvals: 1, max_age: 1h}"))
	k = w.propose("tamsin", "later", "docs/b", "b\n")
	w.approve("odo", k)
	w.stands(k, "approvals", "met", "")
	ahead.Add(int64(2 * time.Hour))
	w.stands(k, "approvals", "missing", "1 approval")
	w.apply(strings.Replace(requiring("signed_off: every commit"), "    require", "    push: role:writer\n    require", 1))
	dir := w.clone("tamsin")
	w.commit("tamsin", dir, "docs/c", "c\n", "unsigned")
	out, err := w.gitAs("tamsin", dir, "push", "origin", "HEAD:main")
	if err == nil {
		t.Errorf("a commit without a sign-off was pushed: %s", out)
	}
	has(t, out, "a commit is not signed off", "git commit --amend --signoff")
	w.must("tamsin", dir, "commit", "-q", "--amend", "--signoff", "--no-edit")
	w.must("tamsin", dir, "push", "-q", "origin", "HEAD:main")
}
