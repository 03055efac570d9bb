package event

import (
	"fmt"
	"strings"
	"time"
)

// HouseCreated says that a house was made.
type HouseCreated struct {
	House string `json:"house"`
}

// Subject is house/NAME.
func (e HouseCreated) Subject() string { return "house/" + e.House }

// Text implements Event.
func (e HouseCreated) Text(by string) string { return fmt.Sprintf("%s made house %s", by, e.House) }

// Ref is where a branch or tag points.
type Ref struct {
	Name string `json:"name" doc:"the whole name, such as refs/heads/main"`
	ID   string `json:"id"`
}

// RepositoryCreated says that a repository was made, and which branches and tags an import brought, so that the journal
// tells of every one from its beginning.
type RepositoryCreated struct {
	Name string `json:"name" doc:"HOUSE/NAME"`
	From string `json:"from,omitempty" doc:"the URL that it was imported from"`
	Refs []Ref  `json:"refs"`
}

// Subject is repository/HOUSE/NAME.
func (e RepositoryCreated) Subject() string { return "repository/" + e.Name }

// Text implements Event.
func (e RepositoryCreated) Text(by string) string {
	text := fmt.Sprintf("%s made repository %s", by, e.Name)
	if e.From != "" {
		text += " from " + e.From
	}
	return text
}

// RepositoryStopped says that a repository is read-only until an administrator has looked.
type RepositoryStopped struct {
	Name    string `json:"name" doc:"HOUSE/NAME"`
	Trouble string `json:"trouble"`
}

// Subject is repository/HOUSE/NAME.
func (e RepositoryStopped) Subject() string { return "repository/" + e.Name }

// Text implements Event.
func (e RepositoryStopped) Text(string) string {
	return fmt.Sprintf("%s was stopped and is read-only: %s", e.Name, e.Trouble)
}

// RepositoryResumed says that a repository is no longer stopped.
type RepositoryResumed struct {
	Name string `json:"name" doc:"HOUSE/NAME"`
}

// Subject is repository/HOUSE/NAME.
func (e RepositoryResumed) Subject() string { return "repository/" + e.Name }

// Text implements Event.
func (e RepositoryResumed) Text(string) string {
	return fmt.Sprintf("%s goes on", e.Name)
}

// RepositoryEdited says that a maintainer changed something of a repository itself.
type RepositoryEdited struct {
	Name  string   `json:"name" doc:"HOUSE/NAME"`
	Edits []string `json:"edits" doc:"what it is now, in words"`
}

// Subject is repository/HOUSE/NAME.
func (e RepositoryEdited) Subject() string { return "repository/" + e.Name }

// Text implements Event.
func (e RepositoryEdited) Text(by string) string {
	return fmt.Sprintf("%s edited %s: %s", by, e.Name, strings.Join(e.Edits, "; "))
}

// RepositoryRenamed says that a repository has another name.
type RepositoryRenamed struct {
	Was  string `json:"was" doc:"HOUSE/NAME"`
	Name string `json:"name" doc:"HOUSE/NAME"`
}

// Subject is repository/HOUSE/NAME, as it was called before.
func (e RepositoryRenamed) Subject() string { return "repository/" + e.Was }

// Text implements Event.
func (e RepositoryRenamed) Text(by string) string {
	return fmt.Sprintf("%s renamed %s to %s", by, e.Was, e.Name)
}

// RepositoryDeleted says that a repository is gone, and until when it can be brought back.
type RepositoryDeleted struct {
	Name   string    `json:"name" doc:"HOUSE/NAME"`
	Reason string    `json:"reason"`
	Until  time.Time `json:"until"`
}

// Subject is repository/HOUSE/NAME.
func (e RepositoryDeleted) Subject() string { return "repository/" + e.Name }

// Text implements Event.
func (e RepositoryDeleted) Text(by string) string {
	return fmt.Sprintf("%s deleted %s: %s. It can be restored until %s", by, e.Name, e.Reason, e.Until.UTC().Format(time.DateOnly))
}

// RepositoryRestored says that a deleted repository is back.
type RepositoryRestored struct {
	Name string `json:"name" doc:"HOUSE/NAME"`
}

// Subject is repository/HOUSE/NAME.
func (e RepositoryRestored) Subject() string { return "repository/" + e.Name }

// Text implements Event.
func (e RepositoryRestored) Text(by string) string { return fmt.Sprintf("%s restored %s", by, e.Name) }

