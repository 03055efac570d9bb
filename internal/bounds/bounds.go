// Package bounds says how much of everything the service takes: one table from which the defaults, the settings of an
// administrator and the reference are made.
//
// A bound that is reached refuses, with its name; nothing is ever judged or shown on a part without saying so.
package bounds

import (
	"fmt"
	"strconv"
	"strings"
)

// Bounds is how much is taken. The zero value is not of use: begin with Default.
type Bounds struct {
	PushRefs, PushCommandBytes, PushPackBytes, PushCommits, PushDirectCommits         int64
	PushTextBytes, PushObjectBytes, PushTreePaths, PushTreeDepth                      int64
	ChangeCommits, ChangePaths, ChangeMessageBytes, ChangeThreads                     int64
	ThreadComments, RepositoryRefs                                                    int64
	GitProcesses, GitPersonProcesses, GitTransfers, GitIdle, AttributeBytes, DiskFree int64
	GitSeconds, GitTransferSeconds, GitCPUSeconds, GitMemory, GitOutput               int64
	TokenCalls, AddressCalls, FailedSignIns, PersonStreams                            int64
	MarkdownBytes, MarkdownHTML                                                       int64
	Webhooks                                                                          int64
	KeepLogs, KeepDeliveries, KeepRehearsals                                          int64
}

// Bound is one row of the table.
type Bound struct {
	Name    string
	Default int64
	Unit    string // of the number
	Means   string
	at      func(*Bounds) *int64
}

// Table lists every bound, in the order of the reference.
var Table = []Bound{
	{"push.refs", 25_000, "refs", "refs in one push", func(b *Bounds) *int64 { return &b.PushRefs }},
	{"push.command-bytes", 3 << 20, "bytes", "all names and options of one push together", func(b *Bounds) *int64 { return &b.PushCommandBytes }},
	{"push.pack-bytes", 2 << 30, "bytes", "the pack of one push", func(b *Bounds) *int64 { return &b.PushPackBytes }},
	{"push.commits", 20_000, "commits", "commits that one push brings to a repository that has branches already", func(b *Bounds) *int64 { return &b.PushCommits }},
	{"push.direct-commits", 1000, "commits", "commits that one push brings to a protected branch, each of which is judged", func(b *Bounds) *int64 { return &b.PushDirectCommits }},
	{"push.text-bytes", 64 << 10, "bytes", "one commit or tag with its message", func(b *Bounds) *int64 { return &b.PushTextBytes }},
	{"push.object-bytes", 1 << 30, "bytes", "one file or folder listing, unpacked", func(b *Bounds) *int64 { return &b.PushObjectBytes }},
	{"push.tree-paths", 500_000, "paths", "files in the tree of one commit", func(b *Bounds) *int64 { return &b.PushTreePaths }},
	{"push.tree-depth", 100, "folders", "folders in each other in the tree of one commit", func(b *Bounds) *int64 { return &b.PushTreeDepth }},
	{"change.commits", 2000, "commits", "commits that one change brings", func(b *Bounds) *int64 { return &b.ChangeCommits }},
	{"change.paths", 50_000, "paths", "files that one change touches, by its difference or by a commit of it", func(b *Bounds) *int64 { return &b.ChangePaths }},
	{"change.message-bytes", 4 << 20, "bytes", "the messages of all commits of one change together", func(b *Bounds) *int64 { return &b.ChangeMessageBytes }},
	{"change.threads", 1000, "discussions", "discussions of one change", func(b *Bounds) *int64 { return &b.ChangeThreads }},
	{"thread.comments", 500, "comments", "what is said in one discussion", func(b *Bounds) *int64 { return &b.ThreadComments }},
	{"repository.refs", 50_000, "refs", "branches and tags of one repository", func(b *Bounds) *int64 { return &b.RepositoryRefs }},
	{"git.processes", 48, "processes", "git processes at once, in all", func(b *Bounds) *int64 { return &b.GitProcesses }},
	{"git.person-processes", 12, "processes", "git processes at once on behalf of one person or address", func(b *Bounds) *int64 { return &b.GitPersonProcesses }},
	{"git.idle", 4, "sets of processes", "sets of git processes that wait for the next rehearsal, three in each; 0: none", func(b *Bounds) *int64 { return &b.GitIdle }},
	{"attributes.bytes", 1 << 20, "bytes", "the .gitattributes files of one commit together, which say how its files merge", func(b *Bounds) *int64 { return &b.AttributeBytes }},
	{"git.transfers", 6, "transfers", "clones, fetches and pushes at once of one person or address", func(b *Bounds) *int64 { return &b.GitTransfers }},
	{"git.seconds", 120, "seconds", "one git process that works on what is there", func(b *Bounds) *int64 { return &b.GitSeconds }},
	{"git.transfer-seconds", 1800, "seconds", "one git process that takes or sends a pack", func(b *Bounds) *int64 { return &b.GitTransferSeconds }},
	{"git.cpu-seconds", 600, "seconds", "processor time of one git process", func(b *Bounds) *int64 { return &b.GitCPUSeconds }},
	{"git.memory-bytes", 2 << 30, "bytes", "memory of one git process", func(b *Bounds) *int64 { return &b.GitMemory }},
	{"git.output-bytes", 128 << 20, "bytes", "what is read of one git process's answer", func(b *Bounds) *int64 { return &b.GitOutput }},
	{"disk.free-bytes", 200 << 20, "bytes", "room on the disk below which no push is taken, and nothing is rehearsed or landed", func(b *Bounds) *int64 { return &b.DiskFree }},
	{"calls.token", 6000, "calls a minute", "requests with one token or session", func(b *Bounds) *int64 { return &b.TokenCalls }},
	{"calls.address", 1200, "calls a minute", "requests without a sign-in from one address", func(b *Bounds) *int64 { return &b.AddressCalls }},
	{"calls.failed-sign-ins", 20, "tries a minute", "sign-ins with a token that is not known, from one address", func(b *Bounds) *int64 { return &b.FailedSignIns }},
	{"calls.streams", 20, "streams", "event streams open at once of one person or address", func(b *Bounds) *int64 { return &b.PersonStreams }},
	{"webhooks", 50, "webhooks", "webhooks of one repository, of one house, and of the service itself", func(b *Bounds) *int64 { return &b.Webhooks }},
	{"keep.log-days", 90, "days", "how long what a check wrote is kept, after it was asked for; that it passed or not, and what it says in a line, stays", func(b *Bounds) *int64 { return &b.KeepLogs }},
	{"keep.delivery-days", 14, "days", "how long deliveries of webhooks that have ended are kept", func(b *Bounds) *int64 { return &b.KeepDeliveries }},
	{"keep.rehearsal-days", 14, "days", "how long a rehearsal that has not landed is kept, with its commit", func(b *Bounds) *int64 { return &b.KeepRehearsals }},
	{"markdown.bytes", 64 << 10, "bytes", "a text that is laid out; a longer one is shown as it was typed", func(b *Bounds) *int64 { return &b.MarkdownBytes }},
	{"markdown.html-bytes", 256 << 10, "bytes", "what a text is laid out as; where it would be longer it is shown as it was typed", func(b *Bounds) *int64 { return &b.MarkdownHTML }},
}

