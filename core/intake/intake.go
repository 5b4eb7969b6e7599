// Package intake takes drive images of the usual forms in as raw, sparse images, and
// writes raw ones out again: compressed with gzip or zstd, as a fixed or dynamic VHD
// (Virtual Hard Disk Image Format Specification, version 1.0), or as qcow2 (QEMU's
// docs/interop/qcow2).
package intake

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"

	"jadetrail/core/disk"
)

// Format of an image file.
type Format string

// The formats.
const (
	Raw        Format = "raw"
	Gzip       Format = "gzip"
	Zstd       Format = "zstd"
	VHDFixed   Format = "vhd-fixed"
	VHDDynamic Format = "vhd-dynamic"
	Qcow2      Format = "qcow2"
)

// ends are how the names of files of each format end.
var ends = map[Format]string{
	Raw: ".img", Gzip: ".img.gz", Zstd: ".img.zst", VHDFixed: ".vhd", VHDDynamic: ".vhd", Qcow2: ".qcow2",
}

// Ends is how the names of files of a format end.
func (f Format) Ends() string {
	return ends[f]
}

// MaxSize is the largest drive that is taken in.
const MaxSize = 64 * disk.TiB

// Sentinel errors.
var (
	ErrFormat = errors.New("the image cannot be taken in")
	ErrRoom   = errors.New("there is not enough room for the drive")
)

// Source is an image file opened for reading.
type Source struct {
	Format Format
	// Size of the drive, -1 where only reading to the end tells.
	Size disk.Bytes
	f    *os.File
	data blockReader // nil for what is read as a stream
}

// blockReader is an image that is read block by block.
type blockReader interface {
	// block returns the bytes of the drive from off on, up to the end of its block;
	// nil bytes stand for n zeros.
	block(off disk.Bytes, buf []byte) (b []byte, n disk.Bytes, err error)
}

// Open recognises an image file by what it holds.
func Open(path string) (*Source, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, fmt.Errorf("%w: %s is not a plain file", ErrFormat, st.Name())
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	s := &Source{f: f, Size: disk.Bytes(st.Size()), Format: Raw}
	if err := s.recognise(); err != nil {
		f.Close()
		return nil, err
	}
	return s, nil
}

func (s *Source) recognise() error {
	head := make([]byte, 512)
	n, err := s.f.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return err
	}
	head = head[:n]
	tail := make([]byte, 512)
	if s.Size >= 512 {
		if _, err := s.f.ReadAt(tail, int64(s.Size)-512); err != nil {
			return err
		}
	}
	switch {
	case s.Size == 0:
		return fmt.Errorf("%w: it is empty", ErrFormat)
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b, 8}):
		s.Format, s.Size = Gzip, -1
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		s.Format, s.Size = Zstd, -1
	case bytes.HasPrefix(head, []byte("QFI\xfb")):
		s.Format = Qcow2
		q, err := openQcow2(s.f, s.Size)
		if err != nil {
			return err
		}
		s.data, s.Size = q, q.size
	case bytes.HasPrefix(tail, []byte(vhdCookie)) || bytes.HasPrefix(head, []byte(vhdCookie)):
		v, err := openVHD(s.f, s.Size)
		if err != nil {
			return err
		}
		s.Size = v.size
		if s.Format = VHDDynamic; v.bat == nil {
			s.Format = VHDFixed
			return nil
		}
		s.data = v
	case s.Size%512 != 0:
		return fmt.Errorf(
			"%w: its length of %d bytes is no whole number of sectors; it is something else, or was cut off",
			ErrFormat, s.Size,
		)
	}
	if s.Size > MaxSize {
		return fmt.Errorf("%w: a drive of %s", ErrFormat, s.Size)
	}
	return nil
}

// Close releases the file.
func (s *Source) Close() error { return s.f.Close() }

// Progress of taking in or writing out.
type Progress struct{ Done, Total disk.Bytes }

