package git

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// LineBlock is a run of lines of a file that one commit brought.
type LineBlock struct {
	First, Last int // counted from 1
	Commit      string
	Author      string
	When        time.Time
	Subject     string
}

// Blame says of each line of a file at a commit which commit it comes from, in order, runs of one commit together.
func (r History) Blame(ctx context.Context, commit, path string) ([]LineBlock, error) {
	out, err := r.at.Run(ctx, nil, "blame", "--incremental", commit, "--", path)
	if err != nil {
		return nil, err
	}
	known := map[string]LineBlock{} // what was said of a commit, which git says once
	var blocks []LineBlock
	var now LineBlock
	for line := range strings.Lines(string(out)) {
		word, rest, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		switch {
		case IsID(word):
			f := strings.Fields(rest)
			if len(f) != 3 {
				return nil, fmt.Errorf("git blame: unreadable line %q", line)
			}
			first, _ := strconv.Atoi(f[1]) // git's own numbers, here and below
			count, _ := strconv.Atoi(f[2])
			now = known[word]
			now.Commit, now.First, now.Last = word, first, first+count-1
		case word == "author":
			now.Author = rest
		case word == "author-time":
			seconds, _ := strconv.ParseInt(rest, 10, 64)
			now.When = time.Unix(seconds, 0).UTC()
		case word == "summary":
			now.Subject = rest
		case word == "filename": // the last of a block
			known[now.Commit] = now
			blocks = append(blocks, now)
		}
	}
	slices.SortFunc(blocks, func(a, b LineBlock) int { return a.First - b.First })
	joined := blocks[:0]
	for _, b := range blocks {
		if n := len(joined); n > 0 && joined[n-1].Commit == b.Commit && joined[n-1].Last+1 == b.First {
			joined[n-1].Last = b.Last
		} else {
			joined = append(joined, b)
		}
	}
	return joined, nil
}
