package event

import (
	"fmt"
	"time"
)

// RulesApplied says that a version of a rules document is in force.
type RulesApplied struct {
	RulesOf    string `json:"rules_of" doc:"HOUSE or HOUSE/NAME"`
	Version    int    `json:"version"`
	Reason     string `json:"reason"`
	AgreedBy   string `json:"agreed_by,omitempty" doc:"the second person, where one was needed"`
	TextSHA256 string `json:"text_sha256" doc:"of the document, in hexadecimal"`
}

// Subject is rules/VERSION.
func (e RulesApplied) Subject() string { return fmt.Sprintf("rules/%d", e.Version) }

// Text implements Event.
func (e RulesApplied) Text(by string) string {
	agreed := ""
	if e.AgreedBy != "" {
		agreed = fmt.Sprintf(", to which %s agreed", e.AgreedBy)
	}
	return fmt.Sprintf("%s applied rules version %d to %s%s: %s", by, e.Version, e.RulesOf, agreed, e.Reason)
}

// RulesProposed says that a loosening waits for a second person.
type RulesProposed struct {
	RulesOf    string `json:"rules_of" doc:"HOUSE or HOUSE/NAME"`
	Proposal   int64  `json:"proposal"`
	Protection string `json:"protection,omitempty" doc:"to be suspended; absent: a new document"`
	BasedOn    int    `json:"based_on" doc:"the version that was in force"`
	Reason     string `json:"reason"`
}

// Subject is proposal/NUMBER.
func (e RulesProposed) Subject() string { return fmt.Sprintf("proposal/%d", e.Proposal) }

// Text implements Event.
func (e RulesProposed) Text(by string) string {
	what := "rules that loosen"
	if e.Protection != "" {
		what = fmt.Sprintf("to suspend protection %q of", e.Protection)
	}
	return fmt.Sprintf("%s proposed %s %s, which waits for a second person: %s", by, what, e.RulesOf, e.Reason)
}

// Decision is part of the events in which a proposal is decided.
type Decision struct {
	RulesOf    string `json:"rules_of" doc:"HOUSE or HOUSE/NAME"`
	Proposal   int64  `json:"proposal"`
	ProposedBy string `json:"proposed_by"`
	Reason     string `json:"reason" doc:"as it was proposed"`
}

// Subject is proposal/NUMBER.
func (d Decision) Subject() string { return fmt.Sprintf("proposal/%d", d.Proposal) }

func (d Decision) text(by, verb string) string {
	return fmt.Sprintf("%s %s what %s proposed for the rules of %s: %s", by, verb, d.ProposedBy, d.RulesOf, d.Reason)
}

// RulesAgreed says that a second person agreed to a loosening.
type RulesAgreed struct{ Decision }

// Text implements Event.
func (e RulesAgreed) Text(by string) string { return e.text(by, "agreed to") }

// RulesDeclined says that a loosening was declined, or taken back by who proposed it.
type RulesDeclined struct{ Decision }

// Text implements Event.
func (e RulesDeclined) Text(by string) string {
	if by == e.ProposedBy {
		return e.text(by, "took back")
	}
	return e.text(by, "declined")
}

// RulesSuspended says that a protection is out of force for a time.
type RulesSuspended struct {
	RulesOf    string    `json:"rules_of" doc:"HOUSE or HOUSE/NAME"`
	Protection string    `json:"protection"`
	Until      time.Time `json:"until"`
	Reason     string    `json:"reason"`
}

// Subject is protection/NAME.
func (e RulesSuspended) Subject() string { return "protection/" + e.Protection }

// Text implements Event.
func (e RulesSuspended) Text(by string) string {
	return fmt.Sprintf("%s suspended protection %q of %s until %s: %s", by, e.Protection, e.RulesOf,
		e.Until.Format("2006-01-02 15:04 UTC"), e.Reason)
}

// RulesResumed says that a protection holds again.
type RulesResumed struct {
	RulesOf    string `json:"rules_of" doc:"HOUSE or HOUSE/NAME"`
	Protection string `json:"protection"`
	Why        string `json:"why"`
}

// Subject is protection/NAME.
func (e RulesResumed) Subject() string { return "protection/" + e.Protection }

// Text implements Event.
func (e RulesResumed) Text(string) string {
	return fmt.Sprintf("protection %q of %s holds again: %s", e.Protection, e.RulesOf, e.Why)
}

// RulesExempted says that something passes that rules would have refused, but for an exemption of who asked.
type RulesExempted struct {
	Number  int      `json:"number,omitempty" doc:"of the change that lands; absent: a push"`
	Ref     string   `json:"ref" doc:"that moves"`
	New     string   `json:"new" doc:"the commit that it moves to"`
	Sources []string `json:"sources" doc:"the protections that would have refused it"`
	Asker   string   `json:"asker" doc:"who is exempt"`
}

// Subject is the change, or the ref of a push.
func (e RulesExempted) Subject() string {
	if e.Number != 0 {
		return OfChange{e.Number}.Subject()
	}
	return e.Ref
}

// Text implements Event.
func (e RulesExempted) Text(by string) string {
	from := listedAnd(e.Sources)
	if e.Number != 0 {
		return fmt.Sprintf("change %d lands for %s, who is exempt from %s", e.Number, e.Asker, from)
	}
	return fmt.Sprintf("%s pushes to %s, exempt from %s", by, e.Ref, from)
}
