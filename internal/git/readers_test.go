package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"tavrin/internal/bounds"
)

// What people put into a commit cannot look like the end of it, like another, or like something that Git says.
func TestCommitsAreReadAsStored(t *testing.T) {
	w := newWorkshop(t)
	w.write("a", "a\n")
	first := w.commit("start")
	tree := w.git("rev-parse", first+"^{tree}")
	raw := func(text string) string {
		w.t.Helper()
		out, err := w.tryWith(strings.NewReader(text), "hash-object", "-t", "commit", "-w", "--stdin", "--literally")
		if err != nil {
			t.Fatal(err, out)
		}
		return strings.TrimSpace(out)
	}
	head := "tree " + tree + "\nparent " + first + "\nauthor Odo <odo@fennmoor.example> 1700000000 +0200\ncommitter Ines <ines@fennmoor.example> 1700000001 +0000\n"
	cases := []struct {
		name, text, subject, body, author string
		when                              int64
	}{
		{"a byte 1 in the message", head + "\nopen\x01the valve\n\nbody\x01\n", "open\x01the valve", "body\x01", "Odo", 1700000000},
		{"what looks like another commit", head + "\nopen\n\n" + strings.Repeat("0", 40) + " commit 3\nabc\n", "open", strings.Repeat("0", 40) + " commit 3\nabc", "Odo", 1700000000},
		{"no message", head + "\n", "", "", "Odo", 1700000000},
		{"a subject of two lines", head + "\nopen\nwide\n\nbody\n", "open wide", "body", "Odo", 1700000000},
		{"Latin-1", head + "encoding ISO-8859-1\n\n\xe4gypten\n", "ägypten", "", "Odo", 1700000000},
		{"an unknown encoding", head + "encoding x-nothing\n\n\xe4\n", "\uFFFD", "", "Odo", 1700000000},
		{"a year that cannot be written", "tree " + tree + "\nauthor A <a> 99999999999999 +0000\ncommitter A <a> 5 +0000\n\nx\n", "x", "", "A", -62135596800},
		{"an author without end", "tree " + tree + "\nauthor A > <<b> 7 +0000\ncommitter\n\nx\n", "x", "", "A >", 7},
		{"parents that are none", head + "parent 0000\nnote parent\n\nx\n", "x", "", "Odo", 1700000000},
	}
	var ids []string
	for _, c := range cases {
		ids = append(ids, raw(c.text))
	}
	for i, id := range ids {
		w.git("update-ref", fmt.Sprintf("refs/heads/odd%d", i), id)
	}
	w.push()
	got, err := w.repo.Commits(t.Context(), ids)
	if err != nil {
		t.Fatal(err)
	}
	for i, c := range cases {
		k := got[i]
		if k.ID != ids[i] || k.Subject != c.subject || k.Body != c.body || k.Author.Name != c.author || k.Author.When.Unix() != c.when {
			t.Errorf("%s: %+v", c.name, k)
		}
		if !strings.HasPrefix(c.name, "a year") && !strings.HasPrefix(c.name, "an author") && (len(k.Parents) != 1 || k.Parents[0] != first) {
			t.Errorf("%s: parents are %v", c.name, k.Parents)
		}
		if y := k.Author.When.Year(); y > 9999 || y < 1 {
			t.Errorf("%s: the year %d cannot be written down", c.name, y)
		}
	}
	log, err := w.repo.LogAll(t.Context(), ids[0], []string{first}, "change.commits")
	if err != nil || len(log) != 1 || log[0].ID != ids[0] {
		t.Errorf("log is %v, %v", log, err)
	}
}

func FuzzParseCommit(f *testing.F) {
	f.Add("tree x\nparent y\nauthor A <a> 1 +0000\ncommitter B <b> 2 +0000\nencoding latin1\ngpgsig -----BEGIN SSH SIGNATURE-----\n x\n -----END SSH SIGNATURE-----\n\nsubject\n\nbody\nApproved-by: x\n")
	f.Add("\n\n\x00")
	f.Fuzz(func(t *testing.T, text string) {
		c := parseCommit(strings.Repeat("a", 40), text)
		if _, err := c.Author.When.MarshalJSON(); err != nil {
			t.Error(err)
		}
		if strings.Contains(c.Subject, "\n") {
			t.Errorf("subject is %q", c.Subject)
		}
		for _, s := range []string{c.Subject, c.Body, c.Author.Name, c.Author.Email, c.CommitterEmail} {
			if strings.ToValidUTF8(s, "?") != s {
				t.Errorf("%q is not UTF-8", s)
			}
		}
		c.Signature()
		c.Reserved()
		h := readHeader(text)
		again := pick{tree: h.tree, parents: h.parents, author: h.author, message: h.message}.replayed("t", "p", Signature{Name: "x", When: time.Unix(0, 0)})
		if k := parseCommit("", again); k.Reserved() != "" && h.encoding == "" {
			t.Errorf("a replayed commit claims %s: %q", k.Reserved(), again)
		}
	})
}

