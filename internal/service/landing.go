package service

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/guard"
	"tavrin/internal/core/queue"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

// land moves the target to an entry's rehearsed commit, in three steps each of which can be the last before a
// crash: the intent is recorded with the facts it rests on; the branch moves by compare-and-swap; the landing is
// recorded. The repository's lock is held. See docs/decisions for the order and what repair does after each step.
func (s *Service) land(ctx context.Context, repo *store.Repository, g *gathered) error {
	ctx = context.WithoutCancel(ctx)
	s.at("landing:begun")
	var intent store.Intent
	err := s.write(ctx, func(tx *tx) error {
		// The gate is judged again here, in the transaction that records the intent: this is the moment of landing.
		var c store.Change
		if err := tx.First(&c, g.change.ID).Error; err != nil {
			return err
		}
		now, err := s.gather(tx.DB, repo, c)
		if err != nil {
			return err
		}
		report := now.judge()
		if !report.Clear || now.rehearsal == nil || now.rehearsal.CommitID != g.rehearsal.CommitID {
			return nil // something came in between; the next round sees it
		}
		facts, err := json.Marshal(now.facts)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(facts)
		intent = store.Intent{RepositoryID: repo.ID, Kind: "landing", Ref: "refs/heads/" + c.Target, Old: now.rehearsal.Base, New: now.rehearsal.CommitID,
			Actor: now.entry.JoinedBy, EntryID: &now.entry.ID, RehearsalID: &now.rehearsal.ID, Revision: c.Revision, RulesVersion: now.facts.RulesVersion, HouseVersion: now.facts.HouseVersion,
			Facts: string(facts), Digest: hex.EncodeToString(sum[:]), CreatedAt: s.now()}
		if err := tx.Create(&intent).Error; err != nil {
			return err
		}
		if len(report.Exempted) > 0 {
			err := tx.record(event{actor: intent.Actor, kind: "rules.exempted", repo: repo, subject: fmt.Sprintf("change/%d", c.Number),
				text: fmt.Sprintf("change %d lands for %s, who is exempt from %s", c.Number, intent.Actor, strings.Join(report.Exempted, " and ")),
				data: map[string]any{"number": c.Number, "sources": report.Exempted}})
			if err != nil {
				return err
			}
		}
		return s.move(tx, repo, g, queue.Landing, "its gate is clear and the landing is under way")
	})
	if err != nil || intent.ID == 0 {
		return err
	}
	s.at("landing:intended")
	if err := s.bare(repo).MoveRefs(ctx, git.Move{Ref: intent.Ref, Old: intent.Old, New: intent.New}); err != nil {
		moved, at, lookErr := s.hasMoved(ctx, repo, intent.Ref, intent.Old, intent.New)
		switch {
		case lookErr != nil:
			return errors.Join(err, lookErr) // the intent stays open: the next round settles it
		case !moved && at == intent.Old:
			s.rests.rest(*intent.EntryID, s.now(), "the branch could not be moved", err)
			return s.dropLanding(ctx, repo, &intent, err)
		case !moved:
			return s.dropLanding(ctx, repo, &intent, err)
		}
		s.log.Warn("a move was reported as failed and was made", "repository", repo.Name, "ref", intent.Ref, "error", err)
	}
	s.at("landing:moved")
	removal, err := s.finishLanding(ctx, repo, &intent)
	if err != nil {
		return err
	}
	s.at("landing:recorded")
	if removal != nil {
		return s.finishRemoval(ctx, repo, removal)
	}
	return nil
}

