package run

import (
	"jadetrail/core/compile"
)

var creation = kind{prepare: (*doing).create}

// create tests the place of a new partition where that is wanted, and opens the backup that fills it.
func (d *doing) create() error {
	if d.c.Step.Test {
		if err := d.test(d.o, d.c); err != nil {
			return err
		}
	}
	if d.c.Step.Backup == "" {
		return nil
	}
	m, err := d.o.Shelf.Load(d.c.Step.Backup)
	if err != nil {
		return err
	}
	r, err := d.o.Shelf.Reader(m)
	if err != nil {
		return err
	}
	d.close = append(d.close, r.Close)
	d.entry.Backup, d.given.Image = m.ID, compile.Image{Backup: m, Raw: r}
	d.sources[m.ID] = r
	d.meta.Backups = append(d.meta.Backups, m.ID)
	return nil
}
