package compile

import (
	"encoding/hex"
	"fmt"
	"io"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
	"jadetrail/core/volume/recognise"
)

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
	if plan.Of[plan.Creation](col.Step).Test { // written everywhere; what is read back is looked at afterwards
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
				return fat.Make(
					dev,
					fat.Options{
						Label: p.Volume.Label, Cluster: p.Volume.ClusterBytes, Serial: uint32(serial),
						Hidden: uint32(p.Start), Time: g.Now,
					},
				)
			}
			return ntfs.Make(
				dev,
				ntfs.Options{
					Label: p.Volume.Label, Cluster: p.Volume.ClusterBytes, Serial: serial, Hidden: uint32(p.Start),
					Time: g.Now,
				},
			)
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

// UniqueID makes the text form of 16 random bytes as a version 4 UUID.
func UniqueID(random [16]byte) string {
	random[6], random[8] = random[6]&0x0f|0x40, random[8]&0x3f|0x80
	h := hex.EncodeToString(random[:])
	return strings.Join([]string{h[:8], h[8:12], h[12:16], h[16:20], h[20:]}, "-")
}

// Image is a backup of a whole partition that a place is filled from.
type Image struct {
	Backup *shelf.Manifest
	Raw    io.ReaderAt // its contents, for the boot sectors to be mended
}
