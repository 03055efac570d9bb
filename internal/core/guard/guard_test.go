package guard

import (
	"strings"
	"testing"
	"unicode/utf8"

	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
)

const document = `tavrin: rules/1
protect:
  - name: trunk
    branches: main
    push: nobody
  - name: releases
    branches: release/**
    push: team:release
    delete: allowed
  - name: sandbox
    branches: play
    push: role:writer
    rewrite: allowed
    delete: allowed
`

var (
	a = strings.Repeat("a", 40)
	b = strings.Repeat("b", 40)
)

func TestP1Judge(t *testing.T) {
	doc, findings := rules.Parse(document)
	if findings != nil {
		t.Fatal(findings)
	}
	writer := people.Person{Login: "tamsin", Role: people.Writer}
	releaser := people.Person{Login: "odo", Role: people.Writer, Teams: []string{"release"}}
	maintainer := people.Person{Login: "ines", Role: people.Maintainer}
	cases := []struct {
		name    string
		update  Update
		pusher  people.Person
		empty   bool
		allowed bool
		short   string
		long    string
	}{
		{"a new branch", Update{Ref: "refs/heads/topic", Old: "", New: b}, writer, false, true, "", "tavrin change open --repo growers/irrigation --source topic"},
		{"rewriting one's own branch", Update{Ref: "refs/heads/topic", Old: a, New: b}, writer, false, true, "", ""},
		{"deleting one's own branch", Update{Ref: "refs/heads/topic", Old: a, New: ""}, writer, false, true, "", ""},
		{"one's own preview space", Update{Ref: "refs/preview/tamsin/x", Old: a, New: b}, writer, false, true, "", ""},
		{"somebody else's preview space", Update{Ref: "refs/preview/odo/x", Old: "", New: b}, writer, false, false, "not your preview space", "yours begins with refs/preview/tamsin/"},
		{"a reader's preview space", Update{Ref: "refs/preview/pavo/x", Old: "", New: b}, people.Person{Login: "pavo", Role: people.Reader}, false, false, "may not write", ""},
		{"a reader", Update{Ref: "refs/heads/topic", Old: "", New: b}, people.Person{Login: "pavo", Role: people.Reader}, false, false, "may not write", "role writer"},
		{"the trunk", Update{Ref: "refs/heads/main", Old: a, New: b, Forward: true}, writer, false, false, "trunk: nobody pushes", "git switch -c tamsin/main-bbbbbbbb bbbbbbbbbb"},
		{"the trunk, as maintainer", Update{Ref: "refs/heads/main", Old: a, New: b, Forward: true}, maintainer, false, false, "trunk: nobody pushes", "git branch -f main origin/main"},
		{"rewriting the trunk", Update{Ref: "refs/heads/main", Old: a, New: b}, maintainer, false, false, "history is not rewritten", "does not contain main's aaaaaaaaaa"},
		{"deleting the trunk", Update{Ref: "refs/heads/main", Old: a, New: ""}, maintainer, false, false, "trunk: it is not deleted", "rules version 5, line 3"},
		{"a release, by the team", Update{Ref: "refs/heads/release/1", Old: a, New: b, Forward: true}, releaser, false, true, "", ""},
		{"a release, by another", Update{Ref: "refs/heads/release/1", Old: a, New: b, Forward: true}, maintainer, false, false, "only team:release", "line 8"},
		{"rewriting a release", Update{Ref: "refs/heads/release/1", Old: a, New: b}, releaser, false, false, "history is not rewritten", ""},
		{"deleting a release, allowed to the team", Update{Ref: "refs/heads/release/1", Old: a, New: ""}, releaser, false, true, "", ""},
		{"a new release, by another", Update{Ref: "refs/heads/release/2", Old: "", New: b}, writer, false, false, "only team:release", ""},
		{"rewriting the sandbox", Update{Ref: "refs/heads/play", Old: a, New: b}, writer, false, true, "", ""},
		{"first push, by a writer", Update{Ref: "refs/heads/main", Old: "", New: b}, writer, true, false, "for maintainers", "ask one of them"},
		{"first push, by a maintainer", Update{Ref: "refs/heads/main", Old: "", New: b}, maintainer, true, true, "", ""},
		{"a new tag", Update{Ref: "refs/tags/v1", Old: "", New: b}, writer, false, true, "", ""},
		{"moving a tag", Update{Ref: "refs/tags/v1", Old: a, New: b, Forward: true}, writer, false, false, "tags do not move", ""},
		{"a name of the service's own", Update{Ref: "refs/tavrin/revisions/1/1", Old: "", New: b}, maintainer, false, false, "not a branch or tag", ""},
		{"a name of nobody", Update{Ref: "refs/notes/x", Old: "", New: b}, maintainer, false, false, "not a branch or tag", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			v := Judge(c.update, Facts{Repository: "growers/irrigation", Pusher: c.pusher, Rules: doc.Alone(5), Empty: c.empty, Default: "main"})
			if v.Allowed != c.allowed || !strings.Contains(v.Short, c.short) || !strings.Contains(strings.Join(v.Lines, "\n"), c.long) {
				t.Errorf("allowed %v, %q:\n%s", v.Allowed, v.Short, strings.Join(v.Lines, "\n"))
			}
			if !v.Allowed && (v.Short == "" || len(v.Lines) == 0) {
				t.Error("a refusal without words")
			}
		})
	}
}

