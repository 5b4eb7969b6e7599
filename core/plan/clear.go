package plan

import (
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// Clearing is what is said of a drive that is cleared.
type Clearing struct {
	Release string `json:"release,omitempty"` // why the protection is lifted
	Waiver  string `json:"waiver,omitempty"`  // why it goes without a backup
	Scheme  string `json:"scheme,omitempty"`  // of the table that it gets: "gpt", "mbr" or "none"
}

func (Clearing) Do() Do { return Clear }

func (b Clearing) reasons() (release, waiver string) { return b.Release, b.Waiver }

func (b Clearing) withReasons(release, waiver string) Body {
	b.Release, b.Waiver = release, waiver
	return b
}

// clearing takes away every partition, and leaves an empty table or none.
var clearing = kind{
	blank: Clearing{},
	valid: validClear, lay: layClear, whole: always, deletes: true,
	counted: func(sum *tally, _ Column, _ *layout.Span, _ *layout.Layout) { sum.Tables++ },
	// It is what helps where a table cannot be changed.
	despite: func(*Obstacle, Facts) bool { return true },
}

func validClear(s Step) error {
	step := Of[Clearing](s)
	if !slices.Contains([]string{"gpt", "mbr", "none"}, step.Scheme) {
		return fmt.Errorf("scheme is %q, not gpt, mbr or none", step.Scheme)
	}
	return nil
}

// clearedTo is what a drive has after it was cleared to a scheme.
var clearedTo = map[string]string{
	"gpt": "a new, empty GPT", "mbr": "a new, empty table of the old kind (MBR)", "none": "no table",
}

// layClear takes everything off the drive and gives it an empty table of the wanted kind,
// or none.
func layClear(c *Column, l *layout.Layout, _ *layout.Span, f Facts) {
	step := Of[Clearing](c.Step)
	c.Title = "Clear the drive"
	parts := l.Partitions()
	if f.ReadOnly {
		c.Obstacles = append(c.Obstacles, *AgainstAll(f))
		return
	}
	f.TableTrouble, f.NoTable, f.entries = "", false, entries{} // it goes with all that is wrong with it
	for i := range parts {
		p := &parts[i]
		o := AgainstDeleting(l, p, f)
		if o != nil && o.Code == HasVolumes { // they go as well
			o = nil
		}
		if o != nil {
			c.Obstacles = append(c.Obstacles, *o)
			continue
		}
		c.Missing = append(c.Missing, missing(c, p, f)...)
		leaves(c, p, f)
		f.PC = c.PC
	}
	if f.StartsHere {
		c.Obstacles = append(c.Obstacles, *NewObstacle(OnlyEFI, "The PC starts from this drive: without its partitions it cannot start. Take the drive out of the PC's start order, or let it start from another.").ClearedBy("start-order"))
	}
	if len(c.Obstacles) > 0 {
		c.Missing = []Obstacle{}
		return
	}
	out := *l
	out.Scheme, out.DiskID = step.Scheme, f.NewID
	sectors := l.Size.At(l.Sector)
	switch step.Scheme {
	case "gpt":
		out.Slots = 128
		table := disk.LBA((128*128 + l.Sector - 1) / l.Sector)
		out.FirstUsable, out.LastUsable = 2+table, sectors-2-table
	case "mbr":
		out.Slots, out.DiskID = 4, Serial(f.NewID)[:8]
		out.FirstUsable, out.LastUsable = 1, min(sectors-1, 1<<32-1)
	default:
		out.Slots, out.DiskID, out.FirstUsable, out.LastUsable = 0, "", 0, 0
	}
	c.Detail = clearedTo[step.Scheme]
	if len(parts) == 0 && step.Scheme != "none" {
		c.Title = "Make a table"
	}
	c.Cleared = parts
	c.Layout = out.With(nil)
}

// makeTable is what comes first on a drive without a table: of the kind that is proposed from what a search
// has found there.
func makeTable(l *layout.Layout, f Facts) Act {
	var spans []layout.Span
	for _, g := range f.Gone {
		spans = append(spans, g.Span)
	}
	a := Act{Do: Clear}
	var why string
	a.Scheme, why = schemeFor(l, spans, f.Removable)
	proposed := "a GPT"
	if a.Scheme == "mbr" {
		proposed = "the old kind (MBR)"
	}
	a.Note = "Proposed is " + proposed + ": " + why + "."
	if f.ReadOnly {
		a.Obstacle = AgainstAll(f)
	}
	return a
}
