package compile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/table"
)

// retag changes what the table says of a partition.
func retag(sv *survey.Survey, col plan.Column, _ Given) (script.Script, error) {
	p, ok := col.Layout.Find(col.Number)
	i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == col.Number })
	if !ok || i < 0 {
		return nil, fmt.Errorf("%w: there is no partition %d", ErrCannot, col.Number)
	}
	attrs, err := strconv.ParseUint(strings.TrimPrefix(p.Attributes, "0x"), 16, 64)
	if err != nil {
		return nil, fmt.Errorf("%w: attributes %q", ErrCannot, p.Attributes)
	}
	e := sv.Table.Entries[i]
	raw, err := e.Retagged(p.TypeID, p.Name, attrs, p.Active)
	if err != nil {
		return nil, err
	}
	return sv.Table.Set(e.Slot, raw)
}
