package forecast

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/queue"
)

// Watch follows a queue, and says when what is in line is likely to land: by how long it took what was in the same situation
// before, in this queue. The zero value has seen nothing.
//
// A situation is how many are ahead that an entry has to stand on, and whether it is in a rehearsal. For each there is a plain
// guess, from how long checks take and how many slots there are; what is kept is how many times as long as that guess it took. The
// likely time is the guess times a quantile of those ratios, of those only that are longer than what the entry has waited already.
// Which quantile is asked for follows how the promises came out (adaptive conformal inference: Gibbs and Candès, 2021), so that the
// share of the changes that land within them is what they say, also when days change.
//
// What a change waits for before its gate is ready is not foreseen, nor what people decide: while the queue is held nothing is said,
// and what was promised before is not counted.
type Watch struct {
	// Past are the ratios, in thousandths, by the situation, the newest last.
	Past [situations][]int `json:"past"`
	// AtFirst and Later are the quantiles that are asked for, of what lines up and from then on.
	AtFirst levels `json:"at_first"`
	Later   levels `json:"later"`
	// Kept says of the newest changes that landed how the promise came out that was made when they lined up: h within the half, m
	// within the most, l later.
	Kept    string     `json:"kept"`
	Landed  int        `json:"landed"` // that were in line
	Entries []followed `json:"entries"`
}

// levels are the quantiles that are asked for so that half of the changes, or nine of ten, land within what is said; less what they
// would be if past and future were alike.
type levels struct {
	Half float64 `json:"half"`
	Most float64 `json:"most"`
}

// followed is an entry in line.
type followed struct {
	ID       int64  `json:"id"`
	Revision int    `json:"rev"`
	First    mark   `json:"first"` // when it lined up
	Marks    []mark `json:"marks"` // of each situation that it has been in, the newest last
}

// mark is when an entry came into a situation, how long it was guessed to take from then on, and what was promised.
type mark struct {
	Of    situation `json:"of"`
	Since int64     `json:"since"`          // milliseconds of Unix time
	Guess int64     `json:"guess"`          // milliseconds
	Half  int64     `json:"half,omitempty"` // milliseconds of Unix time; 0: nothing was promised
	Most  int64     `json:"most,omitempty"`
}

// situation is how an entry stands: twice the size class of how many are ahead, and one more if it is in a rehearsal.
type situation uint8

const (
	situations = 16
	pastKept   = 160 // ratios of a situation
	leastPast  = 10  // that there have to be before something is said
	scoreKept  = 200
	// pace is how fast the quantiles that are asked for follow how the promises came out.
	pace            = 0.03
	half, nineOfTen = 0.5, 0.9
)

// Likely is when a change is likely to land: half of those like it land until Half, nine of ten until Most.
type Likely struct {
	Half, Most time.Time
	// Words say why, or why nothing can be said; the times are zero then.
	Words string
}

// Told takes into account what has become of a queue with an event.
func (w Watch) Told(after *queue.State) Watch {
	now := after.At.UnixMilli()
	entries := make([]followed, 0, len(w.Entries)+1)
	was := func(id int64) (followed, bool) {
		i, found := slices.BinarySearchFunc(w.Entries, id, func(f followed, id int64) int { return cmp.Compare(f.ID, id) })
		if !found {
			return followed{}, false
		}
		return w.Entries[i], true
	}
	for i := range after.Entries { // those that landed are there once more
		e := &after.Entries[i]
		if f, followed := was(e.ID); e.State == queue.Landed && followed && f.Revision == e.Gate.Revision {
			w = w.landed(f, now)
		}
	}
	if after.Held != "" || after.Tip == "" {
		w.Entries = entries // what is promised under a hold is begun anew after it
		return w
	}
	for _, x := range standings(after) {
		f, known := was(x.entry.ID)
		if !known || f.Revision != x.entry.Gate.Revision {
			f = followed{ID: x.entry.ID, Revision: x.entry.Gate.Revision}
		}
		if n := len(f.Marks); x.guess > 0 && (n == 0 || f.Marks[n-1].Of != x.of) {
			marks := make([]mark, 0, n+1)
			for _, m := range f.Marks { // one of each situation, the newest
				if m.Of != x.of {
					marks = append(marks, m)
				}
			}
			m := mark{Of: x.of, Since: now, Guess: x.guess.Milliseconds()}
			level := w.Later
			if n == 0 {
				level = w.AtFirst
			}
			m.Half, m.Most, _ = w.times(m, level, now)
			if f.Marks = append(marks, m); n == 0 {
				f.First = m
			}
		}
		entries = append(entries, f)
	}
	slices.SortFunc(entries, func(a, b followed) int { return cmp.Compare(a.ID, b.ID) })
	w.Entries = entries
	return w
}

