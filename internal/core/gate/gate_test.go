package gate

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
	"tavrin/internal/often"
)

const document = `tavrin: rules/1
areas:
  valves: {paths: "firmware/**", owners: team:hydraulics, require: [{checks: valve-bench}]}
  ledger: {paths: "ledger/**", owners: [team:accounts, "person:pavo"], require: [{approvals: 2}]}
checks:
  unit: {command: make test}
  preview: {reported_by: robot:previewer}
protect:
  - name: trunk
    branches: main
    require:
      - approvals: 1
        not_from: [author, last_pusher]
      - owners: every touched area
      - objections: none
      - checks: [unit]
      - checks: [preview]
        at: head
        level: advisory
    land: {who: team:hydraulics, strategies: [rebase, squash]}
`

func parsed(t testing.TB, text string) *rules.Set {
	t.Helper()
	d, findings := rules.Parse(text)
	if findings != nil {
		t.Fatal(findings)
	}
	return d.Alone(3)
}

// facts are those of a change by tamsin to the docs, which no area covers, with one approval.
func facts() change.Facts {
	return change.Facts{
		Repository: "growers/irrigation", Number: 7, State: "open", Target: "main", Revision: 2, Head: strings.Repeat("a", 40), RulesVersion: 3,
		Authors: []string{"tamsin"}, LastPusher: "wren", Paths: []string{"docs/members.md"},
		Reviews: []change.Review{{By: "odo", Verdict: change.Approve, Revision: 2}},
		People: people.Known(map[string]people.Person{
			"tamsin": {Login: "tamsin", Role: people.Writer}, "wren": {Login: "wren", Role: people.Writer}, "bela": {Login: "bela", Role: people.Writer, Teams: []string{"accounts"}},
			"odo": {Login: "odo", Role: people.Writer, Teams: []string{"hydraulics"}}, "pavo": {Login: "pavo", Role: people.Reader},
			"barn": {Login: "barn", Role: people.Writer, Robot: true}, "admin": {Login: "admin", Role: people.Maintainer, Standby: true},
		}),
	}
}

func rehearsed(checks ...change.Check) *change.Rehearsal {
	return &change.Rehearsal{Commit: strings.Repeat("b", 40), Base: strings.Repeat("c", 40), Checks: checks}
}

func find(t *testing.T, r Report, key string) require.Outcome {
	t.Helper()
	i := slices.IndexFunc(r.Requirements, func(q require.Outcome) bool { return q.Key == key })
	if i < 0 {
		t.Fatalf("no requirement %q in %+v", key, r.Requirements)
	}
	return r.Requirements[i]
}

func TestJudge(t *testing.T) {
	passed := change.Check{Name: "unit", State: change.Passed, Attempt: 1, By: "barn", Runner: true}
	cases := []struct {
		name         string
		change       func(*change.Facts)
		ready, clear bool
		key          string
		state        require.State
		says         string // in the requirement's next step
	}{
		{"all but the rehearsal", func(*change.Facts) {}, true, false, "check/unit@rehearsal", require.Pending, "[join 7]"},
		{"everything", func(f *change.Facts) { f.Rehearsal = rehearsed(passed) }, true, true, "check/unit@rehearsal", require.Met, ""},
		{"draft", func(f *change.Facts) { f.State = "draft" }, false, false, "open", require.Missing, "[mark-ready 7 tamsin]"},
		{"closed", func(f *change.Facts) { f.State = "closed" }, false, false, "open", require.Missing, "[reopen 7 tamsin]"},
		{"no approval", func(f *change.Facts) { f.Reviews = nil }, false, false, "approvals", require.Missing, "1 approval: bela or odo could give it [approve 7 revision 2 bela,odo]"},
		{"own approval", func(f *change.Facts) { f.Reviews[0].By = "tamsin" }, false, false, "approvals", require.Missing, "tamsin's approval does not count: an author"},
		{"last pusher's approval", func(f *change.Facts) { f.Reviews[0].By = "wren" }, false, false, "approvals", require.Missing, "the last to push"},
		{"robot's approval", func(f *change.Facts) { f.Reviews[0].By = "barn" }, false, false, "approvals", require.Missing, "robots do not approve"},
		{"approval by somebody who may only read", func(f *change.Facts) { f.Reviews[0].By = "pavo" }, false, false, "approvals", require.Missing, ""},
		{"approval by a stranger", func(f *change.Facts) { f.Reviews[0].By = "nobody" }, false, false, "approvals", require.Missing, ""},
		{"P6 approval of an older, other difference", func(f *change.Facts) { f.Reviews[0].Revision = 1 }, false, false, "approvals", require.Missing, "odo approved revision 1, and the difference has changed since"},
		{"P6 approval of the same difference", func(f *change.Facts) { f.Reviews[0].Revision, f.Reviews[0].SameDifference = 1, true }, true, false, "approvals", require.Met, ""},
		{"P6 the same difference by a history that brings more", func(f *change.Facts) {
			f.Reviews[0].Revision, f.Reviews[0].SameDifference, f.Reviews[0].Hidden = 1, true, []string{"secret"}
		}, false, false, "approvals", require.Missing, "commits since touch secret, which the difference does not show"},
		{"P6 and by a strategy that brings the difference alone", func(f *change.Facts) {
			f.Reviews[0].Revision, f.Reviews[0].SameDifference, f.Reviews[0].Hidden, f.Asker, f.Strategy = 1, true, []string{"secret"}, "odo", change.Squash
		}, true, false, "approvals", require.Met, ""},
		{"P2 an area that the history touches", func(f *change.Facts) { f.History.Hidden = []string{"ledger/tariff.csv"} }, false, false, "owners/ledger", require.Missing, "bela or pavo could give it"},
		{"P2 several merge bases", func(f *change.Facts) { f.Bases, f.Source = 2, "topic" }, false, false, "base", require.Missing, "[update 7 tamsin]"},
		{"a claim in a commit, by a merge", func(f *change.Facts) {
			f.Commits, f.Asker, f.Strategy = []change.Commit{{ID: strings.Repeat("d", 40), Message: "x", Reserved: "Approved-by"}}, "wren", change.Merge
		}, false, false, "trailers", require.Missing, "(Approved-by): reword"},
		{"objection", func(f *change.Facts) {
			f.Reviews = append(f.Reviews, change.Review{By: "bela", Verdict: change.Object, Revision: 1})
		}, false, false, "objections", require.Missing, "bela objects"},
		{"area without its owner", func(f *change.Facts) { f.Paths = []string{"ledger/tariff.csv"} }, false, false, "owners/ledger", require.Missing, "bela or pavo could give it"},
		{"area with its owner", func(f *change.Facts) { f.Paths = []string{"firmware/a.c"} }, true, false, "owners/valves", require.Met, ""},
		{"area's own check", func(f *change.Facts) { f.Paths = []string{"firmware/a.c"}; f.Rehearsal = rehearsed(passed) }, true, false, "check/valve-bench@rehearsal", require.Pending, "a robot that reports valve-bench"},
		{"no area touched", func(*change.Facts) {}, true, false, "owners", require.NotAsked, "touches no area"},
		{"failed check", func(f *change.Facts) {
			f.Rehearsal = rehearsed(change.Check{Name: "unit", State: change.Failed, By: "barn", Runner: true, Summary: "3 tests"})
		}, true, false, "check/unit@rehearsal", require.Missing, "unit failed (3 tests)"},
		{"P7 command check reported by a check robot", func(f *change.Facts) {
			f.Rehearsal = rehearsed(change.Check{Name: "unit", State: change.Passed, By: "barn"})
		}, true, false, "check/unit@rehearsal", require.Missing, "only a runner's answer counts"},
		{"P7 check by another check robot", func(f *change.Facts) {
			f.HeadChecks = []change.Check{{Name: "preview", State: change.Passed, By: "barn"}}
		}, true, false, "check/preview@head", require.Missing, "robot:previewer"},
		{"advisory check never blocks", func(f *change.Facts) {
			f.HeadChecks = []change.Check{{Name: "preview", State: change.Failed, By: "previewer"}}
			f.Rehearsal = rehearsed(passed)
		}, true, true, "check/preview@head", require.Missing, "preview failed"},
		{"asker may not land", func(f *change.Facts) { f.Asker, f.Strategy = "tamsin", change.Rebase }, false, false, "lander", require.Missing, "team:hydraulics"},
		{"strategy not allowed", func(f *change.Facts) { f.Asker, f.Strategy = "odo", change.Merge }, false, false, "strategy", require.Missing, "rebase, squash"},
		{"administrator is bound too", func(f *change.Facts) { f.Authors = []string{"admin"}; f.Reviews[0].By = "admin" }, false, false, "approvals", require.Missing, "an author"},
	}
	doc := parsed(t, document)
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f := facts()
			c.change(&f)
			r := Judge(doc, f)
			if r.Ready != c.ready || r.Clear != c.clear {
				t.Errorf("ready %v, clear %v; want %v, %v: %s", r.Ready, r.Clear, c.ready, c.clear, r.Summary)
			}
			q := find(t, r, c.key)
			if q.State != c.state || !strings.Contains(told(q), c.says) {
				t.Errorf("%s is %s: %q; want %s and %q", c.key, q.State, told(q), c.state, c.says)
			}
			for _, q := range r.Requirements {
				wellTold(t, q)
			}
			if !q.Holds() && q.Next == "" {
				t.Errorf("%s does not hold and says no next step", c.key)
			}
			if q.Because == "" {
				t.Errorf("%s does not say where it comes from", c.key)
			}
		})
	}
}

