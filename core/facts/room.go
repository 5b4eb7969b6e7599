package facts

import (
	"errors"
	"path/filepath"

	"golang.org/x/sys/unix"

	"jadetrail/core/disk"
)

// Free is the room that the host has for runs, whether or not their folder was made already.
func Free(runs string) (disk.Bytes, error) {
	var st unix.Statfs_t
	err := unix.Statfs(runs, &st)
	for errors.Is(err, unix.ENOENT) && filepath.Dir(runs) != runs {
		runs = filepath.Dir(runs)
		err = unix.Statfs(runs, &st)
	}
	return disk.Bytes(st.Bavail) * disk.Bytes(st.Bsize), err
}
