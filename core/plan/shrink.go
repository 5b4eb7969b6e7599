package plan

import (
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume/fat"
)

// Shrinking is what is said of a volume that shrinks: by how much, or to what.
type Shrinking struct {
	By   string `json:"by,omitempty"`
	To   string `json:"to,omitempty"`
	Edge string `json:"edge,omitempty"` // "end" or "head", "" for the end
	// DropRestorePoints takes away the earlier states that a volume keeps of itself, before it is made smaller.
	DropRestorePoints bool `json:"drop_restore_points,omitempty"`
}

func (Shrinking) Do() Do { return Shrink }

func (b Shrinking) edge() string { return b.Edge }

func (b Shrinking) amount() string { return b.By + b.To }

func (b Shrinking) withAmount(text string) Body {
	b.By, b.To = text, ""
	return b
}

// shrinking takes room from a volume, at its end or at its head.
var shrinking = kind{
	blank: Shrinking{},
	valid: validShrink, lay: layShrink, priced: priceOfShrink, rewrites: rewrittenByShrink,
	over: func(Column) bool { return true },
}

func validShrink(s Step) error {
	step := Of[Shrinking](s)
	return s.validResize(step.By, step.To, step.Edge)
}

// layShrink makes a volume and its partition smaller, at its end or at its head.
func layShrink(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	step := Of[Shrinking](c.Step)
	c.Title = "Shrink " + p.Title()
	head := c.Step.AtHead()
	if step.DropRestorePoints {
		p = dropRestorePoints(c, p, f)
	}
	a := ShrinkAct(l, p, f)
	if a.Obstacle == nil && head {
		a.Obstacle = Movable(p, f)
	}
	if a.Obstacle != nil {
		c.Obstacles = append(c.Obstacles, *a.Obstacle)
		return
	}
	by, o := amountOf(p, step.By, step.To, a.Limit, true)
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	by = by.Up(disk.Grid)
	start, end := p.Start, p.End
	if head {
		start += by.At(l.Sector)
	} else { // it ends on the grid from now on
		end = ((end + 1).Offset(l.Sector) - by).Up(disk.Grid).At(l.Sector) - 1
	}
	moved(c, l, p, start, end, f)
	q, _ := c.Layout.Find(p.Number)
	if q.Volume.RestorePoints && step.DropRestorePoints {
		v := *q.Volume
		v.RestorePoints, q.Volume = false, &v
	}
	c.Detail = fmt.Sprintf("%s to %s", p.Bytes, q.Bytes)
	if head {
		c.Detail += ", at its head"
	}
}

// dropRestorePoints is a partition as it is without the earlier states that its volume keeps.
func dropRestorePoints(c *Column, p *layout.Span, f Facts) *layout.Span {
	if p.Volume == nil || !p.Volume.RestorePoints {
		c.Obstacles = append(c.Obstacles, *NewObstacle(
			RestorePoints, fmt.Sprintf("%s keeps no restore points that could be dropped.", p.Title()), p.Number,
		))
		return p
	}
	q, v := *p, *p.Volume
	v.RestorePoints, q.Volume = false, &v
	c.Notes = append(c.Notes, *NewObstacle(
		RestorePoints,
		fmt.Sprintf("The restore points of %s are dropped: its PC cannot go back to them any more.", p.Title()),
		p.Number,
	))
	if f.PC != nil {
		c.PC = f.PC.WithoutRestorePoints(p.UniqueID)
	}
	return &q
}

// CutBytes is what is written when a volume is made smaller at its end: what lies behind
// the new end, by the parts that its use is drawn in, and its bookkeeping.
func CutBytes(p *layout.Span, size disk.Bytes) disk.Bytes {
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

func priceOfShrink(sum *tally, c Column, was *layout.Span, _ *layout.Layout) {
	if is, ok := c.Layout.Find(c.Number); ok && was != nil {
		sum.Given += was.Bytes - is.Bytes
	}
}

func rewrittenByShrink(c Column, was, is *layout.Span) disk.Bytes {
	switch {
	case was.Volume == nil:
		return 0
	case c.Step.AtHead():
		return SlideBytes(was)
	}
	return CutBytes(was, is.Bytes)
}

func ShrinkAct(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Shrink}
	if a.Obstacle = Resizable(p, f); a.Obstacle != nil {
		return a
	}
	v := p.Volume
	least := leastVolume(v.Kind)
	if v.Tables != nil {
		low, _, _ := fat.Bounds(*v, l.Sector)
		least = max(least, low)
	}
	cut := (p.Bytes - max(v.ShrinkCut, least).Up(disk.Grid)).Down(disk.Grid)
	most := (p.Bytes - max(v.ShrinkMin, least).Up(disk.Grid)).Down(disk.Grid)
	last := f.Insides[p.Number]
	switch {
	case most < disk.Grid:
		a.Obstacle = NewObstacle(
			Full, fmt.Sprintf("It is full to within 1 MiB (%s left).", v.Free()), p.Number,
		).ClearedBy("move-files")
		return a
	case v.BadClusters > 0 && cut < disk.Grid:
		a.Obstacle = NewObstacle(
			BadPlaces, "Bad clusters lie near its end and cannot be moved.", p.Number,
		).ClearedBy("copy-out")
		return a
	case last.Fixed && cut < disk.Grid:
		a.Obstacle = NewObstacle(LastCluster, fmt.Sprintf("%s holds the last used cluster and cannot be moved.", last.LastFile), p.Number).ClearedBy("move-files", "copy-out")
		return a
	case v.RestorePoints && cut < disk.Grid:
		a.Dropped = most
		a.Obstacle = NewObstacle(RestorePoints, "It keeps earlier states of itself, which moving data would make unusable. Drop them, or shrink no further than its last used cluster.", p.Number).ClearedBy("drop-restore-points")
		return a
	}
	a.Limit = most
	a.Note = fmt.Sprintf("%s by cutting alone; the rest by moving data inside it.", max(cut, 0))
	if last.LastFile != "" {
		a.Note = fmt.Sprintf("%s by cutting alone; then %s holds the last used cluster.", max(cut, 0), last.LastFile)
	}
	if last.Fixed || v.RestorePoints || v.BadClusters > 0 {
		a.Limit, a.Note = cut, a.Note+" What lies there cannot be moved."
		if !last.Fixed && v.BadClusters == 0 {
			a.Dropped = most
			a.Note += fmt.Sprintf(" Without its restore points it could give up %s.", most)
		}
	}
	return a
}
