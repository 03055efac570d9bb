package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/rules"
	"tavrin/internal/store"
	"tavrin/wire"
)

// propose records a loosening that waits for a second person.
func (s *Service) propose(tx *tx, h shelf, row *store.RulesProposal, was *rules.Document) (wire.Proposal, error) {
	row.RepositoryID, row.HouseID = h.ids()
	if err := tx.Create(row).Error; err != nil {
		return wire.Proposal{}, err
	}
	what := "rules that loosen"
	if row.Protection != "" {
		what = fmt.Sprintf("to suspend protection %q of", row.Protection)
	}
	err := tx.record(event{actor: row.ProposedBy, kind: "rules.proposed", repo: h.repo, subject: fmt.Sprintf("proposal/%d", row.ID),
		text: fmt.Sprintf("%s proposed %s %s, which waits for a second person: %s", row.ProposedBy, what, h.name(), row.Because),
		data: map[string]any{"rules_of": h.name(), "proposal": row.ID, "because": row.Because, "based_on": row.BasedOn}})
	if err != nil {
		return wire.Proposal{}, err
	}
	return s.proposalView(tx.DB, h, *row, was)
}

func (s *Service) proposalView(db *gorm.DB, h shelf, row store.RulesProposal, was *rules.Document) (wire.Proposal, error) {
	v := wire.Proposal{ID: row.ID, RulesOf: h.name(), BasedOn: row.BasedOn, Text: row.Text, Protection: row.Protection, ForSeconds: row.Seconds, Because: row.Because,
		ProposedBy: row.ProposedBy, ProposedAt: row.ProposedAt, State: row.State, DecidedBy: row.DecidedBy, DecidedAt: row.DecidedAt, Differences: []wire.Difference{}, AgreedBy: []string{}}
	if was != nil {
		for _, p := range was.AgreedBy {
			v.AgreedBy = append(v.AgreedBy, p.String())
		}
	}
	if row.Text != "" {
		now, err := s.readBack(db, h, store.RulesVersion{ID: -1, Text: row.Text})
		if err != nil {
			return v, err
		}
		differences, err := s.differences(db, h, was, now)
		if err != nil {
			return v, err
		}
		v.Differences = append(v.Differences, differences...)
	}
	return v, nil
}

