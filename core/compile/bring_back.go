package compile

import (
	"encoding/binary"
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/seek"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
)

// bringBack fills the place from the backup when the contents must come from
// there, and then puts the entry back into the table. What a search found comes back from what it left.
func bringBack(sv *survey.Survey, col plan.Column, given Given) (script.Script, error) {
	step := plan.Of[plan.BringingBack](col.Step)
	if step.Find != 0 {
		return found(sv, col, given)
	}
	g := given.Gone[step.Record]
	p, ok := col.Layout.Find(col.Number)
	if !ok || len(g.Entry) < 16 {
		return nil, fmt.Errorf("%w: its record is not there", ErrCannot)
	}
	s := putBack(sv, p, given.Found)
	if col.Place == plan.FromBackup {
		if g.Backup == nil || g.Raw == nil || g.Backup.Bytes != p.Bytes || g.Backup.From.Sector != sv.Layout.Sector {
			return nil, fmt.Errorf("%w: the backup is not of this partition, or is gone", ErrCannot)
		}
		s = fill(sv, p, g.Image)
	}
	if ofMBR := len(g.Entry) == 16; ofMBR != (sv.Table.Scheme == table.MBR) {
		set, err := entered(sv, p)
		return append(s, set...), err
	}
	e := table.Entry{Slot: col.Number, Record: p.Record, Raw: g.Entry}
	raw := e.Moved(p.Start, p.End)
	var set script.Script
	var err error
	switch {
	case p.Container != 0:
		set, err = sv.Table.Insert(p.Record, raw, sv.Table.LinkTo(p.Record, g.Table...))
	case sv.Table.Scheme == table.MBR:
		set, err = sv.Table.Set(col.Number, raw)
	default:
		table.PutUniqueID(raw, p.UniqueID)
		set, err = sv.Table.Set(col.Number, raw)
	}
	return append(s, set...), err
}

// found writes what is rebuilt of a lost partition, and then its entry.
func found(sv *survey.Survey, col plan.Column, g Given) (script.Script, error) {
	p, ok := col.Layout.Find(col.Number)
	if !ok {
		return nil, fmt.Errorf("%w: the partition that comes back is not in the plan", ErrCannot)
	}
	s := putBack(sv, p, g.Found)
	set, err := entered(sv, p)
	return append(s, set...), err
}

// putBack writes what of a partition is known from elsewhere, before it has its entry.
func putBack(sv *survey.Survey, p *layout.Span, known []seek.Repair) (s script.Script) {
	for _, r := range known {
		s.Put(p.Start.Offset(sv.Layout.Sector)+r.Off, r.Data)
	}
	if len(s) > 0 {
		s.Barrier("damaged parts of it rebuilt from what was kept of them")
	}
	return s
}

func fill(sv *survey.Survey, p *layout.Span, g Image) script.Script {
	var s script.Script
	start := p.Start.Offset(sv.Layout.Sector)
	for _, x := range g.Backup.Pieces {
		op := script.Op{
			Kind: script.Fill, Off: start + x.Off, Len: x.Len, Source: g.Backup.ID, SourceOff: x.Off, Hash: x.Hash,
		}
		if x.Zero {
			op = script.Op{Kind: script.Hole, Off: start + x.Off, Len: x.Len}
		}
		s = append(s, op)
	}
	s.Barrier("contents written")
	// The volume's boot sectors count the sectors before the partition.
	if p.Volume != nil {
		sec := sv.Layout.Sector
		var at []disk.Bytes
		switch p.Volume.Kind {
		case volume.NTFS:
			at = []disk.Bytes{0, p.Volume.TotalBytes.Down(sec)}
			if n, ok := ntfsCopy(g, sec); ok {
				at[1] = n
			}
		case volume.FAT32:
			at = []disk.Bytes{0, 6 * sec}
		}
		for _, off := range at {
			b := make([]byte, sec)
			if _, err := g.Raw.ReadAt(b, int64(off)); err != nil || b[510] != 0x55 || b[511] != 0xaa {
				continue
			}
			if h := b[28:32]; binary.LittleEndian.Uint32(h) != uint32(p.Start) {
				binary.LittleEndian.PutUint32(h, uint32(p.Start))
				s = append(s, script.Op{Kind: script.Write, Off: start + off, Len: sec, Data: b})
			}
		}
		s.Barrier("boot sectors fitted to the place")
	}
	return s
}

// ntfsCopy is where the copy of an NTFS boot sector lies: behind the volume's
// last sector.
func ntfsCopy(g Image, sec disk.Bytes) (disk.Bytes, bool) {
	b := make([]byte, 512)
	if _, err := g.Raw.ReadAt(b, 0); err != nil {
		return 0, false
	}
	n := binary.LittleEndian.Uint64(b[40:])
	if n > uint64(g.Backup.Bytes/sec) {
		return 0, false
	}
	return disk.Bytes(n) * sec, true
}

// Gone is what is known of a deleted partition that comes back.
type Gone struct {
	Entry []byte   // of the table, to the byte
	Table [][]byte // the table's sectors as they were
	Image          // nothing when it comes back in its own place
}
