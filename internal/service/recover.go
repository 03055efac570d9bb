package service

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"tavrin/internal/core/journal"
	"tavrin/internal/store"
)

// What is done on the machine itself, where no service runs: whoever can write to the folder has it already, so that access to it
// is the proof. Each is put on record.

// recoveredToken is how long a token lives that was made on the machine.
const recoveredToken = 24 * time.Hour

// RecoverAdmin makes an administrator who can sign in: login is made one, taken back into use, or made where there is none. The
// answer is a new token of theirs.
func (s *Service) RecoverAdmin(ctx context.Context, login string) (string, error) {
	if !loginForm.MatchString(login) || login == itself {
		return "", invalid("login", "%q is not a login: lower-case letters, digits and \"-\", at most 39, and not %q", login, itself)
	}
	token := secret()
	return token, s.write(ctx, func(tx *tx) error {
		account, err := accountByLogin(tx.DB, login)
		var p *Problem
		switch {
		case errors.As(err, &p):
			account = store.Account{Login: login, Name: login, Email: login + "@tavrin.invalid", CreatedAt: s.now()}
			err = tx.Create(&account).Error
		case err == nil && account.Robot:
			err = problem(Invalid, "%s is a robot, and a robot cannot be an administrator", login)
		}
		if err != nil {
			return err
		}
		if err := tx.Model(&account).Updates(map[string]any{"admin": true, "disabled": false}).Error; err != nil {
			return err
		}
		expires := s.now().Add(recoveredToken)
		t := store.Token{AccountID: account.ID, Name: "made on the machine", Hash: digest(token), Scope: string(ScopeAll), ExpiresAt: &expires, CreatedAt: s.now()}
		if err := tx.Create(&t).Error; err != nil {
			return err
		}
		return tx.record(event{actor: itself, kind: "admin.recovered", subject: "person/" + login,
			text: fmt.Sprintf("somebody with access to the service's folder made %s an administrator with a new token (%d)", login, t.ID)})
	})
}

// NewKey makes a signing key where none is. Statements and heads that were signed with the one that is lost stay as they are.
func NewKey(dir string) error {
	path := filepath.Join(dir, keyName)
	if _, err := os.Stat(filepath.Join(dir, recordsName)); err != nil {
		return fmt.Errorf("%s holds no service's records: %w", dir, err)
	}
	seed := make([]byte, ed25519.SeedSize)
	rand.Read(seed)
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there: a new key is made only in the place of one that is lost", path)
	}
	if err != nil {
		return err
	}
	_, err = f.Write(seed)
	return errors.Join(err, f.Sync(), f.Close())
}

// NoteNewKey puts on record that the service signs with another key from now on.
func (s *Service) NoteNewKey(ctx context.Context) (string, error) {
	public := base64.StdEncoding.EncodeToString(s.key.Public().(ed25519.PublicKey))
	return public, s.write(ctx, func(tx *tx) error {
		return tx.record(event{actor: itself, kind: "key.replaced", subject: "service", text: "the signing key was lost, and a new one was made: statements from now on are signed with " + public,
			data: map[string]any{"public_key": public}})
	})
}

// AcceptLoss makes a folder one that can be served although its marks say that something is missing. The records have to be whole
// as far as they go: what is damaged is not accepted.
func AcceptLoss(ctx context.Context, dir string) error {
	path := filepath.Join(dir, recordsName)
	if _, err := os.Stat(path); err != nil {
		return fmt.Errorf("%s holds no service's records: %w", dir, err)
	}
	lock, err := lockDir(dir)
	if err != nil {
		return err
	}
	defer lock.Close()
	db, err := sql.Open("sqlite3", path)
	if err != nil {
		return err
	}
	defer db.Close()
	found := ""
	if err := db.QueryRowContext(ctx, "PRAGMA integrity_check").Scan(&found); err != nil || found != "ok" {
		return fmt.Errorf("the records are damaged and cannot be gone on with; restore a backup: %s %w", found, err)
	}
	marks, err := filepath.Glob(filepath.Join(dir, "repositories", "*", markName))
	if err != nil {
		return err
	}
	for _, m := range append(marks, filepath.Join(dir, markName), filepath.Join(dir, runningName)) {
		if err := os.Remove(m); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// NoteLoss puts on record that a loss was accepted, and returns what does not agree with the journal.
func (s *Service) NoteLoss(ctx context.Context) ([]string, error) {
	v := verification{s: s, story: journal.NewStory()}
	err := v.lines(s.store.Read(ctx))
	if err == nil {
		err = v.refs(ctx)
	}
	if err != nil {
		return nil, err
	}
	return v.found, s.write(ctx, func(tx *tx) error {
		return tx.record(event{actor: itself, kind: "service.loss-accepted", subject: "service",
			text: fmt.Sprintf("somebody with access to the service's folder accepted that what came after line %d of the journal is lost; %d branches and tags are not where it says", v.chain.Head().Seq, len(v.found)),
			data: map[string]any{"seq": v.chain.Head().Seq, "found": v.found[:min(len(v.found), mostFindings)]}})
	})
}
