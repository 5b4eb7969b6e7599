package table

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/script"
)

// Places in a sector that holds an MBR or the record of a logical volume.
const (
	mbrSignature = 440 // of the disk, four bytes
	mbrEntries   = 446 // four entries of sixteen bytes
	mbrEnd       = 510 // 55h AAh
)

// MaxMBR is the last sector that an MBR can name.
const MaxMBR disk.LBA = 1<<32 - 1

// maxChain bounds the logical volumes of a container.
const maxChain = 1000

// link is one record of a container's chain: a sector that describes one logical
// volume and names the next record.
type link struct {
	lba    disk.LBA
	sector []byte
	slot   int // of its logical volume, 0 when it has none
}

// mbrTable is the sector of an MBR and its container's chain, to the byte.
type mbrTable struct {
	sector    []byte
	container disk.LBA // start of the container, 0 for none
	slot      int      // of the container
	chain     []link
}

func isContainer(typ byte) bool {
	return typ == 0x05 || typ == 0x0f || typ == 0x85 || typ == 0x15 || typ == 0x1f
}

// hiddenTypes maps the types that hide a volume to those that show it.
var hiddenTypes = map[byte]byte{0x11: 0x01, 0x14: 0x04, 0x16: 0x06, 0x17: 0x07, 0x1b: 0x0b, 0x1c: 0x0c, 0x1e: 0x0e}

// readMBR reads an MBR with its container's chain, or finds that there is no table.
func (t *Table) readMBR(dev disk.Device, mbr []byte, last disk.LBA) error {
	if mbr[mbrEnd] != 0x55 || mbr[mbrEnd+1] != 0xaa || volumeSector(mbr) {
		return nil
	}
	m := &mbrTable{sector: mbr}
	var entries []Entry
	var found finding.List
	for i := range 4 {
		raw := mbr[mbrEntries+16*i:][:16]
		if raw[4] == 0 {
			continue
		}
		e := mbrEntry(i+1, raw, 0)
		if raw[0]&0x7f != 0 || e.Start == 0 || e.End < e.Start {
			return nil // a boot sector of a file system also ends in 55AA
		}
		if isContainer(raw[4]) {
			if m.container != 0 {
				found.Add(
					finding.Error, "containers-two", "The table has two extended containers; only one is allowed.",
				)
			} else {
				m.container, m.slot = e.Start, e.Slot
			}
		}
		entries = append(entries, e)
	}
	t.Scheme, t.mbr = MBR, m
	le := binary.LittleEndian
	t.DiskID = fmt.Sprintf("%08x", le.Uint32(mbr[mbrSignature:]))
	t.FirstUsable, t.LastUsable = 1, min(last, MaxMBR)
	t.Entries, t.Findings = entries, found
	if last > MaxMBR {
		t.Findings.Add(
			finding.Note, "beyond-mbr", "An MBR ends at sector %d; the %s behind it can only be used with a GPT.",
			MaxMBR, (last - MaxMBR).Offset(t.Sector),
		)
	}
	if m.container != 0 {
		if err := t.readChain(dev, last); err != nil {
			return err
		}
	}
	t.order()
	t.checkMBR(last)
	return nil
}

// volumeSector tells a file system's boot sector from an MBR by its name field.
func volumeSector(b []byte) bool {
	for _, s := range []struct {
		at   int
		text string
	}{{3, "NTFS    "}, {3, "EXFAT   "}, {3, "-FVE-FS-"}, {54, "FAT1"}, {82, "FAT32   "}} {
		if string(b[s.at:s.at+len(s.text)]) == s.text {
			return true
		}
	}
	return false
}

// mbrEntry reads an entry whose place counts from base.
func mbrEntry(slot int, raw []byte, base disk.LBA) Entry {
	le := binary.LittleEndian
	start := base + disk.LBA(le.Uint32(raw[8:]))
	_, hidden := hiddenTypes[raw[4]]
	return Entry{
		Slot: slot, TypeID: fmt.Sprintf("%02x", raw[4]), Start: start, End: start + disk.LBA(le.Uint32(raw[12:])) - 1,
		Active: raw[0] == 0x80, Hidden: hidden, Raw: slices.Clone(raw),
	}
}

