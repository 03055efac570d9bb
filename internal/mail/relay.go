// Package mail sends people's digests through a relay that the administrator has configured.
//
// It is off until there is a relay, and nobody is sent anything who has not asked for it. A digest that could not be sent is
// tried again and says so to whom it is for; what it sums up is not lost, because the next one begins where the last one that
// was sent ended.
package mail

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/smtp"
	"net/textproto"
	"net/url"
	"strings"
	"time"
)

// relayTime is how long handing one mail over may take.
const relayTime = 30 * time.Second

// Relay takes mails and sees to the rest (RFC 5321). The zero value is none.
type Relay struct {
	host, port     string
	implicit       bool // TLS from the first byte (RFC 8314)
	From           mail.Address
	user, password string
}

// NewRelay reads a relay's address: smtps://HOST[:PORT], or smtp://HOST[:PORT], which has to offer STARTTLS unless it is on
// loopback. from is the sender; credentials, if any, are USER:PASSWORD.
func NewRelay(address, from, credentials string) (*Relay, error) {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" || u.Scheme != "smtp" && u.Scheme != "smtps" || u.User != nil || strings.Trim(u.Path, "/") != "" {
		return nil, fmt.Errorf("%q is no relay: smtps://HOST, or smtp://HOST, with :PORT where it is another than 465 or 587", address)
	}
	r := &Relay{host: u.Hostname(), port: u.Port(), implicit: u.Scheme == "smtps"}
	if r.port == "" {
		r.port = map[bool]string{true: "465", false: "587"}[r.implicit]
	}
	sender, err := mail.ParseAddress(from)
	if err != nil {
		return nil, fmt.Errorf("%q is no sender: Tavrin <tavrin@fennmoor.example>", from)
	}
	r.From = *sender
	if credentials != "" {
		var found bool
		if r.user, r.password, found = strings.Cut(strings.TrimSpace(credentials), ":"); !found {
			return nil, errors.New("the relay's credentials are USER:PASSWORD, in one line")
		}
	}
	return r, nil
}

// Refused is the relay's word that a mail to this address will never be taken.
type Refused struct{ Words string }

// Error gives the relay's words.
func (r *Refused) Error() string { return "the relay refuses it: " + r.Words }

// Send hands a mail over. An error is a *Refused, or may pass.
func (r *Relay) Send(ctx context.Context, to mail.Address, text []byte) error {
	ctx, cancel := context.WithTimeout(ctx, relayTime)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(r.host, r.port))
	if err != nil {
		return fmt.Errorf("the relay cannot be reached: %w", err)
	}
	defer conn.Close()
	if deadline, ok := ctx.Deadline(); ok {
		if err := conn.SetDeadline(deadline); err != nil {
			return err
		}
	}
	if r.implicit {
		conn = tls.Client(conn, &tls.Config{ServerName: r.host, MinVersion: tls.VersionTLS12})
	}
	c, err := smtp.NewClient(conn, r.host)
	if err != nil {
		return fmt.Errorf("the relay does not answer as one: %w", err)
	}
	defer c.Close()
	if err := r.secure(c, conn); err != nil {
		return err
	}
	if r.user != "" {
		if err := c.Auth(smtp.PlainAuth("", r.user, r.password, r.host)); err != nil {
			return fmt.Errorf("the relay does not take the credentials: %w", err)
		}
	}
	if err := c.Mail(r.From.Address); err != nil {
		return fmt.Errorf("the relay does not take mail from %s: %w", r.From.Address, err)
	}
	if err := c.Rcpt(to.Address); err != nil {
		return final(err)
	}
	w, err := c.Data()
	if err == nil {
		if _, err = bytes.NewReader(text).WriteTo(w); err == nil {
			err = w.Close()
		}
	}
	if err != nil {
		return final(err)
	}
	c.Quit() // it has the mail
	return nil
}

// secure has what follows encrypted, unless it does not leave the machine.
func (r *Relay) secure(c *smtp.Client, conn net.Conn) error {
	if r.implicit {
		return nil
	}
	if ok, _ := c.Extension("STARTTLS"); ok {
		return c.StartTLS(&tls.Config{ServerName: r.host, MinVersion: tls.VersionTLS12})
	}
	if at, is := conn.RemoteAddr().(*net.TCPAddr); is && at.IP.IsLoopback() {
		return nil
	}
	return errors.New("the relay offers no encryption (STARTTLS), and is not on this machine")
}

// final tells a refusal for good, of which the code begins with 5, from one that may pass.
func final(err error) error {
	var coded *textproto.Error
	if errors.As(err, &coded) && coded.Code >= 500 {
		return &Refused{fmt.Sprintf("%d %s", coded.Code, coded.Msg)}
	}
	return fmt.Errorf("the relay does not take it now: %w", err)
}
