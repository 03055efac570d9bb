package demo

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tavrin/client"
	data "tavrin/demo"
	"tavrin/internal/core/change"
	"tavrin/wire"
)

const irrigation = House + "/irrigation"

// plan is one of the demonstration's changes and how far it is to come.
type plan struct {
	repo, branch, by, title, description string
	draft                                bool
	approve                              []string
	object                               string // by whom
	objection                            string
	comment                              [2]string // by whom, what
	ask                                  [3]string // by whom, of which file, what; about its first line
	suggest                              [3]string // by whom, for which file, what instead of its second line
	after                                string    // the branch of a change that it waits for
	waiver                               [2]string // by whom, why: it lands against what it lacks
	join                                 string    // strategy; empty: not joined
	close                                bool
}

var plans = []plan{
	{repo: irrigation, branch: "forecast/pump-stop", by: "tamsin", title: "FEN-60: keep the east pump off",
		description: "The east ditch is over its edge.", waiver: [2]string{"odo",
			"the east ditch floods, and nobody else is awake"}},
	{repo: irrigation, branch: "forecast/dew", by: "tamsin", title: "Count dew as water",
		description: "Half a litre for a litre, as measured in spring.", approve: []string{"pavo",
			"wren"}, join: "rebase"},
	{repo: irrigation, branch: "docs/spelling", by: "tamsin", title: "Put the docs into plainer words",
		description: "Read aloud to two new members.", approve: []string{"wren"}, join: "squash"},
	{repo: irrigation, branch: "ledger/winter-tariff", by: "bela", title: "Add the winter tariff",
		description: "Agreed at the October meeting, FEN-31.\n\n- [x] counted by hand\n- [x] read out to the members", comment: [2]string{"ines", "Is the meeting's note in the handbook yet?"},
		ask: [3]string{"wren", "ledger/winter.csv", "Are these members' cents, or the town's?"}},
	{repo: irrigation, branch: "valves/west-ease", by: "wren", title: "Close the west valve gently too",
		description: "The gate slams when it closes at once, FEN-52; **easing** it takes two minutes.", object: "odo", objection: "33 minutes is too short: the last rows stay dry.",
		suggest: [3]string{"odo", "firmware/valves/west.prog", "wait 35"}},
	{repo: irrigation, branch: "field-app/colours", by: "wren", title: "Reorder the screens",
		description: "The field comes first: that is what people open it for.", close: true},
	{repo: irrigation, branch: "field-app/night", by: "wren", title: "Add a night mode", draft: true,
		after: "field-app/colours"},
	{repo: irrigation, branch: "forecast/storm", by: "tamsin", title: "Allow more water before a storm",
		description: "Before a storm the ground takes more.", approve: []string{"pavo"}, join: "rebase"},
	{repo: irrigation, branch: "forecast/frost", by: "tamsin", title: "Stop watering at frost",
		description: "Ice in the lines costs a valve a year, as FEN-60 says.", join: "squash"},
	{repo: irrigation, branch: "valves/north", by: "odo", title: "Add the north field's valve",
		description: "The north field joins in spring.", approve: []string{"ines"}, join: "merge"},
	{repo: irrigation, branch: "docs/midnight", by: "wren", title: "Say which midnight is meant",
		description: "There are two clocks.", approve: []string{"odo"}, join: "rebase"},
	{repo: irrigation, branch: "docs/boxes", by: "ines", title: "Say how to read a valve box",
		description: "- [x] photographed\n- [ ] shown to a new member", approve: []string{"odo"}},
	{repo: House + "/handbook", branch: "pavo/meetings", by: "pavo", title: "Add a chapter on meetings"},
}

// Populate opens the demonstration's changes and brings each as far as it is to come.
func (w *World) Populate(ctx context.Context) error {
	for _, p := range plans {
		if err := w.play(ctx, p); err != nil {
			return fmt.Errorf("change %q: %w", p.title, err)
		}
	}
	if err := w.propose(ctx); err != nil {
		return err
	}
	return w.quiet(ctx)
}

