package rehearse

import (
	"errors"
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/prove"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// Hurt says of an error that comes from a bad place which file it hits, and what can be
// done. Other errors stay as they are. began tells that something was written.
func Hurt(dev disk.Device, before *layout.Layout, err error, began bool) error {
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
		v := sv.Volume(p.Number)
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
