package e2e

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"tavrin/internal/service"
	"tavrin/wire"
)

// sabotage puts a program called git before the real one: a shell script in which "$real" "$@" does what was asked. It is for
// the service alone: people's own gits are told by their folder.
func (w *town) sabotage(script string) (mend func()) {
	w.t.Helper()
	real, err := exec.LookPath("git")
	w.ok(err)
	dir := w.t.TempDir()
	text := fmt.Sprintf("#!/bin/sh\nreal=%s\nstate=%s/state\ncase \"$PWD\" in */data/repositories/*) ;; *) exec \"$real\" \"$@\" ;; esac\n%s\nexec \"$real\" \"$@\"\n", real, dir, script)
	w.ok(os.WriteFile(dir+"/git", []byte(text), 0o755))
	before := os.Getenv("PATH")
	w.ok(os.Setenv("PATH", dir+":"+before))
	mended := false
	mend = func() {
		if !mended {
			os.Setenv("PATH", before)
			mended = true
		}
	}
	w.t.Cleanup(mend)
	return mend
}

func (w *town) bareDir() string { return filepath.Join(w.dir, "data", "repositories", "1.git") }

// A move that is reported as failed, because git was killed after it, is found and recorded as moved: once, and nobody is told
// otherwise (P4).
func TestP4MovedAlthoughReportedAsFailed(t *testing.T) {
	w := aloneTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "topic")
	mend := w.sabotage(`case "$*" in *"update-ref -z --stdin"*) "$real" "$@"; kill -9 $$ ;; esac`)
	head := w.commit("tamsin", dir, "a", "b\n", "more")
	if out, err := w.gitAs("tamsin", dir, "push", "origin", "topic"); err != nil {
		t.Errorf("the pusher is told that it was refused: %s", out)
	}
	if now := w.openedAs(1); now.Head != head || now.Revision != 2 {
		t.Errorf("it moved, and the change is at %+v", now)
	}
	w.approve("odo", w.openedAs(1))
	w.join("tamsin", k, "squash")
	w.report(w.rehearsed(k), "unit", "passed")
	w.landed(k)
	mend()
	if n := strings.Count(strings.Join(w.kinds(), " "), "change.landed"); n != 1 {
		t.Errorf("it landed %d times", n)
	}
	if n := w.must("ines", w.bareDir(), "rev-list", "--count", "refs/heads/main"); n != "2" {
		t.Errorf("main has %s commits", n)
	}
	_, err := w.admin.VerifyJournal(t.Context(), nil, true, nil)
	w.ok(err)
}

// A helper that is killed is the service's trouble: the entry keeps its place, says what is the matter, and goes on by itself,
// and nothing holds the others up.
func TestTroubleOfTheServicesOwnEjectsNobody(t *testing.T) {
	w := aloneTown(t)
	w.begin(simple)
	first, second := w.propose("tamsin", "first", "a", "a\n"), w.propose("wren", "second", "b", "b\n")
	for _, k := range []wire.Change{first, second} {
		w.approve("odo", k)
	}
	// What builds the first change is killed, for as long as the file is not there.
	flag := filepath.Join(t.TempDir(), "mended")
	w.sabotage(fmt.Sprintf(`case "$*" in *"merge-tree"*|*"hash-object"*) test -e %s || kill -9 $$ ;; esac`, flag))
	w.join("tamsin", first, "squash")
	w.until(first, "resting", func(k wire.Change) bool {
		return k.Entry.State == "queued" && strings.Contains(k.Entry.Reason, "which is not about the change")
	})
	w.ok(os.WriteFile(flag, nil, 0o644))
	w.report(w.rehearsed(first), "unit", "passed")
	w.landed(first)
	w.join("wren", second, "rebase")
	w.report(w.rehearsed(second), "unit", "passed")
	w.landed(second)
}

