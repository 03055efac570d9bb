package checks

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
	"tavrin/internal/records"
	"tavrin/wire"
)

// Snippets are what a checks system does to answer for a check, ready to paste: base is the service's own address.
func Snippets(base, repo, check string) []wire.Snippet {
	name, _ := json.Marshal(check) // a string can be written
	fill := strings.NewReplacer("BASE", base, "REPO", repo, "NAME", strings.Trim(string(name), "\""))
	out := []wire.Snippet{}
	for _, s := range snippets {
		out = append(out, wire.Snippet{Name: s[0], Means: s[1], Text: strings.TrimLeft(fill.Replace(s[2]), "\n")})
	}
	return out
}

// snippets are named, explained, and written with BASE, REPO and NAME for what differs. Each takes its secrets from the environment.
var snippets = [][3]string{
	{"curl", "the calls one by one, for whatever makes them", `
# Take on the oldest commit that waits for NAME; waits up to 20 s for one. The answer has commit and attempt, or is [].
curl -sS --fail-with-body -H "Authorization: Bearer $TAVRIN_TOKEN" -H 'Content-Type: application/json' \
  -d '{"name": "NAME", "wait_seconds": 20}' BASE/api/v1/repositories/REPO/checks/claims

# Fetch that very commit, by its whole id.
git init -q work && cd work
git -c http.extraHeader="Authorization: Bearer $TAVRIN_TOKEN" fetch -q --depth=1 BASE/git/REPO.git "$COMMIT"
git checkout -q --detach FETCH_HEAD

# Answer. States: running, passed, failed, errored, skipped, cancelled. A key of your own makes it count once.
curl -sS --fail-with-body -H "Authorization: Bearer $TAVRIN_TOKEN" -H 'Content-Type: application/json' \
  -d '{"commit": "'"$COMMIT"'", "name": "NAME", "attempt": 1, "state": "passed", "summary": "all is well"}' \
  BASE/api/v1/repositories/REPO/checks
`},
	{"poll", "a worker that asks for work: nothing has to reach it", `
#!/bin/sh
# Answers for NAME of REPO. Needs curl and git; TAVRIN_TOKEN is the robot's token, CHECK the command to run.
api=BASE/api/v1/repositories/REPO/checks
call() {
  curl -sS --fail-with-body -H "Authorization: Bearer $TAVRIN_TOKEN" -H 'Content-Type: application/json' -d "$2" "$api$1"
}
while :; do
  taken=$(call /claims '{"name": "NAME", "wait_seconds": 20}') || { sleep 5; continue; }
  commit=$(printf '%s' "$taken" | sed -n 's/.*"commit":"\([0-9a-f]*\)".*/\1/p')
  attempt=$(printf '%s' "$taken" | sed -n 's/.*"attempt":\([0-9]*\).*/\1/p')
  [ -n "$commit" ] || continue
  work=$(mktemp -d)
  git init -q "$work"
  if git -C "$work" -c http.extraHeader="Authorization: Bearer $TAVRIN_TOKEN" fetch -q --depth=1 BASE/git/REPO.git "$commit" &&
      git -C "$work" checkout -q --detach FETCH_HEAD; then
    if (unset TAVRIN_TOKEN; cd "$work" && sh -c "${CHECK:-make test}") > "$work.log" 2>&1; then state=passed; else state=failed; fi
  else state=errored; fi
  call "" '{"commit": "'"$commit"'", "name": "NAME", "attempt": '"$attempt"', "state": "'"$state"'"}' > /dev/null
  rm -rf "$work" "$work.log"
done
`},
	{"receiver", "a small server that a webhook wakes: builds begin at once", `
#!/usr/bin/env python3
# Answers for NAME of REPO when a webhook of check.asked calls. Python 3.9 and git, nothing else. TAVRIN_TOKEN is the robot's
# token, TAVRIN_WEBHOOK_SECRET the webhook's, CHECK the command to run.
import base64, hashlib, hmac, http.server, json, os, queue, subprocess, tempfile, threading, time, urllib.request

TOKEN = os.environ.pop("TAVRIN_TOKEN")
SECRET = base64.b64decode(os.environ.pop("TAVRIN_WEBHOOK_SECRET").removeprefix("whsec_"))
ADDRESS = ("127.0.0.1", int(os.environ.get("PORT", "7431")))
asked = queue.Queue()

def report(check, state, summary=""):
    body = {"commit": check["commit"], "name": check["name"], "attempt": check["attempt"], "state": state, "summary": summary[:500]}
    request = urllib.request.Request("BASE/api/v1/repositories/REPO/checks", json.dumps(body).encode(),
        {"Authorization": "Bearer " + TOKEN, "Content-Type": "application/json"})
    urllib.request.urlopen(request, timeout=30).close()

def run(check):
    with tempfile.TemporaryDirectory() as work:
        git = ["git", "-C", work]
        subprocess.run(git + ["init", "-q"], check=True)
        subprocess.run(git + ["-c", "http.extraHeader=Authorization: Bearer " + TOKEN, "fetch", "-q", "--depth=1", "BASE/git/REPO.git", check["commit"]], check=True)
        subprocess.run(git + ["checkout", "-q", "--detach", "FETCH_HEAD"], check=True)
        report(check, "running")
        done = subprocess.run(["sh", "-c", os.environ.get("CHECK", "make test")], cwd=work, capture_output=True, text=True)
        lines = (done.stdout + done.stderr).strip().splitlines()
        report(check, "passed" if done.returncode == 0 else "failed", lines[-1] if lines else "")

def work():
    while True:
        check = asked.get()
        try:
            run(check)
        except Exception as trouble:
            print(check["commit"], trouble, flush=True)
            try:
                report(check, "errored", str(trouble))
            except Exception as more:
                print(check["commit"], more, flush=True)

class Receiver(http.server.BaseHTTPRequestHandler):
    def do_POST(self):
        body = self.rfile.read(min(int(self.headers.get("Content-Length", 0)), 1 << 20))
        id, at = self.headers.get("webhook-id", ""), self.headers.get("webhook-timestamp", "0")
        mac = hmac.new(SECRET, f"{id}.{at}.".encode() + body, hashlib.sha256).digest()
        good = any(hmac.compare_digest(s, "v1," + base64.b64encode(mac).decode()) for s in self.headers.get("webhook-signature", "").split())
        if not good or not at.isdigit() or abs(time.time() - int(at)) > 300:
            self.send_error(401)
            return
        event = json.loads(body)
        if event["type"] == "tavrin.check.asked" and event["data"]["details"]["name"] == "NAME" and not event.get("test"):
            asked.put(event["data"]["details"])
        self.send_response(204)
        self.end_headers()

threading.Thread(target=work, daemon=True).start()
print("listening on http://%s:%d" % ADDRESS, flush=True)
http.server.ThreadingHTTPServer(ADDRESS, Receiver).serve_forever()
`},
}

