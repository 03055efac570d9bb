package journal

import (
	"fmt"
	"maps"

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

// Filled gives a story that was read back the parts of which there was nothing.
func (s *Story) Filled() {
	empty := NewStory()
	if s.Refs == nil {
		s.Refs = empty.Refs
	}
	if s.Checks == nil {
		s.Checks = empty.Checks
	}
	if s.Reviews == nil {
		s.Reviews = empty.Reviews
	}
	if s.Landings == nil {
		s.Landings = empty.Landings
	}
	if s.Rules == nil {
		s.Rules = empty.Rules
	}
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
	case event.RepositoryRenamed:
		s.rename(e.Was, e.Name)
	case event.RepositoryPurged:
		maps.DeleteFunc(s.Refs, func(r Ref, _ string) bool { return r.Repository == e.Name })
		s.rename(e.Name, e.Kept)
	case event.BranchCreated, event.BranchMoved, event.TagCreated, event.TagMoved:
		s.Refs[Ref{l.Repository, e.Subject()}] = e.(interface{ Target() string }).Target()
	case event.BranchDeleted, event.TagDeleted:
		delete(s.Refs, Ref{l.Repository, e.Subject()})
	case event.CheckAsked:
		s.Checks[attempt(l, e.OfCheck)] = Verdict{State: "waiting"}
	case event.CheckReported:
		s.Checks[attempt(l, e.OfCheck)] = Verdict{e.State, l.Actor}
	case event.CheckReused:
		s.Checks[attempt(l, e.OfCheck)] = Verdict{"passed", e.By}
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

// rename has everything of a repository go on under another name. What was under that one before belonged to a repository
// that had to give it up first.
func (s *Story) rename(was, now string) {
	rekey(s.Refs, func(k Ref) (Ref, bool) { return Ref{now, k.Name}, k.Repository == was })
	rekey(s.Checks, func(k Attempt) (Attempt, bool) { return Attempt{now, k.Commit, k.Name, k.Number}, k.Repository == was })
	rekey(s.Reviews, func(k Review) (Review, bool) { return Review{Change{now, k.Number}, k.By}, k.Repository == was })
	rekey(s.Landings, func(k Change) (Change, bool) { return Change{now, k.Number}, k.Repository == was })
	rekey(s.Rules, func(k Rules) (Rules, bool) { return Rules{now, k.Version}, k.Of == was })
}

// rekey moves what is under some keys of a map to others.
func rekey[K comparable, V any](m map[K]V, to func(K) (K, bool)) {
	moved := map[K]V{}
	for k, v := range m {
		if other, moves := to(k); moves {
			delete(m, k)
			moved[other] = v
		}
	}
	maps.Copy(m, moved)
}

func attempt(l Line, c event.OfCheck) Attempt {
	return Attempt{l.Repository, c.Commit, c.Name, c.Attempt}
}
