package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/often"
	"tavrin/internal/records"
	"tavrin/wire"
)

// Changes are pushed, opened, joined and landed by every strategy while the service is killed again and again, at named steps and at
// any moment, with what git it runs, or git alone is killed under it. After each start people go on with what they were doing. In
// the end each change has landed once, on a commit that its check passed on (P1, P2); the branch moved from each
// landing to the next and nowhere else (P3); records, journal and repository agree (P4, P10); and nobody was ejected for what was
// no fault of theirs. make kills does so for hundreds of kills; docs/reliability.md has its figures.
func TestP4KilledAgainAndAgain(t *testing.T) {
	w := newTown(t)
	w.begin(`tavrin: rules/1
checks: {unit: {timeout: 20m}}
protect:
  - name: trunk
    branches: main
    push: nobody
    require: [{checks: unit}, {objections: none}]
    land: {delete_source: true}
`)
	seed := uint64(time.Now().UnixNano())
	if text := os.Getenv("TAVRIN_SEED"); text != "" {
		fmt.Sscan(text, &seed)
	}
	t.Logf("TAVRIN_SEED=%d", seed)
	c := campaign{town: w, rng: rand.New(rand.NewPCG(seed, 1)), dir: w.nearby("tamsin"), left: often.Times(12), tally: map[string]int{}}
	first := w.tip("main")
	w.close()
	c.start()
	var landed []wire.Change
	for i := 0; c.left > 0; i++ {
		landed = append(landed, c.landOne(i))
	}
	c.end()
	w.reopen()
	t.Log(c.tally)
	c.verify(first, landed)
}

// campaign is a service in a child process that is killed as often as is left.
type campaign struct {
	*town
	rng   *rand.Rand
	dir   string // tamsin's clone
	left  int
	tally map[string]int
	cmd   *exec.Cmd
	dead  chan struct{}
}

// steps are where a service kills itself.
var steps = []string{"rehearsal:planned", "rehearsal:built", "landing:begun", "landing:intended", "landing:moved", "landing:recorded", "push:intended", "push:moved"}

// start starts a service, and decides how it is to be killed.
func (c *campaign) start() {
	c.t.Helper()
	step, how := "never", c.rng.IntN(4)
	if c.left <= 0 {
		how = 4
	}
	if how < 2 {
		step = fmt.Sprintf("%s#%d", steps[c.rng.IntN(len(steps))], 1+c.rng.IntN(2))
	}
	c.cmd = c.child(step)
	cmd, dead := c.cmd, make(chan struct{})
	c.dead = dead
	go func() {
		cmd.Wait()
		close(dead)
	}()
	switch how {
	case 0, 1:
		c.tally["service at "+strings.Split(step, "#")[0]]++
	case 2:
		c.tally["service at any moment"]++
		after := time.Duration(c.rng.IntN(400)) * time.Millisecond
		time.AfterFunc(after, func() { cmd.Process.Kill() })
	case 3: // git alone, a few times, and the service after that
		c.tally["git"]++
		rng := rand.New(rand.NewPCG(c.rng.Uint64(), 2))
		go func() {
			c.killGit(cmd.Process.Pid, dead, rng)
			cmd.Process.Kill()
		}()
	}
}

// killGit kills git processes of a service, a few times.
func (c *campaign) killGit(service int, dead chan struct{}, rng *rand.Rand) {
	for n := 0; n < 5; {
		select {
		case <-dead:
			return
		case <-time.After(time.Duration(1+rng.IntN(30)) * time.Millisecond):
		}
		var children []int
		tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", service))
		for _, task := range tasks {
			text, _ := os.ReadFile(task)
			for _, f := range strings.Fields(string(text)) {
				var pid int
				fmt.Sscan(f, &pid)
				children = append(children, pid)
			}
		}
		if len(children) > 0 {
			syscall.Kill(children[rng.IntN(len(children))], syscall.SIGKILL)
			n++
		}
	}
}

// end lets what was begun come to its end without another kill.
func (c *campaign) end() {
	c.cmd.Process.Kill()
	<-c.dead
}