// A branch of which it cannot be worked out what it brings holds nothing up for long: its move is on record, whoever pushed it
// is told, and the repository goes on.
func TestAPushThatCannotBeWorkedOutHoldsNothingUp(t *testing.T) {
	w := aloneTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	other := w.propose("wren", "other", "b", "b\n")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "topic")
	head := w.commit("tamsin", dir, "a", "b\n", "more")
	mend := w.sabotage(fmt.Sprintf(`case "$*" in *"merge-base --all"*%s*) echo "fatal: Out of memory, malloc failed" >&2; exit 128 ;; esac`, head))
	out, err := w.gitAs("tamsin", dir, "push", "origin", "topic")
	if err != nil || w.tip("topic") != head {
		t.Fatalf("it moved, and the pusher is told: %s", out)
	}
	has(t, out, "has moved. What follows from it")
	w.landAsSoonAsItMay(other)
	if now := w.openedAs(1); now.Revision != 1 || now.Head != k.Head {
		t.Errorf("it follows: %+v", now)
	}
	mend()
	again := w.commit("tamsin", dir, "a", "c\n", "again")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	if now := w.openedAs(1); now.Revision != 2 || now.Head != again {
		t.Errorf("pushed again, it does not follow: %+v", now)
	}
}

// landAsSoonAsItMay lands a change of wren's, however often something has to be asked again meanwhile.
func (w *town) landAsSoonAsItMay(k wire.Change) {
	w.t.Helper()
	w.approve("odo", k)
	for range 400 {
		if _, err := w.as("wren").Join(w.t.Context(), repo, k.Number, wire.NewEntry{}); err == nil {
			break
		}
		pause()
	}
	w.report(w.rehearsed(k), "unit", "passed")
	w.landed(k)
}

// One that rests lets the others go ahead.
func TestOneThatRestsHoldsNobodyUp(t *testing.T) {
	w := aloneTown(t)
	w.begin(simple)
	first, second := w.propose("tamsin", "first", "a", "a\n"), w.propose("wren", "second", "b", "b\n")
	for _, k := range []wire.Change{first, second} {
		w.approve("odo", k)
	}
	w.sabotage(fmt.Sprintf(`case "$*" in *"rev-list --reverse"*%s*) kill -9 $$ ;; esac`, first.Head))
	w.join("tamsin", first, "rebase")
	w.until(first, "resting", func(k wire.Change) bool { return strings.Contains(k.Entry.Reason, "not about the change") })
	w.join("wren", second, "rebase")
	w.report(w.rehearsed(second), "unit", "passed")
	w.landed(second)
	if now := w.openedAs(1); now.Entry.State == "ejected" {
		t.Errorf("it was ejected for what is not its doing: %s", now.Entry.Reason)
	}
}

// Locks that a killed process left are removed by whoever meets them, at any time.
func TestStaleLocksAreRemoved(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	lock := func(names ...string) {
		for _, name := range names {
			w.ok(os.MkdirAll(filepath.Dir(filepath.Join(w.bareDir(), name)), 0o755))
			w.ok(os.WriteFile(filepath.Join(w.bareDir(), name), nil, 0o644))
		}
	}
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "a", "a\n", "a")
	lock("refs/heads/topic.lock", "packed-refs.lock", "HEAD.lock")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	lock("refs/tavrin/revisions/1/1.lock")
	k := w.openChange("tamsin", "topic")
	lock("refs/heads/main.lock", "refs/tavrin/rehearsals/1.lock")
	w.land(k, "rebase")
	lock("refs/heads/topic.lock")
	w.must("tamsin", dir, "push", "-q", "origin", ":topic")
}

// What could not be written down is resolved by the next round, without a restart, and nobody is told what is not so meanwhile:
// a landing whose records were busy is not "withdrawn" afterwards (P4).
func TestP4OpenIntentsAreSettledInEveryRound(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	w.close()
	var once atomic.Bool
	release := make(chan func())
	w.open(service.Options{At: func(step string) {
		if step == "landing:moved" && once.CompareAndSwap(false, true) {
			release <- w.holdRecords()
		}
	}})
	w.admin = w.as("admin")
	w.join("tamsin", k, "squash")
	w.report(w.rehearsed(k), "unit", "passed")
	free := <-release
	moved := w.must("ines", w.bareDir(), "rev-parse", "refs/heads/main")
	left := make(chan error)
	go func() {
		_, err := w.as("tamsin").Leave(context.Background(), repo, k.Number)
		left <- err
	}()
	time.Sleep(6 * time.Second) // longer than a writer waits for the records
	free()
	if err := <-left; err == nil {
		t.Error("what is on main was withdrawn")
	}
	now := w.landed(k)
	if now.LandedCommit != moved {
		t.Errorf("it landed as %s, and main moved to %s", now.LandedCommit, moved)
	}
	if n := strings.Count(strings.Join(w.kinds(), " "), "change.landed"); n != 1 {
		t.Errorf("it landed %d times", n)
	}
}

