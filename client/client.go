// Package client is the Go client of Tavrin's API.
//
// It sends tokens over https, and over plain http to loopback only. Errors of the service come back as *Problem,
// with the same sentence that every other face shows.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"tavrin/wire"
)

// DefaultURL is where a service listens that was started without an address.
const DefaultURL = "http://127.0.0.1:7420"

// Client talks to one service as one person or robot. It is safe for concurrent use.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// New makes a client. An empty URL means DefaultURL; an empty token, somebody who has not signed in.
func New(rawURL, token string) (*Client, error) {
	if rawURL == "" {
		rawURL = DefaultURL
	}
	u, err := url.Parse(rawURL)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") || u.User != nil {
		return nil, fmt.Errorf("%q is not the address of a service: http://127.0.0.1:7420 or https://HOST", rawURL)
	}
	if u.Scheme == "http" && token != "" && !loopback(u.Hostname()) {
		return nil, fmt.Errorf("a token is not sent over plain http to %s: use https, or a service on loopback",
			u.Hostname())
	}
	return &Client{base: strings.TrimRight(rawURL, "/"), token: token, http: &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}, nil
}

func loopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// URL returns the service's address without a slash at the end.
func (c *Client) URL() string { return c.base }

// GitURL returns the address of a repository for git.
func (c *Client) GitURL(repo string) string { return c.base + "/git/" + repo + ".git" }

// Problem is an error that the service reported.
type Problem struct {
	Status   int            `json:"status"`
	Title    string         `json:"title"`
	Detail   string         `json:"detail"`
	Findings []wire.Finding `json:"findings"`
}

// Error returns the service's sentence.
func (p *Problem) Error() string {
	if p.Detail == "" {
		return fmt.Sprintf("the service answered %d %s", p.Status, http.StatusText(p.Status))
	}
	return p.Detail
}

// Call makes one JSON call: body is sent when it is not nil, the answer is read into out when that is not nil.
func (c *Client) Call(ctx context.Context, method, path string, body, out any) error {
	return c.call(ctx, method, path, nil, body, out)
}

func (c *Client) call(ctx context.Context, method, path string, header http.Header, body, out any) error {
	var payload io.Reader
	if body != nil {
		data, err := json.Marshal(body)
		if err != nil {
			return fmt.Errorf("%s %s: %w", method, path, err)
		}
		payload = bytes.NewReader(data)
	}
	resp, err := c.send(ctx, method, path, c.token, header, payload)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("read the service's answer to %s %s: %w", method, path, err)
	}
	return nil
}

// send makes a request and turns every answer that is not a success into an error.
func (c *Client) send(ctx context.Context, method, path, token string, header http.Header,
	body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		var failed *url.Error
		if errors.As(err, &failed) && ctx.Err() == nil {
			return nil, fmt.Errorf("the service at %s cannot be reached: %w", c.base, failed.Err)
		}
		return nil, err
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	p := &Problem{}
	if json.NewDecoder(io.LimitReader(resp.Body, 4<<20)).Decode(p) != nil || p.Status == 0 {
		p = &Problem{Status: resp.StatusCode}
	}
	return nil, p
}

// get makes a GET call and returns its answer.
func get[T any](ctx context.Context, c *Client, path string, query ...string) (T, error) {
	var out T
	v := url.Values{}
	for i := 0; i+1 < len(query); i += 2 {
		if query[i+1] != "" && query[i+1] != "0" {
			v.Set(query[i], query[i+1])
		}
	}
	if len(v) > 0 {
		path += "?" + v.Encode()
	}
	return out, c.Call(ctx, http.MethodGet, path, nil, &out)
}

// post makes a POST call and returns its answer.
func post[T any](ctx context.Context, c *Client, path string, body any) (T, error) {
	var out T
	return out, c.Call(ctx, http.MethodPost, path, body, &out)
}

func repoPath(repo string) string { return "/repositories/" + escaped(repo) }

func changePath(repo string, number int) string {
	return repoPath(repo) + "/changes/" + strconv.Itoa(number)
}

// escaped escapes each part of HOUSE/NAME.
func escaped(repo string) string {
	house, name, _ := strings.Cut(repo, "/")
	return url.PathEscape(house) + "/" + url.PathEscape(name)
}

