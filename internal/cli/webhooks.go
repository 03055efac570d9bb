package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/internal/core/event"
	"tavrin/wire"
)

// webhook has events sent to other systems.
func (p *program) webhook() *cobra.Command {
	return group("webhook", "Have events sent to other systems, signed, each at least once",
		p.webhookCreate(), p.webhookList(), p.webhookShow(), p.webhookEdit(), p.webhookDelete(), p.webhookSecret(), p.webhookTest(),
		p.webhookDeliveries(), p.webhookDelivery(), p.webhookAgain(), p.webhookListen(), p.webhookEvents(), p.webhookDestinations())
}

// eventsOf is whose events a command is about: a repository's, a house's, or the service's.
type eventsOf struct {
	p       *program
	house   string
	service bool
}

func (e *eventsOf) options(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&e.house, "house", "", "events of all repositories of this house")
	c.Flags().BoolVar(&e.service, "service", false, "events of the whole service; for administrators")
	c.MarkFlagsMutuallyExclusive("house", "service")
	return e.p.aboutRepo(c)
}

func (e *eventsOf) place(ctx context.Context, c *client.Client) (string, error) {
	switch {
	case e.service:
		return "", nil
	case e.house != "":
		return e.house, nil
	}
	h, err := e.p.here(ctx, c)
	return h.repo, err
}

// webhookOptions are the options of a webhook, of the commands that make and edit one.
type webhookOptions struct {
	url, bodyFile, contentType string
	when                       string
	events, branches, paths    []string
	headers                    []string
	anyOrder                   bool
}

func (o *webhookOptions) on(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&o.url, "url", "", "where events go; ${EXPRESSION} stands for what it makes of the event")
	f.StringSliceVar(&o.events, "event", nil, "kind of event, or a glob over them, such as check.asked or queue.*; may be given several times")
	f.StringSliceVar(&o.branches, "branch", nil, "glob; only events about such a branch; may be given several times")
	f.StringSliceVar(&o.paths, "path", nil, "glob; only events that bring such a file; may be given several times")
	f.StringVar(&o.when, "when", "", "expression (CEL) over the event; only events for which it is true, such as has(data.details.tickets)")
	f.StringArrayVar(&o.headers, "header", nil, "NAME=VALUE or NAME=@FILE: a further header; its value is kept as a secret; may be given several times")
	f.StringVar(&o.bodyFile, "body", "", "file with a template of the body (default: the event itself, in CloudEvents 1.0)")
	f.StringVar(&o.contentType, "content-type", "", "of that body (default: application/json)")
	f.BoolVar(&o.anyOrder, "any-order", false, "send events on although one before them could not be delivered")
}

// readHeaders reads headers as they are given on a command line.
func (p *program) readHeaders(given []string) (map[string]string, error) {
	out := map[string]string{}
	for _, h := range given {
		name, value, ok := strings.Cut(h, "=")
		if !ok || name == "" {
			return nil, misuse("--header is NAME=VALUE or NAME=@FILE, not %q", h)
		}
		if file, is := strings.CutPrefix(value, "@"); is {
			text, err := p.readFile(file)
			if err != nil {
				return nil, err
			}
			value = strings.TrimSpace(text)
		}
		out[name] = value
	}
	return out, nil
}

func (p *program) webhookCreate() *cobra.Command {
	of, o := &eventsOf{p: p}, &webhookOptions{}
	secretFile := ""
	c := answer(p, "create NAME", "Have events sent somewhere; prints the secret that they are signed with, once", cobra.ExactArgs(1),
		func(ctx context.Context, c *client.Client, args []string) (wire.Webhook, error) {
			n := wire.NewWebhook{Name: args[0], URL: o.url, Events: o.events, Branches: o.branches, Paths: o.paths, When: o.when, ContentType: o.contentType,
				AnyOrder: o.anyOrder}
			var err error
			if n.Of, err = of.place(ctx, c); err != nil {
				return wire.Webhook{}, err
			}
			if n.Headers, err = p.readHeaders(o.headers); err != nil {
				return wire.Webhook{}, err
			}
			if o.bodyFile != "" {
				if n.Body, err = p.readFile(o.bodyFile); err != nil {
					return wire.Webhook{}, err
				}
			}
			if secretFile != "" {
				if n.Secret, err = p.readFile(secretFile); err != nil {
					return wire.Webhook{}, err
				}
				n.Secret = strings.TrimSpace(n.Secret)
			}
			return c.CreateWebhook(ctx, n)
		}, func(w io.Writer, h wire.Webhook) {
			row(w, fmt.Sprintf("webhook %d, %s, sends %s of %s", h.ID, h.Name, strings.Join(h.Events, ", "), cmp.Or(h.Of, "the service")))
			row(w, "its secret, shown this once: "+h.Secret)
			row(w, fmt.Sprintf("try it: tavrin webhook test %d", h.ID))
		})
	o.on(c)
	c.Flags().StringVar(&secretFile, "secret-file", "", "file with the secret to sign with (default: the service makes one)")
	return of.options(needs(c, "url", "event"))
}