func TestDefaultBranchWithoutRulesIsNotDeleted(t *testing.T) {
	v := Judge(Update{Ref: "refs/heads/main", Old: a, New: ""}, Facts{Pusher: people.Person{Login: "ines", Role: people.Maintainer}, Default: "main"})
	if v.Allowed {
		t.Error("the default branch was deleted")
	}
}

func TestCommandsAreSafeToPaste(t *testing.T) {
	v := Judge(Update{Ref: "refs/heads/a;rm$(x)", Old: "", New: b}, Facts{Repository: "growers/irrigation", Pusher: people.Person{Login: "ines", Role: people.Writer}, Default: "main"})
	if text := strings.Join(v.Lines, "\n"); !strings.Contains(text, "'a;rm$(x)'") {
		t.Errorf("not quoted:\n%s", text)
	}
}

const withRight = `tavrin: rules/1
protect:
  - name: trunk
    branches: main
    push: nobody
    require: [{messages: "^[a-z]+: ", example: "docs: say so"}]
    waive: person:odo
  - name: floor
    branches: [main, "release/**"]
    push: robot:release-bot
    waive: [person:odo, person:wren]
`

// A permit opens exactly the move that it is for, for what it names, while the pusher has the right (P1).
func TestP1Permits(t *testing.T) {
	doc, findings := rules.Parse(withRight)
	if findings != nil {
		t.Fatal(findings)
	}
	main := "refs/heads/main"
	commit := []change.Commit{{ID: b, Message: "stop the flood", Parents: 1}}
	move := Update{Ref: main, Old: a, New: b, Forward: true, Commits: commit}
	odo, wren := people.Person{Login: "odo", Role: people.Writer}, people.Person{Login: "wren", Role: people.Writer}
	facts := func(pusher people.Person, permits ...Permit) Facts {
		return Facts{Repository: "growers/irrigation", Pusher: pusher, Rules: doc.Alone(5), Default: "main", Permits: permits}
	}
	all := Permit{ID: 3, Ref: main, Old: a, New: b}
	for _, o := range Obstacles(move, facts(odo)) {
		all.Waives = append(all.Waives, o.Named())
	}
	if len(all.Waives) != 3 { // both protections' push, and the message
		t.Fatalf("obstacles are %+v", all.Waives)
	}
	cases := []struct {
		name    string
		update  func(*Update)
		pusher  people.Person
		permit  func(*Permit)
		allowed bool
		short   string
	}{
		{"everything fits", nil, odo, nil, true, ""},
		{"another commit", func(u *Update) { u.New = strings.Repeat("c", 40) }, odo, nil, false, "floor: only robot:release-bot"},
		{"another tip", func(u *Update) { u.Old = strings.Repeat("c", 40) }, odo, nil, false, "floor: only robot:release-bot"},
		{"another branch", func(u *Update) { u.Ref = "refs/heads/release/1" }, odo, nil, false, "only robot:release-bot"},
		{"more is broken than was named", func(u *Update) { u.Forward = false }, odo, nil, false, "floor: history is not rewritten"},
		{"the message was not named", nil, odo, func(p *Permit) { p.Waives = p.Waives[:2] }, false, "a message is not of the form"},
		{"without the right of one protection", nil, wren, nil, false, "trunk: nobody pushes"},
		{"a deletion", func(u *Update) { u.New = "" }, odo, func(p *Permit) { p.New = "" }, false, "not deleted"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			u, p := move, all
			p.Waives = append([]change.Named{}, all.Waives...)
			if c.update != nil {
				c.update(&u)
			}
			if c.permit != nil {
				c.permit(&p)
			}
			v := Judge(u, facts(c.pusher, p))
			if v.Allowed != c.allowed || !strings.Contains(v.Short, c.short) || v.Allowed && (v.Permit != 3 || !v.Protected) {
				t.Errorf("%+v", v)
			}
		})
	}
	if v := Judge(move, facts(odo)); !strings.Contains(strings.Join(v.Lines, "\n"), "tavrin waiver push main --repo growers/irrigation --commit "+b) {
		t.Errorf("odo is not told of the right: %q", v.Lines)
	}
	if v := Judge(move, facts(wren)); strings.Contains(strings.Join(v.Lines, "\n"), "waiver") {
		t.Errorf("wren is told of a right that is not theirs: %q", v.Lines)
	}
}

