package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// Head is the first sector that belongs to a partition: of a logical volume that of its
// record in the container's chain.
func Head(p *layout.Span) disk.LBA {
	if p.Record != 0 {
		return p.Record
	}
	return p.Start
}

// moved is the layout with a partition from one sector to another, both included, and its
// volume of that size. What the PC knows by the place is known by the new one.
func moved(c *Column, l *layout.Layout, p *layout.Span, start, end disk.LBA, f Facts) {
	parts := l.Partitions()
	for i := range parts {
		q := &parts[i]
		if q.Number != p.Number {
			continue
		}
		if q.Record != 0 {
			q.Record += start - q.Start
		}
		q.Start, q.End = start, end
		q.Bytes = (end - start + 1).Offset(l.Sector)
		if q.Volume != nil && q.Bytes != p.Bytes {
			v := *q.Volume
			v = filling(v, q.Bytes, l.Sector)
			v.ShrinkCut = min(v.ShrinkCut, q.Bytes)
			v.Use = nil
			q.Volume = &v
		}
		if r := f.PC; r != nil && r.Recovery != nil && r.Recovery.InUse && strings.EqualFold(r.Recovery.Partition, p.UniqueID) && start != p.Start {
			c.Notes = append(c.Notes, *obstacle(PlaceNamed, fmt.Sprintf("The PC's recovery environment is in use from %s, and may be named by the place where that begins. Check afterwards that it is still in use.", p.Title()), p.Number))
		}
		if l.Scheme == "mbr" {
			q.UniqueID = layout.PlaceID(l.DiskID, q.Start.Offset(l.Sector))
			if c.PC != nil && q.UniqueID != p.UniqueID {
				c.PC = c.PC.Renamed(p.UniqueID, q.UniqueID)
				if f.PC.InOrder(p.UniqueID) || p.Active {
					c.Notes = append(c.Notes, *obstacle(PlaceNamed, fmt.Sprintf("The PC names %s by the drive's signature and the place where it begins. Its start entry and its letter are mended with the move; check that it starts.", p.Title()), p.Number))
				}
			}
		}
	}
	c.Layout = l.With(parts)
}

