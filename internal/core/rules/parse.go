package rules

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"tavrin/internal/core/change"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/kind"
	"tavrin/internal/core/people"
	"tavrin/internal/core/plainyaml"
	"tavrin/internal/core/require"
	"tavrin/internal/core/trailer"
)

// maxDescription leaves room for what people write into it, in bytes.
const maxDescription = 8 << 10

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
func Parse(text string) (*Document, []grammar.Finding) { return Under{}.Parse(text) }

// Parse reads a rules document as what u says it is. It answers as the function Parse does.
func (u Under) Parse(text string) (*Document, []grammar.Finding) {
	r := &reader{Reader: grammar.NewReader(text, theGrammar, u.OfHouse), under: u, doc: &Document{lines: grammar.LineNumbers{}},
		used: map[string][]string{}}
	r.Scope = r
	tokens, trouble := plainyaml.Tokens(text, "the document")
	if trouble != nil {
		r.At(trouble.Line, trouble.Column, trouble.Message, trouble.Right)
		return nil, r.Findings()
	}
	file, err := parser.Parse(tokens, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		r.Syntax(err)
		return nil, r.Findings()
	}
	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		r.At(1, 1, "the document is empty or holds several documents",
			"one YAML mapping that begins with \"tavrin: "+Format+"\"")
		return nil, r.Findings()
	}
	r.document(file.Docs[0].Body)
	if r.Found() > 0 {
		return nil, r.Findings()
	}
	r.doc.Lines, r.doc.Used, r.doc.OfHouse = r.Lines(), r.used, u.OfHouse
	return r.doc, nil
}

// reader reads one document.
type reader struct {
	*grammar.Reader
	under Under
	doc   *Document
	tips  []tipsField         // on which tips checks are asked for
	later []areaField         // what areas require
	used  map[string][]string // branch kinds, and words in their place, with what they stand for
}

// areaField is a key of one of the document's areas, by its place among them.
type tipsField struct {
	check int
	grammar.Field
}

type areaField struct {
	area int
	grammar.Field
}

// Area says whether there is an area of that name, in this document or the house's.
func (r *reader) Area(name string) bool {
	return r.under.Accepted || hasArea(r.doc, name) || r.under.House != nil && hasArea(r.under.House, name)
}

// Label says whether a label is defined, in this document or the house's.
func (r *reader) Label(name string) bool {
	known := func(d *Document) bool {
		return d != nil && slices.ContainsFunc(d.Labels, func(l Label) bool { return l.Name == name })
	}
	return r.under.Accepted || known(r.doc) || known(r.under.House)
}

func hasArea(d *Document, name string) bool {
	return slices.ContainsFunc(d.Areas, func(a Area) bool { return a.Name == name })
}

func (r *reader) document(body ast.Node) {
	d := r.doc
	fields := r.Keys(body, "the document", "")
	formatSeen := false
	for _, f := range fields {
		d.lines[f.Name], _ = grammar.Place(f.Key)
		switch f.Name {
		case "tavrin":
			formatSeen = true
			if s := r.Text(f); s != "" && s != Format {
				r.Bad(f.Value, fmt.Sprintf("this service does not read documents of the form %q", s), "tavrin: "+Format)
			}
		case "branches":
			r.kinds(d, f)
		case "labels":
			for _, l := range r.Mapping(f.Value, `"labels"`) {
				d.Labels = append(d.Labels, r.label(l))
			}
		case "areas":
			for _, a := range r.Mapping(f.Value, `"areas"`) {
				d.Areas = append(d.Areas, r.area(a))
			}
		case "checks":
			for _, c := range r.Mapping(f.Value, `"checks"`) {
				d.Checks = append(d.Checks, r.check(c))
			}
		case "changes":
			for _, g := range r.Keys(f.Value, `"changes"`, "changes") {
				if d.Description = strings.TrimSpace(r.Text(g)); len(d.Description) > maxDescription {
					r.Bad(g.Value, fmt.Sprintf("the description has %d bytes", len(d.Description)),
						fmt.Sprintf("at most %d", maxDescription))
				}
			}
		case "loosening":
			for _, g := range r.Keys(f.Value, `"loosening"`, "loosening") {
				d.AgreedBy = r.Principals(g, false)
			}
			if len(d.AgreedBy) == 0 {
				r.Bad(f.Key, `"loosening" names nobody`, "agreed_by: person:LOGIN, team:NAME or role:ROLE, one or a "+
					"list")
			}
		}
	}
	if !formatSeen && r.Found() == 0 {
		r.Bad(body, "the document does not say its form", "begin with \"tavrin: "+Format+"\"")
	}
	for _, f := range r.tips { // after the kinds, which it may name
		c := &d.Checks[f.check]
		if c.OnTip = r.Texts(f.Field); len(c.OnTip) == 0 {
			r.Bad(f.Value, "\"on_tip\" names no branch", "branch kinds or globs")
		}
		c.Tips, c.OnTipGlobs = r.Scope.Branches(f.Field, c.OnTip)
	}
	for _, f := range r.later { // after the kinds, labels and areas, which it may name
		d.Areas[f.area].Require = r.requirements(f.Field, true)
	}
	for _, f := range fields {
		if f.Name == "protect" {
			r.protections(d, f)
		}
	}
}