// Proposals lists the proposals about rules that are open, or with all, every one, newest first.
func (s *Service) Proposals(ctx context.Context, a Actor, where string, all bool) ([]wire.Proposal, error) {
	db := s.store.Read(ctx)
	h, err := s.ruleShelf(db, a, where, false)
	if err != nil {
		return nil, err
	}
	query := h.rows(db).Order("id DESC").Limit(100)
	if !all {
		query = query.Where("state = 'open'")
	}
	var rows []store.RulesProposal
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []wire.Proposal{}
	for _, row := range rows {
		based, err := h.at(db, row.BasedOn)
		if err != nil {
			return nil, err
		}
		was, err := s.readBack(db, h, based)
		if err != nil {
			return nil, err
		}
		v, err := s.proposalView(db, h, row, was)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// DecideProposal agrees to a proposal or declines it. Only those whom the document in force names may agree, and never
// the one who proposed; that one may decline, which takes it back.
func (s *Service) DecideProposal(ctx context.Context, a Actor, where string, id int64, agree bool) (wire.Proposal, error) {
	if err := a.mayChangeRules(s.now()); err != nil {
		return wire.Proposal{}, err
	}
	var out wire.Proposal
	err := s.write(ctx, func(tx *tx) error {
		h, err := s.ruleShelf(tx.DB, a, where, false)
		if err != nil {
			return err
		}
		var row store.RulesProposal
		if err := h.rows(tx.DB).Where("id = ?", id).First(&row).Error; err != nil {
			return orUnknown(err, "there is no proposal %d about the rules of %s", id, where)
		}
		if row.State != "open" {
			return problem(Conflict, "proposal %d was %s already", id, row.State)
		}
		last, err := h.newest(tx.DB)
		if err != nil {
			return err
		}
		was, err := s.readBack(tx.DB, h, last)
		if err != nil {
			return err
		}
		if err := s.mayDecide(tx.DB, a, h, row, was, agree); err != nil {
			return err
		}
		if agree && last.Version != row.BasedOn {
			return problem(Conflict, "the rules of %s are at version %d, and the proposal was made to version %d: propose it anew", where, last.Version, row.BasedOn)
		}
		now := s.now()
		row.State, row.DecidedBy, row.DecidedAt = "declined", a.Login(), &now
		if agree {
			row.State = "agreed"
		}
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		verb := map[bool]string{true: "agreed to", false: "declined"}[agree]
		if a.Login() == row.ProposedBy {
			verb = "took back"
		}
		err = tx.record(event{actor: a.Login(), kind: "rules." + row.State, repo: h.repo, subject: fmt.Sprintf("proposal/%d", row.ID),
			text: fmt.Sprintf("%s %s what %s proposed for the rules of %s: %s", a.Login(), verb, row.ProposedBy, h.name(), row.Because),
			data: map[string]any{"rules_of": h.name(), "proposal": row.ID}})
		if err == nil && agree {
			err = s.carryOutProposal(tx, h, row, last)
		}
		if err != nil {
			return err
		}
		out, err = s.proposalView(tx.DB, h, row, was)
		return err
	})
	return out, err
}

func (s *Service) mayDecide(db *gorm.DB, a Actor, h shelf, row store.RulesProposal, was *rules.Document, agree bool) error {
	if a.scope != ScopeAll {
		return problem(Forbidden, "this token cannot decide about rules; it takes one of scope all")
	}
	if a.Login() == row.ProposedBy {
		if !agree {
			return nil
		}
		return problem(Forbidden, "%s proposed it, and a second person has to agree", a.Login())
	}
	person, err := s.personAt(db, a, h)
	if err != nil {
		return err
	}
	if was == nil || !person.IsAny(was.AgreedBy) || person.Robot {
		names := []string{}
		if was != nil {
			for _, p := range was.AgreedBy {
				names = append(names, p.String())
			}
		}
		return problem(Forbidden, "deciding about a loosening of the rules of %s is for %s, and %s is none of them", h.name(), strings.Join(names, ", "), a.who())
	}
	return nil
}

// personAt says what an actor is where rules belong: in a house, keepers and administrators are its maintainers.
func (s *Service) personAt(db *gorm.DB, a Actor, h shelf) (gate.Person, error) {
	if h.repo != nil {
		people, err := peopleOf(db, h.repo)
		return people[a.Login()], err
	}
	teams, err := teamsOf(db, []string{a.Login()})
	if err != nil {
		return gate.Person{}, err
	}
	role, err := houseRole(db, a.account, h.house.ID)
	p := gate.Person{Login: a.Login(), Role: plainRole(role), Teams: teams[a.Login()], Robot: a.account.Robot}
	if a.account.Admin {
		p.Role = gate.Maintainer
	}
	return p, err
}

func (s *Service) carryOutProposal(tx *tx, h shelf, row store.RulesProposal, last store.RulesVersion) error {
	if row.Protection != "" {
		_, err := s.suspend(tx, h, row.Protection, time.Duration(row.Seconds)*time.Second, row.Because, row.ProposedBy)
		return err
	}
	repos, err := repositoriesUnder(tx.DB, h)
	if err != nil {
		return err
	}
	if _, _, err := s.readNew(tx.DB, h, last, row.Text, repos); err != nil {
		return err
	}
	return s.putInForce(tx, h, store.RulesVersion{Version: last.Version + 1, Text: row.Text, Because: row.Because, AppliedBy: row.ProposedBy, AgreedBy: row.DecidedBy, AppliedAt: s.now()})
}

// Limits of a suspension.
const (
	shortestSuspension = time.Minute
	longestSuspension  = 7 * 24 * time.Hour
)

// Suspend sets a protection aside for a time; it comes back by itself. Where the document asks for a second person, a
// proposal is made instead.
func (s *Service) Suspend(ctx context.Context, a Actor, where, protection string, length time.Duration, because string) (wire.Suspended, error) {
	if err := errors.Join(rulesReason(because), a.mayChangeRules(s.now())); err != nil {
		return wire.Suspended{}, firstProblem(err)
	}
	if length < shortestSuspension || length > longestSuspension {
		return wire.Suspended{}, invalid("for_seconds", "a protection is suspended for a time from 1m to 168h; it comes back by itself")
	}
	var out wire.Suspended
	err := s.write(ctx, func(tx *tx) error {
		h, err := s.ruleShelf(tx.DB, a, where, true)
		if err != nil {
			return err
		}
		last, err := h.newest(tx.DB)
		if err != nil {
			return err
		}
		was, err := s.readBack(tx.DB, h, last)
		if err != nil {
			return err
		}
		if was == nil || !slices.ContainsFunc(was.Protections, func(p rules.Protection) bool { return p.Name == protection }) {
			return problem(Unknown, "the rules of %s have no protection %q: tavrin rules show", where, protection)
		}
		if len(was.AgreedBy) > 0 {
			row := store.RulesProposal{BasedOn: last.Version, Protection: protection, Seconds: int64(length / time.Second), Because: because, ProposedBy: a.Login(), ProposedAt: s.now(), State: "open"}
			proposal, err := s.propose(tx, h, &row, was)
			out.Proposal = &proposal
			return err
		}
		out.Suspension, err = s.suspend(tx, h, protection, length, because, a.Login())
		return err
	})
	return out, err
}

func (s *Service) suspend(tx *tx, h shelf, protection string, length time.Duration, because, by string) (wire.Suspension, error) {
	var twin store.Suspension
	err := h.rows(tx.DB).Where("protection = ? AND ended_at IS NULL AND until > ?", protection, s.now()).First(&twin).Error
	if err == nil {
		return wire.Suspension{}, problem(Conflict, "protection %q is suspended already, until %s", protection, twin.Until.UTC().Format(time.RFC3339))
	}
	if !errors.Is(err, store.ErrNotFound) {
		return wire.Suspension{}, err
	}
	row := store.Suspension{Protection: protection, Because: because, SuspendedBy: by, CreatedAt: s.now(), Until: s.now().Add(length)}
	row.RepositoryID, row.HouseID = h.ids()
	if err := tx.Create(&row).Error; err != nil {
		return wire.Suspension{}, err
	}
	err = tx.record(event{actor: by, kind: "rules.suspended", repo: h.repo, subject: "protection/" + protection,
		text: fmt.Sprintf("%s suspended protection %q of %s until %s: %s", by, protection, h.name(), row.Until.Format("2006-01-02 15:04 UTC"), because),
		data: map[string]any{"rules_of": h.name(), "protection": protection, "until": row.Until, "because": because}})
	if err != nil {
		return wire.Suspension{}, err
	}
	return suspensionView(h, row), s.judgeAgain(tx, h)
}

func suspensionView(h shelf, r store.Suspension) wire.Suspension {
	return wire.Suspension{RulesOf: h.name(), Protection: r.Protection, By: r.SuspendedBy, Because: r.Because, From: r.CreatedAt, Until: r.Until}
}

// Suspensions lists what is suspended now in a repository's rules, its house's too, or in a house's.
func (s *Service) Suspensions(ctx context.Context, a Actor, where string) ([]wire.Suspension, error) {
	db := s.store.Read(ctx)
	h, err := s.ruleShelf(db, a, where, false)
	if err != nil {
		return nil, err
	}
	shelves := []shelf{h}
	if h.repo != nil {
		shelves = append(shelves, shelf{house: &store.House{ID: h.repo.HouseID, Name: houseName(h.repo)}})
	}
	out := []wire.Suspension{}
	for _, h := range shelves {
		var rows []store.Suspension
		if err := h.rows(db).Where("ended_at IS NULL AND until > ?", s.now()).Order("id").Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			out = append(out, suspensionView(h, r))
		}
	}
	return out, nil
}

// Resume ends a suspension before its time.
func (s *Service) Resume(ctx context.Context, a Actor, where, protection string) error {
	return s.write(ctx, func(tx *tx) error {
		h, err := s.ruleShelf(tx.DB, a, where, true)
		if err != nil {
			return err
		}
		var row store.Suspension
		err = h.rows(tx.DB).Where("protection = ? AND ended_at IS NULL AND until > ?", protection, s.now()).First(&row).Error
		if err != nil {
			return orUnknown(err, "protection %q of %s is not suspended", protection, where)
		}
		return s.endSuspension(tx, &row, a.Login(), s.now(), a.Login()+" ended the suspension")
	})
}
