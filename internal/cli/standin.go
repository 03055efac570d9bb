package cli

import (
	"log/slog"
	"net"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/internal/standin"
)

// standIn plays something outside of the service.
func (p *program) standIn() *cobra.Command {
	return group("stand-in", "Play a system outside of the service, for demonstrations and tests", p.standInBench())
}

func (p *program) standInBench() *cobra.Command {
	var listen, tokenFile, secretFile string
	b := standin.Bench{}
	c := &cobra.Command{Use: "bench", Short: "A checks system that a webhook wakes: it tries valve programs on a simulated pipe", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			text, err := os.ReadFile(tokenFile)
			if err != nil {
				return err
			}
			if b.Secret, err = p.secretIn(secretFile); err != nil {
				return err
			}
			b.Token = strings.TrimSpace(string(text))
			p.token = b.Token
			if b.Client, err = p.client(); err != nil {
				return err
			}
			listener, err := net.Listen("tcp", listen)
			if err != nil {
				return err
			}
			b.Log = slog.New(slog.NewTextHandler(p.err, nil))
			return b.Run(cmd.Context(), listener)
		}}
	f := c.Flags()
	f.StringVar(&listen, "listen", "127.0.0.1:7431", "address to listen on")
	f.StringVar(&tokenFile, "token-file", "", "file with the robot's token (needed)")
	f.StringVar(&secretFile, "secret-file", "", "file with the webhook's secret (default: the environment's TAVRIN_WEBHOOK_SECRET)")
	f.StringVar(&b.Check, "check", "valve-bench", "name of the check that it answers for")
	f.DurationVar(&b.Takes, "takes", 6*time.Second, "how long one run lasts")
	return needs(c, "token-file")
}
