package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

// notifications lists what happened to what whoever asks follows.
func (p *program) notifications() *cobra.Command {
	var limit int
	var keep bool
	c := answer(p, "notifications", "Show what others did to what you follow or have a part in", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) (wire.Notifications, error) {
			n, err := c.Notifications(ctx, limit)
			if err == nil && !keep && len(n.Notifications) > 0 {
				err = c.SeenNotifications(ctx, n.Notifications[0].Seq)
			}
			return n, err
		}, func(w io.Writer, n wire.Notifications) {
			row(w, fmt.Sprintf("%d new", n.New))
			printNotifications(w, n.Notifications)
		})
	c.Flags().IntVar(&limit, "limit", 50, "how many")
	c.Flags().BoolVar(&keep, "keep", false, "leave them new")
	return c
}

func printNotifications(w io.Writer, all []wire.Notification) {
	for _, n := range all {
		mark := " "
		if n.New {
			mark = "*"
		}
		row(w, mark, ago(n.At), n.Repository, n.Text)
	}
}

// digest gathers what somebody has missed.
func (p *program) digest() *cobra.Command {
	var since time.Duration
	c := answer(p, "digest", "Sum up what waits for you and what happened, of the last day or so", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) (wire.Digest, error) {
			return c.Digest(ctx, time.Now().Add(-since))
		}, func(w io.Writer, d wire.Digest) {
			row(w, "Since "+d.Since.Local().Format("2006-01-02 15:04")+":")
			if len(d.Desk) == 0 {
				row(w, "Nothing waits for you.")
			}
			for _, i := range d.Desk {
				row(w, deskWords[i.Kind], ago(i.Since), fmt.Sprintf("%s %d, %q", i.Repository, i.Number, i.Title), i.What)
			}
			fmt.Fprintln(w)
			if len(d.Notifications) == 0 {
				row(w, "Nothing happened to what you follow.")
			}
			printNotifications(w, d.Notifications)
		})
	c.Flags().DurationVar(&since, "since", 24*time.Hour, "how far to look back")
	mailed := ""
	c.Flags().StringVar(&mailed, "mail", "", "have it sent by mail every day or week, or never: day, week or never; shows nothing now")
	show := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if mailed == "" {
			return show(cmd, args)
		}
		h, err := p.client()
		if err != nil {
			return err
		}
		v, err := h.ChooseMail(cmd.Context(), mailed)
		if err != nil {
			return err
		}
		if v.NextAt == nil {
			fmt.Fprintln(p.out, "you are sent no digest")
			return nil
		}
		fmt.Fprintf(p.out, "every %s a digest goes to %s; the next one %s\n", v.Every, v.To, v.NextAt.Local().Format("2006-01-02 15:04"))
		return nil
	}
	return c
}

// follow says what whoever asks wants to hear of.
func (p *program) follow(use, short string, follow bool) *cobra.Command {
	return inRepo(p, use+" [N]", short, cobra.MaximumNArgs(1),
		func(ctx context.Context, h here, args []string) (wire.Following, error) {
			n := 0
			if len(args) > 0 {
				var err error
				if n, err = changeNumber(args[0]); err != nil {
					return wire.Following{}, err
				}
			}
			return h.Follow(ctx, h.repo, n, follow)
		}, func(w io.Writer, f wire.Following) {
			what := f.Repository
			if f.Number > 0 {
				what = fmt.Sprintf("change %d of %s", f.Number, f.Repository)
			}
			row(w, either(f.Muted, "you do not follow ", "you follow ")+what)
		})
}

// feed makes and revokes the private address of somebody's Atom feed.
func (p *program) feed() *cobra.Command {
	var revoke bool
	c := answer(p, "feed", "Give your notifications a private Atom address; the one before ends", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) (wire.Feed, error) {
			if revoke {
				return wire.Feed{}, c.RevokeFeed(ctx)
			}
			f, err := c.MakeFeed(ctx)
			f.Path = c.URL() + f.Path
			return f, err
		}, func(w io.Writer, f wire.Feed) {
			if revoke {
				row(w, "the address of your feed no longer works")
				return
			}
			row(w, f.Path)
			row(w, "whoever knows this address may read your notifications; tavrin feed --revoke ends it")
		})
	c.Flags().BoolVar(&revoke, "revoke", false, "revoke the address, and make none")
	return c
}
