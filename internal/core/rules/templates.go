package rules

import (
	"embed"
	"fmt"
	"strings"
)

//go:embed templates/*.yaml
var templates embed.FS

// Template is a document to start from.
type Template struct {
	Name string
	For  string // the way of working it is for
	Text string
}

// Templates returns the documents to start from, by name. Each says on its first line what it is for.
func Templates() ([]Template, error) {
	entries, err := templates.ReadDir("templates")
	if err != nil {
		return nil, err
	}
	var out []Template
	for _, e := range entries {
		text, err := templates.ReadFile("templates/" + e.Name())
		if err != nil {
			return nil, err
		}
		first, _, _ := strings.Cut(string(text), "\n")
		purpose, ok := strings.CutPrefix(first, "# ")
		if !ok {
			return nil, fmt.Errorf("template %s does not say what it is for", e.Name())
		}
		out = append(out, Template{Name: strings.TrimSuffix(e.Name(), ".yaml"), For: strings.TrimSuffix(purpose, "."), Text: string(text)})
	}
	return out, nil
}
