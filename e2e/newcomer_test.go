package e2e

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"tavrin/wire"
)

// What the demonstration prints to try works as it is printed, in that order, for somebody who has nothing set up.
func TestTheDemonstrationsInvitation(t *testing.T) {
	besideOthers(t)
	demo := exec.Command(binary, "demo", "--listen", "127.0.0.1:0")
	out, err := demo.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := demo.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := demo.Process.Signal(syscall.SIGTERM); err != nil {
			t.Error(err)
		}
		if err := demo.Wait(); err != nil {
			t.Error("the demonstration ends with", err)
		}
	})
	var printed, script []string
	for lines := bufio.NewScanner(out); lines.Scan(); {
		printed = append(printed, lines.Text())
		if command, ok := strings.CutPrefix(lines.Text(), "    "); ok {
			script = append(script, "echo '$ '"+quoted(command), command+" 2>&1", "echo \"ended with $?\"")
		}
		if strings.HasPrefix(lines.Text(), "Ctrl-C") {
			break
		}
	}
	if len(script) < 3*20 {
		t.Fatalf("it prints %d commands:\n%s", len(script)/3, strings.Join(printed, "\n"))
	}
	shell := exec.Command("sh", "-c", strings.Join(script, "\n"))
	shell.Dir, shell.Env = t.TempDir(), []string{"PATH=" + os.Getenv("PATH"), "HOME=" + t.TempDir(), "LC_ALL=C"}
	said, err := shell.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, said)
	}
	fails := map[string]string{"git push origin main": "ended with 1", "tavrin change gate 4": "ended with 3"}
	for _, part := range strings.Split(string(said), "$ ")[1:] {
		command, rest, _ := strings.Cut(part, "\n")
		wanted := fails[command]
		if wanted == "" {
			wanted = "ended with 0"
		}
		if !strings.HasSuffix(strings.TrimSpace(rest), wanted) {
			t.Errorf("%s\n%s", command, rest)
		}
	}
	has(t, string(said), "Refused by", "1 thread open", "it lands by itself", "Ejected from the queue: red twice by itself", "5 approvals from team:hydraulics",
		"suggests", "to acknowledge")
	for _, address := range regexp.MustCompile(`http://[0-9.:]+/growers/\S+`).FindAllString(strings.Join(printed, "\n"), -1) {
		if strings.HasSuffix(address, ".git") {
			t.Errorf("%s is no page", address)
		}
	}
	if entries, err := os.ReadDir(filepath.Join(shell.Dir)); err != nil || len(entries) > 0 {
		t.Errorf("it leaves %v behind: %v", entries, err)
	}
}

func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// A shell completes values, and man(1) shows every command.
func TestCompletionAndManualPages(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	k := w.propose("tamsin", "topic", "docs/a", "a\n")
	for _, c := range []struct {
		words []string
		has   string
	}{
		{[]string{"change", "gate", ""}, fmt.Sprintf("%d\t%s", k.Number, k.Title)},
		{[]string{"change", "list", "--repo", ""}, repo},
		{[]string{"change", "open", "--source", ""}, "topic\t"},
		{[]string{"change", "list", "--state", ""}, "landed"},
		{[]string{"queue", "join", "1", "--strategy", ""}, "squash"},
		{[]string{"repo", "grant", repo, "od"}, "odo"},
		{[]string{"repo", "grant", repo, "odo", ""}, "maintainer"},
		{[]string{"change", "ask", "1", "--who", ""}, "team:hydraulics"},
		{[]string{"check", "report", "--state", ""}, "errored"},
		{[]string{"rules", "show", "--house", ""}, "growers"},
	} {
		out, said, status := w.run("ines", dir, append([]string{"__complete"}, c.words...)...)
		if status != 0 || !strings.Contains(out, c.has) {
			t.Errorf("%v is completed with %q (%d): %s", c.words, out, status, said)
		}
	}
	if out, _, status := w.run("", t.TempDir(), "__complete", "change", "gate", ""); status != 0 || strings.Contains(out, k.Title) {
		t.Errorf("nobody's words are completed with %q", out)
	}
	pages := filepath.Join(t.TempDir(), "man1")
	w.says("ines", 0, "", "man", pages)
	text, err := os.ReadFile(filepath.Join(pages, "tavrin-change-gate.1"))
	w.ok(err)
	has(t, string(text), ".TH", "still stands between a change and its target")
}

// The script of the guide's chapter on checks is a whole worker: what it runs decides what lands.
func TestGuidesWorkerAnswersChecks(t *testing.T) {
	w := newTown(t)
	w.begin(strings.Replace(simple, "checks: [unit]", "checks: [valve-bench]", 1))
	text, err := os.ReadFile("../docs/guide/03-checks.md")
	w.ok(err)
	_, script, _ := strings.Cut(string(text), "```sh\n")
	script, _, found := strings.Cut(script, "```")
	if !found || strings.Count(script, "\n") > 20 {
		t.Fatalf("the worker is no script of twenty lines:\n%s", script)
	}
	_, err = w.admin.CreatePerson(t.Context(), wire.NewPerson{Login: "bench", Robot: true})
	w.ok(err)
	report, err := w.admin.CreateToken(t.Context(), wire.NewToken{Login: "bench", Checks: []string{repo + ":valve-bench"}})
	w.ok(err)
	w.tokens["bench"] = report.Secret
	dir := t.TempDir()
	w.must("bench", dir, "init", "-q")
	w.must("bench", dir, "remote", "add", "origin", w.gitURL())
	w.must("bench", dir, "config", "credential."+w.url+".helper", "!tavrin credential")
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	worker := exec.CommandContext(ctx, "sh", "-c", script)
	worker.Dir = dir
	worker.Env = []string{"PATH=" + filepath.Dir(binary) + ":" + os.Getenv("PATH"), "HOME=" + t.TempDir(), "TAVRIN_TOKEN=" + report.Secret}
	worker.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	worker.Cancel = func() error { return syscall.Kill(-worker.Process.Pid, syscall.SIGKILL) }
	w.ok(worker.Start())
	go worker.Wait()
	good := w.propose("tamsin", "good", "tests/bench.sh", "echo all dry; exit 0\n")
	w.approve("odo", good)
	w.join("tamsin", good, "")
	w.landed(good)
	bad := w.propose("tamsin", "bad", "tests/bench.sh", "echo the east valve drips; exit 1\n")
	w.approve("odo", bad)
	w.join("tamsin", bad, "")
	has(t, w.ejected(bad).Entry.Reason, "valve-bench failed (the east valve drips)")
}
