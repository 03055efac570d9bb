package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	cdplog "github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"tavrin/internal/headless"
	"tavrin/internal/service"
	"tavrin/wire"
)

// TestInTheBrowser runs what drives the console, one after the other, beside the tests that drive none: a browser takes a whole
// processor.
func TestInTheBrowser(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		test func(*testing.T)
	}{
		{"ConsoleTellsTheWholeStory", consoleTellsTheWholeStory},
		{"ConsoleObjectsWithdrawsAndCloses", consoleObjectsWithdrawsAndCloses},
		{"ConsoleIsAccessible", consoleIsAccessible},
		{"TwoBrowsersAndATerminal", twoBrowsersAndATerminal},
		{"ManyTabsShareOneStream", manyTabsShareOneStream},
		{"ConsoleWaiver", consoleWaiver},
		{"LargeDifferenceIsReadInParts", largeDifferenceIsReadInParts},
		{"ConsoleProposesAndAlters", consoleProposesAndAlters},
		{"ConsoleShowsWhatIsNotSeen", consoleShowsWhatIsNotSeen},
		{"ConsoleNeverTakesAPressForWhatWasReplaced", consoleNeverTakesAPressForWhatWasReplaced},
		{"ConsoleEditsRules", consoleEditsRules},
		{"ConsoleConnectsAChecksSystem", consoleConnectsAChecksSystem},
		{"ConsoleForeseesAQueue", consoleForeseesAQueue},
	} {
		t.Run(c.name, c.test)
	}
}

// theBrowser is one browser for the package; each test has a context of its own in it.
var theBrowser struct {
	sync.Mutex
	ctx     context.Context
	end     context.CancelFunc
	profile string
}

func closeBrowser() {
	if theBrowser.end != nil {
		theBrowser.end()
		os.RemoveAll(theBrowser.profile)
	}
}

// page is one tab, and what went wrong in it.
type page struct {
	*town
	ctx      context.Context
	mu       sync.Mutex
	troubles []string
}

// visit opens a tab in a fresh browser context, at 1280 by 800. It notes errors, reports of the content security
// policy, and requests that leave the origin.
func (w *town) visit() *page {
	w.t.Helper()
	theBrowser.Lock()
	defer theBrowser.Unlock()
	if theBrowser.ctx == nil {
		profile, err := os.MkdirTemp("", "tavrin-browser-")
		w.ok(err)
		ctx, end, err := headless.Start(context.Background(), profile)
		w.ok(err)
		theBrowser.ctx, theBrowser.end, theBrowser.profile = ctx, end, profile
	}
	return w.tab(theBrowser.ctx, chromedp.WithNewBrowserContext())
}

// another opens another tab beside this one: signed in as it is.
func (p *page) another() *page {
	p.t.Helper()
	return p.tab(p.ctx)
}

func (w *town) tab(beside context.Context, options ...chromedp.ContextOption) *page {
	w.t.Helper()
	ctx, cancel := chromedp.NewContext(beside, options...)
	w.t.Cleanup(cancel)
	p := &page{town: w, ctx: ctx}
	origin, err := url.Parse(w.url)
	w.ok(err)
	w.ok(chromedp.Listen(ctx, func(event any) {
		p.mu.Lock()
		defer p.mu.Unlock()
		switch e := event.(type) {
		case *runtime.EventExceptionThrown:
			p.troubles = append(p.troubles, "exception: "+e.ExceptionDetails.Text)
		case *cdplog.EventEntryAdded:
			if e.Entry.Level == "error" && !strings.Contains(e.Entry.Text, "401") && !strings.Contains(e.Entry.Text, "409") {
				p.troubles = append(p.troubles, e.Entry.Text)
			}
		case *network.EventRequestWillBeSent:
			if u, err := url.Parse(e.Request.URL); err == nil && u.Scheme != "data" && u.Scheme != "blob" && u.Host != origin.Host {
				p.troubles = append(p.troubles, "a request leaves the origin: "+e.Request.URL)
			}
		}
	}))
	p.do(chromedp.EmulateViewport(1280, 800))
	return p
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, time.Minute)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		text, _ := chromedp.Run(p.ctx, chromedp.Text(chromedp.CSS("body")))
		p.t.Fatalf("%v\nthe page says:\n%s", err, text)
	}
}

