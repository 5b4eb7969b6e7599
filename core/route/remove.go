package route

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

// remove deletes what is unwanted and gives its space to a volume, or shares it among
// several.
func (s *search) remove() {
	var gone []layout.Span
	for _, name := range s.g.Remove {
		p, o := plan.Named(s.l, name)
		if o == nil && numbers(gone)[p.Number] {
			continue
		}
		if o == nil {
			o = plan.AgainstDeleting(s.l, p, s.f)
		}
		if o != nil && o.Code == plan.HasVolumes && !slices.ContainsFunc(plan.InsideOf(s.l, p.Number), func(n int) bool { return !slices.Contains(s.g.Remove, strconv.Itoa(n)) }) {
			o = nil // they go first
		}
		if o != nil {
			s.block(o)
			continue
		}
		gone, s.Most = append(gone, *p), s.Most+p.Bytes
	}
	if len(s.Obstacles) > 0 || len(gone) == 0 {
		return
	}
	slices.SortStableFunc(gone, func(a, b layout.Span) int { return cmp.Compare(b.Container, a.Container) })
	receivers := s.g.ShareWith
	if s.g.GiveTo != "" {
		receivers = append([]string{s.g.GiveTo}, receivers...)
	}
	if len(receivers) == 0 {
		s.try(gone)
		return
	}
	after := s.l.With(slices.DeleteFunc(s.l.Partitions(), func(p layout.Span) bool { return numbers(gone)[p.Number] }))
	share := (s.Most / disk.Bytes(len(receivers))).Down(disk.Grid)
	if len(receivers) == 1 {
		s.giveAll(receivers[0], gone)
	}
	// By growing alone, and by whatever else it takes.
	for _, onlyGrow := range []bool{true, false} {
		l, steps, ok := after, []plan.Step(nil), true
		for _, name := range receivers {
			r, o := plan.Named(l, name)
			if o == nil {
				o = plan.Resizable(r, s.f)
			}
			if o != nil {
				s.block(o)
				return
			}
			var more []plan.Step
			if onlyGrow {
				room, o := plan.RoomToGrow(l, r, s.f)
				if o != nil {
					s.block(o)
					ok = false
					break
				}
				by := "all"
				if most := (room - r.End).Offset(l.Sector); len(receivers) > 1 && most > share {
					by = fmt.Sprintf("%d B", share)
				}
				more = []plan.Step{{Partition: name, Body: plan.Growth{By: by}}}
			} else {
				x := solve(l, r, 0, nil, nil, s.f)
				if x = solve(l, r, min(share, x.most), nil, nil, s.f); x.price < 0 || len(x.steps) == 0 {
					ok = false
					break
				}
				more = x.steps
			}
			steps = append(steps, more...)
			cols := plan.Lay(l, s.f, more)
			if l = cols[len(cols)-1].Layout; l == nil {
				s.Obstacles = append(s.Obstacles, cols[len(cols)-1].Obstacles...)
				ok = false
				break
			}
		}
		if ok {
			s.try(gone, steps...)
		}
	}
}

// giveAll looks for the ways in which one volume gains as much as what goes had, with
// whatever else may go.
func (s *search) giveAll(name string, gone []layout.Span) {
	r, o := plan.Named(s.l, name)
	if o == nil {
		o = plan.Resizable(r, s.f)
	}
	if o != nil || numbers(gone)[r.Number] {
		return // that is said elsewhere
	}
	var may []layout.Span
	for _, q := range s.l.ByPlace() {
		if q.Number != r.Number && q.Role != layout.Container && !numbers(gone)[q.Number] && s.mayGo(&q) == nil {
			may = append(may, q)
		}
	}
	for _, set := range selections(may, r) {
		all := slices.Concat(gone, set)
		x := solve(s.l, r, 0, numbers(all), nil, s.f)
		if x = solve(s.l, r, min(s.Most, x.most).Down(disk.Grid), numbers(all), nil, s.f); x.price >= 0 && len(x.steps) > 0 {
			s.try(all, x.steps...)
		}
	}
}
