package cli

import (
	"context"
	"log/slog"
	"net"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/internal/standin"
)

// standIn plays something outside of the service.
func (p *program) standIn() *cobra.Command {
	bench, target := standin.Bench{}, standin.Target{}
	return group("stand-in", "Play a system outside of the service, for demonstrations and tests",
		p.outside("bench", "A checks system that a webhook wakes: it tries valve programs on a simulated pipe", "127.0.0.1:7431", "valve-bench", &bench.Check, &bench.Takes,
			func(ctx context.Context, at net.Listener, c *client.Client, token, secret string) error {
				bench.Client, bench.Token, bench.Secret, bench.Log = c, token, secret, slog.New(slog.NewTextHandler(p.err, nil))
				return bench.Run(ctx, at)
			}),
		p.outside("target", "Somewhere to deploy to, which a webhook wakes", "127.0.0.1:7432", "to-the-fields", &target.Check, &target.Takes,
			func(ctx context.Context, at net.Listener, c *client.Client, _, secret string) error {
				target.Client, target.Secret, target.Log = c, secret, slog.New(slog.NewTextHandler(p.err, nil))
				return target.Run(ctx, at)
			}),
		p.standInTracker())
}

// standInTracker plays a tracker.
func (p *program) standInTracker() *cobra.Command {
	var listen, ticketsFile, keyFile string
	c := &cobra.Command{Use: "tracker", Short: "A tracker that can be asked about tickets and takes comments", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			text, err := p.readFile(ticketsFile)
			if err != nil {
				return err
			}
			tickets, err := standin.ReadTickets(strings.NewReader(text))
			if err != nil {
				return err
			}
			tracker := standin.NewTracker(tickets)
			if keyFile != "" {
				if tracker.Key, err = p.readFile(keyFile); err != nil {
					return err
				}
				tracker.Key = strings.TrimSpace(tracker.Key)
			}
			listener, err := net.Listen("tcp", listen)
			if err != nil {
				return err
			}
			return tracker.Run(cmd.Context(), listener)
		}}
	f := c.Flags()
	f.StringVar(&listen, "listen", "127.0.0.1:7433", "address to listen on")
	f.StringVar(&ticketsFile, "tickets", "", "file with the tickets, as JSON: {\"FEN-31\": {\"state\": \"open\", \"title\": \"…\"}} (needed)")
	f.StringVar(&keyFile, "key-file", "", "file with the key that whoever asks has to send, as Authorization: Bearer KEY (default: none is needed)")
	return needs(c, "tickets")
}

// outside is the command that plays a system which a webhook wakes, and which reports a check.
func (p *program) outside(use, short, address, name string, check *string, takes *time.Duration,
	run func(ctx context.Context, at net.Listener, c *client.Client, token, secret string) error) *cobra.Command {
	var listen, tokenFile, secretFile string
	c := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			text, err := os.ReadFile(tokenFile)
			if err != nil {
				return err
			}
			secret, err := p.secretIn(secretFile)
			if err != nil {
				return err
			}
			p.token = strings.TrimSpace(string(text))
			c, err := p.client()
			if err != nil {
				return err
			}
			listener, err := net.Listen("tcp", listen)
			if err != nil {
				return err
			}
			return run(cmd.Context(), listener, c, p.token, secret)
		}}
	f := c.Flags()
	f.StringVar(&listen, "listen", address, "address to listen on")
	f.StringVar(&tokenFile, "token-file", "", "file with the robot's token (needed)")
	f.StringVar(&secretFile, "secret-file", "", "file with the webhook's secret (default: the environment's TAVRIN_WEBHOOK_SECRET)")
	f.StringVar(check, "check", name, "name of the check that it answers for")
	f.DurationVar(takes, "takes", 6*time.Second, "how long one run lasts")
	return needs(c, "token-file")
}
