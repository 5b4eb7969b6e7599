package ntfs

import (
	"fmt"
	"slices"

	"jadetrail/core/disk"
)

// piece is one attribute that is being put into a record, without its instance number.
type piece struct {
	typ    uint32
	name   string
	lowest int64
	b      []byte
	// What a piece that is not resident can be split by: its runs, the bytes before its
	// list of them, and the clusters that are compressed together.
	runs []run
	head []byte
	unit int64
}

// whole is a resident attribute.
func whole(typ uint32, name string, value []byte, indexed bool) piece {
	nm := bytes16(name)
	at := (attrResidentHead + len(nm) + 7) &^ 7
	b := make([]byte, (at+len(value)+7)&^7)
	le.PutUint32(b, typ)
	le.PutUint32(b[attrLength:], uint32(len(b)))
	b[attrNameLength] = byte(len(nm) / 2)
	le.PutUint16(b[attrNameOffset:], attrResidentHead)
	le.PutUint32(b[attrValueLength:], uint32(len(value)))
	le.PutUint16(b[attrValueOffset:], uint16(at))
	if indexed {
		b[attrIndexed] = 1
	}
	copy(b[attrResidentHead:], nm)
	copy(b[at:], value)
	return piece{typ: typ, name: name, b: b}
}

// outside is an attribute whose contents lie in clusters.
func outside(typ uint32, name string, runs []run, alloc, size disk.Bytes) piece {
	nm := bytes16(name)
	h := make([]byte, (attrRunsHead+len(nm)+7)&^7)
	le.PutUint32(h, typ)
	h[attrNonResident], h[attrNameLength] = 1, byte(len(nm)/2)
	le.PutUint16(h[attrNameOffset:], attrRunsHead)
	le.PutUint64(h[attrAllocated:], uint64(alloc))
	le.PutUint64(h[attrSize:], uint64(size))
	le.PutUint64(h[attrInitialised:], uint64(size))
	copy(h[attrRunsHead:], nm)
	return piece{typ: typ, name: name, head: h, unit: 1}.mapped(runs)
}

// carried is an attribute of a record that exists, with other runs where its contents lie in
// clusters.
func carried(r *record, a *attr, runs []run) piece {
	b := slices.Clone(r.raw[a.off : a.off+a.length])
	p := piece{typ: a.typ, name: a.name, b: b}
	if a.resident {
		return p
	}
	p.head, p.unit = b[:le.Uint16(b[attrRuns:])], 1<<(a.unit&15)
	return p.mapped(runs)
}

// mapped is the piece, or the part of it, that the runs map.
func (p piece) mapped(runs []run) piece {
	if p.runs = runs; len(runs) > 0 {
		p.lowest = runs[0].vcn
	}
	h := slices.Clone(p.head)
	if p.lowest > 0 { // the sizes stand in the first part alone
		nm := bytes16(p.name)
		h = append(slices.Clone(p.head[:64]), nm...)
		h = append(h, make([]byte, -len(h)&7)...)
		clear(h[attrUnit:attrRunsHead])
		le.PutUint16(h[attrNameOffset:], attrRunsHead)
	}
	pairs := packRuns(runs)
	le.PutUint16(h[attrRuns:], uint16(len(h)))
	le.PutUint64(h[attrLowest:], uint64(p.lowest))
	le.PutUint64(h[attrHighest:], uint64(runsEnd(runs, p.lowest)-1))
	p.b = append(h, pairs...)
	p.b = append(p.b, make([]byte, -len(p.b)&7)...)
	le.PutUint32(p.b[attrLength:], uint32(len(p.b)))
	return p
}

