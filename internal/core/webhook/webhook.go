// Package webhook decides what of the events goes out by a standing order, in which words, under which signature, and
// when to try again.
//
// It is pure: sending, waiting and remembering are others' (see package outbox).
package webhook

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/event"
	"tavrin/internal/core/glob"
)

// Filter says which events are sent. Everything that it states has to be so.
type Filter struct {
	Kinds    glob.List // of the names of kinds: check.asked, queue.*
	Branches glob.List // the event is about one of these branches; empty: about anything
	Paths    glob.List // it brings a path in these; empty: anything
	branches bool
	paths    bool
}

// NewFilter reads a filter. Kinds are names of events or globs over them, and some event that may leave the service has to be
// among them; branches and paths are globs, and none of them means all.
func NewFilter(kinds, branches, paths []string) (Filter, error) {
	nothing := errors.New("no event would be sent: name some, such as check.asked or change.*")
	if len(kinds) == 0 {
		return Filter{}, nothing
	}
	f := Filter{branches: len(branches) > 0, paths: len(paths) > 0}
	var err error
	if f.Kinds, err = glob.CompileList(kinds); err != nil {
		return f, fmt.Errorf("events: %w", err)
	}
	for _, k := range kinds {
		if e := event.Named(k); e != nil && !e.Leaves {
			return f, fmt.Errorf("events of kind %s are about access, and never leave the service", k)
		}
		one, err := glob.Compile(strings.TrimPrefix(k, "!"))
		if err != nil {
			return f, fmt.Errorf("events: %w", err)
		}
		if !slices.ContainsFunc(event.Kinds, func(e event.Kind) bool { return e.Leaves && one.Match(e.Name) }) {
			return f, fmt.Errorf("%q is no kind of event that is sent; tavrin webhook events lists them", k)
		}
	}
	if len(f.Sent()) == 0 {
		return f, nothing
	}
	if f.branches {
		if f.Branches, err = glob.CompileList(branches); err != nil {
			return f, fmt.Errorf("branches: %w", err)
		}
	}
	if f.paths {
		if f.Paths, err = glob.CompileList(paths); err != nil {
			return f, fmt.Errorf("paths: %w", err)
		}
	}
	return f, nil
}

// Takes says whether events of a kind are sent at all.
func (f Filter) Takes(k *event.Kind) bool { return k.Leaves && f.Kinds.Match(k.Name) }

// Sent lists the kinds that are sent.
func (f Filter) Sent() []*event.Kind {
	var out []*event.Kind
	for i := range event.Kinds {
		if f.Takes(&event.Kinds[i]) {
			out = append(out, &event.Kinds[i])
		}
	}
	return out
}

// AsksBranch says whether it depends on the branches that an event is about, AsksPaths on the paths that it brings.
func (f Filter) AsksBranch() bool { return f.branches }

// AsksPaths says whether it depends on the paths that an event brings.
func (f Filter) AsksPaths() bool { return f.paths }

// OnBranch says whether an event about these branches is sent.
func (f Filter) OnBranch(branches []string) bool {
	return !f.branches || slices.ContainsFunc(branches, f.Branches.Match)
}

// Brings says whether an event that brings these paths is sent.
func (f Filter) Brings(paths []string) bool {
	return !f.paths || slices.ContainsFunc(paths, f.Paths.Match)
}

// About lists the branches that an event itself names, without refs/heads/; where it names none it may be about a change.
func About(e event.Event) []string {
	on, names := e.(interface{ Branches() []string })
	if !names {
		return nil
	}
	return on.Branches()
}

// Retry is how an undelivered event is tried again.
const (
	// GiveUp is how long an event is tried after it happened; then its delivery is parked.
	GiveUp = 24 * time.Hour
	// LongestPause between two tries.
	LongestPause = time.Hour
)

var pauses = []time.Duration{time.Second, 5 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute, LongestPause}

// Pause is how long to wait after the given number of failed tries, counted from 1. What spread, from 0 to 1, moves it by
// is a fifth either way, so that what failed together does not come back together.
func Pause(failed int, spread float64) time.Duration {
	d := pauses[min(max(failed, 1), len(pauses))-1]
	return d + time.Duration((spread-0.5)*0.4*float64(d))
}

// Verdict is what an answer means for a delivery.
type Verdict int

// What an answer can mean.
const (
	Again     Verdict = iota // not taken: try again
	Delivered                // taken
	Gone                     // nobody is there any more, and says so: the webhook is switched off
)

// State is how a delivery stands.
type State string

// The states of deliveries. One that is dropped was not for its webhook after all.
const (
	Waiting State = "waiting"
	Sent    State = "delivered"
	Parked  State = "parked"
	Dropped State = "dropped"
)

// Tried is what is known of a delivery after a try.
type Tried struct {
	Since  time.Duration // since its event happened
	Failed int           // tries, this one among them
	Asked  time.Duration // the pause that the answer asks for; 0: none
	Spread float64       // from 0 to 1, by chance
}

// After is what becomes of a delivery, and, where it waits, for how long.
type After struct {
	State State
	Pause time.Duration
}

// Next says what becomes of a delivery after a try.
func Next(v Verdict, t Tried) After {
	switch {
	case v == Delivered:
		return After{State: Sent}
	case v == Gone || t.Since >= GiveUp:
		return After{State: Parked}
	}
	return After{Waiting, max(Pause(t.Failed, t.Spread), min(t.Asked, LongestPause))}
}

// Of returns what an HTTP status means, as Standard Webhooks has it: 2xx is success, 410 asks for no more, anything else,
// redirects too, is a failure.
func Of(status int) Verdict {
	switch {
	case status >= 200 && status < 300:
		return Delivered
	case status == 410:
		return Gone
	}
	return Again
}
