package outbox

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/http/httpguts"
	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/journal"
	"tavrin/internal/core/people"
	"tavrin/internal/core/webhook"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

const (
	maxGlobs = 50
	maxURL   = 2000 // bytes
)

// place is whose events a webhook sends: a repository's, a house's, or the service's.
type place struct {
	house, repository *int64
	repo              *records.Repository
	name              string
}

// placeOf finds a place for an actor who may keep its webhooks.
func placeOf(db *gorm.DB, a accounts.Actor, of string) (place, error) {
	p := place{name: of}
	switch {
	case of == "":
		return p, a.MustAdminister("keeping webhooks of the whole service")
	case strings.Contains(of, "/"):
		repo, err := accounts.Reach(db, a, of, people.Maintainer)
		if err != nil {
			return p, err
		}
		p.repo, p.repository = repo, &repo.ID
		return p, nil
	}
	h, err := accounts.HouseByName(db, a, of)
	if err != nil {
		return p, err
	}
	p.house = &h.ID
	return p, accounts.MustMaintainHouse(db, a, h, "keeping its webhooks")
}

// in restricts a query to the webhooks of the place.
func (p place) in(db *gorm.DB) *gorm.DB {
	return db.Where("repository_id IS ? AND house_id IS ? AND deleted_at IS NULL", p.repository, p.house)
}

// nameOf is the name of whose events a webhook sends.
func nameOf(db *gorm.DB, h records.Webhook) (string, error) {
	name := ""
	var err error
	switch {
	case h.RepositoryID != nil:
		err = db.Model(&records.Repository{}).Where("id = ?", *h.RepositoryID).Pluck("name", &name).Error
	case h.HouseID != nil:
		err = db.Model(&records.House{}).Where("id = ?", *h.HouseID).Pluck("name", &name).Error
	}
	return name, err
}

// find finds a webhook for an actor who may keep it. One that they may not is as good as none (P11).
func (s *Outbox) find(db *gorm.DB, a accounts.Actor, id int64) (records.Webhook, place, error) {
	var h records.Webhook
	missing := problem.New(problem.Unknown, "there is no webhook %d, or it is not yours to keep", id)
	if !a.Known() {
		return h, place{}, problem.New(problem.SignInNeeded, "sign in to see webhooks")
	}
	if err := db.Where("id = ? AND deleted_at IS NULL", id).First(&h).Error; err != nil {
		return h, place{}, records.OrElse(err, missing)
	}
	name, err := nameOf(db, h)
	if err != nil {
		return h, place{}, err
	}
	p, err := placeOf(db, a, name)
	if no, is := errors.AsType[*problem.Problem](err); is && (no.Kind == problem.Unknown || no.Kind == problem.Forbidden) && a.Scope() == accounts.ScopeAll {
		err = missing
	}
	return h, p, err
}

func view(h records.Webhook, of string) wire.Webhook {
	v := wire.Webhook{ID: h.ID, Of: of, Name: h.Name, URL: h.URL, Events: orNone(h.Kinds), Branches: orNone(h.Branches), Paths: orNone(h.Paths),
		When: h.Condition, Headers: orNone(slices.Sorted(maps.Keys(h.Headers))), Body: h.Body, ContentType: h.ContentType, AnyOrder: h.AnyOrder, Off: h.Off,
		FailingSince: h.FailingSince, Trouble: h.Trouble, MadeBy: h.MadeBy, CreatedAt: h.CreatedAt}
	if h.OldSecret != "" {
		v.OldUntil = h.OldUntil
	}
	return v
}

