package event

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"
)

// Every type of the package that is an event has its place among the kinds, and every kind a type of its own.
func TestEveryEventIsAKind(t *testing.T) {
	paths, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	texts := map[string]bool{} // types with a method Text
	for _, path := range paths {
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range file.Decls {
			if f, ok := d.(*ast.FuncDecl); ok && f.Recv != nil && f.Name.Name == "Text" {
				texts[f.Recv.List[0].Type.(*ast.Ident).Name] = true
			}
		}
	}
	names := map[string]bool{}
	form := regexp.MustCompile(`^[a-z]+\.[a-z-]+$`)
	for _, k := range Kinds {
		name := reflect.TypeOf(k.Example).Name()
		if !texts[name] {
			t.Errorf("%s is of type %s, which is another's or no event", k.Name, name)
		}
		delete(texts, name)
		if names[k.Name] || !form.MatchString(k.Name) || k.Means == "" {
			t.Errorf("%q is there twice, malformed, or says nothing", k.Name)
		}
		names[k.Name] = true
	}
	for name := range texts {
		t.Errorf("%s is not among Kinds", name)
	}
}

// What is written into the journal is read back as it was.
func TestDecodeReadsBack(t *testing.T) {
	for _, k := range Kinds {
		data, err := json.Marshal(k.Example)
		if err != nil {
			t.Fatal(err)
		}
		if !strings.HasPrefix(string(data), "{") {
			t.Errorf("%s is written as %s", k.Name, data)
		}
		back, err := Decode(k.Name, data)
		if err != nil || !reflect.DeepEqual(back, k.Example) {
			t.Errorf("%s: %s is read back as %#v, %v", k.Name, data, back, err)
		}
		if KindOf(back).Name != k.Name || Named(k.Name).Means != k.Means {
			t.Errorf("%s is not found again", k.Name)
		}
	}
	if e, err := Decode("weather.changed", nil); e != nil || err != nil {
		t.Errorf("a kind that is not known: %v, %v", e, err)
	}
	if _, err := Decode("check.reported", []byte(`{"attempt":"x"}`)); err == nil {
		t.Error("a line that carries something else is read")
	}
}

// Each has a subject and a sentence without gaps, and what is of a change says of which.
func TestWords(t *testing.T) {
	for _, k := range Kinds {
		text, subject := k.Example.Text("ines"), k.Example.Subject()
		if text == "" || subject == "" || strings.Contains(text, "%!") || strings.Contains(text, "  ") || strings.HasSuffix(text, ": ") {
			t.Errorf("%s of %q says %q", k.Name, subject, text)
		}
		if n := ChangeOf(k.Example); (n != 0) != strings.HasPrefix(subject, "change/") && k.Name != "rules.exempted" {
			t.Errorf("%s of %q is of change %d", k.Name, subject, n)
		}
		if k.Touches == Own && ChangeOf(k.Example) == 0 {
			t.Errorf("%s touches its change alone, and is of none", k.Name)
		}
		if (k.Hears == Part || k.Hears == Both) && ChangeOf(k.Example) == 0 {
			t.Errorf("%s is heard by who has a part in a change, and is of none", k.Name)
		}
	}
	for want, e := range map[string]Event{
		"wren made revision 2 of change 4, which goes to release/4":         ChangeRevised{OfChange: change, Revision: 2, Kind: Retargeted, Target: "release/4"},
		"wren made revision 2 of change 4, which changes the difference":    ChangeRevised{OfChange: change, Revision: 2, Kind: Rewritten},
		"wren took back what wren proposed for the rules of growers: later": RulesDeclined{Decision{"growers", 5, "wren", "later"}},
		"wren declined what odo proposed for the rules of growers: later":   RulesDeclined{Decision{"growers", 5, "odo", "later"}},
		"wren deleted evening by a push":                                    BranchDeleted{RefMove: RefMove{Ref: "refs/heads/evening"}},
		"wren pushes to refs/heads/main, exempt from a and b":               RulesExempted{Ref: "refs/heads/main", Sources: []string{"a", "b"}},
		"wren changed team duty, managed by nobody":                         TeamChanged{Team: "duty", Managers: &[]string{}},
	} {
		if got := e.Text("wren"); got != want {
			t.Errorf("%T says %q; want %q", e, got, want)
		}
	}
}

// What is about access never leaves the service, and neither does who may look into it.
func TestAccessStays(t *testing.T) {
	for _, k := range Kinds {
		switch k.Example.(type) {
		case PersonCreated, RobotCreated, AdminRecovered, AccountDisabled, AccountEnabled, TeamCreated, TeamChanged, RoleGranted, KeyAdded, KeyRemoved,
			TokenCreated, TokenRevoked, TokenRefused, SigninShutOut, SessionBegun, SessionConfirmed, FeedMade, FeedRevoked, KeyReplaced, LossAccepted, ServiceRestored:
			if k.Leaves || k.Hears != Nobody {
				t.Errorf("%s may leave the service", k.Name)
			}
		}
	}
}
