package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/client"
	"tavrin/wire"
)

// sshKey makes a key pair and returns the file of its private part.
func (w *town) sshKey(kind string, more ...string) string {
	w.t.Helper()
	file := filepath.Join(w.t.TempDir(), "id_"+kind)
	if out, err := exec.Command("ssh-keygen", append([]string{"-q", "-t", kind, "-N", "", "-C", "somebody", "-f", file}, more...)...).CombinedOutput(); err != nil {
		w.t.Fatalf("%v: %s", err, out)
	}
	return file
}

// signedCommit commits as commit does, signed by an SSH key.
func (w *town) signedCommit(login, dir, key, path, text, message string) string {
	w.t.Helper()
	w.ok(os.WriteFile(filepath.Join(dir, path), []byte(text), 0o644))
	w.must(login, dir, "add", "-A")
	w.must(login, dir, "-c", "gpg.format=ssh", "-c", "user.signingkey="+key+".pub", "commit", "-q", "-S", "-m", message)
	return w.must(login, dir, "rev-parse", "HEAD")
}

func (w *town) addKey(login, file string) wire.Key {
	w.t.Helper()
	text, err := os.ReadFile(file + ".pub")
	w.ok(err)
	k, err := w.as(login).AddKey(w.t.Context(), "work", string(text))
	w.ok(err)
	return k
}

// Commits signed with git itself, by keys of several kinds; whose they are is our own table's to say, at every moment.
func TestSignedCommits(t *testing.T) {
	w := newTown(t)
	w.begin(requiring("signed: every commit"))
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	ed, rsa, ecdsa := w.sshKey("ed25519"), w.sshKey("rsa", "-b", "2048"), w.sshKey("ecdsa")
	for i, key := range []string{ed, rsa, ecdsa} {
		w.signedCommit("tamsin", dir, key, "a", fmt.Sprint(i), fmt.Sprint("commit ", i))
	}
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	w.stands(k, "signed", "missing", "is signed by a key that nobody has registered here")
	registered := w.addKey("tamsin", ed)
	w.addKey("tamsin", rsa)
	if q := w.requirement(k, "signed"); q.Have != 2 || q.Need != 3 {
		t.Errorf("two of three keys are registered: %+v", q)
	}
	w.addKey("wren", ecdsa)
	w.stands(k, "signed", "met", "")
	revisions, err := w.as("pavo").Revisions(t.Context(), repo, k.Number)
	w.ok(err)
	if c := revisions[0].Commits; c[0].SignedBy != "wren" || c[1].SignedBy != "tamsin" || c[2].Signature != "signed" {
		t.Errorf("commits are shown as %+v", c)
	}
	// A key that is removed counts no more; nor does one of somebody who has lost their access.
	w.ok(w.as("tamsin").RemoveKey(t.Context(), registered.ID))
	w.stands(k, "signed", "missing", "nobody has registered")
	w.addKey("tamsin", ed)
	w.disable("wren", true)
	w.stands(k, "signed", "missing", "signed by wren, who has no access any more")
	w.disable("wren", false)
	// A signature that is taken over to another commit does not fit it.
	raw := w.must("tamsin", dir, "cat-file", "commit", "HEAD")
	forged := strings.Replace(raw, "commit 2", "commit two", 1)
	cmd := exec.Command("git", "-C", dir, "hash-object", "-t", "commit", "-w", "--stdin")
	cmd.Stdin = strings.NewReader(forged)
	id, err := cmd.Output()
	w.ok(err)
	w.must("tamsin", dir, "push", "-q", "--force", "origin", strings.TrimSpace(string(id))+":refs/heads/topic")
	k = w.until(k, "at revision 2", func(k wire.Change) bool { return k.Revision == 2 })
	w.stands(k, "signed", "missing", "has a signature that does not fit it")
	// One made for another purpose does not count, though it is over the commit's very text.
	w.must("tamsin", dir, "reset", "-q", "--hard", "origin/main")
	w.commit("tamsin", dir, "e", "e\n", "for another purpose")
	plain := w.must("tamsin", dir, "cat-file", "commit", "HEAD") + "\n"
	sign := exec.Command("ssh-keygen", "-q", "-Y", "sign", "-n", "file", "-f", ed)
	sign.Stdin = strings.NewReader(plain)
	armored, err := sign.Output()
	w.ok(err)
	header, message, _ := strings.Cut(plain, "\n\n")
	cmd = exec.Command("git", "-C", dir, "hash-object", "-t", "commit", "-w", "--stdin")
	cmd.Stdin = strings.NewReader(header + "\ngpgsig " + strings.ReplaceAll(strings.TrimSpace(string(armored)), "\n", "\n ") + "\n\n" + message)
	id, err = cmd.Output()
	w.ok(err)
	w.must("tamsin", dir, "push", "-q", "--force", "origin", strings.TrimSpace(string(id))+":refs/heads/other")
	other := w.openChange("tamsin", "other")
	w.stands(other, "signed", "missing", "has a signature that does not fit it")
	// Nor does one of a kind that is not verified here.
	pgp := "-----BEGIN PGP SIGNATURE-----\n \n iHUEABYKAB0=\n -----END PGP SIGNATURE-----"
	cmd = exec.Command("git", "-C", dir, "hash-object", "-t", "commit", "-w", "--stdin")
	cmd.Stdin = strings.NewReader(header + "\ngpgsig " + pgp + "\n\n" + message)
	id, err = cmd.Output()
	w.ok(err)
	w.must("tamsin", dir, "push", "-q", "--force", "origin", strings.TrimSpace(string(id))+":refs/heads/other")
	other = w.until(other, "at revision 2", func(k wire.Change) bool { return k.Revision == 2 })
	w.stands(other, "signed", "missing", "signed in a way that is not verified here (OpenPGP or X.509")
	// Nor does an unsigned commit.
	w.must("tamsin", dir, "fetch", "-q")
	w.must("tamsin", dir, "checkout", "-q", "topic")
	w.must("tamsin", dir, "reset", "-q", "--hard", "origin/topic~1")
	w.commit("tamsin", dir, "b", "b\n", "unsigned")
	w.must("tamsin", dir, "push", "-q", "--force", "origin", "topic")
	k = w.until(k, "at revision 3", func(k wire.Change) bool { return k.Revision == 3 })
	w.stands(k, "signed", "missing", "is not signed")
	// A direct push is held to it too.
	w.apply(requiring("signed: every commit") + "    push: role:writer\n")
	straight := w.clone("tamsin")
	w.signedCommit("tamsin", straight, ed, "c", "c\n", "straight in")
	w.must("tamsin", straight, "push", "-q", "origin", "main")
	w.commit("tamsin", straight, "d", "d\n", "unsigned")
	if out, err := w.gitAs("tamsin", straight, "push", "origin", "main"); err == nil || !strings.Contains(out, "is not signed") {
		t.Errorf("pushed: %v\n%s", err, out)
	}
}

