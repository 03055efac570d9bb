// Package recall remembers what was worked out with Git or from the records, and works it out once at a time.
//
// What is remembered is found by a key that names everything it depends on: what is under a key never changes, so that
// nothing has to be thrown away but for room. What that everything is, the caller has to know.
package recall

import (
	"context"
	"math"

	"github.com/maypok86/otter/v2"
)

// Key names something worked out, by everything that it depends on.
type Key struct {
	What string // of what sort it is
	Repo int64
	Of   string
}

// Memory keeps what was asked for most, up to a total weight in kilobytes or so. Make it with New.
type Memory struct {
	cache *otter.Cache[Key, kept]
}

type kept struct {
	value  any
	weight uint32
}

// usual is how much is remembered, in kilobytes or so.
const usual = 64 << 10

// New returns a memory of the usual size.
func New() *Memory { return newSized(usual) }

func newSized(most uint64) *Memory {
	weigh := func(_ Key, v kept) uint32 { return v.weight }
	return &Memory{otter.Must(&otter.Options[Key, kept]{MaximumWeight: most, Weigher: weigh})}
}

// Of returns what is remembered under a key, or works it out and remembers it, weighed. Whoever else asks meanwhile
// waits for the same answer. Errors are not remembered, and are only for the one whose work they ended: another who
// waited does the work again, since what failed may have been the first one's context.
func Of[T any](m *Memory, k Key, weigh func(T) int, work func() (T, error)) (T, error) {
	for {
		mine := false
		got, err := m.cache.Get(context.Background(), k, otter.LoaderFunc[Key,
			kept](func(context.Context, Key) (kept, error) {
			mine = true
			v, err := work()
			if err != nil {
				return kept{}, err
			}
			return kept{v, weight(weigh(v))}, nil
		}))
		if err == nil {
			return got.value.(T), nil
		}
		if mine {
			var none T
			return none, err
		}
	}
}

func weight(n int) uint32 { return uint32(min(max(1, n), math.MaxUint32)) }

// Found returns what is remembered under a key, if anything is.
func Found[T any](m *Memory, k Key) (T, bool) {
	got, ok := m.cache.GetIfPresent(k)
	if !ok {
		var none T
		return none, false
	}
	return got.value.(T), true
}

// Keep remembers something that was worked out already.
func Keep[T any](m *Memory, k Key, n int, v T) {
	m.cache.SetIfAbsent(k, kept{v, weight(n)})
}

// Put remembers something that was worked out already, in the place of what was remembered.
func Put[T any](m *Memory, k Key, n int, v T) {
	m.cache.Set(k, kept{v, weight(n)})
}

// Forget drops what is remembered under a key.
func (m *Memory) Forget(k Key) { m.cache.Invalidate(k) }

// Light weighs what takes no more than a kilobyte or so, whatever it is.
func Light[T any](T) int { return 1 }

// ByLength weighs a list of entries of some 200 bytes each.
func ByLength[T any](list []T) int { return 1 + len(list)/5 }
