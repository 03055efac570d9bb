package git

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Wherever a ref stands among packed ones, tags with what they stand for between them, it is found, and what is not there is not.
func TestPackedRefsAreFound(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 1))
	for round := range 400 {
		names := map[string]string{}
		for range rng.IntN(30) {
			name := fmt.Sprintf("refs/%s/%c%d", []string{"heads", "tags", "tavrin/revisions"}[rng.IntN(3)], 'a'+rune(rng.IntN(3)), rng.IntN(40))
			names[name] = fmt.Sprintf("%040x", rng.Uint64())
		}
		var text strings.Builder
		text.WriteString("# pack-refs with: peeled fully-peeled sorted \n")
		var all []string
		for name := range names {
			all = append(all, name)
		}
		slices.Sort(all)
		for _, name := range all {
			fmt.Fprintf(&text, "%s %s\n", names[name], name)
			if strings.HasPrefix(name, "refs/tags/") && rng.IntN(2) == 0 {
				fmt.Fprintf(&text, "^%040x\n", rng.Uint64())
			}
		}
		dir := t.TempDir()
		if len(names) > 0 || round%2 == 0 {
			if err := os.WriteFile(filepath.Join(dir, "packed-refs"), []byte(text.String()), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		for range 40 {
			name := fmt.Sprintf("refs/%s/%c%d", []string{"heads", "tags", "tavrin/revisions", "zeta"}[rng.IntN(4)], 'a'+rune(rng.IntN(3)), rng.IntN(40))
			f := RefFiles{dir: dir}
			if at, err := f.At(name); err != nil || at != names[name] {
				t.Fatalf("%s is at %q, %v, and not at %q of\n%s", name, at, err, names[name], text.String())
			}
		}
		for _, prefix := range []string{"refs/heads/", "refs/tags/", "refs/zeta/"} {
			want := slices.ContainsFunc(all, func(name string) bool { return strings.HasPrefix(name, prefix) })
			f := RefFiles{dir: dir}
			if any, err := f.Any(prefix); err != nil || any != want {
				t.Fatalf("below %s is something: %v, %v, of\n%s", prefix, any, err, text.String())
			}
		}
	}
}
