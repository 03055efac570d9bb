package api

import (
	"context"
	"io"
	"net/http"

	"github.com/go-chi/chi/v5"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/wire"
)

// queue: joining, leaving and looking.
func (s *server) queue() {
	serve(s, wire.GetQueue, func(ctx context.Context, a accounts.Actor, q *wire.QueueQuery) (wire.Queue, error) {
		return s.Service.Queues.Queue(ctx, a, q.Repository(), q.Branch)
	})
	serve(s, wire.PreviewLanding, func(ctx context.Context, a accounts.Actor, q *wire.LandingAsked) (wire.LandingPreview, error) {
		return s.Service.Landing.PreviewLanding(ctx, a, q.Repository(), q.Number, q.LandingQuestion)
	})
	serve(s, wire.JoinQueue, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.NewEntry]) (wire.Entry, error) {
		return s.Service.Queues.Join(ctx, a, q.Repository(), q.Number,
			wire.NewEntry{Strategy: change.Strategy(q.Body.Strategy), Message: q.Body.Message,
				DeleteSource: q.Body.DeleteSource})
	})
	serve(s, wire.LeaveQueue, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.Entry, error) {
		return s.Service.Queues.Leave(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.RaiseEntry, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.Reasoned]) (wire.Entry, error) {
		return s.Service.Queues.Raise(ctx, a, q.Repository(), q.Number, q.Body.Reason)
	})
	serve(s, wire.QueueFigures, func(ctx context.Context, a accounts.Actor, q *wire.NumbersQuery) (wire.QueueNumbers, error) {
		return s.Service.Queues.Numbers(ctx, a, q.Repository(), *q)
	})
	serve(s, wire.StartForecast, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.NewForecast]) (wire.Forecast, error) {
		return s.Service.Forecasts.Start(ctx, a, q.Repository(), q.Body)
	})
	serve(s, wire.GetForecast, func(ctx context.Context, a accounts.Actor, q *wire.InForecast) (wire.Forecast, error) {
		return s.Service.Forecasts.Get(ctx, a, q.ID)
	})
	serve(s, wire.StopForecast, func(ctx context.Context, a accounts.Actor, q *wire.InForecast) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Forecasts.Stop(ctx, a, q.ID)
	})
	serve(s, wire.ListDecisions, func(ctx context.Context, a accounts.Actor, q *wire.DecisionQuery) ([]wire.QueueDecision, error) {
		return s.Service.Queues.Decisions(ctx, a, q.Repository(), *q)
	})
	serve(s, wire.HoldQueue, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.Holding]) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Freezes.Hold(ctx, a, q.Repository(), q.Body.Branch, q.Body.Reason)
	})
	serve(s, wire.FreeQueue, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.Holding]) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Freezes.Free(ctx, a, q.Repository(), q.Body.Branch, q.Body.Reason)
	})
	serve(s, wire.ListFreezes, func(ctx context.Context, a accounts.Actor, q *wire.FreezeQuery) ([]wire.Freeze, error) {
		return s.Service.Freezes.List(ctx, a, q.Of, q.All)
	})
	serve(s, wire.PlanFreeze, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.NewFreeze]) ([]wire.Freeze, error) {
		return s.Service.Freezes.Plan(ctx, a, q.Body)
	})
	serve(s, wire.EndFreeze, func(ctx context.Context, a accounts.Actor, q *wire.FreezeEnded) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Freezes.End(ctx, a, q.ID, q.Body.Reason)
	})
	serve(s, wire.DeleteFreeze, func(ctx context.Context, a accounts.Actor, q *wire.FreezeEnded) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Freezes.Delete(ctx, a, q.ID, q.Body.Reason)
	})
}

// freezeFeed sends the freezes of a repository or a house as a calendar, to which calendar programs subscribe: with a token
// as the Basic password.
func (s *server) freezeFeed(w http.ResponseWriter, r *http.Request) {
	of := chi.URLParam(r, "house")
	if name := chi.URLParam(r, "name"); name != "" {
		of += "/" + name
	}
	text, err := s.Service.Freezes.Feed(r.Context(), actor(r.Context()), of)
	if err != nil {
		p := s.problemOf(r.Context(), err)
		if p.Status == http.StatusUnauthorized { // calendar programs say who is asking once they are asked
			w.Header().Set("WWW-Authenticate", basicRealm)
		}
		writeProblem(w, p)
		return
	}
	w.Header().Set("Content-Type", "text/calendar; charset=utf-8")
	w.Header().Set("Content-Disposition", `attachment; filename="freezes.ics"`)
	// an error is the caller's: it has gone
	_, _ = io.WriteString(w, text)
}
