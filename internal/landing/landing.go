package landing

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/guard"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/statement"
	"tavrin/internal/facts"
	"tavrin/internal/freezes"
	"tavrin/internal/git"
	"tavrin/internal/moves"
	"tavrin/internal/records"
	"tavrin/internal/typed"

	"gorm.io/gorm"
)

// landClear lands what the plan says can land now, and says whether it tried.
func (s *Conductor) landClear(ctx context.Context, repo *records.Repository, target string,
	state queue.State) (bool, error) {
	_, actions := queue.Plan(state)
	tried := false
	for _, a := range actions {
		if a.Do != queue.Land || ctx.Err() != nil {
			continue
		}
		tried = true
		if err := s.land(ctx, repo, target, a); err != nil {
			return tried, fmt.Errorf("land an entry of %s on %s: %w", repo.Name, target, err)
		}
	}
	return tried, nil
}

// land moves the target to a rehearsed commit, in three steps each of which can be the last before a crash: the intents are
// recorded with the facts they rest on, one for each entry of the rehearsal; the branch moves once, by compare-and-swap; the
// landings are recorded, all together. The repository's lock covers these three and nothing else: whatever had to be built was
// built before. See docs/decisions for the order and what repair does after each step.
func (s *Conductor) land(ctx context.Context, repo *records.Repository, target string, a queue.Action) error {
	ctx = context.WithoutCancel(ctx)
	unlock, err := s.moves.Lock(ctx, repo)
	if err != nil {
		return err
	}
	defer unlock()
	s.moves.At("landing:begun")
	intents, err := s.intend(ctx, repo, target, a)
	if err != nil || len(intents) == 0 {
		return err
	}
	s.moves.At("landing:intended")
	made, tip, err := s.moves.Try(ctx, repo, &intents[0])
	if why, notMade := errors.AsType[*moves.NotMadeError](err); notMade && !made {
		return s.dropLanding(ctx, repo, intents, tip, why)
	}
	if err != nil {
		return err // the intents stay open: the next round settles them
	}
	s.moves.At("landing:moved")
	removals, err := s.finishLanding(ctx, repo, intents)
	if err != nil {
		return err
	}
	s.moves.At("landing:recorded")
	return s.finishRemovals(ctx, repo, removals)
}

// finishRemovals removes the source branches of changes that landed together.
func (s *Conductor) finishRemovals(ctx context.Context, repo *records.Repository, removals []*records.Intent) error {
	for _, r := range removals {
		if err := s.finishRemoval(ctx, repo, r); err != nil {
			return err
		}
	}
	return nil
}

// intend judges the gate of each entry of a rehearsal once more, in the transaction that records the intents: this is the
// moment of landing. When something came in between, the queue is told, and there is no intent.
func (s *Conductor) intend(ctx context.Context, repo *records.Repository, target string,
	a queue.Action) (intents []records.Intent, err error) {
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		intents = nil
		q, err := s.queues.Loaded(tx.DB, repo, target)
		if err != nil {
			return err
		}
		r := q.State.Rehearsal(a.Rehearsal)
		if r == nil || len(r.Commits) == 0 {
			return nil
		}
		on, err := facts.RehearsedIn(tx.DB, repo, q.ID, r.ID)
		if err != nil {
			return err
		}
		told, err := s.tellAnew(tx.DB, repo, q, *r, on, queue.At{At: tx.Now()})
		if err != nil || len(told) > 0 {
			return errors.Join(err, s.queues.Tell(tx, repo, target, told...))
		}
		for _, id := range r.Path {
			part := on.Of(r.ID, id)
			g, err := s.gathered(tx.DB, repo, id)
			if err != nil {
				return err
			}
			i, err := s.intentOf(tx, repo, on.Judged(g, *part), part, *r)
			if err != nil {
				return err
			}
			if len(intents) > 0 {
				i.LeadID = &intents[0].ID
			}
			if err := tx.Create(&i).Error; err != nil {
				return err
			}
			intents = append(intents, i)
		}
		return s.queues.Tell(tx, repo, target, queue.LandingBegun{At: queue.At{At: tx.Now()}, Rehearsal: r.ID})
	})
	return intents, err
}

