package queues

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/checks"
	"tavrin/internal/conflicts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/forecast"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/require"
	"tavrin/internal/core/trailer"
	"tavrin/internal/facts"
	"tavrin/internal/freezes"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// Join asks for a change to land as soon as it may. It can be asked for before the gate is ready.
func (s *Queues) Join(ctx context.Context, a accounts.Actor, name string, number int, n wire.NewEntry) (wire.Entry, error) {
	if err := typed.Prose("message", n.Message, typed.MaxProse); err != nil {
		return wire.Entry{}, err
	}
	if m := trailer.Typed(n.Message); m != "" {
		return wire.Entry{}, problem.Wrong("message", "the trailer %q is written by the service; leave it out of "+
			"the message", m)
	}
	if n.Strategy != "" && !slices.Contains(change.Strategies, n.Strategy) {
		return wire.Entry{}, problem.Wrong("strategy", "%q is not a strategy: one of %s", n.Strategy,
			gate.Join(change.Strategies))
	}
	var entry records.Entry
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		repo, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Writer)
		if err != nil {
			return err
		}
		if c.State != "draft" && c.State != "open" {
			return problem.New(problem.Conflict, "change %d is %s, so it cannot join the queue", number, c.State)
		}
		g, err := s.facts.Gather(tx.DB, repo, c)
		if err != nil {
			return err
		}
		asker, _ := g.Facts.People.Of(a.Login())
		effective := g.Set.Without(g.Facts.Suspended).Binding(c.Target, asker.Is)
		strategy, why, err := effective.Choose(n.Strategy)
		if err != nil {
			return problem.Wrong("strategy", "%v", err)
		}
		if report := g.Judge(); !effective.JoinEarly.Value && !report.Ready {
			return problem.New(problem.Conflict, "change %d may join only when its gate is ready, says %s. %s", number,
				require.Because(effective.JoinEarly.From), report.Summary)
		}
		remove := effective.DeleteSource.Value
		if n.DeleteSource != nil {
			remove = *n.DeleteSource
		}
		entry = records.Entry{RepositoryID: repo.ID, ChangeID: c.ID, Target: c.Target, State: string(queue.Waiting),
			Strategy: string(strategy),
			Message:  n.Message, DeleteSource: remove, JoinedBy: a.Login(), Reason: "its gate is about to be judged", CreatedAt: s.records.Now()}
		entry.Lines = g.Revision.Added + g.Revision.Removed
		entry.Touches.Areas, entry.Touches.Everywhere = gate.Touches(g.Set, g.Facts)
		if err := tx.Create(&entry).Error; err != nil {
			return records.OrTaken(err, "change %d is in the queue already: tavrin queue leave %d takes it out", number,
				number)
		}
		if err := s.Tell(tx, repo, c.Target, queue.Joined{At: now(tx), Entry: entry.ID, Change: number, Author: c.OpenedBy, Lines: entry.Lines}); err != nil {
			return err
		}
		return tx.Record(a.Login(), repo, event.QueueJoined{OfChange: event.OfChange{Number: number},
			Target: c.Target, Strategy: string(strategy), Why: why, DeleteSource: remove})
	})
	if err != nil {
		return wire.Entry{}, err
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	repo, err := accounts.Reach(snap.DB, a, name, people.Reader)
	if err == nil {
		err = snap.First(&entry, entry.ID).Error
	}
	if err != nil {
		return wire.Entry{}, err
	}
	return s.EntryView(snap, repo, entry)
}

// Leave takes a change out of the queue again.
func (s *Queues) Leave(ctx context.Context, a accounts.Actor, name string, number int) (wire.Entry, error) {
	repo, c, err := facts.ChangeRow(s.records.Read(ctx), a, name, number, people.Writer)
	if err != nil {
		return wire.Entry{}, err
	}
	unlock, err := s.moves.Lock(ctx, repo) // what was landing has landed or not by then
	if err != nil {
		return wire.Entry{}, err
	}
	defer unlock()
	var entry records.Entry
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Where("change_id = ? AND ended_at IS NULL", c.ID).First(&entry).Error; err != nil {
			return records.OrUnknown(err, "change %d is not in the queue", number)
		}
		if entry.JoinedBy != a.Login() {
			if err := facts.MayEdit(tx.DB, a, repo, c, "withdrawing"); err != nil {
				return err
			}
		}
		return s.Tell(tx, repo, entry.Target, queue.Left{At: now(tx), Entry: entry.ID, By: a.Login(), Why: a.Login() +
			" withdrew it"})
	})
	if err != nil {
		return wire.Entry{}, err
	}
	return s.entry(ctx, repo, entry.ID)
}

