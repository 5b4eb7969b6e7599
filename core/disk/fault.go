package disk

import (
	"errors"
	"io"
	"math/rand/v2"
	"slices"
	"sync"
)

// ErrPowerCut is what every call on a faulty device returns from the cut on.
var ErrPowerCut = errors.New("power cut")

// Power is a supply that fails at a chosen write. Everything that hangs on it
// counts its writes on the same counter, so that a drive and the journal
// beside it die together.
type Power struct {
	mu     sync.Mutex
	writes int
	cut    bool
	// At is the number of the write, from 1, at which the supply fails; 0 for
	// never.
	At int
	// Torn lets the write at the cut reach the medium in part: a prefix of its
	// sectors, chosen by Rand.
	Torn bool
	// Lose drops writes since the last sync, each with even odds by Rand, as a
	// drive's own cache may.
	Lose bool
	// Rand chooses; nil for the first half of every torn write and nothing
	// lost.
	Rand *rand.Rand

	pending []undo
}

// undo is what a lost write takes back.
type undo struct {
	to   io.WriterAt
	off  int64
	data []byte
}

// Writes returns how many writes were asked for.
func (p *Power) Writes() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.writes
}

// write passes b on to w, all of it, a part of it, or none.
func (p *Power) write(r io.ReaderAt, w io.WriterAt, b []byte, off, sector int64) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cut {
		return 0, ErrPowerCut
	}
	p.writes++
	if p.At == 0 || p.writes < p.At {
		if p.Lose {
			old := make([]byte, len(b))
			if n, err := r.ReadAt(old, off); err != nil && err != io.EOF {
				return 0, err
			} else if err == io.EOF {
				old = old[:n]
			}
			p.pending = append(p.pending, undo{w, off, old})
		}
		return w.WriteAt(b, off)
	}
	p.cut = true
	if p.Torn {
		n := int64(len(b)) / 2
		if p.Rand != nil {
			n = p.Rand.Int64N(int64(len(b)) + 1)
		}
		n -= n % sector
		if n > 0 {
			if _, err := w.WriteAt(b[:n], off); err != nil {
				return 0, err
			}
		}
	}
	if p.Lose && p.Rand != nil {
		return 0, p.lose()
	}
	return 0, ErrPowerCut
}

// lose takes back some of the writes since the last sync. Of two over the
// same place a drive keeps the order, so the earlier one is only lost with
// the later.
func (p *Power) lose() error {
	var kept []undo
	for i := len(p.pending) - 1; i >= 0; i-- {
		u := p.pending[i]
		if p.Rand.IntN(2) == 0 || slices.ContainsFunc(kept, u.overlaps) {
			kept = append(kept, u)
			continue
		}
		if _, err := u.to.WriteAt(u.data, u.off); err != nil {
			return err
		}
	}
	return ErrPowerCut
}

func (u undo) overlaps(v undo) bool {
	return u.to == v.to && u.off < v.off+int64(len(v.data)) && v.off < u.off+int64(len(u.data))
}

func (p *Power) synced() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cut {
		return ErrPowerCut
	}
	p.pending = nil
	return nil
}

// Faulty is a device on a failing supply.
type Faulty struct {
	Device
	power *Power
}

// NewFaulty hangs dev on the supply p.
func NewFaulty(dev Device, p *Power) *Faulty { return &Faulty{dev, p} }

// WriteAt implements io.WriterAt.
func (f *Faulty) WriteAt(b []byte, off int64) (int, error) {
	if err := inBounds(f, off, int64(len(b))); err != nil {
		return 0, err
	}
	return f.power.write(f.Device, f.Device, b, off, int64(f.SectorBytes()))
}

// Zero implements Device; a hole counts as a write of zeros.
func (f *Faulty) Zero(off, n Bytes) error {
	const piece = 4 * MiB
	for n > 0 {
		k := min(n, piece)
		if _, err := f.WriteAt(make([]byte, k), int64(off)); err != nil {
			return err
		}
		off, n = off+k, n-k
	}
	return nil
}

// Sync implements Device.
func (f *Faulty) Sync() error {
	if err := f.power.synced(); err != nil {
		return err
	}
	return f.Device.Sync()
}

// File is a growing file that can be made durable; a journal is kept in one.
type File interface {
	io.ReaderAt
	io.WriterAt
	Sync() error
}

// FaultyFile is a file on a failing supply.
type FaultyFile struct {
	f     File
	power *Power
}

// NewFaultyFile hangs f on the supply p.
func NewFaultyFile(f File, p *Power) *FaultyFile { return &FaultyFile{f, p} }

// ReadAt implements io.ReaderAt.
func (f *FaultyFile) ReadAt(b []byte, off int64) (int, error) { return f.f.ReadAt(b, off) }

// WriteAt implements io.WriterAt. A torn write to a file may end at any byte.
func (f *FaultyFile) WriteAt(b []byte, off int64) (int, error) {
	return f.power.write(f.f, f.f, b, off, 1)
}

// Sync implements File.
func (f *FaultyFile) Sync() error {
	if err := f.power.synced(); err != nil {
		return err
	}
	return f.f.Sync()
}

// Recorder notes every range written through it, below whatever journal
// stands above. It is how untouched places are proven untouched.
type Recorder struct {
	Device
	mu     sync.Mutex
	ranges []Range
	put    Bytes
}

// NewRecorder returns a recorder of the writes to dev.
func NewRecorder(dev Device) *Recorder { return &Recorder{Device: dev} }

// WriteAt implements io.WriterAt.
func (r *Recorder) WriteAt(b []byte, off int64) (int, error) {
	r.note(Bytes(off), Bytes(len(b)))
	r.mu.Lock()
	r.put += Bytes(len(b))
	r.mu.Unlock()
	return r.Device.WriteAt(b, off)
}

// Put is how many bytes were written so far; what was made a hole is not among them.
func (r *Recorder) Put() Bytes {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.put
}

// Zero implements Device.
func (r *Recorder) Zero(off, n Bytes) error {
	r.note(off, n)
	return r.Device.Zero(off, n)
}

// Hurry begins to put on the medium what was written.
func (r *Recorder) Hurry(off, n Bytes) { Hurry(r.Device, off, n) }

// Fresh reads n bytes at off, past the page cache where the device has one.
func (r *Recorder) Fresh(off, n Bytes, buf []byte) ([]byte, error) {
	return Fresh(r.Device, off, n, buf)
}

func (r *Recorder) note(off, n Bytes) {
	r.mu.Lock()
	r.ranges = append(r.ranges, Range{Start: off, End: off + n})
	r.mu.Unlock()
}

// Written returns the ranges [start, end) written so far, in order of writing.
func (r *Recorder) Written() []Range {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]Range(nil), r.ranges...)
}
