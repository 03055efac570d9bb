package queue

import (
	"cmp"
	"fmt"
	"slices"
)

// choose gives the slots to what is worth most. What runs keeps its slot unless something became known since it was begun:
// else choices would waver, and nothing would ever be finished.
func (p *planner) choose() {
	slots, busy := max(1, p.Settings.Slots), 0
	for i := range p.Rehearsals {
		if p.Rehearsals[i].Running() {
			busy++
		}
	}
	if len(p.line) == 0 || p.Tip == "" {
		return
	}
	if p.Settings.Planner == OneByOne {
		p.oneByOne(busy)
		return
	}
	if p.Evidence == p.Weighed && busy >= slots {
		return
	}
	w := p.weigh()
	if p.Evidence != p.Weighed {
		busy -= w.cancel()
	}
	busy -= w.makeRoom(busy, slots)
	again := p.toRerun()
	for busy < slots {
		best, gain := w.best()
		if len(again) > 0 && (best == 0 || p.rerunWorth(again[0]) > gain) {
			p.rerun(again[0])
			again = again[1:]
			busy++
			continue
		}
		least := reserve(busy, slots)
		if gain < least {
			if best, gain = w.untested(); best == 0 {
				w.say(busy, slots, least, 0)
				break
			}
		}
		w.begin(best, gain)
		w.say(busy, slots, least, p.Next)
		busy++
	}
	if busy == 0 && p.Held == "" && p.mayLand() == nil {
		w.unlock()
	}
	p.Weighed = p.Evidence
}

// unlock rehearses the first in line by itself where nothing runs and nothing can land, whatever it is thought worth: passed or red, the
// line goes on by it. It is what every other thought may be wrong about without anybody's waiting for ever.
func (w *weighing) unlock() {
	for i, e := range w.line {
		if w.free(i) && !e.Gate.Stopped {
			if w.worthTrying(one(i)) {
				w.begin(one(i), w.gain(test{of: one(i)}))
			}
			return
		}
	}
}

// oneByOne rehearses the first in line on the tip, and nothing else until that has come to its end.
func (p *planner) oneByOne(busy int) {
	var first *Entry // doubted ones wait, unless they go first
	if i := slices.IndexFunc(p.line, func(e *Entry) bool { return e.Gate.First || !e.Doubted }); i >= 0 {
		first = p.line[i]
	}
	at := 0 // how many have not come to their end
	for i := range p.Rehearsals {
		r := &p.Rehearsals[i]
		switch {
		case r.Ended != "" || r.Of != 0 || r.Verdict.Red != "" && !r.Alone(),
			slices.ContainsFunc(r.Path, func(id int64) bool { return p.Entry(id).Resting(p.At) }):
		case first != nil && first.Gate.First && !slices.Contains(r.Path, first.ID) && !p.landing(r):
			if !r.Running() { // what has its verdict takes no slot
				continue
			}
			p.discard(r, goesFirst)
			p.lineUp() // what was doubted may be no more
			p.oneByOne(busy - 1)
			return
		default:
			at++
		}
	}
	again := slices.DeleteFunc(p.toRerun(), func(id int64) bool {
		return first != nil && first.Gate.First && p.Rehearsal(id).Path[0] != first.ID
	})
	switch {
	case at == 0 && busy <= 0 && first != nil && first.State != Landing:
		p.begin([]int64{first.ID}, 1, "it is first in line")
	case at > 0 && busy == 0 && len(again) > 0:
		p.rerun(again[0])
	}
}

const goesFirst = "another goes first: by a waiver, or since it takes back a landing"

// begin begins a rehearsal on the tip.
func (p *planner) begin(path []int64, worth float64, why string) {
	p.Next++
	r := Rehearsal{ID: p.Next, Path: path, Base: p.Tip, Score: worth, Since: p.At, Began: p.Evidence}
	for _, id := range path {
		e := p.Entry(id)
		r.Revisions = append(r.Revisions, e.Gate.Revision)
		e.Tries++
	}
	p.Rehearsals = append(p.Rehearsals, r)
	p.act(Build, path[len(path)-1], r.ID, why)
}

// path is a set in the order of the line.
func (w *weighing) path(of set) (path []int64) {
	for s := of; s != 0; s = s.rest() {
		path = append(path, w.line[s.first()].ID)
	}
	return path
}

