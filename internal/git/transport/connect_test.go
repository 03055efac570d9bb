package transport

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/git/workshop"
)

// What comes with a push is the same whether it is looked at beside every ref or beside the near ones, for pushes of every
// shape: onto the newest and onto older commits, onto a topic, merges, with what is there already, with what nothing
// needs, and with something left out.
func TestNearAndAllRefsSayTheSame(t *testing.T) {
	w := workshop.New(t)
	random := rand.New(rand.NewPCG(1, 2))
	var all []string // commits that the repository has
	commit := func(name string, onto ...string) string {
		w.Git("checkout", "-q", "--detach", onto[0])
		for _, other := range onto[1:] {
			w.Git("merge", "-q", "--no-ff", "--no-commit", "-s", "ours", other)
		}
		w.Write("f/"+name, name)
		return w.Commit(name)
	}
	w.Write("README.md", "x")
	all = append(all, w.Commit("start"))
	for n := range 6 {
		all = append(all, commit(fmt.Sprint("main", n), all[len(all)-1]))
	}
	main := all[len(all)-1]
	w.Git("branch", "-f", "main", main)
	for n := range 6 {
		topic := commit(fmt.Sprint("topic", n), all[random.IntN(7)])
		all = append(all, topic)
		w.Git("branch", fmt.Sprint("topic", n), topic)
	}
	unheld := commit("unheld", main) // in the repository, and held by no ref
	w.Git("branch", "unheld", unheld)
	w.Push()
	w.Git("push", "-q", "origin", ":unheld")
	names := ""
	for n := range manyRefs {
		names += fmt.Sprintf("%s refs/heads/many/%04d\n", all[n%len(all)], n)
	}
	if err := os.WriteFile(filepath.Join(w.Bare, "packed-refs"), []byte("# pack-refs with: sorted\n"+names), 0o600); err != nil {
		t.Fatal(err)
	}

	near, far, refused := 0, 0, 0
	for n := range 60 {
		from := func() string { return all[random.IntN(len(all))] }
		onto := []string{[]string{main, from(), unheld, all[6+random.IntN(7)]}[n%4]}
		if random.IntN(4) == 0 {
			if other := from(); other != onto[0] {
				onto = append(onto, other)
			}
		}
		tip := commit(fmt.Sprint("new", n), onto...)
		if random.IntN(2) == 0 {
			tip = commit(fmt.Sprint("newer", n), tip)
		}
		wanted := []string{tip}
		if random.IntN(4) == 0 {
			wanted = append(wanted, commit(fmt.Sprint("beside", n), from()))
		}
		not := append([]string{"--not"}, onto...)
		if random.IntN(3) == 0 {
			not = []string{"--not", all[0]} // much comes that is there already
		}
		objects := strings.Fields(w.Git(slices.Concat([]string{"rev-list", "--objects", "--no-object-names"}, wanted, not)...))
		if random.IntN(4) == 0 {
			lost := random.IntN(len(objects))
			objects = slices.Delete(objects, lost, lost+1)
		}
		if len(objects) == 0 {
			continue
		}
		pack, err := w.TryWith(strings.NewReader(strings.Join(objects, "\n")+"\n"), "pack-objects", "-q", "--stdout")
		if err != nil {
			t.Fatal(err, pack)
		}
		in := &Incoming{Updates: []Update{{Ref: "refs/heads/new", New: tip}}, repo: w.Repo, view: w.Repo, known: &measured{}}
		err = in.takePack(t.Context(), bufio.NewReader(strings.NewReader(pack)))
		t.Cleanup(func() { os.RemoveAll(in.dir) })
		if err != nil && strings.Contains(err.Error(), "the pack is not sound") {
			continue // it is not looked at further
		}
		other := &Incoming{repo: w.Repo, view: in.view, dir: in.dir, known: &measured{}}
		ask, err2 := startAsking(t.Context(), in.view)
		if err2 != nil {
			t.Fatal(err2)
		}
		list, err2 := other.listed(ask)
		if err2 != nil {
			t.Fatal(err2)
		}
		is, _ := (&Incoming{repo: w.Repo, view: in.view, dir: in.dir}).walkNear(t.Context(), ask, []string{tip}, list)
		ask.Close()
		err2 = other.walkAll(t.Context(), []string{tip}, list)
		if fmt.Sprint(err) != fmt.Sprint(err2) {
			t.Fatalf("push %d: %v, and beside all refs %v", n, err, err2)
		}
		switch {
		case err != nil:
			refused++
			continue
		case is:
			near++
		default:
			far++
		}
		if !slices.Equal(in.order, other.order) || !slices.Equal(in.rode, other.rode) || len(in.commits) != len(other.commits) {
			t.Errorf("push %d: %v and %v came, and beside all refs %v and %v", n, in.order, in.rode, other.order, other.rode)
		}
		for id, parents := range other.commits {
			if !slices.Equal(in.commits[id], parents) {
				t.Errorf("push %d: %s has the parents %v, and beside all refs %v", n, id, in.commits[id], parents)
			}
		}
	}
	if near < 10 || far < 5 || refused < 3 {
		t.Errorf("%d were looked at beside near refs, %d beside all, and %d were refused: too few to say something", near, far, refused)
	}
}
