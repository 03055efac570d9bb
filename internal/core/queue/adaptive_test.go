package queue

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// line is an adaptive queue in which some entries are ready, each touching an area of its own or the one that it names; what the planner
// wants built is built at once.
type line struct {
	t     *testing.T
	state State
}

func lined(t *testing.T, s Settings, areas ...string) *line {
	l := &line{t: t}
	l.tell(Configured{noon, s}, TargetMoved{noon, "tip"})
	for i, area := range areas {
		id := int64(i + 1)
		l.tell(Joined{At: noon, Entry: id, Change: int(id)}, Seen{noon, id, Gate{Revision: 1, Ready: true, Touches: Touched{Areas: []string{area}}}})
	}
	return l
}

// tell tells events, builds what is to be built, and lands what may land; it returns what was decided.
func (l *line) tell(events ...Event) (did []string) {
	l.t.Helper()
	for len(events) > 0 {
		var actions []Action
		l.state, actions = Tell(l.state, events[0])
		events = events[1:]
		for _, a := range actions {
			r := l.state.Rehearsal(a.Rehearsal)
			did = append(did, fmt.Sprintf("%s %d", a.Do, a.Entry))
			switch {
			case r == nil:
			case a.Do == Build || a.Do == Rebuild:
				commits := make([]string, len(r.Path))
				for i := range commits {
					commits[i] = r.Base + fmt.Sprint(".", r.Path[:i+1])
				}
				events = append(events, Built{noon, r.ID, commits})
				if a.Do == Rebuild {
					events = append(events, Judged{noon, r.ID, Verdict{Passed: true, Clear: true}})
				}
			case a.Do == Land && l.state.Entry(a.Entry).State != Landing:
				events = append(events, LandingBegun{noon, r.ID}, Done{noon, r.Path, r.Commits[len(r.Commits)-1]})
			}
		}
	}
	return did
}

