package shelf

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"jadetrail/core/digest"
	"jadetrail/core/disk"
)

// Verify reads a backup back past the page cache and compares every piece and the list
// of its files; the manifest notes the time, or the damage. A damaged backup is a Damage,
// which names the files concerned.
func (s *Shelf) Verify(ctx context.Context, id string, now time.Time, report func(Progress)) (*Manifest, error) {
	m, err := s.Load(id)
	if err != nil {
		return nil, err
	}
	if m.Foreign {
		return m, ErrForeign
	}
	var d *Damage
	switch err := s.verify(ctx, m, report); {
	case err == nil, errors.As(err, &d):
	case errors.Is(err, ErrDamaged): // its file is gone, or not its pieces together
		d = &Damage{Unnamed: err.Error(), id: m.ID}
	default:
		return m, err
	}
	if m.Damage = d; d != nil {
		m.Verified = nil
	} else {
		m.Verified = &now
		if m.Touched, err = s.touched(m); err != nil {
			return m, err
		}
	}
	err = s.save(m)
	if d != nil {
		return m, errors.Join(d, err)
	}
	return m, err
}

func (s *Shelf) verify(ctx context.Context, m *Manifest, report func(Progress)) error {
	r, err := s.Reader(m)
	if err != nil {
		return err
	}
	defer r.Close()
	if err := r.forget(m.Pieces); err != nil {
		return err
	}
	var mu sync.Mutex
	var bad []int
	var done disk.Bytes
	g, ctx := errgroup.WithContext(ctx)
	next := make(chan int)
	g.Go(func() error {
		defer close(next)
		for i := range m.Pieces {
			select {
			case next <- i:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	for range 2 * max(runtime.GOMAXPROCS(0), 2) { // they wait for the medium
		g.Go(func() error {
			for i := range next {
				raw, err := r.piece(m.Pieces[i])
				if err == nil && !m.Pieces[i].Zero {
					r.stock.put(raw)
				}
				mu.Lock()
				if err != nil {
					bad = append(bad, i)
				}
				if done += m.Pieces[i].Len; report != nil {
					report(Progress{"verifying", done, m.Bytes})
				}
				mu.Unlock()
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	list := false
	if m.Kind == Files {
		if _, err := s.ListOf(m); errors.Is(err, ErrDamaged) {
			list = true
		} else if err != nil {
			return err
		}
	}
	if len(bad) > 0 || list {
		slices.Sort(bad)
		return s.damage(m, bad, list)
	}
	if n := len(m.Pieces); n > 0 && r.f.Size() != m.Pieces[n-1].FrameOff+m.Pieces[n-1].FrameLen {
		return fmt.Errorf(
			"%w: %s: its file has %d bytes, which is not its pieces together", ErrDamaged, m.ID, r.f.Size(),
		)
	}
	return nil
}

// Export makes a backup ready to be handed over: every piece is read and compared,
// and the manifest gets the SHA-256 of the whole raw image, which people compare by
// hand with what `zstd -d` gives them.
func (s *Shelf) Export(ctx context.Context, id string, report func(Progress)) (*Manifest, error) {
	m, err := s.Load(id)
	if err != nil {
		return nil, err
	}
	r, err := s.Reader(m)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	h := sha256.New()
	for _, p := range m.Pieces {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		raw, err := r.piece(p)
		if err != nil {
			return nil, err
		}
		h.Write(raw)
		if !p.Zero {
			r.stock.put(raw)
		}
		if report != nil {
			report(Progress{"hashing", p.Off + p.Len, m.Bytes})
		}
	}
	if m.SHA256 = hex.EncodeToString(h.Sum(nil)); m.Foreign { // it is only told
		return m, nil
	}
	return m, s.save(m)
}

// Reader gives the raw image of a backup; every piece is compared with its hash
// when it is read.
type Reader struct {
	m     *Manifest
	id    string
	f     *spread
	dec   sync.Pool
	stock buffers

	mu   sync.Mutex
	last int
	raw  []byte
	next []*ahead // the pieces after the last, while pieces are read one after the other
}

// aheadOf is how many pieces are decoded before they are asked for.
var aheadOf = max(runtime.GOMAXPROCS(0), 2)

// ahead is a piece that is decoded before it is asked for.
type ahead struct {
	i     int
	raw   []byte
	err   error
	ready chan struct{}
}

// load returns a piece for ReadAt, and has the next ones decoded meanwhile.
func (r *Reader) load(i int) ([]byte, error) {
	var raw []byte
	var err error
	have := false
	for len(r.next) > 0 && !have {
		n := r.next[0]
		r.next = r.next[1:]
		<-n.ready
		if have = n.i == i; have {
			raw, err = n.raw, n.err
		} else {
			r.spare(n.i, n.raw)
		}
	}
	if !have {
		raw, err = r.piece(r.m.Pieces[i])
	}
	if err != nil || i != r.last+1 {
		return raw, err
	}
	for k := i + 1 + len(r.next); k < len(r.m.Pieces) && len(r.next) < aheadOf; k++ {
		n := &ahead{i: k, ready: make(chan struct{})}
		r.next = append(r.next, n)
		go func() {
			defer close(n.ready)
			n.raw, n.err = r.piece(r.m.Pieces[n.i])
		}()
	}
	return raw, nil
}

// spare keeps a piece's buffer for the next one.
func (r *Reader) spare(i int, raw []byte) {
	if i >= 0 && raw != nil && !r.m.Pieces[i].Zero {
		r.stock.put(raw)
	}
}

// Reader opens a backup's contents.
func (s *Shelf) Reader(m *Manifest) (*Reader, error) {
	f, err := s.file(m, m.Kind.file())
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %v", ErrDamaged, m.ID, err)
	}
	r := &Reader{m: m, id: m.ID, f: f, last: -1, stock: make(buffers, 16)}
	r.dec.New = func() any {
		d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(uint64(2*maxPiece)))
		if err != nil {
			return nil
		}
		return d
	}
	return r, nil
}

// forget drops the pieces that follow each other from the page cache, so that they
// are next read from the medium.
func (r *Reader) forget(part []Piece) error {
	if len(part) == 0 {
		return nil
	}
	start, last := part[0].FrameOff, part[len(part)-1]
	return r.f.forget(start, last.FrameOff+last.FrameLen)
}

// piece reads, decodes and checks one piece. What it returns belongs to the
// caller, but for a blank piece.
func (r *Reader) piece(p Piece) ([]byte, error) {
	frame := r.stock.get(disk.Bytes(p.FrameLen))
	defer r.stock.put(frame)
	if _, err := r.f.ReadAt(frame, p.FrameOff); err != nil {
		return nil, fmt.Errorf("%w: %s at byte %d: %v", ErrDamaged, r.id, p.Off, err)
	}
	if z := blank(); p.Zero && p.Len == pieceBytes && bytes.Equal(frame, z.frame) {
		return z.raw, nil
	}
	d, ok := r.dec.Get().(*zstd.Decoder)
	if !ok {
		return nil, errors.New("zstd cannot be used")
	}
	defer r.dec.Put(d)
	raw, err := d.DecodeAll(frame, r.stock.get(p.Len)[:0])
	if err != nil || disk.Bytes(len(raw)) != p.Len {
		return nil, fmt.Errorf("%w: %s at byte %d: %v", ErrDamaged, r.id, p.Off, err)
	}
	if digest.Of(raw, p.Off).String() != p.Hash {
		return nil, fmt.Errorf("%w: %s at byte %d holds something else", ErrDamaged, r.id, p.Off)
	}
	return raw, nil
}

// ReadAt implements io.ReaderAt over the raw image.
func (r *Reader) ReadAt(b []byte, off int64) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	done := 0
	for done < len(b) {
		at := disk.Bytes(off) + disk.Bytes(done)
		if at >= r.m.Bytes {
			return done, io.EOF
		}
		i := r.m.pieceAt(at)
		if i != r.last {
			raw, err := r.load(i)
			if err != nil {
				return done, err
			}
			r.spare(r.last, r.raw)
			r.last, r.raw = i, raw
		}
		done += copy(b[done:], r.raw[at-r.m.Pieces[i].Off:])
	}
	return done, nil
}

// pieceAt is the piece that a byte lies in.
func (m *Manifest) pieceAt(at disk.Bytes) int {
	i, _ := slices.BinarySearchFunc(m.Pieces, at, func(p Piece, x disk.Bytes) int {
		if p.Off+p.Len <= x {
			return -1
		}
		return 1
	})
	return i
}

// Close releases the backup.
func (r *Reader) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, n := range r.next {
		<-n.ready
	}
	return r.f.Close()
}
