package rulebook

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/near"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// propose records a loosening that waits for a second person.
func propose(tx *records.Tx, h shelf, row *records.RulesProposal, was *rules.Document) (wire.Proposal, error) {
	row.RepositoryID, row.HouseID = h.ids()
	if err := tx.Create(row).Error; err != nil {
		return wire.Proposal{}, err
	}
	err := tx.Record(row.ProposedBy, h.repo, event.RulesProposed{
		RulesOf: h.Name(), Proposal: row.ID, Protection: row.Protection, BasedOn: row.BasedOn, Reason: row.Reason,
	})
	if err != nil {
		return wire.Proposal{}, err
	}
	return proposalView(tx.DB, h, *row, was)
}

func proposalView(db *gorm.DB, h shelf, row records.RulesProposal, was *rules.Document) (wire.Proposal, error) {
	v := wire.Proposal{ID: row.ID, RulesOf: h.Name(), BasedOn: row.BasedOn, Text: row.Text, Protection: row.Protection,
		ForSeconds: row.Seconds, Reason: row.Reason,
		ProposedBy: row.ProposedBy, ProposedAt: row.ProposedAt, State: row.State, DecidedBy: row.DecidedBy, DecidedAt: row.DecidedAt, Differences: []wire.Difference{}, AgreedBy: []string{}}
	if was != nil {
		for _, p := range was.AgreedBy {
			v.AgreedBy = append(v.AgreedBy, p.String())
		}
	}
	if row.Text != "" {
		now, err := ReadBack(db, h, records.RulesVersion{ID: -1, Text: row.Text})
		if err != nil {
			return v, err
		}
		differences, err := Differences(db, h, was, now)
		if err != nil {
			return v, err
		}
		v.Differences = append(v.Differences, differences...)
	}
	return v, nil
}

// Proposals lists the proposals about rules that are open, or with all, every one, newest first.
func (s *Rulebook) Proposals(ctx context.Context, a accounts.Actor, where string, all bool) ([]wire.Proposal, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	h, err := RuleShelf(db, a, where, false)
	if err != nil {
		return nil, err
	}
	query := h.rows(db).Order("id DESC").Limit(100)
	if !all {
		query = query.Where("state = 'open'")
	}
	var rows []records.RulesProposal
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []wire.Proposal{}
	for _, row := range rows {
		based, err := h.at(db, row.BasedOn)
		if err != nil {
			return nil, err
		}
		was, err := ReadBack(db, h, based)
		if err != nil {
			return nil, err
		}
		v, err := proposalView(db, h, row, was)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// DecideProposal agrees to a proposal or declines it. Only those whom the document in force names may agree, and never
// the one who proposed; that one may decline, which takes it back.
func (s *Rulebook) DecideProposal(ctx context.Context, a accounts.Actor, where string, id int64,
	agree bool) (wire.Proposal, error) {
	if err := a.MayChangeRules(s.records.Now()); err != nil {
		return wire.Proposal{}, err
	}
	var fits []string
	if agree {
		fits = s.fitsNow(ctx, a, where, id)
	}
	var out wire.Proposal
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		h, err := RuleShelf(tx.DB, a, where, false)
		if err != nil {
			return err
		}
		var row records.RulesProposal
		if err := h.rows(tx.DB).Where("id = ?", id).First(&row).Error; err != nil {
			return records.OrUnknown(err, "there is no proposal %d about the rules of %s", id, where)
		}
		if row.State != "open" {
			return problem.New(problem.Conflict, "proposal %d was %s already", id, row.State)
		}
		last, err := h.Newest(tx.DB)
		if err != nil {
			return err
		}
		was, err := ReadBack(tx.DB, h, last)
		if err != nil {
			return err
		}
		if err := MayDecide(tx.DB, a, h, row, was, agree); err != nil {
			return err
		}
		if agree && last.Version != row.BasedOn {
			return problem.New(problem.Conflict, "the rules of %s are at version %d, and the proposal was made to "+
				"version %d: propose it anew", where, last.Version, row.BasedOn)
		}
		now := s.records.Now()
		row.State, row.DecidedBy, row.DecidedAt = "declined", a.Login(), &now
		if agree {
			row.State = "agreed"
		}
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		decision := event.Decision{RulesOf: h.Name(), Proposal: row.ID, ProposedBy: row.ProposedBy,
			Reason: row.Reason}
		var told event.Event = event.RulesDeclined{Decision: decision}
		if agree {
			told = event.RulesAgreed{Decision: decision}
		}
		err = tx.Record(a.Login(), h.repo, told)
		if err == nil && agree {
			err = s.carryOutProposal(tx, h, row, last, fits)
		}
		if err != nil {
			return err
		}
		out, err = proposalView(tx.DB, h, row, was)
		return err
	})
	if err == nil && agree {
		s.judgeNow(ctx)
	}
	return out, err
}