// RepositoryPurged says that what Git had of a deleted repository is gone for good. Kept is the name under which the
// records of it stay, so that its name is free.
type RepositoryPurged struct {
	Name string `json:"name" doc:"HOUSE/NAME"`
	Kept string `json:"kept"`
}

// Subject is repository/HOUSE/NAME.
func (e RepositoryPurged) Subject() string { return "repository/" + e.Name }

// Text implements Event.
func (e RepositoryPurged) Text(string) string {
	return fmt.Sprintf("%s was deleted for good: its time to be restored is over", e.Name)
}

// RefMove is part of every event of a branch, tag or preview space that moved.
type RefMove struct {
	Ref          string `json:"ref" doc:"the whole name, such as refs/heads/main"`
	Old          string `json:"old" doc:"where it stood; empty: it was made"`
	New          string `json:"new" doc:"where it stands; empty: it was deleted"`
	RulesVersion int    `json:"rules_version" doc:"of the repository's rules that it was judged by"`
}

// Subject is the whole name of the ref.
func (m RefMove) Subject() string { return m.Ref }

// Target is where the ref points now; empty: it is gone.
func (m RefMove) Target() string { return m.New }

// Moved is where the ref pointed, and where it points now; empty: it was made, it is gone.
func (m RefMove) Moved() (from, to string) { return m.Old, m.New }

// Branches is the branch or tag.
func (m RefMove) Branches() []string { return []string{branch(m.Ref)} }

// BranchCreated says that a push made a branch.
type BranchCreated struct{ RefMove }

// Text implements Event.
func (e BranchCreated) Text(by string) string { return pushed(by, "created", e.Ref) }

// BranchMoved says that a push moved a branch.
type BranchMoved struct{ RefMove }

// Text implements Event.
func (e BranchMoved) Text(by string) string { return pushed(by, "moved", e.Ref) }

// BranchDeleted says that a branch was deleted: by a push, or after its change landed.
type BranchDeleted struct {
	RefMove
	Landed bool `json:"landed,omitempty" doc:"its change landed, and whoever asked for that had asked for this"`
}

// Text implements Event.
func (e BranchDeleted) Text(by string) string {
	if e.Landed {
		return fmt.Sprintf("%s was removed after its change landed, as %s had asked", branch(e.Ref), by)
	}
	return pushed(by, "deleted", e.Ref)
}

// BranchKept says that the source branch of a change that landed was not removed, although that had been asked for.
type BranchKept struct {
	Ref    string `json:"ref"`
	Landed int    `json:"landed" doc:"the number of the change"`
	Why    string `json:"why"`
}

// Subject is the whole name of the branch.
func (e BranchKept) Subject() string { return e.Ref }

// Text implements Event.
func (e BranchKept) Text(string) string {
	return fmt.Sprintf("%s was not removed after change %d landed: %s", branch(e.Ref), e.Landed, e.Why)
}

// TagCreated says that a push made a tag.
type TagCreated struct{ RefMove }

// Text implements Event.
func (e TagCreated) Text(by string) string { return pushed(by, "created", e.Ref) }

// TagMoved says that a push moved a tag.
type TagMoved struct{ RefMove }

// Text implements Event.
func (e TagMoved) Text(by string) string { return pushed(by, "moved", e.Ref) }

// TagDeleted says that a push deleted a tag.
type TagDeleted struct{ RefMove }

// Text implements Event.
func (e TagDeleted) Text(by string) string { return pushed(by, "deleted", e.Ref) }

// PreviewCreated says that somebody pushed to a preview space of theirs for the first time.
type PreviewCreated struct{ RefMove }

// Text implements Event.
func (e PreviewCreated) Text(by string) string { return pushed(by, "created", e.Ref) }

// PreviewMoved says that somebody pushed to a preview space of theirs again.
type PreviewMoved struct{ RefMove }

// Text implements Event.
func (e PreviewMoved) Text(by string) string { return pushed(by, "moved", e.Ref) }

// PreviewDeleted says that a preview space is gone: by a push, or because nobody had pushed to it for long.
type PreviewDeleted struct {
	RefMove
	Idle bool `json:"idle,omitempty" doc:"nobody had pushed to it for a week"`
}

// Text implements Event.
func (e PreviewDeleted) Text(by string) string {
	if e.Idle {
		return fmt.Sprintf("%s was removed: nobody had pushed to it for a week", e.Ref)
	}
	return pushed(by, "deleted", e.Ref)
}

func pushed(by, verb, ref string) string {
	return fmt.Sprintf("%s %s %s by a push", by, verb, branch(ref))
}