func (p *program) webhookEdit() *cobra.Command {
	o := &webhookOptions{}
	var name string
	var off, on bool
	var c *cobra.Command
	c = answer(p, "edit ID", "Change what a webhook sends and where to; or switch it off and on", cobra.ExactArgs(1),
		func(ctx context.Context, cl *client.Client, args []string) (h wire.Webhook, err error) {
			id, err := number(args[0], "a webhook; see tavrin webhook list")
			if err != nil {
				return h, err
			}
			e, err := p.webhookEdits(c, o, name, off, on)
			if err != nil {
				return h, err
			}
			return cl.EditWebhook(ctx, id, e)
		}, printWebhook)
	o.on(c)
	c.Flags().StringVar(&name, "name", "", "another name")
	c.Flags().BoolVar(&off, "off", false, "send nothing; what happens meanwhile is not sent later")
	c.Flags().BoolVar(&on, "on", false, "send again")
	c.MarkFlagsMutuallyExclusive("off", "on")
	return c
}

// webhookEdits is what the options that were given change.
func (p *program) webhookEdits(c *cobra.Command, o *webhookOptions, name string, off, on bool) (wire.WebhookEdit, error) {
	var e wire.WebhookEdit
	given := c.Flags().Changed
	if given("name") {
		e.Name = &name
	}
	if given("url") {
		e.URL = &o.url
	}
	if given("when") {
		e.When = &o.when
	}
	lists := map[string]struct {
		from *[]string
		to   **[]string
	}{"event": {&o.events, &e.Events}, "branch": {&o.branches, &e.Branches}, "path": {&o.paths, &e.Paths}}
	for flag, list := range lists {
		if given(flag) {
			all := slices.DeleteFunc(slices.Clone(*list.from), func(s string) bool { return s == "" })
			*list.to = &all
		}
	}
	if given("header") {
		headers, err := p.readHeaders(slices.DeleteFunc(slices.Clone(o.headers), func(s string) bool { return s == "" }))
		if err != nil {
			return e, err
		}
		e.Headers = &headers
	}
	if given("body") {
		body := ""
		if o.bodyFile != "" {
			var err error
			if body, err = p.readFile(o.bodyFile); err != nil {
				return e, err
			}
		}
		e.Body = &body
	}
	if given("content-type") {
		e.ContentType = &o.contentType
	}
	if given("any-order") {
		e.AnyOrder = &o.anyOrder
	}
	if off || on {
		e.Off = &off
	}
	return e, nil
}

func (p *program) webhookList() *cobra.Command {
	of := &eventsOf{p: p}
	return of.options(answer(p, "list", "List webhooks", cobra.NoArgs, func(ctx context.Context, c *client.Client, _ []string) ([]wire.Webhook, error) {
		where, err := of.place(ctx, c)
		if err != nil {
			return nil, err
		}
		return c.Webhooks(ctx, where)
	}, func(w io.Writer, all []wire.Webhook) {
		row(w, "WEBHOOK", "NAME", "EVENTS", "TO", "WAITING", "PARKED", "STATE")
		for _, h := range all {
			row(w, h.ID, h.Name, strings.Join(h.Events, ", "), h.URL, h.Waiting, h.Parked, webhookState(h))
		}
	}))
}

// webhookState says how a webhook does, in a few words.
func webhookState(h wire.Webhook) string {
	switch {
	case h.Off != "":
		return "off: " + h.Off
	case h.FailingSince != nil:
		return fmt.Sprintf("failing since %s: %s", ago(*h.FailingSince), h.Trouble)
	}
	return "on"
}