// tellAnew is what a queue has to be told before a rehearsal can land: that it is not clear, or not as it was judged when
// it was planned to land, or that the queue's own rules are others. An approval that a message names may have been withdrawn since,
// and another stand in its place.
func (s *Conductor) tellAnew(db *gorm.DB, repo *records.Repository, q records.Queue, r queue.Rehearsal, on facts.Rehearsed,
	at queue.At) (told []queue.Event, err error) {
	settings, err := s.settings(db, repo, q.Target)
	if err != nil {
		return nil, err
	}
	if settings != q.State.Settings {
		told = append(told, queue.Configured{At: at, Settings: settings})
	}
	gathered := map[int64]facts.Gathered{}
	for _, id := range r.Path {
		e := q.State.Entry(id)
		g, err := s.gathered(db, repo, id)
		if err != nil {
			return nil, err
		}
		gathered[id] = g
		if now := gateOf(g, settings); e == nil || !now.Equal(e.Gate) {
			told = append(told, queue.Seen{At: at, Entry: id, Gate: now})
		}
	}
	verdict, whole := verdictOf(on, r, gathered)
	switch {
	case !whole:
		return nil, fmt.Errorf("rehearsal %d is not on record as it is planned", r.ID)
	case verdict != r.Verdict || !verdict.Clear || verdict.Stale != "":
		told = append(told, queue.Judged{At: at, Rehearsal: r.ID, Verdict: verdict})
	}
	return told, nil
}

// intentOf is the intent to land an entry's part of a rehearsal.
func (s *Conductor) intentOf(tx *records.Tx, repo *records.Repository, g facts.Gathered, part *records.Rehearsal,
	r queue.Rehearsal) (records.Intent, error) {
	report := gate.JudgeInFull(g.Set, g.Facts)
	given, err := statement.KeepFacts(g.Facts)
	if err != nil {
		return records.Intent{}, err
	}
	judged, err := json.Marshal(statement.Judged(report))
	if err != nil {
		return records.Intent{}, err
	}
	sum := sha256.Sum256(given)
	i := records.Intent{
		RepositoryID: repo.ID, Kind: moves.Landing, Ref: "refs/heads/" + g.Entry.Target, Old: r.Base, New: r.Commits[len(r.Commits)-1],
		Actor: g.Entry.JoinedBy, EntryID: &g.Entry.ID, RehearsalID: &part.ID, Revision: g.Change.Revision,
		RulesVersion: g.Facts.RulesVersion, HouseVersion: g.Facts.HouseVersion, Facts: string(given), Digest: hex.EncodeToString(sum[:]),
		Report: string(judged), CreatedAt: tx.Now(),
	}
	if len(report.Exempted) == 0 {
		return i, nil
	}
	return i, tx.Record(i.Actor, repo, event.RulesExempted{
		Number: g.Change.Number, Ref: i.Ref, New: i.New, Sources: report.Exempted, Asker: i.Actor,
	})
}

// dropLanding takes intents back whose branch could not be moved: the entries are in line again. Where the branch stands
// where it stood, that was trouble of Git's, and they rest.
func (s *Conductor) dropLanding(ctx context.Context, repo *records.Repository, intents []records.Intent, tip string,
	why error) error {
	lead := intents[0]
	s.log.Warn("a landing was taken back", "repository", repo.Name, "ref", lead.Ref, "error", why)
	return s.records.Write(ctx, func(tx *records.Tx) error {
		dropped := queue.LandingDropped{At: queue.At{At: tx.Now()}, Why: "the landing was not finished and is tried again"}
		if errors.Is(why, git.ErrMoved) {
			dropped.Why = "the target moved on"
		}
		if tip == lead.Old && why != errUnfinished {
			dropped.Trouble = typed.Shortened(why.Error())
		}
		var err error
		if dropped.Rehearsal, err = closed(tx, intents, moves.Dropped); err != nil {
			return err
		}
		return s.queues.Tell(tx, repo, strings.TrimPrefix(lead.Ref, "refs/heads/"), dropped)
	})
}

