package cli

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/internal/core/journal"
	"tavrin/internal/standin"
)

// webhookListen stands in as a destination on this machine.
func (p *program) webhookListen() *cobra.Command {
	var at, secretFile string
	var status, count int
	var whole bool
	c := &cobra.Command{Use: "listen", Short: "Stand in as a destination on this machine: verify and print what comes", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			secret, err := p.secretIn(secretFile)
			if err != nil {
				return err
			}
			listener, err := net.Listen("tcp", at)
			if err != nil {
				return err
			}
			address := "http://" + listener.Addr().String()
			fmt.Fprintf(p.err, "listening on %s; the service may call it when started with --allow-destination %s\n", address, address)
			if secret == "" {
				fmt.Fprintln(p.err, "without --secret-file or TAVRIN_WEBHOOK_SECRET signatures are not verified")
			}
			enough := make(chan struct{})
			heard := 0
			r := standin.NewReceiver(secret, func(d *standin.Received) {
				p.printReceived(d, whole, secret != "")
				if heard++; heard == count {
					close(enough)
				}
			})
			r.Answer = status
			server := &http.Server{Handler: r, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 15 * time.Second}
			failed := make(chan error, 1)
			go func() { failed <- server.Serve(listener) }()
			select {
			case <-cmd.Context().Done():
			case <-enough:
			case err = <-failed:
			}
			return errors.Join(err, server.Shutdown(cmd.Context()))
		}}
	f := c.Flags()
	f.StringVar(&at, "listen", "127.0.0.1:7430", "address to listen on")
	f.StringVar(&secretFile, "secret-file", "", "file with the webhook's secret (default: the environment's TAVRIN_WEBHOOK_SECRET)")
	f.IntVar(&status, "answer", 0, "status to answer with (default: 204, and 401 where the signature is not good)")
	f.IntVar(&count, "count", 0, "end after so many deliveries (default: on Ctrl-C)")
	f.BoolVar(&whole, "whole", false, "print headers and body too")
	return c
}

// printReceived prints what came, in one line or whole.
func (p *program) printReceived(d *standin.Received, whole, verified bool) {
	said := "not verified"
	if verified {
		said = "signature good"
	}
	if d.Trouble != nil {
		said = "REFUSED, " + d.Trouble.Error()
	}
	if d.Again {
		said += ", again"
	}
	fmt.Fprintln(p.out, plain(fmt.Sprintf("%s  %s  %s  %s  %s", d.At.Format("15:04:05"), d.ID, said, strings.TrimPrefix(d.Kind, journal.TypePrefix), d.Text)))
	if !whole {
		return
	}
	headers := map[string]string{}
	for name := range d.Header {
		headers[name] = d.Header.Get(name)
	}
	t := newTable(p.out)
	printHeaders(t, headers)
	t.flush()
	fmt.Fprintln(p.out, block(string(d.Body)))
}
