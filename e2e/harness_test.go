package e2e

import (
	"context"
	"encoding/base64"
	"flag"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"tavrin/client"
	"tavrin/internal/api"
	"tavrin/internal/bounds"
	"tavrin/internal/core/change"
	"tavrin/internal/outbound"
	"tavrin/internal/service"
	"tavrin/wire"
)

// binary is the tavrin program, built once for the package.
var binary string

func TestMain(m *testing.M) {
	if step := os.Getenv("TAVRIN_E2E_DIE_AT"); step != "" {
		serveUntilStep(step)
	}
	dir, err := os.MkdirTemp("", "tavrin-e2e-")
	if err != nil {
		panic(err)
	}
	scratch, binary = dir, filepath.Join(dir, "tavrin")
	if out, err := exec.Command("go", "build", "-o", binary, "../cmd/tavrin").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build tavrin: %v\n%s", err, out)
		os.Exit(1)
	}
	flag.Parse()
	if err := flag.Set("test.parallel", "1000"); err != nil { // besideOthers says how many in truth
		panic(err)
	}
	debug.SetGCPercent(400) // some hundred services are opened and forgotten: memory is there, processors are not
	status := m.Run()
	closeBrowser()
	if scans := asked.scans(dir); len(scans) > 0 && status == 0 {
		fmt.Fprintf(os.Stderr, "--- FAIL: statements that go through a whole table which grows:\n%s\n", strings.Join(scans, "\n"))
		status = 1
	}
	os.RemoveAll(dir)
	os.Exit(status)
}

// serveUntilStep is what a child process of the crash tests does: it serves, and kills itself when it comes to a named step, such
// as landing:moved, or to landing:moved#3 for the third time.
func serveUntilStep(step string) {
	step, times, _ := strings.Cut(step, "#")
	var left atomic.Int64
	if n, err := strconv.Atoi(times); err == nil {
		left.Store(int64(n) - 1)
	}
	s, err := service.Open(context.Background(), service.Options{Dir: os.Getenv("TAVRIN_E2E_DIR"), At: func(at string) {
		if at == step && left.Add(-1) < 0 {
			syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		}
	}})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	l, err := net.Listen("tcp", os.Getenv("TAVRIN_E2E_LISTEN"))
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println("http://" + l.Addr().String())
	http.Serve(l, api.New(api.Options{Service: s, Log: slog.New(slog.DiscardHandler)}))
}

// town is a service with people in it.
type town struct {
	t       testing.TB
	dir     string
	url     string
	service *service.Service
	server  *httptest.Server
	tokens  map[string]string
	admin   *client.Client
	outside outbound.List // what the service may call
}

const repo = "growers/irrigation"

// newTown starts a service in this process with the repository growers/irrigation and these people: ines, a
// maintainer; odo, tamsin and wren, writers (odo in team hydraulics); pavo, a reader; and the robot builder, who
// may report unit, lint and bench.
//
// The test runs beside others: mostly it waits for processes and for the disk.
func newTown(t testing.TB) *town {
	t.Helper()
	if test, ok := t.(*testing.T); ok {
		besideOthers(test)
	}
	return aloneTown(t)
}

// places are how many tests run beside each other, and beside the browser's lane.
var places = make(chan struct{}, 4)

// besideOthers has a test run beside others, as soon as there is a place. Go itself is told of so many (TestMain) that
// all begin at once: else the browser's tests, which follow one another and take longest, would begin when the last of the
// others have, and run on alone. A test whose parts run beside others takes no place of its own.
func besideOthers(t *testing.T) {
	t.Helper()
	t.Parallel()
	places <- struct{}{}
	t.Cleanup(func() { <-places })
}

// aloneTown is newTown for a test that decides itself what runs beside it: it drives the browser, which has one lane, or it
// alters what all of the process share, so that nothing may.
func aloneTown(t testing.TB) *town {
	t.Helper()
	firstTown.Do(func() {
		w := &town{t: t, dir: filepath.Join(scratch, "town"), tokens: map[string]string{}}
		w.open(service.Options{})
		token, err := w.service.Access.FirstStart(t.Context())
		w.ok(err)
		w.tokens["admin"] = token
		w.admin = w.as("admin")
		w.populate()
		w.close()
		firstTown.tokens = w.tokens
	})
	if firstTown.tokens == nil {
		t.Fatal("the first town could not be made")
	}
	w := &town{t: t, dir: t.TempDir(), tokens: maps.Clone(firstTown.tokens)}
	w.ok(os.CopyFS(filepath.Join(w.dir, "data"), os.DirFS(filepath.Join(scratch, "town", "data"))))
	w.open(service.Options{})
	w.admin = w.as("admin")
	t.Cleanup(w.close)
	return w
}

