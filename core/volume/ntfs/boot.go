// Package ntfs reads, measures, checks, makes, fills and grows NTFS volumes.
//
// The structures are those of NTFS 3.1. Numbers are little-endian. A volume is
// an array of clusters counted from its start (LCN); a stream is an array of
// clusters counted from its own start (VCN), mapped to the volume by runs.
package ntfs

import (
	"encoding/binary"
	"fmt"
	"math/bits"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

var le = binary.LittleEndian

// Records of the system files.
const (
	recMFT     = 0
	recMirror  = 1
	recLogFile = 2
	recVolume  = 3
	recAttrDef = 4
	recRoot    = 5
	recBitmap  = 6
	recBoot    = 7
	recBadClus = 8
	recSecure  = 9
	recUpCase  = 10
	recExtend  = 11
	recQuota   = 24
	recObjID   = 25
	recReparse = 26
	recUser    = 24 // what lies before is the file system's own
	recFirst   = 64 // of the first file that is not the file system's own
)

// boot is what the boot sector says, checked.
type boot struct {
	sector      disk.Bytes // 512 to 4096
	cluster     disk.Bytes // up to 2 MiB
	sectors     int64      // of the volume; the copy of the boot sector follows them
	clusters    int64
	mft, mirror int64 // LCN
	record      int   // bytes of an MFT record
	index       int   // bytes of an index block
	hidden      uint32
	serial      uint64
	raw         []byte
}

const oemID = "NTFS    "

// parseBoot reads a boot sector. A volume whose sizes are absurd is
// volume.ErrDamaged, another file system's is volume.ErrNotThis.
func parseBoot(b []byte) (*boot, error) {
	if len(b) < 512 || string(b[bootOEM:bootSectorBytes]) != oemID || b[510] != 0x55 || b[511] != 0xaa {
		return nil, volume.ErrNotThis
	}
	bad := func(what string, v any) (*boot, error) {
		return nil, fmt.Errorf("%w: the NTFS boot sector claims %s of %v", volume.ErrDamaged, what, v)
	}
	o := &boot{raw: b, hidden: le.Uint32(b[bootHidden:]), serial: le.Uint64(b[bootSerial:])}
	o.sector = disk.Bytes(le.Uint16(b[bootSectorBytes:]))
	if o.sector < 512 || o.sector > 4096 || o.sector&(o.sector-1) != 0 {
		return bad("a sector size", o.sector)
	}
	spc := disk.Bytes(b[bootPerCluster])
	if b[bootPerCluster] > 0x80 { // a negative power of two, for clusters above 64 KiB
		if b[bootPerCluster] < 0xf4 {
			return bad("a cluster size", b[bootPerCluster])
		}
		spc = 1 << (256 - int(b[bootPerCluster]))
	}
	if spc == 0 || spc&(spc-1) != 0 || spc*o.sector > 2*disk.MiB {
		return bad("a cluster size", spc*o.sector)
	}
	o.cluster = spc * o.sector
	if s := le.Uint64(b[bootSectors:]); s < 16 || s > 1<<50 {
		return bad("a number of sectors", s)
	}
	o.sectors = int64(le.Uint64(b[bootSectors:]))
	o.clusters = o.sectors / int64(spc)
	for i, p := range []*int64{&o.mft, &o.mirror} {
		v := le.Uint64(b[48+8*i:])
		if v >= uint64(o.clusters) {
			return bad("a table of files at cluster", v)
		}
		*p = int64(v)
	}
	sizeOf := func(c int8) int {
		if c > 0 {
			return int(min(disk.Bytes(c)*o.cluster, 1<<20))
		}
		return 1 << min(-int(c), 20)
	}
	o.record, o.index = sizeOf(int8(b[bootRecord])), sizeOf(int8(b[bootIndex]))
	if o.record < 512 || o.record > 64<<10 || bits.OnesCount(uint(o.record)) != 1 {
		return bad("a record size", o.record)
	}
	if o.index < 512 || o.index > 64<<10 || bits.OnesCount(uint(o.index)) != 1 {
		return bad("an index block size", o.index)
	}
	return o, nil
}

// bytes is the length of the volume's clusters.
func (o *boot) bytes() disk.Bytes { return disk.Bytes(o.clusters) * o.cluster }

// withSectors returns the boot sector with another number of sectors.
func (o *boot) withSectors(n int64) []byte {
	b := append([]byte(nil), o.raw...)
	le.PutUint64(b[bootSectors:], uint64(n))
	return b
}
