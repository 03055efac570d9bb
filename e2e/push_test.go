package e2e

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/internal/service"
	"tavrin/wire"
)

// However somebody pushes, a protected branch does not move by it (P1).
func TestP1ProtectedBranchDoesNotMoveByPush(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	before := w.tip("main")
	w.commit("ines", dir, "README.md", "more\n", "more")
	w.must("ines", dir, "branch", "other")
	pushes := [][]string{
		{"push", "origin", "main"}, {"push", "--force", "origin", "main"}, {"push", "origin", "+HEAD~1:main"}, {"push", "origin", ":main"},
		{"push", "origin", "HEAD:refs/heads/main"}, {"push", "--mirror", "origin"}, {"push", "--atomic", "origin", "main", "other"}, {"push", "-o", "force=yes", "origin", "main"},
	}
	for _, login := range []string{"ines", "tamsin", "admin"} {
		for _, push := range pushes {
			out, err := w.gitAs(login, dir, push...)
			if err == nil && !strings.Contains(out, "up-to-date") {
				t.Errorf("%s: git %v went through:\n%s", login, push, out)
			}
			if now := w.tip("main"); now != before {
				t.Fatalf("%s: git %v moved main from %s to %s:\n%s", login, push, before, now, out)
			}
		}
	}
}

func TestRefusalSaysWhichRuleAndTheWayOut(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	before := w.tip("main")
	w.must("ines", dir, "fetch", "-q")
	w.commit("tamsin", dir, "README.md", "more\n", "more")
	out, err := w.gitAs("tamsin", dir, "push", "origin", "HEAD:main")
	if err == nil {
		t.Fatal("the push went through")
	}
	has(t, out, `Refused by "trunk" (rules version 1, line 7)`, "(trunk: nobody pushes to it directly)", "git switch -c tamsin/main-",
		"tavrin change open --repo "+repo, "NAME-OF-THAT-BRANCH", "git branch -f main origin/main", w.url+"/"+repo+"/propose?source=tamsin%2Fmain-")
	// The commands it gives do what it says.
	for line := range strings.Lines(out) {
		command := strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "remote:"))
		if !strings.HasPrefix(command, "git ") || strings.Contains(command, "NAME-OF") {
			continue
		}
		for part := range strings.SplitSeq(command, " && ") {
			w.must("tamsin", dir, strings.Fields(part)[1:]...)
		}
	}
	if now := w.must("tamsin", dir, "rev-parse", "main"); now != before {
		t.Errorf("the local branch is at %s, not back at %s", now, before)
	}
	if on := w.must("tamsin", dir, "rev-parse", "--abbrev-ref", "HEAD"); !strings.HasPrefix(on, "tamsin/main-") {
		t.Errorf("whoever pushed is on %s, where work cannot go on", on)
	}
	if out := w.must("tamsin", dir, "ls-remote", "origin", "refs/heads/tamsin/*"); !strings.Contains(out, "tamsin/main-") {
		t.Errorf("the commits are on no branch of their own: %q", out)
	}
}

func TestSeveralRefsEachWithItsAnswer(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	w.commit("tamsin", dir, "README.md", "more\n", "more")
	out, err := w.gitAs("tamsin", dir, "push", "--atomic", "origin", "HEAD:refs/heads/topic", "HEAD:main")
	if err == nil || w.tip("topic") != "" {
		t.Errorf("an atomic push went half through: %v\n%s", err, out)
	}
	has(t, out, "not tried: another ref of this push was refused")
	out, err = w.gitAs("tamsin", dir, "push", "origin", "HEAD:refs/heads/topic", "HEAD:main", "HEAD:refs/tavrin/x", "HEAD:refs/tags/v1")
	if err == nil || w.tip("topic") == "" {
		t.Errorf("without --atomic, what is allowed goes through: %v\n%s", err, out)
	}
	has(t, out, "[new branch]", "[new tag]", "trunk: nobody pushes", "the service's own name space", "To propose it for main", "tavrin change open --repo "+repo+" --source topic")
}

