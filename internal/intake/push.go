package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"gorm.io/gorm/clause"

	"tavrin/internal/accounts"
	"tavrin/internal/bounds"
	"tavrin/internal/changes"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/guard"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
	"tavrin/internal/facts"
	"tavrin/internal/freezes"
	"tavrin/internal/git"
	"tavrin/internal/git/transport"
	"tavrin/internal/moves"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
)

// Fetch prepares a repository for fetching by an actor. What only a check robot's token opens is narrow: nothing is listed, and
// may says of each object that is asked for whether it may be had, by its id; nil: whatever there is.
func (s *Intake) Fetch(ctx context.Context, a accounts.Actor, name string) (bare *git.Repo, may func(id string) error, err error) {
	if err := s.access.MayCall(a, "git-fetch"); err != nil {
		return nil, nil, err
	}
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Reader)
	if err != nil {
		return nil, nil, err
	}
	if a.Scope() == accounts.ScopeChecks {
		may = func(id string) error {
			if err := facts.WantsOf(s.records.Read(ctx), a, repo, id); err != nil {
				return err
			}
			return s.checks.Fetched(ctx, a, repo, id)
		}
	}
	return s.disk.Bare(repo), may, nil
}

// Pushable prepares a repository for a push by an actor. Whether the push may do what it wants is decided when
// its content is known; who may not write at all is refused here.
func (s *Intake) Pushable(ctx context.Context, a accounts.Actor, name string) (*git.Repo, error) {
	if err := s.access.MayCall(a, "git-push"); err != nil {
		return nil, err
	}
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	if !a.Known() {
		return nil, problem.New(problem.SignInNeeded, "sign in to push to %s: give a token as the Basic password", name)
	}
	if _, err := accounts.Reach(s.records.Read(ctx), a, name, people.Writer); err != nil {
		return nil, err
	}
	if err := s.roomy(); err != nil { // before anything is sent
		return nil, err
	}
	return s.disk.Bare(repo), nil
}

// Receive takes a push of an actor: body is the request of git's push protocol, w gets the answer, which names pages of the
// service at address.
func (s *Intake) Receive(ctx context.Context, a accounts.Actor, name, address string, body io.Reader, w io.Writer) error {
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Writer)
	if err != nil {
		return err
	}
	p := push{s: s, a: a, repo: repo, bare: s.disk.Bare(repo), address: address}
	return s.receiver.Receive(ctx, p.bare, body, w, func(ctx context.Context, in *transport.Incoming) ([]transport.Result, []string) {
		results, lines := p.decide(ctx, in)
		return results, append(lines, p.conflicting(ctx, in, results)...)
	})
}

// roomy refuses what would be written where the disk is nearly full: before it hurts what is there.
func (s *Intake) roomy() error {
	if full := s.disk.Full(); full != "" {
		return problem.New(problem.Unavailable, "%s. Nothing was done; try again when an administrator has made room", full)
	}
	return nil
}

// conflicting says which changes that were pushed to do not go together with their targets. It is looked at when the push is done,
// and the lock given back.
func (p *push) conflicting(ctx context.Context, in *transport.Incoming, results []transport.Result) []string {
	var branches []string
	for i, u := range in.Updates {
		if name, is := strings.CutPrefix(u.Ref, "refs/heads/"); is && results[i].Refused == "" && u.New != "" {
			branches = append(branches, name)
		}
	}
	lines, err := p.s.conflicts.TellPusher(ctx, p.repo, branches)
	if err != nil && ctx.Err() == nil {
		p.s.log.Warn("it could not be looked whether a push brings conflicts", "repository", p.repo.Name, "error", err)
	}
	return lines
}

// push is one push while it is decided.
type push struct {
	s      *Intake
	a      accounts.Actor
	repo   *records.Repository
	bare   *git.Repo
	force  *rulebook.InForce // the rules it was judged by
	takes  []int64           // comments whose suggestions it applies
	beside bool              // whether it has branches or tags
	stops  string            // the freezes in force
	apart  bool              // it depends on more than the refs that it moves
	// address is that of the service, as whoever pushes reaches it; empty: not known.
	address string
}

