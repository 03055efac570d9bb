// Package carry says where lines of a file went when the file changed, so that a discussion about them can go with
// them.
//
// A change of a file is a list of hunks, as a unified diff without context lines gives them. Lines that no hunk touches
// are shifted by what the hunks before them added and removed; a range of which a hunk touches a line, or into which
// one is inserted, is not the same any more. The package is pure.
package carry

// Hunk is one place in which a file changed: Old lines from OldStart on, counted from 1, became New lines. Where Old is
// 0, lines were inserted after line OldStart, as unified diffs say it.
type Hunk struct {
	OldStart, Old int
	New           int
}

// Through carries the lines from first to last through hunks in ascending order. ok is false when they are not the same
// any more.
func Through(hunks []Hunk, first, last int) (newFirst, newLast int, ok bool) {
	shift := 0
	for _, h := range hunks {
		from, to := h.OldStart, h.OldStart+h.Old-1 // the lines that went
		if h.Old == 0 {
			from, to = h.OldStart+1, h.OldStart // none: the gap between two lines
		}
		switch {
		case to < first && from <= first:
			shift += h.New - h.Old
		case from > last:
			return first + shift, last + shift, true
		default:
			return 0, 0, false
		}
	}
	return first + shift, last + shift, true
}
