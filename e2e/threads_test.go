package e2e

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/client"
	"tavrin/wire"
)

// Discussions on lines, a file, a commit and the change: carried over to later revisions while their lines are there,
// marked when they are gone, never lost; and the gate waits for those that need an answer.
func TestThreadsAreCarriedOver(t *testing.T) {
	w := newTown(t)
	w.begin(requiring("threads: resolved"))
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	first := w.commit("tamsin", dir, "valves.c", lines(30, nil), "add valves")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	w.stands(k, "threads", "not-asked", "no discussion")
	begin := func(login string, n wire.NewThread) wire.Thread {
		t.Helper()
		v, err := w.as(login).BeginThread(t.Context(), repo, k.Number, n)
		w.ok(err)
		return v
	}
	onLines := begin("odo", wire.NewThread{Path: "valves.c", First: 10, Last: 12, Text: "why these?"})
	onLine := begin("odo", wire.NewThread{Path: "valves.c", First: 20, Text: "and this?"})
	onFile := begin("wren", wire.NewThread{Path: "valves.c", Text: "a better name?"})
	onCommit := begin("wren", wire.NewThread{Commit: first, Text: "split it?"})
	praise := begin("odo", wire.NewThread{Text: "well measured", NoAnswer: true})
	if onLines.Quoted != "line 9\nline 10\nline 11" || onLines.Where != "valves.c, lines 10 to 12" || onCommit.Where != fmt.Sprintf("commit %.10s", first) || praise.Where != "the change" {
		t.Errorf("begun: %+v %+v %+v", onLines, onCommit, praise)
	}
	w.stands(k, "threads", "missing", "odo's on valves.c, lines 10 to 12")
	if q := w.requirement(k, "threads"); q.Need != 4 || q.Have != 0 {
		t.Errorf("praise blocks, or a question does not: %+v", q)
	}
	// A new revision: three lines come in front, line 20 is altered, and the file gets another name.
	w.must("tamsin", dir, "mv", "valves.c", "gates.c")
	w.commit("tamsin", dir, "gates.c", "x\ny\nz\n"+lines(30, map[int]string{19: "altered"}), "rename and mend")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k = w.until(k, "at revision 2", func(k wire.Change) bool { return k.Revision == 2 })
	all, err := w.as("pavo").Threads(t.Context(), repo, k.Number)
	w.ok(err)
	if len(all) != 5 {
		t.Fatalf("%d discussions are left", len(all))
	}
	if now := all[0].Now; now == nil || now.Path != "gates.c" || now.First != 13 || now.Last != 15 || all[0].Gone {
		t.Errorf("the lines are now %+v", all[0])
	}
	if all[1].Now != nil || !all[1].Gone || all[1].Quoted != "line 19" || all[2].Gone {
		t.Errorf("the altered line is %+v, the file %+v", all[1], all[2])
	}
	// Reply, alter, resolve with an outcome, reopen; two at once, and without the right.
	c := w.as("tamsin")
	v, err := c.Reply(t.Context(), repo, k.Number, onLine.ID, wire.NewComment{Text: "tvr_ABCDEFGHIJKLMNOPQRSTUVWXYZ stands for it"})
	w.ok(err)
	if strings.Contains(v.Comments[1].Text, "ABCDEFGH") {
		t.Error("a token pasted into a comment is shown")
	}
	v, err = c.EditComment(t.Context(), repo, k.Number, onLine.ID, v.Comments[1].ID, "mended")
	w.ok(err)
	if v.Comments[1].Text != "mended" || len(v.Comments[1].Earlier) != 1 || v.Comments[1].EditedAt == nil {
		t.Errorf("altered: %+v", v.Comments[1])
	}
	_, err = w.as("odo").EditComment(t.Context(), repo, k.Number, onLine.ID, v.Comments[1].ID, "no")
	problem(t, err, 403, "tamsin's")
	_, err = c.Resolve(t.Context(), repo, k.Number, onLine.ID, true, "mended in revision 2")
	w.ok(err)
	_, err = w.as("odo").Resolve(t.Context(), repo, k.Number, onLine.ID, true, "")
	problem(t, err, 409, "resolved by tamsin already")
	_, err = w.as("odo").Resolve(t.Context(), repo, k.Number, onLine.ID, false, "")
	w.ok(err)
	_, err = w.as("pavo").Resolve(t.Context(), repo, k.Number, onLine.ID, true, "")
	problem(t, err, 403, "odo, who began it")
	for _, id := range []int64{onLines.ID, onLine.ID, onFile.ID, onCommit.ID} {
		_, err := c.Resolve(t.Context(), repo, k.Number, id, true, "")
		w.ok(err)
	}
	w.stands(k, "threads", "met", "")
	w.apply(requiring("{threads: resolved, resolved_by: role:maintainer}"))
	w.stands(k, "threads", "missing", "tamsin resolved without the right to")
	has(t, strings.Join(w.kinds(), " "), "thread.begun", "thread.replied", "thread.edited", "thread.resolved", "thread.reopened")
}

