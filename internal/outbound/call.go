package outbound

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"syscall"
	"time"
)

const (
	// Timeout is how long one call may take, from the first byte to the last.
	Timeout = 15 * time.Second
	// Kept is how much of an answer is kept, in bytes; read is how much of it is read at all.
	Kept = 4 << 10
	read = 64 << 10
)

// Caller calls listed destinations. It may be used concurrently.
type Caller struct {
	list    List
	client  *http.Client
	timeout time.Duration
}

// Options is what a Caller is made with; the zero value allows nothing.
type Options struct {
	List List
	// Roots are trusted besides the system's; nil: only those.
	Roots *x509.CertPool
	// Lookup finds the addresses of a name; nil: the system's resolver. Tests use it.
	Lookup func(ctx context.Context, host string) ([]netip.Addr, error)
	// Timeout is how long one call may take; 0: Timeout. Tests use it.
	Timeout time.Duration
	Agent   string
}

// New makes a Caller.
func New(o Options) *Caller {
	c := &Caller{list: o.List, timeout: o.Timeout}
	if c.timeout == 0 {
		c.timeout = Timeout
	}
	if o.Lookup == nil {
		o.Lookup = func(ctx context.Context, host string) ([]netip.Addr, error) {
			return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
		}
	}
	c.client = &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			DialContext:     c.dial(o.Lookup),
			TLSClientConfig: &tls.Config{RootCAs: o.Roots, MinVersion: tls.VersionTLS12},
			// Connections are kept for a while: many events go to few destinations.
			MaxIdleConnsPerHost: 2, IdleConnTimeout: 30 * time.Second, MaxResponseHeaderBytes: 64 << 10,
			TLSHandshakeTimeout: c.timeout, ForceAttemptHTTP2: true, DisableCompression: true,
		},
	}
	return c
}

// List is what may be called.
func (c *Caller) List() List { return c.list }

// dial connects to the first permitted address of a host. The address is looked at twice: before, so that what is wrong can
// be said, and on the socket itself, so that nothing lies between the look and the connection.
func (c *Caller) dial(lookup func(context.Context, string) ([]netip.Addr, error)) func(context.Context, string, string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		host, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		addresses := []netip.Addr{}
		if ip, err := netip.ParseAddr(host); err == nil {
			addresses = append(addresses, ip)
		} else if addresses, err = lookup(ctx, host); err != nil || len(addresses) == 0 {
			return nil, fmt.Errorf("the host %s has no address", host)
		}
		d := net.Dialer{Control: func(_, at string, _ syscall.RawConn) error {
			to, err := netip.ParseAddrPort(at)
			if err != nil {
				return err
			}
			return c.list.permits(host, port, to.Addr())
		}}
		var errs []error
		for _, ip := range addresses {
			err := c.list.permits(host, port, ip)
			if err == nil {
				var conn net.Conn
				if conn, err = d.DialContext(ctx, network, net.JoinHostPort(ip.Unmap().String(), port)); err == nil {
					return conn, nil
				}
			}
			errs = append(errs, err)
		}
		return nil, errs[0]
	}
}

// Answer is what came back.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte // the first Kept bytes
	Cut    bool   // it was longer
	// RetryAfter is the pause that the answer asks for; 0: it asks for none.
	RetryAfter time.Duration
}

// Do makes one call. An answer of any status is an Answer; an error says in a sentence why there is none.
func (c *Caller) Do(ctx context.Context, method, to string, header http.Header, body []byte) (*Answer, error) {
	if err := c.list.Allows(to); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, c.timeout)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, to, bytes.NewReader(body))
	if err != nil {
		return nil, errors.New("the address cannot be called")
	}
	r.Header = header
	w, err := c.client.Do(r)
	if err != nil {
		return nil, c.why(ctx, err)
	}
	defer w.Body.Close()
	a := &Answer{Status: w.StatusCode, Header: w.Header}
	if s, err := time.ParseDuration(w.Header.Get("Retry-After") + "s"); err == nil && s > 0 {
		a.RetryAfter = s
	}
	a.Body, err = io.ReadAll(io.LimitReader(w.Body, read+1))
	if err != nil && ctx.Err() != nil {
		return nil, c.why(ctx, err)
	}
	if len(a.Body) > Kept {
		a.Body, a.Cut = a.Body[:Kept], true
	}
	return a, nil
}

// why says in a sentence what went wrong, without the address: there may be secrets in it.
func (c *Caller) why(ctx context.Context, err error) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Errorf("it did not answer within %s", c.timeout)
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	var cert *tls.CertificateVerificationError
	if errors.As(err, &cert) {
		return fmt.Errorf("its certificate is not trusted: %w", cert.Err)
	}
	return err
}
