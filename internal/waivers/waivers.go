package waivers

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/guard"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// Limits of a waiver.
const (
	shortestWaiver = time.Minute
	longestWaiver  = 24 * time.Hour
	usualWaiver    = time.Hour
)

// NewWaiver is what somebody wants to waive.
type NewWaiver struct {
	Keys    []string // of the requirements; empty: everything that they may
	Reason  string
	Length  time.Duration // 0: an hour
	Confirm string        // of the plan that was looked at
}

// PushWaiver is a NewWaiver for one push.
type PushWaiver struct {
	NewWaiver
	Branch, Commit string
}

func (n *NewWaiver) check() error {
	if n.Length == 0 {
		n.Length = usualWaiver
	}
	if n.Length < shortestWaiver || n.Length > longestWaiver {
		return problem.Wrong("for_seconds", "a waiver lasts from 1m to 24h; it is for a case at hand")
	}
	if strings.TrimSpace(n.Reason) == "" {
		return problem.Wrong("reason", "say why it cannot wait: a waiver needs a reason, which everybody reads")
	}
	return typed.Line("reason", n.Reason, 1, 500)
}

// confirmation stands for exactly what a waiver would waive.
func confirmation(subject, state, tip string, waives []wire.Waived) string {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %q", subject, state, tip)
	for _, r := range waives {
		fmt.Fprintf(h, " %q %q", r.Key, r.Title)
	}
	return hex.EncodeToString(h.Sum(nil))[:10]
}

// PlanWaiver says exactly what a waiver of a change's requirements would waive, and what it would leave.
func (s *Waivers) PlanWaiver(ctx context.Context, a accounts.Actor, name string, number int,
	keys []string) (wire.WaiverPlan, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Writer)
	if err != nil {
		return wire.WaiverPlan{}, err
	}
	return s.planWaiver(db, a, repo, c, keys)
}

func (s *Waivers) planWaiver(db *gorm.DB, a accounts.Actor, repo *records.Repository, c records.Change,
	keys []string) (wire.WaiverPlan, error) {
	if c.State != "draft" && c.State != "open" {
		return wire.WaiverPlan{}, problem.New(problem.Conflict, "change %d is %s, so there is nothing to waive",
			c.Number, c.State)
	}
	g, err := s.facts.Gather(db, repo, c)
	if err != nil {
		return wire.WaiverPlan{}, err
	}
	tip, err := s.disk.Bare(repo).At("refs/heads/" + c.Target)
	if err != nil || tip == "" {
		return wire.WaiverPlan{}, problem.New(problem.Conflict, "the target branch %s is gone", c.Target)
	}
	g.Facts.Tip = tip
	open := gate.Waivable(g.Set, g.Facts, a.Login())
	candidates := make([]candidate, len(open))
	for i, o := range open {
		candidates[i] = candidate{wire.Waived{Key: o.Key, Title: o.Title, Because: o.Because}, o.Why}
	}
	plan, err := planned(candidates, keys)
	plan.Tip, plan.Confirm = tip, confirmation(fmt.Sprintf("%s/%d", repo.Name, c.Number), g.Revision.Head, tip,
		plan.Waives)
	return plan, err
}

// candidate is something that stands in the way, and why somebody may not waive it.
type candidate struct {
	wire.Waived
	why string
}

// planned sorts what stands in the way into what a waiver would waive and what it would leave.
func planned(open []candidate, keys []string) (wire.WaiverPlan, error) {
	plan := wire.WaiverPlan{Waives: []wire.Waived{}, Left: []wire.LeftOpen{}}
	if len(open) == 0 {
		return plan, problem.New(problem.Conflict, "nothing stands in the way that could be waived")
	}
	for _, key := range keys {
		if !slices.ContainsFunc(open, func(c candidate) bool { return c.Key == key }) {
			known := make([]string, len(open))
			for i, c := range open {
				known[i] = c.Key
			}
			return plan, problem.Wrong("requirements", "nothing called %q is missing; missing are %s", key,
				strings.Join(known, ", "))
		}
	}
	var first candidate
	for _, c := range open {
		named := slices.Contains(keys, c.Key)
		switch {
		case named && c.why != "":
			return plan, problem.New(problem.Forbidden, "%s may not be waived by you: %s", c.Key, c.why)
		case c.why == "" && (named || len(keys) == 0):
			plan.Waives = append(plan.Waives, c.Waived)
		default:
			plan.Left = append(plan.Left, wire.LeftOpen{Key: c.Key, Title: c.Title, Why: c.why})
			if first.Key == "" {
				first = c
			}
		}
	}
	if len(plan.Waives) == 0 {
		return plan, problem.New(problem.Forbidden, "nothing of what is missing may be waived by you: %s", first.why)
	}
	return plan, nil
}

