package journal

import (
	"encoding/json"
	"testing"
)

// What has come of it is what the newest lines say.
func TestStory(t *testing.T) {
	s := NewStory()
	seq := int64(0)
	say := func(kind, subject, actor, data string) {
		t.Helper()
		seq++
		if err := s.Take(Line{Seq: seq, Kind: kind, Repository: "growers/irrigation", Subject: subject, Actor: actor, Data: json.RawMessage(data)}); err != nil {
			t.Fatal(err)
		}
	}
	say("repository.created", "repository/growers/irrigation", "ines", `{"refs":{"refs/heads/old":"0"}}`)
	say("branch.created", "refs/heads/main", "ines", `{"old":"","new":"a"}`)
	say("branch.created", "refs/heads/topic", "wren", `{"new":"b"}`)
	say("branch.moved", "refs/heads/topic", "wren", `{"old":"b","new":"c"}`)
	say("tag.created", "refs/tags/v1", "ines", `{"new":"a"}`)
	say("tag.deleted", "refs/tags/v1", "ines", `{"old":"a","new":""}`)
	say("branch.kept", "refs/heads/topic", "tavrin", ``)
	say("check.asked", "commit/c", "tavrin", `{"name":"unit","commit":"c","attempt":1}`)
	say("check.reported", "commit/c", "builder", `{"name":"unit","commit":"c","attempt":1,"state":"failed"}`)
	say("check.asked", "commit/c", "wren", `{"name":"unit","commit":"c","attempt":2}`)
	say("check.reported", "commit/c", "builder", `{"name":"unit","commit":"c","attempt":2,"state":"passed"}`)
	say("check.asked", "commit/c", "wren", `{"name":"lint","commit":"c","attempt":1}`)
	say("check.silent", "commit/c", "tavrin", `{"name":"lint","commit":"c","attempt":1}`)
	say("review.approve", "change/7", "odo", `{"number":7,"revision":1}`)
	say("review.approve", "change/7", "ines", `{"number":7,"revision":2}`)
	say("review.comment", "change/7", "ines", `{"number":7,"revision":3}`)
	say("review.withdrawn", "change/7", "odo", ``)
	say("rules.applied", "rules/2", "ines", `{"rules_of":"growers/irrigation","version":2,"text_sha256":"f"}`)
	say("change.landed", "change/7", "wren", `{"target":"main","old":"a","new":"d","strategy":"squash","statement_sha256":"e"}`)
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
