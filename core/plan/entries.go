package plan

import (
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// entries is what is wrong with entries of a table that is whole itself: until they are taken out nothing
// else is changed.
type entries struct {
	text    string
	numbers []int // of the partitions concerned
}

// brokenEntries finds the entries of a table that cannot be so: over each other, outside the table's
// usable sectors or the drive, or ending before they start.
func brokenEntries(l *layout.Layout) (e entries) {
	if l == nil || l.Scheme == "none" {
		return e
	}
	wrong := func(text string, numbers ...int) {
		if e.text == "" {
			e.text = text
		}
		e.numbers = append(e.numbers, numbers...)
	}
	last := l.Size.At(l.Sector) - 1
	parts := l.Partitions()
	for i, p := range parts {
		switch {
		case p.End < p.Start:
			wrong(
				fmt.Sprintf("Partition %d ends at sector %d, before it starts at %d.", p.Number, p.End, p.Start),
				p.Number,
			)
		case p.End > last:
			wrong(
				fmt.Sprintf("Partition %d ends at sector %d, but the drive ends at sector %d.", p.Number, p.End, last),
				p.Number,
			)
		case l.Scheme == "gpt" && (p.Start < l.FirstUsable || p.End > l.LastUsable):
			wrong(
				fmt.Sprintf(
					"Partition %d lies at sectors %d to %d, outside the usable sectors %d to %d.", p.Number, p.Start,
					p.End, l.FirstUsable, l.LastUsable,
				),
				p.Number,
			)
		}
		for _, q := range parts[:i] {
			if lo, hi := max(p.Start, q.Start), min(p.End, q.End); p.Container == q.Container && lo <= hi {
				wrong(
					fmt.Sprintf("Partitions %d and %d overlap from sector %d to %d.", q.Number, p.Number, lo, hi),
					q.Number, p.Number,
				)
			}
		}
	}
	return e
}

// EntriesBroken tells that a table has entries that cannot be so.
func EntriesBroken(l *layout.Layout) bool { return brokenEntries(l).text != "" }

// obstacle stands against every change but taking out what is wrong, nil where nothing is.
func (e *entries) obstacle() *Obstacle {
	if e.text == "" {
		return nil
	}
	return NewObstacle(TableUnsafe, e.text+" Take out the entry that is wrong first: that writes to the table alone. Or clear the drive, and bring back what is found.", e.numbers...).ClearedBy("delete", "clear")
}

// of tells that a partition's entry is concerned.
func (e *entries) of(number int) bool { return slices.Contains(e.numbers, number) }

// schemeFor proposes the table of a drive that has none, from what was found on it, with the reason.
func schemeFor(l *layout.Layout, spans []layout.Span, removable bool) (scheme, why string) {
	last := l.Size.At(l.Sector) - 1
	table := disk.LBA((128*128+l.Sector-1)/l.Sector) + 1 // each copy of a GPT, with its header
	if last > 1<<32-1 {
		return "gpt", "only a GPT can name all of a drive of more than 2 TiB"
	}
	for _, p := range spans {
		switch {
		case len(p.TypeID) == 2:
			return "mbr", p.Title() + " was in a table of the old kind (MBR)"
		case len(p.TypeID) == 36:
			return "gpt", p.Title() + " was in a GPT"
		case p.Start <= table || p.End > last-table:
			return "mbr", p.Title() + " lies where a GPT would"
		}
	}
	if removable {
		return "mbr", "cards and sticks have the old kind of table (MBR), which every device reads"
	}
	return "gpt", "nothing on it speaks for the old kind"
}

// On returns the facts with what is wrong with the entries of a drive's table, which everything that is asked of a
// partition depends on.
func (f Facts) On(l *layout.Layout) Facts {
	f.entries = brokenEntries(l)
	return f
}