// decide judges a push and carries out what is allowed: judged before the repository's lock is taken, compared and moved under it,
// together with others that wait for it (together.go).
func (p *push) decide(ctx context.Context, in *transport.Incoming) ([]transport.Result, []string) {
	ctx = context.WithoutCancel(ctx) // from here on a client that hangs up changes nothing
	if err := p.s.roomy(); err != nil {
		return p.failed(in, err)
	}
	x := p.prepare(ctx, in)
	p.s.lines.of(p.repo.ID).carryOut(ctx, p.s, x)
	return x.results, x.lines
}

// alone judges a push and carries out what is allowed, all of it under the repository's lock, which is held.
func (p *push) alone(ctx context.Context, in *transport.Incoming) ([]transport.Result, []string) {
	for {
		results, lines, err := p.attempt(ctx, in)
		switch {
		case errors.Is(err, errRulesMoved):
			continue // rules were applied since it was judged, and nothing was done yet: judge again
		case err != nil:
			return p.failed(in, err)
		}
		return results, lines
	}
}

// errRulesMoved says that other rules are in force than those a push was judged by.
var errRulesMoved = errors.New("the rules changed meanwhile")

// attempt judges a push once and carries out what is allowed.
func (p *push) attempt(ctx context.Context, in *transport.Incoming) ([]transport.Result, []string, error) {
	if err := p.s.access.Still(ctx, p.a); err != nil { // it may have taken long to arrive
		return nil, nil, err
	}
	verdicts, err := p.judge(ctx, in)
	if err != nil {
		return nil, nil, err
	}
	if in.Atomic && slices.ContainsFunc(verdicts, func(v guard.Verdict) bool { return !v.Allowed && !v.LeftOut }) {
		for i := range verdicts {
			if verdicts[i].Allowed {
				verdicts[i] = guard.NotTried()
			}
		}
	}
	results, lines, wanted := p.sorted(in, verdicts)
	more, err := p.carryOut(ctx, in, wanted, results)
	return results, append(lines, more...), err
}

// sorted makes of verdicts what is to be moved, and says of the rest why not.
func (p *push) sorted(in *transport.Incoming, verdicts []guard.Verdict) (results []transport.Result, lines []string, wanted []wantedMove) {
	results = make([]transport.Result, len(verdicts))
	var leftOut []string
	for i, v := range verdicts {
		lines = append(lines, v.Lines...)
		if v.LeftOut {
			leftOut = append(leftOut, in.Updates[i].Ref)
		} else if v.Allowed {
			wanted = append(wanted, wantedMove{git.Move{Ref: in.Updates[i].Ref, Old: in.Updates[i].Old,
				New: in.Updates[i].New}, i, v.Exempted, v.Permit})
		} else {
			results[i].Refused = v.Short
			p.s.access.CountRefusal(p.a.Login(), "push to "+in.Updates[i].Ref+" of "+p.repo.Name, v.Short)
			p.s.log.Info("push refused", "repository", p.repo.Name, "ref", in.Updates[i].Ref, "by", p.a.Login(), "why",
				v.Short)
		}
	}
	if len(leftOut) > 0 {
		lines = append(lines, fmt.Sprintf("Left out: %s%s. Only branches and tags are kept here.", leftOut[0], andOthers(len(leftOut)-1)))
	}
	return results, lines, wanted
}

func andOthers(n int) string {
	switch n {
	case 0:
		return ""
	case 1:
		return " and 1 other"
	}
	return fmt.Sprintf(" and %d others", n)
}

// wantedMove is an allowed move and the place of its result.
type wantedMove struct {
	git.Move
	place    int
	exempted []require.Source // protections that would have refused it
	permit   int64            // the waiver that it rests on; 0: none
}

