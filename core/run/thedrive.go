package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/prove"
	"jadetrail/core/ran"
	"jadetrail/core/sign"
	"jadetrail/core/survey"
	"jadetrail/core/volume/recognise"
)

// theDrive proves that the drive at hand is the one of the run, in the state in which the run left
// it: by what it is, by its sign, by what the finished part wrote and by what the rest will read.
// Nothing is written before that.
func theDrive(ctx context.Context, o Options, u *Unfinished, c *carry.Carry) error {
	m := u.Meta
	other := func(format string, args ...any) error {
		return fmt.Errorf(
			"%w: %s. Nothing was written; the run stays open. Put the drive back as it was, or say with a reason that it is left as it is",
			ErrOther, fmt.Sprintf(format, args...),
		)
	}
	if m.Identity.Serial != "" && o.Identity.Serial != "" && !strings.EqualFold(m.Identity.Serial, o.Identity.Serial) {
		return other("its serial number is %q, and the run is on %q", o.Identity.Serial, m.Identity.Serial)
	}
	if o.Dev.Size() != m.Before.Size || o.Dev.SectorBytes() != m.Before.Sector {
		return other(
			"it has %s in sectors of %d bytes, and the drive of the run %s in sectors of %d", o.Dev.Size().Exact(),
			o.Dev.SectorBytes(), m.Before.Size.Exact(), m.Before.Sector,
		)
	}
	s, err := sign.Find(o.Dev)
	if err != nil {
		return err
	}
	switch {
	case s != nil && s.Run != u.ID:
		return other("it carries the sign of another run, %s", cmp.Or(s.Run, "whose name cannot be read"))
	case s == nil && m.Sign != 0 && c.Marked() && !c.Done():
		return other("the sign is missing that the run put on it")
	}
	seen, err := c.Prove(ctx, o.Dev, o.Report)
	if errors.Is(err, carry.ErrStopped) {
		return err
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ran.ErrBroken, err)
	}
	if len(seen.Differs) > 0 {
		first := seen.Differs[0]
		return other(
			"%s in %d places hold something else than the run left there, the first at sector %s%s",
			seen.Differs.Bytes(), len(seen.Differs), disk.Grouped(int64(first.Start.At(o.Dev.SectorBytes()))),
			prove.PlaceIn(m, first),
		)
	}
	return untouched(o, m, c, other)
}

// untouched compares the metadata of the volumes into whose places the run does not write.
func untouched(o Options, m *ran.Meta, c *carry.Carry, other func(string, ...any) error) error {
	touched := c.Script().Origins()
	for _, q := range m.After.Partitions() {
		want, known := m.Prints[fmt.Sprint(q.Number)]
		if !known || touched.Touches(q.Start.Offset(m.After.Sector), q.Bytes) {
			continue
		}
		found, err := recognise.Open(survey.Window(o.Dev, q))
		if err != nil {
			return err
		}
		got := ""
		if found.Volume != nil {
			got, err = found.Volume.Fingerprint()
		}
		if err != nil || got != want {
			return other("%s (partition %d), which the run does not touch, was changed since", q.Title(), q.Number)
		}
	}
	return nil
}