// closed settles intents that belong together, and returns the number of the rehearsal that they were to land.
func closed(tx *records.Tx, intents []records.Intent, outcome string) (rehearsal int64, err error) {
	for _, i := range intents {
		if err := tx.Model(&records.Intent{ID: i.ID}).Update("outcome", outcome).Error; err != nil {
			return 0, err
		}
	}
	var part records.Rehearsal
	err = tx.First(&part, *intents[0].RehearsalID).Error
	return part.Number, err
}

// errUnfinished says that a landing ended before its branch moved: the process was killed.
var errUnfinished = errors.New("it ended before the branch moved")

// finishLanding records the landings whose branch has moved: the changes, the entries, the journal lines and the statements,
// in one transaction. Where source branches are to be removed, the intents to do so are returned.
func (s *Conductor) finishLanding(ctx context.Context, repo *records.Repository,
	intents []records.Intent) (removals []*records.Intent, err error) {
	lead := &intents[0]
	target := strings.TrimPrefix(lead.Ref, "refs/heads/")
	revisions, _, err := s.changes.Followed(ctx, repo, lead)
	if err != nil {
		return nil, err
	}
	parts := make([]records.Rehearsal, len(intents))
	brought := make([][]string, len(intents))
	for k, i := range intents {
		if err := s.records.Read(ctx).First(&parts[k], *i.RehearsalID).Error; err != nil {
			return nil, err
		}
		if brought[k], err = s.disk.Bare(repo).Between(ctx, parts[k].CommitID, []string{parts[k].Base}); err != nil {
			return nil, err
		}
	}
	if err := s.changes.Keep(ctx, repo, revisions...); err != nil {
		return nil, err
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		removals = nil
		done := queue.Done{At: queue.At{At: tx.Now()}, Tip: lead.New}
		for _, i := range intents {
			done.Entries = append(done.Entries, *i.EntryID)
		}
		if err := s.queues.Tell(tx, repo, target, done); err != nil {
			return err
		}
		for k := range intents {
			removal, err := s.recordLanded(tx, repo, &intents[k], parts[k], brought[k])
			if err != nil {
				return err
			}
			if removal != nil {
				removals = append(removals, removal)
			}
		}
		for _, r := range revisions { // changes whose source is the branch that moved
			if err := s.changes.SaveRevision(tx, repo, r); err != nil {
				return err
			}
		}
		return nil
	})
	return removals, err
}

// recordLanded records one landing. Where its change's source branch is to be removed, the intent to do so is returned.
func (s *Conductor) recordLanded(tx *records.Tx, repo *records.Repository, intent *records.Intent, part records.Rehearsal,
	brought []string) (*records.Intent, error) {
	e, c, err := facts.EntryAndChange(tx.DB, *intent.EntryID)
	if err != nil {
		return nil, err
	}
	var judged statement.Report // at the moment of landing
	if err := json.Unmarshal([]byte(intent.Report), &judged); err != nil {
		return nil, fmt.Errorf("the report of intent %d: %w", intent.ID, err)
	}
	given, err := statement.ReadFacts([]byte(intent.Facts)) // that it was judged by: nothing is read anew
	if err != nil {
		return nil, fmt.Errorf("the facts of intent %d: %w", intent.ID, err)
	}
	force, err := s.rulebook.RulesOf(tx.DB, repo)
	if err != nil {
		return nil, err
	}
	signed, err := s.sign(repo, c, intent, part, e.Strategy, judged)
	if err != nil {
		return nil, err
	}
	landing := records.Landing{RepositoryID: repo.ID, ChangeID: c.ID, EntryID: e.ID, IntentID: intent.ID,
		Old: part.Base, New: part.CommitID, Strategy: e.Strategy,
		Revision: intent.Revision, RulesVersion: intent.RulesVersion, HouseVersion: intent.HouseVersion, Statement: signed,
		LandedBy: intent.Actor, LandedAt: s.records.Now()}
	if err := tx.Create(&landing).Error; err != nil {
		return nil, err
	}
	if err := saveLanded(tx.DB, landing, brought); err != nil {
		return nil, err
	}
	var revision records.Revision
	if err := tx.Where("change_id = ? AND number = ?", c.ID, intent.Revision).First(&revision).Error; err != nil {
		return nil, err
	}
	if err := saveSources(tx.DB, landing, revision); err != nil {
		return nil, err
	}
	// What it rested on is in the statement from now on, and is kept once.
	if err := tx.Model(&records.Intent{ID: intent.ID}).Updates(map[string]any{"outcome": moves.Done, "facts": "", "report": ""}).Error; err != nil {
		return nil, err
	}
	if err := tx.Model(&c).Updates(map[string]any{"state": "landed", "landed_commit": part.CommitID,
		"updated_at": s.records.Now()}).Error; err != nil {
		return nil, err
	}
	if err := s.waivers.Use(tx, repo, judged.Waivers, c.Number, part.CommitID); err != nil {
		return nil, err
	}
	landed := event.ChangeLanded{OfChange: event.OfChange{Number: c.Number},
		Title: c.Title, Target: e.Target, Old: part.Base, New: part.CommitID, Strategy: e.Strategy, Revision: intent.Revision,
		RulesVersion: intent.RulesVersion, HouseVersion: intent.HouseVersion,
		FactsSHA256: intent.Digest, StatementSHA256: accounts.Digest(signed), Tickets: gate.Tickets(force.Set, given)}
	if part.CommitID != intent.New {
		landed.Tip = intent.New
	}
	if err := tx.Record(intent.Actor, repo, landed); err != nil || !e.DeleteSource {
		return nil, err
	}
	return s.intendRemoval(tx, repo, c, e, intent)
}