func orNone(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// counted adds how many deliveries of webhooks wait and are parked.
func counted(db *gorm.DB, views []wire.Webhook) error {
	at := map[int64]*wire.Webhook{}
	ids := []int64{}
	for i := range views {
		at[views[i].ID] = &views[i]
		ids = append(ids, views[i].ID)
	}
	var rows []struct {
		WebhookID int64
		State     string
		N         int
	}
	err := db.Raw("SELECT webhook_id, state, count(*) AS n FROM deliveries WHERE webhook_id IN ? AND state IN ('waiting', 'parked') "+
		"GROUP BY webhook_id, state", ids).Scan(&rows).Error
	for _, r := range rows {
		if r.State == "parked" {
			at[r.WebhookID].Parked = r.N
		} else {
			at[r.WebhookID].Waiting = r.N
		}
	}
	return err
}

// Webhooks lists those of a repository, a house or the service.
func (s *Outbox) Webhooks(ctx context.Context, a accounts.Actor, of string) ([]wire.Webhook, error) {
	v := s.records.View(ctx)
	defer v.Close()
	p, err := placeOf(v.DB, a, of)
	if err != nil {
		return nil, err
	}
	var rows []records.Webhook
	if err := p.in(v.DB).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []wire.Webhook{}
	for _, h := range rows {
		out = append(out, view(h, of))
	}
	return out, counted(v.DB, out)
}

// Webhook describes one.
func (s *Outbox) Webhook(ctx context.Context, a accounts.Actor, id int64) (wire.Webhook, error) {
	v := s.records.View(ctx)
	defer v.Close()
	h, p, err := s.find(v.DB, a, id)
	if err != nil {
		return wire.Webhook{}, err
	}
	out := []wire.Webhook{view(h, p.name)}
	err = counted(v.DB, out)
	return out[0], err
}

// Create makes a webhook.
func (s *Outbox) Create(ctx context.Context, a accounts.Actor, n wire.NewWebhook) (wire.Webhook, error) {
	h := records.Webhook{Name: n.Name, URL: n.URL, Kinds: n.Events, Branches: n.Branches, Paths: n.Paths, Condition: n.When, Headers: typed.CanonicalHeaders(n.Headers), Body: n.Body,
		ContentType: n.ContentType, AnyOrder: n.AnyOrder, MadeBy: a.Login()}
	var out wire.Webhook
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		p, err := placeOf(tx.DB, a, n.Of)
		if err != nil {
			return err
		}
		if h.Secret, err = secretOr(n.Secret); err != nil {
			return err
		}
		var there int64
		if err := p.in(tx.DB.Model(&records.Webhook{})).Count(&there).Error; err != nil {
			return err
		}
		if there >= s.bounds.Webhooks {
			return problem.New(problem.Conflict, "there are %d webhooks already, which is the bound webhooks: delete one, or have one send more kinds "+
				"of events", there)
		}
		h.RepositoryID, h.HouseID, h.CreatedAt = p.repository, p.house, tx.Now()
		if err := s.valid(&h, p); err != nil {
			return err
		}
		if err := tx.Create(&h).Error; err != nil {
			return err
		}
		s.changed(h.ID)
		out = view(h, p.name)
		out.Secret = h.Secret
		return tx.Record(a.Login(), p.repo, event.WebhookCreated{OfWebhook: named(h, p), Host: shownHost(h.URL), Events: h.Kinds})
	})
	return out, err
}

// named is what every event about a webhook itself tells.
func named(h records.Webhook, p place) event.OfWebhook {
	return event.OfWebhook{Webhook: h.ID, Name: h.Name, Of: p.name}
}

// shownHost is the host of an address that may be a template.
func shownHost(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return ""
	}
	return u.Host
}

func secretOr(given string) (string, error) {
	if given == "" {
		random := make([]byte, webhook.SecretBytes)
		rand.Read(random) // never fails
		return webhook.NewSecret(random), nil
	}
	if err := webhook.ValidSecret(given); err != nil {
		return "", problem.Wrong("secret", "%v", err)
	}
	return given, nil
}

