package require

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
)

// State is how a requirement stands.
type State string

// The states of a requirement.
const (
	Met      State = "met"
	Missing  State = "missing"
	Pending  State = "pending"
	Waived   State = "waived"
	NotAsked State = "not-asked"
)

// Outcome is how one requirement stands for a change: one line of a gate report.
type Outcome struct {
	Key     string   `json:"key" doc:"stable within the change, such as approvals, owners/valves or check/unit@rehearsal; to name it, not to be taken apart"`
	Kind    string   `json:"kind" doc:"what kind of requirement: a key of the rules document, or one that every change has"`
	Group   Group    `json:"group" enum:"change,review,discussion,content,checks,landing"`
	Title   string   `json:"title" doc:"what is asked"`
	Lacks   string   `json:"lacks,omitempty" doc:"what is missing or awaited, in a few words; absent: nothing"`
	Level   Level    `json:"level" enum:"required,advisory"`
	State   State    `json:"state" enum:"met,missing,pending,waived,not-asked"`
	Have    int      `json:"have"`
	Need    int      `json:"need"`
	Because string   `json:"because" doc:"where the demand comes from, in words"`
	Sources []Source `json:"sources" doc:"the same, for programs"`
	Who     []string `json:"who" doc:"logins and robots that can act now"`
	Next    string   `json:"next" doc:"what is to be done about it, in words, to follow what is missing; empty when met"`
	Steps   []Step   `json:"steps" doc:"the same, for programs: what somebody can do now"`
	// At is "rehearsal" for what only a rehearsal can show.
	At     string   `json:"at" enum:"change,rehearsal"`
	Checks []string `json:"checks,omitempty" doc:"names of the checks it depends on"`
	Rerun  []string `json:"rerun,omitempty" doc:"those of them whose pass has grown too old, so that they are wanted again"`
}

// Holds says whether the requirement no longer asks for anything.
func (o Outcome) Holds() bool {
	return o.State == Met || o.State == NotAsked || o.State == Waived
}

// Told says what is missing and what is to be done, in one sentence without a full stop.
func (o Outcome) Told() string {
	if o.Lacks == "" || o.Next == "" {
		return o.Lacks + o.Next
	}
	return o.Lacks + ": " + o.Next
}

// WhoCan lists those who can take a step; nobody where it is none of the next.
func (o Outcome) WhoCan(a Action) []string {
	if i := slices.IndexFunc(o.Steps, func(s Step) bool { return s.Action == a }); i >= 0 {
		return o.Steps[i].Who
	}
	return nil
}

// Area is an area that a change touches.
type Area struct {
	Name     string
	Document string // of the house that defines it; empty: the repository's own rules do
	Owners   []people.Principal
}

// Named names the area in a sentence.
func (a Area) Named() string {
	if a.Document != "" {
		return a.Name + " (" + a.Document + ")"
	}
	return a.Name
}

// Settings are those of the change's target that kinds are judged under.
type Settings struct {
	ApprovalsStay  Stay
	ObjectionsStay Stay
	// Allowed are the strategies; LandsBy is the one that the change lands by, as far as that is known.
	Allowed []change.Strategy
	LandsBy change.Strategy
	// Final is the text of the final message of a squash or merge; Disputed, that protections disagree on it.
	Final    func() string
	Disputed bool
	// Template is what the final message is made from; empty when it was typed.
	Template string
}

// Case is one change while it is judged: the facts, what it touches, the settings, and the lines of the report so far.
type Case struct {
	change.Facts
	Settings
	Touched []Area
	// Defined are the checks that the rules define; Define says what they say of one, defined or not.
	Defined []Check
	Define  func(name string) Check
	// Nearly finds an area that a path would lie in if upper and lower case were the same.
	Nearly func(path string) (area string, found bool)

	Outcomes []Outcome
	// Brief leaves out the lines of what is not asked. The others are the same, down to their keys.
	Brief bool

	wanted     []Wanted
	strays     map[Place][]stray // once somebody asked
	pools      []placedPool      // of the demands for approvals, in the order of Outcomes
	objections []int             // places of lines that objections hold up
	same       map[asking]int    // places in Outcomes, by what is asked
	keys       map[string]int    // given out, with how often the same was wanted
	given      []approval        // once somebody asked
	counted    []string          // whose approvals count for the demand that is judged
}

// Add adds a line. A key that is there already gets a number.
func (c *Case) Add(q Outcome, because string, sources []Source) {
	if q.Level == "" {
		q.Level = Required
	}
	if q.At == "" {
		q.At = "change"
	}
	if q.Who == nil || q.Holds() {
		q.Who = []string{}
	}
	if q.Steps == nil || q.Holds() {
		q.Steps = []Step{}
	}
	for i := range q.Steps {
		if q.Steps[i].Who == nil {
			q.Steps[i].Who = q.Who
		}
	}
	if q.Holds() {
		q.Lacks = ""
	}
	q.Sources = sources
	if q.Sources == nil {
		q.Sources = []Source{}
	}
	if q.Because = because; because == "" {
		q.Because = Because(sources)
	}
	if q.Key = c.free(q.Key); c.Brief && q.State == NotAsked {
		return
	}
	c.Outcomes = append(c.Outcomes, q)
}

// Leave gives a line's key out without adding the line.
func (c *Case) Leave(key string) { c.free(key) }

// free gives out a key, or, where it was given out, the next number of it. Of each that number is known, so that a hundred lines of
// one key are no more work than one.
func (c *Case) free(key string) string {
	if c.keys == nil {
		c.keys = map[string]int{}
	}
	out := key
	for c.keys[out] > 0 {
		c.keys[key]++
		out = key + "/" + strconv.Itoa(c.keys[key])
	}
	c.keys[out] = 1
	return out
}

// Outcome begins the line of a requirement: it is met, until it is found not to be.
func (q Sourced) Outcome(key string) Outcome {
	return Outcome{Key: key, Kind: q.Kind.Name, Group: q.Kind.Group, Title: q.Titled, Level: q.Level, State: Met}
}

// Say adds the line of a requirement of the rules.
func (c *Case) Say(o Outcome, q Sourced) { c.Add(o, q.Because, q.From) }

// shownAlready says whether a requirement that asks the same is in the report; if so, it gets the sources too, and
// required wins over advisory.
func (c *Case) shownAlready(asks asking, level Level, from []Source) bool {
	i, shown := c.same[asks]
	if !shown {
		if c.same == nil {
			c.same = map[asking]int{}
		}
		c.same[asks] = len(c.Outcomes) // where the caller puts it
		return false
	}
	q := &c.Outcomes[i]
	q.Sources, q.Level = Stronger(q.Level, q.Sources, level, from)
	q.Because = Because(q.Sources)
	return true
}

// FewOr lists logins, the first five when there are more than six.
func FewOr(logins []string) string { return Few(logins, "or") }

// Few lists words, the first five when there are more than six.
func Few(words []string, last string) string {
	if len(words) > 6 {
		return fmt.Sprintf("%s %s %d others", strings.Join(words[:5], ", "), last, len(words)-5)
	}
	return List(words, last)
}

// List lists words, with another one before the last.
func List(words []string, last string) string {
	switch len(words) {
	case 0:
		return "nobody"
	case 1:
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " " + last + " " + words[len(words)-1]
}

// Count counts things in words.
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
