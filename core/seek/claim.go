package seek

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"

	"jadetrail/core/disk"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

var le = binary.LittleEndian

// Source is what tells of a lost partition.
type Source string

// The sources.
const (
	BySector Source = "boot-sector" // of the volume itself
	ByCopy   Source = "copy"        // of the boot sector or superblock
	ByFiles  Source = "file-table"  // the volume's table of files
	ByTable  Source = "old-table"   // an entry of a table that is not in use
	ByChain  Source = "old-chain"   // a record of a container's chain
	ByRecord Source = "record"      // of the trail
)

// claim is what a structure says of a volume that may lie around it. Nothing of it is
// believed before it is judged.
type claim struct {
	kind   volume.Kind // "" for one that only a table tells of
	start  disk.Bytes
	size   disk.Bytes // of the volume as it says itself, 0 where it does not
	serial string
	began  disk.LBA // where the volume says that it began, 0 where it does not
	by     Source
	at     disk.Bytes // where the structure lies
	// boot is what the start of the volume would be by a copy: bytes at boot offset bootAt.
	boot   []byte
	bootAt disk.Bytes
	// identity tells a volume whose serial number is not known from others.
	identity string
	record   string      // of the trail
	entry    table.Entry // of a table or chain that tells of it
}

// hit tells whether a sector of 512 bytes may hold a structure that is looked for. It looks
// at few bytes, so that it costs little of the time that reading them takes.
func hit(s []byte) bool {
	_ = s[511]
	return s[510] == 0x55 && s[511] == 0xaa ||
		s[56] == 0x53 && s[57] == 0xef ||
		s[0] == 'E' && string(s[:8]) == "EFI PART" ||
		s[0] == 'F' && string(s[:4]) == "FILE" ||
		s[0] == 'L' && string(s[:6]) == "LUKS\xba\xbe" ||
		s[502] == 'S' && string(s[502:512]) == "SWAPSPACE2"
}

// claims reads what lies at a place, at least 512 bytes of which b holds, and returns what it
// may be part of. What can only be something else claims nothing.
func claims(dev disk.Device, at disk.Bytes) []claim {
	b, err := disk.ReadFull(dev, at, min(1024, dev.Size()-at))
	if err != nil || len(b) < 512 {
		return nil
	}
	var out []claim
	if b[510] == 0x55 && b[511] == 0xaa {
		switch {
		case string(b[3:11]) == "NTFS    ":
			out = ntfsClaims(b, at)
		case string(b[3:11]) == "EXFAT   ":
			out = exfatClaims(dev, b, at)
		case string(b[3:11]) == "-FVE-FS-":
			out = sealedClaims(dev, b, at)
		case (b[0] == 0xeb || b[0] == 0xe9) && (string(b[54:57]) == "FAT" || string(b[82:85]) == "FAT"):
			out = fatClaims(dev, b, at)
		default:
			out = chainClaims(dev, b, at)
		}
	}
	if len(b) >= 1024 && b[56] == 0x53 && b[57] == 0xef {
		out = append(out, extClaims(dev, b, at)...)
	}
	switch {
	case string(b[:8]) == "EFI PART":
		out = append(out, tableClaims(dev, b, at)...)
	case string(b[:6]) == "LUKS\xba\xbe":
		out = append(out, luksClaims(dev, at)...)
	case string(b[:4]) == "FILE":
		if r, err := ntfs.FromTable(dev, at); err == nil {
			out = append(out, claim{
				kind: volume.NTFS, start: r.Start, size: r.Size, by: ByFiles, at: at, boot: r.Boot,
				identity: r.Identity,
			})
		}
	}
	if string(b[502:512]) == "SWAPSPACE2" {
		out = append(out, swapClaims(dev, at)...)
	}
	for i := 0; i < len(out); { // nothing lies beyond the drive
		if c := out[i]; c.start < 0 || c.size < 0 || c.start+c.size > dev.Size() {
			out = append(out[:i], out[i+1:]...)
			continue
		}
		i++
	}
	return out
}

// both are the claims of a structure that a volume has at its start and again at a distance.
func both(c claim, at, distance disk.Bytes, boot []byte) []claim {
	c.by, c.at, c.start = BySector, at, at
	again := c
	again.by, again.start, again.boot = ByCopy, at-distance, boot
	return []claim{c, again}
}

// ntfsClaims: the copy of the boot sector lies behind the volume's last sector.
func ntfsClaims(b []byte, at disk.Bytes) []claim {
	sec, n := disk.Bytes(le.Uint16(b[11:])), le.Uint64(b[40:])
	if sec < 512 || sec > 4096 || sec&(sec-1) != 0 || n < 16 || n > 1<<50 {
		return nil
	}
	size := (disk.Bytes(n) + 1) * sec
	return both(
		claim{
			kind: volume.NTFS, size: size, serial: fmt.Sprintf("%016x", le.Uint64(b[72:])),
			began: disk.LBA(le.Uint32(b[28:])),
		},
		at, size-sec, bytes.Clone(b[:min(disk.Bytes(len(b)), sec)]),
	)
}

