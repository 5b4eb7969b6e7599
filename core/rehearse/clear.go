package rehearse

import (
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

var clearing = kind{prepare: (*doing).clear}

// clear keeps a record of each partition, and enters its deletion.
func (d *doing) clear() error {
	step := plan.Of[plan.Clearing](d.c.Step)
	d.entry.Reason = step.Release
	for _, q := range d.c.Cleared {
		rec, err := d.recordOf(q.Number)
		if err != nil {
			return err
		}
		x := trail.Entry{
			Act: trail.ActDelete, Partition: q.Number, Record: rec.ID, Backup: rec.Backup, Before: d.Survey.Layout,
			Reason: step.Release,
		}
		x.Text = "Delete " + rec.Span.Title() + ": the drive is cleared"
		if err := d.Enter(d.o, x); err != nil {
			return err
		}
	}
	return nil
}
