package route

import (
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
)

// split makes several volumes of one.
func (s *search) split() {
	p, o := plan.Named(s.l, s.g.Split)
	if o != nil {
		s.block(o)
		return
	}
	a := plan.ShrinkAct(s.l, p, s.f)
	if a.Obstacle != nil {
		s.block(a.Obstacle)
		return
	}
	s.Most = a.Limit
	sum := disk.Bytes(0)
	var fresh []plan.Creation
	for i, text := range s.g.Parts {
		size, err := disk.ParseAmount(text, a.Limit)
		if err != nil {
			s.block(plan.NewObstacle(
				plan.BadAmount, fmt.Sprintf("%v. %s can give up %s (%s).", err, p.Title(), a.Limit, a.Limit.Exact()),
				p.Number,
			))
			return
		}
		size = size.Up(disk.Grid)
		sum += size
		x := plan.Creation{Size: fmt.Sprintf("%d B", size), Type: "basic", Format: "ntfs", As: fmt.Sprintf("part%d", i+1)}
		if p.Container != 0 {
			x.In = "container"
			sum += disk.Grid // for its record
		}
		fresh = append(fresh, x)
	}
	if sum > a.Limit {
		s.block(plan.NewObstacle(
			plan.GapTooSmall,
			fmt.Sprintf(
				"%s can give up %s (%s), and the new volumes need %s.", p.Title(), a.Limit, a.Limit.Exact(), sum,
			),
			p.Number,
		))
		return
	}
	edge := (p.End + 1).Offset(s.l.Sector)
	at := (edge - sum).Up(disk.Grid)
	for i := range fresh { // each behind the one before
		fresh[i].StartLBA = at.At(s.l.Sector)
		size, _ := disk.ParseAmount(fresh[i].Size, 1<<60)
		if at += size; p.Container != 0 {
			at += disk.Grid
		}
	}
	steps := []plan.Step{{Partition: s.g.Split, Body: plan.Shrinking{By: fmt.Sprintf("%d B", sum)}}}
	for _, x := range fresh {
		steps = append(steps, plan.Step{Body: x})
	}
	s.add(nil, nil, steps)
	if s.replaceable(p) {
		s.replace(p, nil, p.Bytes-sum)
		for i := range s.Routes { // what it gives up becomes the new ones
			r := &s.Routes[i]
			if slices.ContainsFunc(r.Plan.Steps, func(x plan.Step) bool { return x.Do() == plan.CopyOut }) {
				steps := slices.Clone(r.Plan.Steps)
				for _, x := range fresh {
					x.StartLBA = 0
					steps = append(steps, plan.Step{Body: x})
				}
				*r = Route{}
				s.add(nil, nil, steps)
			}
		}
		s.Routes = slices.DeleteFunc(s.Routes, func(r Route) bool { return r.ID == "" })
	}
}
