package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Absorbing is what is said of files that move to another volume.
type Absorbing struct {
	Release string `json:"release,omitempty"` // why the protection is lifted
	Waiver  string `json:"waiver,omitempty"`  // why it goes without a backup
	Folder  string `json:"folder,omitempty"`  // "" for one that is named after the volume
	Into    string `json:"into,omitempty"`    // the partition that takes them in
}

func (Absorbing) Do() Do { return Absorb }

func (b Absorbing) reasons() (release, waiver string) { return b.Release, b.Waiver }

func (b Absorbing) withReasons(release, waiver string) Body {
	b.Release, b.Waiver = release, waiver
	return b
}

func (b Absorbing) folder() string { return b.Folder }

func (b Absorbing) withFolder(path string) Body {
	b.Folder = path
	return b
}

func (b Absorbing) refers() string { return b.Into }

func (b Absorbing) referringTo(partition string) Body {
	b.Into = partition
	return b
}

// absorbing moves a volume's files into a folder of another one, and deletes it.
var absorbing = kind{
	blank: Absorbing{},
	valid: validAbsorb, lay: layAbsorb, deletes: true, fills: itself, copies: copiedByAbsorb, counted: priceOfAbsorb,
	rewrites: func(_ Column, was, is *layout.Span) disk.Bytes {
		if was.Volume == nil || is.Bytes <= was.Bytes {
			return 0
		}
		return GrowBytes(was, is.Bytes-was.Bytes)
	},
}

func validAbsorb(s Step) error {
	step := Of[Absorbing](s)
	if s.Partition == "" || step.Into == "" {
		return errors.New("absorb needs a partition and the one that takes it in")
	}
	return validFolder(step.Folder)
}

// layAbsorb moves the files of one volume into a folder of another; its partition goes, and
// where its place touches the other's end, the other takes it.
func layAbsorb(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	step := Of[Absorbing](c.Step)
	c.Title = "Absorb " + p.Title()
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	to, o := Named(l, step.Into)
	if o == nil && to.Number == p.Number {
		o = NewObstacle(NoNeighbour, "A volume cannot absorb itself.", p.Number)
	}
	if o == nil {
		c.Title = fmt.Sprintf("Absorb %s into %s", p.Title(), to.Title())
		o = AgainstDeleting(l, p, f)
	}
	if o == nil {
		o = FilesOf(p, f)
	}
	if o == nil && !p.Volume.Clean {
		o = NewObstacle(NotClean, fmt.Sprintf("%s was not closed properly.", p.Title()), p.Number).ClearedBy("close-volume")
	}
	if o == nil {
		o = MayTake(to, 0)
	}
	if o != nil {
		block(o)
		return
	}
	room := to.Volume.Free()
	after := l.With(slices.DeleteFunc(l.Partitions(), func(s layout.Span) bool { return s.Number == p.Number }))
	end := to.End
	if to.End < p.Start && mayGrowTo(after, to, p.End, f) {
		end = p.End
	}
	whole := (end - to.Start + 1).Offset(l.Sector)
	grown := room
	if end > to.End {
		grown += whole - to.Bytes
	}
	need := p.Volume.UsedBytes
	switch {
	case need <= room:
		c.Detail = "its files first, then its place"
	case need+need/64+2*disk.MiB <= grown: // what the files' bookkeeping may take
		c.Portions = true
		c.Detail = fmt.Sprintf("in portions: %s has %s free, and the files take %s", to.Title(), room, need)
		if o := inPortions(l, p, to, f); o != nil {
			block(o)
			return
		}
	default:
		block(NewObstacle(Full, fmt.Sprintf("The files of %s take %s, and %s would have room for %s.", p.Title(), need, to.Title(), grown), p.Number, to.Number).ClearedBy("shrink", "move-files"))
		return
	}
	if o := notReleased(p, c.Step, f); o != nil {
		c.Missing = append(c.Missing, *o)
	}
	if o := needsLead(c, p, f); o != nil {
		c.Missing = append(c.Missing, *o)
	}
	if step.Folder == "" {
		step.Folder = "From " + strings.TrimPrefix(HoldFolder(p), "Kept from ")
		c.Step.Body = step
	}
	leaves(c, p, f)
	c.Number = to.Number
	c.Notes = append(c.Notes, *NewObstacle(
		PathsChange,
		fmt.Sprintf(
			"What was at the root of %s is in the folder %s of %s afterwards.", p.Title(), step.Folder, to.Title(),
		),
		p.Number, to.Number,
	))
	c.less(p.Volume.Kind, to, -1)
	parts := after.Partitions()
	for i := range parts {
		if q := &parts[i]; q.Number == to.Number {
			v := *q.Volume
			if end > q.End {
				q.End, q.Bytes = end, whole
				v = filling(v, whole, l.Sector)
				v.Use = nil
			}
			v.UsedBytes += need
			q.Volume = &v
		}
	}
	c.Absorbed, c.From = p.Number, p.Number
	c.Layout = l.With(parts)
}

// inPortions tells whether a volume can go over into another bit by bit.
func inPortions(l *layout.Layout, p, to *layout.Span, f Facts) *Obstacle {
	if p.Volume.Kind != volume.NTFS || to.Volume.Kind != volume.NTFS {
		return NewObstacle(NotYet, fmt.Sprintf("%s has not room for all files of %s at once, and in portions they go from NTFS into NTFS only.", to.Title(), p.Title()), p.Number, to.Number).ClearedBy("copy-out", "move-files")
	}
	return Movable(p, f)
}

// mayGrowTo tells whether a volume can grow up to a sector.
func mayGrowTo(l *layout.Layout, p *layout.Span, end disk.LBA, f Facts) bool {
	room, o := RoomToGrow(l, p, f)
	return o == nil && room >= end
}

func copiedByAbsorb(c Column, is *layout.Span, before *layout.Layout, _ Facts) disk.Bytes {
	if c.Absorbed == 0 {
		return whatCameAcross(c, is)
	}
	if p, ok := before.Find(c.Absorbed); ok && p.Volume != nil {
		return max(p.Volume.UsedBytes-own(p), 0)
	}
	return 0
}

func priceOfAbsorb(sum *tally, c Column, _ *layout.Span, before *layout.Layout) {
	if from, ok := before.Find(c.Absorbed); ok {
		sum.gone(from)
	}
}
