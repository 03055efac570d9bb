package freezes

import (
	"cmp"
	"slices"
	"time"

	"tavrin/internal/problem"
	"tavrin/wire"
)

// Might lists when freezes that are not planned yet would have been in force between two times in the past, had they been planned then:
// moved back by whole weeks, so that they begin on the same weekdays. Times that overlap are one.
func Might(n wire.NewFreeze, from, to time.Time) ([]wire.FreezeTime, error) {
	zone, err := zoneOf(cmp.Or(n.Zone, "UTC"))
	if err != nil {
		return nil, problem.Wrong("freeze.zone", "%v", err)
	}
	const week = 7 * 24 * time.Hour
	var all []span
	switch {
	case n.Calendar != "":
		events, err := read(n.Calendar, zone, to)
		if err != nil {
			return nil, problem.Wrong("freeze.calendar", "%v", err)
		}
		for _, e := range events {
			next, err := expand(e.event, zone, to, to.Add(400*24*time.Hour))
			if err != nil {
				return nil, problem.Wrong("freeze.calendar", "%v", err)
			}
			if len(next) == 0 {
				continue
			}
			back := week * ((next[0].begins.Sub(from)) / week)
			for _, x := range next {
				if begins := x.begins.Add(-back); begins.Before(to) {
					all = append(all, span{begins, x.ends.Add(-back)})
				}
			}
		}
	case n.Begins == nil || n.Ends == nil || !n.Begins.Before(*n.Ends):
		return nil, problem.Wrong("freeze.begins", "a freeze begins, and ends after that; or a calendar says when")
	default:
		back := week * (n.Begins.Sub(from) / week)
		all = append(all, span{n.Begins.Add(-back), n.Ends.Add(-back)})
	}
	slices.SortFunc(all, func(a, b span) int { return a.begins.Compare(b.begins) })
	out := []wire.FreezeTime{}
	for _, x := range all {
		begins, ends := later(x.begins, from), earlier(x.ends, to)
		switch last := len(out) - 1; {
		case !begins.Before(ends):
		case last >= 0 && !out[last].Ends.Before(begins):
			out[last].Ends = later(out[last].Ends, ends)
		default:
			out = append(out, wire.FreezeTime{Begins: begins, Ends: ends})
		}
	}
	return out, nil
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}