// slideStep moves a partition along the drive.
func slideStep(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	c.Title = "Slide " + p.Title()
	a := slide(l, p, f)
	if a.Obstacle != nil {
		c.Obstacles = append(c.Obstacles, *a.Obstacle)
		return
	}
	up, down := Touching(l, p)
	text, back := strings.CutPrefix(strings.TrimSpace(c.Step.By), "-")
	room := down
	if back {
		room = up
	}
	by, err := disk.ParseAmount(text, max(room, 0))
	if err != nil {
		c.Obstacles = append(c.Obstacles, *obstacle(BadAmount, fmt.Sprintf("%v. %s can slide by up to %s toward the start and %s toward the end.", err, p.Title(), up, down), p.Number))
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

// Touching is by how much a partition can slide toward the start and toward the end, in
// whole MiB.
func Touching(l *layout.Layout, p *layout.Span) (up, down disk.Bytes) {
	if g := before(l, p); g != nil {
		from := g.Start
		if x, ok := l.Find(p.Container); ok && from == x.Start+1 {
			from = x.Start // its own record can stand there
		}
		up = (Head(p) - from).Offset(l.Sector).Down(disk.Grid)
		if Head(p).Offset(l.Sector)%disk.Grid == 0 {
			up = max(Head(p).Offset(l.Sector)-from.Offset(l.Sector).Up(disk.Grid), 0)
		}
	}
	if g, ok := l.GapAt(p.End+1, p.Container); ok {
		down = g.Bytes.Down(disk.Grid)
	}
	return up, down
}

// shrinkStep makes a volume and its partition smaller, at its end or at its head.
func shrinkStep(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	c.Title = "Shrink " + p.Title()
	head := c.Step.Edge == "head"
	if c.Step.DropRestorePoints {
		p = dropRestorePoints(c, p, f)
	}
	a := shrink(l, p, f)
	if a.Obstacle == nil && head {
		a.Obstacle = movable(p, f)
	}
	if a.Obstacle != nil {
		c.Obstacles = append(c.Obstacles, *a.Obstacle)
		return
	}
	by, o := amountOf(p, c.Step, a.Limit, true)
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
	if q.Volume.RestorePoints && c.Step.DropRestorePoints {
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
		c.Obstacles = append(c.Obstacles, *obstacle(RestorePoints, fmt.Sprintf("%s keeps no restore points that could be dropped.", p.Title()), p.Number))
		return p
	}
	q, v := *p, *p.Volume
	v.RestorePoints, q.Volume = false, &v
	c.Notes = append(c.Notes, *obstacle(RestorePoints, fmt.Sprintf("The restore points of %s are dropped: its PC cannot go back to them any more.", p.Title()), p.Number))
	if f.PC != nil {
		c.PC = f.PC.WithoutRestorePoints(p.UniqueID)
	}
	return &q
}

// growHeadStep makes a volume larger toward the start: it slides there and grows.
func growHeadStep(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	a := growHead(l, p, f)
	up, _ := Touching(l, p)
	if a.Obstacle == nil && up < disk.Grid {
		a.Obstacle = obstacle(GapTooSmall, "The gap before it is smaller than 1 MiB.", p.Number)
	}
	if a.Obstacle != nil {
		c.Obstacles = append(c.Obstacles, *a.Obstacle)
		return
	}
	by, o := amountOf(p, c.Step, up, false)
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	by = min(by.Up(disk.Grid), up)
	if most := maxVolume(p.Volume, l.Sector); p.End-p.Start+1+by.At(l.Sector) > most {
		c.Obstacles = append(c.Obstacles, *obstacle(TooLarge, fmt.Sprintf("With clusters of %s it cannot become so large.", p.Volume.ClusterBytes), p.Number).clear("copy-out"))
		return
	}
	moved(c, l, p, p.Start-by.At(l.Sector), p.End, f)
	q, _ := c.Layout.Find(p.Number)
	c.Detail = fmt.Sprintf("%s to %s, at its head", p.Bytes, q.Bytes)
}

// amountOf reads how much a partition gains or, when less is set, gives up, of at most
// most.
func amountOf(p *layout.Span, s Step, most disk.Bytes, less bool) (disk.Bytes, *Obstacle) {
	word := map[bool]string{true: "give up", false: "gain"}[less]
	bad := func(format string, args ...any) *Obstacle {
		return obstacle(BadAmount, fmt.Sprintf(format, args...)+fmt.Sprintf(" %s can %s up to %s (%s).", p.Title(), word, most, most.Exact()), p.Number)
	}
	if s.To == "" {
		by, err := disk.ParseAmount(s.By, most)
		if err != nil {
			return 0, bad("%v.", err)
		}
		return by, nil
	}
	whole := p.Bytes
	if !less {
		whole += most
	}
	to, err := disk.ParseAmount(s.To, whole)
	by := to - p.Bytes
	if less {
		by = -by
	}
	switch {
	case err != nil:
		return 0, bad("%v.", err)
	case by <= 0 || by > most:
		return 0, bad("To %s is not possible.", s.To)
	}
	return by, nil
}

// ContainerAct is what a step does with an extended container.
type ContainerAct string

const (
	MakeIt   ContainerAct = "create"
	GrowIt   ContainerAct = "grow"
	ShrinkIt ContainerAct = "shrink"
	Dissolve ContainerAct = "dissolve"
)

// validContainer checks the words of a step about a container.
func (s Step) validContainer() error {
	switch ContainerAct(s.Act) {
	case MakeIt:
		if s.Size == "" {
			return errors.New("the container has no size")
		}
		_, err := disk.ParseAmount(s.Size, 1<<60)
		return err
	case GrowIt, ShrinkIt:
		return s.validResize()
	case Dissolve:
		if s.Partition == "" {
			return errors.New("container names no partition")
		}
		return nil
	}
	return fmt.Errorf("act is %q, not create, grow, shrink or dissolve", s.Act)
}

// makeContainer makes an empty extended container in a gap.
func makeContainer(c *Column, l *layout.Layout, f Facts) {
	c.Title = "Create an extended container"
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	if l.Scheme != "mbr" {
		block(obstacle(TableUnsafe, "Only the old table (MBR) has extended containers; in a GPT every volume has an entry of its own."))
		return
	}
	if i := slices.IndexFunc(l.Spans, func(s layout.Span) bool { return s.Role == layout.Container }); i >= 0 {
		block(obstacle(FifthPrimary, "The table has an extended container already, and there can be one only.", l.Spans[i].Number))
		return
	}
	n := freeNumber(l, 0)
	gap, ok := gapFor(l, c.Step, 0)
	if n == 0 || !ok {
		if o := slotFree(l, 0); o != nil {
			block(o)
		} else {
			block(obstacle(NoGap, "There is no free room for a container there."))
		}
		return
	}
	most := l.Room(gap)
	size, err := disk.ParseAmount(c.Step.Size, most)
	if err != nil {
		block(obstacle(BadAmount, fmt.Sprintf("%v. The gap has room for %s (%s).", err, most, most.Exact())))
		return
	}
	size = min(size.Up(disk.Grid), most)
	start := max(gap.Start.Offset(l.Sector).Up(disk.Grid).At(l.Sector), c.Step.StartLBA)
	end := min(start+size.At(l.Sector)-1, gap.End)
	p := layout.Span{Kind: layout.Partition, Number: n, Start: start, End: end, Bytes: (end - start + 1).Offset(l.Sector), TypeID: "0f", TypeName: "Extended container",
		Attributes: "0x0000000000000000", UniqueID: layout.PlaceID(l.DiskID, start.Offset(l.Sector)), Role: layout.Container}
	c.Number, c.Detail, c.Layout = n, p.Bytes.String(), l.With(append(l.Partitions(), p))
}

// changeContainer grows, shrinks or dissolves an extended container.
func changeContainer(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	act := ContainerAct(c.Step.Act)
	c.Title = map[ContainerAct]string{GrowIt: "Grow the container", ShrinkIt: "Shrink the container", Dissolve: "Dissolve the container"}[act]
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	if p.Role != layout.Container {
		block(obstacle(NoVolume, fmt.Sprintf("%s is no extended container.", p.Title()), p.Number))
		return
	}
	first, last := p.End+1, p.Start-1 // what lies in it
	for _, q := range l.Partitions() {
		if q.Container == p.Number {
			first, last = min(first, Head(&q)), max(last, q.End)
		}
	}
	empty := last < first
	if act == Dissolve {
		if !empty {
			block(obstacle(HasVolumes, "It holds logical volumes. Delete them first, each by itself.", inside(l, p.Number)...).clear("delete"))
			return
		}
		c.Detail = "its room is free for primary partitions"
		c.Layout = l.With(slices.DeleteFunc(l.Partitions(), func(s layout.Span) bool { return s.Number == p.Number }))
		return
	}
	head := c.Step.Edge == "head"
	up, down := Touching(l, p)
	var most disk.Bytes
	switch {
	case act == GrowIt && head:
		most = up
	case act == GrowIt:
		most = down
	case empty:
		most = p.Bytes - 2*disk.Grid
	case head:
		most = (first - p.Start).Offset(l.Sector).Down(disk.Grid)
	default:
		most = (p.End - last).Offset(l.Sector).Down(disk.Grid)
	}
	if most < disk.Grid {
		o := obstacle(NoGap, "No gap touches it there.", p.Number).clear("slide", "delete")
		if act == ShrinkIt {
			o = obstacle(HasVolumes, "A logical volume reaches to its edge there: it must shrink, slide or go first.", append([]int{p.Number}, inside(l, p.Number)...)...).clear("slide", "shrink", "delete")
		}
		block(o)
		return
	}
	by, o := amountOf(p, c.Step, most, act == ShrinkIt)
	if o != nil {
		block(o)
		return
	}
	by = min(by.Up(disk.Grid), most)
	if act == ShrinkIt {
		by = -by
	}
	parts := l.Partitions()
	for i := range parts {
		q := &parts[i]
		if q.Number != p.Number {
			continue
		}
		if head {
			q.Start -= by.At(l.Sector)
			q.UniqueID = layout.PlaceID(l.DiskID, q.Start.Offset(l.Sector))
		} else {
			q.End += by.At(l.Sector)
		}
		q.Bytes += by
		c.Detail = fmt.Sprintf("%s to %s", p.Bytes, q.Bytes)
	}
	if head {
		c.Detail += ", at its head"
	}
	c.Layout = l.With(parts)
}

// validResize checks the words of a step that changes a size.
func (s Step) validResize() error {
	if s.Partition == "" || (s.By == "") == (s.To == "") {
		return fmt.Errorf("%s needs a partition and one of by and to", s.Do)
	}
	if _, err := disk.ParseAmount(s.By+s.To, 1<<60); err != nil {
		return err
	}
	if s.Edge != "" && s.Edge != "end" && s.Edge != "head" {
		return fmt.Errorf("edge is %q, not end or head", s.Edge)
	}
	return nil
}

// validSlide checks the words of a slide.
func (s Step) validSlide() error {
	if s.Partition == "" || s.By == "" || s.To != "" {
		return errors.New("slide needs a partition and by how much, negative toward the start")
	}
	_, err := disk.ParseAmount(strings.TrimPrefix(strings.TrimSpace(s.By), "-"), 1<<60)
	return err
}
