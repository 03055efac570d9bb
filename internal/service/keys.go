package service

import (
	"cmp"
	"context"
	"crypto/rsa"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/store"
	"tavrin/wire"
)

// minRSA is the smallest RSA key accepted, in bits.
const minRSA = 2048

// AddKey registers a public key of the actor's own, by which they sign commits.
func (s *Service) AddKey(ctx context.Context, a Actor, name, text string) (wire.Key, error) {
	switch {
	case !a.Known():
		return wire.Key{}, problem(SignInNeeded, "sign in first: set TAVRIN_TOKEN")
	case a.account.Robot:
		return wire.Key{}, problem(Forbidden, "%s is a robot, and signatures are people's", a.Login())
	case a.scope != ScopeAll:
		return wire.Key{}, problem(Forbidden, "this token cannot register keys; it takes one of scope all")
	}
	if err := line("name", name, 1, 80); err != nil {
		return wire.Key{}, err
	}
	key, _, options, rest, err := ssh.ParseAuthorizedKey([]byte(text))
	if strings.Contains(text, "PRIVATE KEY") {
		return wire.Key{}, invalid("key", "this is a private key: keep it to yourself, and make a new one, since it has been sent; give the file that ends in .pub")
	}
	if err != nil || len(options) > 0 || strings.TrimSpace(string(rest)) != "" {
		return wire.Key{}, invalid("key", "this is not one SSH public key: one line, such as ssh-ed25519 AAAA…, from a file that ends in .pub")
	}
	if k, ok := key.(ssh.CryptoPublicKey); ok {
		if bits := rsaBits(k); bits > 0 && bits < minRSA {
			return wire.Key{}, invalid("key", "the RSA key has %d bits; at least %d", bits, minRSA)
		}
	}
	row := store.AccountKey{AccountID: a.account.ID, Name: name, Fingerprint: ssh.FingerprintSHA256(key), Text: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))), CreatedAt: s.now()}
	err = s.write(ctx, func(tx *tx) error {
		if err := tx.Create(&row).Error; err != nil {
			return taken(err, "the key %s is registered already", row.Fingerprint)
		}
		return tx.record(event{actor: a.Login(), kind: "key.added", subject: "account/" + a.Login(), text: fmt.Sprintf("%s registered the key %s", a.Login(), row.Fingerprint),
			data: map[string]any{"fingerprint": row.Fingerprint, "key": row.Text}})
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

func keyView(r store.AccountKey, login string) wire.Key {
	kind, _, _ := strings.Cut(r.Text, " ")
	return wire.Key{ID: r.ID, Login: login, Name: r.Name, Kind: kind, Fingerprint: r.Fingerprint, CreatedAt: r.CreatedAt}
}

// Keys lists the registered keys of a person; of oneself when login is empty.
func (s *Service) Keys(ctx context.Context, a Actor, login string) ([]wire.Key, error) {
	if !a.Known() {
		return nil, problem(SignInNeeded, "sign in to see keys")
	}
	if login == "" {
		login = a.Login()
	}
	db := s.store.Read(ctx)
	account, err := accountByLogin(db, login)
	if err != nil {
		return nil, err
	}
	if known, err := s.knows(db, a, "people"); err != nil || known != nil && !slices.Contains(known, account.ID) {
		return nil, cmp.Or(err, problem(Unknown, "there is no person or robot %q", login)) // the same, whether there is or not
	}
	var rows []store.AccountKey
	err = db.Where("account_id = ? AND removed_at IS NULL", account.ID).Order("id").Find(&rows).Error
	out := []wire.Key{}
	for _, r := range rows {
		out = append(out, keyView(r, login))
	}
	return out, err
}

// RemoveKey takes a key out of use: one's own, or, for administrators, anybody's. What it signed counts no more.
func (s *Service) RemoveKey(ctx context.Context, a Actor, id int64) error {
	if !a.Known() {
		return problem(SignInNeeded, "sign in first: set TAVRIN_TOKEN")
	}
	return s.write(ctx, func(tx *tx) error {
		var row store.AccountKey
		query := tx.Where("id = ? AND removed_at IS NULL", id)
		if !a.account.Admin {
			query = query.Where("account_id = ?", a.account.ID)
		}
		if err := query.First(&row).Error; err != nil {
			return orUnknown(err, "there is no key %d of yours: tavrin key list", id)
		}
		if a.scope != ScopeAll {
			return problem(Forbidden, "this token cannot remove keys; it takes one of scope all")
		}
		if err := tx.Model(&row).Update("removed_at", s.now()).Error; err != nil {
			return err
		}
		return tx.record(event{actor: a.Login(), kind: "key.removed", subject: fmt.Sprintf("key/%d", id), text: fmt.Sprintf("%s removed the key %s", a.Login(), row.Fingerprint),
			data: map[string]any{"fingerprint": row.Fingerprint}})
	})
}

// gateCommits are the commits of a revision, or of a push, as the gate knows them: each signature with whose key it is by
// our own table, at this moment.
func gateCommits(db *gorm.DB, repo int64, rows []store.BroughtCommit) ([]gate.Commit, error) {
	var keys []string
	for _, r := range rows {
		if r.Key != "" {
			keys = append(keys, r.Key)
		}
	}
	owners := map[string]string{}
	if len(keys) > 0 {
		var found []struct{ Fingerprint, Login string }
		err := db.Raw("SELECT k.fingerprint, a.login FROM account_keys k JOIN accounts a ON a.id = k.account_id WHERE k.removed_at IS NULL AND k.fingerprint IN ?", keys).Scan(&found).Error
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			owners[f.Fingerprint] = f.Login
		}
	}
	var claims []string
	for _, r := range rows {
		if r.Reserved != "" {
			claims = append(claims, r.ID)
		}
	}
	landed, err := landedAmong(db, repo, claims)
	if err != nil {
		return nil, err
	}
	out := make([]gate.Commit, len(rows))
	for i, r := range rows {
		out[i] = gate.Commit{ID: r.ID, Message: r.Message, Parents: r.Parents, Reserved: r.Reserved, Landed: landed[r.ID]}
		switch {
		case r.BadSignature != "":
			out[i].Signature.State = gate.BadlyMade
		case r.Key != "" && owners[r.Key] != "":
			out[i].Signature = gate.Signature{State: gate.Good, By: owners[r.Key]}
		case r.Key != "":
			out[i].Signature.State = gate.UnknownKey
		case r.Signed:
			out[i].Signature.State = gate.Unread
		}
	}
	return out, nil
}

// landedAmong says which of the commits the records know as landed.
func landedAmong(db *gorm.DB, repo int64, commits []string) (map[string]bool, error) {
	landed := map[string]bool{}
	for chunk := range slices.Chunk(commits, 500) {
		var some []string
		if err := db.Model(&store.LandedCommit{}).Where("repository_id = ? AND commit_id IN ?", repo, chunk).Pluck("commit_id", &some).Error; err != nil {
			return nil, err
		}
		for _, id := range some {
			landed[id] = true
		}
	}
	return landed, nil
}
