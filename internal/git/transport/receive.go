package transport

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"tavrin/internal/bounds"
	"tavrin/internal/git"
	"tavrin/internal/git/internal/process"
)

const (
	// drained is how much of a refused push is read, so that the client gets to read the answer.
	drained = 64 << 20
	// capabilities is what the receiving side offers.
	capabilities = "report-status delete-refs side-band-64k quiet atomic ofs-delta push-options object-format=sha1 " +
		"agent=tavrin"
)

// Update is one ref that a push wants to move.
type Update struct {
	Ref string
	Old string // empty: it is to be created
	New string // empty: it is to be deleted
	// Problem says why the update cannot be considered at all, such as a name git does not allow.
	Problem string
}

// Incoming is a push whose objects have arrived and stand apart from the repository's own.
type Incoming struct {
	Updates []Update
	Atomic  bool
	Options []string
	repo    *git.Repo
	view    *git.Repo
	dir     string
	known   *measured
	commits map[string][]string // the commits that came, with their parents
	order   []string            // the same, newest first
	rode    []string
	// admitted says that the objects are in the repository already.
	admitted bool
}

// Local is a push of commits that the repository has already, such as some that were built for somebody.
func Local(ctx context.Context, repo *git.Repo, updates ...Update) (*Incoming, error) {
	in := &Incoming{Updates: updates, repo: repo, view: repo}
	for _, u := range updates {
		if u.New == "" {
			continue
		}
		out, err := repo.Place().Run(ctx, nil, "rev-list", u.New, "--not", "--all", "--")
		if err != nil {
			return nil, err
		}
		in.order = append(in.order, strings.Fields(string(out))...)
	}
	return in, nil
}

// Result is the answer to one update, in the order of Incoming.Updates.
type Result struct {
	Refused string // empty: done
}

// Decide answers a push: it judges the updates, lets the objects in with Incoming.Admit, moves the refs, and
// returns a result for each update and lines for the pusher's terminal.
type Decide func(ctx context.Context, in *Incoming) ([]Result, []string)

// Contains says, with the objects of the push in sight, whether commit b is a or comes after it.
func (in *Incoming) Contains(ctx context.Context, b, a string) (bool, error) {
	seen := map[string]bool{}
	for walk := []string{b}; len(walk) > 0; walk = walk[1:] { // mostly the commits that came lie right on top
		if walk[0] == a {
			return true, nil
		}
		if !seen[walk[0]] {
			seen[walk[0]] = true
			walk = append(walk, in.commits[walk[0]]...)
		}
	}
	return in.view.IsAncestor(ctx, a, b)
}

// Commits lists the commits that no ref of the repository reached before the push, newest first.
func (in *Incoming) Commits() []string { return in.order }

// Rode lists the commits that came with the push although nothing that it moves needs them. Another's push may point at
// them later.
func (in *Incoming) Rode() []string { return in.rode }

// Log lists, with the objects of the push in sight, the commits that one brings beyond others: all of them, or an error
// that names the bound.
func (in *Incoming) Log(ctx context.Context, from string, not []string) ([]git.Commit, error) {
	return in.view.LogAll(ctx, from, not, "push.direct-commits")
}

// IsCommit says whether the id is that of a commit, as the tip of a branch has to be.
func (in *Incoming) IsCommit(ctx context.Context, id string) bool {
	_, came := in.commits[id]
	return came || in.view.HasCommit(ctx, id)
}

// TagSignature reads the signature of a tag, with the objects of the push in sight.
func (in *Incoming) TagSignature(ctx context.Context, id string) (s git.KeySignature, object, signed bool, err error) {
	return in.view.TagSignature(ctx, id)
}

// Admit moves the objects into the repository, synced to disk. Until then they are gone when the push ends.
func (in *Incoming) Admit() error {
	if in.dir == "" || in.admitted {
		return nil
	}
	in.admitted = true
	dirs := map[string]bool{}
	var files []string
	err := filepath.WalkDir(in.dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !strings.HasPrefix(d.Name(), "tmp_") {
			files = append(files, path)
		}
		return err
	})
	if err != nil {
		return err
	}
	// A pack counts from the moment its index is there: the index goes last.
	slices.SortStableFunc(files, func(a, b string) int {
		return boolInt(strings.HasSuffix(a, ".idx")) - boolInt(strings.HasSuffix(b, ".idx"))
	})
	for _, from := range files {
		rel, err := filepath.Rel(in.dir, from)
		if err != nil {
			return err
		}
		to := filepath.Join(in.repo.Place().Dir, "objects", rel)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.Rename(from, to); err != nil {
			return err
		}
		dirs[filepath.Dir(to)] = true
	}
	dirs[filepath.Join(in.repo.Place().Dir, "objects")] = true
	for dir := range dirs {
		if err := process.SyncFolder(dir); err != nil {
			return err
		}
	}
	return nil
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// request is the first part of a push: what it wants.
type request struct {
	updates  []Update
	caps     []string
	options  []string
	sideband bool
	reached  *bounds.Reached // why not all of it was kept
}

