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
	"strconv"
	"strings"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
	"jadetrail/core/volume/recognise"
)

// ErrCannot tells that a step cannot be done on this drive for a reason that only
// its bytes show.
var ErrCannot = errors.New("the step cannot be done")

// Gone is what is known of a deleted partition that comes back.
type Gone struct {
	Entry []byte   // of the table, to the byte
	Table [][]byte // the table's sectors as they were
	Image          // nothing when it comes back in its own place
}

// Image is a backup of a whole partition that a place is filled from.
type Image struct {
	Backup *shelf.Manifest
	Raw    io.ReaderAt // its contents, for the boot sectors to be mended
}

// Given is what a step needs beside the drive.
type Given struct {
	Gone map[string]Gone
	// Found is what of a partition is written anew before it comes back: from copies of its own
	// structures, or as its record kept it.
	Found []seek.Repair
	Now   time.Time
	// Files are on their way into the volume, from the script's source of this name.
	Files  []volume.Incoming
	Source string
	Onto   map[string]string // not nil for some more files of those that an earlier script put there
	Image  Image             // what a new partition is filled from
	Dev    disk.Device
}

// Done is what a step will do, and of files that come in, what becomes of them.
type Done struct {
	Script  script.Script
	Arrival *volume.Arrival
}

// Step returns the script of a column without obstacles.
func Step(sv *survey.Survey, col plan.Column, g Given) (Done, error) {
	var d Done
	var err error
	switch col.Step.Do {
	case plan.Delete:
		d.Script, err = remove(sv, col, g.Dev)
	case plan.Grow:
		if col.Step.Edge == "head" { // it grows when it is there
			d.Script, err = Slid(sv, col, g.Dev)
			break
		}
		d.Script, err = grow(sv, col)
	case plan.Shrink:
		d.Script, err = shrink(sv, col, g)
	case plan.Slide:
		d.Script, err = Slid(sv, col, g.Dev)
	case plan.Mend:
		d.Script, err = sv.Table.Mend(col.Step.Keep)
	case plan.BringBack:
		if col.Step.Find != 0 {
			d.Script, err = found(sv, col, g)
			break
		}
		d.Script, err = bringBack(sv, col, g)
	case plan.Create, plan.Rebuild:
		d.Script, err = create(sv, col, g)
	case plan.Retag:
		d.Script, err = retag(sv, col)
	case plan.Label:
		d.Script, err = relabel(sv, col)
	case plan.ParkRecovery, plan.UseRecovery, plan.CopyOut, plan.CopyBack:
		if col.From == 0 && col.Step.Do != plan.CopyBack {
			break
		}
		if d, err = Load(sv, col, g); err != nil || !col.Moves {
			break
		}
		var gone script.Script
		gone, err = TakeOut(sv, col.From, []string{col.Base}, g.Now)
		d.Script = append(d.Script, gone...)
	case plan.Container:
		d.Script, err = container(sv, col)
	case plan.Clear:
		d.Script, err = clearDrive(sv, col, g)
	case plan.Absorb:
		if len(g.Files) > 0 { // else it is empty
			d, err = Load(sv, col, g)
		}
		if err == nil {
			var gone script.Script
			gone, err = takenOff(sv, col.Absorbed, g.Dev)
			d.Script = append(d.Script, gone...)
		}
	case plan.DropStartEntry, plan.StartOrder, plan.NoteIdentity, plan.Letter, plan.Restart: // nothing on the drive changes
	default:
		err = fmt.Errorf("%w: %q", ErrCannot, col.Step.Do)
	}
	return d, err
}

// remove takes the entry out of the table, and erases its place if that is asked for:
// only then, so that a cut never leaves an entry over a place that is half erased.
func remove(sv *survey.Survey, col plan.Column, dev disk.Device) (script.Script, error) {
	s, err := takenOff(sv, col.Number, dev)
	if err != nil || !col.Step.Erase {
		return s, err
	}
	p, ok := sv.Layout.Find(col.Number)
	if !ok {
		return nil, fmt.Errorf("%w: there is no partition %d", ErrCannot, col.Number)
	}
	s = append(s, script.Op{Kind: script.NoReturn, Text: "from here on it is being erased"})
	s.Empty(p.Start.Offset(sv.Layout.Sector), p.Bytes)
	s.Barrier("erased")
	return s, nil
}

