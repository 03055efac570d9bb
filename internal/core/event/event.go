// Package event says what can happen: one struct for each kind of event, with everything that is told of it.
//
// The journal, the stream, notifications and whatever leaves the service are made from these structs, and what is
// remembered is forgotten by what they say they touch. A kind is known by its type, never by how its name begins. The
// words of an event are made here and nowhere else.
//
// The package is pure. Who did it, when and in which repository is not part of an event: the line of the journal says
// that of every one (see package journal).
package event

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
)

// Event is something that happened. Its exported fields are what is told of it.
type Event interface {
	// Subject is what it happened to, such as change/4.
	Subject() string
	// Text says it in a sentence, in which by is who did it.
	Text(by string) string
}

// Touch says what depends on an event: what was remembered of that has to be worked out anew.
type Touch int

// What an event touches.
const (
	Nothing Touch = iota // no gate depends on it
	// the gate of the change that it is of, and nobody else's; where it is of none, the repository's
	Own
	// the gates of changes from or to the branch that it is of
	Branch
	// the gates that go by the checks on its commit; where it is of no change, the repository's
	Commit
	Repository // every gate of its repository: others wait for a change, or count what it is
	Everything // every gate: people, teams, houses belong to no repository
)

// Hearer says who hears of an event, but for who did it.
type Hearer int

// Who hears of an event.
const (
	Nobody    Hearer = iota
	Part             // who has a part in the change, or follows it
	Followers        // who follows the repository
	Both             // both of them
)

// Kind is what is known of all events of one kind.
type Kind struct {
	Name    string // such as change.opened
	Means   string // what happened, in a sentence
	Touches Touch
	Hears   Hearer
	Leaves  bool  // whether it may be sent out of the service; what is about access stays
	Moves   bool  // whether a branch or tag moved with it
	Apart   bool  // whether it may happen to a repository that is stopped, whoever does it
	Example Event // of the kind's type, with content that is made up
}

// byType and byName find kinds.
var byType, byName = func() (map[reflect.Type]*Kind, map[string]*Kind) {
	types, names := map[reflect.Type]*Kind{}, map[string]*Kind{}
	for i := range Kinds {
		k := &Kinds[i]
		types[reflect.TypeOf(k.Example)] = k
		names[k.Name] = k
	}
	return types, names
}()

// KindOf returns what is known of the kind of an event. Every type of the package has one.
func KindOf(e Event) *Kind {
	k := byType[reflect.TypeOf(e)]
	if k == nil {
		panic(fmt.Sprintf("event: %T is not among Kinds", e))
	}
	return k
}

// Named returns what is known of a kind, by its name; nil: there is none of that name.
func Named(kind string) *Kind { return byName[kind] }

// Decode reads an event back from its kind and its JSON. A kind that is not known gives nil and no error.
func Decode(kind string, data []byte) (Event, error) {
	k := byName[kind]
	if k == nil {
		return nil, nil
	}
	e := reflect.New(reflect.TypeOf(k.Example))
	if len(data) > 0 {
		if err := json.Unmarshal(data, e.Interface()); err != nil {
			return nil, fmt.Errorf("what it carries is not what %s carries: %w", kind, err)
		}
	}
	return e.Elem().Interface().(Event), nil
}

// Heard lists the names of the kinds that somebody hears of who is one of these.
func Heard(by Hearer) []string {
	var names []string
	for _, k := range Kinds {
		if k.Hears == by || k.Hears == Both {
			names = append(names, k.Name)
		}
	}
	return names
}

// OfChange is part of every event of a change.
type OfChange struct {
	Number int `json:"number" doc:"of the change"`
}

// Subject is change/NUMBER.
func (c OfChange) Subject() string { return fmt.Sprintf("change/%d", c.Number) }

// Change returns the number of the change.
func (c OfChange) Change() int { return c.Number }

// ChangeOf returns the number of the change that an event is of; 0: it is of none.
func ChangeOf(e Event) int {
	if c, ok := e.(interface{ Change() int }); ok {
		return c.Change()
	}
	return 0
}

// CheckedOn returns the commit that an event of a check is about, and the change for whose sake it was asked for; 0: of none.
func CheckedOn(e Event) (commit string, change int) {
	if c, ok := e.(interface{ CheckedOn() (string, int) }); ok {
		return c.CheckedOn()
	}
	return "", 0
}

// short is how commits are named in sentences.
func short(commit string) string { return commit[:min(len(commit), 10)] }

// listed puts a list into a sentence.
func listed(list []string, none string) string {
	if len(list) == 0 {
		return none
	}
	return strings.Join(list, ", ")
}

// branch is the name of a branch or tag without what every ref of its sort begins with.
func branch(ref string) string {
	return strings.TrimPrefix(strings.TrimPrefix(ref, "refs/heads/"), "refs/tags/")
}

// only is a list of what is named; where nothing is, it is empty.
func only(name string) []string {
	if name == "" {
		return nil
	}
	return []string{name}
}

// listedAnd puts a list into a sentence, with "and" between.
func listedAnd(list []string) string { return strings.Join(list, " and ") }
