package route

import (
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

// room makes room for a new volume: in a gap that is there, with what may go, or by moving
// what stands between gaps.
func (s *search) room() {
	fresh := plan.Step{Body: plan.Creation{Size: s.g.Room, Type: "basic", Format: "ntfs", As: "new"}}
	parts := slices.DeleteFunc(s.l.ByPlace(), func(p layout.Span) bool { return p.Container != 0 })
	most := func(l *layout.Layout) disk.Bytes {
		if g := plan.BiggestGap(l, func(g layout.Span) bool { return g.Container == 0 }); g != nil {
			return l.Room(*g)
		}
		return 0
	}
	s.Most = most(s.l)
	s.try(nil, fresh)
	// Neighbours that may go, as few of them as make the room.
	for i := range parts {
		for k := i; k < min(len(parts), i+mostGone); k++ {
			if o := s.mayGo(&parts[k]); o != nil {
				break
			}
			after := plan.Lay(s.l, s.f, deletions(parts[i:k+1]))
			if end := after[len(after)-1].Layout; end != nil {
				s.Most = max(s.Most, most(end))
			}
			before := len(s.Routes)
			if s.try(parts[i:k+1], fresh); len(s.Routes) > before {
				break
			}
		}
	}
	s.gather(fresh)
}

// gather moves partitions so that gaps come together where a new volume is to be, with and
// without volumes that give something up.
func (s *search) gather(fresh plan.Step) {
	want, err := disk.ParseAmount(s.g.Room, 1<<60)
	if err != nil { // a share of what there is needs nothing moved
		return
	}
	need := int64((want + disk.Grid - 1) / disk.Grid)
	for _, give := range []givers{nil, s.giving(&layout.Span{})} {
		links, _ := chain(s.l, 0, nil, give, s.f)
		best, steps := disk.Bytes(-1), []plan.Step(nil)
		inside := false
		for i := 0; i+1 < len(links); i++ {
			if links[i].edge {
				inside = links[i].lo == links[i].p.Start
			}
			if inside {
				continue
			}
			right, left := links[i+1:], slices.Clone(links[:i+1])
			slices.Reverse(left)
			gap := between(s.l, &links[i], &links[i+1])
			lefts := append([]way{{}}, makeWay(s.l, left, true, need)...)
			rights := append([]way{{}}, makeWay(s.l, right, false, need)...)
			for a := range lefts {
				for b := range rights {
					s.Most = max(s.Most, disk.Bytes(gap+lefts[a].mib+rights[b].mib)*disk.Grid)
					price := lefts[a].price + rights[b].price
					if gap+lefts[a].mib+rights[b].mib < need || best >= 0 && price >= best || price == 0 {
						continue
					}
					best, steps = price, nil
					x := min(need-gap, rights[b].mib)
					if x > 0 {
						steps = append(steps, stepsFor(right, &rights[b], x, false)...)
					}
					if y := need - gap - max(x, 0); y > 0 {
						steps = append(steps, stepsFor(left, &lefts[a], y, true)...)
					}
				}
			}
		}
		if best >= 0 {
			s.try(nil, append(steps, fresh)...)
		}
	}
}