// shows waits until the page's text holds these words.
func (p *page) shows(words ...string) {
	p.t.Helper()
	for _, w := range words {
		text, _ := json.Marshal(w)
		p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			for {
				said, err := chromedp.Evaluate[bool](fmt.Sprintf("document.body?.innerText.includes(%s) ?? false", text))(ctx, t)
				if said {
					return nil
				}
				select {
				case <-ctx.Done():
					return fmt.Errorf("the page never says %s: %w", text, errors.Join(ctx.Err(), err))
				case <-time.After(40 * time.Millisecond):
				}
			}
		}))
	}
}

// press presses the button with this text, as soon as there is one that can be pressed: one that is neither about to be
// replaced nor in a part of the page that is still at work, and the only one that says so: of two, the first may be any.
func (p *page) press(text string) { p.t.Helper(); p.pressIn("main", text) }

// dialog presses a button of the dialog that is open.
func (p *page) dialog(text string) { p.t.Helper(); p.pressIn("dialog, [role=dialog]", text) }

func (p *page) pressIn(place, text string) {
	p.t.Helper()
	quoted, _ := json.Marshal(text)
	p.do(headless.Script(fmt.Sprintf(`(async () => {
  let found = [];
  for (let i = 0; i < 2000; i++) {
    found = [...document.querySelectorAll(':is(%[2]s) button')].filter((b) => b.innerText.trim() === %[1]s && !b.disabled && !b.closest('[inert], body [aria-busy=true]'));
    if (found.length === 1) return found[0].click();
    await new Promise((r) => setTimeout(r, 25));
  }
  throw new Error(found.length + ' buttons ' + %[1]s);
})()`, quoted, place)))
}

// bringing brings what a selector finds into view, as soon as it is there.
func bringing(css string) chromedp.Action[chromedp.Void] {
	quoted, _ := json.Marshal(css)
	return headless.Script(fmt.Sprintf(`(async () => {
  for (let i = 0; i < 2000; i++) {
    const found = document.querySelector(%[1]s);
    if (found) return found.scrollIntoView();
    await new Promise((r) => setTimeout(r, 25));
  }
  throw new Error('nothing to bring into view: ' + %[1]s);
})()`, quoted))
}

// still waits until the page shows what it was opened for: every answer has come, and nothing moves any more.
func (p *page) still() {
	p.t.Helper()
	p.do(headless.Script(`(async () => {
  for (let quiet = 0, i = 0; quiet < 3; i++) {
    if (i > 2000) throw new Error('the page never comes to rest');
    await new Promise((r) => setTimeout(r, 20));
    const moving = document.getAnimations().some((a) => a.playState === 'running');
    const there = document.querySelector('main h1')?.checkVisibility();
    quiet = there && document.documentElement.dataset.awaits === '0' && !moving ? quiet + 1 : 0;
  }
})()`))
}

// clicking clicks what a selector finds, as soon as it is there and neither about to be replaced nor at work. The page's own
// event is used: a pointer would go to a place, where by then something else may stand.
func clicking(css string) chromedp.Action[chromedp.Void] {
	quoted, _ := json.Marshal(css)
	return headless.Script(fmt.Sprintf(`(async () => {
  for (let i = 0; i < 2000; i++) {
    const found = document.querySelector(%[1]s);
    if (found && !found.disabled && !found.closest('[inert], body [aria-busy=true]')) { found.scrollIntoView({ block: 'nearest' }); return found.click(); }
    await new Promise((r) => setTimeout(r, 25));
  }
  throw new Error('nothing to click: ' + %[1]s);
})()`, quoted))
}

// reads waits until the difference shows what was chosen of the change, such as "revision=1" or "revision=1&commit=…", with
// every line that is in view: what stands in the page before and after does not say that.
func (p *page) reads(what string) {
	p.t.Helper()
	p.do(chromedp.WaitVisible(chromedp.CSS(fmt.Sprintf(`#difference [data-shows=%q][aria-busy=false]`, what))))
}

// choose chooses in the difference's list what has these words, and waits until it is shown.
func (p *page) choose(words, shows string) {
	p.t.Helper()
	quoted, _ := json.Marshal(words)
	p.do(headless.Script(fmt.Sprintf(`(async () => {
  for (let i = 0; i < 2000; i++) {
    const s = document.querySelector('#difference select');
    const option = s && [...s.options].find((o) => o.text.includes(%s));
    if (option) { s.value = option.value; return s.dispatchEvent(new Event('change', { bubbles: true })); }
    await new Promise((r) => setTimeout(r, 25));
  }
  throw new Error('nothing to choose');
})()`, quoted)))
	p.reads(shows)
}

