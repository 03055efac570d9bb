package client_test

import (
	"context"
	"fmt"
	"log"
	"log/slog"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/client"
	"tavrin/internal/api"
	"tavrin/internal/bounds"
	"tavrin/internal/service"
	"tavrin/wire"
)

// The examples talk to a service of their own, with a few people and one repository.
var (
	address string
	tokens  = map[string]string{}
	clone   string // a clone of growers/irrigation, from which branches are pushed
)

const rules = `tavrin: rules/1
protect:
  - name: trunk
    branches: main
    require:
      - approvals: 1
      - checks: unit
`

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "tavrin-client-")
	must(err)
	status := 1
	defer func() {
		must(os.RemoveAll(dir))
		os.Exit(status)
	}()
	ctx := context.Background()
	quiet := slog.New(slog.DiscardHandler)
	s, err := service.Open(ctx, service.Options{Dir: filepath.Join(dir, "data"), Log: quiet})
	must(err)
	defer s.Close()
	tokens["admin"], err = s.Access.FirstStart(ctx)
	must(err)
	server := httptest.NewServer(api.New(api.Options{Service: s, Log: quiet, Bounds: bounds.Default()}))
	defer server.Close()
	defer s.Records.EndStreams()
	address = server.URL
	populate(ctx, filepath.Join(dir, "clone"))
	status = m.Run()
}

func populate(ctx context.Context, dir string) {
	admin := as("admin")
	_, err := admin.CreateHouse(ctx, "growers")
	must(err)
	_, err = admin.CreateRepository(ctx, wire.NewRepository{Name: "growers/irrigation"})
	must(err)
	for login, role := range map[string]string{"ines": "maintainer", "odo": "writer", "tamsin": "writer"} {
		_, err := admin.CreatePerson(ctx, wire.NewPerson{Login: login, Name: login})
		must(err)
		must(admin.Grant(ctx, "growers/irrigation", login, role))
		token(ctx, wire.NewToken{Login: login})
	}
	_, err = admin.CreatePerson(ctx, wire.NewPerson{Login: "barn", Robot: true})
	must(err)
	token(ctx, wire.NewToken{Login: "barn", Checks: []string{"growers/irrigation:unit"}})

	clone = dir
	must(os.Mkdir(dir, 0o755))
	git("init", "-q", "-b", "main")
	commit("README.md", "Start")
	push("ines", "main")
	_, err = as("ines").ApplyRules(ctx, "growers/irrigation", wire.NewRules{Text: rules, Reason: "to begin with"}, -1)
	must(err)
}

func token(ctx context.Context, n wire.NewToken) {
	t, err := as("admin").CreateToken(ctx, n)
	must(err)
	tokens[n.Login] = t.Secret
}

func as(login string) *client.Client {
	c, err := client.New(address, tokens[login])
	must(err)
	return c
}

// pushed makes a branch with one commit on the first one, pushed by tamsin.
func pushed(branch string) string {
	git("checkout", "-q", "-B", branch, "main")
	commit(branch, "Change "+branch)
	push("tamsin", branch)
	return branch
}

func commit(file, message string) {
	must(os.WriteFile(filepath.Join(clone, file), []byte(message+"\n"), 0o644))
	git("add", "-A")
	git("-c", "user.name=Somebody", "-c", "user.email=somebody@fennmoor.example", "commit", "-q", "-m", message)
}

func push(login, branch string) {
	at := strings.Replace(as(login).GitURL("growers/irrigation"), "://", "://"+login+":"+tokens[login]+"@", 1)
	git("push", "-q", at, branch)
}

func git(args ...string) {
	c := exec.Command("git", args...)
	c.Dir = clone
	c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null", "GIT_TERMINAL_PROMPT=0")
	if out, err := c.CombinedOutput(); err != nil {
		must(fmt.Errorf("git %s: %w: %s", strings.Join(args, " "), err, out))
	}
}

func must(err error) {
	if err != nil {
		log.Fatal(err)
	}
}
