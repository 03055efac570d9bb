package accounts

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"tavrin/wire"
)

// maxRefusals is how many different refusals are counted one by one; the rest is counted together.
const maxRefusals = 2000

// refusals counts what was refused for a reason of rights since the service was started: to whom, what, and how often.
// A single one is no more than somebody's mistake; many are for an administrator to see.
type refusals struct {
	mu    sync.Mutex
	byKey map[[2]string]*wire.Refusal
}

// CountRefusal counts one more thing that was refused: who is a login or an address, what the call or the push, why the
// words that they were told.
func (s *Access) CountRefusal(who, what, why string) {
	if len(what) > 200 {
		what = strings.ToValidUTF8(what[:200], "") + "…"
	}
	c := &s.refusals
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.byKey == nil {
		c.byKey = map[[2]string]*wire.Refusal{}
	}
	key := [2]string{who, what}
	if c.byKey[key] == nil && len(c.byKey) >= maxRefusals {
		key = [2]string{"others", "anything"}
	}
	if c.byKey[key] == nil {
		c.byKey[key] = &wire.Refusal{Who: key[0], What: key[1]}
	}
	one := c.byKey[key]
	one.Times++
	one.Why, one.Last = why, s.records.Now()
}

// Refusals lists what was refused, the most frequent first.
func (s *Access) Refusals(a Actor) ([]wire.Refusal, error) {
	if err := a.MustAdminister("seeing what was refused"); err != nil {
		return nil, err
	}
	c := &s.refusals
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []wire.Refusal{}
	for _, one := range c.byKey {
		out = append(out, *one)
	}
	slices.SortFunc(out, func(a, b wire.Refusal) int {
		return cmp.Or(cmp.Compare(b.Times, a.Times), cmp.Compare(a.Who, b.Who), cmp.Compare(a.What, b.What))
	})
	return out, nil
}
