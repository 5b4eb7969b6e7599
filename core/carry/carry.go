// Package carry carries a script out on a device through a journal, so that a
// power cut at any moment loses nothing: the run is finished or undone later.
//
// The journal is written and made durable before the device is touched. It
// holds the whole script, and for every operation that undo must take back what
// was there. All operations put absolute contents at absolute places, so doing
// one twice does no harm: resume goes on from the last barrier that was durable,
// undo goes back from the end, and either may be cut and begun again, in either
// direction.
package carry

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"time"

	quick "github.com/goccy/go-json"

	"jadetrail/core/disk"
	"jadetrail/core/script"
)

// Sentinel errors.
var (
	// ErrStopped is returned when the run was stopped at a safe point on request.
	ErrStopped = errors.New("stopped at a safe point; the run can be resumed or undone")
	// ErrVoid tells that a journal never became whole, so that nothing was
	// written to the device.
	ErrVoid = errors.New("the run never began; nothing was written")
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
	Step  int        `json:"step"`
	Done  disk.Bytes `json:"done"`
	Total disk.Bytes `json:"total"`
	Text  string     `json:"text"`
}

// Frame types of the journal.
const (
	frameOp     = 'o' // JSON of an operation without its data
	frameData   = 'd' // data of the operation before it
	framePrior  = 'p' // what was there before: operation (4 bytes), offset (8 bytes), contents
	frameReady  = 'r' // all of the above is whole
	framePassed = 'f' // all operations before this index are durable, and so much of it
	frameBack   = 'b' // undo has begun; what it will take back first counts as not done
	frameDone   = 'D' // forward finished
	frameUndone = 'U' // undo finished
)

const magic = "JTJOURN1"

// maxFrame bounds a frame; a longer one is damage.
const maxFrame = 32 << 20

// prior is what was in a place before the run.
type prior struct {
	op   int // for whose sake it was kept
	off  disk.Bytes
	data []byte
}

// Carry is one run of a script with its journal.
type Carry struct {
	j      disk.File
	end    int64 // of the journal
	script script.Script
	priors []prior
	passed int        // everything before this operation is done,
	within disk.Bytes // and this much of it, where it is a move
	state  byte
	unsure unsure
	// Seen, where it is set, is given what was filled in, as it is read back past the page
	// cache after it was made durable; that goes on while more is filled in, and several
	// calls may be under way at once.
	Seen func(off disk.Bytes, b []byte) error
	// ReadBack is how long was spent on reading back what was moved.
	ReadBack time.Duration
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

// piece is the most that is read, written or kept in one go.
const piece = 1 << 20

// Begin writes the journal of a new run: the script, and from dev whatever undo
// will need. When it returns without an error the journal is durable; the device
// has not been touched.
func Begin(j disk.File, dev disk.Device, s script.Script) (*Carry, error) {
	c := &Carry{j: j, script: s, gathering: true}
	if _, err := j.WriteAt([]byte(magic), 0); err != nil {
		return nil, err
	}
	c.end = int64(len(magic))
	for _, op := range s {
		data := op.Data
		op.Data = nil
		b, err := quick.Marshal(op)
		if err != nil {
			return nil, err
		}
		if err := c.frame(frameOp, b); err != nil {
			return nil, err
		}
		for len(data) > 0 {
			n := min(len(data), piece)
			if err := c.frame(frameData, data[:n]); err != nil {
				return nil, err
			}
			data = data[n:]
		}
	}
	for i, op := range s {
		if !op.Keep {
			continue
		}
		if err := c.keep(dev, i, op.Off, op.Len+op.Pad); err != nil {
			return nil, err
		}
	}
	if err := c.frame(frameReady, nil); err != nil {
		return nil, err
	}
	if c.gathering = false; len(c.pending) > 0 {
		if err := c.flush(); err != nil {
			return nil, err
		}
	}
	return c, j.Sync()
}

// keep notes what a range holds; stretches without data are left out and come
// back as holes.
func (c *Carry) keep(dev disk.Device, op int, off, n disk.Bytes) error {
	if before := c.script[op].Before; before != nil {
		for at := disk.Bytes(0); at < n; at += piece {
			part := before[at:min(at+piece, n)]
			b := binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint32(make([]byte, 0, 12+len(part)), uint32(op)), uint64(off+at))
			b = append(b, part...)
			if err := c.frame(framePrior, b); err != nil {
				return err
			}
			c.priors = append(c.priors, prior{op, off + at, b[12:]})
		}
		return nil
	}
	for at, end := off, off+n; at < end; {
		start, stop, ok := dev.Data(at)
		if !ok || start >= end {
			return nil
		}
		start, stop = max(start, at), min(stop, end)
		for start < stop {
			k := min(stop-start, piece)
			b := make([]byte, 12+k)
			binary.LittleEndian.PutUint32(b, uint32(op))
			binary.LittleEndian.PutUint64(b[4:], uint64(start))
			if _, err := dev.ReadAt(b[12:], int64(start)); err != nil {
				return err
			}
			if err := c.frame(framePrior, b); err != nil {
				return err
			}
			c.priors = append(c.priors, prior{op, start, b[12:]})
			start += k
		}
		at = stop
	}
	return nil
}

