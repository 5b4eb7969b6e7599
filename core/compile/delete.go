package compile

import (
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
)

// remove takes the entry out of the table, and erases its place if that is asked for:
// only then, so that a cut never leaves an entry over a place that is half erased.
func remove(sv *survey.Survey, col plan.Column, g Given) (script.Script, error) {
	s, err := takenOff(sv, col.Number, g.Dev)
	if err != nil || !col.Step.Erases() {
		return s, err
	}
	p, ok := sv.Layout.Find(col.Number)
	if !ok {
		return nil, fmt.Errorf("%w: there is no partition %d", ErrCannot, col.Number)
	}
	s = append(s, script.Op{Kind: script.NoReturn, Text: "from here on it is being erased"})
	s.Empty(p.Start.Offset(sv.Layout.Sector), p.Bytes)
	s.Barrier("erased")
	return s, nil
}

// takenOff takes a partition's entry out of the table. The record of a logical volume stays
// where it is, out of the chain.
func takenOff(sv *survey.Survey, number int, dev disk.Device) (script.Script, error) {
	s, err := recordAsItIs(sv, number, dev)
	if err != nil {
		return nil, err
	}
	out, err := sv.Table.Set(number, nil)
	return append(s, out...), err
}

// recordAsItIs writes the record of a logical volume anew as it is, so that undo brings it
// back whatever is put there afterwards. It comes before all that may lie there then.
func recordAsItIs(sv *survey.Survey, number int, dev disk.Device) (script.Script, error) {
	var s script.Script
	for _, e := range sv.Table.Entries {
		if e.Slot == number && e.Record != 0 {
			b, err := disk.ReadFull(dev, e.Record.Offset(sv.Layout.Sector), sv.Layout.Sector)
			if err != nil {
				return nil, err
			}
			s.Put(e.Record.Offset(sv.Layout.Sector), b)
		}
	}
	return s, nil
}
