package compile

import (
	"fmt"
	"strconv"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/table"
)

// clearDrive takes the table away, and puts an empty one of the wanted kind in its place. What
// the partitions held is not written over.
func clearDrive(sv *survey.Survey, col plan.Column, g Given) (script.Script, error) {
	step := plan.Of[plan.Clearing](col.Step)
	sec, size := sv.Layout.Sector, sv.Layout.Size
	var s script.Script
	hole := func(from, to disk.Bytes) {
		if from < to {
			s = append(s, script.Op{Kind: script.Hole, Off: from, Len: to - from, Keep: true})
		}
	}
	if sv.Table.Scheme == table.GPT && step.Scheme != "gpt" {
		hole(max((sv.Layout.LastUsable+1).Offset(sec), size-disk.MiB), size)
		hole(sec, min(sv.Layout.FirstUsable.Offset(sec), disk.MiB))
		s.Barrier("both copies of the old table taken away")
	}
	switch step.Scheme {
	case "gpt":
		return append(s, table.New(g.Dev, col.Layout.DiskID)...), nil
	case "mbr":
		n, err := strconv.ParseUint(col.Layout.DiskID, 16, 32)
		if err != nil {
			return nil, fmt.Errorf("%w: signature %q", ErrCannot, col.Layout.DiskID)
		}
		return append(s, table.NewMBR(g.Dev, uint32(n))...), nil
	}
	hole(0, sec)
	s.Barrier("table taken away")
	return s, nil
}
