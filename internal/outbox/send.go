package outbox

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/event"
	"tavrin/internal/core/journal"
	"tavrin/internal/core/webhook"
	"tavrin/internal/records"
	"tavrin/internal/typed"
)

const (
	// batch is how many deliveries a lane reads at once; what is recorded of them is written together.
	batch = 20
	// soon is how long what came of a try may be known to the lane alone.
	soon = 250 * time.Millisecond
	// eventType is the content type of an event that no template has given another form.
	eventType = "application/cloudevents+json; charset=UTF-8"
)

// lane sends what waits for one webhook, one after the other.
type lane struct {
	room  *Outbox
	id    int64
	woken chan struct{} // holds one when there may be something new
}

// nudge has the lane look again.
func (l *lane) nudge() {
	select {
	case l.woken <- struct{}{}:
	default:
	}
}

// run sends until nothing waits that may be sent; then the lane is no more.
func (l *lane) run(ctx context.Context) {
	for {
		pause, err := l.round(ctx)
		switch {
		case ctx.Err() != nil:
			l.room.mu.Lock()
			delete(l.room.lanes, l.id)
			l.room.mu.Unlock()
			return
		case err != nil:
			l.room.log.Error("deliveries could not be made", "webhook", l.id, "error", err)
			pause = time.Minute
		case pause == 0:
			l.room.mu.Lock()
			if len(l.woken) == 0 {
				delete(l.room.lanes, l.id)
				l.room.mu.Unlock()
				return
			}
			l.room.mu.Unlock()
		}
		timer := time.NewTimer(pause)
		if pause == 0 {
			timer.Reset(time.Hour) // it was woken
		}
		select {
		case <-l.woken:
		case <-timer.C:
		case <-ctx.Done():
		}
		timer.Stop()
	}
}

// round sends what is due, and returns how long to wait for what is due next; 0: nothing waits.
func (l *lane) round(ctx context.Context) (time.Duration, error) {
	for ctx.Err() == nil {
		var hook records.Webhook
		if err := l.room.records.Read(ctx).Where("id = ?", l.id).First(&hook).Error; err != nil {
			return 0, err
		}
		if hook.Off != "" || hook.DeletedAt != nil {
			return 0, nil
		}
		now := l.room.records.Now()
		query := l.room.records.Read(ctx).Where("webhook_id = ? AND state = 'waiting'", l.id)
		if hook.AnyOrder {
			query = query.Order("next_at IS NOT NULL, next_at, id")
		} else {
			query = query.Order("id")
		}
		var due []records.Delivery
		if err := query.Limit(batch).Find(&due).Error; err != nil {
			return 0, err
		}
		if len(due) == 0 {
			return 0, nil
		}
		var results []result
		var wait time.Duration
		began := time.Now()
		for _, d := range due {
			if d.NextAt != nil && d.NextAt.After(now) {
				wait = d.NextAt.Sub(now)
				break
			}
			r := l.room.deliver(ctx, hook, d)
			if ctx.Err() != nil { // it is not known whether it was taken
				break
			}
			results = append(results, r)
			if !r.delivered() && !hook.AnyOrder || r.gone || time.Since(began) > soon {
				break
			}
		}
		if len(results) == 0 {
			return wait, nil
		}
		if err := l.room.note(ctx, hook, results); err != nil {
			return 0, err
		}
	}
	return 0, ctx.Err()
}

// result is what came of one try.
type result struct {
	delivery records.Delivery // as it is from then on
	attempt  *records.DeliveryAttempt
	gone     bool
}

func (r result) delivered() bool {
	return r.delivery.State != "waiting" && r.delivery.State != "parked"
}