func (w *weighing) begin(of set, gain float64) {
	w.p.begin(w.path(of), gain, fmt.Sprintf("it is worth most: %.2f landings", gain))
	w.tests = append(w.tests, test{rehearsal: w.p.Next, of: of})
	w.foresee()
}

// say tells of a choice, if somebody listens.
func (w *weighing) say(busy, slots int, least float64, begun int64) {
	if !w.p.aloud {
		return
	}
	const most = 6
	c := Choice{Rehearsal: begun, Least: least, Busy: busy, Slots: slots}
	for i, e := range w.line {
		why := w.p.Learned.because(e)
		for _, red := range w.p.Reds {
			if slices.Contains(red.Entries, e.ID) {
				why += fmt.Sprintf("; it was red in rehearsal %d", red.Rehearsal)
			}
		}
		c.Thought = append(c.Thought, Thought{e.ID, w.good[i].share(), why})
	}
	slices.SortStableFunc(w.looked, func(a, b looked) int { return cmp.Compare(b.gain, a.gain) })
	seen := map[set]bool{}
	for _, x := range w.looked {
		if !seen[x.of] && len(c.Options) < most {
			seen[x.of] = true
			c.Options = append(c.Options, Option{w.path(x.of), x.gain})
		}
	}
	w.looked = nil
	w.p.choices = append(w.p.choices, c)
}

// looked is a path that was looked at.
type looked struct {
	of   set
	gain float64
}

// toRerun lists the rehearsals of what is red by itself and is to be tested once more.
func (p *planner) toRerun() (all []int64) {
	for i := range p.Rehearsals {
		r := &p.Rehearsals[i]
		if r.Alone() && r.Verdict.Red != "" && r.Reruns < p.Settings.Reruns && p.Entry(r.Path[0]).Doubted && !p.testedAlone(r.Path[0]) {
			all = append(all, r.ID)
		}
	}
	return all
}

// testedAlone says whether an entry is tested by itself now.
func (p *planner) testedAlone(id int64) bool {
	return slices.ContainsFunc(p.Rehearsals, func(r Rehearsal) bool { return r.Alone() && r.Path[0] == id && r.Running() })
}

// rerunWorth is what it is worth to test once more what is red by itself: little, since it is most likely guilty, and more the
// longer it waits.
func (p *planner) rerunWorth(id int64) float64 {
	const atFirst, growth = 0.1, 2.0
	worth := atFirst
	if usual := p.Learned.Usual; usual > 0 {
		worth *= 1 + growth*float64(p.At.Sub(p.Rehearsal(id).Since))/float64(usual)
	}
	return worth
}

// rerun has the checks of what is red by itself run once more, on the same commit.
func (p *planner) rerun(id int64) {
	r := p.Rehearsal(id)
	r.Reruns++
	r.Verdict, r.Told, r.Since = Verdict{}, false, p.At
	p.Evidence++
	p.act(Rerun, r.Path[0], r.ID, "it was red by itself: it is tested once more before it is ejected")
}

// cancel takes their slots from rehearsals that are of no use any more, and says from how many. One that is well under way
// is let come to its end although it cannot land: what it says of its entries is worth knowing.
func (w *weighing) cancel() (cancelled int) {
	const (
		wellUnderWay = 0.3 // of the usual time
		least        = 0.02
		clearly      = 0.20 // at a first look, which does not see what relies on what
	)
	p := w.p
	for i := range p.Rehearsals {
		r := &p.Rehearsals[i]
		if !r.Running() || r.Reruns > 0 || r.Began == p.Evidence {
			continue
		}
		k := slices.IndexFunc(w.tests, func(t test) bool { return t.rehearsal == r.ID })
		if k < 0 || w.mixed(w.tests[k].of) {
			continue // entries are seen one by one: the others may be about to follow
		}
		why := ""
		if r.Past.Everywhere || r.Behind != "" && len(r.Path) == 1 {
			if usual := p.Learned.Usual; len(r.Commits) > 0 && usual > 0 &&
				float64(p.At.Sub(r.Since)) > wellUnderWay*float64(usual) {
				continue
			}
			why = r.Behind
		}
		if why == "" && w.own(w.tests[k]) > clearly {
			continue
		}
		with := w.tests
		w.tests = slices.Delete(slices.Clone(with), k, k+1)
		w.foresee()
		if why == "" && w.gain(with[k]) < least {
			why = "others show what it would show"
		}
		if why == "" {
			w.tests = with
			w.foresee()
			continue
		}
		p.discard(r, why)
		cancelled++
	}
	return cancelled
}

