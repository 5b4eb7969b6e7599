package plan

import (
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// Gone is a partition that a record tells of and that is not on the drive any more, though
// its place is free: it can be brought back as it was.
type Gone struct {
	Record string
	Find   disk.LBA // the first sector of one that a search has found, 0 for one of a record
	Span   layout.Span
	Backup bool // its contents are on the shelf besides
	// Needs is what it had in use, in bytes of the drive, and nothing is known to have taken.
	Needs disk.Set
}

// weakened says how much of what could still be brought back the partitions of a layout take.
func (g *Gone) weakened(l *layout.Layout) string {
	all := g.Needs.Bytes()
	if all == 0 {
		return "nothing that it held is there any more"
	}
	takes := disk.Bytes(0)
	for _, p := range l.Partitions() {
		if p.Role == layout.Container {
			continue
		}
		for _, r := range g.Needs.Within(disk.Range{Start: p.Start.Offset(l.Sector), End: (p.End + 1).Offset(l.Sector)}) {
			takes += r.Len()
		}
	}
	return fmt.Sprintf(
		"of the %s that it held and that may still be there, %s may be written over from here on, and it cannot be brought back whole there any more",
		all, takes,
	)
}

// StillFree returns those of which no partition has taken any of the place.
func StillFree(l *layout.Layout, gone []Gone) []Gone {
	var out []Gone
	for _, g := range gone {
		if !slices.ContainsFunc(l.Partitions(), func(p layout.Span) bool {
			return p.Role != layout.Container && p.Start <= g.Span.End && g.Span.Start <= p.End
		}) {
			out = append(out, g)
		}
	}
	return out
}

// overGone notes in a column what its step makes impossible to bring back in its place, and
// returns what is left.
func overGone(c *Column, gone []Gone) []Gone {
	left := StillFree(c.Layout, gone)
	for _, g := range gone {
		if slices.ContainsFunc(left, func(x Gone) bool { return x.Record == g.Record && x.Find == g.Find }) || c.bringsBack(g) {
			continue
		}
		if g.Find != 0 {
			c.Over = append(c.Over, fmt.Sprint("find at ", g.Find))
			c.Notes = append(c.Notes, *NewObstacle(
				OverRecord,
				fmt.Sprintf(
					"%s, which a search has found, lies in the place that this takes: %s.", g.Span.Title(),
					g.weakened(c.Layout),
				),
				c.Number,
			))
			continue
		}
		c.Over = append(c.Over, g.Record)
		text := fmt.Sprintf(
			"%s lay in the place that this takes: %s (record %s)", g.Span.Title(), g.weakened(c.Layout), g.Record,
		)
		if g.Backup {
			text += "; its backup stays"
		}
		c.Notes = append(c.Notes, *NewObstacle(OverRecord, text+".", c.Number))
	}
	return left
}

// bringsBack tells that a step brings a partition back, as the record or find has it or as another one
// has it that is of the same place.
func (c *Column) bringsBack(g Gone) bool {
	if c.Step.Do() != BringBack {
		return false
	}
	back := Of[BringingBack](c.Step)
	if g.Record != "" && back.Record == g.Record || g.Find != 0 && back.Find == g.Find {
		return true
	}
	p, ok := c.Layout.Find(c.Number)
	return ok && p.Start == g.Span.Start && p.End == g.Span.End
}
