package plan

import (
	"strconv"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// Price is what a plan costs.
type Price struct {
	Rewritten disk.Bytes `json:"bytes_rewritten"` // on the drive, all together, about
	Zeroed    disk.Bytes `json:"bytes_zeroed"`    // made zeros besides, to erase it
	Copied    disk.Bytes `json:"bytes_copied"`    // of that, what is copied from elsewhere
	Beside    disk.Bytes `json:"bytes_beside"`    // room that is needed for a while beside the volumes
	Given     disk.Bytes `json:"bytes_given"`     // that other volumes give up of their size
	Deleted   int        `json:"deleted"`
	Releases  int        `json:"releases"`
	Tables    int        `json:"tables"`       // made anew: the drive gets another id
	Over      int        `json:"records_over"` // of partitions that could be brought back before
	Checks    int        `json:"checks"`       // things that somebody must look after on the PC
	Restarts  int        `json:"restarts"`
	Seconds   int64      `json:"seconds"`
}

// Rate is what a drive writes in a second, until runs have taught better.
const Rate = 140 * disk.MiB

const (
	tableSectors = 4            // that a change of the table writes
	bookkeeping  = 8 * disk.KiB // of a volume, around what a change of its size writes
)

// SlideBytes is what is written when a partition is moved: what is allocated and what lies
// outside clusters, or everything where nobody can tell.
func SlideBytes(p *layout.Span) disk.Bytes {
	v := p.Volume
	if v == nil || v.ClusterBytes == 0 || !v.Clean {
		return p.Bytes
	}
	used := v.UsedBytes
	if used == 0 { // the plan makes it
		used = own(p)
	}
	return used + max(p.Bytes-v.TotalBytes, 0)
}

// cutBytes is what is written when a volume is made smaller at its end: what lies behind
// the new end, by the parts that its use is drawn in, and its bookkeeping.
func cutBytes(p *layout.Span, size disk.Bytes) disk.Bytes {
	v := p.Volume
	if size >= v.ShrinkCut {
		return bookkeeping
	}
	if len(v.Use) == 0 || v.TotalBytes == 0 {
		return bookkeeping + min(v.ShrinkCut-size, v.UsedBytes)
	}
	part := (v.TotalBytes + disk.Bytes(len(v.Use)) - 1) / disk.Bytes(len(v.Use))
	n := disk.Bytes(0)
	for i := size / part; i < disk.Bytes(len(v.Use)); i++ {
		n += (part*disk.Bytes(v.Use[i]) + 254) / 255
	}
	return bookkeeping + min(max(n, v.ClusterBytes), v.UsedBytes)
}

// growBytes is what is written when a volume gains an amount at its end: the new part of
// the bitmap, and the records around it; of a FAT volume whose tables grow, these, and the
// clusters that make way.
func growBytes(p *layout.Span, by disk.Bytes) disk.Bytes {
	v := p.Volume
	if v.Tables == nil {
		return by/v.ClusterBytes/8 + bookkeeping
	}
	after, shift, err := fat.Reshaped(*v, p.Bytes+by, p.Bytes/disk.Bytes(p.End-p.Start+1))
	if err != nil || shift == 0 {
		return bookkeeping
	}
	return disk.Bytes(after.Tables.Copies)*after.Tables.Bytes + disk.Bytes(shift)*v.ClusterBytes + bookkeeping
}

// PriceOf is the price of the columns of a plan that begins with the layout now.
func PriceOf(now *layout.Layout, cols []Column, f Facts) Price {
	p := Price{}
	l := now
	rate := Rate
	if f.Rate > 0 {
		rate = f.Rate
	}
	beside := disk.Bytes(0)
	gone := func(was *layout.Span) {
		if p.Deleted++; was.Protected {
			p.Releases++
		}
	}
	for _, c := range cols {
		if c.Step.Do != Restart {
			p.Rewritten += tableSectors * now.Sector
		}
		was, there := l.Find(c.Number)
		switch {
		case c.Step.Do == Delete && there:
			if gone(was); c.Step.Erase {
				p.Zeroed += was.Bytes
			}
		case c.Step.Do == Absorb:
			if from, ok := l.Find(c.Absorbed); ok {
				gone(from)
			}
		}
		switch c.Step.Do {
		case Clear:
			p.Tables++
		case Restart:
			p.Restarts++
		}
		p.Over += len(c.Over)
		for _, n := range c.Notes {
			if n.Code == PlaceNamed {
				p.Checks++
			}
		}
		for i := range c.Cleared {
			gone(&c.Cleared[i])
		}
		if c.Layout == nil {
			break
		}
		n := copied(c, l, f)
		p.Rewritten, p.Copied = p.Rewritten+n, p.Copied+n
		switch {
		case c.Hold != nil:
			beside += n
		case c.Step.Do == CopyOut && !c.Step.Move:
			if from, ok := l.Find(number(c.Step.Partition)); ok && from.Volume != nil {
				beside += from.Volume.UsedBytes
			}
		case c.Moves && c.Step.Do == CopyBack:
			beside -= n
		}
		p.Beside = max(p.Beside, beside)
		if q, ok := c.Layout.Find(c.Number); ok && there && c.Step.Do == Shrink {
			p.Given += was.Bytes - q.Bytes
		}
		if q, ok := c.Layout.Find(c.Number); ok && c.Step.Test {
			p.Rewritten += q.Bytes
		}
		if q, ok := c.Layout.Find(c.Number); ok && q.Volume != nil && made(c) {
			p.Rewritten += own(q)
		}
		if there && was.Volume != nil {
			p.Rewritten += resized(c, was)
		} else if there && c.Step.Do == Slide {
			p.Rewritten += was.Bytes
		}
		l = c.Layout
	}
	p.Seconds = int64((p.Rewritten+p.Zeroed)/rate) + int64(len(cols)) + int64(p.Restarts)*restartSeconds
	return p
}

// resized is what a step writes that moves a volume or changes its size.
func resized(c Column, was *layout.Span) disk.Bytes {
	q, ok := c.Layout.Find(c.Number)
	if !ok {
		return 0
	}
	head := c.Step.Edge == "head"
	n := disk.Bytes(0)
	switch c.Step.Do {
	case Slide:
		return SlideBytes(was)
	case Grow:
		if n = growBytes(was, q.Bytes-was.Bytes); head {
			n += SlideBytes(was)
		}
	case Shrink:
		if head {
			return SlideBytes(was)
		}
		return cutBytes(was, q.Bytes)
	case Absorb:
		if q.Bytes > was.Bytes {
			n = growBytes(was, q.Bytes-was.Bytes)
		}
	}
	return n
}

// made tells that a step makes an empty volume.
func made(c Column) bool {
	return (c.Step.Do == Create || c.Step.Do == Rebuild) && c.Place != FromBackup
}

// own is about what a volume holds beside its files, as far as this program makes such.
func own(p *layout.Span) disk.Bytes {
	if p.Volume.Kind == volume.NTFS {
		return ntfs.Own(p.Bytes)
	}
	return bookkeeping
}

// copied is what a step puts on the drive from elsewhere.
func copied(c Column, before *layout.Layout, f Facts) disk.Bytes {
	q, ok := c.Layout.Find(c.Number)
	switch {
	case c.Hold != nil:
		return c.Hold.Bytes
	case c.Step.Move:
		return c.Waits
	case c.Absorbed != 0:
		if p, ok := before.Find(c.Absorbed); ok && p.Volume != nil {
			return max(p.Volume.UsedBytes-own(p), 0)
		}
	case c.From != 0 && c.Step.Do == CopyBack: // what it adds
		if was, ok := before.Find(c.Number); ok && q.Volume != nil && was.Volume != nil {
			return q.Volume.UsedBytes - was.Volume.UsedBytes
		}
	case c.From != 0 && c.PC != nil && c.PC.Recovery != nil && c.PC.Recovery.Parked:
		return disk.Bytes(c.PC.Recovery.Bytes)
	case c.Step.Do == CopyBack:
		if c.Waits > 0 {
			return c.Waits
		}
		return f.Arriving[c.Step.Arrival()].Bytes
	case c.Place == FromBackup || c.Step.Do == BringBack:
		return c.Fills
	case ok && q.Volume != nil && c.From != 0:
		return q.Volume.UsedBytes
	}
	return 0
}

func number(name string) int {
	n, _ := strconv.Atoi(name)
	return n
}
