package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/rules"
	"tavrin/internal/store"
	"tavrin/wire"
)

// deskOrder is the order of what waits for somebody: what holds others up first.
var deskOrder = []string{"set-apart", "silent", "second-look", "review", "look-again", "answer", "decide", "own"}

// Desk lists what waits for the actor, in every repository in which they have a role: the oldest of each kind first.
func (s *Service) Desk(ctx context.Context, a Actor) ([]wire.DeskItem, error) {
	if !a.Known() {
		return nil, problem(SignInNeeded, "sign in to see what waits for you")
	}
	db := s.store.Read(ctx)
	repos, err := s.readable(db, a)
	if err != nil {
		return nil, err
	}
	out := []wire.DeskItem{}
	for i := range repos {
		items, err := s.deskIn(db, a, &repos[i])
		if err != nil {
			return nil, fmt.Errorf("look into %s: %w", repos[i].Name, err)
		}
		out = append(out, items...)
	}
	proposals, err := s.deskProposals(ctx, db, a)
	if err != nil {
		return nil, err
	}
	out = append(out, proposals...)
	slices.SortStableFunc(out, func(x, y wire.DeskItem) int {
		return cmp.Or(slices.Index(deskOrder, x.Kind)-slices.Index(deskOrder, y.Kind), boolOrder(x.Asked, y.Asked), x.Since.Compare(y.Since))
	})
	return out, nil
}

func boolOrder(x, y bool) int {
	switch {
	case x == y:
		return 0
	case x:
		return -1
	}
	return 1
}

// deskIn lists what waits for the actor in one repository.
func (s *Service) deskIn(db *gorm.DB, a Actor, repo *store.Repository) ([]wire.DeskItem, error) {
	var open []store.Change
	if err := db.Where("repository_id = ? AND state IN ('draft', 'open')", repo.ID).Order("number").Find(&open).Error; err != nil {
		return nil, err
	}
	out, err := s.deskLooks(db, a, repo)
	if err != nil {
		return nil, err
	}
	kept, err := s.deskKept(db, a, repo)
	if err != nil {
		return nil, err
	}
	out = append(out, kept...)
	for _, c := range open {
		g, err := s.judgedOf(db, repo, c)
		if err != nil {
			return nil, err
		}
		if _, belongs := g.facts.People[a.Login()]; !belongs {
			return out, nil // nothing else is asked of somebody without a role
		}
		items, err := s.deskOf(db, a, g)
		if err != nil {
			return nil, err
		}
		for _, item := range items {
			item.Repository, item.Number, item.Title = repo.Name, c.Number, c.Title
			out = append(out, item)
		}
	}
	return out, nil
}

// deskLooks lists the overrides of others that nobody has looked at since they were used, for maintainers.
func (s *Service) deskLooks(db *gorm.DB, a Actor, repo *store.Repository) ([]wire.DeskItem, error) {
	role, err := roleIn(db, a.account, repo)
	if err != nil || !role.AtLeast(gate.Maintainer) || a.account.Robot {
		return nil, err
	}
	rows, err := overrideViews(db.Where("overrides.repository_id = ? AND used_at IS NOT NULL AND looked_at IS NULL AND made_by <> ?", repo.ID, a.Login()))
	var out []wire.DeskItem
	for _, o := range rows {
		out = append(out, wire.DeskItem{Kind: "second-look", Repository: repo.Name, Number: o.Number, Title: fmt.Sprintf("override %d on %s", o.ID, o.Branch), Since: *o.UsedAt,
			What: fmt.Sprintf("%s set something aside because: %s; look at what it let through: tavrin override look %d", o.By, o.Because, o.ID)})
	}
	return out, err
}

// deskKept lists what asks for somebody who keeps a repository going: for administrators that it is set apart, for its
// maintainers which checks nobody answers.
func (s *Service) deskKept(db *gorm.DB, a Actor, repo *store.Repository) ([]wire.DeskItem, error) {
	var out []wire.DeskItem
	if repo.Trouble != "" && repo.TroubleSince != nil && a.account.Admin {
		out = append(out, wire.DeskItem{Kind: "set-apart", Repository: repo.Name, Title: "only to be read", What: fmt.Sprintf("%s: tavrin repo settle %s", repo.Trouble, repo.Name), Since: *repo.TroubleSince})
	}
	role, err := roleIn(db, a.account, repo)
	if err != nil || !role.AtLeast(gate.Maintainer) || a.account.Robot {
		return out, err
	}
	silent, err := s.silentChecks(db, repo)
	for _, c := range silent {
		who := "nobody answers for it"
		if c.Runner {
			who = "no runner takes it"
		}
		out = append(out, wire.DeskItem{Kind: "silent", Repository: repo.Name, Title: fmt.Sprintf("check %s on %.10s", c.Name, c.Commit), What: fmt.Sprintf("%s, attempt %d, asked for %s", who, c.Attempt, c.For), Since: c.Since})
	}
	return out, err
}