func (p *push) failed(in *transport.Incoming, err error) ([]transport.Result, []string) {
	results := make([]transport.Result, len(in.Updates))
	if told := (*problem.Problem)(nil); errors.As(err, &told) {
		short := "the service cannot take it now"
		if told.Kind != problem.Unavailable {
			short = told.Text
		}
		for i := range results {
			results[i].Refused = short
		}
		return results, []string{told.Text}
	}
	p.s.log.Error("push failed", "repository", p.repo.Name, "by", p.a.Login(), "error", err)
	for i := range results {
		results[i].Refused = "the service failed; nothing of this push was done"
	}
	return results, []string{"The service could not judge this push, and did nothing of it. Push again; if that " +
		"does not help, its log says why."}
}

// judge gives a verdict on each update, with the objects of the push in sight.
func (p *push) judge(ctx context.Context, in *transport.Incoming) ([]guard.Verdict, error) {
	db := p.s.records.Read(ctx)
	var err error
	if p.force, err = p.s.rulebook.RulesOf(db, p.repo); err != nil {
		return nil, err
	}
	people, err := accounts.PeopleOf(db, p.repo)
	if err != nil {
		return nil, err
	}
	refs, err := p.bare.Refs(ctx, "refs/")
	if err != nil {
		return nil, err
	}
	tips := map[string]string{}
	branches := 0
	for _, r := range refs {
		tips[r.Name] = r.ID
		if strings.HasPrefix(r.Name, "refs/heads/") {
			branches++
		}
	}
	facts := guard.Facts{Repository: p.repo.Name, Pusher: people.Named(p.a.Login()), People: people, Rules: p.force.Now(),
		Empty: branches == 0, Default: p.repo.DefaultBranch, Console: p.address}
	standing, err := freezes.InForce(db, p.repo, p.s.records.Now())
	if err != nil {
		return nil, err
	}
	facts.Stops, p.stops = standing.Of, standing.IDs
	p.apart = facts.Empty || len(refs)+len(in.Updates)+mostTogether > int(p.s.bounds.RepositoryRefs)
	if err := p.names(in, &facts, refs); err != nil {
		return nil, err
	}
	if facts.Permits, err = p.s.waivers.Permits(db, p.repo, p.a.Login()); err != nil {
		return nil, err
	}
	p.beside = slices.ContainsFunc(in.Updates, func(u transport.Update) bool {
		return strings.HasPrefix(u.Ref, "refs/heads/") || strings.HasPrefix(u.Ref, "refs/tags/")
	})
	verdicts := make([]guard.Verdict, len(in.Updates))
	for i, u := range in.Updates {
		if verdicts[i], err = p.judgeOne(ctx, in, u, tips, facts); err != nil {
			return nil, err
		}
	}
	return verdicts, nil
}

// names notes which names are taken already, where the push makes new ones, and marks those beyond the bound.
func (p *push) names(in *transport.Incoming, facts *guard.Facts, refs []git.Ref) error {
	made, there := 0, 0
	for _, r := range refs {
		if strings.HasPrefix(r.Name, "refs/heads/") || strings.HasPrefix(r.Name, "refs/tags/") {
			there++
		}
	}
	for i := range in.Updates {
		u := &in.Updates[i]
		if u.Old != "" || u.New == "" || strings.HasPrefix(u.Ref, guard.Preview) {
			continue
		}
		if made++; int64(there+made) > p.s.bounds.RepositoryRefs && u.Problem == "" {
			u.Problem = p.s.bounds.Reach("repository.refs", "%s has %d branches and tags", p.repo.Name,
				there+made-1).Error()
		}
	}
	if made == 0 {
		return nil
	}
	facts.Taken = map[string]string{}
	take := func(ref string) {
		if strings.HasPrefix(ref, "refs/heads/") || strings.HasPrefix(ref, "refs/tags/") {
			if like := guard.Likeness(ref); facts.Taken[like] == "" {
				facts.Taken[like] = ref
			}
		}
	}
	for _, r := range refs {
		take(r.Name)
	}
	for _, u := range in.Updates {
		if u.Old == "" && u.New != "" && u.Problem == "" {
			take(u.Ref)
		}
	}
	return nil
}

