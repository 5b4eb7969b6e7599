// Package table reads, checks and edits the partition table of a drive.
//
// A GUID partition table (GPT) is written as UEFI 2.10, chapter 5.3, has it, a
// table in the master boot record (MBR) as chapter 5.2 has it, with the chain of
// records of its extended container. Edits come back as a script; nothing is
// written here.
package table

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/script"
)

// Scheme is the kind of table.
type Scheme string

// The schemes.
const (
	GPT  Scheme = "gpt"
	MBR  Scheme = "mbr"
	None Scheme = "none"
)

// Attributes of a GPT entry (UEFI 2.10, table 5.8; the upper ones belong to the
// basic data type).
const (
	AttrRequired uint64 = 1 << 0
	AttrReadOnly uint64 = 1 << 60
	AttrHidden   uint64 = 1 << 62
	AttrNoLetter uint64 = 1 << 63
)

// Type ids of GPT entries.
const (
	TypeEFI      = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"
	TypeReserved = "e3c9e316-0b5c-4db8-817d-f92df00215ae"
	TypeBasic    = "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7"
	TypeRecovery = "de94bba4-06d1-4d40-a16a-bfd50179d6ac"
	TypeOEM      = "bfbfafe7-a34f-448a-9a5b-6213eb736c22"
	TypeOEM2     = "f4019732-066e-4e12-8273-346c5641494f"
	TypeLinux    = "0fc63daf-8483-4772-8e79-3d69d8477de4"
	TypeSwap     = "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f"
	TypeLVM      = "e6d6d379-f507-44c2-a23c-238f2a3df928"
	TypeRAID     = "a19d880f-05fc-4d3b-a006-743f0f84911e"
	TypeDynamic  = "af9b60a0-1431-4f62-bc68-3311714a69ad"
	TypeDynMeta  = "5808c8aa-7e8f-42e0-85d2-e1e90434cfb3"
	TypePool     = "e75caf8f-f680-4cee-afa3-b001e56efc2d"
)

var typeNames = map[string]string{
	TypeEFI: "EFI system", TypeReserved: "reserved", TypeBasic: "basic data", TypeRecovery: "recovery",
	TypeOEM: "OEM", TypeOEM2: "OEM", TypeLinux: "Linux data", TypeSwap: "Linux swap", TypeLVM: "LVM",
	TypeRAID: "RAID member", TypeDynamic: "dynamic data", TypeDynMeta: "dynamic metadata", TypePool: "storage pool",
	"01": "FAT12", "04": "FAT16", "05": "extended container", "06": "FAT16", "07": "NTFS or exFAT", "0b": "FAT32", "0c": "FAT32",
	"0e": "FAT16", "0f": "extended container", "12": "OEM", "27": "recovery", "82": "Linux swap", "83": "Linux data",
	"8e": "LVM", "ee": "GPT protective", "ef": "EFI system", "42": "dynamic data", "fd": "RAID member", "85": "extended container",
	"11": "FAT12, hidden", "14": "FAT16, hidden", "16": "FAT16, hidden", "17": "NTFS or exFAT, hidden", "1b": "FAT32, hidden",
	"1c": "FAT32, hidden", "1e": "FAT16, hidden", "15": "extended container, hidden", "1f": "extended container, hidden",
}

// TypeName names a type id for people; empty when it is not known.
func TypeName(id string) string { return typeNames[id] }

// Entry is one partition as the table has it.
type Entry struct {
	Slot       int // from 1
	TypeID     string
	UniqueID   string
	Start, End disk.LBA // End is included
	Attributes uint64
	Name       string
	Active     bool
	Hidden     bool
	Container  int      // slot of the container that a logical volume lies in, 0 outside
	Record     disk.LBA // of a logical volume: where its record in the chain lies
	Raw        []byte   // the entry to the byte; of a logical volume its record's whole sector
}

// Table is a drive's partition table.
type Table struct {
	Scheme                  Scheme
	DiskID                  string
	Sector                  disk.Bytes
	FirstUsable, LastUsable disk.LBA
	Entries                 []Entry // in order of their place
	Findings                finding.List

	primary, backup *gptCopy // nil when damaged or missing
	mbr             *mbrTable
	last            disk.LBA // of the drive
	unprotected     bool     // a GPT without its protective MBR
}

// Sentinel errors of Edit.
var (
	ErrNotWritable = errors.New("the partition table cannot be changed")
	ErrSlot        = errors.New("no such entry in the table")
)

