package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"tavrin/internal/demo"
	"tavrin/internal/standin"
)

func (p *program) demo() *cobra.Command {
	var once bool
	var listen string
	c := &cobra.Command{Use: "demo", Short: "Run the service with a made-up co-operative at work in it",
		Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			return p.runDemo(cmd.Context(), listen, once)
		}}
	c.Flags().BoolVar(&once, "once", false, "tell the whole story in one go, with real output, and end")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:7420",
		"address to listen on; with --once any free port of loopback")
	return c
}

// runDemo starts a service on a temporary folder, a runner as a program apart, and a stand-in for a checks system.
func (p *program) runDemo(ctx context.Context, listen string, once bool) (err error) {
	if once {
		listen = "127.0.0.1:0"
	}
	dir, err := os.MkdirTemp("", "tavrin-demo-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	o := serveOptions{dir: filepath.Join(dir, "data"), listen: listen}
	if err := o.guarded(); err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
	running, err := start(ctx, o, log)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, running.stop()) }()
	token, err := running.service.Access.FirstStart(ctx)
	if err != nil {
		return err
	}
	if !once {
		fmt.Fprintln(p.out, "Building the co-operative: people, repositories, history, changes …")
	}
	world, err := demo.Build(ctx, running.url, token, dir)
	if err != nil {
		return err
	}
	helpers, stop := context.WithCancel(ctx)
	var group sync.WaitGroup
	defer group.Wait()
	defer stop()
	if err := p.demoHelpers(helpers, &group, world, once, log); err != nil {
		return err
	}
	if once {
		return world.Tell(ctx, p.out)
	}
	if err := world.Populate(ctx); err != nil {
		return err
	}
	printInvitation(p.out, world)
	group.Go(func() { world.Season(helpers, 20*time.Second, log) })
	select {
	case <-ctx.Done():
		return nil
	case err := <-running.failed:
		return err
	}
}

// demoHelpers starts the runner and the bench.
func (p *program) demoHelpers(ctx context.Context, group *sync.WaitGroup, world *demo.World, once bool,
	log *slog.Logger) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	runner := exec.CommandContext(ctx, self, "runner", "--token-file", world.TokenFile("barn"), "--beside-service",
		"--beside-runner", "--url", world.URL)
	runner.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + world.Dir}
	runner.Cancel = func() error { return runner.Process.Signal(syscall.SIGTERM) }
	runner.WaitDelay = 5 * time.Second
	logFile, err := os.Create(filepath.Join(world.Dir, "runner.log"))
	if err != nil {
		return err
	}
	runner.Stderr = logFile
	if err := runner.Start(); err != nil {
		return err
	}
	group.Go(func() {
		defer logFile.Close()
		if err := runner.Wait(); err != nil && ctx.Err() == nil {
			log.Error("the runner ended", "error", err)
		}
	})
	c, err := world.As("bench")
	if err != nil {
		return err
	}
	takes := 6 * time.Second
	if once {
		takes = time.Second
	}
	bench := standin.Bench{Client: c, Repos: []string{demo.House + "/irrigation"}, Check: "valve-bench", Takes: takes,
		Log: log}
	group.Go(func() { bench.Run(ctx) })
	return nil
}

func printInvitation(w io.Writer, world *demo.World) {
	fmt.Fprintf(w, `
The Fennmoor growers' co-operative is at work at

  %s

Sign in with a token. Everybody's is a file:
  ines    maintainer of irrigation          %s
  odo     owns the valves                   %s
  tamsin  writes the forecast               %s
  pavo    owns the forecast with tamsin     %s
  wren    owns the field app with tamsin    %s
  admin   administrates the service         %s

Eight things to try (export TAVRIN_URL=%s):
  1. Watch the queue move: open %s/growers/irrigation/queue
  2. Be refused: git clone %s/git/growers/irrigation.git, commit, push to main
     (git config credential.helper '!tavrin credential', export TAVRIN_TOKEN=$(cat .../tamsin.token))
  3. Ask what change 4 still needs: tavrin change gate 4 --repo growers/irrigation
  4. As ines, who owns the ledger too: resolve what wren asks, approve, and join it to the queue, in the console or by
     tavrin thread resolve 4 1, tavrin review approve 4 --revision 1, tavrin queue join 4 (each with --repo growers/irrigation)
  5. See why a change was ejected: %s/growers/irrigation/changes/8
  6. Try stricter rules before they can hurt: paste %s
     into %s/growers/irrigation/rules/edit, or tavrin rules try FILE --repo growers/irrigation
  7. As wren, apply the line that odo suggests: %s/growers/irrigation/changes/5
     or tavrin thread list 5, tavrin thread apply 5 COMMENT
  8. As ines, look at what odo let onto main at night: tavrin desk, tavrin waiver acknowledge 1 --text "..."

Ctrl-C ends the demonstration and removes what it made.
`, world.URL, world.TokenFile("ines"), world.TokenFile("odo"), world.TokenFile("tamsin"), world.TokenFile("pavo"), world.TokenFile("wren"), world.TokenFile("admin"),
		world.URL, world.URL, world.URL, world.URL, filepath.Join(world.Dir,
			"too-strict.rules.yaml"), world.URL, world.URL)
}
