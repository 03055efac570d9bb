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

// land moves the target to an entry's rehearsed commit, in three steps each of which can be the last before a crash:
// the intent is recorded with the facts it rests on; the branch moves by compare-and-swap; the landing is recorded. The
// repository's lock covers these three and nothing else: whatever had to be built was built before. See docs/decisions
// for the order and what repair does after each step.
func (s *Conductor) land(ctx context.Context, repo *records.Repository, target string, a queue.Action) error {
	ctx = context.WithoutCancel(ctx)
	unlock, err := s.moves.Lock(ctx, repo)
	if err != nil {
		return err
	}
	defer unlock()
	s.moves.At("landing:begun")
	intent, err := s.intend(ctx, repo, target, a)
	if err != nil || intent == nil {
		return err
	}
	s.moves.At("landing:intended")
	made, tip, err := s.moves.Try(ctx, repo, intent)
	if why, notMade := errors.AsType[*moves.NotMadeError](err); notMade && !made {
		return s.dropLanding(ctx, repo, intent, tip, why)
	}
	if err != nil {
		return err // the intent stays open: the next round settles it
	}
	s.moves.At("landing:moved")
	removal, err := s.finishLanding(ctx, repo, intent)
	if err != nil {
		return err
	}
	s.moves.At("landing:recorded")
	if removal != nil {
		return s.finishRemoval(ctx, repo, removal)
	}
	return nil
}

// intend judges the gate of an entry once more, in the transaction that records the intent: this is the moment of
// landing. When something came in between, the queue is told, and there is no intent.
func (s *Conductor) intend(ctx context.Context, repo *records.Repository, target string,
	a queue.Action) (*records.Intent, error) {
	var intent *records.Intent
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		intent = nil
		q, _, err := s.queues.Loaded(tx.DB, repo, target)
		if err != nil {
			return err
		}
		e := q.Entry(a.Entry)
		if e == nil || e.State != queue.Rehearsing || e.Rehearsal != a.Rehearsal {
			return nil
		}
		g, err := s.gathered(tx.DB, repo, a.Entry)
		if err != nil {
			return err
		}
		at := queue.At{At: tx.Now()}
		report := gate.JudgeInFull(g.Set, g.Facts)
		// What was fixed when it was built, and holds no more, is asked once more here: an approval that its message names may
		// have been withdrawn since the queue was told, and another stand in its place.
		if !report.Clear || g.Rehearsal == nil || g.Rehearsal.Number != a.Rehearsal || verdictOf(g).Stale != "" {
			told := []queue.Event{queue.Seen{At: at, Entry: a.Entry, Gate: gateOf(g)}}
			if g.Rehearsal != nil {
				told = append(told, queue.Judged{At: at, Rehearsal: g.Rehearsal.Number, Verdict: verdictOf(g)})
			}
			return s.queues.Tell(tx, repo, target, told...)
		}
		given, err := statement.KeepFacts(g.Facts)
		if err != nil {
			return err
		}
		judged, err := json.Marshal(statement.Judged(report))
		if err != nil {
			return err
		}
		sum := sha256.Sum256(given)
		intent = &records.Intent{
			RepositoryID: repo.ID, Kind: moves.Landing, Ref: "refs/heads/" +
				target, Old: g.Rehearsal.Base, New: g.Rehearsal.CommitID,
			Actor: g.Entry.JoinedBy, EntryID: &g.Entry.ID, RehearsalID: &g.Rehearsal.ID, Revision: g.Change.Revision,
			RulesVersion: g.Facts.RulesVersion, HouseVersion: g.Facts.HouseVersion, Facts: string(given), Digest: hex.EncodeToString(sum[:]),
			Report: string(judged), CreatedAt: tx.Now(),
		}
		if err := tx.Create(intent).Error; err != nil {
			return err
		}
		if len(report.Exempted) > 0 {
			err := tx.Record(intent.Actor, repo, event.RulesExempted{
				Number: g.Change.Number, Ref: intent.Ref, New: intent.New, Sources: report.Exempted, Asker: intent.Actor,
			})
			if err != nil {
				return err
			}
		}
		return s.queues.Tell(tx, repo, target, queue.LandingBegun{At: at, Entry: a.Entry})
	})
	return intent, err
}

// dropLanding takes an intent back whose branch could not be moved: the entry is in line again. Where the branch stands
// where it stood, that was trouble of Git's, and the entry rests.
func (s *Conductor) dropLanding(ctx context.Context, repo *records.Repository, intent *records.Intent, tip string,
	why error) error {
	s.log.Warn("a landing was taken back", "repository", repo.Name, "ref", intent.Ref, "error", why)
	return s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Model(intent).Update("outcome", moves.Dropped).Error; err != nil {
			return err
		}
		dropped := queue.LandingDropped{At: queue.At{At: tx.Now()}, Entry: *intent.EntryID,
			Why: "the landing was not finished and is tried again"}
		if errors.Is(why, git.ErrMoved) {
			dropped.Why = "the target moved on"
		}
		if tip == intent.Old && why != errUnfinished {
			dropped.Trouble = typed.Shortened(why.Error())
		}
		return s.queues.Tell(tx, repo, strings.TrimPrefix(intent.Ref, "refs/heads/"), dropped)
	})
}

// errUnfinished says that a landing ended before its branch moved: the process was killed.
var errUnfinished = errors.New("it ended before the branch moved")

