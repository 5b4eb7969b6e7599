package disk

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
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
	return fmt.Sprintf("the drive cannot %s sector %s (%s at byte %d)", what, Grouped(int64(b.Off/b.Sector)), b.Len, b.Off)
}

// maxBad bounds the list of bad places beside an image.
const maxBad = 1 << 20

// badPlaces reads what stands beside an image of which sectors its drive cannot read or
// write: IMAGE.bad.json, a list of [first sector, count]. An image stands in for a drive; so
// does this for a drive's damage.
func badPlaces(image string, sector Bytes) ([][2]Bytes, error) {
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
	if err := json.NewDecoder(f).Decode(&list); err != nil {
		return nil, fmt.Errorf("the list of bad places beside %s cannot be read: %w", image, err)
	}
	var out [][2]Bytes
	for _, x := range list {
		if x[0] < 0 || x[1] < 1 || x[1] > 1<<40 || x[0] > 1<<40 {
			return nil, fmt.Errorf("the list of bad places beside %s names %d sectors at %d: %w", image, x[1], x[0], ErrBounds)
		}
		out = append(out, [2]Bytes{x[0].Offset(sector), (x[0] + x[1]).Offset(sector)})
	}
	return out, nil
}

// hurt is the bad place that n bytes at off meet, nil for none.
func (im *Image) hurt(off, n Bytes, write bool) error {
	for _, b := range im.bad {
		if lo, hi := max(b[0], off.Down(im.sector)), min(b[1], (off+n).Up(im.sector)); lo < hi {
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
