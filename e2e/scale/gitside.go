package main

import (
	"context"
	"fmt"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// command runs git in a folder, as somebody.
func (m *measurer) command(ctx context.Context, dir, login string, args ...string) error {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null", "GIT_TERMINAL_PROMPT=0", "GIT_CONFIG_COUNT=3",
		"GIT_CONFIG_KEY_0=http.extraHeader", "GIT_CONFIG_VALUE_0=Authorization: Bearer "+m.tokens[login],
		"GIT_CONFIG_KEY_1=user.name", "GIT_CONFIG_VALUE_1="+login, "GIT_CONFIG_KEY_2=user.email", "GIT_CONFIG_VALUE_2="+login+"@fennmoor.invalid")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}

// clone makes a clone of a repository, with main alone.
func (m *measurer) clone(ctx context.Context, url, login string) (string, error) {
	dir, err := os.MkdirTemp(m.dir, "clone-")
	if err != nil {
		return "", err
	}
	return dir, m.command(ctx, dir, login, "clone", "--quiet", "--single-branch", "--branch", "main", url, ".")
}

// pushed measures pushes of one commit each, to new branches, in milliseconds.
func (m *measurer) pushed(ctx context.Context, dir, login string, times int) (float64, error) {
	var all []float64
	for n := range times {
		branch := fmt.Sprintf("try/%s-%d-%d", filepath.Base(dir), time.Now().UnixNano(), n)
		if err := m.command(ctx, dir, login, "commit", "--quiet", "--allow-empty", "-m", branch); err != nil {
			return 0, err
		}
		at := time.Now()
		if err := m.command(ctx, dir, login, "push", "--quiet", "origin", "HEAD:refs/heads/"+branch); err != nil {
			return 0, err
		}
		all = append(all, milliseconds(time.Since(at)))
	}
	return quantile(all, 0.5), nil
}

// pushes measures pushes to the big repository.
func (m *measurer) pushes(ctx context.Context, times int) (float64, error) {
	dir, err := m.clone(ctx, m.served.url+"/git/"+big()+".git", m.writer())
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	return m.pushed(ctx, dir, m.writer(), times)
}

// git measures pushes to the big and to a small repository, in turns, and one of many tags.
func (m *measurer) git(ctx context.Context) error {
	if _, err := m.run(ctx); err != nil {
		return err
	}
	var dirs []string
	for n := range 2 {
		dir, err := m.clone(ctx, m.served.url+"/git/"+repositoryName(n)+".git", "admin")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		dirs = append(dirs, dir)
	}
	backend, url, err := m.backend(ctx, 1)
	if err != nil {
		return err
	}
	defer backend()
	beside, err := m.clone(ctx, url, "admin")
	if err != nil {
		return err
	}
	defer os.RemoveAll(beside)
	all := make([][]float64, 3)
	for range max(3, m.calls/2) {
		for n, dir := range []string{dirs[0], dirs[1], beside} {
			took, err := m.pushed(ctx, dir, "admin", 1)
			if err != nil {
				return err
			}
			all[n] = append(all[n], took)
		}
	}
	large, small := quantile(all[0], 0.5), quantile(all[1], 0.5)
	m.say(figure{Name: "a push into the big repository, of one into a small one", Goal: "1.2", Median: large / small, Unit: "times", Note: fmt.Sprintf("%.0f ms beside %.0f ms", large, small)})
	theirs := quantile(all[2], 0.5)
	m.say(figure{Name: "a push into the big repository, of one to git's own HTTP backend", Goal: "-", Median: large / theirs, Unit: "times", Note: fmt.Sprintf("%.0f ms beside %.0f ms", large, theirs)})
	return m.tags(ctx, dirs[1])
}

