package gate

import (
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/core/rules"
)

// pool says whose approvals are wanted: the title's words, and who is in it.
type pool struct {
	words  string
	in     func(Person) bool
	not    []rules.Exclusion
	newest bool // only approvals of the newest revision count
	stay   rules.Stay
}

func stringsOf[T any](words []T) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = fmt.Sprint(w)
	}
	return out
}

func (j *judge) wantApprovals(q rules.Sourced) {
	p := pool{words: "anyone who may write", in: func(p Person) bool { return p.Role.AtLeast(Writer) }, not: q.NotFrom,
		newest: q.Newest, stay: j.effective.ApprovalsStay.Value}
	if len(q.Requirement.From) > 0 {
		p.words = list(principals(q.Requirement.From), "or")
		p.in = func(p Person) bool { return p.IsAny(q.Requirement.From) }
	}
	j.approvedBy("approvals", "approvals "+q.Identity(), q.Title, q.Count, p, q.Level, q.From)
}

func (j *judge) owners(q rules.Sourced) {
	if len(j.touched) == 0 {
		j.add(Requirement{Key: "owners", Title: q.Title, Level: q.Level, State: NotApplicable,
			Next: "the change touches no area"}, q.From)
		return
	}
	for _, t := range j.touched {
		j.ownersOf(t, 1, j.effective.ApprovalsStay.Value, q.Level, q.From)
	}
}

// ownersOf asks for n approvals by an area's owners. An author who owns the area does not count for it.
func (j *judge) ownersOf(t rules.Touched, n int, stay rules.Stay, level rules.Level, from []rules.Source) {
	name := t.Name
	if t.From.Document != "" {
		name += " (" + t.From.Document + ")"
	}
	p := pool{
		words: "an owner of " + name + " (" + list(principals(t.Owners), "or") + ")",
		in:    func(p Person) bool { return p.IsAny(t.Owners) },
		not:   []rules.Exclusion{rules.NotAuthor},
		stay:  stay,
	}
	asks := fmt.Sprintf("owners %d %s %q %q", n, stay, t.Name, t.From.Document)
	j.approvedBy("owners/"+t.Name, asks, count(n, "approval")+" by an owner of "+name, n, p, level, from)
}

// areas adds what touched areas ask by themselves: approvals and checks. Approvals of another difference never count
// for them, whatever protections say of pushes, of which there may be none.
func (j *judge) areas() {
	stay := j.effective.ApprovalsStay.Value
	if stay == rules.StayAlways {
		stay = rules.StayIfUnchanged
	}
	for _, t := range j.touched {
		if t.Approvals > 0 {
			from := t.From
			from.Line = t.LineOf("asks.approvals")
			j.ownersOf(t, t.Approvals, stay, rules.Required, []rules.Source{from})
		}
		for _, name := range t.Checks {
			from := t.From
			from.Line = t.LineOf("checks")
			j.want(wantedCheck{names: []string{name}, at: rules.AtRehearsal, level: rules.Required,
				from: []rules.Source{from}})
		}
	}
}

// approvedBy judges one demand for n approvals out of a pool. asks is equal for demands that ask the same.
func (j *judge) approvedBy(key, asks, title string, n int, p pool, level rules.Level, from []rules.Source) {
	if j.shownAlready(asks, level, from) {
		return
	}
	q := Requirement{Key: key, Title: title, Level: level, State: Unmet, Need: n}
	if j.pools == nil {
		j.pools = map[int]pool{}
	}
	j.pools[len(j.out)] = p
	first := len(j.counted)
	for i := range j.approvals() {
		if a := &j.given[i]; j.discount(a, p) == counts {
			j.counted = append(j.counted, a.By)
		}
	}
	counted := j.counted[first:]
	if q.Have = len(counted); q.Have >= n {
		q.State = Met
		j.add(q, from)
		return
	}
	q.Who = j.couldApprove(p, counted, n-q.Have)
	missing := count(n-q.Have, "approval")
	if len(q.Who) < n-q.Have {
		only := "only "
		if len(q.Who) == 0 {
			only = ""
		}
		q.Next = fmt.Sprintf("%s more needed from %s, and %s%s could give one: a maintainer has to add people or "+
			"change the rule",
			missing, p.words, only, people(q.Who))
	} else {
		q.Next = fmt.Sprintf("%s more needed; ask %s to run: tavrin review approve %d --revision %d", missing,
			people(q.Who), j.f.Number, j.f.Revision)
	}
	var notes []string
	for i := range j.given {
		if why := j.discount(&j.given[i], p); why != counts && why != notAsked {
			notes = append(notes, j.said(&j.given[i].Review, why))
		}
	}
	if len(notes) > 0 {
		q.Next += " (" + strings.Join(notes, "; ") + ")"
	}
	j.add(q, from)
}