// ProtocolError says that the other side does not speak the push protocol rightly.
type ProtocolError struct{ What string }

// Error says what is wrong.
func (e *ProtocolError) Error() string { return "git's protocol: " + e.What }

// readRequest reads the commands of a push. A nil request with a nil error is a probe: a flush and nothing else. What
// comes beyond a bound is read and not kept, so that the client can be told.
func readRequest(r *bufio.Reader, b *bounds.Bounds) (*request, error) {
	q := &request{}
	seen := map[string]bool{}
	size := int64(0)
	packets := func(keep func(line string) error) error {
		for {
			line, flush, err := readPacket(r)
			if err != nil || flush {
				return err
			}
			if size += int64(len(line)); size > drained {
				return &ProtocolError{"the commands do not end"}
			}
			if size > b.PushCommandBytes {
				q.reached = b.Reach("push.command-bytes", "the names and options of this push have %d bytes", size)
			}
			if q.reached != nil {
				continue
			}
			if err := keep(line); err != nil {
				return err
			}
		}
	}
	first := true
	err := packets(func(line string) error {
		if strings.HasPrefix(line, "shallow ") {
			return nil // what is missing shows when the objects are connected
		}
		if first {
			command, caps, _ := strings.Cut(line, "\x00")
			q.caps, line, first = strings.Fields(caps), command, false
		}
		u, err := parseCommand(strings.TrimSuffix(line, "\n"))
		if err != nil {
			return err
		}
		if seen[u.Ref] {
			u.Problem = "named twice in one push"
		}
		seen[u.Ref] = true
		if q.updates = append(q.updates, u); int64(len(q.updates)) > b.PushRefs {
			q.reached = b.Reach("push.refs", "%d refs in one push are too many", len(q.updates))
		}
		return nil
	})
	if err != nil || len(q.updates) == 0 && q.reached == nil {
		return nil, err
	}
	q.sideband = slices.Contains(q.caps, "side-band-64k")
	if slices.Contains(q.caps, "push-options") {
		err = packets(func(line string) error {
			q.options = append(q.options, strings.TrimSuffix(line, "\n"))
			return nil
		})
	}
	return q, err
}

func parseCommand(line string) (Update, error) {
	f := strings.SplitN(line, " ", 3)
	if len(f) != 3 || !git.IsID(f[0]) || !git.IsID(f[1]) {
		return Update{}, &ProtocolError{fmt.Sprintf("unreadable command %.80q", line)}
	}
	u := Update{Ref: f[2], Old: f[0], New: f[1]}
	if u.Old == git.ZeroID {
		u.Old = ""
	}
	if u.New == git.ZeroID {
		u.New = ""
	}
	branch, isBranch := strings.CutPrefix(u.Ref, "refs/heads/")
	tag, isTag := strings.CutPrefix(u.Ref, "refs/tags/")
	// What is there already may go, whatever it is called.
	if err := git.CheckRef(u.Ref); err != nil {
		u.Problem = "not a name git allows"
	} else if isBranch && u.Old == "" && git.CheckBranch(branch) != nil {
		u.Problem = "not a name for a branch: " + git.CheckBranch(branch).Error()
	} else if isTag && u.Old == "" && git.CheckTag(tag) != nil {
		u.Problem = "not a name for a tag: " + git.CheckTag(tag).Error()
	} else if strings.HasPrefix(u.Ref, git.ReservedRefs) {
		u.Problem = "the service's own name space"
	} else if u.Old == "" && u.New == "" {
		u.Problem = "there is nothing to delete"
	}
	return u, nil
}

// readPacket reads one pkt-line of Git's protocols.
func readPacket(r *bufio.Reader) (line string, flush bool, err error) {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return "", false, &ProtocolError{"the request ends too early"}
	}
	n, err := strconv.ParseUint(string(head[:]), 16, 16)
	switch {
	case err != nil || n == 1 || n == 2 || n == 3:
		return "", false, &ProtocolError{fmt.Sprintf("%q is not the length of a packet", head[:])}
	case n == 0:
		return "", true, nil
	}
	body := make([]byte, n-4)
	if _, err := io.ReadFull(r, body); err != nil {
		return "", false, &ProtocolError{"the request ends too early"}
	}
	return string(body), false, nil
}

func packet(text string) string { return fmt.Sprintf("%04x%s", len(text)+4, text) }

// AdvertisePush writes what a client sees before it pushes: the refs and what the service can do.
func AdvertisePush(ctx context.Context, repo *git.Repo, w io.Writer) error {
	refs, err := repo.Refs(ctx, "refs/")
	if err != nil {
		return err
	}
	out := bufio.NewWriter(w)
	out.WriteString(packet("# service=git-receive-pack\n") + "0000")
	caps := "\x00" + capabilities
	for _, ref := range refs {
		if strings.HasPrefix(ref.Name, git.ReservedRefs) {
			continue
		}
		out.WriteString(packet(ref.ID + " " + ref.Name + caps + "\n"))
		caps = ""
	}
	if caps != "" {
		out.WriteString(packet(git.ZeroID + " capabilities^{}" + caps + "\n"))
	}
	out.WriteString("0000")
	return out.Flush()
}

