package guard

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
	"tavrin/internal/often"
)

// draw draws one of some texts.
func draw[T any](rng *rand.Rand, texts ...T) T { return texts[rng.IntN(len(texts))] }

// part is one entry of a made-up document: its name, and its settings by key. A key that is empty is not stated.
type part struct {
	name string
	keys map[string]string
}

// sketch is a made-up document, of which single settings can be altered.
type sketch struct {
	house                        bool
	kinds, labels, areas, checks []part
	protections                  []part
	requirements                 map[string][]string // by protection
	changes                      string              // what descriptions begin with
}

// Values are drawn so that some of them look like others and are not.
var (
	branchLists = []string{"main", "dev", "[main, dev]", "[dev, main]", `["main,dev"]`, "trunk", "[trunk, line]", "'**'", `['**', '!dev']`, `['**', '!line']`, "'release/*'", "line"}
	pathLists   = []string{"'**'", "ledger/**", "[ledger/**, docs/**]", `["ledger/**,docs/**"]`, "['**', '!docs/**']", "firmware/**"}
	somebody    = []string{"role:writer", "team:accounts", "'team:hydraulics'", "['person:odo', 'team:accounts']", "person:wren", "role:maintainer"}
	demands     = []string{"approvals: 1", "approvals: 2", "approvals: 1, own: counts", "approvals: 1, not_from: last_pusher", "approvals: 1, not_from: last_pusher, own: counts", "approvals: 1, on: newest_revision", "approvals: 1, from: team:accounts",
		"approvals: 1, from: ['team:accounts', 'person:odo']", "owners: every touched area", "objections: none", "threads: resolved", "threads: resolved, resolved_by: team:accounts", "tasks: done",
		"ticket: 'FEN-[0-9]'", "ticket: 'FEN-[0-9]', in: title", "ticket: 'FEN-[0-9]', tracker: exists", "ticket: 'FEN-[0-9]', tracker: open", "ticket: 'FEN-[0-9]', tracker: open, max_age: 2h", "ticket: 'FEN-[0-9]', in: title, tracker: open", "fixups: none", "history: linear", "messages: '^[a-z]+: '", "signed: every commit", "checks: unit", "checks: lint", "checks: 'u*'", "checks: [unit, lint]",
		`checks: "unit*lint"`, "checks: [unit, lint], at_least: 1", "checks: [unit, lint], at_least: 1, skipped: counts", "checks: unit, skipped: counts", "checks: unit, max_age: 2h", "checks: unit, max_age: 1h",
		"checks: unit, reported_by: robot:barn", "checks: unit, at: head", "checks: unit, at: [head, rehearsal]", "deployment: field", "case: exact",
		"approvals: 1, max_age: 12h", "owners: every touched area, not_from: last_pusher", "owners: every touched area, max_age: 12h", "revision_age: 2h", "revision_age: 4h",
		"queued_by: not an author", "size: at most 100 lines", "size: at most 50 lines and 1 files", "signed_off: every commit", "already_on: dev", "already_on: [main, line]", "tip: green"}
	conditions = []string{"lines: over 10", "lines: over 100", "paths: docs/**", "paths: [docs/**, ledger/**]", `paths: ["docs/**,ledger/**"]`, "areas: ledger", "source: line", "source: topic", "source: ['**', '!line']",
		"author: team:accounts", "label: urgent", "cel: 'size(areas) < 2'", `cel: '!("urgent" in labels)'`, "cel: 'files > 1'", "added: docs/**", "removed: '**'", "renamed: '**', lines: over 10", "cel: 'size(files_added) > 0'", "author: 'robot:barn'", "undoes: a landing"}
	levels = []string{"", "", "", ", level: advisory"}
	called = []string{"", "", ", called: many eyes"}
)

func requirement(rng *rand.Rand) string {
	text := draw(rng, demands...) + draw(rng, levels...) + draw(rng, called...)
	if rng.IntN(3) == 0 {
		text += ", when: {" + draw(rng, conditions...) + "}"
	}
	if rng.IntN(5) == 0 {
		text += ", unless: {" + draw(rng, conditions...) + "}"
	}
	return text
}

