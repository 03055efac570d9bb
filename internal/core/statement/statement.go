// Package statement is what is kept of a landing for good: the facts that its gate was judged by, and the signed statement
// of why it was allowed.
//
// Both outlive the program that wrote them, so both have a form of their own with a version, apart from what the API
// answers: a field of the API may be renamed, a field here only together with the version. What is in testdata holds the forms
// to that.
package statement

import (
	"encoding/json"
	"fmt"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/require"
)

// MediaType is that of in-toto statements (https://in-toto.io), in the envelopes that carry them.
const MediaType = "application/vnd.in-toto+json"

// The types of the statement and of what it says, each with its version.
const (
	Type          = "https://in-toto.io/Statement/v1"
	PredicateType = "https://tavrin.invalid/landing/v1"
)

// FactsVersion is the version of the form in which facts are kept.
const FactsVersion = 1

// Statement is an in-toto statement, version 1, about the landed commit.
type Statement struct {
	Type          string    `json:"_type"`
	Subject       []Subject `json:"subject"`
	PredicateType string    `json:"predicateType"`
	Predicate     Landing   `json:"predicate"`
}

// Subject names what a statement is about: a branch of a repository, at a commit.
type Subject struct {
	Name   string `json:"name"` // HOUSE/NAME@REF
	Digest Digest `json:"digest"`
}

// Digest is a commit id, under the name that in-toto has for it.
type Digest struct {
	GitCommit string `json:"gitCommit"`
}

// Landing is what the statement says: what landed, by which rules, at whose wish, and why that was allowed.
type Landing struct {
	Repository string `json:"repository"`
	Change     int    `json:"change"`
	Revision   int    `json:"revision"`
	Old        string `json:"old"`
	New        string `json:"new"`
	// Tip is where the branch was moved, where others landed with it, on top of it.
	Tip string `json:"tip,omitempty"`
	// Tested is the commit that the checks of the facts ran on, where it is another than what landed: the tip that it landed
	// with, or, where the rules have areas tested side by side, what it was built anew from: what landed in between touches
	// no area that it does.
	Tested       string          `json:"tested,omitempty"`
	Strategy     string          `json:"strategy"`
	RulesVersion int             `json:"rules_version"`
	HouseVersion int             `json:"house_version"`
	AskedBy      string          `json:"asked_by"`
	IntendedAt   time.Time       `json:"intended_at"`
	Facts        json.RawMessage `json:"facts"` // as they are kept, with their version
	Report       Report          `json:"report"`
}

// Report is the gate as it was judged at the moment of landing.
type Report struct {
	Revision     int           `json:"revision"`
	RulesVersion int           `json:"rules_version"`
	HouseVersion int           `json:"house_version"`
	Clear        bool          `json:"clear"`
	Summary      string        `json:"summary"`
	Requirements []Requirement `json:"requirements"`
	Reviews      []Review      `json:"reviews"`
	Approvers    []string      `json:"approvers"`
	Exempted     []string      `json:"exempted"` // protections that did not bind who asked to land
	Waivers      []int64       `json:"waivers"`  // numbers of those that it rested on
}

// Requirement is one line of the report.
type Requirement struct {
	Key     string   `json:"key"`
	Kind    string   `json:"kind"`
	Group   string   `json:"group"`
	Title   string   `json:"title"`
	Lacks   string   `json:"lacks,omitempty"` // of what was only advised, or waived
	Level   string   `json:"level"`
	State   string   `json:"state"`
	Have    int      `json:"have"`
	Need    int      `json:"need"`
	Asked   string   `json:"asked_by"` // where the demand came from, in words
	Sources []Source `json:"sources"`
	Note    string   `json:"note,omitempty"` // why it was not asked, or waived
	At      string   `json:"at"`
	Checks  []string `json:"checks,omitempty"`
}

// Source is a place in a rules document.
type Source struct {
	Document   string `json:"document,omitempty"` // "house NAME"; absent: the repository's own
	Protection string `json:"protection"`
	Version    int    `json:"version"`
	Line       int    `json:"line"`
}

// Review is a review that stood, and what it did to the gate.
type Review struct {
	By       string   `json:"by"`
	Verdict  string   `json:"verdict"`
	Revision int      `json:"revision"`
	For      []string `json:"for"`
	Not      []string `json:"not"`
	Since    []string `json:"since,omitempty"`
}

// Of makes the statement of a landing.
func Of(ref string, l Landing) Statement {
	return Statement{Type: Type, Subject: []Subject{{Name: l.Repository + "@" + ref, Digest: Digest{l.New}}},
		PredicateType: PredicateType, Predicate: l}
}

