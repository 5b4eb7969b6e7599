package carry

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/script"
)

// Frame types of the journal.
const (
	frameOf     = 'h' // what the journal belongs to
	frameOp     = 'o' // JSON of an operation without its data
	frameData   = 'd' // data of the operation before it
	framePrior  = 'p' // what was there before: operation (4 bytes), offset (8 bytes), contents
	frameSums   = 's' // hashes of what will be moved, in the order of the atoms
	frameReady  = 'r' // all of the above is whole
	framePassed = 'f' // all operations before this index are durable, and so much of it
	frameBack   = 'b' // undo has begun; what it will take back first counts as not done
	frameDone   = 'D' // forward finished
	frameUndone = 'U' // undo finished
)

const (
	magic = "JTJOURN2"
	// older is how journals began that have no chain. Whoever finds one needs the version
	// that wrote it.
	older = "JTJOURN1"
	// maxFrame bounds the contents of a frame; a longer one is damage.
	maxFrame = 32 << 20
	// headBytes come before the contents of a frame: their length (4 bytes), the number of
	// the frame from 0 (4 bytes), its type.
	headBytes = 9
	// sumBytes come behind them: the first bytes of the BLAKE3 hash of the sum of the frame
	// before, the head and the contents.
	sumBytes = 16
	// markBytes is the contents of every frame behind the one that says that the journal is
	// ready: an operation (4 bytes), and how much of it is done (8 bytes).
	markBytes = 12
	// tornBytes is the most that a power cut leaves of a frame that was not yet durable.
	tornBytes = headBytes + markBytes + sumBytes
)

// piece is the most that is read, written or kept in one go.
const piece = 1 << 20

