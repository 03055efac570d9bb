package e2e

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/core/change"
	"tavrin/internal/core/statement"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"tavrin/internal/service"
	"tavrin/wire"
)

// What was tested is what lands, for each strategy, and the statement says so (P2).
func TestP2TheRehearsedCommitLands(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	for _, strategy := range []string{"rebase", "squash", "merge"} {
		k := w.propose("tamsin", "topic-"+strategy, strategy, "text\n")
		// Main moves on meanwhile, so that there is something to rehearse: by another change that lands first.
		other := w.propose("wren", "other-"+strategy, "other-"+strategy, "text\n")
		for _, c := range []wire.Change{other, k} {
			w.approve("odo", c)
			w.join("ines", c, strategy)
			before := w.tip("main")
			commit := w.rehearsed(c)
			if w.tip("main") != before {
				t.Fatal("main moved before its checks passed (P1)")
			}
			w.report(commit, "unit", "passed")
			done := w.landed(c)
			if now := w.tip("main"); now != commit || done.LandedCommit != commit {
				t.Errorf("%s: main is at %s, landed %s, tested %s", strategy, now, done.LandedCommit, commit)
			}
		}
		w.must("ines", dir, "fetch", "-q")
		parents := strings.Fields(w.must("ines", dir, "log", "-1", "--format=%P", "origin/main"))
		message := w.must("ines", dir, "log", "-1", "--format=%B", "origin/main")
		switch strategy {
		case "rebase":
			if len(parents) != 1 || strings.TrimSpace(message) != "change rebase" {
				t.Errorf("rebase: parents %v, message %q", parents, message)
			}
		case "squash":
			has(t, message, "Bring topic-squash", "Landed-change: growers/irrigation ", "Approved-by: Odo of Fennmoor <odo@fennmoor.example>")
			if len(parents) != 1 {
				t.Errorf("squash: parents %v", parents)
			}
		case "merge":
			if len(parents) != 2 || parents[1] != k.Head {
				t.Errorf("merge: parents %v, head %s", parents, k.Head)
			}
		}
		w.statement(k)
	}
}

// statement checks that a landing's signed statement names the landed commit and a clear gate, and is what is shown.
func (w *town) statement(k wire.Change) {
	w.t.Helper()
	l, err := w.as("ines").Landing(w.t.Context(), repo, k.Number)
	w.ok(err)
	if !l.Report.Clear {
		w.t.Errorf("change %d landed through a gate that was not clear: %s", k.Number, l.Report.Summary)
	}
	var e struct {
		PayloadType, Payload string
		Signatures           []struct{ Sig string }
	}
	w.ok(json.Unmarshal([]byte(l.Statement), &e))
	payload, err := base64.StdEncoding.DecodeString(e.Payload)
	w.ok(err)
	head, err := w.admin.VerifyJournal(w.t.Context(), nil, true, nil)
	w.ok(err)
	key, err := base64.StdEncoding.DecodeString(head.PublicKey)
	w.ok(err)
	sig, err := base64.StdEncoding.DecodeString(e.Signatures[0].Sig)
	w.ok(err)
	signed := fmt.Sprintf("DSSEv1 %d %s %d %s", len(e.PayloadType), e.PayloadType, len(payload), payload)
	if !ed25519.Verify(key, []byte(signed), sig) {
		w.t.Error("the signature of the statement is not good")
	}
	why, err := statement.Read(payload)
	w.ok(err)
	if why.Subject[0].Digest.GitCommit != l.New || why.Predicate.RulesVersion != l.RulesVersion || len(why.Predicate.Facts) == 0 {
		w.t.Errorf("the statement says %+v of %+v", why, l)
	}
	// What is shown is what was signed, and so is the gate of a change that has landed.
	shown, err := w.as("ines").Gate(w.t.Context(), repo, k.Number)
	w.ok(err)
	signedText, err := json.Marshal(why.Predicate.Report.Gate())
	w.ok(err)
	for _, r := range []wire.Report{l.Report, shown} {
		if text, err := json.Marshal(r); err != nil || !bytes.Equal(text, signedText) {
			w.t.Errorf("shown is %s, signed %s", text, signedText)
		}
	}
}