// quiet waits until the queue has landed or sent back everything that it can, so that what is said of the demonstration holds.
func (w *World) quiet(ctx context.Context) error {
	patience := time.After(time.Minute) // with a runner that does not come up, the rest can be tried all the same
	for {
		waiting, err := w.admin.Changes(ctx, irrigation, wire.ChangeFilter{State: "open"})
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(waiting, func(k wire.Change) bool {
			return k.Entry != nil && slices.Contains([]string{"queued", "rehearsing", "landing"}, string(k.Entry.State))
		}) {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-patience:
			return nil
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// propose has a maintainer propose looser rules, which wait for a second one.
func (w *World) propose(ctx context.Context) error {
	ines, err := w.As("ines")
	if err != nil {
		return err
	}
	looser := strings.Replace(data.Rules("irrigation"), "lines: over 400", "lines: over 600", 1)
	_, err = ines.ApplyRules(ctx, irrigation, wire.NewRules{Text: looser, Reason: "400 lines is soon reached when a season's tables are added"}, -1)
	return err
}

func (w *World) play(ctx context.Context, p plan) error {
	if err := w.Push(ctx, filepath.Base(p.repo), p.by, p.branch); err != nil {
		return err
	}
	author, err := w.As(p.by)
	if err != nil {
		return err
	}
	n := wire.NewChange{Source: p.branch, Target: "main", Title: p.title, Draft: p.draft}
	if p.description != "" { // else as the rules have new changes begin
		n.Description = &p.description
	}
	if p.after != "" {
		before, err := author.Changes(ctx, p.repo, wire.ChangeFilter{State: "all", Search: p.after})
		if err != nil {
			return err
		}
		if len(before) == 0 {
			return fmt.Errorf("it waits for the change %s, which there is not", p.after)
		}
		n.DependsOn = []int{before[0].Number}
	}
	k, err := author.OpenChange(ctx, p.repo, n)
	if err != nil {
		return err
	}
	if p.waiver[0] != "" {
		return w.waiver(ctx, p, k.Number)
	}
	say := func(login, verdict, text string) {
		if login == "" || err != nil {
			return
		}
		var c *client.Client
		if c, err = w.As(login); err == nil {
			_, err = c.Review(ctx, p.repo, k.Number, wire.NewReview{Verdict: change.Verdict(verdict), Revision: k.Revision, Text: text})
		}
	}
	for _, login := range p.approve {
		say(login, "approve", "")
	}
	say(p.object, "object", p.objection)
	say(p.comment[0], "comment", p.comment[1])
	if err == nil && p.ask[0] != "" {
		var c *client.Client
		if c, err = w.As(p.ask[0]); err == nil {
			_, err = c.BeginThread(ctx, p.repo, k.Number, wire.NewThread{Path: p.ask[1], First: 1, Text: p.ask[2]})
		}
	}
	if err == nil && p.suggest[0] != "" {
		var c *client.Client
		if c, err = w.As(p.suggest[0]); err == nil {
			_, err = c.BeginThread(ctx, p.repo, k.Number, wire.NewThread{Path: p.suggest[1], First: 2,
				Text: "Long enough for the last rows, and still gentle.", Suggestion: &p.suggest[2]})
		}
	}
	if err == nil && p.join != "" {
		_, err = author.Join(ctx, p.repo, k.Number, wire.NewEntry{Strategy: change.Strategy(p.join)})
	}
	if err == nil && p.close {
		_, err = author.CloseChange(ctx, p.repo, k.Number)
	}
	return err
}

// waiver lets a change land against what it lacks, and waits for it.
func (w *World) waiver(ctx context.Context, p plan, number int) error {
	c, err := w.As(p.waiver[0])
	if err != nil {
		return err
	}
	plan, err := c.PlanWaiver(ctx, p.repo, number, []string{"approvals", "owners/forecast"})
	if err != nil {
		return err
	}
	n := wire.NewWaiver{Requirements: []string{"approvals", "owners/forecast"}, Reason: p.waiver[1],
		Confirm: plan.Confirm}
	if _, err := c.Waive(ctx, p.repo, number, n); err != nil {
		return err
	}
	if _, err := c.Join(ctx, p.repo, number, wire.NewEntry{}); err != nil {
		return err
	}
	for range 300 { // until the runner has run the check that was not waived
		k, err := c.Change(ctx, p.repo, number)
		if err != nil || k.State == "landed" {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return fmt.Errorf("change %d did not land although what it lacked was waived", number)
}

// seasonLength bounds how many changes the co-operative opens while the demonstration runs.
const seasonLength = 60

// Season lets the co-operative work on: now and then somebody opens a small change, somebody approves it, and it
// joins the queue. Every fifth sets a limit that the unit tests refuse.
func (w *World) Season(ctx context.Context, every time.Duration, log *slog.Logger) {
	for n := 1; n <= seasonLength; n++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
		if err := w.reading(ctx, n); err != nil && ctx.Err() == nil {
			log.Warn("the season stumbles", "error", err)
		}
	}
}

// reading opens one change of the season.
func (w *World) reading(ctx context.Context, n int) error {
	limit := 30 + n
	if n%5 == 3 {
		limit = 200
	}
	branch := fmt.Sprintf("forecast/reading-%02d", n)
	dir := w.Clone("irrigation")
	for _, args := range [][]string{{"fetch", "-q", "origin"}, {"checkout", "-q", "-B", branch, "origin/main"}} {
		if _, err := w.git(ctx, dir, "tamsin", nil, args...); err != nil {
			return err
		}
	}
	old, err := os.ReadFile(filepath.Join(dir, "forecast/limits.txt"))
	if err != nil {
		return err
	}
	text := string(old) + fmt.Sprintf("plot-%02d %d\n", n, limit)
	commit := data.Commit{Author: "tamsin", At: time.Now(), Message: fmt.Sprintf("Set the limit of plot %d", n)}
	if err := os.WriteFile(filepath.Join(dir, "forecast/limits.txt"), []byte(text), 0o644); err != nil {
		return err
	}
	if err := w.commit(ctx, dir, []data.Commit{commit}); err != nil {
		return err
	}
	return w.play(ctx, plan{repo: irrigation, branch: branch, by: "tamsin",
		title: fmt.Sprintf("Set the limit of plot %d",
			n), description: "As its grower asked.", approve: []string{"pavo"},
		join: []string{"rebase", "squash", "merge", "fold", "rebase-then-merge"}[n%5]})
}
