package client

import (
	"context"

	"tavrin/wire"
)

// webhooks is the part of the client about events sent to other systems.
type webhooks struct{ *connection }

// Webhooks lists those of a repository (HOUSE/NAME), of a house (HOUSE), or of the service (empty).
func (c webhooks) Webhooks(ctx context.Context, of string) ([]wire.Webhook, error) {
	return do(ctx, c.connection, wire.ListWebhooks, wire.WebhookQuery{Of: of})
}

// CreateWebhook makes a webhook; the answer has its secret, this once.
func (c webhooks) CreateWebhook(ctx context.Context, n wire.NewWebhook) (wire.Webhook, error) {
	return do(ctx, c.connection, wire.CreateWebhook, wire.JustBody[wire.NewWebhook]{Body: n})
}

// Webhook returns one.
func (c webhooks) Webhook(ctx context.Context, id int64) (wire.Webhook, error) {
	return do(ctx, c.connection, wire.GetWebhook, wire.WithID{ID: id})
}

// EditWebhook changes what a webhook sends and where to, or switches it off and on.
func (c webhooks) EditWebhook(ctx context.Context, id int64, e wire.WebhookEdit) (wire.Webhook, error) {
	return do(ctx, c.connection, wire.EditWebhook, wire.WebhookChanged{WithID: wire.WithID{ID: id}, Body: e})
}

// DeleteWebhook deletes a webhook; what waits is not sent.
func (c webhooks) DeleteWebhook(ctx context.Context, id int64) error {
	_, err := do(ctx, c.connection, wire.DeleteWebhook, wire.WithID{ID: id})
	return err
}

// ReplaceSecret gives a webhook another secret, which the answer has; an empty one has the service make it.
func (c webhooks) ReplaceSecret(ctx context.Context, id int64, secret string) (wire.Webhook, error) {
	return do(ctx, c.connection, wire.ReplaceSecret, wire.SecretReplaced{WithID: wire.WithID{ID: id}, Body: wire.NewSecret{Secret: secret}})
}

// TestWebhook sends an example and returns what was asked and answered.
func (c webhooks) TestWebhook(ctx context.Context, id int64) (wire.Delivery, error) {
	return do(ctx, c.connection, wire.TestWebhook, wire.WithID{ID: id})
}

// Deliveries lists those of a webhook, newest first; an empty state means all.
func (c webhooks) Deliveries(ctx context.Context, id int64, state string, before int64, limit int) ([]wire.Delivery, error) {
	return do(ctx, c.connection, wire.ListDeliveries,
		wire.DeliveryQuery{WithID: wire.WithID{ID: id}, State: state, Before: before, Limit: limit})
}

// Delivery returns one with every try.
func (c webhooks) Delivery(ctx context.Context, id int64) (wire.Delivery, error) {
	return do(ctx, c.connection, wire.GetDelivery, wire.WithID{ID: id})
}

// SendAgain has a delivery sent once more, under the same id.
func (c webhooks) SendAgain(ctx context.Context, id int64) (wire.Delivery, error) {
	return do(ctx, c.connection, wire.SendAgain, wire.WithID{ID: id})
}

// Destinations lists what the administrator allows the service to call.
func (c webhooks) Destinations(ctx context.Context) ([]wire.Destination, error) {
	return do(ctx, c.connection, wire.ListDestinations, wire.Nothing{})
}

// Tracker returns what a house asks about tickets.
func (c webhooks) Tracker(ctx context.Context, house string) (wire.Tracker, error) {
	return do(ctx, c.connection, wire.GetTracker, wire.InHouse{House: house})
}

// SetTracker says what a house asks about tickets.
func (c webhooks) SetTracker(ctx context.Context, house string, n wire.NewTracker) (wire.Tracker, error) {
	return do(ctx, c.connection, wire.SetTracker, wire.TrackerSet{InHouse: wire.InHouse{House: house}, Body: n})
}

// RemoveTracker leaves a house without a tracker.
func (c webhooks) RemoveTracker(ctx context.Context, house, reason string) (wire.Done, error) {
	return do(ctx, c.connection, wire.RemoveTracker, wire.TrackerGone{InHouse: wire.InHouse{House: house}, Body: wire.Reasoned{Reason: reason}})
}

// TryTracker asks the tracker of a house about a ticket, and shows what it answers.
func (c webhooks) TryTracker(ctx context.Context, house, ticket string) (wire.TrackerTried, error) {
	return do(ctx, c.connection, wire.TryTracker, wire.TrackerAsked{InHouse: wire.InHouse{House: house}, Body: wire.TrackerTry{Ticket: ticket}})
}

// AskTracker has the tracker asked again about the tickets of a change.
func (c webhooks) AskTracker(ctx context.Context, repo string, number int) (wire.Done, error) {
	return do(ctx, c.connection, wire.AskTracker, inChange(repo, number))
}