func TestContentDemands(t *testing.T) {
	cases := []struct {
		name, requirement string
		change            func(*change.Facts)
		state             require.State
		says              string
	}{
		{"no checklist", "tasks: done", func(*change.Facts) {}, require.NotAsked, "no checklist"},
		{"boxes ticked", "tasks: done", func(f *change.Facts) { f.Description = "- [x] a\n* [X] b\n1. [x] c" }, require.Met, ""},
		{"a box open", "tasks: done", func(f *change.Facts) { f.Description = "  - [ ] sow\n- [x] b" }, require.Missing, `"sow"`},
		{"no discussion", "threads: resolved", func(*change.Facts) {}, require.NotAsked, "no discussion"},
		{"an open thread", "threads: resolved", func(f *change.Facts) { f.Threads = []change.Thread{{By: "wren", Where: "a.c, line 3"}} }, require.Missing, "wren's on a.c, line 3"},
		{"resolved by a writer", "threads: resolved", func(f *change.Facts) { f.Threads = []change.Thread{{By: "wren", Where: "a", ResolvedBy: "odo"}} }, require.Met, ""},
		{"resolved by a reader", "threads: resolved", func(f *change.Facts) { f.Threads = []change.Thread{{By: "wren", Where: "a", ResolvedBy: "pavo"}} }, require.Missing, "pavo resolved without the right"},
		{"resolved by those named", "threads: resolved, resolved_by: team:accounts", func(f *change.Facts) { f.Threads = []change.Thread{{By: "wren", Where: "a", ResolvedBy: "odo"}} }, require.Missing, "odo resolved without"},
		{"a ticket in a commit", "ticket: 'FEN-[0-9]+'", func(f *change.Facts) { f.Commits = []change.Commit{{Message: "Tidy\n\nFor FEN-3"}} }, require.Met, ""},
		{"a ticket elsewhere", "ticket: 'FEN-[0-9]+', in: title", func(f *change.Facts) { f.Description = "FEN-3" }, require.Missing, "name the ticket in the title"},
		{"a fixup", "fixups: none", func(f *change.Facts) {
			f.Commits = []change.Commit{{ID: "abc", Message: "fixup! docs"}}
			f.Strategy, f.Asker = change.Rebase, "odo"
		}, require.Missing, `abc "fixup! docs"`},
		{"a fixup, squashed", "fixups: none", func(f *change.Facts) {
			f.Commits = []change.Commit{{Message: "fixup! docs"}}
			f.Strategy, f.Asker = change.Squash, "odo"
		}, require.NotAsked, "one commit"},
		{"a word like fixup", "fixups: none", func(f *change.Facts) { f.Commits = []change.Commit{{Message: "fixup of docs"}} }, require.Met, ""},
		{"a merge commit that comes along", "history: linear", func(f *change.Facts) {
			f.Strategy, f.Asker, f.Commits = change.FastForward, "odo", []change.Commit{{ID: "abc", Message: "Merge main", Parents: 2}}
		}, require.Missing, "land by rebase, squash or fold"},
		{"no merge commit comes along", "history: linear", func(f *change.Facts) {
			f.Strategy, f.Asker, f.Commits = change.FastForward, "odo", []change.Commit{{ID: "abc", Message: "a", Parents: 1}}
		}, require.Met, ""},
		{"a fixup, folded", "fixups: none", func(f *change.Facts) {
			f.Strategy, f.Asker, f.Commits = change.Fold, "odo", []change.Commit{{ID: "def", Message: "fixup! a", Parents: 1}, {ID: "abc", Message: "a", Parents: 1}}
		}, require.Met, ""},
		{"a fixup of nothing", "fixups: none", func(f *change.Facts) {
			f.Strategy, f.Asker, f.Commits = change.Fold, "odo", []change.Commit{{ID: "abc", Message: "a", Parents: 1}, {ID: "def", Message: "fixup! a", Parents: 1}}
		}, require.Missing, "nothing before it is what it is to be folded into"},
		{"a message that comes of folding", "messages: '^docs: '", func(f *change.Facts) {
			f.Strategy, f.Asker, f.Commits = change.Fold, "odo", []change.Commit{{ID: "def", Message: "amend! a\n\ndocs: a", Parents: 1}, {ID: "abc", Message: "a", Parents: 1}}
		}, require.Met, ""},
		{"a message that folding spoils", "messages: '^docs: '", func(f *change.Facts) {
			f.Strategy, f.Asker, f.Commits = change.Fold, "odo", []change.Commit{{ID: "def", Message: "amend! docs: a\n\nb", Parents: 1}, {ID: "abc", Message: "docs: a", Parents: 1}}
		}, require.Missing, `"b"`},
		{"the commits of a rebase before a merge", "messages: '^docs: '", func(f *change.Facts) {
			f.Strategy, f.Asker, f.Title, f.Commits = change.RebaseThenMerge, "odo", "docs: a", []change.Commit{{ID: "abc", Message: "b", Parents: 1}}
		}, require.Missing, `"b"`},
		{"a squash before a merge", "messages: '^docs: '", func(f *change.Facts) {
			f.Strategy, f.Asker, f.Title, f.Commits = change.SquashThenMerge, "odo", "docs: a", []change.Commit{{ID: "abc", Message: "b", Parents: 1}}
		}, require.Met, ""},
		{"a merge strategy", "history: linear", func(f *change.Facts) { f.Strategy, f.Asker = change.Merge, "odo" }, require.Missing, "land by rebase, squash, fold or fast-forward"},
		{"messages of commits", "messages: '^docs: '", func(f *change.Facts) {
			f.Commits = []change.Commit{{ID: "abc", Message: "Tidy"}}
			f.Strategy, f.Asker = change.Rebase, "odo"
		}, require.Missing, `abc "Tidy"`},
		{"the message of a squash", "messages: '^docs: '", func(f *change.Facts) {
			f.Title = "docs: a"
			f.Commits = []change.Commit{{Message: "Tidy"}}
			f.Strategy, f.Asker = change.Squash, "odo"
		}, require.Met, ""},
		{"a message as typed", "messages: '^docs: '", func(f *change.Facts) {
			f.Title, f.Message = "docs: a", "Tidy"
			f.Strategy, f.Asker = change.Squash, "odo"
		}, require.Missing, `the final message "Tidy"`},
		{"unsigned", "signed: every commit", func(f *change.Facts) { f.Commits = []change.Commit{{ID: "abc"}} }, require.Missing, "abc is not signed"},
		{"an unknown key", "signed: every commit", func(f *change.Facts) {
			f.Commits = []change.Commit{{ID: "abc", Signature: change.Signature{State: change.UnknownKey}}}
		}, require.Missing, "a key that nobody has registered"},
		{"signed in another way", "signed: every commit", func(f *change.Facts) {
			f.Commits = []change.Commit{{ID: "abc", Signature: change.Signature{State: change.Unread}}}
		}, require.Missing, "not verified here (OpenPGP or X.509"},
		{"a forged signature", "signed: every commit", func(f *change.Facts) {
			f.Commits = []change.Commit{{ID: "abc", Signature: change.Signature{State: change.BadlyMade, By: "odo"}}}
		}, require.Missing, "does not fit"},
		{"signed by somebody gone", "signed: every commit", func(f *change.Facts) {
			f.Commits = []change.Commit{{ID: "abc", Signature: change.Signature{State: change.Good, By: "gone"}}}
		}, require.Missing, "gone, who has no access"},
		{"signed", "signed: every commit", func(f *change.Facts) {
			f.Commits = []change.Commit{{ID: "abc", Signature: change.Signature{State: change.Good, By: "odo"}}}
		}, require.Met, ""},
		{"a pass that is fresh", "checks: seen, at: head, max_age: 2h", func(f *change.Facts) {
			f.At = noon
			f.HeadChecks = []change.Check{{Name: "seen", State: change.Passed, By: "barn", At: noon.Add(-time.Hour)}}
		}, require.Met, ""},
		{"a pass too old", "checks: seen, at: head, max_age: 1h", func(f *change.Facts) {
			f.At = noon
			f.HeadChecks = []change.Check{{Name: "seen", State: change.Passed, By: "barn", At: noon.Add(-90 * time.Minute)}}
		}, require.Pending, "seen passed 1h30m ago: a pass counts for 1h"},
		{"a deployment that has been healthy for long enough", "deployment: field, at: head, healthy_for: 1h", func(f *change.Facts) {
			f.At = noon
			f.HeadChecks = []change.Check{{Name: "field-trial", State: change.Passed, By: "barn", At: noon.Add(-time.Hour)}}
		}, require.Met, ""},
		{"a deployment that has been healthy for too short", "deployment: field, at: head, healthy_for: 1h", func(f *change.Facts) {
			f.At = noon
			f.HeadChecks = []change.Check{{Name: "field-trial", State: change.Passed, By: "barn", At: noon.Add(-59 * time.Minute)}}
		}, require.Pending, "field-trial healthy for 59m of 1h: it goes on by itself at"},
		{"a deployment that fell ill", "deployment: field, at: head, healthy_for: 1h", func(f *change.Facts) {
			f.At = noon
			f.HeadChecks = []change.Check{{Name: "field-trial", State: change.Failed, By: "barn", At: noon.Add(-2 * time.Hour)}}
		}, require.Missing, "field-trial failed"},
		{"an approval of who left the team", "approvals: 1, from: team:stewards", func(f *change.Facts) {
			f.Reviews = []change.Review{{By: "odo", Verdict: change.Approve, Revision: 2, Teams: []string{"stewards"}}}
		}, require.Missing, "odo's approval does not count: they have left the team since"},
		{"an approval of who was never asked", "approvals: 1, from: team:stewards", func(f *change.Facts) {
			f.Reviews = []change.Review{{By: "odo", Verdict: change.Approve, Revision: 2}}
		}, require.Missing, "1 approval from team:stewards: nobody could give one, so a maintainer has to add people or change the rule"},
		{"an approval of a disabled account", "approvals: 1", func(f *change.Facts) {
			f.Reviews = []change.Review{{By: "odo", Verdict: change.Approve, Revision: 2, Disabled: true}}
		}, require.Missing, "odo's approval does not count: their account is disabled"},
		{"a check that has another name now", "checks: unit, at: head", func(f *change.Facts) {
			f.HeadChecks = []change.Check{{Name: "Unit tests", State: change.Passed, By: "barn"}}
		}, require.Pending,
			"waiting for a robot that reports unit; Unit tests was reported on the head: if that is its new name"},
		{"a glob that matches nothing", "checks: 'bench *', at: head", func(*change.Facts) {}, require.Pending, "no check that matches bench * is defined"},
		{"so many of a glob that matches nothing", "checks: 'bench *', at: head, at_least: 1", func(*change.Facts) {}, require.Missing, ""},
		{"an approval of somebody gone", "approvals: 1", func(f *change.Facts) { f.Reviews = []change.Review{{By: "gone", Verdict: change.Approve, Revision: 2}} }, require.Missing, "no access any more"},
		{"when it is not so", "approvals: 2, when: {lines: over 3}", func(*change.Facts) {}, require.NotAsked, "asked when the lines changed are over 3"},
		{"unless all of it is so", "approvals: 2, unless: {paths: 'docs/**'}", func(f *change.Facts) { f.Paths = []string{"docs/a", "docs/b"} },
			require.NotAsked, "asked unless everything that changes is in docs/**"},
		{"unless, and one line more", "approvals: 2, unless: {paths: 'docs/**'}", func(f *change.Facts) { f.Paths = []string{"docs/a", "firmware/b"} },
			require.Missing, "1 more approval"},
		{"P2 unless, and a path that only the history shows", "approvals: 2, unless: {paths: 'docs/**'}", func(f *change.Facts) {
			f.Paths, f.History.Hidden = []string{"docs/a"}, []string{"firmware/b"}
		}, require.Missing, "1 more approval"},
		{"unless, of nothing", "approvals: 2, unless: {paths: '**'}", func(f *change.Facts) { f.Paths = nil }, require.Missing, "1 more approval"},
		{"when a file is removed", "approvals: 2, when: {removed: '**'}", func(f *change.Facts) { f.Ways.Removed = f.Paths }, require.Missing, "1 more"},
		{"when none is removed", "approvals: 2, when: {removed: '**'}", func(f *change.Facts) { f.Ways.Added = f.Paths }, require.NotAsked, "removed"},
		{"P2 when a commit on the way removes one", "approvals: 2, when: {removed: '**'}", func(f *change.Facts) {
			f.Ways.Added, f.History.Ways.Removed = f.Paths, f.Paths
		}, require.Missing, "1 more"},
		{"when, by an expression over renames", "approvals: 2, when: {cel: 'size(files_renamed) == 2'}", func(f *change.Facts) {
			f.Paths = []string{"a", "b"}
			f.Ways.Renamed = f.Paths
		}, require.Missing, "1 more"},
		{"unless a robot alone wrote it", "approvals: 2, unless: {author: 'robot:barn'}", func(f *change.Facts) { f.Authors = []string{"barn"} }, require.NotAsked,
			"unless every author is robot:barn"},
		{"unless a robot alone wrote it, and somebody did too", "approvals: 2, unless: {author: 'robot:barn'}", func(f *change.Facts) {
			f.Authors = []string{"barn", "tamsin"}
		}, require.Missing, "1 more"},
		{"unless what cannot be worked out", "approvals: 2, unless: {cel: 'authors[9] == \"x\"'}", func(*change.Facts) {}, require.Missing, "could not be worked out"},
		{"when and unless", "approvals: 2, when: {lines: under 9}, unless: {label: urgent}", func(f *change.Facts) { f.Labels = []string{"urgent"} },
			require.NotAsked, "asked when the lines changed are under 9, unless it is labelled urgent"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f := facts()
			c.change(&f)
			q := Judge(parsed(t, "tavrin: rules/1\nlabels: {urgent: {set_by: team:duty}}\nchecks: {field-trial: {kind: deployment, environment: field}}\n"+
				"protect:\n  - {name: trunk, branches: main, require: [{"+c.requirement+"}]}\n"), f).Requirements[1]
			if q.State != c.state || !strings.Contains(told(q), c.says) {
				t.Errorf("%s is %s: %q", q.Key, q.State, q.Next)
			}
		})
	}
}

