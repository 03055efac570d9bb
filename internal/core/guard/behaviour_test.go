package guard

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/kind"
	"tavrin/internal/core/kind/kindtest"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
)

// The table of the reference says how each kind behaves on a push, under each strategy and with a condition; this is how it
// does.
func TestBehaviourIsAsTheTableSays(t *testing.T) {
	proposed := func() change.Facts {
		return change.Facts{Repository: "growers/irrigation", Number: 7, State: "open", Title: "docs: a", Source: "topic", Target: "main", Revision: 1, Opener: "tamsin", Authors: []string{"tamsin"}, People: town,
			At: moment, Paths: []string{"valves/a"}, Files: 1, Asker: "odo", Commits: []change.Commit{{ID: "1", Message: "docs: a", Parents: 1, Signature: change.Signature{State: change.Good, By: "tamsin"}}},
			Rehearsal: &change.Rehearsal{Commit: "c", Base: "b", BuiltAt: moment.Add(-time.Minute), Checks: []change.Check{{Name: "unit", State: change.Passed, By: "barn"}, {Name: "trial", State: change.Passed, By: "barn"}}}}
	}
	set := func(requirement string) *rules.Set {
		doc, found := rules.Parse("tavrin: rules/1\nareas: {valves: {paths: valves/**, owners: team:hydraulics}}\nprotect:\n  - {name: trunk, branches: main, push: role:writer, require: [{" + requirement + "}]}\n")
		if found != nil {
			t.Fatalf("%s: %v", requirement, found)
		}
		return doc.Alone(1)
	}
	of := func(d string, r gate.Report) (require.Outcome, bool) {
		i := slices.IndexFunc(r.Requirements, func(q require.Outcome) bool {
			return strings.HasPrefix(q.Key, d) || d == "checks" && strings.HasPrefix(q.Key, "check/")
		})
		if i < 0 {
			return require.Outcome{}, false
		}
		return r.Requirements[i], true
	}
	const elsewhere = ", when: {paths: nowhere/*}"
	for _, row := range kind.All() {
		d, b := row.Name, kindtest.Samples[row.Name]
		for _, s := range change.Strategies {
			f := proposed()
			f.Strategy = s
			b.Breaks(&f)
			q, asked := of(d, gate.Judge(set(b.Text), f))
			if breaks := asked && !q.Holds(); breaks == slices.Contains(row.NotBy, s) {
				t.Errorf("%s by %s: the table says that it %s be broken, and it is %s: %s", d, s, map[bool]string{true: "cannot", false: "can"}[slices.Contains(row.NotBy, s)], q.State, q.Next)
			}
			if q, asked := of(d, gate.Judge(set(b.Text+elsewhere), f)); !asked || q.State != require.NotAsked || !strings.Contains(q.Next, "asked when a path in nowhere/* changes") {
				t.Errorf("%s on a condition that does not hold is %+v", d, q)
			}
		}
		for _, condition := range []string{"", elsewhere} {
			f := proposed()
			b.Breaks(&f)
			u := Update{Ref: "refs/heads/main", Old: strings.Repeat("a", 40), New: strings.Repeat("b", 40), Forward: true, Commits: f.Commits}
			pusher, _ := town.Of("odo")
			pusher.Login = "odo"
			v := Judge(u, Facts{Repository: f.Repository, Pusher: pusher, People: town, Rules: set(b.Text + condition), Default: "main", Taken: map[string]string{}})
			if v.Allowed == row.OnPush {
				t.Errorf("%s%s on a push: the table says that it holds: %v; %v", d, condition, row.OnPush, v.Lines)
			}
			if !v.Allowed && condition != "" && !strings.Contains(strings.Join(v.Lines, " "), "it holds for every push") {
				t.Errorf("%s: it is not said why: %v", d, v.Lines)
			}
		}
	}
}

