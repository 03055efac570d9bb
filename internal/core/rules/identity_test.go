package rules

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/core/glob"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/require"
	"tavrin/internal/often"
)

// meaning writes what a document says in another way than the comparison does: field by field, by reflection, so that a field
// that is added is part of it without a word here. Lists are sets. What is left out is no part of what is said: where something
// stands, what it is called, what was made of the fields.
func meaning(v reflect.Value) string {
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return "nothing"
		}
		if v.Type() == reflect.TypeFor[*regexp.Regexp]() {
			return v.Elem().FieldByName("expr").String()
		}
		return meaning(v.Elem())
	case reflect.Interface:
		return meaning(v.Elem())
	case reflect.Map:
		if v.Type() == reflect.TypeFor[grammar.LineNumbers]() {
			return ""
		}
	case reflect.Slice:
		parts := []string{}
		for i := range v.Len() {
			parts = append(parts, framed(meaning(v.Index(i))))
		}
		slices.Sort(parts)
		return strings.Join(slices.Compact(parts), "")
	case reflect.Struct:
		switch v.Type() {
		case reflect.TypeFor[glob.List]():
			l, _ := reflect.TypeAssert[glob.List](v)
			return grammar.Set(l.Texts())
		case reflect.TypeFor[require.Kind]():
			return v.FieldByName("Name").String()
		}
		var parts []string
		for i := range v.NumField() {
			if name := v.Type().Field(i).Name; !slices.Contains(unsaid, name) {
				parts = append(parts, name+framed(meaning(v.Field(i))))
			}
		}
		return strings.Join(parts, "")
	}
	return fmt.Sprint(v)
}

// framed writes a text so that it cannot run into the next one.
func framed(text string) string { return fmt.Sprintf("<%d %s>", len(text), text) }

// unsaid are the fields that are no part of what a document says: places in the text, titles and examples, words in whose place
// that stands what they mean, and what is made of other fields.
var unsaid = []string{"Line", "lines", "Called", "example", "SourceText", "FromText", "fromStands", "stands", "text", "hint", "ofOwners", "on", "key", "Used", "program", "glob", "many"}

// said is the meaning of a document, with what the absence of a setting means in its place.
func said(d *Document) string {
	c := *d
	c.Lines = 0
	c.Protections = slices.Clone(d.Protections)
	for i := range c.Protections {
		p := &c.Protections[i]
		p.Text, p.From, p.With, p.Create = nil, p.HeldBy(), p.allows(), creators(p)
		p.Queue.Planner, p.Queue.OnPush = cmp.Or(p.Queue.Planner, queue.Adaptive), cmp.Or(p.Queue.OnPush, queue.Stays)
		if p.UndoFirst == nil {
			no := false
			p.UndoFirst = &no
		}
		if p.DropEmpty == nil {
			yes := true
			p.DropEmpty = &yes
		}
		if p.JoinEarly == nil {
			yes := true
			p.JoinEarly = &yes
		}
	}
	return meaning(reflect.ValueOf(c))
}

// two holds two readable documents against each other: they compare as equal exactly when they say the same; and requirements of
// theirs are taken for one exactly when they ask the same. It says whether the documents could be read.
func two(t *testing.T, one, other string, ofHouse bool) (read, same bool) {
	b, found := Under{OfHouse: ofHouse}.Parse(other)
	if found != nil {
		return false, false
	}
	a, found := Under{OfHouse: ofHouse}.Parse(one)
	if found != nil {
		return false, false
	}
	differences := Compare(a, b)
	if same = said(a) == said(b); same != (len(differences) == 0) {
		t.Fatalf("they say the same: %v\n%s\n---\n%s\ndifferences: %+v", same, one, other, differences)
	}
	var all []require.Requirement
	for _, d := range []*Document{a, b} {
		for _, p := range d.Protections {
			all = append(all, p.Require...)
		}
	}
	asks := make([]string, len(all))
	for i, r := range all {
		r.Level = require.Required
		asks[i] = meaning(reflect.ValueOf(r))
		for j := range i {
			if (asks[i] == asks[j]) != all[i].SameAs(&all[j]) {
				t.Fatalf("taken for one: %v\n%s\n%s", all[i].SameAs(&all[j]), asks[i], asks[j])
			}
		}
	}
	return true, same
}

