package mail_test

import (
	"io"
	"mime/quotedprintable"
	"net"
	netmail "net/mail"
	"strings"
	"testing"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/lab"
	"tavrin/internal/mail"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/standin"
	"tavrin/wire"
)

// post is a lab with a relay that a test plays.
type post struct {
	*lab.Lab
	relay  *standin.Relay
	mailer *mail.Mailer
	at     net.Listener
}

func aPost(t *testing.T) *post {
	l := lab.New(t)
	at, err := net.Listen("tcp", "127.0.0.1:0")
	l.Ok(err)
	t.Cleanup(func() { at.Close() })
	p := &post{Lab: l, relay: &standin.Relay{}, at: at}
	go p.relay.Serve(at)
	r, err := mail.NewRelay("smtp://"+at.Addr().String(), "Tavrin <tavrin@fennmoor.example>", "")
	l.Ok(err)
	p.mailer = mail.New(l.Records, l.Notifications, r, "https://tavrin.example", lab.Quiet)
	return p
}

func TestDigestsAreSent(t *testing.T) {
	p := aPost(t)
	ctx := t.Context()
	p.Commit("main", "", "a=1")
	ines := p.Person("ines", "maintainer")
	p.Ok(p.Records.Note(ctx, func(tx *records.Tx) error {
		return tx.Model(&records.Account{}).Where("login = 'ines'").Updates(map[string]any{"email": "ines@fennmoor.example", "name": "Inès \"the\" Varga"}).Error
	}))
	ines, err := p.Access.Authenticate(ctx, p.AnotherToken("ines"))
	p.Ok(err)
	wren := p.Person("wren", "writer")
	_, err = p.mailer.Choose(ctx, wren, "day")
	p.Is(err, problem.Conflict, "has no address")
	_, err = p.mailer.Choose(ctx, ines, "hour")
	p.Is(err, problem.Invalid, "every day, every week, or never")
	c, err := p.mailer.Choose(ctx, ines, "day")
	p.Ok(err)
	if c.NextAt == nil || !c.NextAt.Equal(time.Date(2026, 11, 3, 7, 0, 0, 0, time.UTC)) || c.To != "ines@fennmoor.example" {
		t.Errorf("the choice is %+v", c)
	}
	_, err = p.Notifications.Follow(ctx, ines, lab.Name, 0, true)
	p.Ok(err)
	p.Commit("topic", "main", "a=2")
	p.Open(wren, "topic")
	p.Ok(p.mailer.SendDue(ctx))
	if n := len(p.relay.Mails()); n != 0 {
		t.Fatalf("%d were sent before their time", n)
	}
	p.Wait(24 * time.Hour)
	p.relay.Answer("451 come back later")
	p.Ok(p.mailer.SendDue(ctx))
	c, err = p.mailer.Choice(ctx, ines)
	p.Ok(err)
	if !strings.Contains(c.Trouble, "does not take it now") || c.NextAt.Sub(p.Now()) != 15*time.Minute {
		t.Errorf("after a refusal that passes the choice is %+v", c)
	}
	p.relay.Answer("")
	p.Wait(15 * time.Minute)
	p.Ok(p.mailer.SendDue(ctx))
	p.Ok(p.mailer.SendDue(ctx))
	if n := len(p.relay.Mails()); n != 1 {
		t.Fatalf("%d were sent", n)
	}
	m, err := netmail.ReadMessage(strings.NewReader(p.relay.Mails()[0]))
	p.Ok(err)
	to, err := m.Header.AddressList("To")
	p.Ok(err)
	body, err := io.ReadAll(quotedprintable.NewReader(m.Body))
	p.Ok(err)
	if to[0].Name != "Inès \"the\" Varga" || m.Header.Get("Auto-Submitted") != "auto-generated" || !strings.HasPrefix(m.Header.Get("Message-ID"), "<digest.ines.") {
		t.Errorf("its header is %v", m.Header)
	}
	for _, part := range []string{"wren opened change 1", "(growers/irrigation)", "tavrin digest --mail never"} {
		if !strings.Contains(string(body), part) {
			t.Errorf("it does not say %q:\n%s", part, body)
		}
	}
	p.relay.Answer("550 there is nobody of that name")
	p.Commit("second", "main", "a=3")
	p.Open(wren, "second")
	p.Wait(24 * time.Hour)
	p.Ok(p.mailer.SendDue(ctx))
	c, err = p.mailer.Choice(ctx, ines)
	p.Ok(err)
	if c.Trouble != "the relay refuses it: 550 there is nobody of that name" || c.NextAt.Sub(p.Now()) < time.Hour {
		t.Errorf("after a refusal for good the choice is %+v", c)
	}
	// What could not be sent is told with the next.
	p.relay.Answer("")
	p.Wait(24 * time.Hour)
	p.Ok(p.mailer.SendDue(ctx))
	if all := p.relay.Mails(); len(all) != 2 || !strings.Contains(all[1], "wren opened change 2") {
		t.Errorf("the next tells\n%v", all[1:])
	}
	_, err = p.mailer.Choose(ctx, ines, "never")
	p.Ok(err)
	p.Wait(48 * time.Hour)
	p.Ok(p.mailer.SendDue(ctx))
	if n := len(p.relay.Mails()); n != 2 {
		t.Errorf("%d were sent after that was ended", n)
	}
}

