package ntfs

import (
	"errors"
	"fmt"
	"slices"
	"unicode/utf16"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Attribute types.
const (
	atStandard   = 0x10
	atList       = 0x20
	atFileName   = 0x30
	atObjectID   = 0x40
	atSecurity   = 0x50
	atVolumeName = 0x60
	atVolumeInfo = 0x70
	atData       = 0x80
	atIndexRoot  = 0x90
	atIndexAlloc = 0xa0
	atBitmap     = 0xb0
	atReparse    = 0xc0
	atEAInfo     = 0xd0
	atEA         = 0xe0
	atEnd        = 0xffffffff
)

// Flags of an attribute.
const (
	flagCompressed = 0x00ff
	flagEncrypted  = 0x4000
	flagSparse     = 0x8000
)

// Flags of a record.
const (
	inUse    = 0x0001
	isFolder = 0x0002
)

// run is a stretch of clusters; lcn is -1 for a hole.
type run struct{ vcn, lcn, n int64 }

// attr is one attribute of a record, its value still in the record's bytes.
type attr struct {
	typ      uint32
	name     string
	flags    uint16
	resident bool
	value    []byte // when resident
	// When not resident:
	lowest, highest          int64 // VCN
	alloc, size, initialised disk.Bytes
	taken                    disk.Bytes // of alloc, without holes
	unit                     uint8      // of compression
	runs                     []run
	off                      int // in the record
	length                   int // of the whole attribute
}

// record is one record of the MFT with its fixups undone.
type record struct {
	num   int64
	seq   uint16
	flags uint16
	links uint16
	base  uint64 // reference of the record this one extends, 0 for none
	raw   []byte
	attrs []attr
}

var (
	errNotRecord = errors.New("not a record of the MFT")
	errTorn      = errors.New("a record was written only in part")
	errAttr      = errors.New("an attribute does not fit its record")
	errRuns      = errors.New("a run list is not valid")
)

// unfix undoes the update sequence of a multi-sector structure in place: the
// last two bytes of each 512 were put aside when it was written, with a number
// in their place that tells a torn write.
func unfix(b []byte) error {
	off, n := int(le.Uint16(b[hdrFixups:])), int(le.Uint16(b[hdrFixupCount:]))
	if n < 2 || (n-1)*512 != len(b) || off < 8 || off+2*n > len(b) || off%2 != 0 {
		return errNotRecord
	}
	usn := le.Uint16(b[off:])
	for i := 1; i < n; i++ {
		p := b[i*512-2:]
		if le.Uint16(p) != usn {
			return errTorn
		}
		copy(p[:2], b[off+2*i:off+2*i+2])
	}
	return nil
}

// fix is the reverse of unfix, with the next number of the sequence.
func fix(b []byte) {
	off, n := int(le.Uint16(b[hdrFixups:])), int(le.Uint16(b[hdrFixupCount:]))
	usn := le.Uint16(b[off:]) + 1
	if usn == 0 || usn == 0xffff {
		usn = 1
	}
	le.PutUint16(b[off:], usn)
	for i := 1; i < n; i++ {
		p := b[i*512-2:]
		copy(b[off+2*i:off+2*i+2], p[:2])
		le.PutUint16(p, usn)
	}
}

// parseRecord reads a record of the MFT; b is changed (its fixups are undone).
// clusters bounds the run lists.
func parseRecord(num int64, b []byte, clusters int64) (*record, error) {
	return parseInto(&record{}, num, b, clusters)
}

// parseInto is parseRecord into a record that may have been used before: whole tables
// of files are read without a new one for each.
func parseInto(r *record, num int64, b []byte, clusters int64) (*record, error) {
	if len(b) < 512 || string(b[:4]) != "FILE" {
		return nil, errNotRecord
	}
	if err := unfix(b); err != nil {
		return nil, err
	}
	*r = record{
		attrs: r.attrs[:0], num: num, seq: le.Uint16(b[hdrSequence:]), links: le.Uint16(b[hdrLinks:]), flags: le.Uint16(b[hdrFlags:]),
		base: le.Uint64(b[hdrBase:]), raw: b,
	}
	used := int(min(le.Uint32(b[hdrUsed:]), uint32(len(b))))
	for off := int(le.Uint16(b[hdrFirst:])); ; {
		if off+8 > used {
			if off+4 <= used && le.Uint32(b[off:]) == atEnd {
				break
			}
			return r, errAttr
		}
		if le.Uint32(b[off:]) == atEnd {
			break
		}
		a, err := parseAttr(b[off:used], clusters)
		if err != nil {
			return r, err
		}
		a.off = off
		r.attrs = append(r.attrs, a)
		off += a.length
	}
	return r, nil
}

func parseAttr(b []byte, clusters int64) (attr, error) {
	if len(b) < 24 {
		return attr{}, errAttr
	}
	n := int(min(le.Uint32(b[attrLength:]), 1<<20))
	if n < 24 || n > len(b) || n%8 != 0 {
		return attr{}, errAttr
	}
	b = b[:n]
	a := attr{typ: le.Uint32(b), resident: b[attrNonResident] == 0, flags: le.Uint16(b[attrFlags:]), length: n}
	nameLen, nameOff := int(b[attrNameLength]), int(le.Uint16(b[attrNameOffset:]))
	if nameLen > 0 {
		if nameOff+2*nameLen > n {
			return a, errAttr
		}
		a.name = text16(b[nameOff : nameOff+2*nameLen])
	}
	if a.resident {
		vlen, voff := int(min(le.Uint32(b[attrValueLength:]), 1<<20)), int(le.Uint16(b[attrValueOffset:]))
		if voff+vlen > n {
			return a, errAttr
		}
		a.value = b[voff : voff+vlen]
		a.size, a.alloc, a.taken, a.initialised = disk.Bytes(vlen), disk.Bytes(vlen), disk.Bytes(vlen), disk.Bytes(vlen)
		return a, nil
	}
	if n < 64 {
		return a, errAttr
	}
	a.lowest, a.highest, a.unit = int64(le.Uint64(b[attrLowest:])), int64(le.Uint64(b[attrHighest:])), b[attrUnit]
	a.alloc, a.size, a.initialised = disk.Bytes(le.Uint64(b[attrAllocated:])), disk.Bytes(le.Uint64(b[attrSize:])), disk.Bytes(le.Uint64(b[attrInitialised:]))
	if a.lowest < 0 || a.lowest > 1<<50 || a.highest < -1 || a.highest > 1<<50 {
		return a, errAttr
	}
	if a.lowest == 0 && (a.alloc < 0 || a.size < 0 || a.initialised < 0 || a.alloc > 1<<60 || a.size > 1<<60 || a.initialised > 1<<60) {
		return a, errAttr
	}
	pairs := int(le.Uint16(b[attrRuns:]))
	// What a stream with holes truly takes stands behind its sizes.
	if a.taken = a.alloc; a.flags&(flagSparse|flagCompressed) == flagSparse && a.unit != 0 && pairs >= 72 && n >= 72 {
		a.taken = min(disk.Bytes(le.Uint64(b[attrTaken:])&(1<<62-1)), a.alloc)
	}
	if pairs < 64 || pairs >= n { // they lie behind the head, which is laid out anew before them
		return a, errAttr
	}
	var err error
	if a.runs, err = parseRuns(b[pairs:], a.lowest, clusters); err != nil {
		return a, err
	}
	if end := runsEnd(a.runs, a.lowest); end != a.highest+1 {
		return a, fmt.Errorf("%w: it ends at cluster %d of the stream instead of %d", errRuns, end-1, a.highest)
	}
	return a, nil
}

// parseRuns decodes mapping pairs: each a byte with the widths of a count and
// of a signed difference to the previous run's place, width 0 for a hole.
func parseRuns(b []byte, vcn, clusters int64) ([]run, error) {
	var runs []run
	lcn := int64(0)
	for len(b) > 0 && b[0] != 0 {
		nw, lw := int(b[0]&15), int(b[0]>>4)
		if nw == 0 || nw > 8 || lw > 8 || 1+nw+lw > len(b) {
			return nil, errRuns
		}
		n := signed(b[1 : 1+nw])
		if n <= 0 || n > 1<<50 || vcn > 1<<50 {
			return nil, errRuns
		}
		r := run{vcn: vcn, lcn: -1, n: n}
		if lw > 0 {
			lcn += signed(b[1+nw : 1+nw+lw])
			if lcn < 0 || n > clusters || lcn > clusters-n {
				return nil, fmt.Errorf("%w: it points to clusters %d to %d of %d", errRuns, lcn, lcn+n-1, clusters)
			}
			r.lcn = lcn
		}
		runs = append(runs, r)
		vcn += n
		b = b[1+nw+lw:]
	}
	if len(b) == 0 {
		return nil, errRuns // the closing zero is missing
	}
	return runs, nil
}

func signed(b []byte) int64 {
	v := int64(int8(b[len(b)-1]))
	for i := len(b) - 2; i >= 0; i-- {
		v = v<<8 | int64(b[i])
	}
	return v
}

// packRuns encodes runs as mapping pairs with the closing zero.
func packRuns(runs []run) []byte {
	var out []byte
	lcn := int64(0)
	for _, r := range runs {
		n := packSigned(r.n)
		var l []byte
		if r.lcn >= 0 {
			l = packSigned(r.lcn - lcn)
			lcn = r.lcn
		}
		out = append(out, byte(len(l)<<4|len(n)))
		out = append(append(out, n...), l...)
	}
	return append(out, 0)
}

func packSigned(v int64) []byte {
	var b []byte
	for {
		b = append(b, byte(v))
		if rest := v >> 8; rest == 0 && v&0x80 == 0 || rest == -1 && v&0x80 != 0 {
			return b
		}
		v >>= 8
	}
}

func runsEnd(runs []run, lowest int64) int64 {
	if len(runs) == 0 {
		return lowest
	}
	last := runs[len(runs)-1]
	return last.vcn + last.n
}

// find returns the record's first attribute of the given type and name.
func (r *record) find(typ uint32, name string) *attr {
	for i := range r.attrs {
		if r.attrs[i].typ == typ && r.attrs[i].name == name {
			return &r.attrs[i]
		}
	}
	return nil
}

// stream is the contents of an attribute that may be spread over several
// pieces in several records.
type stream struct {
	v           *Volume
	value       []byte // when resident
	runs        []run
	size        disk.Bytes
	initialised disk.Bytes
	alloc       disk.Bytes
	flags       uint16
	unit        uint8 // of compression, as a power of two of clusters
}

// Holes implements volume.Sparse.
func (s *stream) Holes() (out []volume.Extent) {
	for _, r := range s.runs {
		off := disk.Bytes(r.vcn) * s.v.boot.cluster
		if n := min(disk.Bytes(r.n)*s.v.boot.cluster, s.size-off); r.lcn < 0 && n > 0 {
			out = append(out, volume.Extent{Off: off, Len: n})
		}
	}
	return out
}

// join makes one stream of the pieces of an attribute.
func (v *Volume) join(pieces []attr) (*stream, error) {
	if len(pieces) == 1 && pieces[0].resident {
		return &stream{
			v: v, value: pieces[0].value, size: pieces[0].size, initialised: pieces[0].size, flags: pieces[0].flags,
		}, nil
	}
	pieces = slices.Clone(pieces)
	slices.SortStableFunc(pieces, func(a, b attr) int { return int(min(max(a.lowest-b.lowest, -1), 1)) })
	s := &stream{v: v}
	next := int64(0)
	for i, p := range pieces {
		if p.resident || p.lowest != next {
			return nil, fmt.Errorf("%w: a stream's pieces do not follow each other", volume.ErrDamaged)
		}
		if i == 0 {
			s.size, s.initialised, s.alloc, s.flags, s.unit = p.size, p.initialised, p.alloc, p.flags, p.unit
		}
		s.runs = append(s.runs, p.runs...)
		next = p.highest + 1
	}
	if s.size > disk.Bytes(next)*v.boot.cluster {
		return nil, fmt.Errorf(
			"%w: a stream of %d bytes has clusters for %d", volume.ErrDamaged, s.size,
			disk.Bytes(next)*v.boot.cluster,
		)
	}
	return s, nil
}

// ReadAt implements io.ReaderAt over the stream's contents.
func (s *stream) ReadAt(p []byte, off int64) (int, error) {
	short := len(p)
	if off < 0 || disk.Bytes(off) >= s.size {
		return 0, errEOF(short)
	}
	if rest := int64(s.size) - off; int64(short) > rest {
		short = int(rest)
	}
	out := p[:short]
	if s.value != nil {
		copy(out, s.value[off:])
	} else if err := s.readRuns(out, off); err != nil {
		return 0, err
	}
	if short < len(p) {
		return short, errEOF(1)
	}
	return short, nil
}

func (s *stream) readRuns(out []byte, off int64) error {
	cluster := int64(s.v.boot.cluster)
	// Runs are in order of VCN: find the first that reaches off.
	i, _ := slices.BinarySearchFunc(s.runs, off/cluster, func(r run, vcn int64) int {
		if r.vcn+r.n <= vcn {
			return -1
		}
		return 1
	})
	for len(out) > 0 {
		if i >= len(s.runs) {
			return fmt.Errorf("%w: a stream ends before its size", volume.ErrDamaged)
		}
		r := s.runs[i]
		into := off - r.vcn*cluster
		n := min(int64(len(out)), r.n*cluster-into)
		// What lies beyond the initialised length reads as zeros.
		live := min(max(int64(s.initialised)-off, 0), n)
		if r.lcn < 0 {
			live = 0
		}
		if live > 0 {
			if _, err := s.v.dev.ReadAt(out[:live], r.lcn*cluster+into); err != nil {
				return err
			}
		}
		clear(out[live:n])
		out, off, i = out[n:], off+n, i+1
	}
	return nil
}

// all reads the whole stream, which must not be longer than limit.
func (s *stream) all(limit disk.Bytes) ([]byte, error) {
	if s.size > limit {
		return nil, fmt.Errorf("%w: a stream claims %s", volume.ErrDamaged, s.size)
	}
	b := make([]byte, s.size)
	if len(b) == 0 {
		return b, nil
	}
	_, err := s.ReadAt(b, 0)
	return b, err
}

func text16(b []byte) string {
	plain := make([]byte, 0, 64) // most names are ASCII
	for i := 0; i+1 < len(b) && b[i+1] == 0 && b[i] < 0x80; i += 2 {
		plain = append(plain, b[i])
	}
	if len(plain) == len(b)/2 {
		return string(plain)
	}
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = le.Uint16(b[2*i:])
	}
	return string(utf16.Decode(u))
}

func bytes16(s string) []byte {
	var b []byte
	for _, c := range utf16.Encode([]rune(s)) {
		b = le.AppendUint16(b, c)
	}
	return b
}
