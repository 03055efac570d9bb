package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/journal"
	"tavrin/wire"
)

// records opens the service's records as somebody with access to the machine does, and allows what the service does not.
func (w *town) records(statements ...string) {
	w.t.Helper()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(w.dir, "data", "records.sqlite"))
	w.ok(err)
	defer db.Close()
	for _, s := range append([]string{"DROP TRIGGER IF EXISTS journal_lines_stay", "DROP TRIGGER IF EXISTS journal_lines_stay_too", "DROP TRIGGER IF EXISTS journal_lines_follow"}, statements...) {
		if _, err := db.Exec(s); err != nil {
			w.t.Fatalf("%s: %v", s, err)
		}
	}
}

// unmark takes away the marks of where the records stood, as whoever alters them would.
func (w *town) unmark() {
	w.t.Helper()
	marks, err := filepath.Glob(filepath.Join(w.dir, "data", "repositories", "*", "journal.mark"))
	w.ok(err)
	for _, m := range append(marks, filepath.Join(w.dir, "data", "journal.mark")) {
		w.ok(os.Remove(m))
	}
}

// rechain rewrites the journal from a line on, as somebody who knows how its hashes are made.
func (w *town) rechain(from int64, alter func(*journal.Line)) {
	w.t.Helper()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(w.dir, "data", "records.sqlite"))
	w.ok(err)
	defer db.Close()
	rows, err := db.Query("SELECT seq, at, actor, kind, repository, subject, text, data, prev FROM journal_lines WHERE seq >= ? ORDER BY seq", from)
	w.ok(err)
	var lines []journal.Line
	for rows.Next() {
		var l journal.Line
		var at string
		var repository, subject, data, prev sql.NullString
		w.ok(rows.Scan(&l.Seq, &at, &l.Actor, &l.Kind, &repository, &subject, &l.Text, &data, &prev))
		l.At, err = time.Parse(time.RFC3339Nano, at)
		w.ok(err)
		l.Repository, l.Subject, l.Data, l.Prev = repository.String, subject.String, json.RawMessage(data.String), prev.String
		lines = append(lines, l)
	}
	w.ok(rows.Close())
	for i := range lines {
		if i > 0 {
			lines[i].Prev = lines[i-1].Hash
		}
		alter(&lines[i])
		lines[i].Hash = journal.Sum(lines[i])
		_, err := db.Exec("UPDATE journal_lines SET text = ?, data = ?, prev = ?, hash = ? WHERE seq = ?", lines[i].Text, string(lines[i].Data), lines[i].Prev, lines[i].Hash, lines[i].Seq)
		w.ok(err)
	}
}