// entry describes an entry as it is now.
func (s *Queues) entry(ctx context.Context, repo *records.Repository, id int64) (wire.Entry, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	var e records.Entry
	if err := snap.First(&e, id).Error; err != nil {
		return wire.Entry{}, err
	}
	return s.EntryView(snap, repo, e)
}

// reason says why an entry is where it is. For one that has not ended it is worked out when asked, so that it is
// never behind.
func (s *Queues) reason(g facts.Gathered, state queue.State) string {
	e := state.Entry(g.Entry.ID)
	switch is := queue.EntryState(g.Entry.State); {
	case is != queue.Queued && is != queue.Rehearsing:
	case e != nil && e.Resting(s.records.Now()):
		return e.Rest.Words
	}
	switch queue.EntryState(g.Entry.State) {
	case queue.Waiting:
		return g.Judge().Summary
	case queue.Queued:
		if e != nil {
			return state.InLine(e)
		}
	case queue.Rehearsing:
		words := rehearsing(g)
		if e != nil && state.Together(e) != "" {
			words += "; " + state.Together(e)
		}
		return words
	case queue.Landing, queue.Landed, queue.Ejected, queue.Withdrawn:
	}
	return g.Entry.Reason
}

// rehearsing says what a rehearsal waits for.
func rehearsing(g facts.Gathered) string {
	var open []string
	for _, q := range g.Judge().Requirements {
		if q.At == "rehearsal" && q.Level == require.Required && q.State == require.Pending {
			open = append(open, q.Told())
		}
	}
	if len(open) == 0 {
		return "rehearsed; about to land"
	}
	return "rehearsing: " + strings.Join(open, "; ")
}

// EntryView describes an entry.
func (s *Queues) EntryView(snap *records.View, repo *records.Repository, e records.Entry) (wire.Entry, error) {
	var c records.Change
	if err := snap.First(&c, e.ChangeID).Error; err != nil {
		return wire.Entry{}, err
	}
	g, err := s.facts.Remembered(snap, repo, c)
	if err != nil {
		return wire.Entry{}, err
	}
	all, err := s.EntryViews(snap, repo, []records.Entry{e}, []facts.Gathered{g})
	return all[e.ID], err
}

// EntryViews describes entries whose changes were gathered, by entry: each table is asked once for all of them.
func (s *Queues) EntryViews(snap *records.View, repo *records.Repository, entries []records.Entry,
	gathered []facts.Gathered) (map[int64]wire.Entry, error) {
	of := map[int64]facts.Gathered{}
	for _, g := range gathered {
		of[g.Change.ID] = g
	}
	rehearsals, checks, err := rehearsalViews(snap.DB, repo, entries)
	if err != nil {
		return nil, err
	}
	found, err := conflicts.Found(snap.DB, slices.Collect(maps.Keys(of)))
	if err != nil {
		return nil, err
	}
	full := s.disk.Full()
	lines := map[string]*line{}
	out := map[int64]wire.Entry{}
	for i := range entries {
		e := &entries[i]
		g := of[e.ChangeID]
		v := wire.Entry{
			ID: e.ID, Number: g.Change.Number, Title: g.Change.Title, Target: e.Target, State: e.State, Strategy: e.Strategy, Message: e.Message,
			DeleteSource: e.DeleteSource, JoinedBy: e.JoinedBy, Reason: e.Reason, Cause: e.Cause, CreatedAt: e.CreatedAt, EndedAt: e.EndedAt,
		}
		var path []int
		if e.EndedAt == nil {
			if lines[e.Target] == nil {
				if lines[e.Target], err = s.lineOf(snap.DB, repo, e.Target); err != nil {
					return nil, err
				}
			}
			if r := lines[e.Target].state.Rehearsal(e.Rehearsal); r != nil {
				path = lines[e.Target].state.Changes(r.Path)
			}
			v.Ahead, v.Likely = lines[e.Target].foreseen(e)
			g.Entry = e
			v.Position, v.Reason = lines[e.Target].places[e.ID], s.reason(g, lines[e.Target].state)
			if x := found[e.ChangeID]; x.ChangeID != 0 && (e.State == string(queue.Waiting) || e.State == string(queue.Queued)) {
				v.Reason = conflicts.Told(g.Change.Number, x).InLine() + "; " + v.Reason
			}
			if why := cmp.Or(full, s.Rests.Resting(repo.ID, s.records.Now())); why != "" {
				v.Reason = why
			}
		}
		if r, any := rehearsals[e.ID]; any && (r.Ended == "" || e.EndedAt != nil) {
			v.Rehearsal = &wire.Rehearsal{ID: r.ID, Number: r.Number, Path: []int{g.Change.Number}, Base: r.Base, Commit: r.CommitID, Tested: r.Tested,
				Checks: append([]wire.Check{}, checks[r.Tested]...), Since: r.CreatedAt}
		}
		if v.Rehearsal != nil && len(path) > 0 {
			v.Rehearsal.Path = path
			if r := lines[e.Target].state.Rehearsal(e.Rehearsal); r != nil {
				v.Rehearsal.Since = r.Since
			}
		}
		out[e.ID] = v
	}
	return out, nil
}

