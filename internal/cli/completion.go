package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tavrin/client"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/wire"
)

// patience is how long a shell waits for values to complete with.
const patience = 2 * time.Second

// values lists what a word of a command line may be: each with a few words about it after a tab, as shells show them.
// Nothing is listed where that cannot be found out: completing is a help, and says no errors.
type values func(ctx context.Context, p *program) []string

// ofArgument says what completes an argument, by its name in the usage of a command.
var ofArgument = map[string]values{
	"N": changesOf, "HOUSE/NAME": repositories, "HOUSE": houses, "LOGIN": logins, "LOGIN|team:NAME": loginsAndTeams,
	"ROLE": words("reader", "writer", "maintainer", "none"), "BRANCH": branchesOf,
}

// ofFlag says what completes the value of an option, by its name.
var ofFlag = map[string]values{
	"repo": repositories, "house": houses, "output": words("table", "json", "yaml"),
	"branch": branchesOf, "source": branchesOf, "target": branchesOf, "at": branchesOf, "default-branch": branchesOf,
	"strategy": words(texts(change.Strategies)...), "login": logins, "by": logins, "member": logins, "manager": logins, "who": principals,
	"depends-on": changesOf,
}

// ofCommandFlag says it for options that mean different things by the command.
var ofCommandFlag = map[string]values{
	"change list --state": words("draft", "open", "landed", "closed", "all"), "change wait --until": words("ready", "landed"),
	"check report --state": words(texts(change.CheckStates)...), "check report --name": checkNames, "check rerun --name": checkNames,
	"webhook create --event": eventKinds, "webhook edit --event": eventKinds, "webhook deliveries --state": words("waiting", "delivered", "parked", "dropped"),
	"check connect --script": words("curl", "poll", "receiver"), "digest --mail": words("day", "week", "never"),
	"check claim --name": checkNames, "change check --check": checkNames, "change update --strategy": words("rebase", "merge"),
}

// eventKinds are the kinds of events that can be sent.
func eventKinds(context.Context, *program) []string {
	var out []string
	for _, k := range event.Kinds {
		if k.Leaves {
			out = append(out, k.Name+"\t"+k.Means)
		}
	}
	return out
}

func texts[T ~string](of []T) []string {
	out := make([]string, len(of))
	for i, t := range of {
		out[i] = string(t)
	}
	return out
}

func words(all ...string) values {
	return func(context.Context, *program) []string { return all }
}

// completing gives every command below c what completes its arguments and options.
func (p *program) completing(c *cobra.Command) {
	complete := func(v values) cobra.CompletionFunc {
		return func(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
			ctx, stop := context.WithTimeout(context.Background(), patience)
			defer stop()
			return v(ctx, p), cobra.ShellCompDirectiveNoFileComp
		}
	}
	var arguments []string
	for _, word := range strings.Fields(c.Use)[1:] {
		arguments = append(arguments, strings.Trim(word, "[]."))
	}
	if len(arguments) > 0 && c.ValidArgsFunction == nil {
		c.ValidArgsFunction = func(cmd *cobra.Command, given []string, typed string) ([]string, cobra.ShellCompDirective) {
			if len(given) < len(arguments) {
				if v := ofArgument[arguments[len(given)]]; v != nil {
					return complete(v)(cmd, given, typed)
				}
				if strings.Contains(arguments[len(given)], "FILE") || strings.Contains(arguments[len(given)], "EXAMPLES") {
					return nil, cobra.ShellCompDirectiveDefault
				}
			}
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
	}
	c.Flags().VisitAll(func(f *pflag.Flag) {
		v := ofCommandFlag[strings.TrimPrefix(c.CommandPath(), "tavrin ")+" --"+f.Name]
		if v == nil {
			v = ofFlag[f.Name]
		}
		if v != nil {
			_ = c.RegisterFlagCompletionFunc(f.Name, complete(v)) // it fails only for one that there is not, or that has one already
		}
	})
	for _, sub := range c.Commands() {
		p.completing(sub)
	}
}

var (
	repositories = listed((*client.Client).Repositories, func(r wire.Repository) string { return described(r.Name, r.Description) })
	houses       = listed((*client.Client).Houses, func(h wire.House) string { return h.Name })
	logins       = listed((*client.Client).People, func(w wire.Person) string { return described(w.Login, w.Name) })
	teams        = listed((*client.Client).Teams, func(t wire.Team) string { return described("team:"+t.Name, list(t.Members)) })

	changesOf = listedHere(func(ctx context.Context, h here) ([]wire.Change, error) {
		return h.Changes(ctx, h.repo, wire.ChangeFilter{Limit: 50})
	}, func(k wire.Change) string { return described(strconv.Itoa(k.Number), k.Title) })
	branchesOf = listedHere(func(ctx context.Context, h here) ([]wire.Branch, error) {
		return h.Branches(ctx, h.repo)
	}, func(b wire.Branch) string { return described(b.Name, b.Subject) })
	checkNames = listedHere(func(ctx context.Context, h here) ([]wire.CheckName, error) {
		return h.CheckNames(ctx, h.repo)
	}, func(n wire.CheckName) string { return described(n.Name, n.Command) })
)

func loginsAndTeams(ctx context.Context, p *program) []string {
	return append(logins(ctx, p), teams(ctx, p)...)
}

func principals(ctx context.Context, p *program) []string {
	var out []string
	for _, login := range logins(ctx, p) {
		out = append(out, "person:"+login)
	}
	return append(out, teams(ctx, p)...)
}

// listed completes with what a call lists.
func listed[T any](call func(*client.Client, context.Context) ([]T, error), word func(T) string) values {
	return func(ctx context.Context, p *program) []string {
		var out []string
		c, err := p.client()
		if err != nil {
			return nil
		}
		all, err := call(c, ctx)
		for _, v := range all {
			out = append(out, word(v))
		}
		return out
	}
}

// listedHere completes with what a call about the repository at hand lists.
func listedHere[T any](call func(context.Context, here) ([]T, error), word func(T) string) values {
	return func(ctx context.Context, p *program) []string {
		return listed(func(c *client.Client, ctx context.Context) ([]T, error) {
			h, err := p.here(ctx, c)
			if err != nil {
				return nil, err
			}
			return call(ctx, h)
		}, word)(ctx, p)
	}
}

// described is a value with words about it, in which a shell acts on nothing.
func described(value, about string) string {
	if about == "" {
		return plain(value)
	}
	return fmt.Sprintf("%s\t%s", plain(value), plain(about))
}
