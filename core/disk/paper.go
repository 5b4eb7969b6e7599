package disk

import "sync"

// paperPage is the grain in which a Paper keeps what is written.
const paperPage = 64 << 10

// Paper is a device that reads as zeros and keeps in memory what is written: for
// working out what a new volume will be before anything is written to a drive.
type Paper struct {
	size, sector Bytes
	mu           sync.RWMutex
	pages        map[int64][]byte
}

// NewPaper returns a blank device.
func NewPaper(size, sector Bytes) *Paper {
	return &Paper{size: size, sector: sector, pages: map[int64][]byte{}}
}

func (p *Paper) each(off, n int64, f func(page, into, n, at int64)) {
	for at := int64(0); at < n; {
		into := (off + at) % paperPage
		k := min(n-at, paperPage-into)
		f((off+at)/paperPage, into, k, at)
		at += k
	}
}

// ReadAt implements io.ReaderAt.
func (p *Paper) ReadAt(b []byte, off int64) (int, error) {
	if err := inBounds(p, off, int64(len(b))); err != nil {
		return 0, err
	}
	p.mu.RLock()
	defer p.mu.RUnlock()
	p.each(off, int64(len(b)), func(page, into, n, at int64) {
		if have := p.pages[page]; have != nil {
			copy(b[at:at+n], have[into:])
		} else {
			clear(b[at : at+n])
		}
	})
	return len(b), nil
}

// WriteAt implements io.WriterAt.
func (p *Paper) WriteAt(b []byte, off int64) (int, error) {
	if err := inBounds(p, off, int64(len(b))); err != nil {
		return 0, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.each(off, int64(len(b)), func(page, into, n, at int64) {
		if p.pages[page] == nil {
			p.pages[page] = make([]byte, paperPage)
		}
		copy(p.pages[page][into:into+n], b[at:])
	})
	return len(b), nil
}

// Zero implements Device.
func (p *Paper) Zero(off, n Bytes) error {
	if err := inBounds(p, int64(off), int64(n)); err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.each(int64(off), int64(n), func(page, into, n, _ int64) {
		if have := p.pages[page]; have != nil {
			clear(have[into : into+n])
		}
	})
	return nil
}

// Data implements Device.
func (p *Paper) Data(off Bytes) (start, end Bytes, ok bool) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	best := int64(-1)
	for page := range p.pages {
		if Bytes(page+1)*paperPage > off && (best < 0 || page < best) {
			best = page
		}
	}
	if best < 0 {
		return 0, 0, false
	}
	return max(Bytes(best)*paperPage, off), min(Bytes(best+1)*paperPage, p.size), true
}

// Size implements Device.
func (p *Paper) Size() Bytes { return p.size }

// SectorBytes implements Device.
func (p *Paper) SectorBytes() Bytes { return p.sector }

// Sync implements Device; there is nothing to make durable.
func (p *Paper) Sync() error { return nil }
