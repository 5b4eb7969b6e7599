package ntfs

import (
	"fmt"
	"io"
	"sync"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// blocks reads contents that are decoded in blocks of one length; the last block
// that was decoded is kept.
type blocks struct {
	size   disk.Bytes
	block  disk.Bytes
	decode func(i int64, out []byte) error

	mu   sync.Mutex
	last int64
	buf  []byte
}

// ReadAt implements io.ReaderAt.
func (b *blocks) ReadAt(p []byte, off int64) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	done := 0
	for done < len(p) {
		at := disk.Bytes(off) + disk.Bytes(done)
		if off < 0 || at >= b.size {
			return done, io.EOF
		}
		i := int64(at / b.block)
		n := min(b.block, b.size-disk.Bytes(i)*b.block)
		if i != b.last || b.buf == nil {
			b.buf, b.last = b.buf[:0], -1
			if disk.Bytes(cap(b.buf)) < b.block {
				b.buf = make([]byte, b.block)
			}
			b.buf = b.buf[:n]
			if err := b.decode(i, b.buf); err != nil {
				b.buf = nil
				return done, fmt.Errorf("%w: block %d: %w", volume.ErrUnreadable, i, err)
			}
			b.last = i
		}
		done += copy(p[done:], b.buf[at-disk.Bytes(i)*b.block:])
	}
	return done, nil
}

// newUnpacker reads a compressed stream: units of clusters, each kept as it is,
// left out (zeros), or compressed and shorter than it was.
func newUnpacker(s *stream) (io.ReaderAt, error) {
	if s.value != nil {
		return s, nil
	}
	if s.unit == 0 || s.unit > 8 {
		return nil, fmt.Errorf("%w: units of 2^%d clusters", volume.ErrUnreadable, s.unit)
	}
	clusters := int64(1) << s.unit
	unit := disk.Bytes(clusters) * s.v.boot.cluster
	if unit > 16*disk.MiB {
		return nil, fmt.Errorf("%w: units of %s", volume.ErrUnreadable, unit)
	}
	raw := make([]byte, unit)
	return &blocks{size: s.size, block: unit, last: -1, decode: func(i int64, out []byte) error {
		live, hole := s.allocated(i*clusters, clusters)
		at := i * int64(unit)
		switch {
		case at >= int64(s.initialised) || live == 0:
			clear(out)
			return nil
		case !hole:
			return s.readRuns(out, at)
		}
		in := raw[:disk.Bytes(live)*s.v.boot.cluster]
		if err := s.readStored(in, at); err != nil {
			return err
		}
		if err := lznt1(out, in); err != nil {
			return err
		}
		if end := int64(s.initialised) - at; end < int64(len(out)) {
			clear(out[end:])
		}
		return nil
	}}, nil
}

// allocated counts the clusters from vcn on that are stored, and tells whether some
// of the unit are not.
func (s *stream) allocated(vcn, n int64) (live int64, hole bool) {
	for _, r := range s.runs {
		from, to := max(r.vcn, vcn), min(r.vcn+r.n, vcn+n)
		if from >= to || r.lcn < 0 {
			continue
		}
		live += to - from
	}
	return live, live < n
}

// readStored reads clusters as they lie on the volume, whatever the stream's length.
func (s *stream) readStored(out []byte, off int64) error {
	whole := *s
	whole.initialised = disk.Bytes(off) + disk.Bytes(len(out))
	return whole.readRuns(out, off)
}