// deliver tries to deliver once.
func (s *Outbox) deliver(ctx context.Context, h records.Webhook, d records.Delivery) result {
	ended := func(state, why string) result {
		now := s.records.Now()
		d.State, d.EndedAt, d.NextAt = state, &now, nil
		r := result{delivery: d}
		if why != "" {
			d.Attempts++
			r.delivery, r.attempt = d, &records.DeliveryAttempt{DeliveryID: d.ID, Number: d.Attempts, At: now, Error: why}
		}
		return r
	}
	line, e, err := s.lineOf(ctx, d.Seq)
	if err != nil {
		return ended("parked", err.Error())
	}
	brings, err := s.brings(ctx, h, line, e)
	if err != nil {
		return ended("parked", "which paths it brings could not be found out: "+err.Error())
	}
	if !brings {
		return ended("dropped", "")
	}
	cloud, err := json.Marshal(journal.Cloud(line, s.base))
	if err != nil {
		return ended("parked", err.Error())
	}
	if holds, err := sent(h, cloud); err != nil {
		return ended("parked", "its condition could not be worked out: "+err.Error())
	} else if !holds {
		return ended("dropped", "")
	}
	parcel, err := pack(h, d, cloud)
	if err != nil {
		return ended("parked", err.Error())
	}
	d.Payload = string(parcel.body)
	return s.try(ctx, h, d, parcel)
}

// try makes the call, and says what it means.
func (s *Outbox) try(ctx context.Context, h records.Webhook, d records.Delivery, p parcel) result {
	began := s.records.Now()
	headers, err := p.signed(h, d.Message, began)
	if err != nil {
		d.Attempts++
		d.State, d.EndedAt, d.NextAt = string(webhook.Parked), &began, nil
		return result{d, &records.DeliveryAttempt{DeliveryID: d.ID, Number: d.Attempts, At: began, Error: err.Error()}, false}
	}
	clock := time.Now()
	answer, err := s.caller.Do(ctx, http.MethodPost, p.url, headers, p.body)
	d.Attempts++
	a := &records.DeliveryAttempt{DeliveryID: d.ID, Number: d.Attempts, At: began, Milliseconds: time.Since(clock).Milliseconds(),
		URL: p.url, Request: masked(headers, h)}
	now, verdict, asked := s.records.Now(), webhook.Again, time.Duration(0)
	if err != nil {
		a.Error = hide(err.Error(), h)
	} else {
		verdict, asked = webhook.Of(answer.Status), answer.RetryAfter
		a.Status, a.Response = answer.Status, masked(answer.Header, h)
		a.Answer = hide(strings.ReplaceAll(strings.ToValidUTF8(string(answer.Body), "\uFFFD"), "\x00", "\uFFFD"), h)
		if answer.Cut {
			a.Answer += "…"
		}
		if verdict == webhook.Again {
			a.Error = fmt.Sprintf("it answered %d %s", answer.Status, http.StatusText(answer.Status))
			if answer.Status/100 == 3 {
				a.Error += "; redirects are not followed"
			}
		}
	}
	s.tried(verdict == webhook.Delivered, time.Since(clock))
	if verdict == webhook.Gone {
		a.Error = "it answered 410 Gone: it wants no more events"
	}
	after := webhook.Next(verdict, webhook.Tried{Since: now.Sub(d.CreatedAt), Failed: d.Attempts, Asked: asked, Spread: rand.Float64()})
	d.State, d.NextAt, d.EndedAt = string(after.State), nil, nil
	if after.State == webhook.Waiting {
		next := now.Add(after.Pause)
		d.NextAt = &next
	} else {
		d.EndedAt = &now
	}
	return result{d, a, verdict == webhook.Gone}
}

// noted is what came of some tries of one webhook, to be recorded.
type noted struct {
	hook    records.Webhook
	results []result
	done    chan error
}

// note records what came of tries. Nothing depends on it and it leaves nothing in the journal; but there is one writer, and
// every write waits for the disk: so what comes while one is being written is written together, however many lanes there are.
func (s *Outbox) note(ctx context.Context, h records.Webhook, results []result) error {
	n := noted{h, results, make(chan error, 1)}
	s.mu.Lock()
	s.unnoted = append(s.unnoted, n)
	writes := !s.noting
	s.noting = true
	s.mu.Unlock()
	for writes {
		s.mu.Lock()
		all := s.unnoted
		s.unnoted, s.noting = nil, len(all) > 0
		s.mu.Unlock()
		if len(all) == 0 {
			break
		}
		// What was sent is recorded, even while the service stops.
		err := s.records.Note(context.WithoutCancel(ctx), func(tx *records.Tx) error {
			for _, n := range all {
				if err := s.write(tx, n); err != nil {
					return err
				}
			}
			return nil
		})
		for _, n := range all {
			n.done <- err
		}
	}
	return <-n.done
}

