package changes

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/facts"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// Review records a reviewer's word on a revision. It answers "conflict" when that is no longer the newest.
func (s *Changes) Review(ctx context.Context, a accounts.Actor, name string, number int,
	n wire.NewReview) (wire.Review, error) {
	if err := typed.Prose("text", n.Text, typed.MaxProse); err != nil {
		return wire.Review{}, err
	}
	if n.Verdict != change.Approve && strings.TrimSpace(n.Text) == "" && !(n.Verdict == change.Comment && n.Drafts) {
		return wire.Review{}, problem.Wrong("text", "an objection or a comment needs words")
	}
	n.Text = typed.Mask(n.Text) // a token pasted by mistake is not shown to everybody
	var row records.Review
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		repo, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Reader)
		if err != nil {
			return err
		}
		if err := facts.MayReview(tx.DB, a, repo, n.Verdict); err != nil {
			return err
		}
		if c.State != "draft" && c.State != "open" && n.Verdict != change.Comment {
			return problem.New(problem.Conflict, "change %d is %s; only an open change is reviewed", number, c.State)
		}
		if n.Verdict == change.Comment && n.Revision == 0 {
			n.Revision = c.Revision
		}
		if n.Revision != c.Revision {
			return problem.New(problem.Conflict, "conflict: the newest revision of change %d is %d, not %d: look at "+
				"what came since (tavrin change diff %d --from %d) and say it again with --revision %d; your "+
				"draft comments are kept",
				number, c.Revision, n.Revision, number, n.Revision, c.Revision)
		}
		sent := 0
		if n.Drafts {
			if sent, err = s.threads.sendDrafts(tx, a, repo, c); err != nil {
				return err
			}
		}
		if n.Verdict == change.Comment && strings.TrimSpace(n.Text) == "" && sent == 0 {
			return problem.Wrong("text", "a comment needs words, and there are no draft comments")
		}
		teams, err := accounts.TeamsOf(tx.DB, []string{a.Login()})
		if err != nil {
			return err
		}
		row = records.Review{ChangeID: c.ID, Revision: n.Revision, Login: a.Login(), Verdict: string(n.Verdict),
			Text: n.Text, Title: c.Title, Description: c.Description, Teams: teams[a.Login()], CreatedAt: s.records.Now()}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		if err := RememberLook(tx, c, a.Login(), n.Revision); err != nil {
			return err
		}
		return tx.Record(a.Login(), repo, spoken(n.Verdict, event.Word{OfChange: event.OfChange{Number: number},
			Revision: n.Revision, Words: n.Text}))
	})
	out := s.reviewView(row, true, records.Change{Title: row.Title, Description: row.Description})
	if err == nil && n.Verdict != change.Comment {
		out.Weighed = s.weighed(ctx, a, name, number)
	}
	return out, err
}

// weighed says at once what a review does that was just given. It is on record already; that this could not be found out is
// no reason to say otherwise.
func (s *Changes) weighed(ctx context.Context, a accounts.Actor, name string, number int) *require.Weighed {
	report, err := s.facts.Gate(ctx, a, name, number)
	if err != nil {
		s.log.Warn("a review could not be weighed", "repository", name, "change", number, "error", err)
		return nil
	}
	i := slices.IndexFunc(report.Reviews, func(w require.Weighed) bool { return w.By == a.Login() })
	if i < 0 {
		return nil
	}
	return &report.Reviews[i]
}

// reviewView describes a review of a change as it is now.
func (s *Changes) reviewView(r records.Review, standing bool, c records.Change) wire.Review {
	v := wire.Review{ID: r.ID, By: r.Login, Revision: r.Revision, Verdict: r.Verdict, Text: r.Text,
		HTML: s.html(r.Text), Withdrawn: r.WithdrawnAt != nil,
		Standing: standing, CreatedAt: r.CreatedAt}
	if r.Title == "" { // from before it was kept
		return v
	}
	if r.Title != c.Title {
		v.Altered = append(v.Altered, fmt.Sprintf("the title was %q then", r.Title))
	}
	if r.Description != c.Description {
		v.Altered = append(v.Altered, "the description was another then")
	}
	return v
}

// Withdraw takes back one's standing approval or objection.
func (s *Changes) Withdraw(ctx context.Context, a accounts.Actor, name string, number int) (wire.Review, error) {
	var out wire.Review
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		repo, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Reader)
		if err != nil {
			return err
		}
		standing, err := facts.StandingReviews(tx.DB, c)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(standing, func(r records.Review) bool { return r.Login == a.Login() })
		if i < 0 || a.Scope() != accounts.ScopeAll {
			return problem.New(problem.Conflict, "%s has no standing approval or objection on change %d", a.Who(),
				number)
		}
		row := standing[i]
		now := s.records.Now()
		row.WithdrawnAt = &now
		out = s.reviewView(row, false, c)
		if err := tx.Model(&row).Update("withdrawn_at", now).Error; err != nil {
			return err
		}
		return tx.Record(a.Login(), repo, event.ReviewWithdrawn{OfChange: event.OfChange{Number: number},
			Revision: row.Revision, Verdict: row.Verdict})
	})
	return out, err
}

// Reviews lists everything reviewers said of a change, oldest first.
func (s *Changes) Reviews(ctx context.Context, a accounts.Actor, name string, number int) ([]wire.Review, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	_, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return nil, err
	}
	standing, err := facts.StandingReviews(db, c)
	if err != nil {
		return nil, err
	}
	var rows []records.Review
	err = db.Where("change_id = ?", c.ID).Order("id").Find(&rows).Error
	out := []wire.Review{}
	for _, r := range rows {
		out = append(out, s.reviewView(r, slices.ContainsFunc(standing,
			func(x records.Review) bool { return x.ID == r.ID }), c))
	}
	return out, err
}

// RememberLook remembers up to which revision somebody has looked at a change. It never goes back.
func RememberLook(tx *records.Tx, c records.Change, login string, revision int) error {
	const look = "INSERT INTO change_looks (change_id, login, revision, at) VALUES (?, ?, ?, ?) " +
		"ON CONFLICT (change_id, login) DO UPDATE SET at = excluded.at, revision = max(revision, excluded.revision)"
	return tx.Exec(look, c.ID, login, revision, tx.Now()).Error
}

// spoken is the event of a reviewer's word.
func spoken(v change.Verdict, w event.Word) event.Event {
	switch v {
	case change.Approve:
		return event.ReviewApproved{Word: w}
	case change.Object:
		return event.ReviewObjected{Word: w}
	case change.Comment:
	}
	return event.ReviewCommented{Word: w}
}
