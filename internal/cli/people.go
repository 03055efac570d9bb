package cli

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

func (p *program) me() *cobra.Command {
	return &cobra.Command{Use: "me", Short: "Show who you are to the service", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, err := p.client()
		if err != nil {
			return err
		}
		me, err := c.Me(cmd.Context())
		if err != nil {
			return err
		}
		return p.print(me, func(w io.Writer) {
			row(w, "login", me.Login)
			row(w, "name", me.Name)
			row(w, "teams", list(me.Teams))
			row(w, "administrator", yesNo(me.Admin))
			row(w, "token scope", me.Scope)
		})
	}}
}

func (p *program) house() *cobra.Command {
	c := &cobra.Command{Use: "house", Short: "Make and list houses, the homes of repositories"}
	c.AddCommand(
		&cobra.Command{Use: "create HOUSE", Short: "Make a house", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := p.client()
			if err != nil {
				return err
			}
			h, err := c.CreateHouse(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return p.print(h, func(w io.Writer) { row(w, "made house "+h.Name) })
		}},
		&cobra.Command{Use: "list", Short: "List houses", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := p.client()
			if err != nil {
				return err
			}
			houses, err := c.Houses(cmd.Context())
			if err != nil {
				return err
			}
			return p.print(houses, func(w io.Writer) {
				row(w, "HOUSE", "YOUR ROLE", "REPOSITORIES")
				for _, h := range houses {
					row(w, h.Name, h.Role, h.Repositories)
				}
			})
		}},
		&cobra.Command{Use: "grant HOUSE LOGIN|team:NAME ROLE", Short: "Give a role in a house: reader, writer, maintainer, keeper or none", Args: cobra.ExactArgs(3), RunE: p.grant},
	)
	return c
}

func (p *program) grant(cmd *cobra.Command, args []string) error {
	c, err := p.client()
	if err != nil {
		return err
	}
	if err := c.Grant(cmd.Context(), args[0], args[1], args[2]); err != nil {
		return err
	}
	g := wire.Grant{Where: args[0], Who: args[1], Role: args[2]}
	return p.print(g, func(w io.Writer) { row(w, fmt.Sprintf("%s now has the role %s in %s", g.Who, g.Role, g.Where)) })
}

func (p *program) createAccount(use, short string, robot bool) *cobra.Command {
	n := client.NewPerson{Robot: robot}
	c := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		c, err := p.client()
		if err != nil {
			return err
		}
		n.Login = args[0]
		made, err := c.CreatePerson(cmd.Context(), n)
		if err != nil {
			return err
		}
		return p.print(made, func(w io.Writer) {
			row(w, fmt.Sprintf("made %s; give them a token with: tavrin token create %s", made.Login, made.Login))
		})
	}}
	c.Flags().StringVar(&n.Name, "name", "", "name that people read (default: the login)")
	if !robot {
		c.Flags().StringVar(&n.Email, "email", "", "address that stands in their commits")
		c.Flags().BoolVar(&n.Admin, "admin", false, "make them a service administrator")
	}
	return c
}

func (p *program) person() *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "Make, list and disable people"}
	disable := func(use, short string, disabled bool) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := p.client()
			if err != nil {
				return err
			}
			return c.SetDisabled(cmd.Context(), args[0], disabled)
		}}
	}
	c.AddCommand(p.createAccount("create LOGIN", "Make a person", false), p.listPeople(false),
		disable("disable LOGIN", "Take an account out of use; its tokens stop working at once", true), disable("enable LOGIN", "Take an account back into use", false))
	return c
}

func (p *program) robot() *cobra.Command {
	c := &cobra.Command{Use: "robot", Short: "Make and list robots: witnesses and runners"}
	c.AddCommand(p.createAccount("create LOGIN", "Make a robot", true), p.listPeople(true))
	return c
}

func (p *program) listPeople(robots bool) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List them", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, err := p.client()
		if err != nil {
			return err
		}
		all, err := c.People(cmd.Context())
		if err != nil {
			return err
		}
		shown := []wire.Person{}
		for _, person := range all {
			if person.Robot == robots {
				shown = append(shown, person)
			}
		}
		return p.print(shown, func(w io.Writer) {
			row(w, "LOGIN", "NAME", "TEAMS", "NOTE")
			for _, person := range shown {
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
	}}
}