// readChain follows the chain of a container. A chain that is damaged is read as
// far as it goes.
func (t *Table) readChain(dev disk.Device, last disk.LBA) error {
	m := t.mbr
	c := t.Entries[slices.IndexFunc(t.Entries, func(e Entry) bool { return e.Slot == m.slot })]
	bad := func(code, format string, args ...any) error {
		t.Findings = append(t.Findings, finding.Finding{
			Code: code, Severity: finding.Error, Partition: m.slot, Text: fmt.Sprintf(format, args...),
		})
		return nil
	}
	seen := map[disk.LBA]bool{}
	slot := 5
	for at := c.Start; ; {
		switch {
		case at > last || at < c.Start || at > c.End:
			return bad(
				"chain-outside",
				"The chain of logical volumes leads to sector %d, outside the container; what would follow is not shown.",
				at,
			)
		case seen[at]:
			return bad(
				"chain-loop", "The chain of logical volumes leads back to sector %d; what would follow is not shown.",
				at,
			)
		case len(seen) >= maxChain:
			return bad(
				"chain-long", "The chain of logical volumes is longer than %d; what follows is not shown.", maxChain,
			)
		}
		seen[at] = true
		b, err := disk.ReadFull(dev, at.Offset(t.Sector), t.Sector)
		if err != nil {
			return err
		}
		if b[mbrEnd] != 0x55 || b[mbrEnd+1] != 0xaa {
			return bad(
				"chain-damaged",
				"The record of logical volumes at sector %d is damaged; what would follow is not shown.", at,
			)
		}
		l := link{lba: at, sector: b}
		next := disk.LBA(0)
		for i := range 2 { // the logical volume, then the next record, in either order
			raw := b[mbrEntries+16*i:][:16]
			size := binary.LittleEndian.Uint32(raw[12:])
			switch {
			case raw[4] == 0 || size == 0:
			case isContainer(raw[4]):
				if i == 0 {
					return bad(
						"chain-damaged",
						"The record of logical volumes at sector %d has its entries in an order that is not supported; what would follow is not shown.",
						at,
					)
				}
				next = c.Start + disk.LBA(binary.LittleEndian.Uint32(raw[8:]))
			case l.slot == 0 && i == 0:
				e := mbrEntry(slot, raw, at)
				e.Raw, e.Record, e.Container = b, at, m.slot
				if e.End < e.Start || e.Start <= at {
					return bad(
						"chain-damaged",
						"The record of logical volumes at sector %d describes a volume that cannot be; what would follow is not shown.",
						at,
					)
				}
				l.slot = slot
				slot++
				t.Entries = append(t.Entries, e)
			}
		}
		m.chain = append(m.chain, l)
		if next == 0 {
			return nil
		}
		at = next
	}
}

func (t *Table) checkMBR(last disk.LBA) {
	add := func(slot int, code, format string, args ...any) {
		t.Findings = append(t.Findings, finding.Finding{
			Code: code, Severity: finding.Error, Partition: slot, Text: fmt.Sprintf(format, args...),
		})
	}
	var container Entry
	active := 0
	for _, e := range t.Entries {
		if t.mbr.slot == e.Slot {
			container = e
		}
		if e.Active {
			active++
		}
	}
	if active > 1 {
		t.Findings.Add(
			finding.Warning, "active-many", "%d partitions are marked as active; a PC starts from one.", active,
		)
	}
	for i, e := range t.Entries {
		if e.End > last {
			add(
				e.Slot, "entry-beyond-end", "Partition %d ends at sector %d, but the drive ends at sector %d.",
				e.Slot, e.End, last,
			)
		}
		if e.Container != 0 && e.End > container.End {
			add(
				e.Slot, "logical-outside",
				"Logical volume %d ends at sector %d, outside its container, which ends at %d.", e.Slot, e.End,
				container.End,
			)
		}
		for _, f := range t.Entries[:i] {
			if f.Container != e.Container || e.Start > f.End {
				continue
			}
			add(
				e.Slot, "entries-overlap", "Partitions %d and %d overlap from sector %d to %d.", f.Slot, e.Slot,
				e.Start, min(f.End, e.End),
			)
		}
		for _, l := range t.mbr.chain {
			if e.Container != 0 && e.Start <= l.lba && l.lba <= e.End {
				add(
					e.Slot, "entries-overlap", "The record of logical volumes at sector %d lies inside partition %d.",
					l.lba, e.Slot,
				)
			}
		}
	}
}

