package rehearse

import (
	"fmt"

	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

var absorbing = kind{prepare: (*doing).absorb, then: grownTo}

// absorb keeps a record of the volume whose files move, and enters its deletion.
func (d *doing) absorb() error {
	step := plan.Of[plan.Absorbing](d.c.Step)
	rec, err := d.recordOf(d.c.Absorbed)
	if err != nil {
		return err
	}
	into, _ := d.c.Layout.Find(d.c.Number)
	x := trail.Entry{
		Act: trail.ActDelete, Record: rec.ID, Partition: d.c.Absorbed, Before: d.Survey.Layout, Reason: step.Release,
	}
	x.Text = fmt.Sprintf(
		"Delete %s: its files are in the folder %s of %s", rec.Span.Title(), step.Folder, into.Title(),
	)
	return d.Enter(d.o, x)
}
