// Package demo holds the data of the demonstration: the Fennmoor growers' co-operative, which runs irrigation
// control for its members. Everything and everybody in it is made up.
package demo

import (
	"embed"
	"fmt"
	"strings"
	"time"

	"golang.org/x/tools/txtar"
)

//go:embed history/*.txt *.yaml *.json *.ics drafts/*.yaml
var files embed.FS

// Commit is one commit to be made.
type Commit struct {
	Author  string // login
	At      time.Time
	Message string
	Files   []txtar.File
}

// Branch is a branch to be made: on the main branch, unless it is that itself.
type Branch struct {
	Name    string
	Commits []Commit
}

// Person is somebody of the co-operative.
type Person struct{ Login, Name string }

// People are those who take part.
var People = []Person{
	{"ines", "Ines Varga"}, {"odo", "Odo Marsh"}, {"tamsin", "Tamsin Holt"}, {"bela", "Bela Quint"}, {"wren", "Wren Askew"}, {"pavo", "Pavo Lind"},
}

// Teams are the teams with their members.
var Teams = map[string][]string{
	"hydraulics": {"odo", "ines"}, "agronomy": {"tamsin", "pavo"}, "accounts": {"bela", "ines"}, "field": {"wren", "tamsin"}, "duty": {"odo", "ines"},
}

// Address returns the address that stands in a person's commits.
func Address(login string) string { return login + "@fennmoor.example" }

// Rules returns the rules document of a repository, given without its house, or that of the house, "house".
func Rules(repo string) string { return file(repo + ".rules.yaml") }

// TooStrict returns a draft of irrigation's rules that can never hold.
func TooStrict() string { return file("drafts/too-strict.rules.yaml") }

// QuietWeekends returns the calendar of the weekends at which nothing is released.
func QuietWeekends() string { return file("quiet-weekends.ics") }

// Tickets returns the co-operative's work list, as its tracker reads it.
func Tickets() string { return file("tickets.json") }

// Examples returns examples of what irrigation's rules are meant to do.
func Examples() string { return file("irrigation.examples.yaml") }

func file(name string) string {
	text, err := files.ReadFile(name)
	if err != nil {
		panic("demo: " + err.Error())
	}
	return string(text)
}

// Main returns the commits of a repository's main branch.
func Main(repo string) []Commit {
	text, err := files.ReadFile("history/" + repo + ".main.txt")
	if err != nil {
		panic("demo: " + err.Error())
	}
	return commits(string(text))
}

// Branches returns a repository's other branches.
func Branches(repo string) []Branch {
	text, err := files.ReadFile("history/" + repo + ".branches.txt")
	if err != nil {
		return nil
	}
	var out []Branch
	for part := range strings.SplitSeq("\n"+string(text), "\n### ") {
		name, rest, ok := strings.Cut(part, "\n")
		if ok && name != "" {
			out = append(out, Branch{Name: name, Commits: commits(rest)})
		}
	}
	return out
}

// commits reads commits: each begins with "=== LOGIN TIME SUBJECT", and files follow in the txtar form.
func commits(text string) []Commit {
	var out []Commit
	for part := range strings.SplitSeq("\n"+text, "\n=== ") {
		if strings.TrimSpace(part) == "" {
			continue
		}
		archive := txtar.Parse([]byte(part + "\n"))
		head, body, _ := strings.Cut(strings.TrimSpace(string(archive.Comment)), "\n")
		words := strings.SplitN(head, " ", 3)
		at, err := time.Parse(time.RFC3339, words[1])
		if err != nil {
			panic(fmt.Sprintf("demo: %q: %v", head, err))
		}
		out = append(out, Commit{Author: words[0], At: at, Message: strings.TrimSpace(words[2] + "\n" + body), Files: archive.Files})
	}
	return out
}
