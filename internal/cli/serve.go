package cli

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/internal/api"
	"tavrin/internal/bounds"
	"tavrin/internal/mail"
	"tavrin/internal/outbound"
	"tavrin/internal/service"
	"tavrin/internal/typed"
)

// stopTime is how long requests may take to finish after SIGTERM.
const stopTime = 9 * time.Second

// serveOptions is what the service is started with.
type serveOptions struct {
	dir, listen, adminTokenFile string
	certificate, key            string
	behindProxy, signCommits    bool
	imports                     []string
	destinations                []string
	authorities, address        string
	relay, sender, relayLogin   string
	bounds                      []string
	headTo                      string
	headEvery                   time.Duration
	logJSON, verbose            bool
}

func (p *program) serve() *cobra.Command {
	o := serveOptions{}
	c := &cobra.Command{Use: "serve", Short: "Run the service: repositories, API and console", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return p.runService(cmd.Context(), o)
		}}
	f := c.Flags()
	f.StringVar(&o.dir, "data", "", "folder of the service: records, repositories, key (needed)")
	f.StringVar(&o.listen, "listen", "127.0.0.1:7420", "address to listen on")
	f.StringVar(&o.adminTokenFile, "admin-token-file", "", "at the first start, write the administrator's token "+
		"there instead of printing it")
	f.StringVar(&o.certificate, "tls-cert", "", "file with the certificate, to serve over TLS")
	f.StringVar(&o.key, "tls-key", "", "file with the certificate's key")
	f.BoolVar(&o.behindProxy, "behind-proxy", false, "a proxy in front of the service speaks TLS to the outside")
	f.BoolVar(&o.signCommits, "sign-commits", false, "sign the commits that landings write with the service's key, which tavrin journal head shows")
	f.StringSliceVar(&o.imports, "allow-import", nil, "URL prefix from which repositories may be imported; may be "+
		"given several times")
	f.StringArrayVar(&o.destinations, "allow-destination", nil, "URL prefix that the service may call, for webhooks; in a network that is not "+
		"public with its address or network: http://bench.lan:8080=10.0.3.0/24; may be given several times")
	f.StringVar(&o.authorities, "trust-ca", "", "file with certificates (PEM) of authorities to trust besides the system's when calling")
	f.StringVar(&o.address, "address", "", "where others reach the service, such as https://tavrin.example, for links in "+
		"what is sent (default: where it listens)")
	f.StringVar(&o.relay, "mail-relay", "", "smtps://HOST or smtp://HOST: a relay for digests by mail, which people then may ask for (default: no mail)")
	f.StringVar(&o.sender, "mail-from", "", "whom that mail is from, such as 'Tavrin <tavrin@fennmoor.example>'")
	f.StringVar(&o.relayLogin, "mail-login-file", "", "file with USER:PASSWORD for the relay")
	f.StringArrayVar(&o.bounds, "bound", nil, "NAME=NUMBER: another bound than the default, see "+
		"docs/reference/bounds.md; may be given several times")
	f.StringVar(&o.headTo, "head-to", "", "file, on another machine's disk if it is to be of use, to which the "+
		"journal's signed head is added regularly")
	f.DurationVar(&o.headEvery, "head-every", 24*time.Hour, "how often")
	f.BoolVar(&o.logJSON, "log-json", false, "write the log as JSON")
	f.BoolVar(&o.verbose, "verbose", false, "log every request")
	return needs(c, "data")
}

// guarded refuses to listen where tokens would travel in the clear.
func (o serveOptions) guarded() error {
	host, _, err := net.SplitHostPort(o.listen)
	if err != nil {
		return misuse("--listen is HOST:PORT, not %q", o.listen)
	}
	if (o.certificate == "") != (o.key == "") {
		return misuse("--tls-cert and --tls-key go together")
	}
	ip := net.ParseIP(host)
	local := host == "localhost" || (ip != nil && ip.IsLoopback())
	if local || o.certificate != "" || o.behindProxy {
		return nil
	}
	return misuse("off loopback the service listens only with TLS (--tls-cert, --tls-key) or behind a proxy that "+
		"speaks it (--behind-proxy); %s is not loopback", o.listen)
}

func (o serveOptions) logger(w *os.File) *slog.Logger {
	level := slog.LevelInfo
	if o.verbose {
		level = slog.LevelDebug
	}
	options := &slog.HandlerOptions{Level: level, ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
		if a.Value.Kind() == slog.KindString {
			a.Value = slog.StringValue(typed.Mask(a.Value.String()))
		}
		return a
	}}
	if o.logJSON {
		return slog.New(slog.NewJSONHandler(w, options))
	}
	return slog.New(slog.NewTextHandler(w, options))
}