// create writes a new volume into the gap first and then its entry, so that there is
// never an entry over something half made. What a gap holds outside the new volume's own
// bookkeeping stays.
func create(sv *survey.Survey, col plan.Column, g Given) (script.Script, error) {
	p, ok := col.Layout.Find(col.Number)
	if !ok {
		return nil, fmt.Errorf("%w: the new partition is not in the plan", ErrCannot)
	}
	start := p.Start.Offset(sv.Layout.Sector)
	var s script.Script
	if col.Step.Test { // written everywhere; what is read back is looked at afterwards
		s.Empty(start, p.Bytes)
		s.Barrier("every sector written")
	}
	switch {
	case g.Image.Backup != nil:
		if m := g.Image.Backup; m.Bytes > p.Bytes || m.From.Sector != sv.Layout.Sector {
			return nil, fmt.Errorf("%w: the image does not fit", ErrCannot)
		}
		s = fill(sv, p, g.Image)
	case p.Volume != nil:
		serial, err := strconv.ParseUint(p.Volume.Serial, 16, 64)
		if err != nil {
			return nil, fmt.Errorf("%w: serial %q", ErrCannot, p.Volume.Serial)
		}
		made, err := onPaper(disk.NewPaper(p.Bytes, sv.Layout.Sector), func(dev disk.Device) error {
			if p.Volume.Kind == volume.FAT32 {
				return fat.Make(dev, fat.Options{Label: p.Volume.Label, Cluster: p.Volume.ClusterBytes, Serial: uint32(serial), Hidden: uint32(p.Start), Time: g.Now})
			}
			return ntfs.Make(dev, ntfs.Options{Label: p.Volume.Label, Cluster: p.Volume.ClusterBytes, Serial: serial, Hidden: uint32(p.Start), Time: g.Now})
		})
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrCannot, err)
		}
		s = append(s, made.Shift(start)...)
	default: // nothing that was here before may be taken for the new partition's contents
		edge := min(disk.MiB, p.Bytes)
		for _, off := range []disk.Bytes{0, p.Bytes - edge} {
			s = append(s, script.Op{Kind: script.Hole, Off: start + off, Len: edge, Keep: true})
		}
	}
	s.Barrier("volume made")
	set, err := entered(sv, p)
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

// entered puts the entry of a new partition into the table.
func entered(sv *survey.Survey, p *layout.Span) (script.Script, error) {
	attrs, err := strconv.ParseUint(strings.TrimPrefix(p.Attributes, "0x"), 16, 64)
	if err != nil {
		return nil, fmt.Errorf("%w: attributes %q", ErrCannot, p.Attributes)
	}
	var raw []byte
	if sv.Table.Scheme == table.MBR {
		if typ, err := hex.DecodeString(p.TypeID); err != nil || len(typ) != 1 {
			return nil, fmt.Errorf("%w: %q is not a type of an MBR", ErrCannot, p.TypeID)
		}
		raw = table.MBREntry(table.Entry{TypeID: p.TypeID, Record: p.Record, Start: p.Start, End: p.End}, sv.Layout.Sector).Raw
	} else {
		raw = table.NewEntry(table.Entry{Slot: p.Number, TypeID: p.TypeID, UniqueID: p.UniqueID, Start: p.Start, End: p.End, Attributes: attrs, Name: p.Name}).Raw
	}
	if p.Container != 0 {
		return sv.Table.Insert(p.Record, raw, sv.Table.LinkTo(p.Record))
	}
	return sv.Table.Set(p.Number, raw)
}

// onPaper makes a volume in memory and returns the script that makes the same on a
// drive: all that it has allocated is written, zeros as holes.
func onPaper(paper *disk.Paper, makes func(disk.Device) error) (script.Script, error) {
	if err := makes(paper); err != nil {
		return nil, err
	}
	found, err := recognise.Open(paper)
	if err == nil && found.Volume == nil {
		err = fmt.Errorf("%w: the new volume cannot be read", ErrCannot)
	}
	if err != nil {
		return nil, err
	}
	const part = disk.MiB
	var s script.Script
	err = found.Volume.Allocated(func(from, to disk.Bytes) error {
		for at := from; at < to; at += part {
			b, err := disk.ReadFull(paper, at, min(part, to-at))
			if err != nil {
				return err
			}
			if !disk.Zeros(b) {
				s.Put(at, b)
			} else {
				s = append(s, script.Op{Kind: script.Hole, Off: at, Len: disk.Bytes(len(b)), Keep: true})
			}
		}
		return nil
	})
	return s, err
}

