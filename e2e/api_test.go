package e2e

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"tavrin/client"
	"tavrin/internal/api"
	"tavrin/internal/service"
	"tavrin/wire"
)

// request makes a raw request as somebody.
func (w *town) request(login, method, path, body string, header ...string) (*http.Response, string) {
	w.t.Helper()
	req, err := http.NewRequestWithContext(w.t.Context(), method, w.url+path, strings.NewReader(body))
	w.ok(err)
	if login != "" {
		req.Header.Set("Authorization", "Bearer "+w.tokens[login])
	}
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	w.ok(err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	w.ok(err)
	return resp, string(text)
}

// What comes in is checked at the door: a problem report says what was wrong, and nothing is written.
func TestBadInput(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	w.propose("tamsin", "topic", "a", "a\n")
	before := len(w.kinds())
	r := "/api/v1/repositories/" + repo
	long := strings.Repeat("x", 5000)
	cases := []struct {
		name, login, method, path, body string
		status                          int
		says                            string
	}{
		{"not JSON", "admin", "POST", "/api/v1/houses", `{"name":`, 400, "JSON"},
		{"unknown field", "admin", "POST", "/api/v1/houses", `{"name":"x","colour":"red"}`, 422, "/colour"},
		{"missing field", "admin", "POST", "/api/v1/houses", `{}`, 422, "name"},
		{"wrong type", "admin", "POST", "/api/v1/houses", `{"name":7}`, 422, "/name"},
		{"odd house", "admin", "POST", "/api/v1/houses", `{"name":"../x"}`, 422, "not a name for a house"},
		{"house like an option", "admin", "POST", "/api/v1/houses", `{"name":"-x"}`, 422, "not a name for a house"},
		{"repository out of its house", "admin", "POST", "/api/v1/repositories", `{"name":"growers/../x"}`, 422, "HOUSE/NAME"},
		{"odd default branch", "admin", "POST", "/api/v1/repositories", `{"name":"growers/x","default_branch":"--upload-pack=x"}`, 422, "begins with"},
		{"import of a local file", "admin", "POST", "/api/v1/repositories", `{"name":"growers/x","import_url":"file:///etc"}`, 422, "not a URL"},
		{"import from inside", "admin", "POST", "/api/v1/repositories", `{"name":"growers/x","import_url":"http://127.0.0.1:1/x"}`, 422, "not on the list"},
		{"no such house", "admin", "POST", "/api/v1/repositories", `{"name":"nobody/x"}`, 404, "no house"},
		{"odd login", "admin", "POST", "/api/v1/people", `{"login":"A B"}`, 422, "not a login"},
		{"the service's own login", "admin", "POST", "/api/v1/people", `{"login":"tavrin"}`, 422, "not a login"},
		{"odd address", "admin", "POST", "/api/v1/people", `{"login":"x","email":"x"}`, 422, "not an e-mail"},
		{"taken login", "admin", "POST", "/api/v1/people", `{"login":"odo"}`, 409, "taken"},
		{"role of no kind", "ines", "PUT", "/api/v1/grants", `{"where":"` + repo + `","who":"odo","role":"king"}`, 422, "reader, writer, maintainer, none"},
		{"token for a stranger", "ines", "POST", "/api/v1/tokens", `{"login":"odo"}`, 403, "by its owner or by a service administrator"},
		{"token for ever", "ines", "POST", "/api/v1/tokens", `{"login":"ines","lifetime_seconds":99999999999}`, 422, "a token lives"},
		{"check robot that is a person", "admin", "POST", "/api/v1/tokens", `{"login":"odo","checks":["` + repo + `:unit"]}`, 422, "only a robot"},
		{"odd branch", "tamsin", "POST", r + "/changes", `{"source":"-x","title":"t"}`, 422, "begins with"},
		{"branch with dots", "tamsin", "POST", r + "/changes", `{"source":"a..b","title":"t"}`, 422, "git does not allow"},
		{"branch with NUL", "tamsin", "POST", r + "/changes", `{"source":"a\u0000b","title":"t"}`, 422, "git does not allow"},
		{"no such branch", "tamsin", "POST", r + "/changes", `{"source":"gone","title":"t"}`, 422, "no branch gone"},
		{"onto itself", "tamsin", "POST", r + "/changes", `{"source":"main","target":"main","title":"t"}`, 422, "both main"},
		{"empty title", "tamsin", "POST", r + "/changes", `{"source":"topic","title":""}`, 422, "title is empty"},
		{"long title", "tamsin", "POST", r + "/changes", `{"source":"topic","title":"` + long + `"}`, 422, "at most 200"},
		{"title of two lines", "tamsin", "POST", r + "/changes", `{"source":"topic","title":"a\nb"}`, 422, "control characters"},
		{"twice", "tamsin", "POST", r + "/changes", `{"source":"topic","title":"t"}`, 409, "change 1 brings topic into main already"},
		{"by a reader", "pavo", "POST", r + "/changes", `{"source":"topic","title":"t"}`, 403, "role writer"},
		{"by nobody", "", "POST", r + "/changes", `{"source":"topic","title":"t"}`, 401, "sign in"},
		{"number of no kind", "tamsin", "GET", r + "/changes/x", "", 422, "number"},
		{"number that is none", "tamsin", "GET", r + "/changes/99", "", 404, "no change 99"},
		{"number below", "tamsin", "GET", r + "/changes/-1", "", 422, "number"},
		{"revision that is none", "tamsin", "GET", r + "/changes/1/diff?revision=9", "", 404, "no revision 9"},
		{"objection without words", "odo", "POST", r + "/changes/1/reviews", `{"verdict":"object","revision":1}`, 422, "needs words"},
		{"verdict of no kind", "odo", "POST", r + "/changes/1/reviews", `{"verdict":"like","revision":1}`, 422, "verdict"},
		{"review without a revision", "odo", "POST", r + "/changes/1/reviews", `{"verdict":"approve"}`, 409, "conflict"},
		{"withdrawing nothing", "odo", "POST", r + "/changes/1/withdraw", "", 409, "no standing approval"},
		{"strategy of no kind", "tamsin", "POST", r + "/changes/1/queue", `{"strategy":"magic"}`, 422, "rebase, squash, merge"},
		{"leaving from nowhere", "tamsin", "DELETE", r + "/changes/1/queue", "", 404, "not in the queue"},
		{"commit of no kind", "builder", "POST", r + "/checks", `{"commit":"HEAD","name":"unit","state":"passed"}`, 422, "four to forty hexadecimal"},
		{"link of no kind", "builder", "POST", r + "/checks", `{"commit":"` + strings.Repeat("1", 40) + `","name":"unit","state":"passed","link":"javascript:x"}`, 422, "URL"},
		{"path out of the tree", "tamsin", "GET", r + "/tree?path=" + url.QueryEscape("../../etc"), "", 422, "not a path"},
		{"path with NUL", "tamsin", "GET", r + "/tree?path=a%00b", "", 422, "not a path"},
		{"no such path", "tamsin", "GET", r + "/tree?path=none", "", 404, "has no"},
		{"no such place in history", "tamsin", "GET", r + "/history?at=--all", "", 404, "no branch, tag or commit"},
		{"limit beyond", "tamsin", "GET", r + "/history?limit=9999", "", 422, "limit"},
		{"odd branch to explain", "tamsin", "GET", r + "/explain?branch=a..b", "", 422, "git does not allow"},
		{"rules without version", "ines", "PUT", r + "/rules", `{"text":"tavrin: rules/1","reason":"why not"}`, 428, "If-Match"},
		{"nothing there", "ines", "GET", "/api/v1/none", "", 404, "nothing at"},
		{"enormous body", "admin", "POST", "/api/v1/houses", `{"name":"` + strings.Repeat("x", 4<<20) + `"}`, 413, ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			resp, body := w.request(c.login, c.method, c.path, c.body)
			if resp.StatusCode != c.status || resp.Header.Get("Content-Type") != "application/problem+json" {
				t.Errorf("answer is %d %s: %s", resp.StatusCode, resp.Header.Get("Content-Type"), body)
			}
			has(t, body, c.says)
			var p struct {
				Title, Detail string
				Status        int
			}
			if err := json.Unmarshal([]byte(body), &p); err != nil || p.Status != c.status || p.Title == "" || p.Detail == "" {
				t.Errorf("not a problem report: %s", body)
			}
		})
	}
	if after := len(w.kinds()); after != before {
		t.Errorf("%d lines were written by requests that were refused", after-before)
	}
}

