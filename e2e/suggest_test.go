package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"tavrin/client"
	"tavrin/wire"
)

func text(s string) *string { return &s }

// suggest begins a discussion with a suggestion and returns the comment's number.
func (w *town) suggest(login string, k wire.Change, path string, first, last int, suggestion string) int64 {
	w.t.Helper()
	t, err := w.as(login).BeginThread(w.t.Context(), repo, k.Number, wire.NewThread{Path: path, First: first, Last: last, Suggestion: &suggestion})
	w.ok(err)
	return t.Comments[0].ID
}

// An author applies suggestions as one commit of theirs, with who suggested them as co-author, who counts as author from
// then on (P6).
func TestP6SuggestionsAreApplied(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "pumps", lines(10, nil), "pumps")
	w.commit("tamsin", dir, "crlf", "a\r\nb\r\n", "crlf")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	first := w.suggest("odo", k, "pumps", 2, 3, "line two\nand three\nand more")
	gone := w.suggest("odo", k, "pumps", 9, 9, "")
	crlf := w.suggest("wren", k, "crlf", 2, 2, "B")
	over := w.suggest("wren", k, "pumps", 3, 4, "overlaps")
	stale := w.suggest("wren", k, "pumps", 1, 1, "FIRST")
	w.approve("odo", k)

	// The author pushes in between: the lines have moved, and those of one suggestion have changed.
	w.commit("tamsin", dir, "pumps", "top\nfirst\n"+strings.TrimPrefix(lines(10, nil), "line 0\n"), "more")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	author := w.as("tamsin")
	_, err := w.as("wren").ApplySuggestions(ctx, repo, k.Number, []int64{first})
	problem(t, err, 403, "taking suggestions into change 1 is for its authors")
	_, err = author.ApplySuggestions(ctx, repo, k.Number, []int64{first, over})
	problem(t, err, 409, "do not go together in pumps", "line 4")
	_, err = author.ApplySuggestions(ctx, repo, k.Number, []int64{stale})
	problem(t, err, 409, "have changed since")
	_, err = author.ApplySuggestions(ctx, repo, k.Number, []int64{99})
	problem(t, err, 404, "no comment 99")
	_, err = author.ApplySuggestions(ctx, repo, k.Number, nil)
	problem(t, err, 422, "name the comments")
	plain, err := w.as("odo").BeginThread(ctx, repo, k.Number, wire.NewThread{Text: "hm"})
	w.ok(err)
	_, err = author.ApplySuggestions(ctx, repo, k.Number, []int64{plain.Comments[0].ID})
	problem(t, err, 409, "suggests nothing")

	out := w.says("tamsin", 0, "change 1 is at revision 3", "thread", "apply", "1", fmt.Sprint(first), fmt.Sprint(gone), fmt.Sprint(crlf), "--repo", repo)
	has(t, out, "git merge --ff-only origin/topic")
	w.must("tamsin", dir, "pull", "-q", "--ff-only", "origin", "topic")
	if got := w.must("tamsin", dir, "show", "HEAD:pumps"); got != "top\nfirst\nline two\nand three\nand more\nline 3\nline 4\nline 5\nline 6\nline 7\nline 9" {
		t.Errorf("pumps is\n%s", got)
	}
	if got := w.must("tamsin", dir, "cat-file", "blob", "HEAD:crlf"); got != "a\r\nB" { // the last line end is trimmed by the helper
		t.Errorf("crlf is %q", got)
	}
	log := w.must("tamsin", dir, "log", "-1", "--format=%an <%ae>%n%B")
	has(t, log, "Tamsin of Fennmoor <tamsin@fennmoor.example>", "Apply what odo and wren suggested for pumps, crlf", "Co-authored-by: Odo of Fennmoor <odo@fennmoor.example>", "Co-authored-by: Wren of Fennmoor <wren@fennmoor.example>")
	now, err := author.Change(ctx, repo, k.Number)
	w.ok(err)
	if !slices.Equal(now.Authors, []string{"odo", "tamsin", "wren"}) || now.Ready {
		t.Errorf("authors are %v, ready %v", now.Authors, now.Ready)
	}
	threads, err := author.Threads(ctx, repo, k.Number)
	w.ok(err)
	if r := threads[0]; !r.Resolved || r.ResolvedBy != "tamsin" || r.Comments[0].AppliedAs != now.Head || r.Comments[0].AppliedBy != "tamsin" || !strings.HasPrefix(r.Outcome, "applied as "+now.Head[:10]) {
		t.Errorf("the thread is %+v", r)
	}
	_, err = author.ApplySuggestions(ctx, repo, k.Number, []int64{first})
	problem(t, err, 409, "tamsin applied comment")
	has(t, w.says("odo", 0, "+ and more", "thread", "list", "1", "--repo", repo), "suggested, and tamsin applied it as")

	for _, n := range []wire.NewThread{{Suggestion: text("x")}, {Path: "pumps", Suggestion: text("x")}, {Path: "README.md", First: 1, Before: true, Suggestion: text("x")}} {
		_, err := w.as("odo").BeginThread(ctx, repo, k.Number, n)
		problem(t, err, 422, "a suggestion is for lines")
	}
	_, err = w.as("odo").Reply(ctx, repo, k.Number, plain.ID, wire.NewComment{Text: "so", Suggestion: text("x")})
	problem(t, err, 422, "is not about lines")
	_, err = w.as("odo").BeginThread(ctx, repo, k.Number, wire.NewThread{Path: "pumps", First: 99, Suggestion: text("x")})
	problem(t, err, 422, "there is no line 99")
	w.says("odo", 2, "at least one of the flags", "thread", "begin", "1", "--repo", repo)
}

