package main

import (
	"os"
	"path/filepath"
	"testing"
)

// What of the reference is made from the code is up to date.
func TestReferenceIsCurrent(t *testing.T) {
	files, err := reference()
	if err != nil || len(files) < 8 {
		t.Fatalf("%d pages, %v", len(files), err)
	}
	for name, fresh := range files {
		kept, err := os.ReadFile(filepath.Join("../../docs/reference", name))
		if err != nil || string(fresh) != string(kept) {
			t.Errorf("docs/reference/%s is out of date: make docs (%v)", name, err)
		}
	}
}