// split cuts a piece so that no part is longer than most bytes. What is compressed together
// stays in one part.
func (p piece) split(most int) []piece {
	if len(p.b) <= most || len(p.runs) < 2 {
		return []piece{p}
	}
	first, end := p.runs[0].vcn, runsEnd(p.runs, 0)
	at := p.runs[len(p.runs)/2].vcn / p.unit * p.unit
	if at <= first {
		at = first + p.unit
	}
	if at >= end {
		return []piece{p}
	}
	var a, b []run
	for _, r := range p.runs {
		if n := min(r.n, at-r.vcn); n > 0 {
			a = append(a, run{r.vcn, r.lcn, n})
		}
		if n := min(r.n, r.vcn+r.n-at); n > 0 {
			x := run{r.vcn + r.n - n, r.lcn, n}
			if r.lcn >= 0 {
				x.lcn = r.lcn + r.n - n
			}
			b = append(b, x)
		}
	}
	return append(p.mapped(a).split(most), p.mapped(b).split(most)...)
}

// head is the bytes before a record's first attribute.
func head(size int) int { return (0x30 + 2*(size/512+1) + 7) &^ 7 }

// record puts attributes into the bytes of a record, without the closing fixups.
func compose(size int, num int64, seq, flags, links uint16, base uint64, pieces []piece) ([]byte, error) {
	b := make([]byte, head(size), size)
	copy(b, "FILE")
	le.PutUint16(b[hdrFixups:], 0x30)
	le.PutUint16(b[hdrFixupCount:], uint16(size/512+1))
	le.PutUint16(b[hdrSequence:], seq)
	le.PutUint16(b[hdrLinks:], links)
	le.PutUint16(b[hdrFirst:], uint16(len(b)))
	le.PutUint16(b[hdrFlags:], flags)
	le.PutUint32(b[hdrAllocated:], uint32(size))
	le.PutUint64(b[hdrBase:], base)
	le.PutUint32(b[hdrNumber:], uint32(num))
	for i, p := range pieces {
		at := len(b)
		if b = append(b, p.b...); len(b)+8 > size {
			return nil, ErrRecord
		}
		le.PutUint16(b[at+attrInstance:], uint16(i))
	}
	le.PutUint16(b[hdrNextInstance:], uint16(len(pieces)))
	b = le.AppendUint32(b, atEnd)
	b = le.AppendUint32(b, 0)
	le.PutUint32(b[hdrUsed:], uint32(len(b)))
	return b[:size], nil
}