func FuzzReadListed(f *testing.F) {
	f.Add(strings.Repeat("a", 40) + " blob 12\n")
	f.Fuzz(func(t *testing.T, line string) {
		id, kind, size, ok := readListed(line)
		if ok && (!IsID(id) || size < 0 || !strings.HasPrefix(line, id+" "+kind+" ")) {
			t.Errorf("%q was read as %s %s %d", line, id, kind, size)
		}
	})
}

func FuzzReadTree(f *testing.F) {
	f.Add("100644 a\x00" + strings.Repeat("x", 20) + "40000 b\x00" + strings.Repeat("y", 20))
	f.Fuzz(func(t *testing.T, text string) {
		for left := text; left != ""; {
			_, id, rest, ok := readEntry(left)
			if !ok {
				return
			}
			if len(rest) >= len(left) || !IsID(id) {
				t.Fatalf("%q was read as %s with %q left", left, id, rest)
			}
			left = rest
		}
	})
}

func FuzzReadRawNumstat(f *testing.F) {
	id := strings.Repeat("a", 40)
	f.Add(":100644 100644 " + id + " " + id + " M\x00a\x001\t2\ta\x00")
	f.Add(":100644 100644 " + id + " " + id + " R090\x00a\x00b\x00-\t-\t\x00a\x00b\x00" + id)
	f.Fuzz(func(t *testing.T, out string) {
		files, left, err := readRawNumstat(out)
		if err == nil && (len(left) > len(out) || len(files)*44 > len(out)) {
			t.Errorf("%d files of %d bytes, %d left", len(files), len(out), len(left))
		}
	})
}

func FuzzReadMerge(f *testing.F) {
	id := strings.Repeat("a", 40)
	f.Add(id + "\x00100644 " + id + " 1\ta\x00160000 " + id + " 2\ta\x00")
	f.Fuzz(func(t *testing.T, out string) {
		tree, stages, _, ok := readMerge(out)
		if !ok {
			return
		}
		if !IsID(tree) {
			t.Errorf("the tree is %q", tree)
		}
		if e := conflictOf(stages); len(stages) > 0 && (len(e.Files) == 0 || len(e.Text) != len(e.Files)) {
			t.Errorf("%q conflicts in nothing", out)
		}
	})
}

// A process that takes too long, says too much or has to wait too long is ended, with its children, and the bound is named.
func TestProcessesAreBounded(t *testing.T) {
	w := newWorkshop(t)
	w.write("a", strings.Repeat("a\n", 5000))
	w.write("b", strings.Repeat("b", 100))
	head := w.commit("start")
	w.push()
	p := &Program{Home: w.t.TempDir(), Bounds: w.repo.program.Bounds}
	p.bounds().GitOutput, p.bounds().GitSeconds = 100, 1
	r := p.Open(w.repo.dir)
	if _, err := r.run(t.Context(), nil, "cat-file", "blob", head+":a"); err == nil || !strings.Contains(err.Error(), "git.output-bytes") {
		t.Errorf("too much was read: %v", err)
	}
	begin := time.Now()
	// An alias runs a shell, whose child outlives a signal to the shell alone.
	err := r.stream(t.Context(), nil, new(bytes.Buffer), "-c", "alias.linger=!sleep 600 & echo $! > "+w.dir+"/pid; wait", "linger")
	if err == nil || !strings.Contains(err.Error(), "git.seconds") {
		t.Errorf("it was not ended: %v", err)
	}
	if took := time.Since(begin); took > 30*time.Second {
		t.Errorf("it took %s to be ended", took)
	}
	for range 100 { // the child is gone with it
		if err := alive(w.dir + "/pid"); err != nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if err := alive(w.dir + "/pid"); err == nil {
		t.Error("its child lives on")
	}
	// A transfer may take longer than other work.
	p.bounds().GitSeconds, p.bounds().GitTransferSeconds = 1, 2
	for args, want := range map[string]string{"upload-pack .": "git.transfer-seconds is 2", "cat-file --batch": "git.seconds is 1"} {
		silent, hold, err := os.Pipe() // somebody who says nothing
		if err != nil {
			t.Fatal(err)
		}
		err = r.stream(t.Context(), silent, new(bytes.Buffer), strings.Fields(args)...)
		hold.Close()
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s was not ended: %v", args, err)
		}
	}
	p.bounds().GitSeconds = 120
	if out, err := r.run(t.Context(), nil, "cat-file", "blob", head+":b"); err != nil || len(out) != 100 {
		t.Errorf("just as much as may be is not read: %d, %v", len(out), err)
	}
	p.bounds().GitMemory = 1 << 20
	if _, err := r.run(t.Context(), nil, "log", "--stat"); err == nil {
		t.Error("it had the memory that it was not to have")
	}
}