// Load returns the script that puts files into a column's volume.
func Load(sv *survey.Survey, col plan.Column, g Given) (Done, error) {
	p, ok := sv.Layout.Find(col.Number)
	v, can := sv.Volumes[col.Number].(volume.Loader)
	if !ok || !can {
		return Done{}, fmt.Errorf("%w: no files can be put into partition %d", ErrCannot, col.Number)
	}
	l, err := v.Load(col.Step.Folder, g.Files, volume.LoadOptions{Source: g.Source, Now: g.Now, Onto: g.Onto})
	if err != nil {
		return Done{}, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	return Done{l.Script.Shift(p.Start.Offset(sv.Layout.Sector)), &l.Arrival}, nil
}

// clearDrive takes the table away, and puts an empty one of the wanted kind in its place. What
// the partitions held is not written over.
func clearDrive(sv *survey.Survey, col plan.Column, g Given) (script.Script, error) {
	sec, size := sv.Layout.Sector, sv.Layout.Size
	var s script.Script
	hole := func(from, to disk.Bytes) {
		if from < to {
			s = append(s, script.Op{Kind: script.Hole, Off: from, Len: to - from, Keep: true})
		}
	}
	if sv.Table.Scheme == table.GPT && col.Step.Scheme != "gpt" {
		hole(max((sv.Layout.LastUsable+1).Offset(sec), size-disk.MiB), size)
		hole(sec, min(sv.Layout.FirstUsable.Offset(sec), disk.MiB))
		s.Barrier("both copies of the old table taken away")
	}
	switch col.Step.Scheme {
	case "gpt":
		return append(s, table.New(g.Dev, col.Layout.DiskID)...), nil
	case "mbr":
		n, err := strconv.ParseUint(col.Layout.DiskID, 16, 32)
		if err != nil {
			return nil, fmt.Errorf("%w: signature %q", ErrCannot, col.Layout.DiskID)
		}
		return append(s, table.NewMBR(g.Dev, uint32(n))...), nil
	}
	hole(0, sec)
	s.Barrier("table taken away")
	return s, nil
}

// container makes, resizes or takes away an extended container; only the table
// changes, and for a new one the record that its chain begins with.
func container(sv *survey.Survey, col plan.Column) (script.Script, error) {
	p, there := col.Layout.Find(col.Number)
	i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == col.Number })
	act := plan.ContainerAct(col.Step.Act)
	switch {
	case act == plan.Dissolve && i >= 0:
		return sv.Table.Set(col.Number, nil)
	case act == plan.MakeIt && there:
		var s script.Script
		record := make([]byte, sv.Layout.Sector)
		record[510], record[511] = 0x55, 0xaa
		s.Put(p.Start.Offset(sv.Layout.Sector), record)
		s.Barrier("first record of the chain written")
		set, err := sv.Table.Set(p.Number, table.MBREntry(table.Entry{TypeID: p.TypeID, Start: p.Start, End: p.End}, sv.Layout.Sector).Raw)
		return append(s, set...), err
	case there && i >= 0 && p.Start != sv.Table.Entries[i].Start:
		return sv.Table.MoveHead(p.Start, sv.Table.Entries[i].Moved(p.Start, p.End))
	case there && i >= 0:
		e := sv.Table.Entries[i]
		return sv.Table.Set(e.Slot, e.Moved(p.Start, p.End))
	}
	return nil, fmt.Errorf("%w: there is no container %d", ErrCannot, col.Number)
}

// retag changes what the table says of a partition.
func retag(sv *survey.Survey, col plan.Column) (script.Script, error) {
	p, ok := col.Layout.Find(col.Number)
	i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == col.Number })
	if !ok || i < 0 {
		return nil, fmt.Errorf("%w: there is no partition %d", ErrCannot, col.Number)
	}
	attrs, err := strconv.ParseUint(strings.TrimPrefix(p.Attributes, "0x"), 16, 64)
	if err != nil {
		return nil, fmt.Errorf("%w: attributes %q", ErrCannot, p.Attributes)
	}
	e := sv.Table.Entries[i]
	raw, err := e.Retagged(p.TypeID, p.Name, attrs, p.Active)
	if err != nil {
		return nil, err
	}
	return sv.Table.Set(e.Slot, raw)
}

// relabel gives a volume another label.
func relabel(sv *survey.Survey, col plan.Column) (script.Script, error) {
	p, ok := sv.Layout.Find(col.Number)
	v, can := sv.Volumes[col.Number].(*ntfs.Volume)
	if !ok || !can {
		return nil, fmt.Errorf("%w: partition %d cannot be labelled", ErrCannot, col.Number)
	}
	s, err := v.SetLabel(col.Step.Label)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	return s.Shift(p.Start.Offset(sv.Layout.Sector)), nil
}

// TakeOut returns the script that takes files and folders out of a volume.
func TakeOut(sv *survey.Survey, number int, paths []string, now time.Time) (script.Script, error) {
	p, ok := sv.Layout.Find(number)
	v, can := sv.Volumes[number].(volume.Keeper)
	if !ok || !can {
		return nil, fmt.Errorf("%w: nothing can be taken out of partition %d", ErrCannot, number)
	}
	s, err := v.Remove(paths, now)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	return s.Shift(p.Start.Offset(sv.Layout.Sector)), nil
}