// landed learns from an entry that landed.
func (w Watch) landed(f followed, now int64) Watch {
	w.Landed++
	for _, m := range f.Marks {
		w.Past[m.Of] = appended(w.Past[m.Of], int(1000*max(0, now-m.Since)/max(1, m.Guess)), pastKept)
		if m != f.First {
			w.Later = w.Later.follow(m, now)
		}
	}
	w.AtFirst = w.AtFirst.follow(f.First, now)
	score := ""
	switch f := f.First; {
	case f.Half == 0:
	case now <= f.Half:
		score = "h"
	case now <= f.Most:
		score = "m"
	default:
		score = "l"
	}
	w.Kept += score
	w.Kept = w.Kept[max(0, len(w.Kept)-scoreKept):]
	return w
}

// appended adds a number to a list of which nothing is ever changed, without the oldest beyond so many.
func appended(all []int, n, most int) []int {
	return append(slices.Clone(all[max(0, len(all)-most+1):]), n)
}

// follow moves what is asked for: up after a promise that was not kept, and down after one that was, so little that in the long run
// the share is kept.
func (l levels) follow(m mark, landed int64) levels {
	if m.Half == 0 {
		return l
	}
	next := func(more, share float64, until int64) float64 {
		is := 0.0
		if landed <= until {
			is = 1
		}
		return min(max(more+pace*(share-is), -share), 2-share)
	}
	return levels{next(l.Half, half, m.Half), next(l.Most, nineOfTen, m.Most)}
}

// standing is one entry in line: its situation, and a plain guess of how long it takes to land.
type standing struct {
	entry *queue.Entry
	of    situation
	ahead int // that it has to stand on
	in    *queue.Rehearsal
	guess time.Duration
}

// standings are those of the entries in line, in order.
func standings(s *queue.State) []standing {
	line := s.Line()
	out := make([]standing, 0, len(line))
	var parts []uint64
	if s.Settings.Areas {
		parts = partsOf(line)
	}
	for i, e := range line {
		x := standing{entry: e, ahead: i}
		if s.Settings.Areas {
			x.ahead = 0
			for _, p := range parts[:i] {
				if p&parts[i] != 0 {
					x.ahead++
				}
			}
		}
		if r := s.Rehearsal(e.Rehearsal); r != nil && r.Behind == "" && r.Verdict.Red == "" {
			x.in = r
		}
		usual := s.Learned.Usual
		x.guess = usual
		if x.in != nil {
			x.guess = max(usual-s.At.Sub(x.in.Since), usual/8)
		}
		x.guess += usual * time.Duration(x.ahead) / time.Duration(max(1, s.Settings.Slots))
		class := 0 // 0, 1, 2 and 3, 4 to 7, …
		for n := x.ahead; n > 0 && class < situations/2-1; n /= 2 {
			class++
		}
		if x.of = situation(2 * class); x.in != nil {
			x.of++
		}
		out = append(out, x)
	}
	return out
}

// partsOf gives each entry the parts of the tree that it touches, as bits.
func partsOf(line []*queue.Entry) []uint64 {
	areas := areaBits{}
	out := make([]uint64, len(line))
	for i, e := range line {
		out[i] = areas.of(e.Gate.Touches)
	}
	return out
}

// times are until when half, and nine of ten, of what was in a situation land, that have not by now. Not ok: too little is known.
func (w *Watch) times(m mark, l levels, now int64) (halfAt, mostAt int64, ok bool) {
	waited := now - m.Since
	past := w.longer(m, waited)
	if len(past) < leastPast || w.Landed < leastPast {
		return 0, 0, false
	}
	at := func(share float64) int64 {
		k := int(math.Ceil(share*float64(len(past)+1))) - 1
		over := 1.0
		if k >= len(past) { // beyond what was seen: on a bad day, soon far beyond
			over = math.Exp(3 * float64(k-len(past)+1) / float64(len(past)))
			k = len(past) - 1
		}
		return m.Since + int64(over*float64(past[max(0, k)])*float64(m.Guess)/1000)
	}
	halfAt = max(at(half+l.Half), now)
	return halfAt, max(at(nineOfTen+l.Most), halfAt), true
}

