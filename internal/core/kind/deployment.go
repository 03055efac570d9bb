package kind

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "deployment", Group: require.OfChecks, Order: 2,
	Keys: []grammar.Key{
		{Path: "deployment", Shape: grammar.Text, Means: "a deployment to that environment succeeded: a check of kind deployment " +
			"with that environment", Absent: "-", Together: require.Conjunction, Example: "deployment: proving-field"},
		require.AtKey, require.MaxAgeKey,
		{Path: "healthy_for", Shape: grammar.Duration, High: 720, Means: "how long it has to have been healthy, which is passed: from 1m to 720h",
			Absent: "as soon as it passed", Together: "the longer", Example: "healthy_for: 10m"},
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
	// healthyFor is how long it has to have passed, without having been reported as failed since.
	healthyFor time.Duration
}

func (d *deployment) Read(r *grammar.Reader, f grammar.Field) {
	switch f.Name {
	case "deployment":
		d.to = r.Name(f, "an environment")
	case "at":
		d.at = require.Places(r, f)
	case "max_age":
		d.maxAge = require.MaxAge(r, f)
	case "healthy_for":
		d.healthyFor = r.Duration(f, time.Minute, 720*time.Hour, "10m or 24h")
	}
}

// Complete tells of a pass that would be too old before it was old enough.
func (d *deployment) Complete(r *grammar.Reader, n ast.Node) {
	if d.maxAge > 0 && d.healthyFor >= d.maxAge {
		r.Bad(n, fmt.Sprintf("healthy_for %s is not shorter than max_age %s: it would never be met", grammar.Brief(d.healthyFor),
			grammar.Brief(d.maxAge)), "a shorter healthy_for, or a longer max_age")
	}
}

func (d *deployment) Ages() bool { return d.maxAge > 0 || d.healthyFor > 0 }

// Environment is where it asks for a deployment.
func (d *deployment) Environment() string { return d.to }

func (d *deployment) Identity() string {
	return fmt.Sprintf("%q|%s|%d|%d", d.to, grammar.Set(d.at), d.maxAge, d.healthyFor)
}

func (d *deployment) Title() string { return "a deployment to " + d.to }

func (d *deployment) Words() string {
	healthy := ""
	if d.healthyFor > 0 {
		healthy = " and is healthy for " + grammar.Brief(d.healthyFor)
	}
	return fmt.Sprintf("a deployment to %s succeeds on the %s", d.to, strings.Join(grammar.Texts(d.at), " and the ")) + healthy +
		require.MaxAgeWords(d.maxAge)
}

func (d *deployment) AtLeast(other require.Ask) bool {
	o := other.(*deployment)
	return d.to == o.to && grammar.Within(o.at, d.at) && require.Younger(d.maxAge, o.maxAge) && d.healthyFor >= o.healthyFor
}

func (d *deployment) Judge(k *require.Case, q require.Sourced) {
	for _, at := range d.at {
		w := require.Wanted{Kind: q.Kind, At: at, MaxAge: d.maxAge, HealthyFor: d.healthyFor, Level: q.Level, From: q.From, Because: q.Because, Key: "deployment/" + d.to, AtLeast: 1,
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