// Somebody without a role of their own may comment in a public repository, and blocks nobody by it.
func TestCommentsOfStrangersBlockNothing(t *testing.T) {
	w := newTown(t)
	const open = "growers/open-day"
	_, err := w.admin.CreateRepository(t.Context(), wire.NewRepository{Name: open, Public: true})
	w.ok(err)
	w.ok(w.admin.Grant(t.Context(), open, "ines", "maintainer"))
	dir := filepath.Join(t.TempDir(), "open")
	w.must("ines", w.dir, "clone", "-q", w.url+"/git/"+open+".git", dir)
	w.commit("ines", dir, "a", "a\n", "start")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:main")
	w.commit("ines", dir, "b", "b\n", "more")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:topic")
	_, err = w.as("ines").ApplyRules(t.Context(), open, wire.NewRules{Text: requiring("threads: resolved"), Reason: "talk"}, -1)
	w.ok(err)
	k, err := w.as("ines").OpenChange(t.Context(), open, wire.NewChange{Source: "topic", Title: "More"})
	w.ok(err)
	w.person("marla")
	v, err := w.as("marla").BeginThread(t.Context(), open, k.Number, wire.NewThread{Text: "why?"})
	w.ok(err)
	r, err := w.as("ines").Gate(t.Context(), open, k.Number)
	w.ok(err)
	if v.NeedsAnswer || !r.Ready {
		t.Errorf("a stranger blocks: %+v, %s", v, r.Summary)
	}
}

// What cannot be discussed is refused with what would be right.
func TestBadThreads(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "one\ntwo\n")
	cases := []struct {
		n    wire.NewThread
		says string
	}{
		{wire.NewThread{Text: " "}, "needs words"},
		{wire.NewThread{Path: "a", First: 3, Text: "x"}, "a has 2 lines at revision 1, so that there is no line 3"},
		{wire.NewThread{Path: "a", First: 2, Last: 1, Text: "x"}, "the last is not before the first"},
		{wire.NewThread{Path: "b", First: 1, Text: "x"}, "there is no b at revision 1"},
		{wire.NewThread{Path: "a", Before: true, Text: "x"}, "before the change"},
		{wire.NewThread{First: 1, Text: "x"}, "of which file"},
		{wire.NewThread{Revision: 7, Text: "x"}, "no revision 7"},
		{wire.NewThread{Commit: "main", Text: "x"}, "not a commit id"},
		{wire.NewThread{Commit: w.tip("main"), Text: "x"}, "does not bring a commit"},
		{wire.NewThread{Text: strings.Repeat("x", 1<<20)}, "bytes"},
		{wire.NewThread{Text: "a\xffb", Path: "a"}, ""},
	}
	for _, c := range cases {
		_, err := w.as("odo").BeginThread(t.Context(), repo, k.Number, c.n)
		if c.says == "" {
			continue // the JSON encoder has made it valid
		}
		p, ok := err.(*client.Problem)
		if !ok || !strings.Contains(p.Detail, c.says) {
			t.Errorf("%+v: %v", c.n, err)
		}
	}
	_, err := w.as("odo").Reply(t.Context(), repo, k.Number, 99, wire.NewComment{Text: "x"})
	problem(t, err, 404, "tavrin thread list 1")
}

// The same from the command line.
func TestThreadCommands(t *testing.T) {
	w := newTown(t)
	w.begin(requiring("threads: resolved"))
	k := w.propose("tamsin", "topic", "a", "one\ntwo\nthree\n")
	n := fmt.Sprint(k.Number)
	w.says("odo", 0, "discussion 1 on a, lines 2 to 3 (revision 1)", "--repo", repo, "thread", "begin", n, "--path", "a", "--lines", "2-3", "--text", "why two?")
	w.says("odo", 2, "12 or 12-15", "--repo", repo, "thread", "begin", n, "--path", "a", "--lines", "two", "--text", "why two?")
	w.says("tamsin", 3, "odo's on a, lines 2 to 3", "--repo", repo, "change", "gate", n)
	out := w.says("tamsin", 0, "because", "--repo", repo, "thread", "reply", n, "1", "--text", "because it is not one")
	has(t, out, "| two", "why two?")
	w.says("tamsin", 0, "altered", "--repo", repo, "thread", "edit", n, "1", "--comment", "2", "--text", "because it is measured")
	w.says("odo", 0, "resolved by odo: taken further in FEN-9", "--repo", repo, "thread", "resolve", n, "1", "--text", "taken further in FEN-9")
	w.says("tamsin", 0, "Ready for main", "--repo", repo, "change", "gate", n)
	w.says("odo", 0, "open", "--repo", repo, "thread", "reopen", n, "1")
	w.says("odo", 2, "not the number of a discussion", "--repo", repo, "thread", "resolve", n, "one")
}

// Of those who resolve, or open again, one discussion at once, exactly one does; the others are told.
func TestSettlingAtOnce(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	thread, err := w.as("odo").BeginThread(t.Context(), repo, k.Number, wire.NewThread{Text: "why?"})
	w.ok(err)
	for round := range 6 {
		resolve := round%2 == 0
		people := []string{"ines", "odo", "tamsin", "wren"}
		errs := make(chan error, len(people))
		for _, login := range people {
			c := w.as(login)
			go func() {
				_, err := c.Resolve(t.Context(), repo, k.Number, thread.ID, resolve, "by "+login)
				errs <- err
			}()
		}
		done := 0
		for range people {
			if err := <-errs; err == nil {
				done++
			} else {
				problem(t, err, 409, "discussion")
			}
		}
		if done != 1 {
			t.Errorf("round %d: %d resolved or opened it", round, done)
		}
		now, err := w.as("ines").Threads(t.Context(), repo, k.Number)
		w.ok(err)
		if now[0].Resolved != resolve || resolve != (now[0].Outcome != "") {
			t.Errorf("round %d: %+v", round, now[0])
		}
	}
}