// The tip moves from the tip the rehearsal was built on, or not at all (P3).
func TestP3TargetMovedMeanwhileIsRehearsedAgain(t *testing.T) {
	w := newTown(t)
	dir := w.begin(strings.Replace(simple, "push: nobody", "push: role:maintainer", 1))
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	w.join("tamsin", k, "squash")
	first := w.rehearsed(k)
	w.commit("ines", dir, "b", "b\n", "by hand")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:main")
	second := w.until(k, "rehearsed again", func(k wire.Change) bool {
		return k.Entry.Rehearsal != nil && k.Entry.State == "rehearsing" && k.Entry.Rehearsal.Commit != first
	}).Entry.Rehearsal
	if second.Base != w.tip("main") {
		t.Errorf("rehearsed on %s, main is at %s", second.Base, w.tip("main"))
	}
	_, err := w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: first, Name: "unit", State: "passed"})
	problem(t, err, 409, "has ended as cancelled")
	w.report(second.Commit, "unit", "passed")
	w.landed(k)
	w.must("ines", dir, "fetch", "-q")
	w.must("ines", dir, "merge-base", "--is-ancestor", "main", "origin/main") // the push by hand is not lost
}

// A change is judged by the rules as they are now; what it brings in changes nothing about that (P5).
func TestP5JudgedByTheTargetsRulesOfNow(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "rules.yaml", "tavrin: rules/1\n")
	w.approve("odo", k)
	if k = w.until(k, "ready", func(k wire.Change) bool { return k.Ready }); !k.Ready {
		t.Fatal("not ready")
	}
	w.apply(strings.Replace(simple, "approvals: 1", "approvals: 2", 1))
	w.until(k, "judged by the new rules", func(k wire.Change) bool { return !k.Ready })
	w.join("tamsin", k, "")
	w.until(k, "waiting", func(k wire.Change) bool {
		return k.Entry.State == "waiting" && strings.Contains(k.Entry.Reason, "1 more approval")
	})
	// A member who leaves the owning team is not asked any more, whatever the change says.
	v := w.propose("wren", "valves", "valves/east", "open\n")
	w.ok(w.admin.SetTeam(t.Context(), "hydraulics", []string{"tamsin"}, nil))
	gate, err := w.as("ines").Gate(t.Context(), repo, v.Number)
	w.ok(err)
	for _, q := range gate.Requirements {
		if q.Key == "owners/valves" && !slices.Equal(q.Who, []string{"tamsin"}) {
			t.Errorf("owners to ask are %v", q.Who)
		}
	}
}