func (r *reader) named(f grammar.Field, what string) {
	if !grammar.NameForm.MatchString(f.Name) {
		r.Bad(f.Key, fmt.Sprintf("%q is not a name for %s", f.Name, what),
			"lower-case letters, digits, \".\", \"_\" and \"-\", at most 64")
	}
}

// houses finds out whether the house defines a name already, which is then a finding.
func (r *reader) houses(f grammar.Field, what string, defined bool) {
	if defined && !r.under.Accepted && !r.under.Redefined {
		r.Bad(f.Key, fmt.Sprintf("the house defines %s %q already", what, f.Name),
			"another name; a repository adds to what its house defines and never redefines it")
	}
}

func (r *reader) kinds(d *Document, f grammar.Field) {
	for _, k := range r.Mapping(f.Value, `"branches"`) {
		r.named(k, "a branch kind")
		r.houses(k, "the branch kind", r.under.House != nil && r.under.House.Kind(k.Name) != nil)
		list, texts := r.Globs(k)
		r.Within(k.Key, "patterns of branches", len(texts), grammar.MaxPatterns)
		line, _ := grammar.Place(k.Key)
		d.Kinds = append(d.Kinds, Kind{Name: k.Name, Patterns: texts, List: list, Line: line})
	}
}

func (r *reader) label(f grammar.Field) Label {
	l := Label{Name: f.Name}
	l.Line, _ = grammar.Place(f.Key)
	r.named(f, "a label")
	r.houses(f, "the label", r.under.House != nil && slices.ContainsFunc(r.under.House.Labels,
		func(l Label) bool { return l.Name == f.Name }))
	for _, g := range r.Keys(f.Value, fmt.Sprintf("label %q", f.Name), "labels{}") {
		l.SetBy = r.Principals(g, false)
	}
	if len(l.SetBy) == 0 {
		r.Bad(f.Key, fmt.Sprintf("label %q does not say who may set it", f.Name),
			"set_by: team:NAME, person:LOGIN or role:ROLE; rules may ask for a label, so that whoever sets it "+
				"changes what they ask")
	}
	return l
}

func (r *reader) area(f grammar.Field) Area {
	a := Area{Name: f.Name, lines: grammar.LineNumbers{}}
	a.Line, _ = grammar.Place(f.Key)
	r.named(f, "an area")
	r.houses(f, "the area", r.under.House != nil && slices.ContainsFunc(r.under.House.Areas,
		func(a Area) bool { return a.Name == f.Name }))
	for _, g := range r.Keys(f.Value, fmt.Sprintf("area %q", f.Name), "areas{}") {
		a.lines[g.Name], _ = grammar.Place(g.Key)
		switch g.Name {
		case "repositories":
			a.Repositories, _ = r.Globs(g)
		case "paths":
			a.Paths, a.Text = r.Globs(g)
		case "owners":
			a.Owners = r.Principals(g, false)
		case "reviewers":
			a.Reviewers = r.Principals(g, false)
		case "optional":
			a.Optional = r.Principals(g, false)
		case "waive":
			a.Waive = r.mayWaive(g)
		case "require":
			r.later = append(r.later, areaField{len(r.doc.Areas), g})
		}
	}
	if a.Text == nil {
		r.Bad(f.Key, fmt.Sprintf("area %q has no paths", f.Name), "paths: one glob or a list of globs")
	}
	if len(a.Owners) == 0 {
		r.Bad(f.Key, fmt.Sprintf("area %q has no owners", f.Name), "owners: team:NAME or person:LOGIN, one or a list")
	}
	return a
}