// Me says who the token belongs to.
func (c *Client) Me(ctx context.Context) (wire.Me, error) { return get[wire.Me](ctx, c, "/me") }

// People lists people and robots.
func (c *Client) People(ctx context.Context) ([]wire.Person, error) {
	return get[[]wire.Person](ctx, c, "/people")
}

// NewPerson is what a person or robot is made from.
type NewPerson struct {
	Login string `json:"login"`
	Name  string `json:"name,omitempty"`
	Email string `json:"email,omitempty"`
	Robot bool   `json:"robot,omitempty"`
	Admin bool   `json:"admin,omitempty"`
}

// CreatePerson makes a person or a robot.
func (c *Client) CreatePerson(ctx context.Context, p NewPerson) (wire.Person, error) {
	return post[wire.Person](ctx, c, "/people", p)
}

// SetDisabled takes an account out of use, and ends all that was begun with its tokens, or takes it back into use.
func (c *Client) SetDisabled(ctx context.Context, login string, disabled bool) (wire.Disabled, error) {
	var out wire.Disabled
	err := c.Call(ctx, http.MethodPut, "/people/"+url.PathEscape(login)+"/disabled",
		map[string]bool{"disabled": disabled}, &out)
	return out, err
}

// Refusals lists what was refused for a reason of rights since the service was started, the most frequent first.
func (c *Client) Refusals(ctx context.Context) ([]wire.Refusal, error) {
	return get[[]wire.Refusal](ctx, c, "/refusals")
}

// Teams lists teams.
func (c *Client) Teams(ctx context.Context) ([]wire.Team, error) {
	return get[[]wire.Team](ctx, c, "/teams")
}

// CreateTeam makes a team. Its keepers may change it, besides administrators.
func (c *Client) CreateTeam(ctx context.Context, name string, members, keepers []string) (wire.Team, error) {
	return post[wire.Team](ctx, c, "/teams", map[string]any{"name": name, "members": append([]string{}, members...),
		"keepers": append([]string{}, keepers...)})
}

// SetTeam replaces a team's members, its keepers, or both; nil leaves a list as it is.
func (c *Client) SetTeam(ctx context.Context, name string, members, keepers []string) error {
	body := map[string]any{}
	if members != nil {
		body["members"] = members
	}
	if keepers != nil {
		body["keepers"] = keepers
	}
	return c.Call(ctx, http.MethodPut, "/teams/"+url.PathEscape(name), body, nil)
}

// Grant gives somebody a role in a house or repository; "none" takes it away.
func (c *Client) Grant(ctx context.Context, where, who, role string) error {
	return c.Call(ctx, http.MethodPut, "/grants", wire.Grant{Who: who, Where: where, Role: role}, nil)
}

// Desk lists what waits for whoever asks, in every repository.
func (c *Client) Desk(ctx context.Context) ([]wire.DeskItem, error) {
	return get[[]wire.DeskItem](ctx, c, "/desk")
}

// Keys lists a person's public keys; one's own when login is empty.
func (c *Client) Keys(ctx context.Context, login string) ([]wire.Key, error) {
	return get[[]wire.Key](ctx, c, "/keys", "login", login)
}

// AddKey registers a public key of one's own, in the form of authorized_keys.
func (c *Client) AddKey(ctx context.Context, name, key string) (wire.Key, error) {
	return post[wire.Key](ctx, c, "/keys", map[string]string{"name": name, "key": key})
}

// RemoveKey takes a key out of use.
func (c *Client) RemoveKey(ctx context.Context, id int64) error {
	return c.Call(ctx, http.MethodDelete, fmt.Sprintf("/keys/%d", id), nil, nil)
}

// NewToken is what a token is made from.
type NewToken struct {
	Login           string   `json:"login"`
	Name            string   `json:"name,omitempty"`
	LifetimeSeconds int64    `json:"lifetime_seconds,omitempty"`
	ReadOnly        bool     `json:"read_only,omitempty"`
	Witness         []string `json:"witness,omitempty"`
	Runner          []string `json:"runner,omitempty"`
}

