package compile

import (
	"fmt"
	"slices"

	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/table"
)

// container makes, resizes or takes away an extended container; only the table
// changes, and for a new one the record that its chain begins with.
func container(sv *survey.Survey, col plan.Column, _ Given) (script.Script, error) {
	p, there := col.Layout.Find(col.Number)
	i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == col.Number })
	act := plan.ContainerAct(plan.Of[plan.Containing](col.Step).Act)
	switch {
	case act == plan.Dissolve && i >= 0:
		return sv.Table.Set(col.Number, nil)
	case act == plan.MakeIt && there:
		var s script.Script
		record := make([]byte, sv.Layout.Sector)
		record[510], record[511] = 0x55, 0xaa
		s.Put(p.Start.Offset(sv.Layout.Sector), record)
		s.Barrier("first record of the chain written")
		set, err := sv.Table.Set(
			p.Number, table.MBREntry(table.Entry{TypeID: p.TypeID, Start: p.Start, End: p.End}, sv.Layout.Sector).Raw,
		)
		return append(s, set...), err
	case there && i >= 0 && p.Start != sv.Table.Entries[i].Start:
		return sv.Table.MoveHead(p.Start, sv.Table.Entries[i].Moved(p.Start, p.End))
	case there && i >= 0:
		e := sv.Table.Entries[i]
		return sv.Table.Set(e.Slot, e.Moved(p.Start, p.End))
	}
	return nil, fmt.Errorf("%w: there is no container %d", ErrCannot, col.Number)
}
