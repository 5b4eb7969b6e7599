// Package carry carries a script out on a device through a journal, so that a
// power cut at any moment loses nothing: the run is finished or undone later.
//
// The journal is written and made durable before the device is touched. It
// holds the whole script, for every operation that undo must take back what
// was there, and the hashes of all that will be moved. All operations put absolute
// contents at absolute places, so doing one twice does no harm: resume goes on from
// the last barrier that was durable, undo goes back from the end, and either may be
// cut and begun again, in either direction. Before either goes on, Prove tells whether
// the device is as the run left it.
package carry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/script"
)

// Sentinel errors.
var (
	// ErrStopped is returned when the run was stopped at a safe point on request.
	ErrStopped = errors.New("stopped at a safe point; the run can be resumed or undone")
	// ErrJournal tells that the journal itself cannot be trusted.
	ErrJournal = errors.New("the journal of the run is damaged")
	// ErrNoReturn tells that the run has begun to destroy what undo would need.
	ErrNoReturn = errors.New("the run has gone too far to be taken back; it can only be finished")
	// ErrSource tells that a backup does not hold what it should.
	ErrSource = errors.New("the backup does not hold what was recorded")
)

// Progress is how far a run is. Bytes count what is put on the device.
type Progress struct {
	// Phase is what is done before and after the carrying itself, empty for that.
	Phase string     `json:"phase,omitempty"`
	Step  int        `json:"step"` // from 0; behind the last while what was carried out is proven
	Done  disk.Bytes `json:"done"`
	Total disk.Bytes `json:"total"`
	Text  string     `json:"text"`
	// Onto is where on the device something was put just now, empty for nowhere.
	Onto disk.Range `json:"onto"`
	// Final tells that the run can only be finished from here on, and no more be taken back.
	Final bool `json:"final,omitempty"`
}

// prior is what was in a place before the run.
type prior struct {
	op   int // for whose sake it was kept
	off  disk.Bytes
	data []byte
}

// Carry is one run of a script with its journal.
type Carry struct {
	j      disk.File
	end    int64          // of the journal
	last   [sumBytes]byte // sum of the last frame
	frames uint32
	script script.Script
	priors []prior
	sums   []byte     // of the atoms, in their order
	passed int        // everything before this operation is done,
	within disk.Bytes // and this much of it, where it is a move
	state  byte
	marked bool // something may have been written
	turned bool // undo was begun once, so that any place that it leaves as it is may hold anything
	unsure unsure
	// Seen, where it is set, is given what was filled in, as it is read back past the page
	// cache after it was made durable; that goes on while more is filled in, and several
	// calls may be under way at once.
	Seen func(off disk.Bytes, b []byte) error
	// ReadBack is how long was spent on reading back what was moved, by Now; 0 without it.
	ReadBack time.Duration
	Now      func() time.Time
	// there are what is moved on its way: one is filled, one waits, one is written, one is
	// being taken; back is what is read back.
	there [4][]byte
	back  [2][]byte
	// While a journal is begun its frames are gathered before they are written.
	gathering bool
	pending   []byte
}

// Script returns what the run does.
func (c *Carry) Script() script.Script { return c.script }

// Done tells that the script was carried out, or taken back.
func (c *Carry) Done() bool { return c.state == frameDone || c.state == frameUndone }

// Forward carries the script out, from the last durable barrier on. It stops
// between two operations when ctx is done (ErrStopped). A sync that fails ends
// the run and is not tried again.
func (c *Carry) Forward(ctx context.Context, dev disk.Device, sources map[string]io.ReaderAt, report func(Progress)) error {
	if c.state == frameDone {
		return nil
	}
	if c.state == frameUndone { // it begins again; from now on there is something to take back
		if err := c.mark(framePassed, 0, 0); err != nil {
			return err
		}
		c.state = 0
	}
	c.unsure = unsure{}
	p := Progress{
		Total: c.script.Rewritten(), Done: c.script[:c.passed].Rewritten() + c.within,
		Final: slices.ContainsFunc(c.script[:c.passed], func(op script.Op) bool { return op.Kind == script.NoReturn }),
	}
	last := -1 // move that was done
	for i := c.passed; i < len(c.script); i++ {
		if ctx.Err() != nil {
			return ErrStopped
		}
		op := c.script[i]
		p.Step, p.Onto = op.Step, disk.Range{}
		if op.Kind == script.Move {
			within := disk.Bytes(0)
			if i == c.passed {
				within = c.within
			}
			if err := c.shift(ctx, dev, i, within, false, p.telling(report)); err != nil {
				return err
			}
			last = i
			continue
		}
		// Undo must know whether what it takes back behind a move was begun.
		var err error
		if op.Kind == script.Hole && !op.Keep {
			err = c.guard(dev, disk.Range{Start: op.Off, End: op.Off + op.Len}, i, 0)
		} else if last >= c.passed {
			err = c.settle(dev, i, 0)
		}
		if err != nil {
			return err
		}
		if op.Kind == script.Fill {
			end := i + 1
			for end < len(c.script) && c.script[end].Kind == script.Fill {
				end++
			}
			if err := c.fill(ctx, dev, c.script[i:end], sources, &p, report); err != nil {
				return err
			}
			i = end - 1
			continue
		}
		if err := c.do(dev, op, &p); err != nil {
			return err
		}
		if op.Kind == script.Barrier || op.Kind == script.NoReturn {
			if err := dev.Sync(); err != nil {
				return fmt.Errorf("the drive could not make its writes durable: %w", err)
			}
			if err := c.mark(framePassed, i+1, 0); err != nil {
				return err
			}
			p.Text, p.Final = op.Text, p.Final || op.Kind == script.NoReturn
		}
		if report != nil {
			report(p)
		}
	}
	if err := c.settle(dev, len(c.script), 0); err != nil {
		return err
	}
	return c.mark(frameDone, len(c.script), 0)
}