func TestTooManyRefsAndOddNames(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	head := w.tip("main")
	for _, name := range []string{"HEAD", "-x", "a\u202eb"} {
		if out, err := w.gitAs("ines", dir, "push", "origin", "HEAD:refs/heads/"+name); err == nil {
			t.Errorf("%q was taken:\n%s", name, out)
		}
	}
	w.close()
	w.open(service.Options{Bounds: bound(t, "push.refs=1000")})
	w.must("ines", dir, "remote", "set-url", "origin", w.gitURL())
	args := []string{"push", "origin"}
	for i := range 1001 {
		args = append(args, fmt.Sprintf("%s:refs/heads/b%d", head, i))
	}
	out, err := w.gitAs("ines", dir, args...)
	if err == nil || w.tip("b1") != "" {
		t.Errorf("1001 refs went through: %v", err)
	}
	has(t, out, "1001 refs in one push are too many; the bound push.refs is 1000")
	w.must("ines", dir, args[:102]...)
	if w.tip("b99") != head {
		t.Error("100 refs did not go through")
	}
}

func TestFirstPushIsForMaintainers(t *testing.T) {
	w := newTown(t)
	dir := w.clone("tamsin")
	w.commit("tamsin", dir, "a", "a\n", "start")
	if out, err := w.gitAs("tamsin", dir, "push", "origin", "HEAD:main"); err == nil {
		t.Error("a writer made the first push")
	} else {
		has(t, out, "is for its maintainers")
	}
	w.must("ines", dir, "push", "-q", "origin", "HEAD:main")
}

func TestReadersAndStrangersCannotPush(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	w.commit("pavo", dir, "a", "a\n", "mine")
	if out, err := w.gitAs("pavo", dir, "push", "origin", "HEAD:refs/heads/pavo"); err == nil {
		t.Error("a reader pushed")
	} else {
		has(t, out, "needs the role writer")
	}
	w.tokens["stranger"] = "tvr_AAAAAAAAAAAAAAAAAAAAAAAAAA"
	if _, err := w.gitAs("stranger", dir, "ls-remote", "origin"); err == nil {
		t.Error("a stranger read the repository")
	}
	read, err := w.as("odo").CreateToken(t.Context(), wire.NewToken{Login: "odo", ReadOnly: true})
	w.ok(err)
	w.tokens["odo reading"] = read.Secret
	w.must("odo reading", dir, "fetch", "-q")
	if _, err := w.gitAs("odo reading", dir, "push", "origin", "HEAD:refs/heads/x"); err == nil {
		t.Error("a token for reading pushed")
	}
}

func TestServiceRefsAreHidden(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	if out := w.must("ines", w.dir, "ls-remote", w.gitURL()); strings.Contains(out, "refs/tavrin") {
		t.Errorf("the service's own refs are shown:\n%s", out)
	}
	bare := filepath.Join(w.dir, "data", "repositories", "1.git")
	if out := w.must("ines", bare, "for-each-ref", "refs/tavrin"); !strings.Contains(out, k.Head) {
		t.Errorf("the revision is not kept:\n%s", out)
	}
	dir := w.clone("ines")
	if out, err := w.gitAs("ines", dir, "push", "origin", ":refs/tavrin/revisions/1/1"); err == nil {
		t.Errorf("a ref of the service's own was deleted:\n%s", out)
	}
}