func (p *program) team() *cobra.Command {
	c := &cobra.Command{Use: "team", Short: "Make teams and set their members"}
	var members []string
	create := &cobra.Command{Use: "create NAME", Short: "Make a team", Args: cobra.MinimumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		c, err := p.client()
		if err != nil {
			return err
		}
		// "--member a b c" gives a to the flag and leaves b and c as arguments: both forms are meant.
		team, err := c.CreateTeam(cmd.Context(), args[0], append(members, args[1:]...))
		if err != nil {
			return err
		}
		return p.print(team, func(w io.Writer) { row(w, fmt.Sprintf("made team %s with %s", team.Name, list(team.Members))) })
	}}
	create.Flags().StringSliceVar(&members, "member", nil, "login of a member; may be given several times")
	set := &cobra.Command{Use: "set NAME", Short: "Replace a team's members", Args: cobra.MinimumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		c, err := p.client()
		if err != nil {
			return err
		}
		return c.SetTeam(cmd.Context(), args[0], append(members, args[1:]...))
	}}
	set.Flags().StringSliceVar(&members, "member", nil, "login of a member; may be given several times")
	c.AddCommand(create, set, &cobra.Command{Use: "list", Short: "List teams", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, err := p.client()
		if err != nil {
			return err
		}
		teams, err := c.Teams(cmd.Context())
		if err != nil {
			return err
		}
		return p.print(teams, func(w io.Writer) {
			row(w, "TEAM", "MEMBERS")
			for _, t := range teams {
				row(w, t.Name, list(t.Members))
			}
		})
	}})
	return c
}

func (p *program) tokens() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Make, list and revoke tokens"}
	n := client.NewToken{}
	var lifetime string
	create := &cobra.Command{Use: "create LOGIN", Short: "Make a token and print it, this once, alone on standard output", Args: cobra.MinimumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		c, err := p.client()
		if err != nil {
			return err
		}
		d, err := days(lifetime)
		if err != nil {
			return err
		}
		n.Login, n.LifetimeSeconds = args[0], int64(d/time.Second)
		if len(args) > 1 { // more values after "--witness HOUSE/NAME:CHECK"
			if len(n.Witness) == 0 {
				return misuse("one login is expected, not %s", strings.Join(args, " "))
			}
			n.Witness = append(n.Witness, args[1:]...)
		}
		t, err := c.CreateToken(cmd.Context(), n)
		if err != nil {
			return err
		}
		return p.print(t, func(w io.Writer) { row(w, t.Secret) })
	}}
	f := create.Flags()
	f.StringVar(&n.Name, "name", "", "what it is for, to recognise it by")
	f.StringVar(&lifetime, "expires", "", "how long it works, such as 12h or 90d (default 90d)")
	f.BoolVar(&n.ReadOnly, "read-only", false, "for reading only")
	f.StringSliceVar(&n.Witness, "witness", nil, "HOUSE/NAME:CHECK that it may report, and nothing else; may be given several times")
	f.StringSliceVar(&n.Runner, "runner", nil, "HOUSE/NAME whose command checks it may take, and nothing else; may be given several times")
	c.AddCommand(create,
		&cobra.Command{Use: "list", Short: "List your tokens (administrators: all)", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := p.client()
			if err != nil {
				return err
			}
			tokens, err := c.Tokens(cmd.Context())
			if err != nil {
				return err
			}
			return p.print(tokens, func(w io.Writer) {
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
		}},
		&cobra.Command{Use: "revoke ID", Short: "End a token at once", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return misuse("%q is not the id of a token; see tavrin token list", args[0])
			}
			c, err := p.client()
			if err != nil {
				return err
			}
			return c.RevokeToken(cmd.Context(), id)
		}})
	return c
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
		Use: "credential get|store|erase", Short: "Give git the token: git config credential.helper '!tavrin credential'", Args: cobra.ExactArgs(1),
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
			c, err := p.client()
			if err != nil {
				return err
			}
			if asked["protocol"]+"://"+asked["host"] != c.URL() {
				return nil // another service's business
			}
			if p.token == "" {
				return errors.New("TAVRIN_TOKEN is not set, so git gets no token")
			}
			_, err = fmt.Fprintf(p.out, "username=tavrin\npassword=%s\n", p.token)
			return err
		},
	}
}
