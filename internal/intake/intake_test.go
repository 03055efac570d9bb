package intake_test

import (
	"strings"
	"testing"

	"tavrin/internal/git/rehearsal"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// behind is a lab in which topic lacks what main has got since, with a change from it.
func behind(t *testing.T, doc string) *lab.Lab {
	l := lab.New(t)
	if doc != "" {
		l.Rules(doc)
	}
	l.Commit("main", "", "a=1\n")
	l.Commit("topic", "main", "b=1\n")
	l.Open(l.Admin, "topic")
	l.Commit("main", "main", "c=1\n")
	return l
}

// What the service pushes for somebody is judged and recorded as their push, with the revision that follows.
func TestUpdatesArePushes(t *testing.T) {
	l := behind(t, "")
	c, err := l.Intake.UpdateBranch(t.Context(), l.Admin, lab.Name, 1, rehearsal.Rebase)
	l.Ok(err)
	if c.Revision != 2 || c.Behind != 0 || c.Head != l.Tip("topic") {
		t.Errorf("the change is %+v", c)
	}
	if got := l.Kinds(2); got != "branch.moved change.revised" {
		t.Errorf("the journal ends with %s", got)
	}
	_, err = l.Intake.UpdateBranch(t.Context(), l.Admin, lab.Name, 1, rehearsal.Rebase)
	l.Is(err, problem.Conflict, "has everything of main already")
}

// A push that the rules refuse moves nothing and is told why (P1).
func TestP1RefusedUpdatesMoveNothing(t *testing.T) {
	l := behind(t, "tavrin: rules/1\nprotect:\n  - name: topics\n    branches: topic\n    push: nobody\n")
	was := l.Tip("topic")
	_, err := l.Intake.UpdateBranch(t.Context(), l.Admin, lab.Name, 1, rehearsal.Rebase)
	l.Is(err, problem.Conflict, "topic was not moved")
	var open int64
	l.Ok(l.Records.Read(t.Context()).Model(&records.Intent{}).Count(&open).Error)
	if l.Tip("topic") != was || open != 0 {
		t.Errorf("topic is at %s, with %d intents", l.Tip("topic"), open)
	}
	refused, err := l.Access.Refusals(l.Admin)
	l.Ok(err)
	if len(refused) != 1 || refused[0].Who != "admin" || !strings.Contains(refused[0].What, "refs/heads/topic") {
		t.Errorf("counted is %+v", refused)
	}
}

// Suggestions are applied as one commit of who applies them, and their discussions are resolved with it.
func TestSuggestionsAreApplied(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Commit("main", "", "a=one\ntwo\n")
	l.Commit("topic", "main", "a=one\ntwo\nthree\n")
	l.Open(l.Admin, "topic")
	odo := l.Person("odo", "writer")
	better := "drei\n"
	th, err := l.Threads.BeginThread(ctx, odo, lab.Name, 1, wire.NewThread{Revision: 1, Path: "a", First: 3, Suggestion: &better})
	l.Ok(err)
	_, err = l.Intake.ApplySuggestions(ctx, l.Admin, lab.Name, 1, []int64{th.Comments[0].ID})
	l.Ok(err)
	text, _, err := l.Disk.Bare(l.Repo).File(ctx, l.Tip("topic"), "a", 100)
	l.Ok(err)
	all, err := l.Threads.Threads(ctx, l.Admin, lab.Name, 1)
	l.Ok(err)
	if text != "one\ntwo\ndrei\n" || !all[0].Resolved || all[0].Comments[0].AppliedAs != l.Tip("topic") {
		t.Errorf("the file is %q, the discussion %+v", text, all[0])
	}
	_, err = l.Intake.ApplySuggestions(ctx, l.Admin, lab.Name, 1, []int64{th.Comments[0].ID})
	l.Is(err, problem.Conflict, "applied comment")
}