func TestShallowClonesAndLargePacks(t *testing.T) {
	w := newTown(t)
	full := w.begin(simple)
	for i := range 5 {
		w.commit("ines", full, "README.md", fmt.Sprint(i), "more")
		w.must("ines", full, "push", "-q", "origin", "HEAD:refs/heads/long")
	}
	shallow := filepath.Join(t.TempDir(), "shallow")
	w.must("tamsin", w.dir, "clone", "-q", "--depth", "1", "--branch", "long", w.gitURL(), shallow)
	if n := w.must("tamsin", shallow, "rev-list", "--count", "HEAD"); n != "1" {
		t.Errorf("a clone of depth 1 has %s commits", n)
	}
	w.commit("tamsin", shallow, "b", "b\n", "from a shallow clone")
	w.must("tamsin", shallow, "push", "-q", "origin", "HEAD:refs/heads/from-shallow")

	noise := make([]byte, 8<<20) // beyond git's buffer, so that it is sent in chunks
	rand.Read(noise)
	w.commit("tamsin", shallow, "noise.bin", string(noise), "large")
	w.must("tamsin", shallow, "push", "-q", "origin", "HEAD:refs/heads/large")
	for i := range 150 { // beyond the number of objects that are unpacked
		w.ok(os.WriteFile(filepath.Join(shallow, fmt.Sprintf("f%d", i)), fmt.Append(nil, i), 0o644))
	}
	many := w.commit("tamsin", shallow, "f", "f", "many files")
	w.must("tamsin", shallow, "push", "-q", "origin", "HEAD:refs/heads/many")
	if w.tip("many") != many {
		t.Error("the branch is not where it was pushed to")
	}
	bare := filepath.Join(w.dir, "data", "repositories", "1.git")
	w.must("ines", bare, "fsck", "--strict", "--no-dangling")
}

func TestPackOverTheLimitIsRefusedWhole(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	w.close()
	w.open(service.Options{Bounds: bound(t, "push.pack-bytes=1048576")})
	w.must("ines", dir, "remote", "set-url", "origin", w.gitURL())
	noise := make([]byte, 3<<20)
	rand.Read(noise)
	w.commit("ines", dir, "noise.bin", string(noise), "large")
	out, err := w.gitAs("ines", dir, "push", "origin", "HEAD:refs/heads/large")
	if err == nil || w.tip("large") != "" {
		t.Fatalf("the pack was taken: %v", err)
	}
	has(t, out, "the pack is too large; the bound push.pack-bytes is 1048576")
	if left, _ := filepath.Glob(filepath.Join(w.dir, "data", "repositories", "1.git", "tavrin-scratch-*")); len(left) > 0 {
		t.Errorf("objects of a refused push are left: %v", left)
	}
}

// What does not keep to the protocol is refused at the door, and nothing is written.
func TestBadPushesAreRefused(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	main := w.tip("main")
	zero := strings.Repeat("0", 40)
	line := func(text string) string { return fmt.Sprintf("%04x%s", len(text)+4, text) }
	command := func(old, new, ref string) string {
		return line(old+" "+new+" "+ref+"\x00report-status side-band-64k") + "0000"
	}
	cases := []struct {
		name, body, kind string
		gzip             bool
		status           int
		says             string
	}{
		{"wrong content type", "0000", "text/plain", false, 415, "content type"},
		{"not packets", "hello", "", false, 422, "not the length of a packet"},
		{"ends early", "00ff", "", false, 422, "ends too early"},
		{"no ids", line("x y refs/heads/a") + "0000", "", false, 422, "unreadable command"},
		{"path out of the name space", command(zero, main, "refs/heads/../x"), "", false, 200, "not a name git allows"},
		{"option as a name", command(zero, main, "--upload-pack=x"), "", false, 200, "not a name git allows"},
		{"control characters in a name", command(zero, main, "refs/heads/a\nb"), "", false, 200, "not a name git allows"},
		{"no pack", command(zero, strings.Repeat("1", 40), "refs/heads/x"), "", false, 200, "no pack follows"},
		{"broken pack", command(zero, strings.Repeat("1", 40), "refs/heads/x") + "PACK\x00\x00\x00\x02\x00\x00\x00\x01garbage", "", false, 200, "not sound"},
		{"said to be gzip", "0000", "", true, 422, "said to be gzip"},
		{"a probe", "0000", "", false, 200, ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			req, err := http.NewRequest("POST", w.gitURL()+"/git-receive-pack", strings.NewReader(c.body))
			w.ok(err)
			req.SetBasicAuth("x", w.tokens["ines"])
			if c.kind == "" {
				c.kind = "application/x-git-receive-pack-request"
			}
			req.Header.Set("Content-Type", c.kind)
			if c.gzip {
				req.Header.Set("Content-Encoding", "gzip")
			}
			resp, err := http.DefaultClient.Do(req)
			w.ok(err)
			defer resp.Body.Close()
			body, _ := io.ReadAll(resp.Body)
			if resp.StatusCode != c.status {
				t.Errorf("status is %d, not %d", resp.StatusCode, c.status)
			}
			has(t, string(body), c.says)
		})
	}
	if out := w.must("ines", w.dir, "ls-remote", w.gitURL()); strings.Count(out, "\n") > 1 {
		t.Errorf("something was written:\n%s", out)
	}
}

