// Command gitsuite stands in for the web server of Git's own tests of its HTTP client, with a Tavrin service behind it,
// so that those tests try the service. Git's tests start it as they would start their own server:
//
//	LIB_HTTPD_PATH=bin/gitsuite LIB_HTTPD_MODULE_PATH=/tmp GIT_TEST_INSTALLED=/usr/bin ./t5541-http-push-smart.sh
//
// docs/reference/git-tests.md says which of them it was run with and what came of them. A repository that a test puts
// into its server's folder is taken into the service at its first request; the test then finds the service's own bare
// repository under the old path, so that what it looks up and changes there is what the service serves.
package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"tavrin/client"
	"tavrin/internal/api"
	"tavrin/internal/bounds"
	"tavrin/internal/service"
	"tavrin/wire"
)

func main() {
	version := flag.Bool("v", false, "say what this is, in the form in which Git's tests ask it")
	root := flag.String("d", "", "the server's folder")
	listen := flag.String("c", "", "Listen HOST:PORT")
	do := flag.String("k", "", "start or stop")
	flag.String("f", "", "the other server's configuration, which does not matter here")
	serve := flag.Bool("serve", false, "serve in the foreground")
	flag.Bool("DSSL", false, "not supported")
	flag.Parse()
	var err error
	switch {
	case *version:
		fmt.Println("Server version: Apache/2.4.0 is what the tests want to read; this is a Tavrin service.")
	case *serve:
		err = run(*root, strings.TrimPrefix(*listen, "Listen "))
	case *do == "start":
		err = start(*root, *listen)
	case *do == "stop":
		err = stop(*root)
	default:
		err = errors.New("-k start or -k stop is missing")
	}
	if err != nil {
		log.Fatal(err)
	}
}

func start(root, listen string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	out, err := os.Create(filepath.Join(root, "error.log"))
	if err != nil {
		return err
	}
	defer out.Close()
	c := exec.Command(self, "-serve", "-d", root, "-c", listen)
	c.Stdout, c.Stderr = out, out
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := c.Start(); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(root, "gitsuite.pid"), []byte(strconv.Itoa(c.Process.Pid)), 0o600); err != nil {
		return err
	}
	for range 200 {
		time.Sleep(50 * time.Millisecond)
		if r, err := http.Get("http://" + strings.TrimPrefix(listen, "Listen ") + "/ready"); err == nil {
			return r.Body.Close()
		}
	}
	return errors.New("the service did not start: see error.log")
}

func stop(root string) error {
	text, err := os.ReadFile(filepath.Join(root, "gitsuite.pid"))
	if err != nil {
		return err
	}
	pid, err := strconv.Atoi(string(text))
	if err != nil {
		return err
	}
	return syscall.Kill(pid, syscall.SIGTERM)
}

// house is where all repositories of a test go.
const house = "suite"

type server struct {
	root      string
	documents string // where the tests put repositories
	data      string // the service's folder
	admin     *client.Client
	token     string
	proxy     *httputil.ReverseProxy

	mu    sync.Mutex
	names map[string]string // bare folder → name of the repository
}