// CreateToken makes a token; the answer holds its secret.
func (c *Client) CreateToken(ctx context.Context, t NewToken) (wire.Token, error) {
	return post[wire.Token](ctx, c, "/tokens", t)
}

// Tokens lists tokens without their secrets.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	return get[[]wire.Token](ctx, c, "/tokens")
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	return c.Call(ctx, http.MethodDelete, fmt.Sprintf("/tokens/%d", id), nil, nil)
}

// Houses lists houses.
func (c *Client) Houses(ctx context.Context) ([]wire.House, error) {
	return get[[]wire.House](ctx, c, "/houses")
}

// CreateHouse makes a house.
func (c *Client) CreateHouse(ctx context.Context, name string) (wire.House, error) {
	return post[wire.House](ctx, c, "/houses", map[string]string{"name": name})
}

// NewRepository is what a repository is made from.
type NewRepository struct {
	Name          string `json:"name"`
	DefaultBranch string `json:"default_branch,omitempty"`
	Public        bool   `json:"public,omitempty"`
	ImportURL     string `json:"import_url,omitempty"`
}

// CreateRepository makes a repository.
func (c *Client) CreateRepository(ctx context.Context, r NewRepository) (wire.Repository, error) {
	return post[wire.Repository](ctx, c, "/repositories", r)
}

// Repositories lists the repositories one may read.
func (c *Client) Repositories(ctx context.Context) ([]wire.Repository, error) {
	return get[[]wire.Repository](ctx, c, "/repositories")
}

// Repository describes one repository.
func (c *Client) Repository(ctx context.Context, repo string) (wire.Repository, error) {
	return get[wire.Repository](ctx, c, repoPath(repo))
}

// SettleRepository tries once more to settle a repository that was set apart; for administrators.
func (c *Client) SettleRepository(ctx context.Context, repo string) (wire.Repository, error) {
	return post[wire.Repository](ctx, c, repoPath(repo)+"/settle", nil)
}

// Branches lists a repository's branches.
func (c *Client) Branches(ctx context.Context, repo string) ([]wire.Branch, error) {
	return get[[]wire.Branch](ctx, c, repoPath(repo)+"/branches")
}

// History lists commits backwards from a branch, tag or commit.
func (c *Client) History(ctx context.Context, repo, at string, limit int) ([]wire.Commit, error) {
	return get[[]wire.Commit](ctx, c, repoPath(repo)+"/history", "at", at, "limit", strconv.Itoa(limit))
}

// Lines says which commit, and which change, each line of a file comes from.
func (c *Client) Lines(ctx context.Context, repo, at, path string) (wire.LineOrigins, error) {
	return get[wire.LineOrigins](ctx, c, repoPath(repo)+"/lines", "at", at, "path", path)
}

// Tree shows a folder or file at a commit.
func (c *Client) Tree(ctx context.Context, repo, at, path string) (wire.Tree, error) {
	return get[wire.Tree](ctx, c, repoPath(repo)+"/tree", "at", at, "path", path)
}

// NewChange is what a change is made from.
type NewChange struct {
	Source      string `json:"source"`
	Target      string `json:"target,omitempty"`
	Title       string `json:"title"`
	Description string `json:"description,omitempty"` // empty: as the rules have new changes begin
	Draft       bool   `json:"draft,omitempty"`
	DependsOn   []int  `json:"depends_on,omitempty"` // numbers of changes that it waits for
}

// OpenChange opens a change.
func (c *Client) OpenChange(ctx context.Context, repo string, n NewChange) (wire.Change, error) {
	return post[wire.Change](ctx, c, repoPath(repo)+"/changes", n)
}

// ChangeQuery selects changes; what is empty selects nothing out.
type ChangeQuery struct {
	State  string // draft, open, landed, closed or all; empty: draft and open
	Target string
	By     string // opened by
	Label  string
	Text   string // in the title or the source branch
	Before int    // numbers below it, for the next page
	Limit  int
}

// Changes lists changes, newest first.
func (c *Client) Changes(ctx context.Context, repo string, q ChangeQuery) ([]wire.Change, error) {
	return get[[]wire.Change](ctx, c, repoPath(repo)+"/changes", "state", q.State, "target", q.Target, "by", q.By,
		"label", q.Label, "text", q.Text,
		"before", strconv.Itoa(q.Before), "limit", strconv.Itoa(q.Limit))
}

