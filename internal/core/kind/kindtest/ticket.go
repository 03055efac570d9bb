package kindtest

import (
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "ticket", Text: "ticket: 'FEN-[0-9]+'",
	Breaks: func(f *change.Facts) {},
	Judged: []Judged{
		{"ticket: FEN-[0-9]+", func(c *require.Case) { c.Source = "FEN-4" }, require.Met, ""},
		{"ticket: FEN-[0-9]+\nin: title", func(c *require.Case) { c.Source = "FEN-4" }, require.Missing, "name the ticket in the title"},
		{"ticket: FEN-[0-9]+\ntracker: open", said(change.TicketOpen, time.Minute), require.Met, ""},
		{"ticket: FEN-[0-9]+\ntracker: open", said(change.TicketClosed, time.Minute), require.Missing, "open it there, or name another ticket in the title, description, branch or commits"},
		{"ticket: FEN-[0-9]+\ntracker: exists", said(change.TicketClosed, time.Minute), require.Met, ""},
		{"ticket: FEN-[0-9]+\ntracker: exists", said(change.TicketNone, time.Minute), require.Missing, "open it there"},
		{"ticket: FEN-[0-9]+\ntracker: exists", said(change.TicketNotAsked, 0), require.Pending, "tickets.example is asked again by itself"},
		{"ticket: FEN-[0-9]+\ntracker: open", said(change.TicketOpen, time.Hour), require.Met, ""},
		{"ticket: FEN-[0-9]+\ntracker: open", said(change.TicketOpen, time.Hour+time.Second), require.Pending, "asked again by itself"},
		{"ticket: FEN-[0-9]+\ntracker: open\nmax_age: 10m", said(change.TicketClosed, 11*time.Minute), require.Pending, "asked again by itself"},
		{"ticket: FEN-[0-9]+\ntracker: open", func(c *require.Case) {
			said(change.TicketClosed, time.Minute)(c)
			c.Description = "like FEN-5"
			c.Tickets = append(c.Tickets, change.Ticket{Name: "FEN-5", State: change.TicketOpen, At: Noon})
		}, require.Met, ""},
		{"ticket: FEN-[0-9]+\ntracker: open", func(c *require.Case) { c.Source, c.At = "FEN-4", Noon }, require.Missing, "a maintainer of the house names one"},
	},
	Differ: map[string][]string{
		"in":      {"ticket: 'FEN-1', in: title", "ticket: 'FEN-1', in: commits"},
		"link":    {"ticket: 'FEN-1', link: 'https://a.example/{ticket}'", "ticket: 'FEN-1', link: 'https://b.example/{ticket}'"},
		"tracker": {"ticket: 'FEN-1', tracker: open", "ticket: 'FEN-1', tracker: exists", "ticket: 'FEN-1'"},
		"max_age": {"ticket: 'FEN-1', tracker: open, max_age: 10m", "ticket: 'FEN-1', tracker: open, max_age: 12h"},
	},
})

// said has the branch name a ticket of which the tracker gave an answer some time ago.
func said(state change.TicketState, ago time.Duration) func(*require.Case) {
	return func(c *require.Case) {
		c.Source, c.At, c.Tracker = "FEN-4", Noon, "tickets.example"
		if state != change.TicketNotAsked {
			c.Tickets = []change.Ticket{{Name: "FEN-4", State: state, At: Noon.Add(-ago)}}
		}
	}
}