func printWebhook(w io.Writer, h wire.Webhook) {
	row(w, "webhook", fmt.Sprint(h.ID))
	row(w, "name", h.Name)
	row(w, "of", cmp.Or(h.Of, "the service"))
	row(w, "events", strings.Join(h.Events, ", "))
	for _, list := range []struct {
		name string
		of   []string
	}{{"branches", h.Branches}, {"paths", h.Paths}, {"headers", h.Headers}} {
		if len(list.of) > 0 {
			row(w, list.name, strings.Join(list.of, ", "))
		}
	}
	if h.When != "" {
		row(w, "when", h.When)
	}
	row(w, "to", h.URL)
	if h.Body != "" {
		row(w, "body", "a template, "+h.ContentType)
	}
	if h.AnyOrder {
		row(w, "order", "any")
	}
	row(w, "state", webhookState(h))
	row(w, "waiting", fmt.Sprint(h.Waiting))
	row(w, "parked", fmt.Sprint(h.Parked))
	if h.OldUntil != nil {
		row(w, "signed", "by the secret before as well, until "+h.OldUntil.Local().Format("2006-01-02 15:04"))
	}
	row(w, "made", fmt.Sprintf("by %s, %s", h.MadeBy, ago(h.CreatedAt)))
}

// onWebhook is answer for a command about one webhook.
func onWebhook[T any](p *program, use, short string, call func(ctx context.Context, c *client.Client, id int64) (T, error),
	table func(w io.Writer, v T)) *cobra.Command {
	return answer(p, use, short, cobra.ExactArgs(1), func(ctx context.Context, c *client.Client, args []string) (v T, err error) {
		what := "a webhook; see tavrin webhook list"
		if strings.HasSuffix(use, "DELIVERY") {
			what = "a delivery; see tavrin webhook deliveries"
		}
		id, err := number(args[0], what)
		if err != nil {
			return v, err
		}
		return call(ctx, c, id)
	}, table)
}

func (p *program) webhookShow() *cobra.Command {
	return onWebhook(p, "show ID", "Show one webhook", func(ctx context.Context, c *client.Client, id int64) (wire.Webhook, error) {
		return c.Webhook(ctx, id)
	}, printWebhook)
}

func (p *program) webhookDelete() *cobra.Command {
	return onWebhook(p, "delete ID", "Delete a webhook; what waits is not sent", func(ctx context.Context, c *client.Client, id int64) (nothing, error) {
		return nothing{}, c.DeleteWebhook(ctx, id)
	}, silent[nothing])
}

func (p *program) webhookSecret() *cobra.Command {
	file := ""
	c := onWebhook(p, "new-secret ID", "Replace the secret; the one before signs too for a day, so that nothing is lost",
		func(ctx context.Context, c *client.Client, id int64) (h wire.Webhook, err error) {
			secret := ""
			if file != "" {
				if secret, err = p.readFile(file); err != nil {
					return h, err
				}
			}
			return c.ReplaceSecret(ctx, id, strings.TrimSpace(secret))
		}, func(w io.Writer, h wire.Webhook) {
			row(w, "its new secret, shown this once: "+h.Secret)
			if h.OldUntil != nil {
				row(w, "until "+h.OldUntil.Local().Format("2006-01-02 15:04")+" deliveries carry the signature by the old one as well")
			}
		})
	c.Flags().StringVar(&file, "secret-file", "", "file with the secret to sign with (default: the service makes one)")
	return c
}

func (p *program) webhookTest() *cobra.Command {
	var failed bool
	c := onWebhook(p, "test ID", "Send an example now, and show request and answer", func(ctx context.Context, c *client.Client, id int64) (wire.Delivery, error) {
		d, err := c.TestWebhook(ctx, id)
		failed = d.Error != ""
		return d, err
	}, printDelivery)
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if err := run(cmd, args); err != nil || !failed {
			return err
		}
		return &exitError{status: statusNotYet}
	}
	return c
}

