package service

import (
	"errors"
	"fmt"
	"testing"

	"tavrin/internal/store"
)

func TestCacheKeepsWhatWasUsedLast(t *testing.T) {
	c := cache{max: 10}
	k := func(n int) key { return key{"files", 1, fmt.Sprint(n)} }
	for n := range 5 {
		c.put(k(n), n, 2)
	}
	if v, ok := c.get(k(0)); !ok || v != 0 { // looked at, it is no longer the one longest unused
		t.Errorf("the first is %v, %v", v, ok)
	}
	c.put(k(5), 5, 3)
	for n, want := range []bool{true, false, false, true, true, true} {
		if _, ok := c.get(k(n)); ok != want {
			t.Errorf("%d is kept: %v", n, ok)
		}
	}
	c.put(k(6), 6, 11)
	if _, ok := c.get(k(6)); ok || c.weight > c.max {
		t.Errorf("what is too heavy is kept: %v, weight %d", ok, c.weight)
	}
	c.put(k(5), 7, 3)
	if v, _ := c.get(k(5)); v != 5 {
		t.Errorf("what is under a key became %v", v)
	}
}

func TestRememberedWorksOnce(t *testing.T) {
	s := &Service{cache: cache{max: 10}}
	worked := 0
	work := func() (int, error) {
		worked++
		if worked == 1 {
			return 0, errors.New("not yet")
		}
		return worked, nil
	}
	for range 3 {
		remembered(s, key{"x", 1, ""}, light, work)
	}
	if worked != 2 {
		t.Errorf("it worked %d times: an error is not kept, an answer is", worked)
	}
}

// A gate is remembered under counts that every write which concerns it raises, and others do not.
func TestEditions(t *testing.T) {
	repo, other := &store.Repository{ID: 1}, &store.Repository{ID: 2}
	cases := []struct {
		name                        string
		events                      []event
		mine, neighbour, otherRepos bool // whose edition becomes another
	}{
		{"a review of mine", []event{{kind: "review.approve", repo: repo, subject: "change/7"}}, true, false, false},
		{"a review of a neighbour", []event{{kind: "review.approve", repo: repo, subject: "change/8"}}, false, true, false},
		{"a neighbour lands", []event{{kind: "change.landed", repo: repo, subject: "change/8"}}, true, true, false},
		{"a check", []event{{kind: "check.reported", repo: repo, subject: "abc"}}, true, true, false},
		{"rules", []event{{kind: "rules.applied", repo: repo, subject: "rules"}}, true, true, false},
		{"a team", []event{{kind: "team.changed", subject: "team/duty"}}, true, true, true},
		{"elsewhere", []event{{kind: "change.landed", repo: other, subject: "change/7"}}, false, false, true},
		{"nothing said", nil, true, true, true},
		{"two at once", []event{{kind: "review.approve", repo: repo, subject: "change/8"}, {kind: "check.reported", repo: repo, subject: "abc"}}, true, true, false},
	}
	for _, c := range cases {
		var e editions
		var w touched
		for _, event := range c.events {
			w.by(event)
		}
		mine, neighbour, far := e.of(1, 7), e.of(1, 8), e.of(2, 7)
		e.written(w)
		if (e.of(1, 7) != mine) != c.mine || (e.of(1, 8) != neighbour) != c.neighbour || (e.of(2, 7) != far) != c.otherRepos {
			t.Errorf("%s: %s to %s, %s to %s, %s to %s", c.name, mine, e.of(1, 7), neighbour, e.of(1, 8), far, e.of(2, 7))
		}
	}
}
