// Package demo brings the made-up co-operative to life on a running service, through the same interfaces that
// everybody uses: the client and the stock git program.
package demo

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tavrin/client"
	data "tavrin/demo"
	"tavrin/wire"
)

// House is the house that the demonstration's repositories live in.
const House = "growers"

// World is the co-operative on a service.
type World struct {
	URL     string
	Dir     string // for clones and token files
	Tokens  map[string]string
	admin   *client.Client
	outside map[string]string // where systems outside listen
}

// SecretFile is the file with the secret of the webhook that wakes a system outside, by the login of its robot.
func (w *World) SecretFile(login string) string { return filepath.Join(w.Dir, login+".secret") }

// repos are the demonstration's repositories and whether they have rules.
var repos = []struct {
	name  string
	rules bool
	roles map[string]string
}{
	{"irrigation", true, map[string]string{"ines": "maintainer", "odo": "maintainer", "tamsin": "writer",
		"bela": "writer", "wren": "writer", "pavo": "writer"}},
	{"handbook", true, map[string]string{"ines": "maintainer", "pavo": "maintainer", "tamsin": "writer",
		"wren": "reader"}},
	{"field-kit", false, map[string]string{"wren": "maintainer", "odo": "writer"}},
}

// Build makes the people, the repositories with their history, and the rules.
// outside are the addresses at which the systems outside listen: bench and fields, by the login of their robot, and tracker.
func Build(ctx context.Context, url, adminToken, dir string, outside map[string]string) (*World, error) {
	w := &World{URL: url, Dir: dir, Tokens: map[string]string{"admin": adminToken}, outside: outside}
	var err error
	if w.admin, err = client.New(url, adminToken); err != nil {
		return nil, err
	}
	for _, step := range []func(context.Context) error{w.people, w.robots, w.tracker, w.repositories} {
		if err := step(ctx); err != nil {
			return nil, fmt.Errorf("build the demonstration: %w", err)
		}
	}
	return w, w.writeTokens()
}

func (w *World) people(ctx context.Context) error {
	for _, p := range data.People {
		if _, err := w.admin.CreatePerson(ctx, wire.NewPerson{Login: p.Login, Name: p.Name,
			Email: data.Address(p.Login)}); err != nil {
			return err
		}
		t, err := w.admin.CreateToken(ctx, wire.NewToken{Login: p.Login, Name: "demonstration"})
		if err != nil {
			return err
		}
		w.Tokens[p.Login] = t.Secret
	}
	for name, members := range data.Teams {
		if _, err := w.admin.CreateTeam(ctx, wire.NewTeam{Name: name, Members: members, Managers: members[:1]}); err != nil {
			return err
		}
	}
	if _, err := w.admin.CreateHouse(ctx, House); err != nil {
		return err
	}
	if err := w.admin.Grant(ctx, House, "ines", "maintainer"); err != nil {
		return err
	}
	maintainer, err := w.As("ines")
	if err != nil {
		return err
	}
	if _, err := maintainer.PlanFreeze(ctx, wire.NewFreeze{Of: House, Calendar: data.QuietWeekends(), Branches: []string{"release/**"},
		Reason: "nobody is there to look after a release"}); err != nil {
		return err
	}
	_, err = maintainer.ApplyRules(ctx, House, wire.NewRules{Text: data.Rules("house"), Reason: "what the members' meeting agreed on"}, 0)
	return err
}

// robots makes the runner and the bench; their tokens come with the repositories.
func (w *World) robots(ctx context.Context) error {
	for login, name := range map[string]string{"barn": "The runner in the barn", "bench": "The valve bench", "fields": "The controllers in the fields"} {
		if _, err := w.admin.CreatePerson(ctx, wire.NewPerson{Login: login, Name: name, Robot: true}); err != nil {
			return err
		}
	}
	return nil
}

// TicketsFile and KeyFile are what the tracker is started with: its tickets, and the key of whoever asks.
func (w *World) TicketsFile() string { return filepath.Join(w.Dir, "tickets.json") }

// KeyFile is where the key of the tracker is kept.
func (w *World) KeyFile() string { return filepath.Join(w.Dir, "tracker.key") }

