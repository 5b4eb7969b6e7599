package shelf

import (
	"context"
	"errors"
	"fmt"
	"time"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// ErrNotBlank is returned for a drive that holds something.
var ErrNotBlank = errors.New("only a blank drive is made a shelf")

// NewVolume is a volume for backups that is to be made.
type NewVolume struct {
	Label              string
	DiskID, UniqueID   string
	Serial             uint64
	Now                time.Time
	sector, start, end disk.Bytes
}

// Prepare gives a blank drive a table with one NTFS volume over all of it, through a
// journal.
func Prepare(im *disk.Image, path string, n NewVolume) (*layout.Layout, error) {
	before := &OnVolume{Title: "that is being made", Image: path}
	if err := before.settle(im); err != nil {
		return nil, err
	}
	if at, _, some := im.Data(0); some { // stretches of zeros count as blank
		sv, err := survey.Read(im, nil)
		if err != nil {
			return nil, err
		}
		if len(sv.Layout.Partitions()) > 0 || sv.Table.Scheme != table.None || holds(im, at) {
			return nil, fmt.Errorf("%w: it holds something; nothing was written. Empty it first", ErrNotBlank)
		}
	}
	n.sector, n.start = im.SectorBytes(), disk.MiB
	if n.end = (im.Size() - disk.MiB).Down(disk.Grid); n.end < 16*disk.MiB {
		return nil, fmt.Errorf("%w: it is too small, %s; nothing was written", ErrRoom, im.Size())
	}
	s, err := n.script(im.Size())
	if err != nil {
		return nil, err
	}
	c, f, err := carry.BeginIn(context.Background(), before.journal(), im, s, shelfJournal, nil, nil)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if err := c.Forward(context.Background(), im, nil, nil); err != nil {
		return nil, errors.Join(err, before.settle(im))
	}
	if err := before.forgetJournal(); err != nil {
		return nil, err
	}
	sv, err := survey.Read(im, nil)
	if err != nil {
		return nil, err
	}
	if f := sv.Check().FirstError(); f != nil || len(sv.Volumes()) != 1 {
		return nil, fmt.Errorf("the new shelf reads back as something else: %v", f)
	}
	return sv.Layout, nil
}

// holds tells whether anything but zeros lies on a drive from at on.
func holds(im *disk.Image, at disk.Bytes) bool {
	for {
		from, to, ok := im.Data(at)
		if !ok {
			return false
		}
		for from < to {
			b, err := disk.ReadFull(im, from, min(disk.MiB, to-from))
			if err != nil || !disk.Zeros(b) {
				return true
			}
			from += disk.Bytes(len(b))
		}
		at = to
	}
}

// script makes the volume and then the table, on a blank drive of the given size.
func (n NewVolume) script(size disk.Bytes) (script.Script, error) {
	paper := disk.NewPaper(size, n.sector)
	err := ntfs.Make(disk.NewWindow(paper, n.start, n.end-n.start), ntfs.Options{Label: n.Label, Serial: n.Serial, Hidden: uint32(n.start.At(n.sector)), Time: n.Now,
		Files: []volume.Source{{Path: "Read me.txt", Data: []byte("Backups of customers' drives are kept here, in the folder Backups.\r\n"), Modified: n.Now}}})
	if err != nil {
		return nil, err
	}
	var s script.Script
	for at := disk.Bytes(0); ; {
		from, to, ok := paper.Data(at)
		if !ok {
			break
		}
		b, err := disk.ReadFull(paper, from, to-from)
		if err != nil {
			return nil, err
		}
		if !disk.Zeros(b) {
			s.Put(from, b)
		}
		at = to
	}
	s.Barrier("volume made")
	e := table.NewEntry(table.Entry{
		Slot: 1, TypeID: table.TypeBasic, UniqueID: n.UniqueID, Start: n.start.At(n.sector),
		End: n.end.At(n.sector) - 1, Name: n.Label,
	})
	return append(s, table.New(paper, n.DiskID, e)...), nil
}