func run(root, listen string) error {
	ctx := context.Background()
	data := filepath.Join(root, "tavrin")
	quiet := slog.New(slog.DiscardHandler)
	s, err := service.Open(ctx, service.Options{Dir: data, Log: quiet})
	if err != nil {
		return err
	}
	limits := bounds.Default()
	for _, text := range []string{"calls.token=1000000", "calls.address=1000000"} {
		if err := limits.Set(text); err != nil {
			return err
		}
	}
	inner := httptest.NewServer(api.New(api.Options{Service: s, Log: quiet, Bounds: limits}))
	token, err := s.Access.FirstStart(ctx)
	if err != nil {
		return err
	}
	to, err := url.Parse(inner.URL)
	if err != nil {
		return err
	}
	admin, err := client.New(inner.URL, token)
	if err != nil {
		return err
	}
	b := &server{root: root, documents: filepath.Join(root, "www"), data: data, admin: admin, token: token, names: map[string]string{}}
	b.proxy = &httputil.ReverseProxy{FlushInterval: -1, ModifyResponse: b.alter, Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(to) }}
	if _, err := b.admin.CreateHouse(ctx, house); err != nil {
		return err
	}
	access, err := os.OpenFile(filepath.Join(root, "access.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	return http.ListenAndServe(listen, b.logged(access))
}

// counted counts what is answered.
type counted struct {
	http.ResponseWriter
	status, bytes int
}

func (c *counted) WriteHeader(status int) { c.status = status; c.ResponseWriter.WriteHeader(status) }
func (c *counted) Write(p []byte) (int, error) {
	n, err := c.ResponseWriter.Write(p)
	c.bytes += n
	return n, err
}
func (c *counted) Unwrap() http.ResponseWriter { return c.ResponseWriter }

// logged writes a line for each request, in the Common Log Format, which the tests read.
func (b *server) logged(to *os.File) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := &counted{ResponseWriter: w, status: http.StatusOK}
		line := r.Method + " " + r.RequestURI + " " + r.Proto
		b.serve(c, r)
		size := "-"
		if c.bytes > 0 {
			size = strconv.Itoa(c.bytes)
		}
		fmt.Fprintf(to, "127.0.0.1 - - [%s] %q %d %s\n", time.Now().Format("02/Jan/2006:15:04:05 -0700"), line, c.status, size)
	})
}

// asked are the addresses under which the tests expect repositories: open ones, and ones behind a sign-in.
var asked = regexp.MustCompile(`^/(auth/smart|auth-push/smart|auth-fetch/smart|half-auth-complete/smart|smart_v0|smart_custom_env|one_time_perl|smart)/(.+?)/(info/refs|git-upload-pack|git-receive-pack|HEAD|objects/.*)$`)

func (b *server) serve(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/ready" {
		return
	}
	for _, d := range redirects {
		if d.from.MatchString(r.URL.Path) {
			http.Redirect(w, r, d.from.ReplaceAllString(r.URL.RequestURI(), d.to), d.status)
			return
		}
	}
	m := asked.FindStringSubmatch(r.URL.Path)
	if m == nil {
		http.FileServer(http.Dir(b.documents)).ServeHTTP(w, r)
		return
	}
	name, err := b.name(r.Context(), m[2])
	if err != nil {
		log.Print(r.URL.Path, ": ", err)
		name = house + "/missing"
	}
	// The service itself lets nobody in without a token. Where the tests want an open server the bridge signs in for
	// them; where they want a sign-in it turns their name and password into the token, and passes anything else on.
	user, password, given := r.BasicAuth()
	switch {
	case user == "user@host" && password == "pass@host":
		r.SetBasicAuth("admin", b.token)
	case strings.HasPrefix(m[1], "auth/"), given:
	case m[1] == "auth-push/smart" && m[3] == "git-receive-pack":
	case m[1] == "auth-fetch/smart" && m[3] == "git-upload-pack":
	case m[1] == "half-auth-complete/smart" && (m[3] == "git-receive-pack" || r.URL.Query().Get("service") == "git-receive-pack"):
	default:
		r.SetBasicAuth("admin", b.token)
	}
	if m[1] == "smart_v0" {
		r.Header.Del("Git-Protocol")
	}
	if m[1] == "one_time_perl" {
		r = r.WithContext(context.WithValue(r.Context(), altered{}, true))
	}
	r.URL.Path = "/git/" + name + ".git/" + m[3]
	b.proxy.ServeHTTP(w, r)
}

