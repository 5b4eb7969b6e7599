package rehearse

import (
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
)

// kind is what a run must know of a kind of step and of no other. Each stands in the file of its name, and is
// registered in kinds.
type kind struct {
	// prepare keeps and enters what the step's own entry does not say, and opens what it brings in.
	prepare func(d *doing) error
	// resizes tells that it changes a volume's size, which must check sound for that.
	resizes bool
	// then is what is done further with the partition once it is as the step has left it so far: is, and as it
	// shall be: to.
	then func(after *survey.Survey, c plan.Column, is, to *layout.Span, over disk.Device) (script.Script, error)
}

// kinds are all kinds of steps.
var kinds = map[plan.Do]kind{
	plan.Absorb:         absorbing,
	plan.BringBack:      bringingBack,
	plan.Clear:          clearing,
	plan.Container:      {},
	plan.CopyBack:       copyingBack,
	plan.CopyOut:        {},
	plan.Create:         creation,
	plan.Delete:         deletion,
	plan.DropStartEntry: {},
	plan.Grow:           growth,
	plan.Label:          {},
	plan.Letter:         {},
	plan.Mend:           {},
	plan.NoteIdentity:   {},
	plan.ParkRecovery:   {},
	plan.Rebuild:        rebuilding,
	plan.Restart:        {},
	plan.Retag:          retagging,
	plan.Shrink:         shrinking,
	plan.Slide:          {},
	plan.StartOrder:     {},
	plan.UseRecovery:    {},
}
