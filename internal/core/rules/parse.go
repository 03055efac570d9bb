package rules

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"tavrin/internal/core/glob"
	"tavrin/internal/core/plainyaml"
	"tavrin/internal/core/trailer"
)

// Finding is one thing wrong with a document, and where.
type Finding struct {
	Line    int    `json:"line" doc:"counted from 1"`
	Column  int    `json:"column" doc:"counted from 1"`
	Message string `json:"message" doc:"what is wrong"`
	Right   string `json:"right,omitempty" doc:"what would be right"`
	Excerpt string `json:"excerpt,omitempty" doc:"the lines around it, the place marked"`
}

// String gives the finding in one paragraph without the file's name: "12:5: message; right".
func (f Finding) String() string {
	s := fmt.Sprintf("%d:%d: %s", f.Line, f.Column, f.Message)
	if f.Right != "" {
		s += "; " + f.Right
	}
	return s
}

const (
	// MaxFindings is how many findings are told at once; that there are more is the last one.
	MaxFindings = 50
	// MaxProtections is how many protections one document may have, MaxRequirements how many requirements they may ask
	// for together, MaxPatterns how many patterns of branches it may hold and MaxItems how many entries all its lists
	// together: what is asked of a document grows with the product of some of them.
	MaxProtections, MaxRequirements, MaxPatterns, MaxItems = 100, 500, 1000, 20_000
	// maxDescription leaves room for what people write into it.
	maxDescription = 8 << 10
)

var (
	nameForm  = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)
	checkForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._/:-]{0,99}$`)
	loginForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,38}$`)
	roleNames = []string{"reader", "writer", "maintainer"}
)

// Under says as what a document is read.
type Under struct {
	// OfHouse: it is a house's document, which may say for which repositories its parts are.
	OfHouse bool
	// House is the document of the repository's house, whose branch kinds a repository's document may use, and none of
	// whose names it may define again; nil: the house has none.
	House *Document
	// Redefined: what the house has come to define since the text was accepted is the house's, and not a finding.
	Redefined bool
	// Accepted: the text was accepted before, so that nothing about the house's document is a finding.
	Accepted bool
}

// Parse reads a repository's rules document by itself. It returns the document, or everything that is wrong with it:
// all findings at once, in the order of lines, and then no document.
func Parse(text string) (*Document, []Finding) { return Under{}.Parse(text) }

// Parse reads a rules document as what u says it is. It answers as the function Parse does.
func (u Under) Parse(text string) (*Document, []Finding) {
	r := &reader{lines: strings.Split(text, "\n"), under: u, used: map[string][]string{}, counts: map[string]int{}}
	tokens, trouble := plainyaml.Tokens(text, "the document")
	if trouble != nil {
		r.at(trouble.Line, trouble.Column, trouble.Message, trouble.Right)
		return nil, r.findings
	}
	file, err := parser.Parse(tokens, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		r.syntax(err)
		return nil, r.findings
	}
	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		r.at(1, 1, "the document is empty or holds several documents",
			"one YAML mapping that begins with \"tavrin: "+Format+"\"")
		return nil, r.findings
	}
	d := r.document(file.Docs[0].Body)
	if len(r.findings) > 0 {
		slices.SortStableFunc(r.findings, func(a, b Finding) int {
			if a.Line != b.Line {
				return a.Line - b.Line
			}
			return a.Column - b.Column
		})
		if r.more > 0 {
			last := r.findings[len(r.findings)-1]
			last.Message, last.Right, last.Excerpt = fmt.Sprintf("and %d findings more, which are not told",
				r.more), "correct these first", ""
			r.findings = append(r.findings, last)
		}
		return nil, r.findings
	}
	d.Lines, d.Used, d.OfHouse = len(r.lines), r.used, u.OfHouse
	return d, nil
}

