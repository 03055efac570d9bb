// Package problem is how the service says no to a person: what was wrong, where, and what would be right.
//
// Every room above it refuses with a Problem; every face (API, console, command line, git) shows its sentence as it is.
// Any other error is trouble of the service's own, and nobody who asks is told more than that.
package problem

import (
	"errors"
	"fmt"

	"tavrin/internal/core/grammar"
)

// Kind says what sort of problem a caller has, so that it can decide by it.
type Kind string

// The kinds of problem.
const (
	Invalid      Kind = "invalid"      // what was sent is not right
	Unknown      Kind = "not-found"    // there is none, or you may not know of it
	SignInNeeded Kind = "sign-in"      // no token, or one that is not good
	Forbidden    Kind = "forbidden"    // you may not
	Conflict     Kind = "conflict"     // it has changed, or is there already
	Precondition Kind = "precondition" // say on which version you act
	// the service has trouble of its own; it goes on by itself, or an administrator is told
	Unavailable Kind = "unavailable"
)

// Problem is an error for the person who asked.
type Problem struct {
	Kind     Kind
	Text     string            // a sentence
	Field    string            // the field of the request it is about, if one
	Findings []grammar.Finding // of a rules document
	Rights   bool              // there is what was asked for, and it is a matter of rights; nobody who asks is told so
}

// Error returns the sentence.
func (p *Problem) Error() string { return p.Text }

// New makes a problem of a sentence.
func New(kind Kind, format string, args ...any) error {
	return &Problem{Kind: kind, Text: fmt.Sprintf(format, args...)}
}

// Wrong says what is wrong with a field of the request.
func Wrong(field, format string, args ...any) error {
	return &Problem{Kind: Invalid, Field: field, Text: fmt.Sprintf(format, args...)}
}

// First picks the first problem of joined errors, so that one sentence reaches the person.
func First(err error) error {
	if p, ok := errors.AsType[*Problem](err); ok {
		return p
	}
	return err
}

// FindingsOf returns the findings about a rules document that an error carries; nil: none.
func FindingsOf(err error) []grammar.Finding {
	if p, ok := errors.AsType[*Problem](err); ok {
		return p.Findings
	}
	return nil
}