// Receiver takes pushes. It remembers how far trees go that it has measured. Its zero value is ready.
type Receiver struct{ trees measured }

// Receive takes a push: it reads the commands, stores the pack apart, checks it, asks decide, and writes the
// report. An error means that no sensible answer could be written.
func (v *Receiver) Receive(ctx context.Context, repo *git.Repo, body io.Reader, w io.Writer, decide Decide) error {
	in := bufio.NewReaderSize(body, 64<<10)
	q, err := readRequest(in, repo.Place().Bounds())
	if err != nil || q == nil {
		return err
	}
	ctx, leave, err := repo.Place().Enter(ctx)
	if err != nil {
		return err
	}
	defer leave()
	defer repo.Place().Use()() // what it brings may stand on objects that no ref reaches
	incoming := &Incoming{Updates: q.updates, Atomic: slices.Contains(q.caps, "atomic"), Options: q.options, repo: repo,
		view: repo, known: &v.trees}
	var unpack error
	if q.reached != nil {
		unpack = q.reached
	} else {
		unpack = incoming.takePack(ctx, in)
	}
	if incoming.dir != "" {
		defer os.RemoveAll(incoming.dir)
	}
	var results []Result
	var lines []string
	if unpack != nil {
		for _, u := range q.updates {
			results = append(results, Result{Refused: cmp.Or(u.Problem, "the objects were not accepted")})
		}
		lines = strings.Split(unpack.Error(), "\n")
		io.CopyN(io.Discard, in, drained) // so that the client reads the answer; bounded
	} else {
		results, lines = decide(ctx, incoming)
	}
	_, err = w.Write(report(q, unpack, results, lines))
	return err
}

// takePack stores the pack of a push in a folder of its own and checks that it is whole.
func (incoming *Incoming) takePack(ctx context.Context, in *bufio.Reader) error {
	var tips []string
	for _, u := range incoming.Updates {
		if u.New != "" {
			tips = append(tips, u.New)
		}
	}
	if len(tips) == 0 {
		return nil // deletions carry no pack
	}
	view, dir, err := incoming.repo.Place().Quarantine()
	if err != nil {
		return err
	}
	incoming.view, incoming.dir = git.On(view), dir
	head, err := in.Peek(4)
	if err != nil || string(head) != "PACK" {
		return &ProtocolError{"no pack follows the commands"}
	}
	b := incoming.repo.Place().Bounds()
	// Kept as a pack however small it is: two files to sync, where loose objects would be many.
	counted := &counting{Reader: in}
	_, err = view.Run(ctx, counted, "index-pack", "--stdin", "--fix-thin", "--strict",
		fmt.Sprintf("--max-input-size=%d", b.PushPackBytes))
	if err != nil {
		return explainPack(err, counted.bytes, b)
	}
	return incoming.connect(ctx, tips)
}

// counting counts the bytes that are read.
type counting struct {
	io.Reader
	bytes int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.bytes += int64(n)
	return n, err
}

func explainPack(err error, size int64, b *bounds.Bounds) error {
	var e *git.CommandError
	if !errors.As(err, &e) {
		return err
	}
	if size > b.PushPackBytes {
		return b.Reach("push.pack-bytes", "the pack is too large")
	}
	return fmt.Errorf("the pack is not sound: %s", strings.TrimSpace(e.Stderr))
}

// report writes the answer to a push, in the form that the client asked for.
func report(q *request, unpack error, results []Result, lines []string) []byte {
	var status bytes.Buffer
	if slices.Contains(q.caps, "report-status") || slices.Contains(q.caps, "report-status-v2") {
		if unpack == nil {
			status.WriteString(packet("unpack ok\n"))
		} else {
			first, _, _ := strings.Cut(unpack.Error(), "\n")
			status.WriteString(packet("unpack " + first + "\n"))
		}
		for i, u := range q.updates {
			if results[i].Refused == "" {
				status.WriteString(packet("ok " + oneLine(u.Ref) + "\n"))
			} else {
				status.WriteString(packet("ng " + oneLine(u.Ref) + " " + oneLine(results[i].Refused) + "\n"))
			}
		}
		status.WriteString("0000")
	}
	if !q.sideband {
		return status.Bytes()
	}
	var out bytes.Buffer
	for _, line := range lines {
		out.WriteString(packet("\x02" + oneLine(line) + "\n"))
	}
	for chunk := range slices.Chunk(status.Bytes(), 65000) {
		out.WriteString(packet("\x01" + string(chunk)))
	}
	out.WriteString("0000")
	return out.Bytes()
}

// oneLine keeps control characters out of somebody's terminal.
func oneLine(s string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return ' '
		}
		return c
	}, s)
}
