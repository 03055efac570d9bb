package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/wire"
)

// webhooks: events sent to other systems, and every delivery.
func (s *server) webhooks() {
	serve(s, wire.ListWebhooks, func(ctx context.Context, a accounts.Actor, q *wire.WebhookQuery) ([]wire.Webhook, error) {
		return s.Service.Outbox.Webhooks(ctx, a, q.Of)
	})
	serve(s, wire.CreateWebhook, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.NewWebhook]) (wire.Webhook, error) {
		return s.Service.Outbox.Create(ctx, a, q.Body)
	})
	serve(s, wire.GetWebhook, func(ctx context.Context, a accounts.Actor, q *wire.WithID) (wire.Webhook, error) {
		return s.Service.Outbox.Webhook(ctx, a, q.ID)
	})
	serve(s, wire.EditWebhook, func(ctx context.Context, a accounts.Actor, q *wire.WebhookChanged) (wire.Webhook, error) {
		return s.Service.Outbox.Edit(ctx, a, q.ID, q.Body)
	})
	serve(s, wire.DeleteWebhook, func(ctx context.Context, a accounts.Actor, q *wire.WithID) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Outbox.Delete(ctx, a, q.ID)
	})
	serve(s, wire.ReplaceSecret, func(ctx context.Context, a accounts.Actor, q *wire.SecretReplaced) (wire.Webhook, error) {
		return s.Service.Outbox.ReplaceSecret(ctx, a, q.ID, q.Body.Secret)
	})
	serve(s, wire.TestWebhook, func(ctx context.Context, a accounts.Actor, q *wire.WithID) (wire.Delivery, error) {
		return s.Service.Outbox.Test(ctx, a, q.ID)
	})
	serve(s, wire.ListDeliveries, func(ctx context.Context, a accounts.Actor, q *wire.DeliveryQuery) ([]wire.Delivery, error) {
		return s.Service.Outbox.Deliveries(ctx, a, *q)
	})
	serve(s, wire.GetDelivery, func(ctx context.Context, a accounts.Actor, q *wire.WithID) (wire.Delivery, error) {
		return s.Service.Outbox.Delivery(ctx, a, q.ID)
	})
	serve(s, wire.SendAgain, func(ctx context.Context, a accounts.Actor, q *wire.WithID) (wire.Delivery, error) {
		return s.Service.Outbox.Again(ctx, a, q.ID)
	})
	serve(s, wire.ListDestinations, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.Destination, error) {
		return s.Service.Outbox.Destinations(ctx, a)
	})
	serve(s, wire.GetTracker, func(ctx context.Context, a accounts.Actor, q *wire.InHouse) (wire.Tracker, error) {
		return s.Service.Tickets.Tracker(ctx, a, q.House)
	})
	serve(s, wire.SetTracker, func(ctx context.Context, a accounts.Actor, q *wire.TrackerSet) (wire.Tracker, error) {
		return s.Service.Tickets.Set(ctx, a, q.House, q.Body)
	})
	serve(s, wire.RemoveTracker, func(ctx context.Context, a accounts.Actor, q *wire.TrackerGone) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Tickets.Remove(ctx, a, q.House, q.Body.Reason)
	})
	serve(s, wire.TryTracker, func(ctx context.Context, a accounts.Actor, q *wire.TrackerAsked) (wire.TrackerTried, error) {
		return s.Service.Tickets.Try(ctx, a, q.House, q.Body.Ticket)
	})
	serve(s, wire.AskTracker, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.Done, error) {
		return s.Service.Tickets.Ask(ctx, a, q.Repository(), q.Number)
	})
}