func (p *page) open(path string) { p.t.Helper(); p.do(chromedp.Navigate(p.url + path)) }

// turnTo goes to another place without loading the console anew, as a link does.
func (p *page) turnTo(path string) {
	p.t.Helper()
	quoted, _ := json.Marshal(path)
	p.do(headless.Script(fmt.Sprintf(`history.pushState(null, '', %s); dispatchEvent(new PopStateEvent('popstate'))`, quoted)))
}

func (p *page) signIn(login string) {
	p.t.Helper()
	p.open("/")
	p.do(chromedp.WaitVisible(chromedp.CSS("#token")), chromedp.SendKeys(chromedp.CSS("#token"), p.tokens[login]+"\r"))
	p.shows("Desk", "Repositories", "Sign out")
}

// untroubled fails the test when something went wrong in the page.
func (p *page) untroubled() {
	p.t.Helper()
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, trouble := range p.troubles {
		p.t.Error(trouble)
	}
}

// The whole story in the console: sign in, see what protects a branch, read a change, approve it, ask for it to
// land, and see it land without loading the page again.
func consoleTellsTheWholeStory(t *testing.T) {
	w := aloneTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "tamsin/east", "valves/east", "open\nclose\n")
	reviewer, author := w.visit(), w.visit()

	reviewer.open("/growers/irrigation/changes/1")
	reviewer.do(chromedp.SendKeys(chromedp.CSS("#token"), "tvr_WRONG\r"))
	reviewer.shows("this token is not known")
	reviewer.signIn("odo")
	reviewer.shows("growers/irrigation", "version 1", "What waits for you", "1. Bring tamsin/east", "1 approval from an owner of valves")
	reviewer.do(clicking(`a[href="/growers/irrigation"]`))
	reviewer.shows("main (default)", "trunk", "not protected", "History of main")
	reviewer.do(chromedp.KeyEvent("c"))
	reviewer.shows("Bring tamsin/east", "Not ready for main")
	reviewer.do(clicking(`a[href="/growers/irrigation/changes/1"]`))
	reviewer.shows("Reviews", "shut, 0 of 1", "ines, odo or wren could give it", `"trunk" (rules version 1, line 9)`, "valves/east", "Revision 1")

	author.signIn("tamsin")
	author.open("/growers/irrigation/changes/1")
	author.shows("Not ready for main")
	author.press("See the commits that would land")
	author.shows("By rebase, on main at", "change valves/east", "as it is")
	author.press("Join the queue")
	author.shows("lands by itself when everything holds", "In the queue at place 1")

	reviewer.shows("Leave the queue") // it has heard of it
	reviewer.press("Approve")
	reviewer.shows("Your approval is on record.", "odo approved revision 1")
	author.shows("odo approved revision 1", "waiting for a robot that reports unit") // without anybody loading the page
	commit := w.rehearsed(k)
	queue := w.visit()
	queue.signIn("pavo")
	queue.open("/growers/irrigation/queue")
	queue.shows("Change 1 is rehearsed on main's tip", "unit: waiting")
	w.report(commit, "unit", "passed")
	author.shows("Change 1 has landed on main.")
	queue.shows("The queue of main is empty.", "landed as "+commit[:10])
	keeper := w.visit()
	keeper.signIn("ines")
	keeper.open("/growers/irrigation/queue")
	keeper.press("Hold the queue…")
	keeper.do(chromedp.SendKeys(`input[aria-label="Why"]`, "the pumps are moved"))
	keeper.press("Hold the queue")
	keeper.shows("main is held by ines.", "the pumps are moved, since")
	queue.shows("Nothing lands now: main is held by ines.") // it has heard of it
	keeper.press("Free it…")
	keeper.do(chromedp.SendKeys(`input[aria-label="Why"]`, "they stand"))
	keeper.press("Free the queue")
	keeper.shows("The queue of main is empty.", "Hold the queue…")
	queue.do(chromedp.KeyEvent("j"))
	queue.shows("change.landed", "tamsin joined change 1 to the queue of main")
	queue.do(chromedp.KeyEvent("f"))
	queue.shows("The root at the default branch.", "valves/")
	queue.do(clicking(`a[href="/growers/irrigation/files?path=valves"]`))
	queue.do(clicking(`a[href="/growers/irrigation/files?path=valves%2Feast"]`))
	queue.shows("close", commit[:10])
	queue.do(chromedp.KeyEvent("u"))
	queue.shows("Nobody pushes to it directly", "tavrin: rules/1")
	queue.do(chromedp.KeyEvent("?"))
	queue.shows("light or dark")
	for _, p := range []*page{reviewer, author, queue} {
		p.untroubled()
	}
}