// gptCopy is one of the two copies of a GPT, to the byte.
type gptCopy struct {
	lba       disk.LBA // of the header
	sector    []byte   // the header's whole sector
	arrayLBA  disk.LBA
	array     []byte // whole sectors
	entrySize int
	count     int
}

const gptSignature = "EFI PART"

// maxArray bounds the size of an entry array: 128 entries of 128 bytes are
// usual, and what goes beyond 4 MiB is taken for damage.
const maxArray = 4 << 20

// readCopy reads the copy of the GPT whose header lies at lba. The error says
// why the copy is not valid.
func readCopy(dev disk.Device, lba disk.LBA) (*gptCopy, error) {
	sec := dev.SectorBytes()
	b, err := disk.ReadFull(dev, lba.Offset(sec), sec)
	if err != nil {
		return nil, err
	}
	if string(b[:8]) != gptSignature {
		return nil, errors.New("its signature is missing")
	}
	le := binary.LittleEndian
	size := le.Uint32(b[12:])
	if size < 92 || int64(size) > int64(sec) {
		return nil, fmt.Errorf("its header claims %d bytes", size)
	}
	if headerCRC(b[:size]) != le.Uint32(b[16:]) {
		return nil, errors.New("its header's checksum does not match")
	}
	if disk.LBA(le.Uint64(b[24:])) != lba {
		return nil, fmt.Errorf("it says that it lies at sector %d", le.Uint64(b[24:]))
	}
	count, esize := le.Uint32(b[80:]), le.Uint32(b[84:])
	if esize < 128 || esize > 4096 || esize&(esize-1) != 0 || count == 0 || uint64(count)*uint64(esize) > maxArray {
		return nil, fmt.Errorf("it claims %d entries of %d bytes", count, esize)
	}
	g := &gptCopy{lba: lba, sector: b, arrayLBA: disk.LBA(le.Uint64(b[72:])), entrySize: int(esize), count: int(count)}
	last := dev.Size().At(sec) - 1
	if g.arrayLBA < 1 || g.arrayLBA > last {
		return nil, fmt.Errorf("it says that its entries lie at sector %d, beyond the drive's end", g.arrayLBA)
	}
	if g.array, err = disk.ReadFull(dev, g.arrayLBA.Offset(sec), disk.Bytes(g.used()).Up(sec)); err != nil {
		return nil, err
	}
	if crc(g.array[:g.used()]) != le.Uint32(b[88:]) {
		return nil, errors.New("its entries' checksum does not match")
	}
	first, lastUsable := disk.LBA(le.Uint64(b[40:])), disk.LBA(le.Uint64(b[48:]))
	if first < 2 || first > last || lastUsable < first || lastUsable > 1<<50 {
		return nil, fmt.Errorf("it says that sectors %d to %d are usable, of %d", first, lastUsable, last+1)
	}
	return g, nil
}

func (g *gptCopy) used() int { return g.count * g.entrySize }

func (g *gptCopy) u64(off int) uint64 { return binary.LittleEndian.Uint64(g.sector[off:]) }

// sameAs tells whether two copies describe the same table.
func (g *gptCopy) sameAs(o *gptCopy) bool {
	return g.count == o.count && g.entrySize == o.entrySize && string(g.sector[40:72]) == string(o.sector[40:72]) &&
		string(g.array[:g.used()]) == string(o.array[:o.used()])
}

