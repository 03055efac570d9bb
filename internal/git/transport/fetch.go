// Package transport speaks Git's protocols with those who fetch and push, and fetches from other repositories.
//
// It takes a push's objects apart from the repository's own, measures them before anything walks them, and lets them in
// when the one who decides says so. It promises that of a push that is refused nothing stays, and that no answer has
// what a terminal would obey. Who may fetch, and which ref may move, is decided by others (see package intake).
package transport

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"tavrin/internal/git"
	"tavrin/internal/git/internal/process"
)

var protocolForm = regexp.MustCompile(`^[a-z0-9=:._-]{0,100}$`)

// AdvertiseFetch writes what a client sees before it fetches. protocol is the client's Git-Protocol header. Narrow lists no ref.
func AdvertiseFetch(ctx context.Context, repo *git.Repo, protocol string, narrow bool, w io.Writer) error {
	if protocol != "version=2" {
		if _, err := io.WriteString(w, packet("# service=git-upload-pack\n")+"0000"); err != nil {
			return err
		}
	}
	return speaking(repo, protocol).Stream(ctx, nil, w, uploadPack(narrow, "--advertise-refs")...)
}

// ServeFetch answers one request of a client that fetches.
func ServeFetch(ctx context.Context, repo *git.Repo, protocol string, narrow bool, body io.Reader, w io.Writer) error {
	return speaking(repo, protocol).Stream(ctx, body, w, uploadPack(narrow)...)
}

func uploadPack(narrow bool, options ...string) []string {
	args := []string{}
	if narrow {
		args = append(args, "-c", "uploadpack.hideRefs=refs/", "-c", "uploadpack.hideRefs=HEAD")
	}
	return append(append(append(args, "upload-pack", "--strict", "--stateless-rpc"), options...), ".")
}

const (
	maxNarrow      = 1 << 20 // bytes that a client may say that fetches single commits
	maxNarrowWants = 100     // commits
)

// OnlyWanted reads a request for objects whole, and gives it back when everything that it asks for may be had; else the error
// of what may not. Git itself gives out whatever it has to who knows its id (gitprotocol-v2(5)), so it is looked at before.
func OnlyWanted(body io.Reader, may func(id string) error) (io.Reader, error) {
	var all bytes.Buffer
	wanted := map[string]bool{}
	r := bufio.NewReader(io.TeeReader(io.LimitReader(body, maxNarrow+1), &all))
	for {
		var head [4]byte
		if _, err := io.ReadFull(r, head[:]); err == io.EOF {
			break
		} else if err != nil {
			return nil, &ProtocolError{"the request ends too early"}
		}
		n, err := strconv.ParseUint(string(head[:]), 16, 16)
		if err != nil || n == 3 {
			return nil, &ProtocolError{fmt.Sprintf("%q is not the length of a packet", head[:])}
		}
		if n < 4 { // a flush, or what parts the request
			continue
		}
		line := make([]byte, n-4)
		if _, err := io.ReadFull(r, line); err != nil {
			return nil, &ProtocolError{"the request ends too early"}
		}
		if bytes.HasPrefix(line, []byte("deepen-not")) { // it would tell which names there are
			return nil, &ProtocolError{"with this token the depth of a fetch is said as a number"}
		}
		if !bytes.HasPrefix(line, []byte("want")) {
			continue
		}
		m := wantForm.FindSubmatch(line)
		if m == nil {
			return nil, &ProtocolError{"with this token a commit is fetched by its whole id"}
		}
		id := string(m[1])
		if wanted[id] {
			continue
		}
		if err := may(id); err != nil {
			return nil, err
		}
		if wanted[id] = true; len(wanted) > maxNarrowWants {
			return nil, &ProtocolError{fmt.Sprintf("more than %d commits at once are wanted with a token for checks", maxNarrowWants)}
		}
	}
	if all.Len() > maxNarrow {
		return nil, &ProtocolError{"the request is too long: fetch single commits, into a repository without many others"}
	}
	return &all, nil
}

// wantForm is a line that asks for an object; what a client can do may follow the id of the first.
var wantForm = regexp.MustCompile(`^want ([0-9a-f]{40})(?:[ \n]|$)`)

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
