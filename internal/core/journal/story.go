package journal

import (
	"encoding/json"
	"fmt"
	"strings"
)

// Story is what the lines of a journal say has come of it all: where each branch and tag points, how each check ended, which
// reviews stand, what landed, which rules are in force. Records and repositories that are as they were written agree with it.
//
// It says nothing of what lines do not hold: texts of comments, roles, tokens, and what stands in a file of Git's.
type Story struct {
	Refs     map[Ref]string
	Checks   map[Attempt]Verdict
	Reviews  map[Review]Standing
	Landings map[Change]Landing
	Rules    map[Rules]string
}

// Ref is a branch or a tag of a repository, by its full name.
type Ref struct{ Repository, Name string }

// Attempt is one attempt of a check on a commit.
type Attempt struct {
	Repository, Commit, Name string
	Number                   int
}

// Verdict is the newest state of an attempt, and who reported it.
type Verdict struct{ State, By string }

// Review is whose review of what change.
type Review struct {
	Change
	By string
}

// Standing is a review's verdict on a revision.
type Standing struct {
	Verdict  string
	Revision int
}

// Change is a change of a repository.
type Change struct {
	Repository string
	Number     int
}

// Landing is how a change landed. Statement is the SHA-256 of its statement, in hexadecimal.
type Landing struct{ Old, New, Strategy, Statement string }

// Rules is one version of a repository's or house's rules. The story holds the SHA-256 of its text.
type Rules struct {
	Of      string
	Version int
}

// NewStory returns the story of no lines.
func NewStory() *Story {
	return &Story{Refs: map[Ref]string{}, Checks: map[Attempt]Verdict{}, Reviews: map[Review]Standing{}, Landings: map[Change]Landing{}, Rules: map[Rules]string{}}
}

// told is what lines carry besides their words, of any kind.
type told struct {
	Number, Revision, Attempt, Version    int
	Name, Commit, State, Target, Old, New string
	Strategy                              string
	Statement                             string `json:"statement_sha256"`
	RulesOf                               string `json:"rules_of"`
	Text                                  string `json:"text_sha256"`
	Refs                                  map[string]string
}

// Take goes on with one more line. Lines have to come in their order.
func (s *Story) Take(l Line) error {
	var d told
	if len(l.Data) > 0 {
		if err := json.Unmarshal(l.Data, &d); err != nil {
			return fmt.Errorf("line %d: what it carries is not what a line of kind %s carries: %w", l.Seq, l.Kind, err)
		}
	}
	number := 0
	fmt.Sscanf(l.Subject, "change/%d", &number)
	change := Change{l.Repository, number}
	switch kind, rest, _ := strings.Cut(l.Kind, "."); kind {
	case "branch", "tag":
		s.moved(Ref{l.Repository, l.Subject}, rest, d.New)
	case "repository":
		for name, id := range d.Refs {
			s.Refs[Ref{l.Repository, name}] = id
		}
	case "check":
		s.checked(l, rest, d)
	case "review":
		switch rest {
		case "approve", "object":
			s.Reviews[Review{change, l.Actor}] = Standing{rest, d.Revision}
		case "withdrawn":
			delete(s.Reviews, Review{change, l.Actor})
		}
	case "change":
		if rest == "landed" {
			s.Landings[change] = Landing{d.Old, d.New, d.Strategy, d.Statement}
			s.Refs[Ref{l.Repository, "refs/heads/" + d.Target}] = d.New
		}
	case "rules":
		if rest == "applied" {
			s.Rules[Rules{d.RulesOf, d.Version}] = d.Text
		}
	}
	return nil
}

func (s *Story) moved(r Ref, how, to string) {
	switch how {
	case "created", "moved":
		s.Refs[r] = to
	case "deleted":
		delete(s.Refs, r)
	}
}

func (s *Story) checked(l Line, how string, d told) {
	a := Attempt{l.Repository, d.Commit, d.Name, d.Attempt}
	switch how {
	case "asked":
		s.Checks[a] = Verdict{State: "waiting"}
	case "reported":
		s.Checks[a] = Verdict{d.State, l.Actor}
	case "silent":
		s.Checks[a] = Verdict{State: "errored"}
	case "given-back":
		s.Checks[a] = Verdict{State: "waiting"}
	}
}
