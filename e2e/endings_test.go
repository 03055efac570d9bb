package e2e

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/client"
	"tavrin/internal/service"
	"tavrin/wire"
)

// listens opens the stream of events and returns a channel that is closed when it ends.
func (w *town) listens(header ...string) <-chan struct{} {
	w.t.Helper()
	req, err := http.NewRequestWithContext(w.t.Context(), "GET", w.url+"/api/v1/events", nil)
	w.ok(err)
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	w.ok(err)
	if resp.StatusCode != 200 {
		w.t.Fatalf("the stream answers %d", resp.StatusCode)
	}
	r := bufio.NewReader(resp.Body)
	_, err = r.ReadString('\n')
	w.ok(err)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer resp.Body.Close()
		io.Copy(io.Discard, r)
	}()
	return ended
}

// within waits for something to end; the time only ends a test that has failed already.
func within(t *testing.T, what string, ended <-chan struct{}) {
	t.Helper()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Errorf("%s goes on", what)
	}
}

// session signs in to the console and returns the cookie.
func (w *town) session(login string) string {
	w.t.Helper()
	resp, body := w.request("", "POST", "/api/v1/session", `{"token":"`+w.tokens[login]+`"}`)
	if resp.StatusCode != 200 {
		w.t.Fatalf("%s does not sign in: %d %s", login, resp.StatusCode, body)
	}
	c := resp.Cookies()[0]
	return c.Name + "=" + c.Value
}

