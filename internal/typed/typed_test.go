package typed

import (
	"strings"
	"testing"
)

func TestMask(t *testing.T) {
	token := TokenPrefix + "ABCDEFGHIJKLMNOP2345"
	for text, want := range map[string]string{
		"x " + token + " y": "x tvr_… y", "url=" + token + "\n": "url=tvr_…\n", "tvr_short": "tvr_short", "nothing": "nothing", token + token: "tvr_…tvr_…",
	} {
		if got := Mask(text); got != want {
			t.Errorf("%q is masked as %q", text, got)
		}
	}
}

func TestTextIsChecked(t *testing.T) {
	for text, ok := range map[string]bool{
		"fine": true, "": false, "a\nb": false, "a\x00b": false, "a\x1b[31m": false, "\xff": false, strings.Repeat("ü", 10): true, strings.Repeat("ü", 11): false,
	} {
		if err := Line("title", text, 1, 10); (err == nil) != ok {
			t.Errorf("%q: %v", text, err)
		}
	}
	for text, ok := range map[string]bool{"": true, "a\nb\tc": true, "\x00": false, "\xff": false, strings.Repeat("x", 21): false} {
		if err := Prose("description", text, 20); (err == nil) != ok {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestShortened(t *testing.T) {
	if got := Shortened("a\n\tb  \xff " + strings.Repeat("ü", 400)); len([]rune(got)) != 301 || !strings.HasPrefix(got, "a b \uFFFD ü") {
		t.Errorf("got %q", got)
	}
}
