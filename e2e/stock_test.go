package e2e

import (
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// What Git's own server answers to requests that are not quite right, and what people type who do not know the address.
func TestGitClientsGetGitsAnswers(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ask := func(login, method, path string, headers map[string]string) (*http.Response, string) {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), method, w.url+path, strings.NewReader("0000"))
		w.ok(err)
		for k, v := range headers {
			r.Header.Set(k, v)
		}
		if login != "" {
			r.SetBasicAuth("x", w.tokens[login])
		}
		answer, err := http.DefaultClient.Do(r)
		w.ok(err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		w.ok(err)
		return answer, string(text)
	}
	const here = "/git/" + repo + ".git"
	fetches := map[string]string{"Content-Type": "application/x-git-upload-pack-request"}
	for _, c := range []struct {
		login, method, path string
		headers             map[string]string
		status              int
		says, allow         string
	}{
		{"", "GET", "/git/", nil, 401, "/git/HOUSE/NAME.git", ""},
		{"", "GET", "/git", nil, 401, "/git/HOUSE/NAME.git", ""},
		{"", "GET", here + "/HEAD", nil, 401, "smart protocol", ""},
		{"tamsin", "GET", here + "/HEAD", nil, 404, "smart protocol", ""},
		{"tamsin", "GET", here, nil, 404, "smart protocol", ""},
		{"tamsin", "GET", "/git/growers//info/refs?service=git-upload-pack", nil, 404, "/git/HOUSE/NAME.git", ""},
		{"tamsin", "GET", "/git/growers/none.git/info/refs?service=git-upload-pack", nil, 404, "growers/none", ""},
		{"", "GET", "/git/growers/none.git/info/refs?service=git-upload-pack", nil, 401, "", ""},
		{"tamsin", "GET", here + "/info/refs", nil, 422, "smart protocol", ""},
		{"tamsin", "GET", here + "/info/refs?service=git-upload-pack", nil, 200, "service=git-upload-pack", ""},
		{"tamsin", "HEAD", here + "/info/refs?service=git-upload-pack", nil, 200, "", ""},
		{"tamsin", "GET", "/git/" + repo + "/info/refs?service=git-upload-pack", nil, 200, "service=git-upload-pack", ""},
		{"tamsin", "POST", here + "/info/refs?service=git-upload-pack", nil, 405, "GET, HEAD does", "GET, HEAD"},
		{"tamsin", "GET", here + "/git-upload-pack", nil, 405, "POST does", "POST"},
		{"tamsin", "PUT", here + "/git-receive-pack", nil, 405, "POST does", "POST"},
		{"tamsin", "POST", here + "/git-upload-pack", nil, 415, "application/x-git-upload-pack-request", ""},
		{"tamsin", "POST", here + "/git-receive-pack", fetches, 415, "application/x-git-receive-pack-request", ""},
		{"tamsin", "POST", here + "/git-upload-pack", fetches, 200, "", ""},
		{"tamsin", "POST", here + "/git-upload-pack", map[string]string{"Content-Type": fetches["Content-Type"] + "; charset=utf-8"}, 200, "", ""},
		{"tamsin", "POST", here + "/git-upload-pack", map[string]string{"Content-Type": fetches["Content-Type"], "Content-Encoding": "br"}, 415, "gzip is taken", ""},
		{"tamsin", "POST", here + "/git-upload-pack", map[string]string{"Content-Type": fetches["Content-Type"], "Content-Encoding": "x-gzip"}, 422, "said to be gzip", ""},
		{"", "GET", "/" + repo + "/info/refs?service=git-upload-pack", nil, 404, "git takes " + w.url + here, ""},
		{"", "GET", "/" + repo + ".git/info/refs?service=git-receive-pack", nil, 404, "git takes " + w.url + here, ""},
		{"", "GET", "/" + repo + "/changes/4/info/refs?service=git-upload-pack", nil, 404, "git takes " + w.url + here, ""},
		{"", "GET", "/info/refs?service=git-upload-pack", nil, 404, "/git/HOUSE/NAME.git", ""},
		{"", "GET", "/" + repo + "/info/refs", nil, 200, "<!doctype html", ""}, // a page of the console, for all it knows
		{"tamsin", "PATCH", "/api/v1/me", nil, 405, "GET does", "GET"},
		{"tamsin", "DELETE", "/api/v1/repositories/" + repo + "/rules", nil, 405, "GET, PUT does", "GET, PUT"},
	} {
		answer, text := ask(c.login, c.method, c.path, c.headers)
		if answer.StatusCode != c.status || !strings.Contains(text, c.says) || answer.Header.Get("Allow") != c.allow {
			t.Errorf("%s %s as %q: %d, Allow %q, %.200s", c.method, c.path, c.login, answer.StatusCode, answer.Header.Get("Allow"), text)
		}
		if strings.HasPrefix(c.path, "/git") && (answer.StatusCode == 401) != strings.HasPrefix(answer.Header.Get("WWW-Authenticate"), "Basic ") {
			t.Errorf("%s %s as %q: %d and WWW-Authenticate %q", c.method, c.path, c.login, answer.StatusCode, answer.Header.Get("WWW-Authenticate"))
		}
	}
}

