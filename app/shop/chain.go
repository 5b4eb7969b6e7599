package shop

import (
	"context"
	"errors"
	"sync"
	"time"

	"jadetrail/core/trail"
)

// chain is what is known of whether the trail is whole. It is checked from its first entry on
// beside the pages, which show what the latest check has found.
type chain struct {
	mu      sync.Mutex
	running chan struct{} // closed when the check that goes on has ended, nil for none
	checked int64
	report  *trail.Report
	trouble string
	at      time.Time
	head    string // of the trail, when that check began
	took    time.Duration
}

// fresh is for how long a check of a trail that has not grown is shown without a new one; a check that took long is
// shown for rest times as long as it took, so that checking leaves the machine to those who work.
const (
	fresh = 10 * time.Second
	rest  = 20
)

// due tells that the chain is to be checked anew by itself. Where its head is another one since, a short check is
// made at once; the pages tell how many entries a longer one has not seen yet.
func (k *chain) due(head string, now time.Time) bool {
	switch {
	case k.report == nil || k.trouble != "":
		return true
	case k.head != head && k.took < waitForChain:
		return true
	}
	return now.Sub(k.at) > max(fresh, rest*k.took)
}

// checkChain begins a check where none goes on and the last is not of now.
func (s *Shop) checkChain(again bool) (*chain, <-chan struct{}) {
	k := &s.chain
	k.mu.Lock()
	defer k.mu.Unlock()
	_, head, err := s.Store.Head()
	if k.running == nil && (again || err != nil || k.due(head, s.Now())) {
		done := make(chan struct{})
		k.running, k.checked, k.head = done, 0, head
		began := time.Now()
		go func() {
			var r *trail.Report
			heads, err := s.KeptHeads()
			if err == nil {
				err = s.Store.LearnWords()
			}
			if err == nil {
				r, err = s.Store.Verify(context.Background(), heads, func(n int64) {
					k.mu.Lock()
					k.checked = n
					k.mu.Unlock()
				})
			}
			k.mu.Lock()
			defer k.mu.Unlock()
			if k.running, k.at, k.trouble, k.took = nil, s.Now(), "", time.Since(began); err != nil {
				k.trouble = err.Error()
			} else {
				k.report = r
			}
			close(done)
		}()
	}
	return k, k.running
}

// verify checks the trail against the heads that were kept of it.
func (s *Shop) verify(ctx context.Context) (*trail.Report, error) {
	k, running := s.checkChain(true)
	if running != nil {
		select {
		case <-running:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.trouble != "" {
		return nil, errors.New(k.trouble)
	}
	return k.report, nil
}

// ChainBroken tells that the latest check has found the trail not whole.
func (s *Shop) ChainBroken() bool {
	s.chain.mu.Lock()
	defer s.chain.mu.Unlock()
	return s.chain.report != nil && !s.chain.report.Sound()
}

// ChainView is the state of the chain for a page.
type ChainView struct {
	Report  *trail.Report
	At      time.Time
	Running bool
	Checked int64
	Trouble string
	After   int64 // entries since the newest head that was kept
	New     int64 // entries that the check has not seen
}

// waitForChain is for how long a page waits for a check: one of a few thousand entries is done
// by then.
const waitForChain = 250 * time.Millisecond

func (s *Shop) ChainNow(again bool) ChainView {
	k, running := s.checkChain(again)
	k.mu.Lock()
	short, most := k.took < waitForChain, waitForChain // as the last one was, if there was one
	if k.report == nil {
		most = 4 * waitForChain
	}
	k.mu.Unlock()
	if running != nil && short {
		select {
		case <-running:
		case <-time.After(most):
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	v := ChainView{Report: k.report, At: k.at, Running: k.running != nil, Checked: k.checked}
	if !v.Running { // while it is checked again, nobody knows
		v.Trouble = k.trouble
	}
	if v.Report != nil {
		v.After = v.Report.Entries - v.Report.Kept
		if seq, _, err := s.Store.Head(); err == nil {
			v.New = max(seq-v.Report.Entries, 0)
		}
	}
	return v
}

// headsNote is the file on the shelf in which heads of the trail are kept.
const headsNote = "heads.jsonl"

// KeptHeads reads the heads that were kept on the shelf, in whatever place.
func (s *Shop) KeptHeads() ([]trail.Head, error) {
	notes, err := s.Shelf().Notes(headsNote)
	var out []trail.Head
	seen := map[trail.Head]bool{}
	for _, b := range notes {
		heads, _ := trail.ParseHeads(b)
		for _, h := range heads {
			if !seen[h] {
				seen[h] = true
				out = append(out, h)
			}
		}
	}
	if len(out) > 0 {
		err = nil // one place that can be read is enough
	}
	return out, err
}

// keepHead signs the head of the trail and keeps it on the shelf.
func (s *Shop) keepHead() error {
	if s.Store.Key == nil {
		return nil
	}
	seq, hash, err := s.Store.Head()
	if err != nil || seq == 0 {
		return err
	}
	notes, err := s.Shelf().Notes(headsNote)
	var b []byte
	for _, n := range notes { // the longest: a place may have missed some
		if len(n) > len(b) {
			b = n
		}
	}
	if b == nil && err != nil {
		return err
	}
	if b, err = trail.AddHead(b, trail.SignHead(seq, hash, s.Now(), s.Store.Key)); err != nil {
		return err
	}
	return s.Shelf().KeepNote(headsNote, b)
}