// value draws a value of a key; empty: it is not stated.
func value(rng *rand.Rand, key string) string {
	switch key {
	case "branches":
		return draw(rng, branchLists...)
	case "push", "create", "waive", "exempt":
		return draw(rng, append([]string{"", "", "", "nobody"}, somebody...)...)
	case "tags":
		return draw(rng, "v*", "'*'", "[v*, w*]", "w*")
	case "create_from":
		return draw(rng, append([]string{"", "", ""}, branchLists...)...)
	case "rewrite", "delete":
		return draw(rng, "", "", "never", "allowed")
	case "after_push":
		return draw(rng, "", "{approvals_stay: never}", "{approvals_stay: always}", "{objections_stay: never}", "{objections_stay: if_unchanged, approvals_stay: if_unchanged}")
	case "land":
		return draw(rng, "", "", "", "{strategies: [rebase]}", "{strategies: [squash, merge]}", "{who: team:accounts}", "{default: squash}", "{message: 'docs: {title}'}", "{drop_empty: false}", "{join_early: false}", "{trailers: 'Told-by: {author}'}", "{trailers: ['docs: {title}', 'Told-by: {author}']}")
	case "changes":
		return draw(rng, "", "", "'- [ ] tried'", "'- [x] tried'", "FEN-1", "'docs: as the rules say'")
	case "repositories", "area repositories":
		return draw(rng, "", "", "irrigation", "[irrigation, ledger]", `["irrigation,ledger"]`, "['**', '!irrigation']")
	case "paths":
		return draw(rng, pathLists...)
	case "owners", "set_by":
		return draw(rng, somebody...)
	case "area require":
		return draw(rng, "", "[{approvals: 1}]", "[{approvals: 2}]", "[{approvals: 1}, {checks: bench}]", "[{checks: bench}]",
			"[{approvals: 1, not_from: last_pusher}]", "[{approvals: 2, unless: {paths: 'docs/**'}}]", "[{approvals: 1, max_age: 12h}]")
	case "area waive":
		return draw(rng, "", "", "role:writer")
	case "globs":
		return draw(rng, "main", "dev", "[main, dev]", `["main,dev"]`, "hotfix/**", "topic")
	case "check":
		return draw(rng, "{}", "{command: make}", "{reported_by: robot:barn}", "{max_age: 1h}", "{kind: deployment, environment: field}", "{command: make, max_age: 2h}", "{command: make, sees: tree}", "{command: make, sees: commit}", "{timeout: 2h}")
	}
	panic(key)
}

var protectionKeys = []string{"branches", "tags", "push", "create", "create_from", "rewrite", "delete", "waive", "exempt", "after_push", "land", "repositories"}

func (s *sketch) protection(rng *rand.Rand, name string) {
	p := part{name, map[string]string{}}
	for _, key := range protectionKeys {
		if key == "branches" || key != "tags" && key != "repositories" && rng.IntN(3) == 0 || key == "repositories" && s.house {
			p.keys[key] = value(rng, key)
		}
	}
	if rng.IntN(5) == 0 { // of tags
		p.keys = map[string]string{"tags": draw(rng, "v*", "'*'", "[v*, w*]", "w*"), "create": value(rng, "create"), "rewrite": value(rng, "rewrite"),
			"delete": value(rng, "delete"), "exempt": value(rng, "exempt")}
		s.protections = append(s.protections, p)
		if rng.IntN(2) == 0 {
			s.requirements[name] = []string{"signed: every tag"}
		}
		return
	}
	s.protections = append(s.protections, p)
	for range rng.IntN(4) {
		s.requirements[name] = append(s.requirements[name], requirement(rng))
	}
}

func made(rng *rand.Rand, house bool) *sketch {
	s := &sketch{house: house, requirements: map[string][]string{}}
	prefix := map[bool]string{true: "h", false: "r"}[house]
	if house || rng.IntN(2) == 0 {
		s.kinds = append(s.kinds, part{map[bool]string{true: "trunk", false: "line"}[house], map[string]string{"globs": value(rng, "globs")}})
	}
	if house || rng.IntN(6) == 0 {
		s.labels = append(s.labels, part{map[bool]string{true: "urgent", false: "late"}[house], map[string]string{"set_by": value(rng, "set_by")}})
	}
	for i, name := range map[bool][]string{true: {"ledger", "valves"}, false: {"plots", "pumps"}}[house] {
		if house && i == 0 || rng.IntN(2) == 0 {
			s.areas = append(s.areas, part{name, map[string]string{"paths": value(rng, "paths"), "owners": value(rng, "owners"), "area require": value(rng, "area require"), "area waive": value(rng, "area waive")}})
			if house {
				s.areas[len(s.areas)-1].keys["area repositories"] = value(rng, "area repositories")
			}
		}
	}
	for _, name := range map[bool][]string{true: {"unit", "trial"}, false: {"lint", "bench", "unitlint"}}[house] {
		if rng.IntN(3) == 0 {
			s.checks = append(s.checks, part{name, map[string]string{"check": value(rng, "check")}})
		}
	}
	for i := range 1 + rng.IntN(2) {
		s.protection(rng, fmt.Sprint(prefix, i))
	}
	s.changes = value(rng, "changes")
	return s
}