// A review is for the revision on the screen: if a newer one came in between, nothing is recorded.
func consoleObjectsWithdrawsAndCloses(t *testing.T) {
	w := aloneTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	p := w.visit()
	p.signIn("ines")
	p.open("/growers/irrigation/changes/1")
	p.shows("Your review of revision 1")
	p.reads("revision=1")
	p.press("Object")
	p.shows("an objection or a comment needs words")
	p.do(chromedp.SendKeys(chromedp.CSS("#text"), "<script>alert(1)</script> not yet"))
	p.press("Object")
	p.shows("ines objected to revision 1", "<script>alert(1)</script> not yet")
	p.press("Withdraw my objection")
	p.shows("and took it back")
	// A question on a line of the difference, answered and resolved; a comment that needs no answer.
	p.do(clicking(`button[aria-label="Discuss line 1"]`))
	p.shows("a, line 1", "another number makes it a range")
	p.do(chromedp.SendKeys(chromedp.CSS("#speak"), "why one?"))
	p.press("Ask")
	p.shows("a, line 1", "· open", "why one?")
	p.do(clicking(`button[aria-label="Discuss line 1"]`), chromedp.SendKeys(chromedp.CSS("#speak"), "neat, **really**"))
	p.do(clicking(`[aria-label="Comment on the chosen lines"] button[aria-pressed]`))
	p.shows("neat, really")
	p.press("Add comment")
	p.do(chromedp.WaitVisible(chromedp.CSS("#thread-2")))
	p.shows("neat, really")
	// One of the whole file, in the one commit; and one's own words are altered.
	p.choose("change a", "revision=1&commit="+k.Head)
	p.do(clicking(`button[aria-label="Discuss the file a"]`))
	p.shows("a, the whole file, in commit ")
	p.do(chromedp.SendKeys(chromedp.CSS("#speak"), "fine"))
	p.press("Add comment")
	p.do(chromedp.WaitVisible(chromedp.CSS("#thread-3")))
	p.pressIn("#thread-3", "Edit comment")
	p.do(chromedp.SendKeys(chromedp.CSS("#alter-3"), ", and short"))
	p.press("Save")
	p.shows("fine, and short", "before: fine")
	p.pressIn("#thread-1", "Reply or resolve")
	p.do(chromedp.SendKeys(chromedp.CSS("#reply-1"), "because it is measured"))
	p.press("Reply")
	p.shows("because it is measured")
	p.do(chromedp.SendKeys(chromedp.CSS("#outcome-1"), "as agreed"))
	p.press("Resolve")
	p.shows("resolved by ines: as agreed")
	p.press("Close")
	p.shows("It is closed.")
	p.press("Reopen")
	p.shows("It is open again.")
	p.mu.Lock()
	p.troubles = nil // the refused objection is an answer 422, which the browser reports
	p.mu.Unlock()
	p.do(chromedp.KeyEvent("t"))
	p.untroubled()
}

