package shelf

import (
	"bytes"
	"fmt"
	"hash/maphash"
	"slices"
)

// writer appends to a file past the page cache where the file system allows it: a
// backup is read back from the medium anyway, and bytes that were never cached
// need neither be written back nor dropped. While one buffer is being written the
// next is filled.
type writer struct {
	f     *spread
	at    int64 // of buf in the file, a multiple of block
	buf   []byte
	size  int64
	spare chan []byte
	queue chan chunk
	ended chan struct{}
}

// chunk is bytes on their way to the file; done is told when it and all before it
// are there.
type chunk struct {
	b    []byte
	at   int64
	done chan error
}

const (
	block     = 4096 // what direct writes are aligned to
	writeSize = 16 << 20
	readBytes = 1 << 20
	readers   = 16 // what reads back waits for the medium, which works best on many requests
)

// newWriter writes to the given stretches, which it closes at the end.
func newWriter(to *spread) *writer {
	w := &writer{f: to, spare: make(chan []byte, 3), queue: make(chan chunk, 2), ended: make(chan struct{})}
	for range cap(w.spare) {
		w.spare <- make([]byte, 0, writeSize+int(pieceBytes)+64<<10)
	}
	w.buf = <-w.spare
	go w.drain()
	return w
}

// drain writes what is queued. After a failure nothing more is written.
func (w *writer) drain() {
	defer close(w.ended)
	var failed error
	for c := range w.queue {
		if c.b != nil {
			if failed == nil {
				_, failed = w.f.WriteAt(c.b, c.at)
			}
			w.spare <- c.b[:0]
		}
		if c.done != nil {
			c.done <- failed
		}
	}
}

// append takes b; an error shows at the next flush.
func (w *writer) append(b []byte) {
	for len(b) > 0 {
		n := min(len(b), cap(w.buf)-len(w.buf))
		w.buf = append(w.buf, b[:n]...)
		b = b[n:]
		w.size += int64(n)
		if len(w.buf) >= writeSize {
			w.send()
		}
	}
}

// send queues the whole blocks of the buffer and goes on in another one.
func (w *writer) send() {
	n := len(w.buf) - len(w.buf)%block
	next := append(<-w.spare, w.buf[n:]...)
	w.queue <- chunk{b: w.buf[:n], at: w.at}
	w.at += int64(n)
	w.buf = next
}

// flush returns when everything appended so far is in the file. A last block that
// is not full is written with zeros behind it, and once more with what follows.
func (w *writer) flush() error {
	if len(w.buf) >= block {
		w.send()
	}
	done := make(chan error)
	w.queue <- chunk{done: done}
	if err := <-done; err != nil {
		return err
	}
	rest := len(w.buf)
	if rest == 0 {
		return nil
	}
	last := w.buf[:rest]
	if w.f.direct {
		last = w.buf[:block]
		clear(last[rest:])
	}
	_, err := w.f.WriteAt(last, w.at)
	return err
}

// finish gives back the room that was not needed and makes the file durable.
func (w *writer) finish() error {
	if err := w.f.trim(w.size); err != nil {
		return err
	}
	return w.f.sync()
}

func (w *writer) sync() error { return w.f.sync() }

// read reads n bytes at off, by way of room, which is longer by two blocks and
// begins on a page.
func (s *spread) read(room []byte, off int64, n int) ([]byte, error) {
	start := off
	if s.direct {
		start -= off % block
	}
	whole := room[:(int(off-start)+n+block-1)/block*block]
	got, err := s.ReadAt(whole, start)
	if got >= int(off-start)+n {
		err = nil // the file may end within the last block
	}
	return whole[off-start:][:n], err
}

// seed keys the sums that what is read back is compared with. They are for the
// medium's faults, not against anybody, and are never stored.
var seed = maphash.MakeSeed()

// sums of each readBytes of b.
func sums(b []byte) []uint64 {
	out := make([]uint64, 0, len(b)/readBytes+1)
	for c := range slices.Chunk(b, readBytes) {
		out = append(out, maphash.Bytes(seed, c))
	}
	return out
}

// same compares what the file holds in the n bytes at off with the sums of what
// was to be written there.
func same(s *spread, room []byte, off, n int64, want []uint64) error {
	for i, sum := range want {
		at := off + int64(i)*readBytes
		b, err := s.read(room, at, int(min(readBytes, off+n-at)))
		if err != nil || maphash.Bytes(seed, b) != sum {
			return fmt.Errorf("%w: at byte %d the shelf does not hold what was written (%v)", ErrDamaged, at, err)
		}
	}
	return nil
}

// compareBack compares what lies in stretches, read past the page cache, with b.
func compareBack(s *spread, b []byte) error {
	n := int64(len(b))
	if err := s.forget(0, n); err != nil {
		return err
	}
	room := make([]byte, readBytes+2*block)
	for at := int64(0); at < n; at += readBytes {
		got, err := s.read(room, at, int(min(readBytes, n-at)))
		if err == nil && !bytes.Equal(got, b[at:at+int64(len(got))]) {
			err = fmt.Errorf("%w: at byte %d the shelf does not hold what was written", ErrDamaged, at)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Close closes the file; what was not flushed may be lost.
func (w *writer) Close() error {
	close(w.queue)
	<-w.ended
	return w.f.Close()
}
