package forecast

import (
	"slices"
	"time"
)

// Oracle deals with a workload knowing which changes are good. It takes them in the order in which they come; whenever a slot is
// free and some good change is in no rehearsal, it rehearses the tip with all that is in flight and all that waits; what passes
// lands whole. It sees no flakes. No queue can do much better with these slots, so it is the yardstick.
func Oracle(w Workload, seed uint64) Outcome {
	all, plan, out := w.changes(seed), agenda{}, Outcome{}
	for i, c := range all {
		plan.add(happening{at: c.at, comes: i})
	}
	type rehearsal struct {
		of    []int
		began time.Duration
	}
	live := map[int]bool{} // good, and not landed
	var waiting, flying []int
	running := map[int]rehearsal{}
	for {
		h, more := plan.next()
		if !more {
			return out
		}
		if h.comes >= 0 {
			bad := all[h.comes].guilty
			for other := range live {
				bad = bad || w.conflict(all, seed, h.comes, other)
			}
			if bad {
				continue
			}
			live[h.comes] = true
			waiting = append(waiting, h.comes)
		} else {
			r, runs := running[h.run]
			if !runs {
				continue
			}
			delete(running, h.run)
			out.Busy += h.at - r.began
			for _, n := range r.of {
				if live[n] {
					delete(live, n)
					out.Minutes = append(out.Minutes, (w.free(h.at) - all[n].at).Minutes())
				}
			}
			lands := func(n int) bool { return live[n] }
			flying = slices.DeleteFunc(flying, func(n int) bool { return !live[n] })
			for k, other := range running {
				if !slices.ContainsFunc(other.of, lands) { // a part of what has passed
					out.Busy += h.at - other.began
					delete(running, k)
				}
			}
		}
		if len(waiting) > 0 && len(running) < max(1, w.Settings.Slots) {
			flying = append(flying, waiting...)
			waiting = nil
			out.Runs++
			running[out.Runs] = rehearsal{slices.Clone(flying), h.at}
			plan.add(happening{at: h.at + w.takes(seed, out.Runs), comes: -1, run: out.Runs})
		}
	}
}
