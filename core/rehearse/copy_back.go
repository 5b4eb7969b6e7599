package rehearse

import (
	"jadetrail/core/ran"
)

var copyingBack = kind{prepare: (*doing).copyBack}

// copyBack opens the backup whose files come back; what was put aside on another volume comes from there.
func (d *doing) copyBack() error {
	if d.c.From != 0 {
		return nil
	}
	a := ran.Arrival{Number: d.c.Number, Backup: d.c.Step.Backup, Only: d.c.Step.Only, Folder: d.c.Step.Folder}
	in, err := d.Opened(d.o.Shelf, &a)
	if err != nil {
		return err
	}
	d.given.Files, d.given.Source = in, a.Source()
	d.Meta.Arrivals = append(d.Meta.Arrivals, a)
	d.entry.Backup = d.c.Step.Backup
	return nil
}
