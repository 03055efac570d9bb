package e2e

import (
	"encoding/json"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/accounts"
	"tavrin/wire"
)

// A token that is for one purpose opens the few calls it needs for that and nothing else: of all calls that there are, through
// git, and of the stream. That holds whatever its owner may do, and in a public repository too (P7, P11).
func TestP11TokensForOnePurpose(t *testing.T) {
	w := newTown(t)
	w.begin(simple + "  - {name: more, branches: main, require: [{checks: [lint, ours]}]}\n")
	ctx := t.Context()
	w.runner()
	public := true
	_, err := w.admin.CreateRepository(ctx, wire.NewRepository{Name: "growers/handbook", Public: public})
	w.ok(err)
	for _, login := range []string{"builder", "barn"} {
		w.ok(w.admin.Grant(ctx, repo, login, "maintainer"))
	}
	t1, err := w.admin.CreateToken(ctx, wire.NewToken{Login: "builder", Checks: []string{repo + ":unit"}})
	w.ok(err)
	w.tokens["unit"] = t1.Secret
	k := w.propose("tamsin", "topic", "a", "a\n")
	_, text := w.request("", "GET", "/api/v1/openapi.json", "")
	var described struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
		} `json:"paths"`
	}
	w.ok(json.Unmarshal([]byte(text), &described))
	fill := strings.NewReplacer("{house}", "growers", "{name}", "irrigation", "{number}", "1", "{commit}", k.Head, "{login}", "odo", "{team}", "hydraulics")
	calls := 0
	for path, methods := range described.Paths {
		for method, op := range methods {
			calls++
			path := "/api/v1" + fill.Replace(path)
			if i := strings.IndexByte(path, '{'); i >= 0 {
				path = path[:i] + "1" + path[strings.IndexByte(path, '}')+1:]
			}
			if strings.HasPrefix(path, "/api/v1/jobs/1/") {
				continue // opened by the job's lease
			}
			for login, scope := range map[string]accounts.Scope{"unit": accounts.ScopeChecks, "barn": accounts.ScopeRunner} {
				resp, body := w.request(login, strings.ToUpper(method), path, "{}")
				if open := slices.Contains(accounts.CallsOf(scope), op.OperationID); open == (resp.StatusCode == 403 && strings.Contains(body, "nothing else")) {
					t.Errorf("%s (%s %s) with a %s's token: %d %s", op.OperationID, method, path, scope, resp.StatusCode, body)
				}
			}
		}
	}
	if calls < 80 {
		t.Errorf("only %d calls are described: %v", calls, slices.Sorted(maps.Keys(described.Paths)))
	}
	for _, login := range []string{"unit", "barn"} {
		for _, url := range []string{w.gitURL(), w.url + "/git/growers/handbook.git"} {
			if out, err := w.gitAs(login, w.dir, "ls-remote", url); err == nil && out != "" {
				t.Errorf("%s reads %s: %s", login, url, out)
			}
		}
		dir := w.clone("tamsin")
		if out, err := w.gitAs(login, dir, "push", w.gitURL(), "HEAD:other"); err == nil {
			t.Errorf("%s pushes: %s", login, out)
		}
		for _, path := range []string{"/api/v1/events", "/api/v1/events?repository=" + repo} {
			if resp, body := w.request(login, "GET", path, ""); resp.StatusCode != 403 {
				t.Errorf("%s with %s's token: %d %s", path, login, resp.StatusCode, body)
			}
		}
	}
	// What a check robot sees of checks are those that its token names.
	w.approve("odo", k)
	w.join("tamsin", k, "rebase")
	commit := w.rehearsed(k)
	wanted, err := w.as("unit").Wanted(ctx, repo)
	w.ok(err)
	checks, err := w.as("unit").Checks(ctx, repo, commit)
	w.ok(err)
	if _, err := w.as("unit").Tree(ctx, repo, commit, "a"); err != nil {
		t.Errorf("what it has to check cannot be read: %v", err)
	}
	// It fetches that commit, by its id, and what it stands on; and no other. (Before version 2 of the protocol git asks for
	// nothing where nothing is listed.)
	other := w.propose("wren", "other", "b", "b\n")
	for _, version := range []string{"0", "1", "2"} {
		dir := filepath.Join(t.TempDir(), "fetched")
		w.must("unit", w.dir, "init", "-q", dir)
		if version == "2" {
			w.must("unit", dir, "fetch", "-q", "--depth=1", w.gitURL(), commit)
		}
		for _, not := range []string{other.Head, w.must("ines", w.clone("ines"), "rev-parse", "origin/other^{tree}"), strings.Repeat("1", 40)} {
			if out, err := w.gitAs("unit", dir, "-c", "protocol.version="+version, "fetch", "-q", w.gitURL(), not); err == nil {
				t.Errorf("in version %s it fetches %s: %s", version, not, out)
			}
		}
		if out, err := w.gitAs("unit", dir, "-c", "protocol.version="+version, "fetch", "-q", w.gitURL(), "main"); err == nil {
			t.Errorf("in version %s it fetches main: %s", version, out)
		}
		w.gitAs("unit", dir, "-c", "protocol.version="+version, "fetch", "-q", w.gitURL(), "+refs/*:refs/far/*")
		if got := w.must("unit", dir, "for-each-ref"); got != "" {
			t.Errorf("in version %s it has %s", version, got)
		}
	}
	for _, at := range []string{w.tip("main"), "main", other.Head, "other"} { // reported of its own accord or not
		w.as("unit").ReportCheck(ctx, repo, wire.NewReport{Commit: at, Name: "unit", State: "failed"})
		_, err := w.as("unit").Tree(ctx, repo, at, "")
		problem(t, err, 403, "the commits that its checks are wanted on")
	}
	if len(wanted) != 1 || wanted[0].Name != "unit" || len(checks) != 1 || checks[0].Name != "unit" {
		t.Errorf("wanted of it are %+v; it sees %+v", wanted, checks)
	}
}
