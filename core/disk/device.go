package disk

import (
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Devices opens the block device at a path, for one alone. A program sets it, once, before it opens drives; where it is
// nil no block device is opened.
var Devices func(path string, write bool) (*os.File, error)

// isDevice tells that a file is a block device.
func isDevice(st os.FileInfo) bool {
	return st.Mode()&(os.ModeDevice|os.ModeCharDevice) == os.ModeDevice
}

// OpenDevice takes a block device that is open, and open for this alone, as a drive. Its size and its sectors are those
// that its kernel tells. f is closed with the drive, and where it is refused.
func OpenDevice(f *os.File, write bool) (*Image, error) {
	im, err := asDevice(f, write)
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: %w", f.Name(), err)
	}
	return im, nil
}

func asDevice(f *os.File, write bool) (*Image, error) {
	var size uint64
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, f.Fd(), unix.BLKGETSIZE64, uintptr(unsafe.Pointer(&size))); e != 0 {
		return nil, fmt.Errorf("%w: it is no block device: %w", ErrNotImage, e)
	}
	sector, err := unix.IoctlGetInt(int(f.Fd()), unix.BLKSSZGET)
	if err != nil {
		return nil, fmt.Errorf("%w: its sectors are not known: %w", ErrNotImage, err)
	}
	im := &Image{f: f, size: Bytes(size), sector: Bytes(sector), ro: !write, device: true}
	switch {
	case size == 0:
		return nil, ErrEmpty
	case size > 1<<62:
		return nil, fmt.Errorf("%w: %d bytes", ErrNotImage, size)
	case sector != 512 && sector != 4096:
		return nil, fmt.Errorf("%w: sectors of %d bytes are not supported", ErrNotImage, sector)
	case im.size < 8*im.sector:
		return nil, fmt.Errorf("%w: %d bytes is too little for a partition table", ErrNotImage, size)
	}
	if write {
		// Others who ask, udev among them, leave it alone meanwhile.
		if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
			return nil, ErrInUse
		}
	}
	return im, nil
}

// zeros are written to a device piece by piece: the kernel's own means ask for a file that has claimed it.
var zeros [MiB]byte

// zeroed writes zeros to a block device.
func (im *Image) zeroed(off, n Bytes) error {
	for n > 0 {
		piece := min(n, MiB)
		if _, err := im.WriteAt(zeros[:piece], int64(off)); err != nil {
			return err
		}
		off, n = off+piece, n-piece
	}
	return nil
}