// A token does what its role and scope say, and nothing of another repository leaks through it (P11).
func TestP11NothingLeaks(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	_, err := w.admin.CreateRepository(ctx, wire.NewRepository{Name: "growers/secret"})
	w.ok(err)
	w.ok(w.admin.Grant(ctx, "growers/secret", "wren", "maintainer"))
	k := w.propose("tamsin", "topic", "a", "a\n")
	paths := []string{"", "/branches", "/history", "/tree", "/rules", "/rules/versions", "/changes", "/changes/1", "/changes/1/gate", "/changes/1/diff",
		"/changes/1/revisions", "/changes/1/reviews", "/changes/1/landing", "/queue", "/checks", "/checks/wanted", "/explain?branch=main", "/commits/" + k.Head + "/checks"}
	for _, path := range paths {
		there, thereBody := w.request("tamsin", "GET", "/api/v1/repositories/growers/secret"+path, "")
		none, noneBody := w.request("tamsin", "GET", "/api/v1/repositories/growers/secres"+path, "")
		if there.StatusCode != 404 || strings.ReplaceAll(thereBody, "secret", "secres") != noneBody || none.StatusCode != 404 {
			t.Errorf("%s: %d %s\nand for what does not exist %d %s", path, there.StatusCode, thereBody, none.StatusCode, noneBody)
		}
		if resp, body := w.request("", "GET", "/api/v1/repositories/"+repo+path, ""); resp.StatusCode != 401 {
			t.Errorf("%s without signing in: %d %s", path, resp.StatusCode, body)
		}
		if resp, body := w.request("builder", "GET", "/api/v1/repositories/growers/secret"+path, ""); resp.StatusCode != 404 && resp.StatusCode != 403 || strings.Contains(body, "secret") != strings.Contains(body, "there is no repository") {
			t.Errorf("%s with a check robot's token for another repository: %d %s", path, resp.StatusCode, body)
		}
	}
	for name, url := range map[string]string{"there": "growers/secret", "none": "growers/secres"} {
		if out, err := w.gitAs("tamsin", w.dir, "ls-remote", w.url+"/git/"+url+".git"); err == nil || !strings.Contains(out, "no repository") {
			t.Errorf("%s through git: %v %s", name, err, out)
		}
	}
	repos, err := w.as("tamsin").Repositories(ctx)
	w.ok(err)
	if len(repos) != 1 {
		t.Errorf("tamsin is shown %d repositories", len(repos))
	}
	journal, err := w.as("tamsin").Journal(ctx, "", 500)
	w.ok(err)
	for _, l := range journal {
		if l.Repository != repo {
			t.Errorf("tamsin reads the line %q", l.Text)
		}
	}
	// A check robot's token reports and reads; it does not write, review, land or make tokens.
	builder := w.as("builder")
	_, err = builder.Review(ctx, repo, 1, wire.NewReview{Verdict: "approve", Revision: 1})
	problem(t, err, 403, "reports the checks that it names", "nothing else")
	// Revoked, expired and disabled: at once.
	tokens, err := w.as("odo").Tokens(ctx)
	w.ok(err)
	w.ok(w.as("odo").RevokeToken(ctx, tokens[0].ID))
	_, err = w.as("odo").Me(ctx)
	problem(t, err, 401, "revoked")
	w.disable("wren", true)
	_, err = w.as("wren").Me(ctx)
	problem(t, err, 401)
	problem(t, w.as("tamsin").Grant(ctx, repo, "tamsin", "maintainer"), 403, "role maintainer")
	_, err = w.as("ines").CreateTeam(ctx, wire.NewTeam{Name: "x"})
	problem(t, err, 403, "administrators")
}

