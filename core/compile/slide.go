package compile

import (
	"encoding/binary"
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
)

// along is how much free room between two stretches is moved along with them: less than
// this is not worth an operation of its own.
const along = disk.MiB

// slide moves a partition to another place, as long as it is: what is allocated and what
// lies outside clusters is moved, the rest becomes a hole. The table follows when all is in
// its new place.
func slide(sv *survey.Survey, number int, start disk.LBA, dev disk.Device) (script.Script, error) {
	p, ok := sv.Layout.Find(number)
	i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == number })
	if !ok || i < 0 {
		return nil, fmt.Errorf("%w: there is no partition %d", ErrCannot, number)
	}
	w := survey.Window(dev, *p)
	ranges, _, err := shelf.Ranges(w, sv.Volume(number))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	sec := sv.Layout.Sector
	from, to := p.Start.Offset(sec), start.Offset(sec)
	var s script.Script
	at := disk.Bytes(0)
	for k, r := range ranges {
		lo := r.Start
		switch {
		case lo-at < along:
			lo = at
		default:
			s = append(s, script.Op{Kind: script.Hole, Off: to + at, Len: lo - at})
		}
		if n := len(s); k > 0 && lo == at && n > 0 && s[n-1].Kind == script.Move {
			s[n-1].Len = to + r.End - s[n-1].Off
		} else {
			s = append(s, script.Op{Kind: script.Move, Off: to + lo, From: from + lo, Len: r.End - lo})
		}
		at = r.End
	}
	if at < p.Bytes {
		s = append(s, script.Op{Kind: script.Hole, Off: to + at, Len: p.Bytes - at})
	}
	if to > from { // the last first, so that nothing is written over that is still to be moved
		slices.Reverse(s)
	}
	s.Barrier("moved to its new place")
	if p.Volume != nil {
		fitted, err := fitted(w, p.Volume.Kind, p.Start, start)
		if err != nil {
			return nil, err
		}
		if len(fitted) > 0 {
			s = append(s, fitted.Shift(to)...)
			s.Barrier("boot sectors fitted to the place")
		}
	}
	end := start + (p.End - p.Start)
	e := sv.Table.Entries[i]
	if p.Container == 0 {
		set, err := sv.Table.Set(number, e.Moved(start, end))
		return slices.Concat(s, set, vacated(ranges, p, start, 0, sec)), err
	}
	// A logical volume's record moves with it: it leaves the chain, and is put in again.
	record, err := recordAsItIs(sv, number, dev)
	if err != nil {
		return nil, err
	}
	out, err := sv.Table.Set(number, nil)
	if err != nil {
		return nil, err
	}
	over, err := disk.NewOverlay(dev, "")
	if err != nil {
		return nil, err
	}
	defer over.Close()
	if err := out.Apply(over, nil); err != nil {
		return nil, err
	}
	left, err := table.Read(over)
	if err != nil {
		return nil, err
	}
	e.Record += start - p.Start
	in, err := left.Insert(e.Record, e.Moved(start, end), nil)
	return slices.Concat(record, s, out, in, vacated(ranges, p, start, e.Record, sec)), err
}

// vacated makes holes of what was moved, where it lay before and the volume's new place, or
// the new place of its record, does not lie over it: on a drive that can do that, and in an
// image, a slide takes no room. Nothing is lost: it is where it was moved to.
func vacated(ranges []disk.Range, p *layout.Span, start, record disk.LBA, sec disk.Bytes) script.Script {
	from, to := p.Start.Offset(sec), start.Offset(sec)
	stays := []disk.Range{{Start: to, End: to + p.Bytes}}
	if record != 0 {
		stays = append(stays, disk.Range{Start: record.Offset(sec), End: (record + 1).Offset(sec)})
	}
	left := make([]disk.Range, 0, len(ranges))
	for _, r := range ranges {
		left = append(left, disk.Range{Start: from + r.Start, End: from + r.End})
	}
	for _, k := range stays {
		var outside []disk.Range
		for _, r := range left {
			if a := min(r.End, k.Start); r.Start < a {
				outside = append(outside, disk.Range{Start: r.Start, End: a})
			}
			if b := max(r.Start, k.End); b < r.End {
				outside = append(outside, disk.Range{Start: b, End: r.End})
			}
		}
		left = outside
	}
	var s script.Script
	for _, r := range left {
		s = append(s, script.Op{Kind: script.Hole, Off: r.Start, Len: r.End - r.Start})
	}
	if len(s) > 0 {
		s.Barrier("its former place is empty")
	}
	return s
}

