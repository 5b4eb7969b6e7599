package route

import (
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

// recovery gives the recovery partition a new place, or does without it.
func (s *search) recovery() {
	var r *layout.Span
	for _, p := range s.l.ByPlace() {
		if p.Role == layout.Recovery && (r == nil || s.f.PC != nil && s.f.PC.Recovery != nil && strings.EqualFold(p.UniqueID, s.f.PC.Recovery.Partition)) {
			r = &p
		}
	}
	if r == nil {
		s.block(plan.NewObstacle(plan.NoSuch, "There is no recovery partition."))
		return
	}
	if o := plan.AgainstDeleting(s.l, r, s.f); o != nil {
		s.block(o)
		return
	}
	s.Most = r.Bytes
	n := strconv.Itoa(r.Number)
	if s.g.Recovery == Without {
		s.add([]layout.Span{*r}, nil, []plan.Step{{Partition: n, Body: plan.Deletion{}}})
		s.add(nil, nil, []plan.Step{{Partition: n, Body: plan.Parking{}}, {Partition: n, Body: plan.Deletion{}}})
		return
	}
	for _, by := range []string{"all", "-all"} {
		s.add(nil, nil, []plan.Step{{Partition: n, Body: plan.Sliding{By: by}}})
	}
	for _, g := range s.l.Spans {
		if g.Kind != layout.Gap || g.Why != layout.Free || g.Container != 0 || s.l.Room(g) < r.Bytes {
			continue
		}
		again := plan.Again(s.l, r)
		again.As = "recovery"
		// At the end of the gap: what lies before it can still grow.
		again.StartLBA = ((g.End + 1).Offset(s.l.Sector).Down(disk.Grid) - r.Bytes.Up(disk.Grid)).At(s.l.Sector)
		s.add(
			[]layout.Span{*r}, r,
			[]plan.Step{
				{Partition: n, Body: plan.Parking{}}, {Partition: n, Body: plan.Deletion{}}, {Body: again},
				{Partition: "recovery", Body: plan.UsingRecovery{}},
			},
		)
		copies := again
		copies.As = "again"
		s.add(
			nil, nil,
			[]plan.Step{
				{Partition: n, Body: plan.CopyingOut{As: "kept"}}, {Partition: n, Body: plan.Deletion{}}, {Body: copies},
				{Partition: "again", Body: plan.CopyingBack{Backup: "kept"}},
			},
		)
	}
}