// Partial clones, and commits fetched by id, in every version of the protocol; addresses with .git and without.
func TestStockGitInEveryProtocol(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	old := w.head(dir)
	k := w.propose("tamsin", "topic", "docs/a", "a\n")
	for _, version := range []string{"0", "1", "2"} {
		as := []string{"-c", "protocol.version=" + version}
		into := filepath.Join(t.TempDir(), "partial")
		w.must("ines", w.dir, append(as, "clone", "-q", "--filter=blob:none", strings.TrimSuffix(w.gitURL(), ".git"), into)...)
		if out := w.must("ines", into, "rev-list", "--objects", "--all", "--missing=print"); !strings.Contains(out, "\n?") {
			t.Errorf("version %s: nothing is missing from a partial clone:\n%s", version, out)
		}
		if out := w.must("ines", into, append(as, "show", k.Head+":docs/a")...); out != "a" { // fetched by its id, when it is wanted
			t.Errorf("version %s: the file reads %q", version, out)
		}
		fresh := filepath.Join(t.TempDir(), "fresh")
		w.must("ines", w.dir, "init", "-q", fresh)
		w.must("ines", fresh, append(as, "fetch", "-q", "--depth=1", w.gitURL(), k.Head)...)
		w.must("ines", fresh, append(as, "fetch", "-q", w.gitURL(), old)...)
		w.must("ines", fresh, "cat-file", "-e", old)
	}
}

// What a mirror has besides branches and tags is left out, in words; thousands of names go through. By itself, such a name is
// refused.
func TestAMirrorIsPushed(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	head := w.head(dir)
	w.must("ines", dir, "notes", "add", "-m", "read on the bench")
	w.must("ines", dir, "update-ref", "refs/stash", head)
	var names strings.Builder
	for i := range 1200 {
		fmt.Fprintf(&names, "create refs/tags/season/%d %s\n", i, head)
	}
	cmd := exec.Command("git", "-C", dir, "update-ref", "--stdin")
	cmd.Stdin = strings.NewReader(names.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	out, err := w.gitAs("ines", dir, "push", "--porcelain", "origin", "refs/heads/*:refs/heads/*", "refs/tags/*:refs/tags/*", "refs/notes/*:refs/notes/*",
		"refs/remotes/*:refs/remotes/*", "refs/stash:refs/stash")
	if err != nil {
		t.Fatalf("%v\n%.2000s", err, out)
	}
	has(t, out, "Left out: refs/", "Only branches and tags are kept here.")
	refs := w.must("ines", dir, "ls-remote", "origin")
	if n := strings.Count(refs, "refs/tags/season/"); n != 1200 || strings.Contains(refs, "refs/notes") || strings.Contains(refs, "refs/remotes") {
		t.Errorf("there are %d tags, and\n%.500s", n, refs)
	}
	if n := strings.Count(strings.Join(w.kinds(), " "), "tag.created"); n < 400 {
		t.Errorf("the journal's newest lines tell of %d tags", n)
	}
	out, err = w.gitAs("ines", dir, "push", "origin", "refs/notes/commits:refs/notes/commits")
	if err == nil {
		t.Error("notes alone went through")
	}
	has(t, out, "not a branch or tag")
	if out, err := w.gitAs("ines", dir, "push", "--atomic", "origin", head+":refs/heads/beside", "refs/notes/commits:refs/notes/commits"); err != nil {
		t.Errorf("what is left out holds up what is pushed beside it: %v\n%s", err, out)
	}
	// Of new names that are made together, one that Git cannot make takes no other with it.
	out, err = w.gitAs("ines", dir, "push", "origin", head+":refs/heads/yard", head+":refs/heads/yard/shed", head+":refs/heads/zone")
	if err == nil || w.tip("yard") != head && w.tip("yard/shed") != head || w.tip("zone") != head {
		t.Errorf("yard is at %q, yard/shed at %q, zone at %q: %v\n%s", w.tip("yard"), w.tip("yard/shed"), w.tip("zone"), err, out)
	}
	w.says("admin", 0, "", "journal", "verify")
}
