package disk

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Image is a drive in a raw, sparse image file, or on a block device.
type Image struct {
	f      *os.File
	size   Bytes
	sector Bytes
	ro     bool
	device bool         // a block device: it has no holes
	bad    []Range      // what the drive cannot read or write
	dirty  atomic.Int64 // bytes written since the kernel was last told to write them back
	once   sync.Once
	past   *os.File // reads past the page cache; nil where the host cannot do that
}

// Sentinel errors of OpenImage.
var (
	ErrEmpty    = errors.New("the image file is empty")
	ErrNotImage = errors.New("not a drive image")
	ErrInUse    = errors.New("another program is changing this drive")
)

// OpenImage opens the image at path. sector is 512 or 4096, or 0 to find out:
// a drive with a GPT says it by where its header lies (UEFI 2.10, 5.3.2: the
// primary header is in LBA 1); what does not say it counts as 512.
//
// A path to a block device is opened by Devices, where that is set; its kernel tells its sectors.
//
// A drive opened for writing is locked against a second writer, across
// processes too (ErrInUse).
func OpenImage(path string, sector Bytes, write bool) (*Image, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if isDevice(st) && Devices != nil {
		f, err := Devices(path, write)
		if err != nil {
			return nil, err
		}
		return OpenDevice(f, write)
	}
	if !st.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: %w: it is not a plain file", path, ErrNotImage)
	}
	if st.Size() == 0 {
		return nil, fmt.Errorf("%s: %w", path, ErrEmpty)
	}
	if st.Size()%512 != 0 {
		return nil, fmt.Errorf(
			"%s: %w: its length of %d bytes is no whole number of sectors; it is something else, or was cut off",
			path, ErrNotImage, st.Size(),
		)
	}
	flag := os.O_RDONLY
	if write {
		flag = os.O_RDWR
	}
	f, err := os.OpenFile(path, flag, 0)
	if err != nil {
		return nil, err
	}
	im := &Image{f: f, size: Bytes(st.Size()), sector: sector, ro: !write}
	if write {
		if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
			f.Close()
			return nil, fmt.Errorf("%s: %w", path, ErrInUse)
		}
	}
	if sector == 0 {
		im.sector = im.guessSector()
	}
	if im.sector != 512 && im.sector != 4096 {
		f.Close()
		return nil, fmt.Errorf("%s: %w: sectors of %d bytes are not supported", path, ErrNotImage, sector)
	}
	if im.size < 8*im.sector {
		f.Close()
		return nil, fmt.Errorf("%s: %w: %d bytes is too little for a partition table", path, ErrNotImage, im.size)
	}
	if im.bad, err = badPlaces(path, im.sector); err != nil {
		f.Close()
		return nil, err
	}
	return im, nil
}

// CreateImage makes a new blank image of the given size, all holes. It fails
// when the file exists.
func CreateImage(path string, size, sector Bytes) (*Image, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return nil, err
	}
	if err := f.Truncate(int64(size)); err != nil {
		f.Close()
		os.Remove(path)
		return nil, err
	}
	f.Close()
	return OpenImage(path, sector, true)
}

// guessSector finds out the sector size: from a GPT by where its header lies, from
// an MBR by where boot sectors and records that say the same lie, from a drive
// without a table by its own boot sector.
func (im *Image) guessSector() Bytes {
	var sig [8]byte
	for _, s := range []int64{512, 4096} {
		// The primary header, or at the drive's end its backup.
		for _, off := range []int64{s, int64(im.size) - s} {
			if n, _ := im.f.ReadAt(sig[:], off); n == 8 && string(sig[:]) == "EFI PART" {
				return Bytes(s)
			}
		}
	}
	var b [512]byte
	if n, _ := im.f.ReadAt(b[:], 0); n < len(b) {
		return 512
	}
	for i := range 4 {
		e := b[446+16*i:][:16]
		start := int64(binary.LittleEndian.Uint32(e[8:]))
		for _, s := range []int64{512, 4096} {
			var at [512]byte
			if n, _ := im.f.ReadAt(at[:], start*s); start > 0 && n == len(at) && at[510] == 0x55 && at[511] == 0xaa &&
				(e[4] == 0x05 || e[4] == 0x0f || int64(binary.LittleEndian.Uint16(at[11:])) == s) {
				return Bytes(s)
			}
		}
	}
	if b[510] == 0x55 && b[511] == 0xaa && binary.LittleEndian.Uint16(b[11:]) == 4096 && (string(b[3:11]) == "NTFS    " || string(b[82:87]) == "FAT32") {
		return 4096
	}
	return 512
}