// TakeIn writes the drive as a raw, sparse image to a new file. What is not finished
// is taken away. room is what may be written at most.
func (s *Source) TakeIn(ctx context.Context, to string, room disk.Bytes, report func(Progress)) (err error) {
	f, err := os.OpenFile(to, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	defer func() {
		if e := f.Close(); err == nil {
			err = e
		}
		if err != nil {
			os.Remove(to)
		}
	}()
	w := &sparse{f: f, room: room}
	st, err := s.f.Stat()
	if err != nil {
		return err
	}
	tell := func(done, total disk.Bytes) {
		if report != nil {
			report(Progress{done, total})
		}
	}
	switch {
	case s.data != nil:
		err = s.takeBlocks(ctx, w, tell)
	case s.Format == Gzip || s.Format == Zstd:
		err = s.takeStream(ctx, w, disk.Bytes(st.Size()), tell)
	default:
		err = s.takeRaw(ctx, w, tell)
	}
	if err == nil && (w.at == 0 || w.at%512 != 0) {
		err = fmt.Errorf(
			"%w: it holds %d bytes, which is no drive; it is something else, or was cut off", ErrFormat, w.at,
		)
	}
	if err == nil {
		err = f.Truncate(int64(w.at))
	}
	if err == nil {
		err = f.Sync()
	}
	if errors.Is(err, unix.ENOSPC) {
		err = fmt.Errorf("%w: the host is full; what had been written was taken away", ErrRoom)
	}
	return err
}

const piece = 1 << 20

func (s *Source) takeBlocks(ctx context.Context, w *sparse, tell func(done, total disk.Bytes)) error {
	buf := make([]byte, 4<<20)
	for at := disk.Bytes(0); at < s.Size; {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		b, n, err := s.data.block(at, buf)
		if err != nil {
			return fmt.Errorf("%w: at byte %d: %w", ErrFormat, at, err)
		}
		if n = min(n, s.Size-at); b == nil {
			w.skip(n)
		} else if err := w.write(b[:n]); err != nil {
			return err
		}
		at += n
		tell(at, s.Size)
	}
	return nil
}

func (s *Source) takeStream(ctx context.Context, w *sparse, packed disk.Bytes, tell func(done, total disk.Bytes)) error {
	in := &counter{r: io.NewSectionReader(s.f, 0, int64(packed))}
	var r io.Reader
	if s.Format == Gzip {
		z, err := gzip.NewReader(bufio.NewReaderSize(in, piece))
		if err != nil {
			return fmt.Errorf("%w: %w", ErrFormat, err)
		}
		r = z
	} else {
		z, err := zstd.NewReader(in, zstd.WithDecoderMaxMemory(256<<20), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return fmt.Errorf("%w: %w", ErrFormat, err)
		}
		defer z.Close()
		r = z
	}
	buf := make([]byte, piece)
	for {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		n, err := io.ReadFull(r, buf)
		if w.at+disk.Bytes(n) > MaxSize {
			return fmt.Errorf("%w: it unpacks to more than %s", ErrFormat, MaxSize)
		}
		if e := w.write(buf[:n]); e != nil {
			return e
		}
		tell(in.n, packed)
		if err == io.EOF || err == io.ErrUnexpectedEOF && n > 0 && in.n >= packed {
			return ended(r)
		}
		if err != nil {
			return fmt.Errorf("%w: it is damaged or was cut off: %w", ErrFormat, err)
		}
	}
}

// ended tells whether a stream came to its proper end.
func ended(r io.Reader) error {
	if _, err := r.Read(make([]byte, 1)); err != io.EOF {
		return fmt.Errorf("%w: it is damaged or was cut off: %w", ErrFormat, err)
	}
	return nil
}

func (s *Source) takeRaw(ctx context.Context, w *sparse, tell func(done, total disk.Bytes)) error {
	buf := make([]byte, piece)
	for at := disk.Bytes(0); at < s.Size; {
		start, err := unix.Seek(int(s.f.Fd()), int64(at), unix.SEEK_DATA)
		if err == unix.ENXIO || disk.Bytes(start) >= s.Size {
			w.skip(s.Size - at)
			break
		} else if err != nil {
			start = int64(at)
		}
		end, err := unix.Seek(int(s.f.Fd()), start, unix.SEEK_HOLE)
		if err != nil || disk.Bytes(end) > s.Size {
			end = int64(s.Size)
		}
		w.skip(disk.Bytes(start) - at)
		for at = disk.Bytes(start); at < disk.Bytes(end); {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			b := buf[:min(disk.Bytes(len(buf)), disk.Bytes(end)-at)]
			if _, err := s.f.ReadAt(b, int64(at)); err != nil {
				return err
			}
			if err := w.write(b); err != nil {
				return err
			}
			at += disk.Bytes(len(b))
			tell(at, s.Size)
		}
	}
	return nil
}

type counter struct {
	r io.Reader
	n disk.Bytes
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += disk.Bytes(n)
	return n, err
}

// sparse appends to a file and leaves zeros out.
type sparse struct {
	f    *os.File
	at   disk.Bytes
	used disk.Bytes
	room disk.Bytes
}

const page = 4096

func (w *sparse) skip(n disk.Bytes) { w.at += n }

func (w *sparse) write(b []byte) error {
	for len(b) > 0 {
		n := 0
		for n < len(b) && disk.Zeros(b[n:min(n+page, len(b))]) {
			n = min(n+page, len(b))
		}
		w.at += disk.Bytes(n)
		b = b[n:]
		n = 0
		for n < len(b) && !disk.Zeros(b[n:min(n+page, len(b))]) {
			n = min(n+page, len(b))
		}
		if n == 0 {
			continue
		}
		if w.used += disk.Bytes(n); w.used > w.room {
			return fmt.Errorf(
				"%w: it holds more than the %s that are free; what had been written was taken away", ErrRoom, w.room,
			)
		}
		if _, err := w.f.WriteAt(b[:n], int64(w.at)); err != nil {
			return err
		}
		w.at += disk.Bytes(n)
		b = b[n:]
	}
	return nil
}

// HandOut writes a drive out in the given format. Holes stay holes where the format
// can say so.
func HandOut(ctx context.Context, dev disk.Device, f *os.File, format Format, report func(Progress)) error {
	tell := func(done disk.Bytes) error {
		if report != nil {
			report(Progress{done, dev.Size()})
		}
		return ctx.Err()
	}
	switch format {
	case Raw:
		if err := writeStored(dev, f, tell); err != nil {
			return err
		}
		return f.Truncate(int64(dev.Size()))
	case Gzip, Zstd:
		return handStream(dev, f, format, tell)
	case VHDFixed, VHDDynamic:
		return writeVHD(dev, f, format == VHDDynamic, tell)
	case Qcow2:
		return writeQcow2(dev, f, tell)
	}
	return fmt.Errorf("%w: %q is no format", ErrFormat, format)
}

// writeStored writes what a device has stored to the same places of a file.
func writeStored(dev disk.Device, f *os.File, tell func(disk.Bytes) error) error {
	w := &sparse{f: f, room: 1 << 62}
	return stored(dev, piece, func(off disk.Bytes, b []byte) error {
		w.at = off
		if err := w.write(b); err != nil {
			return err
		}
		return tell(off)
	})
}

func handStream(dev disk.Device, f *os.File, format Format, tell func(disk.Bytes) error) error {
	var z io.WriteCloser = gzip.NewWriter(f)
	if format == Zstd {
		w, err := zstd.NewWriter(f)
		if err != nil {
			return err
		}
		z = w
	}
	zeros := make([]byte, piece)
	at := disk.Bytes(0)
	pad := func(to disk.Bytes) error {
		for at < to {
			n := min(to-at, piece)
			if _, err := z.Write(zeros[:n]); err != nil {
				return err
			}
			if at += n; tell(at) != nil {
				return tell(at)
			}
		}
		return nil
	}
	err := stored(dev, piece, func(off disk.Bytes, b []byte) error {
		if err := pad(off); err != nil {
			return err
		}
		_, err := z.Write(b)
		at = off + disk.Bytes(len(b))
		return errors.Join(err, tell(at))
	})
	if err == nil {
		err = pad(dev.Size())
	}
	return errors.Join(err, z.Close())
}

// stored calls f for the blocks of a device that have anything stored, each aligned
// to its length, the last may be shorter.
func stored(dev disk.Device, block disk.Bytes, f func(off disk.Bytes, b []byte) error) error {
	buf := make([]byte, block)
	for at := disk.Bytes(0); at < dev.Size(); {
		start, _, ok := dev.Data(at)
		if !ok {
			return nil
		}
		at = max(start.Down(block), at)
		b := buf[:min(block, dev.Size()-at)]
		if _, err := dev.ReadAt(b, int64(at)); err != nil {
			return err
		}
		if err := f(at, b); err != nil {
			return err
		}
		at += disk.Bytes(len(b))
	}
	return nil
}