// chs is a place in the old form, where it can say it (1024 cylinders of 255
// heads with 63 sectors).
func chs(l disk.LBA) [3]byte {
	if l >= 1024*255*63 {
		return [3]byte{0xfe, 0xff, 0xff}
	}
	c, h, s := l/(255*63), l/63%255, l%63+1
	return [3]byte{byte(h), byte(s) | byte(c>>8)<<6, byte(c)}
}

// putPlace gives a sixteen byte entry a place that counts from base. What stays as
// it was is kept to the byte, the old form of the place too.
func putPlace(raw []byte, base, start, end disk.LBA) {
	le := binary.LittleEndian
	if now := uint32(start - base); le.Uint32(raw[8:]) != now {
		le.PutUint32(raw[8:], now)
		c := chs(start)
		copy(raw[1:], c[:])
		le.PutUint32(raw[12:], 0)
	}
	if n := uint32(end - start + 1); le.Uint32(raw[12:]) != n {
		le.PutUint32(raw[12:], n)
		c := chs(end)
		copy(raw[5:], c[:])
	}
}

// putMBR changes one sector of the MBR.
func (t *Table) putMBR(change func(b []byte)) script.Script {
	b := slices.Clone(t.mbr.sector)
	change(b)
	var s script.Script
	if !bytes.Equal(b, t.mbr.sector) {
		s.Put(0, b)
		s.Barrier("table written")
	}
	return s
}

// setMBR is Set for an MBR: a primary's entry lies in the first sector, a logical
// volume's in its record.
func (t *Table) setMBR(slot int, raw []byte) (script.Script, error) {
	m := t.mbr
	if slot >= 1 && slot <= 4 {
		if raw != nil && len(raw) != 16 {
			return nil, fmt.Errorf("%w: %d bytes for slot %d", ErrSlot, len(raw), slot)
		}
		if slot == m.slot && raw == nil && slices.ContainsFunc(m.chain, func(l link) bool { return l.slot != 0 }) {
			return nil, fmt.Errorf("%w: the container in slot %d has logical volumes", ErrSlot, slot)
		}
		var s script.Script
		if slot == m.slot && raw == nil {
			t.asTheyAre(&s, m.chain)
		}
		return append(s, t.putMBR(func(b []byte) {
			e := b[mbrEntries+16*(slot-1):][:16]
			clear(e)
			copy(e, raw)
		})...), nil
	}
	i := slices.IndexFunc(m.chain, func(l link) bool { return l.slot == slot && slot != 0 })
	if i < 0 || raw != nil && len(raw) != len(m.chain[i].sector) {
		return nil, fmt.Errorf("%w: slot %d", ErrSlot, slot)
	}
	l := m.chain[i]
	var s script.Script
	put := func(l link, change func(b []byte)) {
		b := slices.Clone(l.sector)
		change(b)
		if !bytes.Equal(b, l.sector) {
			s.Put(l.lba.Offset(t.Sector), b)
			s.Barrier("record of logical volumes written")
		}
	}
	switch {
	case raw != nil:
		put(l, func(b []byte) { copy(b[mbrEntries:], raw[mbrEntries:mbrEntries+16]) })
		if i > 0 { // the record before says how far this one reaches
			e := mbrEntry(slot, raw[mbrEntries:], l.lba)
			put(m.chain[i-1], func(b []byte) { putPlace(b[mbrEntries+16:], m.container, l.lba, e.End) })
		}
	case i == 0: // the first record stays, since the container's entry names it
		put(l, func(b []byte) { clear(b[mbrEntries : mbrEntries+16]) })
	default: // the record before names the one behind
		put(m.chain[i-1], func(b []byte) { copy(b[mbrEntries+16:mbrEntries+32], l.sector[mbrEntries+16:]) })
	}
	return s, nil
}