// An approval counts for the revision, or for the unchanged difference, and for nothing else (P6).
func TestP6ApprovalsAndPushes(t *testing.T) {
	w := newTown(t)
	dir := w.begin(strings.Replace(simple, "push: nobody", "push: role:maintainer", 1))
	work := w.clone("tamsin")
	w.must("tamsin", work, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", work, "README.md", lines(20, map[int]string{3: "mine"}), "mine")
	w.must("tamsin", work, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	w.approve("odo", k)
	w.commit("ines", dir, "README.md", lines(20, map[int]string{17: "main"}), "main moves")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:main")

	w.must("wren", work, "pull", "-q", "--rebase", "origin", "main") // somebody else rebases it cleanly
	out := w.must("wren", work, "push", "--force", "origin", "topic")
	has(t, out, "is now at revision 2")
	k = w.until(k, "at revision 2", func(k wire.Change) bool { return k.Revision == 2 })
	if !k.Ready || strings.Join(k.Authors, " ") != "tamsin" {
		t.Errorf("after a clean rebase: ready %v, authors %v: %s", k.Ready, k.Authors, k.Summary)
	}
	w.commit("wren", work, "README.md", lines(20, map[int]string{3: "mine and more", 17: "main"}), "more")
	w.must("wren", work, "push", "-q", "origin", "topic")
	k = w.until(k, "at revision 3", func(k wire.Change) bool { return k.Revision == 3 })
	if k.Ready || strings.Join(k.Authors, " ") != "tamsin wren" {
		t.Errorf("after another difference: ready %v, authors %v", k.Ready, k.Authors)
	}
	_, err := w.as("odo").Review(t.Context(), repo, k.Number, wire.NewReview{Verdict: "approve", Revision: 2})
	problem(t, err, 409, "conflict", "the newest revision of change 1 is 3")
	w.approve("wren", k) // an author by now
	if k, _ = w.as("ines").Change(t.Context(), repo, k.Number); k.Ready {
		t.Error("an author's approval counted")
	}
	w.apply(strings.Replace(strings.Replace(simple, "push: nobody", "push: role:maintainer", 1), "    land:", "    after_push: {approvals_stay: always}\n    land:", 1))
	if k, _ = w.as("ines").Change(t.Context(), repo, k.Number); !k.Ready {
		t.Errorf("where approvals outlive every push, odo's counts: %s", k.Summary)
	}
}

// A check counts only from a check robot that may report it, for the attempt that was asked for (P7).
func TestP7OnlyTheRightRobotIsHeard(t *testing.T) {
	w := newTown(t)
	w.begin(strings.Replace(simple, "protect:", "checks:\n  unit: {reported_by: robot:builder}\n  cmd: {command: 'true'}\nprotect:", 1))
	ctx := t.Context()
	k := w.propose("tamsin", "topic", "a", "a\n")
	say := func(login, name, state string, attempt int) error {
		_, err := w.as(login).ReportCheck(ctx, repo, wire.NewReport{Commit: k.Head, Name: name, State: change.CheckState(state), Attempt: attempt})
		return err
	}
	problem(t, say("ines", "unit", "passed", 0), 403, "may not report check")
	problem(t, say("admin", "unit", "passed", 0), 403, "may not report check")
	problem(t, say("builder", "deploy", "passed", 0), 403, `"deploy"`)
	_, err := w.admin.CreatePerson(ctx, wire.NewPerson{Login: "impostor", Robot: true})
	w.ok(err)
	token, err := w.admin.CreateToken(ctx, wire.NewToken{Login: "impostor", Checks: []string{repo + ":unit", repo + ":cmd"}})
	w.ok(err)
	w.tokens["impostor"] = token.Secret
	problem(t, say("impostor", "unit", "passed", 0), 403, "only robot:builder reports unit")
	problem(t, say("impostor", "cmd", "passed", 0), 403, "define cmd as a command")
	problem(t, say("builder", "unit", "splendid", 0), 422)
	problem(t, say("builder", "unit", "passed", 2), 409, "nobody asked for attempt 2")
	w.ok(say("builder", "unit", "failed", 0))
	w.ok(say("builder", "unit", "failed", 0)) // said twice is said once
	problem(t, say("builder", "unit", "passed", 0), 409, "an answer is not taken back")
	_, err = w.as("tamsin").Rerun(ctx, repo, k.Head, "unit")
	w.ok(err)
	problem(t, say("builder", "unit", "passed", 0), 409, "--attempt 2")
	problem(t, say("builder", "unit", "passed", 1), 409, "attempt 1 of unit", "is over")
	w.ok(say("builder", "unit", "passed", 2))
	k.Head = strings.Repeat("1", 40)
	problem(t, say("builder", "unit", "passed", 0), 404, "has no commit")
}

// Every entry that joins comes to an end, or waits for a named person or thing; one's failure is not another's (P9).
func TestP9FailuresStandAlone(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	red := w.propose("tamsin", "red", "red", "x\n")
	conflicting := w.propose("wren", "conflicting", "README.md", lines(20, map[int]string{5: "wren"}))
	first := w.propose("tamsin", "first", "README.md", lines(20, map[int]string{5: "tamsin"}))
	waits := w.propose("wren", "waits", "w", "w\n")
	closed := w.propose("wren", "closed", "c", "c\n")
	leaves := w.propose("wren", "leaves", "l", "l\n")
	for _, k := range []wire.Change{red, first, conflicting, closed, leaves} {
		w.approve("odo", k)
	}
	for _, k := range []wire.Change{red, first, conflicting, waits, closed, leaves} {
		w.join("ines", k, "rebase")
	}
	_, err := w.as("ines").Join(ctx, repo, red.Number, wire.NewEntry{})
	problem(t, err, 409, "in the queue already")
	_, err = w.as("wren").CloseChange(ctx, repo, closed.Number)
	w.ok(err)
	_, err = w.as("wren").Leave(ctx, repo, leaves.Number)
	w.ok(err)
	_, err = w.as("builder").ReportCheck(ctx, repo, wire.NewReport{Commit: w.rehearsed(red), Name: "unit", State: change.Failed,
		Log: strings.Repeat("a valve opens\n", 2000) + "the east valve \x1b[31mdrips\n"})
	w.ok(err)
	k := w.ejected(red)
	if !strings.Contains(k.Entry.Reason, "unit failed") || k.State != "open" {
		t.Errorf("red: %s, %s", k.State, k.Entry.Reason)
	}
	// What failed is beside it, with the end of its log.
	if log := k.Entry.Rehearsal.Checks[0].Log; strings.Count(log, "\n") != 14 || !strings.HasSuffix(log, "drips") {
		t.Errorf("its log ends with %q", log)
	}
	w.says("tamsin", 0, "| the east valve  [31mdrips", "change", "show", fmt.Sprint(red.Number), "--repo", repo)
	w.report(w.rehearsed(first), "unit", "passed")
	w.landed(first)
	if k := w.ejected(conflicting); !strings.Contains(k.Entry.Reason, "conflicts with the target in README.md") {
		t.Errorf("conflict: %s", k.Entry.Reason)
	}
	if k := w.ejected(closed); !strings.Contains(k.Entry.Reason, "closed") {
		t.Errorf("closed: %s", k.Entry.Reason)
	}
	w.until(leaves, "withdrawn", func(k wire.Change) bool { return k.Entry.State == "withdrawn" })
	k = w.until(waits, "waiting", func(k wire.Change) bool { return strings.Contains(k.Entry.Reason, "1 approval") })
	if k.Entry.State != "waiting" || k.Entry.Position != 1 {
		t.Errorf("waits: %+v", k.Entry)
	}
	q, err := w.as("pavo").Queue(ctx, repo, "main")
	w.ok(err)
	has(t, q.Caption, fmt.Sprintf("change %d waits", waits.Number))
	// The ejected change is mended and lands after all.
	dir := w.clone("wren")
	w.must("wren", dir, "checkout", "-q", "conflicting")
	w.must("wren", dir, "reset", "-q", "--hard", "origin/main")
	w.commit("wren", dir, "README.md", lines(20, map[int]string{5: "both"}), "resolved")
	w.must("wren", dir, "push", "-q", "--force", "origin", "conflicting")
	conflicting = w.until(conflicting, "revised", func(k wire.Change) bool { return k.Revision == 2 })
	w.approve("odo", conflicting)
	w.join("wren", conflicting, "merge")
	w.report(w.rehearsed(conflicting), "unit", "passed")
	w.landed(conflicting)
}

func TestSourceBranchIsRemovedIfAsked(t *testing.T) {
	w := newTown(t)
	w.begin(simple + "  - {name: kept, branches: keep/**, push: role:writer}\n")
	remove := true
	for _, branch := range []string{"topic", "keep/this"} {
		k := w.propose("tamsin", branch, branch, "x\n")
		w.approve("odo", k)
		_, err := w.as("tamsin").Join(t.Context(), repo, k.Number, wire.NewEntry{DeleteSource: &remove})
		w.ok(err)
		w.report(w.rehearsed(k), "unit", "passed")
		w.landed(k)
	}
	for range 100 {
		if w.tip("topic") == "" {
			break
		}
	}
	if w.tip("topic") != "" || w.tip("keep/this") == "" {
		t.Errorf("topic is at %q, keep/this at %q", w.tip("topic"), w.tip("keep/this"))
	}
	if kinds := w.kinds(); !slices.Contains(kinds, "branch.deleted") || !slices.Contains(kinds, "branch.kept") {
		t.Errorf("journal has %v", kinds)
	}
}

// Whoever may not push to a branch does not delete it by landing what is on it either, though it may be deleted (P1).
func TestP1LandingRemovesNothingThatAPushMayNot(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "release/1", "a", "a\n")
	w.apply(simple + "  - {name: lines, branches: release/**, push: person:ines, delete: allowed}\n")
	w.approve("odo", k)
	remove := true
	_, err := w.as("tamsin").Join(t.Context(), repo, k.Number, wire.NewEntry{DeleteSource: &remove})
	w.ok(err)
	w.report(w.rehearsed(k), "unit", "passed")
	w.landed(k)
	if tip := w.tip("release/1"); tip != k.Head || !slices.Contains(w.kinds(), "branch.kept") {
		t.Errorf("release/1 is at %q; journal has %v", tip, w.kinds())
	}
}

// An approval that the message names and that is withdrawn makes the change be built and tested again.
func TestWithdrawnApprovalIsNotNamed(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	w.approve("wren", k)
	w.join("tamsin", k, "squash")
	first := w.rehearsed(k)
	_, err := w.as("wren").Withdraw(t.Context(), repo, k.Number)
	w.ok(err)
	second := w.until(k, "built again", func(k wire.Change) bool {
		return k.Entry.State == "rehearsing" && k.Entry.Rehearsal != nil && k.Entry.Rehearsal.Commit != first
	}).Entry.Rehearsal.Commit
	w.report(second, "unit", "passed")
	w.landed(k)
	dir := w.clone("ines")
	if message := w.must("ines", dir, "log", "-1", "--format=%B"); strings.Contains(message, "Wren") || !strings.Contains(message, "Odo") {
		t.Errorf("message names:\n%s", message)
	}
}

func TestReservedTrailersCannotBeTyped(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	_, err := w.as("tamsin").Join(t.Context(), repo, k.Number, wire.NewEntry{Message: "x\n\nApproved-by: Ines <i@x.example>"})
	problem(t, err, 422, "written by the service")
	title := "x"
	description := "Approved-by: Ines <i@x.example>"
	_, err = w.as("tamsin").EditChange(t.Context(), repo, k.Number, wire.ChangeEdit{Title: &title, Description: &description})
	w.ok(err)
	w.land(k, "squash")
	dir := w.clone("ines")
	if trailers := w.must("ines", dir, "log", "-1", "--format=%(trailers:key=Approved-by,valueonly)"); strings.Contains(trailers, "Ines") {
		t.Errorf("a typed trailer passes for the service's: %s", trailers)
	}
}

func TestP8ConcurrentEventsHaveOneOrder(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	done := make(chan error, 30)
	for i := range 30 {
		go func() {
			login := []string{"odo", "wren", "ines"}[i%3]
			_, err := w.as(login).Review(t.Context(), repo, k.Number, wire.NewReview{Verdict: "comment", Revision: 1, Text: fmt.Sprint(i)})
			done <- err
		}()
	}
	for range 30 {
		w.ok(<-done)
	}
	_, err := w.admin.VerifyJournal(t.Context(), nil, true, nil)
	w.ok(err)
	reviews, err := w.as("ines").Reviews(t.Context(), repo, k.Number)
	w.ok(err)
	journal, err := w.admin.JournalAfter(t.Context(), repo, 1, 500)
	w.ok(err)
	var said []string
	for _, l := range journal {
		if l.Kind == "review.commented" {
			said = append(said, l.Actor)
		}
	}
	for i, r := range reviews {
		if r.By != said[i] {
			t.Fatalf("review %d is by %s, the journal has %s", i, r.By, said[i])
		}
	}
}

// The journal holds together, says what the records say, and an alteration is seen (P10).
func TestP10JournalTellsTheSameStory(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.land(k, "")
	head, err := w.admin.VerifyJournal(t.Context(), nil, true, nil)
	w.ok(err)
	key, _ := base64.StdEncoding.DecodeString(head.PublicKey)
	sig, _ := base64.StdEncoding.DecodeString(head.Signature)
	if !ed25519.Verify(key, fmt.Appendf(nil, "tavrin journal head\n%d\n%s\n", head.Seq, head.Hash), sig) {
		t.Error("the signature of the head is not good")
	}
	kinds := w.kinds()
	for _, want := range []string{"rules.applied", "change.opened", "change.revised", "review.approved", "queue.joined", "queue.queued", "rehearsal.built",
		"check.asked", "check.reported", "rehearsal.begun", "landing.begun", "change.landed"} {
		if !slices.Contains(kinds, want) {
			t.Errorf("the journal has no %s: %v", want, kinds)
		}
	}
	db, err := gorm.Open(sqlite.Open(w.dir+"/data/records.sqlite"), &gorm.Config{})
	w.ok(err)
	if err := db.Exec("UPDATE journal_lines SET text = 'x' WHERE seq = 3").Error; err == nil {
		t.Error("the journal can be altered")
	}
	w.ok(db.Exec("DROP TRIGGER journal_lines_stay").Error)
	w.ok(db.Exec("UPDATE journal_lines SET text = 'x' WHERE seq = 3").Error)
	_, err = w.admin.VerifyJournal(t.Context(), nil, true, nil)
	problem(t, err, 409, "line 3 was altered")
}

// A record that says more than the journal is seen too (P10).
func TestP10RecordsAndJournalAreCompared(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.land(k, "")
	db, err := gorm.Open(sqlite.Open(w.dir+"/data/records.sqlite"), &gorm.Config{})
	w.ok(err)
	w.ok(db.Exec("DELETE FROM landings").Error)
	_, err = w.admin.VerifyJournal(t.Context(), nil, true, nil)
	problem(t, err, 409, "the journal says that growers/irrigation change 1 landed, the records do not")
}

func TestRulesChangedWhileRehearsed(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	w.join("tamsin", k, "squash")
	commit := w.rehearsed(k)
	w.apply(strings.Replace(simple, "checks: [unit]", "checks: [unit, lint]", 1))
	w.report(commit, "unit", "passed")
	w.until(k, "waiting for the new check on the same commit", func(k wire.Change) bool {
		return k.Entry.State == "rehearsing" && k.Entry.Rehearsal.Commit == commit && strings.Contains(k.Entry.Reason, "lint")
	})
	var wanted []wire.Check
	w.until(k, "asked for the new check", func(wire.Change) bool {
		var err error
		wanted, err = w.as("builder").Wanted(t.Context(), repo)
		w.ok(err)
		return len(wanted) > 0
	})
	if len(wanted) != 1 || wanted[0].Name != "lint" || wanted[0].Commit != commit {
		t.Errorf("wanted: %+v", wanted)
	}
	w.report(commit, "lint", "passed")
	if done := w.landed(k); done.LandedCommit != commit {
		t.Errorf("landed %s, tested %s", done.LandedCommit, commit)
	}
}

// An objection given while the change is rehearsed keeps it from landing.
func TestObjectionWhileRehearsed(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	w.join("tamsin", k, "")
	commit := w.rehearsed(k)
	_, err := w.as("wren").Review(t.Context(), repo, k.Number, wire.NewReview{Verdict: "object", Revision: 1, Text: "not yet"})
	w.ok(err)
	w.until(k, "waiting", func(k wire.Change) bool { return k.Entry.State == "waiting" })
	_, err = w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: commit, Name: "unit", State: "passed"})
	problem(t, err, 409, "cancelled")
	if w.tip("main") == commit {
		t.Fatal("landed over an objection")
	}
	_, err = w.as("wren").Withdraw(t.Context(), repo, k.Number)
	w.ok(err)
	now := w.until(k, "rehearsing", func(k wire.Change) bool { return k.Entry.State == "rehearsing" && len(k.Entry.Rehearsal.Checks) > 0 })
	c := now.Entry.Rehearsal.Checks[0]
	_, err = w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: c.Commit, Name: "unit", State: "passed", Attempt: c.Attempt})
	w.ok(err)
	w.landed(k)
}

