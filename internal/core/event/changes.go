package event

import (
	"fmt"
	"strings"
)

// ChangeOpened says that somebody proposes to bring one branch into another.
type ChangeOpened struct {
	OfChange
	Title  string `json:"title"`
	Source string `json:"source"`
	Target string `json:"target"`
	State  string `json:"state" doc:"open or draft"`
}

// Branches is the target.
func (e ChangeOpened) Branches() []string { return only(e.Target) }

// Text implements Event.
func (e ChangeOpened) Text(by string) string {
	return fmt.Sprintf("%s opened change %d, %q, from %s to %s", by, e.Number, e.Title, e.Source, e.Target)
}

// ChangeEdited says that a change was altered; what is absent stayed.
type ChangeEdited struct {
	OfChange
	Title       *string `json:"title,omitempty"`
	Description *string `json:"description,omitempty"`
	State       *string `json:"state,omitempty" doc:"open or draft"`
	Target      *string `json:"target,omitempty"`
	DependsOn   *[]int  `json:"depends_on,omitempty" doc:"the changes that it waits for"`
}

// Text implements Event.
func (e ChangeEdited) Text(by string) string { return fmt.Sprintf("%s edited change %d", by, e.Number) }

// ChangeClosed says that a change was given up.
type ChangeClosed struct{ OfChange }

// Text implements Event.
func (e ChangeClosed) Text(by string) string { return fmt.Sprintf("%s closed change %d", by, e.Number) }

// ChangeReopened says that a change that was given up is taken up again.
type ChangeReopened struct{ OfChange }

// Text implements Event.
func (e ChangeReopened) Text(by string) string {
	return fmt.Sprintf("%s reopened change %d", by, e.Number)
}

// RevisionKind says what a revision did to the one before.
type RevisionKind string

// The kinds of revisions.
const (
	First      RevisionKind = "first"
	Added      RevisionKind = "added"      // commits on top
	Rebased    RevisionKind = "rebased"    // the same difference on another base
	Folded     RevisionKind = "folded"     // fixups into their commits, and nothing else
	Rewritten  RevisionKind = "rewritten"  // another difference
	Retargeted RevisionKind = "retargeted" // the change goes to another branch
)

// ChangeRevised says that a change has another revision.
type ChangeRevised struct {
	OfChange
	Revision       int          `json:"revision"`
	Kind           RevisionKind `json:"kind" doc:"first, added, rebased, folded, rewritten or retargeted"`
	Target         string       `json:"target"`
	Head           string       `json:"head"`
	Base           string       `json:"base" doc:"the common ancestor with the target"`
	SameDifference bool         `json:"same_difference" doc:"it brings exactly what the revision before brought"`
	Authors        []string     `json:"authors" doc:"who counts as author of it"`
}

// Branches is the target.
func (e ChangeRevised) Branches() []string { return only(e.Target) }

// Text implements Event.
func (e ChangeRevised) Text(by string) string {
	what := "changes the difference"
	switch e.Kind {
	case First:
		what = "is the first"
	case Added:
		what = "adds commits"
	case Rebased:
		what = "brings the same difference, rebased"
	case Folded:
		what = "folds fixups and nothing else"
	case Retargeted:
		what = "goes to " + e.Target
	case Rewritten:
	}
	return fmt.Sprintf("%s made revision %d of change %d, which %s", by, e.Revision, e.Number, what)
}

// ChangeLabelled says that a change has other labels.
type ChangeLabelled struct {
	OfChange
	Set     []string `json:"set"`
	Removed []string `json:"removed"`
}

// Text implements Event.
func (e ChangeLabelled) Text(by string) string {
	return fmt.Sprintf("%s set the labels %s and removed %s on change %d", by, listed(e.Set, "none"),
		listed(e.Removed, "none"), e.Number)
}

// ChangeTraced says that other branches were found to hold the commits of a change, or those that they were picked from.
type ChangeTraced struct {
	OfChange
	Revision int      `json:"revision"`
	On       []string `json:"on" doc:"branches that hold at least one of them, but the source"`
}

// Text implements Event.
func (e ChangeTraced) Text(string) string {
	return fmt.Sprintf("commits of revision %d of change %d were found on %s", e.Revision, e.Number, listed(e.On, "no other branch"))
}

// ChangeLanded says that a change has landed.
type ChangeLanded struct {
	OfChange
	Title           string `json:"title"`
	Target          string `json:"target"`
	Old             string `json:"old" doc:"what it stands on"`
	New             string `json:"new" doc:"what landed"`
	Tip             string `json:"tip,omitempty" doc:"where the target stands, when others landed with it, on top of it; absent: at what landed"`
	Strategy        string `json:"strategy"`
	Revision        int    `json:"revision"`
	RulesVersion    int    `json:"rules_version"`
	HouseVersion    int    `json:"house_version"`
	FactsSHA256     string `json:"facts_sha256" doc:"of the facts that the gate was judged by, in hexadecimal"`
	StatementSHA256 string `json:"statement_sha256" doc:"of the signed statement, in hexadecimal"`
	// Tickets are those that the change refers to.
	Tickets []string `json:"tickets,omitempty" doc:"that the change refers to"`
}