// confirmed refuses a waiver whose maker has not seen exactly what it waives.
func (n NewWaiver) confirmed(plan wire.WaiverPlan) error {
	if n.Confirm == plan.Confirm {
		return nil
	}
	titles := make([]string, len(plan.Waives))
	for i, r := range plan.Waives {
		titles[i] = r.Title
	}
	if n.Confirm != "" {
		return problem.New(problem.Conflict, "what would be waived is not what you confirmed any more; now it "+
			"is: %s. Look at it again; its confirmation is %s", strings.Join(titles, "; "), plan.Confirm)
	}
	return problem.New(problem.Conflict, "this would waive: %s. Confirm exactly that with %s",
		strings.Join(titles, "; "), plan.Confirm)
}

// Waiver waives requirements of a change, for one landing of its newest revision on the target's present tip.
func (s *Waivers) Waive(ctx context.Context, a accounts.Actor, name string, number int,
	n NewWaiver) (wire.Waiver, error) {
	if err := n.check(); err != nil {
		return wire.Waiver{}, err
	}
	var row records.Waiver
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		repo, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Writer)
		if err != nil {
			return err
		}
		plan, err := s.planWaiver(tx.DB, a, repo, c, n.Keys)
		if err == nil {
			err = n.confirmed(plan)
		}
		if err != nil {
			return err
		}
		row = records.Waiver{ChangeID: &c.ID, Revision: c.Revision, Ref: "refs/heads/" + c.Target}
		return s.makeWaiver(tx, a, repo, &row, n, plan, number,
			fmt.Sprintf("revision %d of change %d", c.Revision, number))
	})
	return waiverView(row, number), err
}

// makeWaiver records a waiver.
func (s *Waivers) makeWaiver(tx *records.Tx, a accounts.Actor, repo *records.Repository, row *records.Waiver,
	n NewWaiver, plan wire.WaiverPlan, number int, what string) error {
	row.RepositoryID, row.Tip, row.Reason, row.MadeBy, row.MadeAt, row.Until = repo.ID, plan.Tip, typed.Mask(n.Reason), a.Login(), s.records.Now(), s.records.Now().Add(n.Length)
	titles := make([]string, len(plan.Waives))
	for i, r := range plan.Waives {
		row.Waives = append(row.Waives, records.Waived{Key: r.Key, Title: r.Title})
		titles[i] = r.Title
	}
	if err := tx.Create(row).Error; err != nil {
		return err
	}
	return tx.Record(a.Login(), repo, event.WaiverMade{
		OfWaiver: event.OfWaiver{Waiver: row.ID, Number: number, Ref: row.Ref, MadeBy: a.Login()},
		What:     what, Waives: asEvent(row.Waives), Reason: row.Reason, Until: row.Until, Tip: row.Tip, Commit: row.New, Of: row.Revision,
	})
}

// PlanPushWaiver says exactly what the rules hold against a push of a commit that the repository has already.
func (s *Waivers) PlanPushWaiver(ctx context.Context, a accounts.Actor, name, branch,
	commit string) (wire.WaiverPlan, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Writer)
	if err != nil {
		return wire.WaiverPlan{}, err
	}
	p, err := s.aPushOf(ctx, repo, branch, commit)
	if err != nil {
		return wire.WaiverPlan{}, err
	}
	return s.planPush(db, a, repo, p)
}

// aPush is what a push of a commit to a branch would be, as Git has it.
type aPush struct {
	branch, commit, tip string
	forward             bool
	brought             []git.Commit
}

