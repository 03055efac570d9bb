package e2e

import (
	"fmt"
	"net/http"
	"os/exec"
	"strconv"
	"strings"
	"testing"

	"tavrin/internal/service"
	"tavrin/wire"
)

// Each bound on what is sent, at its edge: one thing is measured, then sent to a service that takes one less, which refuses it
// by the bound's name and keeps nothing of it, and to one that takes just as much.
func TestEachBoundAtItsEdge(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	main := w.tip("main")
	ctx := t.Context()
	size := func(id string) int64 { return w.number(dir, "cat-file", "-s", id) }
	branch := func(name string) {
		w.must("ines", dir, "checkout", "-q", "-B", name, main)
	}
	push := func(refs ...string) (string, error) {
		return w.gitAs("ines", dir, append([]string{"push", "origin"}, refs...)...)
	}

	branch("several")
	var refs []string
	for i := range 5 {
		refs = append(refs, fmt.Sprintf("HEAD:refs/heads/several%d", i))
	}
	commands := []string{fmt.Sprintf("%s %s refs/heads/named", strings.Repeat("0", 40), main), fmt.Sprintf("%s %s refs/heads/named2", strings.Repeat("0", 40), main)}
	branch("packed")
	packed := w.commit("ines", dir, "packed", "packed\n", "packed")
	pack := exec.Command("git", "pack-objects", "--revs", "--stdout", "--thin", "-q")
	pack.Dir, pack.Stdin = dir, strings.NewReader(packed+"\n^"+main+"\n")
	objects, err := pack.Output()
	w.ok(err)
	branch("wordy")
	wordy := w.commit("ines", dir, "w", "w\n", "wordy\n\n"+strings.Repeat("word ", 100))
	branch("deep")
	w.commit("ines", dir, "one/two/three/four/five/file", "d\n", "deep")
	branch("many")
	w.commit("ines", dir, "many/a", "a\n", "many")
	w.commit("ines", dir, "many/b", "b\n", "more")
	files := int64(len(strings.Split(w.must("ines", dir, "ls-tree", "-r", "--name-only", "HEAD"), "\n")))
	branch("said")
	said := size(w.commit("ines", dir, "s", "s\n", "one")) + size(w.commit("ines", dir, "s", "t\n", "two, and more of it"))
	branch("wide")
	w.commit("ines", dir, "wide/a", "a\n", "wide")
	w.must("ines", dir, "rm", "-q", "wide/a")
	w.commit("ines", dir, "wide/b", "b\n", "wider")
	w.must("ines", dir, "push", "-q", "origin", "said", "wide")
	open := func(source string) func() (string, error) {
		return func() (string, error) {
			_, err := w.as("ines").OpenChange(ctx, repo, wire.NewChange{Source: source, Title: source})
			return fmt.Sprint(err), err
		}
	}

	for _, c := range []struct {
		bound string
		just  int64
		send  func() (string, error)
	}{
		{"push.refs", 5, func() (string, error) { return push(refs...) }},
		{"push.command-bytes", int64(len(strings.Join(commands, ""))) + int64(len("\x00report-status")), func() (string, error) {
			out := w.rawPush("ines", dir, commands, "^"+main+"\n")
			return out, unless(strings.Contains(out, "ok refs/heads/named2"))
		}},
		{"push.pack-bytes", int64(len(objects)), func() (string, error) {
			out := w.rawPush("ines", dir, []string{strings.Repeat("0", 40) + " " + packed + " refs/heads/packed"}, packed+"\n^"+main+"\n")
			return out, unless(strings.Contains(out, "ok refs/heads/packed"))
		}},
		{"push.text-bytes", size(wordy), func() (string, error) { return push("wordy") }},
		{"push.tree-depth", 5, func() (string, error) { return push("deep") }},
		{"push.tree-paths", files, func() (string, error) { return push("many") }},
		{"change.message-bytes", said, open("said")},
		{"change.paths", 2, open("wide")},
	} {
		w.close()
		w.open(service.Options{Bounds: bound(t, fmt.Sprintf("%s=%d", c.bound, c.just-1), "calls.token=100000")})
		w.must("ines", dir, "remote", "set-url", "origin", w.gitURL())
		before := w.must("ines", dir, "ls-remote", "origin")
		out, err := c.send()
		if err == nil {
			t.Errorf("%s=%d: it was taken", c.bound, c.just-1)
		}
		has(t, out, fmt.Sprintf("the bound %s is %d", c.bound, c.just-1))
		if after := w.must("ines", dir, "ls-remote", "origin"); after != before {
			t.Errorf("%s: something of it was kept:\n%s\n%s", c.bound, before, after)
		}
		w.close()
		w.open(service.Options{Bounds: bound(t, fmt.Sprintf("%s=%d", c.bound, c.just), "calls.token=100000")})
		w.must("ines", dir, "remote", "set-url", "origin", w.gitURL())
		if out, err := c.send(); err != nil {
			t.Errorf("%s=%d: it was refused: %v\n%s", c.bound, c.just, err, out)
		}
	}
}

// Texts that are laid out: at the bound they are, and beyond it they are shown as they were typed.
func TestMarkdownAtItsBounds(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	edits := 0
	text := func() string { return fmt.Sprintf("*neat* %03d ", edits) + strings.Repeat("water ", 50) + "." }
	edit := func() string {
		edits++ // another text each time, so that it is laid out anew
		text := text()
		_, err := w.as("tamsin").EditChange(t.Context(), repo, k.Number, wire.ChangeEdit{Description: &text})
		w.ok(err)
		return w.openedAs(1).DescriptionHTML
	}
	html := edit()
	has(t, html, "<em>neat</em>")
	for name, just := range map[string]int{"markdown.bytes": len(text()), "markdown.html-bytes": len(html)} {
		for less, want := range map[int]string{0: "<em>neat</em>", 1: "*neat*"} {
			w.close()
			w.open(service.Options{Bounds: bound(t, fmt.Sprintf("%s=%d", name, just-less))})
			if html := edit(); !strings.Contains(html, want) {
				t.Errorf("%s=%d: %q", name, just-less, html)
			}
		}
	}
}

// Calls without a sign-in, from one address: as many as the bound, and then no more. (A minute that ends meanwhile lets one or
// two more pass, which is counted in.)
func TestCallsFromOneAddressAtTheirBound(t *testing.T) {
	w := newTown(t)
	w.close()
	w.open(service.Options{Bounds: bound(t, "calls.address=20")})
	passed := 0
	for i := range 60 {
		res, err := http.Get(w.url + "/api/v1/me")
		w.ok(err)
		res.Body.Close()
		if res.StatusCode != http.StatusTooManyRequests {
			passed++
		} else if i < 20 {
			t.Errorf("call %d was turned away", i+1)
		}
	}
	if passed > 30 {
		t.Errorf("%d of 60 calls passed", passed)
	}
}

// unless is an error unless something is so.
func unless(so bool) error {
	if so {
		return nil
	}
	return fmt.Errorf("refused")
}

// number is the number that git prints.
func (w *town) number(dir string, args ...string) int64 {
	w.t.Helper()
	n, err := strconv.ParseInt(w.must("ines", dir, args...), 10, 64)
	w.ok(err)
	return n
}
