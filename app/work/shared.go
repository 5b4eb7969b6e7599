package work

import "sync"

// Shared has something worked out once for all who ask for it while it waits to be begun. Nobody gets what was begun
// before they asked, so that everybody sees what was true afterwards.
type Shared[T any] struct {
	mu            sync.Mutex
	running, next *turn[T]
}

// turn is one working out, for all who wait for it.
type turn[T any] struct {
	done  chan struct{}
	value T
	err   error
}

// Do returns what f says, or what the f of somebody else says who asks for the same at the same time.
func (s *Shared[T]) Do(f func() (T, error)) (T, error) {
	s.mu.Lock()
	mine, before := s.next, s.running
	if mine != nil { // whoever asked first has it worked out
		s.mu.Unlock()
		<-mine.done
		return mine.value, mine.err
	}
	mine = &turn[T]{done: make(chan struct{}), err: ErrMistake}
	s.next = mine
	s.mu.Unlock()
	if before != nil {
		<-before.done
	}
	s.mu.Lock()
	s.running, s.next = mine, nil
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		if s.running == mine {
			s.running = nil
		}
		s.mu.Unlock()
		close(mine.done)
	}()
	mine.value, mine.err = f()
	return mine.value, mine.err
}