// Names that nobody can tell apart are refused, whatever they are made of.
func TestNamesThatLookAlike(t *testing.T) {
	taken := map[string]string{}
	for _, ref := range []string{"refs/heads/main", "refs/heads/release/1.0", "refs/tags/v1", "refs/heads/paypal"} {
		taken[Likeness(ref)] = ref
	}
	for name, allowed := range map[string]bool{
		"refs/heads/mаin": false, "refs/heads/Main": false, "refs/heads/ｍain": false, "refs/heads/ma\u200bin": false, "refs/heads/ma\u00adin": false, "refs/heads/ma\ufe0fin": false,
		"refs/heads/MAIN": false, "refs/tags/main": false, "refs/heads/v1": false, "refs/tags/V1": false, "refs/heads/release/1.O": false, "refs/heads/release/l.0": false,
		"refs/heads/rеlease/1.0": false, "refs/heads/main2": true, "refs/heads/release/1.1": true, "refs/tags/v2": true, "refs/heads/ρ⍺у𝓅𝒂ן": false, "refs/heads/𝗉aypal": false,
	} {
		v := Judge(Update{Ref: name, New: b}, Facts{Repository: "growers/irrigation", Pusher: people.Person{Login: "wren", Role: people.Writer}, Default: "main", Taken: taken})
		if v.Allowed != allowed {
			t.Errorf("%q: allowed %v, %v", name, v.Allowed, v.Lines)
		}
	}
}

// The likeness of a name of plain characters is that of its characters, whatever stands beside them.
func TestPlainNamesAreLikenedByCharacter(t *testing.T) {
	for a := range rune(utf8.RuneSelf) {
		for b := range rune(utf8.RuneSelf) {
			for _, name := range []string{string(a), string([]rune{a, b}), string([]rune{'m', a, b, '1'})} {
				if got, want := Likeness("refs/heads/"+name), likeness(name); got != want {
					t.Fatalf("%q is like %q, and by its characters like %q", name, want, got)
				}
			}
		}
	}
}

// A name that would keep protected names from being made is refused, whoever wants it.
func TestNamesInTheWay(t *testing.T) {
	doc, findings := rules.Parse("tavrin: rules/1\nprotect:\n  - {name: kept, branches: [\"release/**\", develop, \"{hot,cold}fix/*/x\", \"**/prod\"], push: role:writer, create: role:writer}\n")
	if findings != nil {
		t.Fatal(findings)
	}
	for name, allowed := range map[string]bool{"release": false, "hotfix": false, "coldfix": false, "develop/x": false, "develop/x/y": false, "release/1": true, "topic": true, "develop": true,
		"releases": true, "hot": true, "wren/topic": true} {
		v := Judge(Update{Ref: "refs/heads/" + name, New: b, Held: []string{name}}, Facts{Repository: "growers/irrigation", Pusher: people.Person{Login: "ines", Role: people.Maintainer}, Default: "main", Rules: doc.Alone(3)})
		if v.Allowed != allowed {
			t.Errorf("%s: allowed %v, %v", name, v.Allowed, v.Lines)
		}
	}
}