// runs are the paths whose checks run, in order.
func (l *line) runs() string {
	var all []string
	for _, r := range l.state.Rehearsals {
		if r.Running() {
			all = append(all, fmt.Sprint(r.Path))
		}
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}

// on is the rehearsal of a path that is of use.
func (l *line) on(path ...int64) int64 {
	l.t.Helper()
	for _, r := range l.state.Rehearsals {
		if r.Ended == "" && r.Of == 0 && slices.Equal(r.Path, path) {
			return r.ID
		}
	}
	l.t.Fatalf("nothing of %v is rehearsed, but %s", path, l.runs())
	return 0
}

func (l *line) red(path ...int64) []string {
	l.t.Helper()
	return l.tell(Judged{noon, l.on(path...), Verdict{Red: "unit failed"}})
}

func (l *line) green(path ...int64) []string {
	l.t.Helper()
	return l.tell(Judged{noon, l.on(path...), Verdict{Passed: true, Clear: true}})
}

// ends lists the entries that are still in line.
func (l *line) left() string {
	var ids []int64
	for _, e := range l.state.Entries {
		if !e.State.Ended() {
			ids = append(ids, e.ID)
		}
	}
	return fmt.Sprint(ids)
}

func is(t *testing.T, what, got, want string) {
	t.Helper()
	if got != want {
		t.Errorf("%s: %s, not %s", what, got, want)
	}
}

func TestEachStandsOnWhatIsAhead(t *testing.T) {
	l := lined(t, Settings{Slots: 3, Reruns: 1}, "docs", "docs", "docs")
	for _, path := range [][]int64{{1}, {1, 2}} {
		l.on(path...)
	}
	if got := l.runs(); strings.Count(got, "[") != 3 {
		t.Errorf("in three slots run %s", got)
	}
}

// What passes lands whole, and calls off what would have shown less.
func TestAGreenTakesWhatItStandsOn(t *testing.T) {
	l := lined(t, Settings{Slots: 3, Reruns: 1}, "docs", "docs")
	l.green(1, 2)
	is(t, "in line are", l.left(), "[]")
	is(t, "there run", l.runs(), "")
}

// A red path is not one change's fault. The one that is red by itself is tested once more, alone, and ejected then; the other lands.
func TestTheGuiltyAreFoundOut(t *testing.T) {
	l := lined(t, Settings{Slots: 4, Reruns: 1}, "docs", "docs")
	if did := strings.Join(l.red(1, 2), "; "); strings.Contains(did, "eject") {
		t.Errorf("after a red pair: %s", did)
	}
	if did := strings.Join(l.red(1), "; "); !strings.Contains(did, "ask for the checks once more 1") || strings.Contains(did, "eject") {
		t.Errorf("after a red by itself: %s", did)
	}
	is(t, "in line are", l.left(), "[1 2]")
	l.green(2) // others do not wait for the doubt
	is(t, "in line are", l.left(), "[1]")
	if did := strings.Join(l.red(1), "; "); !strings.Contains(did, "eject 1") {
		t.Errorf("after it was red again: %s", did)
	}
	is(t, "in line are", l.left(), "[]")
}

func TestAFlakeLands(t *testing.T) {
	l := lined(t, Settings{Slots: 2, Reruns: 1}, "docs")
	l.red(1)
	l.green(1)
	is(t, "in line are", l.left(), "[]")
	if l.state.Learned.Flaky == 0 || l.state.Learned.Guilty > guiltyAtFirst {
		t.Errorf("it learned %+v", l.state.Learned)
	}
}

// Side by side: what touches other areas is built anew on what has landed; what touches the same is tested anew.
func TestAreasSideBySide(t *testing.T) {
	l := lined(t, Settings{Slots: 4, Areas: true}, "docs", "valves", "docs")
	l.green(2)
	is(t, "in line are", l.left(), "[1 3]")
	if did := strings.Join(l.green(1), "; "); !strings.Contains(did, string(Rebuild)+" 1") || !strings.Contains(did, "land 1") {
		t.Errorf("what was tested without the valves: %s", did)
	}
	strict := lined(t, Settings{Slots: 4}, "docs", "valves")
	if did := strings.Join(strict.green(1, 2), "; "); strings.Contains(did, string(Rebuild)) {
		t.Errorf("strictly: %s", did)
	}
}

// Two that cannot be built on one another: the later one is rehearsed without the other, and says so; once the other has landed, it is
// ejected, by itself on the tip.
func TestApart(t *testing.T) {
	l := lined(t, Settings{Slots: 1}, "docs")
	l.tell(Joined{At: noon, Entry: 2, Change: 2}, Configured{noon, Settings{Slots: 3}})
	l.state, _ = Tell(l.state, Seen{noon, 2, Gate{Revision: 1, Ready: true, Touches: Touched{Areas: []string{"docs"}}}})
	both := l.on(1, 2)
	l.tell(NotBuilt{noon, both, 2, Cause(Conflicts), "they conflict in docs/members.md"})
	for _, r := range l.state.Rehearsals {
		if slices.Equal(r.Path, []int64{1, 2}) {
			t.Errorf("it is tried again: %+v", r)
		}
	}
	l.green(1)
	alone := l.on(2)
	if r := l.state.Rehearsal(alone); r.Base != l.state.Tip {
		t.Fatalf("it stands on %s", r.Base)
	}
}

// Urgent goes ahead of what waits, not of what runs, and of nobody who was overtaken often enough.
func TestRaised(t *testing.T) {
	l := lined(t, Settings{Planner: OneByOne}, "docs", "docs", "docs", "docs")
	l.state.Entries[1].Overtaken = mostOvertaken
	l.tell(Raised{noon, 4, "ines", "the ditch floods"})
	var order []int64
	for range 4 {
		for _, e := range l.state.Entries {
			if e.State == Rehearsing {
				order = append(order, e.ID)
				l.green(e.ID)
				break
			}
		}
	}
	is(t, "they land", fmt.Sprint(order), "[1 2 4 3]")
}

func TestAPushByTheRules(t *testing.T) {
	for does, want := range map[OnPush]string{Stays: "queued 2", Back: "queued 4", Leave: "ejected 2"} {
		s, _ := told(State{Settings: Settings{Planner: OneByOne, OnPush: does}}, TargetMoved{noon, "t"}, Joined{At: noon, Entry: 1, Change: 1}, Seen{noon, 1, Gate{Revision: 1, Ready: true}},
			Joined{At: noon, Entry: 2, Change: 2}, Seen{noon, 2, Gate{Revision: 1, Ready: true}})
		place := s.Entry(1).Place
		s = Apply(s, Seen{noon, 1, Gate{Revision: 2, Ready: true}})
		e := s.Entries[0]
		if does == Back && e.Place <= s.Entry(2).Place || does == Stays && e.Place != place || (e.State == Ejected) != (does == Leave) {
			t.Errorf("%s: %+v, want %s", does, e, want)
		}
	}
}

// However many join at once, each is in line, and what is weighed is bounded.
func TestTwoThousandJoinAtOnce(t *testing.T) {
	l := lined(t, Settings{Slots: 16, Reruns: 1, Areas: true})
	for id := int64(1); id <= 2000; id++ {
		l.tell(Joined{At: noon, Entry: id, Change: int(id)}, Seen{noon, id, Gate{Revision: 1, Ready: true, Touches: Touched{Areas: []string{fmt.Sprint(id % 40)}}}})
	}
	if n := len(l.state.Entries); n != 2000 {
		t.Errorf("%d are in line", n)
	}
	if n := strings.Count(l.runs(), "["); n != 16 {
		t.Errorf("%d rehearsals run", n)
	}
	for _, r := range l.state.Rehearsals {
		for _, id := range r.Path {
			if id > window || len(r.Path) > depth {
				t.Errorf("rehearsal %v is further on than is weighed", r.Path)
			}
		}
	}
}

// The worlds are as many as they are, whatever is thought: what is seen moves likelihood from one to another (invariant of the outcomes).
func TestWhatIsSeenHasAnExplanation(t *testing.T) {
	l := lined(t, Settings{Slots: 8, Reruns: 1}, "docs", "docs", "docs")
	l.red(1, 2)
	p := planner{State: l.state}
	p.lineUp()
	w := p.weigh()
	both := w.good[0].and(w.good[1])
	if share := both.share(); share > 0.05 {
		t.Errorf("in %.2f of the worlds both of a red pair are good", share)
	}
	for i := range w.line[:2] {
		if g := w.good[i].share(); g < 0.3 || g > 0.7 {
			t.Errorf("of a pair, one is thought good in %.2f", g)
		}
	}
	if g := w.good[2].share(); g < 0.85 {
		t.Errorf("who is not of it is thought good in %.2f", g)
	}
}

func TestScattered(t *testing.T) {
	for n := range uint64(400) {
		for _, share := range []float64{0, .1, .35, .98, 1} {
			if got := scattered(n, share).count(); got != int(share*worldCount+.5) {
				t.Fatalf("%d holds in %d worlds, of %.2f", n, got, share)
			}
		}
	}
	together := 0
	for n := range uint64(400) {
		together += scattered(2*n, .5).and(scattered(2*n+1, .5)).count()
	}
	if mean := float64(together) / 400; mean < worldCount*.23 || mean > worldCount*.27 {
		t.Errorf("two of a half are both in %.1f worlds", mean)
	}
}

// What nobody knows the areas of touches everything: so that, when rules come to have areas side by side, nothing lands beside what it was
// not tested with before each entry's areas are told; and when areas are drawn anew, what relied on the old ones is tested anew (P2).
func TestP2AreasThatAreNotKnown(t *testing.T) {
	l := lined(t, Settings{Slots: 4}, "docs", "docs")
	l.state, _ = Tell(l.state, Seen{noon, 1, Gate{Revision: 1, Ready: true}})
	l.state, _ = Tell(l.state, Seen{noon, 2, Gate{Revision: 1, Ready: true}})
	l.tell(Configured{noon, Settings{Slots: 4, Areas: true}})
	l.green(1)
	for _, r := range l.state.Rehearsals {
		if r.Ended == "" && r.Of == 0 && slices.Equal(r.Path, []int64{2}) && r.Base != l.state.Tip && r.Behind == "" {
			t.Errorf("%+v may land without what has landed", r)
		}
	}

	l = lined(t, Settings{Slots: 4, Areas: true, Drawn: "1"}, "docs", "valves")
	l.green(1)
	alone := l.on(2)
	l.tell(Configured{noon, Settings{Slots: 4, Areas: true, Drawn: "2"}})
	if r := l.state.Rehearsal(alone); r != nil && r.Behind == "" {
		t.Errorf("%+v relies on areas that are no more", r)
	}
}