func (p *push) judgeOne(ctx context.Context, in *transport.Incoming, u transport.Update, tips map[string]string,
	facts guard.Facts) (guard.Verdict, error) {
	isBranch := strings.HasPrefix(u.Ref, "refs/heads/")
	g := guard.Update{Ref: u.Ref, Old: u.Old, New: u.New, Beside: p.beside}
	switch {
	case g.Beside && guard.Others(u.Ref): // whatever else is the matter with it
		return guard.Judge(g, facts), nil
	case u.Problem != "":
		return guard.Verdict{Short: u.Problem, Lines: []string{fmt.Sprintf("Refused: %s: %s.", u.Ref, u.Problem)}}, nil
	case u.Old != tips[u.Ref]:
		return guard.Verdict{Short: "moved meanwhile: fetch first",
			Lines: []string{fmt.Sprintf("Refused: %s has moved since you fetched it: git fetch, then push again.",
				u.Ref)}}, nil
	case isBranch && u.New != "" && !in.IsCommit(ctx, u.New):
		return guard.Verdict{Short: "not a commit",
			Lines: []string{fmt.Sprintf("Refused: %.10s is not a commit, and a branch points at one.", u.New)}}, nil
	}
	if isBranch && u.Old != "" && u.New != "" {
		var err error
		if g.Forward, err = in.Contains(ctx, u.New, u.Old); err != nil {
			return guard.Verdict{}, err
		}
	}
	if isBranch && u.New != "" && !facts.Empty && facts.Rules.For(strings.TrimPrefix(u.Ref, "refs/heads/")).Protected {
		err := p.look(ctx, in, &g, tips, facts.Rules)
		if reached := (*bounds.Reached)(nil); errors.As(err, &reached) && changes.AboutTheChange(err) {
			return guard.Verdict{Short: "more than can be judged at once",
				Lines: []string{fmt.Sprintf("Refused: %s: %s. Push it in parts, or propose it as a change.", u.Ref,
					reached)}}, nil
		}
		if err != nil {
			return guard.Verdict{}, err
		}
	}
	if tag, isTag := strings.CutPrefix(u.Ref, "refs/tags/"); isTag && u.New != "" && facts.Rules.ForTag(tag, facts.Pusher.Is).Protected {
		var err error
		if g.Tag, err = p.tag(ctx, in, u.New); err != nil {
			return guard.Verdict{}, err
		}
	}
	return guard.Judge(g, facts), nil
}

// tag finds out what is known of a tag.
func (p *push) tag(ctx context.Context, in *transport.Incoming, id string) (change.Tag, error) {
	s, object, signed, err := in.TagSignature(ctx, id)
	if err != nil || !object {
		return change.Tag{}, err
	}
	known, err := facts.GateCommits(p.s.records.Read(ctx), p.repo.ID, []records.BroughtCommit{{ID: id, Signed: signed, Key: s.Key,
		BadSignature: s.Bad}})
	if err != nil {
		return change.Tag{}, err
	}
	return change.Tag{ID: id, Signature: known[0].Signature}, nil
}

// look finds out what the decision about a protected branch depends on besides the move itself.
func (p *push) look(ctx context.Context, in *transport.Incoming, g *guard.Update, tips map[string]string,
	set *rules.Set) error {
	e := set.For(strings.TrimPrefix(g.Ref, "refs/heads/"))
	if g.Old == "" {
		for ref, tip := range tips {
			branch, isBranch := strings.CutPrefix(ref, "refs/heads/")
			if !isBranch || !slices.ContainsFunc(e.Protections,
				func(m rules.Matching) bool { return m.Holds([]string{branch}) }) {
				continue
			}
			held, err := in.Contains(ctx, tip, g.New)
			if err != nil {
				return err
			}
			if held {
				g.Held = append(g.Held, branch)
			}
			if e.MayBegin(g.Held) {
				break
			}
		}
	}
	var not []string
	if g.Old != "" {
		not = append(not, g.Old)
	} else {
		for ref, tip := range tips { // what every protection takes for held is not new to it
			if branch, isBranch := strings.CutPrefix(ref, "refs/heads/"); isBranch && e.MayBegin([]string{branch}) {
				not = append(not, tip)
			}
		}
	}
	log, err := in.Log(ctx, g.New, not)
	if err != nil {
		return err
	}
	g.Commits, err = facts.GateCommits(p.s.records.Read(ctx), p.repo.ID, facts.Kept(log))
	return err
}