// Begin writes the journal of a new run: what it belongs to, the script, and from dev whatever
// undo will need and whatever proves later that the device is as it was left. When it returns
// without an error the journal is durable; the device has not been touched. Until then nobody
// may take the file for a journal: give it its name afterwards.
//
// All that is moved is read for that; report is told how far it has come, where it is set. It stops
// when ctx is done (ErrStopped), with nothing begun.
func Begin(ctx context.Context, j disk.File, dev disk.Device, s script.Script, of string, report func(Progress)) (*Carry, error) {
	c := &Carry{j: j, script: s, gathering: true}
	if _, err := j.WriteAt([]byte(magic), 0); err != nil {
		return nil, err
	}
	c.end = int64(len(magic))
	if err := c.frame(frameOf, []byte(of)); err != nil {
		return nil, err
	}
	for _, op := range s {
		data := op.Data
		op.Data = nil
		b, err := json.Marshal(op)
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
	var err error
	if c.sums, err = sumsOf(ctx, dev, atoms(s), report); err != nil {
		return nil, err
	}
	for at := 0; at < len(c.sums); at += piece {
		if err := c.frame(frameSums, c.sums[at:min(at+piece, len(c.sums))]); err != nil {
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
			b := binary.LittleEndian.AppendUint64(
				binary.LittleEndian.AppendUint32(make([]byte, 0, 12+len(part)), uint32(op)), uint64(off+at),
			)
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

// frame appends a frame.
func (c *Carry) frame(typ byte, b []byte) error {
	var head [headBytes]byte
	binary.LittleEndian.PutUint32(head[:], uint32(len(b)))
	binary.LittleEndian.PutUint32(head[4:], c.frames)
	head[8] = typ
	c.last = chained(c.last, head[:], b)
	c.frames++
	c.pending = append(append(append(c.pending, head[:]...), b...), c.last[:]...)
	if c.gathering && len(c.pending) < piece {
		return nil
	}
	return c.flush()
}

// chained is the sum of a frame that follows one with the sum last.
func chained(last [sumBytes]byte, head, contents []byte) [sumBytes]byte {
	h := blake3.New()
	h.Write(last[:])
	h.Write(head)
	h.Write(contents)
	return [sumBytes]byte(h.Sum(nil)[:sumBytes])
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

// mark appends a frame that says how far the run is, and makes it durable.
func (c *Carry) mark(typ byte, n int, within disk.Bytes) error {
	b := binary.LittleEndian.AppendUint32(make([]byte, 0, markBytes), uint32(n))
	b = binary.LittleEndian.AppendUint64(b, uint64(within))
	if err := c.frame(typ, b); err != nil {
		return err
	}
	if err := c.j.Sync(); err != nil {
		return err
	}
	c.reached(typ, n, within)
	return nil
}

// reached notes what a mark says.
func (c *Carry) reached(typ byte, n int, within disk.Bytes) {
	c.passed, c.within, c.marked = n, within, true
	c.turned = c.turned || typ == frameBack
	if typ != framePassed {
		c.state = typ
	} else if c.state == frameUndone {
		c.state = 0
	}
}

// Open reads the journal of a run that was begun before, and that belongs to what of says. Every
// frame is checked; ErrJournal tells that it is not what was written, or not all of it. Only a
// last frame of the kind that says how far the run is may be torn: a power cut leaves that, and
// it was not yet relied on.
func Open(j disk.File, of string) (*Carry, error) {
	c := &Carry{j: j}
	head := make([]byte, len(magic))
	n, err := j.ReadAt(head, 0)
	switch {
	case n < len(head) && err != nil && err != io.EOF:
		return nil, fmt.Errorf("%w: it cannot be read: %w", ErrJournal, err)
	case n < len(head):
		return nil, fmt.Errorf("%w: it is empty, or cut off", ErrJournal)
	case string(head) == older:
		return nil, fmt.Errorf("%w: an older version began this run, and only that can go on with it", ErrJournal)
	case string(head) != magic:
		return nil, fmt.Errorf("%w: it does not begin like one", ErrJournal)
	}
	c.end = int64(len(magic))
	ready := false
	for {
		typ, b, ok := c.next()
		if !ok {
			break
		}
		if err := c.take(typ, b, of, &ready); err != nil {
			return nil, err
		}
	}
	switch {
	case !ready:
		return nil, fmt.Errorf("%w: frame %d is not what was written", ErrJournal, c.frames)
	case c.damaged():
		return nil, fmt.Errorf("%w: frame %d is not what was written, and more follows it", ErrJournal, c.frames)
	case !c.reachable():
		return nil, fmt.Errorf("%w: it names a place behind the end of its script", ErrJournal)
	case len(c.sums) != sumLen*len(atoms(c.script)):
		return nil, fmt.Errorf("%w: its hashes are not those of its script", ErrJournal)
	}
	return c, nil
}

// reachable tells that the last mark names a place in the script.
func (c *Carry) reachable() bool {
	if c.passed < len(c.script) && c.script[c.passed].Kind == script.Move {
		return c.within >= 0 && c.within <= c.script[c.passed].Len
	}
	return c.passed <= len(c.script) && c.within == 0
}

// take takes in a frame.
func (c *Carry) take(typ byte, b []byte, of string, ready *bool) error {
	misplaced := func() error {
		return fmt.Errorf("%w: frame %d does not belong where it is", ErrJournal, c.frames-1)
	}
	if (c.frames == 1) != (typ == frameOf) || isMark(typ) != *ready {
		return misplaced()
	}
	switch typ {
	case frameOf:
		if string(b) != of {
			return fmt.Errorf("%w: it belongs to another run", ErrJournal)
		}
	case frameOp:
		var op script.Op
		if err := json.Unmarshal(b, &op); err != nil {
			return fmt.Errorf("%w: %v", ErrJournal, err)
		}
		if op.Off < 0 || op.Len < 0 || op.From < 0 || op.Pad < 0 || op.Off+op.Len+op.Pad < op.Off || op.From+op.Len < op.From {
			return fmt.Errorf("%w: operation %d lies nowhere", ErrJournal, len(c.script))
		}
		c.script = append(c.script, op)
	case frameData:
		if len(c.script) == 0 {
			return misplaced()
		}
		op := &c.script[len(c.script)-1]
		op.Data = append(op.Data, b...)
	case framePrior:
		if len(b) < 12 {
			return misplaced()
		}
		c.priors = append(c.priors, prior{
			int(binary.LittleEndian.Uint32(b)), disk.Bytes(binary.LittleEndian.Uint64(b[4:])), b[12:],
		})
	case frameSums:
		c.sums = append(c.sums, b...)
	case frameReady:
		*ready = true
	case framePassed, frameBack, frameDone, frameUndone:
		if len(b) != markBytes {
			return misplaced()
		}
		c.reached(typ, int(binary.LittleEndian.Uint32(b)), disk.Bytes(binary.LittleEndian.Uint64(b[4:])))
	default:
		return misplaced()
	}
	return nil
}

// next reads the frame at the end reached so far; ok is false where there is none that follows
// those before it.
func (c *Carry) next() (typ byte, b []byte, ok bool) {
	var h [headBytes]byte
	if n, _ := c.j.ReadAt(h[:], c.end); n < len(h) {
		return 0, nil, false
	}
	n := binary.LittleEndian.Uint32(h[:])
	if n > maxFrame || binary.LittleEndian.Uint32(h[4:]) != c.frames {
		return 0, nil, false
	}
	f := make([]byte, n+sumBytes)
	if k, _ := c.j.ReadAt(f, c.end+headBytes); k < len(f) {
		return 0, nil, false
	}
	sum := chained(c.last, h[:], f[:n])
	if [sumBytes]byte(f[n:]) != sum {
		return 0, nil, false
	}
	c.last = sum
	c.frames++
	c.end += int64(headBytes + len(f))
	return h[8], f[:n:n], true
}

// damaged tells that what lies behind the last whole frame is more than what a power cut leaves
// of a mark that was being written, or a whole mark that does not follow.
func (c *Carry) damaged() bool {
	b := make([]byte, tornBytes+1)
	n, _ := c.j.ReadAt(b, c.end)
	if n > tornBytes {
		return true
	}
	return n == tornBytes && isMark(b[headBytes-1]) && binary.LittleEndian.Uint32(b[4:]) > c.frames
}

// isMark tells that a frame says how far the run is.
func isMark(typ byte) bool {
	return typ == framePassed || typ == frameBack || typ == frameDone || typ == frameUndone
}

// fresh is what the name of a journal ends with until it is whole.
const fresh = ".new"

// BeginIn begins a run with its journal in a new file. The file has its name only once it is
// whole and durable: what has that name and cannot be read was damaged since. wrap puts
// something between, nil for nothing. The caller closes the file.
func BeginIn(ctx context.Context, path string, dev disk.Device, s script.Script, of string, wrap func(disk.File) disk.File, report func(Progress)) (*Carry, *os.File, error) {
	f, err := os.OpenFile(path+fresh, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return nil, nil, err
	}
	c, err := Begin(ctx, wrapped(f, wrap), dev, s, of, report)
	if err == nil {
		err = os.Rename(path+fresh, path)
	}
	if err == nil {
		err = disk.SyncDir(filepath.Dir(path))
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return c, f, nil
}

// OpenIn opens the journal in a file: fs.ErrNotExist where there is none, ErrJournal where it is
// damaged. The caller closes the file.
func OpenIn(path, of string, wrap func(disk.File) disk.File) (*Carry, *os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return nil, nil, err
	}
	c, err := Open(wrapped(f, wrap), of)
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return c, f, nil
}

func wrapped(f *os.File, wrap func(disk.File) disk.File) disk.File {
	if wrap == nil {
		return f
	}
	return wrap(f)
}