// intendRemoval records that a landed change's source branch is about to be removed, where the rules allow it.
func (s *Conductor) intendRemoval(tx *records.Tx, repo *records.Repository, c records.Change, e records.Entry,
	landing *records.Intent) (*records.Intent, error) {
	var r records.Revision
	if err := tx.Where("change_id = ? AND number = ?", c.ID, landing.Revision).First(&r).Error; err != nil {
		return nil, err
	}
	force, err := s.rulebook.RulesOf(tx.DB, repo)
	if err != nil {
		return nil, err
	}
	people, err := accounts.PeopleOf(tx.DB, repo)
	if err != nil {
		return nil, err
	}
	// Whoever asked to land deletes the branch, as by a push: nobody removes this way what they may not remove by
	// another.
	by := people.Named(e.JoinedBy)
	standing, err := freezes.InForce(tx.DB, repo, tx.Now())
	if err != nil {
		return nil, err
	}
	var other records.Change
	err = tx.Where("repository_id = ? AND source = ? AND state IN ('draft', 'open')", repo.ID, c.Source).Order("number").Limit(1).Find(&other).Error
	if err != nil {
		return nil, err
	}
	if other.ID != 0 {
		return nil, tx.Record(records.Itself, repo, event.BranchKept{Ref: "refs/heads/" + c.Source, Landed: c.Number,
			Why: fmt.Sprintf("change %d comes from it too", other.Number)})
	}
	v := guard.Judge(guard.Update{Ref: "refs/heads/" + c.Source, Old: r.Head},
		guard.Facts{Repository: repo.Name, Pusher: by, People: people, Rules: force.Now(), Default: repo.DefaultBranch, Stops: standing.Of})
	if !v.Allowed || len(v.Exempted) > 0 {
		return nil, tx.Record(records.Itself, repo, event.BranchKept{
			Ref: "refs/heads/" + c.Source, Landed: c.Number, Why: cmp.Or(v.Short, "only an exemption would allow it"),
		})
	}
	removal := &records.Intent{RepositoryID: repo.ID, Kind: moves.Removal, Ref: "refs/heads/" + c.Source, Old: r.Head,
		Actor: landing.Actor, EntryID: &e.ID,
		RulesVersion: force.Own.Version, HouseVersion: force.House.Version, CreatedAt: s.records.Now()}
	return removal, tx.Create(removal).Error
}