func (s *Outbox) write(tx *records.Tx, n noted) error {
	set := map[string]any{}
	failing := n.hook.FailingSince
	for _, r := range n.results {
		d := r.delivery
		// One whose webhook was deleted meanwhile stays dropped.
		err := tx.Model(&d).Where("state = 'waiting'").Select("state", "attempts", "next_at", "payload", "ended_at").Updates(&d).Error
		if err == nil && r.attempt != nil {
			err = create(tx, r.attempt)
		}
		if err != nil {
			return err
		}
		switch {
		case r.attempt == nil:
		case r.attempt.Error == "":
			failing = nil
			set["failing_since"], set["trouble"] = nil, ""
		default:
			if failing == nil {
				failing = &r.attempt.At
			}
			set["failing_since"], set["trouble"] = failing, r.attempt.Error
		}
		if r.gone {
			set["off"] = r.attempt.Error
			s.changed(n.hook.ID)
		}
	}
	if len(set) == 0 {
		return nil
	}
	return tx.Model(&records.Webhook{}).Where("id = ?", n.hook.ID).Updates(set).Error
}

func create(tx *records.Tx, a *records.DeliveryAttempt) error {
	if a.Request == nil {
		a.Request = map[string]string{}
	}
	if a.Response == nil {
		a.Response = map[string]string{}
	}
	return tx.Create(a).Error
}

// lineOf reads the line of the journal that a delivery is of.
func (s *Outbox) lineOf(ctx context.Context, seq int64) (journal.Line, event.Event, error) {
	var row records.JournalLine
	if err := s.records.Read(ctx).Where("seq = ?", seq).First(&row).Error; err != nil {
		return journal.Line{}, nil, err
	}
	at, err := time.Parse(time.RFC3339Nano, row.At)
	if err != nil {
		return journal.Line{}, nil, err
	}
	e, err := event.Decode(row.Kind, []byte(row.Data))
	return journal.Line{Seq: row.Seq, At: at, Actor: row.Actor, Kind: row.Kind, Repository: row.Repository, Subject: row.Subject,
		Text: row.Text, Data: json.RawMessage(row.Data)}, e, err
}

// brings says whether an event brings a path that the webhook is for.
func (s *Outbox) brings(ctx context.Context, h records.Webhook, line journal.Line, e event.Event) (bool, error) {
	f, err := webhook.NewFilter(h.Kinds, h.Branches, h.Paths)
	if err != nil || !f.AsksPaths() {
		return true, err
	}
	paths, err := s.paths(ctx, line, e)
	return f.Brings(paths), err
}

// paths lists what an event brings: the files of its change's newest revision, or those that differ where a branch moved.
func (s *Outbox) paths(ctx context.Context, line journal.Line, e event.Event) ([]string, error) {
	v := s.records.View(ctx)
	defer v.Close()
	var row records.JournalLine
	var repo records.Repository
	if err := v.Where("seq = ?", line.Seq).First(&row).Error; err != nil || row.RepositoryID == 0 {
		return nil, err
	}
	if err := v.Where("id = ?", row.RepositoryID).First(&repo).Error; err != nil {
		return nil, err
	}
	number := event.ChangeOf(e)
	if c, of := e.(interface{ OfChange() int }); of && number == 0 {
		number = c.OfChange()
	}
	if number != 0 {
		var r records.Revision
		err := v.Where("change_id = (SELECT id FROM changes WHERE repository_id = ? AND number = ?)", repo.ID, number).
			Order("number DESC").Limit(1).Find(&r).Error
		return r.Paths, err
	}
	m, moved := e.(interface{ Moved() (from, to string) })
	if !moved {
		return nil, nil
	}
	from, to := m.Moved()
	if to == "" {
		return nil, nil
	}
	bare := s.disk.Bare(&repo)
	if from == "" {
		return bare.Paths(ctx, to)
	}
	files, err := bare.Diff(ctx, from, to)
	var out []string
	for _, f := range files {
		out = append(out, f.Path)
		if f.OldPath != "" {
			out = append(out, f.OldPath)
		}
	}
	return out, err
}

