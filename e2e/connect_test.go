package e2e

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"tavrin/internal/headless"
	"tavrin/internal/outbound"
	"tavrin/wire"
)

const benched = `tavrin: rules/1
checks: {field-bench: {reported_by: robot:reports-field-bench}}
protect:
  - name: trunk
    branches: main
    push: nobody
    require: [{checks: field-bench}]
    land: {strategies: [rebase]}
`

// What the command prints to paste is a whole checks system, which knows its token, and its webhook's secret, and nothing else:
// what it passes lands, what it fails does not.
func TestAConnectedChecksSystemGatesTheLanding(t *testing.T) {
	t.Parallel()
	for script, interpreter := range map[string]string{"poll": "sh", "receiver": "python3"} {
		t.Run(script, func(t *testing.T) {
			if _, err := exec.LookPath(interpreter); err != nil {
				t.Skipf("%s is not installed", interpreter)
			}
			w := newTown(t)
			at := freeAddress(t)
			l, err := outbound.NewList([]string{"http://" + at})
			w.ok(err)
			w.outside = l
			w.close()
			w.reopen()
			w.begin(benched)
			connect := func(more ...string) []string {
				return append([]string{"check", "connect", "field-bench", "--repo", repo}, more...)
			}
			w.says("odo", 1, "this needs the role maintainer", connect()...)
			said := w.says("ines", 0, "tavrin check connect", connect("--url", "http://"+at+"/")...)
			env := map[string]string{"CHECK": "sh bench.sh", "PORT": at[strings.LastIndex(at, ":")+1:]}
			for line := range strings.Lines(said) {
				if name, value, is := strings.Cut(strings.TrimSpace(line), "="); is && strings.HasPrefix(name, "export ") {
					env[strings.TrimPrefix(name, "export ")] = value
				}
			}
			if env["TAVRIN_TOKEN"] == "" || env["TAVRIN_WEBHOOK_SECRET"] == "" {
				t.Fatalf("the command says\n%s", said)
			}
			file := filepath.Join(w.dir, script)
			text := w.says("pavo", 0, "field-bench", connect("--script", script)...)
			w.ok(os.WriteFile(file, []byte(text), 0o600))
			cmd := exec.Command(interpreter, file)
			cmd.Dir = t.TempDir()
			cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + cmd.Dir, "TMPDIR=" + cmd.Dir}
			for name, value := range env {
				cmd.Env = append(cmd.Env, name+"="+value)
			}
			cmd.Stderr = os.Stderr
			out, err := cmd.StdoutPipe()
			w.ok(err)
			w.ok(cmd.Start())
			t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
			if script == "receiver" {
				line, err := bufio.NewReader(out).ReadString('\n')
				w.ok(err)
				has(t, line, "listening on")
			}
			good, bad := w.propose("tamsin", "good", "bench.sh", "echo it opens and closes\n"), w.propose("wren", "bad", "bench.sh", "exit 1\n")
			w.join("tamsin", good, "")
			w.landed(good)
			if script == "receiver" {
				way := w.says("pavo", 0, "verdict", connect("--watch")...)
				has(t, way, "asked", "delivered", "by webhook asks for field-bench", "fetched", "running", "by reports-field-bench", "passed: it opens and closes")
			}
			dir := w.clone("wren")
			w.must("wren", dir, "checkout", "-q", "-B", "bad", "origin/main")
			w.commit("wren", dir, "bench.sh", "exit 1\n", "bad")
			w.must("wren", dir, "push", "-q", "--force", "origin", "bad")
			w.join("wren", bad, "")
			has(t, w.ejected(bad).Entry.Reason, "field-bench failed")
		})
	}
}