// asTheyAre writes records anew that are left behind, so that undo brings them back whatever
// later steps put there.
func (t *Table) asTheyAre(s *script.Script, left []link) {
	for _, l := range left {
		s.Put(l.lba.Offset(t.Sector), l.sector)
	}
}

// MoveHead returns the script that has the container begin at another sector; raw is its
// entry then. The chain's records count from there, so each names the next one anew, and
// where none lies at the new start an empty one is written. ErrSlot tells that a record
// lies before it.
func (t *Table) MoveHead(start disk.LBA, raw []byte) (script.Script, error) {
	if err := t.Writable(); err != nil {
		return nil, err
	}
	m := t.mbr
	if m == nil || m.container == 0 || len(raw) != 16 {
		return nil, fmt.Errorf("%w: there is no container", ErrSlot)
	}
	var chain []link
	for i, l := range m.chain {
		switch {
		case i == 0 && l.slot == 0 && l.lba != start: // the empty one that began it
		case l.lba < start, len(chain) > 0 && l.lba == start:
			return nil, fmt.Errorf("%w: a record of the container lies at sector %d", ErrSlot, l.lba)
		default:
			chain = append(chain, l)
		}
	}
	if len(chain) == 0 || chain[0].lba != start {
		first := make([]byte, t.Sector)
		first[mbrEnd], first[mbrEnd+1] = 0x55, 0xaa
		chain = slices.Insert(chain, 0, link{lba: start, sector: first})
	}
	var s script.Script
	if m.chain[0].lba != start {
		t.asTheyAre(&s, m.chain[:1])
	}
	for i, l := range chain {
		b := slices.Clone(l.sector)
		next := b[mbrEntries+16:][:16]
		if i+1 == len(chain) {
			clear(next)
		} else {
			if !isContainer(next[4]) {
				next[4] = 0x05
			}
			n := chain[i+1]
			putPlace(next, start, n.lba, mbrEntry(0, n.sector[mbrEntries:], n.lba).End)
		}
		s.Put(l.lba.Offset(t.Sector), b)
	}
	s.Barrier("records of logical volumes counted from the new start")
	return append(s, t.putMBR(func(b []byte) { copy(b[mbrEntries+16*(m.slot-1):][:16], raw) })...), nil
}

// Insert returns the script that puts a logical volume into the chain: record is
// its sector, to the byte but for the link to the next, and at is where it lies. A
// new record is written before the one that names it. was, when not nil, is the
// entry with which the record before named it.
func (t *Table) Insert(at disk.LBA, record, was []byte) (script.Script, error) {
	if err := t.Writable(); err != nil {
		return nil, err
	}
	m := t.mbr
	if m == nil || m.container == 0 || len(m.chain) == 0 || disk.Bytes(len(record)) != t.Sector {
		return nil, fmt.Errorf("%w: there is no container for a logical volume", ErrSlot)
	}
	if at < m.container {
		return nil, fmt.Errorf("%w: sector %d lies outside the container", ErrSlot, at)
	}
	before := m.chain[0]
	for _, l := range m.chain {
		if l.lba == at && (l.slot != 0 || l.lba != m.container) {
			return nil, fmt.Errorf("%w: sector %d is a record already", ErrSlot, at)
		}
		if l.lba <= at && l.lba >= before.lba {
			before = l
		}
	}
	var s script.Script
	if before.lba == at {
		b := slices.Clone(before.sector)
		copy(b[mbrEntries:], record[mbrEntries:mbrEntries+16])
		s.Put(at.Offset(t.Sector), b)
		s.Barrier("record of the logical volume written")
		return s, nil
	}
	b := slices.Clone(record)
	copy(b[mbrEntries+16:mbrEntries+32], before.sector[mbrEntries+16:])
	clear(b[mbrEntries+32 : mbrEnd])
	b[mbrEnd], b[mbrEnd+1] = 0x55, 0xaa
	s.Put(at.Offset(t.Sector), b)
	s.Barrier("record of the logical volume written")
	e := mbrEntry(0, record[mbrEntries:], at)
	p := slices.Clone(before.sector)
	next := p[mbrEntries+16:][:16]
	if len(was) == 16 && binary.LittleEndian.Uint32(was[8:]) == uint32(at-m.container) {
		copy(next, was)
	} else {
		clear(next)
		next[4] = 0x05
		putPlace(next, m.container, at, e.End)
	}
	s.Put(before.lba.Offset(t.Sector), p)
	s.Barrier("record named by the one before")
	return s, nil
}

