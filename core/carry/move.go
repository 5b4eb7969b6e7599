package carry

import (
	"context"
	"errors"
	"fmt"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/script"
)

// ErrMoved tells that what was moved reads back as something else. What it was made from
// is still there.
var ErrMoved = errors.New("what was moved reads back as something else")

// settleEvery is after how much that was moved it is made durable at the latest.
const settleEvery = 256 * disk.MiB

// stretch is the bytes from the first to, not included, the second.
type stretch [2]disk.Bytes

func (s stretch) meets(t stretch) bool { return s[0] < t[1] && t[0] < s[1] }

func (s stretch) with(t stretch) stretch {
	if s[0] == s[1] {
		return t
	}
	return stretch{min(s[0], t[0]), max(s[1], t[1])}
}

// unsure is what was moved since all was last made durable. Nothing may be written to
// where that came from: a power cut may lose the copy.
type unsure struct {
	from, to stretch
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
	var buf []byte
	for _, m := range c.unsure.pieces {
		b, err := disk.Fresh(dev, m.off, m.n, buf)
		if err != nil {
			return err
		}
		if buf = b; blake3.Sum256(b) != m.sum {
			return fmt.Errorf("%w: %d bytes at %d", ErrMoved, m.n, m.off)
		}
	}
	c.unsure = unsure{pieces: c.unsure.pieces[:0]}
	return c.mark(framePassed, i, within)
}

// guard is called before a stretch is written to.
func (c *Carry) guard(dev disk.Device, s stretch, i int, within disk.Bytes) error {
	if s.meets(c.unsure.from) || s.meets(c.unsure.to) || c.unsure.bytes >= settleEvery {
		return c.settle(dev, i, within)
	}
	return nil
}

// shift does a move, or takes it back, from where it stands: within bytes of it are done. A
// piece is never longer than what it is moved by, so that what it was made from outlives it.
func (c *Carry) shift(ctx context.Context, dev disk.Device, i int, within disk.Bytes, back bool, report func(n disk.Bytes)) error {
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
	longest := min(max(to-from, from-to), piece)
	if longest == 0 || lo >= hi {
		return nil
	}
	data := extents(dev, from+lo, from+hi)
	buf := make([]byte, longest)
	for lo < hi {
		if ctx.Err() != nil {
			if err := c.settle(dev, i, within); err != nil {
				return err
			}
			return ErrStopped
		}
		at, n, hole := lo, hi-lo, len(data) == 0
		if up && !hole {
			if d := data[0]; d[0] > from+lo {
				hole, n = true, d[0]-from-lo
			} else if n = min(longest, d[1]-from-lo); from+lo+n == d[1] {
				data = data[1:]
			}
		} else if !hole {
			if d := data[len(data)-1]; d[1] < from+hi {
				hole, n = true, from+hi-d[1]
			} else if n = min(longest, from+hi-d[0]); from+hi-n == d[0] {
				data = data[:len(data)-1]
			}
			at = hi - n
		}
		src, dst := stretch{from + at, from + at + n}, stretch{to + at, to + at + n}
		if err := c.guard(dev, dst, i, within); err != nil {
			return err
		}
		if hole {
			if err := dev.Zero(dst[0], n); err != nil {
				return err
			}
		} else {
			if _, err := dev.ReadAt(buf[:n], int64(src[0])); err != nil {
				return err
			}
			if _, err := dev.WriteAt(buf[:n], int64(dst[0])); err != nil {
				return err
			}
			c.unsure.pieces = append(c.unsure.pieces, movedPiece{dst[0], n, blake3.Sum256(buf[:n])})
			c.unsure.bytes += n
		}
		c.unsure.from, c.unsure.to = c.unsure.from.with(src), c.unsure.to.with(dst)
		if up {
			lo += n
		} else {
			hi -= n
		}
		if within += n; back {
			within -= 2 * n
		}
		report(n)
	}
	return nil
}

// extents are the stretches of a range that hold data.
func extents(dev disk.Device, from, to disk.Bytes) []stretch {
	var out []stretch
	for at := from; at < to; {
		s, e, ok := dev.Data(at)
		if !ok || s >= to {
			break
		}
		out = append(out, stretch{max(s, at), min(e, to)})
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