// valid says what is wrong with a webhook, and fills in what was left out. What is sent is tried on an example of every kind
// of event, so that an expression that asks for what is not there is refused now and not some night.
func (s *Outbox) valid(h *records.Webhook, p place) error {
	h.Kinds, h.Branches, h.Paths = orNone(h.Kinds), orNone(h.Branches), orNone(h.Paths)
	if err := typed.Line("name", h.Name, 1, 60); err != nil {
		return err
	}
	if len(h.Branches) > maxGlobs || len(h.Paths) > maxGlobs || len(h.Kinds) > maxGlobs {
		return problem.Wrong("events", "a webhook has at most %d events, branches and paths each", maxGlobs)
	}
	f, err := webhook.NewFilter(h.Kinds, h.Branches, h.Paths)
	if err != nil {
		return problem.Wrong("events", "%v", err)
	}
	if err := typed.Headers("headers", h.Headers); err != nil {
		return err
	}
	if len(h.URL) > maxURL || strings.ContainsFunc(h.URL, func(r rune) bool { return r <= ' ' || r == 0x7f }) {
		return problem.Wrong("url", "an address has at most %d bytes and no spaces", maxURL)
	}
	fixed, _, _ := strings.Cut(h.URL, "${")
	if u, err := url.Parse(fixed); err == nil && fixed != h.URL && (u.Host == "" || u.Path == "") {
		return problem.Wrong("url", "the host of an address is fixed: an expression stands behind the / that follows it")
	}
	if h.Body == "" {
		h.ContentType = ""
	} else {
		h.ContentType = cmp.Or(h.ContentType, webhook.JSONType)
		if !httpguts.ValidHeaderFieldValue(h.ContentType) || len(h.ContentType) > 100 || !strings.Contains(h.ContentType, "/") {
			return problem.Wrong("content_type", "%q is no content type", h.ContentType)
		}
		if _, err := webhook.ParseBody(h.Body, h.ContentType); err != nil {
			return problem.Wrong("body", "%v", err)
		}
	}
	if _, err := webhook.ParseCondition(h.Condition); err != nil {
		return problem.Wrong("when", "%v", err)
	}
	for _, k := range f.Sent() {
		parcel, err := example(*h, k, p, s.base, s.records.Now())
		if err != nil {
			return problem.Wrong("body", "for an event %s %v; has(data.details.FIELD) ? … : … asks first", k.Name, err)
		}
		if err := s.caller.List().Allows(parcel.url); err != nil {
			return problem.Wrong("url", "%v", err)
		}
	}
	return nil
}

// example is what a webhook would send for the example of a kind of event.
func example(h records.Webhook, k *event.Kind, p place, base string, at time.Time) (parcel, error) {
	data, err := json.Marshal(k.Example)
	if err != nil {
		return parcel{}, err
	}
	line := journal.Line{Seq: 0, At: at, Actor: "ines", Kind: k.Name, Repository: p.name, Subject: k.Example.Subject(), Text: k.Example.Text("ines"), Data: data}
	if p.repository == nil { // of some repository
		line.Repository = cmp.Or(p.name, "growers") + "/irrigation"
	}
	cloud, err := json.Marshal(struct {
		journal.CloudEvent
		Test bool `json:"test"` // an extension attribute of CloudEvents
	}{journal.Cloud(line, base), true})
	if err != nil {
		return parcel{}, err
	}
	if holds, err := sent(h, cloud); err != nil || !holds {
		if err != nil {
			err = fmt.Errorf("its condition could not be worked out: %w", err)
		}
		return parcel{url: h.URL}, err // nothing is written of it
	}
	return pack(h, records.Delivery{}, cloud)
}

// sent says whether an event is one for which the webhook's condition holds.
func sent(h records.Webhook, cloud []byte) (bool, error) {
	c, err := webhook.ParseCondition(h.Condition)
	if err != nil {
		return false, err
	}
	known, err := webhook.Variables(cloud)
	if err != nil {
		return false, err
	}
	return c.Holds(known)
}

// Edit changes what a webhook sends, and where to; or switches it off and on.
func (s *Outbox) Edit(ctx context.Context, a accounts.Actor, id int64, e wire.WebhookEdit) (wire.Webhook, error) {
	var out wire.Webhook
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		h, p, err := s.find(tx.DB, a, id)
		if err != nil {
			return err
		}
		moved := e.URL != nil && shownHost(*e.URL) != shownHost(h.URL)
		if moved && len(h.Headers) > 0 && e.Headers == nil {
			return problem.Wrong("headers", "the headers %s hold secrets for %s: give them anew with another host, or none",
				strings.Join(slices.Sorted(maps.Keys(h.Headers)), ", "), shownHost(h.URL))
		}
		what := edited(&h, e)
		if len(what) == 0 {
			out = view(h, p.name)
			tx.TouchesNothing()
			return nil
		}
		if err := s.valid(&h, p); err != nil {
			return err
		}
		if err := tx.Save(&h).Error; err != nil {
			return err
		}
		s.changed(h.ID)
		out = view(h, p.name)
		return tx.Record(a.Login(), p.repo, event.WebhookEdited{OfWebhook: named(h, p), What: what})
	})
	return out, err
}

