package outbox

import (
	"crypto/rand"
	"encoding/json"
	"fmt"

	"gorm.io/gorm"

	"tavrin/internal/core/event"
	"tavrin/internal/core/journal"
	"tavrin/internal/core/webhook"
	"tavrin/internal/records"
)

// record adds the deliveries of an event, within its transaction. A webhook's branches and its condition are looked at here;
// its paths only when it is sent, because no git process runs within a transaction.
func (s *Outbox) record(tx *records.Tx, repo *records.Repository, line journal.Line, e event.Event) error {
	kind := event.KindOf(e)
	if !kind.Leaves {
		return nil
	}
	hooks, err := s.on(tx.DB)
	if err != nil {
		return err
	}
	var branches []string
	var known map[string]any // what conditions know of the event
	looked := false
	for _, h := range hooks {
		if !h.Sends(repo) || !h.filter.Takes(kind) {
			continue
		}
		if h.filter.AsksBranch() {
			if !looked {
				if branches, err = about(tx.DB, repo, e); err != nil {
					return err
				}
				looked = true
			}
			if !h.filter.OnBranch(branches) {
				continue
			}
		}
		if h.Condition != "" {
			if known == nil {
				if known, err = s.known(line); err != nil {
					return err
				}
			}
			// One that cannot be worked out is told where it is sent.
			if holds, err := h.when.Holds(known); err == nil && !holds {
				continue
			}
		}
		d := records.Delivery{WebhookID: h.ID, Message: newMessage(), Seq: line.Seq, Kind: kind.Name, State: string(webhook.Waiting), CreatedAt: tx.Now()}
		if err := tx.Create(&d).Error; err != nil {
			return err
		}
		s.mu.Lock()
		s.wake[h.ID] = true
		s.mu.Unlock()
	}
	return nil
}

// known is what expressions know of a line of the journal.
func (s *Outbox) known(line journal.Line) (map[string]any, error) {
	cloud, err := json.Marshal(journal.Cloud(line, s.base))
	if err != nil {
		return nil, err
	}
	return webhook.Variables(cloud)
}

// newMessage makes the id of a delivery.
func newMessage() string { return "msg_" + rand.Text() }

// on returns the webhooks that are on. They are read anew, within the transaction, after one has changed.
func (s *Outbox) on(db *gorm.DB) (map[int64]*hook, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fresh {
		return s.hooks, nil
	}
	var rows []records.Webhook
	if err := db.Where("off = '' AND deleted_at IS NULL").Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	s.hooks = map[int64]*hook{}
	for _, r := range rows {
		f, err := webhook.NewFilter(r.Kinds, r.Branches, r.Paths)
		if err != nil { // it was one when it was made
			return nil, fmt.Errorf("webhook %d: %w", r.ID, err)
		}
		when, err := webhook.ParseCondition(r.Condition)
		if err != nil {
			return nil, fmt.Errorf("webhook %d: %w", r.ID, err)
		}
		s.hooks[r.ID] = &hook{r, f, when}
	}
	s.fresh = true
	return s.hooks, nil
}

// about lists the branches that an event is about: those that it names, or the target of its change.
func about(db *gorm.DB, repo *records.Repository, e event.Event) ([]string, error) {
	if branches := webhook.About(e); branches != nil {
		return branches, nil
	}
	number := event.ChangeOf(e)
	if number == 0 || repo == nil {
		return nil, nil
	}
	var targets []string
	err := db.Model(&records.Change{}).Where("repository_id = ? AND number = ?", repo.ID, number).Pluck("target", &targets).Error
	return targets, err
}