// fatClaims: FAT32 keeps a copy of its boot sector where BPB_BkBootSec says (FAT
// specification, 3.3).
func fatClaims(dev disk.Device, b []byte, at disk.Bytes) []claim {
	sec := disk.Bytes(le.Uint16(b[11:]))
	if sec < 512 || sec > 4096 || sec&(sec-1) != 0 {
		return nil
	}
	n := disk.Bytes(le.Uint16(b[19:]))
	if n == 0 {
		n = disk.Bytes(le.Uint32(b[32:]))
	}
	ext := b[36:]
	c := claim{kind: volume.FAT16, size: n * sec, by: BySector, at: at, start: at, began: disk.LBA(le.Uint32(b[28:]))}
	if le.Uint16(b[22:]) == 0 {
		c.kind, ext = volume.FAT32, b[64:]
	}
	if ext[2] == 0x29 || ext[2] == 0x28 {
		c.serial = fmt.Sprintf("%08x", le.Uint32(ext[3:]))
	}
	if back := le.Uint16(b[50:]); c.kind == volume.FAT32 && back > 0 && back < 32 {
		whole, err := disk.ReadFull(dev, at, sec)
		if err != nil {
			whole = bytes.Clone(b[:512])
		}
		return both(c, at, disk.Bytes(back)*sec, whole)
	}
	return []claim{c}
}

// exfatClaims: the backup boot region of 12 sectors follows the main one (exFAT
// specification, 3.2).
func exfatClaims(dev disk.Device, b []byte, at disk.Bytes) []claim {
	if b[108] < 9 || b[108] > 12 {
		return nil
	}
	sec, n := disk.Bytes(1)<<b[108], le.Uint64(b[72:])
	if n < 64 || n > 1<<50 {
		return nil
	}
	c := claim{kind: volume.ExFAT, size: disk.Bytes(n) * sec, serial: fmt.Sprintf("%08x", le.Uint32(b[100:]))}
	if began := le.Uint64(b[64:]); began < 1<<50 { // PartitionOffset
		c.began = disk.LBA(began)
	}
	region, err := disk.ReadFull(dev, at, 12*sec)
	if err != nil {
		region = bytes.Clone(b[:512])
	}
	return both(c, at, 12*sec, region)
}

// extClaims: a superblock says in which group it lies (s_block_group_nr); that of group 0
// lies 1 KiB behind the volume's start, the others at the start of their group.
func extClaims(dev disk.Device, b []byte, at disk.Bytes) []claim {
	k, first := le.Uint32(b[24:]), le.Uint32(b[20:])
	if k > 6 || first > 1 || (k == 0) != (first == 1) {
		return nil
	}
	block := disk.Bytes(1024) << k
	blocks, per, group := uint64(le.Uint32(b[4:])), disk.Bytes(le.Uint32(b[32:])), disk.Bytes(le.Uint16(b[90:]))
	if le.Uint32(b[96:])&0x80 != 0 {
		blocks |= uint64(le.Uint32(b[0x150:])) << 32
	}
	if blocks < 8 || blocks > 1<<40 || per < 8 || per > block*8 || le.Uint32(b[40:]) == 0 {
		return nil
	}
	c := claim{
		kind: volume.Ext4, size: disk.Bytes(blocks) * block, serial: hex.EncodeToString(b[104:120]), by: BySector,
		at: at, start: at - 1024,
	}
	switch compat := le.Uint32(b[92:]); {
	case le.Uint32(b[96:])&0x40 != 0:
	case compat&4 != 0:
		c.kind = volume.Ext3
	default:
		c.kind = volume.Ext2
	}
	if group == 0 {
		return []claim{c}
	}
	c.by, c.start = ByCopy, at-(disk.Bytes(first)+group*per)*block
	c.boot, c.bootAt = extStart(dev, b, at, block, disk.Bytes(first), blocks, per), 1024
	return []claim{c}
}

// maxGroups bounds the group descriptors that are copied back from behind a superblock.
const maxGroups = 4 * disk.MiB

// extStart is the superblock of group 0 and the descriptors behind it as a copy has them.
func extStart(dev disk.Device, b []byte, at, block, first disk.Bytes, blocks uint64, per disk.Bytes) []byte {
	size := disk.Bytes(32)
	if le.Uint32(b[96:])&0x80 != 0 {
		size = disk.Bytes(le.Uint16(b[254:]))
	}
	groups := (disk.Bytes(blocks) - first + per - 1) / per
	if size < 32 || size > block || groups > maxGroups/size {
		return nil
	}
	sb := bytes.Clone(b[:1024])
	le.PutUint16(sb[90:], 0)
	if le.Uint32(sb[100:])&0x400 != 0 { // metadata_csum: crc32c of what comes before, not inverted
		le.PutUint32(sb[1020:], ^crc32.Checksum(sb[:1020], crc32.MakeTable(crc32.Castagnoli)))
	}
	table, err := disk.ReadFull(dev, at+block, (groups * size).Up(block))
	if err != nil {
		return nil
	}
	// The superblock, up to the end of its block, and the descriptors in the blocks behind.
	head := make([]byte, max(block*(first+1), 2048)-1024)
	copy(head, sb)
	return append(head, table...)
}

