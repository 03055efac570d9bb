package accounts

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// SetDisabled disables an account, or enables it again. Whatever was begun with its tokens ends, and the tokens
// with it: an account that comes back needs new ones. The answer says what ended, and what still names the account.
func (s *People) SetDisabled(ctx context.Context, a Actor, login string, disabled bool) (wire.Disabled, error) {
	out := wire.Disabled{Login: login, Disabled: disabled, NamedBy: []string{}}
	if err := a.MustAdminister("disabling accounts"); err != nil {
		return out, err
	}
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		account, err := accountFor(tx.DB, a, login)
		if err != nil {
			return err
		}
		if account.ID == a.account.ID && disabled {
			return problem.New(problem.Invalid, "you cannot disable yourself")
		}
		if err := tx.Model(&account).Update("disabled", disabled).Error; err != nil {
			return err
		}
		if disabled {
			if err := s.endAll(tx, account, &out); err != nil {
				return err
			}
		}
		if !disabled {
			return tx.Record(a.Login(), nil, event.AccountEnabled{Login: login})
		}
		return tx.Record(a.Login(), nil, event.AccountDisabled{Login: login, Tokens: out.Tokens, Sessions: out.Sessions,
			Leases: out.Leases})
	})
	if err != nil || !disabled {
		return out, err
	}
	out.NamedBy, err = namedBy(s.records.Read(ctx), login)
	return out, err
}

// endAll ends the tokens of an account, and its sessions, leases and feed with them.
func (s *People) endAll(tx *records.Tx, account records.Account, out *wire.Disabled) error {
	var tokens []int64
	if err := tx.Model(&records.Token{}).Where("account_id = ?", account.ID).Pluck("id", &tokens).Error; err != nil {
		return err
	}
	sessions := tx.Where("token_id IN ?", tokens).Delete(&records.Session{})
	if sessions.Error != nil {
		return sessions.Error
	}
	leases, err := s.access.ended(tx, tokens)
	if err != nil {
		return err
	}
	revoked := tx.Model(&records.Token{}).Where("account_id = ? AND revoked_at IS NULL",
		account.ID).Update("revoked_at", s.records.Now())
	feeds := tx.Model(&records.Feed{}).Where("account_id = ? AND revoked_at IS NULL", account.ID).Update("revoked_at",
		s.records.Now())
	out.Tokens, out.Sessions, out.Leases, out.Feeds = int(revoked.RowsAffected), int(sessions.RowsAffected), leases, int(feeds.RowsAffected)
	return cmp.Or(revoked.Error, feeds.Error)
}

// namedBy says where an account is still named: by rules in force, teams, roles and open changes.
func namedBy(db *gorm.DB, login string) ([]string, error) {
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
	word := people.Named(login)
	for _, d := range documents {
		var lines []string
		for i, line := range slices.Collect(strings.Lines(d.Text)) {
			if word.MatchString(line) {
				lines = append(lines, fmt.Sprint(i+1))
			}
		}
		if len(lines) > 0 {
			out = append(out, fmt.Sprintf("the rules of %s (version %d), line %s", d.Name, d.Version,
				strings.Join(lines, ", ")))
		}
	}
	for _, q := range []string{
		"SELECT 'team ' || t.name FROM team_members m JOIN teams t ON t.id = m.team_id JOIN accounts a ON a.id = " +
			"m.account_id WHERE a.login = ? ORDER BY 1",
		"SELECT 'team ' || t.name || ', which they manage' FROM team_managers k JOIN teams t ON t.id = k.team_id JOIN " +
			"accounts a ON a.id = k.account_id WHERE a.login = ? ORDER BY 1",
		"SELECT 'the role ' || g.role || ' in ' || coalesce(r.name, h.name) FROM grants g JOIN accounts a ON a.id = " +
			"g.account_id LEFT JOIN repositories r ON r.id = g.repository_id LEFT JOIN houses h ON h.id = " +
			"g.house_id WHERE a.login = ? ORDER BY 1",
		"SELECT r.name || ' change ' || c.number || ', which they opened' FROM changes c JOIN repositories r ON " +
			"r.id = c.repository_id WHERE c.opened_by = ? AND c.state IN ('draft', 'open') ORDER BY c.id LIMIT 100",
	} {
		var found []string
		if err := db.Raw(q, login).Scan(&found).Error; err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	return out, nil
}
