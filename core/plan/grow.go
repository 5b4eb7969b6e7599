package plan

import (
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
)

// Growth is what is said of a volume that grows: by how much, or to what.
type Growth struct {
	By   string `json:"by,omitempty"`
	To   string `json:"to,omitempty"`
	Edge string `json:"edge,omitempty"` // "end" or "head", "" for the end
}

func (Growth) Do() Do { return Grow }

func (b Growth) edge() string { return b.Edge }

func (b Growth) amount() string { return b.By + b.To }

func (b Growth) withAmount(text string) Body {
	b.By, b.To = text, ""
	return b
}

// growth gives a volume more room, at its end or at its head.
var growth = kind{
	blank: Growth{},
	valid: validGrow, lay: layGrow, rewrites: rewrittenByGrow,
	over: func(c Column) bool { return c.Step.AtHead() },
}

func validGrow(s Step) error {
	step := Of[Growth](s)
	return s.validResize(step.By, step.To, step.Edge)
}

func layGrow(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	c.Title = "Grow " + p.Title()
	if c.Step.AtHead() {
		growHeadStep(c, l, p, f)
		return
	}
	room, o := RoomToGrow(l, p, f)
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	end, o := newEnd(l, p, room, Of[Growth](c.Step))
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	parts := l.Partitions()
	for i := range parts {
		if q := &parts[i]; q.Number == p.Number {
			q.End = end
			q.Bytes = (end - q.Start + 1).Offset(l.Sector)
			v := filling(*q.Volume, q.Bytes, l.Sector)
			q.Volume = &v
			c.Detail = fmt.Sprintf("%s to %s", p.Bytes, q.Bytes)
		}
	}
	c.Layout = l.With(parts)
}

// growHeadStep makes a volume larger toward the start: it slides there and grows.
func growHeadStep(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	a := growHead(l, p, f)
	up, _ := Touching(l, p)
	if a.Obstacle == nil && up < disk.Grid {
		a.Obstacle = NewObstacle(GapTooSmall, "The gap before it is smaller than 1 MiB.", p.Number)
	}
	if a.Obstacle != nil {
		c.Obstacles = append(c.Obstacles, *a.Obstacle)
		return
	}
	by, o := amountOf(p, Of[Growth](c.Step).By, Of[Growth](c.Step).To, up, false)
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	by = min(by.Up(disk.Grid), up)
	if most := MaxVolume(p.Volume, l.Sector); p.End-p.Start+1+by.At(l.Sector) > most {
		c.Obstacles = append(c.Obstacles, *NewObstacle(
			TooLarge, fmt.Sprintf("With clusters of %s it cannot become so large.", p.Volume.ClusterBytes), p.Number,
		).ClearedBy("copy-out"))
		return
	}
	moved(c, l, p, p.Start-by.At(l.Sector), p.End, f)
	q, _ := c.Layout.Find(p.Number)
	c.Detail = fmt.Sprintf("%s to %s, at its head", p.Bytes, q.Bytes)
}

// newEnd turns a growth's amount into the partition's last sector: met to the
// alignment, never beyond the room.
func newEnd(l *layout.Layout, p *layout.Span, room disk.LBA, step Growth) (disk.LBA, *Obstacle) {
	most := (room - p.End).Offset(l.Sector)
	var by disk.Bytes
	var err error
	if step.To != "" {
		var to disk.Bytes
		to, err = disk.ParseAmount(step.To, p.Bytes+most)
		if err == nil && to <= p.Bytes {
			return 0, NewObstacle(
				BadAmount, fmt.Sprintf("%s is not more than the %s that %s has.", step.To, p.Bytes, p.Title()), p.Number,
			)
		}
		by = to - p.Bytes
	} else {
		by, err = disk.ParseAmount(step.By, most)
	}
	if err != nil {
		return 0, NewObstacle(
			BadAmount,
			fmt.Sprintf("%s: %v. %s can gain up to %s (%s).", p.Title(), err, p.Title(), most, most.Exact()),
			p.Number,
		)
	}
	end := p.End + disk.LBA((by+l.Sector-1)/l.Sector)
	// On the grid when the amount is not exact to it; upwards while there is room.
	if up := (end + 1).Offset(l.Sector).Up(disk.Grid).At(l.Sector) - 1; up <= room {
		end = up
	} else {
		end = room
	}
	if (end - p.End).Offset(l.Sector) < p.Volume.ClusterBytes {
		return 0, NewObstacle(
			BadAmount, fmt.Sprintf("%s is less than one cluster (%s).", by.Exact(), p.Volume.ClusterBytes), p.Number,
		)
	}
	return end, nil
}

