package plan

import (
	"errors"
	"fmt"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Sliding is what is said of a volume that moves: how far, negative toward the start.
type Sliding struct {
	By string `json:"by,omitempty"`
}

func (Sliding) Do() Do { return Slide }

func (b Sliding) amount() string { return b.By }

func (b Sliding) withAmount(text string) Body {
	b.By = text
	return b
}

// sliding moves a volume to another place.
var sliding = kind{
	blank: Sliding{},
	valid: Step.validSlide, lay: laySlide,
	rewrites: func(_ Column, was, _ *layout.Span) disk.Bytes { return SlideBytes(was) },
	over:     func(Column) bool { return true },
}

// validSlide checks the words of a slide.
func (s Step) validSlide() error {
	step := Of[Sliding](s)
	if s.Partition == "" || step.By == "" {
		return errors.New("slide needs a partition and by how much, negative toward the start")
	}
	_, err := disk.ParseAmount(strings.TrimPrefix(strings.TrimSpace(step.By), "-"), 1<<60)
	return err
}

// laySlide moves a partition along the drive.
func laySlide(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	c.Title = "Slide " + p.Title()
	a := slide(l, p, f)
	if a.Obstacle != nil {
		c.Obstacles = append(c.Obstacles, *a.Obstacle)
		return
	}
	up, down := Touching(l, p)
	text, back := strings.CutPrefix(strings.TrimSpace(Of[Sliding](c.Step).By), "-")
	room := down
	if back {
		room = up
	}
	by, err := disk.ParseAmount(text, max(room, 0))
	if err != nil {
		c.Obstacles = append(c.Obstacles, *NewObstacle(
			BadAmount,
			fmt.Sprintf(
				"%v. %s can slide by up to %s toward the start and %s toward the end.", err, p.Title(), up, down,
			),
			p.Number,
		))
		return
	}
	// On the grid, or where it does not stand on it, as far from it as before.
	by = min(by.Up(disk.Grid), room)
	delta := by.At(l.Sector)
	way := "toward the end"
	if back {
		delta, way = -delta, "toward the start"
	}
	moved(c, l, p, p.Start+delta, p.End+delta, f)
	c.Detail = fmt.Sprintf("by %s %s", by, way)
}

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

// Touching is by how much a partition can slide toward the start and toward the end, in
// whole MiB.
func Touching(l *layout.Layout, p *layout.Span) (up, down disk.Bytes) {
	if g := before(l, p); g != nil {
		from := g.Start
		if x, ok := l.Find(p.Container); ok && from == x.Start+1 {
			from = x.Start // its own record can stand there
		}
		up = (p.Head() - from).Offset(l.Sector).Down(disk.Grid)
		if p.Head().Offset(l.Sector)%disk.Grid == 0 {
			up = max(p.Head().Offset(l.Sector)-from.Offset(l.Sector).Up(disk.Grid), 0)
		}
	}
	if g, ok := l.GapAt(p.End+1, p.Container); ok {
		down = g.Bytes.Down(disk.Grid)
	}
	return up, down
}

func slide(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Slide}
	if a.Obstacle = Movable(p, f); a.Obstacle != nil {
		return a
	}
	up, down := Touching(l, p)
	if up+down < disk.Grid {
		a.Obstacle = NewObstacle(NoGap, "No gap touches it on either side.", p.Number).ClearedBy("delete", "shrink")
		return a
	}
	a.Limit = max(up, down)
	a.Note = fmt.Sprintf("%s toward the start, %s toward the end.", up, down)
	if p.Role == layout.StartSystem || p.Active {
		a.Note += " The PC starts from it: what names its place must be mended too."
	}
	return a
}

// Movable is what stands against changing where p lies.
func Movable(p *layout.Span, f Facts) *Obstacle {
	if o := AgainstAll(f); o != nil {
		return o
	}
	switch {
	case p.Member || p.Volume != nil && p.Volume.Kind == volume.Member:
		return sealedWhole(p)
	case p.Role == layout.Container:
		return NewObstacle(
			HasVolumes, "A container slides with the volumes in it, which this version does not do.", p.Number,
		)
	case p.Held != "":
		return heldOpen(p)
	case p.Volume != nil && p.Volume.BadClusters > 0:
		return NewObstacle(
			BadPlaces,
			fmt.Sprintf(
				"It has %d bad clusters. They are places on this drive: moved, good clusters would be marked, and the bad ones used. Copy its files out to a sound drive.",
				p.Volume.BadClusters,
			),
			p.Number,
		).ClearedBy("copy-out")
	case p.Volume != nil && p.Volume.Hibernated || len(f.Asleep) > 0 && p.Volume != nil && p.Volume.Kind != volume.Unknown:
		return asleep(p, f)
	}
	return nil
}
