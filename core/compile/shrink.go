package compile

import (
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume/ntfs"
)

// shrink makes the volume shorter first, and then its partition: the end of it, where it is
// to give up its head too. What lies behind the new end is moved before.
func shrink(sv *survey.Survey, col plan.Column, g Given) (script.Script, error) {
	p, ok := sv.Layout.Find(col.Number)
	q, left := col.Layout.Find(col.Number)
	i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == col.Number })
	v, can := sv.Volume(col.Number).(shrinker)
	if !ok || !left || i < 0 || !can {
		return nil, fmt.Errorf("%w: partition %d cannot be made smaller", ErrCannot, col.Number)
	}
	// What is to be cut is the volume as it is when each part before is done.
	over, err := disk.NewOverlay(survey.Window(g.Dev, *p), "")
	if err != nil {
		return nil, err
	}
	defer over.Close()
	var s script.Script
	if n, ok := v.(*ntfs.Volume); ok {
		parts := []func(n *ntfs.Volume) (script.Script, error){func(n *ntfs.Volume) (script.Script, error) { return n.Vacate(q.Bytes) }}
		if files, kept := n.RestorePoints(); kept && plan.Of[plan.Shrinking](col.Step).DropRestorePoints {
			parts = slices.Insert(parts, 0, func(n *ntfs.Volume) (script.Script, error) { return n.Remove(files, g.Now) })
		}
		for _, part := range parts {
			more, e := part(n)
			if err = e; err == nil && len(more) > 0 {
				if err := more.Apply(over, nil); err != nil {
					return nil, err
				}
				s = append(s, more...)
				n, err = ntfs.Open(over)
			}
			if err != nil {
				return nil, fmt.Errorf("%w: %w", ErrCannot, err)
			}
		}
		v = n
	}
	cut, err := v.Shrink(q.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannot, err)
	}
	s = append(s, cut...)
	e := sv.Table.Entries[i]
	set, err := sv.Table.Set(e.Slot, e.Moved(p.Start, p.Start+(q.End-q.Start)))
	return append(s.Shift(p.Start.Offset(sv.Layout.Sector)), set...), err
}

// shrinker is a file system that can be made shorter.
type shrinker interface {
	Shrink(size disk.Bytes) (script.Script, error)
}