// edited puts an edit on a webhook, and says what it changes.
func edited(h *records.Webhook, e wire.WebhookEdit) []string {
	var what []string
	say := func(is bool, name string) {
		if is {
			what = append(what, name)
		}
	}
	text := func(at *string, to *string, name string) {
		if to != nil {
			say(*at != *to, name)
			*at = *to
		}
	}
	list := func(at *[]string, to *[]string, name string) {
		if to != nil {
			say(!slices.Equal(*at, *to), name)
			*at = *to
		}
	}
	text(&h.Name, e.Name, "name")
	text(&h.URL, e.URL, "url")
	text(&h.Condition, e.When, "condition")
	list(&h.Kinds, e.Events, "events")
	list(&h.Branches, e.Branches, "branches")
	list(&h.Paths, e.Paths, "paths")
	if e.Headers != nil {
		headers := typed.CanonicalHeaders(*e.Headers)
		say(!maps.Equal(headers, h.Headers), "headers")
		h.Headers = headers
	}
	text(&h.Body, e.Body, "body")
	text(&h.ContentType, e.ContentType, "content type")
	if e.AnyOrder != nil {
		say(h.AnyOrder != *e.AnyOrder, "order")
		h.AnyOrder = *e.AnyOrder
	}
	if e.Off != nil && *e.Off != (h.Off != "") {
		say(*e.Off, "switched off")
		say(!*e.Off, "switched on")
		h.Off = ""
		if *e.Off {
			h.Off = "it was switched off"
		}
	}
	return what
}

// Delete deletes a webhook. What waits is not sent; what was sent can be looked up no more.
func (s *Outbox) Delete(ctx context.Context, a accounts.Actor, id int64) error {
	return s.records.Write(ctx, func(tx *records.Tx) error {
		h, p, err := s.find(tx.DB, a, id)
		if err != nil {
			return err
		}
		now := tx.Now()
		err = tx.Model(&h).Updates(map[string]any{"deleted_at": now, "secret": "", "old_secret": "", "headers": "{}"}).Error
		if err == nil {
			err = tx.Model(&records.Delivery{}).Where("webhook_id = ? AND state = 'waiting'", id).
				Updates(map[string]any{"state": "dropped", "ended_at": now}).Error
		}
		if err != nil {
			return err
		}
		s.changed(h.ID)
		return tx.Record(a.Login(), p.repo, event.WebhookDeleted{OfWebhook: named(h, p)})
	})
}

// ReplaceSecret gives a webhook another secret. What is sent from then on carries the signatures of both, for a day.
func (s *Outbox) ReplaceSecret(ctx context.Context, a accounts.Actor, id int64, given string) (wire.Webhook, error) {
	var out wire.Webhook
	secret, err := secretOr(given)
	if err != nil {
		return out, err
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		h, p, err := s.find(tx.DB, a, id)
		if err != nil {
			return err
		}
		until := tx.Now().Add(webhook.Overlap)
		h.OldSecret, h.OldUntil, h.Secret = h.Secret, &until, secret
		if err := tx.Save(&h).Error; err != nil {
			return err
		}
		s.changed(h.ID)
		out = view(h, p.name)
		out.Secret = secret
		return tx.Record(a.Login(), p.repo, event.WebhookSecretReplaced{OfWebhook: named(h, p)})
	})
	return out, err
}

// Destinations lists what may be called, for those who may keep a webhook anywhere.
func (s *Outbox) Destinations(ctx context.Context, a accounts.Actor) ([]wire.Destination, error) {
	if !a.Account().Admin {
		var n int64
		err := s.records.Read(ctx).Model(&records.Grant{}).Where("role = 'maintainer' AND (account_id = ? OR team_id IN "+
			"(SELECT team_id FROM team_members WHERE account_id = ?))", a.Account().ID, a.Account().ID).Count(&n).Error
		if err != nil || n == 0 || !a.Known() {
			return nil, errors.Join(err, problem.New(problem.Forbidden, "what may be called is for maintainers and administrators to see"))
		}
	}
	out := []wire.Destination{}
	for _, e := range s.caller.List() {
		out = append(out, wire.Destination{Destination: e.String()})
	}
	return out, nil
}
