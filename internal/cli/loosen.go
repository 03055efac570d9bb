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

func (r *rulesOf) suspend() *cobra.Command {
	var length time.Duration
	var reason string
	c := onRules(r, "suspend PROTECTION", "Suspend a protection for a time; it comes back by itself",
		cobra.ExactArgs(1), func(ctx context.Context, c *client.Client, where string, args []string) (wire.Suspended,
			error) {
			return c.Suspend(ctx, where, args[0], length, reason)
		}, func(w io.Writer, s wire.Suspended) {
			if s.Proposal != nil {
				row(w, fmt.Sprintf("proposal %d was made: one of %s, other than you, has to agree: tavrin rules agree %d",
					s.Proposal.ID, list(s.Proposal.AgreedBy), s.Proposal.ID))
				return
			}
			row(w, fmt.Sprintf("protection %q is suspended until %s; tavrin rules resume ends it before", s.Protection,
				s.Until.Local().Format("2006-01-02 15:04")))
		})
	c.Flags().DurationVar(&length, "for", 0, "for how long, such as 30m or 2h; from 1m to 168h (needed)")
	c.Flags().StringVar(&reason, "reason", "", "why (needed)")
	return needs(c, "for", "reason")
}

func (r *rulesOf) resume() *cobra.Command {
	return onRules(r, "resume PROTECTION", "End a suspension before its time", cobra.ExactArgs(1),
		func(ctx context.Context, c *client.Client, where string, args []string) (string, error) {
			return args[0], c.Resume(ctx, where, args[0])
		}, func(w io.Writer, name string) { row(w, fmt.Sprintf("protection %q holds again", name)) })
}

func (r *rulesOf) suspensions() *cobra.Command {
	return onRules(r, "suspensions", "List the protections that are suspended now", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, where string, _ []string) ([]wire.Suspension, error) {
			return c.Suspensions(ctx, where)
		}, func(w io.Writer, all []wire.Suspension) {
			row(w, "PROTECTION", "OF", "BY", "UNTIL", "REASON")
			for _, s := range all {
				row(w, s.Protection, s.RulesOf, s.By, s.Until.Local().Format("2006-01-02 15:04"), s.Reason)
			}
		})
}

func (r *rulesOf) proposals() *cobra.Command {
	var all bool
	c := onRules(r, "proposals", "List loosenings that wait for a second person", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, where string, _ []string) ([]wire.Proposal, error) {
			return c.Proposals(ctx, where, all)
		}, func(w io.Writer, all []wire.Proposal) {
			row(w, "PROPOSAL", "BY", "WHEN", "STATE", "REASON", "WAITS FOR")
			for _, x := range all {
				waits := "-"
				if x.State == "open" {
					waits = list(x.AgreedBy)
				}
				row(w, x.ID, x.ProposedBy, ago(x.ProposedAt), x.State, x.Reason, waits)
				if x.Protection != "" {
					row(w, "", fmt.Sprintf("suspends protection %q for %s", x.Protection,
						time.Duration(x.ForSeconds)*time.Second))
				}
				for _, d := range x.Differences {
					if d.Loosens {
						row(w, "", d.What+": "+dash(d.Was)+" -> "+dash(d.Now))
					}
				}
			}
		})
	c.Flags().BoolVar(&all, "all", false, "decided ones too")
	return c
}

func (r *rulesOf) decide(use, short string, agree bool) *cobra.Command {
	return onRules(r, use, short, cobra.ExactArgs(1), func(ctx context.Context, c *client.Client, where string,
		args []string) (wire.Proposal, error) {
		id, err := number(args[0], "a proposal; see tavrin rules proposals")
		if err != nil {
			return wire.Proposal{}, err
		}
		return c.DecideProposal(ctx, where, id, agree)
	}, func(w io.Writer, x wire.Proposal) {
		row(w, fmt.Sprintf("proposal %d was %s", x.ID, x.State))
	})
}
