package cli

import (
	"context"
	"io"
	"reflect"
	"strconv"

	"github.com/spf13/cobra"

	"tavrin/client"
)

// here is the service and the repository that a command is about.
type here struct {
	*client.Client
	repo string
}

// answer makes a command that makes one call and shows what comes back; table is for the form that people read.
func answer[T any](p *program, use, short string, args cobra.PositionalArgs,
	call func(ctx context.Context, c *client.Client, args []string) (T, error), table func(w io.Writer,
		v T)) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: args, Annotations: map[string]string{}}
	if of := reflect.TypeFor[T](); of.Kind() == reflect.Slice && of.Elem().Kind() == reflect.Struct {
		c.Annotations[listing] = "yes"
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		client, err := p.client()
		if err != nil {
			return err
		}
		v, err := call(cmd.Context(), client, args)
		if err != nil {
			return err
		}
		return p.print(v, func(w io.Writer) {
			if words := empty[cmd.CommandPath()]; words != "" && isEmpty(v) {
				row(w, words)
				return
			}
			table(w, v)
		})
	}
	return c
}

// inRepo is answer for a command about the repository at hand.
func inRepo[T any](p *program, use, short string, args cobra.PositionalArgs,
	call func(ctx context.Context, h here, args []string) (T, error), table func(w io.Writer, v T)) *cobra.Command {
	return p.aboutRepo(answer(p, use, short, args, func(ctx context.Context, c *client.Client, args []string) (v T, err error) {
		h, err := p.here(ctx, c)
		if err != nil {
			return v, err
		}
		return call(ctx, h, args)
	}, table))
}

// named is inRepo for a command that may name its repository first, before n arguments.
func named[T any](p *program, use, short string, n int, call func(ctx context.Context, h here, args []string) (T, error),
	table func(w io.Writer, v T)) *cobra.Command {
	c := inRepo(p, use, short, cobra.RangeArgs(n, n+1), func(ctx context.Context, h here, args []string) (T, error) {
		return call(ctx, h, args[len(args)-n:])
	}, table)
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) > n {
			p.repo = args[0]
		}
		return run(cmd, args)
	}
	return c
}

// aboutRepo gives a command the option that names a repository.
func (p *program) aboutRepo(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&p.repo, "repo", "", "HOUSE/NAME; outside a clone, and for another than the clone's")
	return c
}

// onChange is answer for a command about one change of the repository at hand, whose number comes first.
func onChange[T any](p *program, use, short string,
	call func(ctx context.Context, h here, n int) (T, error), table func(w io.Writer, v T)) *cobra.Command {
	return inRepo(p, use, short, cobra.ExactArgs(1), func(ctx context.Context, h here, args []string) (v T, err error) {
		n, err := changeNumber(args[0])
		if err != nil {
			return v, err
		}
		return call(ctx, h, n)
	}, table)
}

func changeNumber(arg string) (int, error) {
	n, err := strconv.Atoi(arg)
	if err != nil || n < 1 {
		return 0, misuse("%q is not the number of a change; see tavrin change list", arg)
	}
	return n, nil
}

// nothing is what a call answers that has nothing to tell.
type nothing struct{}

// silent is the table of a call that has nothing to tell.
func silent[T any](io.Writer, T) {}

// needs marks flags without which a command is misuse.
func needs(c *cobra.Command, flags ...string) *cobra.Command {
	for _, f := range flags {
		if err := c.MarkFlagRequired(f); err != nil {
			panic("cli: " + err.Error()) // the flag is defined a few lines above
		}
	}
	return c
}

// group makes a command that only holds others.
func group(use, short string, commands ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short}
	c.AddCommand(commands...)
	return c
}
