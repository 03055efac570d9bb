package accounts

import (
	"cmp"
	"context"
	"crypto/rsa"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"tavrin/internal/core/event"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// minRSA is the smallest RSA key accepted, in bits.
const minRSA = 2048

// AddKey registers a public key of the actor's own, by which they sign commits.
func (s *People) AddKey(ctx context.Context, a Actor, name, text string) (wire.Key, error) {
	switch {
	case !a.Known():
		return wire.Key{}, problem.New(problem.SignInNeeded, "sign in first: set TAVRIN_TOKEN")
	case a.account.Robot:
		return wire.Key{}, problem.New(problem.Forbidden, "%s is a robot, and signatures are people's", a.Login())
	case a.scope != ScopeAll:
		return wire.Key{}, problem.New(problem.Forbidden, "this token cannot register keys; it takes one of scope all")
	}
	if err := typed.Line("name", name, 1, 80); err != nil {
		return wire.Key{}, err
	}
	key, _, options, rest, err := ssh.ParseAuthorizedKey([]byte(text))
	if strings.Contains(text, "PRIVATE KEY") {
		return wire.Key{}, problem.Wrong("key", "this is a private key: keep it to yourself, and make a new one, "+
			"since it has been sent; give the file that ends in .pub")
	}
	if err != nil || len(options) > 0 || strings.TrimSpace(string(rest)) != "" {
		return wire.Key{}, problem.Wrong("key", "this is not one SSH public key: one line, such as ssh-ed25519 "+
			"AAAA…, from a file that ends in .pub")
	}
	if k, ok := key.(ssh.CryptoPublicKey); ok {
		if bits := rsaBits(k); bits > 0 && bits < minRSA {
			return wire.Key{}, problem.Wrong("key", "the RSA key has %d bits; at least %d", bits, minRSA)
		}
	}
	row := records.AccountKey{AccountID: a.account.ID, Name: name, Fingerprint: ssh.FingerprintSHA256(key),
		Text: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))), CreatedAt: s.records.Now()}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Create(&row).Error; err != nil {
			return records.OrTaken(err, "the key %s is registered already", row.Fingerprint)
		}
		return tx.Record(a.Login(), nil, event.KeyAdded{Login: a.Login(), Fingerprint: row.Fingerprint, Key: row.Text})
	})
	return keyView(row, a.Login()), err
}

// rsaBits returns the length of an RSA key; 0 for other kinds.
func rsaBits(k ssh.CryptoPublicKey) int {
	if key, ok := k.CryptoPublicKey().(*rsa.PublicKey); ok {
		return key.N.BitLen()
	}
	return 0
}

func keyView(r records.AccountKey, login string) wire.Key {
	kind, _, _ := strings.Cut(r.Text, " ")
	return wire.Key{ID: r.ID, Login: login, Name: r.Name, Kind: kind, Fingerprint: r.Fingerprint,
		CreatedAt: r.CreatedAt}
}

// Keys lists the registered keys of a person; of oneself when login is empty.
func (s *People) Keys(ctx context.Context, a Actor, login string) ([]wire.Key, error) {
	if !a.Known() {
		return nil, problem.New(problem.SignInNeeded, "sign in to see keys")
	}
	if login == "" {
		login = a.Login()
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	account, err := AccountByLogin(db, login)
	if err != nil {
		return nil, err
	}
	if known, err := knows(db, a, "people"); err != nil || known != nil && !slices.Contains(known, account.ID) {
		// the same, whether there is or not
		return nil, cmp.Or(err, problem.New(problem.Unknown, "there is no person or robot %q", login))
	}
	var rows []records.AccountKey
	err = db.Where("account_id = ? AND removed_at IS NULL", account.ID).Order("id").Find(&rows).Error
	out := []wire.Key{}
	for _, r := range rows {
		out = append(out, keyView(r, login))
	}
	return out, err
}

// RemoveKey removes a key: one's own, or, for administrators, anybody's. What it signed counts no more.
func (s *People) RemoveKey(ctx context.Context, a Actor, id int64) error {
	if !a.Known() {
		return problem.New(problem.SignInNeeded, "sign in first: set TAVRIN_TOKEN")
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		var row records.AccountKey
		query := tx.Where("id = ? AND removed_at IS NULL", id)
		if !a.account.Admin {
			query = query.Where("account_id = ?", a.account.ID)
		}
		if err := query.First(&row).Error; err != nil {
			return records.OrUnknown(err, "there is no key %d of yours: tavrin key list", id)
		}
		if a.scope != ScopeAll {
			return problem.New(problem.Forbidden, "this token cannot remove keys; it takes one of scope all")
		}
		if err := tx.Model(&row).Update("removed_at", s.records.Now()).Error; err != nil {
			return err
		}
		return tx.Record(a.Login(), nil, event.KeyRemoved{Key: id, Fingerprint: row.Fingerprint})
	})
}
