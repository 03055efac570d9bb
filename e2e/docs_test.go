package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"tavrin/internal/cli"
	"tavrin/internal/core/rules"
	"tavrin/internal/core/trial"
)

// Every rules document and every file of examples that the docs and the demonstration show is read without a finding.
func TestDocumentsShownAreRead(t *testing.T) {
	house, err := os.ReadFile("../demo/house.rules.yaml")
	if err != nil {
		t.Fatal(err)
	}
	under, findings := rules.Under{OfHouse: true}.Parse(string(house))
	if findings != nil {
		t.Fatalf("the demonstration's house rules: %v", findings)
	}
	shown := map[string]string{}
	for _, pattern := range []string{"../docs/*/*.md", "../demo/*.yaml", "../demo/drafts/*.yaml"} {
		files, err := filepath.Glob(pattern)
		if err != nil || len(files) == 0 {
			t.Fatalf("%s: %v", pattern, err)
		}
		for _, file := range files {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if strings.HasSuffix(file, ".yaml") {
				shown[file] = string(text)
			}
			for i, block := range regexp.MustCompile("(?s)```yaml\n(tavrin: .*?)```").FindAllStringSubmatch(string(text), -1) {
				shown[file+"#"+string(rune('a'+i))] = block[1]
			}
		}
	}
	n := 0
	for where, text := range shown {
		switch {
		case strings.Contains(where, "house.rules"):
		case strings.Contains(text, "tavrin: "+trial.Format):
			if _, err := trial.Parse(text); err != nil {
				t.Errorf("%s: %v", where, err)
			}
		default:
			as := rules.Under{}
			if strings.Contains(where, "demo/") {
				as.House = under
			}
			if _, findings := as.Parse(text); findings != nil {
				t.Errorf("%s: %v", where, findings)
			}
		}
		n++
	}
	if n < 6 {
		t.Errorf("only %d documents were found", n)
	}
}

// Every command that the guide and the README show is one, and has the flags that they give it.
func TestGuideShowsCommandsThatAre(t *testing.T) {
	pages, err := filepath.Glob("../docs/guide/*.md")
	if err != nil {
		t.Fatal(err)
	}
	said := 0
	for _, page := range append(pages, "../README.md") {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		var shown []string
		for _, block := range regexp.MustCompile("(?ms)^```[a-z]*\n(.*?)^```$").FindAllStringSubmatch(string(text), -1) {
			shown = append(shown, strings.Split(block[1], "\n")...)
		}
		for _, span := range regexp.MustCompile("`(tavrin [^`\n]+)`").FindAllStringSubmatch(string(text), -1) {
			shown = append(shown, span[1])
		}
		for _, line := range shown {
			line, _, _ = strings.Cut(line, " #")
			line = regexp.MustCompile(`"[^"]*"|'[^']*'`).ReplaceAllString(line, "TEXT")
			for _, command := range regexp.MustCompile(`[;&|]+`).Split(strings.NewReplacer("[", " ", "]", " ").Replace(line), -1) {
				words := strings.Fields(command)
				if len(words) < 2 || words[0] != "tavrin" || strings.HasPrefix(words[1], "-") {
					continue
				}
				said++
				found, rest, err := cli.Root().Find(words[1:])
				if err != nil || found.HasSubCommands() && len(rest) > 0 && !strings.HasPrefix(rest[0], "…") {
					t.Errorf("%s: there is no command %q", filepath.Base(page), command)
					continue
				}
				for _, word := range rest {
					flag, _, _ := strings.Cut(strings.TrimPrefix(word, "--"), "=")
					if strings.HasPrefix(word, "--") && found.Flags().Lookup(flag) == nil && found.InheritedFlags().Lookup(flag) == nil {
						t.Errorf("%s: %q has no flag --%s", filepath.Base(page), found.CommandPath(), flag)
					}
				}
			}
		}
	}
	if said < 80 {
		t.Errorf("only %d commands were found", said)
	}
}