// tracker has the house ask its tracker about tickets, and comment there on what has landed.
func (w *World) tracker(ctx context.Context) error {
	key := rand.Text()
	if err := errors.Join(os.WriteFile(w.TicketsFile(), []byte(data.Tickets()), 0o600), os.WriteFile(w.KeyFile(), []byte(key), 0o600)); err != nil {
		return err
	}
	ines, err := w.As("ines")
	if err != nil {
		return err
	}
	headers := map[string]string{"Authorization": "Bearer " + key}
	at := w.outside["tracker"] + "tickets/"
	if _, err := ines.SetTracker(ctx, House, wire.NewTracker{URL: at + "{ticket}", Headers: headers, Reason: "what changes are for is on the work list"}); err != nil {
		return err
	}
	_, err = ines.CreateWebhook(ctx, wire.NewWebhook{Of: House, Name: "work list", URL: at + "${data.details.tickets[0]}/comments", Headers: headers,
		Events: []string{"change.landed"}, When: "has(data.details.tickets)", Body: "${data.text}", ContentType: "text/plain"})
	return err
}

func (w *World) repositories(ctx context.Context) error {
	for _, r := range repos {
		name := House + "/" + r.name
		if _, err := w.admin.CreateRepository(ctx, wire.NewRepository{Name: name}); err != nil {
			return err
		}
		for login, role := range r.roles {
			if err := w.admin.Grant(ctx, name, login, role); err != nil {
				return err
			}
		}
		maintainer := "ines"
		if r.roles["ines"] == "" {
			maintainer = "wren"
		}
		if err := w.history(ctx, r.name, maintainer); err != nil {
			return err
		}
		if !r.rules {
			continue
		}
		c, err := w.As(maintainer)
		if err != nil {
			return err
		}
		if _, err := c.ApplyRules(ctx, name, wire.NewRules{Text: data.Rules(r.name), Reason: "the co-operative agreed on these in spring"}, 0); err != nil {
			return err
		}
	}
	runner, err := w.admin.CreateToken(ctx, wire.NewToken{Login: "barn", Name: "runner",
		Runner: []string{House + "/irrigation"}})
	if err != nil {
		return err
	}
	w.Tokens["barn"] = runner.Secret
	for _, o := range []struct{ login, check, name string }{{"bench", "valve-bench", "valve bench"}, {"fields", "to-the-fields", "fields"}} {
		if err := w.connect(ctx, o.login, o.check, o.name); err != nil {
			return err
		}
	}
	return nil
}

// connect gives a system outside what it needs: a token for its check, and a webhook that wakes it.
func (w *World) connect(ctx context.Context, login, check, name string) error {
	token, err := w.admin.CreateToken(ctx, wire.NewToken{Login: login, Name: name, Checks: []string{House + "/irrigation:" + check}})
	if err != nil {
		return err
	}
	w.Tokens[login] = token.Secret
	ines, err := w.As("ines")
	if err != nil {
		return err
	}
	hook, err := ines.CreateWebhook(ctx, wire.NewWebhook{Of: House + "/irrigation", Name: name, URL: w.outside[login], Events: []string{"check.asked"},
		When: fmt.Sprintf("data.details.name == %q", check)})
	if err != nil {
		return err
	}
	return os.WriteFile(w.SecretFile(login), []byte(hook.Secret+"\n"), 0o600)
}

// As makes a client for one of the people.
func (w *World) As(login string) (*client.Client, error) { return client.New(w.URL, w.Tokens[login]) }

// TokenFile returns where a person's token is kept.
func (w *World) TokenFile(login string) string { return filepath.Join(w.Dir, login+".token") }

func (w *World) writeTokens() error {
	var errs []error
	for login, token := range w.Tokens {
		errs = append(errs, os.WriteFile(w.TokenFile(login), []byte(token+"\n"), 0o600))
	}
	for name, text := range map[string]string{"too-strict.rules.yaml": data.TooStrict(),
		"irrigation.examples.yaml": data.Examples()} {
		errs = append(errs, os.WriteFile(filepath.Join(w.Dir, name), []byte(text), 0o600))
	}
	return errors.Join(errs...)
}

// Clone returns the folder of the demonstration's own clone of a repository.
func (w *World) Clone(repo string) string { return filepath.Join(w.Dir, "clones", repo) }

