package e2e

import (
	"bufio"
	"errors"
	"io"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"

	"tavrin/wire"
)

// dieAt stops the service of this process and starts one in a child that kills itself at the step. It returns a
// function that waits for its death and opens the folder again in this process.
func (w *town) dieAt(step string) (again func()) {
	w.t.Helper()
	w.close()
	cmd := w.child(step)
	return func() {
		w.t.Helper()
		if err := cmd.Wait(); err == nil || !strings.Contains(err.Error(), "killed") {
			w.t.Fatalf("the service was to be killed at %s: %v", step, err)
		}
		w.reopen()
	}
}

// child starts a service on the town's folder in a process of its own, which kills itself at a step.
func (w *town) child(step string) *exec.Cmd {
	w.t.Helper()
	cmd := exec.Command(os.Args[0], "-test.run=^$")
	cmd.Env = append(os.Environ(), "TAVRIN_E2E_DIE_AT="+step, "TAVRIN_E2E_DIR="+w.dir+"/data", "TAVRIN_E2E_LISTEN=127.0.0.1:0")
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	w.ok(err)
	w.ok(cmd.Start())
	w.t.Cleanup(func() { cmd.Process.Kill() })
	// A service that goes on with a rehearsal at its start may reach the step before it could say where it listens.
	url, err := bufio.NewReader(out).ReadString('\n')
	if !errors.Is(err, io.EOF) {
		w.ok(err)
		w.url = strings.TrimSpace(url)
	}
	return cmd
}

func freeAddress(t testing.TB) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// Killed at any step of a landing and started again, the service has landed the change exactly once, and branch,
// records and journal agree (P4).
func TestP4KilledAtEveryStepOfALanding(t *testing.T) {
	t.Parallel()
	for _, step := range []string{"rehearsal:planned", "rehearsal:built", "landing:intended", "landing:moved", "landing:recorded"} {
		t.Run(step, func(t *testing.T) {
			w := newTown(t)
			w.begin(simple)
			k := w.propose("tamsin", "topic", "a", "a\n")
			other := w.propose("wren", "other", "b", "b\n")
			w.approve("odo", other)
			w.join("wren", other, "rebase")
			again := w.dieAt(step)
			if strings.HasPrefix(step, "landing") {
				w.answer("unit")
			}
			again()
			w.answerUntil(other)
			w.approve("odo", k)
			w.join("tamsin", k, "squash")
			w.answerUntil(k)
			w.agree(k, other)
		})
	}
}

// answer has the builder pass whatever is wanted, once, as soon as something is.
func (w *town) answer(name string) {
	w.t.Helper()
	c := w.as("builder")
	for range 400 {
		wanted, err := c.Wanted(w.t.Context(), repo)
		if err != nil {
			return // the service has died, as it was to
		}
		for _, k := range wanted {
			if k.Name == name {
				c.ReportCheck(w.t.Context(), repo, wire.NewReport{Commit: k.Commit, Name: name, State: "passed", Attempt: k.Attempt})
				return
			}
		}
		pause()
	}
	w.t.Fatal("nothing is wanted of the builder")
}

// answerUntil answers what is wanted until the change has landed.
func (w *town) answerUntil(k wire.Change) {
	w.t.Helper()
	c := w.as("builder")
	w.until(k, "landed", func(k wire.Change) bool {
		wanted, err := c.Wanted(w.t.Context(), repo)
		w.ok(err)
		for _, k := range wanted {
			c.ReportCheck(w.t.Context(), repo, wire.NewReport{Commit: k.Commit, Name: k.Name, State: "passed", Attempt: k.Attempt})
		}
		return k.State == "landed"
	})
}

// agree checks that each change landed exactly once, that the branch holds what the records say, and that the
// journal holds together.
func (w *town) agree(changes ...wire.Change) {
	w.t.Helper()
	_, err := w.admin.VerifyJournal(w.t.Context(), nil, true, nil)
	w.ok(err)
	dir := w.clone("ines")
	history := w.must("ines", dir, "log", "--format=%H", "origin/main")
	landings := strings.Count(strings.Join(w.kinds(), "\n"), "change.landed")
	if landings != len(changes) {
		w.t.Errorf("%d landings in the journal, %d changes", landings, len(changes))
	}
	for _, k := range changes {
		now, err := w.as("ines").Change(w.t.Context(), repo, k.Number)
		w.ok(err)
		if n := strings.Count(history, now.LandedCommit); n != 1 || now.LandedCommit == "" {
			w.t.Errorf("change %d landed as %q, which is %d times in the history", k.Number, now.LandedCommit, n)
		}
		w.statement(k)
		w.must("ines", dir, "fsck", "--no-dangling")
	}
	reviews, err := w.as("ines").Reviews(w.t.Context(), repo, changes[0].Number)
	w.ok(err)
	if len(reviews) != 1 {
		w.t.Errorf("%d approvals, one was given", len(reviews))
	}
}