// line is the queue of one target: what it knows, and the positions of its entries.
type line struct {
	queue  records.Queue
	state  queue.State
	places map[int64]int
	order  []*queue.Entry // those in line
	likely map[int64]forecast.Likely
}

func (s *Queues) lineOf(db *gorm.DB, repo *records.Repository, target string) (*line, error) {
	q, err := s.load(db, repo.ID, target)
	if err != nil {
		return nil, err
	}
	alive, err := aliveEntries(db, repo, target)
	l := &line{queue: q, state: q.State, places: map[int64]int{}}
	l.order, l.likely = q.State.Line(), q.Watch.Likely(&q.State, s.records.Now())
	for i, e := range alive {
		l.places[e.ID] = i + 1
	}
	return l, err
}

// foreseen says who is ahead of an entry, and when it is likely to land.
func (l *line) foreseen(e *records.Entry) (ahead []int, v *wire.Likely) {
	const most = 20
	if e.State == string(queue.Waiting) {
		return nil, &wire.Likely{Words: "its gate is not ready: nobody knows how long people take"}
	}
	for _, x := range l.order[:min(len(l.order), most)] {
		if x.ID == e.ID {
			break
		}
		ahead = append(ahead, x.Change)
	}
	x, said := l.likely[e.ID]
	if !said {
		return ahead, &wire.Likely{Words: "it is tried again later"}
	}
	v = &wire.Likely{Words: x.Words}
	if !x.Half.IsZero() {
		v.Half, v.Most = &x.Half, &x.Most
	}
	return ahead, v
}

// rehearsalViews finds the newest rehearsal of each entry that was built, and the checks on it by commit.
func rehearsalViews(db *gorm.DB, repo *records.Repository,
	entries []records.Entry) (map[int64]records.Rehearsal, map[string][]wire.Check, error) {
	ids := make([]int64, len(entries))
	for i, e := range entries {
		ids[i] = e.ID
	}
	var rows []records.Rehearsal
	err := db.Where("id IN (SELECT max(r.id) FROM rehearsals r JOIN entries e ON e.id = r.entry_id WHERE r.entry_id IN ? AND r.tested <> '' "+
		"AND (r.number = e.rehearsal OR e.ended_at IS NOT NULL AND e.rehearsal = 0) GROUP BY r.entry_id)", ids).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, nil, err
	}
	out := map[int64]records.Rehearsal{}
	var commits []string
	for _, r := range rows {
		out[r.EntryID] = r
		commits = append(commits, r.Tested)
	}
	views, err := checks.CheckViews(db, repo, commits...)
	by := map[string][]wire.Check{}
	for _, v := range views {
		if v.Log = checks.LastLines(v.Log); v.State == string(change.Passed) {
			v.Log = "" // what matters here is what went wrong
		}
		by[v.Commit] = append(by[v.Commit], v)
	}
	return out, by, err
}

// aliveEntries returns the entries of a target that have not ended, in order: those in line before those waiting.
func aliveEntries(db *gorm.DB, repo *records.Repository, target string) ([]records.Entry, error) {
	var rows []records.Entry
	err := db.Where("repository_id = ? AND target = ? AND ended_at IS NULL", repo.ID, target).
		Order("CASE state WHEN 'landing' THEN 0 WHEN 'rehearsing' THEN 1 WHEN 'queued' THEN 2 ELSE 3 END, place").Find(&rows).Error
	return rows, err
}

