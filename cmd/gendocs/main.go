// Command gendocs writes the reference of the command line from the command tree.
//
//	go run ./cmd/gendocs docs/reference
package main

import (
	"log"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"tavrin/internal/cli"
)

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: gendocs FOLDER")
	}
	var page strings.Builder
	page.WriteString("# The command line\n\nGenerated from the code by `make docs`. Exit status: 0 done, 1 an error, 2 misuse, 3 not yet, 4 never.\n")
	if err := write(&page, cli.Root()); err != nil {
		log.Fatal(err)
	}
	text := strings.NewReplacer("](tavrin", "](#tavrin", ".md)", ")").Replace(page.String())
	if err := os.WriteFile(filepath.Join(os.Args[1], "commands.md"), []byte(text), 0o644); err != nil {
		log.Fatal(err)
	}
}

// write adds a command and those below it.
func write(page *strings.Builder, c *cobra.Command) error {
	c.DisableAutoGenTag = true
	page.WriteString("\n")
	if c.Runnable() && !c.HasSubCommands() {
		if err := doc.GenMarkdownCustom(c, page, func(name string) string { return "#" + strings.TrimSuffix(strings.ReplaceAll(name, "_", "-"), ".md") }); err != nil {
			return err
		}
	}
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() {
			if err := write(page, sub); err != nil {
				return err
			}
		}
	}
	return nil
}
