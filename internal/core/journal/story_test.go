package journal

import (
	"encoding/json"
	"testing"

	"tavrin/internal/core/event"
)

// What has come of it is what the newest lines say.
func TestStory(t *testing.T) {
	s := NewStory()
	seq := int64(0)
	say := func(by string, e event.Event) {
		t.Helper()
		seq++
		data, err := json.Marshal(e)
		if err == nil {
			err = s.Take(Line{Seq: seq, Kind: event.KindOf(e).Name, Repository: "growers/irrigation", Subject: e.Subject(), Actor: by, Data: data})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	change := event.OfChange{Number: 7}
	unit, lint := event.OfCheck{Name: "unit", Commit: "c", Attempt: 1}, event.OfCheck{Name: "lint", Commit: "c", Attempt: 1}
	again := event.OfCheck{Name: "unit", Commit: "c", Attempt: 2}
	say("ines", event.RepositoryCreated{Refs: []event.Ref{{Name: "refs/heads/old", ID: "0"}}})
	say("ines", event.BranchCreated{RefMove: event.RefMove{Ref: "refs/heads/main", New: "a"}})
	say("wren", event.BranchCreated{RefMove: event.RefMove{Ref: "refs/heads/topic", New: "b"}})
	say("wren", event.BranchMoved{RefMove: event.RefMove{Ref: "refs/heads/topic", Old: "b", New: "c"}})
	say("ines", event.TagCreated{RefMove: event.RefMove{Ref: "refs/tags/v1", New: "a"}})
	say("ines", event.TagDeleted{RefMove: event.RefMove{Ref: "refs/tags/v1", Old: "a"}})
	say("tavrin", event.BranchKept{Ref: "refs/heads/topic"})
	say("tavrin", event.CheckAsked{OfCheck: unit})
	say("builder", event.CheckReported{OfCheck: unit, State: "failed"})
	say("wren", event.CheckAsked{OfCheck: again})
	say("builder", event.CheckReported{OfCheck: again, State: "passed"})
	say("wren", event.CheckAsked{OfCheck: lint})
	say("tavrin", event.CheckTimedOut{OfCheck: lint})
	say("odo", event.ReviewApproved{Word: event.Word{OfChange: change, Revision: 1}})
	say("ines", event.ReviewApproved{Word: event.Word{OfChange: change, Revision: 2}})
	say("ines", event.ReviewCommented{Word: event.Word{OfChange: change, Revision: 3}})
	say("odo", event.ReviewWithdrawn{OfChange: change})
	say("ines", event.RulesApplied{RulesOf: "growers/irrigation", Version: 2, TextSHA256: "f"})
	say("wren", event.ChangeLanded{OfChange: change, Target: "main", Old: "a", New: "d", Strategy: "squash", StatementSHA256: "e"})
	repo := "growers/irrigation"
	for ref, want := range map[string]string{"refs/heads/main": "d", "refs/heads/topic": "c", "refs/heads/old": "0", "refs/tags/v1": ""} {
		if got := s.Refs[Ref{repo, ref}]; got != want {
			t.Errorf("%s is at %q", ref, got)
		}
	}
	if s.Checks[Attempt{repo, "c", "unit", 1}] != (Verdict{"failed", "builder"}) || s.Checks[Attempt{repo, "c", "unit", 2}] != (Verdict{"passed", "builder"}) || s.Checks[Attempt{repo, "c", "lint", 1}].State != "errored" {
		t.Errorf("checks are %+v", s.Checks)
	}
	if len(s.Reviews) != 1 || s.Reviews[Review{Change{repo, 7}, "ines"}] != (Standing{"approve", 2}) {
		t.Errorf("reviews are %+v", s.Reviews)
	}
	if s.Landings[Change{repo, 7}] != (Landing{"a", "d", "squash", "e"}) || s.Rules[Rules{repo, 2}] != "f" {
		t.Errorf("landings are %+v, rules %+v", s.Landings, s.Rules)
	}
	if err := s.Take(Line{Seq: 99, Kind: "check.reported", Data: json.RawMessage(`{"attempt":"x"}`)}); err == nil {
		t.Error("a line that carries something else is taken")
	}
}