// Every page, light and dark: no breach of accessibility rules that axe finds, no error, no request that leaves the
// origin, and no sideways scrolling at 400 pixels.
func consoleIsAccessible(t *testing.T) {
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("the console's packages are not installed: make build: %v", err)
	}
	w := aloneTown(t)
	hooked := w.aDestination()
	_, err = w.as("admin").CreateWebhook(t.Context(), wire.NewWebhook{Of: repo, Name: "builds", URL: hooked.URL, Events: []string{"check.*", "branch.*"}})
	w.ok(err)
	w.begin(strings.Replace(simple, "checks: [unit]", "checks: [unit, lint]", 1))
	k := w.propose("tamsin", "topic", "valves/east", "open\n")
	_, err = w.as("wren").Review(t.Context(), repo, k.Number, wire.NewReview{Verdict: "object", Revision: 1, Text: "a long word: " + strings.Repeat("water", 60)})
	w.ok(err)
	landed := w.propose("wren", "other-branch-with-a-rather-long-name-indeed", "b", strings.Repeat("long line ", 40)+"\n")
	w.approve("odo", landed)
	w.join("wren", landed, "squash")
	commit := w.rehearsed(landed)
	_, err = w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: commit, Name: "lint", State: "passed", Link: "https://checks.example/7"})
	w.ok(err)
	w.report(commit, "unit", "running")
	for _, n := range []wire.NewThread{{Path: "valves/east", First: 1, Text: "why?"}, {Text: "neat " + strings.Repeat("water", 60), NoAnswer: true}} {
		_, err = w.as("odo").BeginThread(t.Context(), repo, k.Number, n)
		w.ok(err)
	}
	p := w.visit()
	paths := []string{"/", "/growers/irrigation", "/growers/irrigation/changes", "/growers/irrigation/changes/1", "/growers/irrigation/changes/2", "/growers/irrigation/queue", "/growers/irrigation/queue/numbers", "/growers/irrigation/queue/forecast", "/growers/irrigation/queue/decisions",
		"/growers/irrigation/files", "/growers/irrigation/files?path=README.md&at=main", "/growers/irrigation/rules", "/growers/irrigation/rules/edit", "/growers/irrigation/areas", "/houses/growers/rules", "/houses/growers/rules/edit", "/growers/irrigation/journal", "/journal", "/notifications", "/growers/irrigation/changes?state=all&text=none", "/growers/irrigation/propose?source=topic", "/growers/irrigation/webhooks", "/growers/irrigation/connect?check=unit", "/nowhere/at/all"}
	// A theme alters colours alone, so that in the second one nothing but the contrast is looked at again.
	check := func(path, theme, only string) {
		found, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](fmt.Sprintf(`globalThis.awaited = axe.run(document, {resultTypes: ['violations']%s}).then((r) => r.violations.map((v) => v.id + ': ' + v.nodes.map((n) => n.html.slice(0, 160) + ' ' + n.failureSummary.slice(0, 200)).slice(0, 3).join(' | ')).join('\n'))`, only), chromedp.EvalAwaitPromise))
		w.ok(err)
		if found != "" {
			t.Errorf("%s, %s:\n%s", path, theme, found)
		}
	}
	turn := func(theme string) {
		p.do(clicking("header [aria-pressed]"))
		p.still()
		if is, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`document.documentElement.classList.contains('dark')`)); err != nil || is != (theme == "dark") {
			t.Fatalf("the page is not %s: %v", theme, err)
		}
	}
	look := func(path string) {
		p.still()
		p.do(headless.Script("if (!window.axe) {" + string(axe) + "};0"))
		check(path, "light", "")
		turn("dark")
		check(path, "dark", ", runOnly: ['color-contrast']")
		turn("light")
		p.do(chromedp.EmulateViewport(400, 800))
		p.still()
		width, err := chromedp.Run(p.ctx, chromedp.Evaluate[int](`document.documentElement.scrollWidth`))
		w.ok(err)
		if width > 400 {
			t.Errorf("%s is %d pixels wide on a screen of 400", path, width)
		}
		p.do(chromedp.EmulateViewport(1280, 800))
	}
	p.open("/")
	p.shows("Sign in")
	p.do(headless.Script(`localStorage.setItem('theme', 'light')`))
	p.open("/")
	p.shows("Sign in")
	look("sign in")
	p.signIn("ines")
	for _, path := range paths {
		p.turnTo(path)
		look(path)
	}
	p.untroubled()
}

// carried is a change that two browsers and a terminal carry from draft to clear.
type carried struct {
	*town
	number int
	pages  []*page
}

// agree fails the test unless every page and the terminal come to say the same of the gate: these words. What was pressed in a
// page is still on its way.
func (c *carried) agree(step string, words ...string) {
	c.t.Helper()
	var k struct {
		Summary  string `json:"summary"`
		Revision int    `json:"revision"`
	}
	lacks := func() bool {
		c.ok(json.Unmarshal([]byte(c.says("tamsin", 0, "", "change", "show", fmt.Sprint(c.number), "--repo", repo, "-o", "json")), &k))
		return slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(k.Summary, w) })
	}
	for i := 0; lacks(); i++ {
		if i > 200 {
			c.t.Fatalf("%s: the terminal says %q, not %q", step, k.Summary, words)
		}
		pause()
	}
	for _, p := range c.pages {
		p.shows(k.Summary, fmt.Sprintf("Your review of revision %d", k.Revision))
	}
}