// What several protections say of one thing together, judged.
func TestSeveralProtectionsTogether(t *testing.T) {
	two := func(a, b string) *rules.Set {
		return parsed(t, "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, "+a+"}\n  - {name: b, branches: '**', "+b+"}\n")
	}
	f := facts()
	f.At, f.Asker, f.Strategy, f.Title = noon, "odo", change.Squash, "a"
	f.HeadChecks = []change.Check{{Name: "seen", State: change.Skipped, By: "barn", At: noon}}
	counts, doesNot := "require: [{checks: seen, at: head, skipped: counts}]", "require: [{checks: seen, at: head, max_age: 1h}]"
	if q := find(t, Judge(two(counts, counts), f), "check/seen@head"); q.State != require.Met || len(q.Sources) != 2 {
		t.Errorf("skipped counts for both: %+v", q)
	}
	for _, set := range []*rules.Set{two(counts, doesNot), two(doesNot, counts)} {
		if q := find(t, Judge(set, f), "check/seen@head"); q.State != require.Missing || q.Level != require.Required || len(q.Sources) != 2 {
			t.Errorf("skipped counts for one only: %+v", q)
		}
	}
	f.HeadChecks[0].State, f.HeadChecks[0].At = change.Passed, noon.Add(-2*time.Hour)
	if q := find(t, Judge(two(counts, doesNot), f), "check/seen@head"); q.State != require.Pending || !slices.Equal(q.Rerun, []string{"seen"}) {
		t.Errorf("the lower maximum age: %+v", q)
	}
	// An advisory one lends nothing, and takes nothing: each stands for itself.
	f.HeadChecks[0].State, f.HeadChecks[0].At = change.Skipped, noon
	advises := "require: [{checks: seen, at: head, max_age: 1h, reported_by: robot:other, level: advisory}]"
	for _, set := range []*rules.Set{two(counts, advises), two(advises, counts)} {
		for _, q := range Judge(set, f).Requirements {
			if !strings.HasPrefix(q.Key, "check/seen@head") {
				continue
			}
			if want := map[require.Level]require.State{require.Required: require.Met, require.Advisory: require.Missing}[q.Level]; q.State != want || len(q.Sources) != 1 {
				t.Errorf("beside an advisory one: %+v", q)
			}
		}
	}
	f.HeadChecks[0].State, f.HeadChecks[0].At = change.Passed, noon.Add(-2*time.Hour)
	messages := "require: [{messages: '^docs: '}], land: {message: 'docs: {title}'}"
	if q := find(t, Judge(two(messages, "require: []"), f), "messages"); q.State != require.Met {
		t.Errorf("one template: %+v", q)
	}
	if q := find(t, Judge(two(messages, "land: {message: 'docs: it is {title}'}"), f), "messages"); q.State != require.Missing || !strings.Contains(q.Next, "on which the protections disagree") {
		t.Errorf("two templates: %+v", q)
	}
	f.Reviews = []change.Review{{By: "odo", Verdict: change.Approve, Revision: 1, SameDifference: true}}
	newest := Judge(two("require: [{approvals: 1}]", "require: [{approvals: 1, on: newest_revision}]"), f)
	if find(t, newest, "approvals").State != require.Met || find(t, newest, "approvals/2").State != require.Missing {
		t.Errorf("approvals of an older revision: %+v", newest.Requirements)
	}
}

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func TestSourcesNameRuleAndLine(t *testing.T) {
	q := find(t, Judge(parsed(t, document), facts()), "approvals")
	if want := `"trunk" (rules version 3, line 12)`; q.Because != want || q.Sources[0].Line != 12 {
		t.Errorf("because %s, want %s", q.Because, want)
	}
}

