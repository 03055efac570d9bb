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
	self, err := os.Executable()
	if err != nil {
		return err
	}
	printInvitation(p.out, world, self)
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

// printInvitation says how to sign in, and what to try. Lines that begin with four spaces are for pasting into one terminal,
// in the order in which they stand; the end-to-end suite does.
func printInvitation(w io.Writer, world *demo.World, self string) {
	fmt.Fprintf(w, `
The Fennmoor growers' co-operative is at work at

  %[1]s

Sign in there with a token. Everybody's is a file:
  ines    maintainer of irrigation          %[2]s/ines.token
  odo     owns the valves                   %[2]s/odo.token
  tamsin  writes the forecast               %[2]s/tamsin.token
  pavo    owns the forecast with tamsin     %[2]s/pavo.token
  wren    owns the field app with tamsin    %[2]s/wren.token
  admin   administrates the service         %[2]s/admin.token

Eight things to try, in another terminal or in the console. First, where tavrin is, and a word to become somebody:
    export PATH=%[3]s:$PATH
    as() { export TAVRIN_TOKEN=$(cat %[2]s/$1.token); }

1. Be refused. Tamsin clones the repository and pushes to main; the answer says what to do instead.
    as tamsin
    git clone -c credential.%[1]s.helper='!tavrin credential' %[1]s/git/growers/irrigation.git %[2]s/mine
    cd %[2]s/mine
    git config user.name Tamsin && git config user.email tamsin@fennmoor.example
    echo "south 30" >> forecast/limits.txt && git commit -qam "Water the south field"
    git push origin main
   From here on, tavrin finds service and repository by the clone.
2. Watch the queue move: %[1]s/growers/irrigation/queue
    tavrin queue show
3. Ask what change 4 still needs: %[1]s/growers/irrigation/changes/4
    tavrin change gate 4
4. As ines, who owns the ledger too, resolve what wren asks, approve, and join it to the queue.
    as ines
    tavrin thread resolve 4 1
    tavrin review approve 4 --revision 1
    tavrin queue join 4
5. See why a change was ejected: %[1]s/growers/irrigation/changes/8
    tavrin change show 8
6. Try stricter rules before they can hurt, here or pasted into %[1]s/growers/irrigation/rules/edit
    tavrin rules try %[2]s/too-strict.rules.yaml
7. As wren, apply the line that odo suggests: %[1]s/growers/irrigation/changes/5
    as wren
    tavrin thread list 5
    tavrin thread apply 5 2
8. As ines, look at what odo let onto main at night.
    as ines
    tavrin desk
    tavrin waiver acknowledge 1 --text "It had to be"

Ctrl-C ends the demonstration and removes what it made, your clone too.
`, world.URL, world.Dir, filepath.Dir(self))
}