// A branch is created from what each protection finds held, by those who may; who may push does as they may.
func TestCreation(t *testing.T) {
	doc, findings := rules.Parse("tavrin: rules/1\nprotect:\n  - {name: lines, branches: 'release/**', create: role:writer, create_from: main}\n" +
		"  - {name: both, branches: ['release/1', develop], create: role:writer, push: person:ines}\n")
	if findings != nil {
		t.Fatal(findings)
	}
	for _, c := range []struct {
		branch, by string
		held       []string
		says       string // empty: it may
	}{
		{"release/2", "odo", []string{"main"}, ""},
		{"release/2", "odo", []string{"develop", "topic"}, "is on main already"},
		{"release/2", "pavo", []string{"main"}, "may not write"},
		{"release/2", "odo", nil, "is on main already"},
		{"release/1", "odo", []string{"main"}, "is on release/1 or develop already"}, // not held for the other
		{"release/1", "odo", []string{"main", "develop"}, ""},
		{"release/1", "ines", []string{"main"}, ""},
		{"release/1", "ines", []string{"develop"}, "is on main already"},
	} {
		pusher, _ := town.Of(c.by)
		pusher.Login = c.by
		v := Judge(Update{Ref: "refs/heads/" + c.branch, New: strings.Repeat("b", 40), Held: c.held}, Facts{Repository: "growers/irrigation", Pusher: pusher, People: town, Default: "main", Rules: doc.Alone(3)})
		if v.Allowed != (c.says == "") || !strings.Contains(strings.Join(v.Lines, " "), c.says) {
			t.Errorf("%s by %s from what %v hold: %v", c.branch, c.by, c.held, v.Lines)
		}
	}
}

// Tags are made, moved and deleted by those whom every protection that matches allows; none allows more than is allowed
// without it (P1).
func TestP1ProtectedTags(t *testing.T) {
	const making = "{name: releases, tags: 'v*', create: ['team:hydraulics', 'role:maintainer'], exempt: 'person:bela'"
	signed := change.Tag{ID: "t", Signature: change.Signature{State: change.Good, By: "odo"}}
	for _, c := range []struct {
		name, rules, who, ref string
		old, new              string
		tag                   change.Tag
		allowed               bool
		says                  string
	}{
		{"made", making + "}", "odo", "v1", "", "b", change.Tag{}, true, ""},
		{"made by another", making + "}", "wren", "v1", "", "b", change.Tag{}, false, "tags such as v1 are made by team:hydraulics, role:maintainer"},
		{"of another name", making + "}", "wren", "w1", "", "b", change.Tag{}, true, ""},
		{"made by who is exempt", making + "}", "bela", "v1", "", "b", change.Tag{}, true, "bela is exempt from"},
		{"moved", making + "}", "ines", "v1", "a", "b", change.Tag{}, false, "it does not move: make another one"},
		{"moved where that is allowed", making + ", rewrite: allowed}", "ines", "v1", "a", "b", change.Tag{}, true, ""},
		{"moved by a writer, though it is allowed", making + ", rewrite: allowed}", "odo", "v1", "a", "b", change.Tag{}, false, "only a maintainer"},
		{"deleted", making + "}", "ines", "v1", "a", "", change.Tag{}, false, "v1 is not deleted"},
		{"deleted where that is allowed", making + ", delete: allowed}", "ines", "v1", "a", "", change.Tag{}, true, ""},
		{"signed", making + ", require: [{signed: every tag}]}", "odo", "v1", "", "b", signed, true, ""},
		{"not signed", making + ", require: [{signed: every tag}]}", "odo", "v1", "", "b", change.Tag{ID: "t"}, false, "is not signed: make it with git tag --sign"},
		{"a name and no more", making + ", require: [{signed: every tag}]}", "odo", "v1", "", "b", change.Tag{}, false, "cannot be signed"},
		{"nobody", "{name: none, tags: '**'}", "ines", "v1", "", "b", change.Tag{}, false, "made by nobody"},
	} {
		doc, found := rules.Parse("tavrin: rules/1\nprotect:\n  - " + c.rules + "\n")
		if found != nil {
			t.Fatalf("%s: %v", c.name, found)
		}
		pusher, _ := town.Of(c.who)
		pusher.Login = c.who
		v := Judge(Update{Ref: "refs/tags/" + c.ref, Old: c.old, New: c.new, Tag: c.tag}, Facts{Repository: "growers/irrigation",
			Pusher: pusher, People: town, Rules: doc.Alone(1), Default: "main", Taken: map[string]string{}})
		if v.Allowed != c.allowed || !strings.Contains(strings.Join(v.Lines, " "), c.says) {
			t.Errorf("%s: %+v", c.name, v)
		}
	}
}

