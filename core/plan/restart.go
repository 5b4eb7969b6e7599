package plan

import (
	"fmt"

	"jadetrail/core/layout"
	"jadetrail/core/pc"
)

// Restarting is a restart of the PC: there is nothing to say of it.
type Restarting struct{}

func (Restarting) Do() Do { return Restart }

// restarting shuts the PC down before the steps that follow, and starts it after them.
var restarting = kind{
	blank: Restarting{},
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
		c.Obstacles = append(c.Obstacles, *NewObstacle(NoPC, "The facts about this drive's PC are not known.").ClearedBy("read-facts"))
		return
	case f.PC.State != pc.Running:
		c.Obstacles = append(c.Obstacles, *NewObstacle(NothingToDo, "The PC is off already: nothing needs a restart."))
		return
	}
	c.PC = f.PC.SwitchedOff()
	c.Layout = Unheld(l, func(p layout.Span) {
		if p.Loses != "" {
			c.Notes = append(c.Notes, *NewObstacle(
				Held,
				fmt.Sprintf(
					"%s holds %s open. Shutting down before it is closed there loses %s.", p.Held, p.Title(), p.Loses,
				),
				p.Number,
			))
		}
	})
}

// Unheld is a layout of which nothing is held open; seen is called for what was.
func Unheld(l *layout.Layout, seen func(p layout.Span)) *layout.Layout {
	parts := l.Partitions()
	for i := range parts {
		if parts[i].Held != "" {
			seen(parts[i])
			parts[i].Held, parts[i].Loses = "", ""
		}
	}
	return l.With(parts)
}
