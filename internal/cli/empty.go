package cli

import "reflect"

// listing marks a command that answers a list.
const listing = "list"

// empty says, by the command, that what it lists is empty; and, where somebody may wonder, what would fill it.
var empty = map[string]string{
	"tavrin area list":            "no area is defined: areas in the rules document name parts of the tree and their owners",
	"tavrin area workload":        "nobody was asked for a review",
	"tavrin browse branches":      "there is no branch yet: git push makes the first",
	"tavrin browse history":       "there is no commit yet",
	"tavrin change commits":       "it brings no commit",
	"tavrin change tickets":       "it refers to no ticket",
	"tavrin change list":          "no change matches; --state all lists those that have ended too",
	"tavrin check claim":          "no check waits",
	"tavrin check list":           "no check was seen here yet",
	"tavrin check wanted":         "no check waits for a report from a robot",
	"tavrin desk":                 "nothing waits for you",
	"tavrin freeze import":        "nothing of it comes any more",
	"tavrin freeze plan":          "nothing was planned",
	"tavrin freeze list":          "nothing is frozen, and nothing is planned",
	"tavrin house list":           "there is no house that you may see: tavrin house create NAME",
	"tavrin journal list":         "no line matches",
	"tavrin key list":             "no key is registered: tavrin key add FILE",
	"tavrin person list":          "there is nobody that you may see",
	"tavrin person replace":       "nothing that you may see names them",
	"tavrin queue decisions":      "the queue has not been told anything yet",
	"tavrin refusals":             "nothing was refused",
	"tavrin repo deleted":         "nothing is deleted that you may restore",
	"tavrin repo tidy":            "every branch is of use",
	"tavrin repo list":            "there is no repository that you may read: a maintainer of one gives you a role, or tavrin repo create HOUSE/NAME",
	"tavrin thread drafts":        "you have no draft comment on it",
	"tavrin review list":          "nobody has reviewed it yet",
	"tavrin robot list":           "there is no robot that you may see: administrators see all",
	"tavrin house roles":          "nobody has a role in it but administrators",
	"tavrin repo roles":           "nobody has a role in it but administrators",
	"tavrin rules diff":           "nothing differs",
	"tavrin rules history":        "no rules were applied yet: tavrin rules apply FILE",
	"tavrin rules proposals":      "no proposal waits",
	"tavrin rules suspensions":    "no protection is suspended",
	"tavrin rules template":       "there is no template",
	"tavrin team list":            "there is no team that you may see",
	"tavrin thread list":          "nobody has commented on it yet",
	"tavrin token list":           "there is no token",
	"tavrin waiver list":          "nothing was waived",
	"tavrin change check":         "no check was run",
	"tavrin webhook list":         "no webhook sends anything: tavrin webhook create NAME --url URL --event KIND",
	"tavrin webhook deliveries":   "nothing was sent, and nothing waits",
	"tavrin webhook destinations": "the service calls nothing outside: an administrator allows it with serve --allow-destination URL",
}

// isEmpty says whether an answer is a list with nothing in it; nil is no list, of a command that has said something else.
func isEmpty(v any) bool {
	r := reflect.ValueOf(v)
	return r.Kind() == reflect.Slice && !r.IsNil() && r.Len() == 0
}
