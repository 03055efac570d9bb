// Command gendocs writes what of the reference comes from the code: the command line from the command tree, the
// settings of the rules document and their JSON Schemas from the table of its keys.
//
//	go run ./cmd/gendocs docs/reference
package main

import (
	"fmt"
	"log"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tavrin/internal/accounts"
	"tavrin/internal/api"
	"tavrin/internal/bounds"
	"tavrin/internal/checks"
	"tavrin/internal/cli"
	"tavrin/internal/core/condition"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/lint"
	"tavrin/internal/core/plainyaml"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/hosted"
	"tavrin/internal/reading"
	"tavrin/internal/typed"
)

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: gendocs FOLDER")
	}
	files, err := reference()
	for name, data := range files {
		if err == nil {
			err = os.WriteFile(filepath.Join(os.Args[1], name), data, 0o644)
		}
	}
	if err != nil {
		log.Fatal(err)
	}
}

// reference returns the pages by their names.
func reference() (map[string][]byte, error) {
	os.Unsetenv("TAVRIN_URL") // which would be told as a default
	files := map[string][]byte{"commands.md": []byte(commands()), "settings.md": []byte(settings()),
		"bounds.md": []byte(limits()), "tokens.md": []byte(tokens())}
	for name, ofHouse := range map[string]bool{"rules.schema.json": false, "house-rules.schema.json": true} {
		schema, err := rules.Schema(ofHouse)
		if err != nil {
			return nil, err
		}
		files[name] = append(schema, '\n')
	}
	events, err := api.EventReference()
	if err != nil {
		return nil, err
	}
	schemas, err := api.EventSchemas()
	files["events.md"], files["events.schema.json"] = []byte(events), append(schemas, '\n')
	return files, err
}

// tokens says what each kind of token opens.
func tokens() string {
	var b strings.Builder
	b.WriteString("# What tokens open\n\nGenerated from the code by `make docs`; a test tries every call with every " +
		"kind (`TestP11TokensForOnePurpose`).\n\n" +
		"| scope | made with | opens |\n| --- | --- | --- |\n" +
		"| `all` | `tavrin token create LOGIN` | everything its owner may do |\n" +
		"| `read` | `tavrin token create LOGIN --read-only` | every reading call, git fetch and the stream, as far " +
		"as its owner may read |\n")
	for _, s := range []struct {
		scope accounts.Scope
		made  string
		more  string
	}{
		{accounts.ScopeChecks, "tavrin token create ROBOT --check HOUSE/NAME:CHECK",
			"of the repositories and checks that it names: it reports them, sees those of them that are wanted and " +
				"their states, and reads the files of commits that one of them was asked for on; by its id it fetches such a commit, and what it stands on, with git; no other call, no stream"},
		{accounts.ScopeRunner, "tavrin token create ROBOT --runner HOUSE/NAME",
			"of the repositories that it names: it takes jobs, and finds out whether it stands too close to the service; no other call, no git, no stream"},
	} {
		calls := slices.DeleteFunc(slices.Clone(accounts.CallsOf(s.scope)), func(call string) bool { return call == "git-fetch" })
		fmt.Fprintf(&b, "| `%s` | `%s` | the calls `%s`, %s |\n", s.scope, s.made,
			strings.Join(calls, "`, `"), s.more)
	}
	b.WriteString("| a job's lease | a runner takes the job | the pack of that one commit, a sign of life and the " +
		"answer for that one attempt, until the answer is given, the lease runs out, or the runner's token ends |\n" +
		"| a console session | signing in with a token of scope all or read | what that token opens; rules and " +
		"access only within ten minutes of showing the same token again |\n" +
		"| a feed's address | `tavrin feed` | its owner's notifications |\n\n" +
		"What was begun with a token ends with it, within seconds: sessions, streams, leases, and pushes that have " +
		"not been judged yet. " +
		"That holds when it is revoked, when it runs out, and when the account is disabled; an account that " +
		"is enabled again needs new tokens.\n")
	return b.String()
}

// limits describes every bound: those that can be set, and those that cannot.
func limits() string {
	fixed := []struct {
		what string
		most int
		unit string
	}{
		{"a rules document, or a file of examples for one", plainyaml.MaxBytes,
			"bytes"}, {"mappings and lists in each other there", plainyaml.MaxDepth, "levels"}, {"entries of one " +
			"mapping there", plainyaml.MaxEntries, "entries"},
		{"findings told of a rules document; the last says how many more there are", grammar.MaxFindings,
			"findings"}, {"comments of lint told; the last says how many more there are", lint.MaxTold, "comments"},
		{"protections in one rules document", grammar.MaxProtections, "protections"}, {"requirements in one",
			grammar.MaxRequirements, "requirements"}, {"patterns of branches in one, of kinds and protections", grammar.MaxPatterns, "patterns"}, {"entries of all lists of one", grammar.MaxItems, "entries"}, {"globs of one, with braces multiplied out", grammar.MaxItems, "globs"},
		{"a title", typed.MaxTitle, "characters"}, {"a description, review or comment", typed.MaxProse,
			"bytes"}, {"a request's body, but for Git's", api.MaxBody, "bytes"},
		{"a check's log that is kept, its end", checks.MaxLog, "bytes"}, {"a file that is shown whole",
			hosted.MaxFileBytes, "bytes"}, {"the patch of a difference in one answer; it says when it was cut", reading.MaxPatch, "bytes"},
		{"a name of a branch or tag, with refs/…/", git.MaxRefName, "bytes"},
	}
	var b strings.Builder
	b.WriteString(bounds.Markdown())
	b.WriteString("\nFixed, and not to be set:\n\n| of what | at most |\n| --- | ---: |\n")
	for _, f := range fixed {
		fmt.Fprintf(&b, "| %s | %d %s |\n", f.what, f.most, f.unit)
	}
	return b.String()
}