// GrowWithin returns the script that makes a volume fill its partition.
func GrowWithin(sv *survey.Survey, number int) (script.Script, error) {
	p, ok := sv.Layout.Find(number)
	if !ok {
		return nil, fmt.Errorf("%w: there is no partition %d", ErrCannot, number)
	}
	return lengthen(sv, p)
}

// GrowTo returns the script that makes the partition of a column as large as it is planned,
// and its volume with it.
func GrowTo(sv *survey.Survey, col plan.Column) (script.Script, error) { return grow(sv, col) }

// lengthen makes the volume in a partition as long as p is.
func lengthen(sv *survey.Survey, p *layout.Span) (script.Script, error) {
	v, can := sv.Volumes[p.Number].(grower)
	if !can {
		return nil, fmt.Errorf("%w: partition %d cannot be grown", ErrCannot, p.Number)
	}
	s, err := v.Grow(p.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	return s.Shift(p.Start.Offset(sv.Layout.Sector)), nil
}

// grower is a file system that can be made longer.
type grower interface {
	Grow(size disk.Bytes) (script.Script, error)
}

// grow lengthens the table's entry first: a partition that is longer than its
// volume is sound at every moment, the reverse is not.
func grow(sv *survey.Survey, col plan.Column) (script.Script, error) {
	p, ok := col.Layout.Find(col.Number)
	i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == col.Number })
	if !ok || i < 0 {
		return nil, fmt.Errorf("%w: partition %d cannot be grown", ErrCannot, col.Number)
	}
	e := sv.Table.Entries[i]
	s, err := sv.Table.Set(e.Slot, e.Moved(p.Start, p.End))
	if err != nil {
		return nil, err
	}
	inside, err := lengthen(sv, p)
	return append(s, inside...), err
}

// shrinker is a file system that can be made shorter.
type shrinker interface {
	Shrink(size disk.Bytes) (script.Script, error)
}

// shrink makes the volume shorter first, and then its partition: the end of it, where it is
// to give up its head too. What lies behind the new end is moved before.
func shrink(sv *survey.Survey, col plan.Column, g Given) (script.Script, error) {
	p, ok := sv.Layout.Find(col.Number)
	q, left := col.Layout.Find(col.Number)
	i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == col.Number })
	v, can := sv.Volumes[col.Number].(shrinker)
	if !ok || !left || i < 0 || !can {
		return nil, fmt.Errorf("%w: partition %d cannot be made smaller", ErrCannot, col.Number)
	}
	// What is to be cut is the volume as it is when each part before is done.
	over, err := disk.NewOverlay(survey.Window(g.Dev, *p), "")
	if err != nil {
		return nil, err
	}
	defer over.Close()
	var s script.Script
	if n, ok := v.(*ntfs.Volume); ok {
		parts := []func(n *ntfs.Volume) (script.Script, error){func(n *ntfs.Volume) (script.Script, error) { return n.Vacate(q.Bytes) }}
		if files, kept := n.RestorePoints(); kept && col.Step.DropRestorePoints {
			parts = slices.Insert(parts, 0, func(n *ntfs.Volume) (script.Script, error) { return n.Remove(files, g.Now) })
		}
		for _, part := range parts {
			more, e := part(n)
			if err = e; err == nil && len(more) > 0 {
				if err := more.Apply(over, nil); err != nil {
					return nil, err
				}
				s = append(s, more...)
				n, err = ntfs.Open(over)
			}
			if err != nil {
				return nil, fmt.Errorf("%w: %w", ErrCannot, err)
			}
		}
		v = n
	}
	cut, err := v.Shrink(q.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	s = append(s, cut...)
	e := sv.Table.Entries[i]
	set, err := sv.Table.Set(e.Slot, e.Moved(p.Start, p.Start+(q.End-q.Start)))
	return append(s.Shift(p.Start.Offset(sv.Layout.Sector)), set...), err
}

// bringBack fills the place from the backup when the contents must come from
// there, and then puts the entry back into the table.
func bringBack(sv *survey.Survey, col plan.Column, given Given) (script.Script, error) {
	g := given.Gone[col.Step.Record]
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

func fill(sv *survey.Survey, p *layout.Span, g Image) script.Script {
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

// UniqueID makes the text form of 16 random bytes as a version 4 UUID.
func UniqueID(random [16]byte) string {
	random[6], random[8] = random[6]&0x0f|0x40, random[8]&0x3f|0x80
	h := hex.EncodeToString(random[:])
	return strings.Join([]string{h[:8], h[8:12], h[12:16], h[16:20], h[20:]}, "-")
}