func TestPublicRepositoriesAreReadableByAll(t *testing.T) {
	w := newTown(t)
	_, err := w.admin.CreateRepository(t.Context(), wire.NewRepository{Name: "growers/open", Public: true})
	w.ok(err)
	if resp, body := w.request("", "GET", "/api/v1/repositories/growers/open", ""); resp.StatusCode != 200 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	dir := w.clone("ines")
	w.commit("ines", dir, "a", "a\n", "start")
	open := w.url + "/git/growers/open.git"
	w.must("admin", dir, "push", "-q", open, "HEAD:main")
	w.commit("ines", dir, "a", "b\n", "more")
	w.must("admin", dir, "push", "-q", open, "HEAD:refs/heads/topic")
	_, err = w.admin.OpenChange(t.Context(), "growers/open", wire.NewChange{Source: "topic", Title: "More"})
	w.ok(err)
	_, err = w.as("wren").Review(t.Context(), "growers/open", 1, wire.NewReview{Verdict: "comment", Revision: 1, Text: "hello"})
	w.ok(err)
	_, err = w.as("wren").Review(t.Context(), "growers/open", 1, wire.NewReview{Verdict: "object", Revision: 1, Text: "no"})
	problem(t, err, 403, "no role in growers/open")
	if resp, _ := w.request("", "POST", "/api/v1/repositories/growers/open/changes", `{"source":"x","title":"t"}`); resp.StatusCode != 403 && resp.StatusCode != 401 {
		t.Errorf("somebody who has not signed in may write: %d", resp.StatusCode)
	}
}