// fitsNow finds out, before a write, that a proposed document fits everything that it has to fit, and what that was; nothing where it does
// not, or not surely: it is read again within the write, which says why.
func (s *Rulebook) fitsNow(ctx context.Context, a accounts.Actor, where string, id int64) []string {
	snap := s.records.View(ctx)
	defer snap.Close()
	h, err := RuleShelf(snap.DB, a, where, false)
	if err != nil {
		return nil
	}
	var row records.RulesProposal
	if err := h.rows(snap.DB).Where("id = ?", id).First(&row).Error; err != nil || row.Protection != "" {
		return nil
	}
	last, err := h.Newest(snap.DB)
	if err != nil {
		return nil
	}
	repos, err := repositoriesUnder(snap.DB, h)
	if err == nil {
		_, _, err = readNew(snap.DB, h, last, row.Text, repos)
	}
	if err != nil {
		return nil
	}
	basis, err := s.basisOf(snap.DB, h)
	if err != nil {
		return nil
	}
	return basis
}

func MayDecide(db *gorm.DB, a accounts.Actor, h shelf, row records.RulesProposal, was *rules.Document,
	agree bool) error {
	if a.Scope() != accounts.ScopeAll {
		return problem.New(problem.Forbidden, "this token cannot decide about rules; it takes one of scope all")
	}
	if a.Login() == row.ProposedBy {
		if !agree {
			return nil
		}
		return problem.New(problem.Forbidden, "%s proposed it, and a second person has to agree", a.Login())
	}
	person, err := personAt(db, a, h)
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
		return problem.New(problem.Forbidden, "deciding about a loosening of the rules of %s is for %s, and %s is "+
			"none of them", h.Name(), strings.Join(names, ", "), a.Who())
	}
	return nil
}

// personAt says what an actor is where rules belong: in a house, administrators are maintainers.
func personAt(db *gorm.DB, a accounts.Actor, h shelf) (people.Person, error) {
	if h.repo != nil {
		everyone, err := accounts.PeopleOf(db, h.repo)
		p, _ := everyone.Of(a.Login())
		return p, err
	}
	teams, err := accounts.TeamsOf(db, []string{a.Login()})
	if err != nil {
		return people.Person{}, err
	}
	role, err := accounts.HouseRole(db, a.Account(), h.house.ID)
	p := people.Person{Login: a.Login(), Role: people.Role(role), Teams: teams[a.Login()],
		Robot: a.Account().Robot}
	if a.Account().Admin {
		p.Role = people.Maintainer
	}
	return p, err
}

func (s *Rulebook) carryOutProposal(tx *records.Tx, h shelf, row records.RulesProposal,
	last records.RulesVersion, fits []string) error {
	if row.Protection != "" {
		_, err := s.suspend(tx, h, row.Protection, time.Duration(row.Seconds)*time.Second, row.Reason, row.ProposedBy)
		return err
	}
	basis, err := s.basisOf(tx.DB, h)
	if err != nil {
		return err
	}
	if fits == nil || !slices.Equal(basis, fits) {
		repos, err := repositoriesUnder(tx.DB, h)
		if err != nil {
			return err
		}
		if _, _, err := readNew(tx.DB, h, last, row.Text, repos); err != nil {
			return err
		}
	}
	return s.putInForce(tx, h, records.RulesVersion{Version: last.Version + 1, Text: row.Text, Reason: row.Reason,
		AppliedBy: row.ProposedBy, AgreedBy: row.DecidedBy, AppliedAt: s.records.Now()})
}

// Limits of a suspension.
const (
	shortestSuspension = time.Minute
	longestSuspension  = 7 * 24 * time.Hour
)

