package client

import (
	"context"

	"tavrin/wire"
)

// queues is the part of the client about queues and landings.
type queues struct{ *connection }

// Landing says how a change landed.
func (c queues) Landing(ctx context.Context, repo string, number int) (wire.Landing, error) {
	return do(ctx, c.connection, wire.GetLanding, inChange(repo, number))
}

// Join puts a change into its target's queue.
func (c queues) Join(ctx context.Context, repo string, number int, e wire.NewEntry) (wire.Entry, error) {
	return do(ctx, c.connection, wire.JoinQueue, onChange(repo, number, e))
}

// Leave takes a change out of the queue.
func (c queues) Leave(ctx context.Context, repo string, number int) (wire.Entry, error) {
	return do(ctx, c.connection, wire.LeaveQueue, inChange(repo, number))
}

// Raise has a change go ahead of what waits in its queue.
func (c queues) Raise(ctx context.Context, repo string, number int, reason string) (wire.Entry, error) {
	return do(ctx, c.connection, wire.RaiseEntry, onChange(repo, number, wire.Reasoned{Reason: reason}))
}

// Decisions says what a queue's planner decided, and why.
func (c queues) Decisions(ctx context.Context, q wire.DecisionQuery, repo string) ([]wire.QueueDecision, error) {
	q.InRepo = inRepo(repo)
	return do(ctx, c.connection, wire.ListDecisions, q)
}

// QueueNumbers counts how a queue has done.
func (c queues) QueueNumbers(ctx context.Context, q wire.NumbersQuery, repo string) (wire.QueueNumbers, error) {
	q.InRepo = inRepo(repo)
	return do(ctx, c.connection, wire.QueueFigures, q)
}

// StartForecast begins to work out how a queue would do otherwise.
func (c queues) StartForecast(ctx context.Context, repo string, n wire.NewForecast) (wire.Forecast, error) {
	return do(ctx, c.connection, wire.StartForecast, wire.RepoBody[wire.NewForecast]{InRepo: inRepo(repo), Body: n})
}

// GetForecast returns a forecast as far as it is.
func (c queues) GetForecast(ctx context.Context, id string) (wire.Forecast, error) {
	return do(ctx, c.connection, wire.GetForecast, wire.InForecast{ID: id})
}

// StopForecast gives a forecast up.
func (c queues) StopForecast(ctx context.Context, id string) (wire.Done, error) {
	return do(ctx, c.connection, wire.StopForecast, wire.InForecast{ID: id})
}

// Queue shows the line for a branch; empty: the default branch.
func (c queues) Queue(ctx context.Context, repo, branch string) (wire.Queue, error) {
	return do(ctx, c.connection, wire.GetQueue, wire.QueueQuery{InRepo: inRepo(repo), Branch: branch})
}

// HoldQueue has nothing land on a branch until somebody frees its queue; an empty branch is the default branch.
func (c queues) HoldQueue(ctx context.Context, repo, branch, reason string) (wire.Done, error) {
	return do(ctx, c.connection, wire.HoldQueue, wire.RepoBody[wire.Holding]{InRepo: inRepo(repo), Body: wire.Holding{Branch: branch, Reason: reason}})
}

// FreeQueue has a held queue go on.
func (c queues) FreeQueue(ctx context.Context, repo, branch, reason string) (wire.Done, error) {
	return do(ctx, c.connection, wire.FreeQueue, wire.RepoBody[wire.Holding]{InRepo: inRepo(repo), Body: wire.Holding{Branch: branch, Reason: reason}})
}

// Freezes lists the freezes of a repository (HOUSE/NAME) with those of its house, or of a house; all: those that are over, too.
func (c queues) Freezes(ctx context.Context, of string, all bool) ([]wire.Freeze, error) {
	return do(ctx, c.connection, wire.ListFreezes, wire.FreezeQuery{Of: of, All: all})
}

// PlanFreeze plans a freeze, or those of a calendar.
func (c queues) PlanFreeze(ctx context.Context, n wire.NewFreeze) ([]wire.Freeze, error) {
	return do(ctx, c.connection, wire.PlanFreeze, wire.JustBody[wire.NewFreeze]{Body: n})
}

// EndFreeze ends a freeze that is in force, this time.
func (c queues) EndFreeze(ctx context.Context, id int64, reason string) (wire.Done, error) {
	return do(ctx, c.connection, wire.EndFreeze, wire.FreezeEnded{WithID: wire.WithID{ID: id}, Body: wire.Reasoned{Reason: reason}})
}

// DeleteFreeze has a freeze come no more.
func (c queues) DeleteFreeze(ctx context.Context, id int64, reason string) (wire.Done, error) {
	return do(ctx, c.connection, wire.DeleteFreeze, wire.FreezeEnded{WithID: wire.WithID{ID: id}, Body: wire.Reasoned{Reason: reason}})
}

// PreviewLanding says which commits a landing would bring; an empty strategy is the entry's, or the rules' default.
func (c queues) PreviewLanding(ctx context.Context, repo string, number int, strategy, message string) (wire.LandingPreview, error) {
	return do(ctx, c.connection, wire.PreviewLanding,
		wire.LandingAsked{InChange: inChange(repo, number), LandingQuestion: wire.LandingQuestion{Strategy: strategy, Message: message}})
}
