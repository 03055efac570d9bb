// Package signing keeps the service's key and signs with it: statements about landings and heads of the journal.
//
// It promises that what it opens was signed by this key and not altered since. What a statement says is the caller's.
package signing

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/crypto/ssh"

	"tavrin/internal/core/journal"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/wire"
)

// Key is the service's signing key, Ed25519 (RFC 8032).
type Key struct{ private ed25519.PrivateKey }

// Open reads the key of a file, or makes it at the first start. The file holds the seed.
func Open(path string) (*Key, error) {
	seed, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		seed = newSeed()
		err = os.WriteFile(path, seed, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("read the signing key: %w", err)
	}
	if len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf("the signing key in %s has %d bytes, not %d", path, len(seed), ed25519.SeedSize)
	}
	return &Key{ed25519.NewKeyFromSeed(seed)}, nil
}

// Replace makes a key where none is. Statements and heads that were signed with the one that is lost stay as they are.
func Replace(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there: a new key is made only in the place of one that is lost", path)
	}
	if err != nil {
		return err
	}
	_, err = f.Write(newSeed())
	return errors.Join(err, f.Sync(), f.Close())
}

func newSeed() []byte {
	seed := make([]byte, ed25519.SeedSize)
	rand.Read(seed) // it never fails
	return seed
}

func (k *Key) public() ed25519.PublicKey { return k.private.Public().(ed25519.PublicKey) }

// Public returns the public key, in Base64.
func (k *Key) Public() string { return base64.StdEncoding.EncodeToString(k.public()) }

// ssh is the key as OpenSSH has it.
func (k *Key) ssh() ssh.Signer {
	s, err := ssh.NewSignerFromKey(k.private)
	if err != nil {
		panic(err) // an Ed25519 key is one that it knows
	}
	return s
}

// SSH returns the public key as a line for a file of allowed signers (ssh-keygen, ALLOWED SIGNERS), without the name.
func (k *Key) SSH() string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k.ssh().PublicKey())))
}

// Fingerprint returns the public key's fingerprint, as ssh-keygen shows it.
func (k *Key) Fingerprint() string { return ssh.FingerprintSHA256(k.ssh().PublicKey()) }

// Commit signs the text of a commit. The same text is signed the same way each time.
func (k *Key) Commit(text string) (string, error) { return git.SignCommit(text, k.ssh()) }

// envelope is a DSSE envelope (https://github.com/secure-systems-lab/dsse): what was signed and the signatures.
type envelope struct {
	PayloadType string      `json:"payloadType"`
	Payload     string      `json:"payload"`
	Signatures  []signature `json:"signatures"`
}

type signature struct {
	KeyID string `json:"keyid"`
	Sig   string `json:"sig"`
}

// preAuthentication is what the signature of an envelope is over.
func preAuthentication(payloadType string, payload []byte) []byte {
	return fmt.Appendf(nil, "DSSEv1 %d %s %d %s", len(payloadType), payloadType, len(payload), payload)
}

// Seal signs a payload and puts it into a DSSE envelope.
func (k *Key) Seal(payloadType string, payload []byte) (string, error) {
	id := sha256.Sum256(k.public())
	sig := ed25519.Sign(k.private, preAuthentication(payloadType, payload))
	out, err := json.Marshal(envelope{
		PayloadType: payloadType, Payload: base64.StdEncoding.EncodeToString(payload),
		Signatures: []signature{{KeyID: hex.EncodeToString(id[:]), Sig: base64.StdEncoding.EncodeToString(sig)}},
	})
	return string(out), err
}

// Payload returns what an envelope holds, whoever signed it.
func Payload(text string) ([]byte, error) {
	_, payload, err := opened(text)
	return payload, err
}

func opened(text string) (envelope, []byte, error) {
	var e envelope
	if err := json.Unmarshal([]byte(text), &e); err != nil {
		return e, nil, fmt.Errorf("read an envelope: %w", err)
	}
	payload, err := base64.StdEncoding.DecodeString(e.Payload)
	if err != nil {
		return e, nil, fmt.Errorf("read the payload of an envelope: %w", err)
	}
	return e, payload, nil
}

// Sealed says whether an envelope carries a signature of this key that fits it.
func (k *Key) Sealed(text string) bool {
	e, payload, err := opened(text)
	if err != nil || len(e.Signatures) != 1 {
		return false
	}
	sig, err := base64.StdEncoding.DecodeString(e.Signatures[0].Sig)
	return err == nil && ed25519.Verify(k.public(), preAuthentication(e.PayloadType, payload), sig)
}

// Opened returns what an envelope holds that carries this key's signature and is of a type.
func (k *Key) Opened(payloadType, text string) ([]byte, error) {
	e, payload, err := opened(text)
	switch {
	case err != nil:
		return nil, err
	case !k.Sealed(text):
		return nil, errors.New("it does not carry this service's signature")
	case e.PayloadType != payloadType:
		return nil, fmt.Errorf("it is of type %q, not %q", e.PayloadType, payloadType)
	}
	return payload, nil
}

// HeadText is what the signature of a journal's head is over.
func HeadText(h journal.Head) []byte {
	return fmt.Appendf(nil, "tavrin journal head\n%d\n%s\n", h.Seq, h.Hash)
}

// Head signs the head of the journal.
func (k *Key) Head(h journal.Head) wire.SignedHead {
	return wire.SignedHead{
		JournalHead: h, PublicKey: k.Public(), SSHKey: k.SSH(),
		Signature: base64.StdEncoding.EncodeToString(ed25519.Sign(k.private, HeadText(h))),
	}
}

// IsOurs refuses a head that this key did not sign.
func (k *Key) IsOurs(h wire.SignedHead) error {
	sig, err := base64.StdEncoding.DecodeString(h.Signature)
	switch {
	case h.PublicKey != k.Public():
		return problem.New(problem.Invalid, "the head was signed with the key %s, and this service's is %s: "+
			"it is of another service, or the key was replaced", h.PublicKey, k.Public())
	case err != nil || !ed25519.Verify(k.public(), HeadText(h.JournalHead), sig):
		return problem.New(problem.Invalid, "the head's signature does not fit it: the file was altered")
	}
	return nil
}
