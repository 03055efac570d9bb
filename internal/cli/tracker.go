package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/internal/core/grammar"
	"tavrin/wire"
)

// tracker says what a house asks about tickets.
func (p *program) tracker() *cobra.Command {
	return group("tracker", "Say what a house asks about the tickets that changes refer to", p.trackerSet(), p.trackerShow(), p.trackerTry(), p.trackerRemove())
}

func (p *program) trackerSet() *cobra.Command {
	var n wire.NewTracker
	var headers []string
	c := answer(p, "set HOUSE URL", "Have a tracker asked; {ticket} in the address stands for the ticket", cobra.ExactArgs(2),
		func(ctx context.Context, c *client.Client, args []string) (t wire.Tracker, err error) {
			if n.Headers, err = p.readHeaders(headers); err != nil {
				return t, err
			}
			n.URL = args[1]
			return c.SetTracker(ctx, args[0], n)
		}, func(w io.Writer, t wire.Tracker) {
			row(w, fmt.Sprintf("house %s asks %s", t.House, t.URL))
			row(w, fmt.Sprintf("try it: tavrin tracker try %s TICKET", t.House))
			row(w, "rules ask for it by: ticket: \"FEN-[0-9]+\", tracker: open")
		})
	c.Flags().StringArrayVar(&headers, "header", nil, "NAME=VALUE or NAME=@FILE: a further header; its value is kept as a secret; may be given several times")
	c.Flags().StringVar(&n.Reason, "reason", "", "why (needed)")
	return needs(c, "reason")
}

func (p *program) trackerShow() *cobra.Command {
	return answer(p, "show HOUSE", "Show what a house asks, and how it goes", cobra.ExactArgs(1),
		func(ctx context.Context, c *client.Client, args []string) (wire.Tracker, error) {
			return c.Tracker(ctx, args[0])
		}, func(w io.Writer, t wire.Tracker) {
			row(w, "house", t.House)
			row(w, "asks", t.URL)
			if len(t.Headers) > 0 {
				row(w, "headers", list(t.Headers))
			}
			row(w, "set by", fmt.Sprintf("%s, %s", t.SetBy, t.SetAt.Local().Format(time.DateTime)))
			if t.Trouble == "" {
				row(w, "state", "it answers, or was not asked yet")
				return
			}
			state := "in trouble"
			if t.FailingSince != nil {
				state += " since " + t.FailingSince.Local().Format(time.DateTime)
			}
			row(w, "state", state+": "+t.Trouble)
			if t.TryAt != nil {
				row(w, "asked again", t.TryAt.Local().Format(time.DateTime))
			}
		})
}

func (p *program) trackerTry() *cobra.Command {
	nothing := false
	c := answer(p, "try HOUSE TICKET", "Ask about one ticket now, and show request and answer", cobra.ExactArgs(2),
		func(ctx context.Context, c *client.Client, args []string) (wire.TrackerTried, error) {
			t, err := c.TryTracker(ctx, args[0], args[1])
			nothing = err == nil && t.State == ""
			return t, err
		}, func(w io.Writer, t wire.TrackerTried) {
			row(w, "asked", t.Request)
			if len(t.Headers) > 0 {
				row(w, "with", list(t.Headers))
			}
			if t.Status != 0 {
				row(w, "answer", fmt.Sprintf("%d, after %d ms", t.Status, t.Milliseconds))
				row(w, "", t.Answer)
			}
			row(w, "means", cmp.Or(ticketState(t.State, t.Title), "nothing: "+t.Trouble))
		})
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if err := run(cmd, args); err != nil || !nothing {
			return err
		}
		return &exitError{status: statusNotYet}
	}
	return c
}

func (p *program) trackerRemove() *cobra.Command {
	reason := ""
	c := answer(p, "remove HOUSE", "Leave a house without a tracker; rules that want one are not met from then on", cobra.ExactArgs(1),
		func(ctx context.Context, c *client.Client, args []string) (wire.Done, error) {
			return c.RemoveTracker(ctx, args[0], reason)
		}, func(w io.Writer, _ wire.Done) { row(w, "removed") })
	c.Flags().StringVar(&reason, "reason", "", "why (needed)")
	return needs(c, "reason")
}

// changeTickets shows the tickets that a change refers to, and what the tracker says of them.
func (p *program) changeTickets() *cobra.Command {
	again := false
	c := onChange(p, "tickets N", "List the tickets that a change refers to, and what the tracker says of them",
		func(ctx context.Context, h here, n int) (out []changeTicket, err error) {
			if again {
				if _, err := h.AskTracker(ctx, h.repo, n); err != nil {
					return nil, err
				}
			}
			c, err := h.Change(ctx, h.repo, n)
			for _, name := range c.Tickets {
				t := changeTicket{TicketAnswer: wire.TicketAnswer{Ticket: name}, Link: c.TicketLinks[name]}
				for _, a := range c.TicketAnswers {
					if a.Ticket == name {
						t.TicketAnswer, t.Wanted = a, true
					}
				}
				out = append(out, t)
			}
			return out, err
		}, func(w io.Writer, all []changeTicket) {
			row(w, "TICKET", "STATE", "ASKED", "TITLE", "LINK")
			for _, t := range all {
				state, asked := cmp.Or(t.State, "no answer yet"), ""
				if !t.Wanted {
					state = "not asked"
				}
				if t.AnsweredAt != nil {
					asked = grammar.Brief(time.Since(*t.AnsweredAt).Truncate(time.Second)) + " ago"
				}
				if t.Trouble != "" {
					asked += "; since then: " + t.Trouble
				}
				row(w, t.Ticket, state, asked, t.Title, t.Link)
			}
			if again {
				row(w, "the tracker is being asked: see again in a moment")
			}
		})
	c.Flags().BoolVar(&again, "ask", false, "have the tracker asked again")
	return c
}

// changeTicket is one ticket of a change.
type changeTicket struct {
	wire.TicketAnswer
	Link   string `json:"link,omitempty"`
	Wanted bool   `json:"wanted"` // the rules want to know of it
}

// ticketState says what an answer about a ticket means; empty: there is none.
func ticketState(state, title string) string {
	switch {
	case state == "none":
		return "there is no such ticket"
	case state != "" && title != "":
		return fmt.Sprintf("it is %s: %s", state, title)
	case state != "":
		return "it is " + state
	}
	return ""
}
