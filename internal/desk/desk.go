package desk

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/conflicts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/facts"
	"tavrin/internal/freezes"
	"tavrin/internal/outbox"
	"tavrin/internal/problem"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
	"tavrin/internal/waivers"
	"tavrin/wire"
)

// deskOrder is the order of what waits for somebody: what holds others up first.
var deskOrder = []string{"disk", "stopped", "red-tip", "silent", "webhook", "acknowledge", "review", "look-again", "ejected", "conflict", "answer", "decide", "own"}

// Desk lists what waits for the actor, in every repository in which they have a role: the oldest of each kind first. What follows
// from the records of a repository is worked out anew only when something was written about that repository.
func (s *Desk) Desk(ctx context.Context, a accounts.Actor) ([]wire.DeskItem, error) {
	if !a.Known() {
		return nil, problem.New(problem.SignInNeeded, "sign in to see what waits for you")
	}
	if err := s.prepare(ctx, a); err != nil {
		return nil, err
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repos, err := accounts.Readable(db, a)
	if err != nil {
		return nil, err
	}
	roles, err := accounts.RolesOf(db, a.Account())
	if err != nil {
		return nil, err
	}
	kept := map[int64]*records.Repository{} // those that the actor keeps going
	out := []wire.DeskItem{}
	for i := range repos {
		repo := &repos[i]
		keeps := roles.In(repo).AtLeast(people.Maintainer) && !a.Account().Robot
		if keeps {
			kept[repo.ID] = repo
		}
		items, err := s.deskIn(snap, a, repo, keeps)
		if err != nil {
			return nil, fmt.Errorf("look into %s: %w", repo.Name, err)
		}
		out = append(out, items...)
	}
	for _, more := range []func() ([]wire.DeskItem, error){
		func() ([]wire.DeskItem, error) { return s.deskSilent(db, kept) },
		func() ([]wire.DeskItem, error) { return deskProposals(ctx, db, a) },
		func() ([]wire.DeskItem, error) { return deskWebhooks(db, a, kept) },
	} {
		items, err := more()
		if err != nil {
			return nil, err
		}
		out = append(out, items...)
	}
	if full := s.disk.Full(); full != "" && a.Account().Admin {
		out = append(out, wire.DeskItem{Kind: "disk", Title: "no push is taken, and nothing lands", What: full, Since: s.records.Now()})
	}
	slices.SortStableFunc(out, func(x, y wire.DeskItem) int {
		return cmp.Or(slices.Index(deskOrder, x.Kind)-slices.Index(deskOrder, y.Kind), boolOrder(x.Asked, y.Asked),
			x.Since.Compare(y.Since))
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

// deskIn is what waits for the actor in one repository, as far as it follows from the repository's records: remembered for as long
// as nothing is written about it, where it does not depend on the time.
func (s *Desk) deskIn(snap *records.View, a accounts.Actor, repo *records.Repository, keeps bool) ([]wire.DeskItem, error) {
	had, known, err := s.known(snap, a, repo)
	if err != nil {
		return nil, err
	}
	if known {
		return had.items, s.doubted(snap, a, repo, keeps, had)
	}
	out, lasts, err := s.lookIn(snap, a, repo, keeps, had.standing)
	if err == nil && had.certain && lasts {
		recall.Keep(s.memory, had.key, recall.ByLength(out), out)
	}
	return out, err
}

// remembered is what is known of what waits for somebody in a repository, and under what it is found.
type remembered struct {
	items    []wire.DeskItem
	key      recall.Key
	certain  bool // the snapshot is surely of that edition
	standing freezes.Standing
}

// known finds what is remembered of what waits for the actor in one repository.
func (s *Desk) known(snap *records.View, a accounts.Actor, repo *records.Repository) (remembered, bool, error) {
	standing, err := freezes.InForce(snap.DB, repo, s.records.Now())
	if err != nil {
		return remembered{}, false, err
	}
	edition, certain := records.EditionOf(snap.DB, repo.ID)
	r := remembered{certain: certain, standing: standing, key: recall.Key{What: "desk", Repo: repo.ID, Of: a.Login() + " " + strconv.FormatUint(edition, 10) + standing.IDs}}
	if !certain {
		return r, false, nil
	}
	var there bool
	r.items, there = recall.Found[[]wire.DeskItem](s.memory, r.key)
	return r, there, nil
}

// doubted works out anew what was remembered, where that was asked for, and tells when it is another.
func (s *Desk) doubted(snap *records.View, a accounts.Actor, repo *records.Repository, keeps bool, had remembered) error {
	if !s.facts.Doubts() {
		return nil
	}
	now, _, err := s.lookIn(snap, a, repo, keeps, had.standing)
	if err == nil && !reflect.DeepEqual(now, had.items) {
		if edition, certain := records.EditionOf(snap.DB, repo.ID); certain {
			s.facts.Doubt(fmt.Sprintf("the desk of %s in %s is remembered as %+v and is %+v (%d)", a.Login(), repo.Name, had.items, now, edition))
		}
	}
	return err
}

// lookIn finds out what waits for the actor in one repository, and whether that lasts until something is written about it.
func (s *Desk) lookIn(snap *records.View, a accounts.Actor, repo *records.Repository, keeps bool, standing freezes.Standing) (out []wire.DeskItem, lasts bool, err error) {
	if repo.Trouble != "" && repo.TroubleSince != nil && a.Account().Admin {
		out = append(out, wire.DeskItem{Kind: "stopped", Repository: repo.Name, Title: "read-only",
			What: repo.Trouble, Since: *repo.TroubleSince})
	}
	if keeps {
		kept, err := s.deskKept(snap.DB, a, repo)
		if err != nil {
			return nil, false, err
		}
		out = append(out, kept...)
	}
	everybody, err := accounts.PeopleOf(snap.DB, repo)
	if err != nil {
		return nil, false, err
	}
	person, belongs := everybody.Of(a.Login())
	if !belongs {
		return out, true, nil // nothing else is asked of somebody without a role
	}
	force, err := s.rulebook.RulesOf(snap.DB, repo)
	if err != nil {
		return nil, false, err
	}
	var open []records.Change
	if force.Set.MayCount(person) {
		err = snap.Where("repository_id = ? AND state IN ('draft', 'open')", repo.ID).Order("number").Find(&open).Error
	} else {
		open, err = partsIn(snap.DB, repo, person)
	}
	if err != nil {
		return nil, false, err
	}
	items, lasts, err := s.itemsOf(snap, a, repo, open, standing)
	if err == nil && s.facts.Doubts() {
		err = s.doubtParts(snap, a, repo, standing, items)
	}
	return append(out, items...), lasts, err
}

// partsIn lists the open changes that somebody has a part in whose approval the rules of a repository ask for in no case: nothing
// else of theirs can wait for them.
func partsIn(db *gorm.DB, repo *records.Repository, p people.Person) ([]records.Change, error) {
	who := []string{"person:" + p.Login}
	for _, team := range p.Teams {
		who = append(who, "team:"+team)
	}
	quoted, err := json.Marshal(p.Login)
	if err != nil {
		return nil, err
	}
	var open []records.Change
	return open, db.Raw("SELECT c.* FROM changes c JOIN revisions r ON r.change_id = c.id AND r.number = c.revision "+
		"WHERE c.repository_id = @repo AND c.state IN ('draft', 'open') AND (c.opened_by = @login OR instr(r.authors, @quoted) > 0 "+
		"OR EXISTS (SELECT 1 FROM reviews v WHERE v.change_id = c.id AND v.login = @login) "+
		"OR EXISTS (SELECT 1 FROM threads t WHERE t.change_id = c.id AND t.begun_by = @login) "+
		"OR EXISTS (SELECT 1 FROM change_reviewers a WHERE a.change_id = c.id AND a.who IN @who) "+
		"OR EXISTS (SELECT 1 FROM entries e WHERE e.change_id = c.id AND e.joined_by = @login)) ORDER BY c.number",
		map[string]any{"repo": repo.ID, "login": p.Login, "quoted": string(quoted), "who": who}).Scan(&open).Error
}

// doubtParts goes through all open changes, and tells if something of others waits for somebody after all.
func (s *Desk) doubtParts(snap *records.View, a accounts.Actor, repo *records.Repository, standing freezes.Standing, had []wire.DeskItem) error {
	var open []records.Change
	err := snap.Where("repository_id = ? AND state IN ('draft', 'open')", repo.ID).Order("number").Find(&open).Error
	if err != nil {
		return err
	}
	all, _, err := s.itemsOf(snap, a, repo, open, standing)
	if err == nil && !reflect.DeepEqual(all, had) {
		s.facts.Doubt(fmt.Sprintf("of %s waits %+v for %s, and %+v of what they have a part in", repo.Name, all, a.Login(), had))
	}
	return err
}

// itemsOf lists what some open changes ask of the actor.
func (s *Desk) itemsOf(snap *records.View, a accounts.Actor, repo *records.Repository, open []records.Change,
	standing freezes.Standing) (out []wire.DeskItem, lasts bool, err error) {
	if len(open) == 0 {
		return nil, true, nil
	}
	all, err := s.facts.RememberedUnder(snap, repo, open, standing)
	if err != nil {
		return nil, false, err
	}
	said, err := saidOf(snap.DB, open)
	if err != nil {
		return nil, false, err
	}
	ids := make([]int64, len(open))
	for i, c := range open {
		ids[i] = c.ID
	}
	found, err := conflicts.Found(snap.DB, ids)
	if err != nil {
		return nil, false, err
	}
	lasts = true
	for _, g := range all {
		lasts = lasts && !g.DependsOnTime()
		for _, item := range deskOf(a, g, said, found[g.Change.ID]) {
			item.Repository, item.Number, item.Title = repo.Name, g.Change.Number, g.Change.Title
			out = append(out, item)
		}
	}
	return out, lasts, nil
}

// said is who was asked to look at changes, and their open discussions with who spoke last, by change.
type said struct {
	asked   map[int64][]records.ChangeReviewer
	threads map[int64][]openThread
}

type openThread struct {
	records.Thread
	LastLogin string
	LastAt    time.Time
}

func saidOf(db *gorm.DB, changes []records.Change) (said, error) {
	s := said{map[int64][]records.ChangeReviewer{}, map[int64][]openThread{}}
	for some := range slices.Chunk(changes, 500) {
		ids := make([]int64, len(some))
		for i, c := range some {
			ids[i] = c.ID
		}
		var asked []records.ChangeReviewer
		if err := db.Where("change_id IN ? AND NOT optional", ids).Find(&asked).Error; err != nil {
			return s, err
		}
		for _, r := range asked {
			s.asked[r.ChangeID] = append(s.asked[r.ChangeID], r)
		}
		var open []openThread
		err := db.Raw("SELECT t.*, r.login AS last_login, r.created_at AS last_at FROM threads t JOIN comments r ON "+
			"r.id = (SELECT max(id) FROM comments WHERE thread_id = t.id) "+
			"WHERE t.change_id IN ? AND t.needs_answer AND t.resolved_by = '' ORDER BY t.id", ids).Scan(&open).Error
		if err != nil {
			return s, err
		}
		for _, t := range open {
			s.threads[t.ChangeID] = append(s.threads[t.ChangeID], t)
		}
	}
	return s, nil
}

// deskKept lists what asks for a maintainer of a repository: waivers of others that nobody has acknowledged since they were used,
// and branches whose tips are red.
func (s *Desk) deskKept(db *gorm.DB, a accounts.Actor, repo *records.Repository) ([]wire.DeskItem, error) {
	rows, err := waivers.WaiverViews(db.Where("waivers.repository_id = ? AND used_at IS NOT NULL AND acknowledged_at "+
		"IS NULL AND made_by <> ?", repo.ID, a.Login()))
	if err != nil {
		return nil, err
	}
	var out []wire.DeskItem
	for _, o := range rows {
		var waived []string
		for _, r := range o.Waives {
			waived = append(waived, r.Title)
		}
		out = append(out, wire.DeskItem{Kind: "acknowledge", Repository: repo.Name, Number: o.Number,
			Title: fmt.Sprintf("waiver %d on %s", o.ID, o.Branch), Since: *o.UsedAt,
			What: fmt.Sprintf("%s waived: %s. The reason given: %s", o.By, strings.Join(waived, "; "), o.Reason), ID: o.ID})
	}
	red, err := s.checks.RedTips(db, repo)
	for _, r := range red {
		what := fmt.Sprintf("%s %s on the tip %.10s", r.Check, r.State, r.Commit)
		if r.Summary != "" {
			what += ": " + r.Summary
		}
		out = append(out, wire.DeskItem{Kind: "red-tip", Repository: repo.Name, Title: r.Branch + " is red", What: what, Since: r.Since})
	}
	return out, err
}

// deskSilent lists the checks that nobody answers, for maintainers. It depends on the time.
func (s *Desk) deskSilent(db *gorm.DB, kept map[int64]*records.Repository) ([]wire.DeskItem, error) {
	silent, err := s.checks.SilentIn(db, kept)
	var out []wire.DeskItem
	for _, c := range silent {
		who := "nobody answers for it"
		if c.Runner {
			who = "no runner takes it"
		}
		out = append(out, wire.DeskItem{Kind: "silent", Repository: kept[c.Repo].Name,
			Title: fmt.Sprintf("check %s on %.10s", c.Name, c.Commit), What: fmt.Sprintf("%s, attempt %d, asked for %s",
				who, c.Attempt, c.For), Since: c.Since})
	}
	return out, err
}

// deskWebhooks lists the webhooks of repositories and houses, for their maintainers, and of the service, for administrators, that
// have given up deliveries.
func deskWebhooks(db *gorm.DB, a accounts.Actor, kept map[int64]*records.Repository) ([]wire.DeskItem, error) {
	hooks, err := outbox.InTrouble(db)
	if err != nil {
		return nil, err
	}
	var out []wire.DeskItem
	for _, h := range hooks {
		where := ""
		switch {
		case h.RepositoryID != nil:
			repo, ours := kept[*h.RepositoryID]
			if !ours {
				continue
			}
			where = repo.Name
		case h.HouseID != nil:
			var house records.House
			if err := db.First(&house, *h.HouseID).Error; err != nil {
				return nil, err
			}
			role, err := accounts.HouseRole(db, a.Account(), house.ID)
			if err != nil {
				return nil, err
			}
			if role != string(people.Maintainer) && !a.Account().Admin {
				continue
			}
			where = house.Name
		case !a.Account().Admin:
			continue
		}
		out = append(out, webhookItem(h.Webhook, where))
	}
	return out, nil
}

// webhookItem says why somebody has to look at a webhook.
func webhookItem(h wire.Webhook, where string) wire.DeskItem {
	item := wire.DeskItem{Kind: "webhook", Repository: where, Title: "webhook " + h.Name, ID: h.ID, Since: h.CreatedAt}
	if h.FailingSince != nil {
		item.Since = *h.FailingSince
	}
	if h.Parked > 0 {
		item.What = fmt.Sprintf("%s given up; %s", deliveries(h.Parked), cmp.Or(h.Trouble, "others went through since"))
	}
	if h.Off != "" {
		item.What = "it is off: " + h.Off
	}
	return item
}

func deliveries(n int) string {
	if n == 1 {
		return "1 delivery was"
	}
	return fmt.Sprintf("%d deliveries were", n)
}

// deskOf lists what one change asks of the actor.
func deskOf(a accounts.Actor, g facts.Gathered, said said, x records.Conflict) []wire.DeskItem {
	var out []wire.DeskItem
	report := g.Judge()
	mine := slices.Contains(g.Facts.Authors, a.Login())
	i := slices.IndexFunc(g.Facts.Reviews, func(r change.Review) bool { return r.By == a.Login() })
	switch {
	case i >= 0 && g.Facts.Reviews[i].Verdict == change.Object && g.Facts.Reviews[i].Revision < g.Change.Revision:
		out = append(out, wire.DeskItem{Kind: "look-again", Since: g.Revision.CreatedAt, What: fmt.Sprintf(
			"you object to revision %d, and revision %d is there: approve it, object again, or withdraw", g.Facts.Reviews[i].Revision, g.Change.Revision)})
	case g.Change.State == "open":
		if item, asked := deskReview(a, g, report, said.asked[g.Change.ID]); asked {
			out = append(out, item)
		}
	}
	for _, t := range said.threads[g.Change.ID] { // those that the actor began, and those on changes of theirs
		if t.LastLogin != a.Login() && (mine || t.BegunBy == a.Login()) {
			out = append(out, wire.DeskItem{Kind: "answer", Since: t.LastAt, ID: t.ID,
				What: fmt.Sprintf("%s wrote on %s", t.LastLogin, facts.Where(t.Thread))})
		}
	}
	if x.ChangeID != 0 && mine {
		out = append(out, wire.DeskItem{Kind: "conflict", Since: x.FoundAt, What: conflicts.Told(g.Change.Number, x).Text("")})
	}
	if x := g.Ejected(); x != nil && (mine || x.JoinedBy == a.Login()) {
		out = append(out, wire.DeskItem{Kind: "ejected", What: report.Summary, Since: *x.EndedAt})
	} else if mine && !report.Ready {
		out = append(out, wire.DeskItem{Kind: "own", What: report.Summary, Since: g.Change.UpdatedAt})
	}
	return out
}

// deskReview says whether an approval of the actor would help, or they were asked by name and have not spoken.
func deskReview(a accounts.Actor, g facts.Gathered, report gate.Report,
	asked []records.ChangeReviewer) (wire.DeskItem, bool) {
	var wanted []string
	for _, q := range report.Requirements {
		if slices.Contains(q.WhoCan(require.DoApprove), a.Login()) && q.Level == require.Required {
			wanted = append(wanted, q.Lacks)
		}
	}
	person, _ := g.Facts.People.Of(a.Login())
	named := slices.ContainsFunc(asked, func(r records.ChangeReviewer) bool { return person.Is(accounts.PrincipalNamed(r.Who)) })
	spoken := slices.ContainsFunc(g.Facts.Reviews, func(r change.Review) bool { return r.By == a.Login() })
	item := wire.DeskItem{Kind: "review", Since: g.Revision.CreatedAt, Asked: named, What: strings.Join(wanted, "; ")}
	if len(wanted) == 0 {
		item.What = "you were asked to look at it"
	}
	mine := slices.Contains(g.Facts.Authors, a.Login())
	return item, !person.Standby && (len(wanted) > 0 || named && !spoken && !mine)
}

// deskProposals lists the proposals about rules that the actor may decide.
func deskProposals(ctx context.Context, db *gorm.DB, a accounts.Actor) ([]wire.DeskItem, error) {
	var rows []records.RulesProposal
	if err := db.Where("state = 'open' AND proposed_by <> ?", a.Login()).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	var out []wire.DeskItem
	for _, row := range rows {
		h, err := rulebook.ShelfOf(db, row.RepositoryID, row.HouseID)
		if err != nil {
			return nil, err
		}
		if _, err := rulebook.RuleShelf(db, a, h.Name(), false); err != nil {
			continue // not for them to see
		}
		last, err := h.Newest(db)
		if err != nil {
			return nil, err
		}
		was, err := rulebook.ReadBack(db, h, last)
		if err != nil {
			return nil, err
		}
		if rulebook.MayDecide(db, a, h, row, was, true) == nil {
			out = append(out, wire.DeskItem{Kind: "decide", Repository: h.Name(), Number: int(row.ID),
				Title: row.Reason, Since: row.ProposedAt, ID: row.ID,
				What: row.ProposedBy + " proposed it, and it loosens the rules"})
		}
	}
	return out, ctx.Err()
}
