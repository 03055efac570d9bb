// Package headless starts a Chromium without a window, for tests of the console and for pictures of it.
package headless

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"strings"

	"github.com/chromedp/chromedp"
)

// ErrNoBrowser is returned when no Chromium is installed.
var ErrNoBrowser = errors.New("no chromium is installed: apt-get install chromium, or set CHROMIUM to its path")

// Path finds the browser: CHROMIUM, or one of the names that Debian gives it.
func Path() (string, error) {
	if path := os.Getenv("CHROMIUM"); path != "" {
		return path, nil
	}
	for _, name := range []string{"chromium-headless-shell", "chromium"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", ErrNoBrowser
}

// Start starts a browser with a profile folder of its own. It ends with the function returned.
func Start(ctx context.Context, profile string) (context.Context, context.CancelFunc, error) {
	path, err := Path()
	if err != nil {
		return nil, nil, err
	}
	options := []chromedp.ExecAllocatorOption{chromedp.ExecPath(path), chromedp.UserDataDir(profile)}
	for _, flag := range []string{"headless", "no-sandbox", "disable-gpu", "disable-quic", "no-first-run",
		"disable-background-networking",
		"disable-component-update", "disable-sync", "hide-scrollbars"} {
		options = append(options, chromedp.Flag(flag, true))
	}
	allocator, endAllocator := chromedp.NewExecAllocator(ctx, options...)
	browser, endBrowser := chromedp.NewContext(allocator)
	end := func() { endBrowser(); endAllocator() }
	if err := chromedp.Do(browser); err != nil { // the first call starts the browser and must have no time limit
		end()
		return nil, nil, err
	}
	return browser, end, nil
}

// Script runs JavaScript in the page, and waits for it when it is a promise.
func Script(text string) chromedp.Action[chromedp.Void] {
	if strings.HasPrefix(text, "(async") {
		text = "globalThis.awaited = " + text // or the promise may be collected while it is waited for
	}
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := chromedp.Evaluate[any](text, chromedp.EvalAwaitPromise)(ctx, t)
		return err
	})
}
