package service

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/store"
	"tavrin/wire"
)

// What ends when a token is revoked or runs out, or an account is taken out of use: everything that was begun with it. Calls
// find that out by themselves, since each asks anew who it is; what lasts longer than a call asks again: streams and pushes by
// Still, leases whenever they are used and in every round of the queue.

// Still refuses an actor whose token, session or account is no good any more.
func (s *Service) Still(ctx context.Context, a Actor) error {
	if !a.Known() {
		return nil
	}
	db := s.store.Read(ctx)
	over := problem(SignInNeeded, "your token has ended, or your account was taken out of use")
	if a.sessionHash != "" {
		var n int64
		if err := db.Model(&store.Session{}).Where("hash = ? AND expires_at > ?", a.sessionHash, s.now()).Count(&n).Error; err != nil || n == 0 {
			return cmp.Or(err, over)
		}
	}
	good, err := s.goodToken(db, a.token)
	if err != nil || good {
		return err
	}
	return over
}

// goodTokens selects the tokens that may be used at a time, @now.
const goodTokens = "SELECT t.id FROM tokens t JOIN accounts a ON a.id = t.account_id WHERE t.revoked_at IS NULL AND (t.expires_at IS NULL OR t.expires_at >= @now) AND NOT a.disabled"

// goodToken says whether a token may be used now.
func (s *Service) goodToken(db *gorm.DB, id int64) (bool, error) {
	var n int64
	err := db.Raw("SELECT count(*) FROM ("+goodTokens+" AND t.id = @id)", sql.Named("now", s.now()), sql.Named("id", id)).Scan(&n).Error
	return n > 0, err
}

// noteRefusal puts on record that a token was shown that is good no more: somebody has kept it. Once an hour is enough to know.
func (s *Service) noteRefusal(ctx context.Context, t store.Token, login, why string) {
	if t.RefusedAt != nil && s.now().Sub(*t.RefusedAt) < time.Hour {
		return
	}
	err := s.write(ctx, func(tx *tx) error {
		changed := tx.Model(&store.Token{}).Where("id = ? AND (refused_at IS NULL OR refused_at < ?)", t.ID, s.now().Add(-time.Hour)).Update("refused_at", s.now())
		if changed.Error != nil || changed.RowsAffected == 0 {
			return changed.Error
		}
		return tx.record(event{actor: itself, kind: "token.refused", subject: fmt.Sprintf("token/%d", t.ID),
			text: fmt.Sprintf("token %d, %q, of %s was shown, and %s", t.ID, t.Name, login, why)})
	})
	if err != nil {
		s.log.Warn("a refused token could not be put on record", "token", t.ID, "error", err)
	}
}

// NoteShutOut puts on record that too many sign-ins failed from one address.
func (s *Service) NoteShutOut(ctx context.Context, address string) error {
	return s.write(ctx, func(tx *tx) error {
		return tx.record(event{actor: itself, kind: "signin.shut-out", subject: "address/" + address, text: fmt.Sprintf("too many sign-ins from %s failed", address)})
	})
}

// SetDisabled takes an account out of use, or back into it. Whatever was begun with its tokens ends, and the tokens with it: an
// account that comes back needs new ones. The answer says what ended, and what still names the account.
func (s *Service) SetDisabled(ctx context.Context, a Actor, login string, disabled bool) (wire.Disabled, error) {
	out := wire.Disabled{Login: login, Disabled: disabled, NamedBy: []string{}}
	if err := a.mustAdminister("disabling accounts"); err != nil {
		return out, err
	}
	err := s.write(ctx, func(tx *tx) error {
		account, err := accountByLogin(tx.DB, login)
		if err != nil {
			return err
		}
		if account.ID == a.account.ID && disabled {
			return problem(Invalid, "you cannot disable yourself")
		}
		if err := tx.Model(&account).Update("disabled", disabled).Error; err != nil {
			return err
		}
		if disabled {
			if err := s.endAll(tx, account, &out); err != nil {
				return err
			}
		}
		word := map[bool]string{true: "disabled", false: "enabled"}[disabled]
		return tx.record(event{actor: a.Login(), kind: "account." + word, subject: "account/" + login, text: fmt.Sprintf("%s %s %s", a.Login(), word, login),
			data: map[string]any{"tokens": out.Tokens, "sessions": out.Sessions, "leases": out.Leases}})
	})
	if err != nil || !disabled {
		return out, err
	}
	out.NamedBy, err = s.namedBy(s.store.Read(ctx), login)
	return out, err
}