func (s *sketch) copy() *sketch {
	c := *s
	for _, list := range []*[]part{&c.kinds, &c.labels, &c.areas, &c.checks, &c.protections} {
		*list = slices.Clone(*list)
		for i := range *list {
			keys := map[string]string{}
			for k, v := range (*list)[i].keys {
				keys[k] = v
			}
			(*list)[i].keys = keys
		}
	}
	c.requirements = map[string][]string{}
	for k, v := range s.requirements {
		c.requirements[k] = slices.Clone(v)
	}
	return &c
}

// altered is the sketch after one edit: a setting, a requirement or an entry more, less or another.
func (s *sketch) altered(rng *rand.Rand) *sketch {
	c := s.copy()
	p := &c.protections[rng.IntN(len(c.protections))]
	switch rng.IntN(11) {
	case 0, 1:
		c.protection(rng, fmt.Sprint("new", rng.IntN(3), len(c.protections)))
	case 2, 3:
		keys := protectionKeys
		if !s.house {
			keys = keys[:len(keys)-1]
		}
		key := draw(rng, keys...)
		if (key == "tags") != (p.keys["tags"] != "") && (key == "tags" || key == "branches") {
			key = "create"
		}
		p.keys[key] = value(rng, key)
	case 4:
		c.requirements[p.name] = append(c.requirements[p.name], requirement(rng))
	case 5:
		if list := c.requirements[p.name]; len(list) > 0 {
			list[rng.IntN(len(list))] = requirement(rng)
		}
	case 6: // near: the same with one word more or less
		if list := c.requirements[p.name]; len(list) > 0 {
			i := rng.IntN(len(list))
			list[i] = strings.Replace(list[i], draw(rng, "approvals: 1", ", level: advisory", ", called: many eyes", "unit", "docs/**,ledger/**", "max_age: 1h"), draw(rng, "approvals: 2", "", "unit", "docs/**, ledger/**", "max_age: 2h"), 1)
		}
	case 7:
		lists := []*[]part{&c.kinds, &c.labels, &c.areas, &c.checks}
		list := lists[rng.IntN(len(lists))]
		if len(*list) > 0 {
			one := (*list)[rng.IntN(len(*list))]
			for key := range one.keys {
				if rng.IntN(2) == 0 {
					one.keys[key] = value(rng, key)
				}
			}
		}
	case 8: // one entry less
		lists := []*[]part{&c.kinds, &c.labels, &c.areas, &c.checks, &c.protections}
		if list := lists[rng.IntN(len(lists))]; len(*list) > 0 {
			i := rng.IntN(len(*list))
			*list = slices.Delete(slices.Clone(*list), i, i+1)
		}
	case 9:
		c.changes = value(rng, "changes")
	default:
		other := made(rng, s.house != (rng.IntN(4) == 0)) // now and then names that the other document has
		switch rng.IntN(4) {
		case 0:
			c.areas = other.areas
		case 1:
			c.checks = other.checks
		case 2:
			c.labels = other.labels
		default:
			c.kinds = other.kinds
		}
	}
	return c
}