// Draft comments are seen by nobody else and sent at once with a review; a push in between loses none of them.
func TestDraftComments(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "a", lines(5, nil), "one")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	open, err := w.as("wren").BeginThread(ctx, repo, k.Number, wire.NewThread{Text: "why?"})
	w.ok(err)
	w.says("odo", 0, "draft 1, on a, line 2", "thread", "begin", "1", "--path", "a", "--lines", "2", "--text", "units?", "--draft", "--repo", repo)
	w.says("odo", 0, "draft 2", "thread", "begin", "1", "--path", "a", "--lines", "3", "--suggest", "better", "--draft", "--repo", repo)
	w.says("odo", 0, "draft 3", "thread", "reply", "1", fmt.Sprint(open.ID), "--text", "because", "--draft", "--repo", repo)
	w.says("odo", 0, "draft 4", "thread", "begin", "1", "--text", "never mind", "--draft", "--repo", repo)
	w.says("odo", 0, "", "thread", "delete-draft", "1", "4", "--repo", repo)
	w.says("odo", 1, "no draft comment 4", "thread", "delete-draft", "1", "4", "--repo", repo)
	w.says("wren", 1, "no draft comment 1", "thread", "delete-draft", "1", "1", "--repo", repo)
	if mine := w.says("odo", 0, "units?", "thread", "drafts", "1", "--repo", repo); strings.Contains(mine, "never mind") {
		t.Errorf("what was thrown away is there:\n%s", mine)
	}
	w.says("wren", 0, "you have no draft comment on it", "thread", "drafts", "1", "--repo", repo)
	count := func() int {
		t.Helper()
		all, err := w.as("tamsin").Threads(ctx, repo, k.Number)
		w.ok(err)
		n := 0
		for _, t := range all {
			n += len(t.Comments)
		}
		return n
	}
	if n := count(); n != 1 {
		t.Errorf("%d comments are seen before the review is sent", n)
	}
	_, err = w.as("odo").SaveDraft(ctx, repo, k.Number, 99, wire.NewThread{Text: "x"})
	problem(t, err, 404, "no discussion 99")
	_, err = w.as("odo").SaveDraft(ctx, repo, k.Number, 0, wire.NewThread{Path: "a", First: 9, Text: "x"})
	problem(t, err, 422, "a has 5 lines")
	_, err = w.as("odo").SaveDraft(ctx, repo, k.Number, 0, wire.NewThread{})
	problem(t, err, 422, "a comment needs words")

	w.commit("tamsin", dir, "a", "new\n"+lines(5, nil), "two")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	_, err = w.as("odo").Review(ctx, repo, k.Number, wire.NewReview{Verdict: "object", Revision: 1, Text: "units are missing", Drafts: true})
	problem(t, err, 409, "the newest revision of change 1 is 2, not 1", "diff 1 --from 1", "draft comments are kept")
	if n := count(); n != 1 {
		t.Errorf("%d comments are seen after a review that was not taken", n)
	}
	w.says("odo", 0, "objection of revision 2 is on record", "review", "object", "1", "--revision", "2", "--text", "units are missing", "--drafts", "--repo", repo)
	threads, err := w.as("tamsin").Threads(ctx, repo, k.Number)
	w.ok(err)
	if len(threads) != 3 || len(threads[0].Comments) != 2 || threads[1].Revision != 1 || threads[1].Now == nil || threads[1].Now.First != 3 || *threads[2].Comments[0].Suggestion != "better" {
		t.Errorf("threads are %+v", threads)
	}
	w.says("odo", 1, "there are no draft comments", "review", "comment", "1", "--drafts", "--repo", repo)
	w.says("odo", 2, "say something", "review", "comment", "1", "--repo", repo)
	w.says("odo", 0, "draft", "thread", "begin", "1", "--text", "one more", "--draft", "--repo", repo)
	w.says("odo", 0, "comment of revision 2 is on record", "review", "comment", "1", "--drafts", "--repo", repo)
	if n := count(); n != 5 {
		t.Errorf("%d comments in the end", n)
	}
	report, err := w.as("odo").Gate(ctx, repo, k.Number)
	w.ok(err)
	w.says("pavo", 3, "odo objected to revision 2: it blocks the change until it is withdrawn", "change", "gate", "1", "--repo", repo)
	w.approve("odo", w.openedAs(1))
	w.says("pavo", 0, "odo approved revision 2: counts for 1 approval", "change", "gate", "1", "--repo", repo)
	if len(report.Reviews) != 1 || fmt.Sprint(report.Reviews[0].For) != "[no open objection]" {
		t.Errorf("reviews weigh %+v", report.Reviews)
	}
}

