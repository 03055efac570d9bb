package queue

import (
	"math"
	"slices"
)

const (
	// window is how many entries, from the first in line, are weighed at once.
	window = 40
	// depth is how many entries a rehearsal takes at most.
	depth = 12
	// clearedGood is how likely an entry is good that has passed with others: what is left is that it does not go together
	// with something else.
	clearedGood = 0.98
	// clash is how likely two that touch the same do not go together.
	clash = 0.01
	// guilt is what it is worth to show an entry guilty, in landings.
	guilt = 0.2
)

// weighing is the entries at the head of a line, and what is thought of them.
type weighing struct {
	p       *planner
	line    []*Entry
	index   map[int64]int
	first   set       // those that go first
	stopped set       // those that may not land now
	overlap []set     // those that it has to be tested together with
	ahead   []set     // those of them that are ahead
	good    []worlds  // in which it is good
	weight  []float64 // what its landing is worth
	// together is how likely it is that so many pairs which touch the same go together.
	together []float64
	news     []float64 // what it is worth to learn whether it is good
	tests    []test
	looked   []looked // since a slot was given, if somebody listens
	apart    []set    // what cannot be built together
	red      []set    // what was tested and red
	lands    []worlds // in which it lands by the tests
	shown    []worlds // in which it is shown to be guilty by them
	known    []worlds // in which they tell whether it is good
	// twice and toldTwice are the worlds in which it lands, or is known, by more than one of them. A test that relies on the entry's
	// landing by another is not counted.
	twice, toldTwice []worlds
}

// test is a rehearsal that runs, or has passed.
type test struct {
	rehearsal int64
	passed    bool
	of        set
	late      set // those of it that touch what has landed without them, and have to land by something else first
	// green are the worlds in which it passes, whole those in which it lands what is left of it; see foresee.
	green, whole worlds
}

// weigh works out what is thought of the entries at the head of the line, once for each plan.
func (p *planner) weigh() *weighing {
	if p.weighed != nil {
		return p.weighed
	}
	n := min(len(p.line), window)
	worldsOf := make([]worlds, 6*n)
	sets := make([]set, 2*n)
	floats := make([]float64, 2*n)
	w := &weighing{p: p, line: p.line[:n], index: make(map[int64]int, n),
		overlap: sets[:n], ahead: sets[n:], weight: floats[:n], news: floats[n:],
		good: worldsOf[:n], lands: worldsOf[n : 2*n], shown: worldsOf[2*n : 3*n], known: worldsOf[3*n : 4*n], twice: worldsOf[4*n : 5*n], toldTwice: worldsOf[5*n:]}
	for i, e := range w.line {
		w.index[e.ID] = i
		if e.Gate.First {
			w.first |= one(i)
		}
		if e.Gate.Stopped {
			w.stopped |= one(i)
		}
		for j, other := range w.line[:i] {
			if p.overlap(e, other) {
				w.overlap[i] |= one(j)
				w.overlap[j] |= one(i)
				w.ahead[i] |= one(j)
			}
		}
		likely := p.Learned.likely(e)
		if e.Cleared {
			likely = clearedGood
		}
		w.good[i] = scattered(uint64(e.ID)<<16|uint64(e.Gate.Revision&0xffff), likely)
	}
	w.together = make([]float64, depth*depth/2)
	for k, all := range w.together {
		if all = 1; k > 0 {
			all = w.together[k-1] * (1 - clash)
		}
		w.together[k] = all
	}
	w.condition()
	w.value()
	w.gather()
	p.weighed = w
	return w
}

// of is a path as a set; not all of it may be weighed.
func (w *weighing) of(path []int64) (s set, all bool) {
	for _, id := range path {
		i, in := w.index[id]
		if !in {
			return 0, false
		}
		s |= one(i)
	}
	return s, true
}

// condition takes into account what was red. In the worlds in which all suspects are good, one of them is made guilty,
// except in as many as there are flakes: so each world has an explanation for everything that was seen, and none has more
// than that. The smallest sets come first, since they explain the larger ones.
func (w *weighing) condition() {
	const most = 40 // of the sets, the smallest, which say most
	reds := slices.Clone(w.p.Reds)
	slices.SortStableFunc(reds, func(a, b Suspects) int { return len(a.Entries) - len(b.Entries) })
	for _, red := range reds[:min(len(reds), most)] {
		of, all := w.of(red.Entries)
		if !all {
			continue
		}
		unexplained := allWorlds
		for s := of; s != 0; s = s.rest() {
			unexplained = unexplained.and(w.good[s.first()])
		}
		n := unexplained.count()
		if n == 0 {
			continue
		}
		// Bayes: that all are good and it was a flake, against that somebody is guilty.
		share, flaky := unexplained.share(), w.p.Learned.flaky()
		flake := 0.5
		if share < 1 {
			flake = flaky * share / (flaky*share + 1 - share)
		}
		stays := flake * worldCount / float64(n)
		pick := w.suspicion(of)
		for k, bits := range unexplained {
			for ; bits != 0; bits &= bits - 1 {
				world := k*64 + set(bits).first()
				if h := mix(uint64(red.Rehearsal)<<16 ^ uint64(world)); fraction(h) >= stays {
					w.good[pick(fraction(mix(h)))].drop(world)
				}
			}
		}
	}
}

