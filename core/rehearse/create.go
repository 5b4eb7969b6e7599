package rehearse

import (
	"fmt"

	"jadetrail/core/compile"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/ran"
)

var creation = kind{prepare: (*doing).create}

// test reads every sector of where a partition is to be made; nothing is made over one that
// cannot be read.
func (p *Run) test(o Options, c plan.Column) error {
	q, ok := c.Layout.Find(c.Number)
	if !ok {
		return fmt.Errorf("%s: there is no partition %d in the plan", c.Title, c.Number)
	}
	x := ran.Tested{Title: q.Title(), Off: q.Start.Offset(c.Layout.Sector), Len: q.Bytes}
	p.Meta.Tested = append(p.Meta.Tested, x)
	bad, err := prove.Unreadable(x, o.Proving(), "reading every sector of the new partition's place")
	if err != nil {
		return err
	}
	if len(bad) > 0 {
		return fmt.Errorf(
			"%w: of the place for %s it cannot read %s. Nothing was written. Make the partition where they are not",
			prove.ErrHurt, x.Title, prove.Sectors(bad),
		)
	}
	return nil
}

// create tests the place of a new partition where that is wanted, and opens the backup that fills it.
func (d *doing) create() error {
	step := plan.Of[plan.Creation](d.c.Step)
	if step.Test {
		if err := d.test(d.o, d.c); err != nil {
			return err
		}
	}
	if step.Backup == "" {
		return nil
	}
	m, err := d.o.Shelf.Load(step.Backup)
	if err != nil {
		return err
	}
	r, err := d.o.Shelf.Reader(m)
	if err != nil {
		return err
	}
	d.close = append(d.close, r.Close)
	d.entry.Backup, d.given.Image = m.ID, compile.Image{Backup: m, Raw: r}
	d.Sources[m.ID] = r
	d.Meta.Backups = append(d.Meta.Backups, m.ID)
	return nil
}