// holdRecords keeps every writer from the records until the function it returns is called.
func (w *town) holdRecords() func() {
	db, err := gorm.Open(sqlite.Open("file:"+filepath.Join(w.dir, "data", "records.sqlite")+"?_busy_timeout=5000"), &gorm.Config{})
	if err != nil {
		panic(err)
	}
	sql, err := db.DB()
	if err != nil {
		panic(err)
	}
	sql.SetMaxOpenConns(1)
	if err := db.Exec("BEGIN IMMEDIATE").Error; err != nil {
		panic(err)
	}
	return func() { db.Exec("ROLLBACK"); sql.Close() }
}

// A repository that cannot be brought into order at the start is stopped: it is read-only, loudly, and everything else goes on, until
// an administrator has mended it.
func TestARepositoryIsStopped(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	w.join("tamsin", k, "rebase")
	ctx := t.Context()
	const other = "growers/ledger"
	_, err := w.admin.CreateRepository(ctx, wire.NewRepository{Name: other})
	w.ok(err)
	w.ok(w.admin.Grant(ctx, other, "ines", "maintainer"))
	commit := w.rehearsed(k)
	w.close()
	// The folder of its refs is a file, as after a bad restore.
	refs := filepath.Join(w.bareDir(), "refs")
	w.ok(os.Rename(refs, refs+".kept"))
	w.ok(os.Rename(filepath.Join(w.bareDir(), "objects"), filepath.Join(w.bareDir(), "objects.kept")))
	w.ok(os.WriteFile(refs, nil, 0o644))
	w.ok(os.Rename(w.bareDir(), w.bareDir()+".away"))
	w.reopen()
	desk, err := w.admin.Desk(ctx)
	w.ok(err)
	if len(desk) != 1 || desk[0].Kind != "stopped" || desk[0].What == "" {
		t.Errorf("the administrator's desk has %+v", desk)
	}
	_, err = w.as("ines").ApplyRules(ctx, repo, wire.NewRules{Text: simple + "# another\n", Reason: "to see"}, -1)
	problem(t, err, 503, "stopped and read-only", "tavrin repo resume growers/irrigation")
	_, err = w.as("tamsin").Leave(ctx, repo, k.Number)
	problem(t, err, 503, "stopped")
	if now := w.openedAs(1); now.Entry == nil || now.Entry.State == "ejected" {
		t.Errorf("its entry is %+v", now.Entry)
	}
	// The other goes on.
	dir := filepath.Join(t.TempDir(), "ledger")
	w.must("ines", w.dir, "clone", "-q", w.url+"/git/"+other+".git", dir)
	w.commit("ines", dir, "a", "a\n", "a")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:main")

	// It keeps nothing else from being backed up, and is named.
	kept, put := filepath.Join(t.TempDir(), "kept.tar"), filepath.Join(t.TempDir(), "put")
	w.says("admin", 0, "growers/irrigation was stopped, and is copied as it is", "backup", kept, "--data", filepath.Join(w.dir, "data"))
	w.says("admin", 0, "growers/irrigation was stopped", "restore", kept, "--data", put)
	if _, err := os.Stat(filepath.Join(put, "repositories", "2.git", "packed-refs")); err != nil {
		t.Error(err)
	}
	_, err = w.admin.ResumeRepository(ctx, repo)
	problem(t, err, 409, "cannot go on yet")
	_, err = w.as("ines").ResumeRepository(ctx, repo)
	problem(t, err, 403, "for service administrators")
	w.ok(os.Rename(w.bareDir()+".away", w.bareDir()))
	w.ok(os.Remove(refs))
	w.ok(os.Rename(refs+".kept", refs))
	w.ok(os.Rename(filepath.Join(w.bareDir(), "objects.kept"), filepath.Join(w.bareDir(), "objects")))
	w.says("admin", 0, "goes on", "repo", "resume", repo)
	w.report(commit, "unit", "passed")
	w.landed(k)
	_, err = w.admin.ResumeRepository(ctx, repo)
	problem(t, err, 409, "not stopped")
	has(t, strings.Join(w.kinds(), " "), "repository.stopped", "repository.resumed")
}