// text writes the document.
func (s *sketch) text() string {
	var b strings.Builder
	b.WriteString("tavrin: rules/1\n")
	section := func(name string, list []part, line func(part) string) {
		if len(list) > 0 {
			b.WriteString(name + ":\n")
		}
		for _, p := range list {
			b.WriteString(line(p))
		}
	}
	section("branches", s.kinds, func(p part) string { return fmt.Sprintf("  %s: %s\n", p.name, p.keys["globs"]) })
	section("labels", s.labels, func(p part) string { return fmt.Sprintf("  %s: {set_by: %s}\n", p.name, p.keys["set_by"]) })
	section("areas", s.areas, func(p part) string {
		text := fmt.Sprintf("  %s:\n    paths: %s\n    owners: %s\n", p.name, p.keys["paths"], p.keys["owners"])
		if list := p.keys["area require"]; list != "" {
			text += "    require: " + list + "\n"
		}
		if who := p.keys["area waive"]; who != "" {
			text += "    waive: " + who + "\n"
		}
		if names := p.keys["area repositories"]; names != "" {
			text += "    repositories: " + names + "\n"
		}
		return text
	})
	section("checks", s.checks, func(p part) string { return fmt.Sprintf("  %s: %s\n", p.name, p.keys["check"]) })
	if s.changes != "" {
		fmt.Fprintf(&b, "changes: {description: %s}\n", s.changes)
	}
	section("protect", s.protections, func(p part) string {
		text := fmt.Sprintf("  - name: %s\n", p.name)
		for _, key := range protectionKeys {
			if v := p.keys[key]; v != "" {
				text += fmt.Sprintf("    %s: %s\n", key, v)
			}
		}
		if list := s.requirements[p.name]; len(list) > 0 {
			text += "    require:\n"
			for _, r := range list {
				text += "      - {" + r + "}\n"
			}
		}
		return text
	})
	return b.String()
}

var moment = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

var town = people.Known(map[string]people.Person{
	"odo": {Role: people.Writer, Teams: []string{"hydraulics"}}, "wren": {Role: people.Writer}, "bela": {Role: people.Writer, Teams: []string{"accounts"}},
	"ines": {Role: people.Maintainer}, "tamsin": {Role: people.Writer}, "pavo": {Role: people.Reader, Teams: []string{"accounts"}}, "barn": {Role: people.Writer, Robot: true},
})

// signedOffBy is a message with its author's sign-off.
const signedOffBy = "docs: a\n\nSigned-off-by: Tamsin <tamsin@fennmoor.example>"

// landing is a change that somebody has asked to land, and everything about it by chance, most of it well.
func landing(rng *rand.Rand) change.Facts {
	rarely := func() bool { return rng.IntN(6) == 0 }
	f := change.Facts{Repository: "growers/irrigation", Number: 7, State: "open", Title: draw(rng, "docs: FEN-1 water", "water"), Tracker: draw(rng, "", "tickets.example"), Description: draw(rng, "", "- [ ] tried", "- [x] tried"), Source: draw(rng, "topic", "hotfix/1", "dev"),
		Target: draw(rng, "main", "main", "dev", "release/1"), Revision: 2, Opener: "tamsin", Authors: []string{"tamsin"}, LastPusher: draw(rng, "tamsin", "odo"), People: town, At: moment,
		Paths: [][]string{{"docs/a"}, {"ledger/a"}, {"firmware/a", "docs/b"}, {"Ledger/a"}}[rng.IntN(4)], Added: []int{2, 20, 200}[rng.IntN(3)], Files: 1 + rng.IntN(2)}
	if rng.IntN(4) == 0 {
		f.Undoes = 3
	}
	if rarely() {
		f.RedTip = []change.Check{{Name: "lint", State: change.Failed}}
	}
	for _, by := range []string{"odo", "bela", "wren", "ines", "pavo", "tamsin"} {
		if rng.IntN(3) > 0 {
			r := change.Review{By: by, Verdict: change.Approve, Revision: 2}
			if rarely() {
				r.Verdict = change.Object
			}
			r.At = moment.Add(-time.Duration(1+rng.IntN(20)) * time.Hour)
			if rarely() {
				r.Revision, r.SameDifference = 1, rng.IntN(2) == 0
			}
			f.Reviews = append(f.Reviews, r)
		}
	}
	f.Tickets = []change.Ticket{{Name: "FEN-1", State: change.TicketState(draw(rng, "", "open", "open", "closed", "none")), At: moment.Add(-time.Duration(rng.IntN(4)) * time.Hour)}}
	f.PushedAt = moment.Add(-time.Duration(rng.IntN(8)) * time.Hour)
	for i, p := range f.Paths {
		switch rng.IntN(3 + i) {
		case 0:
			f.Ways.Added = append(f.Ways.Added, p)
		case 1:
			f.Ways.Removed = append(f.Ways.Removed, p)
		case 2:
			f.Ways.Renamed = append(f.Ways.Renamed, p)
		}
	}
	check := func(name string) change.Check {
		c := change.Check{Name: name, State: change.Passed, By: draw(rng, "barn", "barn", "other"), Runner: rng.IntN(2) == 0, At: moment.Add(-time.Duration(rng.IntN(3)*45) * time.Minute)}
		if rarely() {
			c.State = change.CheckState(draw(rng, "failed", "skipped", "running", ""))
		}
		return c
	}
	f.HeadChecks = []change.Check{check("unit"), check("lint")}
	f.Rehearsal = &change.Rehearsal{Commit: "c", Base: "b", Checks: []change.Check{check("unit"), check("lint"), check("bench"), check("trial")}, BuiltAt: moment.Add(-time.Minute)}
	f.Commits = []change.Commit{{ID: "1", Message: draw(rng, "docs: FEN-1 a", "a", "fixup! a", "docs: a", signedOffBy), Parents: 1,
		Email: "tamsin@fennmoor.example", On: draw(rng, nil, nil, []string{"dev"}, []string{"main"})}}
	if rarely() {
		f.Commits[0].Parents = 2
	}
	if rng.IntN(2) == 0 {
		f.Commits[0].Signature = change.Signature{State: change.Good, By: "tamsin"}
	}
	if rarely() {
		f.Labels = []string{"urgent"}
	}
	if rarely() {
		f.Threads = []change.Thread{{ID: 1, By: "odo", Where: "the change", ResolvedBy: draw(rng, "", "odo", "bela")}}
	}
	f.Asker, f.Strategy, f.Message = draw(rng, "odo", "wren", "bela", "ines"), change.Strategies[rng.IntN(len(change.Strategies))], draw(rng, "", "", "docs: as typed")
	return f
}

