package compile

import (
	"jadetrail/core/plan"
	"jadetrail/core/survey"
)

// absorb brings a volume's files over, and takes its entry out of the table.
func absorb(sv *survey.Survey, col plan.Column, g Given) (d Done, err error) {
	if len(g.Files) > 0 { // else it is empty
		if d, err = Load(sv, col, g); err != nil {
			return d, err
		}
	}
	gone, err := takenOff(sv, col.Absorbed, g.Dev)
	d.Script = append(d.Script, gone...)
	return d, err
}