// What was begun with a token ends with it: streams, sessions, leases, and pushes under way. So it does when the account is taken
// disabled, and nothing of it comes back with the account (P7, P11).
func TestP11WhatEndsWithAToken(t *testing.T) {
	w := newTown(t)
	w.begin(commands)
	ctx := t.Context()
	w.runner()
	k := w.propose("tamsin", "topic", "unit.sh", "true\n")
	w.join("tamsin", k, "")
	w.rehearsed(k)
	tokenOf := func(login string) int64 {
		tokens, err := w.admin.Tokens(ctx)
		w.ok(err)
		i := slices.IndexFunc(tokens, func(t wire.Token) bool { return t.Login == login && t.RevokedAt == nil })
		return tokens[i].ID
	}
	// A revoked token: its stream, its session and the session's stream.
	cookie := w.session("odo")
	byToken, bySession := w.listens("Authorization", "Bearer "+w.tokens["odo"]), w.listens("Cookie", cookie)
	w.ok(w.admin.RevokeToken(ctx, tokenOf("odo")))
	within(t, "the stream of a revoked token", byToken)
	within(t, "the stream of its session", bySession)
	if resp, _ := w.request("", "GET", "/api/v1/me", "", "Cookie", cookie); resp.StatusCode != 401 {
		t.Errorf("the session goes on: %d", resp.StatusCode)
	}
	// A lost role ends what a stream of one repository tells.
	one, err := http.NewRequestWithContext(ctx, "GET", w.url+"/api/v1/events?repository="+repo, nil)
	w.ok(err)
	one.Header.Set("Authorization", "Bearer "+w.tokens["pavo"])
	resp, err := http.DefaultClient.Do(one)
	w.ok(err)
	ended := make(chan struct{})
	go func() { defer close(ended); io.Copy(io.Discard, resp.Body); resp.Body.Close() }()
	w.ok(w.admin.Grant(ctx, repo, "pavo", "none"))
	within(t, "the stream of a reader who is none any more", ended)
	// A lease ends with its token, at once, and the job is another runner's.
	barn := w.as("barn")
	job, err := barn.Lease(ctx)
	w.ok(err)
	w.ok(w.admin.RevokeToken(ctx, tokenOf("barn")))
	problem(t, barn.JobAlive(ctx, *job), 409, "lease is over")
	problem(t, barn.FinishJob(ctx, *job, wire.JobResult{State: "passed"}), 409, "lease is over")
	_, err = barn.JobPack(ctx, *job)
	problem(t, err, 409, "lease is over")
	fresh, err := w.admin.CreateToken(ctx, wire.NewToken{Login: "barn", Runner: []string{repo}, LifetimeSeconds: 4})
	w.ok(err)
	w.tokens["barn"] = fresh.Secret
	job, err = w.as("barn").Lease(ctx)
	w.ok(err)
	if job == nil {
		t.Fatal("the job was not given back")
	}
	for range 400 { // its new token runs out
		if p, ok := w.as("barn").JobAlive(ctx, *job).(*client.Problem); ok {
			problem(t, p, 409, "lease is over")
			break
		}
		pause()
	}
	fresh, err = w.admin.CreateToken(ctx, wire.NewToken{Login: "barn", Runner: []string{repo}})
	w.ok(err)
	w.tokens["barn"] = fresh.Secret
	for range 400 {
		if job, err = w.as("barn").Lease(ctx); job != nil {
			break
		}
		w.ok(err)
		pause()
	}
	if job == nil {
		t.Fatal("the job of a token that ran out was not given back")
	}
	// Disabling: everything at once, and it is said what ended and what still names the account.
	w.apply(commands + "  - {name: more, branches: more, push: person:wren}\n")
	w.propose("wren", "other", "b", "b\n")
	_, err = w.as("wren").MakeFeed(ctx)
	w.ok(err)
	cookie, stream := w.session("wren"), w.listens("Authorization", "Bearer "+w.tokens["wren"])
	d := w.disable("wren", true)
	if d.Tokens != 1 || d.Sessions != 1 || d.Feeds != 1 {
		t.Errorf("disabling says %+v", d)
	}
	has(t, strings.Join(d.NamedBy, "\n"), "the rules of growers/irrigation (version 2), line 11", "the role writer in growers/irrigation", "growers/irrigation change 2, which they opened")
	within(t, "the stream of a disabled person", stream)
	if d := w.disable("barn", true); d.Leases != 1 {
		t.Errorf("disabling a runner says %+v", d)
	}
	problem(t, w.as("barn").JobAlive(ctx, *job), 409, "lease is over")
	w.says("admin", 0, "old tokens are not", "person", "enable", "wren")
	_, err = w.as("wren").Me(ctx)
	problem(t, err, 401, "revoked")
	if resp, _ := w.request("", "GET", "/api/v1/me", "", "Cookie", cookie); resp.StatusCode != 401 {
		t.Errorf("the session came back: %d", resp.StatusCode)
	}
	w.says("admin", 0, "still named by the rules of growers/irrigation", "person", "disable", "wren")
	kinds := w.kinds()
	for _, kind := range []string{"session.begun", "token.refused", "check.given-back", "account.disabled"} {
		if !slices.Contains(kinds, kind) {
			t.Errorf("the journal has no %s: %v", kind, kinds)
		}
	}
	// Of one token it is noted once, however often it is shown.
	n := 0
	for range 5 {
		w.as("wren").Me(ctx)
	}
	for _, kind := range w.kinds() {
		if kind == "token.refused" {
			n++
		}
	}
	if n > 4 {
		t.Errorf("the journal has %d lines about refused tokens", n)
	}
}