// longer lists the ratios of a situation that are longer than what was waited, sorted; where those are few, of all situations.
func (w *Watch) longer(m mark, waited int64) []int {
	least := int(1000 * waited / max(1, m.Guess))
	past := above(w.Past[m.Of], least)
	if len(past) < leastPast {
		past = past[:0]
		for _, p := range w.Past {
			past = append(past, above(p, least)...)
		}
	}
	slices.Sort(past)
	return past
}

func above(all []int, least int) []int {
	var out []int
	for _, x := range all {
		if x >= least {
			out = append(out, x)
		}
	}
	return out
}

// Likely says of each entry in line when it is likely to land, by its number, as it looks at a time.
func (w *Watch) Likely(s *queue.State, at time.Time) map[int64]Likely {
	out := map[int64]Likely{}
	for _, x := range standings(s) {
		out[x.entry.ID] = w.likely(s, x, at)
	}
	return out
}

func (w *Watch) likely(s *queue.State, x standing, at time.Time) Likely {
	switch {
	case x.entry.State == queue.Landing:
		return Likely{Half: at, Most: at, Words: "it is landing"}
	case s.Held != "":
		return Likely{Words: "nobody knows for how long the queue is held"}
	case s.Tip == "":
		return Likely{Words: "the branch is gone"}
	}
	i := slices.IndexFunc(w.Entries, func(f followed) bool { return f.ID == x.entry.ID })
	if i < 0 || len(w.Entries[i].Marks) == 0 {
		return Likely{Words: w.tooFew()}
	}
	marks := w.Entries[i].Marks
	last, level := marks[len(marks)-1], w.Later
	if last == w.Entries[i].First {
		level = w.AtFirst
	}
	halfAt, mostAt, ok := w.times(last, level, at.UnixMilli())
	if !ok {
		if w.Landed >= leastPast {
			return Likely{Words: "nothing that was like it took so long"}
		}
		return Likely{Words: w.tooFew()}
	}
	return Likely{Half: time.UnixMilli(halfAt).UTC(), Most: time.UnixMilli(mostAt).UTC(), Words: x.words(s, at)}
}

// tooFew says that it is too early to say anything.
func (w *Watch) tooFew() string {
	return fmt.Sprintf("too few have landed to say when: %d, and from %d on it can be said", w.Landed, leastPast)
}

// words say what a likely time rests on.
func (x standing) words(s *queue.State, at time.Time) string {
	var all []string
	switch {
	case x.ahead > 0 && s.Settings.Areas:
		all = append(all, fmt.Sprintf("%d ahead of it touch the same", x.ahead))
	case x.ahead > 0:
		all = append(all, fmt.Sprintf("%d are ahead of it", x.ahead))
	default:
		all = append(all, "nothing is ahead of it")
	}
	if x.in != nil && x.in.Verdict.Passed {
		all = append(all, "its rehearsal has passed")
	} else if x.in != nil && len(x.in.Commits) > 0 {
		all = append(all, fmt.Sprintf("its checks run for %s and take %s", rounded(at.Sub(x.in.Since)), rounded(s.Learned.Usual)))
	} else {
		all = append(all, fmt.Sprintf("checks take %s", rounded(s.Learned.Usual)))
	}
	if x.entry.Doubted {
		all = append(all, "it was red and is tested once more")
	}
	return strings.Join(all, "; ")
}

// rounded is a time as people say it.
func rounded(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%.0f s", max(0, d.Seconds()))
	}
	return fmt.Sprintf("%.0f min", d.Minutes())
}

// Score says how many changes landed within what was said when they lined up, of the newest so many.
func (w *Watch) Score() (withinHalf, withinMost, of int) {
	h := strings.Count(w.Kept, "h")
	return h, h + strings.Count(w.Kept, "m"), len(w.Kept)
}