// Read reads the payload of a statement's envelope. One of another type or version is an error.
func Read(payload []byte) (Statement, error) {
	var s Statement
	if err := json.Unmarshal(payload, &s); err != nil {
		return Statement{}, fmt.Errorf("read a statement: %w", err)
	}
	if s.Type != Type || s.PredicateType != PredicateType {
		return Statement{}, fmt.Errorf("a statement of type %q about %q; this program reads %q about %q",
			s.Type, s.PredicateType, Type, PredicateType)
	}
	return s, nil
}

// Judged is a gate report in the form in which it is kept.
func Judged(r gate.Report) Report {
	out := Report{Revision: r.Revision, RulesVersion: r.RulesVersion, HouseVersion: r.HouseVersion, Clear: r.Clear,
		Summary: r.Summary, Requirements: make([]Requirement, 0, len(r.Requirements)), Reviews: make([]Review, 0, len(r.Reviews)),
		Approvers: given(r.Approvers), Exempted: given(r.Exempted), Waivers: given(r.Waivers)}
	for _, o := range r.Requirements {
		q := Requirement{Key: o.Key, Kind: o.Kind, Group: string(o.Group), Title: o.Title, Lacks: o.Lacks, Level: string(o.Level),
			State: string(o.State), Have: o.Have, Need: o.Need, Asked: o.Because, Sources: []Source{}, Note: o.Next,
			At: o.At, Checks: o.Checks}
		for _, s := range o.Sources {
			q.Sources = append(q.Sources, Source(s))
		}
		out.Requirements = append(out.Requirements, q)
	}
	for _, w := range r.Reviews {
		out.Reviews = append(out.Reviews, Review{w.By, string(w.Verdict), w.Revision, given(w.For), given(w.Not), w.Since})
	}
	return out
}

// Gate is a kept report as a gate report again. Of one that has landed nobody can do anything more, so that it names no
// next steps.
func (r Report) Gate() gate.Report {
	out := gate.Report{Revision: r.Revision, RulesVersion: r.RulesVersion, HouseVersion: r.HouseVersion, Ready: r.Clear,
		Clear: r.Clear, Summary: r.Summary, Requirements: make([]require.Outcome, 0, len(r.Requirements)),
		Reviews: make([]require.Weighed, 0, len(r.Reviews)), Approvers: r.Approvers, Exempted: r.Exempted, Waivers: r.Waivers}
	for _, q := range r.Requirements {
		o := require.Outcome{Key: q.Key, Kind: q.Kind, Group: require.Group(q.Group), Title: q.Title, Lacks: q.Lacks,
			Level: require.Level(q.Level), State: require.State(q.State), Have: q.Have, Need: q.Need, Because: q.Asked,
			Sources: []require.Source{}, Who: []string{}, Next: q.Note, Steps: []require.Step{}, At: q.At, Checks: q.Checks}
		for _, s := range q.Sources {
			o.Sources = append(o.Sources, require.Source(s))
		}
		out.Requirements = append(out.Requirements, o)
	}
	for _, w := range r.Reviews {
		out.Reviews = append(out.Reviews, require.Weighed{By: w.By, Verdict: change.Verdict(w.Verdict), Revision: w.Revision,
			For: w.For, Not: w.Not, Since: w.Since})
	}
	return out
}

// given is a list that is never absent.
func given[T any](list []T) []T { return append([]T{}, list...) }

// kept is the form in which facts are kept.
type kept struct {
	Version int             `json:"version"`
	Facts   json.RawMessage `json:"facts"`
}

// KeepFacts writes the facts that a gate is judged by in the form in which they are kept: with the people who have a part in
// them, however many others there are.
func KeepFacts(f change.Facts) ([]byte, error) {
	facts, err := json.Marshal(f.Parts())
	if err != nil {
		return nil, fmt.Errorf("keep the facts of change %d: %w", f.Number, err)
	}
	return json.Marshal(kept{FactsVersion, facts})
}

// ReadFacts reads facts that were kept. Those of another version are an error.
func ReadFacts(text []byte) (change.Facts, error) {
	var k kept
	var f change.Facts
	if err := json.Unmarshal(text, &k); err != nil {
		return f, fmt.Errorf("read kept facts: %w", err)
	}
	if k.Version != FactsVersion {
		return f, fmt.Errorf("kept facts have version %d; this program reads version %d", k.Version, FactsVersion)
	}
	if err := json.Unmarshal(k.Facts, &f); err != nil {
		return f, fmt.Errorf("read kept facts: %w", err)
	}
	return f, nil
}
