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
	"strings"

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

// Far is what there is at the place that a repository is imported from.
type Far struct {
	Head string   // the branch that clones of it check out; empty: not said
	Refs []string // whole names of its branches and tags
}

// Look lists the branches and tags of another repository.
func Look(ctx context.Context, repo *git.Repo, o ImportOptions) (Far, error) {
	out, err := repo.Place().Run(ctx, nil, append(farther(o), "ls-remote", "-q", "--symref", "--", o.URL, "HEAD", "refs/heads/*", "refs/tags/*")...)
	if err != nil {
		return Far{}, fmt.Errorf("look at %s: %w", o.URL, err)
	}
	var far Far
	for line := range strings.Lines(string(out)) {
		id, name, _ := strings.Cut(strings.TrimSpace(line), "\t")
		switch symbolic, is := strings.CutPrefix(id, "ref: refs/heads/"); {
		case is && name == "HEAD":
			far.Head = symbolic
		case name != "HEAD" && git.CheckRef(name) == nil: // nor what a tag points at, which is no name
			far.Refs = append(far.Refs, name)
		}
	}
	return far, nil
}

// Import fetches branches and tags of another repository, by their whole names, into this one, without following redirects.
func Import(ctx context.Context, repo *git.Repo, o ImportOptions, refs []string) error {
	var specs strings.Builder
	for _, ref := range refs {
		fmt.Fprintf(&specs, "+%s:%s\n", ref, ref)
	}
	_, err := repo.Place().Run(ctx, strings.NewReader(specs.String()), append(farther(o), "fetch", "-q", "--no-auto-gc", "--no-tags", "--no-write-fetch-head",
		"--stdin", "--", o.URL)...)
	if err != nil {
		return fmt.Errorf("fetch %s: %w", o.URL, err)
	}
	return nil
}

// farther are git's settings for going to another service: by http alone, to the address that was looked up, and nowhere else.
func farther(o ImportOptions) []string {
	return []string{"-c", "protocol.allow=never", "-c", "protocol.https.allow=always", "-c", "protocol.http.allow=always",
		"-c", "http.followRedirects=false", "-c", "http.curloptResolve=" + o.Resolve, "-c", "credential.helper="}
}
