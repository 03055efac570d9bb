package wire

import (
	"cmp"
	"slices"
	"strings"
)

// Operation is how one JSON call is made.
type Operation struct {
	ID      string // what generated clients name it by
	Method  string
	Path    string // below the address of the API; parts in braces are fields of the request
	Summary string
	// Of is the subject that it belongs to, one of Subjects.
	Of string
	// Creates says that it answers 201.
	Creates bool
}

// Call is an operation with what it takes and what it answers. The fields of In say where each part of a request goes:
// they are tagged path, query or header, and the one called Body is the body.
type Call[In, Out any] struct{ Operation }

// Subjects are what calls are about, each with what it is, in the order of the description.
var Subjects = [][2]string{
	{"people", "People, robots and teams, their roles, keys and tokens, and console sessions."},
	{"repositories", "Houses and repositories, their branches, commits and files."},
	{"rules", "Rules documents: versions, what they mean, trials, proposals and suspensions."},
	{"areas", "Parts of the tree, who owns them, and whose reviews are wanted."},
	{"changes", "Changes, their revisions and differences, and the gate."},
	{"reviews", "What reviewers say, and who is asked."},
	{"threads", "Discussions, suggestions and draft comments."},
	{"checks", "Checks asked for and reported, and the jobs of runners."},
	{"webhooks", "Events sent to other systems, and every delivery."},
	{"queue", "Joining and leaving the queue, and landings."},
	{"waivers", "Waiving requirements in the open, and acknowledging it."},
	{"desk", "What waits for one person, and what they hear of."},
	{"journal", "What was decided and done, and its signed head."},
}

// Operations lists every call, by path.
func Operations() []Operation {
	return slices.SortedFunc(slices.Values(all), func(a, b Operation) int {
		return cmp.Or(strings.Compare(a.Path, b.Path), strings.Compare(a.Method, b.Method))
	})
}

var all []Operation

func define[In, Out any](of, id, method, path, summary string) Call[In, Out] {
	o := Operation{ID: id, Method: method, Path: path, Summary: summary, Of: of,
		Creates: method == "POST" && strings.HasPrefix(id, "create-")}
	all = append(all, o)
	return Call[In, Out]{o}
}

// Both is a call about the rules of a repository, and the same about those of a house.
type Both[B, Out any] struct {
	OfRepository Call[RepoBody[B], Out]
	OfHouse      Call[HouseBody[B], Out]
}

func both[B, Out any](id, method, tail, summary string) Both[B, Out] {
	return Both[B, Out]{define[RepoBody[B], Out]("rules", id, method, inRepo+tail, summary),
		define[HouseBody[B], Out]("rules", id+"-of-house", method, inHouse+tail, summary+", of a house")}
}

// BothRead is Both for a call without a body.
type BothRead[Out any] struct {
	OfRepository Call[RepoRules, Out]
	OfHouse      Call[HouseRules, Out]
}

func bothRead[Out any](id, tail, summary string) BothRead[Out] {
	return BothRead[Out]{define[RepoRules, Out]("rules", id, "GET", inRepo+tail, summary),
		define[HouseRules, Out]("rules", id+"-of-house", "GET", inHouse+tail, summary+", of a house")}
}

const (
	inRepo   = "/repositories/{house}/{name}"
	inHouse  = "/houses/{house}"
	inChange = inRepo + "/changes/{number}"
)

// Nothing is a request without parameters.
type Nothing struct{}

// Done is the answer of a call that has nothing to tell.
type Done struct {
	Done bool `json:"done" example:"true"`
}

// InRepo is the part of a path that names a repository.
type InRepo struct {
	House string `path:"house" doc:"house" example:"growers"`
	Name  string `path:"name" doc:"name within the house" example:"irrigation"`
}

// Repository returns HOUSE/NAME.
func (r InRepo) Repository() string { return r.House + "/" + r.Name }

// RepoNamed takes HOUSE/NAME apart.
func RepoNamed(repository string) InRepo {
	house, name, _ := strings.Cut(repository, "/")
	return InRepo{house, name}
}

// InHouse is the part of a path that names a house.
type InHouse struct {
	House string `path:"house" doc:"house" example:"growers"`
}

// InChange is the part of a path that names a change.
type InChange struct {
	InRepo
	Number int `path:"number" minimum:"1" doc:"number of the change" example:"7"`
}

// InThread is the part of a path that names a discussion of a change.
type InThread struct {
	InChange
	Thread int64 `path:"thread" minimum:"1" doc:"number of the discussion"`
}

// The requests with a body, by what their path names.
type (
	JustBody[B any] struct{ Body B }
	RepoBody[B any] struct {
		InRepo
		Body B
	}
	HouseBody[B any] struct {
		InHouse
		Body B
	}
	ChangeBody[B any] struct {
		InChange
		Body B
	}
	ThreadBody[B any] struct {
		InThread
		Body B
	}
)