// redirects are those that tests follow.
var redirects = []struct {
	from   *regexp.Regexp
	to     string
	status int
}{
	{regexp.MustCompile(`^/smart-redir-perm/(.*)$`), "/smart/$1", http.StatusMovedPermanently},
	{regexp.MustCompile(`^/smart-redir-temp/(.*)$`), "/smart/$1", http.StatusFound},
	{regexp.MustCompile(`^/smart-redir-auth/(.*)$`), "/auth/smart/$1", http.StatusMovedPermanently},
	{regexp.MustCompile(`^/smart-redir-limited/(.*/info/refs.*)$`), "/smart/$1", http.StatusMovedPermanently},
	{regexp.MustCompile(`^/ftp-redir/(.*)$`), "ftp://localhost:1000/$1", http.StatusFound},
}

// altered marks a request whose answer is sent through the Perl script that a test has left for one use.
type altered struct{}

func (b *server) alter(r *http.Response) error {
	script, err := os.ReadFile(filepath.Join(b.root, "one-time-perl"))
	if r.Request.Context().Value(altered{}) == nil || err != nil {
		return nil
	}
	was, err := io.ReadAll(r.Body)
	if err != nil {
		return err
	}
	c := exec.Command("perl", "-pe", string(script))
	c.Dir, c.Env = b.root, append(os.Environ(), "LC_ALL=C")
	c.Stdin = bytes.NewReader(was)
	now, err := c.Output()
	if err != nil {
		return err
	}
	if !bytes.Equal(was, now) {
		if err := os.Remove(filepath.Join(b.root, "one-time-perl")); err != nil {
			return err
		}
	}
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(now)), int64(len(now))
	r.Header.Set("Content-Length", strconv.Itoa(len(now)))
	return nil
}

// name returns the service's repository for a path of a test, which it makes at the first request.
func (b *server) name(ctx context.Context, path string) (string, error) {
	at := filepath.Join(b.documents, filepath.FromSlash(path))
	if _, err := os.Stat(at); err != nil {
		at += ".git"
	}
	if _, err := os.Stat(filepath.Join(at, ".git")); err == nil {
		at = filepath.Join(at, ".git")
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	real, err := filepath.EvalSymlinks(at)
	if err != nil {
		return "", err
	}
	if name, ok := b.names[real]; ok {
		return name, nil
	}
	name := fmt.Sprintf("%s/r%d", house, len(b.names)+1)
	head, err := exec.CommandContext(ctx, "git", "-C", real, "symbolic-ref", "--short", "HEAD").Output()
	if err != nil {
		return "", fmt.Errorf("the branch at HEAD of %s: %w", real, err)
	}
	made, err := b.admin.CreateRepository(ctx, wire.NewRepository{Name: name, DefaultBranch: strings.TrimSpace(string(head))})
	if err != nil {
		return "", err
	}
	bare := filepath.Join(b.data, "repositories", fmt.Sprintf("%d.git", len(b.names)+1))
	if err := moveIn(ctx, real, bare); err != nil {
		return "", fmt.Errorf("taking in %s: %w", real, err)
	}
	b.names[bare] = made.Name
	return made.Name, nil
}

// moveIn puts a test's repository, whole as it is (shallow, with a working tree, with what is set in it), in the place
// of the service's new one, and leads its old path there. What the service sets in a repository is set in it too.
func moveIn(ctx context.Context, real, bare string) error {
	set, err := exec.CommandContext(ctx, "git", "config", "-f", filepath.Join(bare, "config"), "--list", "--null").Output()
	if err != nil {
		return err
	}
	if err := errors.Join(os.RemoveAll(bare), os.Rename(real, bare), os.Symlink(bare, real)); err != nil {
		return err
	}
	for one := range strings.SplitSeq(strings.TrimSuffix(string(set), "\x00"), "\x00") {
		key, value, _ := strings.Cut(one, "\n")
		if strings.HasPrefix(key, "core.") {
			continue
		}
		if err := exec.CommandContext(ctx, "git", "config", "-f", filepath.Join(bare, "config"), "--add", key, value).Run(); err != nil {
			return err
		}
	}
	return nil
}