// Queue shows the line of one target branch, by default the default branch's.
func (s *Queues) Queue(ctx context.Context, a accounts.Actor, name, branch string) (wire.Queue, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return wire.Queue{}, err
	}
	if branch == "" {
		branch = repo.DefaultBranch
	}
	if err := git.CheckBranch(branch); err != nil {
		return wire.Queue{}, problem.Wrong("branch", "%v", err)
	}
	out := wire.Queue{Branch: branch, Entries: []wire.Entry{}, Recent: []wire.Entry{}, Stops: []wire.Stop{}}
	if out.Tip, err = s.disk.Bare(repo).Tip(ctx, "refs/heads/"+branch); err != nil {
		return out, s.disk.NoBranch(ctx, repo, "", branch)
	}
	alive, err := aliveEntries(db, repo, branch)
	if err != nil {
		return out, err
	}
	var ended []records.Entry
	if err := db.Where("repository_id = ? AND target = ? AND ended_at IS NOT NULL", repo.ID,
		branch).Order("ended_at DESC").Limit(20).Find(&ended).Error; err != nil {
		return out, err
	}
	all := slices.Concat(alive, ended)
	waits, ids := map[int64]bool{}, make([]int64, len(all))
	for i, e := range all {
		ids[i] = e.ChangeID
		waits[e.ChangeID] = waits[e.ChangeID] || e.EndedAt == nil
	}
	var changes []records.Change
	if err := snap.Where("id IN ?", ids).Find(&changes).Error; err != nil {
		return out, err
	}
	var waiting []records.Change
	var gathered []facts.Gathered
	for _, c := range changes {
		if waits[c.ID] {
			waiting = append(waiting, c)
		} else {
			gathered = append(gathered, facts.Gathered{Change: c}) // nothing is said of its gate
		}
	}
	judged, err := s.facts.RememberedAll(snap, repo, waiting)
	if err != nil {
		return out, err
	}
	gathered = append(gathered, judged...)
	views, err := s.EntryViews(snap, repo, all, gathered)
	if err != nil {
		return out, err
	}
	for _, e := range all {
		if e.EndedAt == nil {
			out.Entries = append(out.Entries, views[e.ID])
		} else {
			out.Recent = append(out.Recent, views[e.ID])
		}
	}
	line, err := s.load(db, repo.ID, branch)
	if err != nil {
		return out, err
	}
	out.Kept.Half, out.Kept.Most, out.Kept.Of = line.Watch.Score()
	out.Rehearsals, out.Settings, out.Supposes = rehearsalsOf(line.State), SettingsOf(line.State.Settings), supposes(line.State)
	standing, err := freezes.InForce(db, repo, s.records.Now())
	if err != nil {
		return out, err
	}
	if full := s.disk.Full(); full != "" {
		out.Stops = append(out.Stops, wire.Stop{Disk: true, Since: s.records.Now(), Words: full, Next: "an administrator makes room; the queue goes on by itself then"})
	}
	for _, x := range standing.Of(branch) {
		v := wire.Stop{Freeze: x.ID, Words: branch + " " + x.Says(), Next: x.Next(branch), By: x.By, Since: x.Since}
		if x.Hold {
			v.Freeze = 0
		}
		if !x.Until.IsZero() {
			v.Until = &x.Until
		}
		out.Stops = append(out.Stops, v)
	}
	if out.Silent, err = s.checks.SilentChecks(db, repo); err != nil {
		return out, err
	}
	red, err := s.checks.RedTips(db, repo)
	if err != nil {
		return out, err
	}
	out.Red = slices.DeleteFunc(red, func(r wire.RedTip) bool { return r.Branch != out.Branch })
	out.Caption = caption(out)
	return out, nil
}

// caption says in a sentence what a queue is doing.
func caption(q wire.Queue) string {
	if len(q.Red) > 0 {
		r := q.Red[0]
		q.Red = nil
		return fmt.Sprintf("%s is red: %s %s on its tip. %s", q.Branch, r.Check, r.State, caption(q))
	}
	if len(q.Stops) > 0 {
		var words []string
		for _, x := range q.Stops {
			words = append(words, x.Words)
		}
		q.Stops = nil
		return fmt.Sprintf("Nothing lands now: %s. %s", strings.Join(words, "; "), caption(q))
	}
	if len(q.Entries) == 0 {
		return fmt.Sprintf("The queue of %s is empty.", q.Branch)
	}
	running := 0
	for _, r := range q.Rehearsals {
		if r.State == "running" || r.State == "building" {
			running++
		}
	}
	if running > 1 {
		return fmt.Sprintf("%d rehearsals for %s run in %d slots.", running, q.Branch, max(q.Settings.Slots, running))
	}
	first := q.Entries[0]
	switch queue.EntryState(first.State) {
	case queue.Landing:
		return fmt.Sprintf("Change %d is landing on %s.", first.Number, q.Branch)
	case queue.Rehearsing:
		return fmt.Sprintf("Change %d is rehearsed on %s's tip: %s.", first.Number, q.Branch,
			strings.TrimPrefix(first.Reason, "rehearsing: "))
	case queue.Queued:
		return fmt.Sprintf("Change %d is next for %s.", first.Number, q.Branch)
	}
	return fmt.Sprintf("Nothing is ready for %s: change %d waits. %s", q.Branch, first.Number, first.Reason)
}
