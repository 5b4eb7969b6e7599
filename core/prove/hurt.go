package prove

import (
	"errors"
	"fmt"
	"strings"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/ran"
)

// ErrHurt tells that a run met a place that the drive cannot read or write. Nothing is lost:
// the run can be taken back.
var ErrHurt = errors.New("the drive is damaged")

// Unreadable is what of a place cannot be read.
func Unreadable(x ran.Tested, d Drive, phase string) ([]disk.BadPlace, error) {
	return disk.Unreadable(d.Dev, x.Off, x.Len, Counting(phase, x.Len, d.Report))
}

// readsAgain reads it all again after the run.
func readsAgain(x ran.Tested, d Drive) error {
	bad, err := Unreadable(x, d, "reading every sector of the new partition again")
	if err == nil && len(bad) > 0 {
		err = fmt.Errorf("%w: after writing, of %s it cannot read %s", ErrHurt, x.Title, Sectors(bad))
	}
	return err
}

// Sectors words bad places, the first few of them.
func Sectors(bad []disk.BadPlace) string {
	var out []string
	n := int64(0)
	for i, b := range bad {
		first, last := int64(b.Off/b.Sector), int64((b.Off+b.Len)/b.Sector)-1
		n += last - first + 1
		switch {
		case i == 8:
			out = append(out, "and more")
		case i > 8:
		case first == last:
			out = append(out, disk.Grouped(first))
		default:
			out = append(out, disk.Grouped(first)+" to "+disk.Grouped(last))
		}
	}
	word := "sectors"
	if n == 1 {
		word = "sector"
	}
	return fmt.Sprintf("%d %s: %s", n, word, strings.Join(out, ", "))
}

// Counting returns what reports how much of a total has been read.
func Counting(phase string, total disk.Bytes, report func(carry.Progress)) func(n disk.Bytes) {
	pr := carry.Progress{Phase: phase, Total: total}
	return func(n disk.Bytes) {
		if pr.Done = min(pr.Done+n, pr.Total); report != nil {
			report(pr)
		}
	}
}
