package checks_test

import (
	"math"
	"strings"
	"testing"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/wire"
)

// benchLab has a commit and a robot that may report unit and lint on it.
func benchLab(t *testing.T) (*lab.Lab, accounts.Actor, string) {
	l := lab.New(t)
	commit := l.Commit("main", "", "valves/open.go=1")
	return l, l.Robot(accounts.NewToken{Login: "bench", Checks: []string{lab.Name + ":unit", lab.Name + ":lint"}}), commit
}

func TestReportsTellMore(t *testing.T) {
	l, bench, commit := benchLab(t)
	n := wire.NewReport{Commit: commit[:12], Name: "unit", State: change.Failed, Link: "https://builds.example/7", Summary: "1 of 214 failed, tvr_ABCDEFGHIJ234",
		Seconds: 41.5, Log: strings.Repeat("x", 70<<10) + "\x00end tvr_ABCDEFGHIJ234", Numbers: map[string]float64{"coverage": 81.4, "tests_passed": 213},
		Annotations: []wire.Annotation{{Path: "valves/open.go", Line: 3, LastLine: 5, Level: "error", Text: "it never closes"}}}
	k, err := l.Checks.ReportCheck(t.Context(), bench, lab.Name, n)
	l.Ok(err)
	if k.Seconds != 41.5 || k.Numbers["coverage"] != 81.4 || len(k.Annotations) != 1 || len(k.Log) > 64<<10 || !strings.HasSuffix(k.Log, "end tvr_…") ||
		k.Summary != "1 of 214 failed, tvr_…" || k.By != "bench" || strings.Contains(k.Log, "\x00") {
		t.Errorf("the check is %+v", k)
	}
	for _, c := range []struct {
		change func(n *wire.NewReport)
		kind   problem.Kind
		words  string
	}{
		{func(n *wire.NewReport) { n.State = "passed" }, problem.Conflict, "has ended as failed"},
		{func(n *wire.NewReport) { n.Commit = strings.Repeat("1", 40) }, problem.Unknown, "commit"},
		{func(n *wire.NewReport) { n.Name = "other" }, problem.Forbidden, "this token may not report"},
		{func(n *wire.NewReport) { n.State = "fine" }, problem.Invalid, "not a state"},
		{func(n *wire.NewReport) { n.Seconds = -1 }, problem.Invalid, "takes from 0"},
		{func(n *wire.NewReport) { n.Seconds = math.NaN() }, problem.Invalid, "takes from 0"},
		{func(n *wire.NewReport) { n.Numbers = map[string]float64{"Coverage %": 1} }, problem.Invalid, "not a name for a number"},
		{func(n *wire.NewReport) { n.Numbers = map[string]float64{"coverage": math.Inf(1)} }, problem.Invalid, "is no number"},
		{func(n *wire.NewReport) { n.Annotations = make([]wire.Annotation, 51) }, problem.Invalid, "at most 50"},
		{func(n *wire.NewReport) { n.Annotations[0].Path = "../valves" }, problem.Invalid, "not the path of a file"},
		{func(n *wire.NewReport) { n.Annotations[0].Path = "/valves" }, problem.Invalid, "not the path of a file"},
		{func(n *wire.NewReport) { n.Annotations[0].Line = 0 }, problem.Invalid, "lines are counted from 1"},
		{func(n *wire.NewReport) { n.Annotations[0].LastLine = 2 }, problem.Invalid, "lines are counted from 1"},
		{func(n *wire.NewReport) { n.Annotations[0].Level = "fatal" }, problem.Invalid, "not a level"},
		{func(n *wire.NewReport) { n.Annotations[0].Text = " " }, problem.Invalid, "from 1 to 1000"},
		{func(n *wire.NewReport) { n.Part = "arm64" }, problem.Invalid, "go together"},
		{func(n *wire.NewReport) { n.Part, n.PartsOf = "arm64", 1 }, problem.Invalid, "from 2 to 200"},
		{func(n *wire.NewReport) { n.Key = "a\nb" }, problem.Invalid, "plain characters"},
		{func(n *wire.NewReport) { n.Summary = strings.Repeat("x", 501) }, problem.Invalid, "at most 500"},
	} {
		m := n
		m.Annotations = append([]wire.Annotation{}, n.Annotations...)
		m.Numbers = nil
		c.change(&m)
		_, err := l.Checks.ReportCheck(t.Context(), bench, lab.Name, m)
		l.Is(err, c.kind, c.words)
	}
}

