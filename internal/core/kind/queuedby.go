package kind

import (
	"slices"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "queued_by", Group: require.OfLanding, Order: 1,
	Keys:   []grammar.Key{wordKey("queued_by", "not an author", "whoever asks to land the change is none of its authors")},
	Judged: "who joined the queue, against the authors as approvals know them; nobody has yet: not asked",
	Gone:   "-",
	New: func() require.Ask {
		const text = "whoever asks to land it is no author"
		return queuedBy{bare{"not an author", text, text}}
	},
})

// queuedBy asks that who asked to land a change is none of its authors.
type queuedBy struct{ bare }

func (queuedBy) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("queued_by")
	switch {
	case c.Asker == "":
		r.State, r.Next = require.NotAsked, "asked of whoever joins the queue: no author may"
	case slices.Contains(c.Authors, c.Asker):
		r.State, r.Who = require.Missing, c.NoAuthors()
		r.Lacks = c.Asker + " is an author, and joined"
		r.Next = "somebody who is no author has to join the queue"
		r.Do(require.DoRejoin, c.ThisChange())
	}
	c.Say(r, q)
}
