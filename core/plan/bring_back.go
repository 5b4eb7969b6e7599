package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// BringingBack is what is said of a partition that comes back: as a record has it, or as a search has found it.
type BringingBack struct {
	Record string `json:"record,omitempty"`
	// Find is the first sector of a lost partition that a search has found, and Told where on the drive, in bytes,
	// what tells of it lies.
	Find disk.LBA   `json:"find,omitempty"`
	Told disk.Bytes `json:"told_at,omitempty"`
	// Damaged is why it comes back although something else lies in place of some of it.
	Damaged string `json:"damaged,omitempty"`
	As      string `json:"as,omitempty"` // the name by which later steps speak of it
}

func (BringingBack) Do() Do { return BringBack }

func (b BringingBack) record() string { return b.Record }

func (b BringingBack) named() string { return b.As }

// bringingBack puts a partition back that was deleted, as a record or a find has it.
var bringingBack = kind{
	blank: BringingBack{},
	valid: validBringBack, lay: layBringBack, whole: always, makes: true, fills: itself,
	copies: func(c Column, _ *layout.Span, _ *layout.Layout, _ Facts) disk.Bytes { return c.Fills },
}

func validBringBack(s Step) error {
	step := Of[BringingBack](s)
	if (step.Record == "") == (step.Find == 0) {
		return errors.New("bring-back needs a record, or a find")
	}
	if step.Find < 0 || step.Told < 0 {
		return fmt.Errorf("a find at sector %d, told of at byte %d, is not on a drive", step.Find, step.Told)
	}
	return nil
}

// layBringBack puts a deleted partition back: at its own place while that is free
// and still holds what it held, else from its backup.
func layBringBack(c *Column, l *layout.Layout, _ *layout.Span, f Facts) {
	step := Of[BringingBack](c.Step)
	if step.Find != 0 {
		bringBackFound(c, l, f)
		return
	}
	c.Title = "Bring back"
	r, o := f.record(step.Record)
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	p := r.Span
	c.Title = "Bring back " + p.Title()
	anew := p.TypeID != "" && ofOtherKind(&p, l)
	o = noTable(l)
	if anew && o == nil {
		o = lodge(&p, l)
	}
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	first := p.Start
	if p.Container != 0 { // its record needs room too
		first = p.Record
		if x, ok := l.Find(p.Container); !ok || x.Role != layout.Container {
			c.Obstacles = append(c.Obstacles, *NewObstacle(
				NowhereToGo, fmt.Sprintf("%s was a logical volume, and its container is gone.", p.Title()),
			))
			return
		}
	}
	free := Covered(l, first, p.End, p.Container)
	if _, taken := l.Find(p.Number); taken || anew && (p.Container != 0 || p.Number > l.Slots) {
		p.Number = freeNumber(l, p.Container)
		if p.Number == 0 {
			c.Obstacles = append(c.Obstacles, *NewObstacle(TableFull, "The partition table has no free entry."))
			return
		}
	}
	if slices.ContainsFunc(l.Partitions(), func(s layout.Span) bool { return s.UniqueID == p.UniqueID }) {
		p.UniqueID = f.NewID
	}
	if anew {
		entryFor(&p, l, f.NewID)
	}
	switch {
	case free && r.Stand != nil && (r.Backup == "" || r.Stand.Taken == 0 || strings.TrimSpace(step.Damaged) != ""):
		c.Place, c.Fills, c.Detail = InPlace, r.Stand.Returns, "at its own place; "+r.Stand.Words()
		accepted(c, &p, r.Stand)
	case r.Backup == "":
		why := "its place is taken"
		if free {
			why = "its record kept nothing of its contents, or is one of another drive"
		}
		c.Obstacles = append(c.Obstacles, *NewObstacle(
			NowhereToGo, fmt.Sprintf("%s cannot come back: %s, and it has no backup.", p.Title(), why),
		))
		return
	case free:
		c.Place, c.Fills, c.Detail = FromBackup, r.Fills, "from its backup, at its own place"
	default:
		need := p.Bytes
		if p.Container != 0 {
			need += disk.Grid // for its record
		}
		gap, ok := smallestGap(l, need, p.Container)
		if !ok {
			c.Obstacles = append(c.Obstacles, *NewObstacle(
				NowhereToGo, fmt.Sprintf("Its place is taken, and no gap has room for %s.", p.Bytes),
			))
			return
		}
		n := p.End - p.Start
		p.Start = gap.Start.Offset(l.Sector).Up(disk.Grid).At(l.Sector)
		if p.Container != 0 {
			p.Record = p.Start
			p.Start += disk.Grid.At(l.Sector)
		}
		p.End = p.Start + n
		c.Place, c.Fills, c.Detail = FromBackup, r.Fills, "from its backup, at another place"
	}
	if l.Scheme == "mbr" {
		p.UniqueID = layout.PlaceID(l.DiskID, p.Start.Offset(l.Sector))
	}
	if anew {
		c.Detail += "; its entry is made anew for a table of kind " + l.Scheme
	}
	c.Number = p.Number
	c.Layout = l.With(append(l.Partitions(), p))
}

// record is what is known of a deletion, or why nothing can be planned from it.
func (f *Facts) record(id string) (Record, *Obstacle) {
	r, ok := f.Records[id]
	switch {
	case !ok:
		return r, NewObstacle(NoRecord, fmt.Sprintf("There is no record %s.", id))
	case r.Altered:
		return r, NewObstacle(
			RecordAltered,
			fmt.Sprintf(
				"The record %s is not as it was entered in the trail: it, or a file beside it, was altered or is gone. It can be looked at, and nothing is planned from it. Put it back as it was from a copy of the shop's data, or search for the partition.",
				id,
			),
		)
	}
	return r, nil
}
