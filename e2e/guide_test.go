package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// A newcomer who pastes the commands of the guide's first chapter lands a change.
func TestGuideLandsAChange(t *testing.T) {
	text, err := os.ReadFile("../docs/guide/01-first-change.md")
	if err != nil {
		t.Fatal(err)
	}
	var script strings.Builder
	for _, block := range regexp.MustCompile("(?s)```\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		script.WriteString(block[1])
	}
	address := freeAddress(t)
	commands := strings.NewReplacer("make build\n", "", "export PATH=$PWD/bin:$PATH\n", "", "/tmp/first", t.TempDir(), "127.0.0.1:7420", address,
		"tavrin serve --data", "tavrin serve --listen "+address+" --data").Replace(script.String())
	cmd := exec.Command("bash", "-c", "export TAVRIN_URL=http://"+address+"\ntrap 'kill %1' EXIT\n"+commands)
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "GIT_CONFIG_GLOBAL=/dev/null")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Errorf("%v", err)
	}
	has(t, string(out), "Nobody pushes to it directly", "[remote rejected] main -> main", "change 1 landed on main as", "Close the east valve again", "change.landed")
	if t.Failed() {
		t.Logf("%s", out)
	}
}
