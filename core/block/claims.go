package block

import (
	"errors"
	"fmt"
	"os"
	"sync"

	"golang.org/x/sys/unix"
)

// Claims are the drives that a program has for itself. However often it opens one, others are kept out from the first
// time on, until it lets go of all.
type Claims struct {
	Host Host

	mu   sync.Mutex
	held map[string]*claim // by the kernel's names
}

type claim struct {
	drive   *Drive
	file    *os.File
	written bool // it was opened for that
}

// OpenPath opens the drive at a path as it is now: see Open.
func (c *Claims) OpenPath(path string, write bool) (*os.File, error) {
	d, err := c.Host.Drive(path)
	if err != nil {
		return nil, err
	}
	return c.Open(d, write)
}

// Open opens a drive that was looked at, and claims it before. A drive that was exchanged since, or since it was
// claimed, is not opened: ErrOther.
func (c *Claims) Open(d *Drive, write bool) (*os.File, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	has, ok := c.held[d.Name]
	if !ok {
		f, err := c.Host.Claim(d)
		if err != nil {
			return nil, err
		}
		if c.held == nil {
			c.held = map[string]*claim{}
		}
		has = &claim{drive: d, file: f}
		c.held[d.Name] = has
	}
	how := os.O_RDONLY
	if write {
		if d.ReadOnly {
			return nil, fmt.Errorf("%s: %w: its kernel or its switch says so", d.Path(), ErrReadOnly)
		}
		how, has.written = os.O_RDWR, true
	}
	return c.Host.open(has.drive, how)
}

// Release lets go of all drives; files that are still open stay so, but keep nobody out. Of those that were opened for
// writing the kernel reads the partition table again before.
func (c *Claims) Release() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out error
	for _, has := range c.held {
		if has.written {
			if err := unix.IoctlSetInt(int(has.file.Fd()), unix.BLKRRPART, 0); err != nil {
				out = errors.Join(out, fmt.Errorf(
					"this machine's kernel did not read the table of %s again, and knows the drive as it was before: %w",
					has.drive.Path(), err,
				))
			}
		}
		out = errors.Join(out, has.file.Close())
	}
	clear(c.held)
	return out
}
