// Command shots takes the pictures in docs/screenshots from a running demonstration: pages of the console, and
// what the main commands print.
//
//	go run ./e2e/shots -url http://127.0.0.1:7420 -tokens DIR -out docs/screenshots [NAME …]
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"html"
	"log"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	data "tavrin/demo"
	"tavrin/internal/headless"
)

// picture is one picture to take: of a page, or of a command's output.
type picture struct {
	name, path, command string
	who                 string // empty: nobody is signed in
	dark                bool
	width, height       int64
	script              string // run on the page before the picture is taken
}

const irrigation = "/growers/irrigation"

// busy waits until something is rehearsed.
const busy = `(async () => { for (let i = 0; i < 600 && document.body.innerText.split('its checks run').length < 3; i++) await new Promise((r) => setTimeout(r, 50)) })()`

// foreseen describes some work, and waits for its forecast.
const foreseen = `(async () => {
  const wait = (f) => new Promise((r) => { const t = setInterval(() => { const x = f(); if (x) { clearInterval(t); r(x); } }, 50); });
  const set = (el, v) => { el.value = v; el.dispatchEvent(new Event('input', {bubbles: true})); };
  const box = await wait(() => document.querySelector('form input[type=checkbox]'));
  box.click();
  await wait(() => document.querySelectorAll('form input[type=number]').length > 6);
  const n = document.querySelectorAll('form input[type=number]');
  set(n[0], '12'); set(n[2], '2');
  set(n[4], '12'); set(n[9], '20');
  document.querySelector('form button[type=submit]').click();
  await wait(() => document.querySelector('polyline'));
})()`

// typed types a document into the editor and waits until it was tried.
func typed(text string) string {
	quoted, err := json.Marshal(text)
	if err != nil {
		log.Fatal(err)
	}
	return fmt.Sprintf(`(async () => {
  const wait = (ms) => new Promise((r) => setTimeout(r, ms));
  for (let i = 0; i < 100 && !document.querySelector('#document')?.value; i++) await wait(50);
  const field = document.querySelector('#document');
  field.value = %s;
  field.dispatchEvent(new Event('input', { bubbles: true }));
  await wait(1500);
})()`, quoted)
}

// after waits, and then runs something on the page and waits again.
func after(script string) string {
	return `(async () => { const wait = (ms) => new Promise((r) => setTimeout(r, ms)); await wait(900); ` + script + `; await wait(900) })()`
}

var pictures = []picture{
	{name: "desk", path: "/", who: "ines"},
	{name: "repository", path: irrigation, who: "ines"},
	{name: "changes", path: irrigation + "/changes", who: "ines"},
	{name: "propose", path: irrigation + "/propose?source=field-app/colours", who: "wren"},
	{name: "change", path: irrigation + "/changes/4", who: "ines"},
	{name: "change-dark", path: irrigation + "/changes/5", who: "wren", dark: true, height: 1500},
	{name: "webhooks", path: irrigation + "/webhooks", who: "ines", script: after(`[...document.querySelectorAll('main button')].find((b) => b.innerText.includes('Send a test')).click()`)},
	{name: "queue", path: irrigation + "/queue", who: "ines", script: busy},
	{name: "numbers", path: irrigation + "/queue/numbers", who: "ines", script: after(`const box = document.querySelector('main input[type=number]'); box.value = '2'; box.dispatchEvent(new Event('input', {bubbles: true}));`)},
	{name: "forecast", path: irrigation + "/queue/forecast", who: "ines", script: foreseen},
	{name: "rules", path: irrigation + "/rules", who: "ines", script: "document.querySelector('main li button')?.click()"},
	{name: "rules-edit", path: irrigation + "/rules/edit", who: "ines", script: typed(data.TooStrict())},
	{name: "areas", path: irrigation + "/areas?path=ledger/tariff.csv", who: "ines"},
	{name: "files", path: irrigation + "/files?path=docs/members.md", who: "ines", script: after(`[...document.querySelectorAll('main button')].find((b) => b.innerText.includes('Which change'))?.click()`)},
	{name: "notifications", path: "/notifications", who: "tamsin"},
	{name: "journal", path: irrigation + "/journal", who: "ines"},
	{name: "command-gate", command: "tavrin change gate 5", who: "ines"},
	{name: "command-rules", command: "tavrin rules explain --branch main", who: "ines"},
	{name: "command-lint", command: "tavrin rules lint too-strict.rules.yaml", who: "ines"},
}