// What becomes of a demand when what it names is gone is as the table says.
func TestDemandsOnWhatIsGone(t *testing.T) {
	base := change.Facts{Repository: "growers/irrigation", Number: 7, State: "open", Target: "main", Source: "topic", Revision: 1, Authors: []string{"tamsin"}, People: town, At: moment, Paths: []string{"valves/a"},
		Asker: "odo", Strategy: change.Rebase, Rehearsal: &change.Rehearsal{Commit: "c", Base: "b", BuiltAt: moment.Add(-time.Minute)}}
	for _, c := range []struct {
		requirement, areas string
		alter              func(*change.Facts)
		key                string
		state              require.State
		says               string
	}{
		{"approvals: 1, from: team:gone", "", nil, "approvals", require.Missing, "nobody could give one"},
		{"owners: every touched area", "areas: {valves: {paths: valves/**, owners: team:gone}}\n", nil, "owners/valves", require.Missing, "nobody could give one"},
		{"owners: every touched area", "", nil, "owners", require.NotAsked, "touches no area"},
		{"objections: none", "", func(f *change.Facts) { f.Reviews = []change.Review{{By: "gone", Verdict: change.Object, Revision: 1}} }, "objections", require.Missing, "gone objects"},
		{"threads: resolved", "", nil, "threads", require.NotAsked, "no discussion"},
		{"threads: resolved", "", func(f *change.Facts) { f.Threads = []change.Thread{{By: "odo", Where: "a", ResolvedBy: "gone"}} }, "threads", require.Missing, "gone resolved without the right to"},
		{"tasks: done", "", nil, "tasks", require.NotAsked, "no checklist"},
		{"case: exact", "", nil, "case", require.Met, ""},
		{"signed: every commit", "", func(f *change.Facts) {
			f.Commits = []change.Commit{{ID: "1", Message: "a", Signature: change.Signature{State: change.Good, By: "gone"}}}
		}, "signed", require.Missing, "no access any more"},
		{"checks: 'bench *'", "", nil, "checks/bench *", require.Pending, "no check that matches"},
		{"checks: unit", "", nil, "check/unit", require.Pending, "waiting for"},
		{"deployment: field", "", nil, "deployment/field", require.Pending, "no check deploys to field"},
	} {
		doc, found := rules.Parse("tavrin: rules/1\n" + c.areas + "protect:\n  - {name: trunk, branches: main, require: [{" + c.requirement + "}]}\n")
		if found != nil {
			t.Fatalf("%s: %v", c.requirement, found)
		}
		f := base
		if c.alter != nil {
			c.alter(&f)
		}
		report := gate.Judge(doc.Alone(1), f)
		i := slices.IndexFunc(report.Requirements, func(q require.Outcome) bool { return strings.HasPrefix(q.Key, c.key) })
		if i < 0 {
			t.Errorf("%s: nothing called %s in %+v", c.requirement, c.key, report.Requirements)
		} else if q := report.Requirements[i]; q.State != c.state || !strings.Contains(q.Told(), c.says) {
			t.Errorf("%s is %s: %q", c.requirement, q.State, q.Told())
		}
	}
}

