package mail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"mime"
	"mime/quotedprintable"
	"net/mail"
	"strings"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/desk"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

const (
	// hour is when digests are sent, in UTC; weekly ones on Mondays.
	hour = 7
	// again is when one is tried again that the relay did not take.
	again = 15 * time.Minute
	// mostLines is how much of what happened one digest tells.
	mostLines = 100
)

// Mailer sends digests.
type Mailer struct {
	records       *records.Records
	notifications *desk.Notifications
	relay         *Relay // nil: none is configured
	base          string // the service's own address, for links
	log           *slog.Logger
}

// New makes a Mailer; relay may be nil.
func New(r *records.Records, n *desk.Notifications, relay *Relay, base string, log *slog.Logger) *Mailer {
	return &Mailer{r, n, relay, base, log}
}

// Choice says how often somebody is sent a digest.
func (m *Mailer) Choice(ctx context.Context, a accounts.Actor) (wire.MailChoice, error) {
	if !a.Known() {
		return wire.MailChoice{}, problem.New(problem.SignInNeeded, "sign in to see whether digests are sent to you")
	}
	var row records.MailChoice
	if err := m.records.Read(ctx).Where("login = ?", a.Login()).Limit(1).Find(&row).Error; err != nil {
		return wire.MailChoice{}, err
	}
	return m.view(a, row), nil
}

func (m *Mailer) view(a accounts.Actor, row records.MailChoice) wire.MailChoice {
	out := wire.MailChoice{Every: "never", To: a.Account().Email, Offered: m.relay != nil}
	if row.Login != "" {
		out.Every, out.NextAt, out.Trouble = row.Every, &row.NextAt, row.Trouble
	}
	return out
}

// Choose sets how often whoever asks is sent a digest: day, week or never.
func (m *Mailer) Choose(ctx context.Context, a accounts.Actor, every string) (wire.MailChoice, error) {
	switch {
	case !a.Known():
		return wire.MailChoice{}, problem.New(problem.SignInNeeded, "sign in to be sent digests")
	case a.Scope() != accounts.ScopeAll:
		return wire.MailChoice{}, problem.New(problem.Forbidden, "this token cannot choose what its owner is sent; it takes one of scope all")
	case every != "day" && every != "week" && every != "never":
		return wire.MailChoice{}, problem.Wrong("every", "a digest is sent every day, every week, or never; not %q", every)
	case every != "never" && m.relay == nil:
		return wire.MailChoice{}, problem.New(problem.Conflict, "the service sends no mail: an administrator configures a relay with serve --mail-relay; "+
			"tavrin digest and tavrin feed tell the same")
	case every != "never" && (a.Account().Robot || strings.HasSuffix(a.Account().Email, ".invalid")):
		return wire.MailChoice{}, problem.New(problem.Conflict, "%s has no address that mail could go to", a.Login())
	}
	now := m.records.Now()
	row := records.MailChoice{Login: a.Login(), Every: every, Since: now, NextAt: next(now, every)}
	err := m.records.Note(ctx, func(tx *records.Tx) error {
		if every == "never" {
			row = records.MailChoice{}
			return tx.Where("login = ?", a.Login()).Delete(&records.MailChoice{}).Error
		}
		return tx.Save(&row).Error
	})
	return m.view(a, row), err
}

// next is when the next digest goes out.
func next(now time.Time, every string) time.Time {
	at := time.Date(now.Year(), now.Month(), now.Day(), hour, 0, 0, 0, time.UTC)
	for !at.After(now) || every == "week" && at.Weekday() != time.Monday {
		at = at.AddDate(0, 0, 1)
	}
	return at
}

// SendDue sends the digests that are due.
func (m *Mailer) SendDue(ctx context.Context) error {
	if m.relay == nil {
		return nil
	}
	var due []records.MailChoice
	if err := m.records.Read(ctx).Where("next_at <= ?", m.records.Now()).Order("next_at").Limit(200).Find(&due).Error; err != nil {
		return err
	}
	var errs []error
	for _, row := range due {
		if err := m.send(ctx, row); err != nil {
			errs = append(errs, fmt.Errorf("digest of %s: %w", row.Login, err))
		}
	}
	return errors.Join(errs...)
}