// makeRoom takes a slot from the newest rehearsal for an entry that goes first and has none.
func (w *weighing) makeRoom(busy, slots int) (freed int) {
	p := w.p
	for i, e := range w.line {
		if !e.Gate.First || e.State == Landing || busy < slots ||
			slices.ContainsFunc(w.tests, func(t test) bool { return t.of.has(i) }) {
			continue
		}
		for k := len(p.Rehearsals) - 1; k >= 0; k-- {
			r := &p.Rehearsals[k]
			if !r.Running() || slices.ContainsFunc(r.Path, func(id int64) bool { return p.Entry(id).Gate.First }) {
				continue
			}
			p.discard(r, goesFirst)
			w.tests = slices.DeleteFunc(slices.Clone(w.tests), func(t test) bool { return t.rehearsal == r.ID })
			w.foresee()
			return 1
		}
	}
	return 0
}

// candidates are the paths that are looked at first: for each entry that with all ahead of it that are likely good, that by itself,
// and those that suppose otherwise of one of whom least is known.
func (w *weighing) candidates() []set {
	const otherwise = 6
	all := make([]set, 0, 4*len(w.line))
	add := func(s set) { all = append(all, s) }
	for i := range w.line {
		if !w.free(i) {
			continue
		}
		likely := w.likely(i)
		add(likely)
		if likely != one(i) {
			add(one(i))
		}
		doubtful := make([]int, 0, window)
		for s := w.ahead[i]; s != 0; s = s.rest() {
			doubtful = append(doubtful, s.first())
		}
		slices.SortFunc(doubtful, func(a, b int) int { return w.good[a].count() - w.good[b].count() })
		for _, k := range doubtful[:min(len(doubtful), otherwise)] {
			if w.free(k) {
				add(likely ^ one(k))
			}
		}
	}
	return all
}

// best finds the path that is worth most: of the candidates, and then on and on with one more or one less. They are all looked at
// again for each slot: what one test lands, another may stand on, so that a path can become worth more by another's being begun.
func (w *weighing) best() (of set, gain float64) {
	try := func(s set) {
		if s == 0 || s.size() > depth || !w.worthTrying(s) {
			return
		}
		g := w.gain(test{of: s})
		if w.p.aloud {
			w.looked = append(w.looked, looked{s, g})
		}
		if g > gain+1e-9 {
			of, gain = s, g
		}
	}
	for _, s := range w.candidates() {
		try(s)
	}
	if of == 0 {
		return 0, 0
	}
	const steps = 6
	for range steps {
		was := of
		for i := range w.line {
			if w.free(i) {
				try(was ^ one(i))
			}
		}
		if of == was {
			break
		}
	}
	return of, gain
}

// likely is an entry with all ahead of it that are more likely good than not.
func (w *weighing) likely(i int) set {
	of := one(i)
	for s := w.ahead[i]; s != 0; s = s.rest() {
		if w.free(s.first()) && w.good[s.first()].count() >= worldCount/2 {
			of |= one(s.first())
		}
	}
	return of
}

// untested is the path of the first entry in line that no test has: no slot is idle while there is one.
func (w *weighing) untested() (set, float64) {
	var tested set
	for _, t := range w.tests {
		tested |= t.of
	}
	for i := range w.line {
		if tested.has(i) || !w.free(i) {
			continue
		}
		for _, of := range []set{w.likely(i), one(i)} {
			if of.size() <= depth && w.worthTrying(of) {
				return of, w.gain(test{of: of})
			}
		}
	}
	return 0, 0
}

// free says whether an entry may be rehearsed: it is not landing, nor tested once more by itself.
func (w *weighing) free(i int) bool { return w.line[i].State != Landing && !w.line[i].Doubted }

// worthTrying says whether a set is not tested yet, and can be built for all that is known.
func (w *weighing) worthTrying(of set) bool {
	if slices.Contains(w.red, of) || w.mixed(of) {
		return false
	}
	for _, t := range w.tests {
		if t.of == of && t.late == 0 {
			return false
		}
	}
	return !slices.ContainsFunc(w.apart, func(x set) bool { return x.within(of) })
}

// mixed says whether entries are not to be rehearsed together: what goes first waits for nobody's verdict, and what may land now
// not for what may not.
func (w *weighing) mixed(of set) bool {
	return of&w.first != 0 && of.rest() != 0 || of&w.stopped != 0 && !of.within(w.stopped)
}
