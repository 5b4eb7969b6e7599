package rehearse

import (
	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
)

var shrinking = kind{resizes: true, then: movedUp}

// movedUp lets a volume that was made smaller at its end slide along, where it is its head that gives room.
func movedUp(after *survey.Survey, c plan.Column, is, to *layout.Span, over disk.Device) (script.Script, error) {
	if to.Start <= is.Start {
		return nil, nil
	}
	return compile.Slid(after, c, over)
}
