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
	out := pasted(t, "01-first-change.md", "/tmp/first")
	has(t, out, "Nobody pushes to it directly", "[remote rejected] main -> main", "change 1 landed on main as", "Close the east valve again", "change.landed")
}

// Whoever keeps a service pastes the commands of its chapter: backup, restore elsewhere, a lost administrator, a lost key, a folder in
// no condition, a person who leaves.
func TestGuideKeepsTheService(t *testing.T) {
	out := pasted(t, "09-keep-the-service.md", "/tmp/keep")
	has(t, out, "backed up", "restored", "the journal goes on from the head in head.json", "login          ines", "administrator  yes", "signing.key is missing beside existing records", "from now on the service signs with",
		"a copy that was made while it ran", "the loss is on record", "wren is disabled: 1 token", "still named by the role writer in growers/irrigation", "old tokens are not", "key.replaced", "admin.recovered", "service.restored")
}

// pasted runs every command of a chapter of the guide in one shell, in a folder of its own, and returns what they print.
func pasted(t *testing.T, chapter, folder string) string {
	t.Helper()
	besideOthers(t)
	text, err := os.ReadFile("../docs/guide/" + chapter)
	if err != nil {
		t.Fatal(err)
	}
	var script strings.Builder
	for _, block := range regexp.MustCompile("(?s)```\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		script.WriteString(block[1])
	}
	address := freeAddress(t)
	commands := strings.NewReplacer("make build\n", "", "export PATH=$PWD/bin:$PATH\n", "", folder, t.TempDir(), "127.0.0.1:7420", address,
		"tavrin serve --data", "tavrin serve --listen "+address+" --data").Replace(script.String())
	cmd := exec.Command("bash", "-c", "set -m\nexport TAVRIN_URL=http://"+address+"\ntrap 'kill $(jobs -p) 2>/dev/null' EXIT\n"+commands)
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "GIT_CONFIG_GLOBAL=/dev/null")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Errorf("%s: %v", chapter, err)
	}
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("%s", out)
		}
	})
	return string(out)
}