// dropLanding takes an intent back whose branch could not be moved, and lines the entry up again.
func (s *Service) dropLanding(ctx context.Context, repo *store.Repository, intent *store.Intent, why error) error {
	s.log.Warn("a landing was taken back", "repository", repo.Name, "ref", intent.Ref, "error", why)
	return s.write(ctx, func(tx *tx) error {
		if err := tx.Model(intent).Update("outcome", "dropped").Error; err != nil {
			return err
		}
		e, c, err := entryAndChange(tx.DB, *intent.EntryID)
		if err != nil {
			return err
		}
		reason := "the landing was not finished and is tried again"
		if errors.Is(why, git.ErrMoved) {
			reason = "the target moved on"
		}
		if err := s.endRehearsals(tx, e, reason); err != nil {
			return err
		}
		return s.move(tx, repo, &gathered{entry: &e, change: c}, queue.LinedUp, reason)
	})
}

func entryAndChange(db *gorm.DB, entry int64) (store.Entry, store.Change, error) {
	var e store.Entry
	var c store.Change
	err := db.First(&e, entry).Error
	if err == nil {
		err = db.First(&c, e.ChangeID).Error
	}
	return e, c, err
}

// finishLanding records a landing whose branch has moved: the change, the entry, the journal line and the evidence,
// in one transaction. When the source branch is to be removed, the intent to do so is returned.
func (s *Service) finishLanding(ctx context.Context, repo *store.Repository, intent *store.Intent) (*store.Intent, error) {
	target := strings.TrimPrefix(intent.Ref, "refs/heads/")
	revisions, _, err := s.followed(ctx, repo, intent)
	if err != nil {
		return nil, err
	}
	brought, err := s.bare(repo).Between(ctx, intent.New, []string{intent.Old})
	if err != nil {
		return nil, err
	}
	var removal *store.Intent
	err = s.write(ctx, func(tx *tx) error {
		removal = nil
		e, c, err := entryAndChange(tx.DB, *intent.EntryID)
		if err != nil {
			return err
		}
		report, err := s.judgedThen(tx.DB, repo, intent)
		if err != nil {
			return err
		}
		evidence, err := s.evidence(repo, c, intent, e.Strategy, report)
		if err != nil {
			return err
		}
		landing := store.Landing{RepositoryID: repo.ID, ChangeID: c.ID, EntryID: e.ID, IntentID: intent.ID, Old: intent.Old, New: intent.New, Strategy: e.Strategy,
			Revision: intent.Revision, RulesVersion: intent.RulesVersion, HouseVersion: intent.HouseVersion, Evidence: evidence, LandedBy: intent.Actor, LandedAt: s.now()}
		if err := tx.Create(&landing).Error; err != nil {
			return err
		}
		if err := saveLanded(tx.DB, landing, brought); err != nil {
			return err
		}
		var revision store.Revision
		if err := tx.Where("change_id = ? AND number = ?", c.ID, intent.Revision).First(&revision).Error; err != nil {
			return err
		}
		if err := saveSources(tx.DB, landing, revision); err != nil {
			return err
		}
		if err := tx.Model(intent).Update("outcome", "done").Error; err != nil {
			return err
		}
		if err := tx.Model(&c).Updates(map[string]any{"state": "landed", "landed_commit": intent.New, "updated_at": s.now()}).Error; err != nil {
			return err
		}
		if err := s.useOverrides(tx, repo, report.Overrides, fmt.Sprintf("change/%d", c.Number), intent.New); err != nil {
			return err
		}
		err = tx.Model(&store.Rehearsal{}).Where("entry_id = ? AND ended = ''", e.ID).Update("ended", "landed").Error
		if err == nil {
			err = tx.Model(&e).Updates(map[string]any{"state": string(queue.Landed), "reason": fmt.Sprintf("landed as %.10s", intent.New), "ended_at": s.now()}).Error
		}
		if err == nil {
			err = tx.record(event{actor: intent.Actor, kind: "change.landed", repo: repo, subject: fmt.Sprintf("change/%d", c.Number),
				text: fmt.Sprintf("change %d, %q, landed on %s as %.10s by %s", c.Number, c.Title, target, intent.New, e.Strategy),
				data: map[string]any{"number": c.Number, "target": target, "old": intent.Old, "new": intent.New, "strategy": e.Strategy,
					"revision": intent.Revision, "rules_version": intent.RulesVersion, "house_version": intent.HouseVersion, "facts_sha256": intent.Digest, "statement_sha256": digest(evidence)}})
		}
		if err != nil {
			return err
		}
		for _, r := range revisions { // changes whose source is the branch that moved
			if err := s.saveRevision(tx, repo, r); err != nil {
				return err
			}
		}
		if e.RemoveSource {
			removal, err = s.intendRemoval(tx, repo, c, e, intent)
		}
		return err
	})
	return removal, err
}

