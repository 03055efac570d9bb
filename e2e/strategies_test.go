package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/internal/core/change"
	"tavrin/internal/service"
	"tavrin/wire"
)

// Every strategy lands through the queue, mixed in one line: the branch then stands at a commit whose own check passed (P2), the
// history is as each says, and what is signed and in the journal agrees with it (P10).
func TestP2EveryStrategyLands(t *testing.T) {
	w := newTown(t)
	w.begin(`tavrin: rules/1
protect:
  - name: trunk
    branches: main
    push: nobody
    require: [{checks: unit}, {fixups: none}, {messages: '^[a-z]+: |^fixup! '}]
    land: {message: "docs: {title}"}
`)
	dir, theirs := w.nearby("tamsin"), w.nearby("ines")
	parents := func(rev string) int {
		return len(strings.Fields(w.must("ines", theirs, "rev-list", "--max-count=1", "--parents", rev))) - 1
	}
	subjects := func(from, to string) string {
		return strings.Join(strings.Split(strings.TrimSpace(w.must("ines", theirs, "log", "--reverse", "--topo-order", "--format=%s", from+".."+to)), "\n"), " | ")
	}
	for i, s := range change.Strategies {
		before := w.tip("main")
		branch := fmt.Sprintf("topic-%d", i)
		w.must("tamsin", dir, "fetch", "-q")
		w.must("tamsin", dir, "checkout", "-q", "-B", branch, "origin/main")
		path := fmt.Sprintf("docs/%d", i)
		w.commit("tamsin", dir, path, lines(3, map[int]string{1: path}), "docs: one")
		if s.One() || s == change.Fold {
			w.commit("tamsin", dir, path, "two of "+path+"\n", "fixup! docs: one")
		} else {
			w.commit("tamsin", dir, path, "two of "+path+"\n", "docs: two")
		}
		w.must("tamsin", dir, "push", "-q", "origin", branch)
		head := w.head(dir)
		k := w.openChange("tamsin", branch)
		preview, err := w.as("odo").PreviewLanding(t.Context(), repo, k.Number, string(s), "")
		w.ok(err)
		w.join("tamsin", k, string(s))
		rehearsed := w.rehearsed(k)
		w.report(rehearsed, "unit", "passed")
		w.landed(k)
		w.must("ines", theirs, "fetch", "-q")
		tip := w.tip("main")
		if tip != rehearsed {
			t.Errorf("%s: main is at %s, and %s was rehearsed", s, tip, rehearsed)
		}
		final := "docs: Bring " + branch
		want := map[change.Strategy]string{
			change.Rebase: "docs: one | docs: two", change.Squash: final, change.Merge: "docs: one | docs: two | " + final, change.Fold: "docs: one", change.FastForward: "docs: one | docs: two",
			change.SquashThenMerge: final + " | " + final, change.RebaseThenMerge: "docs: one | docs: two | " + final,
		}[s]
		if got := subjects(before, tip); got != want {
			t.Errorf("%s lands %q, not %q", s, got, want)
		}
		var foreseen []string
		for _, c := range preview.Commits {
			foreseen = append([]string{c.Subject}, foreseen...)
		}
		if got := strings.Join(foreseen, " | "); got != want || preview.Obstacle != "" || preview.Strategy != s {
			t.Errorf("%s was to land %q: %+v", s, got, preview)
		}
		if text := w.must("ines", theirs, "show", "-s", "--format=%b", tip); strings.TrimSpace(text) != strings.TrimSpace(preview.Commits[0].Body) || preview.Commits[0].Parents != parents(tip) ||
			preview.Commits[0].Kept != (tip == head) {
			t.Errorf("%s was to land as %+v, and says %q", s, preview.Commits[0], text)
		}
		if merged := parents(tip) == 2; merged == s.Linear() {
			t.Errorf("%s makes a merge commit: %v", s, merged)
		}
		if s == change.FastForward && tip != head {
			t.Errorf("it is not forwarded to %s", head)
		}
		if text := w.must("ines", theirs, "show", "-s", "--format=%B", tip); strings.Contains(text, "Landed-change: growers/irrigation") != s.Final() {
			t.Errorf("%s says %q", s, text)
		}
		if text := w.must("ines", theirs, "show", tip+":"+path); strings.TrimSpace(text) != "two of "+path {
			t.Errorf("%s brings %q", s, text)
		}
		w.statement(k)
	}
	// a fast-forward of what has been left behind says what would do
	w.must("tamsin", dir, "checkout", "-q", "-B", "again", "origin/main~1")
	w.commit("tamsin", dir, "docs/again", "a\n", "docs: again")
	w.must("tamsin", dir, "push", "-q", "origin", "again")
	k := w.openChange("tamsin", "again")
	w.says("odo", 0, "by fast-forward nothing would come to main: by fast-forward nothing can be written", "queue", "preview", "8", "--strategy", "fast-forward", "--repo", repo)
	w.says("odo", 0, "The final message:", "queue", "preview", "8", "--strategy", "merge", "--repo", repo)
	w.says("odo", 1, "is not allowed", "queue", "preview", "8", "--strategy", "tea", "--repo", repo)
	w.join("tamsin", k, string(change.FastForward))
	if now := w.ejected(k); !strings.Contains(now.Entry.Reason, "the target has commits that the branch does not have: join again with --strategy rebase") {
		t.Errorf("it is ejected with %q", now.Entry.Reason)
	}
	// what landed is taken back by a change like any other
	w.says("tamsin", 1, "change 8 is open, so there is nothing to undo", "change", "undo", "8", "--reason", "x", "--repo", repo)
	w.says("tamsin", 2, "reason", "change", "undo", "2", "--repo", repo)
	w.says("odo", 0, "opened change 9 from undo-2: Undo change 2: Bring topic-1", "change", "undo", "2", "--reason", "it floods", "--repo", repo)
	undo, err := w.as("odo").Change(t.Context(), repo, 9)
	w.ok(err)
	if undo.OpenedBy != "odo" || !strings.Contains(undo.Description, "it floods") || undo.Files != 1 || undo.Removed != 1 {
		t.Errorf("it is opened as %+v", undo)
	}
	w.join("odo", undo, string(change.Squash))
	w.report(w.rehearsed(undo), "unit", "passed")
	w.landed(undo)
	w.must("ines", theirs, "fetch", "-q")
	if held := w.must("ines", theirs, "ls-tree", "--name-only", w.tip("main"), "docs/"); strings.Contains(held, "docs/1\n") || !strings.Contains(held, "docs/2\n") {
		t.Errorf("main holds %s", held)
	}
	w.says("odo", 1, "nothing is left on main of what change 2 landed", "change", "undo", "2", "--reason", "again", "--repo", repo)
	w.says("odo", 0, "opened change 10 from undo-9", "change", "undo", "9", "--reason", "it is dry again", "--repo", repo)
	w.says("admin", 0, "unbroken", "journal", "verify")
}

