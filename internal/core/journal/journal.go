// Package journal chains the record of everything that was decided or done, so that it cannot be altered unseen.
//
// Each line carries the hash of the line before it. Whoever holds a signed head (the number and hash of the newest
// line) can verify that no line up to it was changed, removed or put in. The package is pure; signing and storing
// are left to others.
package journal

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"
)

// Line is one entry of the journal.
type Line struct {
	Seq        int64           `json:"seq" doc:"counted from 1 without gaps"`
	At         time.Time       `json:"at"`
	Actor      string          `json:"actor" doc:"login, or \"tavrin\" for the service itself"`
	Kind       string          `json:"kind" doc:"what happened, such as change.opened"`
	Repository string          `json:"repository,omitempty"`
	Subject    string          `json:"subject,omitempty" doc:"what it happened to, such as change/4"`
	Text       string          `json:"text" doc:"the same in a sentence"`
	Data       json.RawMessage `json:"data,omitempty"`
	Prev       string          `json:"prev" doc:"hash of the line before, empty for the first"`
	Hash       string          `json:"hash"`
}

// Sum computes the hash of a line from everything else in it: SHA-256, in hexadecimal, over its fields as a JSON
// array, the time in UTC with nanoseconds.
func Sum(l Line) string {
	data := string(l.Data)
	b, err := json.Marshal([]any{l.Seq, l.At.UTC().Format(time.RFC3339Nano), l.Actor, l.Kind, l.Repository, l.Subject,
		l.Text, data, l.Prev})
	if err != nil {
		panic("journal: strings and numbers always marshal: " + err.Error())
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Head is the newest line's place and hash: what is signed and exported.
type Head struct {
	Seq  int64  `json:"seq"`
	Hash string `json:"hash"`
}

// Verifier checks lines in order. The zero value expects the first line.
type Verifier struct {
	last Head
}

// Next checks one more line.
func (v *Verifier) Next(l Line) error {
	switch {
	case l.Seq != v.last.Seq+1:
		return fmt.Errorf("line %d follows line %d: lines are missing or out of order", l.Seq, v.last.Seq)
	case l.Prev != v.last.Hash:
		return fmt.Errorf("line %d does not continue line %d: its \"prev\" is not that line's hash", l.Seq, v.last.Seq)
	case l.Hash != Sum(l):
		return fmt.Errorf("line %d was altered: its hash is not that of its content", l.Seq)
	}
	v.last = Head{l.Seq, l.Hash}
	return nil
}

// GoOn has the verifier expect the line after one that was checked before.
func (v *Verifier) GoOn(from Head) { v.last = from }

// Head returns the place and hash of the newest line checked.
func (v *Verifier) Head() Head { return v.last }
