package e2e

import (
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// strange changes what a difference could hide: marks that turn the direction of writing, a letter that is not seen, a link, a
// submodule, a mode, text that Git takes for binary, the end of a file without a new line, and attributes that hide all of it.
func (w *town) strange() string {
	w.t.Helper()
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.ok(os.WriteFile(dir+"/.gitattributes", []byte("* -diff\n"), 0o644))
	w.ok(os.WriteFile(dir+"/turned", []byte("open \u202e/* close \u2066*/\u2069 wi\u200bde\r\n"), 0o644))
	w.ok(os.WriteFile(dir+"/odd.sh", []byte("echo one\x00\necho two\n"), 0o755))
	w.ok(os.WriteFile(dir+"/na\u202eme", []byte("x\n"), 0o644))
	w.ok(os.WriteFile(dir+"/end", []byte("no new line"), 0o644))
	w.ok(os.WriteFile(dir+"/package-lock.json", []byte("{\"evil\": 1}\n"), 0o644))
	w.ok(os.Symlink("../../etc", dir+"/link"))
	w.must("tamsin", dir, "add", "-A")
	w.must("tamsin", dir, "update-index", "--add", "--cacheinfo", "160000,"+strings.Repeat("1", 40)+",sub")
	w.must("tamsin", dir, "commit", "-q", "-m", "strange")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	w.openChange("tamsin", "topic")
	return dir
}

// What is shown in the terminal is whole, and what is not seen is seen; every byte is to be had too.
func TestTerminalShowsWhatIsNotSeen(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	dir := w.strange()
	out, _, status := w.run("odo", w.dir, "change", "diff", "1", "--repo", repo)
	if status != 0 {
		t.Fatal(out)
	}
	has(t, out, "⟨U+202E⟩", "⟨U+2066⟩", "wi⟨U+200B⟩de⟨U+000D⟩", "+echo two", "⟨U+0000⟩", "Subproject commit 1111", "\\ No newline at end of file", "link: a symbolic link",
		"sub: a submodule", "odd.sh: may be run as a program; holds bytes that text does not have", "+{\"evil\": 1}")
	if strings.ContainsAny(out, "\u202e\u200b\x00\r") {
		t.Errorf("something that is not seen is left in %q", out)
	}
	raw, _, _ := w.run("odo", w.dir, "change", "diff", "1", "--raw", "--repo", repo)
	patch := dir + "/../raw.patch"
	w.ok(os.WriteFile(patch, []byte(raw), 0o644))
	w.must("tamsin", dir, "checkout", "-q", "main")
	w.must("tamsin", dir, "apply", "--check", "--exclude=sub", patch)
	stat, _, _ := w.run("odo", w.dir, "change", "diff", "1", "--stat", "--repo", repo)
	has(t, stat, "link (a symbolic link", "sub (a submodule", "odd.sh (may be run as a program)")
}

// And in the console: characters, modes, links, submodules, and that a file is folded and why.
func consoleShowsWhatIsNotSeen(t *testing.T) {
	w := aloneTown(t)
	w.begin(simple)
	w.strange()
	p := w.visit()
	p.signIn("odo")
	p.open("/growers/irrigation/changes/1")
	p.do(bringing(`#difference [data-shows]`))
	p.reads("revision=1")
	p.shows("⟨U+202E⟩", "wi⟨U+200B⟩de⟨CR⟩", "⟨U+0000⟩", "echo two", "no new line at the end of the line above", "a symbolic link", "a submodule", "may be run as a program",
		"holds bytes that text does not have", "folded: made by a program, by its name", "na⟨U+202E⟩me")
	hidden, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`/[\u202e\u200b\u2066]/.test(document.querySelector('#difference').innerText)`))
	w.ok(err)
	if hidden {
		t.Error("something that is not seen is in the page")
	}
	p.untroubled()
}

// A revision that comes while somebody reads does not slip under their hand: their word waits until they have gone on to it. And
// what another difference is about to replace takes no press.
func consoleNeverTakesAPressForWhatWasReplaced(t *testing.T) {
	w := aloneTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	p := w.visit()
	p.signIn("odo")
	p.open("/growers/irrigation/changes/1")
	p.shows("Your review of revision 1")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "topic")
	second := w.commit("tamsin", dir, "a", "a\nworse\n", "worse")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	p.shows("Revision 2 came while you were reading revision 1")
	disabled, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`[...document.querySelectorAll('main button')].find((b) => b.innerText.trim() === 'Approve').disabled`))
	w.ok(err)
	if !disabled {
		t.Error("revision 2 could be approved by who read revision 1")
	}
	p.press("Go on with revision 2")
	p.press("Approve")
	p.shows("odo approved revision 2")

	// While the chosen commit is on its way, what stands there is of the difference before: it takes no press.
	p.do(bringing(`#difference [data-shows]`))
	p.reads("revision=2")
	during, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`globalThis.awaited = (async () => {
  const real = window.fetch;
  const held = []; // whatever the page asks for meanwhile, the difference among it
  window.fetch = async (...a) => { await new Promise((r) => held.push(r)); return real(...a); };
  const s = document.querySelector('#difference select');
  let option;
  for (let i = 0; i < 400 && !option; i++) {
    option = [...s.options].find((o) => o.text.includes('worse'));
    if (!option) { held.splice(0).forEach((r) => r()); await new Promise((r) => setTimeout(r, 25)); }
  }
  s.value = option.value;
  s.dispatchEvent(new Event('change', { bubbles: true }));
  const list = document.querySelector('#difference [data-shows]');
  for (let i = 0; i < 400 && !list.inert; i++) await new Promise((r) => setTimeout(r, 25));
  const told = list.dataset.shows + ' ' + list.inert;
  window.fetch = real;
  held.forEach((r) => r());
  return told;
})()`, chromedp.EvalAwaitPromise))
	w.ok(err)
	if during != "revision=2 true" {
		t.Errorf("meanwhile the difference is %q", during)
	}
	p.reads("revision=2&commit=" + second)
	p.do(clicking(`button[aria-label="Discuss line 2"]`))
	p.shows("a, line 2, in commit " + second[:10])
	// Who chooses other lines while a comment is sent keeps them.
	p.do(chromedp.SendKeys(chromedp.CSS("#speak"), "why worse?"))
	p.press("Ask")
	p.do(chromedp.WaitVisible(chromedp.CSS("#thread-1")))
	threads, err := w.as("odo").Threads(t.Context(), repo, k.Number)
	w.ok(err)
	if len(threads) != 1 || threads[0].Commit != second || threads[0].FirstLine != 2 {
		t.Errorf("the comment is about %+v", threads)
	}
	p.untroubled()
}
