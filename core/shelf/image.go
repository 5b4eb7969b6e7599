package shelf

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
	"lukechampine.com/blake3"

	"jadetrail/core/digest"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// pieceBytes is the length of a piece of an image; maxPiece bounds what a
// manifest may claim.
const (
	pieceBytes = 4 * disk.MiB
	maxPiece   = 16 * disk.MiB
)

// Progress of a backup or its verification.
type Progress struct {
	Phase string     `json:"phase"` // writing, verifying
	Done  disk.Bytes `json:"done"`
	Total disk.Bytes `json:"total"`
}

// Request is what to back up. Dev is the partition's window, Volume is nil for
// what cannot be looked into.
type Request struct {
	ID     string
	Now    time.Time
	Who    string
	Dev    disk.Device
	Volume volume.Volume
	From   Origin // its fingerprint is filled in
}

// Fingerprint of a partition as it is: of the metadata, or of all contents when
// it cannot be looked into.
func Fingerprint(dev disk.Device, v volume.Volume) (string, error) {
	if v != nil {
		return v.Fingerprint()
	}
	h := blake3.New(32, nil)
	if _, err := io.CopyBuffer(h, io.NewSectionReader(dev, 0, int64(dev.Size())), make([]byte, 1<<20)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Ranges returns what of the partition is copied: everything, or when the volume
// is clean and its map of clusters agrees with its files, all but the free
// clusters (left is then true).
func Ranges(dev disk.Device, v volume.Volume) (ranges [][2]disk.Bytes, left bool, err error) {
	whole := [][2]disk.Bytes{{0, dev.Size()}}
	if v == nil {
		return whole, false, nil
	}
	info, err := v.Info()
	if err != nil || !info.Clean || !v.Agrees() {
		return whole, false, nil
	}
	err = v.Allocated(func(a, b disk.Bytes) error {
		if n := len(ranges); n > 0 && ranges[n-1][1] == a {
			ranges[n-1][1] = b
		} else {
			ranges = append(ranges, [2]disk.Bytes{a, b})
		}
		return nil
	})
	return ranges, true, err
}

// readPiece fills b with the bytes at off: what lies in ranges and is stored on
// the device, zeros elsewhere. Where there is nothing at all it leaves b as it is
// and says so; the piece is then zeros.
func readPiece(dev disk.Device, ranges [][2]disk.Bytes, b []byte, off disk.Bytes) (bool, error) {
	end := off + disk.Bytes(len(b))
	i, _ := slices.BinarySearchFunc(ranges, off, func(r [2]disk.Bytes, x disk.Bytes) int {
		if r[1] <= x {
			return -1
		}
		return 1
	})
	some := false
	for ; i < len(ranges) && ranges[i][0] < end; i++ {
		for at, stop := max(ranges[i][0], off), min(ranges[i][1], end); at < stop; {
			s, e, ok := dev.Data(at)
			if !ok || s >= stop {
				break
			}
			s, e = max(s, at), min(e, stop)
			if !some {
				clear(b)
			}
			if _, err := dev.ReadAt(b[s-off:e-off], int64(s)); err != nil {
				return some, err
			}
			some, at = true, e
		}
	}
	return some, nil
}

// room is an upper bound of what a backup of the partition takes: all that is
// stored in the ranges, and a frame for each piece.
func room(dev disk.Device, ranges [][2]disk.Bytes) disk.Bytes {
	n := (dev.Size()/pieceBytes + 1) * 1024
	for _, r := range ranges {
		for at := r[0]; at < r[1]; {
			s, e, ok := dev.Data(at)
			if !ok || s >= r[1] {
				break
			}
			n += min(e, r[1]) - max(s, at)
			at = e
		}
	}
	return n + n/1000
}

// Make makes an image of a partition, and verifies it by reading it back past
// the page cache. Room is checked first. What is not finished never looks like a
// backup: it has no manifest and is taken away.
func (s *Shelf) Make(ctx context.Context, r Request, report func(Progress)) (*Manifest, error) {
	dir, err := s.path(r.ID)
	if err != nil {
		return nil, err
	}
	ranges, left, err := Ranges(r.Dev, r.Volume)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return nil, fmt.Errorf("the shelf cannot be used: %w", err)
	}
	need := room(r.Dev, ranges)
	free, err := s.Free()
	if err != nil {
		return nil, err
	}
	if need > free {
		return nil, fmt.Errorf("%w: the backup may take %s, and %s is free; nothing was written. Make room, or use another shelf", ErrRoom, need, free)
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		return nil, fmt.Errorf("the backup cannot be begun: %w", err)
	}
	m, err := s.write(ctx, dir, r, ranges, left, report)
	if err == nil {
		m.Verified = &r.Now
		err = s.save(dir, m)
	}
	if err == nil {
		err = SyncDir(s.Dir)
	}
	if err != nil {
		os.RemoveAll(dir)
		if errors.Is(err, unix.ENOSPC) {
			err = fmt.Errorf("%w: it filled up while the backup was made; what had been written was taken away", ErrRoom)
		}
		return nil, err
	}
	return m, nil
}

// job is one piece on its way through the workers.
type job struct {
	i     int
	raw   []byte
	zero  bool
	frame []byte
	node  digest.Node // of the piece, in the tree of the whole
	at, n int64       // of the frame in the image
	sums  []uint64    // of the frame's blocks of readBytes
	done  chan error
}

// buffers is a stock of buffers that are used again and again.
type buffers chan []byte

func (b buffers) get(n disk.Bytes) []byte {
	select {
	case x := <-b:
		if disk.Bytes(cap(x)) >= n {
			return x[:n]
		}
	default:
	}
	return make([]byte, n, max(n, pieceBytes+64<<10))
}

func (b buffers) put(x []byte) {
	select {
	case b <- x:
	default:
	}
}

// syncEvery is after how many bytes of the image a part of it is made durable and
// read back, while the next part is still being written.
const syncEvery = 128 << 20

// write makes the image and verifies it. Pieces are read in order, hashed and
// compressed by several workers, and written in order; that each frame decodes to
// its piece is known before it is written. Each part of the file is synced, read
// back past the page cache, and compared with sums of what was to be written.
func (s *Shelf) write(ctx context.Context, dir string, r Request, ranges [][2]disk.Bytes, left bool, report func(Progress)) (*Manifest, error) {
	size := r.Dev.Size()
	m := &Manifest{Version: 2, ID: r.ID, Kind: "image", Made: r.Now, Who: r.Who, From: r.From, Bytes: size, LeftOut: left}
	if left {
		m.Allocated = ranges
	}
	f, err := newWriter(dir+"/image.zst", int64(room(r.Dev, ranges)))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	back, err := openPast(dir + "/image.zst")
	if err != nil {
		return nil, err
	}
	defer back.Close()
	workers := max(runtime.GOMAXPROCS(0), 2)
	stock := make(buffers, 64)
	todo, ordered := make(chan *job, workers), make(chan *job, 2*workers)
	written, toVerify := make(chan []*job, 1), make(chan *job, workers)
	progress := &tally{total: 2 * size, report: report}
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return readAll(ctx, r.Dev, ranges, stock, todo, ordered) })
	for range workers {
		g.Go(func() error { return squeeze(todo, stock) })
	}
	g.Go(func() error { // write, in order
		defer close(written)
		var all digest.Whole
		at, part := int64(0), []*job(nil)
		for j := range ordered {
			select {
			case err := <-j.done:
				if err != nil {
					return err
				}
			case <-ctx.Done():
				return ctx.Err()
			}
			all.Add(j.node)
			j.at, j.n = at, int64(len(j.frame))
			f.append(j.frame)
			if !j.zero {
				stock.put(j.frame)
			}
			j.frame = nil
			n := min(pieceBytes, size-disk.Bytes(j.i)*pieceBytes)
			m.Pieces = append(m.Pieces, Piece{Off: disk.Bytes(j.i) * pieceBytes, Len: n, FrameOff: at, FrameLen: j.n, Hash: j.node.String(), Zero: j.zero})
			at += j.n
			part = append(part, j)
			progress.add("writing", n)
			if at-part[0].at >= syncEvery {
				if err := f.flush(); err != nil {
					return err
				}
				if err := pass(ctx, written, part); err != nil {
					return err
				}
				part = nil
			}
		}
		m.Hash, m.Stored = all.Sum(), disk.Bytes(at)
		if err := f.flush(); err != nil || len(part) == 0 {
			return err
		}
		return pass(ctx, written, part)
	})
	g.Go(func() error { // make durable
		defer close(toVerify)
		for part := range written {
			if err := f.sync(); err != nil {
				return err
			}
			end := part[len(part)-1].at + part[len(part)-1].n
			if err := back.forget(part[0].at, end); err != nil {
				return err
			}
			for _, j := range part {
				if err := pass(ctx, toVerify, j); err != nil {
					return err
				}
			}
		}
		return nil
	})
	for range readers {
		g.Go(func() error {
			room := make([]byte, readBytes+2*block)
			for j := range toVerify {
				if err := back.same(room, j.at, j.n, j.sums); err != nil {
					return err
				}
				progress.add("verifying", min(pieceBytes, size-disk.Bytes(j.i)*pieceBytes))
			}
			return nil
		})
	}
	var fp error
	if r.Volume != nil {
		m.From.Fingerprint, fp = r.Volume.Fingerprint()
	}
	if err := errors.Join(g.Wait(), fp); err != nil {
		return m, err
	}
	if r.Volume == nil { // all contents were read: their hash is the fingerprint
		m.From.Fingerprint = m.Hash
	}
	return m, f.finish()
}

