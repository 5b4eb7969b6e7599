package prove

import (
	"bytes"
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/ran"
	"jadetrail/core/script"
)

// leftOfErased words the places of what was erased that the drive cannot write: what they hold may
// still be there.
func leftOfErased(x ran.Erased, dev disk.Device) (string, error) {
	start := x.Span.Start.Offset(dev.SectorBytes())
	if h, knows := dev.(disk.Knower); !knows || h.Hurt(start, x.Span.Bytes) == nil {
		return "", nil
	}
	bad, err := disk.Unreadable(dev, start, x.Span.Bytes, nil)
	if err != nil || len(bad) == 0 {
		return "", err
	}
	n := disk.Bytes(0)
	for _, b := range bad {
		n += b.Len
	}
	return fmt.Sprintf(
		", but for %s in %d places that the drive cannot write or read, the first at sector %s: what they held may still be there",
		n, len(bad), disk.Grouped(int64(bad[0].Off/bad[0].Sector)),
	), nil
}

// provenErased reads what was erased, but for what later steps put there.
func provenErased(x ran.Erased, dev disk.Device, done script.Script) error {
	start := x.Span.Start.Offset(dev.SectorBytes())
	b, zeros := make([]byte, 1<<20), make([]byte, 1<<20)
	for at := start; at < start+x.Span.Bytes; {
		from, to, ok := dev.Data(at)
		if !ok || from >= start+x.Span.Bytes {
			return nil
		}
		for from, to = max(from, at), min(to, start+x.Span.Bytes); from < to; from += disk.Bytes(len(b)) {
			part := b[:min(disk.Bytes(len(b)), to-from)]
			if _, err := dev.ReadAt(part, int64(from)); err != nil {
				return err
			}
			for _, op := range done {
				if lo, hi := max(op.Off, from), min(op.Off+op.Len, from+disk.Bytes(len(part))); op.Step > x.Step && lo < hi {
					clear(part[lo-from : hi-from])
				}
			}
			if !bytes.Equal(part, zeros[:len(part)]) {
				return fmt.Errorf(
					"%w: %s was erased, and the megabyte at byte %d of the drive still holds something", ErrDiffers,
					x.Title, from,
				)
			}
		}
		at = to
	}
	return nil
}