// finishRemoval removes a landed change's source branch, unless somebody has pushed to it meanwhile.
func (s *Conductor) finishRemoval(ctx context.Context, repo *records.Repository, removal *records.Intent) error {
	snap := s.records.View(ctx)
	e, c, err := facts.EntryAndChange(snap.DB, *removal.EntryID)
	snap.Close()
	if err != nil {
		return err
	}
	// First, so that a kill in between finds it done or to be done, and no change without its target.
	stays, err := s.changes.Onward(ctx, repo, c.Source, e.Target)
	if err != nil {
		return err
	}
	if stays != "" {
		return s.records.Write(ctx, func(tx *records.Tx) error {
			if err := tx.Model(removal).Update("outcome", moves.Dropped).Error; err != nil {
				return err
			}
			return tx.Record(records.Itself, repo, event.BranchKept{Ref: removal.Ref, Landed: c.Number, Why: stays})
		})
	}
	_, tip, err := s.moves.Try(ctx, repo, removal)
	if _, notMade := errors.AsType[*moves.NotMadeError](err); notMade && tip != removal.Old {
		return s.moves.Close(ctx, removal, moves.Dropped) // somebody pushed to it
	}
	if err != nil {
		return err // the next round tries again
	}
	_, err = s.intake.FinishPush(ctx, repo, removal)
	return err
}

// settleLanding settles a landing that a kill or trouble left open: the target says whether it was made. What was to move
// together is settled together.
func (s *Conductor) settleLanding(ctx context.Context, repo *records.Repository, i *records.Intent, made bool,
	tip string) error {
	var intents []records.Intent
	lead := i.ID
	if i.LeadID != nil {
		lead = *i.LeadID
	}
	err := s.records.Read(ctx).Where("repository_id = ? AND outcome = '' AND (id = ? OR lead_id = ?)", repo.ID, lead, lead).Order("id").Find(&intents).Error
	if err != nil || len(intents) == 0 {
		return err // it was settled with another
	}
	switch {
	case made:
		removals, err := s.finishLanding(ctx, repo, intents)
		if err != nil {
			return err
		}
		return s.finishRemovals(ctx, repo, removals)
	case tip == i.Old:
		return s.dropLanding(ctx, repo, intents, tip, errUnfinished)
	default:
		return s.loseLanding(ctx, repo, intents, tip)
	}
}

// settleRemoval settles a removal that was left open.
func (s *Conductor) settleRemoval(ctx context.Context, repo *records.Repository, i *records.Intent, made bool,
	_ string) error {
	if !made {
		return s.finishRemoval(ctx, repo, i)
	}
	_, err := s.intake.FinishPush(ctx, repo, i)
	return err
}

// sign signs why a landing was allowed.
func (s *Conductor) sign(repo *records.Repository, c records.Change, intent *records.Intent, part records.Rehearsal, strategy string,
	judged statement.Report) (string, error) {
	landing := statement.Landing{
		Repository: repo.Name, Change: c.Number, Revision: intent.Revision, Old: part.Base, New: part.CommitID,
		Strategy: strategy, RulesVersion: intent.RulesVersion, HouseVersion: intent.HouseVersion,
		AskedBy: intent.Actor, IntendedAt: intent.CreatedAt, Facts: json.RawMessage(intent.Facts), Report: judged,
	}
	if part.CommitID != intent.New {
		landing.Tip = intent.New
	}
	if part.Tested != part.CommitID {
		landing.Tested = part.Tested
	}
	text, err := json.Marshal(statement.Of(intent.Ref, landing))
	if err != nil {
		return "", err
	}
	return s.key.Seal(statement.MediaType, text)
}

// loseLanding ejects entries whose target stands where neither the old nor the new commit explains it.
func (s *Conductor) loseLanding(ctx context.Context, repo *records.Repository, intents []records.Intent, tip string) error {
	i := intents[0]
	s.log.Error("a branch moved behind the service's back", "repository", repo.Name, "ref", i.Ref, "tip", tip, "old",
		i.Old, "new", i.New)
	return s.records.Write(ctx, func(tx *records.Tx) error {
		number, err := closed(tx, intents, moves.Lost)
		if err != nil {
			return err
		}
		reason := fmt.Sprintf("%s stands at %.10s, which this landing cannot explain: somebody moved it outside the "+
			"service; look into it, then join again", i.Ref, tip)
		return s.queues.Tell(tx, repo, strings.TrimPrefix(i.Ref, "refs/heads/"),
			queue.LandingLost{At: queue.At{At: tx.Now()}, Rehearsal: number, Why: reason})
	})
}