func main() {
	service := flag.String("url", "http://127.0.0.1:7420", "the demonstration's address")
	tokens := flag.String("tokens", "", "folder with the demonstration's token files")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	one := picture{name: "page"}
	flag.StringVar(&one.path, "page", "", "take a picture of this page only, as page.png")
	flag.StringVar(&one.who, "as", "ines", "who is signed in on that page")
	flag.StringVar(&one.script, "script", "", "what is run on that page first")
	flag.BoolVar(&one.dark, "dark", false, "in the dark colours")
	flag.Int64Var(&one.width, "width", 0, "width of the window")
	flag.Int64Var(&one.height, "height", 0, "height of the window")
	flag.Parse()
	if one.path != "" {
		pictures = []picture{one}
	}
	if err := run(*service, *tokens, *out, flag.Args()); err != nil {
		log.Fatal(err)
	}
}

func run(service, tokens, out string, only []string) error {
	profile, err := os.MkdirTemp("", "tavrin-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(profile)
	browser, end, err := headless.Start(context.Background(), profile)
	if err != nil {
		return err
	}
	defer end()
	for _, p := range pictures {
		if len(only) > 0 && !slices.Contains(only, p.name) {
			continue
		}
		if err := take(browser, service, tokens, out, p); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
	}
	return nil
}

func take(browser context.Context, service, tokens, out string, p picture) error {
	tab, cancel := chromedp.NewContext(browser)
	defer cancel()
	tab, cancelTime := context.WithTimeout(tab, time.Minute)
	defer cancelTime()
	token := ""
	if p.who != "" {
		text, err := os.ReadFile(filepath.Join(tokens, p.who+".token"))
		if err != nil {
			return err
		}
		token = strings.TrimSpace(string(text))
	}
	if p.width == 0 {
		p.width = 1280
	}
	if p.height == 0 {
		p.height = 800
	}
	steps := []chromedp.Action[chromedp.Void]{chromedp.EmulateViewport(p.width, p.height)}
	if p.command != "" {
		steps = append(steps, chromedp.Navigate("data:text/html,"+url.PathEscape(terminal(service, token, p.command))))
	} else {
		signedIn := fmt.Sprintf(`fetch('/api/v1/session', {method: %q, headers: {'Content-Type': 'application/json'}, body: JSON.stringify({token: %q})}).then(() => { localStorage.setItem('theme', %q) })`,
			map[bool]string{true: "POST", false: "DELETE"}[token != ""], token, map[bool]string{true: "dark", false: "light"}[p.dark])
		if token == "" {
			signedIn = `fetch('/api/v1/session', {method: 'DELETE'}).then(() => { localStorage.setItem('theme', 'light') })`
		}
		steps = append(steps, chromedp.Navigate(service+"/healthz"), headless.Script(signedIn), chromedp.Navigate(service+p.path))
	}
	if err := chromedp.Do(tab, steps...); err != nil {
		return err
	}
	time.Sleep(1500 * time.Millisecond)
	if p.script != "" {
		if err := chromedp.Do(tab, headless.Script(p.script)); err != nil {
			return err
		}
		time.Sleep(400 * time.Millisecond)
	}
	if p.command != "" { // a picture of a command ends where what it printed ends
		tall, err := chromedp.Run(tab, chromedp.Evaluate[int64](`document.querySelector('pre').offsetHeight`))
		if err != nil {
			return err
		}
		if err := chromedp.Do(tab, chromedp.EmulateViewport(p.width, tall+40)); err != nil {
			return err
		}
	}
	picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(out, p.name+".png"), picture, 0o644)
}

// terminal is a page that looks like a terminal in which the command was run.
func terminal(service, token, command string) string {
	cmd := exec.Command("sh", "-c", command+" --repo growers/irrigation")
	cmd.Dir = "demo/drafts" // where the drafts are that commands read
	cmd.Env = append(os.Environ(), "TAVRIN_URL="+service, "TAVRIN_TOKEN="+token)
	text, _ := cmd.CombinedOutput() // a status other than 0 may be the answer
	return `<meta charset="utf-8"><style>body{margin:0;padding:20px;background:#11191d;color:#e8e4d9;font:12px/1.55 "DejaVu Sans Mono",monospace}pre{margin:0;white-space:pre-wrap}b{color:#7cc7bd;font-weight:normal}</style><pre><b>$ ` +
		html.EscapeString(command) + `</b>` + "\n" + html.EscapeString(string(text)) + `</pre>`
}