func TestIdenticalDemandsAreShownOnceWithBothSources(t *testing.T) {
	doc := parsed(t, document+"  - {name: all, branches: '**', require: [{checks: [unit]}, {owners: every touched area}]}\n")
	f := facts()
	f.Paths = []string{"firmware/a.c"}
	r := Judge(doc, f)
	n := 0
	for _, q := range r.Requirements {
		if strings.HasPrefix(q.Key, "check/unit") || strings.HasPrefix(q.Key, "owners/valves") {
			n++
			if len(q.Sources) != 2 {
				t.Errorf("%s has sources %v", q.Key, q.Sources)
			}
		}
	}
	if n != 2 {
		t.Errorf("%d requirements, want one for the check and one for the owners", n)
	}
}

// What differs in anything that it asks is a line of its own, and what differs in nothing is one line.
func TestOneLineForWhatAsksTheSame(t *testing.T) {
	f := facts()
	f.Added, f.Paths = 50, []string{"firmware/a.c", "ledger/b.csv"}
	for _, c := range []struct {
		asked [2]string
		lines int
	}{
		{[2]string{"{approvals: 1}", "{approvals: 1}"}, 1},
		{[2]string{"{approvals: 1}", "{approvals: 2}"}, 2},
		{[2]string{"{approvals: 1, when: {lines: over 10}}", "{approvals: 1, when: {lines: over 20}}"}, 2},
		{[2]string{"{approvals: 1, when: {lines: over 10}}", "{approvals: 1, when: {lines: over 10}}"}, 1},
		{[2]string{"{approvals: 1, from: 'team:hydraulics'}", "{approvals: 1, from: 'team:accounts'}"}, 2},
		{[2]string{"{approvals: 1, not_from: author}", "{approvals: 1, not_from: [author, last_pusher]}"}, 2},
		{[2]string{"{approvals: 1, max_age: 24h}", "{approvals: 1, max_age: 48h}"}, 2},
		{[2]string{"{approvals: 1, called: eyes}", "{approvals: 1, called: hands}"}, 1},
		{[2]string{"{owners: every touched area}", "{owners: every touched area}"}, 2}, // one of each area
		{[2]string{"{owners: every touched area}", "{owners: every touched area, not_from: last_pusher}"}, 4},
		{[2]string{"{owners: every touched area}", "{owners: every touched area, max_age: 24h}"}, 4},
		{[2]string{"{approvals: 1, on: newest_revision}", "{approvals: 1}"}, 2},
	} {
		head, _, _ := strings.Cut(document, "protect:")
		set, findings := rules.Parse(strings.Replace(head, ", require: [{approvals: 2}]", "", 1) +
			"protect:\n  - {name: a, branches: main, require: [" + c.asked[0] + "]}\n  - {name: b, branches: main, require: [" + c.asked[1] + "]}\n")
		if findings != nil {
			t.Errorf("%v: %v", c.asked, findings)
			continue
		}
		lines := 0
		for _, q := range Judge(set.Alone(3), f).Requirements {
			if q.Group == "people" || strings.HasPrefix(q.Key, "approvals") || strings.HasPrefix(q.Key, "owners") {
				lines++
			}
		}
		if lines != c.lines {
			t.Errorf("%v are %d lines, want %d", c.asked, lines, c.lines)
		}
	}
}

// What only advises is no source of what is required, and has no say in who may waive it; an exempt person is held by the
// same demand at the level at which what binds them asks it.
func TestAdviceIsNoSourceOfWhatIsRequired(t *testing.T) {
	requires, advises := "  - {name: a, branches: main, exempt: person:odo, require: [{objections: none}]}\n", "  - {name: b, branches: main, require: [{objections: none, level: advisory}]}\n"
	f := facts()
	f.Reviews = []change.Review{{By: "bela", Verdict: change.Object, Revision: 2}}
	for _, text := range []string{requires + advises, advises + requires} {
		set := parsed(t, "tavrin: rules/1\nprotect:\n"+text)
		f.Asker = ""
		if q := find(t, Judge(set, f), "objections"); q.Level != require.Required || len(q.Sources) != 1 || q.Sources[0].Protection != "a" {
			t.Errorf("it is asked by %+v", q)
		}
		f.Asker, f.Strategy = "odo", change.Squash
		if q := find(t, Judge(set, f), "objections"); q.Level != require.Advisory || q.Sources[0].Protection != "b" {
			t.Errorf("odo is held by %+v", q)
		}
	}
}

