package carry

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"jadetrail/core/disk"
	"jadetrail/core/script"
)

// ErrMoved tells that what was moved reads back as something else. What it was made from
// is still there.
var ErrMoved = errors.New("what was moved reads back as something else")

// settleEvery is after how much that was moved it is made durable at the latest.
const settleEvery = 256 * disk.MiB

// around is the smallest range that has both in it; an empty one does not count.
func around(s, t disk.Range) disk.Range {
	if s.Len() == 0 {
		return t
	}
	return disk.Range{Start: min(s.Start, t.Start), End: max(s.End, t.End)}
}

// unsure is what was moved since all was last made durable. Nothing may be written to
// where that came from: a power cut may lose the copy.
type unsure struct {
	from, to disk.Range
	pieces   []movedPiece
	bytes    disk.Bytes
}

type movedPiece struct {
	off, n disk.Bytes
	sum    [32]byte
}

// settle makes durable what was moved, reads it back past the page cache, and notes how far
// the run is: everything before the operation i, and of that within bytes, is done; nothing
// behind it is, or it can be done again.
func (c *Carry) settle(dev disk.Device, i int, within disk.Bytes) error {
	if err := dev.Sync(); err != nil {
		return fmt.Errorf("the drive could not make its writes durable: %w", err)
	}
	var began time.Time
	if c.Now != nil {
		began = c.Now()
	}
	if err := c.compared(dev, c.unsure.pieces); err != nil {
		return err
	}
	if c.Now != nil {
		c.ReadBack += c.Now().Sub(began)
	}
	c.unsure = unsure{pieces: c.unsure.pieces[:0]}
	return c.mark(framePassed, i, within)
}

// compared reads pieces back past the page cache, two at a time.
func (c *Carry) compared(dev disk.Device, pieces []movedPiece) error {
	var all errgroup.Group
	var next atomic.Int64
	for k := range c.back {
		all.Go(func() error {
			for {
				i := int(next.Add(1)) - 1
				if i >= len(pieces) {
					return nil
				}
				m := pieces[i]
				b, err := disk.Fresh(dev, m.off, m.n, c.back[k])
				if err != nil {
					return err
				}
				if cap(b) > cap(c.back[k]) {
					c.back[k] = b[:cap(b)]
				}
				if blake3.Sum256(b) != m.sum {
					return fmt.Errorf("%w: %d bytes at %d", ErrMoved, m.n, m.off)
				}
			}
		})
	}
	return all.Wait()
}

// guard is called before a stretch is written to.
func (c *Carry) guard(dev disk.Device, s disk.Range, i int, within disk.Bytes) error {
	if s.Meets(c.unsure.from) || s.Meets(c.unsure.to) || c.unsure.bytes >= settleEvery {
		return c.settle(dev, i, within)
	}
	return nil
}

// shift does a move, or takes it back, from where it stands: within bytes of it are done. A
// piece is never longer than what it is moved by, so that what it was made from outlives it.
func (c *Carry) shift(ctx context.Context, dev disk.Device, i int, within disk.Bytes, back bool, tell teller) error {
	op := c.script[i]
	from, to := op.From, op.Off
	up := to < from // done from the start on
	lo, hi := within, op.Len
	if !up {
		lo, hi = 0, op.Len-within
	}
	if back {
		from, to = to, from
		if lo, hi = 0, within; !up {
			lo, hi = op.Len-within, op.Len
		}
		up = !up
	}
	longest := min(max(to-from, from-to), morsel)
	if longest == 0 || lo >= hi {
		return nil
	}
	pieces, leave := c.onTheWay(dev, from, lo, hi, longest, up)
	defer leave()
	for p := range pieces {
		if p.err != nil {
			return p.err
		}
		if ctx.Err() != nil {
			if err := c.settle(dev, i, within); err != nil {
				return err
			}
			return ErrStopped
		}
		src, dst := disk.Range{Start: from + p.at, End: from + p.at + p.n}, disk.Range{Start: to + p.at, End: to + p.at + p.n}
		if err := c.guard(dev, dst, i, within); err != nil {
			return err
		}
		if p.data == nil {
			if err := dev.Zero(dst.Start, p.n); err != nil {
				return err
			}
		} else {
			if _, err := dev.WriteAt(p.data, int64(dst.Start)); err != nil {
				return err
			}
			disk.Hurry(dev, dst.Start, p.n)
			c.unsure.pieces = append(c.unsure.pieces, movedPiece{dst.Start, p.n, p.sum})
			c.unsure.bytes += p.n
		}
		c.unsure.from, c.unsure.to = around(c.unsure.from, src), around(c.unsure.to, dst)
		if within += p.n; back {
			within -= 2 * p.n
		}
		tell(dst, p.n)
	}
	return nil
}