// deskOf lists what one change asks of the actor.
func (s *Service) deskOf(db *gorm.DB, a Actor, g gathered) ([]wire.DeskItem, error) {
	var out []wire.DeskItem
	report := g.judge()
	mine := slices.Contains(g.facts.Authors, a.Login())
	i := slices.IndexFunc(g.facts.Reviews, func(r gate.Review) bool { return r.By == a.Login() })
	switch {
	case i >= 0 && g.facts.Reviews[i].Verdict == gate.Object && g.facts.Reviews[i].Revision < g.change.Revision:
		out = append(out, wire.DeskItem{Kind: "look-again", Since: g.revision.CreatedAt,
			What: fmt.Sprintf("you object to revision %d, and revision %d is there: approve it, object again, or withdraw", g.facts.Reviews[i].Revision, g.change.Revision)})
	case g.change.State == "open":
		item, asked, err := deskReview(db, a, g, report)
		if err != nil {
			return nil, err
		}
		if asked {
			out = append(out, item)
		}
	}
	answers, err := deskThreads(db, a, g, mine)
	if err != nil {
		return nil, err
	}
	out = append(out, answers...)
	if mine && !report.Ready {
		out = append(out, wire.DeskItem{Kind: "own", What: report.Summary, Since: g.change.UpdatedAt})
	}
	return out, nil
}

// deskReview says whether an approval of the actor would help, or they were asked by name and have not spoken.
func deskReview(db *gorm.DB, a Actor, g gathered, report gate.Report) (wire.DeskItem, bool, error) {
	var wanted []string
	for _, q := range report.Requirements {
		if slices.Contains(q.Who, a.Login()) && (strings.HasPrefix(q.Key, "approvals") || strings.HasPrefix(q.Key, "owners")) && q.Level == rules.Required {
			wanted = append(wanted, q.Title)
		}
	}
	var asked []store.ChangeReviewer
	if err := db.Where("change_id = ? AND NOT optional", g.change.ID).Find(&asked).Error; err != nil {
		return wire.DeskItem{}, false, err
	}
	person := g.facts.People[a.Login()]
	named := slices.ContainsFunc(asked, func(r store.ChangeReviewer) bool { return person.Is(principalNamed(r.Who)) })
	spoken := slices.ContainsFunc(g.facts.Reviews, func(r gate.Review) bool { return r.By == a.Login() })
	item := wire.DeskItem{Kind: "review", Since: g.revision.CreatedAt, Asked: named, What: "missing: " + strings.Join(wanted, "; ")}
	if len(wanted) == 0 {
		item.What = "you were asked to look at it"
	}
	mine := slices.Contains(g.facts.Authors, a.Login())
	return item, !person.Standby && (len(wanted) > 0 || named && !spoken && !mine), nil
}

// deskThreads lists the open discussions whose last word is somebody else's: those that the actor began, and those on
// changes of theirs.
func deskThreads(db *gorm.DB, a Actor, g gathered, mine bool) ([]wire.DeskItem, error) {
	var rows []store.Thread
	if err := db.Where("change_id = ? AND needs_answer AND settled_by = ''", g.change.ID).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	var out []wire.DeskItem
	for _, t := range rows {
		var last store.Remark
		if err := db.Where("thread_id = ?", t.ID).Order("id DESC").Limit(1).Find(&last).Error; err != nil {
			return nil, err
		}
		if last.Login != a.Login() && (mine || t.BegunBy == a.Login()) {
			out = append(out, wire.DeskItem{Kind: "answer", What: fmt.Sprintf("%s on %s: tavrin thread list %d", last.Login, where(t), g.change.Number), Since: last.CreatedAt})
		}
	}
	return out, nil
}

// deskProposals lists the proposals about rules that the actor may decide.
func (s *Service) deskProposals(ctx context.Context, db *gorm.DB, a Actor) ([]wire.DeskItem, error) {
	var rows []store.RulesProposal
	if err := db.Where("state = 'open' AND proposed_by <> ?", a.Login()).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	var out []wire.DeskItem
	for _, row := range rows {
		h, err := shelfOf(db, row.RepositoryID, row.HouseID)
		if err != nil {
			return nil, err
		}
		if _, err := s.ruleShelf(db, a, h.name(), false); err != nil {
			continue // not for them to see
		}
		last, err := h.newest(db)
		if err != nil {
			return nil, err
		}
		was, err := s.readBack(db, h, last)
		if err != nil {
			return nil, err
		}
		if s.mayDecide(db, a, h, row, was, true) == nil {
			out = append(out, wire.DeskItem{Kind: "decide", Repository: h.name(), Number: int(row.ID), Title: row.Because, Since: row.ProposedAt,
				What: fmt.Sprintf("%s proposed it, and it loosens the rules: tavrin rules proposals", row.ProposedBy)})
		}
	}
	return out, ctx.Err()
}