func (r *reader) document(body ast.Node) *Document {
	d := &Document{lines: map[string]int{}}
	fields := r.keys(body, "the document", "")
	formatSeen := false
	for _, f := range fields {
		d.lines[f.name], _ = place(f.key)
		switch f.name {
		case "tavrin":
			formatSeen = true
			if s := r.text(f); s != "" && s != Format {
				r.bad(f.value, fmt.Sprintf("this service does not read documents of the form %q", s), "tavrin: "+Format)
			}
		case "branches":
			r.kinds(d, f)
		case "labels":
			for _, l := range r.mapping(f.value, `"labels"`) {
				d.Labels = append(d.Labels, r.label(l))
			}
		case "areas":
			for _, a := range r.mapping(f.value, `"areas"`) {
				d.Areas = append(d.Areas, r.area(a))
			}
		case "checks":
			for _, c := range r.mapping(f.value, `"checks"`) {
				d.Checks = append(d.Checks, r.check(c))
			}
		case "changes":
			for _, g := range r.keys(f.value, `"changes"`, "changes") {
				if d.Description = strings.TrimSpace(r.text(g)); len(d.Description) > maxDescription {
					r.bad(g.value, fmt.Sprintf("the description has %d bytes", len(d.Description)),
						fmt.Sprintf("at most %d", maxDescription))
				}
			}
		case "loosening":
			for _, g := range r.keys(f.value, `"loosening"`, "loosening") {
				d.AgreedBy = r.principals(g, false)
			}
			if len(d.AgreedBy) == 0 {
				r.bad(f.key, `"loosening" names nobody`, "agreed_by: person:LOGIN, team:NAME or role:ROLE, one or a "+
					"list")
			}
		}
	}
	if !formatSeen && len(r.findings) == 0 {
		r.bad(body, "the document does not say its form", "begin with \"tavrin: "+Format+"\"")
	}
	for _, f := range fields { // after the kinds and labels, which it may name
		if f.name == "protect" {
			r.protections(d, f)
		}
	}
	return d
}

func (r *reader) named(f field, what string) {
	if !nameForm.MatchString(f.name) {
		r.bad(f.key, fmt.Sprintf("%q is not a name for %s", f.name, what),
			"lower-case letters, digits, \".\", \"_\" and \"-\", at most 64")
	}
}

// houses finds out whether the house defines a name already, which is then a finding.
func (r *reader) houses(f field, what string, defined bool) {
	if defined && !r.under.Accepted && !r.under.Redefined {
		r.bad(f.key, fmt.Sprintf("the house defines %s %q already", what, f.name),
			"another name; a repository adds to what its house defines and never redefines it")
	}
}

func (r *reader) kinds(d *Document, f field) {
	for _, k := range r.mapping(f.value, `"branches"`) {
		r.named(k, "a branch kind")
		r.houses(k, "the branch kind", r.under.House != nil && r.under.House.Kind(k.name) != nil)
		list, texts := r.globs(k)
		r.within(k.key, "patterns of branches", len(texts), MaxPatterns)
		line, _ := place(k.key)
		d.Kinds = append(d.Kinds, Kind{Name: k.name, Patterns: texts, List: list, Line: line})
	}
}

func (r *reader) label(f field) Label {
	l := Label{Name: f.name}
	l.Line, _ = place(f.key)
	r.named(f, "a label")
	r.houses(f, "the label", r.under.House != nil && slices.ContainsFunc(r.under.House.Labels,
		func(l Label) bool { return l.Name == f.name }))
	for _, g := range r.keys(f.value, fmt.Sprintf("label %q", f.name), "labels{}") {
		l.SetBy = r.principals(g, false)
	}
	if len(l.SetBy) == 0 {
		r.bad(f.key, fmt.Sprintf("label %q does not say who may set it", f.name),
			"set_by: team:NAME, person:LOGIN or role:ROLE; rules may ask for a label, so that whoever sets it "+
				"changes what they ask")
	}
	return l
}

