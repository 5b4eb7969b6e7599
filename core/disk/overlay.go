package disk

import (
	"os"
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
		end := done + int(page-at%page)
		for end < len(p) { // one read for a run of pages of the same owner
			if _, next := o.own[(off+int64(end))/page]; next != mine {
				break
			}
			end += page
		}
		end = min(end, len(p))
		var err error
		if mine {
			_, err = o.scratch.ReadAt(p[done:end], at)
		} else {
			_, err = o.base.ReadAt(p[done:end], at)
		}
		if err != nil {
			return done, err
		}
		done = end
	}
	return len(p), nil
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
			if _, err := o.base.ReadAt(b, pg*page); err != nil {
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

// Data implements Device: where either the base or the scratch file holds
// data.
func (o *Overlay) Data(off Bytes) (Bytes, Bytes, bool) {
	bs, be, bok := o.base.Data(off)
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
