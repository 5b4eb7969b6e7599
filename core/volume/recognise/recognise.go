// Package recognise tells what file system lies on a device, and opens those
// that can be looked into.
package recognise

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/volume"
	"jadetrail/core/volume/exfat"
	"jadetrail/core/volume/ext"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// Found is what lies on a device. Volume is nil for what is handled whole only,
// Info is nil where there is nothing.
type Found struct {
	Info     *volume.Info
	Volume   volume.Volume
	Findings finding.List
}

// Open looks at the device. Only a failing device is an error.
func Open(dev disk.Device) (Found, error) {
	var f Found
	// The mark of a set's older member lies at its end, behind a file system that can be read and
	// must not be taken for one that lies there alone.
	if info := memberAtEnd(dev); info != nil {
		f.Info = info
		return f, nil
	}
	v, err := openers(dev)
	switch {
	case err == nil:
		info, err := v.Info()
		if err == nil {
			f.Info, f.Volume = &info, v
			f.fits(dev)
			return f, nil
		}
		if !errors.Is(err, volume.ErrDamaged) {
			return f, err
		}
		f.Info = &volume.Info{Kind: info.Kind, TotalBytes: dev.Size()}
		f.Findings.Add(finding.Error, "volume-damaged", "%s.", err)
		return f, nil
	case errors.Is(err, volume.ErrUnreadable):
		f.Info = &volume.Info{Kind: volume.Ext4, TotalBytes: dev.Size()}
		f.Findings.Add(finding.Warning, "volume-unknown-features", "%s; it is handled whole.", err)
		return f, nil
	case errors.Is(err, volume.ErrDamaged):
		f.Info = &volume.Info{Kind: volume.Unknown, TotalBytes: dev.Size()}
		f.Findings.Add(finding.Error, "volume-damaged", "%s.", err)
		return f, nil
	case !errors.Is(err, volume.ErrNotThis):
		return f, err
	}
	if info := signature(dev); info != nil {
		f.Info = info
		f.fits(dev)
		return f, nil
	}
	some, err := anything(dev)
	if some {
		f.Info = &volume.Info{Kind: volume.Unknown, TotalBytes: dev.Size()}
	}
	return f, err
}

// Reopen opens a volume that Open has looked at, and of which nothing has changed since.
func Reopen(dev disk.Device) (volume.Volume, error) { return openers(dev) }

// fits tells of a volume that says of itself that it is longer than its device.
func (f *Found) fits(dev disk.Device) {
	if f.Info.TotalBytes > dev.Size() {
		f.Findings.Add(
			finding.Error, "volume-too-long", "The volume claims %s, but its partition has %s.", f.Info.TotalBytes,
			dev.Size(),
		)
	}
}

func openers(dev disk.Device) (volume.Volume, error) {
	for _, open := range []func(disk.Device) (volume.Volume, error){
		func(d disk.Device) (volume.Volume, error) { return ntfs.Open(d) },
		func(d disk.Device) (volume.Volume, error) { return exfat.Open(d) },
		func(d disk.Device) (volume.Volume, error) { return fat.Open(d) },
		func(d disk.Device) (volume.Volume, error) { return ext.Open(d) },
	} {
		v, err := open(dev)
		if err == nil || !errors.Is(err, volume.ErrNotThis) {
			return v, err
		}
	}
	return nil, volume.ErrNotThis
}

// mark is what tells something that is handled whole: bytes at a place.
type mark struct {
	at   disk.Bytes
	text string
	kind volume.Kind
	// more fills in what else the device says.
	more func(dev disk.Device, info *volume.Info)
}

var marks = []mark{
	{3, "-FVE-FS-", volume.Sealed, detail("encrypted by its system")},
	{0, "LUKS\xba\xbe", volume.Sealed, luks},
	{3, "ReFS", volume.ReFS, refs},
	{4086, "SWAPSPACE2", volume.Swap, swap},
	{512, "LABELONE", volume.LVM, physical},
	{0, "LABELONE", volume.LVM, physical},
	{1024, "LABELONE", volume.LVM, physical},
	{32769, "CD001", volume.ISO, iso},
	{4096, "\xfc\x4e\x2b\xa9", volume.Member, member(4096)},
	{0, "\xfc\x4e\x2b\xa9", volume.Member, member(0)},
	{4096 + 24, "\xc6\x85\x73\xf6\x4e\x1a\x45\xca\x82\x65\xf5\x7f\x48\xba\x6d\x81", volume.Member, detail("part of a bcache set")},
	{0, "SPACEDB ", volume.Member, detail("part of a storage pool")},
	{0, "XFSB", volume.XFS, xfs},
	{65600, "_BHRfS_M", volume.Btrfs, btrfs},
	{32, "NXSB", volume.APFS, apfs},
	{1024, "H+\x00\x04", volume.HFSPlus, hfsPlus},
	{1024, "HX\x00\x05", volume.HFSPlus, hfsPlus},
}

