package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

// deskWords say what each kind of thing on the desk wants.
var deskWords = map[string]string{"disk": "disk", "stopped": "stopped", "red-tip": "red tip", "silent": "silent check", "webhook": "webhook", "acknowledge": "to acknowledge",
	"review": "review", "look-again": "look again", "ejected": "ejected", "conflict": "conflict", "answer": "answer", "decide": "decide", "own": "yours, held up"}

// desk lists what waits for whoever asks.
func (p *program) desk() *cobra.Command {
	return answer(p, "desk", "Show what waits for you, in every repository", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) ([]wire.DeskItem, error) {
			return c.Desk(ctx)
		}, func(w io.Writer, items []wire.DeskItem) {
			row(w, "WANTS", "SINCE", "WHERE", "WHAT")
			for _, i := range items {
				wants := deskWords[i.Kind]
				if i.Asked {
					wants += ", asked"
				}
				where := fmt.Sprintf("%s %d, %q", i.Repository, i.Number, i.Title)
				if i.Number == 0 {
					where = strings.TrimPrefix(i.Repository+", "+i.Title, ", ")
				}
				row(w, wants, ago(i.Since), where, i.What)
				row(w, "", "", "> "+deskCommand(i))
			}
		})
}

// deskCommand is the command that goes on with something on the desk.
func deskCommand(i wire.DeskItem) string {
	repo := " --repo " + i.Repository
	switch i.Kind {
	case "stopped":
		return "tavrin repo resume " + i.Repository
	case "disk":
		return "tavrin repo list, and make room on the service's disk"
	case "silent":
		return "tavrin check wanted" + repo
	case "red-tip":
		return "tavrin queue show --branch " + strings.TrimSuffix(i.Title, " is red") + repo
	case "conflict":
		return fmt.Sprintf("tavrin change conflicts %d%s", i.Number, repo)
	case "webhook":
		return fmt.Sprintf("tavrin webhook deliveries %d", i.ID)
	case "acknowledge":
		return fmt.Sprintf("tavrin waiver acknowledge %d --text …%s", i.ID, repo)
	case "answer":
		return fmt.Sprintf("tavrin thread list %d%s", i.Number, repo)
	case "decide":
		if !strings.Contains(i.Repository, "/") {
			repo = " --house " + i.Repository
		}
		return "tavrin rules proposals" + repo
	}
	return fmt.Sprintf("tavrin change show %d%s", i.Number, repo)
}