// Suspend puts a protection out of force for a time; it comes back by itself. Where the document asks for a second person, a
// proposal is made instead.
func (s *Rulebook) Suspend(ctx context.Context, a accounts.Actor, where, protection string, length time.Duration,
	reason string) (wire.Suspended, error) {
	if err := errors.Join(rulesReason(reason), a.MayChangeRules(s.records.Now())); err != nil {
		return wire.Suspended{}, problem.First(err)
	}
	if length < shortestSuspension || length > longestSuspension {
		return wire.Suspended{}, problem.Wrong("for_seconds", "a protection is suspended for a time from 1m to "+
			"168h; it comes back by itself")
	}
	var out wire.Suspended
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		h, err := RuleShelf(tx.DB, a, where, true)
		if err != nil {
			return err
		}
		last, err := h.Newest(tx.DB)
		if err != nil {
			return err
		}
		was, err := ReadBack(tx.DB, h, last)
		if err != nil {
			return err
		}
		if was == nil || !slices.ContainsFunc(was.Protections,
			func(p rules.Protection) bool { return p.Name == protection }) {
			var known []string
			if was != nil {
				for _, p := range was.Protections {
					known = append(known, p.Name)
				}
			}
			return problem.New(problem.Unknown, "the rules of %s have no protection %q: tavrin rules show%s", where,
				protection, near.Meant(protection, known))
		}
		if len(was.AgreedBy) > 0 {
			row := records.RulesProposal{BasedOn: last.Version, Protection: protection,
				Seconds: int64(length / time.Second), Reason: reason, ProposedBy: a.Login(), ProposedAt: s.records.Now(), State: "open"}
			proposal, err := propose(tx, h, &row, was)
			out.Proposal = &proposal
			return err
		}
		out.Suspension, err = s.suspend(tx, h, protection, length, reason, a.Login())
		return err
	})
	if err == nil {
		s.judgeNow(ctx)
	}
	return out, err
}

func (s *Rulebook) suspend(tx *records.Tx, h shelf, protection string, length time.Duration, reason,
	by string) (wire.Suspension, error) {
	var twin records.Suspension
	err := h.rows(tx.DB).Where("protection = ? AND ended_at IS NULL AND until > ?", protection,
		s.records.Now()).First(&twin).Error
	if err == nil {
		return wire.Suspension{}, problem.New(problem.Conflict, "protection %q is suspended already, until %s",
			protection, twin.Until.UTC().Format(time.RFC3339))
	}
	if !errors.Is(err, records.ErrNotFound) {
		return wire.Suspension{}, err
	}
	row := records.Suspension{Protection: protection, Reason: reason, SuspendedBy: by, CreatedAt: s.records.Now(),
		Until: s.records.Now().Add(length)}
	row.RepositoryID, row.HouseID = h.ids()
	if err := tx.Create(&row).Error; err != nil {
		return wire.Suspension{}, err
	}
	err = tx.Record(by, h.repo, event.RulesSuspended{RulesOf: h.Name(), Protection: protection, Until: row.Until,
		Reason: reason})
	if err != nil {
		return wire.Suspension{}, err
	}
	return suspensionView(h, row), s.judgeAgain(tx, h)
}

func suspensionView(h shelf, r records.Suspension) wire.Suspension {
	return wire.Suspension{RulesOf: h.Name(), Protection: r.Protection, By: r.SuspendedBy, Reason: r.Reason,
		From: r.CreatedAt, Until: r.Until}
}

// Suspensions lists what is suspended now in a repository's rules, its house's too, or in a house's.
func (s *Rulebook) Suspensions(ctx context.Context, a accounts.Actor, where string) ([]wire.Suspension, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	h, err := RuleShelf(db, a, where, false)
	if err != nil {
		return nil, err
	}
	shelves := []shelf{h}
	if h.repo != nil {
		shelves = append(shelves, shelf{house: &records.House{ID: h.repo.HouseID, Name: houseName(h.repo)}})
	}
	out := []wire.Suspension{}
	for _, h := range shelves {
		var rows []records.Suspension
		if err := h.rows(db).Where("ended_at IS NULL AND until > ?",
			s.records.Now()).Order("id").Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			out = append(out, suspensionView(h, r))
		}
	}
	return out, nil
}

// Resume ends a suspension before its time.
func (s *Rulebook) Resume(ctx context.Context, a accounts.Actor, where, protection string) error {
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		h, err := RuleShelf(tx.DB, a, where, true)
		if err != nil {
			return err
		}
		var row records.Suspension
		err = h.rows(tx.DB).Where("protection = ? AND ended_at IS NULL AND until > ?", protection,
			s.records.Now()).First(&row).Error
		if err != nil {
			return records.OrUnknown(err, "protection %q of %s is not suspended", protection, where)
		}
		return s.endSuspension(tx, &row, a.Login(), s.records.Now(), a.Login()+" ended the suspension")
	})
	if err == nil {
		s.judgeNow(ctx)
	}
	return err
}
