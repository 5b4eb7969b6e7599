package plan

import (
	"errors"
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// Containing is what is said of an extended container.
type Containing struct {
	By       string       `json:"by,omitempty"`
	To       string       `json:"to,omitempty"`
	Edge     string       `json:"edge,omitempty"`      // "end" or "head", "" for the end
	StartLBA disk.LBA     `json:"start_lba,omitempty"` // of a new one, as is its size
	Size     string       `json:"size,omitempty"`
	As       string       `json:"as,omitempty"`  // the name by which later steps speak of it
	Act      ContainerAct `json:"act,omitempty"` // what is done with it
}

func (Containing) Do() Do { return Container }

func (b Containing) named() string { return b.As }

func (b Containing) edge() string { return b.Edge }

func (b Containing) amount() string {
	if b.Act == MakeIt {
		return b.Size
	}
	return b.By + b.To
}

func (b Containing) withAmount(text string) Body {
	if b.Act == MakeIt {
		b.Size = text
	} else {
		b.By, b.To = text, ""
	}
	return b
}

// containing makes, changes or dissolves an extended container.
var containing = kind{
	blank: Containing{},
	valid: Step.validContainer, lay: layContainer, tableOnly: true, makes: true,
	whole: func(s Step) bool { return Of[Containing](s).Act == MakeIt },
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
	step := Of[Containing](s)
	switch step.Act {
	case MakeIt:
		if step.Size == "" {
			return errors.New("the container has no size")
		}
		_, err := disk.ParseAmount(step.Size, 1<<60)
		return err
	case GrowIt, ShrinkIt:
		return s.validResize(step.By, step.To, step.Edge)
	case Dissolve:
		if s.Partition == "" {
			return errors.New("container names no partition")
		}
		return nil
	}
	return fmt.Errorf("act is %q, not create, grow, shrink or dissolve", step.Act)
}

// makeContainer makes an empty extended container in a gap.
func makeContainer(c *Column, l *layout.Layout, f Facts) {
	step := Of[Containing](c.Step)
	c.Title = "Create an extended container"
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	if l.Scheme != "mbr" {
		block(NewObstacle(
			TableUnsafe,
			"Only the old table (MBR) has extended containers; in a GPT every volume has an entry of its own.",
		))
		return
	}
	if i := slices.IndexFunc(l.Spans, func(s layout.Span) bool { return s.Role == layout.Container }); i >= 0 {
		block(NewObstacle(
			FifthPrimary, "The table has an extended container already, and there can be one only.",
			l.Spans[i].Number,
		))
		return
	}
	n := freeNumber(l, 0)
	gap, ok := gapFor(l, step.StartLBA, step.Size, 0)
	if n == 0 || !ok {
		if o := slotFree(l, 0); o != nil {
			block(o)
		} else {
			block(NewObstacle(NoGap, "There is no free room for a container there."))
		}
		return
	}
	most := l.Room(gap)
	size, err := disk.ParseAmount(step.Size, most)
	if err != nil {
		block(NewObstacle(BadAmount, fmt.Sprintf("%v. The gap has room for %s (%s).", err, most, most.Exact())))
		return
	}
	size = min(size.Up(disk.Grid), most)
	start := max(gap.Start.Offset(l.Sector).Up(disk.Grid).At(l.Sector), step.StartLBA)
	end := min(start+size.At(l.Sector)-1, gap.End)
	p := layout.Span{Kind: layout.Partition, Number: n, Start: start, End: end, Bytes: (end - start + 1).Offset(l.Sector), TypeID: "0f", TypeName: "Extended container",
		Attributes: "0x0000000000000000", UniqueID: layout.PlaceID(l.DiskID, start.Offset(l.Sector)), Role: layout.Container}
	c.Number, c.Detail, c.Layout = n, p.Bytes.String(), l.With(append(l.Partitions(), p))
}

// containerTitles are what the changes of a container are called.
var containerTitles = map[ContainerAct]string{
	GrowIt: "Grow the container", ShrinkIt: "Shrink the container", Dissolve: "Dissolve the container",
}

// changeContainer grows, shrinks or dissolves an extended container.
func changeContainer(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	step := Of[Containing](c.Step)
	act := step.Act
	c.Title = containerTitles[act]
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	if p.Role != layout.Container {
		block(NewObstacle(NoVolume, fmt.Sprintf("%s is no extended container.", p.Title()), p.Number))
		return
	}
	first, last := p.End+1, p.Start-1 // what lies in it
	for _, q := range l.Partitions() {
		if q.Container == p.Number {
			first, last = min(first, q.Head()), max(last, q.End)
		}
	}
	empty := last < first
	if act == Dissolve {
		if !empty {
			block(NewObstacle(
				HasVolumes, "It holds logical volumes. Delete them first, each by itself.", InsideOf(l, p.Number)...,
			).ClearedBy("delete"))
			return
		}
		c.Detail = "its room is free for primary partitions"
		c.Layout = l.With(slices.DeleteFunc(l.Partitions(), func(s layout.Span) bool { return s.Number == p.Number }))
		return
	}
	head := c.Step.AtHead()
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
		o := NewObstacle(NoGap, "No gap touches it there.", p.Number).ClearedBy("slide", "delete")
		if act == ShrinkIt {
			o = NewObstacle(HasVolumes, "A logical volume reaches to its edge there: it must shrink, slide or go first.", append([]int{p.Number}, InsideOf(l, p.Number)...)...).ClearedBy("slide", "shrink", "delete")
		}
		block(o)
		return
	}
	by, o := amountOf(p, step.By, step.To, most, act == ShrinkIt)
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

// ofContainer lists what can be done with an extended container, for one.
func ofContainer(l *layout.Layout, p *layout.Span, f Facts) (out []Act) {
	if p.Role != layout.Container {
		return nil
	}
	for _, act := range []ContainerAct{GrowIt, ShrinkIt, Dissolve} {
		a := Act{Do: Container, Act: act, Obstacle: AgainstAll(f)}
		c := Column{Step: Step{Body: Containing{Act: act, By: "all"}}}
		if a.Obstacle == nil {
			changeContainer(&c, l, p, f)
		}
		switch {
		case len(c.Obstacles) > 0:
			a.Obstacle = &c.Obstacles[0]
		case c.Layout != nil && act != Dissolve:
			q, _ := c.Layout.Find(p.Number)
			a.Limit, a.Note = max(q.Bytes-p.Bytes, p.Bytes-q.Bytes), "At its end; the logical volumes stay where they are."
		case c.Layout != nil:
			a.Note = "It is empty. Its room is free for primary partitions then."
		}
		out = append(out, a)
	}
	return out
}

func layContainer(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	if p == nil {
		makeContainer(c, l, f)
		return
	}
	changeContainer(c, l, p, f)
}
