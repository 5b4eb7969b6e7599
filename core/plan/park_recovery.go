package plan

import (
	"fmt"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// Parking is what is said of a recovery environment that is parked.
type Parking struct {
	Folder string `json:"folder,omitempty"` // "" for the one that is meant for it
}

func (Parking) Do() Do { return ParkRecovery }

func (b Parking) folder() string { return b.Folder }

func (b Parking) withFolder(path string) Body {
	b.Folder = path
	return b
}

// parking moves the recovery environment out of its partition, into a folder of another volume.
var parking = kind{
	blank: Parking{},
	valid: validPark, lay: onPC(park), whole: noPartition, ofThePC: true, copies: recoveryAcross,
}

func validPark(s Step) error { return validFolder(Of[Parking](s).Folder) }

// parkedIn is the folder that a recovery environment is parked in.
const parkedIn = "Parked recovery"

// mayPark is what stands against parking the recovery environment, wherever to.
func mayPark(l *layout.Layout, f Facts) (from, to layout.Span, o *Obstacle) {
	if o := unknownPC(f); o != nil {
		return from, to, o
	}
	r := f.PC.Recovery
	switch {
	case r == nil:
		return from, to, NewObstacle(NotParked, "The facts about the PC name no recovery environment.")
	case r.Parked:
		return from, to, NewObstacle(NothingToDo, "A copy of recovery is kept already, and it is not in use from a partition.")
	}
	from, there := byID(l, r.Partition)
	to, starts := byID(l, f.PC.Start)
	switch {
	case !there:
		o = NewObstacle(
			NotParked, "The partition that holds the recovery environment is not on this drive, or is gone.",
		)
	case from.Volume == nil || sealedWhole(&from) != nil:
		o = NewObstacle(NotReadable, fmt.Sprintf("%s holds nothing that can be read.", from.Title()), from.Number)
	case !starts:
		o = NewObstacle(
			NoSystem, "The system that the PC starts is not on this drive: there is no volume to park it in.",
			from.Number,
		)
	case from.Number == to.Number:
		o = NewObstacle(NothingToDo, "It lies on the start system's own volume already.", from.Number)
	default:
		o = MayTake(&to, from.Volume.UsedBytes)
	}
	return from, to, o
}

// park copies the recovery environment into a folder of the start system.
func park(c *Column, l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	step := Of[Parking](c.Step)
	c.Title = "Keep a copy of recovery"
	from, to, o := mayPark(l, f)
	if o != nil {
		return o
	}
	c.Title += " on " + to.Title()
	if p != nil && p.Number != from.Number {
		return NewObstacle(
			NotParked,
			fmt.Sprintf(
				"The recovery environment lies in %s (partition %d), not in %s.", from.Title(), from.Number,
				p.Title(),
			),
			p.Number,
		)
	}
	if step.Folder == "" {
		step.Folder = parkedIn
		c.Step.Body = step
	}
	used := from.Volume.UsedBytes
	c.Number, c.From = to.Number, from.Number
	c.Detail = fmt.Sprintf(
		"copied from %s into the folder %s of %s", from.Title(), strings.Trim(step.Folder, "/"), to.Title(),
	)
	c.Layout, c.PC = fuller(l, to.Number, used), f.PC.Parked(to.UniqueID, strings.Trim(step.Folder, "/"), int64(used))
	return nil
}

// recoveryAcross is how much the recovery environment has, where a step moves it.
func recoveryAcross(c Column, is *layout.Span, _ *layout.Layout, _ Facts) disk.Bytes {
	if c.From != 0 && c.PC != nil && c.PC.Recovery != nil && c.PC.Recovery.Parked {
		return disk.Bytes(c.PC.Recovery.Bytes)
	}
	return whatCameAcross(c, is)
}
