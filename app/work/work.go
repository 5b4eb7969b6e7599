// Package work runs long work in the background, one piece at a time for each
// drive, and lets any number of pages watch it.
package work

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"jadetrail/core/disk"
)

// ErrBusy is returned when there is work on the drive already.
var ErrBusy = errors.New("this drive is being worked on; wait until that is done, or stop it")

// State of a piece of work, for people to watch.
type State struct {
	Kind  string     `json:"kind"` // back-up, verify-backup, rehearse, carry-out, resume, undo
	Title string     `json:"title"`
	Phase string     `json:"phase"`
	Step  int        `json:"step"` // of the plan that is carried out, from 1; 0 before the first and for what has none
	Done  disk.Bytes `json:"done"`
	Total disk.Bytes `json:"total"`
	Began time.Time  `json:"began"`
	// Since is when the present part of the work began, and From how much was done then.
	Since time.Time  `json:"-"`
	From  disk.Bytes `json:"-"`
	Ended *time.Time `json:"ended,omitempty"`
	// Written is where on the drive the present step has put something, the smallest places left out where there are
	// many, and Final that the work can only be finished from here on.
	Written disk.Set `json:"written,omitempty"`
	Final   bool     `json:"final,omitempty"`
	Trouble string   `json:"trouble,omitempty"`
	Outcome string   `json:"outcome,omitempty"`
}

// Update is what work reports about itself.
type Update struct {
	Phase       string
	Step        int
	Done, Total disk.Bytes
	Onto        disk.Range // where on the drive something was put just now
	Final       bool       // it can only be finished from here on
}

// Bounds of what is told of the places that were written to.
const (
	mostPlaces = 200
	drawable   = disk.MiB // smaller ones are not told beyond half of that
)

// writes puts down where the work has written, of the present step alone. The states that were handed out keep
// what they tell.
func (s *State) writes(u Update) {
	if u.Step != s.Step {
		s.Written = nil
	}
	most := mostPlaces
	if u.Onto.Len() < drawable {
		most /= 2
	}
	if next := slices.Clone(s.Written).Put(u.Onto); len(next) <= max(most, len(s.Written)) {
		s.Written = next
	}
}

// Func is a piece of work. It returns what came of it.
type Func func(ctx context.Context, report func(Update)) (outcome string, err error)

// ErrMistake ends work in which the program itself made a mistake. The other drives' work goes on.
var ErrMistake = errors.New("the program made a mistake and broke this off; what it is, stands in its log. " +
	"Nothing is known of how far it came: look at the drive as it is now")

// do does the work. A mistake of the program is an error of this work alone.
func (f Func) do(ctx context.Context, log *slog.Logger, report func(Update)) (outcome string, err error) {
	defer func() {
		if r := recover(); r != nil {
			log.Error("mistake", "what", fmt.Sprint(r), "stack", string(debug.Stack()))
			outcome, err = "", ErrMistake
		}
	}()
	return f(ctx, report)
}

// Desk holds the work of all drives.
type Desk struct {
	mu    sync.Mutex
	items map[string]*item
	wg    sync.WaitGroup
	ctx   context.Context
	stop  context.CancelFunc
	word  func(error) string
	log   *slog.Logger
}

type item struct {
	state State
	stop  context.CancelFunc
	watch map[chan State]bool
}

// NewDesk returns an empty desk; word makes an error a sentence, and log is told how work ends.
func NewDesk(word func(error) string, log *slog.Logger) *Desk {
	ctx, stop := context.WithCancel(context.Background())
	return &Desk{items: map[string]*item{}, ctx: ctx, stop: stop, word: word, log: log}
}

// Start begins work on the drive named by key.
func (d *Desk) Start(key, kind, title string, f Func) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.ctx.Err() != nil {
		return errors.New("the application is being stopped")
	}
	if it := d.items[key]; it != nil && it.state.Ended == nil {
		return ErrBusy
	}
	ctx, stop := context.WithCancel(d.ctx)
	it := &item{
		state: State{Kind: kind, Title: title, Phase: "beginning", Began: time.Now()}, stop: stop,
		watch: map[chan State]bool{},
	}
	if old := d.items[key]; old != nil {
		it.watch = old.watch
	}
	d.items[key] = it
	d.wg.Go(func() {
		defer stop()
		outcome, err := f.do(ctx, d.log, func(u Update) {
			d.change(it, func(s *State) {
				if s.Total != u.Total || u.Done < s.Done || s.Since.IsZero() {
					s.Since, s.From = time.Now(), u.Done
				}
				s.writes(u)
				s.Phase, s.Step, s.Done, s.Total, s.Final = u.Phase, u.Step, u.Done, u.Total, u.Final
			})
		})
		level := slog.LevelInfo
		if err != nil {
			level = slog.LevelWarn
		}
		d.log.Log(
			ctx, level, "work ended", "work", kind, "title", title, "took",
			time.Since(it.state.Began).Round(time.Millisecond), "outcome", outcome, "error", err,
		)
		d.change(it, func(s *State) {
			now := time.Now()
			s.Ended, s.Outcome = &now, outcome
			switch {
			case errors.Is(err, context.Canceled) && ctx.Err() != nil:
				s.Trouble = "It was stopped."
			case err != nil:
				s.Trouble = d.word(err)
			}
		})
	})
	return nil
}

func (d *Desk) change(it *item, f func(*State)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f(&it.state)
	for c := range it.watch {
		select { // the newest state is what counts: an unread older one is replaced
		case <-c:
		default:
		}
		c <- it.state
	}
}

// State returns the drive's present or last work.
func (d *Desk) State(key string) (State, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	it := d.items[key]
	if it == nil {
		return State{}, false
	}
	return it.state, true
}

// Busies is the work that is going on, in the order in which it began.
func (d *Desk) Busies() []State {
	d.mu.Lock()
	defer d.mu.Unlock()
	var out []State
	for _, it := range d.items {
		if it.state.Ended == nil {
			out = append(out, it.state)
		}
	}
	slices.SortFunc(out, func(a, b State) int { return a.Began.Compare(b.Began) })
	return out
}

// Busy tells whether work is going on.
func (d *Desk) Busy(key string) bool {
	s, ok := d.State(key)
	return ok && s.Ended == nil
}

// Watch returns a channel with the newest state of the drive's work, and a
// function to end watching.
func (d *Desk) Watch(key string) (<-chan State, func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := make(chan State, 1)
	it := d.items[key]
	if it == nil {
		it = &item{watch: map[chan State]bool{}}
		now := time.Now()
		it.state.Ended = &now
		d.items[key] = it
	}
	c <- it.state // that there is no work is worth knowing too: the program may have been started anew
	it.watch[c] = true
	return c, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if it := d.items[key]; it != nil {
			delete(it.watch, c)
		}
	}
}

// Forget clears what is said of work that has ended.
func (d *Desk) Forget(key string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if it := d.items[key]; it != nil && it.state.Ended != nil {
		it.state = State{Ended: it.state.Ended}
	}
}

// Stop asks the drive's work to stop at the next safe point.
func (d *Desk) Stop(key string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if it := d.items[key]; it != nil && it.stop != nil {
		it.stop()
	}
}

// Close stops all work at its next safe point and waits for it.
func (d *Desk) Close() {
	d.stop()
	d.wg.Wait()
}