func (r *reader) area(f field) Area {
	a := Area{Name: f.name, lines: map[string]int{}}
	a.Line, _ = place(f.key)
	r.named(f, "an area")
	r.houses(f, "the area", r.under.House != nil && slices.ContainsFunc(r.under.House.Areas,
		func(a Area) bool { return a.Name == f.name }))
	for _, g := range r.keys(f.value, fmt.Sprintf("area %q", f.name), "areas{}") {
		a.lines[g.name], _ = place(g.key)
		switch g.name {
		case "repositories":
			a.Repositories, _ = r.globs(g)
		case "paths":
			a.Paths, a.Text = r.globs(g)
		case "owners":
			a.Owners = r.principals(g, false)
		case "checks":
			a.Checks = r.checkNames(g)
		case "asks":
			r.areaAsks(&a, g)
		}
	}
	if a.Text == nil {
		r.bad(f.key, fmt.Sprintf("area %q has no paths", f.name), "paths: one glob or a list of globs")
	}
	if len(a.Owners) == 0 {
		r.bad(f.key, fmt.Sprintf("area %q has no owners", f.name), "owners: team:NAME or person:LOGIN, one or a list")
	}
	return a
}

func (r *reader) areaAsks(a *Area, f field) {
	for _, h := range r.keys(f.value, `"asks"`, "areas{}.asks") {
		a.lines["asks."+h.name], _ = place(h.key)
		switch h.name {
		case "approvals":
			k := keyAt("areas{}.asks.approvals")
			a.Approvals = r.number(h, k.Low, k.High)
		case "reviewers":
			a.Reviewers = r.principals(h, false)
		case "optional":
			a.Optional = r.principals(h, false)
		case "override":
			a.Override = r.overriders(h)
		}
	}
}

func (r *reader) check(f field) Check {
	c := Check{Name: f.name, lines: map[string]int{}}
	c.Line, _ = place(f.key)
	r.checkName(f.key, f.name)
	r.houses(f, "the check", r.under.House != nil && slices.ContainsFunc(r.under.House.Checks,
		func(c Check) bool { return c.Name == f.name }))
	deploys := false
	for _, g := range r.keys(f.value, fmt.Sprintf("check %q", f.name), "checks{}") {
		c.lines[g.name], _ = place(g.key)
		switch g.name {
		case "command":
			c.Command = strings.TrimSpace(r.text(g))
		case "limit":
			c.Limit = r.duration(g, time.Second, 7*24*time.Hour, "90s, 10m or 1h30m")
		case "witness":
			c.Witness = r.robot(g)
		case "fresh":
			c.Fresh = r.fresh(g)
		case "kind":
			deploys = oneOf(r, g, keyAt("checks{}.kind").Allowed...) != ""
		case "place":
			c.Place = r.name(g, "a place")
		}
	}
	if c.Limit == 0 {
		c.Limit = DefaultAnswer
		if c.Command != "" {
			c.Limit = DefaultLimit
		}
	}
	if c.Command != "" && c.Witness != "" {
		r.bad(f.key, fmt.Sprintf("check %q has both a command and a witness", f.name),
			"a command is run by a runner, a witness reports from outside: keep one")
	}
	if deploys != (c.Place != "") {
		r.bad(f.key, fmt.Sprintf("check %q has a kind or a place without the other", f.name),
			"kind: deployment together with place: NAME")
	}
	return c
}

func (r *reader) fresh(f field) time.Duration {
	return r.duration(f, time.Minute, 720*time.Hour, "30m or 12h")
}

func (r *reader) robot(f field) string {
	s := r.text(f)
	login, found := strings.CutPrefix(s, "robot:")
	if s != "" && (!found || !loginForm.MatchString(login)) {
		r.bad(f.value, fmt.Sprintf("witness cannot be %q", s), "robot:LOGIN")
	}
	return login
}

func (r *reader) name(f field, what string) string {
	s := r.text(f)
	if s != "" && !nameForm.MatchString(s) {
		r.bad(f.value, fmt.Sprintf("%q is not a name for %s", s, what),
			"lower-case letters, digits, \".\", \"_\" and \"-\", at most 64")
	}
	return s
}

func (r *reader) checkName(n ast.Node, name string) {
	if !checkForm.MatchString(name) {
		r.bad(n, fmt.Sprintf("%q is not a name for a check", name), "letters, digits, space and . _ / : -, at most 100")
	}
}

func (r *reader) checkNames(f field) []string {
	names := r.texts(f)
	for _, n := range names {
		r.checkName(f.value, n)
	}
	return names
}

