package signin

import (
	"sync"
	"time"
)

// Limits bound how often somebody may be wrong: from one source, about one account, and in all. Only failures count.
// A browser that has signed in to an account before is a source of its own for it, so that strangers who try an
// account do not keep its owner out.
type Limits struct {
	mu    sync.Mutex
	wrong map[string][]time.Time
}

// Bounds of failures within span.
const (
	perSource  = 10
	perAccount = 20
	span       = 10 * time.Minute
	mostKept   = 10_000 // sources and accounts of which failures are kept
)

// NewLimits returns limits that nobody has reached.
func NewLimits() *Limits { return &Limits{wrong: map[string][]time.Time{}} }

// Attempt is one try to sign in.
type Attempt struct {
	Source  string // where it comes from
	Account string // what it is about, "" for an account that does not exist
	Known   string // the browser, where it has signed in to that account before
}

func (a Attempt) keys() map[string]int {
	if a.Known != "" {
		return map[string]int{"known " + a.Known: perSource}
	}
	return map[string]int{"source " + a.Source: perSource, "account " + a.Account: perAccount}
}

// Wait is how long an attempt has to wait, 0 for one that may be made now.
func (l *Limits) Wait(a Attempt, now time.Time) time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	longest := time.Duration(0)
	for key, most := range a.keys() {
		recent := l.recent(key, now)
		if len(recent) >= most {
			longest = max(longest, recent[len(recent)-most].Add(span).Sub(now))
		}
	}
	return longest
}

// recent are the failures that still count, the oldest first.
func (l *Limits) recent(key string, now time.Time) []time.Time {
	list := l.wrong[key]
	for len(list) > 0 && now.Sub(list[0]) >= span {
		list = list[1:]
	}
	if len(list) == 0 {
		delete(l.wrong, key)
	} else {
		l.wrong[key] = list
	}
	return list
}

// Failed notes that an attempt was wrong.
func (l *Limits) Failed(a Attempt, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.wrong) >= mostKept { // what counts no more makes room
		for key := range l.wrong {
			l.recent(key, now)
		}
		for key := range l.wrong { // and where all still counts, some of it: what is kept is bounded
			if len(l.wrong) < mostKept {
				break
			}
			delete(l.wrong, key)
		}
	}
	for key, most := range a.keys() {
		list := append(l.recent(key, now), now)
		l.wrong[key] = list[max(0, len(list)-most):]
	}
}

// Succeeded forgets what was wrong before.
func (l *Limits) Succeeded(a Attempt) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.wrong, "known "+a.Known)
}