// parcel is what is sent.
type parcel struct {
	url, contentType string
	body             []byte
	headers          map[string]string
}

// pack writes address and body for an event, as the webhook has them. A body that was sent once is sent again as it was.
func pack(h records.Webhook, d records.Delivery, cloud []byte) (parcel, error) {
	p := parcel{contentType: eventType, body: cloud, headers: h.Headers}
	known, err := webhook.Variables(cloud)
	if err != nil {
		return p, err
	}
	address, err := webhook.ParseTemplate(h.URL)
	if err == nil {
		p.url, err = address.Escaped(known)
	}
	if err != nil {
		return p, fmt.Errorf("the address could not be written: %w", err)
	}
	if h.Body != "" {
		p.contentType = h.ContentType
		form, err := webhook.ParseBody(h.Body, h.ContentType)
		if err == nil {
			p.body, err = form.Body(known)
		}
		if err != nil {
			return p, fmt.Errorf("the body could not be written: %w", err)
		}
	}
	if d.Payload != "" {
		p.body = []byte(d.Payload)
	}
	return p, nil
}

// signed are the headers of a try at a time. After the secret was replaced both sign for a while.
func (p parcel) signed(h records.Webhook, message string, at time.Time) (http.Header, error) {
	secrets := []string{h.Secret}
	if h.OldSecret != "" && h.OldUntil != nil && at.Before(*h.OldUntil) {
		secrets = append(secrets, h.OldSecret)
	}
	signature, err := webhook.Sign(message, at, p.body, secrets...)
	if err != nil {
		return nil, err
	}
	out := http.Header{}
	for name, value := range p.headers {
		out.Set(name, value)
	}
	out.Set("User-Agent", "Tavrin")
	out.Set("Content-Type", p.contentType)
	// In lower case, as the standard writes them.
	out[webhook.HeaderID] = []string{message}
	out[webhook.HeaderTimestamp] = []string{fmt.Sprint(at.Unix())}
	out[webhook.HeaderSignature] = []string{signature}
	return out, nil
}

// masked writes headers down, without what the maintainer gave as a secret: wherever it comes back.
func masked(headers http.Header, h records.Webhook) map[string]string {
	out := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(headers)) {
		value := hide(strings.Join(headers[name], ", "), h)
		if _, secret := h.Headers[http.CanonicalHeaderKey(name)]; secret {
			value = "…"
		}
		if len(out) < 40 {
			out[name] = typed.Shown(value)
		}
	}
	return out
}

// hide takes the secrets of a webhook, and tokens of the service, out of a text that others will read.
func hide(text string, h records.Webhook) string {
	secrets := slices.Collect(maps.Values(h.Headers))
	for _, s := range slices.Clone(secrets) { // "Bearer abc" is a secret, and so is abc
		if _, after, two := strings.Cut(s, " "); two {
			secrets = append(secrets, after)
		}
	}
	secrets = append(secrets, h.Secret, h.OldSecret)
	slices.SortFunc(secrets, func(a, b string) int { return len(b) - len(a) })
	for _, s := range secrets {
		if len(s) >= 4 {
			text = strings.ReplaceAll(text, s, "…")
		}
	}
	return typed.Mask(text)
}

// Tidy removes deliveries that ended long ago.
func (s *Outbox) Tidy(ctx context.Context) error {
	return s.records.Note(ctx, func(tx *records.Tx) error {
		return tx.Exec("DELETE FROM deliveries WHERE id IN (SELECT id FROM deliveries WHERE state <> 'waiting' AND ended_at < ? LIMIT 5000)",
			tx.Now().AddDate(0, 0, -int(s.bounds.KeepDeliveries))).Error
	})
}