// Markdown is laid out safely wherever it is read, and what is too much is refused or shown as it was typed.
func TestMarkdown(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	k := w.propose("tamsin", "topic", "a", "a\n")
	hostile := "**now** <script>alert(1)</script> [x](javascript:alert(1)) ![y](https://elsewhere.example/y.png)"
	k, err := w.as("tamsin").EditChange(ctx, repo, k.Number, wire.ChangeEdit{Description: &hostile})
	w.ok(err)
	thread, err := w.as("odo").BeginThread(ctx, repo, k.Number, wire.NewThread{Text: hostile})
	w.ok(err)
	review, err := w.as("odo").Review(ctx, repo, k.Number, wire.NewReview{Verdict: "comment", Text: hostile})
	w.ok(err)
	laid, err := w.as("odo").LayOut(ctx, hostile)
	w.ok(err)
	for _, html := range []string{k.DescriptionHTML, thread.Comments[0].HTML, review.HTML, laid.HTML} {
		if !strings.Contains(html, "<strong>now</strong>") || strings.Contains(html, "<script") || strings.Contains(html, "javascript:") || strings.Contains(html, "<img") {
			t.Errorf("laid out as %s", html)
		}
	}
	if k.Description != hostile || thread.Comments[0].Text != hostile {
		t.Error("what was typed is not kept as it was")
	}
	long := strings.Repeat("a", 1<<20)
	_, err = w.as("odo").BeginThread(ctx, repo, k.Number, wire.NewThread{Text: long})
	problem(t, err, 422, "text has 1048576 bytes; at most 16384")
	_, err = w.as("odo").LayOut(ctx, long)
	problem(t, err, 422, "at most 16384")
	laid, err = w.as("odo").LayOut(ctx, strings.Repeat("> ", 8000))
	w.ok(err)
	if !strings.HasPrefix(laid.HTML, "<pre>") {
		t.Errorf("endless nesting is laid out: %.80s", laid.HTML)
	}
	nobody, err := client.New(w.url, "")
	w.ok(err)
	_, err = nobody.LayOut(ctx, "a")
	problem(t, err, 401, "sign in")
}
