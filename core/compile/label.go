package compile

import (
	"fmt"

	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/volume/ntfs"
)

// relabel gives a volume another label.
func relabel(sv *survey.Survey, col plan.Column, _ Given) (script.Script, error) {
	p, ok := sv.Layout.Find(col.Number)
	v, can := sv.Volume(col.Number).(*ntfs.Volume)
	if !ok || !can {
		return nil, fmt.Errorf("%w: partition %d cannot be labelled", ErrCannot, col.Number)
	}
	s, err := v.SetLabel(plan.Of[plan.Labelling](col.Step).Label)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	return s.Shift(p.Start.Offset(sv.Layout.Sector)), nil
}
