package carry

import (
	"context"
	"fmt"
	"io"

	"golang.org/x/sync/errgroup"

	"jadetrail/core/digest"
	"jadetrail/core/disk"
	"jadetrail/core/script"
)

const (
	// holeFrom is how long zeros must be to be left out.
	holeFrom = 4 * disk.KiB
	// batch is the most that is filled in by one write, but for a single operation that is
	// longer; ahead is how many such lots are read before they are written.
	batch = 4 * disk.MiB
	ahead = 2
)

// lot is what one write fills in: contents that follow each other on the device. Its
// bytes are nil for a hole.
type lot struct {
	off  disk.Bytes
	len  disk.Bytes
	b    []byte
	done disk.Bytes // of the script's own count
	step int
	err  error
}

// fill carries out fill operations that follow each other in the script. While one lot is
// written the next are read; nothing is read before all that comes before these
// operations is done.
func (c *Carry) fill(ctx context.Context, dev disk.Device, ops script.Script, sources map[string]io.ReaderAt, p *Progress, report func(Progress)) error {
	inner, stop := context.WithCancel(ctx)
	lots, spare := make(chan lot, ahead), make(chan []byte, ahead+2)
	ended := make(chan struct{})
	defer func() {
		stop()
		for range lots { // until the reader is gone
		}
		<-ended
	}()
	go func() {
		defer close(ended)
		defer close(lots)
		read(inner, ops, sources, lots, spare)
	}()
	back := c.reader(dev)
	defer back.stop()
	for l := range lots {
		if ctx.Err() != nil {
			return ErrStopped
		}
		if l.err != nil {
			return l.err
		}
		var err error
		if l.b == nil {
			err = dev.Zero(l.off, l.len)
		} else if _, err = dev.WriteAt(l.b, int64(l.off)); err == nil {
			select {
			case spare <- l.b[:0]:
			default:
			}
		}
		if err != nil {
			return err
		}
		if err := back.add(l.off, l.len); err != nil {
			return err
		}
		p.Done, p.Step, p.Onto = p.Done+l.done, l.step, disk.Range{Start: l.off, End: l.off + l.len}
		if report != nil {
			report(*p)
		}
	}
	if ctx.Err() != nil {
		return ErrStopped
	}
	return back.finish()
}

// backEvery is after how much it is made durable and read back while more is filled in.
const backEvery = 48 * disk.MiB

// back reads back what was filled in.
type back struct {
	c     *Carry
	dev   disk.Device
	now   []disk.Range // not yet handed over
	n     disk.Bytes
	parts chan []disk.Range
	done  chan error
	ended bool
	err   error
}

func (c *Carry) reader(dev disk.Device) *back {
	if c.Seen == nil {
		return &back{ended: true}
	}
	b := &back{c: c, dev: dev, parts: make(chan []disk.Range, 1), done: make(chan error, 1)}
	go func() {
		for part := range b.parts {
			if err := b.read(part); err != nil {
				b.done <- err
				for range b.parts { // what follows is of no use
				}
				return
			}
		}
		b.done <- nil
	}()
	return b
}

// add tells that a range was filled in.
func (b *back) add(off, n disk.Bytes) error {
	if b.c == nil {
		return nil
	}
	b.now = append(b.now, disk.Range{Start: off, End: off + n})
	if b.n += n; b.n < backEvery {
		return nil
	}
	return b.hand()
}

func (b *back) hand() error {
	select {
	case b.err = <-b.done: // it has failed
		b.ended = true
		close(b.parts)
		return b.err
	case b.parts <- b.now:
		b.now, b.n = nil, 0
		return nil
	}
}

// finish returns when all was read back.
func (b *back) finish() error {
	if b.c == nil || b.ended {
		return b.err
	}
	if len(b.now) > 0 {
		if err := b.hand(); err != nil {
			return err
		}
	}
	return b.stop()
}

func (b *back) stop() error {
	if b.ended {
		return b.err
	}
	b.ended = true
	close(b.parts)
	b.err = <-b.done
	return b.err
}

func (b *back) read(part []disk.Range) error {
	if err := b.dev.Sync(); err != nil {
		return fmt.Errorf("the drive could not make its writes durable: %w", err)
	}
	var all errgroup.Group
	all.SetLimit(readers)
	spare := make(chan []byte, readers)
	for _, r := range part {
		for at := r.Start; at < r.End; at += batch {
			all.Go(func() error {
				var buf []byte
				select {
				case buf = <-spare:
				default:
				}
				defer func() { spare <- buf }()
				got, err := disk.Fresh(b.dev, at, min(batch, r.End-at), buf)
				if buf = got; err != nil {
					return err
				}
				return b.c.Seen(at, got)
			})
		}
	}
	return all.Wait()
}

// read gathers what is filled in into lots.
func read(ctx context.Context, ops script.Script, sources map[string]io.ReaderAt, lots chan<- lot, spare <-chan []byte) {
	send := func(l lot) bool {
		select {
		case lots <- l:
			return l.err == nil
		case <-ctx.Done():
			return false
		}
	}
	var now lot
	flush := func() bool {
		if now.len == 0 {
			return true
		}
		ok := send(now)
		now = lot{}
		return ok
	}
	for _, op := range ops {
		n := op.Len + op.Pad
		if now.len > 0 && (now.off+now.len != op.Off || now.len+n > batch) && !flush() {
			return
		}
		if now.len == 0 {
			now = lot{off: op.Off}
			select {
			case now.b = <-spare:
			default:
			}
			if disk.Bytes(cap(now.b)) < max(n, batch) {
				now.b = make([]byte, 0, max(n, batch))
			}
		}
		b := now.b[now.len : now.len+n]
		if err := take(op, sources[op.Source], b); err != nil {
			if flush() {
				send(lot{err: err})
			}
			return
		}
		if op.Len >= holeFrom && disk.Zeros(b) { // a hole takes no room on the host
			at := lot{off: op.Off, len: n, done: op.Len, step: op.Step}
			if !flush() || !send(at) {
				return
			}
			continue
		}
		now.b, now.len, now.done, now.step = now.b[:now.len+n], now.len+n, now.done+op.Len, op.Step
	}
	flush()
}

// take reads what an operation fills in, with the zeros behind it, and compares it
// with its hash.
func take(op script.Op, src io.ReaderAt, b []byte) error {
	if src == nil {
		return fmt.Errorf("%w: %s is not there", ErrSource, op.Source)
	}
	if n, err := src.ReadAt(b[:op.Len], int64(op.SourceOff)); disk.Bytes(n) < op.Len {
		return fmt.Errorf("%w: %s ends at byte %d (%v)", ErrSource, op.Source, int64(op.SourceOff)+int64(n), err)
	}
	if op.Hash != "" && digest.Of(b[:op.Len], op.SourceOff).String() != op.Hash {
		return fmt.Errorf("%w: %s, %d bytes at %d", ErrSource, op.Source, op.Len, op.SourceOff)
	}
	clear(b[op.Len:])
	return nil
}