// checkGlobs reads names of checks of which some may be globs.
func (r *reader) checkGlobs(f field) []CheckName {
	var out []CheckName
	for _, text := range r.texts(f) {
		c := CheckName{Text: text, many: strings.ContainsAny(text, "*?[{")}
		if !c.many {
			r.checkName(f.value, text)
		} else if p, err := glob.Compile(text); err != nil {
			r.bad(f.value, err.Error(), "the name of a check, or "+glob.Syntax)
		} else if c.glob = p; !r.within(f.value, multipliedOut, p.Rows(), MaxItems) {
			return nil
		}
		out = append(out, c)
	}
	return out
}

func (r *reader) protections(d *Document, f field) {
	seq, ok := f.value.(*ast.SequenceNode)
	if !ok {
		r.bad(f.value, fmt.Sprintf(`"protect" is %s`, kindOf(f.value)),
			"a list of protections, each beginning with \"- name: …\"")
		return
	}
	names := map[string]int{}
	for _, n := range seq.Values {
		if !r.within(n, "protections", 1, MaxProtections) {
			return
		}
		p := r.protection(d, n)
		if line, twice := names[p.Name]; twice && p.Name != "" {
			r.bad(n, fmt.Sprintf("two protections are called %q", p.Name),
				fmt.Sprintf("give each a name of its own; the first is on line %d", line))
		}
		names[p.Name] = p.Line
		d.Protections = append(d.Protections, p)
	}
}

func (r *reader) protection(d *Document, n ast.Node) Protection {
	p := Protection{Rewrite: Never, Delete: Never, ApprovalsStay: StayIfUnchanged, ObjectionsStay: StayAlways,
		lines: map[string]int{}}
	p.Line, _ = place(n)
	for _, f := range r.keys(n, "a protection", "protect[]") {
		p.lines[f.name], _ = place(f.key)
		switch f.name {
		case "name":
			p.Name = strings.TrimSpace(r.text(f))
		case "repositories":
			p.Repositories, p.RepoText = r.globs(f)
		case "branches":
			p.Text = r.texts(f)
			p.Branches, p.stands = r.branches(d, f, p.Text)
		case "push":
			p.Push = r.principals(f, true)
		case "create":
			p.Create = r.principals(f, true)
		case "create_from":
			p.FromText = r.texts(f)
			p.From, p.from = r.branches(d, f, p.FromText)
		case "exempt":
			p.Exempt = r.principals(f, true)
		case "override":
			p.Override = r.overriders(f)
		case "rewrite":
			p.Rewrite = oneOf(r, f, permissions...)
		case "delete":
			p.Delete = oneOf(r, f, permissions...)
		case "require":
			p.Require = r.requirements(d, f)
		case "after_push":
			for _, g := range r.keys(f.value, `"after_push"`, "protect[].after_push") {
				p.lines["after_push."+g.name], _ = place(g.key)
				if g.name == "approvals_stay" {
					p.ApprovalsStay = oneOf(r, g, stays...)
				} else {
					p.ObjectionsStay = oneOf(r, g, stays...)
				}
			}
		case "land":
			r.land(&p, f)
		}
	}
	if p.Name == "" || len(p.Name) > 80 || strings.ContainsAny(p.Name, "\n\"") {
		r.bad(n, "a protection needs a name", "name: a few words, at most 80 characters, without quotes")
	} else if strings.HasPrefix(p.Name, "area ") {
		r.bad(n, fmt.Sprintf("a protection cannot be called %q: sources name areas so", p.Name), "another name")
	} else if c := odd(p.Name); c != "" {
		r.bad(n, fmt.Sprintf("the name %q holds %s", p.Name, c), "letters that can be seen, and read one way only")
	}
	if p.Text == nil {
		r.bad(n, "a protection needs branches", "branches: kinds from \"branches\" or globs")
	}
	return p
}

