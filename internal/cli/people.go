package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

func (p *program) me() *cobra.Command {
	return answer(p, "me", "Show who you are to the service", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) (wire.Me, error) {
			return c.Me(ctx)
		}, func(w io.Writer, me wire.Me) {
			row(w, "login", me.Login)
			row(w, "name", me.Name)
			row(w, "teams", list(me.Teams))
			row(w, "administrator", yesNo(me.Admin))
			row(w, "token scope", me.Scope)
		})
}

func (p *program) house() *cobra.Command {
	return group("house", "Make and list houses, the homes of repositories",
		answer(p, "create HOUSE", "Make a house", cobra.ExactArgs(1),
			func(ctx context.Context, c *client.Client, args []string) (wire.House, error) {
				return c.CreateHouse(ctx, args[0])
			}, func(w io.Writer, h wire.House) { row(w, "made house "+h.Name) }),
		answer(p, "list", "List houses", cobra.NoArgs, func(ctx context.Context, c *client.Client,
			_ []string) ([]wire.House, error) {
			return c.Houses(ctx)
		}, func(w io.Writer, houses []wire.House) {
			row(w, "HOUSE", "YOUR ROLE", "REPOSITORIES")
			for _, h := range houses {
				row(w, h.Name, h.Role, h.Repositories)
			}
		}),
		answer(p, "grant HOUSE LOGIN|team:NAME ROLE", "Give a role in a house: reader, writer, maintainer or none", cobra.ExactArgs(3),
			func(ctx context.Context, c *client.Client, args []string) (wire.Grant, error) {
				g := wire.Grant{Where: args[0], Who: args[1], Role: args[2]}
				return g, c.Grant(ctx, g.Where, g.Who, g.Role)
			}, printGrant),
		answer(p, "revoke HOUSE LOGIN|team:NAME", "Take a role in a house back", cobra.ExactArgs(2),
			func(ctx context.Context, c *client.Client, args []string) (wire.Grant, error) {
				return revoke(ctx, c, args[0], args[1])
			}, printGrant),
		answer(p, "roles HOUSE", "List who has which role in a house", cobra.ExactArgs(1),
			func(ctx context.Context, c *client.Client, args []string) ([]wire.Grant, error) {
				return c.Grants(ctx, args[0])
			}, printGrants))
}

// revoke takes a role back that somebody has there.
func revoke(ctx context.Context, c *client.Client, where, who string) (wire.Grant, error) {
	g := wire.Grant{Where: where, Who: who, Role: "none"}
	grants, err := c.Grants(ctx, where)
	if err == nil && !slices.ContainsFunc(grants, func(has wire.Grant) bool { return has.Where == where && has.Who == who }) {
		err = fmt.Errorf("%s has no role of their own in %s: tavrin repo roles and tavrin house roles say who has one, and where",
			who, where)
	}
	if err != nil {
		return g, err
	}
	return g, c.Grant(ctx, where, who, "none")
}

func printGrants(w io.Writer, grants []wire.Grant) {
	row(w, "WHO", "ROLE", "IN")
	for _, g := range grants {
		row(w, g.Who, g.Role, g.Where)
	}
}

func printGrant(w io.Writer, g wire.Grant) {
	if g.Role == "none" {
		row(w, fmt.Sprintf("%s has no role of their own in %s any more", g.Who, g.Where))
		return
	}
	row(w, fmt.Sprintf("%s now has the role %s in %s", g.Who, g.Role, g.Where))
}

func (p *program) person() *cobra.Command {
	disable := func(use, short string, disabled bool) *cobra.Command {
		return answer(p, use, short, cobra.ExactArgs(1), func(ctx context.Context, c *client.Client,
			args []string) (wire.Disabled, error) {
			return c.SetDisabled(ctx, args[0], disabled)
		}, printDisabled)
	}
	return group("person", "Make, list and disable people", p.createAccount("create LOGIN", "Make a person", false),
		p.listPeople(false),
		p.replacePerson(),
		disable("disable LOGIN", "Disable an account; its tokens end, and what was begun with them",
			true), disable("enable LOGIN", "Enable an account again; it needs new tokens", false))
}

// printDisabled says what ended, and what is left to be done.
func printDisabled(w io.Writer, d wire.Disabled) {
	if !d.Disabled {
		row(w, fmt.Sprintf("%s is back; old tokens are not: tavrin token create %s", d.Login, d.Login))
		return
	}
	row(w, fmt.Sprintf("%s is disabled: %s ended", d.Login,
		strings.Join([]string{counted(d.Tokens, "token"), counted(d.Sessions, "session"), counted(d.Leases, "lease"),
			counted(d.Feeds, "feed")}, ", ")))
	for _, where := range d.NamedBy {
		row(w, "still named by "+where)
	}
	if len(d.NamedBy) > 0 {
		row(w, fmt.Sprintf("to put somebody in their place: tavrin person replace %s --by LOGIN", d.Login))
	}
}

