package changes

import (
	"context"
	"slices"
	"strings"

	"gorm.io/gorm/clause"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
	"tavrin/internal/facts"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// WantedReviewers lists whom the areas that paths touch want to look at a change, each once, its opener left out.
func WantedReviewers(set *rules.Set, c records.Change, paths []string) []records.ChangeReviewer {
	var out []records.ChangeReviewer
	for _, t := range set.Touched(paths) {
		for i, list := range [][]people.Principal{t.Reviewers, t.Optional} {
			for _, p := range list {
				known := slices.ContainsFunc(out, func(r records.ChangeReviewer) bool { return r.Who == p.String() })
				if !known && p != (people.Principal{Kind: people.ByLogin, Name: c.OpenedBy}) {
					out = append(out, records.ChangeReviewer{ChangeID: c.ID, Who: p.String(), Optional: i == 1,
						Reason: t.From.String()})
				}
			}
		}
	}
	return out
}

// askReviewers asks those for a review whom the areas that a change touches name. Who was asked once is not asked
// again.
func (s *Changes) askReviewers(tx *records.Tx, repo *records.Repository, c records.Change, paths []string) error {
	force, err := s.rulebook.RulesOf(tx.DB, repo)
	if err != nil {
		return err
	}
	var before []records.ChangeReviewer
	if err := tx.Where("change_id = ?", c.ID).Find(&before).Error; err != nil {
		return err
	}
	var asked []records.ChangeReviewer
	for _, r := range WantedReviewers(force.Set, c, paths) {
		if !slices.ContainsFunc(before, func(b records.ChangeReviewer) bool { return b.Who == r.Who }) {
			r.AskedAt = s.records.Now()
			asked = append(asked, r)
		}
	}
	if len(asked) == 0 {
		return nil
	}
	if err := tx.Create(&asked).Error; err != nil {
		return err
	}
	var names []string
	for _, r := range asked {
		names = append(names, r.Who)
	}
	return tx.Record(records.Itself, repo, event.ReviewAsked{OfChange: event.OfChange{Number: c.Number}, Who: names,
		ByAreas: true})
}

// AskForReview asks people or teams by hand for a review, or tells them of the change.
func (s *Changes) AskForReview(ctx context.Context, a accounts.Actor, name string, number int, who []string,
	optional bool) (wire.Change, error) {
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		repo, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Writer)
		if err != nil {
			return err
		}
		if c.State != "open" && c.State != "draft" {
			return problem.New(problem.Conflict, "change %d is %s; reviews are asked for while it is open", number,
				c.State)
		}
		known, err := accounts.PeopleOf(tx.DB, repo)
		if err != nil {
			return err
		}
		for _, w := range who {
			p := accounts.PrincipalNamed(w)
			if p.Kind != people.ByLogin && p.Kind != people.ByTeam ||
				len(accounts.MembersOf(known, []people.Principal{p})) == 0 {
				return problem.Wrong("who", "%q is nobody with access to %s: person:LOGIN or team:NAME", w, name)
			}
			row := records.ChangeReviewer{ChangeID: c.ID, Who: w, Optional: optional, Reason: a.Login() + " asked",
				AskedAt: s.records.Now()}
			again := clause.OnConflict{Columns: []clause.Column{{Name: "change_id"}, {Name: "who"}},
				DoUpdates: clause.AssignmentColumns([]string{"optional", "reason", "asked_at"})}
			if err := tx.Clauses(again).Create(&row).Error; err != nil {
				return err
			}
		}
		return tx.Record(a.Login(), repo, event.ReviewAsked{OfChange: event.OfChange{Number: number}, Who: who,
			Optional: optional})
	})
	if err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, number)
}

// SetLabels sets and removes labels of a change. Only those whom the rules name for a label may.
func (s *Changes) SetLabels(ctx context.Context, a accounts.Actor, name string, number int, set,
	remove []string) (wire.Change, error) {
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		repo, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Writer)
		if err != nil {
			return err
		}
		force, people, err := s.rulebook.Ownership(tx.DB, repo)
		if err != nil {
			return err
		}
		for _, label := range append(slices.Clone(set), remove...) {
			lists, known := force.Set.Label(label)
			if !known {
				return problem.Wrong("labels", "the rules know no label %q; they define labels: labels: {%s: "+
					"{set_by: …}}", label, label)
			}
			for _, who := range lists {
				if person, _ := people.Of(a.Login()); !person.IsAny(who) {
					return problem.New(problem.Forbidden, "label %q is set and removed by %s", label,
						strings.Join(accounts.PrincipalTexts(who), ", "))
				}
			}
		}
		for _, label := range remove {
			if err := tx.Where("change_id = ? AND label = ?", c.ID,
				label).Delete(&records.ChangeLabel{}).Error; err != nil {
				return err
			}
		}
		for _, label := range set {
			row := records.ChangeLabel{ChangeID: c.ID, Label: label, SetBy: a.Login(), SetAt: s.records.Now()}
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&row).Error; err != nil {
				return err
			}
		}
		return tx.Record(a.Login(), repo, event.ChangeLabelled{OfChange: event.OfChange{Number: number}, Set: set,
			Removed: remove})
	})
	if err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, number)
}

func orNone(labels []string) string {
	if len(labels) == 0 {
		return "none"
	}
	return strings.Join(labels, ", ")
}
