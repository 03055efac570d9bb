package git

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"strings"
)

var shortForm = regexp.MustCompile(`^[0-9a-f]{4,40}$`)

// MayNameCommit says whether the text may be a commit's id or the beginning of one: four to forty hexadecimal digits.
func MayNameCommit(text string) bool { return shortForm.MatchString(text) }

// Named finds the commits whose ids begin with a text of at least four hexadecimal digits: none, one, or several when it
// is too short to tell them apart. A whole id is the commit's own, if it is here.
func (r History) Named(ctx context.Context, text string) ([]string, error) {
	if IsID(text) {
		if !r.HasCommit(ctx, text) {
			return nil, nil
		}
		return []string{text}, nil
	}
	if !MayNameCommit(text) {
		return nil, nil
	}
	out, err := r.at.Run(ctx, nil, "rev-parse", "--disambiguate="+text)
	if err != nil {
		return nil, fmt.Errorf("look for commits that begin with %s: %w", text, err)
	}
	out, err = r.at.Run(ctx, bytes.NewReader(out), "cat-file", "--batch-check=%(objectname) %(objecttype)", "--buffer")
	if err != nil {
		return nil, fmt.Errorf("look for commits that begin with %s: %w", text, err)
	}
	var found []string
	for line := range strings.Lines(string(out)) {
		if id, isCommit := strings.CutSuffix(line, " commit\n"); isCommit {
			found = append(found, id)
		}
	}
	return found, nil
}