// The same report under the same key counts once, however often it comes; another under that key is refused.
func TestReportsUnderAKeyCountOnce(t *testing.T) {
	l, bench, commit := benchLab(t)
	n := wire.NewReport{Commit: commit, Name: "unit", State: change.Running, Key: "run-7"}
	_, err := l.Checks.ReportCheck(t.Context(), bench, lab.Name, n)
	l.Ok(err)
	end, err := l.Records.JournalEnd(t.Context())
	l.Ok(err)
	_, err = l.Checks.ReportCheck(t.Context(), bench, lab.Name, wire.NewReport{Commit: commit, Name: "unit", State: change.Passed, Key: "run-8"})
	l.Ok(err)
	k, err := l.Checks.ReportCheck(t.Context(), bench, lab.Name, n) // late, and once more
	l.Ok(err)
	if now, _ := l.Records.JournalEnd(t.Context()); k.State != "passed" || now != end+1 {
		t.Errorf("it is %s, and the journal grew by %d", k.State, now-end)
	}
	n.State = change.Failed
	_, err = l.Checks.ReportCheck(t.Context(), bench, lab.Name, n)
	l.Is(err, problem.Conflict, "something else was reported under the key")
}

// Several reports are taken, or none.
func TestSeveralReportsAtOnce(t *testing.T) {
	l, bench, commit := benchLab(t)
	both := []wire.NewReport{{Commit: commit, Name: "unit", State: change.Passed}, {Commit: commit, Name: "lint", State: change.Passed}}
	for _, bad := range []wire.NewReport{{Commit: commit, Name: "other", State: change.Passed}, {Commit: commit, Name: "lint", State: "fine"},
		{Commit: strings.Repeat("1", 40), Name: "lint", State: change.Passed}} {
		_, err := l.Checks.ReportChecks(t.Context(), bench, lab.Name, []wire.NewReport{both[0], bad})
		if p, is := err.(*problem.Problem); !is || !strings.HasPrefix(p.Text, "report 2: ") {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if seen, err := l.Checks.Checks(t.Context(), l.Admin, lab.Name, commit); err != nil || len(seen) != 0 {
		t.Errorf("of what was refused %+v is there (%v)", seen, err)
	}
	all, err := l.Checks.ReportChecks(t.Context(), bench, lab.Name, both)
	l.Ok(err)
	if len(all) != 2 || all[1].Name != "lint" {
		t.Errorf("all are %+v", all)
	}
	_, err = l.Checks.ReportChecks(t.Context(), bench, lab.Name, make([]wire.NewReport, 101))
	l.Is(err, problem.Invalid, "from 1 to 100")
}

// A matrix of many jobs is one check: it has no answer before every part has, and then the worst (P7).
func TestP7PartsRollUp(t *testing.T) {
	l, bench, commit := benchLab(t)
	say := func(part, state string) (wire.Check, error) {
		return l.Checks.ReportCheck(t.Context(), bench, lab.Name, wire.NewReport{Commit: commit, Name: "unit", State: change.CheckState(state), Part: part, PartsOf: 3})
	}
	for _, c := range [][3]string{{"arm64", "running", "running"}, {"arm64", "failed", "running"}, {"amd64", "passed", "running"}, {"amd64", "passed", "running"}} {
		k, err := say(c[0], c[1])
		l.Ok(err)
		if k.State != c[2] {
			t.Errorf("after %s %s it is %s", c[0], c[1], k.State)
		}
	}
	_, err := say("amd64", "failed")
	l.Is(err, problem.Conflict, "part amd64 of unit has ended as passed")
	_, err = l.Checks.ReportCheck(t.Context(), bench, lab.Name, wire.NewReport{Commit: commit, Name: "unit", State: change.Passed})
	l.Is(err, problem.Conflict, "is reported in 3 parts")
	_, err = l.Checks.ReportCheck(t.Context(), bench, lab.Name, wire.NewReport{Commit: commit, Name: "unit", State: change.Passed, Part: "x", PartsOf: 2})
	l.Is(err, problem.Conflict, "has 3 parts, not 2")
	k, err := say("riscv64", "passed")
	l.Ok(err)
	if k.State != "failed" || k.Summary != "3 parts: 1 failed, 2 passed" || len(k.Parts) != 3 || k.FinishedAt == nil {
		t.Errorf("the whole is %+v", k)
	}
	_, err = say("mips", "passed")
	l.Is(err, problem.Conflict, "is none of them")
	if k, err = say("riscv64", "passed"); err != nil || k.State != "failed" { // once more
		t.Errorf("said once more it is %s, %v", k.State, err)
	}
}
