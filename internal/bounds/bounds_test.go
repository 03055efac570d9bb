package bounds

import (
	"strings"
	"testing"
)

func TestSet(t *testing.T) {
	b := Default()
	if err := b.Set("push.commits=7"); err != nil || b.PushCommits != 7 || b.PushRefs != 25_000 {
		t.Errorf("%v, %+v", err, b)
	}
	for _, text := range []string{"", "push.commits", "push.commits=", "push.commits=0", "push.commits=-1", "push.commits=many", "nothing=1"} {
		if err := b.Set(text); err == nil {
			t.Errorf("%q was taken", text)
		}
	}
	if text := b.Reach("push.commits", "this push brings %d commits", 8).Error(); text != "this push brings 8 commits; the bound push.commits is 7 commits" {
		t.Error(text)
	}
}

// Every row has a field of its own, and stands in the reference.
func TestTable(t *testing.T) {
	seen := map[*int64]bool{}
	var b Bounds
	for _, row := range Table {
		if at := row.at(&b); seen[at] {
			t.Errorf("%s shares its field", row.Name)
		} else {
			seen[at] = true
		}
		if !strings.Contains(Markdown(), "`"+row.Name+"`") || row.Default < 1 {
			t.Errorf("%s is not told", row.Name)
		}
	}
}