// firstTown is a town with its people, made once; each test has a copy of its folder.
var firstTown struct {
	sync.Once
	tokens map[string]string
}

// scratch is a folder of the package, binary the tavrin program in it.
var scratch string

func (w *town) open(o service.Options) {
	w.t.Helper()
	o.Dir, o.Log = filepath.Join(w.dir, "data"), slog.New(slog.DiscardHandler)
	if o.Outside.List == nil {
		o.Outside.List = w.outside
	}
	if _, timed := w.t.(*testing.B); !timed {
		o.Doubt = func(what string) { w.t.Error(what) }
		o.Queries = asked.add
		o.Git, o.Nested = watch(w.t)
	}
	server := httptest.NewUnstartedServer(nil)
	o.Address = "http://" + server.Listener.Addr().String()
	s, err := service.Open(context.Background(), o)
	w.ok(err)
	w.service = s
	limits := o.Bounds
	if limits == (bounds.Bounds{}) { // tests ask as often as they can
		limits = bound(w.t, "calls.token=1000000", "calls.address=1000000")
	}
	server.Config.Handler = api.New(api.Options{Service: s, Log: o.Log, Bounds: limits, Address: o.Address})
	server.Start()
	w.server, w.url = server, server.URL
}

// bound is the default bounds with some set otherwise, each as NAME=NUMBER.
func bound(t testing.TB, set ...string) bounds.Bounds {
	t.Helper()
	b := bounds.Default()
	for _, text := range set {
		if err := b.Set(text); err != nil {
			t.Fatal(err)
		}
	}
	return b
}

// reopen starts a service again on the town's folder.
func (w *town) reopen() {
	w.t.Helper()
	w.open(service.Options{})
	w.admin = w.as("admin")
}

// pause is between two looks at something of which nobody tells.
func pause() { time.Sleep(25 * time.Millisecond) }

func (w *town) close() {
	w.service.Records.EndStreams()
	w.server.Close()
	w.service.Close()
	if _, timed := w.t.(*testing.B); !timed {
		replayed(w.t, filepath.Join(w.dir, "data"))
	}
}

// openAt starts a service again on the town's folder, which tells of each of its steps.
func (w *town) openAt(at func(step string)) {
	w.t.Helper()
	w.open(service.Options{At: at})
	w.admin = w.as("admin")
}

func (w *town) populate() {
	w.t.Helper()
	ctx := w.t.Context()
	for login, role := range map[string]string{"ines": "maintainer", "odo": "writer", "tamsin": "writer", "wren": "writer", "pavo": "reader"} {
		w.person(login)
		defer func() { w.ok(w.admin.Grant(ctx, repo, login, role)) }()
	}
	_, err := w.admin.CreateTeam(ctx, wire.NewTeam{Name: "hydraulics", Members: []string{"odo"}})
	w.ok(err)
	_, err = w.admin.CreatePerson(ctx, wire.NewPerson{Login: "builder", Robot: true})
	w.ok(err)
	_, err = w.admin.CreateHouse(ctx, "growers")
	w.ok(err)
	_, err = w.admin.CreateRepository(ctx, wire.NewRepository{Name: repo})
	w.ok(err)
	t, err := w.admin.CreateToken(ctx, wire.NewToken{Login: "builder", Checks: []string{repo + ":unit", repo + ":lint", repo + ":bench"}})
	w.ok(err)
	w.tokens["builder"] = t.Secret
}

// person makes a person with a token.
func (w *town) person(login string) {
	w.t.Helper()
	ctx := w.t.Context()
	_, err := w.admin.CreatePerson(ctx, wire.NewPerson{Login: login, Name: strings.ToUpper(login[:1]) + login[1:] + " of Fennmoor", Email: login + "@fennmoor.example"})
	w.ok(err)
	t, err := w.admin.CreateToken(ctx, wire.NewToken{Login: login})
	w.ok(err)
	w.tokens[login] = t.Secret
}

// disable disables an account, or enables it again.
func (w *town) disable(login string, disabled bool) wire.Disabled {
	w.t.Helper()
	d, err := w.admin.SetDisabled(w.t.Context(), login, disabled)
	w.ok(err)
	return d
}

func (w *town) ok(err error) {
	w.t.Helper()
	if err != nil {
		w.t.Fatal(err)
	}
}

func (w *town) as(login string) *client.Client {
	w.t.Helper()
	c, err := client.New(w.url, w.tokens[login])
	w.ok(err)
	return c
}