// aPushOf finds that out. It runs Git, and comes before any transaction.
func (s *Waivers) aPushOf(ctx context.Context, repo *records.Repository, branch, commit string) (aPush, error) {
	p := aPush{branch: branch}
	bare := s.disk.Bare(repo)
	if err := git.CheckBranch(branch); err != nil {
		return p, problem.Wrong("branch", "%v", err)
	}
	var err error
	if p.tip, err = bare.Tip(ctx, "refs/heads/"+branch); err != nil {
		return p, s.disk.NoBranch(ctx, repo, "", branch)
	}
	p.commit, err = s.disk.Commit(ctx, repo, commit)
	if told, ok := errors.AsType[*problem.Problem](err); ok {
		return p, problem.Wrong("commit", "%s; push it to a branch of its own first", told.Text)
	}
	if err != nil {
		return p, err
	}
	if p.forward, err = bare.IsAncestor(ctx, p.tip, p.commit); err != nil {
		return p, err
	}
	p.brought, err = bare.LogAll(ctx, p.commit, []string{p.tip}, "push.direct-commits")
	return p, err
}

// planPush says what the rules hold against a push.
func (s *Waivers) planPush(db *gorm.DB, a accounts.Actor, repo *records.Repository,
	p aPush) (wire.WaiverPlan, error) {
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return wire.WaiverPlan{}, err
	}
	people, err := accounts.PeopleOf(db, repo)
	if err != nil {
		return wire.WaiverPlan{}, err
	}
	u := guard.Update{Ref: "refs/heads/" + p.branch, Old: p.tip, New: p.commit, Forward: p.forward}
	if u.Commits, err = facts.GateCommits(db, repo.ID, facts.Kept(p.brought)); err != nil {
		return wire.WaiverPlan{}, err
	}
	pusher := people.Named(a.Login())
	facts := guard.Facts{Repository: repo.Name, Pusher: pusher, People: people, Rules: force.Now(),
		Default: repo.DefaultBranch}
	effective := facts.Rules.For(p.branch)
	var open []candidate
	for _, o := range guard.Obstacles(u, facts) {
		open = append(open, candidate{wire.Waived{Key: o.Key, Title: o.Named().Title, Because: o.From.String()},
			guard.MayWaive(o, facts, effective)})
	}
	plan, err := planned(open, nil)
	plan.Tip, plan.Confirm = p.tip, confirmation(repo.Name+" "+p.branch, p.commit, p.tip, plan.Waives)
	return plan, err
}

// WaivePush lets its maker push one commit to a branch once, against what its rules hold against that.
func (s *Waivers) WaivePush(ctx context.Context, a accounts.Actor, name string,
	n PushWaiver) (wire.Waiver, error) {
	if err := n.check(); err != nil {
		return wire.Waiver{}, err
	}
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Writer)
	if err != nil {
		return wire.Waiver{}, err
	}
	p, err := s.aPushOf(ctx, repo, n.Branch, n.Commit) // it is for this tip, and for no other should it move meanwhile
	if err != nil {
		return wire.Waiver{}, err
	}
	var row records.Waiver
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		repo, err := accounts.Reach(tx.DB, a, name, people.Writer)
		if err != nil {
			return err
		}
		plan, err := s.planPush(tx.DB, a, repo, p)
		if err == nil && len(plan.Left) > 0 {
			err = problem.New(problem.Forbidden, "%s stands in the way as well, and may not be waived by you: %s",
				plan.Left[0].Title, plan.Left[0].Why)
		}
		if err == nil {
			err = n.confirmed(plan)
		}
		if err != nil {
			return err
		}
		row = records.Waiver{New: p.commit, Ref: "refs/heads/" + n.Branch}
		return s.makeWaiver(tx, a, repo, &row, n.NewWaiver, plan, 0,
			fmt.Sprintf("one push of %.10s to %s", p.commit, n.Branch))
	})
	return waiverView(row, 0), err
}

