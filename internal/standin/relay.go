package standin

import (
	"bufio"
	"fmt"
	"net"
	"strings"
	"sync"
)

// Relay takes mails by SMTP and keeps them.
type Relay struct {
	mu     sync.Mutex
	Heard  func() // called before a mail is taken; nil: nothing is
	Refuse string // what it answers instead of taking a recipient, such as "550 no such person"; empty: it takes all
	mails  []string
}

// Mails are those that it took, headers and body.
func (r *Relay) Mails() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]string{}, r.mails...)
}

// Answer sets what it answers instead of taking a recipient.
func (r *Relay) Answer(refuse string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.Refuse = refuse
}

// Serve takes mails until the listener is closed.
func (r *Relay) Serve(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go r.talk(conn)
	}
}

// talk is one session of SMTP (RFC 5321), as far as it is needed.
func (r *Relay) talk(conn net.Conn) {
	defer conn.Close()
	in := bufio.NewReader(conn)
	say := func(text string) { fmt.Fprintf(conn, "%s\r\n", text) }
	say("220 stand-in")
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		switch command, _, _ := strings.Cut(strings.ToUpper(strings.TrimSpace(line)), " "); command {
		case "RCPT":
			r.mu.Lock()
			refuse := r.Refuse
			r.mu.Unlock()
			if refuse != "" {
				say(refuse)
				continue
			}
			say("250 ok")
		case "DATA":
			say("354 go on")
			var text strings.Builder
			for {
				line, err := in.ReadString('\n')
				if err != nil {
					return
				}
				if line == ".\r\n" {
					break
				}
				text.WriteString(strings.TrimPrefix(line, "."))
			}
			if r.Heard != nil {
				r.Heard()
			}
			r.mu.Lock()
			r.mails = append(r.mails, text.String())
			r.mu.Unlock()
			say("250 taken")
		case "QUIT":
			say("221 bye")
			return
		default:
			say("250 ok")
		}
	}
}
