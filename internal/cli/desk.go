package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

// deskWords say what each kind of thing on the desk wants.
var deskWords = map[string]string{"stopped": "stopped", "silent": "silent check", "acknowledge": "to acknowledge",
	"review": "review", "look-again": "look again", "answer": "answer", "decide": "decide", "own": "yours, held up"}

// desk lists what waits for whoever asks.
func (p *program) desk() *cobra.Command {
	return answer(p, "desk", "Show what waits for you, in every repository", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) ([]wire.DeskItem, error) {
			return c.Desk(ctx)
		}, func(w io.Writer, items []wire.DeskItem) {
			if len(items) == 0 {
				row(w, "Nothing waits for you.")
				return
			}
			row(w, "WANTS", "SINCE", "WHERE", "WHAT")
			for _, i := range items {
				wants := deskWords[i.Kind]
				if i.Asked {
					wants += ", asked"
				}
				where := fmt.Sprintf("%s %d, %q", i.Repository, i.Number, i.Title)
				if i.Number == 0 {
					where = fmt.Sprintf("%s, %s", i.Repository, i.Title)
				}
				row(w, wants, ago(i.Since), where, i.What)
			}
		})
}
