package rehearse

import (
	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
)

var growth = kind{resizes: true, then: grownTo}

// grownTo lets a volume grow to where it shall end: of one that took another in, once the files are there; of one
// that grows at its head, once it lies there.
func grownTo(after *survey.Survey, c plan.Column, is, to *layout.Span, _ disk.Device) (script.Script, error) {
	if to.End <= is.End {
		return nil, nil
	}
	return compile.GrowTo(after, c)
}
