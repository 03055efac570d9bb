package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/internal/core/change"
	"tavrin/wire"
)

// connected is what a checks system needs to be connected.
type connected struct {
	Token    *wire.Token    `json:"token,omitempty"`
	Webhook  *wire.Webhook  `json:"webhook,omitempty"`
	Snippets []wire.Snippet `json:"snippets"`
}

// connectCheck gives a checks system what it needs, and shows how far it comes.
func (p *program) connectCheck() *cobra.Command {
	var robot, url, script string
	var watch bool
	var patience time.Duration
	made := ""
	c := inRepo(p, "connect NAME", "Connect a checks system: a token for its robot, a webhook that wakes it, and what it does", cobra.ExactArgs(1),
		func(ctx context.Context, h here, args []string) (out connected, err error) {
			name := args[0]
			if out.Snippets, err = h.Snippets(ctx, h.repo, name); err != nil {
				return out, err
			}
			if script != "" {
				i := slices.IndexFunc(out.Snippets, func(s wire.Snippet) bool { return s.Name == script })
				if i < 0 {
					return out, misuse("--script is curl, poll or receiver, not %q", script)
				}
				out.Snippets = out.Snippets[i : i+1]
				return out, nil
			}
			if watch {
				return out, nil
			}
			token, err := h.ConnectCheck(ctx, h.repo, name, cmp.Or(robot, robotFor(name)))
			if err != nil {
				return out, err
			}
			out.Token = &token
			if url != "" {
				hook, err := h.CreateWebhook(ctx, wire.NewWebhook{Of: h.repo, Name: "asks for " + name, URL: url, Events: []string{"check.asked"}})
				if err != nil {
					return out, fmt.Errorf("the token is made (%s), but no webhook: %w", token.Secret, err)
				}
				out.Webhook = &hook
			}
			made = fmt.Sprintf("see how far it comes: tavrin check connect %q --repo %s --watch", name, h.repo)
			return out, nil
		}, func(w io.Writer, v connected) {
			switch {
			case script != "":
				fmt.Fprint(w, v.Snippets[0].Text)
				return
			case watch:
				return
			}
			row(w, fmt.Sprintf("robot %s may report it; its token, shown this once:", v.Token.Login))
			row(w, "  export TAVRIN_TOKEN="+v.Token.Secret)
			if v.Webhook != nil {
				row(w, fmt.Sprintf("webhook %d tells %s of every check that is asked for; its secret, shown this once:", v.Webhook.ID, v.Webhook.URL))
				row(w, "  export TAVRIN_WEBHOOK_SECRET="+v.Webhook.Secret)
			}
			row(w, "what the checks system does, ready to paste:")
			for _, s := range v.Snippets {
				row(w, fmt.Sprintf("  tavrin check connect … --script %-9s %s", s.Name, s.Means))
			}
			row(w, made)
		})
	f := c.Flags()
	f.StringVar(&robot, "robot", "", "login of the robot; it is made where there is none (default: from the check's name)")
	f.StringVar(&url, "url", "", "where the checks system listens; makes a webhook that sends it check.asked")
	f.StringVar(&script, "script", "", "only print what to paste: curl, poll or receiver")
	f.BoolVar(&watch, "watch", false, "only show how far the newest attempt has come, until its verdict")
	f.DurationVar(&patience, "timeout", 10*time.Minute, "how long --watch waits")
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if err := run(cmd, args); err != nil || !watch {
			return err
		}
		ctx, stop := context.WithTimeout(cmd.Context(), patience)
		defer stop()
		return p.watchCheck(ctx, args[0])
	}
	return c
}

// robotFor makes a login of a check's name.
func robotFor(check string) string {
	login := strings.Trim(regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(check), "-"), "-")
	return strings.Trim("reports-"+login[:min(len(login), 30)], "-")
}

// watchCheck prints each step of the way to a verdict when it is taken.
func (p *program) watchCheck(ctx context.Context, check string) error {
	c, err := p.client()
	if err != nil {
		return err
	}
	h, err := p.here(ctx, c)
	if err != nil {
		return err
	}
	about, told := "", map[string]bool{}
	for {
		v, err := h.CheckProgress(ctx, h.repo, check)
		if err != nil {
			return err
		}
		if now := fmt.Sprintf("%s on %s, attempt %d", v.Name, short(v.Commit), v.Attempt); v.Commit != "" && now != about {
			about = now
			clear(told)
			fmt.Fprintln(p.out, about)
		}
		for _, s := range v.Steps {
			if s.At == nil || told[s.Name] {
				continue
			}
			told[s.Name] = true
			fmt.Fprintln(p.out, plain(fmt.Sprintf("  %-10s %s  %s", s.Name, s.At.Local().Format("15:04:05"), s.Text)))
		}
		if change.CheckState(v.State).Final() {
			return nil
		}
		select {
		case <-time.After(300 * time.Millisecond):
		case <-ctx.Done():
			for _, s := range v.Steps {
				if s.At == nil {
					fmt.Fprintln(p.out, plain(fmt.Sprintf("  %-10s not yet   %s", s.Name, s.Text)))
				}
			}
			return &exitError{status: statusNotYet}
		}
	}
}