// endAll ends the tokens of an account, and its sessions, leases and feed with them.
func (s *Service) endAll(tx *tx, account store.Account, out *wire.Disabled) error {
	var tokens []int64
	if err := tx.Model(&store.Token{}).Where("account_id = ?", account.ID).Pluck("id", &tokens).Error; err != nil {
		return err
	}
	sessions := tx.Where("token_id IN ?", tokens).Delete(&store.Session{})
	if sessions.Error != nil {
		return sessions.Error
	}
	leases, err := s.endLeases(tx, tokens)
	if err != nil {
		return err
	}
	revoked := tx.Model(&store.Token{}).Where("account_id = ? AND revoked_at IS NULL", account.ID).Update("revoked_at", s.now())
	feeds := tx.Model(&store.Feed{}).Where("account_id = ? AND revoked_at IS NULL", account.ID).Update("revoked_at", s.now())
	out.Tokens, out.Sessions, out.Leases, out.Feeds = int(revoked.RowsAffected), int(sessions.RowsAffected), leases, int(feeds.RowsAffected)
	return cmp.Or(revoked.Error, feeds.Error)
}

// endLeases gives the jobs back that were leased with some tokens.
func (s *Service) endLeases(tx *tx, tokens []int64) (int, error) {
	var runs []store.CheckRun
	if err := tx.Where("state = 'running' AND lease_hash <> '' AND lease_token IN ?", tokens).Find(&runs).Error; err != nil {
		return 0, err
	}
	for _, run := range runs {
		if err := s.giveBack(tx, run, "the token of its runner has ended"); err != nil {
			return 0, err
		}
	}
	return len(runs), nil
}

// namedBy says where an account is still named: by rules in force, teams, roles and open changes.
func (s *Service) namedBy(db *gorm.DB, login string) ([]string, error) {
	out := []string{}
	var documents []struct {
		Name, Text string
		Version    int
	}
	err := db.Raw(`SELECT coalesce(r.name, h.name) AS name, v.text, v.version FROM rules_versions v LEFT JOIN repositories r ON r.id = v.repository_id LEFT JOIN houses h ON h.id = v.house_id
WHERE v.version = (SELECT max(version) FROM rules_versions o WHERE o.repository_id IS v.repository_id AND o.house_id IS v.house_id) ORDER BY 1`).Scan(&documents).Error
	if err != nil {
		return nil, err
	}
	word := regexp.MustCompile(`(person|robot):` + regexp.QuoteMeta(login) + `([^a-z0-9-]|$)`)
	for _, d := range documents {
		var lines []string
		for i, line := range slices.Collect(strings.Lines(d.Text)) {
			if word.MatchString(line) {
				lines = append(lines, fmt.Sprint(i+1))
			}
		}
		if len(lines) > 0 {
			out = append(out, fmt.Sprintf("the rules of %s (version %d), line %s", d.Name, d.Version, strings.Join(lines, ", ")))
		}
	}
	for _, q := range []string{
		"SELECT 'team ' || t.name FROM team_members m JOIN teams t ON t.id = m.team_id JOIN accounts a ON a.id = m.account_id WHERE a.login = ? ORDER BY 1",
		"SELECT 'team ' || t.name || ', which they keep' FROM team_keepers k JOIN teams t ON t.id = k.team_id JOIN accounts a ON a.id = k.account_id WHERE a.login = ? ORDER BY 1",
		"SELECT 'the role ' || g.role || ' in ' || coalesce(r.name, h.name) FROM grants g JOIN accounts a ON a.id = g.account_id LEFT JOIN repositories r ON r.id = g.repository_id LEFT JOIN houses h ON h.id = g.house_id WHERE a.login = ? ORDER BY 1",
		"SELECT r.name || ' change ' || c.number || ', which they opened' FROM changes c JOIN repositories r ON r.id = c.repository_id WHERE c.opened_by = ? AND c.state IN ('draft', 'open') ORDER BY c.id LIMIT 100",
	} {
		var found []string
		if err := db.Raw(q, login).Scan(&found).Error; err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	return out, nil
}