// A service that signs has each commit that a landing writes anew signed with its key, as git itself verifies; one that comes as it
// is keeps the signature it had. What is lost is said beforehand.
func TestLandingsAreSigned(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    push: nobody\n    require: [{checks: unit}]\n    land: {strategies: [rebase, merge, squash-then-merge, fast-forward]}\n")
	key := w.sshKey("ed25519")
	dir := w.nearby("tamsin")
	signed := func(branch string) wire.Change {
		w.must("tamsin", dir, "fetch", "-q")
		w.must("tamsin", dir, "checkout", "-q", "-B", branch, "origin/main")
		w.signedCommit("tamsin", dir, key, branch, "one\n", "signed")
		w.commit("tamsin", dir, branch, "two\n", "not signed")
		w.must("tamsin", dir, "push", "-q", "origin", branch)
		return w.openChange("tamsin", branch)
	}
	behind := func() { // so that a rebase has to write anew
		k := w.propose("wren", "aside-"+fmt.Sprint(len(w.kinds())), "aside", fmt.Sprint(len(w.kinds())))
		w.join("wren", k, "rebase")
		w.report(w.rehearsed(k), "unit", "passed")
		w.landed(k)
	}
	first := signed("first")
	behind()
	w.says("odo", 0, "One commit of the change is signed, and is written anew: its signature does not come with it.", "queue", "preview", fmt.Sprint(first.Number), "--strategy", "rebase", "--repo", repo)
	w.says("odo", 0, "The final message", "queue", "preview", fmt.Sprint(first.Number), "--strategy", "merge", "--repo", repo)
	w.close()
	w.open(service.Options{SignCommits: true})
	w.admin = w.as("admin")
	w.must("tamsin", dir, "remote", "set-url", "origin", w.gitURL())
	head, err := w.admin.JournalHead(t.Context())
	w.ok(err)
	allowed := filepath.Join(t.TempDir(), "allowed")
	w.ok(os.WriteFile(allowed, []byte("landing@tavrin.invalid "+head.SSHKey+"\n"), 0o600))
	by := func(rev string) string {
		return w.must("tamsin", dir, "-c", "gpg.ssh.allowedSignersFile="+allowed, "show", "-s", "--format=%G? %GS", rev)
	}
	const ours = "G landing@tavrin.invalid"
	for _, c := range []struct {
		strategy string
		lost     int
		tips     map[string]string // what git says of the commits
	}{
		{"rebase", 1, map[string]string{"": ours, "^": ours}},
		{"merge", 0, map[string]string{"": ours, "^2": "N", "^2^": "U"}},
		{"squash-then-merge", 1, map[string]string{"": ours, "^2": ours}},
		{"fast-forward", 0, map[string]string{"": "N", "^": "U"}},
	} {
		k := first
		if c.strategy != "rebase" {
			if k = signed("by-" + c.strategy); c.strategy != "fast-forward" {
				behind()
			}
		}
		preview, err := w.as("odo").PreviewLanding(t.Context(), repo, k.Number, c.strategy, "")
		w.ok(err)
		if signs := strings.Contains(preview.Signatures, "signed with the service's key, SHA256:"); preview.SignaturesLost != c.lost || signs != (preview.SignedWith == head.SSHKey) || signs != (c.strategy != "fast-forward") {
			t.Errorf("%s was to land as %+v", c.strategy, preview)
		}
		w.join("tamsin", k, c.strategy)
		w.report(w.rehearsed(k), "unit", "passed")
		w.landed(k)
		w.must("tamsin", dir, "fetch", "-q")
		for rev, want := range c.tips {
			if got := strings.TrimSpace(by("origin/main" + rev)); got != want {
				t.Errorf("by %s, main%s is signed %q, not %q", c.strategy, rev, got, want)
			}
		}
	}
	w.says("admin", 0, head.SSHKey, "journal", "head")
}

