package ntfs

import (
	"encoding/binary"

	"jadetrail/core/disk"
)

// builder puts a record of the MFT together, attribute by attribute in the
// order of their types.
type builder struct {
	raw      []byte
	cluster  disk.Bytes
	off      int
	instance uint16
	full     bool
}

func (m *maker) builder(num, seq int64, flags uint16) *builder {
	b := &builder{raw: m.mft[num*int64(m.record) : (num+1)*int64(m.record)], cluster: m.cluster}
	n := m.record/512 + 1
	copy(b.raw, "FILE")
	le.PutUint16(b.raw[hdrFixups:], 0x30)
	le.PutUint16(b.raw[hdrFixupCount:], uint16(n))
	le.PutUint16(b.raw[hdrSequence:], uint16(seq))
	if flags&inUse != 0 {
		le.PutUint16(b.raw[hdrLinks:], 1)
	}
	b.off = (0x30 + 2*n + 7) &^ 7
	le.PutUint16(b.raw[hdrFirst:], uint16(b.off))
	le.PutUint16(b.raw[hdrFlags:], flags)
	le.PutUint32(b.raw[hdrAllocated:], uint32(m.record))
	le.PutUint32(b.raw[hdrNumber:], uint32(num))
	return b
}

// room reserves n bytes for an attribute.
func (b *builder) room(n int) []byte {
	n = (n + 7) &^ 7
	if b.off+n+8 > len(b.raw) {
		b.full = true
		return make([]byte, n)
	}
	p := b.raw[b.off : b.off+n]
	b.off += n
	le.PutUint32(p[attrLength:], uint32(n))
	le.PutUint16(p[attrInstance:], b.instance)
	b.instance++
	return p
}

func (b *builder) resident(typ uint32, name string, value []byte, indexed bool) {
	nm := bytes16(name)
	at := (attrResidentHead + len(nm) + 7) &^ 7
	p := b.room(at + len(value))
	le.PutUint32(p, typ)
	p[attrNameLength] = byte(len(nm) / 2)
	le.PutUint16(p[attrNameOffset:], attrResidentHead)
	le.PutUint32(p[attrValueLength:], uint32(len(value)))
	le.PutUint16(p[attrValueOffset:], uint16(at))
	if indexed {
		p[attrIndexed] = 1
	}
	copy(p[attrResidentHead:], nm)
	copy(p[at:], value)
}

func (b *builder) stream(typ uint32, name string, runs []run, alloc, size disk.Bytes) {
	nm, pairs := bytes16(name), packRuns(runs)
	at := (64 + len(nm) + 7) &^ 7
	p := b.room(at + len(pairs))
	le.PutUint32(p, typ)
	p[attrNonResident], p[attrNameLength] = 1, byte(len(nm)/2)
	le.PutUint16(p[attrNameOffset:], attrRunsHead)
	le.PutUint64(p[attrHighest:], uint64(runsEnd(runs, 0)-1))
	le.PutUint16(p[attrRuns:], uint16(at))
	le.PutUint64(p[attrAllocated:], uint64(alloc))
	le.PutUint64(p[attrSize:], uint64(size))
	le.PutUint64(p[attrInitialised:], uint64(size))
	copy(p[attrRunsHead:], nm)
	copy(p[at:], pairs)
}

// standard appends $STANDARD_INFORMATION with a security id.
func (b *builder) standard(stamp uint64, attrs, sid uint32) {
	v := make([]byte, 72)
	for i := range 4 {
		le.PutUint64(v[8*i:], stamp)
	}
	le.PutUint32(v[stdAttributes:], attrs)
	le.PutUint32(v[stdSecurity:], sid)
	b.resident(atStandard, "", v, false)
}

// view appends an index that lies in the record as a whole.
func (b *builder) view(name string, collation uint32, entries []entry) {
	var body []byte
	for _, e := range entries {
		body = e.append(body, -1)
	}
	b.resident(
		atIndexRoot, name,
		indexRoot(0, collation, 4096, byte(blockUnits(4096, b.cluster)), appendLast(body, -1), false), false,
	)
}

func (b *builder) close() error {
	if b.full {
		return ErrRecord
	}
	le.PutUint32(b.raw[b.off:], atEnd)
	le.PutUint32(b.raw[hdrUsed:], uint32(b.off+8))
	le.PutUint16(b.raw[hdrNextInstance:], b.instance)
	fix(b.raw)
	return nil
}

// views makes the files of $Extend: quotas, object ids, reparse points.
func (m *maker) views(ext *folder) error {
	admin := []byte{1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0} // S-1-5-32-544
	quota := func(sid []byte) []byte {
		b := make([]byte, 48, 64)
		le.PutUint32(b, 2)
		le.PutUint32(b[4:], 1)
		le.PutUint64(b[16:], m.stamp)
		for _, at := range []int{24, 32} { // no threshold, no limit
			le.PutUint64(b[at:], ^uint64(0))
		}
		return append(b, sid...)
	}
	u32 := func(v uint32) []byte { return binary.LittleEndian.AppendUint32(nil, v) }
	for _, x := range []struct {
		num  int64
		name string
		fill func(b *builder)
	}{
		{recQuota, "$Quota", func(b *builder) {
			b.view("$O", 0x11, []entry{{key: admin, data: u32(0x100)}})
			b.view("$Q", 0x10, []entry{{key: u32(1), data: quota(nil)}, {key: u32(0x100), data: quota(admin)}})
		}},
		{recObjID, "$ObjId", func(b *builder) { b.view("$O", 0x13, nil) }},
		{recReparse, "$Reparse", func(b *builder) { b.view("$R", 0x13, nil) }},
	} {
		b := m.builder(x.num, 1, inUse|0x000c)
		fn := m.fileName(ext, x.name, m.stamp, 0, 0, 0x20000026)
		b.standard(m.stamp, 0x20000026, 0x101)
		b.resident(atFileName, "", fn, true)
		x.fill(b)
		if err := b.close(); err != nil {
			return err
		}
		ext.entries = append(ext.entries, entry{ref: 1<<48 | uint64(x.num), key: fn})
	}
	return nil
}

