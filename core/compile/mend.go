package compile

import (
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
)

// mend writes one copy of the table again from the other.
func mend(sv *survey.Survey, col plan.Column, _ Given) (script.Script, error) {
	return sv.Table.Mend(plan.Of[plan.Mending](col.Step).Keep)
}