// pass sends on a channel unless everything is being given up.
func pass[T any](ctx context.Context, c chan<- T, v T) error {
	select {
	case c <- v:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// tally counts what several workers have done.
type tally struct {
	mu          sync.Mutex
	done, total disk.Bytes
	report      func(Progress)
}

func (t *tally) add(phase string, n disk.Bytes) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.done += n; t.report != nil {
		t.report(Progress{phase, t.done / 2, t.total / 2})
	}
}

// readAll reads the partition piece by piece.
func readAll(ctx context.Context, dev disk.Device, ranges [][2]disk.Bytes, stock buffers, todo, ordered chan<- *job) error {
	defer close(todo)
	defer close(ordered)
	size := dev.Size()
	for off := disk.Bytes(0); off < size; off += pieceBytes {
		j := &job{i: int(off / pieceBytes), raw: stock.get(min(pieceBytes, size-off)), done: make(chan error, 1)}
		some, err := readPiece(dev, ranges, j.raw, off)
		if err != nil {
			return fmt.Errorf("the partition cannot be read at byte %d: %w", off, err)
		}
		if j.zero = !some; j.zero {
			n := len(j.raw)
			stock.put(j.raw)
			j.raw = blank().raw[:n]
		}
		if err := errors.Join(pass(ctx, ordered, j), pass(ctx, todo, j)); err != nil {
			return err
		}
	}
	return nil
}

// squeeze hashes and compresses pieces.
func squeeze(todo <-chan *job, stock buffers) error {
	enc, err := newEncoder()
	if err != nil {
		return err
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return err
	}
	defer dec.Close()
	sample, out := make([]byte, 0, 64<<10), make([]byte, 0, 80<<10)
	for j := range todo {
		z := blank()
		j.node = digest.Of(j.raw, disk.Bytes(j.i)*pieceBytes)
		switch {
		case j.zero && len(j.raw) == len(z.raw):
			j.frame = z.frame
		default:
			sample = sample[:0]
			for at := 0; at+4096 <= len(j.raw) && len(sample) < cap(sample); at += max(len(j.raw)/16, 4096) {
				sample = append(sample, j.raw[at:at+4096]...)
			}
			frame := stock.get(pieceBytes + 64<<10)[:0]
			if out = enc.EncodeAll(sample, out[:0]); len(sample) > 0 && len(out) >= len(sample)*63/64 {
				j.frame = appendRaw(frame, j.raw)
			} else {
				j.frame = enc.EncodeAll(j.raw, frame)
				raw, err := dec.DecodeAll(j.frame, stock.get(disk.Bytes(len(j.raw)))[:0])
				if err != nil || !bytes.Equal(raw, j.raw) {
					j.done <- fmt.Errorf("%w: a piece does not decode to what it was (%v)", ErrDamaged, err)
					continue
				}
				stock.put(raw)
			}
		}
		if !j.zero {
			stock.put(j.raw)
		}
		j.sums = sums(j.frame)
		j.done <- nil
	}
	return nil
}

// appendRaw appends a zstd frame that holds b as it is (RFC 8878, 3.1.1): for what
// does not compress.
func appendRaw(dst, b []byte) []byte {
	dst = append(dst, 0x28, 0xb5, 0x2f, 0xfd, 0xa0) // single segment, four bytes of length
	dst = binary.LittleEndian.AppendUint32(dst, uint32(len(b)))
	const most = 128 << 10
	for {
		n := min(len(b), most)
		last := uint32(0)
		if n == len(b) {
			last = 1
		}
		h := uint32(n)<<3 | last
		dst = append(dst, byte(h), byte(h>>8), byte(h>>16))
		dst = append(dst, b[:n]...)
		if b = b[n:]; last == 1 {
			return dst
		}
	}
}

func newEncoder() (*zstd.Encoder, error) {
	return zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithEncoderCRC(false))
}