// attrDefs is the contents of $AttrDef: the attribute types of NTFS 3.1 with
// their limits.
func attrDefs() []byte {
	var out []byte
	for _, d := range []struct {
		name     string
		typ      uint32
		flags    uint32
		min, max uint64
	}{
		{"$STANDARD_INFORMATION", 0x10, 0x40, 0x30, 0x48},
		{"$ATTRIBUTE_LIST", 0x20, 0x80, 0, ^uint64(0)},
		{"$FILE_NAME", 0x30, 0x42, 0x44, 0x242},
		{"$OBJECT_ID", 0x40, 0x40, 0, 0x100},
		{"$SECURITY_DESCRIPTOR", 0x50, 0x80, 0, ^uint64(0)},
		{"$VOLUME_NAME", 0x60, 0x40, 2, 0x100},
		{"$VOLUME_INFORMATION", 0x70, 0x40, 0xc, 0xc},
		{"$DATA", 0x80, 0, 0, ^uint64(0)},
		{"$INDEX_ROOT", 0x90, 0x40, 0, ^uint64(0)},
		{"$INDEX_ALLOCATION", 0xa0, 0x80, 0, ^uint64(0)},
		{"$BITMAP", 0xb0, 0x80, 0, ^uint64(0)},
		{"$REPARSE_POINT", 0xc0, 0x80, 0, 0x4000},
		{"$EA_INFORMATION", 0xd0, 0x40, 8, 8},
		{"$EA", 0xe0, 0, 0, 0x10000},
		{"$LOGGED_UTILITY_STREAM", 0x100, 0x80, 0, 0x10000},
		{},
	} {
		b := make([]byte, 160)
		copy(b, bytes16(d.name))
		le.PutUint32(b[128:], d.typ)
		le.PutUint32(b[140:], d.flags)
		le.PutUint64(b[144:], d.min)
		le.PutUint64(b[152:], d.max)
		out = append(out, b...)
	}
	return out
}

// securityStreams makes the two descriptors of a new volume, 0x100 for the
// system's files and 0x101 for all others, with the two indexes over them.
func securityStreams() (sds []byte, sdh, sii []entry) {
	sds = make([]byte, sdsBlock)
	end := 0 // each follows the one before at the next 16 bytes: a reader goes along them by their lengths
	for i, rights := range []uint32{0x120089, 0x1f01ff} {
		id, off := uint32(0x100+i), (end+15)&^15
		sd := descriptor(rights)
		hash := uint32(0)
		for i := 0; i < len(sd); i += 4 {
			hash = hash<<3 | hash>>29
			hash += le.Uint32(sd[i:])
		}
		h := make([]byte, 20)
		le.PutUint32(h, hash)
		le.PutUint32(h[sdsID:], id)
		le.PutUint64(h[sdsOffset:], uint64(off))
		le.PutUint32(h[sdsLength:], uint32(sdsHead+len(sd)))
		copy(sds[off:], h)
		copy(sds[off+20:], sd)
		end = off + 20 + len(sd)
		sdh = append(sdh, entry{key: h[:8], data: h})
		sii = append(sii, entry{key: h[sdsID:sdsOffset], data: h})
	}
	order := func(e []entry, a, b int) {
		if k := func(i int) uint64 {
			x := append(append([]byte(nil), e[i].key...), make([]byte, 8)...)
			return uint64(le.Uint32(x))<<32 | uint64(le.Uint32(x[4:]))
		}; k(a) > k(b) {
			e[a], e[b] = e[b], e[a]
		}
	}
	order(sdh, 0, 1)
	order(sii, 0, 1)
	// Every 256 KiB of descriptors are followed by a copy of them.
	return append(sds, sds[:end]...), sdh, sii
}

// descriptor is a self-relative security descriptor: owned by the
// administrators, who have all rights as the system has, with the given rights
// for everybody.
func descriptor(everybody uint32) []byte {
	sid := func(auth byte, sub ...uint32) []byte {
		b := []byte{1, byte(len(sub)), 0, 0, 0, 0, 0, auth}
		for _, s := range sub {
			b = le.AppendUint32(b, s)
		}
		return b
	}
	admins := sid(5, 32, 544)
	ace := func(rights uint32, who []byte) []byte {
		b := []byte{0, 3}
		b = le.AppendUint16(b, uint16(8+len(who)))
		return append(le.AppendUint32(b, rights), who...)
	}
	aces := append(append(ace(0x1f01ff, admins), ace(0x1f01ff, sid(5, 18))...), ace(everybody, sid(1, 0))...)
	acl := []byte{2, 0}
	acl = le.AppendUint16(acl, uint16(8+len(aces)))
	acl = append(append(acl, 3, 0, 0, 0), aces...)
	b := make([]byte, 20)
	b[0] = 1
	le.PutUint16(b[2:], 0x8004)
	le.PutUint32(b[16:], 20)
	b = append(b, acl...)
	le.PutUint32(b[4:], uint32(len(b)))
	b = append(b, admins...)
	le.PutUint32(b[8:], uint32(len(b)))
	return append(b, admins...)
}
