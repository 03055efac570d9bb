package rehearsal

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/git"
	"tavrin/internal/git/workshop"
	"tavrin/internal/often"
)

// Every strategy beside Git's own command on random histories: the same commits, byte for byte, where Git defines them; where
// one refuses, so does the other, or it is one of the differences that docs/reference/strategies.md lists, each counted apart.
// make histories goes through thousands.
func TestP2EveryStrategyEqualsGit(t *testing.T) {
	t.Parallel()
	tally := map[string]int{}
	n := often.Times(10)
	for i := range n {
		w := newShop(t)
		rng := rand.New(rand.NewPCG(16, uint64(i)))
		if seed := os.Getenv("TAVRIN_SEED"); seed != "" {
			fmt.Sscan(seed, &i)
			rng = rand.New(rand.NewPCG(16, uint64(i)))
		}
		w.growOddly(rng)
		w.Push()
		w.compare(i, tally)
		w.Program.Close()
		os.RemoveAll(filepath.Dir(w.Dir))
	}
	for _, kind := range slices.Sorted(maps.Keys(tally)) {
		t.Logf("%6d %s", tally[kind], kind)
	}
	for _, s := range []Strategy{Rebase, Squash, Merge, Fold} {
		if tally[string(s)+": the same commits"] == 0 || n >= 500 && tally[string(s)+": both refuse"] == 0 {
			t.Errorf("%v: the test says nothing of %s", tally, s)
		}
	}
}

// compare builds by each strategy, and has git do the same.
func (w *shop) compare(i int, tally map[string]int) {
	w.Helper()
	base, head := w.Git("rev-parse", "main"), w.Git("rev-parse", "topic")
	shown := w.Git("merge-base", base, head)
	p := plan(Rebase, base, head)
	p.Shown = shown
	judged, judgedErr := Judge(w.Context(), w.Repo, Shown{shown, head}, base)
	if judgedErr != nil && !errors.As(judgedErr, new(*ConflictError)) {
		w.Fatal(judgedErr)
	}
	own := w.ownAttributes(shown, head)
	who := p.Committer
	w.Env = []string{"GIT_COMMITTER_NAME=" + who.Name, "GIT_COMMITTER_EMAIL=" + who.Email, "GIT_COMMITTER_DATE=" + fmt.Sprintf("%d +0000", who.When.Unix())}
	author := []string{"GIT_AUTHOR_NAME=" + who.Name, "GIT_AUTHOR_EMAIL=" + who.Email, "GIT_AUTHOR_DATE=" + fmt.Sprintf("%d +0000", who.When.Unix())}
	message := filepath.Join(filepath.Dir(w.Dir), "message")
	if err := os.WriteFile(message, []byte(p.Message), 0o600); err != nil {
		w.Fatal(err)
	}
	quiet := []string{"-c", "merge.directoryRenames=conflict", "-c", "sequence.editor=:", "-c", "core.editor=:", "-c", "advice.skippedCherryPicks=false"}
	rebase := func(more ...string) (string, bool) {
		w.Git("checkout", "-q", "-f", "-B", "again", head)
		w.Git("clean", "-q", "-f", "-d", "-x")
		_, err := w.Try(append(append(quiet, "rebase", "-q", "--reapply-cherry-picks", "--empty=drop"), append(more, base)...)...)
		if err != nil {
			os.Remove(filepath.Join(w.Dir, ".git/index.lock")) // git may have ended by a fault of its own
			w.Try("rebase", "--abort")
			os.RemoveAll(filepath.Join(w.Dir, ".git/rebase-merge"))
			return "", false
		}
		return w.Git("rev-parse", "HEAD"), true
	}
	merge := func(how ...string) (string, bool) {
		w.Git("checkout", "-q", "-f", "-B", "again", base)
		w.Git("clean", "-q", "-f", "-d", "-x")
		if _, err := w.Try(append(append(quiet, "merge", "-q", "-F", message, "--cleanup=verbatim"), append(how, head)...)...); err != nil {
			os.Remove(filepath.Join(w.Dir, ".git/index.lock"))
			w.Git("reset", "-q", "--hard", base)
			return "", false
		}
		if slices.Contains(how, "--squash") {
			if _, err := w.Try("diff", "--cached", "--quiet", base); err == nil {
				return base, true
			}
			w.Git("commit", "-q", "-F", message, "--cleanup=verbatim")
		}
		return w.Git("rev-parse", "HEAD"), true
	}
	for _, s := range []Strategy{Rebase, Fold, Squash, Merge, FastForward} {
		p.Strategy = s
		told, built := w.tells(p)
		ours := told == "lands"
		env := w.Env
		var theirs string
		var can bool
		switch s {
		case Rebase:
			theirs, can = rebase()
		case Fold:
			theirs, can = rebase("-i", "--autosquash")
		case Squash:
			w.Env = append(slices.Clone(env), author...)
			theirs, can = merge("--squash")
		case Merge:
			w.Env = append(slices.Clone(env), author...)
			theirs, can = merge("--no-ff")
		case FastForward:
			theirs, can = merge("--ff-only")
		}
		w.Env = env
		tree := ""
		if can {
			tree = w.Git("rev-parse", theirs+"^{tree}")
		}
		kind := ""
		switch {
		case ours && can && theirs == built.Commit:
			kind = "the same commits"
		case told == "nothing" && can && (tree == w.Git("rev-parse", base+"^{tree}") || theirs == base):
			kind = "both find nothing to bring"
		case !ours && !can:
			kind = "both refuse"
		case ours && can && s == Fold && w.Git("merge-base", base, theirs) != base:
			kind = "git drops a commit, and folds into the target's tip what was meant for it"
		case own:
			// Git merges by the attributes of the commit that is checked out at each step, which may be the change's own.
			kind = "the change brings attributes of its own"
		case !ours && can && strings.HasPrefix(told, "differs") && tree != judged:
			kind = "refused: git's tree is not the judge's"
		case !ours && can && judgedErr != nil:
			kind = "refused: git replays what the judge's merge cannot" // commit by commit it goes, as a whole it does not
			if s == Squash || s == Merge {
				kind = ""
			}
		case ours && can && tree == built.Tree && s == Fold && w.dropped(base, head, rebase):
			kind = "the same tree, but git drops what brings nothing any more: its message, or the target of a fold, which goes elsewhere"
		case ours && can && tree == built.Tree && w.encoded(shown, head) && (s == Rebase || s == Fold):
			w.sameButForEncoding(i, s, base, built.Commit, theirs)
			kind = "the same but for encodings, which git makes UTF-8"
		case ours && !can && s == Fold:
			if _, plain := rebase(); !plain {
				break
			}
			kind = "git stops where a fold comes to nothing"
		case told == "cannot be written: "+strings.TrimPrefix(told, "cannot be written: ") && s == Fold && w.encoded(shown, head):
			kind = "refused: messages of two encodings"
		}
		if strings.HasPrefix(told, "differs: ") && kind == "" && s == Fold && w.encoded(shown, head) {
			kind = "refused: messages of two encodings"
		}
		if kind == "" {
			if ours {
				w.Logf("ours:\n%q", w.bareGit("cat-file", "commit", built.Commit))
			}
			if can {
				w.Logf("git's:\n%q", w.Git("cat-file", "commit", theirs))
			}
			w.Fatalf("history %d (TAVRIN_SEED=%[1]d), by %s: ours %s %+v, git's %s with tree %s (%v); judged %s, %v\n%s", i, s, told, built, theirs, tree, can, judged, judgedErr,
				w.Git("log", "--graph", "--format=%h %s %d", "--all"))
		}
		tally[string(s)+": "+kind]++
		for _, marked := range []string{"squash! ", "amend! ", "fixup! "} {
			if kind == "the same commits" && s == Fold && strings.Contains(w.Git("log", "--format=%s", shown+".."+head), marked) {
				tally["fold: with "+strings.TrimSpace(marked)]++
			}
		}
	}
}

