package plan

import (
	"fmt"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// UsingRecovery is a recovery environment that is used from a partition: its number says all.
type UsingRecovery struct{}

func (UsingRecovery) Do() Do { return UseRecovery }

// usingRecovery has the PC use the recovery environment from a partition.
var usingRecovery = kind{
	blank: UsingRecovery{},
	valid: Step.named, lay: onPC(useRecovery), ofThePC: true, copies: recoveryAcross,
}

// useRecovery takes the recovery environment into use from a partition: the one that it
// came from and still lies in, or another that it is copied into from where it is parked.
func useRecovery(c *Column, l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	c.Title = "Use the recovery environment from " + p.Title()
	if o := unknownPC(f, p.Number); o != nil {
		return o
	}
	r := f.PC.Recovery
	switch {
	case r == nil:
		return NewObstacle(NotParked, "The facts about the PC name no recovery environment.", p.Number)
	case r.InUse && strings.EqualFold(r.Partition, p.UniqueID):
		return NewObstacle(NothingToDo, "It is in use from there already.", p.Number)
	case p.Role != layout.Recovery:
		return NewObstacle(
			NoVolume, fmt.Sprintf("%s is not a recovery partition: a PC would not look for it there.", p.Title()),
			p.Number,
		)
	case p.Volume == nil:
		return NewObstacle(NoVolume, fmt.Sprintf("%s holds no volume.", p.Title()), p.Number)
	case p.Held != "":
		return heldOpen(p)
	}
	c.PC = f.PC.RecoveryFrom(p.UniqueID)
	if strings.EqualFold(r.Partition, p.UniqueID) {
		c.Detail, c.Layout = "it still lies there", l
		return nil
	}
	from, there := byID(l, r.Volume)
	switch {
	case !r.Parked:
		return NewObstacle(
			NotParked, "No copy of recovery is kept that could be copied. Keep one first, while its partition is there.",
			p.Number,
		).ClearedBy("park-recovery")
	case !there:
		return NewObstacle(
			NotParked, "The volume that the copy of recovery is kept in is not on this drive, or nobody noted which it is.", p.Number,
		)
	}
	if o := MayTake(p, disk.Bytes(r.Bytes)); o != nil {
		return o
	}
	c.Number, c.From, c.Base = p.Number, from.Number, r.Folder
	c.Detail = fmt.Sprintf("copied from the folder %s of %s, where that copy stays", r.Folder, from.Title())
	c.Layout = fuller(l, p.Number, disk.Bytes(r.Bytes))
	if from.Volume != nil && from.Volume.Kind == volume.NTFS && MayTake(&from, 0) == nil {
		c.Moves, c.Layout = true, fuller(c.Layout, from.Number, -disk.Bytes(r.Bytes))
		c.Detail = fmt.Sprintf("moved from the folder %s of %s", r.Folder, from.Title())
	}
	return nil
}