// Snippets are those of a check, for who may read the repository.
func (s *Checks) Snippets(ctx context.Context, a accounts.Actor, base, name, check string) ([]wire.Snippet, error) {
	if _, err := accounts.Reach(s.records.Read(ctx), a, name, people.Reader); err != nil {
		return nil, err
	}
	return Snippets(base, name, check), nil
}

// Fetched notes that a check robot has fetched a commit that its checks were asked for on.
func (s *Checks) Fetched(ctx context.Context, a accounts.Actor, repo *records.Repository, commit string) error {
	return s.records.Note(ctx, func(tx *records.Tx) error {
		return tx.Model(&records.CheckRun{}).Where("repository_id = ? AND commit_id = ? AND fetched_at IS NULL AND state IN ('waiting', 'running') AND name IN "+
			"(SELECT check_name FROM token_bindings WHERE token_id = ? AND repository_id = ?)", repo.ID, commit, a.Token(), repo.ID).
			Update("fetched_at", tx.Now()).Error
	})
}

// Progress says how far the newest attempt of a check has come, from being asked for to the verdict.
func (s *Checks) Progress(ctx context.Context, a accounts.Actor, name, check string) (wire.CheckProgress, error) {
	out := wire.CheckProgress{Name: check, Steps: []wire.CheckStep{}}
	v := s.records.View(ctx)
	defer v.Close()
	repo, err := accounts.Reach(v.DB, a, name, people.Reader)
	if err != nil {
		return out, err
	}
	var run records.CheckRun
	if err := v.Where("repository_id = ? AND name = ?", repo.ID, check).Order("id DESC").Limit(1).Find(&run).Error; err != nil {
		return out, err
	}
	step := func(name string, at *time.Time, words string) {
		out.Steps = append(out.Steps, wire.CheckStep{Name: name, At: at, Text: words})
	}
	if run.ID == 0 {
		step("asked", nil, "nobody has asked for it yet: it is asked for when a change is opened or rehearsed that needs it")
		return out, nil
	}
	out.Commit, out.Attempt, out.AskedFor, out.State = run.CommitID, run.Attempt, run.AskedFor, run.State
	if run.AskedFor == "" {
		step("asked", nil, "nobody asked for it; it was reported all the same")
	} else {
		step("asked", &run.CreatedAt, "for "+run.AskedFor)
	}
	sent, how, err := delivered(v, repo, run)
	if err != nil {
		return out, err
	}
	step("delivered", sent, how)
	words := ""
	if run.FetchedAt == nil && change.CheckState(run.State).Final() {
		words = "not with a check robot's token"
	}
	step("fetched", run.FetchedAt, words)
	words = ""
	if run.StartedAt != nil {
		words = "by " + run.ReportedBy
	}
	step("running", run.StartedAt, words)
	words = ""
	if run.FinishedAt != nil {
		words = strings.TrimSuffix(run.State+": "+run.Summary, ": ")
	}
	step("verdict", run.FinishedAt, words)
	return out, nil
}

// delivered says when a destination took the event that asked for an attempt; nil: none has, or none is told.
func delivered(v *records.View, repo *records.Repository, run records.CheckRun) (*time.Time, string, error) {
	var rows []struct {
		State   string
		Name    string
		EndedAt *time.Time
		Error   string
	}
	err := v.Raw("SELECT d.state, w.name, d.ended_at, (SELECT a.error FROM delivery_attempts a WHERE a.delivery_id = d.id ORDER BY a.id DESC LIMIT 1) AS error "+
		"FROM journal_lines l JOIN deliveries d ON d.seq = l.seq JOIN webhooks w ON w.id = d.webhook_id "+
		"WHERE l.repository_id = ? AND l.subject = ? AND l.kind = 'check.asked' AND json_extract(l.data, '$.name') = ? AND json_extract(l.data, '$.attempt') = ? "+
		"AND d.state <> 'dropped' ORDER BY d.id", repo.ID, "commit/"+run.CommitID, run.Name, run.Attempt).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, "no webhook sends check.asked; a worker that asks for work needs none", err
	}
	for _, r := range rows {
		if r.State == "delivered" {
			return r.EndedAt, "by webhook " + r.Name, nil
		}
	}
	return nil, strings.TrimSuffix(fmt.Sprintf("webhook %s: %s: %s", rows[0].Name, rows[0].State, rows[0].Error), ": "), nil
}
