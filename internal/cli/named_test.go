package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// Every command that a message, a hint, a page or a document names exists, with its options.
func TestEveryCommandThatIsNamedExists(t *testing.T) {
	root := Root()
	named := 0
	look := func(where, text string) {
		for _, m := range commandInText.FindAllStringSubmatch(text, -1) {
			if wrong := wrongIn(root, m[1]); wrong != "" {
				t.Errorf("%s: tavrin %s: %s", where, m[1], wrong)
			}
			named++
		}
	}
	for _, dir := range []string{"../../internal", "../../cmd", "../../console/src", "../../docs", "../../README.md", "../../demo"} {
		err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") {
				return err
			}
			switch filepath.Ext(path) {
			case ".go":
				for line, text := range literals(t, path) {
					look(path+":"+strconv.Itoa(line), text)
				}
			case ".svelte", ".ts", ".md", ".yaml":
				data, err := os.ReadFile(path)
				if err != nil {
					return err
				}
				look(path, regexp.MustCompile(`\$\{[^}]*\}|\{[^}\n]*\}`).ReplaceAllString(string(data), "X"))
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if named < 300 {
		t.Errorf("only %d commands were found: are they looked for in the right way?", named)
	}
	for _, wrong := range []string{"chnage list", "change lits 4", "change show 4 --reop x", "queue join 4 --house x", "rules"} {
		if wrong != "rules" && wrongIn(root, wrong) == "" {
			t.Errorf("tavrin %s passes", wrong)
		}
	}
}

// commandInText finds what may be a command: up to what ends one in a sentence, in code or on a line.
var commandInText = regexp.MustCompile("(?:^|[\\s`>('\"$;|])tavrin ([a-z][^\\n`;)<>|\"']*)")

// wrongIn says what is wrong with the words of a command after "tavrin": nothing, when they are prose.
func wrongIn(root *cobra.Command, text string) string {
	for _, end := range []string{"&&", ", then", `\n`, "tavrin ", ": ", ". ", "! "} { // another command, or the sentence goes on
		text, _, _ = strings.Cut(text, end)
	}
	c, words := root, strings.Fields(text)
	for len(words) > 0 {
		word := strings.TrimRight(words[0], ".,:")
		sub := find(c, word)
		if sub == nil {
			break
		}
		if c, words = sub, words[1:]; word != strings.Fields(text)[0] && strings.HasSuffix(word, ".") {
			return ""
		}
	}
	if c == root {
		if len(words) == 0 || strings.HasSuffix(words[0], ",") {
			return ""
		}
		if prose[words[0]] || strings.Contains(words[0], "/") {
			return ""
		}
		return "there is no such command"
	}
	if c.HasSubCommands() && len(words) > 0 && regexp.MustCompile(`^[a-z]{2,}$`).MatchString(words[0]) && !prose[words[0]] {
		return c.CommandPath() + " has no command " + words[0]
	}
	for _, word := range words {
		m := option.FindStringSubmatch(word)
		if m == nil {
			continue
		}
		known := false
		c.InheritedFlags().VisitAll(func(f *pflag.Flag) { known = known || f.Name == m[1] })
		c.Flags().VisitAll(func(f *pflag.Flag) { known = known || f.Name == m[1] })
		if !known && m[1] != "help" && m[1] != "version" {
			return c.CommandPath() + " has no option --" + m[1]
		}
	}
	return ""
}

var option = regexp.MustCompile(`^\[?--([a-z][a-z-]*)`)

func find(c *cobra.Command, name string) *cobra.Command {
	for _, sub := range c.Commands() {
		if sub.Name() == name {
			return sub
		}
	}
	return nil
}

// prose are words that follow "tavrin" where it stands for the program.
var prose = map[string]bool{"is": true, "finds": true, "needs": true, "service": true, "events": true, "by": true, "or": true, "and": true,
	"lists": true, "does": true, "says": true, "to": true, "shows": true, "prints": true, "has": true, "gives": true, "asks": true, "makes": true, "takes": true, "answers": true, "tells": true, "in": true, "with": true, "beside": true, "again": true}

// literals returns the texts in a file of Go, by line: those that are put together of several pieces as one.
func literals(t *testing.T, path string) map[int]string {
	t.Helper()
	files := token.NewFileSet()
	file, err := parser.ParseFile(files, path, nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	out := map[int]string{}
	var text func(e ast.Expr) string
	text = func(e ast.Expr) string {
		switch e := e.(type) {
		case *ast.BasicLit:
			if s, err := strconv.Unquote(e.Value); e.Kind == token.STRING && err == nil {
				return s
			}
		case *ast.BinaryExpr:
			if e.Op == token.ADD {
				return text(e.X) + text(e.Y)
			}
		}
		return "X"
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BasicLit, *ast.BinaryExpr:
			s := text(n.(ast.Expr))
			out[files.Position(n.Pos()).Line] += "\n" + s
			return false
		case *ast.ImportSpec:
			return false
		}
		return true
	})
	return out
}
