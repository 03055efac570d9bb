package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/internal/core/people"
	"tavrin/wire"
)

// replaced is one thing that names somebody, and what becomes of it.
type replaced struct {
	What  string   `json:"what"` // such as "team accounts" or "the rules of growers/irrigation"
	Edits []string `json:"edits"`
	Done  string   `json:"done"` // what came of it; empty: nothing was done yet

	do func(ctx context.Context) (string, error)
}

// replacePerson puts somebody in the place of a person who left: in teams, in roles, and in the rules that name them.
func (p *program) replacePerson() *cobra.Command {
	var by, reason string
	failed := false
	c := answer(p, "replace LOGIN", "Put somebody in a person's place in teams, roles and rules; without --reason it only shows "+
		"each edit", cobra.ExactArgs(1), func(ctx context.Context, c *client.Client, args []string) ([]replaced, error) {
		all, err := p.replacements(ctx, c, args[0], by, reason)
		if err != nil || reason == "" {
			return all, err
		}
		for i := range all { // each by itself: what one refuses takes nothing from the others
			if all[i].Done, err = all[i].do(ctx); err != nil {
				all[i].Done, failed = "refused: "+err.Error(), true
			}
		}
		return all, nil
	}, func(w io.Writer, all []replaced) {
		for _, r := range all {
			row(w, r.What+":")
			for _, e := range r.Edits {
				row(w, "", e)
			}
			if r.Done != "" {
				row(w, "", r.Done)
			}
		}
		if reason == "" {
			row(w, "Nothing was done yet. To do it, say the same with --reason TEXT")
		}
	})
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if err := run(cmd, args); err != nil || !failed {
			return err
		}
		return &exitError{status: statusError}
	}
	c.Flags().StringVar(&by, "by", "", "login of who comes in their place (needed)")
	c.Flags().StringVar(&reason, "reason", "", "why; it goes on record with each version of rules")
	return needs(c, "by")
}

// replacements finds everything that names a person, and what it becomes with another in their place.
func (p *program) replacements(ctx context.Context, c *client.Client, old, by, reason string) ([]replaced, error) {
	if old == by {
		return nil, misuse("--by is somebody else than %s", old)
	}
	everybody, err := c.People(ctx)
	if err != nil {
		return nil, err
	}
	for _, login := range []string{old, by} {
		if !slices.ContainsFunc(everybody, func(w wire.Person) bool { return w.Login == login && !w.Robot }) {
			return nil, fmt.Errorf("there is no person %q: tavrin person list", login)
		}
	}
	teams, err := c.Teams(ctx)
	if err != nil {
		return nil, err
	}
	out := []replaced{}
	for _, t := range teams {
		if r, named := inTeam(c, t, old, by); named {
			out = append(out, r)
		}
	}
	places, err := placesOf(ctx, c)
	if err != nil {
		return nil, err
	}
	for _, where := range places {
		grants, err := c.Grants(ctx, where)
		if err != nil {
			return nil, err
		}
		for _, g := range grants {
			if g.Where == where && g.Who == old {
				out = append(out, inRole(c, g, by, grants))
			}
		}
		r, err := inRules(ctx, c, where, old, by, reason)
		if err != nil {
			return nil, err
		}
		if r != nil {
			out = append(out, *r)
		}
	}
	return out, nil
}

// placesOf lists the houses and repositories that the caller may read, each house before its repositories.
func placesOf(ctx context.Context, c *client.Client) ([]string, error) {
	houses, err := c.Houses(ctx)
	if err != nil {
		return nil, err
	}
	repos, err := c.Repositories(ctx)
	if err != nil {
		return nil, err
	}
	var places []string
	for _, h := range houses {
		if h.Role != "none" {
			places = append(places, h.Name)
		}
	}
	for _, r := range repos {
		if r.Role != "none" {
			places = append(places, r.Name)
		}
	}
	slices.Sort(places)
	return places, nil
}

func inTeam(c *client.Client, t wire.Team, old, by string) (replaced, bool) {
	var members, managers []string // nil: as they are
	r := replaced{What: "team " + t.Name}
	for _, list := range []struct {
		what string
		now  []string
		then *[]string
	}{{"members", t.Members, &members}, {"managers", t.Managers, &managers}} {
		if !slices.Contains(list.now, old) {
			continue
		}
		then := slices.DeleteFunc(slices.Clone(list.now), func(login string) bool { return login == old || login == by })
		then = slices.Sorted(slices.Values(append(then, by)))
		*list.then = then
		r.Edits = append(r.Edits, fmt.Sprintf("%s: %s -> %s", list.what, strings.Join(list.now, ", "), strings.Join(then, ", ")))
	}
	r.do = func(ctx context.Context) (string, error) { return "done", c.SetTeam(ctx, t.Name, members, managers) }
	return r, len(r.Edits) > 0
}

func inRole(c *client.Client, g wire.Grant, by string, grants []wire.Grant) replaced {
	r := replaced{What: "roles in " + g.Where, Edits: []string{fmt.Sprintf("%s: %s -> none", g.Who, g.Role)}}
	order := []string{"none", "reader", "writer", "maintainer"}
	has := "none"
	for _, other := range grants {
		if other.Who == by && other.Where == g.Where {
			has = other.Role
		}
	}
	more := slices.Index(order, g.Role) > slices.Index(order, has)
	if more {
		r.Edits = append(r.Edits, fmt.Sprintf("%s: %s -> %s", by, has, g.Role))
	}
	r.do = func(ctx context.Context) (string, error) {
		if more { // first who comes, then who goes: the place is never empty
			if err := c.Grant(ctx, g.Where, by, g.Role); err != nil {
				return "", err
			}
		}
		return "done", c.Grant(ctx, g.Where, g.Who, "none")
	}
	return r
}

// inRules edits the rules of a house or repository, line by line as they stand; nil: they do not name the person.
func inRules(ctx context.Context, c *client.Client, where, old, by, reason string) (*replaced, error) {
	now, err := c.Rules(ctx, where, 0)
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusNotFound {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	word := people.Named(old)
	r := &replaced{What: "the rules of " + where}
	lines := strings.Split(now.Text, "\n")
	for i, line := range lines {
		then := word.ReplaceAllString(line, "${1}:"+by+"$2")
		if then == line {
			continue
		}
		r.Edits = append(r.Edits, fmt.Sprintf("line %d: %s -> %s", i+1, strings.TrimSpace(line), strings.TrimSpace(then)))
		lines[i] = then
	}
	r.do = func(ctx context.Context) (string, error) {
		applied, err := c.ApplyRules(ctx, where, wire.NewRules{Text: strings.Join(lines, "\n"), Reason: reason}, now.Version)
		switch {
		case err != nil:
			return "", err
		case applied.Proposal != nil:
			return fmt.Sprintf("proposal %d was made of it, to which somebody else has to agree: tavrin rules agree %d", applied.Proposal.ID,
				applied.Proposal.ID), nil
		}
		return fmt.Sprintf("rules version %d is in force", applied.Version), nil
	}
	if len(r.Edits) == 0 {
		return nil, nil
	}
	return r, nil
}