func TestUnsatisfiableDemandSaysSo(t *testing.T) {
	doc := parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{approvals: 2, from: 'team:accounts'}]}\n")
	if q := find(t, Judge(doc, facts()), "approvals"); !strings.Contains(q.Next, "only bela could give one") {
		t.Errorf("next is %q", q.Next)
	}
}

func TestApproversAreThoseWhoCount(t *testing.T) {
	f := facts()
	f.Reviews = append(f.Reviews, change.Review{By: "tamsin", Verdict: change.Approve, Revision: 2}, change.Review{By: "pavo", Verdict: change.Approve, Revision: 2})
	if got := Judge(parsed(t, document), f).Approvers; !slices.Equal(got, []string{"odo"}) {
		t.Errorf("approvers are %v", got)
	}
	if got := Judge(nil, f).Approvers; !slices.Equal(got, []string{"odo", "pavo"}) {
		t.Errorf("without rules, approvers are %v", got)
	}
}

func TestFactsSurviveBeingStored(t *testing.T) {
	doc := parsed(t, document)
	f := facts()
	f.Rehearsal = rehearsed(change.Check{Name: "unit", State: change.Passed, By: "barn", Runner: true})
	f.Asker, f.Strategy = "odo", change.Squash
	data, err := json.Marshal(f)
	if err != nil {
		t.Fatal(err)
	}
	var again change.Facts
	if err := json.Unmarshal(data, &again); err != nil {
		t.Fatal(err)
	}
	if a, b := Judge(doc, f), Judge(doc, again); !reflect.DeepEqual(a, b) || !a.Clear {
		t.Errorf("judged again:\n%+v\n%+v", a, b)
	}
}

// randomProtection is a protection of every setting that there is, by chance.
func randomProtection(rng *rand.Rand, name string) string {
	pick := func(words ...string) string { return words[rng.IntN(len(words))] }
	var b strings.Builder
	fmt.Fprintf(&b, "  - name: %s\n    branches: %s\n    require:\n", name, pick("main", "main", "'**'", "dev"))
	for range 1 + rng.IntN(4) {
		b.WriteString("      - {" + pick("approvals: 1", "approvals: 2", "approvals: 1, own: counts", "approvals: 1, on: newest_revision", "approvals: 1, from: team:accounts, not_from: last_pusher",
			"owners: every touched area", "objections: none", "threads: resolved", "tasks: done", "ticket: 'FEN-[0-9]'", "ticket: 'FEN-[0-9]', in: title", "ticket: 'FEN-[0-9]', tracker: open", "ticket: 'FEN-[0-9]', tracker: exists, max_age: 2h", "fixups: none", "history: linear",
			"messages: '^[a-z]+: '", "signed: every commit", "checks: unit", "checks: 'u*', at: [head, rehearsal]", "checks: [unit, lint], at_least: 1, skipped: counts",
			"checks: unit, max_age: 2h", "checks: unit, reported_by: robot:barn", "deployment: field", "deployment: field, healthy_for: 90m") +
			pick("", "", "", ", level: advisory", ", when: {lines: over 10}", ", when: {areas: ledger}", ", when: {author: team:accounts}", ", when: {cel: 'files > 1'}") + "}\n")
	}
	fmt.Fprintf(&b, "    after_push: {approvals_stay: %s, objections_stay: %s}\n", pick("never", "if_unchanged", "always"), pick("never", "if_unchanged", "always"))
	fmt.Fprintf(&b, "    land: {strategies: %s, message: %s%s}\n", pick("[rebase]", "[merge, squash]", "[rebase, squash, merge]"), pick("'{title}'", "'docs: {title}'"), pick("", ", who: team:hydraulics", ", default: rebase"))
	if rng.IntN(8) == 0 {
		b.WriteString("    exempt: person:odo\n")
	}
	if rng.IntN(3) > 0 {
		fmt.Fprintf(&b, "    waive: %s\n", pick("role:writer", "role:writer", "person:odo"))
	}
	return strings.ReplaceAll(b.String(), ", default: rebase}", "}")
}

// randomFacts is a change that somebody has asked to land, and everything about it by chance.
func randomFacts(rng *rand.Rand) change.Facts {
	pick := func(words ...string) string { return words[rng.IntN(len(words))] }
	f := facts()
	f.Reviews = nil
	for _, by := range []string{"odo", "bela", "tamsin", "wren", "pavo", "gone"} {
		if rng.IntN(3) > 0 {
			f.Reviews = append(f.Reviews, change.Review{By: by, Verdict: change.Verdict(pick("approve", "approve", "approve", "object")), Revision: 1 + rng.IntN(2), SameDifference: rng.IntN(2) == 0})
		}
	}
	f.At = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	check := func(name string) change.Check {
		return change.Check{Name: name, State: change.CheckState(pick("passed", "passed", "failed", "skipped", "running")), By: pick("barn", "previewer"), Runner: name == "unit" && rng.IntN(4) > 0,
			At: f.At.Add(-time.Duration(rng.IntN(4)) * time.Hour)}
	}
	f.HeadChecks = []change.Check{check("unit")}
	f.Rehearsal = rehearsed(check("unit"), check("lint"), check("valve-bench"), check("field-trial"))
	f.Asker, f.Strategy, f.Message = pick("odo", "wren"), change.Strategy(pick("rebase", "squash", "merge")), pick("", "", "docs: as typed")
	f.Paths = [][]string{{"docs/a"}, {"ledger/a"}, {"firmware/a", "docs/b"}}[rng.IntN(3)]
	f.Added, f.Files = rng.IntN(20), len(f.Paths)
	f.Title, f.Description = pick("docs: FEN-1", "Tidy"), pick("", "- [x] a", "- [ ] a\nFEN-2")
	f.Commits = []change.Commit{{ID: strings.Repeat("d", 40), Message: pick("docs: a", "fixup! docs: a"), Parents: 1 + rng.IntN(2), Signature: change.Signature{State: change.SignatureState(pick("", "good")), By: "tamsin"}}}
	f.CommitAuthors = []string{pick("tamsin", "bela")}
	if rng.IntN(8) == 0 {
		f.Stops = []change.Stop{{ID: 1, Hold: rng.IntN(2) == 0, Name: "harvest", House: pick("", "growers"), By: "ines"}}
	}
	f.Tracker = pick("", "tickets.example", "tickets.example")
	for _, name := range []string{"FEN-1", "FEN-2"} {
		f.Tickets = append(f.Tickets, change.Ticket{Name: name, State: change.TicketState(pick("", "open", "closed", "none")), At: f.At.Add(-time.Duration(rng.IntN(4)) * time.Hour)})
	}
	if rng.IntN(4) == 0 {
		f.Waivers = []change.Waiver{{ID: 1, By: pick("odo", "wren"), Reason: "it floods", Revision: 2, Tip: f.Rehearsal.Base, Until: f.At.Add(time.Hour),
			Requirements: []change.Named{{Key: "objections", Title: "no open objection"}, {Key: "approvals", Title: "1 approval"}, {Key: "check/unit@rehearsal", Title: "check unit passes on the rehearsal"}, {Key: "threads", Title: "every discussion is resolved"}}}}
	}
	if rng.IntN(2) == 0 {
		f.Threads = []change.Thread{{By: "wren", Where: "a", ResolvedBy: pick("", "odo", "pavo")}}
	}
	return f
}

const around = `tavrin: rules/1
areas: {ledger: {paths: ledger/**, owners: team:accounts, require: [{approvals: 1}]}, valves: {paths: firmware/**, owners: team:hydraulics, require: [{checks: valve-bench}]}}
checks: {unit: {command: make test}, field-trial: {reported_by: robot:barn, kind: deployment, environment: field}}
protect:
`

