package runner

import (
	"strings"
	"testing"
)

func TestTailKeepsTheEnd(t *testing.T) {
	k := &tail{max: 20}
	for _, line := range []string{"first\n", "second\n", "third\n", "fourth\n"} {
		if n, err := k.Write([]byte(line)); n != len(line) || err != nil {
			t.Fatal(n, err)
		}
	}
	if got := k.String(); got != "… (the beginning was left out)\nthird\nfourth\n" {
		t.Errorf("kept %q", got)
	}
	short := &tail{max: 20}
	short.Write([]byte("all of it\n"))
	if got := short.String(); got != "all of it\n" {
		t.Errorf("kept %q", got)
	}
}

func TestTailSaysWhenThereIsTooMuch(t *testing.T) {
	called := 0
	k := &tail{max: 10, full: func() { called++ }}
	block := []byte(strings.Repeat("x", 1<<20))
	for range maxOutput>>20 + 2 {
		k.Write(block)
	}
	if called == 0 || len(k.buf) > 10 {
		t.Errorf("full was called %d times, %d bytes are kept", called, len(k.buf))
	}
}
