package compile

import (
	"jadetrail/core/plan"
	"jadetrail/core/survey"
)

// acrossIfAny brings over what a step takes from another volume of the drive, if it does.
func acrossIfAny(sv *survey.Survey, col plan.Column, g Given) (Done, error) {
	if col.From == 0 {
		return Done{}, nil
	}
	return copyBack(sv, col, g)
}
