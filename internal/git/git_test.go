package git

import (
	"strings"
	"testing"
)

func TestCheckRef(t *testing.T) {
	bad := []string{"", "refs/", "refs/heads", "refs/heads/", "refs/heads/../x", "refs/heads/a..b", "refs/heads/.a", "refs/heads/a.lock",
		"refs/heads/a b", "refs/heads/a\x00b", "refs/heads/a~1", "refs/heads/a^", "refs/heads/a:b", "refs/heads/a?", "refs/heads/a*",
		"refs/heads/a[", "refs/heads/a\\b", "refs/heads//a", "refs/heads/a/", "refs/heads/a@{b", "refs/heads/a.", "refs/heads/a\u202eb", "refs/heads/a\u200b", "refs/heads/\xff", "heads/a", "refs/heads/" + strings.Repeat("x", 300)}
	for _, ref := range bad {
		if CheckRef(ref) == nil {
			t.Errorf("%q was accepted", ref)
		}
	}
	for _, ref := range []string{"refs/heads/main", "refs/heads/feature/ä-1", "refs/tags/v1.0", "refs/heads/-x"} {
		if err := CheckRef(ref); err != nil {
			t.Error(err)
		}
	}
	for _, name := range []string{"-x", "HEAD", "refs/heads/x", ""} {
		if CheckBranch(name) == nil {
			t.Errorf("branch %q was accepted", name)
		}
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