// Adding a protection never makes a gate ready or clear that was not, and saying one twice changes nothing
// (principle 1, P8).
func TestP8AddingAProtectionOnlyTightens(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	tightened, cleared := 0, 0
	for range often.Times(300) {
		one, two := randomProtection(rng, "p1"), randomProtection(rng, "p2")
		f := randomFacts(rng)
		less, more := Judge(parsed(t, around+one), f), Judge(parsed(t, around+one+two), f)
		if (more.Ready && !less.Ready) || (more.Clear && !less.Clear) {
			t.Fatalf("adding a protection opened the gate:\n%s\n%s\n%+v\n%+v\n%+v", one, two, f, less, more)
		}
		swapped := Judge(parsed(t, around+two+one), f)
		twice := Judge(parsed(t, around+one+strings.Replace(one, "name: p1", "name: p3", 1)), f)
		if swapped.Ready != more.Ready || swapped.Clear != more.Clear || twice.Ready != less.Ready || twice.Clear != less.Clear {
			t.Fatalf("order or repetition matters:\n%s\n%s\n%+v", one, two, f)
		}
		if less.Ready && !more.Ready {
			tightened++
		}
		if less.Clear {
			cleared++
		}
	}
	if tightened < 4 || cleared < 4 {
		t.Errorf("%d protections tightened and %d gates were clear: the test says little", tightened, cleared)
	}
}

// Every requirement that does not hold says what to do next and where it comes from, and nobody but those with access
// is named.
func TestNothingIsAMystery(t *testing.T) {
	rng := rand.New(rand.NewPCG(13, 14))
	for range often.Times(200) {
		f := randomFacts(rng)
		if rng.IntN(2) == 0 {
			f.Asker, f.Strategy, f.Message, f.Rehearsal = "", "", "", nil
		}
		doc := around + randomProtection(rng, "p1") + randomProtection(rng, "p2")
		for _, q := range Judge(parsed(t, doc), f).Requirements {
			if q.Because == "" || q.Title == "" || (!q.Holds() && q.Next == "") || (q.State == require.NotAsked && q.Next == "") {
				t.Fatalf("%+v\nunder\n%s", q, doc)
			}
			for _, login := range q.Who {
				if _, known := f.People.Of(login); !known && !strings.Contains(login, " ") && !strings.Contains(login, ":") && login != "gone" {
					t.Fatalf("%s is named: %+v", login, q)
				}
			}
		}
	}
}

// The fewest people are enough, nobody of them can be left out, and no smaller set would do.
func TestFewest(t *testing.T) {
	rng := rand.New(rand.NewPCG(15, 16))
	found := 0
	for range 400 {
		f := randomFacts(rng)
		f.Asker, f.Rehearsal = "", nil
		set := parsed(t, around+randomProtection(rng, "p1")+randomProtection(rng, "p2"))
		missing := func(extra []string) int {
			g := f
			g.Reviews = slices.DeleteFunc(slices.Clone(f.Reviews), func(r change.Review) bool { return slices.Contains(extra, r.By) })
			for _, login := range extra {
				g.Reviews = append(g.Reviews, change.Review{By: login, Verdict: change.Approve, Revision: g.Revision})
			}
			n := 0
			for _, q := range Judge(set, g).Requirements {
				if (strings.HasPrefix(q.Key, "approvals") || strings.HasPrefix(q.Key, "owners")) && q.Level == require.Required && !q.Holds() {
					n++
				}
			}
			return n
		}
		enough, hopeless, exact := Fewest(set, f)
		if len(hopeless) > 0 {
			continue
		}
		if !exact || missing(enough) != 0 {
			t.Fatalf("%v are not enough: %d are missing still", enough, missing(enough))
		}
		people := slices.Sorted(maps.Keys(f.People.Map()))
		for mask := range 1 << len(people) {
			var some []string
			for i, login := range people {
				if mask&(1<<i) != 0 {
					some = append(some, login)
				}
			}
			if len(some) < len(enough) && missing(some) == 0 {
				t.Fatalf("%v would do, and %v were found", some, enough)
			}
		}
		if len(enough) > 0 {
			found++
		}
	}
	if found < 50 {
		t.Errorf("only %d sets were found: the test says little", found)
	}
}

// Rules that house and repository state together are judged as one, and a suspended protection asks for nothing.
func TestSuspendedProtectionsAskNothing(t *testing.T) {
	house, _ := rules.Under{OfHouse: true}.Parse("tavrin: rules/1\nprotect: [{name: floor, branches: main, require: [{approvals: 2}]}]\n")
	own, _ := rules.Parse("tavrin: rules/1\nprotect: [{name: trunk, branches: main, require: [{approvals: 3}]}]\n")
	set := rules.NewSet("growers/irrigation", rules.Layer{Document: own, Version: 4}, rules.Layer{Document: house, Of: "house growers", Version: 2})
	asked := func(suspended ...change.Suspension) string {
		f := facts()
		f.Suspended = suspended
		var titles []string
		for _, q := range Judge(set, f).Requirements[1:] {
			titles = append(titles, q.Title)
		}
		return strings.Join(titles, "; ")
	}
	if got := asked(); got != "2 approvals; 3 approvals" {
		t.Errorf("asked: %s", got)
	}
	if got := asked(change.Suspension{Protection: "trunk"}); got != "2 approvals" {
		t.Errorf("with trunk suspended: %s", got)
	}
	if got := asked(change.Suspension{Protection: "floor"}); got != "2 approvals; 3 approvals" {
		t.Errorf("a repository's suspension touches the house's: %s", got)
	}
	if got := asked(change.Suspension{Document: "house growers", Protection: "floor"}, change.Suspension{Protection: "trunk"}); got != "" {
		t.Errorf("with both suspended: %s", got)
	}
}

func TestRolesInclude(t *testing.T) {
	if !people.Maintainer.AtLeast(people.Writer) || people.Reader.AtLeast(people.Writer) || people.NoRole.AtLeast(people.Reader) {
		t.Error("roles do not include those before them")
	}
}

// large is a document and facts with 40 requirements, 30 reviews, 40 people and 100 checks.
func large(t testing.TB) (*rules.Set, change.Facts) {
	var b strings.Builder
	b.WriteString("tavrin: rules/1\nareas:\n")
	f := facts()
	f.At = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for i := range 10 {
		fmt.Fprintf(&b, "  a%d: {paths: 'part%d/**', owners: 'team:hydraulics', require: [{checks: 'bench %d'}]}\n", i, i, i)
		f.Paths = append(f.Paths, fmt.Sprintf("part%d/x.c", i))
	}
	b.WriteString("protect:\n  - name: trunk\n    branches: main\n    require:\n      - owners: every touched area\n      - objections: none\n      - tasks: done\n      - ticket: FEN-[0-9]+\n")
	for i := range 8 {
		fmt.Fprintf(&b, "      - {approvals: %d, called: 'eyes %d', when: {lines: over %d}}\n      - {checks: 'check %d', max_age: 12h}\n", i%4+1, i, 10+i, i)
	}
	f.Added, f.Description = 400, "- [x] measured\n- [ ] written up\n"
	for i := range 40 {
		login := fmt.Sprintf("p%d", i)
		f.People = beside(f.People, people.Person{Login: login, Role: people.Writer, Teams: []string{"hydraulics"}})
		if i < 30 {
			f.Reviews = append(f.Reviews, change.Review{By: login, Verdict: []change.Verdict{change.Approve, change.Comment, change.Approve}[i%3], Revision: 1 + i%2, SameDifference: i%4 == 0})
		}
	}
	var checks []change.Check
	for i := range 100 {
		checks = append(checks, change.Check{Name: fmt.Sprintf("check %d", i), State: change.Passed, By: "barn", At: f.At.Add(-time.Hour)})
	}
	f.Rehearsal = rehearsed(checks...)
	return parsed(t, b.String()), f
}

func BenchmarkJudge40Requirements(b *testing.B) {
	set, f := large(b)
	if n := len(Judge(set, f).Requirements); n < 40 {
		b.Fatalf("only %d requirements", n)
	}
	for b.Loop() {
		Judge(set, f)
	}
}

