package desk_test

import (
	"strings"
	"testing"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/desk"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/wire"
)

const guarded = "tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    require: [{approvals: 1}]\n"

func items(l *lab.Lab, a accounts.Actor) string {
	l.T.Helper()
	all, err := l.Desk.Desk(l.T.Context(), a)
	l.Ok(err)
	var kinds []string
	for _, i := range all {
		kinds = append(kinds, i.Kind)
	}
	return strings.Join(kinds, " ")
}

// On each desk lies what waits for that person, and nothing that does not.
func TestDesk(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Rules(guarded)
	l.Commit("main", "", "a=1")
	l.Commit("topic", "main", "a=2")
	wren, odo, stranger := l.Person("wren", "writer"), l.Person("odo", "writer"), l.Person("ines", "none")
	l.Open(wren, "topic")
	if items(l, wren) != "own" || items(l, odo) != "review" || items(l, stranger) != "" {
		t.Errorf("desks are %q, %q and %q", items(l, wren), items(l, odo), items(l, stranger))
	}
	th, err := l.Threads.BeginThread(ctx, odo, lab.Name, 1, wire.NewThread{Text: "why?"})
	l.Ok(err)
	_, err = l.Changes.Review(ctx, odo, lab.Name, 1, wire.NewReview{Verdict: change.Approve, Revision: 1})
	l.Ok(err)
	if items(l, wren) != "answer" || items(l, odo) != "" {
		t.Errorf("after the approval, with a question: %q and %q", items(l, wren), items(l, odo))
	}
	_, err = l.Threads.Reply(ctx, wren, lab.Name, 1, th.ID, "because", nil)
	l.Ok(err)
	if items(l, wren) != "" || items(l, odo) != "answer" {
		t.Errorf("after the answer: %q and %q", items(l, wren), items(l, odo))
	}
	_, err = l.Desk.Desk(ctx, accounts.Actor{})
	l.Is(err, problem.SignInNeeded, "sign in")
}

// People hear of what others did to what they have a part in or follow, until they do not want to, and never of what they may
// not read.
func TestNotifications(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Commit("main", "", "a=1")
	l.Commit("topic", "main", "a=2")
	wren, odo, ines := l.Person("wren", "writer"), l.Person("odo", "writer"), l.Person("ines", "reader")
	l.Open(wren, "topic")
	_, err := l.Changes.Review(ctx, odo, lab.Name, 1, wire.NewReview{Verdict: change.Comment, Text: "a thought"})
	l.Ok(err)
	heard := func(a accounts.Actor) string {
		t.Helper()
		n, err := l.Notifications.Notifications(ctx, a, desk.NotificationQuery{})
		l.Ok(err)
		var kinds []string
		for _, x := range n.Notifications {
			kinds = append(kinds, x.Kind)
		}
		return strings.Join(kinds, " ")
	}
	if heard(wren) != "review.commented" || heard(odo) != "change.revised change.opened" || heard(ines) != "" {
		t.Errorf("heard are %q, %q and %q", heard(wren), heard(odo), heard(ines))
	}
	_, err = l.Notifications.Follow(ctx, ines, lab.Name, 0, true)
	l.Ok(err)
	_, err = l.Notifications.Follow(ctx, odo, lab.Name, 1, false)
	l.Ok(err)
	if heard(ines) != "change.opened" || heard(odo) != "" {
		t.Errorf("following and silenced: %q and %q", heard(ines), heard(odo))
	}
	feed, err := l.Notifications.MakeFeed(ctx, wren)
	l.Ok(err)
	secret := strings.TrimSuffix(strings.TrimPrefix(feed.Path, "/feeds/"), ".atom")
	login, n, err := l.Notifications.Feed(ctx, secret)
	l.Ok(err)
	if login != "wren" || len(n.Notifications) != 1 {
		t.Errorf("the feed is %s's: %+v", login, n)
	}
	l.Ok(l.People.Grant(ctx, l.Admin, lab.Name, "wren", "none"))
	if heard(wren) != "" {
		t.Errorf("without a role, wren hears %q", heard(wren))
	}
	l.Ok(l.Notifications.RevokeFeed(ctx, wren))
	_, _, err = l.Notifications.Feed(ctx, secret)
	l.Is(err, problem.Unknown, "no feed at this address")
	d, err := l.Notifications.Digest(ctx, ines, l.Now().Add(-time.Hour))
	l.Ok(err)
	if len(d.Notifications) != 1 {
		t.Errorf("the digest is %+v", d)
	}
}