// Read reads the table of dev. What is wrong with the table is a finding; an
// error means that the device itself could not be read.
func Read(dev disk.Device) (*Table, error) {
	sec := dev.SectorBytes()
	t := &Table{Sector: sec, Scheme: None}
	mbr, err := disk.ReadFull(dev, 0, sec)
	if err != nil {
		return nil, err
	}
	last := dev.Size().At(sec) - 1
	t.last = last
	var why, whyBackup error
	t.primary, why = readCopy(dev, 1)
	at := last
	if t.primary != nil {
		at = disk.LBA(t.primary.u64(32))
	}
	switch {
	case at < 2 || at > last:
		whyBackup = fmt.Errorf("it should lie at sector %d, but the drive ends at sector %d", at, last)
	default:
		t.backup, whyBackup = readCopy(dev, at)
	}
	prot := protective(mbr)
	if t.primary == nil && t.backup == nil {
		if prot != noProtection {
			t.Scheme = GPT
			t.Findings.Add(
				finding.Error, "gpt-both-damaged",
				"Both copies of the partition table are damaged. First: %v. Second: %v.", why, whyBackup,
			)
			return t, nil
		}
		return t, t.readMBR(dev, mbr, last)
	}
	if prot == noProtection {
		// An MBR that lists partitions and no GPT is what systems go by (UEFI 2.10, 5.2.3); what
		// lies there of a GPT was left behind, and its copies must not overrule what is in use.
		m := &Table{Sector: sec, Scheme: None, last: last}
		if err := m.readMBR(dev, mbr, last); err != nil {
			return nil, err
		}
		if m.Scheme == MBR && len(m.Entries) > 0 {
			what := "Both copies of a former GPT are"
			if t.primary == nil {
				what = "The second copy of a former GPT is"
			} else if t.backup == nil {
				what = "The first copy of a former GPT is"
			}
			m.Findings.Add(
				finding.Note, "gpt-former",
				"%s still on the drive. Systems go by the MBR, which is shown; a search finds what the former table names.",
				what,
			)
			return m, nil
		}
	}
	t.Scheme, t.unprotected = GPT, prot == noProtection
	t.checkProtective(prot, mbr, last)
	switch {
	case t.primary == nil:
		t.Findings.Add(
			finding.Error, "gpt-primary-damaged",
			"The first copy of the partition table is damaged: %v. The second copy is whole and is shown.", why,
		)
	case t.backup == nil:
		t.Findings.Add(
			finding.Error, "gpt-backup-damaged",
			"The second copy of the partition table is damaged: %v. The first copy is whole and is shown.", whyBackup,
		)
	case !t.primary.sameAs(t.backup):
		t.Findings.Add(
			finding.Error, "gpt-copies-differ",
			"Both copies of the partition table are valid, but they differ. The first is shown; nothing is changed until one of them is chosen.",
		)
	case at != last:
		t.Findings.Add(
			finding.Note, "gpt-backup-not-last",
			"The second copy of the partition table lies at sector %d, not in the drive's last sector %d; the %s behind it cannot be used.",
			at, last, (last - at).Offset(sec),
		)
	}
	if end := disk.LBA(t.copy().u64(48)); end > last {
		t.Findings.Add(
			finding.Error, "drive-too-short",
			"The table says that the drive goes on beyond sector %d, but it ends at sector %d: it was cut off, or copied to a smaller one.",
			end, last,
		)
	}
	t.readEntries(t.copy(), last)
	return t, nil
}

func (t *Table) copy() *gptCopy {
	if t.primary != nil {
		return t.primary
	}
	return t.backup
}

func (t *Table) readEntries(g *gptCopy, last disk.LBA) {
	t.DiskID = guidText(g.sector[56:72])
	t.FirstUsable, t.LastUsable = disk.LBA(g.u64(40)), disk.LBA(g.u64(48))
	for i := range g.count {
		raw := g.array[i*g.entrySize : (i+1)*g.entrySize]
		if string(raw[:16]) == string(make([]byte, 16)) {
			continue
		}
		t.Entries = append(t.Entries, ParseEntry(i+1, raw))
	}
	t.order()
	var before *Entry
	ids := map[string]int{}
	for i := range t.Entries {
		e := &t.Entries[i]
		var found finding.List
		switch {
		case e.End < e.Start || e.Start < 0:
			found.Add(
				finding.Error, "entry-absurd", "Partition %d ends at sector %d, before it starts at %d.", e.Slot,
				e.End, e.Start,
			)
		case e.End > last:
			found.Add(
				finding.Error, "entry-beyond-end", "Partition %d ends at sector %d, but the drive ends at sector %d.",
				e.Slot, e.End, last,
			)
		case e.Start < t.FirstUsable || e.End > t.LastUsable:
			found.Add(
				finding.Error, "entry-outside-usable",
				"Partition %d lies at sectors %d to %d, outside the usable sectors %d to %d.", e.Slot, e.Start, e.End,
				t.FirstUsable, t.LastUsable,
			)
		}
		if before != nil && e.Start <= before.End {
			found.Add(
				finding.Error, "entries-overlap", "Partitions %d and %d overlap from sector %d to %d.", before.Slot,
				e.Slot, e.Start, min(before.End, e.End),
			)
		}
		if other, twice := ids[e.UniqueID]; twice {
			found.Add(
				finding.Warning, "unique-id-twice", "Partitions %d and %d have the same unique id.", other, e.Slot,
			)
		}
		ids[e.UniqueID] = e.Slot
		t.Findings = append(t.Findings, found.On(e.Slot)...)
		if before == nil || e.End > before.End {
			before = e
		}
	}
}

