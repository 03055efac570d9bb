// Package transport speaks Git's protocols with those who fetch and push, and fetches from other repositories.
//
// It takes a push's objects apart from the repository's own, measures them before anything walks them, and lets them in
// when the one who decides says so. It promises that of a push that is refused nothing stays, and that no answer has
// what a terminal would obey. Who may fetch, and which ref may move, is decided by others (see package intake).
package transport

import (
	"context"
	"fmt"
	"io"
	"regexp"

	"tavrin/internal/git"
	"tavrin/internal/git/internal/process"
)

var protocolForm = regexp.MustCompile(`^[a-z0-9=:._-]{0,100}$`)

// AdvertiseFetch writes what a client sees before it fetches. protocol is the client's Git-Protocol header.
func AdvertiseFetch(ctx context.Context, repo *git.Repo, protocol string, w io.Writer) error {
	if protocol != "version=2" {
		if _, err := io.WriteString(w, packet("# service=git-upload-pack\n")+"0000"); err != nil {
			return err
		}
	}
	return speaking(repo, protocol).Stream(ctx, nil, w, "upload-pack", "--strict", "--stateless-rpc", "--advertise-refs", ".")
}

// ServeFetch answers one request of a client that fetches.
func ServeFetch(ctx context.Context, repo *git.Repo, protocol string, body io.Reader, w io.Writer) error {
	return speaking(repo, protocol).Stream(ctx, body, w, "upload-pack", "--strict", "--stateless-rpc", ".")
}

// speaking is where git answers in the protocol that a client asked for.
func speaking(repo *git.Repo, protocol string) process.Place {
	if protocol == "" || !protocolForm.MatchString(protocol) {
		return repo.Place()
	}
	return repo.Place().With("GIT_PROTOCOL=" + protocol)
}

// ImportOptions says from where a repository is fetched.
type ImportOptions struct {
	URL string // https, or http on loopback
	// Resolve pins the address of the URL's host, as "HOST:PORT:ADDRESS".
	Resolve string
}

// Import fetches all branches and tags of another repository into this one, without following redirects.
func Import(ctx context.Context, repo *git.Repo, o ImportOptions) error {
	_, err := repo.Place().Run(ctx, nil, "-c", "protocol.allow=never", "-c", "protocol.https.allow=always", "-c",
		"protocol.http.allow=always",
		"-c", "http.followRedirects=false", "-c", "http.curloptResolve="+o.Resolve, "-c", "credential.helper=",
		"fetch", "-q", "--no-auto-gc", "--no-write-fetch-head", "--", o.URL, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*")
	if err != nil {
		return fmt.Errorf("fetch %s: %w", o.URL, err)
	}
	return nil
}