func (r *reader) check(f grammar.Field) Check {
	c := Check{Name: f.Name, Lines: grammar.LineNumbers{}}
	c.Line, _ = grammar.Place(f.Key)
	r.CheckName(f.Key, f.Name)
	r.houses(f, "the check", r.under.House != nil && slices.ContainsFunc(r.under.House.Checks,
		func(c Check) bool { return c.Name == f.Name }))
	deploys := false
	for _, g := range r.Keys(f.Value, fmt.Sprintf("check %q", f.Name), "checks{}") {
		c.Lines[g.Name], _ = grammar.Place(g.Key)
		switch g.Name {
		case "command":
			c.Command = strings.TrimSpace(r.Text(g))
		case "timeout":
			c.Timeout = r.Duration(g, time.Second, 7*24*time.Hour, "90s, 10m or 1h30m")
		case "reported_by":
			c.ReportedBy = r.Robot(g)
		case "max_age":
			c.MaxAge = require.MaxAge(r.Reader, g)
		case "kind":
			deploys = grammar.OneOf(r.Reader, g, theGrammar.At("checks{}.kind").Allowed...) != ""
		case "environment":
			c.Environment = r.Name(g, "an environment")
		case "sees":
			c.SeesTree = grammar.OneOf(r.Reader, g, theGrammar.At("checks{}.sees").Allowed...) == "tree"
		case "on_tip":
			r.tips = append(r.tips, tipsField{len(r.doc.Checks), g})
		}
	}
	if c.Timeout == 0 {
		c.Timeout = require.DefaultAnswer
		if c.Command != "" {
			c.Timeout = require.DefaultTimeout
		}
	}
	if c.Command != "" && c.ReportedBy != "" {
		r.Bad(f.Key, fmt.Sprintf("check %q has both a command and reported_by", f.Name),
			"a command is run by a runner, what is reported_by a robot comes from outside: keep one")
	}
	if deploys != (c.Environment != "") {
		r.Bad(f.Key, fmt.Sprintf("check %q has a kind or an environment without the other", f.Name),
			"kind: deployment together with environment: NAME")
	}
	if deploys && c.SeesTree {
		r.Bad(f.Key, fmt.Sprintf("check %q is a deployment and sees only the tree", f.Name),
			"what was deployed once may have been replaced since: leave out sees")
	}
	return c
}

func (r *reader) protections(d *Document, f grammar.Field) {
	seq, ok := f.Value.(*ast.SequenceNode)
	if !ok {
		r.Bad(f.Value, fmt.Sprintf(`"protect" is %s`, grammar.KindOf(f.Value)),
			"a list of protections, each beginning with \"- name: …\"")
		return
	}
	names := map[string]int{}
	for _, n := range seq.Values {
		if !r.Within(n, "protections", 1, grammar.MaxProtections) {
			return
		}
		p := r.protection(d, n)
		if line, twice := names[p.Name]; twice && p.Name != "" {
			r.Bad(n, fmt.Sprintf("two protections are called %q", p.Name),
				fmt.Sprintf("give each a name of its own; the first is on line %d", line))
		}
		names[p.Name] = p.Line
		d.Protections = append(d.Protections, p)
	}
}