// order sorts the entries by their place.
func (t *Table) order() {
	slices.SortStableFunc(t.Entries, func(a, b Entry) int { return int(min(max(a.Start-b.Start, -1), 1)) })
}

// ParseEntry reads an entry of a GPT, which has at least 128 bytes (UEFI 2.10, table 5.7).
func ParseEntry(slot int, raw []byte) Entry {
	le := binary.LittleEndian
	var name []uint16
	for i := 56; i < 128; i += 2 {
		c := le.Uint16(raw[i:])
		if c == 0 {
			break
		}
		name = append(name, c)
	}
	return Entry{
		Slot: slot, TypeID: guidText(raw[:16]), UniqueID: guidText(raw[16:32]),
		Start: place(le.Uint64(raw[32:])), End: place(le.Uint64(raw[40:])),
		Attributes: le.Uint64(raw[48:]), Name: string(utf16.Decode(name)), Raw: slices.Clone(raw),
		Hidden: le.Uint64(raw[48:])&AttrHidden != 0,
	}
}

// place keeps a hostile 64-bit sector number within what arithmetic on bytes
// can bear; no drive is that large.
func place(v uint64) disk.LBA { return disk.LBA(min(v, 1<<50)) }

// Bytes of an entry's own image.
func (e Entry) Bytes(sector disk.Bytes) disk.Bytes { return (e.End - e.Start + 1).Offset(sector) }

// NewEntry returns an entry with its raw bytes made from its fields.
func NewEntry(e Entry) Entry {
	le := binary.LittleEndian
	raw := make([]byte, 128)
	putGUID(raw, e.TypeID)
	putGUID(raw[16:], e.UniqueID)
	le.PutUint64(raw[32:], uint64(e.Start))
	le.PutUint64(raw[40:], uint64(e.End))
	le.PutUint64(raw[48:], e.Attributes)
	for i, c := range utf16.Encode([]rune(e.Name)) {
		if i == 36 {
			break
		}
		le.PutUint16(raw[56+2*i:], c)
	}
	e.Raw = raw
	return e
}

// Moved returns the entry's raw bytes with another place; all else is kept to
// the byte.
func (e Entry) Moved(start, end disk.LBA) []byte {
	raw := slices.Clone(e.Raw)
	switch {
	case e.Record != 0:
		putPlace(raw[mbrEntries:], e.Record, start, end)
		return raw
	case len(raw) == 16:
		putPlace(raw, 0, start, end)
		return raw
	}
	binary.LittleEndian.PutUint64(raw[32:], uint64(start))
	binary.LittleEndian.PutUint64(raw[40:], uint64(end))
	return raw
}

// Retagged returns the entry's raw bytes with another type, name, attributes (of a GPT) and
// active flag (of an MBR); all else is kept to the byte.
func (e Entry) Retagged(typeID, name string, attributes uint64, active bool) ([]byte, error) {
	raw := slices.Clone(e.Raw)
	if e.Record != 0 || len(raw) == 16 {
		typ, err := hex.DecodeString(typeID)
		if err != nil || len(typ) != 1 || typ[0] == 0 {
			return nil, fmt.Errorf("%w: %q is not a type of an MBR", ErrNotWritable, typeID)
		}
		at := raw
		if e.Record != 0 {
			at = raw[mbrEntries:]
		}
		if at[4] = typ[0]; active {
			at[0] = 0x80
		} else {
			at[0] = 0
		}
		return raw, nil
	}
	n := NewEntry(Entry{TypeID: typeID, Name: name})
	if guidText(n.Raw) != strings.ToLower(typeID) || guidText(n.Raw) == guidText(make([]byte, 16)) {
		return nil, fmt.Errorf("%w: %q is not a type of a GPT", ErrNotWritable, typeID)
	}
	copy(raw[:16], n.Raw[:16])
	binary.LittleEndian.PutUint64(raw[48:], attributes)
	copy(raw[56:128], n.Raw[56:128])
	return raw, nil
}

