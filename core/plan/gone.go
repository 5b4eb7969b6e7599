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
			c.Notes = append(c.Notes, *obstacle(OverRecord, fmt.Sprintf("%s, which a search has found, lies in the place that this takes. From here on what it holds may be written over, and it cannot be brought back there any more.", g.Span.Title()), c.Number))
			continue
		}
		c.Over = append(c.Over, g.Record)
		text := fmt.Sprintf("%s lay in the place that this takes. From here on what it held may be written over, and it cannot be brought back there any more (record %s)", g.Span.Title(), g.Record)
		if g.Backup {
			text += "; its backup stays"
		}
		c.Notes = append(c.Notes, *obstacle(OverRecord, text+".", c.Number))
	}
	return left
}

// bringsBack tells that a step brings a partition back, as the record or find has it or as another one
// has it that is of the same place.
func (c *Column) bringsBack(g Gone) bool {
	if c.Step.Do != BringBack {
		return false
	}
	if g.Record != "" && c.Step.Record == g.Record || g.Find != 0 && c.Step.Find == g.Find {
		return true
	}
	p, ok := c.Layout.Find(c.Number)
	return ok && p.Start == g.Span.Start && p.End == g.Span.End
}
