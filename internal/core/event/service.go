package event

import (
	"fmt"
	"time"
)

// ofService is the subject of events of the service itself.
const ofService = "service"

// ServiceRestored says that the service goes on from a backup.
type ServiceRestored struct {
	MadeAt time.Time `json:"made_at"`
	Seq    int64     `json:"seq" doc:"the line of the journal that it was made at"`
	Hash   string    `json:"hash" doc:"of that line"`
}

// Subject is service.
func (ServiceRestored) Subject() string { return ofService }

// Text implements Event.
func (e ServiceRestored) Text(string) string {
	return fmt.Sprintf("the service goes on from a backup made at %s, at line %d of the journal",
		e.MadeAt.UTC().Format(time.RFC3339), e.Seq)
}

// LossAccepted says that somebody on the machine itself accepted that something is missing.
type LossAccepted struct {
	Seq   int64    `json:"seq" doc:"the last line of the journal that there is"`
	Count int      `json:"count" doc:"branches and tags that are not where the journal says"`
	Found []string `json:"found" doc:"some of them, in words"`
}

// Subject is service.
func (LossAccepted) Subject() string { return ofService }

// Text implements Event.
func (e LossAccepted) Text(string) string {
	return fmt.Sprintf("somebody with access to the service's folder accepted that what came after line %d of the "+
		"journal is lost; "+
		"%d branches and tags are not where it says", e.Seq, e.Count)
}

// KeyReplaced says that the service signs with another key from now on.
type KeyReplaced struct {
	PublicKey string `json:"public_key" doc:"Base64"`
}

// Subject is service.
func (KeyReplaced) Subject() string { return ofService }

// Text implements Event.
func (e KeyReplaced) Text(string) string {
	return "the signing key was lost, and a new one was made: statements from now on are signed with " + e.PublicKey
}