// settings describes every key of the rules document.
func settings() string {
	var b strings.Builder
	b.WriteString("# Every setting of the rules document\n\nGenerated from the code by `make docs`. How a document " +
		"reads as a whole is in [rules.md](rules.md).\n\n" +
		"A key's place is written with `.` for a mapping, `[]` for the entries of a list and `{}` for named " +
		"entries. *Absent* says what it means not to state it; " +
		"*together* says what becomes of it where several protections, areas or documents state it.\n")
	b.WriteString("\n## How demands behave\n\n" + rules.BehaviourTable())
	b.WriteString("\n## How the other settings behave\n\nA condition narrows a landing's demand only: a push is " +
		"judged as if it held.\n\n" + rules.SettingTable())
	for _, k := range rules.Keys {
		fmt.Fprintf(&b, "\n## `%s`\n\n%s.", k.Path, strings.ToUpper(k.Means[:1])+k.Means[1:])
		if k.House {
			b.WriteString(" In house rules only.")
		}
		if len(k.Beside) > 0 {
			var beside []string
			for _, d := range k.Beside {
				beside = append(beside, "`"+d+"`")
			}
			fmt.Fprintf(&b, " Stands beside %s.", strings.Join(beside, " or "))
		}
		fmt.Fprintf(&b, "\n\n- written as: %s", k.Shape)
		switch {
		case len(k.Allowed) > 0:
			fmt.Fprintf(&b, ", of %s", strings.Join(k.Allowed, ", "))
		case k.High > 0:
			fmt.Fprintf(&b, ", from %d to %d", k.Low, k.High)
		}
		fmt.Fprintf(&b, "\n- absent: %s\n- together: %s\n\n```yaml\n%s\n```\n", k.Absent, k.Together, k.Example)
	}
	b.WriteString("\n## Variables of a `cel` expression\n\n| name | type |\n|---|---|\n")
	for _, v := range condition.Variables {
		fmt.Fprintf(&b, "| `%s` | %s |\n", v[0], v[1])
	}
	return b.String()
}

// commands describes every command, those below one under its heading. What holds for all is said once, at the top.
func commands() string {
	root := cli.Root()
	root.InitDefaultHelpCmd()
	var b strings.Builder
	b.WriteString("# The command line\n\nGenerated from the code by `make docs`. Exit status: 0 done, 1 an error, 2 misuse, " +
		"3 not yet, 4 never.\n\n" + root.Long + "\n\nOptions of every command:\n\n")
	options(&b, root.PersistentFlags())
	b.WriteString("\nA command marked ¶ is about one repository and takes `--repo HOUSE/NAME` too: it is needed outside a " +
		"clone, and for another repository than the clone's.\n")
	for _, c := range root.Commands() {
		if !c.IsAvailableCommand() || c.Name() == "help" || c.Name() == "completion" {
			continue
		}
		fmt.Fprintf(&b, "\n## tavrin %s\n\n%s.\n", c.Name(), c.Short)
		command(&b, c)
		for _, sub := range c.Commands() {
			if sub.IsAvailableCommand() {
				fmt.Fprintf(&b, "\n### tavrin %s %s\n\n%s.\n", c.Name(), sub.Name(), sub.Short)
				command(&b, sub)
			}
		}
	}
	return b.String()
}

// command describes how one command is called.
func command(b *strings.Builder, c *cobra.Command) {
	if !c.Runnable() || c.HasSubCommands() {
		return
	}
	if c.Long != "" {
		fmt.Fprintf(b, "\n%s\n", c.Long)
	}
	own := pflag.NewFlagSet("", pflag.ContinueOnError)
	mark := ""
	c.NonInheritedFlags().VisitAll(func(f *pflag.Flag) {
		switch f.Name {
		case "help":
		case "repo":
			mark = " ¶"
		default:
			own.AddFlag(f)
		}
	})
	fmt.Fprintf(b, "\n    %s%s\n", strings.TrimSuffix(c.UseLine(), " [flags]"), mark)
	if own.HasFlags() {
		b.WriteString("\n")
		options(b, own)
	}
	if c.Example != "" {
		fmt.Fprintf(b, "\nFor example:\n\n```\n%s\n```\n", c.Example)
	}
}

// options lists options as a table.
func options(b *strings.Builder, flags *pflag.FlagSet) {
	b.WriteString("| option | meaning |\n| --- | --- |\n")
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		kind, means := pflag.UnquoteUsage(f)
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if kind != "" {
			name += " " + kind
		}
		switch f.DefValue {
		case "", "false", "0", "[]", "0s":
		default:
			means += "; absent: " + f.DefValue
		}
		fmt.Fprintf(b, "| `%s` | %s |\n", name, strings.ReplaceAll(means, "|", "\\|"))
	})
}
