package rehearse

import (
	"slices"

	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

var deletion = kind{prepare: (*doing).delete}

// delete keeps a record of what is deleted, and enters what goes with it.
func (d *doing) delete() error {
	step := plan.Of[plan.Deletion](d.c.Step)
	rec, err := d.record(d.o, d.Over, d.c, d.facts)
	if err != nil {
		return err
	}
	d.entry.Record, d.entry.Backup, d.entry.Reason = rec.ID, rec.Backup, step.Release
	if step.Erase {
		if err := d.erased(d.o, d.c, d.i, rec); err != nil {
			return err
		}
	}
	if slices.ContainsFunc(d.c.Notes, func(n plan.Obstacle) bool { return n.Code == plan.StartEntryLeft }) {
		left := trail.Entry{
			Act: trail.Act(plan.DropStartEntry), Partition: d.c.Number, Reason: "so that it can be deleted",
		}
		left.Text = rec.Span.Title() + " left the PC's start order"
		if err := d.Enter(d.o, left); err != nil {
			return err
		}
	}
	return d.lifted(d.o, d.c, &rec.Span)
}

// recordOf keeps a record of another partition than the step's own that goes with it, and enters why it may.
func (d *doing) recordOf(number int) (*trail.Record, error) {
	gone := d.c
	gone.Number = number
	rec, err := d.record(d.o, d.Over, gone, d.facts)
	if err != nil {
		return nil, err
	}
	return rec, d.lifted(d.o, d.c, &rec.Span)
}
