package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"tavrin/internal/core/change"
	"testing"
	"time"

	"tavrin/wire"
)

// A storm: many people at once push, review, object, withdraw, join, leave, close and change the rules, and the
// checks answer this and that. Whatever happens, main moves only to commits whose own check passed (P1, P2), every
// entry comes to an end or waits for somebody (P9), and journal and records tell one story (P8, P10).
func TestStorm(t *testing.T) {
	t.Parallel()
	for seed := range uint64(2) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { storm(t, rand.New(rand.NewPCG(seed, 9))) })
	}
}

const stormChanges = 8

func storm(t *testing.T, rng *rand.Rand) {
	w := newTown(t)
	dir := w.begin(simple)
	start := w.tip("main")
	changes := make([]wire.Change, stormChanges)
	for i := range changes {
		path := fmt.Sprintf("f%d", i)
		if i%4 == 3 {
			path = "shared" // some are in each other's way
		}
		changes[i] = w.propose("tamsin", fmt.Sprintf("topic-%d", i), path, fmt.Sprintf("text %d\n", i))
	}
	ctx, stop := context.WithCancel(t.Context())
	var answering, acting sync.WaitGroup
	answers := rand.New(rand.NewPCG(rng.Uint64(), 1))
	answering.Go(func() { w.answerAtRandom(ctx, answers) })
	for _, login := range []string{"odo", "wren", "ines", "tamsin"} {
		r := rand.New(rand.NewPCG(rng.Uint64(), 2))
		acting.Go(func() { w.actAtRandom(login, r, false) })
	}
	acting.Wait()
	stop()
	answering.Wait()
	w.calm(changes)

	w.must("ines", dir, "fetch", "-q")
	landed := map[string]bool{}
	for _, k := range changes {
		now, err := w.as("ines").Change(t.Context(), repo, k.Number)
		w.ok(err)
		if now.State == "landed" {
			landed[now.LandedCommit] = true
			w.statement(now)
		} else if now.Entry == nil || now.Entry.State != "ejected" {
			t.Errorf("change %d is %s, its entry %+v", k.Number, now.State, now.Entry)
		}
	}
	if len(landed) == 0 {
		t.Error("nothing landed: the storm says nothing")
	}
	// Walking back from the tip along what landed reaches the start: nothing else ever moved the branch.
	for at := w.tip("main"); at != start; {
		if !landed[at] {
			t.Fatalf("main went through %s, which is no landing", at)
		}
		checks, err := w.as("ines").Checks(t.Context(), repo, at)
		w.ok(err)
		if len(checks) == 0 || checks[0].Name != "unit" || checks[0].State != "passed" {
			t.Errorf("%s landed with %+v", at, checks)
		}
		at = w.must("ines", dir, "rev-parse", at+"^1")
	}
	_, err := w.admin.VerifyJournal(t.Context(), nil, true, nil)
	w.ok(err)
	if n := strings.Count(strings.Join(w.kinds(), "\n"), "change.landed"); n != len(landed) {
		t.Errorf("%d landings in the journal, %d changes have landed", n, len(landed))
	}
}

// answerAtRandom reports what is wanted of the builder, mostly as passed.
func (w *town) answerAtRandom(ctx context.Context, rng *rand.Rand) {
	c := w.as("builder")
	for ctx.Err() == nil {
		wanted, err := c.Wanted(ctx, repo)
		if err != nil {
			return
		}
		for _, k := range wanted {
			state := []string{"passed", "passed", "passed", "failed", "running", "errored"}[rng.IntN(6)]
			c.ReportCheck(ctx, repo, wire.NewReport{Commit: k.Commit, Name: k.Name, State: change.CheckState(state), Attempt: k.Attempt})
		}
		pause()
	}
}

// actAtRandom does what people do, in no sensible order; most of it may be refused. Where the service dies under them, they end.
func (w *town) actAtRandom(login string, rng *rand.Rand, dies bool) {
	c, ctx := w.as(login), w.t.Context()
	for range 60 {
		n := 1 + rng.IntN(stormChanges)
		k, err := c.Change(ctx, repo, n)
		if err != nil {
			if !dies {
				w.t.Error(err)
			}
			return
		}
		switch rng.IntN(12) {
		case 0, 1, 2:
			c.Review(ctx, repo, n, wire.NewReview{Verdict: "approve", Revision: k.Revision})
		case 3:
			c.Review(ctx, repo, n, wire.NewReview{Verdict: "object", Revision: k.Revision, Text: "hm"})
		case 4:
			c.Withdraw(ctx, repo, n)
		case 5, 6, 7:
			c.Join(ctx, repo, n, wire.NewEntry{Strategy: []change.Strategy{"rebase", "squash", "merge"}[rng.IntN(3)]})
		case 8:
			c.Leave(ctx, repo, n)
		case 9:
			c.CloseChange(ctx, repo, n)
		case 10:
			c.ReopenChange(ctx, repo, n)
		case 11:
			c.ApplyRules(ctx, repo, wire.NewRules{Text: []string{simple, strings.Replace(simple, "approvals: 1", "approvals: 2", 1)}[rng.IntN(2)], Reason: "a storm"}, -1)
		}
		time.Sleep(time.Duration(rng.IntN(8)) * time.Millisecond)
	}
}

// calm lets the weather clear: the simple rules, every change open, approved and joined, every check passed. Then
// each change has landed or was ejected with a reason.
func (w *town) calm(changes []wire.Change) {
	w.t.Helper()
	ctx := w.t.Context()
	w.apply(simple)
	for _, k := range changes {
		w.as("ines").ReopenChange(ctx, repo, k.Number)
		for _, login := range []string{"odo", "wren", "ines"} {
			w.as(login).Review(ctx, repo, k.Number, wire.NewReview{Verdict: "approve", Revision: k.Revision}) // takes an objection's place
		}
		w.as("tamsin").Withdraw(ctx, repo, k.Number)
		w.as("ines").Join(ctx, repo, k.Number, wire.NewEntry{Strategy: "squash"})
	}
	builder := w.as("builder")
	for _, k := range changes {
		w.until(k, "at an end", func(k wire.Change) bool {
			wanted, err := builder.Wanted(ctx, repo)
			w.ok(err)
			taken, err := builder.TakenOn(ctx, repo)
			w.ok(err)
			for _, k := range append(wanted, taken...) {
				builder.ReportCheck(ctx, repo, wire.NewReport{Commit: k.Commit, Name: k.Name, State: "passed", Attempt: k.Attempt})
			}
			return k.State == "landed" || (k.Entry != nil && k.Entry.State == "ejected")
		})
	}
}