func TestTokensAreKeptHashedAndMasked(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	_, err := w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: k.Head, Name: "unit", State: "failed", Summary: "used " + w.tokens["builder"]})
	w.ok(err)
	said, err := w.as("odo").Review(t.Context(), repo, k.Number, wire.NewReview{Verdict: "comment", Revision: 1, Text: "mine is " + w.tokens["odo"]})
	w.ok(err)
	if said.Text != "mine is tvr_…" {
		t.Errorf("the comment is %q", said.Text)
	}
	checks, err := w.as("ines").Checks(t.Context(), repo, k.Head)
	w.ok(err)
	if checks[0].Summary != "used tvr_…" {
		t.Errorf("the summary is %q", checks[0].Summary)
	}
	for _, suffix := range []string{"", "-wal"} {
		data, err := os.ReadFile(w.dir + "/data/records.sqlite" + suffix)
		w.ok(err)
		for login, token := range w.tokens {
			if strings.Contains(string(data), token) {
				t.Errorf("%s's token is in the records", login)
			}
		}
	}
	tokens, err := w.admin.Tokens(t.Context())
	w.ok(err)
	for _, token := range tokens {
		if token.Secret != "" {
			t.Error("a token is shown a second time")
		}
	}
}

func TestRulesAreAppliedOverTheVersionRead(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	path := "/api/v1/repositories/" + repo + "/rules"
	resp, _ := w.request("ines", "GET", path, "")
	tag := resp.Header.Get("ETag")
	if tag != `"1"` {
		t.Fatalf("the tag is %s", tag)
	}
	body := `{"text":"tavrin: rules/1\n","reason":"lift everything"}`
	if resp, text := w.request("ines", "PUT", path, body, "If-Match", `"0"`); resp.StatusCode != 412 {
		t.Errorf("over a version not read: %d %s", resp.StatusCode, text)
	}
	if resp, text := w.request("ines", "PUT", path, body, "If-Match", tag); resp.StatusCode != 200 || resp.Header.Get("ETag") != `"2"` {
		t.Errorf("over the version read: %d %s", resp.StatusCode, text)
	}
	bad := `{"text":"tavrin: rules/1\nprotects: []\n","reason":"try it"}`
	resp, text := w.request("ines", "PUT", path, bad, "If-Match", `"2"`)
	if resp.StatusCode != 422 {
		t.Errorf("a bad document: %d", resp.StatusCode)
	}
	has(t, text, `"line":2`, `"column":1`, "unknown key", "one of tavrin")
	if resp, _ := w.request("ines", "GET", path, ""); resp.Header.Get("ETag") != `"2"` {
		t.Error("a bad document was applied")
	}
}

func TestWrongContentTypeIsRefused(t *testing.T) {
	w := newTown(t)
	resp, body := w.request("admin", "POST", "/api/v1/houses", "name=x", "Content-Type", "application/x-www-form-urlencoded")
	if resp.StatusCode != 415 && resp.StatusCode != 400 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if houses, err := w.admin.Houses(t.Context()); err != nil || len(houses) != 1 {
		t.Errorf("houses are %v, %v", houses, err)
	}
}

func TestOtherSitesPagesAreRefused(t *testing.T) {
	w := newTown(t)
	resp, body := w.request("", "POST", "/api/v1/session", `{"token":"x"}`, "Origin", "https://elsewhere.example", "Sec-Fetch-Site", "cross-site")
	if resp.StatusCode != 403 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
}

