package rehearse

import (
	"jadetrail/core/plan"
	"jadetrail/core/ran"
)

var copyingBack = kind{prepare: (*doing).copyBack}

// copyBack opens the backup whose files come back; what was put aside on another volume comes from there.
func (d *doing) copyBack() error {
	step := plan.Of[plan.CopyingBack](d.c.Step)
	if d.c.From != 0 {
		return nil
	}
	a := ran.Arrival{Number: d.c.Number, Backup: step.Backup, Only: step.Only, Folder: step.Folder}
	in, err := d.Opened(d.o.Shelf, &a)
	if err != nil {
		return err
	}
	d.given.Files, d.given.Source = in, a.Source()
	d.Meta.Arrivals = append(d.Meta.Arrivals, a)
	d.entry.Backup = step.Backup
	return nil
}