// spoken holds every setting.
const spoken = `tavrin: rules/1
branches: {line: ["hotfix/**", "fix/*"], trunk: main, old: ["old/**", "!old/x"]}
labels: {urgent: {set_by: ["team:duty", "role:maintainer"]}, late: {set_by: person:odo}}
changes: {description: "- [ ] tried"}
loosening: {agreed_by: ["person:odo", "team:stewards"]}
areas:
  valves: {paths: ["valves/**", "pumps/**", "!**/*.md"], owners: ["team:hydraulics", "person:odo"], require: [{approvals: 1, not_from: last_pusher}, {checks: [bench, unit]}, {approvals: 2, from: person:odo, unless: {author: team:duty}}], reviewers: team:hydraulics, optional: person:odo, waive: team:duty}
  docs: {paths: docs/**, owners: role:writer}
checks:
  unit: {command: make test, timeout: 90s, max_age: 12h, sees: tree}
  bench: {reported_by: robot:builder, timeout: 2h}
  field: {kind: deployment, environment: proving-field}
protect:
  - name: trunk
    branches: [main, trunk, "release/**", "!line"]
    push: ["robot:release-bot", "role:maintainer"]
    create: role:maintainer
    create_from: [trunk, develop]
    rewrite: never
    delete: allowed
    exempt: robot:release-bot
    waive: [team:duty, person:odo]
    after_push: {approvals_stay: never, objections_stay: if_unchanged}
    queue: {planner: one-at-a-time, slots: 3, reruns: 2, tests: by_area, on_push: back, urgent: [team:duty, role:maintainer]}
    land: {who: [role:maintainer, team:duty], strategies: [squash, merge], default: squash, message: "{title}", trailers: ["A: {author}", "B: c"], delete_source: true, join_early: false, drop_empty: false, undo_first: true}
    require:
      - {approvals: 2, from: ["team:agronomy", "team:field"], not_from: [last_pusher, commit_authors], on: newest_revision, called: many eyes}
      - {approvals: 1, own: counts, level: advisory}
      - {owners: every touched area}
      - {objections: none}
      - {threads: resolved, resolved_by: [role:maintainer, team:duty]}
      - {tasks: done}
      - {size: at most 400 lines and 20 files, hint: split it}
      - {size: at most 9 commits}
      - {revision_age: 4h}
      - {queued_by: not an author}
      - {signed_off: every commit}
      - {already_on: [trunk, "release/**"]}
      - {owners: every touched area, not_from: last_pusher, max_age: 48h, unless: {added: docs/**, removed: "*.md", renamed: old/**, author: "robot:barn"}}
      - {ticket: "FEN-[0-9]+", in: [title, branch], example: FEN-1, tracker: open, max_age: 2h}
      - {case: exact}
      - {fixups: none}
      - {history: linear}
      - {messages: "^[a-z]+: ", example: "docs: a"}
      - {signed: every commit}
      - {checks: [unit, bench], at_least: 1, skipped: counts, at: [head, rehearsal], max_age: 2h, reported_by: robot:builder}
      - {checks: ["u*", "b*"]}
      - {checks: "u*,b*"}
      - {deployment: proving-field, max_age: 30m, healthy_for: 10m}
      - {approvals: 3, when: {paths: ["ledger/**", "money/**"], areas: [valves, docs], lines: "over 400, under 900", files: over 10, source: [line, "topic/**"], author: team:field, label: [urgent, late], cel: "size(areas) > 2"}}
  - {name: small, branches: main}
  - {name: other, branches: trunk, create: nobody, land: {delete_source: false}}
`

// splice is a text with one place of it replaced.
func splice(text string, at, gone int, put string) string {
	at %= len(text) + 1
	return text[:at] + put + text[min(len(text), at+gone):]
}

// Documents that differ in one place compare as equal when they say the same, and never otherwise.
func TestP8NoTwoDocumentsAreTakenForOne(t *testing.T) {
	rng := rand.New(rand.NewPCG(31, 1))
	words := strings.FieldsFunc(spoken, func(r rune) bool { return strings.ContainsRune(" ,:[]{}\n", r) })
	read, alike := 0, 0
	try := func(at, gone int, put string) {
		ok, same := two(t, spoken, splice(spoken, at, gone, put), false)
		if ok {
			read++
		}
		if same {
			alike++
		}
	}
	for _, at := range regexp.MustCompile(`[a-z_]+: [^,{}\[\]]+(, )?`).FindAllStringIndex(spoken, -1) { // each setting of a few words left out
		try(at[0], at[1]-at[0], "")
	}
	for range often.Times(150) {
		at, gone, put := rng.IntN(len(spoken)), rng.IntN(4), []string{"", "", ",", ", ", `"`, `", "`, "!", "*", "/", "1", " ", "a"}[rng.IntN(12)]
		if rng.IntN(2) == 0 { // one word for another
			w := words[rng.IntN(len(words))]
			if i := strings.Index(spoken[at:], w); i >= 0 {
				at, gone = at+i, len(w)
			}
			put = words[rng.IntN(len(words))]
		}
		try(at, gone, put)
	}
	if t.Logf("%d pairs can be read, %d say the same", read, alike); read < 50 || alike < 5 || alike > read*9/10 {
		t.Errorf("%d pairs can be read, %d say the same: the test says little", read, alike)
	}
}

// FuzzIdentity looks for documents that differ in one place and are taken for one though they say something else.
func FuzzIdentity(f *testing.F) {
	for i := range 40 {
		f.Add(spoken, i*97, i%5, []string{"", ",", `", "`, "!", "a"}[i%5], i%2 == 0)
	}
	f.Add("tavrin: rules/1\nprotect: [{name: p, branches: [main, develop]}]\n", 47, 13, `"main,develop"`, false)
	f.Fuzz(func(t *testing.T, text string, at, gone int, put string, ofHouse bool) {
		if len(text) > 8000 || at < 0 || gone < 0 {
			return
		}
		two(t, text, splice(text, at, gone, put), ofHouse)
	})
}
