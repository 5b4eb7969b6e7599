package prove

import (
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
)

// StartChecks tells from the bytes of a drive whether its PC will start.
func StartChecks(dev disk.Device, before *layout.Layout, sv *survey.Survey, was, is *pc.Facts) ([]plan.Check, error) {
	if was == nil || is == nil {
		return nil, nil
	}
	f := plan.Facts{PC: was, StartsHere: facts.StartsHere(before, was)}
	if f.StartsHere {
		if err := facts.Loaders(&f, dev, sv); err != nil {
			return nil, err
		}
	}
	return plan.StartChecks(before, sv.Layout, f, is), nil
}