// finishLanding records a landing whose branch has moved: the change, the entry, the journal line and the statement,
// in one transaction. When the source branch is to be removed, the intent to do so is returned.
func (s *Conductor) finishLanding(ctx context.Context, repo *records.Repository,
	intent *records.Intent) (*records.Intent, error) {
	target := strings.TrimPrefix(intent.Ref, "refs/heads/")
	revisions, _, err := s.changes.Followed(ctx, repo, intent)
	if err != nil {
		return nil, err
	}
	brought, err := s.disk.Bare(repo).Between(ctx, intent.New, []string{intent.Old})
	if err != nil {
		return nil, err
	}
	if err := s.changes.Keep(ctx, repo, revisions...); err != nil {
		return nil, err
	}
	var removal *records.Intent
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		removal = nil
		e, c, err := facts.EntryAndChange(tx.DB, *intent.EntryID)
		if err != nil {
			return err
		}
		var judged statement.Report // at the moment of landing
		if err := json.Unmarshal([]byte(intent.Report), &judged); err != nil {
			return fmt.Errorf("the report of intent %d: %w", intent.ID, err)
		}
		given, err := statement.ReadFacts([]byte(intent.Facts)) // that it was judged by: nothing is read anew
		if err != nil {
			return fmt.Errorf("the facts of intent %d: %w", intent.ID, err)
		}
		force, err := s.rulebook.RulesOf(tx.DB, repo)
		if err != nil {
			return err
		}
		signed, err := s.sign(repo, c, intent, e.Strategy, judged)
		if err != nil {
			return err
		}
		landing := records.Landing{RepositoryID: repo.ID, ChangeID: c.ID, EntryID: e.ID, IntentID: intent.ID,
			Old: intent.Old, New: intent.New, Strategy: e.Strategy,
			Revision: intent.Revision, RulesVersion: intent.RulesVersion, HouseVersion: intent.HouseVersion, Statement: signed,
			LandedBy: intent.Actor, LandedAt: s.records.Now()}
		if err := tx.Create(&landing).Error; err != nil {
			return err
		}
		if err := saveLanded(tx.DB, landing, brought); err != nil {
			return err
		}
		var revision records.Revision
		if err := tx.Where("change_id = ? AND number = ?", c.ID, intent.Revision).First(&revision).Error; err != nil {
			return err
		}
		if err := saveSources(tx.DB, landing, revision); err != nil {
			return err
		}
		if err := tx.Model(intent).Update("outcome", moves.Done).Error; err != nil {
			return err
		}
		if err := tx.Model(&c).Updates(map[string]any{"state": "landed", "landed_commit": intent.New,
			"updated_at": s.records.Now()}).Error; err != nil {
			return err
		}
		if err := s.waivers.Use(tx, repo, judged.Waivers, c.Number, intent.New); err != nil {
			return err
		}
		err = s.queues.Tell(tx, repo, target, queue.Done{At: queue.At{At: tx.Now()}, Entry: e.ID, Tip: intent.New})
		if err == nil {
			err = tx.Record(intent.Actor, repo, event.ChangeLanded{OfChange: event.OfChange{Number: c.Number},
				Title: c.Title, Target: target, Old: intent.Old, New: intent.New, Strategy: e.Strategy, Revision: intent.Revision,
				RulesVersion: intent.RulesVersion, HouseVersion: intent.HouseVersion,
				FactsSHA256: intent.Digest, StatementSHA256: accounts.Digest(signed), Tickets: gate.Tickets(force.Set, given)})
		}
		if err != nil {
			return err
		}
		for _, r := range revisions { // changes whose source is the branch that moved
			if err := s.changes.SaveRevision(tx, repo, r); err != nil {
				return err
			}
		}
		if e.DeleteSource {
			removal, err = s.intendRemoval(tx, repo, c, e, intent)
		}
		return err
	})
	return removal, err
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
	by := people[e.JoinedBy]
	by.Login = e.JoinedBy
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

// settleLanding settles a landing that a kill or trouble left open: the target says whether it was made.
func (s *Conductor) settleLanding(ctx context.Context, repo *records.Repository, i *records.Intent, made bool,
	tip string) error {
	switch {
	case made:
		removal, err := s.finishLanding(ctx, repo, i)
		if err == nil && removal != nil {
			err = s.finishRemoval(ctx, repo, removal)
		}
		return err
	case tip == i.Old:
		return s.dropLanding(ctx, repo, i, tip, errUnfinished)
	default:
		return s.loseLanding(ctx, repo, i, tip)
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
func (s *Conductor) sign(repo *records.Repository, c records.Change, intent *records.Intent, strategy string,
	judged statement.Report) (string, error) {
	why := statement.Of(intent.Ref, statement.Landing{
		Repository: repo.Name, Change: c.Number, Revision: intent.Revision, Old: intent.Old, New: intent.New,
		Strategy: strategy, RulesVersion: intent.RulesVersion, HouseVersion: intent.HouseVersion,
		AskedBy: intent.Actor, IntendedAt: intent.CreatedAt, Facts: json.RawMessage(intent.Facts), Report: judged,
	})
	text, err := json.Marshal(why)
	if err != nil {
		return "", err
	}
	return s.key.Seal(statement.MediaType, text)
}

// loseLanding ejects an entry whose target stands where neither the old nor the new commit explains it.
func (s *Conductor) loseLanding(ctx context.Context, repo *records.Repository, i *records.Intent, tip string) error {
	s.log.Error("a branch moved behind the service's back", "repository", repo.Name, "ref", i.Ref, "tip", tip, "old",
		i.Old, "new", i.New)
	return s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Model(i).Update("outcome", moves.Lost).Error; err != nil {
			return err
		}
		reason := fmt.Sprintf("%s stands at %.10s, which this landing cannot explain: somebody moved it outside the "+
			"service; look into it, then join again", i.Ref, tip)
		return s.queues.Tell(tx, repo, strings.TrimPrefix(i.Ref, "refs/heads/"),
			queue.LandingLost{At: queue.At{At: tx.Now()}, Entry: *i.EntryID, Why: reason})
	})
}