// Two browsers and one terminal carry a change from draft to clear, with an objection, a suggestion, a fixup, a rebase and
// a second reviewer; every page and command agrees at every step.
func twoBrowsersAndATerminal(t *testing.T) {
	w := aloneTown(t)
	ines := w.begin(strings.Replace(simple, "      - objections: none\n", "      - objections: none\n      - threads: resolved\n", 1))
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "valves/east", "open east\nwait 20\nclose east\n", "Open the east valve")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	w.says("tamsin", 0, "opened change 1", "change", "open", "--source", "topic", "--title", "Open the east valve", "--draft", "--repo", repo)
	author, reviewer := w.visit(), w.visit()
	author.signIn("tamsin")
	reviewer.signIn("odo")
	for _, p := range []*page{author, reviewer} {
		p.open("/growers/irrigation/changes/1")
	}
	c := &carried{town: w, number: 1, pages: []*page{author, reviewer}}
	c.agree("a draft", "still a draft; needs 1 approval; needs 1 approval from an owner of valves")
	author.press("Publish")
	c.agree("finished", "needs 1 approval; needs 1 approval from an owner of valves (team:hydraulics)")

	// The reviewer suggests other lines and sends that together with an objection.
	reviewer.do(bringing(`#difference [data-shows]`), clicking(`button[aria-label="Discuss line 2"]`), chromedp.WaitVisible(chromedp.CSS("#speak")),
		chromedp.SendKeys(chromedp.CSS("#speak"), "too short"), clicking(`[aria-label="Comment on the chosen lines"] input[type=checkbox]`),
		chromedp.SendKeys(chromedp.CSS(`[aria-label="Comment on the chosen lines"] textarea.font-mono`), "5"))
	reviewer.press("Save as draft")
	reviewer.shows("Draft comments", "valves/east, line 2")
	c.agree("draft", "Not ready for main: needs 1 approval; needs 1 approval from an owner")
	reviewer.do(chromedp.SendKeys(chromedp.CSS("#text"), "the last rows stay dry"))
	reviewer.press("Object")
	author.shows("odo objected to revision 1", "too short", "suggests instead", "wait 205", "blocks the change until it is withdrawn")
	c.agree("objected", "odo objects; 1 thread open")

	// The author applies it with one click; it is resolved by that, and the reviewer is an author now.
	author.press("Apply")
	author.shows("1 resolved discussion")
	c.agree("applied", "odo objects.")
	w.must("tamsin", dir, "pull", "-q", "--ff-only", "origin", "topic")
	if got := w.must("tamsin", dir, "show", "HEAD:valves/east"); got != "open east\nwait 205\nclose east" {
		t.Errorf("valves/east is %q", got)
	}
	reviewer.press("Go on with revision 2")
	reviewer.press("Withdraw my objection")
	c.agree("withdrawn", "needs 1 approval; needs 1 approval from an owner of valves (team:hydraulics)")
	reviewer.press("Approve")
	reviewer.shows("an author of the change")
	c.agree("approved by who became an author", "needs 1 approval; needs 1 approval from an owner of valves (team:hydraulics)")

	// A second owner reviews, in the terminal; a fixup is another difference, folding it on a newer main is not.
	w.ok(w.admin.SetTeam(t.Context(), "hydraulics", []string{"odo", "ines"}, nil))
	w.says("ines", 0, "approval of revision 2", "review", "approve", "1", "--revision", "2", "--repo", repo)
	c.agree("approved", "Ready for main: only 1 check on the rehearsal remains")
	w.ok(os.WriteFile(dir+"/valves/east", []byte("open east\nwait 205\nease east\nclose east\n"), 0o644))
	w.must("tamsin", dir, "commit", "-q", "-a", "--fixup", "HEAD")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	c.agree("a fixup", "needs 1 approval; needs 1 approval from an owner of valves (team:hydraulics)")
	author.shows("ines approved revision 2, and the difference has changed since")
	w.says("ines", 0, "ease east", "change", "diff", "1", "--new", "--repo", repo)
	w.says("ines", 0, "approval of revision 3", "review", "approve", "1", "--revision", "3", "--repo", repo)
	c.agree("approved again", "Ready for main")
	w.commit("ines", ines, "docs", "d\n", "docs")
	w.landDirectly(ines)
	w.apply(strings.Replace(simple, "      - objections: none\n", "      - objections: none\n      - threads: resolved\n", 1))
	w.must("tamsin", dir, "fetch", "-q", "origin")
	w.must("tamsin", dir, "-c", "sequence.editor=true", "rebase", "-q", "-i", "--autosquash", "origin/main")
	w.must("tamsin", dir, "push", "-q", "-f", "origin", "topic")
	c.agree("folded and rebased", "Ready for main: only 1 check on the rehearsal remains")
	author.shows("folds fixups, and nothing else", "ines approved revision 3", "counts for: 1 approval")

	author.press("Join the queue")
	commit := w.rehearsed(w.openedAs(1))
	w.report(commit, "unit", "passed")
	for _, p := range c.pages {
		p.shows("Change 1 has landed on main.")
		p.untroubled()
	}
	w.says("pavo", 0, "landed", "change", "show", "1", "--repo", repo)
}

