// Package client is the Go client of Tavrin's API.
//
// It sends tokens over https, and over plain http to loopback only. Errors of the service come back as *Problem,
// with the same sentence that every other face shows.
package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"

	"tavrin/wire"
)

// DefaultURL is where a service listens that was started without an address.
const DefaultURL = "http://127.0.0.1:7420"

// Client talks to one service as one person or robot. It is safe for concurrent use. Its parts are each about one subject.
type Client struct {
	*connection
	people
	repositories
	changes
	reviews
	threads
	checks
	queues
	rules
	areas
	waivers
	webhooks
	desk
	journal
}

// connection is how a client reaches its service.
type connection struct {
	base  string
	token string
	http  *http.Client
}

// New makes a client. An empty URL means DefaultURL; an empty token, somebody who has not signed in.
func New(rawURL, token string) (*Client, error) {
	if rawURL == "" {
		rawURL = DefaultURL
	}
	u, err := url.Parse(rawURL)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") || u.User != nil {
		return nil, fmt.Errorf("%q is not the address of a service: http://127.0.0.1:7420 or https://HOST", rawURL)
	}
	if u.Scheme == "http" && token != "" && !loopback(u.Hostname()) {
		return nil, fmt.Errorf("a token is not sent over plain http to %s: use https, or a service on loopback",
			u.Hostname())
	}
	c := &connection{base: strings.TrimRight(rawURL, "/"), token: token, http: &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
	return &Client{c, people{c}, repositories{c}, changes{c}, reviews{c}, threads{c}, checks{c}, queues{c}, rules{c},
		areas{c}, waivers{c}, webhooks{c}, desk{c}, journal{c}}, nil
}

func loopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// URL returns the service's address without a slash at the end.
func (c *connection) URL() string { return c.base }

// GitURL returns the address of a repository for git.
func (c *connection) GitURL(repo string) string { return c.base + "/git/" + repo + ".git" }

// Problem is an error that the service reported.
type Problem struct {
	Status   int            `json:"status"`
	Title    string         `json:"title"`
	Detail   string         `json:"detail"`
	Findings []wire.Finding `json:"findings"`
}

// Error returns the service's sentence.
func (p *Problem) Error() string {
	if p.Detail == "" {
		return fmt.Sprintf("the service answered %d %s", p.Status, http.StatusText(p.Status))
	}
	return p.Detail
}

// send makes a request and turns every answer that is not a success into an error.
func (c *connection) send(ctx context.Context, method, path, token string, header http.Header,
	body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" && req.Header.Get("Authorization") == "" { // a job is answered with its own lease
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		var failed *url.Error
		if errors.As(err, &failed) && ctx.Err() == nil {
			return nil, fmt.Errorf("the service at %s cannot be reached: %w", c.base, failed.Err)
		}
		return nil, err
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	p := &Problem{}
	if json.NewDecoder(io.LimitReader(resp.Body, 4<<20)).Decode(p) != nil || p.Status == 0 {
		p = &Problem{Status: resp.StatusCode}
	}
	return nil, p
}
