package landing_test

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/lab"
	"tavrin/internal/records"
	"tavrin/wire"
)

const guarded = `tavrin: rules/1
checks:
  unit: {reported_by: robot:bench}
protect:
  - name: trunk
    branches: main
    require: [{approvals: 1}, {checks: unit}]
    land: {strategies: [squash, rebase, merge], default: squash}
    queue: {planner: one-at-a-time, reruns: 0}
`

// running is a lab whose queues are carried out, with a robot that reports unit.
func running(t *testing.T, doc string) (l *lab.Lab, bench accounts.Actor) {
	l = lab.New(t)
	bench = l.Robot(accounts.NewToken{Login: "bench", Checks: []string{lab.Name + ":unit"}})
	l.Rules(doc)
	l.Commit("main", "", "a=1")
	ctx, stop := context.WithCancel(context.Background())
	var runs sync.WaitGroup
	runs.Go(func() { l.Landing.Run(ctx) })
	t.Cleanup(func() { stop(); runs.Wait() })
	return l, bench
}

// until looks whenever the journal has grown, until what it looks for is there.
func until(l *lab.Lab, there func() bool) {
	l.T.Helper()
	for {
		grown := l.Records.Grown()
		if there() {
			return
		}
		select {
		case <-grown:
		case <-l.T.Context().Done():
			l.T.Fatal("it never came")
		}
	}
}

func entry(l *lab.Lab, number int) records.Entry {
	l.T.Helper()
	var e records.Entry
	l.Ok(l.Records.Read(l.T.Context()).Where("change_id = ?", l.Row(number).ID).Order("id DESC").Limit(1).Find(&e).Error)
	return e
}

func proposed(l *lab.Lab, source string, files ...string) int {
	l.T.Helper()
	l.Commit(source, "main", files...)
	c := l.Open(l.Admin, source)
	return c.Number
}

func approve(l *lab.Lab, by accounts.Actor, number int) {
	l.T.Helper()
	_, err := l.Changes.Review(l.T.Context(), by, lab.Name, number, wire.NewReview{Verdict: change.Approve, Revision: l.Row(number).Revision})
	l.Ok(err)
}

// rehearsed waits for a change's rehearsal and returns its commit.
func rehearsed(l *lab.Lab, number int) string {
	l.T.Helper()
	var r records.Rehearsal
	until(l, func() bool {
		e := entry(l, number)
		r = records.Rehearsal{}
		l.Ok(l.Records.Read(l.T.Context()).Where("entry_id = ? AND commit_id <> '' AND ended = ''", e.ID).Limit(1).Find(&r).Error)
		return e.State == "rehearsing" && r.ID != 0
	})
	return r.CommitID
}

func report(l *lab.Lab, bench accounts.Actor, commit string, state change.CheckState) {
	l.T.Helper()
	_, err := l.Checks.ReportCheck(l.T.Context(), bench, lab.Name, wire.NewReport{Commit: commit, Name: "unit", State: state})
	l.Ok(err)
}

// Two changes land one after the other, each as the commit that its checks passed on, on top of what landed before (P1, P2, P3).
func TestP1LandsWhatWasTested(t *testing.T) {
	l, bench := running(t, guarded)
	odo := l.Person("odo", "writer")
	for _, source := range []string{"first", "second"} {
		n := proposed(l, source, source+"=1")
		_, err := l.Queues.Join(t.Context(), l.Admin, lab.Name, n, wire.NewEntry{})
		l.Ok(err)
		approve(l, odo, n)
	}
	for n := 1; n <= 2; n++ {
		was, commit := l.Tip("main"), rehearsed(l, n)
		if l.Tip("main") != was {
			t.Fatal("it landed before its check passed")
		}
		report(l, bench, commit, change.Passed)
		until(l, func() bool { return l.Row(n).State == "landed" })
		if l.Tip("main") != commit || l.Row(n).LandedCommit != commit {
			t.Errorf("main is at %s, tested was %s", l.Tip("main"), commit)
		}
	}
}

// What cannot pass leaves the queue with its reason, and the next one goes on (P9).
func TestP9FailuresLeave(t *testing.T) {
	l, bench := running(t, guarded)
	odo := l.Person("odo", "writer")
	red := proposed(l, "red", "b=1")
	clash := proposed(l, "clash", "a=clash")
	good := proposed(l, "good", "a=good")
	for _, n := range []int{red, good, clash} {
		approve(l, odo, n)
		_, err := l.Queues.Join(t.Context(), l.Admin, lab.Name, n, wire.NewEntry{})
		l.Ok(err)
	}
	report(l, bench, rehearsed(l, red), change.Failed)
	until(l, func() bool { return entry(l, red).State == "ejected" })
	report(l, bench, rehearsed(l, good), change.Passed)
	until(l, func() bool { return entry(l, clash).State == "ejected" })
	if why := entry(l, red).Reason; !strings.Contains(why, "unit failed") {
		t.Errorf("red left because %s", why)
	}
	if why := entry(l, clash).Reason; !strings.Contains(why, "update clash from main") {
		t.Errorf("the other left because %s", why)
	}
	if l.Row(good).State != "landed" {
		t.Errorf("the good one is %s", l.Row(good).State)
	}
}

