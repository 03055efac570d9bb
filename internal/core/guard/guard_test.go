package guard

import (
	"strings"
	"testing"

	"tavrin/internal/core/gate"
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
	writer := gate.Person{Login: "tamsin", Role: gate.Writer}
	releaser := gate.Person{Login: "odo", Role: gate.Writer, Teams: []string{"release"}}
	maintainer := gate.Person{Login: "ines", Role: gate.Maintainer}
	cases := []struct {
		name    string
		update  Update
		pusher  gate.Person
		empty   bool
		allowed bool
		short   string
		long    string
	}{
		{"a new branch", Update{"refs/heads/topic", "", b, false}, writer, false, true, "", "tavrin change open --repo growers/irrigation --source topic"},
		{"rewriting one's own branch", Update{"refs/heads/topic", a, b, false}, writer, false, true, "", ""},
		{"deleting one's own branch", Update{"refs/heads/topic", a, "", false}, writer, false, true, "", ""},
		{"a reader", Update{"refs/heads/topic", "", b, false}, gate.Person{Login: "pavo", Role: gate.Reader}, false, false, "may not write", "role writer"},
		{"the trunk", Update{"refs/heads/main", a, b, true}, writer, false, false, "trunk: nobody pushes", "git push origin bbbbbbbbbb:refs/heads/tamsin/main-bbbbbbbb"},
		{"the trunk, as maintainer", Update{"refs/heads/main", a, b, true}, maintainer, false, false, "trunk: nobody pushes", "git reset --keep origin/main"},
		{"rewriting the trunk", Update{"refs/heads/main", a, b, false}, maintainer, false, false, "history is not rewritten", "does not contain main's aaaaaaaaaa"},
		{"deleting the trunk", Update{"refs/heads/main", a, "", false}, maintainer, false, false, "trunk: it is not deleted", "rules version 5, line 3"},
		{"a release, by the team", Update{"refs/heads/release/1", a, b, true}, releaser, false, true, "", ""},
		{"a release, by another", Update{"refs/heads/release/1", a, b, true}, maintainer, false, false, "only team:release", "line 8"},
		{"rewriting a release", Update{"refs/heads/release/1", a, b, false}, releaser, false, false, "history is not rewritten", ""},
		{"deleting a release, allowed to the team", Update{"refs/heads/release/1", a, "", false}, releaser, false, true, "", ""},
		{"a new release, by another", Update{"refs/heads/release/2", "", b, false}, writer, false, false, "only team:release", ""},
		{"rewriting the sandbox", Update{"refs/heads/play", a, b, false}, writer, false, true, "", ""},
		{"first push, by a writer", Update{"refs/heads/main", "", b, false}, writer, true, false, "for maintainers", "ask one of them"},
		{"first push, by a maintainer", Update{"refs/heads/main", "", b, false}, maintainer, true, true, "", ""},
		{"a new tag", Update{"refs/tags/v1", "", b, false}, writer, false, true, "", ""},
		{"moving a tag", Update{"refs/tags/v1", a, b, true}, writer, false, false, "tags do not move", ""},
		{"a name of the service's own", Update{"refs/tavrin/revisions/1/1", "", b, false}, maintainer, false, false, "not a branch or tag", ""},
		{"a name of nobody", Update{"refs/notes/x", "", b, false}, maintainer, false, false, "not a branch or tag", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			v := Judge(c.update, Facts{Repository: "growers/irrigation", Pusher: c.pusher, Rules: doc, Version: 5, Empty: c.empty, Default: "main"})
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
	v := Judge(Update{"refs/heads/main", a, "", false}, Facts{Pusher: gate.Person{Login: "ines", Role: gate.Maintainer}, Default: "main"})
	if v.Allowed {
		t.Error("the default branch was deleted")
	}
}

func TestCommandsAreSafeToPaste(t *testing.T) {
	v := Judge(Update{"refs/heads/a;rm$(x)", "", b, false}, Facts{Repository: "growers/irrigation", Pusher: gate.Person{Login: "ines", Role: gate.Writer}, Default: "main"})
	if text := strings.Join(v.Lines, "\n"); !strings.Contains(text, "'a;rm$(x)'") {
		t.Errorf("not quoted:\n%s", text)
	}
}
