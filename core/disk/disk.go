// Package disk gives the rest of the core a drive as a device of bytes with a
// sector size, and the quantities everybody uses: bytes, places in sectors,
// alignment, and amounts with units.
//
// A drive is stood in for by an image file. Sparse images stay sparse: Zero
// makes holes, and Data tells where an image holds anything at all.
package disk

import (
	"bytes"
	"errors"
	"fmt"
	"io"
)

// Bytes is a size or an offset in bytes.
type Bytes int64

// LBA is a place on a drive, counted in sectors from 0.
type LBA int64

// Binary units.
const (
	KiB Bytes = 1 << 10
	MiB Bytes = 1 << 20
	GiB Bytes = 1 << 30
	TiB Bytes = 1 << 40
)

// Grid is the boundary partitions start and end on unless they already were
// elsewhere.
const Grid = MiB

// Offset returns the first byte of sector l on a drive with the given sector
// size.
func (l LBA) Offset(sector Bytes) Bytes { return Bytes(l) * sector }

// At returns the sector that holds byte offset b.
func (b Bytes) At(sector Bytes) LBA { return LBA(b / sector) }

// Down rounds b down to a multiple of grid.
func (b Bytes) Down(grid Bytes) Bytes { return b - b%grid }

// Up rounds b up to a multiple of grid.
func (b Bytes) Up(grid Bytes) Bytes { return (b + grid - 1).Down(grid) }

// Device is a drive, or a part or a copy of one. All offsets and lengths are
// in bytes; reads and writes past Size fail with ErrBounds and change nothing.
type Device interface {
	io.ReaderAt
	io.WriterAt
	// Size is the length of the device.
	Size() Bytes
	// SectorBytes is the logical sector size, 512 or 4096.
	SectorBytes() Bytes
	// Zero makes n bytes at off read as zeros, without taking room where the
	// device can do that.
	Zero(off, n Bytes) error
	// Data returns the first range at or after off that may hold anything but
	// zeros; ok is false when there is none before the end.
	Data(off Bytes) (start, end Bytes, ok bool)
	// Sync returns when everything written so far is durable.
	Sync() error
}

// ErrBounds is returned for a read or write beyond the device's end.
var ErrBounds = errors.New("beyond the end of the drive")

// ErrReadOnly is returned for a write to a device opened for reading only.
var ErrReadOnly = errors.New("the drive is attached read-only")

func inBounds(d interface{ Size() Bytes }, off, n int64) error {
	if off < 0 || n < 0 || off > int64(d.Size())-n {
		return fmt.Errorf("%w: %d bytes at %d of %d", ErrBounds, n, off, d.Size())
	}
	return nil
}

// Zeros tells whether b holds nothing but zeros.
func Zeros(b []byte) bool {
	return len(b) == 0 || b[0] == 0 && bytes.Equal(b[:len(b)-1], b[1:])
}

// ReadFull reads n bytes at off. It checks the bounds before it allocates.
func ReadFull(d Device, off, n Bytes) ([]byte, error) {
	if err := inBounds(d, int64(off), int64(n)); err != nil {
		return nil, err
	}
	b := make([]byte, n)
	if _, err := d.ReadAt(b, int64(off)); err != nil {
		return nil, err
	}
	return b, nil
}

// Window is the part [Start, Start+Len) of a device, addressed from 0.
type Window struct {
	dev        Device
	start, len Bytes
}

// NewWindow returns the window of n bytes at start, cut off at the device's
// end.
func NewWindow(dev Device, start, n Bytes) *Window {
	start = min(max(start, 0), dev.Size())
	return &Window{dev, start, min(max(n, 0), dev.Size()-start)}
}

// ReadAt implements io.ReaderAt.
func (w *Window) ReadAt(p []byte, off int64) (int, error) {
	if err := inBounds(w, off, int64(len(p))); err != nil {
		return 0, err
	}
	return w.dev.ReadAt(p, off+int64(w.start))
}

// WriteAt implements io.WriterAt.
func (w *Window) WriteAt(p []byte, off int64) (int, error) {
	if err := inBounds(w, off, int64(len(p))); err != nil {
		return 0, err
	}
	return w.dev.WriteAt(p, off+int64(w.start))
}

// Zero implements Device.
func (w *Window) Zero(off, n Bytes) error {
	if err := inBounds(w, int64(off), int64(n)); err != nil {
		return err
	}
	return w.dev.Zero(off+w.start, n)
}

// Data implements Device.
func (w *Window) Data(off Bytes) (Bytes, Bytes, bool) {
	s, e, ok := w.dev.Data(off + w.start)
	if !ok || s >= w.start+w.len {
		return 0, 0, false
	}
	return s - w.start, min(e-w.start, w.len), true
}

// Size implements Device.
func (w *Window) Size() Bytes { return w.len }

// SectorBytes implements Device.
func (w *Window) SectorBytes() Bytes { return w.dev.SectorBytes() }

// Sync implements Device.
func (w *Window) Sync() error { return w.dev.Sync() }