// differing is, for each setting, documents in which it alone differs. What it is held against stands around it.
var differing = func() map[string][]string {
	one := func(format string, values ...string) []string {
		var out []string
		for _, v := range values {
			out = append(out, strings.ReplaceAll(format, "@", v))
		}
		return out
	}
	area := func(rest string) string {
		return "areas: {docs: {paths: docs/**, owners: team:accounts, " + rest + "}, valves: {paths: firmware/**, owners: team:hydraulics}}\nprotect: [{name: p, branches: main, require: [{owners: every touched area}]}]\n"
	}
	check := func(rest string) string {
		return "checks: {unit: {" + rest + "}}\nprotect: [{name: p, branches: main, require: [{checks: unit}]}]\n"
	}
	of := func(keys string) string { return "protect: [{name: p, branches: main, " + keys + "}]\n" }
	asks := func(requirement string) string {
		return "labels: {urgent: {set_by: role:maintainer}, late: {set_by: role:maintainer}}\nareas: {docs: {paths: docs/**, owners: team:accounts}, valves: {paths: firmware/**, owners: team:hydraulics}}\n" +
			"checks: {trial: {kind: deployment, environment: field}}\nprotect: [{name: p, branches: main, require: [{" + requirement + "}]}]\n"
	}
	when := func(keys string) string { return asks("messages: '^docs: ', when: {" + keys + "}") }
	unless := func(keys string) string { return asks("messages: '^docs: ', unless: {" + keys + "}") }
	const both = "messages: '^docs: '"
	out := map[string][]string{
		"branches{}":                           one("branches: {line: @}\nprotect: [{name: p, branches: line, push: nobody, require: [{approvals: 2}]}]\n", "main", "other"),
		"labels{}.set_by":                      one("labels: {urgent: {set_by: @}}\nprotect: [{name: p, branches: main, require: [{approvals: 2, when: {label: urgent}}]}]\n", "team:accounts", "person:odo"),
		"areas{}.paths":                        one("areas: {docs: {paths: @, owners: team:accounts}}\nprotect: [{name: p, branches: main, require: [{owners: every touched area}]}]\n", "docs/**", "firmware/**"),
		"areas{}.owners":                       one("areas: {docs: {paths: docs/**, owners: @}}\nprotect: [{name: p, branches: main, require: [{owners: every touched area}]}]\n", "team:accounts", "person:odo"),
		"areas{}.require":                      one(area("require: [{@}]"), "approvals: 1", "approvals: 2", "checks: unit", "checks: bench"),
		"areas{}.reviewers":                    one(area("reviewers: @"), "team:accounts", "person:odo"),
		"areas{}.optional":                     one(area("optional: @"), "team:accounts", "person:odo"),
		"areas{}.waive":                        one(area("require: [{approvals: 3}], waive: @"), "nobody", "role:writer"),
		"areas{}.repositories":                 one(area("require: [{approvals: 2}], repositories: @"), "irrigation", "ledger"),
		"checks{}.command":                     one(check("command: @"), "make", "'true'"),
		"checks{}.timeout":                     one(check("timeout: @"), "1m", "2h"),
		"checks{}.reported_by":                 one(check("reported_by: robot:@"), "barn", "other"),
		"checks{}.max_age":                     one(check("max_age: @"), "1h", "12h"),
		"checks{}.sees":                        one(check("sees: @"), "commit", "tree"),
		"checks{}.kind":                        one("checks: {unit: {@}}\nprotect: [{name: p, branches: main, require: [{deployment: field}]}]\n", "reported_by: robot:barn", "kind: deployment, environment: field"),
		"checks{}.environment":                 one("checks: {unit: {kind: deployment, environment: @}}\nprotect: [{name: p, branches: main, require: [{deployment: field}]}]\n", "field", "shed"),
		"checks{}.on_tip":                      one(check("on_tip: @"), "main", "dev"),
		"changes.description":                  one("changes: {description: @}\n"+of("require: [{tasks: done}]"), "'- [ ] a'", "b"),
		"loosening.agreed_by":                  one("loosening: {agreed_by: @}\n"+of("require: [{tasks: done}]"), "person:odo", "person:wren"),
		"protect[].name":                       {of("push: person:odo, require: [{approvals: 2}]"), strings.ReplaceAll(of("push: person:odo, require: [{approvals: 2}]"), "name: p", "name: q")},
		"protect[].repositories":               one(of("require: [{approvals: 2}], repositories: @"), "irrigation", "ledger"),
		"protect[].branches":                   one("protect: [{name: p, branches: @, require: [{approvals: 2}]}]\n", "main", "other"),
		"protect[].tags":                       one("protect: [{name: p, tags: @, create: nobody}]\n", "v*", "w*"),
		"protect[].push":                       one(of("push: @, "+"require: [{approvals: 2}]"), "nobody", "role:writer"),
		"protect[].create":                     one("protect: [{name: p, branches: [main, dev, 'release/*'], create: @, create_from: '**'}]\n", "nobody", "role:writer"),
		"protect[].create_from":                one("protect: [{name: p, branches: [main, dev, 'release/*'], create: role:writer, create_from: @}]\n", "none", "'**'"),
		"protect[].rewrite":                    one(of("push: role:writer, rewrite: @"), "never", "allowed"),
		"protect[].delete":                     one("protect: [{name: p, branches: 'release/*', push: role:writer, delete: @}]\n", "never", "allowed"),
		"protect[].exempt":                     one(of("exempt: @, require: [{approvals: 3}]"), "nobody", "team:hydraulics"),
		"protect[].waive":                      one(of("waive: @, require: [{approvals: 4}]"), "nobody", "role:writer"),
		"protect[].after_push.approvals_stay":  one(of("require: [{approvals: 1}], after_push: {approvals_stay: @}"), "never", "always"),
		"protect[].after_push.objections_stay": one(of("require: [{objections: none}], after_push: {objections_stay: @}"), "never", "always"),
		"protect[].land.who":                   one(of("land: {who: @}"), "role:writer", "team:accounts"),
		"protect[].land.strategies":            one(of("land: {strategies: [@]}"), "rebase", "squash", "merge", "fold", "fast-forward", "squash-then-merge", "rebase-then-merge"),
		"protect[].land.default":               one(of("land: {default: @}, require: [{fixups: none}]"), "rebase", "squash", "merge"),
		"protect[].land.message":               one(of("land: {message: @}, require: [{"+both+"}]"), "'docs: {title}'", "'x: {title}'"),
		"protect[].land.trailers":              one(of("land: {trailers: @}, require: [{messages: 'Told-by'}]"), "'Told-by: {author}'", "'Seen-by: {author}'"),
		"protect[].land.delete_source":         one(of("land: {delete_source: @}"), "true", "false"),
		"protect[].queue.planner":              one(of("queue: {planner: @}"), "adaptive", "one-at-a-time"),
		"protect[].queue.slots":                one(of("queue: {slots: @}"), "1", "9"),
		"protect[].queue.reruns":               one(of("queue: {reruns: @}"), "0", "3"),
		"protect[].queue.tests":                one(of("queue: {tests: @}"), "strict", "by_area"),
		"protect[].queue.on_push":              one(of("queue: {on_push: @}"), "stay", "leave"),
		"protect[].queue.urgent":               one(of("queue: {urgent: @}"), "role:writer", "team:gone"),
		"protect[].land.undo_first":            one(of("land: {undo_first: @}"), "true", "false"),
		"protect[].land.drop_empty":            one(of("land: {drop_empty: @}"), "true", "false"),
		"protect[].land.join_early":            one(of("land: {join_early: @}"), "true", "false"),
		"protect[].require[].called":           one(asks("approvals: 2, called: @"), "a", "b"),
		"protect[].require[].level":            one(of("push: role:writer, require: [{"+both+", level: @}]"), "required", "advisory"),
		"protect[].require[].when.paths":       one(when("paths: @"), "docs/**", "nowhere/*"),
		"protect[].require[].when.areas":       one(when("areas: @"), "docs", "valves"),
		"protect[].require[].when.lines":       one(when("lines: over @"), "10", "1000"),
		"protect[].require[].when.files":       one(when("files: over @"), "1", "1000"),
		"protect[].require[].when.source":      one(when("source: @"), "topic", "nowhere"),
		"protect[].require[].when.author":      one(when("author: @"), "person:tamsin", "team:gone"),
		"protect[].require[].when.label":       one(when("label: @"), "urgent", "late"),
		"protect[].require[].when.undoes":      {when("undoes: a landing"), when("undoes: a landing, files: under 1000"), asks(both)},
		"protect[].require[].when.cel":         one(when("cel: '@'"), "files > 1", "files > 1000"),
		"protect[].require[].when.added":       one(when("added: @"), "docs/**", "nowhere/*"),
		"protect[].require[].when.removed":     one(when("removed: @"), "docs/**", "nowhere/*"),
		"protect[].require[].when.renamed":     one(when("renamed: @"), "docs/**", "nowhere/*"),
		"protect[].require[].unless.paths":     one(unless("paths: @"), "docs/**", "nowhere/*"),
		"protect[].require[].unless.added":     one(unless("added: @"), "'**'", "nowhere/*"),
		"protect[].require[].unless.removed":   one(unless("removed: @"), "'**'", "nowhere/*"),
		"protect[].require[].unless.renamed":   one(unless("renamed: @"), "'**'", "nowhere/*"),
		"protect[].require[].unless.areas":     one(unless("areas: @"), "docs", "valves"),
		"protect[].require[].unless.lines":     one(unless("lines: under @"), "10", "1000"),
		"protect[].require[].unless.files":     one(unless("files: under @"), "2", "1000"),
		"protect[].require[].unless.source":    one(unless("source: @"), "topic", "nowhere"),
		"protect[].require[].unless.author":    one(unless("author: @"), "person:tamsin", "team:gone"),
		"protect[].require[].unless.label":     one(unless("label: @"), "urgent", "late"),
		"protect[].require[].unless.undoes":    {unless("undoes: a landing"), asks(both)},
		"protect[].require[].unless.cel":       one(unless("cel: '@'"), "files > 1", "files > 1000"),
	}
	for _, sample := range kindtest.Samples {
		for key, texts := range sample.Differ {
			for _, text := range texts {
				out["protect[].require[]."+key] = append(out["protect[].require[]."+key], asks(text))
			}
		}
	}
	return out
}()