// couldApprove lists those whose approval would count, by login; those on standby only where the others are too few.
func (j *judge) couldApprove(p pool, counted []string, missing int) []string {
	who := make([]string, 0, len(j.f.People))
	standby := 0
	for _, person := range j.everybody() {
		if !j.mayApprove(person.Login, person, p) || slices.Contains(counted, person.Login) {
			continue
		}
		if person.Standby {
			standby++
		}
		who = append(who, person.Login)
	}
	if standby == 0 || len(who)-standby < missing {
		return who
	}
	return slices.DeleteFunc(who, func(login string) bool { return j.f.People[login].Standby })
}

// everybody lists the people with access by login.
func (j *judge) everybody() []Person {
	if j.people == nil {
		j.people = make([]Person, 0, len(j.f.People))
		for login, person := range j.f.People {
			person.Login = login
			j.people = append(j.people, person)
		}
		slices.SortFunc(j.people, func(a, b Person) int { return strings.Compare(a.Login, b.Login) })
	}
	return j.people
}

// mayApprove says whether a person's approval would count for a pool.
func (j *judge) mayApprove(login string, person Person, p pool) bool {
	return !person.Robot && person.Role.AtLeast(Reader) && p.in(person) && j.excluded(login, p.not) == counts
}

// approval is an approval that stands, and who gave it.
type approval struct {
	Review
	person Person
	known  bool // they have access
}

// approvals lists the approvals that stand.
func (j *judge) approvals() []approval {
	if j.given == nil {
		j.given = make([]approval, 0, len(j.f.Reviews))
		for _, r := range j.f.Reviews {
			if r.Verdict == Approve {
				person, known := j.f.People[r.By]
				j.given = append(j.given, approval{r, person, known})
			}
		}
	}
	return j.given
}

// discount is why an approval does not count for a pool.
type discount uint8

const (
	counts discount = iota
	notAsked
	leftTeam
	noAccess
	disabled
	byRobot
	byAuthor
	byCommitAuthor
	byLastPusher
	notNewest
	changedSince
	hiddenSince
	endedByPush
)

// discount says why an approval does not count, or that it does.
func (j *judge) discount(r *approval, p pool) discount {
	switch {
	case r.Disabled:
		return disabled
	case !r.known:
		return noAccess
	case !p.in(r.person):
		then := r.person
		if then.Teams = r.Teams; p.in(then) {
			return leftTeam
		}
		return notAsked
	case r.person.Robot:
		return byRobot
	}
	if why := j.excluded(r.By, p.not); why != counts {
		return why
	}
	switch stay := p.stay; {
	case r.Revision == j.f.Revision:
		return counts
	case p.newest:
		return notNewest
	case stay == rules.StayAlways:
		return counts
	case stay == rules.StayIfUnchanged && r.SameDifference && len(r.Hidden) > 0 && j.strategy().Keeps():
		return hiddenSince
	case stay == rules.StayIfUnchanged && r.SameDifference:
		return counts
	case stay == rules.StayIfUnchanged:
		return changedSince
	default:
		return endedByPush
	}
}

// said puts into words why an approval does not count.
func (j *judge) said(r *Review, why discount) string {
	not := r.By + "'s approval does not count: "
	switch why {
	case noAccess:
		return not + "they have no access any more"
	case disabled:
		return not + "their account is disabled"
	case leftTeam:
		return not + "they have left the team since"
	case byRobot:
		return r.By + " is a robot, and robots do not approve"
	case byAuthor:
		return not + "an author of the change"
	case byCommitAuthor:
		return not + "they brought or wrote a commit of it"
	case byLastPusher:
		return not + "the last to push"
	case notNewest:
		return fmt.Sprintf("%s approved revision %d, and the newest is asked for", r.By, r.Revision)
	case changedSince:
		return fmt.Sprintf("%s approved revision %d, and the difference has changed since", r.By, r.Revision)
	case hiddenSince:
		return fmt.Sprintf("%s approved revision %d, and commits since touch %s, which the difference does not show",
			r.By, r.Revision, few(r.Hidden, "and"))
	case endedByPush:
		return fmt.Sprintf("%s approved revision %d, and every push ends approvals here", r.By, r.Revision)
	case counts, notAsked:
	}
	return ""
}

func (j *judge) excluded(login string, not []rules.Exclusion) discount {
	for _, x := range not {
		switch x {
		case rules.NotAuthor:
			if slices.Contains(j.f.Authors, login) {
				return byAuthor
			}
		case rules.NotCommitAuthor:
			if slices.Contains(j.f.CommitAuthors, login) {
				return byCommitAuthor
			}
		case rules.NotLastPusher:
			if j.f.LastPusher == login {
				return byLastPusher
			}
		}
	}
	return counts
}