// blank is a whole piece of zeros: most pieces of a large volume are one, and
// they are compressed only once.
var blank = sync.OnceValue(func() *job {
	j := &job{raw: make([]byte, pieceBytes), zero: true}
	if enc, err := newEncoder(); err == nil { // the options are constant
		j.frame = enc.EncodeAll(j.raw, nil)
	}
	return j
})

// Verify reads a backup back and compares every piece; on success the manifest
// notes the time. A damaged backup is ErrDamaged with the pieces concerned.
func (s *Shelf) Verify(ctx context.Context, id string, now time.Time, report func(Progress)) (*Manifest, error) {
	m, err := s.Load(id)
	if err != nil {
		return nil, err
	}
	if err := s.verify(ctx, m, report); err != nil {
		return m, err
	}
	m.Verified = &now
	dir, _ := s.path(id)
	return m, s.save(dir, m)
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
	if len(bad) > 0 {
		slices.Sort(bad)
		return fmt.Errorf("%w: %s: %d of %d pieces do not read back as they were written, the first at byte %d", ErrDamaged, m.ID, len(bad), len(m.Pieces), m.Pieces[bad[0]].Off)
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
	m.SHA256 = hex.EncodeToString(h.Sum(nil))
	dir, err := s.path(id)
	if err != nil {
		return nil, err
	}
	return m, s.save(dir, m)
}

// Reader gives the raw image of a backup; every piece is compared with its hash
// when it is read.
type Reader struct {
	m     *Manifest
	id    string
	f     *os.File
	dec   sync.Pool
	stock buffers

	mu   sync.Mutex
	last int
	raw  []byte
}

// Reader opens a backup's contents.
func (s *Shelf) Reader(m *Manifest) (*Reader, error) {
	p, err := s.path(m.ID, "image.zst")
	if err != nil {
		return nil, err
	}
	r, err := newReader(m.ID, p, make(buffers, 16))
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %v", ErrDamaged, m.ID, err)
	}
	r.m = m
	return r, nil
}

