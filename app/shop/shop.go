package shop

import (
	"cmp"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/compare"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/words"
)

// Shop is one shop: its bays and what is in them, its jobs and their plans, its shelves, its trail. Every rule of
// the shop is a method of it, and nothing else changes any of these.
type Shop struct {
	Data       string // the data folder, an absolute path
	Store      *store.Store
	Records    trail.Records
	Coverage   compare.Store
	Desk       *work.Desk // what goes on
	Books      *Books
	ProveAfter time.Duration // how old the verification of a backup may be in whose name something is deleted
	Now        func() time.Time
	Random     io.Reader

	Keys     []ed25519.PublicKey // that have signed for the shop
	shelves  shelves
	sums     summaries
	seen     seenFinds
	chain    chain
	reserved reserved
	glances  glances
	laid     laidPlans
	lists    fileLists
	looked   lastLooked
	prints   prints
	planning sync.Mutex // held while a plan is changed, and while a run of one is begun
	told     atomic.Pointer[Settled]
	welcome  atomic.Pointer[string] // what is kept of the code for the first lead, nil for none
	ending   chan struct{}          // closed when the shop is
}

// Options say which shop is opened.
type Options struct {
	Store *store.Store
	Data  string // the data folder
	// ProveAfter is how old the verification of a backup may be in whose name something is deleted; 0 for
	// run.ProveAfter.
	ProveAfter time.Duration
	// Log is told of work that fails, and of every entry of the trail; nil for nowhere.
	Log *slog.Logger
}

// New opens a shop. What was cut short when it was last open is finished first, as far as it can be.
func New(o Options) (*Shop, error) {
	data, err := filepath.Abs(o.Data)
	if err != nil {
		return nil, err
	}
	for _, f := range []string{"dock", "drives", "handed-out", "pictures", "shelf"} {
		if err := os.MkdirAll(filepath.Join(data, f), 0o700); err != nil {
			return nil, fmt.Errorf("the data folder cannot be used: %w", err)
		}
	}
	s := &Shop{
		Data: data, Store: o.Store,
		Records:    trail.Records{Dir: filepath.Join(data, "records")},
		Coverage:   compare.Store{Dir: filepath.Join(data, "coverage")},
		Desk:       work.NewDesk(words.Sentence, cmp.Or(o.Log, slog.New(slog.DiscardHandler))),
		ProveAfter: o.ProveAfter, Now: time.Now, Random: rand.Reader,
		seen:   seenFinds{list: map[string]foundThen{}},
		sums:   summaries{list: map[string]*volume.Summary{}, last: map[string]plan.InsideFacts{}},
		ending: make(chan struct{}),
	}
	if s.Keys, err = o.Store.Keys(); err != nil {
		return nil, err
	}
	if o.Log != nil {
		o.Store.Log = o.Log
	}
	s.Books = &Books{Data: data, Store: o.Store, Shelf: s.Shelf}
	if err := errors.Join(s.ForgetUploads(), s.forgetComing()); err != nil {
		return nil, err
	}
	// What was cut short is finished before anybody can look.
	if err := s.Settle(); err != nil {
		return nil, err
	}
	go s.settling()
	return s, nil
}

// ForPeople is a shop of which only the accounts are kept, beside one that is open.
func ForPeople(st *store.Store, now func() time.Time, random io.Reader) *Shop {
	return &Shop{Store: st, Now: now, Random: random}
}

// Close stops all work at its next safe point and waits for it.
func (s *Shop) Close() {
	close(s.ending)
	s.Desk.Close()
}