// landOne takes one change from a branch to its landing, whatever happens to the service meanwhile.
func (c *campaign) landOne(i int) wire.Change {
	c.t.Helper()
	ctx := c.t.Context()
	name := fmt.Sprintf("topic-%d", i)
	strategy := change.Strategies[i%len(change.Strategies)]
	pushed := false
	var k wire.Change
	for range 2000 {
		select {
		case <-c.dead:
			c.left--
			c.start()
		default:
		}
		tamsin, builder := c.as("tamsin"), c.as("builder")
		c.gitAs("tamsin", c.dir, "remote", "set-url", "origin", c.gitURL())
		if !pushed {
			if _, err := c.gitAs("tamsin", c.dir, "fetch", "-q", "origin", "main"); err != nil {
				continue
			}
			c.must("tamsin", c.dir, "checkout", "-q", "-B", name, "FETCH_HEAD")
			c.commit("tamsin", c.dir, name, "one\n", "add "+name)
			c.commit("tamsin", c.dir, name, "two\n", "fixup! add "+name)
			_, err := c.gitAs("tamsin", c.dir, "push", "-q", "-f", "origin", name)
			pushed = err == nil
			continue
		}
		if k.Number == 0 {
			all, err := tamsin.Changes(ctx, repo, wire.ChangeFilter{State: "all"})
			if err != nil {
				continue
			}
			if at := slices.IndexFunc(all, func(k wire.Change) bool { return k.Source == name }); at >= 0 {
				k = all[at]
			} else if k, err = tamsin.OpenChange(ctx, repo, wire.NewChange{Source: name, Title: "Bring " + name}); err != nil {
				k = wire.Change{}
			}
			continue
		}
		now, err := tamsin.Change(ctx, repo, k.Number)
		switch {
		case err != nil:
		case now.State == "landed":
			return now
		case now.Entry == nil:
			tamsin.Join(ctx, repo, k.Number, wire.NewEntry{Strategy: strategy})
		case now.Entry.EndedAt != nil:
			c.t.Fatalf("change %d left the queue as %s: %s", k.Number, now.Entry.State, now.Entry.Reason)
		}
		wanted, err := builder.Wanted(ctx, repo)
		if err != nil {
			continue
		}
		for _, q := range wanted {
			builder.ReportCheck(ctx, repo, wire.NewReport{Commit: q.Commit, Name: q.Name, State: "passed", Attempt: q.Attempt})
		}
		pause()
	}
	c.t.Fatalf("change %d did not land by %s: %+v", k.Number, strategy, k.Entry)
	return k
}

// verify checks what came of it all.
func (c *campaign) verify(first string, landed []wire.Change) {
	c.t.Helper()
	at, seen := first, map[int]bool{}
	var lines []records.JournalLine
	c.ok(c.service.Records.Read(c.t.Context()).Where("seq > 0").Order("seq").Find(&lines).Error)
	for _, l := range lines {
		switch l.Kind {
		case "queue.ejected", "repository.stopped":
			c.t.Errorf("line %d: %s", l.Seq, l.Text)
		case "branch.moved":
			if l.Subject == "refs/heads/main" && len(seen) > 0 {
				c.t.Errorf("main moved by a push: %s", l.Text)
			}
		case "change.landed":
			var e event.ChangeLanded
			c.ok(json.Unmarshal([]byte(l.Data), &e))
			if seen[e.Number] || e.Old != at {
				c.t.Errorf("line %d: change %d landed from %s, main was at %s (twice: %v)", l.Seq, e.Number, e.Old, at, seen[e.Number])
			}
			seen[e.Number], at = true, e.New
		}
	}
	if tip := c.tip("main"); tip != at || len(seen) != len(landed) {
		c.t.Errorf("main is at %s, the journal says %s; %d changes landed, the journal has %d", tip, at, len(landed), len(seen))
	}
	for _, k := range landed {
		l, err := c.as("ines").Landing(c.t.Context(), repo, k.Number)
		c.ok(err)
		checks, err := c.as("ines").Checks(c.t.Context(), repo, l.New)
		c.ok(err)
		if !slices.ContainsFunc(checks, func(k wire.Check) bool { return k.Name == "unit" && k.State == "passed" }) {
			c.t.Errorf("change %d landed as %s, on which unit did not pass: %+v", k.Number, l.New, checks)
		}
		c.statement(k)
	}
	bare := filepath.Join(c.dir0(), "repositories", "1.git")
	out, err := exec.Command("git", "--git-dir="+bare, "fsck", "--full", "--strict", "--no-dangling").CombinedOutput()
	if err != nil {
		c.t.Errorf("fsck: %v %s", err, out)
	}
	filepath.WalkDir(bare, func(path string, _ os.DirEntry, err error) error {
		if err == nil && (strings.HasSuffix(path, ".lock") || strings.Contains(path, "tavrin-scratch-") || strings.Contains(path, "tmp_")) {
			c.t.Errorf("%s is left", path)
		}
		return nil
	})
	_, err = c.admin.VerifyJournal(c.t.Context(), nil, true, nil)
	c.ok(err)
}

func (c *campaign) dir0() string { return filepath.Join(c.town.dir, "data") }