// swapClaims: the kernel's union swap_header; the mark ends its first page of 4 KiB.
func swapClaims(dev disk.Device, at disk.Bytes) []claim {
	start := at + 512 - 4096
	b, err := disk.ReadFull(dev, start, 4096)
	if err != nil {
		return nil
	}
	n := disk.Bytes(le.Uint32(b[1028:])) + 1
	if le.Uint32(b[1024:]) != 1 || n < 10 {
		return nil
	}
	return []claim{{kind: volume.Swap, start: start, size: n * 4096, serial: hex.EncodeToString(b[1036:1052]), by: BySector, at: at}}
}

// luksClaims: LUKS on-disk format, versions 1 and 2. Neither says how long the volume is.
func luksClaims(dev disk.Device, at disk.Bytes) []claim {
	b, err := disk.ReadFull(dev, at, 512)
	if err != nil {
		return nil
	}
	if v := binary.BigEndian.Uint16(b[6:]); v != 1 && v != 2 {
		return nil
	}
	return []claim{{kind: volume.Sealed, start: at, serial: word(b[168:208]), by: BySector, at: at}}
}

// sealedClaims: an encrypted volume of this kind says in its first sector where three copies
// of its description lie, and in each how long it is.
func sealedClaims(dev disk.Device, b []byte, at disk.Bytes) []claim {
	for i := 176; i < 200; i += 8 {
		off := le.Uint64(b[i:])
		if off == 0 || off > uint64(dev.Size()-at) {
			continue
		}
		d, err := disk.ReadFull(dev, at+disk.Bytes(off), 64)
		if err != nil || string(d[:8]) != "-FVE-FS-" {
			continue
		}
		if n := le.Uint64(d[16:]); n > 1<<20 && n <= uint64(dev.Size()-at) {
			return []claim{{kind: volume.Sealed, start: at, size: disk.Bytes(n), by: BySector, at: at}}
		}
	}
	return []claim{{kind: volume.Sealed, start: at, by: BySector, at: at}}
}

func word(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return string(bytes.ToValidUTF8(b, []byte("?")))
}

// chainClaims: a record of a container's chain (UEFI 2.10, 5.2, and the trade's practice): its
// first entry is a volume, counted from the record; the third and fourth are empty.
func chainClaims(dev disk.Device, b []byte, at disk.Bytes) []claim {
	sec := dev.SectorBytes()
	e := b[446:510]
	start, n := disk.Bytes(le.Uint32(e[8:])), disk.Bytes(le.Uint32(e[12:]))
	if !disk.Zeros(e[32:]) || e[0]&0x7f != 0 || e[4] == 0 || e[4] == 0xee || start == 0 || n < 64 || at%sec != 0 || at == 0 || start*sec > 64*disk.MiB {
		return nil
	}
	if second := e[20]; second != 0 && second != 5 && second != 0x0f && second != 0x85 {
		return nil
	}
	return []claim{{start: at + start*sec, size: n * sec, by: ByChain, at: at, entry: table.Entry{
		TypeID: hex.EncodeToString(e[4:5]), Record: at.At(sec),
	}}}
}

// tableClaims: the header of a GPT that says of itself that it lies where it lies; one inside
// an image within a file does not (UEFI 2.10, 5.3.2).
func tableClaims(dev disk.Device, b []byte, at disk.Bytes) []claim {
	sec := dev.SectorBytes()
	size, entry, count := le.Uint32(b[12:]), disk.Bytes(le.Uint32(b[84:])), disk.Bytes(le.Uint32(b[80:]))
	if size < 92 || size > 512 || le.Uint64(b[24:]) != uint64(at/sec) || at%sec != 0 || entry < 128 || entry > 4096 || count > 4096 {
		return nil
	}
	h := bytes.Clone(b[:size])
	clear(h[16:20])
	if crc32.ChecksumIEEE(h) != le.Uint32(b[16:]) || le.Uint64(b[72:]) > uint64(dev.Size()/sec) {
		return nil
	}
	array, err := disk.ReadFull(dev, disk.Bytes(le.Uint64(b[72:]))*sec, entry*count)
	if err != nil || crc32.ChecksumIEEE(array) != le.Uint32(b[88:]) {
		return nil
	}
	var out []claim
	for i := disk.Bytes(0); i < count; i++ {
		e := array[i*entry:][:128]
		first, last := le.Uint64(e[32:]), le.Uint64(e[40:])
		if disk.Zeros(e[:16]) || first == 0 || first > last || last > 1<<50 {
			continue
		}
		x := table.ParseEntry(int(i)+1, e)
		out = append(out, claim{start: x.Start.Offset(sec), size: x.Bytes(sec), by: ByTable, at: at, entry: x})
	}
	return out
}