// A commit that would change nothing is left out of what lands, or not, as the rules say at the moment: a rehearsal that left one out
// is of no more use once they say otherwise.
func TestEmptyCommitsByTheRules(t *testing.T) {
	w := newTown(t)
	const rules = "tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    push: nobody\n    require: [{checks: unit}]\n    land: {default: rebase}\n"
	w.begin(rules)
	dir := w.nearby("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-B", "topic", "origin/main")
	w.commit("tamsin", dir, "docs", "the same\n", "the same")
	w.commit("tamsin", dir, "own", "own\n", "own")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	ahead := w.propose("wren", "ahead", "docs", "the same\n")
	w.join("wren", ahead, "squash")
	w.report(w.rehearsed(ahead), "unit", "passed")
	w.landed(ahead)
	w.join("tamsin", k, "rebase")
	w.rehearsed(k)
	preview, err := w.as("odo").PreviewLanding(t.Context(), repo, k.Number, "rebase", "")
	w.ok(err)
	if len(preview.Commits) != 1 || preview.Commits[0].Subject != "own" {
		t.Errorf("it was to land as %+v", preview)
	}
	w.apply(strings.Replace(rules, "default: rebase", "default: rebase, drop_empty: false", 1))
	if now := w.ejected(k); !strings.Contains(now.Entry.Reason, `would change nothing, and the rules have no such commit left out: join again with --strategy`) {
		t.Errorf("it is ejected with %q", now.Entry.Reason)
	}
	w.says("odo", 0, "would change nothing, and the rules have no such commit left out", "queue", "preview", fmt.Sprint(k.Number), "--strategy", "rebase", "--repo", repo)
	w.says("odo", 0, "A commit that would change nothing on the branch is not left out", "rules", "explain", "--branch", "main", "--repo", repo)
	w.join("tamsin", k, "squash")
	w.report(w.rehearsed(k), "unit", "passed")
	w.landed(k)
}
