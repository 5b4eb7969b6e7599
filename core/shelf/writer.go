package shelf

import (
	"os"

	"golang.org/x/sys/unix"
)

// writer appends to a file past the page cache where the file system allows it: a
// backup is read back from the medium anyway, and bytes that were never cached
// need neither be written back nor dropped.
type writer struct {
	f      *os.File
	direct bool
	at     int64 // in the file, a multiple of block
	buf    []byte
	size   int64
}

const (
	block     = 4096 // what direct writes are aligned to
	writeSize = 32 << 20
)

func newWriter(path string) (*writer, error) {
	const flags = os.O_WRONLY | os.O_CREATE | os.O_EXCL
	w := &writer{buf: make([]byte, 0, writeSize+int(pieceBytes)+64<<10)}
	var err error
	if w.f, err = os.OpenFile(path, flags|unix.O_DIRECT, 0o644); err == nil {
		w.direct = true
		return w, nil
	}
	os.Remove(path) // a file system without direct writes may have made it
	w.f, err = os.OpenFile(path, flags, 0o644)
	return w, err
}

func (w *writer) append(b []byte) error {
	for len(b) > 0 {
		n := min(len(b), cap(w.buf)-len(w.buf))
		w.buf = append(w.buf, b[:n]...)
		b = b[n:]
		w.size += int64(n)
		if len(w.buf) >= writeSize {
			if err := w.write(len(w.buf) - len(w.buf)%block); err != nil {
				return err
			}
		}
	}
	return nil
}

// write puts the first n bytes of the buffer into the file and keeps the rest.
func (w *writer) write(n int) error {
	if _, err := w.f.WriteAt(w.buf[:n], w.at); err != nil {
		return err
	}
	w.at += int64(n)
	w.buf = w.buf[:copy(w.buf, w.buf[n:])]
	return nil
}

// flush puts everything appended so far into the file. A last block that is not
// full is written with zeros behind it, cut off again, and written once more with
// what follows.
func (w *writer) flush() error {
	if whole := len(w.buf) - len(w.buf)%block; whole > 0 {
		if err := w.write(whole); err != nil {
			return err
		}
	}
	rest := len(w.buf)
	if rest == 0 {
		return nil
	}
	last := w.buf[:rest]
	if w.direct {
		last = w.buf[:block]
		clear(last[rest:])
	}
	if _, err := w.f.WriteAt(last, w.at); err != nil {
		return err
	}
	return w.f.Truncate(w.size)
}

func (w *writer) sync() error { return w.f.Sync() }

// Close closes the file.
func (w *writer) Close() error { return w.f.Close() }