// move is a push of one branch, by chance.
func move(rng *rand.Rand) (Update, string) {
	u := Update{Ref: "refs/heads/" + draw(rng, "main", "dev", "release/1", "hotfix/1"), Old: strings.Repeat("a", 40), New: strings.Repeat("b", 40), Forward: rng.IntN(3) > 0}
	if rng.IntN(6) == 0 {
		u.Ref = "refs/tags/" + draw(rng, "v1", "w1")
		if rng.IntN(2) == 0 {
			u.Tag = change.Tag{ID: u.New, Signature: change.Signature{State: draw(rng, change.Good, change.Unsigned), By: "odo"}}
		}
	}
	switch rng.IntN(4) {
	case 0, 1:
		u.Old = ""
		for _, b := range []string{"main", "dev", "topic", "release/2"} {
			if rng.IntN(3) == 0 {
				u.Held = append(u.Held, b)
			}
		}
	case 2:
		u.New = ""
	}
	if rng.IntN(2) == 0 {
		u.Commits = []change.Commit{{ID: "1", Message: draw(rng, "docs: a", "a", signedOffBy), Parents: 1 + rng.IntN(2), Email: "tamsin@fennmoor.example"}}
	}
	return u, draw(rng, "odo", "wren", "bela", "ines", "tamsin")
}

