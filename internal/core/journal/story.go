package journal

import (
	"fmt"

	"tavrin/internal/core/event"
)

// Story is what the lines of a journal say has come of it all: where each branch and tag points, how each check ended,
// which reviews stand, what landed, which rules are in force. Records and repositories that are as they were written
// agree with it.
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
	return &Story{Refs: map[Ref]string{}, Checks: map[Attempt]Verdict{}, Reviews: map[Review]Standing{},
		Landings: map[Change]Landing{}, Rules: map[Rules]string{}}
}

// Take goes on with one more line. Lines have to come in their order. Kinds that the story says nothing of are passed
// over.
func (s *Story) Take(l Line) error {
	happened, err := event.Decode(l.Kind, l.Data)
	if err != nil {
		return fmt.Errorf("line %d: %w", l.Seq, err)
	}
	switch e := happened.(type) {
	case event.RepositoryCreated:
		for _, r := range e.Refs {
			s.Refs[Ref{l.Repository, r.Name}] = r.ID
		}
	case event.BranchCreated, event.BranchMoved, event.TagCreated, event.TagMoved:
		s.Refs[Ref{l.Repository, e.Subject()}] = e.(interface{ Target() string }).Target()
	case event.BranchDeleted, event.TagDeleted:
		delete(s.Refs, Ref{l.Repository, e.Subject()})
	case event.CheckAsked:
		s.Checks[attempt(l, e.OfCheck)] = Verdict{State: "waiting"}
	case event.CheckReported:
		s.Checks[attempt(l, e.OfCheck)] = Verdict{e.State, l.Actor}
	case event.CheckTimedOut:
		s.Checks[attempt(l, e.OfCheck)] = Verdict{State: "errored"}
	case event.CheckGivenBack:
		s.Checks[attempt(l, e.OfCheck)] = Verdict{State: "waiting"}
	case event.ReviewApproved:
		s.Reviews[Review{Change{l.Repository, e.Number}, l.Actor}] = Standing{"approve", e.Revision}
	case event.ReviewObjected:
		s.Reviews[Review{Change{l.Repository, e.Number}, l.Actor}] = Standing{"object", e.Revision}
	case event.ReviewWithdrawn:
		delete(s.Reviews, Review{Change{l.Repository, e.Number}, l.Actor})
	case event.ChangeLanded:
		s.Landings[Change{l.Repository, e.Number}] = Landing{e.Old, e.New, e.Strategy, e.StatementSHA256}
		s.Refs[Ref{l.Repository, "refs/heads/" + e.Target}] = e.New
	case event.RulesApplied:
		s.Rules[Rules{e.RulesOf, e.Version}] = e.TextSHA256
	}
	return nil
}

func attempt(l Line, c event.OfCheck) Attempt {
	return Attempt{l.Repository, c.Commit, c.Name, c.Attempt}
}