// fitted mends what a volume says of the place where it begins: the count of the sectors
// before it, in its boot sectors.
func fitted(w disk.Device, kind volume.Kind, was, start disk.LBA) (script.Script, error) {
	sec, err := ownSector(w, kind)
	if err != nil {
		return nil, err
	}
	boot, err := disk.ReadFull(w, 0, min(24*sec, w.Size()))
	if err != nil {
		return nil, err
	}
	start = start.Offset(w.SectorBytes()).At(sec)
	var s script.Script
	var at []disk.Bytes
	switch kind {
	case volume.NTFS:
		at = []disk.Bytes{0}
		if n := binary.LittleEndian.Uint64(boot[40:]); n < uint64(w.Size()/sec) { // its copy lies behind its last sector
			at = append(at, disk.Bytes(n)*sec)
		}
	case volume.FAT12, volume.FAT16:
		at = []disk.Bytes{0}
	case volume.FAT32:
		at = []disk.Bytes{0}
		if n := binary.LittleEndian.Uint16(boot[50:]); n > 0 && n < 32 {
			at = append(at, disk.Bytes(n)*sec)
		}
	case volume.Sealed:
		if binary.LittleEndian.Uint32(boot[28:]) == uint32(was) {
			at = []disk.Bytes{0}
		}
	case volume.ExFAT:
		return exfatFitted(boot, sec, start), nil
	}
	for _, off := range at {
		b, err := disk.ReadFull(w, off, sec)
		if err != nil {
			return nil, err
		}
		if b[510] != 0x55 || b[511] != 0xaa {
			continue
		}
		binary.LittleEndian.PutUint32(b[28:], uint32(start))
		s.Put(off, b)
	}
	return s, nil
}

// ownSector is the length of the sectors in which a volume counts, which need not be those of its
// drive: what it says of its place is in its own.
func ownSector(w disk.Device, kind volume.Kind) (disk.Bytes, error) {
	boot, err := disk.ReadFull(w, 0, min(512, w.Size()))
	if err != nil || len(boot) < 512 {
		return w.SectorBytes(), err
	}
	sec := disk.Bytes(0)
	switch kind {
	case volume.NTFS, volume.FAT12, volume.FAT16, volume.FAT32: // FAT specification, 3.1: BPB_BytsPerSec
		sec = disk.Bytes(binary.LittleEndian.Uint16(boot[11:]))
	case volume.ExFAT: // exFAT specification, 3.1.14: BytesPerSectorShift
		sec = 1 << min(boot[108], 16)
	}
	if sec < 512 || sec > 4096 || sec&(sec-1) != 0 {
		return w.SectorBytes(), nil
	}
	return sec, nil
}

// exfatFitted mends both boot regions of an exFAT volume: PartitionOffset, unless it is 0,
// which says nothing (exFAT specification, 3.1.4), and the boot checksum (3.4).
func exfatFitted(boot []byte, sec disk.Bytes, start disk.LBA) script.Script {
	var s script.Script
	for _, at := range []disk.Bytes{0, 12 * sec} {
		if disk.Bytes(len(boot)) < at+12*sec || binary.LittleEndian.Uint64(boot[at+64:]) == 0 {
			continue
		}
		b := slices.Clone(boot[at : at+12*sec])
		binary.LittleEndian.PutUint64(b[64:], uint64(start))
		sum := uint32(0)
		for i, x := range b[:11*sec] {
			if i != 106 && i != 107 && i != 112 { // VolumeFlags and PercentInUse
				sum = sum<<31 | sum>>1
				sum += uint32(x)
			}
		}
		for i := 11 * sec; i < 12*sec; i += 4 {
			binary.LittleEndian.PutUint32(b[i:], sum)
		}
		s.Put(at, b[:sec])
		s.Put(at+11*sec, b[11*sec:])
	}
	return s
}

// Slid returns the script that moves a column's partition to where it is planned, as long as
// it is.
func Slid(sv *survey.Survey, col plan.Column, dev disk.Device) (script.Script, error) {
	q, ok := col.Layout.Find(col.Number)
	if !ok {
		return nil, fmt.Errorf("%w: there is no partition %d", ErrCannot, col.Number)
	}
	return slide(sv, col.Number, q.Start, dev)
}

func slid(sv *survey.Survey, col plan.Column, g Given) (script.Script, error) {
	return Slid(sv, col, g.Dev)
}
