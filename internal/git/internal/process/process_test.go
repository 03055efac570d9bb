package process

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"tavrin/internal/bounds"
)

// committed makes a repository with one commit of some files.
func committed(t *testing.T, files map[string]string) (dir, commit string) {
	t.Helper()
	dir = t.TempDir()
	place := (&Program{Home: dir}).At(dir)
	run := func(stdin string, args ...string) string {
		t.Helper()
		out, err := place.Run(t.Context(), strings.NewReader(stdin), args...)
		if err != nil {
			t.Fatal(err)
		}
		return strings.TrimSpace(string(out))
	}
	run("", "init", "-q", "--bare", "-b", "main")
	var entries strings.Builder
	for _, name := range slices.Sorted(maps.Keys(files)) {
		fmt.Fprintf(&entries, "100644 blob %s\t%s\n", run(files[name], "hash-object", "-w", "--stdin"), name)
	}
	commit = run("", "-c", "user.name=Ines Varga", "-c", "user.email=ines@fennmoor.example", "commit-tree", "-m", "start",
		run(entries.String(), "mktree"))
	run("", "update-ref", "refs/heads/main", commit)
	return dir, commit
}

// A process that takes too long, says too much or has to wait too long is ended, with its children, and the bound is named.
func TestProcessesAreBounded(t *testing.T) {
	dir, head := committed(t, map[string]string{"a": strings.Repeat("a\n", 5000), "b": strings.Repeat("b", 100)})
	p := &Program{Home: t.TempDir()}
	p.bounds().GitOutput, p.bounds().GitSeconds = 100, 1
	r := p.At(dir)
	if _, err := r.Run(t.Context(), nil, "cat-file", "blob", head+":a"); err == nil || !strings.Contains(err.Error(), "git.output-bytes") {
		t.Errorf("too much was read: %v", err)
	}
	begin := time.Now()
	// An alias runs a shell, whose child outlives a signal to the shell alone.
	err := r.Stream(t.Context(), nil, new(bytes.Buffer), "-c", "alias.linger=!sleep 600 & echo $! > "+dir+"/pid; wait", "linger")
	if err == nil || !strings.Contains(err.Error(), "git.seconds") {
		t.Errorf("it was not ended: %v", err)
	}
	if took := time.Since(begin); took > 30*time.Second {
		t.Errorf("it took %s to be ended", took)
	}
	for range 100 { // the child is gone with it
		if err := alive(dir + "/pid"); err != nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if err := alive(dir + "/pid"); err == nil {
		t.Error("its child lives on")
	}
	// A transfer may take longer than other work.
	p.bounds().GitSeconds, p.bounds().GitTransferSeconds = 1, 2
	for args, want := range map[string]string{"upload-pack .": "git.transfer-seconds is 2", "cat-file --batch": "git.seconds is 1"} {
		silent, hold, err := os.Pipe() // somebody who says nothing
		if err != nil {
			t.Fatal(err)
		}
		err = r.Stream(t.Context(), silent, new(bytes.Buffer), strings.Fields(args)...)
		hold.Close()
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s was not ended: %v", args, err)
		}
	}
	p.bounds().GitSeconds = 120
	if out, err := r.Run(t.Context(), nil, "cat-file", "blob", head+":b"); err != nil || len(out) != 100 {
		t.Errorf("just as much as may be is not read: %d, %v", len(out), err)
	}
	p.bounds().GitMemory = 1 << 20
	if _, err := r.Run(t.Context(), nil, "log", "--stat"); err == nil {
		t.Error("it had the memory that it was not to have")
	}
}

// Processor time is counted apart from the time on the clock. A git that toils is one that stands before it in the path.
func TestProcessorTimeIsBounded(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(dir+"/git", []byte("#!/bin/sh\nwhile :; do :; done\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	p := &Program{Home: t.TempDir()}
	p.bounds().GitCPUSeconds = 1
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	var reached *bounds.Reached
	if _, err := p.At(dir).Run(t.Context(), nil, "log"); !errors.As(err, &reached) || reached.Name != "git.cpu-seconds" {
		t.Errorf("it was not ended: %v", err)
	}
}

// Nobody takes more turns than one may have, and an operation of several processes takes one.
func TestTurns(t *testing.T) {
	p := &Program{Home: t.TempDir()}
	p.bounds().GitProcesses, p.bounds().GitPersonProcesses = 2, 1
	wren := For(t.Context(), "wren")
	inside, leave, err := p.Enter(wren)
	if err != nil {
		t.Fatal(err)
	}
	if _, again, err := p.Enter(inside); err != nil {
		t.Errorf("an operation waits for itself: %v", err)
	} else {
		again()
	}
	late, cancel := context.WithCancel(wren)
	cancel()
	if _, _, err := p.Enter(late); err == nil || !strings.Contains(err.Error(), "git.person-processes") {
		t.Errorf("wren took two turns: %v", err)
	}
	_, other, err := p.Enter(For(t.Context(), "odo"))
	if err != nil {
		t.Fatalf("one keeps the other out: %v", err)
	}
	leave()
	other()
	if _, again, err := p.Enter(wren); err != nil {
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
			_, leave, err := p.Enter(For(t.Context(), who))
			if err != nil {
				t.Fatal(err)
			}
			leaves = append(leaves, leave)
		}
		if _, _, err := p.Enter(For(t.Context(), "tamsin")); err == nil || !strings.Contains(err.Error(), "the bound git.processes is 2") {
			t.Errorf("three have two turns: %v", err)
		}
		leaves[0]()
		if _, leave, err := p.Enter(For(t.Context(), "tamsin")); err != nil {
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
	dir, head := committed(t, map[string]string{"a": "a\n"})
	p := &Program{Home: t.TempDir()}
	for range 20 {
		h, err := p.At(dir).Help(For(t.Context(), "wren"), "cat-file", "--batch")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := h.Object(head, "commit"); err != nil {
			t.Fatal(err)
		}
		h.cmd.Process.Kill()
		if _, err := h.Object(head, "commit"); err == nil {
			t.Error("a dead helper answers")
		}
		h.Close()
		h.Close()
	}
	if len(p.turns.people) != 0 || !p.turns.all.TryAcquire(p.bounds().GitProcesses) {
		t.Error("a turn was not given back")
	}
}