// A worker that waits is answered as soon as something is asked of it, and what it may not take is said.
func TestWaitingForWork(t *testing.T) {
	w := newTown(t)
	w.begin(benched)
	token, err := w.as("ines").ConnectCheck(t.Context(), repo, "field-bench", "reports-field-bench")
	w.ok(err)
	w.tokens["bench"] = token.Secret
	taken := make(chan *wire.Check, 1)
	go func() {
		k, err := w.as("bench").ClaimCheck(t.Context(), repo, "field-bench", 25*time.Second)
		if err != nil {
			t.Error(err)
		}
		taken <- k
	}()
	k := w.propose("tamsin", "good", "a", "a\n")
	w.join("tamsin", k, "")
	if got := <-taken; got == nil || got.Commit != w.rehearsed(k) || got.AskedFor == "" || got.Change != k.Number || got.Target != "main" {
		t.Errorf("it took %+v", got)
	}
	if got, err := w.as("bench").ClaimCheck(t.Context(), repo, "field-bench", 0); err != nil || got != nil {
		t.Errorf("a second took %+v, %v", got, err)
	}
	// A maintainer connects with robots of their own only: with another's they could say what only that one may (P7).
	_, err = w.as("ines").ConnectCheck(t.Context(), repo, "field-bench", "builder")
	problem(t, err, 403, "is not one that the maintainers of growers/irrigation made")
	_, err = w.as("ines").ConnectCheck(t.Context(), repo, "field-bench", "odo")
	problem(t, err, 422, "odo is a person")
	_, err = w.as("odo").ConnectCheck(t.Context(), repo, "field-bench", "mine")
	problem(t, err, 403, "maintainer")
	w.says("pavo", 0, "", "check", "connect", "unasked", "--repo", repo, "--script", "curl")
	w.says("pavo", 3, "nobody has asked for it yet", "check", "connect", "unasked", "--repo", repo, "--watch", "--timeout", "1s")
}

// A checks system is connected in the console, and what is sent to it is looked at there.
func consoleConnectsAChecksSystem(t *testing.T) {
	w := aloneTown(t)
	d := w.aDestination()
	w.begin(benched)
	p := w.visit()
	p.signIn("ines")
	p.open("/growers/irrigation")
	p.do(clicking(`a[href="/growers/irrigation/connect"]`))
	p.shows("Choose the check that a system outside is to answer for.")
	p.do(chromedp.SendKeys(chromedp.CSS("#check"), "field-bench"), chromedp.SendKeys(chromedp.CSS("#url"), d.URL+"/"))
	p.shows("field-bench: not asked yet.", "a worker that asks for work", "call /claims")
	p.press("Make its token")
	p.shows("Confirm who you are")
	p.do(chromedp.WaitVisible(chromedp.CSS("#again")), chromedp.SendKeys(chromedp.CSS("#again"), w.tokens["ines"]+"\r"))
	p.shows("export TAVRIN_TOKEN=tvr_", "export TAVRIN_WEBHOOK_SECRET=whsec_")
	k := w.propose("tamsin", "good", "a", "a\n")
	w.join("tamsin", k, "")
	p.shows("field-bench: not fetched yet.", "by webhook asks for field-bench")
	// What a check says about a line stands at the line.
	_, err := w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: k.Head, Name: "unit", State: "failed", Seconds: 75,
		Numbers: map[string]float64{"coverage": 81.4}, Annotations: []wire.Annotation{{Path: "a", Line: 1, Level: "error", Text: "it never closes"}}})
	w.ok(err)
	p.open("/growers/irrigation/changes/1")
	p.shows("1 min 15 s", "coverage 81.4", "a:1 error it never closes")
	p.do(headless.Script(`document.querySelector('#difference').scrollIntoView()`))
	p.shows("error: it never closes (unit)")
	p.open("/growers/irrigation/webhooks")
	p.shows("1 webhook, all well.", "check field-bench was asked for on")
	p.press("Send a test")
	p.shows("Try 1: answered 200", "webhook-signature: v1,")
	d.mu.Lock()
	d.status = 503
	d.mu.Unlock()
	p.press("Send a test")
	p.shows("it answered 503 Service Unavailable")
	p.press("Switch off")
	p.shows("1 webhook, 1 of them failing or off.", "off: it was switched off")
	p.do(chromedp.SendKeys(chromedp.CSS("#name"), "elsewhere"), chromedp.SendKeys(chromedp.CSS("#url"), "https://elsewhere.example/x"))
	p.press("Make it")
	p.shows("is not among the destinations that the administrator allows; it is allowed with: tavrin serve --allow-destination https://elsewhere.example/x")
	// Two calls were to be refused, and the browser tells of that; of nothing else.
	p.mu.Lock()
	p.troubles = slices.DeleteFunc(p.troubles, func(what string) bool {
		return strings.Contains(what, "status of 403 (Forbidden)") || strings.Contains(what, "status of 422 (Unprocessable Entity)")
	})
	p.mu.Unlock()
	p.untroubled()
}
