package service

import (
	"container/list"
	"crypto/sha256"
	"encoding/hex"
	"sync"

	"tavrin/internal/markdown"
)

// key names something worked out with Git or from the records, by everything that it depends on: what is under a key
// never changes, so that nothing has to be thrown away but for room.
type key struct {
	what string
	repo int64
	of   string
}

// cache keeps what was worked out most lately, up to a total weight, in kilobytes or so. Its zero value holds nothing.
type cache struct {
	mu     sync.Mutex
	max    int
	weight int
	order  list.List // of *keptValue, newest first
	at     map[key]*list.Element
}

type keptValue struct {
	key    key
	value  any
	weight int
}

func (c *cache) get(k key) (any, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e, ok := c.at[k]
	if !ok {
		return nil, false
	}
	c.order.MoveToFront(e)
	return e.Value.(*keptValue).value, true
}

func (c *cache) put(k key, value any, weight int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.at == nil {
		c.at = map[key]*list.Element{}
	}
	if _, ok := c.at[k]; ok || weight > c.max {
		return
	}
	c.at[k] = c.order.PushFront(&keptValue{k, value, weight})
	for c.weight += weight; c.weight > c.max; {
		last := c.order.Back()
		v := c.order.Remove(last).(*keptValue)
		c.weight -= v.weight
		delete(c.at, v.key)
	}
}

// remembered returns what is kept under a key, or works it out and keeps it, weighed. Errors are not kept.
func remembered[T any](s *Service, k key, weigh func(T) int, work func() (T, error)) (T, error) {
	if v, ok := s.cache.get(k); ok {
		return v.(T), nil
	}
	v, err := work()
	if err == nil {
		s.cache.put(k, v, weigh(v))
	}
	return v, err
}

// html is what a text of a person's is laid out as. It is laid out once, however often it is read.
func (s *Service) html(text string) string {
	sum := sha256.Sum256([]byte(text))
	most := markdown.Most{TextBytes: s.bounds.MarkdownBytes, HTMLBytes: s.bounds.MarkdownHTML}
	laid, _ := remembered(s, key{"html", 0, hex.EncodeToString(sum[:])}, func(html string) int { return 1 + len(html)>>10 }, func() (string, error) { return most.HTML(text), nil })
	return laid
}

// light weighs what takes no more than a kilobyte or so, whatever it is.
func light[T any](T) int { return 1 }

// byLength weighs a list of entries of some 200 bytes each.
func byLength[T any](list []T) int { return 1 + len(list)/5 }
