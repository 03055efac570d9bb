package service

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
)

// drawn reads the rows of the picture, from the top: each package with its row.
func drawn(t *testing.T) map[string]int {
	t.Helper()
	text, err := os.ReadFile("../../docs/architecture.md")
	if err != nil {
		t.Fatal(err)
	}
	_, picture, found := strings.Cut(string(text), "```text\n")
	picture, _, end := strings.Cut(picture, "```")
	if !found || !end {
		t.Fatal("docs/architecture.md has no picture")
	}
	rows := map[string]int{}
	words := regexp.MustCompile(`   .*`) // what follows three spaces is said about the row
	for i, line := range strings.Split(strings.TrimSpace(picture), "\n") {
		for _, name := range strings.Fields(words.ReplaceAllString(line, "")) {
			if _, twice := rows[name]; twice {
				t.Errorf("%s is drawn twice", name)
			}
			rows[name] = i
		}
	}
	return rows
}

// known is a package as go list has it.
type known struct {
	ImportPath string
	Imports    []string
}

func listed(t *testing.T) []known {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "../../internal/...", "../../wire", "../../client", "../../cmd/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	var all []known
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var k known
		err := d.Decode(&k)
		if errors.Is(err, io.EOF) {
			return all
		}
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, k)
	}
}

// room is the name of a package in the picture; empty: it is not of the house.
func room(path string) string {
	name, ours := strings.CutPrefix(path, "tavrin/")
	switch {
	case !ours || name == "console" || name == "demo":
		return ""
	case strings.HasPrefix(name, "internal/core/"):
		return "core/…"
	}
	return strings.TrimPrefix(name, "internal/")
}

// forTests are packages that only tests use.
var forTests = map[string]bool{"often": true, "sidebyside": true, "lab": true, "git/workshop": true}

// Every package is in the picture of docs/architecture.md, and uses only those in lower rows.
func TestTheHouseIsAsItIsDrawn(t *testing.T) {
	rows := drawn(t)
	there := map[string]bool{}
	for _, k := range listed(t) {
		from := room(k.ImportPath)
		there[from] = true
		at, isDrawn := rows[from]
		if !isDrawn && !forTests[from] {
			t.Errorf("%s is not drawn", from)
		}
		for _, path := range k.Imports {
			to := room(path)
			if forTests[to] && !forTests[from] {
				t.Errorf("%s uses %s, which is for tests", from, to)
			}
			if to != "" && to != from && isDrawn && rows[to] <= at {
				t.Errorf("%s uses %s, which is not below it", from, to)
			}
		}
	}
	for name := range rows {
		if !there[name] {
			t.Errorf("%s is drawn, and there is no such package", name)
		}
	}
}

// The deciding packages use nothing of the house but each other, and nothing that has a clock, does I/O or is random.
func TestCoreIsPure(t *testing.T) {
	allowed := regexp.MustCompile(`^(bytes|cmp|crypto/(hmac|sha256)|embed|encoding/(base64|hex|json)|errors|fmt|iter|maps|math(/bits)?|net/url|regexp|reflect|slices|sort|strconv|strings|sync(/atomic)?|time|unicode(/utf8)?|` +
		`google\.golang\.org/protobuf/types/known/structpb|github\.com/goccy/go-yaml(/.*)?|cel\.dev/.*|github\.com/google/cel-go/.*|golang\.org/x/text/.*|github\.com/mtibben/confusables|tavrin/internal/core/[a-z]+)$`)
	for _, k := range listed(t) {
		if !strings.HasPrefix(k.ImportPath, "tavrin/internal/core/") {
			continue
		}
		for _, path := range k.Imports {
			if !allowed.MatchString(path) {
				t.Errorf("%s uses %s", k.ImportPath, path)
			}
		}
	}
	out, err := exec.Command("grep", "-rnE", `time\.(Now|Since|Sleep|After)\(|go func|math/rand`, "--include=*.go", "--exclude=*_test.go", "../core").CombinedOutput()
	if err == nil || len(out) > 0 {
		t.Errorf("a clock, a goroutine or randomness in core: %s", out)
	}
}

// In the service only the packages of git start git: the others ask them. Those left out work in people's own clones.
func TestGitIsStartedInOnePlace(t *testing.T) {
	out, err := exec.Command("grep", "-rnE", `\.Place\(\)|exec\.Command(Context)?\([^)]*"git"`, "--include=*.go", "--exclude=*_test.go",
		"--exclude-dir=git", "--exclude-dir=lab", "--exclude-dir=cli", "--exclude-dir=demo", "--exclude-dir=runner", "--exclude-dir=standin", "..").CombinedOutput()
	if lines := strings.TrimSpace(string(out)); lines != "" || err == nil {
		t.Errorf("git is started elsewhere: %s", lines)
	}
}