// Default returns the bounds of a service that nobody set any for.
func Default() Bounds {
	var b Bounds
	for _, row := range Table {
		*row.at(&b) = row.Default
	}
	return b
}

// Set sets one bound, given as NAME=NUMBER.
func (b *Bounds) Set(text string) error {
	name, value, ok := strings.Cut(text, "=")
	for _, row := range Table {
		if !ok || row.Name != name {
			continue
		}
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil || n < 1 {
			return fmt.Errorf("bound %s: %q is not a number of %s from 1 on", name, value, row.Unit)
		}
		*row.at(b) = n
		return nil
	}
	return fmt.Errorf("%q sets no bound: it is NAME=NUMBER, such as %s=%d; docs/reference/bounds.md lists the names", text, Table[0].Name, Table[0].Default)
}

// Reached says that a bound was reached, so that something is refused.
type Reached struct {
	Name string // of the bound
	Most int64
	Unit string
	What string // what reached it, such as "this push brings 1,101 commits"
}

// Reach returns the refusal of what reached a bound.
func (b *Bounds) Reach(name, format string, args ...any) *Reached {
	for _, row := range Table {
		if row.Name == name {
			return &Reached{Name: name, Most: *row.at(b), Unit: row.Unit, What: fmt.Sprintf(format, args...)}
		}
	}
	panic("there is no bound " + name)
}

// Error says what reached which bound.
func (r *Reached) Error() string {
	return fmt.Sprintf("%s; the bound %s is %d %s", r.What, r.Name, r.Most, r.Unit)
}

// Markdown is the page of the reference.
func Markdown() string {
	var out strings.Builder
	out.WriteString("# Bounds\n\nHow much of everything is taken. What reaches a bound is refused, with the bound's name; nothing is judged on a part.\n" +
		"An administrator sets another with `tavrin serve --bound NAME=NUMBER`, as often as needed.\n\n| bound | default | of what |\n| --- | ---: | --- |\n")
	for _, row := range Table {
		fmt.Fprintf(&out, "| `%s` | %d %s | %s |\n", row.Name, row.Default, row.Unit, row.Means)
	}
	return out.String()
}

// Of returns the bound of that name.
func (b *Bounds) Of(name string) int64 { return b.Reach(name, "").Most }