// carryOut lets the objects in, puts on record what is about to move, moves the refs, and records what came of it.
func (p *push) carryOut(ctx context.Context, in *transport.Incoming, wanted []wantedMove,
	results []transport.Result) ([]string, error) {
	if len(wanted) == 0 {
		return nil, nil
	}
	if err := in.Admit(); err != nil {
		return nil, fmt.Errorf("let the objects in: %w", err)
	}
	intents, err := p.s.intend(ctx, []*part{{push: p, in: in, wanted: wanted}})
	if err != nil {
		return nil, err
	}
	p.s.moves.At("push:intended")
	groups := make([][]wantedMove, 0, len(wanted))
	if in.Atomic {
		groups = append(groups, wanted)
	} else {
		groups = together(wanted)
	}
	var lines []string
	for n := 0; len(groups) > 0; groups = groups[1:] {
		group := groups[0]
		told, refused := p.s.moveAll(ctx, p.repo, group, intents[n:n+len(group)], in.Atomic)
		for i, w := range group {
			results[w.place].Refused = refused[i]
			lines = append(lines, told[i]...)
		}
		n += len(group)
	}
	return lines, nil
}

// moveAll moves refs whose intents are on record at once, and records what came of it. Where one of them does not go, each is
// moved by itself, unless they go together or not at all.
func (s *Intake) moveAll(ctx context.Context, repo *records.Repository, group []wantedMove, intents []records.Intent,
	atomic bool) (told [][]string, refused []string) {
	told, refused = make([][]string, len(group)), make([]string, len(group))
	list, refs := make([]git.Move, len(group)), make([]string, len(group))
	for i, w := range group {
		list[i], refs[i] = w.Move, w.Ref
	}
	s.moves.Note(repo.ID, refs...) // before they do: whoever has looked may not go by what was
	err := s.disk.Bare(repo).MoveRefs(ctx, list...)
	s.moves.At("push:moved")
	if err == nil {
		done := make([]*records.Intent, len(intents))
		for i := range intents {
			done[i] = &intents[i]
		}
		lines, err := s.finishAll(ctx, repo, done)
		if err == nil {
			return lines, refused
		}
	}
	for i := range group {
		why := err
		if err != nil && len(group) > 1 && !atomic { // one of them did not go: each by itself
			why = s.disk.Bare(repo).MoveRefs(ctx, group[i].Move)
			s.moves.At("push:moved")
		}
		told[i], refused[i] = s.settleMove(ctx, repo, &intents[i], why)
	}
	return told, refused
}

// atOnce is how many new refs are made at once.
const atOnce = 500

// together puts the moves of a push into groups that one run of Git makes: new names by the hundreds, as a mirror brings them,
// and everything else each by itself, so that one that fails takes no other with it.
func together(wanted []wantedMove) [][]wantedMove {
	var groups [][]wantedMove
	for i, w := range wanted {
		if last := len(groups) - 1; i > 0 && w.Old == "" && wanted[i-1].Old == "" && len(groups[last]) < atOnce {
			groups[last] = append(groups[last], w)
			continue
		}
		groups = append(groups, []wantedMove{w})
	}
	return groups
}

