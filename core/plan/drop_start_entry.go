package plan

import (
	"fmt"

	"jadetrail/core/layout"
)

// DroppingStartEntry is a system that leaves the start order: its partition says all.
type DroppingStartEntry struct{}

func (DroppingStartEntry) Do() Do { return DropStartEntry }

// droppingStartEntry takes a system out of the PC's start order.
var droppingStartEntry = kind{
	blank: DroppingStartEntry{},
	valid: Step.named, lay: onPC(dropStartEntry), ofThePC: true, tableOnly: true,
}

// isSystem is what stands against naming a partition in the start order.
func isSystem(p *layout.Span, f Facts) *Obstacle {
	if o := unknownPC(f, p.Number); o != nil {
		return o
	}
	if p.Role != layout.StartSystem && p.Role != layout.OtherSystem {
		return NewObstacle(NoSystem, fmt.Sprintf("%s holds no system.", p.Title()), p.Number)
	}
	return nil
}

// mayDrop is what stands against taking a system out of the start order.
func mayDrop(p *layout.Span, f Facts) *Obstacle {
	if o := isSystem(p, f); o != nil {
		return o
	}
	switch {
	case f.PC.Starts(p.UniqueID):
		return NewObstacle(IsStart, "The PC starts this system by default, so it stays in the start order. Name another start system first.", p.Number).ClearedBy("start-order")
	case !f.PC.InOrder(p.UniqueID):
		return NewObstacle(NotInOrder, "The PC does not offer to start this system.", p.Number)
	}
	return nil
}

func dropStartEntry(c *Column, l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	c.Title = fmt.Sprintf("Take %s out of the start order", p.Title())
	if o := mayDrop(p, f); o != nil {
		return o
	}
	after, err := f.PC.WithoutEntry(p.UniqueID)
	if err != nil {
		return NewObstacle(NotInOrder, err.Error(), p.Number)
	}
	c.PC, c.Detail = after, fmt.Sprintf(
		"the PC offers %d of %d systems from then on", len(after.Order), len(f.PC.Order),
	)
	c.Layout = started(l, after)
	return nil
}
