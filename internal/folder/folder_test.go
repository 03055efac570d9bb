package folder

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/event"
	"tavrin/internal/records"
)

func ok(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// run serves a folder for a moment, with some lines written, and leaves it in order or, killed, as it is.
func run(t *testing.T, dir string, lines int, killed bool) {
	t.Helper()
	f, err := Take(dir)
	ok(t, err)
	r, err := records.Open(t.Context(), f.Records(), time.Now)
	ok(t, err)
	ok(t, os.WriteFile(f.Key(), make([]byte, 32), 0o600))
	ok(t, f.Run(t.Context(), r, func(id int64) string { return filepath.Join(f.Repositories(), fmt.Sprint(id)) }, slog.New(slog.DiscardHandler)))
	for range lines {
		ok(t, r.Write(t.Context(), func(tx *records.Tx) error { return tx.Record("ines", nil, event.HouseCreated{House: "growers"}) }))
	}
	if !killed {
		ok(t, f.Rest())
	}
	ok(t, r.Close())
	ok(t, f.Leave(!killed))
}

func TestOneProcessKeepsAFolder(t *testing.T) {
	dir := t.TempDir()
	f, err := Take(dir)
	ok(t, err)
	if _, err := Take(dir); !errors.Is(err, ErrInUse) {
		t.Errorf("taken twice: %v", err)
	}
	ok(t, f.Leave(true))
	f, err = Take(dir)
	ok(t, err)
	ok(t, f.Leave(true))
}

// A folder that was put together wrongly is not served, and says what to do.
func TestP4FoldersInNoCondition(t *testing.T) {
	for name, c := range map[string]struct {
		harm  func(dir string)
		words string // empty: it is served
	}{
		"in order":     {func(string) {}, ""},
		"without key":  {func(dir string) { os.Remove(filepath.Join(dir, keyName)) }, "signing.key is missing"},
		"another file": {func(dir string) { os.WriteFile(filepath.Join(dir, runningName), []byte("7\n"), 0o600) }, "is not the file that the service was using"},
		"no records, but repositories": {func(dir string) {
			os.Remove(filepath.Join(dir, recordsName))
			os.Mkdir(filepath.Join(dir, "repositories", "1.git"), 0o700)
		}, "it has repositories and no records.sqlite"},
	} {
		dir := t.TempDir()
		run(t, dir, 3, false)
		c.harm(dir)
		f, err := Take(dir)
		if c.words == "" {
			ok(t, err)
			ok(t, f.Leave(true))
		} else if !errors.Is(err, ErrCondition) || !strings.Contains(err.Error(), c.words) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Records that are older than the marks, or another folder's, are not gone on with.
func TestP4RecordsAreComparedWithTheMarks(t *testing.T) {
	dir := t.TempDir()
	run(t, dir, 2, false)
	was, err := os.ReadFile(filepath.Join(dir, recordsName))
	ok(t, err)
	run(t, dir, 2, false)
	serve := func() error {
		t.Helper()
		f, err := Take(dir)
		ok(t, err)
		r, err := records.Open(t.Context(), f.Records(), time.Now)
		ok(t, err)
		err = f.Run(t.Context(), r, func(id int64) string { return filepath.Join(f.Repositories(), fmt.Sprint(id)) }, slog.New(slog.DiscardHandler))
		ok(t, f.Rest())
		ok(t, r.Close())
		ok(t, f.Leave(true))
		return err
	}
	ok(t, serve())
	ok(t, os.WriteFile(filepath.Join(dir, recordsName), was, 0o600))
	if err := serve(); !errors.Is(err, ErrCondition) || !strings.Contains(err.Error(), "end with line 2 of the journal, and the service had written line 4") {
		t.Errorf("older records: %v", err)
	}
	ok(t, AcceptLoss(t.Context(), dir))
	ok(t, serve())
}

// What was not committed after all leaves no mark: the folder is served again (P4).
func TestP4WhatWasNotCommittedLeavesNoMark(t *testing.T) {
	dir := t.TempDir()
	for range 2 {
		f, err := Take(dir)
		ok(t, err)
		r, err := records.Open(t.Context(), f.Records(), time.Now)
		ok(t, err)
		ok(t, os.WriteFile(f.Key(), make([]byte, 32), 0o600))
		ok(t, f.Run(t.Context(), r, func(int64) string { return dir }, slog.New(slog.DiscardHandler)))
		ctx, cancel := context.WithCancel(t.Context())
		r.Listen(records.Listener{Before: func(records.Commit) { cancel() }, After: func(c records.Commit) {
			if c.Done {
				t.Error("it was committed although the request had ended: the test shows nothing")
			}
		}})
		err = r.Write(ctx, func(tx *records.Tx) error {
			return tx.Record(records.Itself, nil, event.HouseCreated{House: "growers"})
		})
		if err == nil {
			t.Fatal("a request that had ended was told that all is written")
		}
		ok(t, f.Rest())
		ok(t, r.Close())
		ok(t, f.Leave(true))
	}
}

// Records of an older schema are backed up before they are brought up to date; others are not.
func TestBackUpFirst(t *testing.T) {
	dir := t.TempDir()
	run(t, dir, 2, false)
	f, err := Take(dir)
	ok(t, err)
	defer f.Leave(true)
	at := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	for _, c := range []struct{ from, to int64 }{{0, 2}, {2, 2}, {1, 2}} {
		ok(t, f.BackUpFirst(t.Context(), c.from, c.to, at, slog.New(slog.DiscardHandler)))
		made, err := filepath.Glob(filepath.Join(dir, "backups", "before-schema-2-20261102-080000", "manifest.json"))
		if err != nil || (len(made) == 1) != (c.from == 1) {
			t.Errorf("from %d to %d: backups are %v, %v", c.from, c.to, made, err)
		}
	}
}