// The gate is judged in the transaction that records the intent: what comes in an instant before still counts (P1).
func TestP1GateIsJudgedAtTheMomentOfLanding(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.close()
	objected := make(chan error, 1)
	w.open(service.Options{At: func(step string) {
		if step == "landing:begun" && len(objected) == 0 {
			_, err := w.as("wren").Review(context.Background(), repo, k.Number, wire.NewReview{Verdict: "object", Revision: 1, Text: "wait"})
			objected <- err
		}
	}})
	before := w.tip("main")
	w.approve("odo", k)
	w.join("tamsin", k, "squash")
	w.report(w.rehearsed(k), "unit", "passed")
	w.until(k, "sent back", func(k wire.Change) bool { return k.Entry.State == "waiting" })
	w.ok(<-objected)
	if now := w.tip("main"); now != before {
		t.Errorf("main moved to %s over an objection that came before the landing's moment", now)
	}
}

// A command that the rules change while a change is rehearsed runs again on the same commit; its old pass does not
// count, and the change lands when the new command has passed.
func TestCommandChangedWhileRehearsed(t *testing.T) {
	w := newTown(t)
	document := strings.Replace(simple, "protect:", "checks:\n  build: {command: make}\nprotect:", 1)
	document = strings.Replace(document, "checks: [unit]", "checks: [unit, build]", 1)
	w.begin(document)
	w.runner()
	barn, ctx := w.as("barn"), t.Context()
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	w.join("tamsin", k, "squash")
	commit := w.rehearsed(k)
	job, err := barn.Lease(ctx)
	w.ok(err)
	w.ok(barn.FinishJob(ctx, *job, wire.JobResult{State: "passed"}))
	w.apply(strings.Replace(document, "command: make", "command: make all", 1))
	w.report(commit, "unit", "passed")
	again, err := barn.Lease(ctx)
	w.ok(err)
	if again == nil || again.Commit != commit || again.Command != "make all" || again.Attempt != 2 {
		t.Fatalf("the changed command is not run again: %+v", again)
	}
	if now, err := w.as("ines").Change(ctx, repo, k.Number); err != nil || now.State != "open" || now.Entry.State != "rehearsing" {
		t.Errorf("the change is %s, its entry %s, %v", now.State, now.Entry.State, err)
	}
	w.ok(barn.FinishJob(ctx, *again, wire.JobResult{State: "passed"}))
	if done := w.landed(k); done.LandedCommit != commit {
		t.Errorf("landed %s, tested %s", done.LandedCommit, commit)
	}
}