func BenchmarkJudge1000Changes(b *testing.B) {
	set := parsed(b, document)
	all := make([]change.Facts, 1000)
	for i := range all {
		all[i] = facts()
		all[i].Number = i
		all[i].Paths = []string{"firmware/a.c", "ledger/b.csv", "docs/c.md"}
		for p := range 30 {
			login := fmt.Sprintf("p%d", p)
			all[i].People = beside(all[i].People, people.Person{Login: login, Role: people.Writer, Teams: []string{"accounts"}})
		}
	}
	for b.Loop() {
		for _, f := range all {
			Judge(set, f)
		}
	}
}

// told is what a line says is to be done, in words and as steps.
func told(q require.Outcome) string {
	text := q.Told()
	for _, step := range q.Steps {
		text += fmt.Sprintf(" [%s %d", step.Action, step.Arguments.Change)
		if step.Arguments.Revision > 0 {
			text += fmt.Sprintf(" revision %d", step.Arguments.Revision)
		}
		if len(step.Who) > 0 {
			text += " " + strings.Join(step.Who, ",")
		}
		text += "]"
	}
	return text
}

// wellTold holds a line to what every line promises: of what kind it is, and, where it does not hold, what is missing;
// where it does, nothing.
func wellTold(t *testing.T, q require.Outcome) {
	t.Helper()
	if q.Kind == "" || q.Group == "" || q.Steps == nil || q.Sources == nil || q.Who == nil {
		t.Errorf("%s is not told in full: %+v", q.Key, q)
	}
	if q.Holds() != (q.Lacks == "") || q.Holds() && len(q.Steps) > 0 {
		t.Errorf("%s is %s, and %q is missing, steps %v", q.Key, q.State, q.Lacks, q.Steps)
	}
	for _, step := range q.Steps {
		if !slices.Contains(require.Actions, step.Action) || step.Who == nil {
			t.Errorf("%s: no step is %+v", q.Key, step)
		}
	}
}

func ExampleJudge() {
	doc, _ := rules.Parse("tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    require: [{approvals: 1}]\n")
	r := Judge(doc.Alone(2), change.Facts{Number: 4, State: "open", Target: "main", Revision: 1, RulesVersion: 2, Authors: []string{"wren"},
		People: people.Known(map[string]people.Person{"odo": {Login: "odo", Role: people.Writer}, "wren": {Login: "wren", Role: people.Writer}})})
	fmt.Println(r.Summary)
	fmt.Println(r.Requirements[1].Next)
	// Output:
	// Not ready for main: needs 1 approval.
	// odo could give it
}

func TestDependencies(t *testing.T) {
	for state, want := range map[string]require.State{"landed main": require.Met, "landed release/1": require.Missing, "open main": require.Missing, "draft main": require.Missing, "closed main": require.Missing} {
		f := facts()
		d := change.Dependency{Number: 3, Title: "Pumps"}
		d.State, d.Target, _ = strings.Cut(state, " ")
		f.Dependencies = []change.Dependency{d}
		r := Judge(parsed(t, document), f)
		if q := find(t, r, "depends/3"); q.State != want || r.Ready != (want == require.Met) || (want == require.Missing) != strings.Contains(told(q), "edit-dependencies 7") {
			t.Errorf("%s: %+v", state, q)
		}
	}
}

func TestTickets(t *testing.T) {
	f := facts()
	f.Title, f.Description, f.Source = "FEN-7: pumps", "see FEN-7 and OPS-12, not fen-9", "fen-8-pumps"
	f.Commits = []change.Commit{{Message: "FEN-10: a"}}
	if got := Tickets(parsed(t, document), f); !slices.Equal(got, []string{"FEN-7", "OPS-12", "FEN-10"}) {
		t.Errorf("by their common form: %v", got)
	}
	ruled := parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{ticket: '(?i)fen-[0-9]+'}]}\n")
	if got := Tickets(ruled, f); !slices.Equal(got, []string{"FEN-7", "fen-9", "fen-8", "FEN-10"}) {
		t.Errorf("by the rules' pattern: %v", got)
	}
}

// The gate says of each review whether it counts, for what, and if not why not (P6).
func TestP6EveryReviewIsWeighed(t *testing.T) {
	f := facts()
	f.Revision, f.Paths = 3, []string{"firmware/a"}
	f.Reviews = []change.Review{
		{By: "odo", Verdict: change.Approve, Revision: 2, SameDifference: true}, {By: "bela", Verdict: change.Approve, Revision: 2}, {By: "tamsin", Verdict: change.Approve, Revision: 3},
		{By: "pavo", Verdict: change.Object, Revision: 1}, {By: "gone", Verdict: change.Approve, Revision: 3}, {By: "barn", Verdict: change.Approve, Revision: 3},
	}
	want := map[string][2]string{
		"odo":    {"1 approval, not the last pusher's; 1 approval by an owner of valves", ""},
		"bela":   {"", "bela approved revision 2, and the difference has changed since; 1 approval by an owner of valves: asked for from an owner of valves (team:hydraulics)"},
		"tamsin": {"", "tamsin's approval does not count: an author of the change; 1 approval by an owner of valves: asked for from an owner of valves (team:hydraulics)"},
		"pavo":   {"no open objection", ""},
		"gone":   {"", "gone's approval does not count: they have no access any more"},
		"barn":   {"", "barn is a robot, and robots do not approve; 1 approval by an owner of valves: asked for from an owner of valves (team:hydraulics)"},
	}
	r := JudgeInFull(parsed(t, document), f)
	if len(r.Reviews) != len(want) {
		t.Fatalf("%d reviews are weighed", len(r.Reviews))
	}
	for _, w := range r.Reviews {
		if got := [2]string{strings.Join(w.For, "; "), strings.Join(w.Not, "; ")}; got != want[w.By] {
			t.Errorf("%s: %q", w.By, got)
		}
	}
	ending := parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{objections: none}], after_push: {objections_stay: never}}\n")
	for _, w := range JudgeInFull(ending, f).Reviews {
		if w.By == "pavo" && (len(w.For) > 0 || w.Not[0] != "it was for revision 1, and a push ends objections here") || w.By == "odo" && w.Not[0] != "no approval is asked for here" {
			t.Errorf("where pushes end objections: %+v", w)
		}
	}
}

func TestBeforeAChangeHasANumber(t *testing.T) {
	f := facts()
	f.Number, f.Reviews = 0, nil
	if next := told(find(t, Judge(parsed(t, document), f), "approvals")); !strings.HasSuffix(next, "[approve 0 revision 2 bela,odo]") {
		t.Errorf("next step is %q", next)
	}
}

// A check that no name stands for is waited for as long as an answer from outside, and then never comes (P9).
func TestP9ACheckThatNobodyDefinesIsNotWaitedForWithoutEnd(t *testing.T) {
	set := parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{checks: \"bench *\"}]}\n")
	f := facts()
	f.Rehearsal = rehearsed()
	f.Rehearsal.BuiltAt = time.Unix(1_790_000_000, 0)
	for after, want := range map[time.Duration]require.State{require.DefaultAnswer - time.Second: require.Pending, require.DefaultAnswer: require.Missing} {
		f.At = f.Rehearsal.BuiltAt.Add(after)
		if q := find(t, Judge(set, f), "checks/bench *@rehearsal"); q.State != want {
			t.Errorf("after %s it is %s: %s", after, q.State, q.Next)
		}
	}
}

// Paths that lie in an area but for upper and lower case are found, wherever they come from.
func TestPathsAsTheirAreasWriteThem(t *testing.T) {
	set := parsed(t, "tavrin: rules/1\nareas:\n  valves: {paths: [\"firmware/Valves/**\", \"!**/*.md\"], owners: person:odo}\nprotect:\n  - {name: trunk, branches: main, require: [{case: exact}]}\n")
	for path, want := range map[string]require.State{"firmware/Valves/a.c": require.Met, "Firmware/valves/a.c": require.Missing, "firmware/VALVES/x": require.Missing, "firmware/valves/x.md": require.Met, "other/valves/a": require.Met} {
		f := facts()
		f.Paths = []string{path}
		if q := find(t, Judge(set, f), "case"); q.State != want {
			t.Errorf("%s: %s, %s", path, q.State, q.Next)
		}
		f.Paths, f.History.Hidden = []string{"docs/x"}, []string{path}
		if q := find(t, Judge(set, f), "case"); q.State != want {
			t.Errorf("%s, by a commit alone: %s, %s", path, q.State, q.Next)
		}
	}
}