// lznt1 decodes one compressed unit into out (MS-XCA, section 2.5): chunks of 4096
// bytes, each with a header of its length.
func lznt1(out, in []byte) error {
	bad := fmt.Errorf("%w: compressed data", volume.ErrDamaged)
	o := 0
	for o < len(out) && len(in) >= 2 {
		head := le.Uint16(in)
		if head == 0 {
			break
		}
		n := int(head&0xfff) + 1
		if len(in) < 2+n {
			return bad
		}
		c := in[2 : 2+n]
		in = in[2+n:]
		start, limit := o, min(o+4096, len(out))
		if head&0x8000 == 0 {
			o += copy(out[o:limit], c)
			continue
		}
		for len(c) > 0 && o < limit {
			flags := c[0]
			c = c[1:]
			for bit := 0; bit < 8 && len(c) > 0 && o < limit; bit++ {
				if flags>>bit&1 == 0 {
					out[o] = c[0]
					o, c = o+1, c[1:]
					continue
				}
				if len(c) < 2 || o == start {
					return bad
				}
				w := int(le.Uint16(c))
				c = c[2:]
				shift := 12 // how far back grows with what there is
				for pos := o - start - 1; pos >= 16; pos >>= 1 {
					shift--
				}
				back, length := w>>shift+1, w&(1<<shift-1)+3
				if back > o-start {
					return bad
				}
				for ; length > 0 && o < limit; length-- {
					out[o] = out[o-back]
					o++
				}
			}
		}
		if o < limit && limit < len(out) {
			clear(out[o:limit])
			o = limit
		}
	}
	clear(out[o:])
	return nil
}

// packedStream is where the system keeps what it compressed.
const packedStream = "WofCompressedData"

// systemForm is how the system compressed a file.
type systemForm struct {
	chunk disk.Bytes
	lzx   bool
}

// systemFormat reads the data of the reparse point of a file that the system
// compressed (ntifs.h: WOF_EXTERNAL_INFO, FILE_PROVIDER_EXTERNAL_INFO_V1).
func systemFormat(b []byte) (systemForm, error) {
	if len(b) < 16 || le.Uint32(b) != 1 || le.Uint32(b[4:]) != 2 || le.Uint32(b[8:]) != 1 {
		return systemForm{}, fmt.Errorf("%w: kept in an archive of another file", volume.ErrUnreadable)
	}
	switch le.Uint32(b[12:]) {
	case 0:
		return systemForm{chunk: 4096}, nil
	case 1:
		return systemForm{chunk: 32768, lzx: true}, nil
	case 2:
		return systemForm{chunk: 8192}, nil
	case 3:
		return systemForm{chunk: 16384}, nil
	}
	return systemForm{}, fmt.Errorf("%w: compressed by the system in form %d", volume.ErrUnreadable, le.Uint32(b[12:]))
}

// newSystemUnpacker reads what the system compressed: a table of where the chunks
// begin, then the chunks; one that did not shrink is kept as it was.
func newSystemUnpacker(in *stream, size disk.Bytes, form systemForm) (io.ReaderAt, error) {
	count := int64((size + form.chunk - 1) / form.chunk)
	width := int64(4)
	if size >= 4*disk.GiB {
		width = 8
	}
	head := (count - 1) * width
	if size > 0 && (head < 0 || head > int64(in.size)) {
		return nil, fmt.Errorf("%w: its table of %d chunks does not fit %d bytes", volume.ErrUnreadable, count, in.size)
	}
	place := func(i int64) (int64, error) {
		switch {
		case i == 0:
			return head, nil
		case i == count:
			return int64(in.size), nil
		}
		b := make([]byte, width)
		if _, err := in.ReadAt(b, (i-1)*width); err != nil {
			return 0, err
		}
		if width == 4 {
			return head + int64(le.Uint32(b)), nil
		}
		return head + int64(min(le.Uint64(b), 1<<60)), nil
	}
	raw := make([]byte, form.chunk)
	return &blocks{size: size, block: form.chunk, last: -1, decode: func(i int64, out []byte) error {
		from, err := place(i)
		if err != nil {
			return err
		}
		to, err := place(i + 1)
		if err != nil {
			return err
		}
		if from < head || to < from || to-from > int64(len(out)) || to > int64(in.size) {
			return fmt.Errorf("%w: chunk %d lies at %d to %d", volume.ErrDamaged, i, from, to)
		}
		b := raw[:to-from]
		if len(b) > 0 {
			if _, err := in.ReadAt(b, from); err != nil && err != io.EOF {
				return err
			}
		}
		switch {
		case len(b) == len(out):
			copy(out, b)
			return nil
		case form.lzx:
			return lzx(out, b)
		}
		return xpress(out, b)
	}}, nil
}