func newReader(id, path string, stock buffers) (*Reader, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	r := &Reader{id: id, f: f, last: -1, stock: stock}
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
	return unix.Fadvise(int(r.f.Fd()), start, last.FrameOff+last.FrameLen-start, unix.FADV_DONTNEED)
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
		i, _ := slices.BinarySearchFunc(r.m.Pieces, at, func(p Piece, x disk.Bytes) int {
			if p.Off+p.Len <= x {
				return -1
			}
			return 1
		})
		if i != r.last {
			raw, err := r.piece(r.m.Pieces[i])
			if err != nil {
				return done, err
			}
			r.last, r.raw = i, raw
		}
		done += copy(b[done:], r.raw[at-r.m.Pieces[i].Off:])
	}
	return done, nil
}

// Close releases the backup.
func (r *Reader) Close() error { return r.f.Close() }

// Compared is the outcome of comparing a place on a drive with a backup.
type Compared struct {
	Same    disk.Bytes `json:"same_bytes"`
	Differ  disk.Bytes `json:"differ_bytes"`
	Unknown disk.Bytes `json:"unknown_bytes"` // free clusters, of which no backup knows
}

// Compare compares a partition's place with its backup, piece by piece.
func Compare(dev disk.Device, m *Manifest) (Compared, error) {
	var c Compared
	ranges := m.Allocated
	if !m.LeftOut {
		ranges = [][2]disk.Bytes{{0, m.Bytes}}
	}
	known := disk.Bytes(0)
	for _, r := range ranges {
		known += r[1] - r[0]
	}
	c.Unknown = m.Bytes - known
	b := make([]byte, maxPiece)
	for _, p := range m.Pieces {
		part := b[:p.Len]
		some, err := readPiece(dev, ranges, part, p.Off)
		if err != nil {
			return c, err
		}
		var in disk.Bytes
		for _, r := range ranges {
			in += max(min(r[1], p.Off+p.Len)-max(r[0], p.Off), 0)
		}
		same := !some && p.Zero
		if !same {
			if !some {
				clear(part)
			}
			same = digest.Of(part, p.Off).String() == p.Hash
		}
		if same {
			c.Same += in
		} else {
			c.Differ += in
		}
	}
	return c, nil
}

// NewOrigin describes where a backup comes from.
func NewOrigin(l *layout.Layout, s layout.Span, model, serial string) Origin {
	return Origin{DiskID: l.DiskID, Model: model, Serial: serial, Sector: l.Sector, Span: s}
}
