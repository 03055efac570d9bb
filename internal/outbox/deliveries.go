package outbox

import (
	"context"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/webhook"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

func deliveryView(d records.Delivery) wire.Delivery {
	return wire.Delivery{ID: d.ID, Webhook: d.WebhookID, Message: d.Message, Event: d.Seq, Kind: d.Kind, State: d.State, Attempts: d.Attempts,
		NextAt: d.NextAt, CreatedAt: d.CreatedAt, EndedAt: d.EndedAt}
}

// Deliveries lists those of a webhook, newest first.
func (s *Outbox) Deliveries(ctx context.Context, a accounts.Actor, q wire.DeliveryQuery) ([]wire.Delivery, error) {
	v := s.records.View(ctx)
	defer v.Close()
	if _, _, err := s.find(v.DB, a, q.ID); err != nil {
		return nil, err
	}
	query := v.Where("webhook_id = ?", q.ID).Order("id DESC").Limit(min(max(q.Limit, 1), 200))
	if q.State != "" {
		query = query.Where("state = ?", q.State)
	} else {
		query = query.Where("state <> 'dropped' OR seq = 0") // but for tests, what was not for it is not of interest
	}
	if q.Before > 0 {
		query = query.Where("id < ?", q.Before)
	}
	var rows []records.Delivery
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	out, at := []wire.Delivery{}, map[int64]int{}
	ids := []int64{}
	for i, d := range rows {
		out = append(out, deliveryView(d))
		at[d.ID] = i
		ids = append(ids, d.ID)
	}
	if err := told(v.DB, out); err != nil {
		return nil, err
	}
	var last []records.DeliveryAttempt
	err := v.Where("id IN (SELECT max(id) FROM delivery_attempts WHERE delivery_id IN ? GROUP BY delivery_id)", ids).Find(&last).Error
	for _, t := range last {
		i := at[t.DeliveryID]
		out[i].Status, out[i].Error = t.Status, t.Error
	}
	return out, err
}

// told adds what happened to deliveries.
func told(db *gorm.DB, all []wire.Delivery) error {
	var seqs []int64
	for _, d := range all {
		seqs = append(seqs, d.Event)
	}
	var lines []records.JournalLine
	if err := db.Select("seq", "text").Where("seq IN ?", seqs).Find(&lines).Error; err != nil {
		return err
	}
	text := map[int64]string{}
	for _, l := range lines {
		text[l.Seq] = l.Text
	}
	for i := range all {
		all[i].Text = text[all[i].Event]
	}
	return nil
}

// Delivery describes one, with every try.
func (s *Outbox) Delivery(ctx context.Context, a accounts.Actor, id int64) (wire.Delivery, error) {
	v := s.records.View(ctx)
	defer v.Close()
	d, h, err := s.findDelivery(v.DB, a, id)
	if err != nil {
		return wire.Delivery{}, err
	}
	return whole(v.DB, d, h)
}

func (s *Outbox) findDelivery(db *gorm.DB, a accounts.Actor, id int64) (records.Delivery, records.Webhook, error) {
	var d records.Delivery
	missing := problem.New(problem.Unknown, "there is no delivery %d, or it is not yours to see; they are kept for %d days", id, s.bounds.KeepDeliveries)
	if !a.Known() {
		return d, records.Webhook{}, problem.New(problem.SignInNeeded, "sign in to see deliveries")
	}
	if err := db.Where("id = ?", id).First(&d).Error; err != nil {
		return d, records.Webhook{}, records.OrElse(err, missing)
	}
	h, _, err := s.find(db, a, d.WebhookID)
	if p, is := err.(*problem.Problem); is && p.Kind == problem.Unknown {
		err = missing
	}
	return d, h, err
}

// whole is a delivery with every try.
func whole(db *gorm.DB, d records.Delivery, h records.Webhook) (wire.Delivery, error) {
	var tries []records.DeliveryAttempt
	if err := db.Where("delivery_id = ?", d.ID).Order("id").Find(&tries).Error; err != nil {
		return wire.Delivery{}, err
	}
	out := deliveryView(d)
	out.Payload = hide(d.Payload, h)
	for _, t := range tries {
		out.Tries = append(out.Tries, wire.DeliveryAttempt{Number: t.Number, At: t.At, Milliseconds: t.Milliseconds, URL: t.URL, Request: t.Request,
			Status: t.Status, Response: t.Response, Answer: t.Answer, Error: t.Error})
		out.Status, out.Error = t.Status, t.Error
	}
	return out, nil
}

// Test sends an example of what a webhook sends, at once and once, and shows request and answer.
func (s *Outbox) Test(ctx context.Context, a accounts.Actor, id int64) (wire.Delivery, error) {
	h, p, err := s.find(s.records.Read(ctx), a, id)
	if err != nil {
		return wire.Delivery{}, err
	}
	f, err := webhook.NewFilter(h.Kinds, h.Branches, h.Paths)
	if err != nil {
		return wire.Delivery{}, err
	}
	now := s.records.Now()
	var kind *event.Kind
	var parcel parcel
	for _, kind = range f.Sent() { // the first for whose example the condition holds
		if parcel, err = example(h, kind, p, s.base, now); err != nil {
			return wire.Delivery{}, problem.New(problem.Conflict, "for an event %s %v", kind.Name, err)
		}
		if parcel.body != nil {
			break
		}
	}
	if parcel.body == nil { // it holds for none of the examples; what is sent is tried all the same
		always := h
		always.Condition = ""
		kind = f.Sent()[0]
		if parcel, err = example(always, kind, p, s.base, now); err != nil {
			return wire.Delivery{}, problem.New(problem.Conflict, "its condition, %s, holds for no example of what it sends, and without it, for an event %s %v",
				h.Condition, kind.Name, err)
		}
	}
	d := records.Delivery{WebhookID: h.ID, Message: newMessage(), Kind: kind.Name, State: "waiting", CreatedAt: now, Payload: string(parcel.body)}
	r := s.try(ctx, h, d, parcel)
	d = r.delivery
	if d.State != "delivered" { // it is not tried again
		d.State, d.EndedAt, d.NextAt = "dropped", &now, nil
	}
	err = s.records.Note(ctx, func(tx *records.Tx) error {
		if err := tx.Create(&d).Error; err != nil {
			return err
		}
		r.attempt.DeliveryID = d.ID
		return create(tx, r.attempt)
	})
	if err != nil {
		return wire.Delivery{}, err
	}
	return whole(s.records.Read(ctx), d, h)
}

// Again has a delivery sent once more, under the same id and with the same body.
func (s *Outbox) Again(ctx context.Context, a accounts.Actor, id int64) (wire.Delivery, error) {
	var out wire.Delivery
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		d, h, err := s.findDelivery(tx.DB, a, id)
		if err != nil {
			return err
		}
		switch {
		case h.Off != "":
			return problem.New(problem.Conflict, "webhook %d is off: %s. Switch it on first: tavrin webhook edit %d --on", h.ID, h.Off, h.ID)
		case d.Seq == 0:
			return problem.New(problem.Conflict, "that was a test; tavrin webhook test %d sends another", h.ID)
		}
		d.State, d.NextAt, d.EndedAt = "waiting", nil, nil
		tx.TouchesNothing()
		s.changed(h.ID)
		out = deliveryView(d)
		return tx.Model(&d).Select("state", "next_at", "ended_at").Updates(&d).Error
	})
	return out, err
}

// Troubled is a webhook that somebody has to look at, of a repository, of a house, or of the service.
type Troubled struct {
	wire.Webhook
	RepositoryID, HouseID *int64
}

// InTrouble lists the webhooks that have given up deliveries, or were asked for no more by their destination.
func InTrouble(db *gorm.DB) ([]Troubled, error) {
	var rows []records.Webhook
	err := db.Where("deleted_at IS NULL AND (id IN (SELECT webhook_id FROM deliveries WHERE state = 'parked') OR (off <> '' AND failing_since IS NOT NULL))").
		Order("id").Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	views := make([]wire.Webhook, len(rows))
	for i, h := range rows {
		views[i] = view(h, "")
	}
	if err := counted(db, views); err != nil {
		return nil, err
	}
	out := make([]Troubled, len(rows))
	for i, h := range rows {
		out[i] = Troubled{views[i], h.RepositoryID, h.HouseID}
	}
	return out, nil
}
