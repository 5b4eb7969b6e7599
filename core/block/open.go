package block

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// Sentinel errors of opening a drive.
var (
	ErrOwn      = errors.New("it belongs to this machine itself, and was not opened")
	ErrBusy     = errors.New("another program or the machine itself has it, and it was not opened")
	ErrOther    = errors.New("another drive is there by now; it was not opened")
	ErrReadOnly = errors.New("the drive cannot be written to")
)

// Claim opens a drive for reading, for one alone: as long as the file is open, nothing else on the machine can mount
// it, swap on it or make a set of it, and where something has, it is not opened (open(2), O_EXCL on block devices).
// What is opened is the very drive that was looked at: after opening its number, its sequence, its size and its serial
// number are compared, and what belongs to the machine is asked once more.
func (h Host) Claim(d *Drive) (*os.File, error) { return h.open(d, os.O_RDONLY|os.O_EXCL) }

func (h Host) open(d *Drive, how int) (*os.File, error) {
	if len(d.Own) > 0 {
		return nil, fmt.Errorf("%s: %w: %s", d.Path(), ErrOwn, strings.Join(d.Own, ", "))
	}
	if d.Bytes == 0 {
		return nil, fmt.Errorf("%s: %w: no medium is in it", d.Path(), ErrNoDrive)
	}
	f, err := os.OpenFile(h.path(d.Path()), how|unix.O_NOFOLLOW, 0)
	switch {
	case errors.Is(err, unix.EBUSY):
		return nil, fmt.Errorf("%s: %w", d.Path(), ErrBusy)
	case errors.Is(err, unix.ENXIO), errors.Is(err, unix.ENOMEDIUM), missing(err):
		return nil, fmt.Errorf("%s: %w", d.Path(), ErrNoDrive)
	case errors.Is(err, unix.EROFS):
		return nil, fmt.Errorf("%s: %w", d.Path(), ErrReadOnly)
	case err != nil:
		return nil, err
	}
	if err := h.still(f, d); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// still tells whether an open file is the drive that was looked at, and free.
func (h Host) still(f *os.File, d *Drive) error {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return err
	}
	number := fmt.Sprintf("%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))
	if st.Mode&unix.S_IFMT != unix.S_IFBLK || number != d.Number {
		return fmt.Errorf("%s: %w", d.Path(), ErrOther)
	}
	now, err := h.Drive(d.Path())
	switch {
	case err != nil:
		return err
	case now.Sequence != d.Sequence, now.Number != d.Number, now.Bytes != d.Bytes, now.Serial != d.Serial:
		return fmt.Errorf("%s: %w", d.Path(), ErrOther)
	case len(now.Own) > 0:
		return fmt.Errorf("%s: %w: %s", d.Path(), ErrOwn, strings.Join(now.Own, ", "))
	}
	return nil
}
