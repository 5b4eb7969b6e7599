package plan

import (
	"fmt"

	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// notKept says, before anything is written, what files do not have any more in the volume that they
// come to, nil where they keep all. from is what they come from, Unknown for a backup; packed is how
// many of them are compressed, -1 where nobody has counted.
func notKept(from volume.Kind, to *layout.Span, packed int) *Obstacle {
	say := func(format string, args ...any) *Obstacle {
		return NewObstacle(LessKept, fmt.Sprintf(format, args...), to.Number)
	}
	switch {
	case from.IsFAT() || from == volume.ExFAT:
		return nil
	case to.Volume.Kind.IsFAT():
		return say("%s is %s: alternate streams, links, second names, security descriptors and extended attributes "+
			"do not come along, and what is sparse or compressed takes its whole length.", to.Title(), to.Volume.Kind)
	case from.IsExt():
		return say("Owners and permissions do not come along to %s.", to.Title())
	case packed < 0:
		return say("Files that are compressed are not compressed in %s, and take their whole length.", to.Title())
	case packed == 1:
		return say("1 file is compressed, and not so in %s: there it takes its whole length.", to.Title())
	case packed > 1:
		return say("%d files are compressed, and not so in %s: there they take their whole length.", packed, to.Title())
	}
	return nil
}

// less adds what is not kept to a column's notes.
func (c *Column) less(from volume.Kind, to *layout.Span, packed int) {
	if o := notKept(from, to, packed); o != nil {
		c.Notes = append(c.Notes, *o)
	}
}