func (p *program) robot() *cobra.Command {
	return group("robot", "Make and list robots: check robots and runners",
		p.createAccount("create LOGIN", "Make a robot", true), p.listPeople(true))
}

func (p *program) createAccount(use, short string, robot bool) *cobra.Command {
	n := wire.NewPerson{Robot: robot}
	c := answer(p, use, short, cobra.ExactArgs(1), func(ctx context.Context, c *client.Client,
		args []string) (wire.Person, error) {
		n.Login = args[0]
		return c.CreatePerson(ctx, n)
	}, func(w io.Writer, made wire.Person) {
		row(w, fmt.Sprintf("made %s; give them a token with: tavrin token create %s", made.Login, made.Login))
	})
	c.Flags().StringVar(&n.Name, "name", "", "name that people read (default: the login)")
	if !robot {
		c.Flags().StringVar(&n.Email, "email", "", "address that stands in their commits")
		c.Flags().BoolVar(&n.Admin, "admin", false, "make them a service administrator")
	}
	return c
}

func (p *program) listPeople(robots bool) *cobra.Command {
	return answer(p, "list", "List them", cobra.NoArgs, func(ctx context.Context, c *client.Client,
		_ []string) ([]wire.Person, error) {
		all, err := c.People(ctx)
		shown := []wire.Person{}
		for _, person := range all {
			if person.Robot == robots {
				shown = append(shown, person)
			}
		}
		return shown, err
	}, func(w io.Writer, people []wire.Person) {
		row(w, "LOGIN", "NAME", "TEAMS", "NOTE")
		for _, person := range people {
			note := ""
			if person.Admin {
				note = "administrator"
			}
			if person.Disabled {
				note = "disabled"
			}
			row(w, person.Login, person.Name, list(person.Teams), note)
		}
	})
}

func (p *program) team() *cobra.Command {
	var members, managers []string
	withPeople := func(c *cobra.Command) *cobra.Command {
		c.Flags().StringSliceVar(&members, "member", nil, "login of a member; may be given several times")
		c.Flags().StringSliceVar(&managers, "manager", nil, "login of somebody who may change the team, besides "+
			"administrators; may be given several times")
		return c
	}
	said := func(verb string) func(io.Writer, wire.Team) {
		return func(w io.Writer, t wire.Team) {
			text := fmt.Sprintf("%s team %s", verb, t.Name)
			if t.Members != nil {
				text += " with " + list(t.Members)
			}
			if len(t.Managers) > 0 {
				text += ", managed by " + list(t.Managers)
			}
			row(w, text)
		}
	}
	// "--member a b c" gives a to the flag and leaves b and c as arguments: both forms are meant.
	return group("team", "Make teams, set their members and managers",
		withPeople(answer(p, "create NAME", "Make a team", cobra.MinimumNArgs(1),
			func(ctx context.Context, c *client.Client, args []string) (wire.Team, error) {
				return c.CreateTeam(ctx, wire.NewTeam{Name: args[0], Members: append(members, args[1:]...), Managers: managers})
			}, said("made"))),
		withPeople(answer(p, "set NAME", "Replace a team's members, its managers, or both", cobra.MinimumNArgs(1),
			func(ctx context.Context, c *client.Client, args []string) (wire.Team, error) {
				t := wire.Team{Name: args[0], Members: append(members, args[1:]...), Managers: managers}
				if t.Members == nil && t.Managers == nil {
					t.Members = []string{}
				}
				return t, c.SetTeam(ctx, t.Name, t.Members, t.Managers)
			}, said("set"))),
		answer(p, "list", "List teams", cobra.NoArgs, func(ctx context.Context, c *client.Client,
			_ []string) ([]wire.Team, error) {
			return c.Teams(ctx)
		}, func(w io.Writer, teams []wire.Team) {
			row(w, "TEAM", "MEMBERS", "MANAGERS")
			for _, t := range teams {
				row(w, t.Name, list(t.Members), list(t.Managers))
			}
		}))
}

func (p *program) tokens() *cobra.Command {
	return group("token", "Make, list and revoke tokens", p.createToken(), p.listTokens(),
		answer(p, "revoke ID", "End a token at once", cobra.ExactArgs(1),
			func(ctx context.Context, c *client.Client, args []string) (nothing, error) {
				id, err := strconv.ParseInt(args[0], 10, 64)
				if err != nil {
					return nothing{}, misuse("%q is not the id of a token; see tavrin token list", args[0])
				}
				return nothing{}, c.RevokeToken(ctx, id)
			}, silent))
}