func (p *program) runService(ctx context.Context, o serveOptions) error {
	if err := o.guarded(); err != nil {
		return err
	}
	log := o.logger(os.Stderr)
	running, err := start(ctx, o, log)
	if err != nil {
		return err
	}
	if err := p.handOver(ctx, running.service, o.adminTokenFile); err != nil {
		return errors.Join(err, running.stop())
	}
	if o.headTo != "" {
		sending, stop := context.WithCancel(ctx)
		defer stop()
		go running.service.Audit.SendHeads(sending, o.headTo, o.headEvery)
	}
	fmt.Fprintf(p.out, "Tavrin serves %s\n", running.url)
	select {
	case <-ctx.Done():
		log.Info("stopping")
	case err = <-running.failed:
	}
	return errors.Join(err, running.stop())
}

// handOver gives the first administrator's token to whoever started the service.
func (p *program) handOver(ctx context.Context, s *service.Service, file string) error {
	token, err := s.Access.FirstStart(ctx)
	if err != nil || token == "" {
		return err
	}
	if file == "" {
		fmt.Fprintf(p.out, "The administrator's token, shown this once and good for 24 hours:\n  %s\nMake people "+
			"with it: tavrin person create LOGIN\n", token)
		return nil
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("write the administrator's token: %w", err)
	}
	defer f.Close()
	if err := f.Chmod(0o600); err != nil {
		return err
	}
	_, err = fmt.Fprintln(f, token)
	return err
}

// running is a started service.
type running struct {
	service *service.Service
	server  *http.Server
	url     string
	failed  chan error
}

// start opens the service's folder and begins to listen.
func start(ctx context.Context, o serveOptions, log *slog.Logger) (*running, error) {
	b := bounds.Default()
	for _, text := range o.bounds {
		if err := b.Set(text); err != nil {
			return nil, misuse("--bound: %v", err)
		}
	}
	outside, err := o.outside()
	if err != nil {
		return nil, err
	}
	relay, err := o.mailRelay()
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", o.listen)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w", o.listen, err)
	}
	url := "http://" + listener.Addr().String()
	if o.certificate != "" {
		url = "https://" + listener.Addr().String()
	}
	address := strings.TrimRight(cmp.Or(o.address, url), "/")
	s, err := service.Open(ctx, service.Options{Dir: o.dir, Imports: o.imports, Outside: outside, Address: address, SignCommits: o.signCommits, Version: api.Version, Relay: relay, Log: log, Bounds: b})
	if err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	secure := o.certificate != "" || o.behindProxy
	r := &running{service: s, failed: make(chan error, 1), url: url,
		server: &http.Server{
			Handler: api.New(api.Options{Service: s, Log: log, Address: address, Secure: secure, Bounds: b,
				BehindProxy: o.behindProxy}), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 15 * time.Second,
			WriteTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute, ErrorLog: slog.NewLogLogger(log.Handler(),
				slog.LevelDebug),
		}}
	r.server.RegisterOnShutdown(s.Records.EndStreams)
	go func() {
		var err error
		if o.certificate != "" {
			err = r.server.ServeTLS(listener, o.certificate, o.key)
		} else {
			err = r.server.Serve(listener)
		}
		if !errors.Is(err, http.ErrServerClosed) {
			r.failed <- err
		}
	}()
	log.Info("service ready", "url", r.url, "data", o.dir)
	return r, nil
}

// outside is what the service may call.
func (o serveOptions) outside() (outbound.Options, error) {
	list, err := outbound.NewList(o.destinations)
	if err != nil {
		return outbound.Options{}, misuse("--allow-destination: %v", err)
	}
	out := outbound.Options{List: list}
	if o.authorities != "" {
		text, err := os.ReadFile(o.authorities)
		if err != nil {
			return out, err
		}
		if out.Roots, err = x509.SystemCertPool(); err != nil {
			return out, err
		}
		if !out.Roots.AppendCertsFromPEM(text) {
			return out, misuse("--trust-ca: %s holds no certificate in PEM", o.authorities)
		}
	}
	return out, nil
}

// mailRelay is what takes digests by mail; nil: nothing does.
func (o serveOptions) mailRelay() (*mail.Relay, error) {
	if o.relay == "" {
		return nil, nil
	}
	login := ""
	if o.relayLogin != "" {
		text, err := os.ReadFile(o.relayLogin)
		if err != nil {
			return nil, err
		}
		login = string(text)
	}
	r, err := mail.NewRelay(o.relay, o.sender, login)
	if err != nil {
		return nil, misuse("--mail-relay: %v", err)
	}
	return r, nil
}

// stop finishes what is running and closes the records.
func (r *running) stop() error {
	ctx, cancel := context.WithTimeout(context.Background(), stopTime)
	defer cancel()
	err := r.server.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		err = r.server.Close()
	}
	return errors.Join(err, r.service.Close())
}
