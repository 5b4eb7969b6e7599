package work

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// TestShared has many ask at once: one works it out for those who came before it began, and nobody gets what was begun
// before they asked.
func TestShared(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var s Shared[int64]
		var now, turns atomic.Int64 // what is true, and how often it was worked out
		look := func() (int64, error) {
			turns.Add(1)
			seen := now.Load()
			time.Sleep(time.Second)
			return seen, nil
		}
		var all sync.WaitGroup
		for i := range 50 {
			all.Go(func() {
				time.Sleep(time.Duration(i) * 40 * time.Millisecond)
				asked := now.Add(1)
				if got, err := s.Do(look); err != nil || got < asked {
					t.Errorf("asked at %d and told of %d, %v", asked, got, err)
				}
			})
		}
		all.Wait()
		if n := turns.Load(); n != 3 {
			t.Errorf("worked out %d times in two seconds, of one second each", n)
		}
	})
}

// TestSharedFails gives an error to all who waited, works it out anew for the next, and survives a mistake.
func TestSharedFails(t *testing.T) {
	var s Shared[string]
	wrong := errors.New("not to be had")
	if _, err := s.Do(func() (string, error) { return "", wrong }); !errors.Is(err, wrong) {
		t.Errorf("%v", err)
	}
	func() {
		defer func() {
			if recover() == nil {
				t.Error("the mistake was swallowed")
			}
		}()
		s.Do(func() (string, error) { panic("a mistake") })
	}()
	if got, err := s.Do(func() (string, error) { return "there", nil }); got != "there" || err != nil {
		t.Errorf("afterwards: %q, %v", got, err)
	}
}