// signature recognises what is handled whole by its well-known marks.
func signature(dev disk.Device) *volume.Info {
	for _, m := range marks {
		b, err := disk.ReadFull(dev, m.at, disk.Bytes(len(m.text)))
		if err != nil || string(b) != m.text {
			continue
		}
		info := &volume.Info{Kind: m.kind, TotalBytes: dev.Size(), Clean: true}
		if m.more != nil {
			m.more(dev, info)
		}
		return info
	}
	if zfs(dev) {
		return &volume.Info{Kind: volume.Member, TotalBytes: dev.Size(), Clean: true, Detail: "part of a ZFS pool"}
	}
	return nil
}

// memberAtEnd recognises members of sets by the mark near their end (Linux md, superblocks 0.90 in the last
// whole 64 KiB but one, and 1.0 at least 8 KiB before the end): the magic number and then the major version.
func memberAtEnd(dev disk.Device) *volume.Info {
	for _, x := range []struct {
		at    disk.Bytes
		major byte
	}{{dev.Size().Down(64*disk.KiB) - 64*disk.KiB, 0}, {(dev.Size() - 8*disk.KiB).Down(4 * disk.KiB), 1}} {
		b, err := disk.ReadFull(dev, x.at, 8)
		if err == nil && string(b) == "\xfc\x4e\x2b\xa9"+string([]byte{x.major, 0, 0, 0}) {
			return &volume.Info{Kind: volume.Member, TotalBytes: dev.Size(), Clean: true, Detail: "part of a RAID"}
		}
	}
	return nil
}

// zfs finds a member of a ZFS pool by one of the 128 uberblocks in its first label, each with the magic
// number 00bab10ch in either order of bytes (ZFS On-Disk Specification, 1.3).
func zfs(dev disk.Device) bool {
	const label, slot = 128 * disk.KiB, disk.KiB
	b, err := disk.ReadFull(dev, label, 128*slot)
	if err != nil {
		return false
	}
	for at := disk.Bytes(0); at < disk.Bytes(len(b)); at += slot {
		if x := string(b[at : at+8]); x == "\x0c\xb1\xba\x00\x00\x00\x00\x00" || x == "\x00\x00\x00\x00\x00\xba\xb1\x0c" {
			return true
		}
	}
	return false
}

func detail(text string) func(disk.Device, *volume.Info) {
	return func(_ disk.Device, info *volume.Info) { info.Detail = text }
}

func field(dev disk.Device, at, n disk.Bytes) []byte {
	b, err := disk.ReadFull(dev, at, n)
	if err != nil {
		return make([]byte, n)
	}
	return b
}

func word(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return strings.TrimSpace(strings.ToValidUTF8(string(b), "?"))
}

// luks: LUKS on-disk format; the second version has a label.
func luks(dev disk.Device, info *volume.Info) {
	v := binary.BigEndian.Uint16(field(dev, 6, 2))
	info.Detail, info.Serial = "encrypted (LUKS)", word(field(dev, 168, 40))
	if v == 2 {
		info.Label = word(field(dev, 24, 48))
	}
}

func refs(dev disk.Device, info *volume.Info) {
	b := field(dev, 0, 64)
	sector, spc := disk.Bytes(binary.LittleEndian.Uint32(b[32:])), disk.Bytes(binary.LittleEndian.Uint32(b[36:]))
	if n := binary.LittleEndian.Uint64(b[24:]); sector >= 512 && sector <= 4096 && n < uint64(dev.Size()/sector) {
		info.TotalBytes = disk.Bytes(n) * sector
	}
	info.Serial = fmt.Sprintf("%016x", binary.LittleEndian.Uint64(b[56:]))
	info.Detail = fmt.Sprintf("version %d.%d, clusters of %s", b[40], b[41], (sector * spc).Exact())
}

// sized sets how long a volume says that it is, unless no volume can be that long.
func sized(info *volume.Info, blocks uint64, block disk.Bytes) {
	if most := disk.Bytes(1) << 62; block > 0 && blocks > 0 && blocks <= uint64(most/block) {
		info.TotalBytes = disk.Bytes(blocks) * block
	}
}