// settleMove finds out what came of a move, and records it. What cannot be written down now is settled by the next
// round: nobody is told that a branch stands where it does not stand.
func (s *Intake) settleMove(ctx context.Context, repo *records.Repository, intent *records.Intent, failed error) (told []string, refused string) {
	later := func(err error, text string) []string {
		s.log.Error("a push is not on record yet", "repository", repo.Name, "ref", intent.Ref, "error", err)
		s.moves.Nudge()
		return []string{text}
	}
	if failed != nil {
		moved, _, err := s.moves.HasMoved(ctx, repo, intent.Ref, intent.Old, intent.New)
		if err != nil {
			return later(errors.Join(failed, err), fmt.Sprintf("The service could not find out whether %s has "+
				"moved: git fetch shows it. What follows from it is recorded as soon as it can be.", intent.Ref)), "the service could not tell whether it moved"
		}
		if !moved {
			if err := s.moves.Close(ctx, intent, moves.Dropped); err != nil {
				return later(err, "It did not move."), refusedByGit(failed)
			}
			return nil, refusedByGit(failed)
		}
	}
	told, err := s.FinishPush(ctx, repo, intent)
	if err != nil {
		return later(err, fmt.Sprintf("%s has moved. What follows from it, such as new revisions of changes, could "+
			"not be written down yet; the service does it as soon as it can.", intent.Ref)), ""
	}
	return told, ""
}

func refusedByGit(err error) string {
	if errors.Is(err, git.ErrMoved) {
		return "moved meanwhile: fetch first"
	}
	return "git could not move the ref: mostly another branch stands in the way of its name"
}

// intend records, in one transaction, whose commits came with some pushes, and which refs are about to move: the rules are still those
// that each was judged by. The intents are in the order of the pushes' moves.
func (s *Intake) intend(ctx context.Context, parts []*part) ([]records.Intent, error) {
	var intents []records.Intent
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		intents = nil
		for _, x := range parts {
			p := x.push
			tx.Touches(p.repo)
			force, err := s.rulebook.RulesOf(tx.DB, p.repo)
			if err != nil {
				return err
			}
			if !force.SameAs(p.force) {
				return errRulesMoved
			}
			brought := slices.Concat(x.in.Commits(), x.in.Rode())
			owned := make([]records.PushedCommit, len(brought))
			for i, id := range brought {
				owned[i] = records.PushedCommit{RepositoryID: p.repo.ID, CommitID: id, Login: p.a.Login()}
			}
			if len(owned) > 0 {
				if err := tx.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(owned, 500).Error; err != nil {
					return err
				}
			}
			for _, w := range x.wanted {
				i := records.Intent{RepositoryID: p.repo.ID, Kind: moves.Push, Ref: w.Ref, Old: w.Old, New: w.New,
					Actor: p.a.Login(), Takes: p.takes,
					RulesVersion: force.Own.Version, HouseVersion: force.House.Version, CreatedAt: s.records.Now()}
				if w.permit != 0 {
					i.WaiverID = &w.permit
				}
				intents = append(intents, i)
				if len(w.exempted) == 0 {
					continue
				}
				err := tx.Record(p.a.Login(), p.repo, event.RulesExempted{
					Ref: w.Ref, New: w.New, Sources: []string{require.Because(w.exempted)}, Asker: p.a.Login(),
				})
				if err != nil {
					return err
				}
			}
		}
		return tx.CreateInBatches(&intents, 500).Error
	})
	return intents, err
}

// FinishPush records a ref that has moved by a push, and makes the revisions that follow from it. It returns
// lines for the pusher's terminal. The repository's lock is held.
func (s *Intake) FinishPush(ctx context.Context, repo *records.Repository, i *records.Intent) ([]string, error) {
	lines, err := s.finishAll(ctx, repo, []*records.Intent{i})
	if err != nil {
		return nil, err
	}
	return lines[0], nil
}

// followed is what follows from a ref that has moved, worked out with Git before it is recorded.
type followed struct {
	revisions []changes.PendingRevision
	told      []string
}