func TestCompressedBodiesAreRead(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	var body bytes.Buffer
	z := gzip.NewWriter(&body)
	z.Write([]byte("0014command=ls-refs\n00010009peel\n0000"))
	z.Close()
	req, err := http.NewRequestWithContext(context.Background(), "POST", w.gitURL()+"/git-upload-pack", &body)
	w.ok(err)
	req.SetBasicAuth("x", w.tokens["pavo"])
	req.Header.Set("Content-Type", "application/x-git-upload-pack-request")
	req.Header.Set("Content-Encoding", "gzip")
	req.Header.Set("Git-Protocol", "version=2")
	resp, err := http.DefaultClient.Do(req)
	w.ok(err)
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	has(t, string(text), "refs/heads/main")
}

// A push that was judged with objects missing, or of something that is no commit, moves nothing.
func TestBranchesPointAtCommits(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	tree := w.must("ines", dir, "rev-parse", "HEAD^{tree}")
	if out, err := w.gitAs("ines", dir, "push", "origin", tree+":refs/heads/tree"); err == nil {
		t.Errorf("a branch points at a tree:\n%s", out)
	}
}

func TestAuthorsOfPushedCommitsAreKnown(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	dir := w.clone("odo")
	w.must("odo", dir, "checkout", "-q", "-b", "shared")
	w.commit("odo", dir, "a", "a\n", "by odo")
	w.must("odo", dir, "push", "-q", "origin", "shared")
	// Wren pushes a commit whose author line names somebody unknown, and opens the change.
	w.must("wren", dir, "-c", "user.name=x", "commit", "-q", "--allow-empty", "--author", "X <x@elsewhere.example>", "-m", "by nobody known")
	w.must("wren", dir, "push", "-q", "origin", "shared")
	k := w.openChange("wren", "shared")
	if strings.Join(k.Authors, " ") != "odo wren" {
		t.Errorf("authors are %v, want odo, whose push first brought a commit, and wren", k.Authors)
	}
}