// The stream can be taken up again after any event, and misses nothing.
func TestStreamResumes(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	journal, err := w.as("ines").Journal(t.Context(), repo, 1)
	w.ok(err)
	last := journal[0].Seq
	var seen []string
	collect := func(after string, n int) string {
		id := ""
		w.ok(w.as("ines").Events(t.Context(), repo, after, func(e client.Event) bool {
			seen = append(seen, e.Type)
			id = e.ID
			n--
			return n > 0
		}))
		return id
	}
	for _, login := range []string{"odo", "wren", "ines", "tamsin"} {
		_, err := w.as(login).Review(t.Context(), repo, k.Number, wire.NewReview{Verdict: "comment", Revision: 1, Text: "x"})
		w.ok(err)
	}
	from := collect(jsonInt(last), 2)
	collect(from, 2)
	if len(seen) != 4 || seen[0] != "tavrin.review.commented" {
		t.Errorf("seen %v", seen)
	}
	ctx, cancel := context.WithCancel(t.Context())
	got := make(chan client.Event, 1)
	go w.as("pavo").Events(ctx, repo, from, func(e client.Event) bool { // and events that come while it is open
		if e.Type == "tavrin.change.closed" {
			got <- e
			return false
		}
		return true
	})
	_, err = w.as("ines").CloseChange(t.Context(), repo, k.Number)
	w.ok(err)
	if e := <-got; e.Subject != "change/1" {
		t.Errorf("event is %+v", e)
	}
	// From the beginning, each comes once and in order.
	var ids []int64
	w.ok(w.as("ines").Events(ctx, repo, "0", func(e client.Event) bool {
		id, err := strconv.ParseInt(e.ID, 10, 64)
		w.ok(err)
		ids = append(ids, id)
		return e.Type != "tavrin.change.closed"
	}))
	if len(ids) < 5 || !slices.IsSorted(ids) || len(slices.Compact(slices.Clone(ids))) != len(ids) {
		t.Errorf("the events from the beginning are %v", ids)
	}
	cancel()
	if resp, body := w.request("tamsin", "GET", "/api/v1/events?repository=growers/none", ""); resp.StatusCode != 404 {
		t.Errorf("a stream of what does not exist: %d %s", resp.StatusCode, body)
	}
	if resp, body := w.request("ines", "GET", "/api/v1/events", "", "Last-Event-ID", "x"); resp.StatusCode != 422 {
		t.Errorf("a stream from nowhere: %d %s", resp.StatusCode, body)
	}
}

func jsonInt(n int64) string {
	b, _ := json.Marshal(n)
	return string(b)
}

