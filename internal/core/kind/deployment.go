package kind

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "deployment", Group: require.OfChecks, Order: 2,
	Keys: []grammar.Key{
		{Path: "deployment", Shape: grammar.Text, Means: "a deployment to that environment succeeded: a check of kind deployment " +
			"with that environment", Absent: "-", Together: require.Conjunction, Example: "deployment: proving-field"},
		require.AtKey, require.MaxAgeKey,
	},
	Judged: "the checks of kind deployment with that environment", Gone: "no check deploys there: not met",
	New: newDeployment, NewOfArea: newDeployment,
})

func newDeployment() require.Ask { return &deployment{at: []require.Place{require.AtRehearsal}} }

// deployment asks that something was deployed somewhere.
type deployment struct {
	to     string
	at     []require.Place
	maxAge time.Duration
}

func (d *deployment) Read(r *grammar.Reader, f grammar.Field) {
	switch f.Name {
	case "deployment":
		d.to = r.Name(f, "an environment")
	case "at":
		d.at = require.Places(r, f)
	case "max_age":
		d.maxAge = require.MaxAge(r, f)
	}
}

func (d *deployment) Ages() bool { return d.maxAge > 0 }

func (d *deployment) Identity() string {
	return fmt.Sprintf("%q|%s|%d", d.to, grammar.Set(d.at), d.maxAge)
}

func (d *deployment) Title() string { return "a deployment to " + d.to }

func (d *deployment) Words() string {
	return fmt.Sprintf("a deployment to %s succeeds on the %s", d.to, strings.Join(grammar.Texts(d.at), " and the ")) +
		require.MaxAgeWords(d.maxAge)
}

func (d *deployment) AtLeast(other require.Ask) bool {
	o := other.(*deployment)
	return d.to == o.to && grammar.Within(o.at, d.at) && require.Younger(d.maxAge, o.maxAge)
}

func (d *deployment) Judge(k *require.Case, q require.Sourced) {
	for _, at := range d.at {
		w := require.Wanted{Kind: q.Kind, At: at, MaxAge: d.maxAge, Level: q.Level, From: q.From, Key: "deployment/" + d.to, AtLeast: 1,
			Title: fmt.Sprintf("a deployment to %s succeeds on the %s", d.to, at)}
		for _, c := range k.Defined {
			if c.Environment == d.to {
				w.Names = append(w.Names, c.Name)
			}
		}
		if len(w.Names) == 0 {
			w.None = fmt.Sprintf("no check deploys to %s (kind: deployment, environment: %s)", d.to, d.to)
		}
		k.Want(w)
	}
}

func (d *deployment) Lint(l require.Lint, q *require.Requirement) {
	if !slices.ContainsFunc(l.Defined(), func(c require.Check) bool { return c.Environment == d.to }) {
		l.Blocked(q.Line, fmt.Sprintf("checks: {NAME: {kind: deployment, environment: %s}}", d.to), "%s: no check deploys to %s",
			l.What(), d.to)
	}
}
