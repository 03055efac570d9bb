package service

import (
	"errors"
	"fmt"

	"tavrin/internal/core/rules"
	"tavrin/internal/store"
)

// ProblemKind says what sort of problem a caller has, so that it can decide by it.
type ProblemKind string

// The kinds of problem.
const (
	Invalid      ProblemKind = "invalid"      // what was sent is not right
	Unknown      ProblemKind = "not-found"    // there is none, or you may not know of it
	SignInNeeded ProblemKind = "sign-in"      // no token, or one that is not good
	Forbidden    ProblemKind = "forbidden"    // you may not
	Conflict     ProblemKind = "conflict"     // it has changed, or is there already
	Precondition ProblemKind = "precondition" // say on which version you act
	Unavailable  ProblemKind = "unavailable"  // the service has trouble of its own; it goes on by itself, or an administrator is told
)

// Problem is an error for the person who asked: what was wrong, where, and what would be right.
type Problem struct {
	Kind     ProblemKind
	Text     string          // a sentence
	Field    string          // the field of the request it is about, if one
	Findings []rules.Finding // of a rules document
	Rights   bool            // there is what was asked for, and it is a matter of rights; nobody who asks is told so
}

// Error returns the sentence.
func (p *Problem) Error() string { return p.Text }

func problem(kind ProblemKind, format string, args ...any) error {
	return &Problem{Kind: kind, Text: fmt.Sprintf(format, args...)}
}

func invalid(field, format string, args ...any) error {
	return &Problem{Kind: Invalid, Field: field, Text: fmt.Sprintf(format, args...)}
}

// orUnknown turns "no such record" into a problem with these words.
func orUnknown(err error, format string, args ...any) error {
	if errors.Is(err, store.ErrNotFound) {
		return problem(Unknown, format, args...)
	}
	return err
}
