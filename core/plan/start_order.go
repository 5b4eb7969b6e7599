package plan

import (
	"errors"
	"fmt"
	"strings"

	"jadetrail/core/layout"
	"jadetrail/core/pc"
)

// Ordering is what is said of the start order.
type Ordering struct {
	Wait *int `json:"wait_seconds,omitempty"` // for how long the PC asks which system to start, nil for as long as before
}

func (Ordering) Do() Do { return StartOrder }

// ordering says which system the PC starts by default, and how long it asks.
var ordering = kind{
	blank: Ordering{},
	valid: validStartOrder, lay: onPC(startOrder), whole: noPartition, ofThePC: true, tableOnly: true,
}

func validStartOrder(s Step) error {
	step := Of[Ordering](s)
	switch {
	case s.Partition == "" && step.Wait == nil:
		return errors.New("start-order names neither a partition nor a time to wait")
	case step.Wait != nil && (*step.Wait < 0 || *step.Wait > pc.MaxWait):
		return fmt.Errorf("wait_seconds is %d, not 0 to %d", *step.Wait, pc.MaxWait)
	}
	return nil
}

// startOrder puts a system first, or changes for how long the PC asks, or both.
func startOrder(c *Column, l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	step := Of[Ordering](c.Step)
	c.Title = "Change the start order"
	if o := unknownPC(f); o != nil {
		return o
	}
	after := f.PC
	var said []string
	if p != nil {
		if o := isSystem(p, f); o != nil {
			return o
		}
		if p.Volume == nil || p.Volume.Hibernated && !f.PC.Starts(p.UniqueID) {
			return NewObstacle(
				Hibernated, fmt.Sprintf("%s is hibernated; start it once and shut it down first.", p.Title()),
				p.Number,
			).ClearedBy("shut-down")
		}
		after = after.WithStart(p.UniqueID, p.Title())
		said = append(said, fmt.Sprintf("%s is the system that the PC starts", p.Title()))
	}
	if step.Wait != nil {
		var err error
		if after, err = after.WithWait(*step.Wait); err != nil {
			return NewObstacle(BadAmount, err.Error())
		}
		said = append(said, fmt.Sprintf("the boot menu waits %d s", after.Wait))
	}
	c.Detail, c.PC, c.Layout = strings.Join(said, "; "), after, started(l, after)
	return nil
}

// started is the layout with the systems as the PC starts them.
func started(l *layout.Layout, after *pc.Facts) *layout.Layout {
	parts := l.Partitions()
	for i := range parts {
		q := &parts[i]
		if q.Role != layout.StartSystem && q.Role != layout.OtherSystem {
			continue
		}
		q.Role, q.Note = layout.OtherSystem, layout.NoteUnstarted
		switch {
		case after.Starts(q.UniqueID):
			q.Role, q.Note = layout.StartSystem, ""
		case after.InOrder(q.UniqueID):
			q.Note = layout.NoteOffered
		}
	}
	return l.With(parts)
}