func (r *reader) protection(d *Document, n ast.Node) Protection {
	p := Protection{Rewrite: Never, Delete: Never, Queue: Queue{Reruns: DefaultReruns, Tests: Strict}, ApprovalsStay: require.StayIfUnchanged, ObjectionsStay: require.StayAlways,
		lines: grammar.LineNumbers{}}
	p.Line, _ = grammar.Place(n)
	for _, f := range r.Keys(n, "a protection", "protect[]") {
		p.lines[f.Name], _ = grammar.Place(f.Key)
		switch f.Name {
		case "name":
			p.Name = strings.TrimSpace(r.Text(f))
		case "repositories":
			p.Repositories, p.RepoText = r.Globs(f)
		case "branches":
			p.Text = r.Texts(f)
			p.Branches, p.stands = r.Branches(f, p.Text)
		case "tags":
			p.Tags, p.TagText = r.Globs(f)
			r.Within(f.Value, "patterns of branches", len(p.TagText), grammar.MaxPatterns)
		case "push":
			p.Push = r.Principals(f, true)
		case "create":
			p.Create = r.Principals(f, true)
		case "create_from":
			p.FromText = r.Texts(f)
			p.From, p.fromStands = r.Branches(f, p.FromText)
		case "exempt":
			p.Exempt = r.Principals(f, true)
		case "waive":
			p.Waive = r.mayWaive(f)
		case "rewrite":
			p.Rewrite = grammar.OneOf(r.Reader, f, permissions...)
		case "delete":
			p.Delete = grammar.OneOf(r.Reader, f, permissions...)
		case "require":
			p.Require = r.requirements(f, false)
		case "after_push":
			for _, g := range r.Keys(f.Value, `"after_push"`, "protect[].after_push") {
				p.lines["after_push."+g.Name], _ = grammar.Place(g.Key)
				if g.Name == "approvals_stay" {
					p.ApprovalsStay = grammar.OneOf(r.Reader, g, require.Stays...)
				} else {
					p.ObjectionsStay = grammar.OneOf(r.Reader, g, require.Stays...)
				}
			}
		case "land":
			r.land(&p, f)
		case "queue":
			r.queue(&p, f)
		}
	}
	if p.Name == "" || len(p.Name) > 80 || strings.ContainsAny(p.Name, "\n\"") {
		r.Bad(n, "a protection needs a name", "name: a few words, at most 80 characters, without quotes")
	} else if strings.HasPrefix(p.Name, "area ") {
		r.Bad(n, fmt.Sprintf("a protection cannot be called %q: sources name areas so", p.Name), "another name")
	} else if c := grammar.Odd(p.Name); c != "" {
		r.Bad(n, fmt.Sprintf("the name %q holds %s", p.Name, c), "letters that can be seen, and read one way only")
	}
	switch {
	case p.Text == nil && p.TagText == nil:
		r.Bad(n, "a protection needs branches or tags", "branches: kinds from \"branches\" or globs; or tags: globs")
	case p.Text != nil && p.TagText != nil:
		r.Bad(n, "a protection is for branches or for tags", "one of the two; begin another protection for the other")
	default:
		r.ofTags(&p, n)
	}
	return p
}

// aboutTags are the keys that a protection of tags may state.
var aboutTags = []string{"name", "repositories", "tags", "create", "rewrite", "delete", "exempt", "require"}

// ofTags tells what means nothing in a protection of tags, or only there.
func (r *reader) ofTags(p *Protection, n ast.Node) {
	for key, line := range p.lines {
		if name, _, _ := strings.Cut(key, "."); p.TagText != nil && !slices.Contains(aboutTags, name) {
			r.At(line, 1, fmt.Sprintf("%q means nothing for tags", key), "some of "+strings.Join(aboutTags, ", "))
		}
	}
	for _, q := range p.Require {
		t, may := q.Asks.(require.Tagged)
		ofTags := may && t.OfTags()
		if ofTags != (p.TagText != nil) {
			r.At(q.Line, 1, fmt.Sprintf("%q is asked of %s", q.Title(), map[bool]string{true: "tags", false: "changes, and tags have none"}[ofTags]),
				map[bool]string{true: "signed: every commit, or a protection with tags", false: "signed: every tag, or a protection with branches"}[ofTags])
		} else if ofTags && (q.Narrowed() || q.Level == require.Advisory) {
			r.At(q.Line, 1, "what is asked of tags has no condition and no level", "signed: every tag, alone")
		}
	}
}

// mayWaive reads who may waive something.
func (r *reader) mayWaive(f grammar.Field) []people.Principal {
	who := r.Principals(f, true)
	if i := slices.IndexFunc(who, func(p people.Principal) bool { return p.Kind == people.ByRobot }); i >= 0 {
		r.Bad(f.Value, fmt.Sprintf("%s is a robot, and robots waive nothing", who[i]),
			"person:LOGIN, team:NAME, role:ROLE or nobody; what a robot may do as a rule is exempt")
	}
	return who
}

// Branches compiles branch patterns, a kind's name standing for the kind's patterns; it returns those too.
func (r *reader) Branches(f grammar.Field, texts []string) (glob.List, []string) {
	if len(texts) == 0 {
		return glob.List{}, nil
	}
	stands := []string{}
	for _, text := range texts {
		word, out := strings.CutPrefix(text, "!")
		k := r.doc.Kind(word)
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
				r.Bad(f.Value, fmt.Sprintf("%q takes out a kind that takes something out itself (%s)", text, pattern),
					"write the globs out")
			default:
				stands = append(stands, "!"+pattern)
			}
		}
		if !r.Within(f.Value, "patterns of branches", len(meant), grammar.MaxPatterns) {
			return glob.List{}, nil
		}
	}
	return r.Compiled(f, stands, "a branch kind or "+glob.Syntax), stands
}