func (p *program) webhookDeliveries() *cobra.Command {
	var state string
	var limit int
	c := onWebhook(p, "deliveries ID", "List what a webhook has sent and has to send, newest first",
		func(ctx context.Context, c *client.Client, id int64) ([]wire.Delivery, error) {
			return c.Deliveries(ctx, id, state, 0, limit)
		}, func(w io.Writer, all []wire.Delivery) {
			row(w, "DELIVERY", "EVENT", "STATE", "TRIES", "ANSWER", "WHEN", "WHAT")
			for _, d := range all {
				why := strings.TrimPrefix(d.Text+"; "+d.Error, "; ")
				if d.Error == "" {
					why = d.Text
				}
				if d.NextAt != nil && d.State == "waiting" {
					why += "; again at " + d.NextAt.Local().Format("15:04:05")
				}
				row(w, d.ID, d.Kind, d.State, d.Attempts, statusWord(d.Status), ago(d.CreatedAt), why)
			}
		})
	c.Flags().StringVar(&state, "state", "", "only those waiting, delivered, parked or dropped")
	c.Flags().IntVar(&limit, "limit", 50, "how many")
	return c
}

func statusWord(status int) string {
	if status == 0 {
		return "-"
	}
	return fmt.Sprint(status)
}

func (p *program) webhookDelivery() *cobra.Command {
	return onWebhook(p, "delivery DELIVERY", "Show one delivery: what was sent, and every answer", func(ctx context.Context, c *client.Client, id int64) (wire.Delivery, error) {
		return c.Delivery(ctx, id)
	}, printDelivery)
}

func (p *program) webhookAgain() *cobra.Command {
	return onWebhook(p, "again DELIVERY", "Send a delivery once more, under the same id", func(ctx context.Context, c *client.Client, id int64) (wire.Delivery, error) {
		return c.SendAgain(ctx, id)
	}, func(w io.Writer, d wire.Delivery) {
		row(w, fmt.Sprintf("delivery %d is on its way; tavrin webhook delivery %d", d.ID, d.ID))
	})
}

func printDelivery(w io.Writer, d wire.Delivery) {
	row(w, fmt.Sprintf("delivery %d, %s: %s", d.ID, d.Kind, d.State))
	for _, t := range d.Tries {
		row(w, fmt.Sprintf("try %d, %s, %d ms", t.Number, t.At.Local().Format("2006-01-02 15:04:05"), t.Milliseconds))
		row(w, "  POST "+t.URL)
		printHeaders(w, t.Request)
		if t.Status != 0 {
			row(w, fmt.Sprintf("  answer %d", t.Status))
			printHeaders(w, t.Response)
		}
		if t.Answer != "" {
			fmt.Fprintln(w, block("    "+strings.ReplaceAll(strings.TrimRight(t.Answer, "\n"), "\n", "\n    ")))
		}
		if t.Error != "" {
			row(w, "  "+t.Error)
		}
	}
	if d.Payload != "" {
		row(w, "sent:")
		fmt.Fprintln(w, block(d.Payload))
	}
}

func printHeaders(w io.Writer, headers map[string]string) {
	names := []string{}
	for name := range headers {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		row(w, "    "+name+": "+headers[name])
	}
}

// webhookEvents lists what can be sent. It asks nobody: the kinds are the program's.
func (p *program) webhookEvents() *cobra.Command {
	return &cobra.Command{Use: "events", Short: "List the kinds of events that can be sent", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		t := newTable(p.out)
		row(t, "EVENT", "WHAT HAPPENED")
		for _, k := range event.Kinds {
			if k.Leaves {
				row(t, k.Name, k.Means)
			}
		}
		t.flush()
		return nil
	}}
}

func (p *program) webhookDestinations() *cobra.Command {
	return answer(p, "destinations", "List what the administrator allows the service to call", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) ([]wire.Destination, error) {
			return c.Destinations(ctx)
		}, func(w io.Writer, all []wire.Destination) {
			row(w, "DESTINATION")
			for _, d := range all {
				row(w, d.Destination)
			}
		})
}

// secretIn reads a secret from a file, or from the environment.
func (p *program) secretIn(file string) (string, error) {
	if file == "" {
		return os.Getenv("TAVRIN_WEBHOOK_SECRET"), nil
	}
	text, err := p.readFile(file)
	if err == nil && strings.TrimSpace(text) == "" {
		err = errors.New("the file with the secret is empty")
	}
	return strings.TrimSpace(text), err
}