// Change describes one change.
func (c *Client) Change(ctx context.Context, repo string, number int) (wire.Change, error) {
	return get[wire.Change](ctx, c, changePath(repo, number))
}

// ChangeEdit is what is to be altered; nil leaves a part as it is.
type ChangeEdit struct {
	Title       *string `json:"title,omitempty"`
	Description *string `json:"description,omitempty"`
	Draft       *bool   `json:"draft,omitempty"`
	Target      *string `json:"target,omitempty"`
	DependsOn   *[]int  `json:"depends_on,omitempty"`
}

// BringUp brings a change's source branch up to its target, by rebase (the default) or merge.
func (c *Client) BringUp(ctx context.Context, repo string, number int, by string) (wire.Change, error) {
	return post[wire.Change](ctx, c, changePath(repo, number)+"/bring-up", map[string]string{"by": by})
}

// EditChange alters a change.
func (c *Client) EditChange(ctx context.Context, repo string, number int, e ChangeEdit) (wire.Change, error) {
	var out wire.Change
	return out, c.Call(ctx, http.MethodPatch, changePath(repo, number), e, &out)
}

// CloseChange gives a change up.
func (c *Client) CloseChange(ctx context.Context, repo string, number int) (wire.Change, error) {
	return post[wire.Change](ctx, c, changePath(repo, number)+"/close", nil)
}

// ReopenChange takes a closed change up again.
func (c *Client) ReopenChange(ctx context.Context, repo string, number int) (wire.Change, error) {
	return post[wire.Change](ctx, c, changePath(repo, number)+"/reopen", nil)
}

// Gate gives a change's gate report.
func (c *Client) Gate(ctx context.Context, repo string, number int) (wire.Report, error) {
	return get[wire.Report](ctx, c, changePath(repo, number)+"/gate")
}

// Landing says how a change landed.
func (c *Client) Landing(ctx context.Context, repo string, number int) (wire.Landing, error) {
	return get[wire.Landing](ctx, c, changePath(repo, number)+"/landing")
}

// Revisions lists a change's revisions.
func (c *Client) Revisions(ctx context.Context, repo string, number int) ([]wire.Revision, error) {
	return get[[]wire.Revision](ctx, c, changePath(repo, number)+"/revisions")
}

// Reading says what of a change is read, and how.
type Reading struct {
	Revision    int    // 0: the newest
	Since       int    // another revision: what came after it; 0: everything
	Commit      string // one commit of the revision; empty: all
	IgnoreSpace bool
	FilesOnly   bool
	Context     int // lines around what differs; 0: three
}

func (r Reading) query() []string {
	space, files := "", ""
	if r.IgnoreSpace {
		space = "ignored"
	}
	if r.FilesOnly {
		files = "true"
	}
	return []string{"revision", strconv.Itoa(r.Revision), "since", strconv.Itoa(r.Since), "commit", r.Commit, "space",
		space, "files", files, "context", strconv.Itoa(r.Context)}
}

// Diff shows what a reading is about.
func (c *Client) Diff(ctx context.Context, repo string, number int, r Reading) (wire.Diff, error) {
	return get[wire.Diff](ctx, c, changePath(repo, number)+"/diff", r.query()...)
}

// FileDiff shows one file of what a reading is about; file is as the list of files names it.
func (c *Client) FileDiff(ctx context.Context, repo string, number int, file string,
	r Reading) (wire.FilePatch, error) {
	r.FilesOnly = false
	return get[wire.FilePatch](ctx, c, changePath(repo, number)+"/diff/"+url.PathEscape(file), r.query()...)
}

// Tick ticks a file as read, or takes the tick away.
func (c *Client) Tick(ctx context.Context, repo string, number, revision int, file string, read bool) error {
	return c.Call(ctx, http.MethodPut, changePath(repo, number)+"/diff/"+url.PathEscape(file)+"/read",
		map[string]any{"read": read, "revision": revision}, nil)
}