// A push that is on its way when its token is revoked moves nothing.
func TestP11APushEndsWithItsToken(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	dir := w.clone("odo")
	w.commit("odo", dir, "a", "a\n", "a")
	tokens, err := w.as("odo").Tokens(t.Context())
	w.ok(err)
	// The pack arrives slowly: what git sends is held back until the token is gone.
	id := strings.TrimSpace(w.must("odo", dir, "rev-parse", "HEAD"))
	pack := w.pushBody(dir, []string{fmt.Sprintf("%040d %s refs/heads/late", 0, id)}, id+"\n")
	r, send := io.Pipe()
	req, err := http.NewRequestWithContext(t.Context(), "POST", w.gitURL()+"/git-receive-pack", r)
	w.ok(err)
	req.SetBasicAuth("odo", w.tokens["odo"])
	req.Header.Set("Content-Type", "application/x-git-receive-pack-request")
	answered := make(chan string, 1)
	go func() {
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			answered <- err.Error()
			return
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		answered <- string(text)
	}()
	_, err = io.WriteString(send, pack[:len(pack)/2])
	w.ok(err)
	for range 2400 { // the service has let it in, and takes objects
		if arriving, _ := filepath.Glob(filepath.Join(w.bareDir(), "tavrin-scratch-*")); len(arriving) > 0 {
			break
		}
		pause()
	}
	w.ok(w.admin.RevokeToken(context.WithoutCancel(t.Context()), tokens[0].ID))
	_, err = io.WriteString(send, pack[len(pack)/2:])
	w.ok(err)
	send.Close()
	has(t, <-answered, "your token has ended")
	if tip := w.tip("late"); tip != "" {
		t.Errorf("the branch was made, at %s", tip)
	}
}

// Confirming who one is takes the token that the session was begun with; what gives access needs it too (P11).
func TestP11ConfirmingTakesTheSecretItself(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	other, err := w.as("ines").CreateToken(ctx, wire.NewToken{Login: "ines", Name: "another"})
	w.ok(err)
	cookie := w.session("ines")
	for _, c := range []struct{ method, path, body string }{
		{"POST", "/tokens", `{"login":"ines"}`}, {"POST", "/keys", `{"name":"x","key":"ssh-ed25519 AAAA"}`}, {"PUT", "/grants", `{"where":"` + repo + `","who":"pavo","role":"maintainer"}`},
		{"PUT", "/teams/hydraulics", `{"members":["pavo"]}`}, {"PUT", "/repositories/" + repo + "/rules", `{"text":"tavrin: rules/1\n","reason":"to see"}`},
	} {
		resp, body := w.request("", c.method, "/api/v1"+c.path, c.body, "Cookie", cookie, "If-Match", `"1"`)
		if resp.StatusCode != 403 || !strings.Contains(body, "confirm who you are") {
			t.Errorf("%s %s without confirming: %d %s", c.method, c.path, resp.StatusCode, body)
		}
	}
	confirm := func(token string) int {
		resp, _ := w.request("", "POST", "/api/v1/session/confirmation", `{"token":"`+token+`"}`, "Cookie", cookie)
		return resp.StatusCode
	}
	if confirm(other.Secret) != 403 || confirm(w.tokens["odo"]) != 403 || confirm("tvr_") != 403 {
		t.Error("another token confirms")
	}
	if status := confirm(w.tokens["ines"]); status != 200 {
		t.Errorf("the session's own token: %d", status)
	}
	if resp, body := w.request("", "PUT", "/api/v1/grants", `{"where":"`+repo+`","who":"pavo","role":"writer"}`, "Cookie", cookie); resp.StatusCode != 200 {
		t.Errorf("confirmed: %d %s", resp.StatusCode, body)
	}
}