// The journal is held against a head exported earlier, the records and the branches on disk: whatever was altered behind the
// service's back is found, and named (P10).
func TestP10WhatWasAlteredIsFound(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	ctx := t.Context()
	w.must("ines", dir, "tag", "v1")
	w.must("ines", dir, "push", "-q", "origin", "v1")
	w.land(w.propose("tamsin", "first", "a", "a\n"), "squash")
	k := w.propose("tamsin", "second", "valves/b", "b\n")
	w.approve("odo", k)
	w.join("tamsin", k, "")
	w.rehearsed(k)
	head := w.file("head.json", w.says("admin", 0, "public_key", "journal", "head", "-o", "json"))
	w.report(w.rehearsed(k), "unit", "failed")
	w.ejected(k)
	w.says("admin", 0, "goes on from the head", "journal", "verify", "--head", head)
	good := filepath.Join(t.TempDir(), "good")
	w.close()
	w.ok(os.CopyFS(good, os.DirFS(filepath.Join(w.dir, "data"))))
	bare := filepath.Join(w.dir, "data", "repositories", "1.git")
	for _, c := range []struct {
		name  string
		alter func()
		says  string
		head  bool // it takes the head to find it
	}{
		{"nothing", func() {}, "", false},
		{"a check that failed", func() { w.records("UPDATE check_runs SET state = 'passed' WHERE state = 'failed'") }, "is passed in the records, and failed in the journal", false},
		{"who reported a check", func() { w.records("UPDATE check_runs SET reported_by = 'odo' WHERE state = 'passed'") }, "was reported by odo in the records, and by builder", false},
		{"a check of nobody's", func() {
			w.records("INSERT INTO check_runs (repository_id, commit_id, name, attempt, state, reported_by, created_at) VALUES (1, '" + k.Head + "', 'made-up', 1, 'passed', 'builder', '2026-01-01')")
		}, "of which the journal does not tell", false},
		{"a check that is gone", func() { w.records("PRAGMA foreign_keys = off", "DELETE FROM check_runs WHERE state = 'passed'") }, "are not in the records", false},
		{"an approval of nobody's", func() {
			w.records("INSERT INTO reviews (change_id, revision, login, verdict, text, created_at) SELECT change_id, revision, 'wren', 'approve', '', created_at FROM reviews LIMIT 1")
		}, "wren's approve of revision 1", false},
		{"an approval of another revision", func() { w.records("UPDATE reviews SET revision = 2") }, "is not what the journal tells", false},
		{"an objection that is gone", func() { w.records("UPDATE reviews SET withdrawn_at = '2026-01-01'") }, "the journal tells of a review by odo", false},
		{"a landing", func() { w.records("UPDATE landings SET strategy = 'rebase'") }, "the landing of growers/irrigation change 1 is not what the journal tells", false},
		{"a change that never landed", func() { w.records("UPDATE changes SET state = 'landed' WHERE number = 2") }, "change 2 landed, the journal does not", false},
		{"a statement", func() { w.records("UPDATE landings SET statement = replace(statement, 'payload', 'payloaf')") }, "the statement of growers/irrigation change 1 was altered", false},
		{"rules in force", func() { w.records("UPDATE rules_versions SET text = replace(text, 'approvals: 1', 'approvals: 2')") }, "version 1 of the rules of growers/irrigation is not the one that was applied", false},
		{"rules that nobody applied", func() {
			w.records("INSERT INTO rules_versions (repository_id, version, text, reason, applied_by, applied_at) VALUES (1, 2, 'tavrin: rules/1', 'x', 'ines', '2026-01-01')")
		}, "version 2 of the rules of growers/irrigation", false},
		{"a branch on disk", func() { w.must("admin", bare, "update-ref", "refs/heads/main", k.Head) }, "refs/heads/main of growers/irrigation is at " + k.Head[:10], false},
		{"a branch that is gone", func() { w.must("admin", bare, "update-ref", "-d", "refs/heads/first") }, "refs/heads/first of growers/irrigation is not on disk", false},
		{"a branch of nobody's", func() { w.must("admin", bare, "update-ref", "refs/heads/mine", k.Head) }, "and not there in the journal", false},
		{"a tag", func() { w.must("admin", bare, "update-ref", "refs/tags/v1", k.Head) }, "refs/tags/v1 of growers/irrigation", false},
		{"a line", func() { w.records("UPDATE journal_lines SET text = 'nothing happened' WHERE seq = 20") }, "line 20 was altered", false},
		{"a line that is gone", func() { w.records("DELETE FROM journal_lines WHERE seq = 20") }, "lines are missing", false},
		{"the end of the journal", func() {
			w.records("DELETE FROM journal_lines WHERE seq > (SELECT max(seq) - 12 FROM journal_lines)")
			w.unmark()
		}, "the journal was cut", true},
		{"the whole chain", func() {
			w.records()
			w.unmark()
			w.rechain(5, func(l *journal.Line) { l.Text = strings.Replace(l.Text, "tamsin", "wren", 1) })
		}, "the journal was rewritten", true},
	} {
		w.ok(os.RemoveAll(filepath.Join(w.dir, "data")))
		w.ok(os.CopyFS(filepath.Join(w.dir, "data"), os.DirFS(good)))
		c.alter()
		w.reopen()
		args := []string{"journal", "verify", "--whole"} // what was verified before is not read again without it
		if c.head {
			args = append(args, "--head", head)
		}
		out, errOut, status := w.run("admin", w.dir, args...)
		if (status == 0) != (c.says == "") || !strings.Contains(errOut, c.says) {
			t.Errorf("%s: %d %s%s", c.name, status, out, errOut)
		}
		w.close()
	}
	// A head that is not this service's own, or was altered, is refused.
	w.ok(os.RemoveAll(filepath.Join(w.dir, "data")))
	w.ok(os.CopyFS(filepath.Join(w.dir, "data"), os.DirFS(good)))
	w.reopen()
	var h wire.SignedHead
	w.ok(json.Unmarshal([]byte(read(t, head)), &h))
	for _, c := range []struct {
		alter func(*wire.SignedHead)
		says  string
	}{{func(h *wire.SignedHead) { h.Seq++ }, "does not fit it"}, {func(h *wire.SignedHead) { h.PublicKey = "AAAA" }, "another service, or the key was replaced"}, {func(h *wire.SignedHead) { h.Signature = "" }, "does not fit it"}} {
		altered := h
		c.alter(&altered)
		_, err := w.admin.VerifyJournal(ctx, &altered, true, nil)
		problem(t, err, 422, c.says)
	}
	_, err := w.as("ines").VerifyJournal(ctx, nil, true, nil)
	problem(t, err, 403, "administrators")
	_, err = w.as("ines").JournalHead(ctx)
	problem(t, err, 403, "administrators")
	w.says("admin", 1, "holds no head", "journal", "verify", "--head", w.file("other.json", "{}"))
	// Heads that are sent out regularly, a line each, are as good.
	sent := filepath.Join(t.TempDir(), "heads")
	sending, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { defer close(done); w.service.Audit.SendHeads(sending, sent, time.Second) }()
	for range 400 {
		if text, _ := os.ReadFile(sent); strings.Count(string(text), "\n") > 1 {
			break
		}
		pause()
	}
	stop()
	<-done
	w.says("admin", 0, "goes on from the head", "journal", "verify", "--head", sent)
}