func (p *program) createToken() *cobra.Command {
	n := wire.NewToken{}
	var lifetime string
	c := answer(p, "create LOGIN", "Make a token and print it, this once, alone on standard output",
		cobra.MinimumNArgs(1), func(ctx context.Context, c *client.Client, args []string) (wire.Token, error) {
			d, err := days(lifetime)
			if err != nil {
				return wire.Token{}, err
			}
			n.Login, n.LifetimeSeconds = args[0], int64(d/time.Second)
			if len(args) > 1 { // more values after "--check HOUSE/NAME:CHECK"
				if len(n.Checks) == 0 {
					return wire.Token{}, misuse("one login is expected, not %s", strings.Join(args, " "))
				}
				n.Checks = append(n.Checks, args[1:]...)
			}
			return c.CreateToken(ctx, n)
		}, func(w io.Writer, t wire.Token) { row(w, t.Secret) })
	f := c.Flags()
	f.StringVar(&n.Name, "name", "", "what it is for, to recognise it by")
	f.StringVar(&lifetime, "expires", "", "how long it works, such as 12h or 90d (default 90d)")
	f.BoolVar(&n.ReadOnly, "read-only", false, "for reading only")
	f.StringSliceVar(&n.Checks, "check", nil, "HOUSE/NAME:CHECK that it may report, and nothing else; may be "+
		"given several times")
	f.StringSliceVar(&n.Runner, "runner", nil, "HOUSE/NAME whose command checks it may take, and nothing else; may "+
		"be given several times")
	return c
}

func (p *program) listTokens() *cobra.Command {
	return answer(p, "list", "List your tokens (administrators: all)", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) ([]wire.Token, error) {
			return c.Tokens(ctx)
		}, func(w io.Writer, tokens []wire.Token) {
			row(w, "ID", "LOGIN", "NAME", "SCOPE", "FOR", "EXPIRES", "LAST USED")
			for _, t := range tokens {
				expires, used := "-", "never"
				if t.ExpiresAt != nil {
					expires = t.ExpiresAt.Format("2006-01-02 15:04")
				}
				if t.RevokedAt != nil {
					expires = "revoked"
				}
				if t.LastUsedAt != nil {
					used = ago(*t.LastUsedAt)
				}
				row(w, t.ID, t.Login, t.Name, t.Scope, list(t.Bindings), expires, used)
			}
		})
}

// days reads a duration that may be in days.
func days(text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	if n, found := strings.CutSuffix(text, "d"); found {
		if d, err := strconv.Atoi(n); err == nil && d > 0 && d < 10000 {
			return time.Duration(d) * 24 * time.Hour, nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, misuse("%q is not a duration: such as 30m, 12h or 90d", text)
	}
	return d, nil
}

// credential serves as git's credential helper (see gitcredentials(7)), so that tokens never stand in URLs.
func (p *program) credential() *cobra.Command {
	return &cobra.Command{
		Use: "credential get|store|erase", Short: "Give git the token: git config credential.ADDRESS.helper '!tavrin " +
			"credential'", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if args[0] != "get" {
				return nil // there is nothing to store or erase
			}
			input, err := io.ReadAll(io.LimitReader(p.in, 64<<10))
			if err != nil {
				return err
			}
			asked := map[string]string{}
			for line := range strings.Lines(string(input)) {
				key, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "=")
				asked[key] = value
			}
			service := asked["protocol"] + "://" + asked["host"]
			if strings.TrimRight(p.url, "/") != service && (p.url != "" || service != client.DefaultURL && !trusted(service)) {
				return nil // another service's business
			}
			if _, err := client.New(service, p.token); err != nil {
				return err
			}
			if p.token == "" {
				return errors.New("TAVRIN_TOKEN is not set, so git gets no token")
			}
			_, err = fmt.Fprintf(p.out, "username=tavrin\npassword=%s\n", p.token)
			return err
		},
	}
}

func (p *program) refusals() *cobra.Command {
	return answer(p, "refusals", "List what was refused for a reason of rights since the service was started",
		cobra.NoArgs, func(ctx context.Context, c *client.Client, _ []string) ([]wire.Refusal, error) {
			return c.Refusals(ctx)
		}, func(w io.Writer, all []wire.Refusal) {
			row(w, "TIMES", "LAST", "WHO", "WHAT", "WHY")
			for _, r := range all {
				row(w, r.Times, r.Last.Format("2006-01-02 15:04:05"), r.Who, r.What, r.Why)
			}
		})
}
