package landing_test

import (
	"context"
	"fmt"
	"runtime"
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

const busy = `tavrin: rules/1
areas:
  valves: {paths: valves/**, owners: role:writer}
  ledger: {paths: ledger/**, owners: role:writer}
checks:
  unit: {reported_by: robot:bench}
protect:
  - name: trunk
    branches: main
    require: [{checks: unit}]
    land: {strategies: [rebase, squash], default: rebase}
    queue: {slots: 6, reruns: 1}
`

// bench answers every check that is asked for: passed, unless what is checked holds one of the files that make it fail, each as
// often as it says; -1: always. A commit that holds the file "slow" gets no answer. It says which commits were tested, each attempt.
type bench struct {
	l      *lab.Lab
	robot  accounts.Actor
	fails  map[string]int
	slow   string
	tested map[string]int
}

func (b *bench) round() {
	b.l.T.Helper()
	var open []records.CheckRun
	b.l.Ok(b.l.Records.Read(b.l.T.Context()).Where("state = 'waiting'").Order("id").Find(&open).Error)
	for _, run := range open {
		state := change.Passed
		held := false
		for _, f := range b.l.Files(run.CommitID) {
			held = held || f == b.slow
			if n := b.fails[f]; n != 0 {
				state = change.Failed
				b.fails[f] = max(n-1, -1)
			}
		}
		if held {
			continue
		}
		_, err := b.l.Checks.ReportCheck(b.l.T.Context(), b.robot, lab.Name, wire.NewReport{Commit: run.CommitID, Name: "unit", State: state, Attempt: run.Attempt})
		if err == nil {
			b.tested[fmt.Sprintf("%s/%d", run.CommitID, run.Attempt)]++
		}
	}
}

// until answers checks until what it looks for is there.
func (b *bench) until(there func() bool) {
	b.l.T.Helper()
	until(b.l, func() bool { b.round(); return there() })
}

func joinAll(l *lab.Lab, numbers ...int) {
	l.T.Helper()
	for _, n := range numbers {
		_, err := l.Queues.Join(l.T.Context(), l.Admin, lab.Name, n, wire.NewEntry{})
		l.Ok(err)
	}
}

func landed(l *lab.Lab, numbers ...int) func() bool {
	return func() bool {
		for _, n := range numbers {
			if l.Row(n).State != "landed" {
				return false
			}
		}
		return true
	}
}

// One change's failure is found out among many that are rehearsed at once; the others land as they were tested, and nobody is
// ejected who is innocent (P2, P9).
func TestP2ManyAtOnce(t *testing.T) {
	l, robot := running(t, busy)
	b := &bench{l: l, robot: robot, fails: map[string]int{"c": -1}, tested: map[string]int{}}
	var numbers []int
	for _, name := range []string{"z", "b", "c", "d", "e"} {
		numbers = append(numbers, proposed(l, name, name+"=1"))
	}
	joinAll(l, numbers...)
	b.until(func() bool { return landed(l, 1, 2, 4, 5)() && entry(l, 3).State == "ejected" })
	if why := entry(l, 3).Reason; !strings.Contains(why, "unit failed") || !strings.Contains(why, "twice") {
		t.Errorf("c left because %s", why)
	}
	// The branch has stood at tested commits only.
	var moves []string
	l.Ok(l.Records.Read(t.Context()).Model(&records.Intent{}).Where("kind = 'landing' AND outcome = 'done'").Order("id").Pluck("new", &moves).Error)
	for _, tip := range moves {
		if b.tested[tip+"/1"]+b.tested[tip+"/2"] == 0 {
			t.Errorf("main stood at %s, which was not tested", tip)
		}
	}
	files := l.Files(l.Tip("main"))
	if got := strings.Join(files, " "); got != "a b d e z" {
		t.Errorf("main holds %s", got)
	}
	var twice int64
	l.Ok(l.Records.Read(t.Context()).Model(&records.CheckRun{}).Where("attempt > 2").Count(&twice).Error)
	if twice > 0 {
		t.Errorf("%d commits were tested three times", twice)
	}
}

// A check that failed by mistake ejects nobody.
func TestAFlakeIsSurvived(t *testing.T) {
	l, robot := running(t, busy)
	b := &bench{l: l, robot: robot, fails: map[string]int{"z": 1}, tested: map[string]int{}}
	n := proposed(l, "z", "z=1")
	joinAll(l, n)
	b.until(landed(l, n))
	if e := entry(l, n); e.State != "landed" {
		t.Errorf("it is %+v", e)
	}
}

// What passes lands with all that it stands on, in one move: what lies within is covered by the checks of the whole, and the
// statement of each says so.
func TestP3AGroupMovesTheBranchOnce(t *testing.T) {
	l, robot := running(t, busy)
	var numbers []int
	for _, name := range []string{"z", "b", "c"} {
		numbers = append(numbers, proposed(l, name, name+"=1"))
		joinAll(l, numbers[len(numbers)-1])
		rehearsed(l, numbers[len(numbers)-1])
	}
	report(l, robot, rehearsed(l, 3), change.Passed)
	until(l, landed(l, numbers...))
	var moves int64
	l.Ok(l.Records.Read(t.Context()).Model(&records.Intent{}).Where("kind = 'landing' AND lead_id IS NULL").Count(&moves).Error)
	if moves != 1 {
		t.Errorf("the branch moved %d times", moves)
	}
	var lands []records.Landing
	l.Ok(l.Records.Read(t.Context()).Order("id").Find(&lands).Error)
	at := ""
	for i, x := range lands {
		if i > 0 && x.Old != at {
			t.Errorf("landing %d stands on %s, and the one before is %s", i, x.Old, at)
		}
		at = x.New
	}
	if at != l.Tip("main") || len(lands) != 3 {
		t.Errorf("%d landings end at %s, main is at %s", len(lands), at, l.Tip("main"))
	}
}

// Where the rules have areas side by side, what was tested without a change of another area is built anew on it; where it touches
// the same, it is tested anew (P2, P3).
func TestP3AreasSideBySide(t *testing.T) {
	l, robot := running(t, strings.Replace(busy, "reruns: 1", "reruns: 1, tests: by_area", 1))
	b := &bench{l: l, robot: robot, slow: "valves/a", tested: map[string]int{}}
	valves := proposed(l, "v", "valves/a=1")
	joinAll(l, valves)
	held := rehearsed(l, valves)
	ledger := proposed(l, "l", "ledger/a=1")
	joinAll(l, ledger)
	b.until(landed(l, ledger))
	b.slow = ""
	b.until(landed(l, valves))
	row := l.Row(valves)
	if row.LandedCommit == held || b.tested[held+"/1"] != 1 || b.tested[row.LandedCommit+"/1"] != 0 {
		t.Errorf("%s was tested, %s landed; tested were %v", held, row.LandedCommit, b.tested)
	}
	var x records.Landing
	l.Ok(l.Records.Read(t.Context()).Where("change_id = ?", row.ID).First(&x).Error)
	files := l.Files(l.Tip("main"))
	if l.Tip("main") != row.LandedCommit || strings.Join(files, " ") != "a ledger/a valves/a" {
		t.Errorf("main holds %v", files)
	}
}

// Rules that become strict between the plan and the intent have what relied on areas tested anew: it does not land as it is (P2).
func TestP2StrictAgainAtTheLastMoment(t *testing.T) {
	byArea := strings.Replace(busy, "reruns: 1", "reruns: 1, tests: by_area", 1)
	l, robot := running(t, byArea)
	b := &bench{l: l, robot: robot, slow: "valves/a", tested: map[string]int{}}
	valves := proposed(l, "v", "valves/a=1")
	joinAll(l, valves)
	rehearsed(l, valves)
	ledger := proposed(l, "l", "ledger/a=1")
	joinAll(l, ledger)
	b.until(landed(l, ledger))
	var once sync.Once
	l.AtSteps(func(step string) {
		if step == "landing:begun" {
			once.Do(func() {
				_, err := l.Rulebook.ApplyRules(context.Background(), l.Admin, lab.Name, busy, "strict again", -1)
				l.Ok(err)
			})
		}
	})
	b.slow = ""
	b.until(landed(l, valves))
	if at := l.Row(valves).LandedCommit; b.tested[at+"/1"] == 0 {
		t.Errorf("%s landed, which was not tested: %v", at, b.tested)
	}
}

// Killed after the branch has moved with several, and before that: all of them have landed, or none, once (P4).
func TestP4AGroupIsSettledTogether(t *testing.T) {
	for _, step := range []string{"landing:intended", "landing:moved"} {
		t.Run(step, func(t *testing.T) {
			l, robot := running(t, busy)
			for _, name := range []string{"z", "b", "c"} {
				n := proposed(l, name, name+"=1")
				joinAll(l, n)
				rehearsed(l, n)
			}
			var once sync.Once
			l.AtSteps(func(at string) {
				if at == step {
					once.Do(func() { panic("killed") }) // what was begun stays as it is; the next round settles it
				}
			})
			report(l, robot, rehearsed(l, 3), change.Passed)
			for !landed(l, 1, 2, 3)() {
				l.Wait(time.Second) // it rests after the trouble
				l.Moves.Nudge()
				runtime.Gosched()
			}
			var landings, open int64
			l.Ok(l.Records.Read(t.Context()).Model(&records.Landing{}).Count(&landings).Error)
			l.Ok(l.Records.Read(t.Context()).Model(&records.Intent{}).Where("outcome = ''").Count(&open).Error)
			if landings != 3 || open != 0 || strings.Join(l.Files(l.Tip("main")), " ") != "a b c z" {
				t.Errorf("%d landings, %d intents open, main holds %v", landings, open, l.Files(l.Tip("main")))
			}
		})
	}
}

// What is asked for on a commit of the tree that another one has passed with is not tested again, where the rules say that the
// check sees only that; the pass counts as it was. What counts is what the gate would count: neither a failure, nor an answer that
// is too old or of somebody else, nor a pass on other files (P2).
func TestP2ASameTreeIsTestedOnce(t *testing.T) {
	seeing := strings.Replace(busy, "reported_by: robot:bench", "sees: tree", 1)
	for _, c := range []struct {
		name, rules string
		head        change.CheckState
		wait        time.Duration
		aside       bool // the branch has moved on since
		reused      bool
	}{
		{"a pass", seeing, change.Passed, 0, false, true},
		{"a pass that is young enough", strings.Replace(seeing, "sees: tree", "sees: tree, max_age: 1h", 1), change.Passed, 59 * time.Minute, false, true},
		{"a pass that is too old", strings.Replace(seeing, "sees: tree", "sees: tree, max_age: 1h", 1), change.Passed, 61 * time.Minute, false, false},
		{"a failure", seeing, change.Failed, 0, false, false},
		{"skipped", seeing, change.Skipped, 0, false, false},
		{"another tree", seeing, change.Passed, 0, true, false},
		{"a check that sees the commit", busy, change.Passed, 0, false, false},
		{"another robot is wanted here", strings.Replace(seeing, "{checks: unit}", "{checks: unit, reported_by: robot:barn}", 1), change.Passed, 0, false, false},
		{"a command", strings.Replace(seeing, "sees: tree", "sees: tree, command: make", 1), change.NotReported, 0, false, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			l, robot := running(t, c.rules)
			n := proposed(l, "z", "z=1")
			head := l.Tip("z")
			if c.head != change.NotReported {
				report(l, robot, head, c.head)
			}
			l.Wait(c.wait)
			if c.aside {
				l.Commit("main", "", "b=1")
			}
			_, err := l.Queues.Join(t.Context(), l.Admin, lab.Name, n, wire.NewEntry{Strategy: "squash"})
			l.Ok(err)
			if c.reused {
				until(l, landed(l, n))
			}
			var run records.CheckRun
			commit := ""
			if c.reused {
				commit = l.Row(n).LandedCommit
			} else {
				commit = rehearsed(l, n)
			}
			l.Ok(l.Records.Read(t.Context()).Where("commit_id = ?", commit).First(&run).Error)
			if c.reused != (run.RanOn == head && run.State == "passed" && run.ReportedBy == "bench") || !c.reused && (run.State != "waiting" || run.RanOn != "") {
				t.Fatalf("it is %+v", run)
			}
			if commit == head {
				t.Fatal("the commit is the very same")
			}
			if !c.reused {
				return
			}
			if age := run.CreatedAt.Sub(*run.FinishedAt); age < c.wait {
				t.Errorf("the pass is %s old, not %s", age, c.wait)
			}
			if kinds := l.Kinds(40); !strings.Contains(kinds, "check.reused") {
				t.Errorf("the journal has %s", kinds)
			}
			// The robot may still run it on this very commit, and that counts instead.
			report(l, robot, commit, change.Failed)
			l.Ok(l.Records.Read(t.Context()).Where("commit_id = ? AND attempt = 1", commit).First(&run).Error)
			if run.State != "failed" || run.RanOn != "" {
				t.Errorf("after a report it is %+v", run)
			}
		})
	}
}