// Writable says why the table must not be changed, or nil.
func (t *Table) Writable() error {
	if t.Scheme == None {
		return fmt.Errorf("%w: the drive has none", ErrNotWritable)
	}
	for _, f := range t.Findings {
		if f.Severity == finding.Error || f.Code == "hybrid-mbr" {
			return fmt.Errorf("%w: %s", ErrNotWritable, f.Text)
		}
	}
	return nil
}

// ofEntries are findings about single entries: the table itself is whole, and can do without them.
var ofEntries = map[string]bool{
	"entry-absurd": true, "entry-beyond-end": true, "entry-outside-usable": true, "entries-overlap": true,
}

// Removable says why no entry can be taken out of the table, or nil: entries that cannot be so can be
// taken out of one that is whole itself.
func (t *Table) Removable() error {
	whole := *t
	whole.Findings = slices.DeleteFunc(slices.Clone(t.Findings), func(f finding.Finding) bool { return ofEntries[f.Code] })
	return whole.Writable()
}

// Slots is how many entries the table has room for.
func (t *Table) Slots() int {
	if g := t.copy(); g != nil && t.mbr == nil {
		return g.count
	}
	return 4
}

// Set returns the script that puts raw into the given slot, or empties the slot
// when raw is nil. Both copies are rewritten, one after the other with a
// barrier between, so that at every moment one of them is valid: first the
// second copy (entries, then header), then the first. Only sectors that change
// are written; whatever else they hold is kept to the byte. On an MBR every change
// is the write of one sector that matters at a time.
func (t *Table) Set(slot int, raw []byte) (script.Script, error) {
	err := t.Writable()
	if raw == nil {
		err = t.Removable()
	}
	if err != nil {
		return nil, err
	}
	if t.mbr != nil {
		return t.setMBR(slot, raw)
	}
	if slot < 1 || slot > t.primary.count || len(raw) > t.primary.entrySize {
		return nil, fmt.Errorf("%w: slot %d of %d", ErrSlot, slot, t.primary.count)
	}
	var s script.Script
	for i, g := range []*gptCopy{t.backup, t.primary} {
		array := slices.Clone(g.array)
		e := array[(slot-1)*g.entrySize : slot*g.entrySize]
		clear(e)
		copy(e, raw)
		sec := int(t.Sector)
		for at := 0; at < len(array); at += sec {
			if now := array[at : at+sec]; string(now) != string(g.array[at:at+sec]) {
				s.Put(g.arrayLBA.Offset(t.Sector)+disk.Bytes(at), now)
			}
		}
		if len(s) == 0 {
			return nil, nil // the slot holds these bytes already
		}
		h := slices.Clone(g.sector)
		binary.LittleEndian.PutUint32(h[88:], crc(array[:g.used()]))
		sealHeader(h)
		s.Put(g.lba.Offset(t.Sector), h)
		s.Barrier([]string{"second copy of the table written", "first copy of the table written"}[i])
	}
	return s, nil
}

// Ranges returns the places [start, end) of the table's own bytes on dev: the
// MBR, and both copies with their entries.
func (t *Table) Ranges() []disk.Range {
	out := []disk.Range{{Start: 0, End: t.Sector}}
	if t.mbr != nil {
		for _, l := range t.mbr.chain {
			at := l.lba.Offset(t.Sector)
			out = append(out, disk.Range{Start: at, End: at + t.Sector})
		}
	}
	for _, g := range []*gptCopy{t.primary, t.backup} {
		if g != nil {
			h, a := g.lba.Offset(t.Sector), g.arrayLBA.Offset(t.Sector)
			out = append(out, disk.Range{Start: h, End: h + t.Sector}, disk.Range{Start: a, End: a + disk.Bytes(len(g.array))})
		}
	}
	return out
}

// guidText is the usual text form of a GUID, whose first three fields are
// stored little-endian (UEFI 2.10, appendix A).
func guidText(b []byte) string {
	g := slices.Clone(b[:16])
	slices.Reverse(g[0:4])
	slices.Reverse(g[4:6])
	slices.Reverse(g[6:8])
	h := hex.EncodeToString(g)
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}

func putGUID(b []byte, text string) {
	g, err := hex.DecodeString(strings.ReplaceAll(text, "-", ""))
	if err != nil || len(g) != 16 {
		return
	}
	slices.Reverse(g[0:4])
	slices.Reverse(g[4:6])
	slices.Reverse(g[6:8])
	copy(b, g)
}

// PutUniqueID puts a unique id into the raw bytes of a GPT entry.
func PutUniqueID(raw []byte, id string) { putGUID(raw[16:], id) }
