package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"tavrin/internal/demo"
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
	outside, urls := map[string]string{"bench": "", "fields": "", "tracker": ""}, map[string]string{}
	for login := range outside {
		if outside[login], err = freeAddress(); err != nil {
			return err
		}
		urls[login] = "http://" + outside[login] + "/"
		o.destinations = append(o.destinations, urls[login])
	}
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
	world, err := demo.Build(ctx, running.url, token, dir, urls)
	if err != nil {
		return err
	}
	helpers, stop := context.WithCancel(ctx)
	var group sync.WaitGroup
	defer group.Wait()
	defer stop()
	if err := p.demoHelpers(helpers, &group, world, outside, once, log); err != nil {
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

// freeAddress is one of loopback on which nothing listens.
func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	return l.Addr().String(), l.Close()
}

// demoHelpers starts the runner and the systems outside, each as a program apart.
func (p *program) demoHelpers(ctx context.Context, group *sync.WaitGroup, world *demo.World, outside map[string]string, once bool,
	log *slog.Logger) error {
	takes := "6s"
	if once {
		takes = "1s"
	}
	for name, args := range map[string][]string{
		"runner":  {"runner", "--token-file", world.TokenFile("barn"), "--beside-service", "--beside-runner"},
		"bench":   {"stand-in", "bench", "--token-file", world.TokenFile("bench"), "--secret-file", world.SecretFile("bench"), "--listen", outside["bench"], "--takes", takes},
		"fields":  {"stand-in", "target", "--token-file", world.TokenFile("fields"), "--secret-file", world.SecretFile("fields"), "--listen", outside["fields"], "--takes", takes},
		"tracker": {"stand-in", "tracker", "--tickets", world.TicketsFile(), "--key-file", world.KeyFile(), "--listen", outside["tracker"]},
	} {
		if err := helper(ctx, group, world, name, append(args, "--url", world.URL), log); err != nil {
			return err
		}
	}
	return nil
}

// helper starts this program once more beside the demonstration, until the context ends.
func helper(ctx context.Context, group *sync.WaitGroup, world *demo.World, name string, args []string, log *slog.Logger) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, self, args...)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + world.Dir}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 5 * time.Second
	logFile, err := os.Create(filepath.Join(world.Dir, name+".log"))
	if err != nil {
		return err
	}
	cmd.Stderr = logFile
	if err := cmd.Start(); err != nil {
		return err
	}
	group.Go(func() {
		defer logFile.Close()
		if err := cmd.Wait(); err != nil && ctx.Err() == nil {
			log.Error("the "+name+" ended", "error", err)
		}
	})
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

Nine things to try, in another terminal or in the console. First, where tavrin is, and a word to become somebody:
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
9. See what woke the valve bench, a checks system outside: %[1]s/growers/irrigation/webhooks
    tavrin webhook deliveries 1
    tavrin check connect valve-bench --watch

Ctrl-C ends the demonstration and removes what it made, your clone too.
`, world.URL, world.Dir, filepath.Dir(self))
}