// ReadAt implements io.ReaderAt.
func (im *Image) ReadAt(p []byte, off int64) (int, error) {
	if err := inBounds(im, off, int64(len(p))); err != nil {
		return 0, err
	}
	if err := im.hurt(Bytes(off), Bytes(len(p)), false); err != nil {
		return 0, err
	}
	n, err := im.f.ReadAt(p, off)
	if err == io.EOF && n < len(p) {
		err = io.ErrUnexpectedEOF
	}
	return n, im.told(err, Bytes(off), Bytes(len(p)), false)
}

// WriteAt implements io.WriterAt.
func (im *Image) WriteAt(p []byte, off int64) (int, error) {
	if im.ro {
		return 0, ErrReadOnly
	}
	if err := inBounds(im, off, int64(len(p))); err != nil {
		return 0, err
	}
	if err := im.hurt(Bytes(off), Bytes(len(p)), true); err != nil {
		return 0, err
	}
	n, err := im.f.WriteAt(p, off)
	if im.device {
		err = im.told(err, Bytes(off), Bytes(len(p)), true)
	}
	if im.dirty.Add(int64(n)) >= writeBack {
		// A sync that is asked for later then finds little left to do. Whether this hint is
		// taken does not matter.
		im.dirty.Store(0)
		unix.SyncFileRange(int(im.f.Fd()), 0, 0, unix.SYNC_FILE_RANGE_WRITE)
	}
	return n, err
}

// writeBack is after how many bytes the kernel is told to begin writing them to the medium.
const writeBack = 32 << 20

// Zero implements Device by punching a hole.
func (im *Image) Zero(off, n Bytes) error {
	if im.ro {
		return ErrReadOnly
	}
	if err := inBounds(im, int64(off), int64(n)); err != nil {
		return err
	}
	if n == 0 {
		return nil
	}
	if im.device {
		return im.zeroed(off, n)
	}
	return punch(im.f, int64(off), int64(n))
}

func punch(f *os.File, off, n int64) error {
	return unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, off, n)
}

// Data implements Device with the file system's own knowledge of holes. Where
// that is not to be had, everything counts as data.
func (im *Image) Data(off Bytes) (Bytes, Bytes, bool) { return dataRange(im.f, off, im.size) }

func dataRange(f *os.File, off, size Bytes) (Bytes, Bytes, bool) {
	if off >= size {
		return 0, 0, false
	}
	s, err := unix.Seek(int(f.Fd()), int64(off), unix.SEEK_DATA)
	if err == unix.ENXIO {
		return 0, 0, false
	}
	if err != nil {
		return off, size, true
	}
	e, err := unix.Seek(int(f.Fd()), s, unix.SEEK_HOLE)
	if err != nil {
		e = int64(size)
	}
	return Bytes(s), min(Bytes(e), size), true
}

// Size implements Device.
func (im *Image) Size() Bytes { return im.size }

// SectorBytes implements Device.
func (im *Image) SectorBytes() Bytes { return im.sector }

// Sync implements Device.
func (im *Image) Sync() error {
	if im.ro {
		return nil
	}
	return im.f.Sync()
}