// Killed while a push moves a branch, the service knows afterwards what happened and who did it (P4).
func TestP4KilledWhileAPushMovesABranch(t *testing.T) {
	t.Parallel()
	for _, step := range []string{"push:intended", "push:moved"} {
		t.Run(step, func(t *testing.T) {
			w := newTown(t)
			w.begin(simple)
			k := w.propose("tamsin", "topic", "a", "a\n")
			dir := w.clone("wren")
			w.must("wren", dir, "checkout", "-q", "topic")
			head := w.commit("wren", dir, "a", "b\n", "wren's")
			again := w.dieAt(step)
			w.must("wren", dir, "remote", "set-url", "origin", w.gitURL())
			if _, err := w.gitAs("wren", dir, "push", "-q", "origin", "topic"); err == nil {
				t.Fatal("the push was answered by a dead service")
			}
			again()
			w.must("wren", dir, "remote", "set-url", "origin", w.gitURL())
			moved := w.tip("topic") == head
			if moved != (step == "push:moved") {
				t.Errorf("the branch has moved: %v", moved)
			}
			w.must("wren", dir, "push", "-q", "origin", "topic")
			now, err := w.as("ines").Change(t.Context(), repo, k.Number)
			w.ok(err)
			if now.Revision != 2 || now.Head != head || strings.Join(now.Authors, " ") != "tamsin wren" {
				t.Errorf("revision %d at %s by %v", now.Revision, now.Head, now.Authors)
			}
			_, err = w.admin.VerifyJournal(t.Context(), nil, true, nil)
			w.ok(err)
		})
	}
}

// Killed while a branch moves by a waiver, the service knows afterwards that it was used, once, and that somebody else
// has to look at it (P4, P1).
func TestP4KilledWhileAnWaiverIsUsed(t *testing.T) {
	t.Parallel()
	for _, step := range []string{"landing:intended", "landing:moved", "push:intended", "push:moved"} {
		t.Run(step, func(t *testing.T) {
			w := newTown(t)
			w.begin(withDuty)
			ctx := t.Context()
			k := w.propose("tamsin", "topic", "a", "a\n")
			duty := w.as("wren")
			var push func() error
			if strings.HasPrefix(step, "push") {
				plan, err := duty.PlanPushWaiver(ctx, repo, "main", k.Head)
				w.ok(err)
				_, err = duty.WaivePush(ctx, repo, wire.NewPushWaiver{Branch: "main", Commit: k.Head, Reason: "it floods", Confirm: plan.Confirm})
				w.ok(err)
				dir := w.clone("wren")
				push = func() error {
					w.must("wren", dir, "remote", "set-url", "origin", w.gitURL())
					_, err := w.gitAs("wren", dir, "push", "-q", "origin", "origin/topic:refs/heads/main")
					return err
				}
			} else {
				plan, err := duty.PlanWaiver(ctx, repo, k.Number, nil)
				w.ok(err)
				_, err = duty.Waive(ctx, repo, k.Number, wire.NewWaiver{Reason: "it floods", Confirm: plan.Confirm})
				w.ok(err)
			}
			again := w.dieAt(step)
			if push != nil {
				if push() == nil {
					t.Fatal("the push was answered by a dead service")
				}
			} else {
				w.as("tamsin").Join(ctx, repo, k.Number, wire.NewEntry{}) // its answer may be lost with the service
			}
			again()
			if push == nil {
				w.landed(k)
			} else if step == "push:intended" {
				w.ok(push())
			}
			all, err := w.as("ines").Waivers(ctx, repo, false)
			w.ok(err)
			if len(all) != 1 || all[0].State != "used" || all[0].UsedAs != w.tip("main") || all[0].AcknowledgedBy != "" {
				t.Errorf("waivers are %+v", all)
			}
			if n := strings.Count(strings.Join(w.kinds(), "\n"), "waiver.used"); n != 1 {
				t.Errorf("it was used %d times, says the journal", n)
			}
			_, err = w.admin.VerifyJournal(ctx, nil, true, nil)
			w.ok(err)
		})
	}
}

// Killed while suggestions are applied, the service knows afterwards which were: the commit and the comments agree (P4).
func TestP4KilledWhileSuggestionsAreApplied(t *testing.T) {
	t.Parallel()
	for _, step := range []string{"push:intended", "push:moved"} {
		t.Run(step, func(t *testing.T) {
			w := newTown(t)
			w.begin(simple)
			k := w.propose("tamsin", "topic", "a", "a\n")
			comment := w.suggest("odo", k, "a", 1, 1, "b")
			again := w.dieAt(step)
			if _, err := w.as("tamsin").ApplySuggestions(t.Context(), repo, k.Number, []int64{comment}); err == nil {
				t.Fatal("it was answered by a dead service")
			}
			again()
			moved := w.openedAs(1).Revision == 2
			if moved != (step == "push:moved") {
				t.Errorf("the branch has moved: %v", moved)
			}
			threads, err := w.as("tamsin").Threads(t.Context(), repo, k.Number)
			w.ok(err)
			if taken := threads[0].Comments[0].AppliedAs != ""; taken != moved || threads[0].Resolved != moved {
				t.Errorf("moved %v, taken %v, resolved %v", moved, taken, threads[0].Resolved)
			}
			if !moved {
				_, err = w.as("tamsin").ApplySuggestions(t.Context(), repo, k.Number, []int64{comment})
				w.ok(err)
			}
			if now := w.openedAs(1); now.Revision != 2 {
				t.Errorf("in the end it is at revision %d", now.Revision)
			}
		})
	}
}