// ownAttributes says whether a change touches the attributes of files.
func (w *shop) ownAttributes(shown, head string) bool {
	return w.Git("log", "--format=%h", "-m", shown+".."+head, "--", ":(glob)**/.gitattributes") != ""
}

// encoded says whether a commit says that it is not UTF-8.
func (w *shop) encoded(shown, head string) bool {
	for id := range strings.FieldsSeq(w.Git("rev-list", shown+".."+head)) {
		if git.ParseHeader(w.Git("cat-file", "commit", id)).Encoding != "" {
			return true
		}
	}
	return false
}

// dropped says whether git drops commits that have become empty, when it replays all of them.
func (w *shop) dropped(base, head string, rebase func(...string) (string, bool)) bool {
	all := w.Git("rev-list", "--count", "--no-merges", base+".."+head)
	tip, ok := rebase()
	return ok && w.Git("rev-list", "--count", base+".."+tip) != all
}

// told says how commits read, as UTF-8, the oldest first.
func (w *shop) told(format, base, tip string) string {
	w.Try("fetch", "-q", w.Bare, tip) // git's own is here already
	return w.Git("log", "--encoding=UTF-8", "--reverse", "--format="+format, base+".."+tip)
}

// sameButForEncoding compares commits as a reader sees them.
func (w *shop) sameButForEncoding(i int, s Strategy, base, ours, theirs string) {
	w.Helper()
	const all = "%T %an <%ae> %at %cn <%ce> %ct%n%B%x00"
	if a, b := w.told(all, base, ours), w.told(all, base, theirs); a != b {
		w.Fatalf("history %d by %s of\n%q\nours\n%s\ngit's\n%s", i, s, w.Git("log", "--reverse", "--format=%H %T %e%n%B%x00", base+"..topic"), a, b)
	}
}

