package shop

import (
	"time"

	"jadetrail/core/run"
)

// Settle finishes acts that were cut short, and enters the ends of runs that wait for the trail.
func (s *Shop) Settle() error {
	out, err := s.Books.Settle()
	out.At = s.Now()
	if err == nil {
		var entered []string
		entered, err = run.Enter(s.Folder("runs"), s.Store)
		for _, id := range entered {
			out.Finished = append(out.Finished, "the end of the run "+id)
		}
	}
	if last := s.told.Load(); last != nil && out.At.Sub(last.At) < settledFor {
		out.Finished = append(last.Finished[max(0, len(last.Finished)-mostTold):], out.Finished...)
	}
	if err != nil && len(out.Waits) == 0 {
		out.Waits = append(out.Waits, "the end of a run: "+err.Error())
	}
	s.told.Store(out)
	return err
}

// settleEvery is how often it is tried to finish what was cut short, while there is anything.
const settleEvery = 5 * time.Second

// clearEvery is how often it is looked whether the day has passed until which something was to be kept.
const clearEvery = time.Hour

// settling finishes what was cut short, as soon as that is possible, and takes away what is kept no longer.
func (s *Shop) settling() {
	tick, hour := time.NewTicker(settleEvery), time.NewTicker(clearEvery)
	defer tick.Stop()
	defer hour.Stop()
	s.clearing()
	for {
		select {
		case <-s.ending:
			return
		case <-hour.C:
			s.clearing()
		case <-tick.C:
			if s.Books.Waiting() > 0 || run.Waiting(s.Folder("runs")) {
				s.Settle() // what cannot be done now is tried again; the bench tells of it
			}
		}
	}
}

// stuckFor is for how long nothing is tried again before a page, after something could not be finished.
const stuckFor = time.Second

// CatchUp finishes what waits before a page shows what is not so any more, and an act is done that
// does not know of it. What still waits then is told.
func (s *Shop) CatchUp() {
	if last := s.told.Load(); last != nil && len(last.Stuck) > 0 && s.Now().Sub(last.At) < stuckFor {
		return
	}
	if s.Books.Waiting() > 0 || run.Waiting(s.Folder("runs")) {
		s.Settle()
	}
}

// settledFor is for how long the bench tells what was finished after it had been cut short.
const settledFor = time.Hour

// mostTold is how many of what was finished the bench tells.
const mostTold = 20

// SettledLately is what became of acts that had been cut short: what was finished for a while, what
// cannot be finished as long as that is so.
func (s *Shop) SettledLately() *Settled {
	told := s.told.Load()
	if told == nil || s.Now().Sub(told.At) < settledFor {
		return told
	}
	return &Settled{At: told.At, Waits: told.Waits, Stuck: told.Stuck}
}