func waiverView(r records.Waiver, number int) wire.Waiver {
	v := wire.Waiver{ID: r.ID, Number: number, Branch: strings.TrimPrefix(r.Ref, "refs/heads/"), Revision: r.Revision,
		Commit: r.New, Tip: r.Tip, Reason: r.Reason, By: r.MadeBy, MadeAt: r.MadeAt, Until: r.Until,
		State: "open", Why: r.EndedWhy, UsedAs: r.UsedAs, UsedAt: r.UsedAt, AcknowledgedBy: r.AcknowledgedBy, AcknowledgedAt: r.AcknowledgedAt, Acknowledgement: r.Acknowledgement, Waives: []wire.Waived{}}
	for _, x := range r.Waives {
		v.Waives = append(v.Waives, wire.Waived{Key: x.Key, Title: x.Title})
	}
	switch {
	case r.UsedAt != nil:
		v.State = "used"
	case r.EndedAt != nil:
		v.State = "lapsed"
	}
	return v
}

// Waivers lists a repository's waivers, newest first; open: only those that may still be used, and those nobody has
// looked at yet.
func (s *Waivers) Waivers(ctx context.Context, a accounts.Actor, name string, open bool) ([]wire.Waiver, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	query := db.Where("waivers.repository_id = ?", repo.ID)
	if open {
		query = query.Where("ended_at IS NULL AND acknowledged_at IS NULL")
	}
	return WaiverViews(query)
}

// WaiverViews describes the waivers that a query selects, newest first.
func WaiverViews(query *gorm.DB) ([]wire.Waiver, error) {
	var rows []struct {
		records.Waiver
		Number int
	}
	err := query.Table("waivers").Select("waivers.*, ifnull(c.number, 0) AS number").Joins("LEFT JOIN changes c " +
		"ON c.id = waivers.change_id").
		Order("waivers.id DESC").Limit(200).Find(&rows).Error
	out := []wire.Waiver{}
	for _, r := range rows {
		out = append(out, waiverView(r.Waiver, r.Number))
	}
	return out, err
}

// Acknowledge acknowledges a waiver that was used: by somebody else who may write.
func (s *Waivers) Acknowledge(ctx context.Context, a accounts.Actor, name string, id int64,
	found string) (wire.Waiver, error) {
	if strings.TrimSpace(found) == "" {
		return wire.Waiver{}, problem.Wrong("text", "say what you found: an acknowledgement needs words")
	}
	if err := typed.Prose("text", found, typed.MaxProse); err != nil {
		return wire.Waiver{}, err
	}
	var out wire.Waiver
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		repo, err := accounts.Reach(tx.DB, a, name, people.Writer)
		if err != nil {
			return err
		}
		var row records.Waiver
		if err := tx.Where("id = ? AND repository_id = ?", id, repo.ID).First(&row).Error; err != nil {
			return records.OrUnknown(err, "%s has no waiver %d: tavrin waiver list", name, id)
		}
		switch {
		case a.Account().Robot:
			return problem.New(problem.Forbidden, "%s is a robot; a person acknowledges", a.Login())
		case row.MadeBy == a.Login():
			return problem.New(problem.Forbidden, "waiver %d is yours; somebody else has to acknowledge it", id)
		case row.UsedAt == nil:
			return problem.New(problem.Conflict, "waiver %d let nothing through, so that there is nothing to acknowledge",
				id)
		case row.AcknowledgedAt != nil:
			return problem.New(problem.Conflict, "%s has acknowledged waiver %d already", row.AcknowledgedBy, id)
		}
		now := s.records.Now()
		row.AcknowledgedBy, row.AcknowledgedAt, row.Acknowledgement = a.Login(), &now, typed.Mask(found)
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		views, err := WaiverViews(tx.Where("waivers.id = ?", row.ID))
		if err != nil {
			return err
		}
		out = views[0]
		return tx.Record(a.Login(), repo, event.WaiverAcknowledged{Waiver: id, MadeBy: row.MadeBy, Words: row.Acknowledgement})
	})
	return out, err
}

// Permits gives the guard the pusher's waivers for pushes that have neither been used nor expired.
func (s *Waivers) Permits(db *gorm.DB, repo *records.Repository, login string) ([]guard.Permit, error) {
	var rows []records.Waiver
	err := db.Where("repository_id = ? AND change_id IS NULL AND made_by = ? AND used_at IS NULL AND ended_at IS "+
		"NULL AND until > ?", repo.ID, login, s.records.Now()).Order("id").Find(&rows).Error
	var out []guard.Permit
	for _, r := range rows {
		p := guard.Permit{ID: r.ID, Ref: r.Ref, Old: r.Tip, New: r.New}
		for _, x := range r.Waives {
			p.Waives = append(p.Waives, change.Named(x))
		}
		out = append(out, p)
	}
	return out, err
}

