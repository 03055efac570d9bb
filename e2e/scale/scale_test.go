package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The smallest size is made, is a service whose journal agrees with its records and branches, and everything that is measured of the
// large one can be measured of it. What the figures are is no matter of a test's.
func TestTheSmallestSize(t *testing.T) {
	program := filepath.Join(t.TempDir(), "tavrin")
	if out, err := exec.Command("go", "build", "-o", program, "tavrin/cmd/tavrin").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	s, err := sizeNamed("tiny")
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "tiny")
	if err := makeIn(t.Context(), dir, s); err != nil {
		t.Fatal(err)
	}
	figures, err := measure(t.Context(), dir, program, s, "start,reading,queue,rules,audit,disk")
	if err != nil {
		t.Fatal(err)
	}
	if len(figures) < 30 {
		t.Errorf("%d figures were measured", len(figures))
	}
	for _, f := range figures {
		if f.Name == "the journal verified, from its beginning" && !strings.Contains(f.Note, " lines") {
			t.Errorf("the journal was verified: %+v", f)
		}
	}
	folder := t.TempDir()
	text, err := json.Marshal(figures)
	if err != nil {
		t.Fatal(err)
	}
	page := filepath.Join(folder, "page.md")
	for file, content := range map[string][]byte{filepath.Join(folder, "tiny.json"): text, page: []byte("before\n" + tableBegins + "\nold\n" + tableEnds + "\nafter\n")} {
		if err := os.WriteFile(file, content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := table(folder, page); err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	for _, part := range []string{"before\n", "after\n", "| what | goal, large | tiny |", "| the list of repositories | 100 |", "all entries"} {
		if !strings.Contains(string(got), part) {
			t.Errorf("the table lacks %q:\n%s", part, got)
		}
	}
}