func (c *Carry) do(dev disk.Device, op script.Op, p *Progress) error {
	switch op.Kind {
	case script.Write:
		if _, err := dev.WriteAt(op.Data, int64(op.Off)); err != nil {
			return err
		}
		p.Done, p.Onto = p.Done+op.Len, op.Onto()
	case script.Hole:
		p.Onto = op.Onto()
		return dev.Zero(op.Off, op.Len)
	}
	return nil
}

// teller is told where something was put, and how much of that counts.
type teller func(onto disk.Range, n disk.Bytes)

// telling adds what is put somewhere to the progress, and reports it.
func (p *Progress) telling(report func(Progress)) teller {
	return func(onto disk.Range, n disk.Bytes) {
		p.Onto, p.Done = onto, p.Done+n
		if report != nil {
			report(*p)
		}
	}
}

// Back takes the run back: what the journal kept is put in its place again, the
// latest first. Nobody was promised what lay where a backup was filled in, so it
// stays as it is. Only a failing device stops it.
func (c *Carry) Back(dev disk.Device, report func(Progress)) error {
	if c.state == frameUndone {
		return nil
	}
	for i, op := range c.script[:c.passed] {
		if op.Kind == script.NoReturn {
			return fmt.Errorf("%w: step %d", ErrNoReturn, c.script[i].Step+1)
		}
	}
	// From here on what can be taken back in one go counts as not done: doing it again, or
	// taking it back again, does no harm. A move is different, and is taken back piece by
	// piece; nothing behind the first one that is not done was ever begun.
	c.unsure = unsure{}
	i, within := c.passed, c.within
	if within == 0 {
		for i < len(c.script) && c.script[i].Kind != script.Move {
			i++
		}
		i--
	}
	start, part := c.passed, within
	if within == 0 {
		start = c.group(c.passed)
	}
	if err := c.mark(frameBack, start, part); err != nil {
		return err
	}
	p := Progress{Text: "taking back", Total: within}
	if p.Total == 0 {
		p.Total = moved(c.script[:i+1])
	} else {
		p.Total += moved(c.script[:i])
	}
	next := 0
	for next < len(c.priors) && c.priors[next].op <= i {
		p.Total += disk.Bytes(len(c.priors[next].data))
		next++
	}
	tell := p.telling(report)
	// Barriers hold on the way back too, in their reverse order: what the last
	// one guarded is taken back and durable before the one before it.
	for ; i >= 0; i-- {
		op := c.script[i]
		switch {
		case op.Kind == script.Move:
			if within == 0 || i != c.passed { // all of it was done, and what came behind is taken back
				within = op.Len
				if err := c.settle(dev, i, within); err != nil {
					return err
				}
			}
			if err := c.shift(context.Background(), dev, i, within, true, tell); err != nil {
				return err
			}
			within = 0
			before, done := c.group(i), disk.Bytes(0)
			if before == i && i > 0 { // another move stands right before it
				before, done = i-1, c.script[i-1].Len
			}
			if err := c.settle(dev, before, done); err != nil {
				return err
			}
		case op.Kind == script.Barrier || op.Kind == script.NoReturn:
			if err := dev.Sync(); err != nil {
				return err
			}
		case op.Keep:
			first := next
			for first > 0 && c.priors[first-1].op == i {
				first--
			}
			if err := restore(dev, op, c.priors[first:next]); err != nil {
				return err
			}
			for _, x := range c.priors[first:next] {
				p.Done += disk.Bytes(len(x.data))
			}
			tell(op.Onto(), 0)
			next = first
		}
	}
	if err := dev.Sync(); err != nil {
		return err
	}
	return c.mark(frameUndone, 0, 0)
}

// restore puts back what a place held: its data, and holes between.
func restore(dev disk.Device, op script.Op, priors []prior) error {
	at := op.Off
	for _, x := range priors {
		if x.off > at {
			if err := dev.Zero(at, x.off-at); err != nil {
				return err
			}
		}
		if _, err := dev.WriteAt(x.data, int64(x.off)); err != nil {
			return err
		}
		at = x.off + disk.Bytes(len(x.data))
	}
	if end := op.Onto().End; at < end {
		return dev.Zero(at, end-at)
	}
	return nil
}