// frame appends a frame: length, checksum, type, contents.
func (c *Carry) frame(typ byte, b []byte) error {
	var head [9]byte
	binary.LittleEndian.PutUint32(head[:], uint32(len(b)))
	head[8] = typ
	binary.LittleEndian.PutUint32(head[4:], crc32.Update(crc32.Checksum(head[8:], castagnoli), castagnoli, b))
	if c.pending = append(append(c.pending, head[:]...), b...); c.gathering && len(c.pending) < piece {
		return nil
	}
	return c.flush()
}

// flush writes the frames that are gathered.
func (c *Carry) flush() error {
	_, err := c.j.WriteAt(c.pending, c.end)
	if err == nil {
		c.end += int64(len(c.pending))
		c.pending = c.pending[:0]
	}
	return err
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// mark appends a frame that says how far the run is, and makes it durable.
func (c *Carry) mark(typ byte, n int, within disk.Bytes) error {
	b := binary.LittleEndian.AppendUint32(nil, uint32(n))
	if within > 0 {
		b = binary.LittleEndian.AppendUint64(b, uint64(within))
	}
	if err := c.frame(typ, b); err != nil {
		return err
	}
	if err := c.j.Sync(); err != nil {
		return err
	}
	if c.passed, c.within = n, within; typ != framePassed {
		c.state = typ
	}
	return nil
}

// Open reads the journal of a run that was begun before. A torn end is what a
// power cut leaves and is passed over; ErrVoid means that the cut came before
// the journal was whole.
func Open(j disk.File) (*Carry, error) {
	c := &Carry{j: j}
	head := make([]byte, len(magic))
	if n, err := j.ReadAt(head, 0); n < len(head) {
		return nil, fmt.Errorf("%w (%v)", ErrVoid, err)
	}
	if string(head) != magic {
		return nil, ErrVoid
	}
	c.end = int64(len(magic))
	ready := false
	for {
		typ, b, ok := c.next()
		if !ok {
			break
		}
		switch typ {
		case frameOp:
			var op script.Op
			if err := json.Unmarshal(b, &op); err != nil {
				return nil, fmt.Errorf("%w: %v", ErrJournal, err)
			}
			c.script = append(c.script, op)
		case frameData:
			if len(c.script) == 0 {
				return nil, ErrJournal
			}
			op := &c.script[len(c.script)-1]
			op.Data = append(op.Data, b...)
		case framePrior:
			if len(b) < 12 {
				return nil, ErrJournal
			}
			c.priors = append(c.priors, prior{int(binary.LittleEndian.Uint32(b)), disk.Bytes(binary.LittleEndian.Uint64(b[4:])), b[12:]})
		case frameReady:
			ready = true
		case framePassed, frameBack, frameDone, frameUndone:
			if len(b) != 4 && len(b) != 12 || !ready {
				return nil, ErrJournal
			}
			c.passed, c.within = int(binary.LittleEndian.Uint32(b)), 0
			if len(b) == 12 {
				c.within = disk.Bytes(binary.LittleEndian.Uint64(b[4:]))
			}
			if typ != framePassed {
				c.state = typ
			} else if c.state == frameUndone {
				c.state = 0
			}
		default:
			return nil, ErrJournal
		}
	}
	if !ready {
		return nil, ErrVoid
	}
	if c.passed > len(c.script) || c.within != 0 && (c.passed == len(c.script) || c.within < 0 || c.within > c.script[c.passed].Len) {
		return nil, ErrJournal
	}
	return c, nil
}

// next reads the frame at the end reached so far.
func (c *Carry) next() (typ byte, b []byte, ok bool) {
	h := make([]byte, 9)
	if n, _ := c.j.ReadAt(h, c.end); n < len(h) {
		return 0, nil, false
	}
	n := binary.LittleEndian.Uint32(h)
	if n > maxFrame {
		return 0, nil, false
	}
	f := make([]byte, 1+n)
	if k, _ := c.j.ReadAt(f, c.end+8); k < len(f) {
		return 0, nil, false
	}
	if crc32.Checksum(f, castagnoli) != binary.LittleEndian.Uint32(h[4:]) {
		return 0, nil, false
	}
	c.end += int64(8 + len(f))
	return f[0], f[1:], true
}

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
	p := Progress{Total: c.script.Rewritten(), Done: c.script[:c.passed].Rewritten() + c.within}
	last := -1 // move that was done
	for i := c.passed; i < len(c.script); i++ {
		if ctx.Err() != nil {
			return ErrStopped
		}
		op := c.script[i]
		p.Step = op.Step
		if op.Kind == script.Move {
			within := disk.Bytes(0)
			if i == c.passed {
				within = c.within
			}
			if err := c.shift(ctx, dev, i, within, false, func(n disk.Bytes) {
				if p.Done += n; report != nil {
					report(p)
				}
			}); err != nil {
				return err
			}
			last = i
			continue
		}
		// Undo must know whether what it takes back behind a move was begun.
		var err error
		if op.Kind == script.Hole && !op.Keep {
			err = c.guard(dev, stretch{op.Off, op.Off + op.Len}, i, 0)
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
			p.Text = op.Text
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
		p.Done += op.Len
	case script.Hole:
		return dev.Zero(op.Off, op.Len)
	}
	return nil
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
	tell := func(n disk.Bytes) {
		if p.Done += n; report != nil {
			report(p)
		}
	}
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
			next = first
		}
		tell(0)
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
	if end := op.Off + op.Len + op.Pad; at < end {
		return dev.Zero(at, end-at)
	}
	return nil
}