// The table of the reference says by which settings a push and a landing are judged; these are the ones whose value makes a
// difference to some push or to some landing by the strategy, and to no other.
func TestSettingsBehaveAsTheTableSays(t *testing.T) {
	var listed []string
	for _, k := range rules.Keys {
		switch container := k.Shape == grammar.Mapping || k.Shape == grammar.Named || k.Shape == grammar.List; {
		case container && k.Path != "branches{}" && k.Path != "areas{}.require", k.Path == "tavrin", strings.HasPrefix(k.Path, "areas{}.require[]."), // as in a protection
			kind.Of(k.Name()) != nil && strings.HasPrefix(k.Path, "protect[].require[]."):
		default:
			listed = append(listed, k.Path)
		}
	}
	var rows []string
	for _, row := range rules.SettingBehaviours {
		rows = append(rows, row.Path)
	}
	slices.Sort(listed)
	slices.Sort(rows)
	if !slices.Equal(listed, rows) {
		t.Fatalf("the document has the settings\n%v\nand the table\n%v", listed, rows)
	}
	for _, row := range rules.SettingBehaviours {
		var sets []*rules.Set
		for _, text := range differing[row.Path] {
			doc, found := rules.Under{OfHouse: strings.HasSuffix(row.Path, ".repositories")}.Parse("tavrin: rules/1\n" + text)
			if found != nil {
				t.Fatalf("%s: %v\n%s", row.Path, found, text)
			}
			sets = append(sets, rules.NewSet("growers/irrigation", rules.Layer{Document: doc, Of: "house growers", Version: 1}))
		}
		if len(sets) < 2 {
			t.Fatalf("%s: no documents differ in it", row.Path)
		}
		rng := rand.New(rand.NewPCG(7, 1))
		onPush, by := false, map[change.Strategy]bool{}
		for range 250 {
			u, who := move(rng)
			var verdicts []bool
			for _, set := range sets {
				verdicts = append(verdicts, passes(u, who, set))
			}
			onPush = onPush || slices.Contains(verdicts, true) && slices.Contains(verdicts, false)
			f := landing(rng)
			for _, s := range change.Strategies {
				if by[s] {
					continue // it is found
				}
				f.Strategy = s
				var verdicts []bool
				for _, set := range sets {
					verdicts = append(verdicts, lands(f, set))
				}
				by[s] = by[s] || slices.Contains(verdicts, true) && slices.Contains(verdicts, false)
			}
		}
		if onPush != row.OnPush {
			t.Errorf("%s: a push is judged by it: %v, says the table, and it makes a difference: %v", row.Path, row.OnPush, onPush)
		}
		for _, s := range change.Strategies {
			if by[s] != slices.Contains(row.By, s) {
				t.Errorf("%s: a landing by %s is judged by it: %v, says the table, and it makes a difference: %v", row.Path, s, slices.Contains(row.By, s), by[s])
			}
		}
	}
}

