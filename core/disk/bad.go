package disk

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"

	"jadetrail/core/form"
)

// BadPlace tells that a drive could not read or write a place on its medium.
type BadPlace struct {
	Off, Len Bytes // the whole sectors that it concerns, as far as that is known
	Sector   Bytes
	Write    bool
}

func (b *BadPlace) Error() string {
	what := "read"
	if b.Write {
		what = "write"
	}
	return fmt.Sprintf(
		"the drive cannot %s sector %s (%s at byte %d)", what, Grouped(int64(b.Off/b.Sector)), b.Len, b.Off,
	)
}

// maxBad bounds the list of bad places beside an image.
const maxBad = 1 << 20

// badPlaces reads what stands beside an image of which sectors its drive cannot read or
// write: IMAGE.bad.json, a list of [first sector, count]. An image stands in for a drive; so
// does this for a drive's damage.
func badPlaces(image string, sector Bytes) ([]Range, error) {
	f, err := os.Open(image + ".bad.json")
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if st, err := f.Stat(); err != nil || st.Size() > maxBad {
		return nil, fmt.Errorf("the list of bad places beside %s is too long: %w", image, ErrNotImage)
	}
	var list [][2]LBA
	b, err := io.ReadAll(f)
	if err == nil {
		err = form.Read(b, &list)
	}
	if err != nil {
		return nil, fmt.Errorf("the list of bad places beside %s cannot be read: %w", image, err)
	}
	var out []Range
	for _, x := range list {
		if x[0] < 0 || x[1] < 1 || x[1] > 1<<40 || x[0] > 1<<40 {
			return nil, fmt.Errorf(
				"the list of bad places beside %s names %d sectors at %d: %w", image, x[1], x[0], ErrBounds,
			)
		}
		out = append(out, Range{Start: x[0].Offset(sector), End: (x[0] + x[1]).Offset(sector)})
	}
	return out, nil
}

// hurt is the bad place that n bytes at off meet, nil for none.
func (im *Image) hurt(off, n Bytes, write bool) error {
	for _, b := range im.bad {
		if lo, hi := max(b.Start, off.Down(im.sector)), min(b.End, (off+n).Up(im.sector)); lo < hi {
			return &BadPlace{lo, hi - lo, im.sector, write}
		}
	}
	return nil
}

// told makes an error of the host's a bad place, where it is one.
func (im *Image) told(err error, off, n Bytes, write bool) error {
	if errors.Is(err, unix.EIO) {
		at := off.Down(im.sector)
		return &BadPlace{at, (off + n).Up(im.sector) - at, im.sector, write}
	}
	return err
}

// Unreadable reads every sector of n bytes at off past the page cache, and returns the places
// that cannot be read, in order, at most 1000 of them. report, where it is set, is told how
// much more was read.
func Unreadable(dev Device, off, n Bytes, report func(Bytes)) ([]BadPlace, error) {
	var out []BadPlace
	var buf []byte
	sector := dev.SectorBytes()
	var try func(at, n Bytes) error
	try = func(at, n Bytes) error {
		b, err := Fresh(dev, at, n, buf)
		if err == nil {
			if cap(b) > cap(buf) {
				buf = b[:cap(b)]
			}
			return nil
		}
		var bad *BadPlace
		switch {
		case !errors.As(err, &bad):
			return err
		case len(out) == 1000:
			return fmt.Errorf("there are more than %d bad places: %w", len(out), err)
		case n <= sector:
			if k := len(out); k > 0 && out[k-1].Off+out[k-1].Len == at {
				out[k-1].Len += n
			} else {
				out = append(out, BadPlace{Off: at, Len: n, Sector: sector})
			}
			return nil
		}
		half := max((n / 2).Down(sector), sector)
		if err := try(at, half); err != nil {
			return err
		}
		return try(at+half, n-half)
	}
	const piece = 4 * MiB
	for at := off; at < off+n; {
		k := min(piece, off+n-at)
		if start, _, ok := dev.Data(at); !ok || start >= at+k { // a hole reads as zeros, if its place can be read at all
			if h, knows := dev.(Knower); knows && h.Hurt(at, k) == nil {
				at += k
				continue
			}
		}
		if err := try(at, k); err != nil {
			return out, err
		}
		if at += k; report != nil {
			report(k)
		}
	}
	return out, nil
}

// Hurt is the bad place that reading n bytes at off would meet, nil for none that is known.
func (im *Image) Hurt(off, n Bytes) error { return im.hurt(off, n, false) }
