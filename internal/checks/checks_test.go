package checks_test

import (
	"strings"
	"testing"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/checks"
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// A runner that falls silent loses its job to another, and its late answer is refused (P7, P9).
func TestP7SilentRunnerLosesItsJob(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	a := l.Robot(accounts.NewToken{Login: "barn", RunnerFor: []string{lab.Name}})
	commit := strings.Repeat("a", 40)
	l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error {
		return tx.Create(&records.CheckRun{RepositoryID: l.Repo.ID, CommitID: commit, Name: "unit", Attempt: 1, State: "waiting", Command: "true", TimeoutSeconds: 60, CreatedAt: tx.Now()}).Error
	}))
	first, err := l.Checks.Lease(ctx, a)
	l.Ok(err)
	lease := time.Duration(first.LeaseSeconds) * time.Second
	l.Wait(lease - time.Second)
	l.Ok(l.Checks.JobAlive(ctx, first.ID, first.Lease))
	l.Wait(lease - time.Second)
	l.Ok(l.Checks.DropSilentLeases(ctx))
	l.Ok(l.Checks.JobAlive(ctx, first.ID, first.Lease)) // a sign of life in time keeps it
	l.Wait(lease + time.Second)
	l.Ok(l.Checks.DropSilentLeases(ctx))
	second, err := l.Checks.Lease(ctx, a)
	l.Ok(err)
	if second == nil || second.ID != first.ID || second.Lease == first.Lease {
		t.Fatalf("the job was given out as %+v, then as %+v", first, second)
	}
	l.Is(l.Checks.FinishJob(ctx, first.ID, first.Lease, wire.JobResult{State: change.Passed}), problem.Conflict, "lease is over")
	l.Ok(l.Checks.FinishJob(ctx, second.ID, second.Lease, wire.JobResult{State: change.Failed, Summary: strings.Repeat("x", 900)}))
	views, err := checks.CheckViews(l.Records.Read(ctx), l.Repo, commit)
	l.Ok(err)
	if views[0].State != "failed" || len(views[0].Summary) != 500 {
		t.Errorf("check is %+v", views[0])
	}
}

const asked = `tavrin: rules/1
checks:
  unit: {reported_by: robot:bench, timeout: 1h}
protect:
  - name: trunk
    branches: main
    require:
      - checks: [unit]
        at: head
`

// A check that nobody answers is asked for once more, and then ends without a pass; a late answer is refused (P7, P9).
func TestP9SilentChecksEnd(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	bench := l.Robot(accounts.NewToken{Login: "bench", Checks: []string{lab.Name + ":unit"}})
	l.Rules(asked)
	l.Commit("main", "", "a=1")
	l.Commit("topic", "main", "a=2")
	c := l.Open(l.Admin, "topic")
	states := func() (out []string) {
		t.Helper()
		var rows []records.CheckRun
		l.Ok(l.Records.Read(ctx).Where("commit_id = ?", c.Head).Order("attempt").Find(&rows).Error)
		for _, r := range rows {
			out = append(out, r.State)
		}
		return out
	}
	for range 3 {
		l.Wait(time.Hour - time.Second)
		l.Ok(l.Checks.EndSilentChecks(ctx))
		l.Wait(time.Second)
		l.Ok(l.Checks.EndSilentChecks(ctx))
	}
	if got := strings.Join(states(), " "); got != "errored errored" {
		t.Errorf("the attempts are %s", got)
	}
	_, err := l.Checks.ReportCheck(ctx, bench, lab.Name, wire.NewReport{Commit: c.Head, Name: "unit", State: change.Passed, Attempt: 2})
	l.Is(err, problem.Conflict, "has ended as errored")
	_, err = l.Checks.Rerun(ctx, l.Admin, lab.Name, c.Head, "unit")
	l.Ok(err)
	_, err = l.Checks.ReportCheck(ctx, bench, lab.Name, wire.NewReport{Commit: c.Head, Name: "unit", State: change.Passed, Attempt: 2})
	l.Is(err, problem.Conflict, "is over; the newest is 3")
	_, err = l.Checks.ReportCheck(ctx, bench, lab.Name, wire.NewReport{Commit: c.Head, Name: "unit", State: change.Passed, Attempt: 3})
	l.Ok(err)
}

// Rules that come to want something ask for it at once: a check whose definition changed runs again, one that ran stays.
func TestNewRulesAsk(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Commit("main", "", "a=1")
	l.Commit("topic", "main", "a=2")
	c := l.Open(l.Admin, "topic")
	attempts := func(name string) int {
		t.Helper()
		var n int64
		l.Ok(l.Records.Read(ctx).Model(&records.CheckRun{}).Where("commit_id = ? AND name = ?", c.Head, name).Count(&n).Error)
		return int(n)
	}
	l.Rules(asked)
	if n := attempts("unit"); n != 1 {
		t.Errorf("unit was asked for %d times", n)
	}
	l.Rules(strings.Replace(asked, "1h", "2h", 1))
	if n := attempts("unit"); n != 1 {
		t.Errorf("with another limit unit was asked for %d times", n)
	}
	l.Rules(strings.Replace(strings.Replace(asked, "reported_by: robot:bench, timeout: 1h", "command: make test", 1), "[unit]", "[unit, lint]", 1))
	if n, m := attempts("unit"), attempts("lint"); n != 2 || m != 1 {
		t.Errorf("with a command unit was asked for %d times, and lint %d", n, m)
	}
	if require.DefaultAnswer <= 0 {
		t.Error("checks that say nothing wait for ever")
	}
}