// approversCounted lists whose approvals count, by login.
func (j *judge) approversCounted() []string {
	if len(j.pools) == 0 {
		everybody := pool{in: func(Person) bool { return true }, not: []rules.Exclusion{rules.NotAuthor},
			stay: j.effective.ApprovalsStay.Value}
		for i := range j.approvals() {
			if a := &j.given[i]; j.discount(a, everybody) == counts {
				j.counted = append(j.counted, a.By)
			}
		}
	}
	slices.Sort(j.counted)
	return append([]string{}, slices.Compact(j.counted)...)
}

// Weighed is a review that stands, and what it does to the gate.
type Weighed struct {
	By       string   `json:"by"`
	Verdict  Verdict  `json:"verdict" enum:"approve,object"`
	Revision int      `json:"revision"`
	For      []string `json:"for" doc:"of an approval: the requirements it counts for; of an objection: those it holds up"`
	Not      []string `json:"not" doc:"why it does not count, or not for everything"`
	// Since is what was altered of the change since, where its final message is made of that.
	Since []string `json:"since,omitempty" doc:"of an approval: what of the final message was altered after it was given"`
}

// weighed says of each review that stands whether it counts, for what, and if not why not.
func (j *judge) weighed() []Weighed {
	out := make([]Weighed, 0, len(j.f.Reviews))
	for _, r := range j.f.Reviews {
		w := Weighed{By: r.By, Verdict: r.Verdict, Revision: r.Revision, For: []string{}, Not: []string{}}
		if r.Verdict == Approve {
			j.weighApproval(r, &w)
		} else {
			j.weighObjection(r, &w)
		}
		out = append(out, w)
	}
	return out
}

func (j *judge) weighApproval(r Review, w *Weighed) {
	i := slices.IndexFunc(j.approvals(), func(a approval) bool { return a.By == r.By })
	asked := false
	for n, q := range j.out {
		p, ok := j.pools[n]
		if !ok || q.State == NotApplicable {
			continue
		}
		asked = true
		switch why := j.discount(&j.given[i], p); why {
		case counts:
			w.For = append(w.For, q.Title)
		case notAsked:
			w.Not = append(w.Not, fmt.Sprintf("%s: asked for from %s", q.Title, p.words))
		default:
			if said := j.said(&r, why); !slices.Contains(w.Not, said) {
				w.Not = append(w.Not, said)
			}
		}
	}
	if !asked {
		w.Not = append(w.Not, "no approval is asked for here")
	}
	w.Since = j.alteredSince(r)
}

// alteredSince says what of the final message was altered after a review was given.
func (j *judge) alteredSince(r Review) []string {
	made := finalTemplate(j.effective, j.f)
	if j.strategy() == rules.Rebase || r.Title == "" {
		return nil
	}
	var out []string
	if r.Title != j.f.Title && strings.Contains(made, "{title}") {
		out = append(out, fmt.Sprintf("the title, of which the final message is made, was %q", r.Title))
	}
	if r.Description != j.f.Description && strings.Contains(made, "{description}") {
		out = append(out, "the description, of which the final message is made, was another")
	}
	return out
}

func (j *judge) weighObjection(r Review, w *Weighed) {
	asked := false
	for _, q := range j.out {
		if strings.HasPrefix(q.Key, "objections") && q.State != NotApplicable {
			asked = true
			if j.stands(r) {
				w.For = append(w.For, q.Title)
			}
		}
	}
	switch {
	case !asked:
		w.Not = append(w.Not, "the rules do not ask for objections to be settled")
	case !j.stands(r):
		w.Not = append(w.Not, fmt.Sprintf("it was for revision %d, and a push ends objections here", r.Revision))
	}
}

func (j *judge) objections(q rules.Sourced) {
	r := Requirement{Key: "objections", Title: q.Title, Level: q.Level, State: Met}
	for _, review := range j.f.Reviews {
		if review.Verdict == Object && j.stands(review) {
			r.Who = append(r.Who, review.By)
		}
	}
	if r.Have = len(r.Who); r.Have > 0 {
		r.State = Unmet
		r.Next = fmt.Sprintf("%s objects: settle it with them; they withdraw it with tavrin review withdraw %d, or "+
			"approve",
			people(r.Who), j.f.Number)
	}
	j.add(r, q.From)
}

// stands says whether an objection outlived the pushes since.
func (j *judge) stands(r Review) bool {
	switch j.effective.ObjectionsStay.Value {
	case rules.StayNever:
		return r.Revision == j.f.Revision
	case rules.StayIfUnchanged:
		return r.Revision == j.f.Revision || r.SameDifference
	case rules.StayAlways:
	}
	return true
}