// An objection that comes before the moment of landing keeps it, and one after it comes too late (P1).
func TestP1JudgedAtTheMomentOfLanding(t *testing.T) {
	l, bench := running(t, guarded)
	odo, ines := l.Person("odo", "writer"), l.Person("ines", "writer")
	n := proposed(l, "topic", "b=1")
	approve(l, odo, n)
	once := sync.OnceFunc(func() { // between the plan's word and the transaction of the intent
		_, err := l.Changes.Withdraw(context.Background(), odo, lab.Name, n)
		l.Ok(err)
	})
	l.AtSteps(func(step string) {
		if step == "landing:begun" {
			once()
		}
	})
	_, err := l.Queues.Join(t.Context(), l.Admin, lab.Name, n, wire.NewEntry{Strategy: change.Rebase})
	l.Ok(err)
	was := l.Tip("main")
	report(l, bench, rehearsed(l, n), change.Passed)
	until(l, func() bool { return entry(l, n).State == "waiting" })
	if l.Tip("main") != was {
		t.Error("it landed without an approval")
	}
	approve(l, ines, n)
	until(l, func() bool { return l.Row(n).State == "landed" }) // the commit is the same, and its check has passed
}

// An approval that the message names is withdrawn between the queue's last look and the intent, while another stands that is enough: what
// was rehearsed does not land, and what lands names only who approves (P1, P2).
func TestP2ANamedApprovalIsAskedForOnceMore(t *testing.T) {
	l, bench := running(t, guarded)
	odo, wren := l.Person("odo", "writer"), l.Person("wren", "writer")
	n := proposed(l, "topic", "b=1")
	approve(l, odo, n)
	approve(l, wren, n)
	var once sync.Once
	l.AtSteps(func(step string) {
		if step == "landing:begun" {
			once.Do(func() {
				_, err := l.Changes.Withdraw(context.Background(), odo, lab.Name, n)
				l.Ok(err)
			})
		}
	})
	_, err := l.Queues.Join(t.Context(), l.Admin, lab.Name, n, wire.NewEntry{Strategy: change.Squash})
	l.Ok(err)
	first := rehearsed(l, n)
	report(l, bench, first, change.Passed)
	var second string
	until(l, func() bool {
		if l.Row(n).State == "landed" {
			return true
		}
		var r records.Rehearsal
		l.Ok(l.Records.Read(t.Context()).Where("entry_id = ? AND commit_id <> '' AND ended = '' AND commit_id <> ?", entry(l, n).ID, first).Limit(1).Find(&r).Error)
		second = r.CommitID
		return second != ""
	})
	if second == "" {
		t.Fatal("what names an approval that was withdrawn has landed")
	}
	report(l, bench, second, change.Passed)
	until(l, func() bool { return l.Row(n).State == "landed" })
	if at := l.Tip("main"); at != second {
		t.Errorf("main is at %s, not %s", at, second)
	}
	log, err := l.Disk.Bare(l.Repo).Log(t.Context(), second, nil, 0, 1)
	l.Ok(err)
	if body := log[0].Body; strings.Contains(body, "odo") || !strings.Contains(body, "Approved-by:") {
		t.Errorf("it says %q", body)
	}
}

// Of what was long ago as much is kept as the bounds say: what checks wrote, and rehearsals that did not land, with their names in Git. How
// checks ended, and what landed, stays.
func TestOldRehearsalsAreForgotten(t *testing.T) {
	l, bench := running(t, guarded)
	odo := l.Person("odo", "writer")
	var commits []string
	for n, state := range []change.CheckState{change.Failed, change.Passed} {
		source := []string{"red", "good"}[n]
		number := proposed(l, source, source+"=1")
		approve(l, odo, number)
		_, err := l.Queues.Join(t.Context(), l.Admin, lab.Name, number, wire.NewEntry{})
		l.Ok(err)
		commits = append(commits, rehearsed(l, number))
		_, err = l.Checks.ReportCheck(t.Context(), bench, lab.Name, wire.NewReport{Commit: commits[n], Name: "unit", State: state, Log: strings.Repeat("it ran\n", 50)})
		l.Ok(err)
		until(l, func() bool { return entry(l, number).EndedAt != nil })
	}
	look := func() (logs, rehearsals, names int) {
		t.Helper()
		l.Ok(errors.Join(l.Checks.ForgetLogs(t.Context()), l.Landing.ForgetRehearsals(t.Context()), l.Repositories.Tidy(t.Context())))
		var n, m int64
		l.Ok(l.Records.Read(t.Context()).Model(&records.CheckRun{}).Where("log <> ''").Count(&n).Error)
		l.Ok(l.Records.Read(t.Context()).Model(&records.Rehearsal{}).Count(&m).Error)
		refs, err := l.Disk.Bare(l.Repo).Refs(t.Context(), "refs/tavrin/rehearsals/")
		l.Ok(err)
		return int(n), int(m), len(refs)
	}
	if logs, rehearsals, names := look(); logs != 2 || rehearsals != 2 || names != 1 {
		t.Errorf("at once there are %d logs, %d rehearsals and %d names; what has landed needs none", logs, rehearsals, names)
	}
	l.Wait(15 * 24 * time.Hour)
	if logs, rehearsals, names := look(); logs != 2 || rehearsals != 1 || names != 0 {
		t.Errorf("after 15 days there are %d logs, %d rehearsals and %d names", logs, rehearsals, names)
	}
	l.Wait(90 * 24 * time.Hour)
	if logs, rehearsals, names := look(); logs != 0 || rehearsals != 1 || names != 0 {
		t.Errorf("after 105 days there are %d logs, %d rehearsals and %d names", logs, rehearsals, names)
	}
	var runs []records.CheckRun
	l.Ok(l.Records.Read(t.Context()).Order("id").Find(&runs).Error)
	if len(runs) != 2 || runs[0].State != "failed" || runs[1].State != "passed" {
		t.Errorf("the checks are %+v", runs)
	}
	if l.Tip("main") != commits[1] {
		t.Error("main is not at what landed")
	}
}
