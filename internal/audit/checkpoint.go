package audit

import (
	"bytes"
	"compress/flate"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"tavrin/internal/core/journal"
)

// A verification that found nothing leaves a checkpoint: the line it came to, and what the lines up to it tell, signed with the
// service's key. The next goes on from there, whose cost is that of what has come since. What the lines before it hold is not read
// again by it: who doubts the machine asks for the whole, beside a head that was kept elsewhere.

// checkpointName is the file, in the service's folder.
const checkpointName = "journal.checkpoint"

// checkpointType is the type of what is signed.
const checkpointType = "application/vnd.tavrin.journal-checkpoint+gob"

// kept is what is signed.
type kept struct {
	Version int
	Head    journal.Head
	Story   *journal.Story
}

const checkpointVersion = 1

// checkpoint is what to keep of a verification whose lines are read.
func (v *verification) checkpoint() ([]byte, error) {
	var text bytes.Buffer
	w, err := flate.NewWriter(&text, flate.BestSpeed)
	if err == nil {
		err = gob.NewEncoder(w).Encode(kept{checkpointVersion, v.chain.Head(), v.story})
	}
	if err == nil {
		err = w.Close()
	}
	return text.Bytes(), err
}

// keep puts a checkpoint in the place of the one before.
func (v *verification) keep(text []byte) error {
	sealed, err := v.s.key.Seal(checkpointType, text)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(v.s.dir, checkpointName+"-")
	if err != nil {
		return err
	}
	_, err = io.WriteString(f, sealed)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), filepath.Join(v.s.dir, checkpointName))
	}
	if err != nil {
		err = errors.Join(err, os.Remove(f.Name()))
	}
	return err
}

// goOn has a verification begin where the last one came to. One whose signature is not this service's, or that cannot be read, is
// left aside, and said so in the log: everything is read then.
func (v *verification) goOn() {
	sealed, err := os.ReadFile(filepath.Join(v.s.dir, checkpointName))
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	var k kept
	if err == nil {
		k, err = v.s.opened(string(sealed))
	}
	if err != nil {
		v.s.log.Warn("the checkpoint of the last verification is left aside", "error", err)
		return
	}
	v.chain.GoOn(k.Head)
	v.story = k.Story
}

// opened reads a checkpoint that this service's key has signed.
func (s *Auditor) opened(sealed string) (kept, error) {
	var k kept
	text, err := s.key.Opened(checkpointType, sealed)
	if err != nil {
		return k, err
	}
	if err := gob.NewDecoder(flate.NewReader(bytes.NewReader(text))).Decode(&k); err != nil {
		return k, fmt.Errorf("it cannot be read: %w", err)
	}
	if k.Version != checkpointVersion || k.Story == nil {
		return k, fmt.Errorf("it is of version %d", k.Version)
	}
	k.Story.Filled()
	return k, nil
}
