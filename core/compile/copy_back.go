package compile

import (
	"fmt"
	"time"

	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// copyBack puts files into a volume; what was put aside on another one goes from there.
func copyBack(sv *survey.Survey, col plan.Column, g Given) (Done, error) {
	d, err := Load(sv, col, g)
	if err != nil || !col.Moves {
		return d, err
	}
	gone, err := TakeOut(sv, col.From, []string{col.Base}, g.Now)
	d.Script = append(d.Script, gone...)
	return d, err
}

// Load returns the script that puts files into a column's volume.
func Load(sv *survey.Survey, col plan.Column, g Given) (Done, error) {
	p, ok := sv.Layout.Find(col.Number)
	v, can := sv.Volume(col.Number).(volume.Loader)
	if !ok || !can {
		return Done{}, fmt.Errorf("%w: no files can be put into partition %d", ErrCannot, col.Number)
	}
	l, err := v.Load(col.Step.Folder(), g.Files, volume.LoadOptions{Source: g.Source, Now: g.Now, Onto: g.Onto})
	if err != nil {
		return Done{}, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	return Done{l.Script.Shift(p.Start.Offset(sv.Layout.Sector)), &l.Arrival}, nil
}

// TakeOut returns the script that takes files and folders out of a volume.
func TakeOut(sv *survey.Survey, number int, paths []string, now time.Time) (script.Script, error) {
	p, ok := sv.Layout.Find(number)
	v, can := sv.Volume(number).(volume.Keeper)
	if !ok || !can {
		return nil, fmt.Errorf("%w: nothing can be taken out of partition %d", ErrCannot, number)
	}
	s, err := v.Remove(paths, now)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	return s.Shift(p.Start.Offset(sv.Layout.Sector)), nil
}
