package standin

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"tavrin/client"
	"tavrin/internal/core/change"
	"tavrin/wire"
)

// Target is somewhere that commits are deployed to when a webhook asks for it: it takes a while, says where what it deployed
// can be looked at, and shows it there.
type Target struct {
	Client *client.Client // with a check robot's token
	Secret string         // of the webhook
	Check  string         // the name it reports under
	Takes  time.Duration  // how long one deployment lasts
	Log    *slog.Logger

	mu       sync.Mutex
	deployed []string // commits, the newest last
}

// Run deploys what is asked of the target until the context ends.
func (t *Target) Run(ctx context.Context, listener net.Listener) error {
	asked := make(chan job, 1000)
	receiver := NewReceiver(t.Secret, func(d *Received) {
		if j, is := askedFor(d, t.Check); is {
			select {
			case asked <- j:
			default: // it is asked for once more when nobody answers
			}
		}
	})
	address := "http://" + listener.Addr().String() + "/at/"
	server := &http.Server{ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 15 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			t.show(w, strings.TrimPrefix(r.URL.Path, "/at/"))
			return
		}
		receiver.ServeHTTP(w, r)
	})}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	for {
		select {
		case j := <-asked:
			t.deploy(ctx, j, address)
		case err := <-failed:
			return err
		case <-ctx.Done():
			return server.Close()
		}
	}
}

func (t *Target) deploy(ctx context.Context, j job, address string) {
	report := wire.NewReport{Commit: j.Commit, Name: j.Name, Attempt: j.Attempt, State: change.Running, Summary: "on its way to the fields"}
	if _, err := t.Client.ReportCheck(ctx, j.repo, report); err != nil {
		t.Log.Debug("target: not taken", "error", err)
		return
	}
	pause(ctx, t.Takes)
	t.mu.Lock()
	t.deployed = append(t.deployed, j.Commit)
	t.mu.Unlock()
	report.State, report.Summary, report.Link = change.Passed, "runs on every plot", address+j.Commit
	if _, err := t.Client.ReportCheck(ctx, j.repo, report); err != nil {
		t.Log.Debug("target: not taken", "error", err)
	}
}

// show shows what was deployed.
func (t *Target) show(w http.ResponseWriter, commit string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i := len(t.deployed) - 1; i >= 0; i-- {
		if t.deployed[i] == commit {
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			fmt.Fprintf(w, "The fields run %s", commit)
			if i < len(t.deployed)-1 {
				fmt.Fprintf(w, " no more; since then they run %s", t.deployed[len(t.deployed)-1])
			}
			fmt.Fprintln(w, ".")
			return
		}
	}
	http.Error(w, "nothing of that name was deployed here", http.StatusNotFound)
}