// What an area requires is read and judged as what a protection does, of changes that touch it; its approvals are its
// owners'.
func TestWhatAnAreaRequires(t *testing.T) {
	for requirement, want := range map[string]string{
		"{approvals: 2}":                          "owners/ledger missing: needs 1 more approval from an owner of ledger (team:accounts or person:pavo)",
		"{approvals: 1}":                          "owners/ledger met: ",
		"{approvals: 1, max_age: 1h}":             "owners/ledger missing: needs 1 approval from an owner of ledger (team:accounts or person:pavo)",
		"{approvals: 1, not_from: last_pusher}":   "owners/ledger missing: needs 1 approval from an owner of ledger (team:accounts or person:pavo)",
		"{approvals: 2, from: 'person:odo'}":      "approvals missing: needs 2 approvals from person:odo",
		"{approvals: 2, level: advisory}":         "owners/ledger missing: needs 1 more approval from an owner of ledger (team:accounts or person:pavo)",
		"{approvals: 2, when: {removed: '**'}}":   "approvals not-asked: ",
		"{approvals: 2, unless: {areas: ledger}}": "approvals not-asked: ",
		"{approvals: 2, unless: {areas: valves}}": "owners/ledger missing: needs 1 more approval from an owner of ledger (team:accounts or person:pavo)",
		"{checks: sums, at: head}":                "check/sums@head pending: sums not reported",
	} {
		set := parsed(t, "tavrin: rules/1\nareas:\n  ledger: {paths: 'ledger/**', owners: [team:accounts, 'person:pavo'], require: ["+requirement+"]}\n"+
			"  valves: {paths: 'firmware/**', owners: team:hydraulics, require: [{approvals: 9}]}\nprotect:\n  - {name: trunk, branches: main}\n")
		f := facts()
		f.At, f.Paths, f.LastPusher = noon, []string{"ledger/tariff.csv"}, "bela"
		f.Reviews = []change.Review{{By: "bela", Verdict: change.Approve, Revision: 2, At: noon.Add(-2 * time.Hour)}}
		r := Judge(set, f)
		q := r.Requirements[1]
		if got := fmt.Sprintf("%s %s: %s", q.Key, q.State, q.Lacks); got != want || q.Because != `"area ledger" (rules version 3, line 3)` {
			t.Errorf("%s: %s, by %s", requirement, got, q.Because)
		}
		if len(r.Requirements) != 2 {
			t.Errorf("%s: %d lines", requirement, len(r.Requirements))
		}
		wellTold(t, q)
	}
}

// A stop holds up the landing, and nothing but the landing; nobody waives it, and the summary says it.
func TestP1StopsHoldUpLandings(t *testing.T) {
	set := parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{checks: unit}], waive: role:writer, exempt: person:odo}\n")
	f := facts()
	f.Asker, f.Strategy, f.Rehearsal = "odo", change.Rebase, rehearsed(change.Check{Name: "unit", State: change.Passed, By: "barn"})
	if r := Judge(set, f); !r.Clear {
		t.Fatal(r.Summary)
	}
	f.Stops = []change.Stop{{ID: 3, Name: "harvest", Reason: "in the fields", Until: f.At.Add(time.Hour)}, {ID: 4, Hold: true, By: "ines", Reason: "the ditch floods"}}
	f.At = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	named := []change.Named{{Key: "freeze/3", Title: "main is not frozen"}, {Key: "hold/4", Title: "the queue of main is not held"}}
	f.Waivers = []change.Waiver{{ID: 1, By: "odo", Reason: "now", Revision: f.Revision, Tip: f.Rehearsal.Base, Until: f.At.Add(time.Hour), Requirements: named}}
	f.Tip = f.Rehearsal.Base
	r := Judge(set, f)
	if r.Clear || !r.Ready || len(r.Waivers) > 0 || r.Summary != "Ready, and nothing lands now: main is frozen: harvest; main is held by ines." {
		t.Errorf("clear %v, ready %v, waived %v: %s", r.Clear, r.Ready, r.Waivers, r.Summary)
	}
}

// What rests on a waiver goes first; so does what takes back a landing, where every protection that states it has it so.
func TestWhatGoesFirst(t *testing.T) {
	for _, c := range []struct {
		rules  string
		undoes int
		waived bool
		want   bool
	}{
		{"{undo_first: true}", 4, false, true}, {"{undo_first: true}", 0, false, false}, {"{undo_first: false}", 4, false, false},
		{"{drop_empty: false}", 4, false, false}, {"{drop_empty: false}", 0, true, true},
		{"{undo_first: true}}\n  - {name: other, branches: '**', land: {undo_first: false}", 4, false, false},
		{"{undo_first: true}}\n  - {name: other, branches: '**', land: {drop_empty: true}", 4, false, true},
	} {
		set := parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, land: "+c.rules+"}\n")
		f, r := facts(), Report{}
		if f.Undoes = c.undoes; c.waived {
			r.Waivers = []int64{1}
		}
		if got := GoesFirst(set, f, r); got != c.want {
			t.Errorf("%+v: %v", c, got)
		}
		f.Suspended = []change.Suspension{{Protection: "trunk"}}
		if got := GoesFirst(set, f, r); got != c.waived {
			t.Errorf("%+v, suspended: %v", c, got)
		}
	}
}

// What is kept of a landing's facts, the people with a part in them, is judged as all of them are: the number of people does not
// matter to what is decided, only to who is named as one who could act.
func TestTheRestOfThePeopleChangesNothing(t *testing.T) {
	decided := func(r Report) Report {
		for i := range r.Requirements {
			q := &r.Requirements[i]
			q.Who, q.Next, q.Steps = nil, "", nil
		}
		return r
	}
	rng := rand.New(rand.NewPCG(5, 9))
	fewer, clear := 0, 0
	for range often.Times(300) {
		doc, f := parsed(t, around+randomProtection(rng, "p1")+randomProtection(rng, "p2")), randomFacts(rng)
		for n := range 40 {
			login := fmt.Sprintf("grower-%d", n)
			f.People = beside(f.People, people.Person{Login: login, Role: people.Writer, Teams: []string{"accounts"}})
		}
		all, some := decided(JudgeInFull(doc, f)), decided(JudgeInFull(doc, f.Parts()))
		if !reflect.DeepEqual(all, some) {
			t.Fatalf("with everybody\n%+v\nand with those who have a part\n%+v", all, some)
		}
		if f.Parts().People.Len() < f.People.Len() {
			fewer++
		}
		if all.Clear {
			clear++
		}
	}
	if fewer == 0 || clear < 4 {
		t.Errorf("%d had fewer people, %d were clear: the test says little", fewer, clear)
	}
}

// beside is everybody with one more, or with that one as another.
func beside(e people.Everyone, p people.Person) people.Everyone {
	all := e.Map()
	all[p.Login] = p
	return people.Known(all)
}

// A report without what is not asked is the whole one but for those lines.
func TestBriefReportsAreTheSame(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	left := 0
	for range often.Times(300) {
		doc, f := parsed(t, around+randomProtection(rng, "p1")+randomProtection(rng, "p2")+randomProtection(rng, "p3")), randomFacts(rng)
		whole, brief := Judge(doc, f), JudgeAsked(doc, f)
		all := len(whole.Requirements)
		whole.Requirements = slices.DeleteFunc(whole.Requirements, func(q require.Outcome) bool { return q.State == require.NotAsked })
		if left += all - len(whole.Requirements); !reflect.DeepEqual(whole, brief) {
			t.Fatalf("whole\n%+v\nbrief\n%+v", whole, brief)
		}
	}
	if left < 100 {
		t.Errorf("%d lines were left out: the test says little", left)
	}
}