// file puts a file's attributes into its record, and those that do not fit into records
// that extend it, with an attribute list.
func (l *loader) file(num int64, flags, links uint16, pieces []piece) error {
	size, seq := l.v.boot.record, l.seq(num)
	most := size - head(size) - 8
	total := 0
	for _, p := range pieces {
		total += len(p.b)
	}
	l.order(pieces)
	if total <= most {
		b, err := compose(size, num, seq, inUse|flags, links, 0, pieces)
		l.records[num] = b
		return err
	}
	var parts []piece
	for _, p := range pieces {
		parts = append(parts, p.split(most)...)
	}
	l.order(parts)
	list := 0
	for _, p := range parts {
		list += (26 + 2*len(bytes16(p.name))/2*2 + 7) &^ 7
	}
	// What the record itself keeps: its times, the list, and as much as fits beside them.
	room := most - (24 + list)
	resident := list <= most/2
	if !resident {
		room = most - 64 - 64
	}
	type placed struct {
		ref      uint64
		instance uint16
	}
	self := uint64(seq)<<48 | uint64(num)
	where := make([]placed, len(parts))
	var own []int
	for i, p := range parts {
		if p.typ == atStandard || p.typ != atData && p.typ != atIndexAlloc && len(p.b) <= room-400 || p.typ == atIndexRoot {
			own = append(own, i)
			where[i].ref = self
			room -= len(p.b)
		}
	}
	if room < 0 {
		return ErrRecord
	}
	var in []piece // of the extension record that is being filled
	var of []int
	used := 0
	flush := func() error {
		if len(in) == 0 {
			return nil
		}
		n, err := l.number()
		if err != nil {
			return err
		}
		b, err := compose(size, n, l.seq(n), inUse, 0, self, in)
		if err != nil {
			return err
		}
		l.records[n] = b
		for k, i := range of {
			where[i] = placed{uint64(l.seq(n))<<48 | uint64(n), uint16(k)}
		}
		in, of, used = nil, nil, 0
		return nil
	}
	for i, p := range parts {
		if where[i].ref != 0 {
			continue
		}
		if used+len(p.b) > most {
			if err := flush(); err != nil {
				return err
			}
		}
		in, of, used = append(in, p), append(of, i), used+len(p.b)
	}
	if err := flush(); err != nil {
		return err
	}
	// The list stands behind the times; the others' instances follow it.
	var kept []piece
	for _, i := range own {
		kept = append(kept, parts[i])
	}
	at := min(1, len(kept))
	for k, i := range own {
		where[i].instance = uint16(k)
		if k >= at {
			where[i].instance++
		}
	}
	var value []byte
	for i, p := range parts {
		nm := bytes16(p.name)
		e := make([]byte, (26+len(nm)+7)&^7)
		le.PutUint32(e, p.typ)
		le.PutUint16(e[lstLength:], uint16(len(e)))
		e[lstNameLength], e[lstNameOffset] = byte(len(nm)/2), lstName
		le.PutUint64(e[lstLowest:], uint64(p.lowest))
		le.PutUint64(e[lstReference:], where[i].ref)
		le.PutUint16(e[lstInstance:], where[i].instance)
		copy(e[lstName:], nm)
		value = append(value, e...)
	}
	lp := whole(atList, "", value, false)
	if !resident {
		runs, err := l.put(value)
		if err != nil {
			return err
		}
		lp = outside(atList, "", runs, l.bytesOf(runs), disk.Bytes(len(value)))
	}
	b, err := compose(size, num, seq, inUse|flags, links, 0, slices.Insert(kept, at, lp))
	if err != nil {
		return fmt.Errorf("%w: it has too many names and pieces", err)
	}
	l.records[num] = b
	return nil
}

// order sorts attributes as a record has them: by type, name and place.
func (l *loader) order(p []piece) {
	slices.SortStableFunc(p, func(a, b piece) int {
		if a.typ != b.typ {
			return int(int64(a.typ) - int64(b.typ))
		}
		if c := slices.Compare(upper(bytes16(a.name), l.up), upper(bytes16(b.name), l.up)); c != 0 {
			return c
		}
		return int(min(max(a.lowest-b.lowest, -1), 1))
	})
}

// change replaces attributes of a record that exists: those that match one of the
// pieces by type and name go, and the pieces come in their place.
func change(r *record, gone func(a *attr) bool, pieces []piece) ([]byte, error) {
	size := len(r.raw)
	out := slices.Clone(r.raw[:le.Uint16(r.raw[hdrFirst:])])
	next := le.Uint16(r.raw[hdrNextInstance:])
	put := func(p piece) {
		at := len(out)
		out = append(out, p.b...)
		le.PutUint16(out[at+attrInstance:], next)
		next++
	}
	for i := range r.attrs {
		a := &r.attrs[i]
		for len(pieces) > 0 && (pieces[0].typ < a.typ || pieces[0].typ == a.typ && pieces[0].name < a.name) {
			put(pieces[0])
			pieces = pieces[1:]
		}
		if !gone(a) {
			out = append(out, r.raw[a.off:a.off+a.length]...)
		}
	}
	for _, p := range pieces {
		put(p)
	}
	out = le.AppendUint32(out, atEnd)
	out = le.AppendUint32(out, 0)
	if len(out) > size {
		return nil, ErrRecord
	}
	le.PutUint32(out[hdrUsed:], uint32(len(out)))
	le.PutUint16(out[hdrNextInstance:], next)
	return append(out, make([]byte, size-len(out))...), nil
}