// intendRemoval records that a landed change's source branch is about to be removed, where the rules allow it.
func (s *Service) intendRemoval(tx *tx, repo *store.Repository, c store.Change, e store.Entry, landing *store.Intent) (*store.Intent, error) {
	var r store.Revision
	if err := tx.Where("change_id = ? AND number = ?", c.ID, landing.Revision).First(&r).Error; err != nil {
		return nil, err
	}
	force, err := s.rulesOf(tx.DB, repo)
	if err != nil {
		return nil, err
	}
	people, err := peopleOf(tx.DB, repo)
	if err != nil {
		return nil, err
	}
	// Whoever asked to land deletes the branch, as by a push: nobody removes this way what they may not remove by another.
	by := people[e.JoinedBy]
	by.Login = e.JoinedBy
	v := guard.Judge(guard.Update{Ref: "refs/heads/" + c.Source, Old: r.Head}, guard.Facts{Repository: repo.Name, Pusher: by, People: people, Rules: force.now(), Default: repo.DefaultBranch})
	if !v.Allowed || len(v.Exempted) > 0 {
		return nil, tx.record(event{actor: itself, kind: "branch.kept", repo: repo, subject: "refs/heads/" + c.Source,
			text: fmt.Sprintf("%s was not removed after change %d landed: %s", c.Source, c.Number, cmp.Or(v.Short, "only an exemption would allow it"))})
	}
	removal := &store.Intent{RepositoryID: repo.ID, Kind: "push", Ref: "refs/heads/" + c.Source, Old: r.Head, Actor: landing.Actor, EntryID: &e.ID,
		RulesVersion: force.own.Version, HouseVersion: force.house.Version, CreatedAt: s.now()}
	return removal, tx.Create(removal).Error
}

// finishRemoval removes a landed change's source branch, unless somebody has pushed to it meanwhile.
func (s *Service) finishRemoval(ctx context.Context, repo *store.Repository, removal *store.Intent) error {
	if err := s.bare(repo).MoveRefs(ctx, git.Move{Ref: removal.Ref, Old: removal.Old}); err != nil {
		moved, at, lookErr := s.hasMoved(ctx, repo, removal.Ref, removal.Old, "")
		switch {
		case lookErr != nil || !moved && at == removal.Old:
			return errors.Join(err, lookErr) // the next round tries again
		case !moved:
			return s.closeIntent(ctx, removal, "dropped") // somebody pushed to it
		}
	}
	_, err := s.finishPush(ctx, repo, removal)
	return err
}

// envelope is a DSSE envelope (https://github.com/secure-systems-lab/dsse): what was signed and the signatures.
type envelope struct {
	PayloadType string      `json:"payloadType"`
	Payload     string      `json:"payload"`
	Signatures  []signature `json:"signatures"`
}

type signature struct {
	KeyID string `json:"keyid"`
	Sig   string `json:"sig"`
}

const statementType = "application/vnd.in-toto+json"

