package route

import (
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
)

// aroundRestart adds the routes that there are when the PC is shut down for them.
func (s *search) aroundRestart() {
	held := 0
	l := plan.Unheld(s.l, func(layout.Span) { held++ })
	if held == 0 || s.f.PC == nil || s.f.PC.State != pc.Running {
		return
	}
	f := s.f
	f.PC = f.PC.SwitchedOff()
	for _, r := range Routes(l, f, s.g).Routes {
		steps := append([]plan.Step{{Body: plan.Restarting{}}}, r.Plan.Steps...)
		cols := plan.Lay(s.l, s.f, steps)
		if last := cols[len(cols)-1]; last.Layout == nil || len(last.Obstacles) > 0 {
			continue
		}
		r.Plan.Steps, r.Price = steps, plan.PriceOf(s.l, cols, s.f)
		r.Title += "; around a restart"
		r.ID += "-restart"
		s.Routes = append(s.Routes, r)
	}
}