// xfs: XFS Algorithms and Data Structures, superblocks (xfs_dsb).
func xfs(dev disk.Device, info *volume.Info) {
	b := field(dev, 0, 120)
	info.Serial, info.Label = hex.EncodeToString(b[32:48]), word(b[108:120])
	sized(info, binary.BigEndian.Uint64(b[8:]), disk.Bytes(binary.BigEndian.Uint32(b[4:])))
}

// btrfs: Btrfs on-disk format, superblock; its length here is that of the device item.
func btrfs(dev disk.Device, info *volume.Info) {
	b := field(dev, 65536, 1024)
	info.Serial, info.Label = hex.EncodeToString(b[32:48]), word(b[299:555])
	sized(info, binary.LittleEndian.Uint64(b[209:]), 1)
	if n := binary.LittleEndian.Uint64(b[136:]); n > 1 {
		info.Kind, info.Detail = volume.Member, fmt.Sprintf("part of a Btrfs volume on %d drives", n)
	}
}

// apfs: Apple File System Reference, nx_superblock_t.
func apfs(dev disk.Device, info *volume.Info) {
	b := field(dev, 0, 88)
	info.Serial = hex.EncodeToString(b[72:88])
	sized(info, binary.LittleEndian.Uint64(b[40:]), disk.Bytes(binary.LittleEndian.Uint32(b[36:])))
}

// hfsPlus: HFS Plus Volume Format (TN1150), volume header.
func hfsPlus(dev disk.Device, info *volume.Info) {
	b := field(dev, 1024, 48)
	sized(info, uint64(binary.BigEndian.Uint32(b[44:])), disk.Bytes(binary.BigEndian.Uint32(b[40:])))
}

// swap: the kernel's union swap_header.
func swap(dev disk.Device, info *volume.Info) {
	b := field(dev, 1024, 44)
	if n := disk.Bytes(binary.LittleEndian.Uint32(b[4:])) + 1; n > 1 && n*4096 <= dev.Size() {
		info.TotalBytes = n * 4096
	}
	info.Serial, info.Label = hex.EncodeToString(b[12:28]), word(b[28:44])
}

// physical: an LVM physical volume's label (label_header, pv_header).
func physical(dev disk.Device, info *volume.Info) {
	for _, at := range []disk.Bytes{0, 512, 1024, 1536} {
		if b := field(dev, at, 512); string(b[:8]) == "LABELONE" {
			info.Serial = word(b[32:64])
		}
	}
	info.Detail = "an LVM physical volume"
}

// iso: the primary volume descriptor (ECMA-119, section 8.4).
func iso(dev disk.Device, info *volume.Info) {
	b := field(dev, 32768, 2048)
	info.Label = word(b[40:72])
	blocks, size := disk.Bytes(binary.LittleEndian.Uint32(b[80:])), disk.Bytes(binary.LittleEndian.Uint16(b[128:]))
	if n := blocks * size; n > 0 && n <= dev.Size() {
		info.TotalBytes, info.UsedBytes = n, n
	}
}

// member: a RAID superblock of version 1 (mdp_superblock_1).
func member(at disk.Bytes) func(disk.Device, *volume.Info) {
	return func(dev disk.Device, info *volume.Info) {
		b := field(dev, at, 100)
		info.Label, info.Serial = word(b[32:64]), hex.EncodeToString(b[16:32])
		info.Detail = fmt.Sprintf(
			"part of a RAID (level %d) of %d drives", int32(binary.LittleEndian.Uint32(b[72:])),
			binary.LittleEndian.Uint32(b[92:]),
		)
	}
}

// anything tells whether the device holds any byte but zero. At most the first
// 64 MiB that the device has stored are read; what holds more counts as
// something.
func anything(dev disk.Device) (bool, error) {
	const limit = 64 * disk.MiB
	var read disk.Bytes
	buf := make([]byte, 256<<10)
	for at := disk.Bytes(0); ; {
		start, end, ok := dev.Data(at)
		if !ok {
			return false, nil
		}
		for start < end {
			n := min(end-start, disk.Bytes(len(buf)))
			if _, err := dev.ReadAt(buf[:n], int64(start)); err != nil {
				return false, err
			}
			for _, c := range buf[:n] {
				if c != 0 {
					return true, nil
				}
			}
			if read += n; read > limit {
				return true, nil
			}
			start += n
		}
		at = end
	}
}