// evidence signs why a landing was allowed: an in-toto statement about the landed commit.
func (s *Service) evidence(repo *store.Repository, c store.Change, intent *store.Intent, strategy string, report gate.Report) (string, error) {
	statement, err := json.Marshal(map[string]any{
		"_type":         "https://in-toto.io/Statement/v1",
		"subject":       []any{map[string]any{"name": repo.Name + "@" + intent.Ref, "digest": map[string]string{"gitCommit": intent.New}}},
		"predicateType": "https://tavrin.invalid/landing/v1",
		"predicate": map[string]any{
			"repository": repo.Name, "change": c.Number, "revision": intent.Revision, "old": intent.Old, "new": intent.New, "strategy": strategy,
			"rules_version": intent.RulesVersion, "house_version": intent.HouseVersion, "asked_by": intent.Actor, "intended_at": intent.CreatedAt, "facts": json.RawMessage(intent.Facts), "report": report,
		},
	})
	if err != nil {
		return "", err
	}
	public := sha256.Sum256(s.key.Public().(ed25519.PublicKey))
	signed := fmt.Appendf(nil, "DSSEv1 %d %s %d %s", len(statementType), statementType, len(statement), statement)
	out, err := json.Marshal(envelope{PayloadType: statementType, Payload: base64.StdEncoding.EncodeToString(statement),
		Signatures: []signature{{KeyID: hex.EncodeToString(public[:]), Sig: base64.StdEncoding.EncodeToString(ed25519.Sign(s.key, signed))}}})
	return string(out), err
}

// judgedThen judges the facts of an intent again, under the rules they were judged by.
func (s *Service) judgedThen(db *gorm.DB, repo *store.Repository, intent *store.Intent) (gate.Report, error) {
	var facts gate.Facts
	if err := json.Unmarshal([]byte(intent.Facts), &facts); err != nil {
		return gate.Report{}, fmt.Errorf("facts of intent %d: %w", intent.ID, err)
	}
	set, err := s.rulesThen(db, repo, intent.RulesVersion, intent.HouseVersion)
	if err != nil {
		return gate.Report{}, err
	}
	return gate.JudgeInFull(set, facts), nil
}

// Landing returns how a change landed, with its evidence.
func (s *Service) Landing(ctx context.Context, a Actor, name string, number int) (wire.Landing, error) {
	db := s.store.Read(ctx)
	repo, c, err := s.changeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return wire.Landing{}, err
	}
	return s.landingView(db, repo, c)
}

func (s *Service) landingView(db *gorm.DB, repo *store.Repository, c store.Change) (wire.Landing, error) {
	var l store.Landing
	if err := db.Where("change_id = ?", c.ID).First(&l).Error; err != nil {
		return wire.Landing{}, orUnknown(err, "change %d has not landed", c.Number)
	}
	var intent store.Intent
	if err := db.First(&intent, l.IntentID).Error; err != nil {
		return wire.Landing{}, err
	}
	report, err := s.judgedThen(db, repo, &intent)
	return wire.Landing{Number: c.Number, Target: c.Target, Old: l.Old, New: l.New, Strategy: l.Strategy, Revision: l.Revision, RulesVersion: l.RulesVersion, HouseVersion: l.HouseVersion,
		LandedBy: l.LandedBy, LandedAt: l.LandedAt, Report: report, Evidence: l.Evidence}, err
}

// loseLanding ejects an entry whose target stands where neither the old nor the new commit explains it.
func (s *Service) loseLanding(ctx context.Context, repo *store.Repository, i *store.Intent, tip string) error {
	s.log.Error("a branch moved behind the service's back", "repository", repo.Name, "ref", i.Ref, "tip", tip, "old", i.Old, "new", i.New)
	return s.write(ctx, func(tx *tx) error {
		if err := tx.Model(i).Update("outcome", "lost").Error; err != nil {
			return err
		}
		e, c, err := entryAndChange(tx.DB, *i.EntryID)
		if err != nil {
			return err
		}
		reason := fmt.Sprintf("%s stands at %.10s, which this landing cannot explain: somebody moved it outside the service; look into it, then join again", i.Ref, tip)
		return s.endEntry(tx, repo, c, &e, queue.Ejected, itself, reason)
	})
}
