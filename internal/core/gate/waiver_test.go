package gate

import (
	"math/rand/v2"
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

const waivable = `tavrin: rules/1
areas:
  valves: {paths: "firmware/**", owners: team:hydraulics, require: [{approvals: 1}]}
protect:
  - name: trunk
    branches: main
    require:
      - approvals: 1
      - checks: [unit]
    land: {who: team:hydraulics}
    waive: team:duty
  - name: floor
    branches: main
    require:
      - objections: none
  - name: releases
    branches: release/**
    land: {who: team:hydraulics}
    waive: team:duty
  - name: stewards
    branches: release/**
    land: {who: role:maintainer}
`

// waived are facts of a change that lacks everything, with bela on duty and a waiver of hers.
func waived() change.Facts {
	f := facts()
	f.Reviews = []change.Review{{By: "odo", Verdict: change.Object, Revision: 2}}
	f.Paths = []string{"firmware/a"}
	f.At = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	f.Tip = strings.Repeat("c", 40)
	f.People = beside(f.People, people.Person{Login: "bela", Role: people.Writer, Teams: []string{"duty"}})
	f.Waivers = []change.Waiver{{ID: 4, By: "bela", Reason: "the fields are flooding", Revision: 2, Tip: f.Tip, Until: f.At.Add(time.Hour),
		Requirements: []change.Named{{Key: "approvals", Title: "1 approval"}, {Key: "check/unit@rehearsal", Title: "check unit passes on the rehearsal"}, {Key: "objections", Title: "no open objection"}}}}
	return f
}

func TestP1WaiverSetsAsideWhatItNamesAndNothingElse(t *testing.T) {
	cases := []struct {
		name   string
		change func(*change.Facts)
		waives string // keys that are waived
	}{
		{"what the right covers", func(*change.Facts) {}, "approvals check/unit@rehearsal"},
		{"expired", func(f *change.Facts) { f.At = f.At.Add(time.Hour) }, ""},
		{"another revision", func(f *change.Facts) { f.Revision = 3 }, ""},
		{"the target moved on", func(f *change.Facts) { f.Tip = strings.Repeat("d", 40) }, ""},
		{"rehearsed on another tip", func(f *change.Facts) { f.Rehearsal = rehearsed(); f.Rehearsal.Base = strings.Repeat("d", 40) }, ""},
		{"rehearsed on the same tip", func(f *change.Facts) { f.Rehearsal = rehearsed() }, "approvals check/unit@rehearsal"},
		{"the right was taken away", func(f *change.Facts) { f.People = beside(f.People, people.Person{Login: "bela", Role: people.Writer}) }, ""},
		{"may only read", func(f *change.Facts) {
			f.People = beside(f.People, people.Person{Login: "bela", Role: people.Reader, Teams: []string{"duty"}})
		}, ""},
		{"a robot", func(f *change.Facts) {
			f.People = beside(f.People, people.Person{Login: "bela", Role: people.Writer, Robot: true, Teams: []string{"duty"}})
		}, ""},
		{"asks something else by now", func(f *change.Facts) { f.Waivers[0].Requirements[0].Title = "2 approvals" }, "check/unit@rehearsal"},
		{"what holds stays met", func(f *change.Facts) {
			f.Reviews = append(f.Reviews, change.Review{By: "wren", Verdict: change.Approve, Revision: 2})
		}, "check/unit@rehearsal"},
		{"what every change needs", func(f *change.Facts) {
			f.State = "draft"
			f.Waivers[0].Requirements = []change.Named{{Key: "open", Title: "the change is open"}}
		}, ""},
		{"who may land", func(f *change.Facts) {
			f.Asker, f.Strategy = "bela", change.Rebase
			f.Waivers[0].Requirements = []change.Named{{Key: "lander", Title: "bela may land"}}
		}, "lander"},
		{"who may land, where two say no and one gives the right", func(f *change.Facts) {
			f.Asker, f.Strategy = "bela", change.Rebase
			f.Target = "release/1"
			f.Waivers[0].Requirements = []change.Named{{Key: "lander", Title: "bela may land"}}
		}, ""},
		{"an area's ask, while one protection gives no right", func(f *change.Facts) {
			f.Waivers[0].Requirements = []change.Named{{Key: "owners/valves", Title: "1 approval by an owner of valves"}}
		}, ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f := waived()
			c.change(&f)
			r := Judge(parsed(t, waivable), f)
			var waives []string
			for _, q := range r.Requirements {
				if q.State == require.Waived {
					waives = append(waives, q.Key)
				}
			}
			if got := strings.Join(waives, " "); got != c.waives {
				t.Errorf("waived: %q, not %q", got, c.waives)
			}
			if used := slices.Contains(r.Waivers, 4); used != (c.waives != "") {
				t.Errorf("the report names waivers %v", r.Waivers)
			}
		})
	}
}

