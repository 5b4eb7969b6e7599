package disk

import (
	"io"
	"os"
	"slices"
	"sync"
)

// page is the grain of an overlay's copy-on-write.
const page = 4096

// Overlay is a throw-away copy of a device: reads fall through to the base
// until something is written, writes stay in an unnamed sparse scratch file.
// The base is never changed.
type Overlay struct {
	base    Device
	scratch *os.File
	mu      sync.RWMutex
	own     map[int64]struct{} // pages that live in the scratch file
	refs    []reference        // in order; whole pages that are read from elsewhere
}

// reference is n bytes at off that are read from a source.
type reference struct {
	off, n int64
	src    io.ReaderAt
	at     int64
}

// NewOverlay returns an overlay over base whose scratch file lies in dir (the
// system's temporary folder when dir is empty).
func NewOverlay(base Device, dir string) (*Overlay, error) {
	f, err := os.CreateTemp(dir, "overlay-*")
	if err != nil {
		return nil, err
	}
	os.Remove(f.Name())
	if err := f.Truncate(int64(base.Size().Up(page))); err != nil {
		f.Close()
		return nil, err
	}
	return &Overlay{base: base, scratch: f, own: map[int64]struct{}{}}, nil
}

// ReadAt implements io.ReaderAt.
func (o *Overlay) ReadAt(p []byte, off int64) (int, error) {
	if err := inBounds(o, off, int64(len(p))); err != nil {
		return 0, err
	}
	o.mu.RLock()
	defer o.mu.RUnlock()
	for done := 0; done < len(p); {
		at := off + int64(done)
		_, mine := o.own[at/page]
		ref := o.reference(at)
		end := done + int(page-at%page)
		for end < len(p) { // one read for a run of pages of the same owner
			next := off + int64(end)
			if _, own := o.own[next/page]; own != mine || !mine && o.reference(next) != ref {
				break
			}
			end += page
		}
		end = min(end, len(p))
		var err error
		switch {
		case mine:
			_, err = o.scratch.ReadAt(p[done:end], at)
		case ref != nil:
			_, err = ref.src.ReadAt(p[done:end], ref.at+at-ref.off)
			if err == io.EOF {
				err = nil
			}
		default:
			_, err = o.base.ReadAt(p[done:end], at)
		}
		if err != nil {
			return done, err
		}
		done = end
	}
	return len(p), nil
}

// reference is what is read in the place of off, nil for the base.
func (o *Overlay) reference(off int64) *reference {
	i, exact := slices.BinarySearchFunc(o.refs, off, func(r reference, at int64) int { return int(min(max(r.off-at, -1), 1)) })
	if !exact {
		i--
	}
	if i < 0 || off >= o.refs[i].off+o.refs[i].n {
		return nil
	}
	return &o.refs[i]
}

// Refer makes n bytes at off those of src at its byte at, without copying more than the
// pages that they fill in part. src must stay as it is.
func (o *Overlay) Refer(off, n Bytes, src io.ReaderAt, at int64) error {
	if err := inBounds(o, int64(off), int64(n)); err != nil {
		return err
	}
	from, to := int64(off.Up(page)), int64((off + n).Down(page))
	o.mu.Lock()
	i, _ := slices.BinarySearchFunc(o.refs, from, func(r reference, at int64) int { return int(min(max(r.off+r.n-at, 0), 1))*2 - 1 })
	if from >= to || i < len(o.refs) && o.refs[i].off < to {
		from, to = int64(off+n), int64(off+n) // too short, or over another: it is copied
	}
	for pg := from / page; pg < to/page; pg++ {
		delete(o.own, pg)
	}
	if from < to {
		o.refs = slices.Insert(o.refs, i, reference{from, to - from, src, at + from - int64(off)})
	}
	o.mu.Unlock()
	for _, part := range [][2]int64{{int64(off), from}, {to, int64(off + n)}} {
		for a := part[0]; a < part[1]; {
			b := make([]byte, min(part[1]-a, 1<<20))
			if k, err := src.ReadAt(b, at+a-int64(off)); k < len(b) {
				return err
			}
			if _, err := o.WriteAt(b, a); err != nil {
				return err
			}
			a += int64(len(b))
		}
	}
	return nil
}

// WriteAt implements io.WriterAt.
func (o *Overlay) WriteAt(p []byte, off int64) (int, error) {
	if err := inBounds(o, off, int64(len(p))); err != nil {
		return 0, err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if err := o.adopt(off, int64(len(p))); err != nil {
		return 0, err
	}
	return o.scratch.WriteAt(p, off)
}

// adopt takes the pages of the range into the scratch file; only the two at
// its edges need their old contents.
func (o *Overlay) adopt(off, n int64) error {
	if n == 0 {
		return nil
	}
	for pg := off / page; pg <= (off+n-1)/page; pg++ {
		if _, mine := o.own[pg]; mine {
			continue
		}
		if pg*page < off || (pg+1)*page > off+n {
			b := make([]byte, min(page, int64(o.Size())-pg*page))
			if r := o.reference(pg * page); r != nil {
				if k, err := r.src.ReadAt(b, r.at+pg*page-r.off); k < len(b) {
					return err
				}
			} else if _, err := o.base.ReadAt(b, pg*page); err != nil {
				return err
			}
			if _, err := o.scratch.WriteAt(b, pg*page); err != nil {
				return err
			}
		}
		o.own[pg] = struct{}{}
	}
	return nil
}

// Zero implements Device.
func (o *Overlay) Zero(off, n Bytes) error {
	if err := inBounds(o, int64(off), int64(n)); err != nil {
		return err
	}
	if n == 0 {
		return nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if err := o.adopt(int64(off), int64(n)); err != nil {
		return err
	}
	return punch(o.scratch, int64(off), int64(n))
}

// Data implements Device: where the base, the scratch file or a source holds data.
func (o *Overlay) Data(off Bytes) (Bytes, Bytes, bool) {
	bs, be, bok := o.base.Data(off)
	o.mu.RLock()
	i, _ := slices.BinarySearchFunc(o.refs, int64(off), func(r reference, at int64) int { return int(min(max(r.off+r.n-at, 0), 1))*2 - 1 })
	if i < len(o.refs) {
		if s := max(Bytes(o.refs[i].off), off); !bok || s < bs {
			bs, be, bok = s, Bytes(o.refs[i].off+o.refs[i].n), true
		}
	}
	o.mu.RUnlock()
	ss, se, sok := dataRange(o.scratch, off, o.Size())
	if sok && (!bok || ss < bs) {
		return ss, se, true
	}
	return bs, be, bok
}

// Size implements Device.
func (o *Overlay) Size() Bytes { return o.base.Size() }

// SectorBytes implements Device.
func (o *Overlay) SectorBytes() Bytes { return o.base.SectorBytes() }

// Sync implements Device; an overlay is thrown away, so there is nothing to
// make durable.
func (o *Overlay) Sync() error { return nil }

// Close throws the overlay away.
func (o *Overlay) Close() error { return o.scratch.Close() }