// Processor time is counted apart from the time on the clock. A git that toils is one that stands before it in the path.
func TestProcessorTimeIsBounded(t *testing.T) {
	w := newWorkshop(t)
	dir := t.TempDir()
	if err := os.WriteFile(dir+"/git", []byte("#!/bin/sh\nwhile :; do :; done\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	p := &Program{Home: t.TempDir()}
	p.bounds().GitCPUSeconds = 1
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	var reached *bounds.Reached
	if _, err := p.Open(w.repo.dir).run(t.Context(), nil, "log"); !errors.As(err, &reached) || reached.Name != "git.cpu-seconds" {
		t.Errorf("it was not ended: %v", err)
	}
}

// Nobody takes more turns than one may have, and an operation of several processes takes one.
func TestTurns(t *testing.T) {
	p := &Program{Home: t.TempDir()}
	p.bounds().GitProcesses, p.bounds().GitPersonProcesses = 2, 1
	wren := For(t.Context(), "wren")
	inside, leave, err := p.enter(wren)
	if err != nil {
		t.Fatal(err)
	}
	if _, again, err := p.enter(inside); err != nil {
		t.Errorf("an operation waits for itself: %v", err)
	} else {
		again()
	}
	late, cancel := context.WithCancel(wren)
	cancel()
	if _, _, err := p.enter(late); err == nil || !strings.Contains(err.Error(), "git.person-processes") {
		t.Errorf("wren took two turns: %v", err)
	}
	_, other, err := p.enter(For(t.Context(), "odo"))
	if err != nil {
		t.Fatalf("one keeps the other out: %v", err)
	}
	leave()
	other()
	if _, again, err := p.enter(wren); err != nil {
		t.Errorf("a turn was not given back: %v", err)
	} else {
		again()
	}
	if len(p.turns.people) != 0 {
		t.Errorf("%d people are remembered", len(p.turns.people))
	}
}

// All together have no more turns than there are, and who waits for one too long is told.
func TestTurnsOfAll(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &Program{Home: t.TempDir()}
		p.bounds().GitProcesses = 2
		var leaves []func()
		for _, who := range []string{"wren", "odo"} {
			_, leave, err := p.enter(For(t.Context(), who))
			if err != nil {
				t.Fatal(err)
			}
			leaves = append(leaves, leave)
		}
		if _, _, err := p.enter(For(t.Context(), "tamsin")); err == nil || !strings.Contains(err.Error(), "the bound git.processes is 2") {
			t.Errorf("three have two turns: %v", err)
		}
		leaves[0]()
		if _, leave, err := p.enter(For(t.Context(), "tamsin")); err != nil {
			t.Errorf("a turn was not given back: %v", err)
		} else {
			leave()
		}
		leaves[1]()
	})
}

// alive says whether the process lives whose number is in a file.
func alive(file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		return err
	}
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", n))
	if err != nil {
		return err
	}
	if strings.Contains(string(status), ") Z ") {
		return errors.New("it has ended")
	}
	return nil
}

// A helper that dies in the middle of an answer is an error, once, for whoever asked it; its turn is given back once.
func TestAHelperThatDies(t *testing.T) {
	w := newWorkshop(t)
	w.write("a", "a\n")
	head := w.commit("start")
	w.push()
	for range 20 {
		h, err := w.repo.startHelper(For(t.Context(), "wren"), "cat-file", "--batch")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := h.object(head, "commit"); err != nil {
			t.Fatal(err)
		}
		h.cmd.Process.Kill()
		if _, err := h.object(head, "commit"); err == nil {
			t.Error("a dead helper answers")
		}
		h.close()
		h.close()
	}
	if p := w.repo.program; len(p.turns.people) != 0 || !p.turns.all.TryAcquire(p.bounds().GitProcesses) {
		t.Error("a turn was not given back")
	}
}