// filling is a volume that has come to fill a partition of another size: of NTFS, one
// sector stays for the copy of the boot sector; of FAT, the tables may have grown.
func filling(v volume.Info, part, sector disk.Bytes) volume.Info {
	if v.Tables != nil {
		if after, _, err := fat.Reshaped(v, part, sector); err == nil {
			return after
		}
		return v
	}
	v.TotalBytes = (part - sector).Down(v.ClusterBytes)
	return v
}

// GrowBytes is what is written when a volume gains an amount at its end: the new part of
// the bitmap, and the records around it; of a FAT volume whose tables grow, these, and the
// clusters that make way.
func GrowBytes(p *layout.Span, by disk.Bytes) disk.Bytes {
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

func rewrittenByGrow(c Column, was, is *layout.Span) disk.Bytes {
	if was.Volume == nil {
		return 0
	}
	n := GrowBytes(was, is.Bytes-was.Bytes)
	if c.Step.AtHead() {
		n += SlideBytes(was)
	}
	return n
}

// RoomToGrow returns the sector up to which p can grow, or why it cannot.
func RoomToGrow(l *layout.Layout, p *layout.Span, f Facts) (disk.LBA, *Obstacle) {
	if o := Resizable(p, f); o != nil {
		return 0, o
	}
	gap, ok := l.GapAt(p.End+1, p.Container)
	if !ok {
		return 0, notAdjacent(l, p, f)
	}
	end := (gap.End + 1).Offset(l.Sector).Down(disk.Grid).At(l.Sector) - 1
	limited := false
	if most := MaxVolume(p.Volume, l.Sector); end > p.Start+most-1 {
		end, limited = p.Start+most-1, true
	}
	if end <= p.End || limited && (end-p.End).Offset(l.Sector) < disk.Grid {
		if p.Volume.Tables != nil && p.Volume.BadClusters > 0 && gap.Bytes >= disk.MiB {
			return 0, NewObstacle(
				BadPlaces,
				"It has bad clusters, and its table of clusters would have to grow over others. Copy its files out to a sound drive.",
				p.Number,
			).ClearedBy("copy-out")
		}
		if gap.Bytes >= disk.MiB {
			return 0, NewObstacle(
				TooLarge,
				fmt.Sprintf(
					"With clusters of %s it cannot be larger than it is. Copy its files into a volume with larger clusters.",
					p.Volume.ClusterBytes,
				),
				p.Number,
			).ClearedBy("copy-out")
		}
		return 0, NewObstacle(
			GapTooSmall, fmt.Sprintf("The gap behind it is smaller than 1 MiB (%s).", gap.Bytes.Exact()), p.Number,
		)
	}
	return end, nil
}

func growHead(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Grow, Edge: "head"}
	if a.Obstacle = Resizable(p, f); a.Obstacle != nil {
		return a
	}
	if a.Obstacle = Movable(p, f); a.Obstacle != nil {
		return a
	}
	if g := before(l, p); g != nil {
		a.Limit, a.Note = l.Room(*g), "The volume slides to the start of the gap and grows there."
		return a
	}
	var last *layout.Span
	for i, s := range l.Spans {
		if s.Kind == layout.Partition && s.Container == p.Container && s.End < p.Start {
			last = &l.Spans[i]
		}
	}
	if last == nil {
		a.Obstacle = NewObstacle(NoGap, "It begins where partitions can begin.", p.Number)
		return a
	}
	text := fmt.Sprintf("%s (%s) ends where it begins.", last.Title(), last.Bytes)
	if g := BiggestGap(l, func(s layout.Span) bool { return s.Container == p.Container && s.End < last.Start }); g != nil {
		text = fmt.Sprintf("%s (%s) lies between it and the %s gap before.", last.Title(), last.Bytes, g.Bytes)
	}
	a.Obstacle = NewObstacle(InTheWay, text, last.Number).ClearedBy("delete", "slide")
	return a
}