// Looked remembers up to which revision the caller has looked at a change; 0: the newest.
func (c *Client) Looked(ctx context.Context, repo string, number, revision int) error {
	return c.Call(ctx, http.MethodPut, changePath(repo, number)+"/looked", map[string]any{"revision": revision}, nil)
}

// Reviews lists what reviewers said.
func (c *Client) Reviews(ctx context.Context, repo string, number int) ([]wire.Review, error) {
	return get[[]wire.Review](ctx, c, changePath(repo, number)+"/reviews")
}

// Review approves, objects or comments.
func (c *Client) Review(ctx context.Context, repo string, number int, verdict string, revision int,
	text string) (wire.Review, error) {
	return post[wire.Review](ctx, c, changePath(repo, number)+"/reviews",
		map[string]any{"verdict": verdict, "revision": revision, "text": text})
}

// SendGathered is Review together with everything that the caller has gathered.
func (c *Client) SendGathered(ctx context.Context, repo string, number int, verdict string, revision int,
	text string) (wire.Review, error) {
	return post[wire.Review](ctx, c, changePath(repo, number)+"/reviews",
		map[string]any{"verdict": verdict, "revision": revision, "text": text, "gathered": true})
}

// Withdraw takes back one's approval or objection.
func (c *Client) Withdraw(ctx context.Context, repo string, number int) (wire.Review, error) {
	return post[wire.Review](ctx, c, changePath(repo, number)+"/withdraw", nil)
}

// NewReport is what a witness says of a check.
type NewReport struct {
	Commit  string `json:"commit"`
	Name    string `json:"name"`
	State   string `json:"state"`
	Link    string `json:"link,omitempty"`
	Summary string `json:"summary,omitempty"`
	Attempt int    `json:"attempt,omitempty"`
}

// ReportCheck reports a check.
func (c *Client) ReportCheck(ctx context.Context, repo string, r NewReport) (wire.Check, error) {
	return post[wire.Check](ctx, c, repoPath(repo)+"/checks", r)
}

// Checks lists the checks of a commit.
func (c *Client) Checks(ctx context.Context, repo, commit string) ([]wire.Check, error) {
	return get[[]wire.Check](ctx, c, repoPath(repo)+"/commits/"+url.PathEscape(commit)+"/checks")
}

// CheckNames lists the checks seen so far and those the rules name.
func (c *Client) CheckNames(ctx context.Context, repo string) ([]wire.CheckName, error) {
	return get[[]wire.CheckName](ctx, c, repoPath(repo)+"/checks")
}

// Wanted lists checks that wait for a witness.
func (c *Client) Wanted(ctx context.Context, repo string) ([]wire.Check, error) {
	return get[[]wire.Check](ctx, c, repoPath(repo)+"/checks/wanted")
}

// AskAgain asks for another attempt of a check.
func (c *Client) AskAgain(ctx context.Context, repo, commit, name string) (wire.Check, error) {
	return post[wire.Check](ctx, c, repoPath(repo)+"/commits/"+url.PathEscape(commit)+"/checks/again",
		map[string]string{"name": name})
}

// NewEntry is how a change is to land.
type NewEntry struct {
	Strategy     string `json:"strategy,omitempty"`
	Message      string `json:"message,omitempty"`
	RemoveSource *bool  `json:"remove_source,omitempty"`
}

// Join puts a change into its target's queue.
func (c *Client) Join(ctx context.Context, repo string, number int, e NewEntry) (wire.Entry, error) {
	return post[wire.Entry](ctx, c, changePath(repo, number)+"/queue", e)
}

// Leave takes a change out of the queue.
func (c *Client) Leave(ctx context.Context, repo string, number int) (wire.Entry, error) {
	var out wire.Entry
	return out, c.Call(ctx, http.MethodDelete, changePath(repo, number)+"/queue", nil, &out)
}

// Queue shows the line for a branch; empty: the default branch.
func (c *Client) Queue(ctx context.Context, repo, branch string) (wire.Queue, error) {
	return get[wire.Queue](ctx, c, repoPath(repo)+"/queue", "branch", branch)
}

