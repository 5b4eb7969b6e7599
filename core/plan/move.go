package plan

import (
	"fmt"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

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
			c.Notes = append(c.Notes, *NewObstacle(
				PlaceNamed,
				fmt.Sprintf(
					"The PC's recovery environment is in use from %s, and may be named by the place where that begins. Check afterwards that it is still in use.",
					p.Title(),
				),
				p.Number,
			))
		}
		if l.Scheme == "mbr" {
			q.UniqueID = layout.PlaceID(l.DiskID, q.Start.Offset(l.Sector))
			if c.PC != nil && q.UniqueID != p.UniqueID {
				c.PC = c.PC.Renamed(p.UniqueID, q.UniqueID)
				if f.PC.InOrder(p.UniqueID) || p.Active {
					c.Notes = append(c.Notes, *NewObstacle(
						PlaceNamed,
						fmt.Sprintf(
							"The PC names %s by the drive's signature and the place where it begins. Its start entry and its letter are mended with the move; check that it starts.",
							p.Title(),
						),
						p.Number,
					))
				}
			}
		}
	}
	c.Layout = l.With(parts)
}

// amountOf reads how much a partition gains or, when less is set, gives up, of at most
// most.
func amountOf(p *layout.Span, howMuch, to string, most disk.Bytes, less bool) (disk.Bytes, *Obstacle) {
	word := "gain"
	if less {
		word = "give up"
	}
	bad := func(format string, args ...any) *Obstacle {
		return NewObstacle(
			BadAmount,
			fmt.Sprintf(format, args...)+fmt.Sprintf(" %s can %s up to %s (%s).", p.Title(), word, most, most.Exact()),
			p.Number,
		)
	}
	if to == "" {
		by, err := disk.ParseAmount(howMuch, most)
		if err != nil {
			return 0, bad("%v.", err)
		}
		return by, nil
	}
	whole := p.Bytes
	if !less {
		whole += most
	}
	size, err := disk.ParseAmount(to, whole)
	by := size - p.Bytes
	if less {
		by = -by
	}
	switch {
	case err != nil:
		return 0, bad("%v.", err)
	case by <= 0 || by > most:
		return 0, bad("To %s is not possible.", to)
	}
	return by, nil
}

// validResize checks the words of a step that changes a size.
func (s Step) validResize(by, to, edge string) error {
	if s.Partition == "" || (by == "") == (to == "") {
		return fmt.Errorf("%s needs a partition and one of by and to", s.Do())
	}
	if _, err := disk.ParseAmount(by+to, 1<<60); err != nil {
		return err
	}
	if edge != "" && edge != "end" && edge != "head" {
		return fmt.Errorf("edge is %q, not end or head", edge)
	}
	return nil
}