// follows works that out.
func (s *Intake) follows(ctx context.Context, repo *records.Repository, i *records.Intent) (f followed, err error) {
	if !strings.HasPrefix(i.Ref, "refs/heads/") || i.New == "" {
		return f, nil
	}
	if f.revisions, f.told, err = s.changes.Followed(ctx, repo, i); err != nil {
		return f, err
	}
	more, err := s.rewritten(ctx, repo, i)
	if err != nil {
		return f, err
	}
	f.told = append(f.told, more...)
	return f, s.changes.Keep(ctx, repo, f.revisions...)
}

// finishAll is FinishPush for several refs, recorded in one transaction: all, or none. It returns the lines of each.
func (s *Intake) finishAll(ctx context.Context, repo *records.Repository, intents []*records.Intent) ([][]string, error) {
	all := make([]followed, len(intents))
	for n, i := range intents {
		var err error
		if all[n], err = s.follows(ctx, repo, i); err != nil {
			return nil, err
		}
	}
	lines := make([][]string, len(intents))
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		ids := make([]int64, len(intents))
		for n, i := range intents {
			ids[n] = i.ID
			lines[n] = all[n].told
			if err := tx.Record(i.Actor, repo, moveOf(i)); err != nil {
				return err
			}
			for _, r := range all[n].revisions {
				if err := s.changes.SaveRevision(tx, repo, r); err != nil {
					return err
				}
				lines[n] = append(lines[n], fmt.Sprintf("Change %d, %q, is now at revision %d: tavrin change show %d --repo %s",
					r.Change.Number, r.Change.Title, r.Row.Number, r.Change.Number, repo.Name))
			}
			if err := s.threads.RecordTaken(tx, repo, i); err != nil {
				return err
			}
			if i.WaiverID != nil {
				if err := s.waivers.Use(tx, repo, []int64{*i.WaiverID}, 0, i.New); err != nil {
					return err
				}
			}
		}
		for some := range slices.Chunk(ids, 500) {
			if err := tx.Model(&records.Intent{}).Where("id IN ?", some).Update("outcome", moves.Done).Error; err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for n := range all {
		for _, r := range all[n].revisions {
			more, why := s.changes.Outlives(ctx, repo, r.Change.ID)
			if why != nil { // the push is done and on record; this only tells of it
				s.log.Warn("the approvals of a pushed change could not be weighed", "repository", repo.Name, "change", r.Change.Number,
					"error", why)
			}
			lines[n] = append(lines[n], more...)
		}
	}
	return lines, nil
}

// moveOf is the event of a ref that has moved.
func moveOf(i *records.Intent) event.Event {
	m := event.RefMove{Ref: i.Ref, Old: i.Old, New: i.New, RulesVersion: i.RulesVersion}
	scratch, isBranch := strings.HasPrefix(i.Ref, guard.Preview), strings.HasPrefix(i.Ref, "refs/heads/")
	switch {
	case scratch && i.New == "":
		return event.PreviewDeleted{RefMove: m}
	case scratch && i.Old == "":
		return event.PreviewCreated{RefMove: m}
	case scratch:
		return event.PreviewMoved{RefMove: m}
	case isBranch && i.New == "":
		return event.BranchDeleted{RefMove: m, Landed: i.Kind == moves.Removal}
	case isBranch && i.Old == "":
		return event.BranchCreated{RefMove: m}
	case isBranch:
		return event.BranchMoved{RefMove: m}
	case i.New == "":
		return event.TagDeleted{RefMove: m}
	case i.Old == "":
		return event.TagCreated{RefMove: m}
	}
	return event.TagMoved{RefMove: m}
}

// settle settles a push that a kill or trouble left open: the ref says whether it moved.
func (s *Intake) settle(ctx context.Context, repo *records.Repository, i *records.Intent, made bool, _ string) error {
	if !made {
		return s.moves.Close(ctx, i, moves.Dropped)
	}
	_, err := s.FinishPush(ctx, repo, i)
	return err
}
