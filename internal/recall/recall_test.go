package recall

import (
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
)

func TestErrorsAreNotRemembered(t *testing.T) {
	m, worked := New(), 0
	work := func() (int, error) {
		worked++
		if worked == 1 {
			return 0, errors.New("not yet")
		}
		return worked, nil
	}
	for range 3 {
		Of(m, Key{"x", 1, ""}, Light, work)
	}
	if worked != 2 {
		t.Errorf("it worked %d times: an error is not kept, an answer is", worked)
	}
}

// Many who ask at once wait for one who works it out.
func TestWorkedOutOnceAtATime(t *testing.T) {
	m, worked := New(), atomic.Int64{}
	begun, done := make(chan struct{}), make(chan struct{})
	var asking sync.WaitGroup
	for range 20 {
		asking.Go(func() {
			v, err := Of(m, Key{"x", 1, "y"}, Light, func() (int, error) {
				if worked.Add(1) == 1 {
					close(begun)
					<-done
				}
				return 7, nil
			})
			if v != 7 || err != nil {
				t.Errorf("got %d, %v", v, err)
			}
		})
	}
	<-begun
	close(done)
	asking.Wait()
	if n := worked.Load(); n != 1 {
		t.Errorf("worked out %d times", n)
	}
}

// However much is asked for, no more is kept than there is room for.
func TestRoomIsBounded(t *testing.T) {
	m := newSized(100)
	for n := range 1000 {
		Keep(m, Key{"files", 1, fmt.Sprint(n)}, 10, n)
	}
	m.cache.CleanUp()
	if w := m.cache.WeightedSize(); w > 100 {
		t.Errorf("it weighs %d", w)
	}
	Keep(m, Key{"files", 2, ""}, 1000, 1)
	m.cache.CleanUp()
	if _, ok := Found[int](m, Key{"files", 2, ""}); ok {
		t.Error("what is too heavy is kept")
	}
}

func TestWhatIsUnderAKeyStays(t *testing.T) {
	m := New()
	Keep(m, Key{"x", 1, ""}, 1, "first")
	Keep(m, Key{"x", 1, ""}, 1, "second")
	if v, _ := Found[string](m, Key{"x", 1, ""}); v != "first" {
		t.Errorf("it became %q", v)
	}
	if _, ok := Found[string](m, Key{"x", 2, ""}); ok {
		t.Error("another repository's is found")
	}
}