// growOddly grows main and topic at random, with whatever a tree and a message may hold.
func (w *shop) growOddly(rng *rand.Rand) {
	w.Helper()
	for i := range 4 {
		w.Write(fmt.Sprintf("f%d", i), workshop.Lines(12, nil))
		w.Write(fmt.Sprintf("valves/v%d", i), workshop.Lines(12, map[int]string{0: fmt.Sprint("valve ", i)}))
	}
	w.Write("log", "first\nlast\n")
	w.Write("valves/log", "first\nlast\n")
	if rng.IntN(3) == 0 {
		w.Write([]string{".gitattributes", "valves/.gitattributes"}[rng.IntN(2)], "log merge=union\n")
	}
	w.Commit("start")
	w.Git("branch", "topic")
	for _, branch := range []string{"main", "topic"} {
		w.Git("checkout", "-q", "-f", branch)
		var subjects []string
		for n := range 2 + rng.IntN(5) {
			w.oddStep(rng, branch, n)
			w.oddCommit(rng, branch, n, &subjects)
			if branch == "topic" && rng.IntN(12) == 0 {
				if _, err := w.Try("merge", "-q", "--no-edit", "main~"+fmt.Sprint(rng.IntN(2))); err != nil {
					os.Remove(filepath.Join(w.Dir, ".git/index.lock")) // git may have ended by a fault of its own
					w.Git("add", "-A")
					w.Git("commit", "-q", "--allow-empty", "-m", "brought up, marks and all")
				}
			}
		}
	}
}

func (w *shop) oddStep(rng *rand.Rand, branch string, n int) {
	w.Helper()
	full := func(path string) string { return filepath.Join(w.Dir, path) }
	any := []string{"f0", "f1", "f2", "f3", "valves/v0", "valves/v1", "valves/v2"}[rng.IntN(7)]
	edit := func(path string) {
		lines := strings.Split(workshop.Lines(12, nil), "\n")
		if text, err := os.ReadFile(full(path)); err == nil {
			lines = strings.Split(string(text), "\n")
		}
		lines[rng.IntN(len(lines))] = fmt.Sprintf("%s %d", branch, n)
		if info, err := os.Lstat(full(path)); err == nil && info.Mode().IsRegular() {
			w.Write(path, strings.Join(lines, "\n"))
		}
	}
	switch rng.IntN(16) {
	case 0:
		w.Try("mv", any, "moved"+fmt.Sprint(rng.IntN(3)))
	case 1:
		w.Try("mv", "valves", "taps")
	case 2:
		os.RemoveAll(full(any))
	case 3:
		os.Chmod(full(any), 0o755)
	case 4:
		w.Write("picture", string([]byte{0, 1, byte(rng.IntN(3)), 0xff}))
	case 5:
		os.RemoveAll(full(any))
		os.Symlink("f0", full(any))
	case 6: // a folder where a file was
		os.RemoveAll(full(any))
		os.MkdirAll(full(any), 0o755)
		w.Write(any+"/inside", branch)
	case 7:
		odd := []string{"with space", "-dash", "*.glob", "f\u00fcr", "two\nlines", "q\"uote", "bytes\xff", ":(top)x", "F0"}[rng.IntN(9)]
		w.Write(odd, fmt.Sprintf("%s %d\n", branch, rng.IntN(2)))
	case 8, 9: // both sides add to a log
		path := []string{"log", "valves/log"}[rng.IntN(2)]
		if info, err := os.Lstat(full(path)); err == nil && info.Mode().IsRegular() {
			w.Write(path, fmt.Sprintf("first\n%s %d\nlast\n", branch, n))
		}
	case 10:
		if rng.IntN(3) == 0 {
			w.Write([]string{".gitattributes", "valves/.gitattributes"}[rng.IntN(2)], []string{"log merge=union\n", "log -merge\n", "* -text\n"}[rng.IntN(3)])
		}
	case 11: // nothing: an empty commit
	default:
		edit(any)
	}
}

// oddCommit commits with whatever a message may hold.
func (w *shop) oddCommit(rng *rand.Rand, branch string, n int, subjects *[]string) {
	w.Helper()
	message := fmt.Sprintf("%s %d", branch, n)
	var more []string
	switch k := rng.IntN(12); {
	case k == 0:
		message += "\n\nbody with\n\n    indent and \u00fc\n"
	case k == 1:
		message = "Sch\xfctz " + message
		more = []string{"-c", "i18n.commitEncoding=ISO-8859-1"}
	case k == 2:
		message = "\n\n " + message + " \n\n\n\ntail\n\n"
	case k == 3:
		message = "" // none at all
	case k < 7 && len(*subjects) > 0:
		message = []string{"fixup! ", "squash! ", "amend! "}[rng.IntN(3)] + (*subjects)[rng.IntN(len(*subjects))]
		if rng.IntN(2) == 0 || strings.HasPrefix(message, "amend!") {
			message += fmt.Sprintf("\n\nbody of %d", n)
		}
	default:
		*subjects = append(*subjects, message)
	}
	w.Git("add", "-A")
	if out, err := w.TryWith(strings.NewReader(message), append(more, "commit", "-q", "--allow-empty", "--allow-empty-message", "--cleanup=verbatim", "-F", "-")...); err != nil {
		w.Fatal(out)
	}
}
