// Package people says who is meant: by a document that names somebody, and by a role.
//
// It is pure and knows of nobody in particular: who there is, is told to it.
package people

import (
	"regexp"
	"slices"
	"strings"
)

// Kind says what a Principal's name is the name of.
type Kind string

// The kinds of principal.
const (
	ByLogin Kind = "person"
	ByTeam  Kind = "team"
	ByRole  Kind = "role"
	ByRobot Kind = "robot"
)

// Principal names a person, a robot, a team, or everybody with at least a role.
type Principal struct {
	Kind Kind   `json:"kind"`
	Name string `json:"name"`
}

// String returns the principal as a document writes it, such as "team:hydraulics".
func (p Principal) String() string { return string(p.Kind) + ":" + p.Name }

// Texts returns principals as a document writes them.
func Texts(all []Principal) []string {
	texts := make([]string, len(all))
	for i, p := range all {
		texts[i] = p.String()
	}
	return texts
}

// Names names principals in a sentence; none are nobody.
func Names(all []Principal) string {
	if len(all) == 0 {
		return "nobody"
	}
	return strings.Join(Texts(all), ", ")
}

// Role is what a person may do in a repository, each including the one before.
type Role string

// The roles, weakest first. The empty role is none.
const (
	NoRole     Role = ""
	Reader     Role = "reader"
	Writer     Role = "writer"
	Maintainer Role = "maintainer"
)

// Roles lists the roles, weakest first.
var Roles = []Role{Reader, Writer, Maintainer}

// AtLeast says whether the role includes the other.
func (r Role) AtLeast(other Role) bool { return slices.Index(Roles, r) >= slices.Index(Roles, other) }

// Person is what is known of somebody with access to a repository.
type Person struct {
	Login string   `json:"login"`
	Role  Role     `json:"role"`
	Teams []string `json:"teams,omitempty"`
	Robot bool     `json:"robot,omitempty"`
	// Standby marks an administrator without a role of their own here: they may act, and are asked last.
	Standby bool `json:"standby,omitempty"`
}

// Is says whether the person is meant by the principal.
func (p Person) Is(who Principal) bool {
	switch who.Kind {
	case ByLogin:
		return !p.Robot && p.Login == who.Name
	case ByRobot:
		return p.Robot && p.Login == who.Name
	case ByTeam:
		return slices.Contains(p.Teams, who.Name)
	case ByRole:
		return p.Role.AtLeast(Role(who.Name))
	}
	return false
}

// IsAny says whether the person is meant by one of the principals.
func (p Person) IsAny(who []Principal) bool { return slices.ContainsFunc(who, p.Is) }

// Named matches, in the text of a document, the principals that name an account. Its groups are the kind, person or robot,
// and the character after the name, which ends it.
func Named(login string) *regexp.Regexp {
	return regexp.MustCompile(`(person|robot):` + regexp.QuoteMeta(login) + `([^a-z0-9-]|$)`)
}