// What Compare lets pass without saying that it loosens lets nothing pass that did not: no landing, no push, and nothing that is
// waived by those who may. That holds for what is added as for what is altered, in a house's document and in a repository's
// (principle 1, P8).
func TestP8NoLooseningHides(t *testing.T) {
	seed := rand.Uint64()
	rng := rand.New(rand.NewPCG(21, 22))
	if often.Times(1) > 1 {
		rng = rand.New(rand.NewPCG(seed, 1))
	}
	why := map[string]int{}
	quiet, said, cleared, stopped, unread := 0, 0, 0, 0, 0
	for range often.Times(150) {
		house, own := made(rng, true), made(rng, false)
		houseNow, ownNow := house, own
		if rng.IntN(2) == 0 {
			houseNow = house.altered(rng)
		} else {
			ownNow = own.altered(rng)
		}
		read := func(h, o *sketch) (*rules.Document, *rules.Document) {
			hd, found := rules.Under{OfHouse: true}.Parse(h.text())
			if len(found) > 0 {
				why[found[0].Message]++
				return nil, nil
			}
			od, found := rules.Under{House: hd, Redefined: h != house}.Parse(o.text())
			if len(found) > 0 {
				why[found[0].Message]++
				return nil, nil
			}
			return hd, od
		}
		h1, o1 := read(house, own)
		h2, o2 := read(houseNow, ownNow)
		if h1 == nil || h2 == nil {
			unread++
			continue
		}
		var differences []rules.Difference
		if houseNow != house {
			if refusedByUse(o1, o2) {
				continue
			}
			differences = rules.Compare(h1, h2, o1)
		} else {
			differences = rules.Compare(o1, o2, h1)
		}
		if rules.Loosens(differences) {
			said++
			continue
		}
		quiet++
		was := rules.NewSet("growers/irrigation", rules.Layer{Document: h1, Of: "house growers", Version: 1}, rules.Layer{Document: o1, Version: 1})
		now := rules.NewSet("growers/irrigation", rules.Layer{Document: h2, Of: "house growers", Version: 2}, rules.Layer{Document: o2, Version: 2})
		if rng.IntN(5) == 0 { // one protection is out of force for a time, before and after
			out := []change.Suspension{{Document: draw(rng, "", "house growers"), Protection: draw(rng, "h0", "r0", "new01"), Until: moment.Add(time.Hour)}}
			was, now = was.Without(out), now.Without(out)
		}
		tell := func(what string) {
			t.Fatalf("%s (seed %d)\nhouse:\n%s\nnow:\n%s\nrepository:\n%s\nnow:\n%s\ndifferences: %+v", what, seed, house.text(), houseNow.text(), own.text(), ownNow.text(), differences)
		}
		for range 40 {
			f := landing(rng)
			// What nobody has said, the rules say: the description of an author who gave none, and the strategy.
			plain, unsaid := rng.IntN(4) == 0, rng.IntN(4) == 0
			say := func(set *rules.Set) {
				if plain {
					f.Description = set.Description()
				}
				if unsaid {
					f.Strategy, _, _ = set.For(f.Target).Choose("")
				}
			}
			say(now)
			if f.Strategy == "" {
				continue // nothing can be asked to land
			}
			b := gate.Judge(now, f)
			if rng.IntN(3) == 0 { // somebody waives all that is missing now, as far as they may
				o := change.Waiver{ID: 1, By: f.Asker, Reason: "it floods", Revision: 2, Tip: "b", Until: moment.Add(time.Hour)}
				for _, q := range b.Requirements {
					if !q.Holds() {
						o.Requirements = append(o.Requirements, change.Named{Key: q.Key, Title: q.Title})
					}
				}
				f.Waivers = []change.Waiver{o}
				b = gate.Judge(now, f)
			}
			say(was)
			if f.Strategy == "" {
				f.Strategy = change.Merge // they had to choose, and may have chosen the strictest
			}
			a := gate.Judge(was, f)
			if len(f.Waivers) > 0 && b.Clear && !a.Clear { // the same right, used on what was missing then
				for _, q := range a.Requirements {
					if !q.Holds() {
						f.Waivers[0].Requirements = append(f.Waivers[0].Requirements, change.Named{Key: q.Key, Title: q.Title})
					}
				}
				a = gate.Judge(was, f)
			}
			if b.Clear && !a.Clear {
				tell(fmt.Sprintf("a landing passes now that did not: %+v\nwas %+v\nnow %+v", f, a.Requirements, b.Requirements))
			}
			if b.Clear {
				cleared++
			} else if a.Clear {
				stopped++
			}
			u, by := move(rng)
			pusher, _ := town.Of(by)
			pusher.Login = by
			facts := func(set *rules.Set) Facts {
				return Facts{Repository: "growers/irrigation", Pusher: pusher, People: town, Rules: set, Default: "main", Taken: map[string]string{}}
			}
			if Judge(u, facts(now)).Allowed && !Judge(u, facts(was)).Allowed {
				tell(fmt.Sprintf("a push passes now that did not: %+v by %s: %v", u, by, Judge(u, facts(was)).Lines))
			}
		}
	}
	t.Logf("%v", why)
	t.Logf("%d landings and as many pushes are judged", 40*quiet)
	t.Logf("%d pairs pass as no loosening, %d loosen, %d cannot be read; %d landings pass, %d are stopped", quiet, said, unread, cleared, stopped)
	if quiet < 20 || said < 20 || cleared < 50 || stopped < 20 {
		t.Errorf("%d pairs pass as no loosening, %d loosen; %d landings pass and %d are stopped: the test says little", quiet, said, cleared, stopped)
	}
}

// refusedByUse says whether a house's document would be refused, since a word that a repository uses would come to stand for
// something else.
func refusedByUse(was, now *rules.Document) bool {
	for word, stood := range was.Used {
		if !slices.Equal(stood, now.Used[word]) {
			return true
		}
	}
	return false
}
