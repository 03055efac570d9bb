package e2e

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"tavrin/internal/api"
)

// Bytes from repositories are never active on the service's own origin: whatever a file is called and holds, it comes as a download
// of no type, in a sandbox (P11).
func TestP11BytesAreNeverActive(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	const evil = "<html><script>fetch('/api/v1/me')</script></html>"
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	names := []string{"page.html", "image.svg", "script.js", "style.css", "data.json", "feed.xml", "a.pdf", "no-ending", "odd \"name\";x=y.html", "sub/deep.htm"}
	for _, name := range names {
		w.commit("tamsin", dir, name, evil, name)
	}
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	raw := func(login, path string, header ...string) (*http.Response, string) {
		return w.request(login, "GET", "/api/v1/repositories/"+repo+"/file?at=topic&path="+url.QueryEscape(path), "", header...)
	}
	for _, name := range names {
		resp, body := raw("pavo", name, "Accept", "text/html", "Sec-Fetch-Dest", "document")
		h := resp.Header
		if resp.StatusCode != 200 || strings.TrimSpace(body) != evil {
			t.Errorf("%s: %d %s", name, resp.StatusCode, body)
		}
		if h.Get("Content-Type") != "application/octet-stream" || h.Get("X-Content-Type-Options") != "nosniff" || !strings.HasPrefix(h.Get("Content-Disposition"), "attachment") ||
			!strings.HasPrefix(h.Get("Content-Security-Policy"), "sandbox; default-src 'none'") {
			t.Errorf("%s comes with %v", name, h)
		}
	}
	for path, status := range map[string]int{"": 404, "sub": 404, "../x": 422, "nothing": 404} {
		if resp, body := raw("pavo", path); resp.StatusCode != status {
			t.Errorf("%q: %d %s", path, resp.StatusCode, body)
		}
	}
	if resp, _ := raw("", "page.html"); resp.StatusCode != 401 {
		t.Errorf("without signing in: %d", resp.StatusCode)
	}
	if resp, _ := raw("builder", "page.html"); resp.StatusCode != 403 {
		t.Errorf("with a check robot's token: %d", resp.StatusCode)
	}
	// Everything else that shows a file is JSON, which no browser takes for a page either.
	for _, path := range []string{"/tree?at=topic&path=page.html", "/history", "/branches"} {
		resp, _ := w.request("pavo", "GET", "/api/v1/repositories/"+repo+path, "", "Accept", "text/html")
		if !strings.HasPrefix(resp.Header.Get("Content-Type"), "application/json") || resp.Header.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("%s comes as %v", path, resp.Header)
		}
	}
}

// What a page of another site can do at a signed-in person's service: nothing. No frame, no request that changes something, no
// script that is not the console's own; and a session that somebody else chose is none.
func TestP11TheOriginIsGuarded(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	cookie := w.session("ines")
	for _, path := range []string{"/", "/growers/irrigation", "/api/v1/me", "/api/v1/nothing", "/assets/nothing", "/feeds/x.atom", "/git/growers/irrigation.git/info/refs?service=git-upload-pack"} {
		resp, _ := w.request("", "GET", path, "", "Cookie", cookie)
		h := resp.Header
		policy := h.Get("Content-Security-Policy")
		for _, want := range []string{"default-src 'self'", "frame-ancestors 'none'", "base-uri 'none'", "form-action 'self'"} {
			if !strings.Contains(policy, want) {
				t.Errorf("%s: the policy is %q", path, policy)
			}
		}
		if strings.Contains(policy, "unsafe") || h.Get("X-Content-Type-Options") != "nosniff" || h.Get("Referrer-Policy") != "same-origin" || h.Get("Access-Control-Allow-Origin") != "" {
			t.Errorf("%s comes with %v", path, h)
		}
	}
	// Requests of another site's page are refused by where they come from, before anything of them is read.
	for _, from := range [][]string{{"Sec-Fetch-Site", "cross-site"}, {"Sec-Fetch-Site", "same-site"}, {"Origin", "https://elsewhere.example"}, {"Origin", "null"}} {
		for _, c := range []struct{ method, path, body string }{
			{"POST", "/api/v1/repositories/" + repo + "/changes", `{"source":"main","title":"x"}`}, {"DELETE", "/api/v1/session", ""}, {"POST", "/api/v1/session", `{"token":"x"}`},
			{"PUT", "/api/v1/repositories/" + repo + "/rules", `{}`},
		} {
			resp, body := w.request("", c.method, c.path, c.body, append([]string{"Cookie", cookie}, from...)...)
			if resp.StatusCode != 403 || !strings.Contains(body, "another site") {
				t.Errorf("%s %s from %v: %d %s", c.method, c.path, from, resp.StatusCode, body)
			}
		}
	}
	if resp, _ := w.request("", "GET", "/api/v1/me", "", "Cookie", cookie); resp.StatusCode != 200 {
		t.Errorf("the session was ended from elsewhere: %d", resp.StatusCode)
	}
	// A session is named by the service: one that was brought along is not taken up, and each sign-in has another.
	fixed := "tavrin_session=CHOSENBYSOMEBODYELSE"
	resp, _ := w.request("", "POST", "/api/v1/session", `{"token":"`+w.tokens["ines"]+`"}`, "Cookie", fixed)
	made := resp.Cookies()[0]
	if made.Value == "CHOSENBYSOMEBODYELSE" || made.Name+"="+made.Value == cookie || len(made.Value) < 20 {
		t.Errorf("the session is %q", made.Value)
	}
	if resp, _ := w.request("", "GET", "/api/v1/me", "", "Cookie", fixed); resp.StatusCode != 401 {
		t.Errorf("a session that somebody chose: %d", resp.StatusCode)
	}
	if !made.HttpOnly || made.SameSite != http.SameSiteStrictMode || made.Path != "/" || made.Domain != "" || made.Secure {
		t.Errorf("the cookie is %+v", made)
	}
	if resp, _ := w.request("", "DELETE", "/api/v1/session", "", "Cookie", cookie); resp.StatusCode != 200 || resp.Cookies()[0].MaxAge >= 0 {
		t.Errorf("signing out answers %d %+v", resp.StatusCode, resp.Cookies())
	}
	if resp, _ := w.request("", "GET", "/api/v1/me", "", "Cookie", cookie); resp.StatusCode != 401 {
		t.Errorf("after signing out: %d", resp.StatusCode)
	}
	// Behind TLS the cookie is sent over nothing else.
	secure := httptest.NewServer(api.New(api.Options{Service: w.service, Secure: true, Log: slog.New(slog.DiscardHandler)}))
	defer secure.Close()
	answer, err := http.Post(secure.URL+"/api/v1/session", "application/json", strings.NewReader(`{"token":"`+w.tokens["ines"]+`"}`))
	w.ok(err)
	answer.Body.Close()
	if c := answer.Cookies()[0]; !c.Secure || !c.HttpOnly || time.Duration(c.MaxAge)*time.Second > 24*time.Hour {
		t.Errorf("behind TLS the cookie is %+v", c)
	}
}