func TestTheWayOutNamesAPage(t *testing.T) {
	f := Facts{Repository: "growers/irrigation", Pusher: people.Person{Login: "odo"}, Console: "https://fennmoor.example"}
	lines := strings.Join(wayOut(Update{Ref: "refs/heads/ä&b", Old: "1", New: strings.Repeat("c", 40)}, f, "ä&b"), "\n")
	if want := "or https://fennmoor.example/growers/irrigation/propose?source=odo%2F%C3%A4%26b-cccccccc"; !strings.Contains(lines, want) {
		t.Errorf("it says\n%s\nwithout %s", lines, want)
	}
	if f.Console = ""; strings.Contains(strings.Join(wayOut(Update{New: "c"}, f, "main"), "\n"), "propose?") {
		t.Error("a page of nowhere")
	}
}

// While a protected branch is frozen it does not move by a push, whoever pushes and whatever else lets it through; other
// branches do, and a hold is of the queue alone.
func TestP1NothingIsPushedWhileFrozen(t *testing.T) {
	doc, findings := rules.Parse(document + "  - {name: open, branches: free, push: role:writer, exempt: person:odo}\n")
	if findings != nil {
		t.Fatal(findings)
	}
	f := Facts{Repository: "growers/irrigation", Pusher: people.Person{Login: "odo", Role: people.Maintainer, Teams: []string{"release"}}, Rules: doc.Alone(5), Default: "main"}
	moves := []Update{{Ref: "refs/heads/play", Old: a, New: b, Forward: true}, {Ref: "refs/heads/play", Old: a, New: b}, {Ref: "refs/heads/play", Old: a}, {Ref: "refs/heads/release/1", New: b},
		{Ref: "refs/heads/free", Old: a, New: b, Forward: true}}
	frozen := func(s change.Stop) func(string) []change.Stop {
		return func(branch string) []change.Stop {
			if branch == "topic" || branch == "elsewhere" {
				return nil
			}
			return []change.Stop{s}
		}
	}
	for _, u := range moves {
		f.Stops = nil
		if v := Judge(u, f); !v.Allowed {
			t.Errorf("%v is refused anyway: %v", u, v)
		}
		f.Stops = frozen(change.Stop{ID: 3, Hold: true, By: "ines"})
		if v := Judge(u, f); !v.Allowed {
			t.Errorf("%v is refused by a hold: %v", u, v)
		}
		f.Stops = frozen(change.Stop{ID: 3, Name: "harvest", Reason: "everybody is in the fields"})
		v := Judge(u, f)
		if v.Allowed || v.Short != "is frozen: harvest" || !strings.Contains(strings.Join(v.Lines, " "), "tavrin freeze end 3") {
			t.Errorf("%v during a freeze: %+v", u, v)
		}
	}
	if v := Judge(Update{Ref: "refs/heads/topic", Old: a, New: b}, f); !v.Allowed {
		t.Errorf("a branch that is not frozen: %+v", v)
	}
}