// fraction is a scattered number as one from 0 to below 1.
func fraction(h uint64) float64 { return float64(h>>11) / (1 << 53) }

// suspicion picks one of a set by chance: the likelier it is to be guilty, the likelier it is picked.
func (w *weighing) suspicion(of set) func(chance float64) int {
	const atLeast = 0.004 // two that are good may not go together
	var who [64]int
	var upTo [64]float64
	n, total := 0, 0.0
	for s := of; s != 0; s = s.rest() {
		total += 1 - w.good[s.first()].share() + atLeast
		who[n], upTo[n] = s.first(), total
		n++
	}
	return func(chance float64) int {
		chance *= total
		k := 0
		for k < n-1 && upTo[k] <= chance {
			k++
		}
		return who[k]
	}
}

// value says what it is worth to land an entry, and to learn whether it is good. The longer an entry has been ready, the more
// its landing is worth; the more others are behind it that touch the same, the more is it worth to know about it; and there
// is most to learn of what is as likely good as not.
func (w *weighing) value() {
	const (
		ageing  = 4.0 // usual times, after which an entry counts one more
		oldest  = 3.0 // that it counts more at most
		news    = 1.6
		waiting = 0.2 // for each that waits behind it
	)
	for i, e := range w.line {
		w.weight[i] = 1
		if usual := w.p.Learned.Usual; usual > 0 {
			w.weight[i] += min(oldest, float64(w.p.At.Sub(e.Ready))/float64(usual)/ageing)
		}
		g := w.good[i].share()
		w.news[i] = news * g * (1 - g) * w.weight[i] * (1 + waiting*float64((w.overlap[i]>>i).size()))
	}
}

// gather lists what is tested, and what need not be.
func (w *weighing) gather() {
	for i := range w.p.Rehearsals {
		r := &w.p.Rehearsals[i]
		if r.Ended != "" || r.Of != 0 {
			continue
		}
		of, all := w.of(r.Path)
		if !all {
			continue
		}
		t := test{rehearsal: r.ID, passed: r.Verdict.Passed, of: of}
		for s := of; s != 0 && r.Past.any(); s = s.rest() {
			if r.Past.Everywhere || w.line[s.first()].Gate.Touches.Overlaps(r.Past) {
				t.late |= one(s.first())
			}
		}
		switch {
		case r.Verdict.Red == "":
			w.tests = append(w.tests, t)
		case t.late == 0:
			w.red = append(w.red, of)
		}
	}
	for _, x := range w.p.Apart {
		if of, all := w.of(x.Entries); all {
			w.apart = append(w.apart, of)
		}
	}
	w.foresee()
}

// foresee works out in which worlds each entry lands by the tests, is shown to be guilty by them, or is known. A test may
// rely on another, which has to land first: so they are gone through twice.
func (w *weighing) foresee() {
	clear(w.lands)
	clear(w.shown)
	clear(w.known)
	clear(w.toldTwice)
	for k := range w.tests {
		t := &w.tests[k]
		t.green = w.green(*t)
		tells := w.tells(t.of, t.green)
		for s := t.of; s != 0; s = s.rest() {
			i := s.first()
			w.toldTwice[i] = w.toldTwice[i].or(w.known[i].and(tells))
			w.known[i] = w.known[i].or(tells)
		}
	}
	for i, e := range w.line {
		if e.Cleared || e.Doubted {
			w.known[i], w.toldTwice[i] = allWorlds, allWorlds
		}
	}
	for range 2 {
		for k := range w.tests {
			t := &w.tests[k]
			t.whole = w.whole(*t, t.green)
			for s := t.of; s != 0; s = s.rest() {
				w.lands[s.first()] = w.lands[s.first()].or(t.whole)
			}
			if last := t.of.last(); !t.passed { // what has passed shows nobody guilty any more
				w.shown[last] = w.shown[last].or(w.shows(last, t.of))
			}
		}
	}
	clear(w.twice)
	var once [window]worlds
	for k := range w.tests {
		t := &w.tests[k]
		for s := t.of; s != 0; s = s.rest() {
			i := s.first()
			itself := t.whole.and(w.guiltyAll(w.ahead[i] &^ t.of))
			w.twice[i] = w.twice[i].or(once[i].and(itself))
			once[i] = once[i].or(itself)
		}
	}
}

// own is what a test is worth that no other is.
func (w *weighing) own(t test) float64 {
	total := 0.0
	tells := w.tells(t.of, t.green)
	for s := t.of; s != 0; s = s.rest() {
		i := s.first()
		itself := t.whole.and(w.guiltyAll(w.ahead[i] &^ t.of))
		total += w.weight[i]*itself.without(w.twice[i]).share() + w.news[i]*tells.without(w.toldTwice[i]).share()
	}
	if t.of.rest() == 0 {
		i := t.of.first()
		total += guilt * w.weight[i] * allWorlds.without(w.good[i]).share()
	}
	return total
}

