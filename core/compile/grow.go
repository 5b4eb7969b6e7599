package compile

import (
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/table"
)

// growOrSlide makes a volume longer at its end, or moves it toward its head, where it grows when it is there.
func growOrSlide(sv *survey.Survey, col plan.Column, g Given) (script.Script, error) {
	if plan.Of[plan.Growth](col.Step).Edge == "head" {
		return Slid(sv, col, g.Dev)
	}
	return grow(sv, col)
}

// grow lengthens the table's entry first: a partition that is longer than its
// volume is sound at every moment, the reverse is not.
func grow(sv *survey.Survey, col plan.Column) (script.Script, error) {
	p, ok := col.Layout.Find(col.Number)
	i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == col.Number })
	if !ok || i < 0 {
		return nil, fmt.Errorf("%w: partition %d cannot be grown", ErrCannot, col.Number)
	}
	e := sv.Table.Entries[i]
	s, err := sv.Table.Set(e.Slot, e.Moved(p.Start, p.End))
	if err != nil {
		return nil, err
	}
	inside, err := lengthen(sv, p)
	return append(s, inside...), err
}

// lengthen makes the volume in a partition as long as p is.
func lengthen(sv *survey.Survey, p *layout.Span) (script.Script, error) {
	v, can := sv.Volume(p.Number).(grower)
	if !can {
		return nil, fmt.Errorf("%w: partition %d cannot be grown", ErrCannot, p.Number)
	}
	s, err := v.Grow(p.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	return s.Shift(p.Start.Offset(sv.Layout.Sector)), nil
}

// grower is a file system that can be made longer.
type grower interface {
	Grow(size disk.Bytes) (script.Script, error)
}

// GrowWithin returns the script that makes a volume fill its partition.
func GrowWithin(sv *survey.Survey, number int) (script.Script, error) {
	p, ok := sv.Layout.Find(number)
	if !ok {
		return nil, fmt.Errorf("%w: there is no partition %d", ErrCannot, number)
	}
	return lengthen(sv, p)
}

// GrowTo returns the script that makes the partition of a column as large as it is planned,
// and its volume with it.
func GrowTo(sv *survey.Survey, col plan.Column) (script.Script, error) { return grow(sv, col) }
