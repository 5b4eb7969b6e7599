package run

import (
	"errors"
	"fmt"

	"jadetrail/core/prove"

	"jadetrail/core/ran"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// hurt says of an error that comes from a bad place which file it hits, and what can be
// done. Other errors stay as they are. began tells that something was written.
func hurt(dev disk.Device, before *layout.Layout, err error, began bool) error {
	var bad *disk.BadPlace
	if !errors.As(err, &bad) || errors.Is(err, prove.ErrHurt) {
		return err
	}
	where := hit(dev, before, bad)
	way := "back the volume up by its files: what cannot be read is listed. Then delete that file on its own PC, or copy the rest to a sound drive"
	if bad.Write || where == inGap {
		way = "plan it so that this place stays free"
	}
	if !began {
		return fmt.Errorf("%w: %w%s. Nothing was written. First of all, %s", prove.ErrHurt, bad, where, way)
	}
	way = "Take the run back, and " + way
	return fmt.Errorf(
		"%w: %w%s. The run has stopped there; what was moved before is in its new place and proven, and no file is lost that was whole. %s",
		prove.ErrHurt, bad, where, way,
	)
}

// hit says what lies at a bad place, as the drive was before the run.
func hit(dev disk.Device, before *layout.Layout, bad *disk.BadPlace) string {
	sv, err := survey.Read(dev, nil)
	if err != nil {
		return ""
	}
	sv.Relabel(before)
	for _, p := range before.Partitions() {
		start := p.Start.Offset(before.Sector)
		if p.Role == layout.Container || bad.Off+bad.Len <= start || start+p.Bytes <= bad.Off {
			continue
		}
		v := sv.Volumes[p.Number]
		if v == nil {
			return fmt.Sprintf(", in %s (partition %d)", p.Title(), p.Number)
		}
		name := ""
		err := volume.WalkPlaces(v, func(f volume.File) error {
			for _, e := range f.Extents {
				if e.Off >= 0 && start+e.Off < bad.Off+bad.Len && bad.Off < start+e.Off+e.Len {
					name = f.Path
				}
			}
			return nil
		})
		switch {
		case name != "":
			return fmt.Sprintf(", which holds a part of %s in %s", name, p.Title())
		case err != nil:
			return fmt.Sprintf(", in %s, whose folders cannot be read", p.Title())
		}
		return fmt.Sprintf(", in %s, where no file lies: it is of its own tables, or free", p.Title())
	}
	return inGap
}

const inGap = ", in a gap"

// stopped says of an error that ended a run on its way what is known of it.
func stopped(dev disk.Device, m *ran.Meta, c *carry.Carry, err error) error {
	return hurt(c.Former(dev), m.Before, err, true)
}

// test reads every sector of where a partition is to be made; nothing is made over one that
// cannot be read.
func (p *prepared) test(o Options, c plan.Column) error {
	q, ok := c.Layout.Find(c.Number)
	if !ok {
		return fmt.Errorf("%s: there is no partition %d in the plan", c.Title, c.Number)
	}
	x := ran.Tested{Title: q.Title(), Off: q.Start.Offset(c.Layout.Sector), Len: q.Bytes}
	p.meta.Tested = append(p.meta.Tested, x)
	bad, err := prove.Unreadable(x, o.proving(), "reading every sector of the new partition's place")
	if err != nil {
		return err
	}
	if len(bad) > 0 {
		return fmt.Errorf(
			"%w: of the place for %s it cannot read %s. Nothing was written. Make the partition where they are not",
			prove.ErrHurt, x.Title, prove.Sectors(bad),
		)
	}
	return nil
}