// The description of the API that is kept in the docs is the one that the code gives.
func TestDescriptionIsCurrent(t *testing.T) {
	kept, err := os.ReadFile("../docs/reference/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	now, err := api.Description()
	if err != nil {
		t.Fatal(err)
	}
	if strings.TrimSpace(string(kept)) != strings.TrimSpace(string(now)) {
		t.Error("docs/reference/openapi.json is out of date: make docs")
	}
}

// Importing from a URL goes only where the administrator says, over https or loopback.
func TestImportFromURL(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	_, err := w.admin.CreateRepository(t.Context(), wire.NewRepository{Name: "growers/source", Public: true})
	w.ok(err)
	w.must("admin", w.clone("ines"), "push", "-q", w.url+"/git/growers/source.git", "HEAD:main")
	// Another service on this machine imports from this one, which is on its list.
	other := &town{t: t, dir: t.TempDir(), tokens: map[string]string{}}
	other.open(service.Options{Imports: []string{w.url}})
	defer other.close()
	token, err := other.service.Access.FirstStart(t.Context())
	w.ok(err)
	other.tokens["admin"] = token
	admin := other.as("admin")
	_, err = admin.CreateHouse(t.Context(), "copies")
	w.ok(err)
	_, err = admin.CreateRepository(t.Context(), wire.NewRepository{Name: "copies/irrigation", ImportURL: w.url + "/git/growers/source.git"})
	w.ok(err)
	branches, err := admin.Branches(t.Context(), "copies/irrigation")
	w.ok(err)
	if len(branches) != 1 || branches[0].Commit != w.tip("main") {
		t.Errorf("branches are %+v", branches)
	}
	_, err = admin.CreateRepository(t.Context(), wire.NewRepository{Name: "copies/none", ImportURL: w.url + "/git/growers/none.git"})
	problem(t, err, 422, "the import did not work")
	if _, err := admin.Repository(t.Context(), "copies/none"); err == nil {
		t.Error("a repository whose import failed was made")
	}
	elsewhere := httptest.NewServer(http.RedirectHandler(w.url, http.StatusFound))
	defer elsewhere.Close()
	_, err = admin.CreateRepository(t.Context(), wire.NewRepository{Name: "copies/far", ImportURL: elsewhere.URL + "/x.git"})
	problem(t, err, 422, "not on the list")
}

// Every call that the API describes is refused to somebody who has not signed in, but for those few that are meant
// for them (P11).
func TestP11EveryCallNeedsASignIn(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	var description struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	text, err := api.Description()
	w.ok(err)
	w.ok(json.Unmarshal(text, &description))
	open := map[string]bool{"POST /api/v1/session": true, "DELETE /api/v1/session": true, "POST /api/v1/rules/check": true,
		"GET /api/v1/rules/schema": true, "GET /api/v1/rules/templates": true, // what the form of a document is, is no secret
		"GET /api/v1/houses": true, "GET /api/v1/repositories": true} // the last two show what is readable by all: nothing here
	fill := strings.NewReplacer("{house}", "growers", "{name}", "irrigation", "{number}", "1", "{commit}", k.Head, "{id}", "1", "{thread}", "1", "{comment}", "1", "{waiver}", "1", "{file}", "1", "{login}", "ines", "{team}", "hydraulics")
	before := len(w.kinds())
	n := 0
	for below, methods := range description.Paths {
		path := "/api/v1" + below
		for method := range methods {
			call := strings.ToUpper(method) + " " + path
			if open[call] {
				continue
			}
			n++
			query := map[string]string{"explain": "?branch=main", "grants": "?where=growers/irrigation", "owners": "?path=a", "matching": "?pattern=main", "preview": "?source=topic", "lines": "?path=a", "digest": "?since=2026-01-01T00:00:00Z", "snippets": "?check=unit", "progress": "?check=unit"}[path[strings.LastIndexByte(path, '/')+1:]]
			resp, body := w.request("", strings.ToUpper(method), fill.Replace(path)+query, bodyFor(path), "If-Match", "*")
			if resp.StatusCode != 401 && resp.StatusCode != 403 && !(strings.Contains(path, "/jobs/{id}") && resp.StatusCode == 409) {
				t.Errorf("%s answers %d: %s", call, resp.StatusCode, body)
			}
			if strings.Contains(body, "tamsin") || strings.Contains(body, k.Head) {
				t.Errorf("%s tells: %s", call, body)
			}
		}
	}
	if n < 40 {
		t.Errorf("only %d calls were tried", n)
	}
	for _, call := range []string{"/api/v1/houses", "/api/v1/repositories"} {
		if resp, body := w.request("", "GET", call, ""); resp.StatusCode != 200 || strings.TrimSpace(body) != "[]" {
			t.Errorf("%s: %d %s", call, resp.StatusCode, body)
		}
	}
	if after := len(w.kinds()); after != before {
		t.Errorf("%d lines were written", after-before)
	}
}

// bodyFor is a body that fits the call, so that it is refused for who asks and not for what is asked.
func bodyFor(path string) string {
	switch {
	case strings.HasSuffix(path, "/people"):
		return `{"login":"x"}`
	case strings.HasSuffix(path, "{name}/delete"):
		return `{"confirm":"growers/irrigation","reason":"no more"}`
	case strings.HasSuffix(path, "/repositories/{house}/{name}"):
		return `{"description":"mine"}`
	case strings.HasSuffix(path, "/disabled"):
		return `{"disabled":true}`
	case strings.HasSuffix(path, "/teams"), strings.HasSuffix(path, "/houses"), strings.HasSuffix(path, "/repositories"), strings.HasSuffix(path, "/rerun"):
		return `{"name":"x"}`
	case strings.HasSuffix(path, "/{team}"):
		return `{"members":[]}`
	case strings.HasSuffix(path, "/grants"):
		return `{"who":"odo","where":"growers/irrigation","role":"maintainer"}`
	case strings.HasSuffix(path, "/tokens"):
		return `{"login":"ines"}`
	case strings.HasSuffix(path, "/rules"):
		return `{"text":"tavrin: rules/1","reason":"lift it"}`
	case strings.HasSuffix(path, "/changes"):
		return `{"source":"topic","title":"t"}`
	case strings.HasSuffix(path, "/reviews"):
		return `{"verdict":"comment","text":"x"}`
	case strings.HasSuffix(path, "/checks"):
		return `{"commit":"` + strings.Repeat("a", 40) + `","name":"unit","state":"passed"}`
	case strings.HasSuffix(path, "/checks/reports"):
		return `{"reports":[]}`
	case strings.HasSuffix(path, "/me/mail"):
		return `{"every":"day"}`
	case strings.HasSuffix(path, "/connections"):
		return `{"check":"unit","robot":"mine"}`
	case strings.HasSuffix(path, "/webhooks"):
		return `{"name":"x","url":"https://x.example","events":["*"]}`
	case strings.HasSuffix(path, "/result"):
		return `{"state":"passed"}`
	case strings.HasSuffix(path, "/queue/forecasts"):
		return `{"days":3}`
	case strings.HasSuffix(path, "/freezes"):
		return `{"of":"growers/irrigation","name":"x","reason":"mine","begins":"2030-01-01T00:00:00Z","ends":"2030-01-02T00:00:00Z"}`
	case strings.HasSuffix(path, "/branches/delete"):
		return `{"branches":[{"name":"main","commit":"` + strings.Repeat("a", 40) + `"}]}`
	case strings.HasSuffix(path, "/undo"), strings.HasSuffix(path, "/freezes/{id}/end"), strings.HasSuffix(path, "/freezes/{id}/delete"), strings.HasSuffix(path, "/queue/hold"), strings.HasSuffix(path, "/queue/free"), strings.HasSuffix(path, "/queue/raise"):
		return `{"reason":"mine"}`
	case strings.HasSuffix(path, "/tracker"):
		return `{"url":"https://x.example/{ticket}","reason":"mine"}`
	case strings.HasSuffix(path, "/tracker/remove"):
		return `{"reason":"mine"}`
	case strings.HasSuffix(path, "/tracker/try"):
		return `{"ticket":"FEN-1"}`
	case strings.HasSuffix(path, "/try"), strings.HasSuffix(path, "/rules/trials"), strings.HasSuffix(path, "/lint"):
		return `{"text":"tavrin: rules/1"}`
	case strings.HasSuffix(path, "/webhooks/{id}/test"):
		return ""
	case strings.HasSuffix(path, "/test"):
		return `{"examples":"tavrin: examples/1\nexamples: [{name: a, change: {author: odo}, expect: ready}]"}`
	case strings.HasSuffix(path, "/restore"):
		return `{"version":1,"reason":"as it was"}`
	case strings.HasSuffix(path, "/decisions"):
		return `{"id":1,"agree":true}`
	case strings.HasSuffix(path, "/suspensions"):
		return `{"protection":"trunk","for_seconds":60,"reason":"let me in"}`
	case strings.HasSuffix(path, "/resumptions"):
		return `{"protection":"trunk"}`
	case strings.HasSuffix(path, "/threads"), strings.HasSuffix(path, "/comments"), strings.HasSuffix(path, "/{comment}"):
		return `{"text":"hello"}`
	case strings.HasSuffix(path, "/push/plan"):
		return `{"branch":"main","commit":"` + strings.Repeat("a", 40) + `"}`
	case strings.HasSuffix(path, "/waivers/plan"):
		return `{"requirements":[]}`
	case strings.HasSuffix(path, "/push"):
		return `{"branch":"main","commit":"` + strings.Repeat("a", 40) + `","reason":"it floods"}`
	case strings.HasSuffix(path, "/waivers"):
		return `{"reason":"it floods"}`
	case strings.HasSuffix(path, "/acknowledge"), strings.HasSuffix(path, "/markdown"), strings.HasSuffix(path, "/drafts"):
		return `{"text":"hello"}`
	case strings.HasSuffix(path, "/apply"):
		return `{"comments":[1]}`
	case strings.HasSuffix(path, "/follow"):
		return `{"follow":true}`
	case strings.HasSuffix(path, "/seen"):
		return `{"seq":1}`
	case strings.HasSuffix(path, "/read"):
		return `{"read":true}`
	case strings.HasSuffix(path, "/resolved"):
		return `{"resolved":true}`
	case strings.HasSuffix(path, "/reviewers"):
		return `{"who":["person:odo"]}`
	case strings.HasSuffix(path, "/keys"):
		return `{"name":"x","key":"ssh-ed25519 AAAA"}`
	case strings.HasSuffix(path, "/labels"):
		return `{"set":["urgent"]}`
	case strings.HasSuffix(path, "/confirmation"):
		return `{"token":"tvr_x"}`
	}
	return `{}`
}