// Journal lists lines of the journal, newest first; repo may be empty.
func (c *Client) Journal(ctx context.Context, repo string, limit int) ([]wire.JournalLine, error) {
	return get[[]wire.JournalLine](ctx, c, "/journal", "repository", repo, "limit", strconv.Itoa(limit))
}

// JournalAfter lists the lines after one, oldest first.
func (c *Client) JournalAfter(ctx context.Context, repo string, after int64, limit int) ([]wire.JournalLine, error) {
	return get[[]wire.JournalLine](ctx, c, "/journal", "repository", repo, "after", strconv.FormatInt(after, 10),
		"limit", strconv.Itoa(limit))
}

// VerifyJournal has the service check its whole journal, that it goes on from a head exported earlier (nil: none), and
// that records and branches are as it tells. It returns the head, signed.
func (c *Client) VerifyJournal(ctx context.Context, earlier *wire.SignedHead) (wire.SignedHead, error) {
	query := ""
	if earlier != nil {
		query = "?" + url.Values{"seq": {strconv.FormatInt(earlier.Seq, 10)}, "hash": {earlier.Hash},
			"public_key": {earlier.PublicKey}, "signature": {earlier.Signature}}.Encode()
	}
	return post[wire.SignedHead](ctx, c, "/journal/verify"+query, nil)
}

// JournalHead returns the newest line's place and hash, signed, for somebody else to keep.
func (c *Client) JournalHead(ctx context.Context) (wire.SignedHead, error) {
	return get[wire.SignedHead](ctx, c, "/journal/head")
}

// RunnerPlace tells a runner how to find out whether it could read the service's data.
func (c *Client) RunnerPlace(ctx context.Context) (wire.RunnerPlace, error) {
	return get[wire.RunnerPlace](ctx, c, "/jobs/place")
}

// Lease takes the oldest waiting command check; nil when there is none.
func (c *Client) Lease(ctx context.Context) (*wire.Job, error) {
	jobs, err := post[[]wire.Job](ctx, c, "/jobs/lease", nil)
	if err != nil || len(jobs) == 0 {
		return nil, err
	}
	return &jobs[0], nil
}

// JobAlive prolongs a job's lease.
func (c *Client) JobAlive(ctx context.Context, j wire.Job) error {
	resp, err := c.send(ctx, http.MethodPost, fmt.Sprintf("/jobs/%d/alive", j.ID), j.Lease, nil, nil)
	if err == nil {
		resp.Body.Close()
	}
	return err
}

// JobPack returns the pack of the job's commit; the caller closes it.
func (c *Client) JobPack(ctx context.Context, j wire.Job) (io.ReadCloser, error) {
	resp, err := c.send(ctx, http.MethodGet, fmt.Sprintf("/jobs/%d/pack", j.ID), j.Lease, nil, nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

// FinishJob sends a job's answer.
func (c *Client) FinishJob(ctx context.Context, j wire.Job, state, summary, log string) error {
	data, err := json.Marshal(map[string]string{"state": state, "summary": summary, "log": log})
	if err != nil {
		return err
	}
	resp, err := c.send(ctx, http.MethodPost, fmt.Sprintf("/jobs/%d/result", j.ID), j.Lease, nil, bytes.NewReader(data))
	if err == nil {
		resp.Body.Close()
	}
	return err
}

// Event is one event of the stream.
type Event struct {
	ID      string          `json:"id"`
	Type    string          `json:"type"`
	Subject string          `json:"subject"`
	Time    time.Time       `json:"time"`
	Data    json.RawMessage `json:"data"`
}

// Events calls f for each event of a repository (empty: of all one may read) until f returns false, the stream
// ends, or the context does. after is the id to go on from; empty: from now.
func (c *Client) Events(ctx context.Context, repo, after string, f func(Event) bool) error {
	header := http.Header{"Accept": {"text/event-stream"}}
	if after != "" {
		header.Set("Last-Event-ID", after)
	}
	path := "/events"
	if repo != "" {
		path += "?repository=" + url.QueryEscape(repo)
	}
	resp, err := c.send(ctx, http.MethodGet, path, c.token, header, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var e Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return fmt.Errorf("read an event: %w", err)
		}
		if !f(e) {
			return nil
		}
	}
	return lines.Err()
}
