// Package process starts every git process of the service, and no other package does.
//
// It promises that each is bounded in its time, its processor time, its memory and what is read of its answer; that it
// is ended with its children when it exceeds them; that nothing outside the service's folder influences it; and that
// nobody has more of them at once than one may. What the commands mean, and who may have them run, is left to others.
package process

import (
	"fmt"
	"os"
	"sync"

	"tavrin/internal/bounds"
)

// Program is the git program, set up so that nothing outside the service's folder influences it.
type Program struct {
	// Home is a folder of the service's own that stands in for the user's home.
	Home string
	// Bounds say how much is taken; the zero value stands for the defaults.
	Bounds bounds.Bounds
	// Started is told of every process that is about to start, by its arguments; nil: nobody is. Tests use it.
	Started func(args []string)

	defaulted sync.Once
	turns     turns
	idle      idle
	sharing   sharing
}

// ReservedRefs is the name space that is the service's own: it is neither shown to nor pushed by others.
const ReservedRefs = "refs/tavrin"

// EmptyTree is the id of the tree that holds nothing.
const EmptyTree = "4b825dc642cb6eb9a060e54bf8d69288fbee4904"

// config is given to every git process, in place of configuration files.
var config = [][2]string{
	{"safe.directory", "*"},
	{"gc.auto", "0"},
	{"core.fsync", "committed"},
	{"core.fsyncMethod", "batch"},
	{"core.filesRefLockTimeout", "1000"}, // there is one writer: a lock that stays was left behind
	{"core.packedRefsTimeout", "1000"},
	{"core.attributesFile", os.DevNull}, // no attribute, of the tree or of the machine, hides or bends what is shown
	{"attr.tree", EmptyTree},
	{"core.bigFileThreshold", "64m"}, // larger files are streamed
	{"core.packedGitWindowSize", "32m"},
	{"core.packedGitLimit", "256m"},
	{"pack.threads", "2"},
	{"pack.windowMemory", "256m"},
	{"merge.directoryRenames", "conflict"},
	{"transfer.hideRefs", ReservedRefs},
	{"uploadpack.hideRefs", "refs/preview"}, // a clone does not bring what others only wanted to have looked at
	{"uploadpack.allowFilter", "true"},
	{"uploadpack.allowAnySHA1InWant", "true"}, // so it is in protocol version 2; partial clones need it in the others
	{"advice.detachedHead", "false"},
}

// environment is what git sees; nothing of the service's own environment but the search path.
func (p *Program) environment(extra ...string) []string {
	env := []string{
		"PATH=" + os.Getenv("PATH"), "HOME=" + p.Home, "LC_ALL=C", "TZ=UTC",
		"GIT_CONFIG_NOSYSTEM=1", "GIT_ATTR_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=" + os.DevNull, "GIT_TERMINAL_PROMPT=0",
		"GIT_NO_REPLACE_OBJECTS=1", fmt.Sprintf("GIT_CONFIG_COUNT=%d", len(config)),
	}
	for i, kv := range config {
		env = append(env, fmt.Sprintf("GIT_CONFIG_KEY_%d=%s", i, kv[0]),
			fmt.Sprintf("GIT_CONFIG_VALUE_%d=%s", i, kv[1]))
	}
	return append(env, extra...)
}

// bounds returns the bounds in force.
func (p *Program) bounds() *bounds.Bounds {
	p.defaulted.Do(func() {
		if p.Bounds == (bounds.Bounds{}) {
			p.Bounds = bounds.Default()
		}
	})
	return &p.Bounds
}