func TestKeyCommandsAndBadKeys(t *testing.T) {
	w := newTown(t)
	ed := w.sshKey("ed25519")
	w.says("tamsin", 0, "registered ssh-ed25519 SHA256:", "key", "add", ed+".pub")
	w.says("wren", 1, "is registered already", "key", "add", ed+".pub")
	w.says("tamsin", 1, "this is a private key", "key", "add", ed)
	w.says("tamsin", 0, "id_ed25519.pub", "key", "list")
	w.says("odo", 0, "ssh-ed25519", "key", "list", "--login", "tamsin")
	w.says("odo", 1, "no key 1 of yours", "key", "remove", "1")
	w.says("odo", 1, "no person or robot", "key", "list", "--login", "nosuch")
	for _, bad := range []string{"", "hello", "ssh-ed25519 AAAA", `command="x" ` + read(t, ed+".pub"), read(t, ed+".pub") + read(t, w.sshKey("ecdsa")+".pub")} {
		_, err := w.as("odo").AddKey(t.Context(), "x", bad)
		problem(t, err, 422, "not one SSH public key")
	}
	_, err := w.as("odo").AddKey(t.Context(), "x", read(t, w.sshKey("rsa", "-b", "1024")+".pub"))
	problem(t, err, 422, "1024 bits; at least 2048")
	_, err = w.as("builder").AddKey(t.Context(), "x", read(t, w.sshKey("ed25519")+".pub"))
	if _, ok := err.(*client.Problem); !ok {
		t.Errorf("a robot registered a key: %v", err)
	}
	w.says("tamsin", 0, "", "key", "remove", "1")
}

func read(t *testing.T, file string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
