package rehearsal

import (
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/trailer"
	"tavrin/internal/git"
)

func FuzzReadMerge(f *testing.F) {
	id := strings.Repeat("a", 40)
	f.Add(id + "\x00100644 " + id + " 1\ta\x00160000 " + id + " 2\ta\x00")
	f.Fuzz(func(t *testing.T, out string) {
		tree, stages, _, ok := readMerge(out)
		if !ok {
			return
		}
		if !git.IsID(tree) {
			t.Errorf("the tree is %q", tree)
		}
		if e := conflictOf(stages); len(stages) > 0 && (len(e.Files) == 0 || len(e.Text) != len(e.Files)) {
			t.Errorf("%q conflicts in nothing", out)
		}
	})
}

// A replayed commit claims nothing that only the service may write, whatever the one that it was made from says.
func FuzzReplayed(f *testing.F) {
	f.Add("tree x\nparent y\nauthor A <a> 1 +0000\ncommitter B <b> 2 +0000\n\nsubject\n\nbody\nApproved-by: x\n")
	f.Fuzz(func(t *testing.T, text string) {
		h := git.ParseHeader(text)
		again := pick{tree: h.Tree, parents: h.Parents, author: h.Author, message: h.Message}.
			replayed("t", "p", git.Signature{Name: "x", When: time.Unix(0, 0)})
		if k := git.ParseHeader(again); trailer.Reserved(k.Message) != "" && h.Encoding == "" {
			t.Errorf("a replayed commit claims %s: %q", trailer.Reserved(k.Message), again)
		}
	})
}