func (r *reader) land(p *Protection, f grammar.Field) {
	for _, g := range r.Keys(f.Value, `"land"`, "protect[].land") {
		p.lines["land."+g.Name], _ = grammar.Place(g.Key)
		switch g.Name {
		case "who":
			p.LandBy = r.Principals(g, false)
		case "strategies":
			if p.With = grammar.SomeOf(r.Reader, g, change.Strategies...); len(p.With) == 0 {
				r.Bad(g.Value, "\"strategies\" allows none, so nothing could ever land", "some of "+grammar.Joined(change.Strategies))
			}
		case "default":
			p.Default = grammar.OneOf(r.Reader, g, change.Strategies...)
		case "message":
			p.Message = r.Text(g)
			r.template(g, p.Message)
		case "trailers":
			p.Trailers = r.Texts(g)
			for _, t := range p.Trailers {
				r.template(g, t)
				if !trailerForm.MatchString(t) || trailer.Typed(t) != "" {
					r.Bad(g.Value, fmt.Sprintf("%q is not a trailer that rules may add", t),
						"\"Key: value\" on one line; Landed-change, Approved-by and Co-authored-by are the "+
							"service's own")
				}
			}
		case "delete_source":
			b := r.Boolean(g)
			p.DeleteSource = &b
		case "join_early":
			b := r.Boolean(g)
			p.JoinEarly = &b
		case "undo_first":
			b := r.Boolean(g)
			p.UndoFirst = &b
		case "drop_empty":
			b := r.Boolean(g)
			p.DropEmpty = &b
		}
	}
	if p.Default != "" && len(p.With) > 0 && !slices.Contains(p.With, p.Default) {
		r.Bad(f.Value, fmt.Sprintf("the default strategy %q is not one of those of \"strategies\"", p.Default),
			"one of "+grammar.Joined(p.With))
	}
}

func (r *reader) queue(p *Protection, f grammar.Field) {
	q := &p.Queue
	for _, g := range r.Keys(f.Value, `"queue"`, "protect[].queue") {
		p.lines["queue."+g.Name], _ = grammar.Place(g.Key)
		switch g.Name {
		case "planner":
			q.Planner = grammar.OneOf(r.Reader, g, planners...)
		case "slots":
			q.Slots = r.Number(g, 1, MaxSlots)
		case "reruns":
			q.Reruns = r.Number(g, 0, MaxReruns)
		case "tests":
			q.Tests = grammar.OneOf(r.Reader, g, tests...)
		case "on_push":
			q.OnPush = grammar.OneOf(r.Reader, g, onPushes...)
		case "urgent":
			q.Urgent = r.Principals(g, false)
		}
	}
}

var (
	trailerForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]{0,40}: [^\n]+$`)
	placeholder = regexp.MustCompile(`\{([a-z_]*)\}`)
)

// Placeholders lists what a template may have filled in.
var Placeholders = []string{"title", "description", "number", "source", "target", "repository", "author"}

func (r *reader) template(f grammar.Field, text string) {
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(Placeholders, m[1]) {
			r.Bad(f.Value, fmt.Sprintf("%s is not a placeholder", m[0]),
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

func (r *reader) requirements(f grammar.Field, ofArea bool) []require.Requirement {
	seq, ok := f.Value.(*ast.SequenceNode)
	if !ok {
		r.Bad(f.Value, fmt.Sprintf("%q is %s", f.Name, grammar.KindOf(f.Value)), "a list, such as \"- approvals: 1\"")
		return nil
	}
	var out []require.Requirement
	kinds, path := kind.All(), requirementPath
	if ofArea {
		kinds, path = kind.OfAreas(), areaRequirementPath
	}
	for _, n := range seq.Values {
		if !r.Within(n, "requirements", 1, grammar.MaxRequirements) {
			return nil
		}
		if q, ok := require.Read(kinds, r.Reader, n, path, ofArea); ok {
			out = append(out, q)
		}
	}
	return out
}