// history commits and pushes a repository's main branch, and commits its other branches, not pushed yet.
func (w *World) history(ctx context.Context, repo, maintainer string) error {
	dir := w.Clone(repo)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	remote := w.URL + "/git/" + House + "/" + repo + ".git"
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"remote", "add", "origin", remote}} {
		if _, err := w.git(ctx, dir, maintainer, nil, args...); err != nil {
			return err
		}
	}
	if err := w.commit(ctx, dir, data.Main(repo)); err != nil {
		return err
	}
	if _, err := w.git(ctx, dir, maintainer, nil, "push", "-q", "origin", "main"); err != nil {
		return err
	}
	for _, b := range data.Branches(repo) {
		if _, err := w.git(ctx, dir, maintainer, nil, "checkout", "-q", "-b", b.Name, "main"); err != nil {
			return err
		}
		if err := w.commit(ctx, dir, b.Commits); err != nil {
			return err
		}
	}
	_, err := w.git(ctx, dir, maintainer, nil, "checkout", "-q", "main")
	return err
}

func (w *World) commit(ctx context.Context, dir string, commits []data.Commit) error {
	for _, c := range commits {
		for _, f := range c.Files {
			path := filepath.Join(dir, f.Name)
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(path, f.Data, 0o644); err != nil {
				return err
			}
		}
		name := c.Author
		if i := slices.IndexFunc(data.People, func(p data.Person) bool { return p.Login == c.Author }); i >= 0 {
			name = data.People[i].Name
		}
		who := []string{"GIT_AUTHOR_NAME=" + name, "GIT_AUTHOR_EMAIL=" + data.Address(c.Author), "GIT_AUTHOR_DATE=" +
			c.At.Format(time.RFC3339),
			"GIT_COMMITTER_NAME=" + name, "GIT_COMMITTER_EMAIL=" + data.Address(c.Author), "GIT_COMMITTER_DATE=" +
				c.At.Format(time.RFC3339)}
		if _, err := w.git(ctx, dir, c.Author, who, "add", "-A"); err != nil {
			return err
		}
		if _, err := w.git(ctx, dir, c.Author, who, "commit", "-q", "-m", c.Message); err != nil {
			return err
		}
	}
	return nil
}

// git runs the stock git program as one of the people, who has tavrin as the credential helper.
func (w *World) git(ctx context.Context, dir, login string, env []string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = dir
	cmd.Env = append(w.Environment(login), env...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return string(out), fmt.Errorf("git %s: %w\n%s", strings.Join(args, " "), err, out)
	}
	return string(out), nil
}

// Environment is what a person's terminal has set.
func (w *World) Environment(login string) []string {
	self, err := os.Executable()
	if err != nil {
		self = "tavrin"
	}
	name := login
	for _, p := range data.People {
		if p.Login == login {
			name = p.Name
		}
	}
	return []string{
		"PATH=" + filepath.Dir(self) + string(os.PathListSeparator) + os.Getenv("PATH"), "HOME=" +
			w.Dir, "LC_ALL=C.UTF-8", "NO_COLOR=1",
		"TAVRIN_URL=" + w.URL, "TAVRIN_TOKEN=" + w.Tokens[login], "GIT_CONFIG_GLOBAL=" +
			os.DevNull, "GIT_CONFIG_NOSYSTEM=1", "GIT_TERMINAL_PROMPT=0",
		"GIT_CONFIG_COUNT=4", "GIT_CONFIG_KEY_0=credential.helper", "GIT_CONFIG_VALUE_0=!'" + self + "' credential",
		"GIT_CONFIG_KEY_1=user.name", "GIT_CONFIG_VALUE_1=" +
			name, "GIT_CONFIG_KEY_2=user.email", "GIT_CONFIG_VALUE_2=" + data.Address(login),
		"GIT_CONFIG_KEY_3=advice.detachedHead", "GIT_CONFIG_VALUE_3=false",
	}
}

// Push pushes a branch of the demonstration's clone as one of the people.
func (w *World) Push(ctx context.Context, repo, login, spec string) error {
	_, err := w.git(ctx, w.Clone(repo), login, nil, "push", "-q", "--force", "origin", spec)
	return err
}