// Use records that a branch moved on the strength of waivers, of the change of that number; 0: by a push.
func (s *Waivers) Use(tx *records.Tx, repo *records.Repository, ids []int64, number int, commit string) error {
	for _, id := range ids {
		var row records.Waiver
		if err := tx.First(&row, id).Error; err != nil {
			return err
		}
		if err := tx.Model(&row).Updates(map[string]any{"used_at": s.records.Now(),
			"used_as": commit}).Error; err != nil {
			return err
		}
		err := tx.Record(row.MadeBy, repo, event.WaiverUsed{
			OfWaiver: event.OfWaiver{Waiver: id, Number: number, Ref: row.Ref, MadeBy: row.MadeBy},
			Commit:   commit, Waives: asEvent(row.Waives), Reason: row.Reason,
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// EndWaivers ends the waivers that can let nothing through any more, and says why.
func (s *Waivers) EndWaivers(ctx context.Context) error {
	var rows []records.Waiver
	db := s.records.Read(ctx)
	if err := db.Where("used_at IS NULL AND ended_at IS NULL").Find(&rows).Error; err != nil {
		return err
	}
	var errs []error
	for _, row := range rows {
		errs = append(errs, s.endWaiver(ctx, db, row))
	}
	return errors.Join(errs...)
}

// endWaiver ends one waiver, if it has lapsed. It writes only then: a write makes what is remembered be judged
// anew.
func (s *Waivers) endWaiver(ctx context.Context, db *gorm.DB, row records.Waiver) error {
	var repo records.Repository
	if err := db.First(&repo, row.RepositoryID).Error; err != nil {
		return err
	}
	unlock, err := s.moves.Lock(ctx, &repo) // a landing that rests on it may be under way
	if err != nil {
		return err
	}
	defer unlock()
	tip, err := s.disk.Bare(&repo).Tip(ctx, row.Ref)
	if err != nil && !errors.Is(err, git.ErrNotFound) {
		return err
	}
	if _, why, err := s.lapsed(db, row.ID, tip); err != nil || why == "" {
		return err
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		number, why, err := s.lapsed(tx.DB, row.ID, tip)
		if err != nil || why == "" {
			return err
		}
		if err := tx.Model(&row).Updates(map[string]any{"ended_at": s.records.Now(),
			"ended_why": why}).Error; err != nil {
			return err
		}
		return tx.Record(records.Itself, &repo, event.WaiverLapsed{
			OfWaiver: event.OfWaiver{Waiver: row.ID, Number: number, Ref: row.Ref, MadeBy: row.MadeBy}, Why: why,
		})
	})
}

// lapsed says why a waiver can let nothing through any more, its branch standing at tip; nothing when it may, was
// used, or has ended. It also gives the number of the change that it is for; 0: it is for a push.
func (s *Waivers) lapsed(db *gorm.DB, id int64, tip string) (number int, why string, err error) {
	var row records.Waiver
	if err := db.First(&row, id).Error; err != nil || row.UsedAt != nil || row.EndedAt != nil {
		return 0, "", err
	}
	f := change.Facts{Revision: row.Revision, At: s.records.Now(), Tip: tip}
	if row.ChangeID == nil {
		return 0, change.Waiver{Revision: row.Revision, Tip: row.Tip, Until: row.Until}.Lapsed(f), nil
	}
	var c records.Change
	if err := db.First(&c, *row.ChangeID).Error; err != nil {
		return 0, "", err
	}
	f.Revision = c.Revision
	switch {
	case c.State == "closed":
		return c.Number, "the change was closed", nil
	case row.Ref != "refs/heads/"+c.Target:
		return c.Number, "the change goes to another branch now", nil
	}
	return c.Number, change.Waiver{Revision: row.Revision, Tip: row.Tip, Until: row.Until}.Lapsed(f), nil
}

// asEvent tells of the requirements that a waiver waives.
func asEvent(waives []records.Waived) []event.Requirement {
	out := make([]event.Requirement, len(waives))
	for i, r := range waives {
		out[i] = event.Requirement(r)
	}
	return out
}