// extents are the stretches of a range that hold data.
func extents(dev disk.Device, from, to disk.Bytes) []disk.Range {
	var out []disk.Range
	for at := from; at < to; {
		s, e, ok := dev.Data(at)
		if !ok || s >= to {
			break
		}
		out = append(out, disk.Range{Start: max(s, at), End: min(e, to)})
		at = e
	}
	return out
}

// group is the first of the operations before i that no move lies between.
func (c *Carry) group(i int) int {
	for i > 0 && c.script[i-1].Kind != script.Move {
		i--
	}
	return i
}

// moved is how much a script moves.
func moved(s script.Script) (n disk.Bytes) {
	for _, op := range s {
		if op.Kind == script.Move {
			n += op.Len
		}
	}
	return n
}

// morsel is the most that is moved in one go, and three of them are read ahead.
const morsel = 4 * disk.MiB

// carried is a piece of what is moved, on its way; data is nil for a hole.
type carried struct {
	at, n disk.Bytes // counted from where the move takes it
	data  []byte
	sum   [32]byte
	err   error
}

// onTheWay reads the pieces from lo to hi of what lies at from, the first or the last first,
// while those before are written: no piece is written to where a later one comes from. leave
// ends it.
func (c *Carry) onTheWay(dev disk.Device, from, lo, hi, longest disk.Bytes, up bool) (<-chan carried, func()) {
	out, left := make(chan carried, 1), make(chan struct{})
	var done sync.WaitGroup
	done.Go(func() {
		defer close(out)
		data := extents(dev, from+lo, from+hi)
		for k := 0; lo < hi; k++ {
			p := carried{at: lo, n: hi - lo}
			hole := len(data) == 0
			if up && !hole {
				if d := data[0]; d.Start > from+lo {
					hole, p.n = true, d.Start-from-lo
				} else if p.n = min(longest, d.End-from-lo); from+lo+p.n == d.End {
					data = data[1:]
				}
			} else if !hole {
				if d := data[len(data)-1]; d.End < from+hi {
					hole, p.n = true, from+hi-d.End
				} else if p.n = min(longest, from+hi-d.Start); from+hi-p.n == d.Start {
					data = data[:len(data)-1]
				}
				p.at = hi - p.n
			}
			if !hole {
				b := &c.there[k%len(c.there)]
				if disk.Bytes(len(*b)) < p.n {
					*b = make([]byte, longest)
				}
				p.data = (*b)[:p.n]
				if _, p.err = dev.ReadAt(p.data, int64(from+p.at)); p.err == nil {
					p.sum = blake3.Sum256(p.data)
				}
			}
			if up {
				lo += p.n
			} else {
				hi -= p.n
			}
			select {
			case out <- p:
			case <-left:
				return
			}
			if p.err != nil {
				return
			}
		}
	})
	return out, func() { close(left); done.Wait() }
}

// former is a device as it was before a run, of which so much is done.
type former struct {
	disk.Device
	moves []script.Op // that were done, the last perhaps in part
}

// Former is the device as it was before the run, as far as moves go: what was moved is read
// where it lies now. Only for looking at it; what else the run wrote reads as it is now.
func (c *Carry) Former(dev disk.Device) disk.Device {
	f := &former{Device: dev}
	for i, op := range c.script {
		if op.Kind != script.Move || i > c.passed {
			continue
		}
		if i == c.passed { // in part: from the start on, or from the end
			if op.Off > op.From {
				op.From, op.Off = op.From+op.Len-c.within, op.Off+op.Len-c.within
			}
			op.Len = c.within
		}
		if op.Len > 0 {
			f.moves = append(f.moves, op)
		}
	}
	return f
}

// where is where a place lies now, and for how many bytes at least that holds.
func (f *former) where(off, n disk.Bytes) (disk.Bytes, disk.Bytes) {
	at := off
	for _, m := range f.moves {
		switch {
		case at >= m.From && at < m.From+m.Len:
			n = min(n, m.From+m.Len-at)
			at += m.Off - m.From
		case at < m.From:
			n = min(n, m.From-at)
		}
	}
	return at, n
}

// ReadAt implements io.ReaderAt.
func (f *former) ReadAt(b []byte, off int64) (int, error) {
	done := 0
	for done < len(b) {
		at, n := f.where(disk.Bytes(off)+disk.Bytes(done), disk.Bytes(len(b)-done))
		k, err := f.Device.ReadAt(b[done:done+int(n)], int64(at))
		if done += k; err != nil {
			return done, err
		}
	}
	return done, nil
}

// Data implements disk.Device; nothing is known of holes.
func (f *former) Data(off disk.Bytes) (disk.Bytes, disk.Bytes, bool) {
	return off, f.Size(), off < f.Size()
}

// WriteAt implements io.WriterAt: nothing can be written.
func (f *former) WriteAt([]byte, int64) (int, error) { return 0, disk.ErrReadOnly }

// Zero implements disk.Device: nothing can be written.
func (f *former) Zero(disk.Bytes, disk.Bytes) error { return disk.ErrReadOnly }