// Share keeps writers out, of other processes too, while the drive is read as a
// whole; ErrInUse when one is at work.
func (im *Image) Share() error {
	if err := unix.Flock(int(im.f.Fd()), unix.LOCK_SH|unix.LOCK_NB); err != nil {
		return fmt.Errorf("%s: %w", im.f.Name(), ErrInUse)
	}
	return nil
}

// Forget drops n bytes at off from the page cache, so that the next read of them
// comes from the medium.
func (im *Image) Forget(off, n Bytes) error {
	start := off.Down(page) // whole pages, else their edges would stay
	return unix.Fadvise(int(im.f.Fd()), int64(start), int64((off+n).Up(page)-start), unix.FADV_DONTNEED)
}

// Prefetch has n bytes at off read from the medium meanwhile; whether this hint is taken
// does not matter.
func (im *Image) Prefetch(off, n Bytes) {
	unix.Fadvise(int(im.f.Fd()), int64(off), int64(n), unix.FADV_WILLNEED)
}

// Fresh reads n bytes at off past the page cache of the host, where dev has one. They lie in
// buf, or in a new buffer where it is too short, which the caller may use again.
func Fresh(dev Device, off, n Bytes, buf []byte) ([]byte, error) {
	if d, ok := dev.(Refresher); ok {
		return d.Fresh(off, n, buf)
	}
	if Bytes(cap(buf)) < n {
		buf = make([]byte, n)
	}
	_, err := dev.ReadAt(buf[:n], int64(off))
	return buf[:n], err
}

// Hurry begins to put what was written at off onto the medium, where the device can do that
// without waiting for it. It makes nothing durable.
func Hurry(dev Device, off, n Bytes) {
	if d, ok := dev.(Hurrier); ok {
		d.Hurry(off, n)
	}
}

// Hurry begins to write back. That it could not is of no consequence.
func (im *Image) Hurry(off, n Bytes) {
	unix.SyncFileRange(int(im.f.Fd()), int64(off), int64(n), unix.SYNC_FILE_RANGE_WRITE)
}

// Fresh reads from the medium.
func (im *Image) Fresh(off, n Bytes, buf []byte) ([]byte, error) {
	if err := inBounds(im, int64(off), int64(n)); err != nil {
		return nil, err
	}
	if err := im.hurt(off, n, false); err != nil {
		return nil, err
	}
	start := off.Down(page)
	buf = alignedTo(buf, int((off+n).Up(page)-start))
	im.once.Do(func() { // the same file, whatever now has its name
		if f, err := os.OpenFile(fmt.Sprintf("/proc/self/fd/%d", im.f.Fd()), os.O_RDONLY|unix.O_DIRECT, 0); err == nil {
			im.past = f
		}
	})
	if im.past != nil {
		if k, err := im.past.ReadAt(buf, int64(start)); Bytes(k) >= off+n-start {
			return buf[off-start:][:n], nil
		} else if !errors.Is(err, unix.EINVAL) {
			return nil, cmp.Or(im.told(err, off, n, false), io.ErrUnexpectedEOF)
		}
	}
	// Where the host cannot do that, dropped from the cache first.
	if err := im.Forget(off, n); err != nil {
		return nil, err
	}
	_, err := im.ReadAt(buf[:n], int64(off))
	return buf[:n], err
}

// alignedTo returns n bytes that begin at a whole page of memory, of buf where it has as
// many from its own first one on.
func alignedTo(buf []byte, n int) []byte {
	if buf = buf[:cap(buf)]; len(buf) > 0 {
		if skip := -uintptr(unsafe.Pointer(unsafe.SliceData(buf))) % page; int(skip)+n <= len(buf) {
			return buf[skip:][:n]
		}
	}
	return alignedTo(make([]byte, n+page), n)
}

// Close releases the file and its lock.
func (im *Image) Close() error {
	if im.once.Do(func() {}); im.past != nil {
		im.past.Close()
	}
	return im.f.Close()
}