// Branches is the target.
func (e ChangeLanded) Branches() []string { return only(e.Target) }

// Text implements Event.
func (e ChangeLanded) Text(string) string {
	return fmt.Sprintf("change %d, %q, landed on %s as %s by %s", e.Number, e.Title, e.Target, short(e.New), e.Strategy)
}

// ReviewAsked says that people were asked to look at a change, or told of it.
type ReviewAsked struct {
	OfChange
	Who      []string `json:"who" doc:"person:LOGIN or team:NAME"`
	Optional bool     `json:"optional" doc:"they were told of it"`
	ByAreas  bool     `json:"by_areas" doc:"the areas that it touches name them"`
}

// Text implements Event.
func (e ReviewAsked) Text(by string) string {
	who := strings.Join(e.Who, ", ")
	switch {
	case e.ByAreas:
		return fmt.Sprintf("%s were asked to look at change %d, as its areas say", who, e.Number)
	case e.Optional:
		return fmt.Sprintf("%s told %s of change %d", by, who, e.Number)
	}
	return fmt.Sprintf("%s asked %s to look at change %d", by, who, e.Number)
}

// Word is part of every event in which a reviewer speaks of a revision.
type Word struct {
	OfChange
	Revision int    `json:"revision"`
	Words    string `json:"text"`
}

func (w Word) text(by, verb string) string {
	return fmt.Sprintf("%s %s revision %d of change %d", by, verb, w.Revision, w.Number)
}

// ReviewApproved says that somebody approved a revision.
type ReviewApproved struct{ Word }

// Text implements Event.
func (e ReviewApproved) Text(by string) string { return e.text(by, "approved") }

// ReviewObjected says that somebody objected to a revision.
type ReviewObjected struct{ Word }

// Text implements Event.
func (e ReviewObjected) Text(by string) string { return e.text(by, "objected to") }

// ReviewCommented says that somebody commented on a revision.
type ReviewCommented struct{ Word }

// Text implements Event.
func (e ReviewCommented) Text(by string) string { return e.text(by, "commented on") }

// ReviewWithdrawn says that somebody took an approval or an objection back.
type ReviewWithdrawn struct {
	OfChange
	Revision int    `json:"revision"`
	Verdict  string `json:"verdict" doc:"approve or object"`
}

// Text implements Event.
func (e ReviewWithdrawn) Text(by string) string {
	noun := "approval"
	if e.Verdict == "object" {
		noun = "objection"
	}
	return fmt.Sprintf("%s withdrew the %s of revision %d of change %d", by, noun, e.Revision, e.Number)
}

// OfThread is part of every event of a discussion.
type OfThread struct {
	OfChange
	Thread int64  `json:"thread"`
	Where  string `json:"where" doc:"what it is about, in words"`
}

// TheChange is where a discussion is that is about the change as a whole.
const TheChange = "the change"

func (t OfThread) text(by, verb string) string {
	if t.Where == TheChange {
		return fmt.Sprintf("%s %s change %d", by, verb, t.Number)
	}
	return fmt.Sprintf("%s %s %s of change %d", by, verb, t.Where, t.Number)
}

// ThreadBegun says that somebody began a discussion.
type ThreadBegun struct{ OfThread }

// Text implements Event.
func (e ThreadBegun) Text(by string) string { return e.text(by, "began a discussion on") }

// ThreadReplied says that somebody replied in a discussion.
type ThreadReplied struct{ OfThread }

// Text implements Event.
func (e ThreadReplied) Text(by string) string { return e.text(by, "replied on") }

// ThreadEdited says that somebody altered what they had said.
type ThreadEdited struct{ OfThread }

// Text implements Event.
func (e ThreadEdited) Text(by string) string { return e.text(by, "altered a comment on") }

// ThreadResolved says that a discussion is resolved.
type ThreadResolved struct {
	OfThread
	Outcome string `json:"outcome,omitempty" doc:"what came of it"`
}

// Text implements Event.
func (e ThreadResolved) Text(by string) string {
	text := e.text(by, "resolved the discussion on")
	if e.Outcome != "" {
		text += ": " + e.Outcome
	}
	return text
}

// ThreadReopened says that a discussion is open again.
type ThreadReopened struct{ OfThread }

// Text implements Event.
func (e ThreadReopened) Text(by string) string { return e.text(by, "reopened the discussion on") }
