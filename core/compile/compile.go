// Package compile turns a planned step and the drive as surveyed into the script
// that does it.
package compile

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
)

// ErrCannot tells that a step cannot be done on this drive for a reason that only
// its bytes show.
var ErrCannot = errors.New("the step cannot be done")

// Gone is what is known of a deleted partition that comes back.
type Gone struct {
	Entry  []byte          // of the table, to the byte
	Table  [][]byte        // the table's sectors as they were
	Backup *shelf.Manifest // nil when it comes back in its own place
	Raw    io.ReaderAt     // the backup's contents, for the boot sectors to be mended
}

// Step returns the script of a column without obstacles.
func Step(sv *survey.Survey, col plan.Column, gone map[string]Gone) (script.Script, error) {
	switch col.Step.Do {
	case plan.Delete:
		return sv.Table.Set(col.Number, nil)
	case plan.Grow:
		return grow(sv, col)
	case plan.Mend:
		return sv.Table.Mend(col.Step.Keep)
	case plan.BringBack:
		return bringBack(sv, col, gone[col.Step.Record])
	}
	return nil, fmt.Errorf("%w: %q", ErrCannot, col.Step.Do)
}

// grower is a file system that can be made longer.
type grower interface {
	Grow(size disk.Bytes) (script.Script, error)
}

// grow lengthens the table's entry first: a partition that is longer than its
// volume is sound at every moment, the reverse is not.
func grow(sv *survey.Survey, col plan.Column) (script.Script, error) {
	p, ok := col.Layout.Find(col.Number)
	v, can := sv.Volumes[col.Number].(grower)
	i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == col.Number })
	if !ok || !can || i < 0 {
		return nil, fmt.Errorf("%w: partition %d cannot be grown", ErrCannot, col.Number)
	}
	e := sv.Table.Entries[i]
	s, err := sv.Table.Set(e.Slot, e.Moved(p.Start, p.End))
	if err != nil {
		return nil, err
	}
	inside, err := v.Grow(p.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	return append(s, inside.Shift(p.Start.Offset(sv.Layout.Sector))...), nil
}

// bringBack fills the place from the backup when the contents must come from
// there, and then puts the entry back into the table.
func bringBack(sv *survey.Survey, col plan.Column, g Gone) (script.Script, error) {
	p, ok := col.Layout.Find(col.Number)
	if !ok || len(g.Entry) < 16 {
		return nil, fmt.Errorf("%w: its record is not there", ErrCannot)
	}
	var s script.Script
	if col.Place == plan.FromBackup {
		if g.Backup == nil || g.Raw == nil || g.Backup.Bytes != p.Bytes || g.Backup.From.Sector != sv.Layout.Sector {
			return nil, fmt.Errorf("%w: the backup is not of this partition, or is gone", ErrCannot)
		}
		s = fill(sv, p, g)
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

func fill(sv *survey.Survey, p *layout.Span, g Gone) script.Script {
	var s script.Script
	start := p.Start.Offset(sv.Layout.Sector)
	for _, x := range g.Backup.Pieces {
		op := script.Op{Kind: script.Fill, Off: start + x.Off, Len: x.Len, Source: g.Backup.ID, SourceOff: x.Off, Hash: x.Hash}
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
func ntfsCopy(g Gone, sec disk.Bytes) (disk.Bytes, bool) {
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

// UniqueID makes the text form of 16 random bytes as a version 4 UUID.
func UniqueID(random [16]byte) string {
	random[6], random[8] = random[6]&0x0f|0x40, random[8]&0x3f|0x80
	h := hex.EncodeToString(random[:])
	return strings.Join([]string{h[:8], h[8:12], h[12:16], h[16:20], h[20:]}, "-")
}
