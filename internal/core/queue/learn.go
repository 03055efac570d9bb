package queue

import (
	"fmt"
	"math/bits"
	"slices"
	"time"
)

// Learned is what a queue has learned of late. It follows what happens: what was usual once would be dangerous to believe
// on a bad day.
type Learned struct {
	// Usual is how long checks take from a rehearsal's being built to its verdict; 0: not known yet.
	Usual time.Duration `json:"usual"`
	// Guilty is the share of changes that were ejected for being red among those that landed or were; Ends counts them.
	Guilty float64 `json:"guilty"`
	Ends   int     `json:"ends"`
	// Flaky is the share of rehearsals, red by themselves, that passed when they were tested once more; Reruns counts them.
	Flaky  float64 `json:"flaky"`
	Reruns int     `json:"reruns"`
	// Authors are those of the newest changes that ended, Sizes the classes of lines: up to 1, 3, 7, 15, … .
	Authors []Author  `json:"authors,omitempty"`
	Sizes   [16]Tally `json:"sizes"`
}

// Author is how an author's changes have ended.
type Author struct {
	Login string `json:"login"`
	Tally
}

// Tally counts changes that ended, the older ones less.
type Tally struct {
	All    float64 `json:"all"`
	Guilty float64 `json:"guilty"`
}

// What is supposed while nothing is known, and by how many cases it is given up.
const (
	guiltyAtFirst = 0.10
	guiltyMemory  = 30
	flakyLeast    = 0.002
	flakyMost     = 0.3
	flakyMemory   = 100

	mostAuthors  = 200
	tallyMemory  = 50.0 // cases, after which older ones count half as much, or so
	tallyHolds   = 5.0  // expected cases that speak for the average
	tallyAtMost  = 3.0  // what an author or a size may do to the share of guilty ones
	tallyAtLeast = 1 / tallyAtMost
)

// guilty is how likely it is that a change is red by its own fault, as things have gone lately.
func (l Learned) guilty() float64 {
	if l.Ends == 0 {
		return guiltyAtFirst
	}
	return l.Guilty
}

// Supposed is what is supposed now: the share of changes that are red by their own fault, that of runs that are red by nobody's, and both
// in words, with how long checks take.
func (l *Learned) Supposed() (guilty, flaky float64, words string) {
	guilty, flaky = l.guilty(), l.flaky()
	words = fmt.Sprintf("%.0f in 100 changes are thought to be red by their own fault, and %.1f in 100 runs by nobody's", 100*guilty, 100*flaky)
	if l.Usual > 0 {
		words += "; checks take " + l.Usual.Round(time.Second).String()
	}
	return guilty, flaky, words
}

// likely is how likely it is that a change is good: by how things have gone lately first, then by whose it is and how large.
func (l *Learned) likely(e *Entry) float64 {
	usual, size, author := l.factors(e)
	return 1 - min(usual*size*author, 0.95)
}

// factors are how often changes are guilty, and how many times as often those of an entry's size, and its author's.
func (l *Learned) factors(e *Entry) (usual, size, author float64) {
	usual, author = l.guilty(), 1
	size = l.Sizes[sizeOf(e.Lines)].times(usual)
	if i := slices.IndexFunc(l.Authors, func(a Author) bool { return a.Login == e.Author }); i >= 0 {
		author = l.Authors[i].times(usual)
	}
	return usual, size, author
}

// because says what is thought of an entry rests on.
func (l *Learned) because(e *Entry) string {
	if e.Cleared {
		return "it has passed with others"
	}
	usual, size, author := l.factors(e)
	words := fmt.Sprintf("%.0f in 100 are red", 100*usual)
	if size < 0.95 || size > 1.05 {
		words += fmt.Sprintf(", %.1f times as many of its size", size)
	}
	if author < 0.95 || author > 1.05 {
		words += fmt.Sprintf(", %.1f times as many of %s's", author, e.Author)
	}
	return words
}

// times is how many times as often as the average these were guilty.
func (t Tally) times(average float64) float64 {
	return min(max((tallyHolds+t.Guilty)/(tallyHolds+t.All*average), tallyAtLeast), tallyAtMost)
}

func (t *Tally) add(guilty bool) {
	t.All *= 1 - 1/tallyMemory
	t.Guilty *= 1 - 1/tallyMemory
	t.All++
	if guilty {
		t.Guilty++
	}
}

func sizeOf(lines int) int { return min(bits.Len(uint(max(lines, 0))), 15) }

// ended learns from a change that landed, or was ejected for being red.
func (l *Learned) ended(e *Entry, guilty bool) {
	l.Guilty = toward(l.guilty(), guilty, guiltyMemory)
	l.Ends++
	l.Sizes[sizeOf(e.Lines)].add(guilty)
	if e.Author == "" {
		return
	}
	i := slices.IndexFunc(l.Authors, func(a Author) bool { return a.Login == e.Author })
	a := Author{Login: e.Author}
	authors := l.Authors
	if i >= 0 {
		a = authors[i]
		authors = slices.Concat(authors[:i], authors[i+1:])
	}
	a.add(guilty)
	authors = slices.Concat(authors, []Author{a}) // the newest last
	l.Authors = authors[max(0, len(authors)-mostAuthors):]
}

// flaky is how likely it is that a rehearsal is red although all of it are good. What is counted is how many of those that were red
// by themselves passed when they were tested once more, s: they are s = f(1-g) / (f(1-g) + g) of them, where g is how likely a
// change is guilty and f what is asked for.
func (l *Learned) flaky() float64 {
	s, g := min(l.Flaky, 0.9), min(l.guilty(), 0.9)
	return min(max(s*g/((1-s)*(1-g)), flakyLeast), flakyMost)
}

func (l *Learned) rerun(passed bool) {
	l.Flaky = toward(l.Flaky, passed, flakyMemory)
	l.Reruns++
}

// took lets what is usual follow what was measured, a fifth of the way each time.
func (l *Learned) took(measured time.Duration) {
	if l.Usual == 0 {
		l.Usual = measured
		return
	}
	l.Usual += (measured - l.Usual) / 5
}

func toward(share float64, so bool, memory float64) float64 {
	is := 0.0
	if so {
		is = 1
	}
	return share + (is-share)/memory
}