// gitAs runs git as somebody in a folder and returns what it printed.
func (w *town) gitAs(login, dir string, args ...string) (string, error) {
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), w.gitEnvironment(login)...)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func (w *town) gitEnvironment(login string) []string {
	basic := base64.StdEncoding.EncodeToString([]byte("x:" + w.tokens[login]))
	return []string{"GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_NOSYSTEM=1", "GIT_TERMINAL_PROMPT=0", "LC_ALL=C", "HOME=" + w.dir,
		"GIT_AUTHOR_NAME=" + login, "GIT_AUTHOR_EMAIL=" + login + "@fennmoor.example", "GIT_COMMITTER_NAME=" + login, "GIT_COMMITTER_EMAIL=" + login + "@fennmoor.example",
		"GIT_CONFIG_COUNT=2", "GIT_CONFIG_KEY_0=http.extraHeader", "GIT_CONFIG_VALUE_0=Authorization: Basic " + basic,
		"GIT_CONFIG_KEY_1=init.defaultBranch", "GIT_CONFIG_VALUE_1=main"}
}

// must runs git and fails the test when git does.
func (w *town) must(login, dir string, args ...string) string {
	w.t.Helper()
	out, err := w.gitAs(login, dir, args...)
	if err != nil {
		w.t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(out)
}

func (w *town) gitURL() string { return w.url + "/git/" + repo + ".git" }

// clone makes somebody's clone.
func (w *town) clone(login string) string {
	w.t.Helper()
	dir := filepath.Join(w.t.TempDir(), login)
	w.must(login, w.dir, "clone", "-q", w.gitURL(), dir)
	return dir
}

// commit writes a file and commits it; the name of its author is that of login.
func (w *town) commit(login, dir, path, text, message string) string {
	w.t.Helper()
	full := filepath.Join(dir, path)
	w.ok(os.MkdirAll(filepath.Dir(full), 0o755))
	w.ok(os.WriteFile(full, []byte(text), 0o644))
	w.must(login, dir, "add", "-A")
	w.must(login, dir, "commit", "-q", "-m", message)
	return w.head(dir)
}

// head is the commit that a clone is at, read where git keeps it.
func (w *town) head(dir string) string {
	w.t.Helper()
	at, err := os.ReadFile(filepath.Join(dir, ".git", "HEAD"))
	w.ok(err)
	ref, symbolic := strings.CutPrefix(strings.TrimSpace(string(at)), "ref: ")
	if !symbolic {
		return ref
	}
	id, err := os.ReadFile(filepath.Join(dir, ".git", filepath.FromSlash(ref)))
	w.ok(err)
	return strings.TrimSpace(string(id))
}

// nearby makes somebody's clone like clone, from the folder of the service itself: where cloning is not what is tried.
func (w *town) nearby(login string) string {
	w.t.Helper()
	dir := filepath.Join(w.t.TempDir(), login)
	w.must(login, w.dir, "clone", "-q", filepath.Join(w.dir, "data", "repositories", "1.git"), dir)
	w.must(login, dir, "remote", "set-url", "origin", w.gitURL())
	return dir
}

// simple protects main: one approval, the owners of valves, no objection, and the check unit on the rehearsal.
const simple = `tavrin: rules/1
areas:
  valves: {paths: "valves/**", owners: team:hydraulics}
protect:
  - name: trunk
    branches: main
    push: nobody
    require:
      - approvals: 1
      - owners: every touched area
      - objections: none
      - checks: [unit]
    land: {strategies: [rebase, squash, merge], default: rebase}
    queue: {planner: one-at-a-time, reruns: 0}
`

// begin pushes a first commit, applies rules, and returns ines's clone.
func (w *town) begin(rules string) string {
	w.t.Helper()
	dir := w.nearby("ines")
	w.commit("ines", dir, "README.md", lines(20, nil), "start")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:main")
	w.apply(rules)
	return dir
}

func (w *town) apply(rules string) {
	w.t.Helper()
	_, err := w.as("ines").ApplyRules(w.t.Context(), repo, wire.NewRules{Text: rules, Reason: "for the test"}, -1)
	w.ok(err)
}

func lines(n int, change map[int]string) string {
	var b strings.Builder
	for i := range n {
		if text, ok := change[i]; ok {
			b.WriteString(text + "\n")
		} else {
			fmt.Fprintf(&b, "line %d\n", i)
		}
	}
	return b.String()
}

// propose pushes a branch with one commit on the newest main and opens a change.
func (w *town) propose(login, branch, path, text string) wire.Change {
	w.t.Helper()
	dir := w.nearby(login)
	w.must(login, dir, "checkout", "-q", "-b", branch)
	w.commit(login, dir, path, text, "change "+path)
	w.must(login, dir, "push", "-q", "origin", branch)
	return w.openChange(login, branch)
}

func (w *town) openChange(login, branch string) wire.Change {
	w.t.Helper()
	k, err := w.as(login).OpenChange(w.t.Context(), repo, wire.NewChange{Source: branch, Title: "Bring " + branch})
	w.ok(err)
	return k
}

func (w *town) approve(login string, k wire.Change) {
	w.t.Helper()
	_, err := w.as(login).Review(w.t.Context(), repo, k.Number, wire.NewReview{Verdict: "approve", Revision: k.Revision})
	w.ok(err)
}

func (w *town) join(login string, k wire.Change, strategy string) {
	w.t.Helper()
	_, err := w.as(login).Join(w.t.Context(), repo, k.Number, wire.NewEntry{Strategy: change.Strategy(strategy)})
	w.ok(err)
}

// report has the builder report a check.
func (w *town) report(commit, name, state string) {
	w.t.Helper()
	_, err := w.as("builder").ReportCheck(w.t.Context(), repo, wire.NewReport{Commit: commit, Name: name, State: change.CheckState(state)})
	w.ok(err)
}

// until looks at a change until it is as wanted. The time limit only ends a test that has failed already.
func (w *town) until(k wire.Change, what string, wanted func(wire.Change) bool) wire.Change {
	w.t.Helper()
	var now wire.Change
	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		grown := w.service.Records.Grown() // before looking, so that nothing is missed
		var err error
		now, err = w.as("ines").Change(w.t.Context(), repo, k.Number)
		w.ok(err)
		if wanted(now) {
			return now
		}
		select {
		case <-grown:
		case <-time.After(200 * time.Millisecond): // not everything leaves a line
		}
	}
	w.t.Fatalf("change %d is not %s: %+v, entry %+v", k.Number, what, now, now.Entry)
	return now
}

