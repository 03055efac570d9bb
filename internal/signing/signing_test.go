package signing

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/internal/core/journal"
)

func open(t *testing.T, path string) *Key {
	t.Helper()
	k, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// What a key sealed it opens after a restart, and nobody else's, nor what was altered.
func TestSealed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "signing.key")
	k := open(t, path)
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key's file is %v, %v", info.Mode(), err)
	}
	text, err := k.Seal("application/vnd.in-toto+json", []byte(`{"landed":true}`))
	if err != nil {
		t.Fatal(err)
	}
	other := open(t, filepath.Join(t.TempDir(), "signing.key"))
	if !open(t, path).Sealed(text) || other.Sealed(text) {
		t.Error("it is not told whose it is")
	}
	for _, altered := range []string{strings.Replace(text, "eyJ", "eyK", 1), strings.Replace(text, "in-toto", "in-tutu", 1), "{}", "", text[:len(text)-1]} {
		if k.Sealed(altered) {
			t.Errorf("%q is taken for sealed", altered)
		}
	}
}

func TestHeadsAreOurs(t *testing.T) {
	k, other := open(t, filepath.Join(t.TempDir(), "a")), open(t, filepath.Join(t.TempDir(), "b"))
	head := k.Head(journal.Head{Seq: 7, Hash: "abc"})
	if err := k.IsOurs(head); err != nil {
		t.Error(err)
	}
	if err := k.IsOurs(other.Head(head.JournalHead)); err == nil || !strings.Contains(err.Error(), "of another service") {
		t.Errorf("another's: %v", err)
	}
	head.Seq = 8
	if err := k.IsOurs(head); err == nil || !strings.Contains(err.Error(), "was altered") {
		t.Errorf("altered: %v", err)
	}
}

func TestKeysAreNotReplacedByMistake(t *testing.T) {
	path := filepath.Join(t.TempDir(), "signing.key")
	if err := Replace(path); err != nil {
		t.Fatal(err)
	}
	was := open(t, path).Public()
	if err := Replace(path); err == nil || open(t, path).Public() != was {
		t.Errorf("a key that is there was replaced: %v", err)
	}
	if err := os.WriteFile(path, []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil || !strings.Contains(err.Error(), "has 5 bytes") {
		t.Errorf("a broken key: %v", err)
	}
}
