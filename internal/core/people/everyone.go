package people

import (
	"encoding/json"
	"iter"
	"maps"
	"slices"
	"strings"
)

// Everyone is everybody with access to a repository, by login. It is never altered once it is made, so that as many as like
// may share it; the zero value is nobody.
//
// Those of a house and those of one of its repositories are two layers, of which the second stands in for the first: however many
// people a house has, its repositories have them in common.
type Everyone struct {
	house, own *Crowd
}

// Crowd is people, found by login, team and role without going through all of them.
type Crowd struct {
	people map[string]Person
	logins []string            // sorted, as those below
	teams  map[string][]string // logins
	roles  map[Role][]string   // of those with at least that role
}

// CrowdOf makes a crowd of people by their logins.
func CrowdOf(all map[string]Person) *Crowd {
	c := &Crowd{make(map[string]Person, len(all)), slices.Sorted(maps.Keys(all)), map[string][]string{}, map[Role][]string{}}
	for _, login := range c.logins {
		p := all[login]
		p.Login = login
		c.people[login] = p
		for _, team := range p.Teams {
			c.teams[team] = append(c.teams[team], login)
		}
		for _, role := range Roles {
			if p.Role.AtLeast(role) {
				c.roles[role] = append(c.roles[role], login)
			}
		}
	}
	return c
}

// Known is everybody by their logins.
func Known(all map[string]Person) Everyone { return Everyone{own: CrowdOf(all)} }

// Layered is everybody of a house, and those of a repository, who stand in for those of the house.
func Layered(house, own *Crowd) Everyone { return Everyone{house, own} }

// layers are those that there are, the one that stands in for the others first.
func (e Everyone) layers() []*Crowd {
	return slices.DeleteFunc([]*Crowd{e.own, e.house}, func(c *Crowd) bool { return c == nil })
}

// Of finds somebody.
func (e Everyone) Of(login string) (Person, bool) {
	for _, c := range e.layers() {
		if p, known := c.people[login]; known {
			return p, true
		}
	}
	return Person{}, false
}

// Named is somebody, or a person without access of that login.
func (e Everyone) Named(login string) Person {
	p, _ := e.Of(login)
	p.Login = login
	return p
}

// All goes through everybody, by login.
func (e Everyone) All() iter.Seq[Person] {
	return func(yield func(Person) bool) {
		for _, login := range e.union(func(c *Crowd) []string { return c.logins }) {
			if p, _ := e.Of(login); !yield(p) {
				return
			}
		}
	}
}

// Len counts everybody.
func (e Everyone) Len() int { return len(e.union(func(c *Crowd) []string { return c.logins })) }

// Map is everybody by login, in a map of the caller's own.
func (e Everyone) Map() map[string]Person {
	out := map[string]Person{}
	for p := range e.All() {
		out[p.Login] = p
	}
	return out
}

// Among lists those who are meant by any of some principals, by login. It costs what it finds, and not what there is.
func (e Everyone) Among(who []Principal) []Person {
	var found []string
	for _, w := range who {
		switch w.Kind {
		case ByTeam:
			found = append(found, e.union(func(c *Crowd) []string { return c.teams[w.Name] })...)
		case ByRole:
			found = append(found, e.union(func(c *Crowd) []string { return c.roles[Role(w.Name)] })...)
		case ByLogin, ByRobot:
			found = append(found, w.Name)
		}
	}
	if len(who) > 1 {
		slices.Sort(found)
		found = slices.Compact(found)
	}
	out := make([]Person, 0, len(found))
	for _, login := range found {
		if p, known := e.Of(login); known && p.IsAny(who) {
			out = append(out, p)
		}
	}
	return out
}

// union is the logins of a list in either layer, sorted. One of the house whom the repository knows otherwise may be among them.
func (e Everyone) union(of func(*Crowd) []string) []string {
	switch {
	case e.house == nil && e.own == nil:
		return nil
	case e.house == nil:
		return of(e.own)
	case e.own == nil || len(of(e.own)) == 0:
		return of(e.house)
	}
	all := slices.Concat(of(e.own), of(e.house))
	slices.SortFunc(all, strings.Compare)
	return slices.Compact(all)
}

// MarshalJSON writes everybody as an object by login.
func (e Everyone) MarshalJSON() ([]byte, error) { return json.Marshal(e.Map()) }

// UnmarshalJSON reads that again.
func (e *Everyone) UnmarshalJSON(text []byte) error {
	var all map[string]Person
	if err := json.Unmarshal(text, &all); err != nil {
		return err
	}
	*e = Known(all)
	return nil
}