// openedAs gives a change by its number.
func (w *town) openedAs(number int) wire.Change {
	w.t.Helper()
	k, err := w.as("ines").Change(w.t.Context(), repo, number)
	w.ok(err)
	return k
}

// Waiving requirements in the console takes a reason and the confirmation of exactly what is waived; the second
// look is somebody else's. Notifications tell of it.
func consoleWaiver(t *testing.T) {
	w := aloneTown(t)
	w.begin(strings.ReplaceAll(withDuty, "person:wren, person:ines", "person:wren"))
	k := w.propose("tamsin", "flood", "pumps", "off\n")
	duty, other := w.visit(), w.visit()
	duty.signIn("wren")
	duty.open("/growers/irrigation/changes/1")
	duty.press("Waive…")
	duty.shows("What to waive", "1 approval", "check unit passes on the rehearsal")
	duty.do(clicking(`[role=dialog] label:nth-of-type(2) input, dialog label:nth-of-type(2) input`), chromedp.SendKeys(chromedp.CSS("#waive-why"), "the pumps run dry"))
	duty.dialog("Show what would be waived")
	duty.shows("Exactly this is waived", "Your reason: the pumps run dry.")
	duty.dialog("Waive exactly that and land")
	duty.shows("It is waived, and the change goes first", "wren waived", "may be used until")
	w.report(w.rehearsed(k), "unit", "passed")
	duty.shows("Change 1 has landed on main.", "not acknowledged yet")

	other.signIn("ines")
	other.shows("to acknowledge", "the pumps run dry")
	other.open("/growers/irrigation")
	other.shows("wren waived 1 approval (not acknowledged yet)")
	other.press("Acknowledge")
	other.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="What you found"]`), "right so"))
	other.press("Acknowledge")
	other.shows("Follow this repository")
	duty.shows("ines acknowledged it: right so")

	author := w.visit()
	author.signIn("tamsin")
	author.do(chromedp.KeyEvent("n"))
	author.shows("Notifications", "wren waived for revision 1 of change 1", "landed on main")
	author.press("Mark all as read")
	author.shows("You have seen everything")
	author.press("Make a new address")
	author.shows(w.url + "/feeds/")
	author.open("/growers/irrigation/changes?state=all")
	author.shows("1 change, 0 ready to land", "waived")
	author.do(chromedp.SendKeys(chromedp.CSS(`input[placeholder^="words"]`), "nothing"))
	author.shows("None like that.")
	author.open("/growers/irrigation/files?path=pumps")
	author.press("Which change brought each line?")
	author.shows("change 1", "Bring flood")
	for _, p := range []*page{duty, other, author} {
		p.untroubled()
	}
}

// However many tabs somebody has open, the service has one stream to send, and every tab hears of what happens; when the one
// that listens is closed, another goes on. A browser has six connections to a service, so that with a stream each the seventh
// would show nothing.
func manyTabsShareOneStream(t *testing.T) {
	w := aloneTown(t)
	w.close()
	w.open(service.Options{Bounds: bound(t, "calls.streams=1", "calls.token=1000000", "calls.address=1000000")})
	w.admin = w.as("admin")
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	first := w.visit()
	first.signIn("ines")
	tabs := []*page{first}
	for len(tabs) < 8 {
		tabs = append(tabs, first.another())
	}
	for _, tab := range tabs {
		tab.open("/growers/irrigation/changes/1")
		tab.shows("Nobody has reviewed it yet.")
	}
	w.approve("odo", k)
	for _, tab := range tabs {
		tab.shows("odo approved revision 1")
		tab.untroubled()
	}
	first.do(chromedp.Navigate("about:blank")) // which held the lock
	w.approve("wren", k)
	for _, tab := range tabs[1:] {
		tab.shows("wren approved revision 1")
		// The browser hands the lock on as it drops the connection: the next may ask before the service has seen the first go, and
		// is then told to come back, which it did.
		tab.mu.Lock()
		tab.troubles = slices.DeleteFunc(tab.troubles, func(said string) bool { return strings.Contains(said, "status of 429") })
		tab.mu.Unlock()
		tab.untroubled()
	}
}

// A large difference is loaded as one reads: what is far away is not in the page, and can be found.
func largeDifferenceIsReadInParts(t *testing.T) {
	w := aloneTown(t)
	w.begin(simple)
	w.wide(400, 50)
	p := w.visit()
	p.signIn("odo")
	p.open("/growers/irrigation/changes/1")
	p.shows("400 files, 0 read")
	p.do(bringing(`#difference [data-shows]`))
	p.shows("plot 0 line 0")
	rows, err := chromedp.Run(p.ctx, chromedp.Evaluate[int](`document.querySelectorAll('#difference section').length`))
	w.ok(err)
	if rows == 0 || rows > 20 {
		t.Errorf("%d of 400 files are in the page", rows)
	}
	p.do(headless.Script(`scrollTo(0, document.body.scrollHeight)`))
	p.shows("plot 399 line 49")
	p.do(bringing(`#difference [data-shows]`), chromedp.SendKeys(chromedp.CSS(`input[aria-label="Find a file"]`), "0200"))
	p.press("fields/0200.txt")
	p.shows("plot 200 line 0")
	p.do(clicking(`[aria-label="I have read fields/0200.txt"]`))
	p.shows("400 files, 1 read")
	p.still() // the service has heard of it
	p.untroubled()
	if d := w.reads("odo", w.openedAs(1), wire.Reading{}); !d.Files[200].Read || d.Looked != 1 {
		t.Errorf("read %v, looked %d", d.Files[200].Read, d.Looked)
	}
}

