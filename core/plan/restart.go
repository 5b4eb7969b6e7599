package plan

import (
	"fmt"

	"jadetrail/core/layout"
	"jadetrail/core/pc"
)

// restarting shuts the PC down before the steps that follow, and starts it after them.
var restarting = kind{
	valid: func(Step) error { return nil }, lay: layRestart, whole: always, tableOnly: true,
	counted: func(sum *tally, _ Column, _ *layout.Span, _ *layout.Layout) { sum.Restarts++ },
}

// restartSeconds is about how long a PC takes to shut down and to come up again.
const restartSeconds = 180

// layRestart shuts the PC down before the steps that follow; it is started again when all are
// done. Nothing holds a volume open meanwhile.
func layRestart(c *Column, l *layout.Layout, _ *layout.Span, f Facts) {
	c.Title, c.Detail = "Restart the PC", "shut down before the steps that follow, started again after them"
	switch {
	case f.PC == nil:
		c.Obstacles = append(c.Obstacles, *obstacle(NoPC, "The facts about this drive's PC are not known.").clear("read-facts"))
		return
	case f.PC.State != pc.Running:
		c.Obstacles = append(c.Obstacles, *obstacle(NothingToDo, "The PC is off already: nothing needs a restart."))
		return
	}
	c.PC = f.PC.SwitchedOff()
	c.Layout = unheld(l, func(p layout.Span) {
		if p.Loses != "" {
			c.Notes = append(c.Notes, *obstacle(Held, fmt.Sprintf("%s holds %s open. Shutting down before it is closed there loses %s.", p.Held, p.Title(), p.Loses), p.Number))
		}
	})
}

// unheld is a layout of which nothing is held open; seen is called for what was.
func unheld(l *layout.Layout, seen func(p layout.Span)) *layout.Layout {
	parts := l.Partitions()
	for i := range parts {
		if parts[i].Held != "" {
			seen(parts[i])
			parts[i].Held, parts[i].Loses = "", ""
		}
	}
	return l.With(parts)
}

// aroundRestart adds the routes that there are when the PC is shut down for them.
func (s *search) aroundRestart() {
	held := 0
	l := unheld(s.l, func(layout.Span) { held++ })
	if held == 0 || s.f.PC == nil || s.f.PC.State != pc.Running {
		return
	}
	f := s.f
	f.PC = f.PC.SwitchedOff()
	for _, r := range Routes(l, f, s.g).Routes {
		steps := append([]Step{{Do: Restart}}, r.Plan.Steps...)
		cols := Lay(s.l, s.f, steps)
		if last := cols[len(cols)-1]; last.Layout == nil || len(last.Obstacles) > 0 {
			continue
		}
		r.Plan.Steps, r.Price = steps, PriceOf(s.l, cols, s.f)
		r.Title += "; around a restart"
		r.ID += "-restart"
		s.Routes = append(s.Routes, r)
	}
}
