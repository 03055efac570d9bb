package git

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"
)

// KeySignature is what a commit's signature shows by itself. Whose key it is, is not Git's to know.
type KeySignature struct {
	// Key is the SHA-256 fingerprint of the key, such as ssh-keygen shows it; empty when the signature is of a kind
	// that is not read (OpenPGP, X.509), or does not fit the commit.
	Key string
	// Bad says why the signature does not fit the commit; empty: it fits, or is of a kind that is not read.
	Bad string
}

// Signature reads the commit's signature; signed says whether it carries one, of whatever kind.
func (c Commit) Signature() (s KeySignature, signed bool) {
	header, _, _ := strings.Cut(c.raw, "\n\n")
	if !strings.Contains(header, "\ngpgsig ") && !strings.Contains(header, "\ngpgsig-sha256 ") {
		return KeySignature{}, false
	}
	return readSignature(c.raw), true
}

// SignCommit adds a signature in the format of OpenSSH (PROTOCOL.sshsig) to the text of a commit that has none, as
// "git commit -S" does. With an Ed25519 key the same text is signed the same way each time.
func SignCommit(text string, key ssh.Signer) (string, error) {
	sum := sha512.Sum512([]byte(text))
	signed := ssh.Marshal(struct{ Namespace, Reserved, Hash, Digest string }{"git", "", "sha512", string(sum[:])})
	made, err := key.Sign(rand.Reader, append([]byte("SSHSIG"), signed...))
	if err != nil {
		return "", fmt.Errorf("sign a commit: %w", err)
	}
	blob := ssh.Marshal(struct {
		Magic                                           [6]byte
		Version                                         uint32
		PublicKey, Namespace, Reserved, Hash, Signature string
	}{[6]byte([]byte("SSHSIG")), 1, string(key.PublicKey().Marshal()), "git", "", "sha512", string(ssh.Marshal(made))})
	armored := strings.TrimSuffix(string(pem.EncodeToMemory(&pem.Block{Type: "SSH SIGNATURE", Bytes: blob})), "\n")
	header, message, _ := strings.Cut(text, "\n\n")
	return header + "\ngpgsig " + strings.ReplaceAll(armored, "\n", "\n ") + "\n\n" + message, nil
}

// tagSignature begins the signature of a tag, which stands at the end of its text (gitformat-signature).
const tagSignature = "-----BEGIN "

// readTagSignature takes a tag's text apart into signature and what was signed, and looks whether they fit.
func readTagSignature(tag string) (s KeySignature, signed bool) {
	at := strings.LastIndex(tag, "\n"+tagSignature)
	if at < 0 {
		return KeySignature{}, false
	}
	return fits(tag[at+1:], tag[:at+1]), true
}

// readSignature takes a commit's text apart into signature and what was signed, and looks whether they fit.
func readSignature(commit string) KeySignature {
	header, message, _ := strings.Cut(commit, "\n\n")
	var signature, payload strings.Builder
	inside := false
	for line := range strings.SplitSeq(header, "\n") {
		if text, begins := strings.CutPrefix(line, "gpgsig "); begins {
			inside = true
			signature.WriteString(text + "\n")
			continue
		}
		if inside && strings.HasPrefix(line, " ") {
			signature.WriteString(line[1:] + "\n")
			continue
		}
		inside = false
		payload.WriteString(line + "\n")
	}
	payload.WriteString("\n" + message)
	return fits(signature.String(), payload.String())
}

// fits looks whether a signature is one of a text.
func fits(signature, payload string) KeySignature {
	key, err := verifySSH(signature, payload)
	switch {
	case errors.Is(err, errNotSSH):
		return KeySignature{}
	case err != nil:
		return KeySignature{Bad: err.Error()}
	}
	return KeySignature{Key: ssh.FingerprintSHA256(key)}
}

var errNotSSH = errors.New("not an SSH signature")

// verifySSH verifies a signature in the format of OpenSSH (PROTOCOL.sshsig) over a commit's text, and returns its key.
func verifySSH(armored, payload string) (ssh.PublicKey, error) {
	block, _ := pem.Decode([]byte(armored))
	if block == nil || block.Type != "SSH SIGNATURE" {
		return nil, errNotSSH
	}
	var s struct {
		Magic     [6]byte
		Version   uint32
		PublicKey string
		Namespace string
		Reserved  string
		Hash      string
		Signature string
	}
	if err := ssh.Unmarshal(block.Bytes, &s); err != nil || string(s.Magic[:]) != "SSHSIG" || s.Version != 1 {
		return nil, errors.New("it is not of the form of an SSH signature")
	}
	if s.Namespace != "git" {
		return nil, fmt.Errorf("it was made for %q, not for git", s.Namespace)
	}
	var digest []byte
	switch s.Hash {
	case "sha256":
		sum := sha256.Sum256([]byte(payload))
		digest = sum[:]
	case "sha512":
		sum := sha512.Sum512([]byte(payload))
		digest = sum[:]
	default:
		return nil, fmt.Errorf("its hash %q is not one of sha256 and sha512", s.Hash)
	}
	key, err := ssh.ParsePublicKey([]byte(s.PublicKey))
	if err != nil {
		return nil, errors.New("its key cannot be read")
	}
	var made ssh.Signature
	if err := ssh.Unmarshal([]byte(s.Signature), &made); err != nil {
		return nil, errors.New("it is not of the form of an SSH signature")
	}
	if made.Format == ssh.KeyAlgoRSA { // SHA-1
		return nil, errors.New("it was made with SHA-1, which is too weak")
	}
	signed := ssh.Marshal(struct{ Namespace, Reserved, Hash, Digest string }{s.Namespace, s.Reserved, s.Hash,
		string(digest)})
	if err := key.Verify(append([]byte("SSHSIG"), signed...), &made); err != nil {
		return nil, errors.New("it does not fit the commit")
	}
	return key, nil
}
