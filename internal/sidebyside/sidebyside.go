// Package sidebyside measures two ways to do the same thing in turns, so that a machine that is busy with something
// else slows both alike, and reports their medians and the ratio of these.
package sidebyside

import (
	"slices"
	"testing"
	"time"
)

// Measure calls each way once in every iteration of the benchmark. A way returns the time that is to count.
func Measure(b *testing.B, ours, theirs func() time.Duration) {
	b.Helper()
	var mine, other []time.Duration
	for b.Loop() {
		mine = append(mine, ours())
		other = append(other, theirs())
	}
	median := func(all []time.Duration) float64 {
		slices.Sort(all)
		return float64(all[len(all)/2]) / float64(time.Millisecond)
	}
	b.ReportMetric(median(mine), "ms-ours")
	b.ReportMetric(median(other), "ms-theirs")
	b.ReportMetric(median(mine)/median(other), "ours/theirs")
	b.ReportMetric(0, "ns/op")
}

// Time returns how long f takes.
func Time(f func()) time.Duration {
	begin := time.Now()
	f()
	return time.Since(begin)
}