func TestWaiverOfAnAreasAsk(t *testing.T) {
	f := waived()
	f.Waivers[0].Requirements = []change.Named{{Key: "owners/valves", Title: "1 approval by an owner of valves"}}
	doc := strings.Replace(waivable, "require: [{approvals: 1}]", "require: [{approvals: 1}], waive: team:duty", 1)
	if q := find(t, Judge(parsed(t, doc), f), "owners/valves"); q.State != require.Waived || !strings.Contains(q.Next, "the fields are flooding") {
		t.Errorf("the area allows it, and the ask is %+v", q)
	}
	// No protection opens what an area asks.
	doc = waivable + "  - {name: more, branches: \"**\", push: nobody, waive: role:reader}\n"
	if q := find(t, Judge(parsed(t, doc), f), "owners/valves"); q.State != require.Missing {
		t.Errorf("a protection opens it: %+v", q)
	}
}

func TestWaivableSaysWhyNot(t *testing.T) {
	f := waived()
	f.Waivers = nil
	why := func(login string) map[string]string {
		out := map[string]string{}
		for _, s := range Waivable(parsed(t, waivable), f, login) {
			out[s.Key] = s.Why
		}
		return out
	}
	bela := why("bela")
	if bela["approvals"] != "" || !strings.Contains(bela["objections"], `"floor" (rules version 3, line 15), which asks "no open objection", gives the right to nobody`) {
		t.Errorf("for bela: %q", bela)
	}
	if odo := why("odo"); !strings.Contains(odo["approvals"], "gives the right to team:duty") {
		t.Errorf("for odo: %q", odo)
	}
	if pavo := why("pavo"); !strings.Contains(pavo["approvals"], "pavo may not write here") {
		t.Errorf("for pavo: %q", pavo)
	}
}

// Whatever is waived, taking the waiver away never makes more hold, and nothing but what it names changes.
func TestP1WaiversOnlyTouchWhatTheyName(t *testing.T) {
	rng := rand.New(rand.NewPCG(21, 22))
	opened := 0
	for range often.Times(500) {
		f := randomFacts(rng)
		doc := parsed(t, around+randomProtection(rng, "p1")+randomProtection(rng, "p2"))
		f.Waivers, f.Tip = nil, ""
		before := Judge(doc, f)
		o := change.Waiver{ID: 1, By: []string{"odo", "bela", "wren"}[rng.IntN(3)], Revision: 2, Tip: f.Rehearsal.Base, Until: f.At.Add(time.Minute)}
		for _, q := range before.Requirements {
			if rng.IntN(2) == 0 {
				o.Requirements = append(o.Requirements, change.Named{Key: q.Key, Title: q.Title})
			}
		}
		f.Waivers = []change.Waiver{o}
		after := Judge(doc, f)
		for i, q := range after.Requirements {
			was := before.Requirements[i]
			named := slices.Contains(o.Requirements, change.Named{Key: was.Key, Title: was.Title})
			if q.State != was.State && (!named || was.Holds() || q.State != require.Waived || len(was.Sources) == 0) {
				t.Fatalf("%+v became %+v by %+v", was, q, o)
			}
		}
		if before.Clear && !after.Clear || before.Ready && !after.Ready {
			t.Fatalf("a waiver shut a gate: %+v", o)
		}
		if after.Clear && !before.Clear {
			opened++
		}
	}
	if opened < 10 {
		t.Errorf("waivers opened %d gates: the test says little", opened)
	}
}

// What an area of a document asks may be waived only where that document itself protects the branch and says so: the
// right given by another document is not enough.
func TestWaiverOfAnAreaThatNoProtectionOfItsDocumentCovers(t *testing.T) {
	read := func(text string, house bool) *rules.Document {
		d, findings := rules.Under{OfHouse: house}.Parse(text)
		if findings != nil {
			t.Fatal(findings)
		}
		return d
	}
	house := read("tavrin: rules/1\nareas: {valves: {paths: firmware/**, owners: team:hydraulics, require: [{approvals: 1}]}}\n", true)
	own := read("tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, waive: team:duty}\n", false)
	f := waived()
	f.Waivers[0].Requirements = []change.Named{{Key: "owners/valves", Title: "1 approval by an owner of valves (house growers)"}}
	set := rules.NewSet(f.Repository, rules.Layer{Document: house, Of: "house growers", Version: 2}, rules.Layer{Document: own, Version: 3})
	if q := find(t, Judge(set, f), "owners/valves"); q.State != require.Missing || q.Title != "1 approval by an owner of valves (house growers)" {
		t.Errorf("it is %+v", q)
	}
	for _, s := range Waivable(set, f, "bela") {
		if s.Key == "owners/valves" && !strings.Contains(s.Why, "gives the right to nobody") {
			t.Errorf("why not: %q", s.Why)
		}
	}
}