// passes judges a push by somebody who has waived beforehand whatever they may.
func passes(u Update, who string, set *rules.Set) bool {
	pusher, _ := town.Of(who)
	pusher.Login = who
	f := Facts{Repository: "growers/irrigation", Pusher: pusher, People: town, Rules: set, Default: "main", Taken: map[string]string{}}
	permit := Permit{ID: 1, Ref: u.Ref, Old: u.Old, New: u.New}
	for _, o := range Obstacles(u, f) {
		permit.Waives = append(permit.Waives, o.Named())
	}
	f.Permits = []Permit{permit}
	return Judge(u, f).Allowed
}

// lands judges a landing for which whoever asks has waived whatever they may.
func lands(f change.Facts, set *rules.Set) bool {
	waives := change.Waiver{ID: 1, By: f.Asker, Reason: "it floods", Revision: 2, Tip: "b", Until: moment.Add(time.Hour)}
	for _, q := range gate.Judge(set, f).Requirements {
		if !q.Holds() {
			waives.Requirements = append(waives.Requirements, change.Named{Key: q.Key, Title: q.Title})
		}
	}
	f.Waivers = []change.Waiver{waives}
	return gate.Judge(set, f).Clear
}

// What becomes of a setting when what it names is gone is as the table says: the first document does what the second does, and
// none stands for one that is refused.
func TestSettingsOnWhatIsGone(t *testing.T) {
	const head = "tavrin: rules/1\nlabels: {urgent: {set_by: role:maintainer}}\nareas: {docs: {paths: docs/**, owners: team:accounts}}\n"
	of := func(keys string) string {
		return head + "protect: [{name: p, branches: [main, dev, 'release/*'], " + keys + "}]\n"
	}
	area := func(keys, requirement string) string {
		return "tavrin: rules/1\nareas: {docs: {paths: docs/**, owners: team:accounts, " + keys + "}}\nprotect: [{name: p, branches: main, require: [" + requirement + "]}]\n"
	}
	const never, inDocs = "{approvals: 20}", "{approvals: 20, when: {paths: docs/**}}"
	when := func(condition string) string { return of("require: [{approvals: 20, when: {" + condition + "}}]") }
	unless := func(condition string) string { return of("require: [{approvals: 20, unless: {" + condition + "}}]") }
	gone := map[string][2]string{
		"branches{}":                         {head + "branches: {line: nowhere/*}\nprotect: [{name: p, branches: line, require: [" + never + "]}]\n", head},
		"areas{}.paths":                      {"tavrin: rules/1\nareas: {docs: {paths: nowhere/*, owners: team:accounts, require: [{approvals: 20}]}}\nprotect: [{name: p, branches: main}]\n", "tavrin: rules/1\nprotect: [{name: p, branches: main}]\n"},
		"areas{}.owners":                     {"tavrin: rules/1\nareas: {docs: {paths: docs/**, owners: team:gone, require: [{approvals: 1}]}}\nprotect: [{name: p, branches: main}]\n", area("", inDocs)},
		"areas{}.require":                    {area("require: [{checks: gone}]", ""), area("", inDocs)},
		"areas{}.waive":                      {area("require: [{approvals: 3}], waive: team:gone", ""), area("require: [{approvals: 3}]", "")},
		"areas{}.repositories":               {area("require: [{approvals: 3}], repositories: nowhere", ""), area("", "")},
		"checks{}.command":                   {head + "checks: {gone: {command: make}}\nprotect: [{name: p, branches: main, require: [{checks: gone}]}]\n", head + "protect: [{name: p, branches: main, require: [" + never + "]}]\n"},
		"checks{}.reported_by":               {head + "checks: {unit: {reported_by: robot:gone}}\nprotect: [{name: p, branches: main, require: [{checks: unit}]}]\n", head + "protect: [{name: p, branches: main, require: [" + never + "]}]\n"},
		"protect[].repositories":             {of("require: [" + never + "], repositories: nowhere"), head},
		"protect[].branches":                 {head + "protect: [{name: p, branches: nowhere/*, require: [" + never + "]}]\n", head},
		"protect[].tags":                     {head + "protect: [{name: p, tags: nowhere/*, create: nobody}]\n", head},
		"protect[].push":                     {of("push: [team:gone, 'person:gone', 'robot:gone']"), of("push: nobody")},
		"protect[].create":                   {of("create: team:gone, create_from: '**'"), of("create: nobody")},
		"protect[].create_from":              {of("create: role:writer, create_from: nowhere/*"), of("create: nobody")},
		"protect[].exempt":                   {of("exempt: team:gone, require: [{approvals: 3}]"), of("require: [{approvals: 3}]")},
		"protect[].waive":                    {of("waive: person:gone, require: [{approvals: 3}]"), of("require: [{approvals: 3}]")},
		"protect[].queue.urgent":             {}, // decides nothing of what may land
		"protect[].land.who":                 {of("land: {who: team:gone}"), of("require: [" + never + "]")},
		"protect[].require[].when.paths":     {when("paths: nowhere/*"), of("")},
		"protect[].require[].when.areas":     {when("areas: gone"), ""},
		"protect[].require[].when.source":    {when("source: nowhere/*"), of("")},
		"protect[].require[].when.author":    {when("author: team:gone"), of("")},
		"protect[].require[].when.label":     {when("label: gone"), ""},
		"protect[].require[].when.cel":       {when("cel: 'authors[100] == \"gone\"'"), of("require: [" + never + "]")},
		"protect[].require[].when.added":     {when("added: nowhere/*"), of("")},
		"protect[].require[].when.removed":   {when("removed: nowhere/*"), of("")},
		"protect[].require[].when.renamed":   {when("renamed: nowhere/*"), of("")},
		"protect[].require[].unless.paths":   {unless("paths: nowhere/*"), of("require: [" + never + "]")},
		"protect[].require[].unless.added":   {unless("added: nowhere/*"), of("require: [" + never + "]")},
		"protect[].require[].unless.removed": {unless("removed: nowhere/*"), of("require: [" + never + "]")},
		"protect[].require[].unless.renamed": {unless("renamed: nowhere/*"), of("require: [" + never + "]")},
		"protect[].require[].unless.areas":   {unless("areas: gone"), ""},
		"protect[].require[].unless.source":  {unless("source: nowhere/*"), of("require: [" + never + "]")},
		"protect[].require[].unless.author":  {unless("author: team:gone"), of("require: [" + never + "]")},
		"protect[].require[].unless.label":   {unless("label: gone"), ""},
		"protect[].require[].unless.cel":     {unless("cel: 'authors[100] == \"gone\"'"), of("require: [" + never + "]")},
		"labels{}.set_by":                    {}, // e2e: TestRulesOnWhatIsGone
		"areas{}.reviewers":                  {}, // decides nothing
		"areas{}.optional":                   {}, // decides nothing
		"checks{}.on_tip":                    {}, // decides nothing
		"loosening.agreed_by":                {}, // e2e: TestRulesOnWhatIsGone
	}
	for _, sample := range kindtest.Samples {
		for key, texts := range sample.Gone {
			gone["protect[].require[]."+key] = [2]string{of("require: [{" + texts[0] + "}]"), of("require: [{" + texts[1] + "}]")}
		}
	}
	for _, row := range rules.SettingBehaviours {
		texts, known := gone[row.Path]
		if known != (row.Gone != "-") {
			t.Errorf("%s: %q in the table, and here: %v", row.Path, row.Gone, known)
		}
		if texts[0] == "" {
			continue
		}
		read := func(text string) (*rules.Set, []grammar.Finding) {
			doc, found := rules.Under{OfHouse: strings.Contains(text, "repositories:")}.Parse(text)
			if found != nil {
				return nil, found
			}
			return rules.NewSet("growers/irrigation", rules.Layer{Document: doc, Of: "house growers", Version: 1}), nil
		}
		now, found := read(texts[0])
		if texts[1] == "" {
			if found == nil {
				t.Errorf("%s: read, though it names what is not there", row.Path)
			}
			continue
		}
		like, foundToo := read(texts[1])
		if found != nil || foundToo != nil {
			t.Fatalf("%s: %v %v\n%s", row.Path, found, foundToo, texts)
		}
		rng := rand.New(rand.NewPCG(8, 1))
		for range 150 {
			u, who := move(rng)
			f := landing(rng)
			f.Target = "main" // an area asks on unprotected branches too
			if passes(u, who, now) != passes(u, who, like) {
				t.Errorf("%s: %q, says the table; a push of %+v by %s passes: %v", row.Path, row.Gone, u, who, passes(u, who, now))
				break
			}
			if lands(f, now) != lands(f, like) {
				t.Errorf("%s: %q, says the table; it lands: %v, and without: %v: %+v", row.Path, row.Gone, lands(f, now), lands(f, like), f)
				break
			}
		}
	}
}
