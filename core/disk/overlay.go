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
	refs    []reference        // in order; what is read from elsewhere, before anything else
}

// wide is from which length on a hole is kept as one.
const wide = 16 * page

// nothing is a source of zeros.
type nothing struct{}

func (nothing) ReadAt(b []byte, _ int64) (int, error) { clear(b); return len(b), nil }

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
	end := off + int64(len(p))
	at := off
	for i := o.after(off); at < end; i++ {
		next := end
		if i < len(o.refs) {
			next = min(max(o.refs[i].off, at), end)
		}
		if err := o.below(p[at-off:next-off], at); err != nil {
			return int(at - off), err
		}
		if at = next; at == end {
			break
		}
		r := o.refs[i]
		to := min(r.off+r.n, end)
		if n, err := r.src.ReadAt(p[at-off:to-off], r.at+at-r.off); int64(n) < to-at {
			return int(at-off) + n, err
		}
		at = to
	}
	return len(p), nil
}

// below reads what no reference covers: from the scratch file or the base.
func (o *Overlay) below(p []byte, off int64) error {
	for done := 0; done < len(p); {
		at := off + int64(done)
		_, mine := o.own[at/page]
		end := done + int(page-at%page)
		for end < len(p) { // one read for a run of pages of the same owner
			if _, own := o.own[(off+int64(end))/page]; own != mine {
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
			return err
		}
		done = end
	}
	return nil
}

// after is the first reference that ends behind off.
func (o *Overlay) after(off int64) int {
	i, _ := slices.BinarySearchFunc(o.refs, off, func(r reference, at int64) int {
		if r.off+r.n <= at {
			return -1
		}
		return 1
	})
	return i
}

// cut takes a range out of the references.
func (o *Overlay) cut(off, n int64) {
	i := o.after(off)
	k, end := i, off+n
	var left []reference
	for ; k < len(o.refs) && o.refs[k].off < end; k++ {
		r := o.refs[k]
		if r.off < off {
			left = append(left, reference{r.off, off - r.off, r.src, r.at})
		}
		if r.off+r.n > end {
			left = append(left, reference{end, r.off + r.n - end, r.src, r.at + end - r.off})
		}
	}
	if k > i {
		o.refs = slices.Replace(o.refs, i, k, left...)
	}
}

// Refer makes n bytes at off those of src at its byte at, without copying them. src must
// stay as it is.
func (o *Overlay) Refer(off, n Bytes, src io.ReaderAt, at int64) error {
	if err := inBounds(o, int64(off), int64(n)); err != nil || n == 0 {
		return err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.cut(int64(off), int64(n))
	o.refs = slices.Insert(o.refs, o.after(int64(off)), reference{int64(off), int64(n), src, at})
	return nil
}

// Move makes n bytes at off those that are at from now, of which none are copied but what
// was written on the overlay itself. The two places may overlap.
func (o *Overlay) Move(off, from, n Bytes) error {
	if err := inBounds(o, int64(off), int64(n)); err != nil || n == 0 {
		return err
	}
	if err := inBounds(o, int64(from), int64(n)); err != nil {
		return err
	}
	type own struct {
		at int64
		b  []byte
	}
	var refs []reference
	var mine []own
	o.mu.Lock()
	at, end, shift := int64(from), int64(from+n), int64(off-from)
	below := func(to int64) error { // what no reference covers
		for at < to {
			_, written := o.own[at/page]
			next := min((at/page+1)*page, to)
			for next < to {
				if _, w := o.own[next/page]; w != written || written && next-at >= int64(MiB) {
					break
				}
				next = min(next+page, to)
			}
			if written {
				b := make([]byte, next-at)
				if _, err := o.scratch.ReadAt(b, at); err != nil {
					return err
				}
				mine = append(mine, own{at + shift, b})
			} else {
				refs = append(refs, reference{at + shift, next - at, o.base, at})
			}
			at = next
		}
		return nil
	}
	for i := o.after(at); at < end; i++ {
		next := end
		if i < len(o.refs) {
			next = min(max(o.refs[i].off, at), end)
		}
		if err := below(next); err != nil {
			o.mu.Unlock()
			return err
		}
		if at == end {
			break
		}
		r := o.refs[i]
		to := min(r.off+r.n, end)
		refs = append(refs, reference{at + shift, to - at, r.src, r.at + at - r.off})
		at = to
	}
	o.cut(int64(off), int64(n))
	o.refs = slices.Insert(o.refs, o.after(int64(off)), refs...)
	o.mu.Unlock()
	for _, m := range mine {
		if _, err := o.WriteAt(m.b, m.at); err != nil {
			return err
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
	o.cut(off, n)
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
	if n >= wide { // without a word on each of its pages
		return o.Refer(off, n, nothing{}, 0)
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
	for {
		o.mu.RLock()
		i, next := o.after(int64(off)), o.Size()
		var at reference
		if i < len(o.refs) {
			at = o.refs[i]
			next = max(Bytes(at.off), off)
		}
		o.mu.RUnlock()
		if next > off { // below the references
			bs, be, bok := o.base.Data(off)
			ss, se, sok := dataRange(o.scratch, off, o.Size())
			if sok && (!bok || ss < bs) {
				bs, be, bok = ss, se, true
			}
			if bok && bs < next {
				return bs, min(be, next), true
			}
		}
		if i >= len(o.refs) {
			return 0, 0, false
		}
		if _, hole := at.src.(nothing); !hole {
			return next, Bytes(at.off + at.n), true
		}
		off = Bytes(at.off + at.n)
	}
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