// rehearsed waits for a change's rehearsal and returns its commit.
func (w *town) rehearsed(k wire.Change) string {
	w.t.Helper()
	now := w.until(k, "rehearsing", func(k wire.Change) bool {
		return k.Entry != nil && k.Entry.State == "rehearsing" && k.Entry.Rehearsal != nil
	})
	return now.Entry.Rehearsal.Commit
}

func (w *town) landed(k wire.Change) wire.Change {
	w.t.Helper()
	return w.until(k, "landed", func(k wire.Change) bool { return k.State == "landed" })
}

// land brings a change by tamsin all the way: odo approves, tamsin joins, and the check passes on the rehearsal.
func (w *town) land(k wire.Change, strategy string) wire.Change {
	w.t.Helper()
	w.approve("odo", k)
	w.join("tamsin", k, strategy)
	w.report(w.rehearsed(k), "unit", "passed")
	return w.landed(k)
}

// runner makes the robot barn with a token for running the repository's command checks.
func (w *town) runner() {
	w.t.Helper()
	_, err := w.admin.CreatePerson(w.t.Context(), wire.NewPerson{Login: "barn", Robot: true})
	w.ok(err)
	t, err := w.admin.CreateToken(w.t.Context(), wire.NewToken{Login: "barn", Runner: []string{repo}})
	w.ok(err)
	w.tokens["barn"] = t.Secret
}

func (w *town) ejected(k wire.Change) wire.Change {
	w.t.Helper()
	return w.until(k, "ejected", func(k wire.Change) bool { return k.Entry != nil && k.Entry.State == "ejected" })
}

// tip returns where a branch stands, as a stock git client sees it; empty when there is none.
func (w *town) tip(branch string) string {
	w.t.Helper()
	out := w.must("ines", w.dir, "ls-remote", w.gitURL(), "refs/heads/"+branch)
	id, _, _ := strings.Cut(out, "\t")
	return id
}

// kinds lists the kinds of journal lines, oldest first.
func (w *town) kinds() []string {
	w.t.Helper()
	journal, err := w.admin.JournalAfter(w.t.Context(), "", 0, 500)
	w.ok(err)
	var kinds []string
	for i := len(journal) - 1; i >= 0; i-- {
		kinds = append(kinds, journal[i].Kind)
	}
	return kinds
}

// has fails the test unless the text holds every part.
func has(t testing.TB, text string, parts ...string) {
	t.Helper()
	for _, p := range parts {
		if !strings.Contains(text, p) {
			t.Errorf("%q is missing in:\n%s", p, text)
		}
	}
}

// problem fails the test unless the error is the service's, with this status and these words.
func problem(t testing.TB, err error, status int, words ...string) {
	t.Helper()
	p, ok := err.(*client.Problem)
	if !ok {
		t.Errorf("error is %v, not a problem report", err)
		return
	}
	if p.Status != status {
		t.Errorf("status is %d, not %d: %s", p.Status, status, p.Detail)
	}
	has(t, p.Detail, words...)
}