// LinkTo returns the entry in one of the given sectors that names the record at
// sector at, nil for none; it is how the chain was before.
func (t *Table) LinkTo(at disk.LBA, sectors ...[]byte) []byte {
	if t.mbr == nil || t.mbr.container == 0 {
		return nil
	}
	for _, b := range sectors {
		if len(b) < 512 || b[mbrEnd] != 0x55 || b[mbrEnd+1] != 0xaa {
			continue
		}
		if e := b[mbrEntries+16:][:16]; isContainer(e[4]) && binary.LittleEndian.Uint32(e[8:]) == uint32(at-t.mbr.container) {
			return slices.Clone(e)
		}
	}
	return nil
}

// Own is a copy that can be given other numbers.
func (t *Table) Own() *Table {
	own := *t
	own.Entries, own.Findings = slices.Clone(t.Entries), slices.Clone(t.Findings)
	if t.mbr != nil {
		mbr := *t.mbr
		mbr.chain = slices.Clone(t.mbr.chain)
		own.mbr = &mbr
	}
	return &own
}

// Relabel gives logical volumes the numbers that a plan knows them by: while it is
// carried out they keep those that they had when it began.
func (t *Table) Relabel(numbers map[int]int) {
	for i := range t.Entries {
		if n, ok := numbers[t.Entries[i].Slot]; ok {
			t.Entries[i].Slot = n
		}
	}
	for i := range t.Findings {
		if n, ok := numbers[t.Findings[i].Partition]; ok {
			t.Findings[i].Partition = n
		}
	}
	if t.mbr != nil {
		for i := range t.mbr.chain {
			if n, ok := numbers[t.mbr.chain[i].slot]; ok {
				t.mbr.chain[i].slot = n
			}
		}
	}
}

// MBREntry returns the entry of a primary or container, or the record of a logical
// volume (e.Record is then where it lies), with its raw bytes made from its fields.
func MBREntry(e Entry, sector disk.Bytes) Entry {
	raw := make([]byte, 16)
	fmt.Sscanf(e.TypeID, "%02x", &raw[4])
	if e.Active {
		raw[0] = 0x80
	}
	putPlace(raw, e.Record, e.Start, e.End)
	if e.Raw = raw; e.Record != 0 {
		e.Raw = make([]byte, sector)
		copy(e.Raw[mbrEntries:], raw)
		e.Raw[mbrEnd], e.Raw[mbrEnd+1] = 0x55, 0xaa
	}
	return e
}

// NewMBR returns the script that gives a blank drive an MBR with the entries given
// (made by MBREntry); logical volumes come in the order of their place.
func NewMBR(dev disk.Device, signature uint32, entries ...Entry) script.Script {
	sec := dev.SectorBytes()
	b := make([]byte, sec)
	binary.LittleEndian.PutUint32(b[mbrSignature:], signature)
	b[mbrEnd], b[mbrEnd+1] = 0x55, 0xaa
	var container disk.LBA
	var logical []Entry
	for _, e := range entries {
		if e.Record != 0 {
			logical = append(logical, e)
			continue
		}
		copy(b[mbrEntries+16*(e.Slot-1):], e.Raw)
		if isContainer(e.Raw[4]) {
			container = e.Start
		}
	}
	var s script.Script
	if container != 0 && len(logical) == 0 {
		r := make([]byte, sec)
		r[mbrEnd], r[mbrEnd+1] = 0x55, 0xaa
		s.Put(container.Offset(sec), r)
	}
	for i, e := range logical {
		r := slices.Clone(e.Raw)
		if i+1 < len(logical) {
			n := logical[i+1]
			r[mbrEntries+16+4] = 0x05
			putPlace(r[mbrEntries+16:], container, n.Record, n.End)
		}
		s.Put(e.Record.Offset(sec), r)
	}
	s.Barrier("records of logical volumes written")
	s.Put(0, b)
	s.Barrier("table written")
	return s
}
