package forecast

import (
	"time"

	"tavrin/internal/core/queue"
)

// Study is the workloads that queues are measured by: a small team to a storm, a bad day and a flaky one, with areas side by side
// and strictly.
func Study(length time.Duration) []Workload {
	always := func(perHour float64) func(time.Duration) float64 {
		return func(time.Duration) float64 { return perHour }
	}
	storm := func(at time.Duration) float64 {
		if at%(24*time.Hour) < 2*time.Hour {
			return 120
		}
		return 10
	}
	of := func(name string, perHour float64, slots int, guilty, conflicting, flaky float64, areas bool) Workload {
		return Workload{Name: name, PerHour: always(perHour), Most: perHour, Length: length, Guilty: guilty, Conflicting: conflicting,
			Flaky: flaky, Areas: 30, Median: 10 * time.Minute, Spread: 0.3,
			Settings: queue.Settings{Slots: slots, Reruns: 1, Areas: areas}}
	}
	all := []Workload{
		of("W1", 2, 2, .05, 0, 0, false), of("W2", 12, 6, .10, .02, 0, false), of("W2, areas", 12, 6, .10, .02, 0, true),
		of("W3", 40, 16, .10, .01, 0, true), of("W4", 120, 16, .10, .01, 0, true), of("W5", 40, 16, .35, .01, 0, true), of("W6", 40, 16, .10, .01, .05, true),
		of("W3, strict", 40, 16, .10, .01, 0, false), of("W4, strict", 120, 16, .10, .01, 0, false), of("W5, strict", 40, 16, .35, .01, 0, false),
		of("W6, strict", 40, 16, .10, .01, .05, false),
	}
	for i := range all {
		if all[i].Most == 120 {
			all[i].PerHour = storm
		}
	}
	return all
}