// Who ends it while a digest is on its way is sent no more.
func TestEndedWhileUnderWay(t *testing.T) {
	p := aPost(t)
	ctx := t.Context()
	ines := p.reachable("ines")
	_, err := p.Notifications.Follow(ctx, ines, lab.Name, 0, true)
	p.Ok(err)
	_, err = p.mailer.Choose(ctx, ines, "day")
	p.Ok(err)
	p.Commit("main", "", "a=1")
	p.Commit("topic", "main", "a=2")
	p.Open(p.Person("wren", "writer"), "topic")
	p.relay.Heard = func() { p.mailer.Choose(ctx, ines, "never") }
	p.Wait(24 * time.Hour)
	p.Ok(p.mailer.SendDue(ctx))
	c, err := p.mailer.Choice(ctx, ines)
	p.Ok(err)
	if len(p.relay.Mails()) != 1 || c.Every != "never" {
		t.Errorf("%d were sent, and the choice is %+v", len(p.relay.Mails()), c)
	}
}

// Without a relay nothing is sent, and whoever asks is told what else there is.
func TestOffByDefault(t *testing.T) {
	p := aPost(t)
	ines := p.Person("ines", "maintainer")
	_, err := p.Mail.Choose(t.Context(), ines, "day")
	p.Is(err, problem.Conflict, "serve --mail-relay")
	c, err := p.Mail.Choice(t.Context(), ines)
	p.Ok(err)
	if c != (wire.MailChoice{Every: "never", To: c.To}) {
		t.Errorf("the choice is %+v", c)
	}
	p.Ok(p.Mail.SendDue(t.Context()))
}

// A digest of nothing is not sent, and one of somebody who is gone neither.
func TestNothingToSay(t *testing.T) {
	p := aPost(t)
	ctx := t.Context()
	ines := p.reachable("ines")
	_, err := p.mailer.Choose(ctx, ines, "week")
	p.Ok(err)
	p.Wait(8 * 24 * time.Hour)
	p.Ok(p.mailer.SendDue(ctx))
	c, err := p.mailer.Choice(ctx, ines)
	p.Ok(err)
	if len(p.relay.Mails()) != 0 || c.NextAt.Weekday() != time.Monday || !c.NextAt.After(p.Now()) {
		t.Errorf("%d were sent, and the choice is %+v", len(p.relay.Mails()), c)
	}
	_, err = p.People.SetDisabled(ctx, p.Admin, "ines", true)
	p.Ok(err)
	p.Wait(8 * 24 * time.Hour)
	p.Ok(p.mailer.SendDue(ctx))
	var left int64
	p.Ok(p.Records.Read(ctx).Model(&records.MailChoice{}).Count(&left).Error)
	if left != 0 || len(p.relay.Mails()) != 0 {
		t.Errorf("of a disabled account %d choices are left, %d mails were sent", left, len(p.relay.Mails()))
	}
}

func TestRelays(t *testing.T) {
	for _, c := range []struct{ address, from, login, wrong string }{
		{"smtps://mail.example", "tavrin@fennmoor.example", "", ""}, {"smtp://mail.example:2525", "Tavrin <tavrin@fennmoor.example>", "user:pass", ""},
		{"mail.example", "tavrin@fennmoor.example", "", "is no relay"}, {"http://mail.example", "tavrin@fennmoor.example", "", "is no relay"},
		{"smtps://u:p@mail.example", "tavrin@fennmoor.example", "", "is no relay"}, {"smtps://mail.example", "", "", "is no sender"},
		{"smtps://mail.example", "tavrin@fennmoor.example\r\nBcc: x@y", "", "is no sender"}, {"smtps://mail.example", "tavrin@fennmoor.example", "user", "USER:PASSWORD"},
	} {
		_, err := mail.NewRelay(c.address, c.from, c.login)
		if (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%s %s: %v", c.address, c.from, err)
		}
	}
}

// reachable makes a maintainer with an address.
func (p *post) reachable(login string) accounts.Actor {
	p.T.Helper()
	p.Person(login, "maintainer")
	p.Ok(p.Records.Note(p.T.Context(), func(tx *records.Tx) error {
		return tx.Model(&records.Account{}).Where("login = ?", login).Update("email", login+"@fennmoor.example").Error
	}))
	a, err := p.Access.Authenticate(p.T.Context(), p.AnotherToken(login))
	p.Ok(err)
	return a
}
