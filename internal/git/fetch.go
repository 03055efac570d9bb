package git

import (
	"context"
	"fmt"
	"io"
	"regexp"
)

var protocolForm = regexp.MustCompile(`^[a-z0-9=:._-]{0,100}$`)

// AdvertiseFetch writes what a client sees before it fetches. protocol is the client's Git-Protocol header.
func (r *Repo) AdvertiseFetch(ctx context.Context, protocol string, w io.Writer) error {
	view := r.speaking(protocol)
	if len(view.env) == len(r.env) || protocol != "version=2" {
		if _, err := io.WriteString(w, packet("# service=git-upload-pack\n")+"0000"); err != nil {
			return err
		}
	}
	return view.stream(ctx, nil, w, "upload-pack", "--strict", "--stateless-rpc", "--advertise-refs", ".")
}

// ServeFetch answers one request of a client that fetches.
func (r *Repo) ServeFetch(ctx context.Context, protocol string, body io.Reader, w io.Writer) error {
	return r.speaking(protocol).stream(ctx, body, w, "upload-pack", "--strict", "--stateless-rpc", ".")
}

func (r *Repo) speaking(protocol string) *Repo {
	if protocol == "" || !protocolForm.MatchString(protocol) {
		return r
	}
	return &Repo{program: r.program, dir: r.dir, env: append(append([]string(nil), r.env...), "GIT_PROTOCOL="+protocol)}
}

// ImportOptions says from where a repository is fetched.
type ImportOptions struct {
	URL string // https, or http on loopback
	// Resolve pins the address of the URL's host, as "HOST:PORT:ADDRESS".
	Resolve string
}

// Import fetches all branches and tags of another repository into this one, without following redirects.
func (r *Repo) Import(ctx context.Context, o ImportOptions) error {
	_, err := r.run(ctx, nil, "-c", "protocol.allow=never", "-c", "protocol.https.allow=always", "-c",
		"protocol.http.allow=always",
		"-c", "http.followRedirects=false", "-c", "http.curloptResolve="+o.Resolve, "-c", "credential.helper=",
		"fetch", "-q", "--no-auto-gc", "--no-write-fetch-head", "--", o.URL, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*")
	if err != nil {
		return fmt.Errorf("fetch %s: %w", o.URL, err)
	}
	return nil
}
