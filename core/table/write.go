package table

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/script"
)

func crc(b []byte) uint32 { return crc32.ChecksumIEEE(b) }

// headerCRC is the checksum of a header with its own field taken as zero
// (UEFI 2.10, table 5.5).
func headerCRC(h []byte) uint32 {
	c := crc32.Update(0, crc32.IEEETable, h[:16])
	c = crc32.Update(c, crc32.IEEETable, make([]byte, 4))
	return crc32.Update(c, crc32.IEEETable, h[20:])
}

func sealHeader(sector []byte) {
	size := binary.LittleEndian.Uint32(sector[12:])
	binary.LittleEndian.PutUint32(sector[16:], headerCRC(sector[:size]))
}

// New returns the script that gives a blank drive a GPT with 128 slots, the
// usual protective MBR, and the entries given (made by NewEntry).
func New(dev disk.Device, diskID string, entries ...Entry) script.Script {
	const count, esize = 128, 128
	sec := dev.SectorBytes()
	last := dev.Size().At(sec) - 1
	arraySectors := disk.LBA(disk.Bytes(count*esize).Up(sec) / sec)
	array := make([]byte, arraySectors.Offset(sec))
	for _, e := range entries {
		copy(array[(e.Slot-1)*esize:], e.Raw)
	}
	header := func(my, other, arrayAt disk.LBA) []byte {
		le := binary.LittleEndian
		h := make([]byte, sec)
		copy(h, gptSignature)
		le.PutUint32(h[8:], 0x00010000)
		le.PutUint32(h[12:], 92)
		le.PutUint64(h[24:], uint64(my))
		le.PutUint64(h[32:], uint64(other))
		le.PutUint64(h[40:], uint64(2+arraySectors))
		le.PutUint64(h[48:], uint64(last-1-arraySectors))
		putGUID(h[56:], diskID)
		le.PutUint64(h[72:], uint64(arrayAt))
		le.PutUint32(h[80:], count)
		le.PutUint32(h[84:], esize)
		le.PutUint32(h[88:], crc(array[:count*esize]))
		sealHeader(h)
		return h
	}
	var s script.Script
	s.Put(0, protectiveMBR(sec, last))
	s.Put((last - arraySectors).Offset(sec), array)
	s.Put(last.Offset(sec), header(last, 1, last-arraySectors))
	s.Barrier("second copy of the table written")
	s.Put(disk.LBA(2).Offset(sec), array)
	s.Put(disk.LBA(1).Offset(sec), header(1, last, 2))
	s.Barrier("first copy of the table written")
	return s
}

// protectiveMBR is the MBR of a drive with a GPT (UEFI 2.10, table 5.4).
func protectiveMBR(sec disk.Bytes, last disk.LBA) []byte {
	b := make([]byte, sec)
	e := b[446:]
	copy(e[1:], []byte{0x00, 0x02, 0x00, 0xee, 0xff, 0xff, 0xff})
	binary.LittleEndian.PutUint32(e[8:], 1)
	binary.LittleEndian.PutUint32(e[12:], uint32(min(last, 0xffffffff)))
	b[510], b[511] = 0x55, 0xaa
	return b
}

type protection int

const (
	noProtection protection = iota
	protected
	hybrid
)

// protective tells what an MBR says about a GPT.
func protective(mbr []byte) protection {
	if mbr[510] != 0x55 || mbr[511] != 0xaa {
		return noProtection
	}
	ee, other := 0, 0
	for i := range 4 {
		switch e := mbr[446+16*i:]; e[4] {
		case 0:
		case 0xee:
			ee++
		default:
			other++
		}
	}
	switch {
	case ee == 0:
		return noProtection
	case other > 0:
		return hybrid
	}
	return protected
}

func (t *Table) checkProtective(p protection, mbr []byte, last disk.LBA) {
	switch p {
	case noProtection:
		t.Findings.Add(
			finding.Warning, "gpt-protective-mbr-missing",
			"The drive has a GPT, but no protective MBR: old programs may take it for empty.",
		)
	case hybrid:
		t.Findings.Add(
			finding.Warning, "hybrid-mbr",
			"The MBR lists partitions beside the GPT (a hybrid MBR). Changes are refused, since both would have to agree.",
		)
	case protected:
		for i := range 4 {
			e := mbr[446+16*i:]
			if e[4] != 0xee {
				continue
			}
			size := disk.LBA(binary.LittleEndian.Uint32(e[12:]))
			if start := binary.LittleEndian.Uint32(e[8:]); start != 1 || size != min(last, 0xffffffff) && size != 0xffffffff {
				t.Findings.Add(
					finding.Note, "gpt-protective-mbr-size",
					"The protective MBR covers %d sectors from %d, not the whole drive.", size, start,
				)
			}
		}
	}
}

// Mend returns the script that rewrites one copy of a GPT from the other: the
// damaged one, or where both are valid and differ, the one that is not kept. keep
// is 1 for the first copy, 2 for the second, 0 for the one that is whole. A missing
// protective MBR is made again.
func (t *Table) Mend(keep int) (script.Script, error) {
	if t.Scheme != GPT || t.copy() == nil {
		return nil, fmt.Errorf("%w: it has no copy to be mended from", ErrNotWritable)
	}
	good := t.copy()
	switch {
	case keep == 1 && t.primary == nil, keep == 2 && t.backup == nil:
		return nil, fmt.Errorf("%w: copy %d is damaged and cannot be kept", ErrNotWritable, keep)
	case keep == 2:
		good = t.backup
	case t.primary != nil && t.backup != nil && t.primary.sameAs(t.backup) && !t.unprotected:
		return nil, fmt.Errorf("%w: both copies are whole and the same, so there is nothing to mend", ErrNotWritable)
	case keep == 0 && t.primary != nil && t.backup != nil && !t.primary.sameAs(t.backup):
		return nil, fmt.Errorf("%w: both copies are valid and differ; say which is kept", ErrNotWritable)
	}
	sectors := disk.LBA(disk.Bytes(len(good.array)) / t.Sector)
	my, array := disk.LBA(good.u64(32)), disk.LBA(0)
	if good == t.backup {
		my, array = 1, 2
		if disk.LBA(good.u64(40)) < 2+sectors {
			return nil, fmt.Errorf("%w: the first copy has no room before sector %d", ErrNotWritable, good.u64(40))
		}
	} else {
		if my > t.last || my <= disk.LBA(good.u64(48))+sectors {
			my = t.last
		}
		if array = my - sectors; array <= disk.LBA(good.u64(48)) {
			return nil, fmt.Errorf("%w: the drive is too short for the second copy", ErrNotWritable)
		}
	}
	h := slices.Clone(good.sector)
	le := binary.LittleEndian
	le.PutUint64(h[24:], uint64(my))
	le.PutUint64(h[32:], uint64(good.lba))
	le.PutUint64(h[72:], uint64(array))
	sealHeader(h)
	var s script.Script
	s.Put(array.Offset(t.Sector), good.array)
	s.Put(my.Offset(t.Sector), h)
	s.Barrier("the other copy of the table written")
	if disk.LBA(good.u64(32)) != my {
		g := slices.Clone(good.sector)
		le.PutUint64(g[32:], uint64(my))
		sealHeader(g)
		s.Put(good.lba.Offset(t.Sector), g)
		s.Barrier("the kept copy names it")
	}
	if t.unprotected {
		s.Put(0, protectiveMBR(t.Sector, t.last))
		s.Barrier("protective MBR written")
	}
	return s, nil
}
