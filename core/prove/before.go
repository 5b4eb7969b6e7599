package prove

import (
	"context"
	"fmt"
	"strings"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/ran"
	"jadetrail/core/survey"
	"jadetrail/core/words"
)

// AsBefore compares a drive that was taken back with what it was: what the run wrote over, what it
// moved, how the drive is laid out, and what its volumes are like. What differs is told, and the
// run is not taken back.
func AsBefore(d Drive, m *ran.Meta, c *carry.Carry) error {
	seen, err := c.Prove(context.Background(), d.Dev, d.Report)
	if err != nil {
		return err
	}
	if err := seen.Err(); err != nil {
		return fmt.Errorf("%w: after undo, %s%s", ErrDiffers, words.Sentence(err), PlaceIn(m, seen.Differs[0]))
	}
	sv, err := survey.Read(d.Dev, d.PC)
	if err != nil {
		return err
	}
	if other := layout.Differ(m.Before, sv.Layout); len(other) > 0 {
		return fmt.Errorf("%w: after undo: %s", ErrDiffers, strings.Join(other, " "))
	}
	sv.Relabel(m.Before)
	for n, want := range m.Was() {
		v := sv.Volume(number(n))
		if v == nil {
			return fmt.Errorf("%w: after undo, the volume in partition %s cannot be read", ErrDiffers, n)
		}
		if got, err := v.Fingerprint(); err != nil || got != want {
			return fmt.Errorf("%w: after undo, the volume in partition %s has other metadata (%v)", ErrDiffers, n, err)
		}
	}
	return nil
}

// PlaceIn says in which partition a place lies, before the run or after it.
func PlaceIn(m *ran.Meta, r disk.Range) string {
	for _, l := range []*layout.Layout{m.Before, m.After} {
		for _, q := range l.Partitions() {
			at := disk.Range{Start: q.Start.Offset(l.Sector), End: (q.End + 1).Offset(l.Sector)}
			if at.Meets(r) {
				return fmt.Sprintf(", in %s (partition %d)", q.Title(), q.Number)
			}
		}
	}
	return ""
}
