// Package loop makes block devices of image files, for tests: loop devices of the Linux kernel, where there are some
// and whoever runs the tests may make them.
package loop

import (
	"errors"
	"os"
	"strconv"
	"testing"

	"golang.org/x/sys/unix"
)

// Attach makes a loop device of the image at path, with sectors of so many bytes, and returns where it is; it is let go
// when the test ends. Where that is not possible here the test is skipped, and says so.
func Attach(t *testing.T, path string, sector int) string {
	t.Helper()
	control, err := os.OpenFile("/dev/loop-control", os.O_RDWR, 0)
	if err != nil {
		t.Skipf("no loop devices here: %v", err)
	}
	defer control.Close()
	image, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer image.Close()
	for range 20 { // another may take the one that was free
		n, err := unix.IoctlRetInt(int(control.Fd()), unix.LOOP_CTL_GET_FREE)
		if err != nil {
			t.Skipf("no loop device is to be had here: %v", err)
		}
		at := "/dev/loop" + strconv.Itoa(n)
		dev, err := os.OpenFile(at, os.O_RDWR, 0)
		if err != nil {
			t.Skipf("no loop device is to be had here: %v", err)
		}
		conf := unix.LoopConfig{Fd: uint32(image.Fd()), Size: uint32(sector), Info: unix.LoopInfo64{Flags: unix.LO_FLAGS_PARTSCAN}}
		copy(conf.Info.File_name[:len(conf.Info.File_name)-1], path)
		err = unix.IoctlLoopConfigure(int(dev.Fd()), &conf)
		dev.Close()
		if errors.Is(err, unix.EBUSY) {
			continue
		}
		if err != nil {
			t.Skipf("no loop device can be made here: %v", err)
		}
		t.Cleanup(func() { Detach(t, at) })
		return at
	}
	t.Fatal("every loop device was taken by another")
	return ""
}

// Detach takes a loop device away. One that is away already stays so.
func Detach(t *testing.T, at string) {
	t.Helper()
	dev, err := os.OpenFile(at, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	if err := unix.IoctlSetInt(int(dev.Fd()), unix.LOOP_CLR_FD, 0); err != nil && !errors.Is(err, unix.ENXIO) {
		t.Errorf("%s is not let go: %v", at, err)
	}
}