// green are the worlds in which a test passes.
func (w *weighing) green(t test) worlds {
	g := allWorlds
	if t.passed {
		return g
	}
	for s := t.of; s != 0; s = s.rest() {
		g = g.and(w.good[s.first()])
	}
	return g
}

// whole are the worlds in which a test that is green in some lands what is left of it by then. For each of its entries, what
// is ahead of it and not in the test has to be shown guilty, or the entry has to have landed by something else.
func (w *weighing) whole(t test, green worlds) worlds {
	if w.mixed(t.of) {
		return worlds{} // it was not when it was begun
	}
	for s := t.late; s != 0; s = s.rest() {
		green = green.and(w.lands[s.first()])
	}
	for s := t.of; s != 0 && green != (worlds{}); s = s.rest() {
		i := s.first()
		skipped := w.ahead[i] &^ t.of
		if skipped == 0 {
			continue
		}
		green = green.and(w.guiltyAll(skipped).or(w.lands[i]))
	}
	return green
}

// guiltyAll are the worlds in which all of a set are shown guilty.
func (w *weighing) guiltyAll(of set) worlds {
	guilty := allWorlds
	for ; of != 0 && guilty != (worlds{}); of = of.rest() {
		guilty = guilty.and(w.shown[of.first()])
	}
	return guilty
}

// shows are the worlds in which a test shows that its last entry is guilty: all others of it land by themselves.
func (w *weighing) shows(last int, of set) worlds {
	g := allWorlds.without(w.good[last])
	for s := of &^ one(last); s != 0; s = s.rest() {
		g = g.and(w.lands[s.first()])
	}
	return g
}

// tells are the worlds in which a test says of each of its entries whether it is good.
func (w *weighing) tells(of set, green worlds) worlds {
	if of.rest() == 0 {
		return allWorlds
	}
	return green
}

// gain is how many landings one more test is worth, and what is learned by it.
func (w *weighing) gain(t test) float64 {
	green := w.green(t)
	tells, whole := w.tells(t.of, green), w.whole(t, green)
	total, lands, pairs := 0.0, 0.0, 0
	for s := t.of; s != 0; s = s.rest() {
		i := s.first()
		total += w.news[i] * tells.without(w.known[i]).share()
		lands += w.weight[i] * whole.without(w.lands[i]).share()
		pairs += (w.overlap[i] & s).size()
	}
	total += lands * w.together[min(pairs, len(w.together)-1)]
	if last := t.of.last(); !w.line[last].Doubted {
		behind := (w.overlap[last] >> last).size()
		total += guilt * (1 + 0.2*float64(behind)) * w.weight[last] * w.shows(last, t.of).without(w.shown[last]).share()
	}
	return total
}

// landed is the weighing as it would be had a set landed, for asking what that would do to the others.
func (w *weighing) landed(these set) *weighing {
	v := *w
	n := len(w.line)
	worldsOf := make([]worlds, 5*n)
	v.lands, v.shown, v.known, v.twice, v.toldTwice = worldsOf[:n], worldsOf[n:2*n], worldsOf[2*n:3*n], worldsOf[3*n:4*n], worldsOf[4*n:]
	v.ahead = slices.Clone(w.ahead)
	for i := range v.ahead {
		v.ahead[i] &^= these
	}
	v.tests = make([]test, 0, len(w.tests))
	for _, t := range w.tests {
		left := t.of &^ these
		for s := left; s != 0; s = s.rest() {
			if w.overlap[s.first()]&these&^t.of != 0 {
				t.late |= one(s.first())
			}
		}
		t.of, t.late = left, t.late&left
		if left != 0 {
			v.tests = append(v.tests, t)
		}
	}
	v.foresee()
	return &v
}

// mayOvertake says whether a rehearsal may land before what is ahead of it and touches the same, since those lose less by it
// than it wins: they are rehearsed with what would land as well, or are not likely to land soon.
func (p *planner) mayOvertake(r *Rehearsal) bool {
	const worth = 0.5 // landings of others for one of its own
	if !p.Settings.Areas {
		return false // what lands has to stand on what is ahead, commit by commit
	}
	w := p.weigh()
	these, all := w.of(r.Path)
	if !all {
		return false
	}
	for i, e := range w.line {
		behind := (w.overlap[i] & these) >> i // of these, that touch the same as it does and are behind it
		if !these.has(i) && behind != 0 && (e.Gate.First || e.Overtaken >= mostOvertaken) {
			return false
		}
	}
	after := w.landed(these)
	won, lost := 0.0, 0.0
	for i := range w.line {
		if these.has(i) {
			won += w.weight[i]
			continue
		}
		lost += w.weight[i] * (w.lands[i].share() - after.lands[i].share())
	}
	return lost < worth*won
}

// reserve is how much more a test has to be worth the fewer slots are free, so that one is left for what joins next.
func reserve(busy, slots int) float64 {
	const least, most = 0.10, 0.30
	return least + most*math.Pow(float64(busy)/float64(slots), 4)
}
