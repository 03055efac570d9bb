package webhook

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// The names of the headers of a delivery, as the Standard Webhooks specification has them (standardwebhooks.com, 1.0.0).
const (
	HeaderID        = "webhook-id"
	HeaderTimestamp = "webhook-timestamp"
	HeaderSignature = "webhook-signature"
)

const (
	// SecretPrefix begins every secret.
	SecretPrefix = "whsec_"
	// SecretBytes is the length of a secret that the service makes; given ones have from 24 to 64 bytes.
	SecretBytes = 32
	// Overlap is how long deliveries carry the signatures of both secrets after one was replaced.
	Overlap = 24 * time.Hour
	// Tolerance is how far a delivery's time may be from the receiver's.
	Tolerance = 5 * time.Minute
)

// NewSecret writes random bytes as a secret.
func NewSecret(random []byte) string {
	return SecretPrefix + base64.StdEncoding.EncodeToString(random)
}

// key returns the bytes of a secret.
func key(secret string) ([]byte, error) {
	b, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, SecretPrefix))
	if err != nil || len(b) < 24 || len(b) > 64 {
		return nil, fmt.Errorf("a secret is %s and the base64 of 24 to 64 bytes", SecretPrefix)
	}
	return b, nil
}

// ValidSecret says what is wrong with a secret.
func ValidSecret(secret string) error {
	_, err := key(secret)
	if err == nil && !strings.HasPrefix(secret, SecretPrefix) {
		err = fmt.Errorf("a secret begins with %s", SecretPrefix)
	}
	return err
}

// Sign returns the signature header of a delivery: version 1, HMAC-SHA256 over id, time and body, by each of the secrets.
func Sign(id string, at time.Time, body []byte, secrets ...string) (string, error) {
	var out []string
	for _, secret := range secrets {
		k, err := key(secret)
		if err != nil {
			return "", err
		}
		mac := hmac.New(sha256.New, k)
		fmt.Fprintf(mac, "%s.%d.", id, at.Unix())
		mac.Write(body)
		out = append(out, "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
	}
	return strings.Join(out, " "), nil
}

// Verify says whether a delivery was signed by a secret, at a time near now; nil: it was.
func Verify(secret, id, timestamp, signature string, body []byte, now time.Time) error {
	seconds, err := strconv.ParseInt(timestamp, 10, 64)
	if id == "" || err != nil || signature == "" {
		return fmt.Errorf("it is not signed: %s, %s or %s is missing", HeaderID, HeaderTimestamp, HeaderSignature)
	}
	at := time.Unix(seconds, 0)
	if d := now.Sub(at); d > Tolerance || d < -Tolerance {
		return fmt.Errorf("it was signed at %s, which is more than %s from now", at.UTC().Format(time.RFC3339), Tolerance)
	}
	want, err := Sign(id, at, body, secret)
	if err != nil {
		return err
	}
	for one := range strings.FieldsSeq(signature) {
		if hmac.Equal([]byte(one), []byte(want)) {
			return nil
		}
	}
	return fmt.Errorf("it was signed by another secret")
}