// tags measures a push of 999 tags beside a local one.
func (m *measurer) tags(ctx context.Context, dir string) error {
	backend, url, err := m.backend(ctx, 2)
	if err != nil {
		return err
	}
	defer backend()
	for n := range 999 {
		if err := m.command(ctx, dir, "admin", "tag", fmt.Sprintf("try-%d-%d", os.Getpid(), n)); err != nil {
			return err
		}
	}
	local, err := os.MkdirTemp(m.dir, "local-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(local)
	if err := m.command(ctx, local, "admin", "init", "--quiet", "--bare"); err != nil {
		return err
	}
	for _, set := range [][]string{{"core.fsync", "all"}, {"core.fsyncMethod", "batch"}} {
		if err := m.command(ctx, local, "admin", "config", set[0], set[1]); err != nil {
			return err
		}
	}
	if err := m.command(ctx, dir, "admin", "push", "--quiet", local, "HEAD:refs/heads/main"); err != nil {
		return err
	}
	at := time.Now()
	if err := m.command(ctx, dir, "admin", "push", "--quiet", local, "--tags"); err != nil {
		return err
	}
	beside := time.Since(at)
	at = time.Now()
	if err := m.command(ctx, dir, "admin", "push", "--quiet", "origin", "--tags"); err != nil {
		return err
	}
	took := time.Since(at)
	at = time.Now()
	if err := m.command(ctx, dir, "admin", "push", "--quiet", url, "--tags"); err != nil {
		return err
	}
	http := time.Since(at)
	m.say(figure{Name: "a push of 999 tags, of one to git's own HTTP backend", Goal: "-", Median: float64(took) / float64(http), Unit: "times", Note: fmt.Sprintf("%.0f ms beside %.0f ms", milliseconds(took), milliseconds(http))})
	m.say(figure{Name: "a push of 999 tags, of a local one", Goal: "3", Median: float64(took) / float64(beside), Unit: "times", Note: fmt.Sprintf("%.0f ms beside %.0f ms", milliseconds(took), milliseconds(beside))})
	return nil
}

// many measures pushes at once, beside git's own HTTP backend on a repository with the same settings.
func (m *measurer) many(ctx context.Context) error {
	if _, err := m.run(ctx); err != nil {
		return err
	}
	stop, theirs, err := m.backend(ctx, 3)
	if err != nil {
		return err
	}
	defer stop()
	ours := m.served.url + "/git/" + repositoryName(2) + ".git"
	for _, pushers := range []int{1, 8, 40} {
		rates := make([]float64, 2)
		for round := 0; round < 2; round++ {
			for side, url := range []string{theirs, ours} {
				rate, err := m.rate(ctx, url, pushers)
				if err != nil {
					return err
				}
				rates[side] = max(rates[side], rate)
			}
		}
		m.say(figure{Name: fmt.Sprintf("pushes a second with %d pushers, of git's own backend", pushers), Goal: "0.9", Median: rates[1] / rates[0], Unit: "times", Note: fmt.Sprintf("%.1f/s beside %.1f/s", rates[1], rates[0])})
	}
	return nil
}

// rate is how many pushes of one commit each, to branches of their own, come through a second.
func (m *measurer) rate(ctx context.Context, url string, pushers int) (float64, error) {
	each := max(2, 40/pushers)
	dirs := make([]string, pushers)
	for n := range dirs {
		if n == 0 {
			dir, err := m.clone(ctx, url, "admin")
			if err != nil {
				return 0, err
			}
			dirs[n] = dir
			continue
		}
		dir, err := os.MkdirTemp(m.dir, "clone-")
		if err != nil {
			return 0, err
		}
		if err := m.command(ctx, dir, "admin", "clone", "--quiet", "--single-branch", dirs[0], "."); err != nil {
			return 0, err
		}
		if err := m.command(ctx, dir, "admin", "remote", "set-url", "origin", url); err != nil {
			return 0, err
		}
		dirs[n] = dir
	}
	defer func() {
		for _, dir := range dirs {
			os.RemoveAll(dir)
		}
	}()
	errs := make(chan error, pushers)
	var all sync.WaitGroup
	at := time.Now()
	for _, dir := range dirs {
		all.Go(func() {
			_, err := m.pushed(ctx, dir, "admin", each)
			errs <- err
		})
	}
	all.Wait()
	took := time.Since(at)
	close(errs)
	for err := range errs {
		if err != nil {
			return 0, err
		}
	}
	return float64(pushers*each) / took.Seconds(), nil
}

// backend serves a copy of a repository, by its number, by git's own HTTP backend, with the settings of the service.
func (m *measurer) backend(ctx context.Context, repo int) (stop func(), url string, err error) {
	root, err := os.MkdirTemp(m.dir, "backend-")
	if err != nil {
		return nil, "", err
	}
	out, err := exec.CommandContext(ctx, "git", "--exec-path").Output()
	if err != nil {
		return nil, "", err
	}
	bare := filepath.Join(root, "r.git")
	if err := m.command(ctx, root, "admin", "clone", "--quiet", "--bare", filepath.Join(m.dir, "data", "repositories", fmt.Sprintf("%d.git", repo)), bare); err != nil {
		return nil, "", err
	}
	for _, set := range [][]string{{"core.fsync", "all"}, {"core.fsyncMethod", "batch"}, {"http.receivepack", "true"}} {
		if err := m.command(ctx, bare, "admin", "config", set[0], set[1]); err != nil {
			return nil, "", err
		}
	}
	backend := httptest.NewServer(&cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(out)), "git-http-backend"), Dir: root,
		Env: []string{"GIT_PROJECT_ROOT=" + root, "GIT_HTTP_EXPORT_ALL=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null"}})
	return func() { backend.Close(); os.RemoveAll(root) }, backend.URL + "/r.git", nil
}