// Trouble with one repository, or a git that hangs there, holds up no other.
func TestOneRepositorysTroubleIsNoOthers(t *testing.T) {
	w := aloneTown(t)
	w.begin(simple)
	ctx := t.Context()
	const other = "growers/ledger"
	_, err := w.admin.CreateRepository(ctx, wire.NewRepository{Name: other})
	w.ok(err)
	for _, login := range []string{"ines", "tamsin", "odo"} {
		w.ok(w.admin.Grant(ctx, other, login, "maintainer"))
	}
	k := w.propose("tamsin", "slow", "a", "a\n")
	w.approve("odo", k)
	flag := filepath.Join(t.TempDir(), "go-on")
	w.sabotage(fmt.Sprintf(`case "$*" in *"--is-ancestor %s"*) n=0; while ! test -e %s && test $n -lt 600; do sleep 0.1; n=$((n+1)); done ;; esac`, k.Head, flag))
	defer os.WriteFile(flag, nil, 0o644)
	w.join("tamsin", k, "rebase")
	dir := filepath.Join(t.TempDir(), "ledger")
	w.must("ines", w.dir, "clone", "-q", w.url+"/git/"+other+".git", dir)
	w.commit("ines", dir, "a", "a\n", "a")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:main", "HEAD:refs/heads/topic")
	w.must("ines", dir, "checkout", "-q", "-b", "topic")
	w.commit("ines", dir, "b", "b\n", "b")
	w.must("ines", dir, "push", "-q", "origin", "topic")
	o, err := w.as("ines").OpenChange(ctx, other, wire.NewChange{Source: "topic", Title: "Quick"})
	w.ok(err)
	_, err = w.as("ines").Join(ctx, other, o.Number, wire.NewEntry{})
	w.ok(err)
	for n := 0; ; n++ {
		now, err := w.as("ines").Change(ctx, other, o.Number)
		w.ok(err)
		if now.State == "landed" {
			break
		}
		if n > 400 {
			t.Fatalf("it is held up: %+v", now.Entry)
		}
		pause()
	}
}

// A service that was killed keeps the next one out of its folder no longer than it lives, however many gits it had running.
func TestTheFolderIsFreeAtOnce(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	for range 5 {
		again := w.dieAt("push:intended")
		dir := w.t.TempDir()
		w.must("wren", dir, "init", "-q", ".")
		w.commit("wren", dir, "a", "a\n", "a")
		w.gitAs("wren", dir, "push", "-q", w.gitURL(), "HEAD:refs/heads/x")
		again() // fails the test when the folder is in use
	}
}

// A disk that is nearly full is noticed before it hurts: no push is taken, the queue holds itself and says so, nobody is ejected, and
// all goes on by itself when there is room.
func TestADiskThatIsNearlyFull(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	dir := w.nearby("wren")
	w.close()
	w.open(service.Options{Bounds: bound(t, "disk.free-bytes=1000000000000000", "calls.token=1000000", "calls.address=1000000")})
	w.admin = w.as("admin")
	w.must("wren", dir, "remote", "set-url", "origin", w.gitURL())
	w.must("wren", dir, "checkout", "-q", "-b", "more")
	w.commit("wren", dir, "b", "b\n", "b")
	out, err := w.gitAs("wren", dir, "push", "origin", "more")
	if err == nil || !strings.Contains(out, "the disk is nearly full") {
		t.Errorf("the push: %v, %s", err, out)
	}
	w.must("wren", dir, "fetch", "-q")
	w.join("tamsin", k, "rebase")
	w.until(k, "held", func(k wire.Change) bool { return strings.Contains(k.Entry.Reason, "the disk is nearly full") })
	w.says("pavo", 0, "Nothing lands now: the disk is nearly full", "queue", "show", "--repo", repo)
	w.says("pavo", 0, "an administrator makes room; the queue goes on by itself then", "queue", "show", "--repo", repo)
	w.says("admin", 0, "no push is taken, and nothing lands", "desk")
	if _, err := w.as("tamsin").UndoLanding(t.Context(), repo, k.Number, "x"); err == nil {
		t.Error("something is written")
	}
	resp, err := http.Get(w.url + "/readyz")
	w.ok(err)
	said, err := io.ReadAll(resp.Body)
	w.ok(errors.Join(err, resp.Body.Close()))
	if resp.StatusCode != http.StatusServiceUnavailable || !strings.Contains(string(said), "the disk is nearly full") {
		t.Errorf("%d %s", resp.StatusCode, said)
	}
	w.close()
	w.reopen()
	w.answerUntil(k)
	w.must("wren", dir, "remote", "set-url", "origin", w.gitURL())
	w.must("wren", dir, "push", "-q", "origin", "more")
}
