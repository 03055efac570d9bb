package git

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
)

const (
	// maxCommands bounds the refs in one push: thousands make git slow.
	maxCommands = 1000
	// readCommands is how many are read, so that more than are taken can be answered politely.
	readCommands = 100_000
	// maxOptions bounds the options of one push.
	maxOptions = 20
	// defaultMaxPack is the largest pack accepted when nothing else is said.
	defaultMaxPack = 2 << 30
	// capabilities is what the receiving side offers.
	capabilities = "report-status delete-refs side-band-64k quiet atomic ofs-delta push-options object-format=sha1 agent=tavrin"
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
	repo    *Repo
	view    *Repo
	dir     string
	commits map[string][]string // the commits that came, with their parents
	order   []string            // the same, newest first
	// admitted says that the objects are in the repository already.
	admitted bool
}

// Local is a push of commits that the repository has already, such as some that were built for somebody.
func (r *Repo) Local(ctx context.Context, updates ...Update) (*Incoming, error) {
	in := &Incoming{Updates: updates, repo: r, view: r}
	for _, u := range updates {
		if u.New == "" {
			continue
		}
		out, err := r.run(ctx, nil, "rev-list", u.New, "--not", "--all", "--")
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

// Commits lists at most limit of the commits that no ref of the repository reached before the push, newest first.
func (in *Incoming) Commits(limit int) []string { return in.order[:min(limit, len(in.order))] }

// Log lists, with the objects of the push in sight, the commits that one brings beyond others, and the signatures of those
// that carry one.
func (in *Incoming) Log(ctx context.Context, from string, not []string, limit int) ([]Commit, map[string]KeySignature, error) {
	log, err := in.view.Log(ctx, from, not, 0, limit)
	if err != nil {
		return nil, nil, err
	}
	signed, err := in.view.Signatures(ctx, from, not, limit)
	return log, signed, err
}

// IsCommit says whether the id is that of a commit, as the tip of a branch has to be.
func (in *Incoming) IsCommit(ctx context.Context, id string) bool {
	_, came := in.commits[id]
	return came || in.view.HasCommit(ctx, id)
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
		to := filepath.Join(in.repo.dir, "objects", rel)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.Rename(from, to); err != nil {
			return err
		}
		dirs[filepath.Dir(to)] = true
	}
	dirs[filepath.Join(in.repo.dir, "objects")] = true
	for dir := range dirs {
		if err := syncDir(dir); err != nil {
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

func syncDir(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// request is the first part of a push: what it wants.
type request struct {
	updates  []Update
	caps     []string
	options  []string
	sideband bool
}

// ProtocolError says that the other side does not speak the push protocol rightly.
type ProtocolError struct{ What string }

// Error says what is wrong.
func (e *ProtocolError) Error() string { return "push protocol: " + e.What }

// readRequest reads the commands of a push. A nil request with a nil error is a probe: a flush and nothing else.
func readRequest(r *bufio.Reader) (*request, error) {
	q := &request{}
	seen := map[string]bool{}
	for first := true; ; {
		line, flush, err := readPacket(r)
		if err != nil {
			return nil, err
		}
		if flush {
			break
		}
		if strings.HasPrefix(line, "shallow ") {
			continue // what is missing shows when the objects are connected
		}
		if first {
			command, caps, _ := strings.Cut(line, "\x00")
			q.caps, line, first = strings.Fields(caps), command, false
		}
		u, err := parseCommand(strings.TrimSuffix(line, "\n"))
		if err != nil {
			return nil, err
		}
		if seen[u.Ref] {
			u.Problem = "named twice in one push"
		}
		seen[u.Ref] = true
		if q.updates = append(q.updates, u); len(q.updates) > readCommands {
			return nil, &ProtocolError{fmt.Sprintf("more than %d refs in one push", maxCommands)}
		}
	}
	if len(q.updates) == 0 {
		return nil, nil
	}
	q.sideband = slices.Contains(q.caps, "side-band-64k")
	if slices.Contains(q.caps, "push-options") {
		for {
			line, flush, err := readPacket(r)
			if err != nil {
				return nil, err
			}
			if flush {
				break
			}
			if q.options = append(q.options, strings.TrimSuffix(line, "\n")); len(q.options) > maxOptions {
				return nil, &ProtocolError{fmt.Sprintf("more than %d push options", maxOptions)}
			}
		}
	}
	return q, nil
}

func parseCommand(line string) (Update, error) {
	f := strings.SplitN(line, " ", 3)
	if len(f) != 3 || !IsID(f[0]) || !IsID(f[1]) {
		return Update{}, &ProtocolError{fmt.Sprintf("unreadable command %.80q", line)}
	}
	u := Update{Ref: f[2], Old: f[0], New: f[1]}
	if u.Old == ZeroID {
		u.Old = ""
	}
	if u.New == ZeroID {
		u.New = ""
	}
	branch, isBranch := strings.CutPrefix(u.Ref, "refs/heads/")
	if err := CheckRef(u.Ref); err != nil {
		u.Problem = "not a name git allows"
	} else if isBranch && CheckBranch(branch) != nil {
		u.Problem = "not a name for a branch"
	} else if strings.HasPrefix(u.Ref, ReservedRefs) {
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
func (r *Repo) AdvertisePush(ctx context.Context, w io.Writer) error {
	refs, err := r.Refs(ctx, "refs/")
	if err != nil {
		return err
	}
	out := bufio.NewWriter(w)
	out.WriteString(packet("# service=git-receive-pack\n") + "0000")
	caps := "\x00" + capabilities
	for _, ref := range refs {
		if strings.HasPrefix(ref.Name, ReservedRefs) {
			continue
		}
		out.WriteString(packet(ref.ID + " " + ref.Name + caps + "\n"))
		caps = ""
	}
	if caps != "" {
		out.WriteString(packet(ZeroID + " capabilities^{}" + caps + "\n"))
	}
	out.WriteString("0000")
	return out.Flush()
}

// Receive takes a push: it reads the commands, stores the pack apart, checks it, asks decide, and writes the
// report. An error means that no sensible answer could be written.
func (r *Repo) Receive(ctx context.Context, body io.Reader, w io.Writer, decide Decide) error {
	in := bufio.NewReaderSize(body, 64<<10)
	q, err := readRequest(in)
	if err != nil || q == nil {
		return err
	}
	incoming := &Incoming{Updates: q.updates, Atomic: slices.Contains(q.caps, "atomic"), Options: q.options, repo: r, view: r}
	var unpack error
	if n := len(q.updates); n > maxCommands {
		unpack = fmt.Errorf("%d refs in one push are too many: push at most %d at a time", n, maxCommands)
	} else {
		unpack = r.takePack(ctx, in, incoming)
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
		io.CopyN(io.Discard, in, 64<<20) // so that the client reads the answer; bounded
	} else {
		results, lines = decide(ctx, incoming)
	}
	_, err = w.Write(report(q, unpack, results, lines))
	return err
}

// takePack stores the pack of a push in a folder of its own and checks that it is whole.
func (r *Repo) takePack(ctx context.Context, in *bufio.Reader, incoming *Incoming) error {
	var tips []string
	for _, u := range incoming.Updates {
		if u.New != "" {
			tips = append(tips, u.New)
		}
	}
	if len(tips) == 0 {
		return nil // deletions carry no pack
	}
	view, dir, err := r.quarantine()
	if err != nil {
		return err
	}
	incoming.view, incoming.dir = view, dir
	head, err := in.Peek(4)
	if err != nil || string(head) != "PACK" {
		return &ProtocolError{"no pack follows the commands"}
	}
	maxBytes := r.program.MaxPackBytes
	if maxBytes == 0 {
		maxBytes = defaultMaxPack
	}
	// Kept as a pack however small it is: two files to sync, where loose objects would be many.
	_, err = view.run(ctx, in, "index-pack", "--stdin", "--fix-thin", "--strict", fmt.Sprintf("--max-input-size=%d", maxBytes))
	if err != nil {
		return explainPack(err, maxBytes)
	}
	return incoming.connect(ctx, tips)
}

// connect checks that everything the new tips need is there, and notes the commits that came. In the listing a
// commit's line begins with its time, any other object's with its id.
func (in *Incoming) connect(ctx context.Context, tips []string) error {
	list, err := in.view.run(ctx, strings.NewReader(strings.Join(tips, "\n")+"\n"), "rev-list", "--objects", "--timestamp", "--parents", "--stdin", "--not", "--all")
	if err != nil {
		return fmt.Errorf("the pack lacks objects that its commits need (a push from a shallow clone must bring what the repository lacks)")
	}
	in.commits = map[string][]string{}
	for line := range strings.Lines(string(list)) {
		f := strings.Fields(line)
		if len(f) >= 2 && !IsID(f[0]) && IsID(f[1]) {
			in.commits[f[1]] = f[2:]
			in.order = append(in.order, f[1])
		}
	}
	return nil
}

func explainPack(err error, maxBytes int64) error {
	var e *CommandError
	if errors.As(err, &e) {
		if strings.Contains(e.Stderr, "maximum allowed size") || strings.Contains(e.Stderr, "exceeds maximum") {
			return fmt.Errorf("the pack is too large: at most %d MiB in one push", maxBytes>>20)
		}
		return fmt.Errorf("the pack is not sound: %s", strings.TrimSpace(e.Stderr))
	}
	return err
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