// Who administers nothing is shown the people and teams of the places where they have a role, and no others (P11).
func TestP11NotEverybodyIsListed(t *testing.T) {
	w := newTown(t)
	ctx := t.Context()
	for _, login := range []string{"dara", "milo", "senn"} {
		w.person(login)
	}
	_, err := w.admin.CreateTeam(ctx, wire.NewTeam{Name: "bees", Members: []string{"milo", "senn"}})
	w.ok(err)
	_, err = w.admin.CreateTeam(ctx, wire.NewTeam{Name: "hidden", Members: []string{"dara"}})
	w.ok(err)
	_, err = w.admin.CreateRepository(ctx, wire.NewRepository{Name: "growers/apiary"})
	w.ok(err)
	w.ok(w.admin.Grant(ctx, "growers/apiary", "team:bees", "writer"))
	seen := func(login string) string {
		t.Helper()
		people, err := w.as(login).People(ctx)
		w.ok(err)
		teams, err := w.as(login).Teams(ctx)
		w.ok(err)
		var out []string
		for _, p := range people {
			out = append(out, p.Login)
		}
		for _, team := range teams {
			out = append(out, "team:"+team.Name)
		}
		return strings.Join(out, " ")
	}
	for login, want := range map[string]string{
		"milo": "admin milo senn team:bees", "dara": "admin dara team:hidden", "tamsin": "admin ines odo pavo tamsin wren", "odo": "admin ines odo pavo tamsin wren team:hydraulics",
		"admin": "admin builder dara ines milo odo pavo senn tamsin wren team:bees team:hidden team:hydraulics",
	} {
		if got := seen(login); got != want {
			t.Errorf("%s sees %s, not %s", login, got, want)
		}
	}
	there, thereBody := w.request("milo", "GET", "/api/v1/keys?login=dara", "")
	none, noneBody := w.request("milo", "GET", "/api/v1/keys?login=darx", "")
	if there.StatusCode != 404 || none.StatusCode != 404 || strings.ReplaceAll(thereBody, "dara", "darx") != noneBody {
		t.Errorf("keys of somebody unknown: %d %s %s", there.StatusCode, thereBody, noneBody)
	}
	if resp, _ := w.request("", "GET", "/api/v1/people", ""); resp.StatusCode != 401 {
		t.Errorf("somebody who has not signed in: %d", resp.StatusCode)
	}
	// What was refused is counted, and administrators see it.
	for range 3 {
		_, err = w.as("milo").Repository(ctx, repo)
		problem(t, err, 404)
	}
	_, err = w.as("milo").Repository(ctx, "growers/nothing")
	problem(t, err, 404)
	_, err = w.as("odo").Refusals(ctx)
	problem(t, err, 403, "administrators")
	w.gitAs("milo", w.dir, "ls-remote", w.gitURL())
	all, err := w.admin.Refusals(ctx)
	w.ok(err)
	i := slices.IndexFunc(all, func(r wire.Refusal) bool { return r.Who == "milo" && r.What == "GET /api/v1/repositories/"+repo })
	if i < 0 || all[i].Times != 3 || slices.ContainsFunc(all, func(r wire.Refusal) bool { return strings.Contains(r.What, "nothing") }) ||
		!slices.ContainsFunc(all, func(r wire.Refusal) bool { return r.Who == "milo" && strings.Contains(r.What, "/git/") }) || !slices.ContainsFunc(all, func(r wire.Refusal) bool { return r.Who == "odo" }) {
		t.Errorf("refused were %+v", all)
	}
	w.says("admin", 0, "growers/irrigation", "refusals")
	// So is a push that the rules refuse.
	dir := w.begin(simple)
	w.commit("ines", dir, "x", "x\n", "x")
	if out, err := w.gitAs("ines", dir, "push", "origin", "HEAD:main"); err == nil {
		t.Errorf("main is pushed to: %s", out)
	}
	w.says("admin", 0, "push to refs/heads/main of growers/irrigation", "refusals")
}

// An address from which too many sign-ins failed is on record, once, however often it tries.
func TestFailedSignInsAreOnRecord(t *testing.T) {
	w := newTown(t)
	w.close()
	w.open(service.Options{Bounds: bound(t, "calls.failed-sign-ins=3")})
	w.admin = w.as("admin")
	for i := range 12 {
		w.request("", "GET", "/api/v1/me", "", "Authorization", fmt.Sprintf("Bearer tvr_GUESS%d", i))
		w.request("", "POST", "/api/v1/session", `{"token":"tvr_GUESS"}`)
	}
	n := 0
	for _, kind := range w.kinds() {
		if kind == "signin.shut-out" {
			n++
		}
	}
	if n != 1 {
		t.Errorf("the journal has %d lines about it: %v", n, w.kinds())
	}
}