// Where protections disagree on the default strategy, the person has to choose.
func TestPersonChoosesWhereRulesDisagree(t *testing.T) {
	w := newTown(t)
	w.begin(simple + "  - {name: all, branches: '**', push: role:writer, land: {default: squash}}\n")
	k := w.propose("tamsin", "topic", "a", "a\n")
	_, err := w.as("tamsin").Join(t.Context(), repo, k.Number, wire.NewEntry{})
	problem(t, err, 422, "agree on no default strategy: say which, one of rebase, squash, merge")
	w.join("tamsin", k, "merge")
}

// What stands on a change goes on to its target when the change's branch is removed, and is judged by that target's rules; a branch that
// another change comes from, or that one which goes to it cannot leave, stays.
func TestWhatStandsOnALandedChangeGoesOn(t *testing.T) {
	w := newTown(t)
	w.begin(simple + "  - {name: release, branches: release/*, push: nobody}\n")
	dir := w.nearby("tamsin")
	push := func(branch, from, path, text string) {
		t.Helper()
		w.must("tamsin", dir, "checkout", "-q", "-B", branch, from)
		w.commit("tamsin", dir, path, text, "edit "+path)
		w.must("tamsin", dir, "push", "-q", "origin", branch)
	}
	push("first", "origin/main", "a", "a\n")
	first := w.openChange("tamsin", "first")
	push("second", "first", "b", "b\n")
	second, err := w.as("tamsin").OpenChange(t.Context(), repo, wire.NewChange{Source: "second", Target: "first", Title: "On it"})
	w.ok(err)
	remove := true
	land := func(k wire.Change) {
		t.Helper()
		w.approve("odo", k)
		_, err := w.as("tamsin").Join(t.Context(), repo, k.Number, wire.NewEntry{DeleteSource: &remove, Strategy: "squash"})
		w.ok(err)
		w.answerUntil(k)
	}
	land(first)
	now := w.until(second, "on main", func(k wire.Change) bool { return k.Target == "main" })
	if now.State != "open" || now.Ready || now.Revision != 2 || !strings.Contains(now.Summary, "approval") {
		t.Errorf("it goes on as %+v", now)
	}
	w.until(first, "without its branch", func(k wire.Change) bool {
		_, err := w.gitAs("tamsin", dir, "fetch", "-q", "origin", "first")
		return err != nil
	})
	land(now)
	w.must("tamsin", dir, "fetch", "-q")
	if got := w.must("tamsin", dir, "show", "--format=", "--name-only", "origin/main"); strings.TrimSpace(got) != "b" {
		t.Errorf("it brings %q", got)
	}
	// from one branch to two others
	w.must("ines", w.clone("ines"), "push", "-q", "origin", "origin/main:refs/heads/next")
	push("both", "origin/main", "c", "c\n")
	both := w.openChange("tamsin", "both")
	other, err := w.as("tamsin").OpenChange(t.Context(), repo, wire.NewChange{Source: "both", Target: "next", Title: "There too"})
	w.ok(err)
	land(both)
	w.says("pavo", 0, fmt.Sprintf("both was not removed after change %d landed: change %d comes from it too", both.Number, other.Number), "journal", "list", "--repo", repo)
	w.must("tamsin", dir, "fetch", "-q", "origin", "both")
	w.says("admin", 0, "unbroken", "journal", "verify")
}