// Whatever else there is that moves, makes or removes a ref obeys the rules too, one test for each way (P1): by lease and by options,
// tags, branches of a protected kind, calls that build a commit for somebody and push it, calls that delete, and a repository that goes
// and comes back. There are no edits in the console but those that are proposed.
func TestP1EveryOtherWayABranchMoves(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple + `  - {name: lines, branches: release/*, push: role:maintainer, create: role:maintainer}
  - {name: versions, tags: v*, create: role:maintainer}
`)
	ctx := t.Context()
	w.must("ines", dir, "fetch", "-q", "origin")
	w.must("ines", dir, "push", "-q", "origin", "origin/main:refs/heads/release/1", "origin/main:refs/tags/v1")
	w.must("ines", dir, "checkout", "-q", "-B", "work", "origin/main")
	head := w.commit("ines", dir, "valves/a", "a\nb\n", "valves: a")
	w.must("ines", dir, "push", "-q", "origin", "work")
	refs := func() string {
		return w.must("ines", dir, "ls-remote", "origin", "refs/heads/main", "refs/heads/release/*", "refs/tags/*")
	}
	before := refs()
	stays := func(way string) {
		t.Helper()
		if now := refs(); now != before {
			t.Errorf("%s:\n%s\nbefore:\n%s", way, now, before)
		}
	}
	old := strings.Fields(before)[0]
	for _, login := range []string{"tamsin", "ines", "builder"} {
		pushes := [][]string{
			{"push", "--force-with-lease=main:" + old, "origin", head + ":refs/heads/main"},
			{"push", "--force-with-lease", "--force-if-includes", "origin", head + ":refs/heads/main"},
			{"push", "--no-thin", "-o", "ci.skip", "-o", "merge", "origin", head + ":refs/heads/main"},
			{"push", "--signed=if-asked", "origin", head + ":refs/heads/main"},
			{"push", "--prune", "origin", "refs/heads/work:refs/heads/main"},
			{"push", "--delete", "origin", "main", "release/1", "v1"},
			{"push", "origin", "+" + head + ":refs/tags/v1"},
			{"push", "--follow-tags", "origin", "+" + head + ":refs/tags/v1"},
			{"push", "origin", "+" + old + "^{tree}:refs/tags/v1"},
			{"push", "origin", head + ":refs/heads/main", head + ":refs/heads/main2", head + ":refs/tags/v1"},
		}
		if login != "ines" {
			pushes = append(pushes, []string{"push", "origin", head + ":refs/heads/release/2"}, []string{"push", "origin", head + ":refs/heads/release/1"},
				[]string{"push", "origin", head + ":refs/tags/v2"}, []string{"push", "--tags", "origin", "+" + head + ":refs/tags/v2"})
		}
		for _, push := range pushes {
			w.gitAs(login, dir, push...)
			stays(login + ": git " + strings.Join(push, " "))
		}
		w.gitAs("ines", dir, "push", "-q", "origin", ":refs/heads/main2")
	}
	// calls that make a commit for somebody, on a branch that they may not push to
	back, err := w.as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: "main", Target: "work", Title: "Bring main into work"})
	if err == nil {
		t.Errorf("main brings nothing to work: %+v", back)
	}
	w.must("ines", dir, "push", "-q", "origin", old+":refs/heads/behind")
	up := w.propose("tamsin", "ahead", "valves/c", "c\n")
	w.approve("odo", up)
	w.approve("ines", up)
	w.join("tamsin", up, "rebase")
	w.answerUntil(up)
	before = refs() // main has moved, by a landing
	from, err := w.as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: "main", Target: "behind", Title: "Bring main into behind"})
	w.ok(err)
	if _, err := w.as("tamsin").UpdateBranch(ctx, repo, from.Number, ""); err == nil {
		t.Error("main is brought up to another branch by a push for somebody")
	}
	stays("bringing up")
	suggestion := w.suggest("odo", from, "valves/c", 1, 1, "d")
	if _, err := w.as("tamsin").ApplySuggestions(ctx, repo, from.Number, []int64{suggestion}); err == nil {
		t.Error("a suggestion is applied to main")
	}
	stays("suggestions")
	for _, branch := range []string{"main", "release/1"} {
		done, err := w.as("ines").DeleteBranches(ctx, repo, []wire.BranchAt{{Name: branch, Commit: w.tip(branch)}})
		w.ok(err)
		if len(done) != 1 || done[0].Deleted || done[0].Why == "" {
			t.Errorf("%s is deleted: %+v", branch, done)
		}
	}
	stays("deleting on request")
	if _, err := w.as("ines").UndoLanding(ctx, repo, up.Number, "x"); err != nil {
		t.Errorf("undoing prepares a branch of its own: %v", err)
	}
	stays("undoing")
	// a default branch that is another moves none
	other := "work"
	_, err = w.as("ines").EditRepository(ctx, repo, wire.RepositoryEdit{DefaultBranch: &other})
	w.ok(err)
	stays("another default branch")
	// and what is deleted comes back as it was
	_, err = w.admin.DeleteRepository(ctx, repo, "try")
	w.ok(err)
	if _, err := w.gitAs("ines", dir, "push", "origin", head+":refs/heads/main"); err == nil {
		t.Error("a deleted repository is pushed to")
	}
	_, err = w.admin.RestoreRepository(ctx, repo)
	w.ok(err)
	stays("deleted and restored")
	w.gitAs("ines", dir, "push", "origin", head+":refs/heads/main")
	stays("pushed to afterwards")
	w.says("admin", 0, "unbroken", "journal", "verify")
}