// overriders reads who may set something aside.
func (r *reader) overriders(f field) []Principal {
	who := r.principals(f, true)
	if i := slices.IndexFunc(who, func(p Principal) bool { return p.Kind == Robot }); i >= 0 {
		r.bad(f.value, fmt.Sprintf("%s is a robot, and robots set nothing aside", who[i]),
			"person:LOGIN, team:NAME, role:ROLE or nobody; what a robot may do as a rule is exempt")
	}
	return who
}

// odd names a character that cannot be seen or that turns the direction of reading, or nothing.
func odd(text string) string {
	for _, c := range text {
		if c == utf8.RuneError || !unicode.IsPrint(c) {
			return fmt.Sprintf("the character U+%04X", c)
		}
	}
	return ""
}

// branches compiles branch patterns, a kind's name standing for the kind's patterns; it returns those too.
func (r *reader) branches(d *Document, f field, texts []string) (glob.List, []string) {
	if len(texts) == 0 {
		return glob.List{}, nil
	}
	stands := []string{}
	for _, text := range texts {
		word, out := strings.CutPrefix(text, "!")
		k := d.Kind(word)
		if r.under.House != nil && r.under.House.Kind(word) != nil { // what the house came to define is the house's
			k = r.under.House.Kind(word)
		}
		meant := []string{word}
		if k != nil {
			meant = k.Patterns
		}
		r.used[word] = meant
		for _, pattern := range meant {
			switch {
			case !out:
				stands = append(stands, pattern)
			case k != nil && strings.HasPrefix(pattern, "!"):
				r.bad(f.value, fmt.Sprintf("%q takes out a kind that takes something out itself (%s)", text, pattern),
					"write the globs out")
			default:
				stands = append(stands, "!"+pattern)
			}
		}
		if !r.within(f.value, "patterns of branches", len(meant), MaxPatterns) {
			return glob.List{}, nil
		}
	}
	return r.compiled(f, stands, "a branch kind or "+glob.Syntax), stands
}

func (r *reader) land(p *Protection, f field) {
	for _, g := range r.keys(f.value, `"land"`, "protect[].land") {
		p.lines["land."+g.name], _ = place(g.key)
		switch g.name {
		case "by":
			p.LandBy = r.principals(g, false)
		case "with":
			if p.With = someOf(r, g, Strategies...); len(p.With) == 0 {
				r.bad(g.value, "\"with\" allows no strategy, so nothing could ever land", "some of "+joined(Strategies))
			}
		case "strategy":
			p.Default = oneOf(r, g, Strategies...)
		case "message":
			p.Message = r.text(g)
			r.template(g, p.Message)
		case "trailers":
			p.Trailers = r.texts(g)
			for _, t := range p.Trailers {
				r.template(g, t)
				if !trailerForm.MatchString(t) || trailer.Typed(t) != "" {
					r.bad(g.value, fmt.Sprintf("%q is not a trailer that rules may add", t),
						"\"Key: value\" on one line; Landed-change, Approved-by and Co-authored-by are the "+
							"service's own")
				}
			}
		case "remove_source":
			b := r.boolean(g)
			p.RemoveSource = &b
		case "join_early":
			b := r.boolean(g)
			p.JoinEarly = &b
		}
	}
	if p.Default != "" && len(p.With) > 0 && !slices.Contains(p.With, p.Default) {
		r.bad(f.value, fmt.Sprintf("the default strategy %q is not one of those allowed by \"with\"", p.Default),
			"one of "+joined(p.With))
	}
}

var (
	trailerForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]{0,40}: [^\n]+$`)
	placeholder = regexp.MustCompile(`\{([a-z_]*)\}`)
)

// Placeholders lists what a template may have filled in.
var Placeholders = []string{"title", "description", "number", "source", "target", "repository", "author"}

func (r *reader) template(f field, text string) {
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(Placeholders, m[1]) {
			r.bad(f.value, fmt.Sprintf("%s is not a placeholder", m[0]),
				"one of {"+strings.Join(Placeholders, "} {")+"}")
		}
	}
}

// Fill fills a template in.
func Fill(template string, values map[string]string) string {
	return placeholder.ReplaceAllStringFunc(template, func(m string) string {
		if v, ok := values[m[1:len(m)-1]]; ok {
			return v
		}
		return m
	})
}