// wide opens a change that brings many files of many lines each.
func (w *town) wide(files, lines int) {
	w.t.Helper()
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.ok(os.MkdirAll(dir+"/fields", 0o755))
	for i := range files {
		var text strings.Builder
		for j := range lines {
			fmt.Fprintf(&text, "plot %d line %d\n", i, j)
		}
		w.ok(os.WriteFile(fmt.Sprintf("%s/fields/%04d.txt", dir, i), []byte(text.String()), 0o644))
	}
	w.must("tamsin", dir, "add", "-A")
	w.must("tamsin", dir, "commit", "-q", "-m", "many fields")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	w.openChange("tamsin", "topic")
}

// A change is proposed and altered in the console: what it will meet is seen first, and it may go to another branch.
func consoleProposesAndAlters(t *testing.T) {
	w := aloneTown(t)
	ines := w.begin(simple + "changes: {description: \"- [ ] tried\"}\nlabels: {urgent: {set_by: role:writer}}\n")
	w.must("ines", ines, "push", "-q", "origin", "main:refs/heads/side")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "valves/east", "open\n", "Open the east valve")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	p := w.visit()
	p.signIn("tamsin")
	p.open("/growers/irrigation")
	p.do(clicking(`a[href="/growers/irrigation/propose?source=topic"]`))
	p.shows("1 commit, 1 file, +1 −0. It merges.", "Touches valves, owned by team:hydraulics", "enough would be odo", "1 approval")
	p.press("Open the change")
	p.shows("1. Open the east valve", "shut, 0 of 1")
	p.press("Edit")
	p.do(chromedp.SendKeys(chromedp.CSS("#edit-description"), " on the bench, FEN-4"), chromedp.SendKeys(chromedp.CSS(`input[placeholder^="such as person"]`), "person:wren"),
		chromedp.SendKeys(chromedp.CSS(`input[placeholder^="those that"]`), "urgent"))
	p.press("Save")
	p.shows("It is saved.", "tried on the bench", "Tickets: FEN-4", "Labelled urgent", "Asked to review: person:wren")
	p.press("Edit")
	p.do(chromedp.WaitReady(chromedp.CSS(`form select option[value="side"]`)), chromedp.SendKeys(chromedp.CSS("form select"), "side"))
	p.press("Save")
	p.shows("Ready for side.", "goes to another branch", "Your review of revision 2")
	p.open("/growers/irrigation/propose?source=side")
	p.shows("the target has everything the change brings already")
	p.untroubled()
}