// send sends one digest, unless there is nothing to say, and notes what came of it.
func (m *Mailer) send(ctx context.Context, row records.MailChoice) error {
	account, err := accounts.AccountByLogin(m.records.Read(ctx), row.Login)
	if err != nil {
		return err
	}
	if account.Disabled { // nothing is theirs to read any more
		return m.records.Note(ctx, func(tx *records.Tx) error { return tx.Delete(&row).Error })
	}
	now, due := m.records.Now(), row.NextAt
	d, err := m.notifications.Digest(ctx, accounts.Reading(account), row.Since)
	if err != nil {
		return err
	}
	if len(d.Desk)+len(d.Notifications) > 0 {
		err = m.relay.Send(ctx, mail.Address{Name: account.Name, Address: account.Email}, m.compose(account, d, now))
	}
	var refused *Refused
	switch {
	case errors.As(err, &refused): // to try the same again would be of no use, and the next one says it again
		row.Trouble, row.NextAt = err.Error(), next(now, row.Every)
	case err != nil:
		row.Trouble, row.NextAt = err.Error(), now.Add(again)
	default:
		row.Trouble, row.Since, row.NextAt = "", now, next(now, row.Every)
	}
	if err != nil {
		m.log.Warn("a digest could not be sent", "login", row.Login, "error", err)
	}
	return m.records.Note(context.WithoutCancel(ctx), func(tx *records.Tx) error {
		// Whoever has chosen otherwise meanwhile has their choice.
		return tx.Model(&records.MailChoice{}).Where("login = ? AND next_at = ? AND every = ?", row.Login, due, row.Every).
			Updates(map[string]any{"since": row.Since, "next_at": row.NextAt, "trouble": row.Trouble}).Error
	})
}

// compose writes a digest as a mail (RFC 5322), in plain text.
func (m *Mailer) compose(to records.Account, d wire.Digest, now time.Time) []byte {
	var body strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&body, format+"\r\n", args...) }
	link := func(repository string, number int) string {
		at := m.base + "/" + repository
		if number > 0 {
			at += fmt.Sprintf("/changes/%d", number)
		}
		return at
	}
	say("Since %s:", d.Since.UTC().Format("2006-01-02 15:04 MST"))
	say("")
	say("%s", count(len(d.Desk), "thing waits for you.", "things wait for you."))
	for _, i := range d.Desk {
		what := i.Title
		if i.Number > 0 {
			what = fmt.Sprintf("%d. %s", i.Number, i.Title)
		}
		say("- %s: %s", plain(what), plain(i.What))
		say("  %s", link(i.Repository, i.Number))
	}
	say("")
	say("%s", count(len(d.Notifications), "thing happened to what you follow.", "things happened to what you follow."))
	for i, n := range d.Notifications {
		if i == mostLines {
			say("- and %d more: %s/notifications", len(d.Notifications)-mostLines, m.base)
			break
		}
		say("- %s (%s)", plain(n.Text), n.Repository)
	}
	say("")
	say("You asked for this. To be sent no more: tavrin digest --mail never")

	var out bytes.Buffer
	host := m.relay.From.Address[strings.LastIndexByte(m.relay.From.Address, '@')+1:]
	for _, h := range [][2]string{
		{"From", m.relay.From.String()}, {"To", (&mail.Address{Name: to.Name, Address: to.Email}).String()},
		{"Subject", mime.QEncoding.Encode("utf-8", fmt.Sprintf("Tavrin: %d waiting, %d happened", len(d.Desk), len(d.Notifications)))},
		{"Date", now.Format(time.RFC1123Z)}, {"Message-ID", fmt.Sprintf("<digest.%s.%d@%s>", to.Login, d.Since.Unix(), host)},
		{"Auto-Submitted", "auto-generated"}, {"MIME-Version", "1.0"}, {"Content-Type", "text/plain; charset=utf-8"},
		{"Content-Transfer-Encoding", "quoted-printable"},
	} {
		fmt.Fprintf(&out, "%s: %s\r\n", h[0], h[1])
	}
	out.WriteString("\r\n")
	w := quotedprintable.NewWriter(&out)
	w.Write([]byte(body.String())) // to memory
	w.Close()
	return out.Bytes()
}

func count(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}

// plain is a text in one line, as mail programs show it.
func plain(text string) string { return typed.Shortened(text) }
