package volume

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
)

// Entry is one entry of a folder: the file by its name alone, and what leads into
// it when it is a folder.
type Entry[H comparable] struct {
	File  File
	Enter *H
}

// Folders is a file system as folders that lead to each other.
type Folders[H comparable] struct {
	Root H
	// Read calls f for the entries of a folder from a place in it on, with the place
	// of the next, until f returns false.
	Read func(folder H, from int64, f func(e Entry[H], next int64) bool) error
	// Same tells whether two names are one to this file system.
	Same func(a, b string) bool
}

// maxDepth bounds the folders above a file.
const maxDepth = 256

// Walk visits every file below the root, folders before what is in them.
func (t Folders[H]) Walk(visit func(File) error) error {
	seen := map[H]bool{t.Root: true}
	var walk func(folder H, prefix string, depth int) error
	walk = func(folder H, prefix string, depth int) error {
		var in []Entry[H]
		var stop error
		err := t.Read(folder, 0, func(e Entry[H], _ int64) bool {
			e.File.Path = prefix + e.File.Path
			if stop = visit(e.File); stop == nil && e.Enter != nil {
				in = append(in, e)
			}
			return stop == nil
		})
		if stop != nil || err != nil {
			return firstOf(stop, err)
		}
		for _, e := range in {
			if seen[*e.Enter] || depth > maxDepth {
				return fmt.Errorf("%w: folder %s contains itself", ErrDamaged, e.File.Path)
			}
			seen[*e.Enter] = true
			if err := walk(*e.Enter, e.File.Path+"/", depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	return walk(t.Root, "", 0)
}

func firstOf(a, b error) error {
	if a != nil {
		return a
	}
	return b
}

// Find leads from the root along a path to a folder, and returns the path as the
// folders themselves spell it.
func (t Folders[H]) Find(dir string) (H, string, error) {
	at, path := t.Root, ""
	for part := range strings.SplitSeq(dir, "/") {
		if part == "" {
			continue
		}
		var next *H
		name := ""
		if err := t.Read(at, 0, func(e Entry[H], _ int64) bool {
			if e.Enter != nil && t.Same(e.File.Path, part) {
				next, name = e.Enter, e.File.Path
			}
			return next == nil
		}); err != nil {
			return at, "", err
		}
		if next == nil {
			return at, "", fmt.Errorf("%w: %s", ErrNotFound, dir)
		}
		at, path = *next, strings.TrimPrefix(path+"/"+name, "/")
	}
	return at, path, nil
}

// Stat returns one file by its path.
func (t Folders[H]) Stat(path string) (File, error) {
	dir, name := "", strings.Trim(path, "/")
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		dir, name = name[:i], name[i+1:]
	}
	at, dir, err := t.Find(dir)
	if err != nil {
		return File{}, err
	}
	var found *File
	if err := t.Read(at, 0, func(e Entry[H], _ int64) bool {
		if t.Same(e.File.Path, name) {
			found = &e.File
		}
		return found == nil
	}); err != nil {
		return File{}, err
	}
	if found == nil || name == "" {
		return File{}, fmt.Errorf("%w: %s", ErrNotFound, path)
	}
	if dir != "" {
		found.Path = dir + "/" + found.Path
	}
	return *found, nil
}

// List returns the entries of a folder, at most limit of them, from a place on that
// an earlier call returned, and the place of the next, empty at the end.
func (t Folders[H]) List(dir, from string, limit int) (page []File, next string, err error) {
	at, prefix, err := t.Find(dir)
	if err != nil {
		return nil, "", err
	}
	place := int64(0)
	if from != "" {
		if place, err = strconv.ParseInt(from, 10, 64); err != nil || place < 0 {
			return nil, "", fmt.Errorf("%w: place %q in a folder", ErrNotFound, from)
		}
	}
	if prefix != "" {
		prefix += "/"
	}
	last := place
	err = t.Read(at, place, func(e Entry[H], n int64) bool {
		if len(page) == limit {
			next = strconv.FormatInt(last, 10)
			return false
		}
		e.File.Path = prefix + e.File.Path
		page, last = append(page, e.File), n
		return true
	})
	return page, next, err
}

// Collect returns all files of a walk, sorted by path.
func Collect(walk func(func(File) error) error) ([]File, error) {
	var out []File
	err := walk(func(f File) error { out = More(out, f); return nil })
	slices.SortFunc(out, func(a, b File) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return strings.Compare(a.Stream, b.Stream)
	})
	return out, err
}

// More appends a file to a list that may become long: it is copied less often than append
// would do it.
func More(list []File, f File) []File {
	if len(list) == cap(list) {
		list = slices.Grow(list, max(len(list), 64))
	}
	return append(list, f)
}

// Contents reads a file from its extents; what is not on the volume, and what lies
// beyond written, reads as zeros.
type Contents struct {
	dev     disk.Device
	extents []Extent
	starts  []disk.Bytes
	size    disk.Bytes
	written disk.Bytes
}

// NewContents returns the contents of size bytes in the given extents, of which the
// first written bytes were ever written.
func NewContents(dev disk.Device, extents []Extent, size, written disk.Bytes) *Contents {
	c := &Contents{dev: dev, extents: extents, size: size, written: written}
	at := disk.Bytes(0)
	for _, e := range extents {
		c.starts = append(c.starts, at)
		at += e.Len
	}
	return c
}

// ReadAt implements io.ReaderAt.
func (c *Contents) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := disk.Bytes(off) + disk.Bytes(done)
		if off < 0 || at >= c.size {
			return done, io.EOF
		}
		i, exact := slices.BinarySearch(c.starts, at)
		if !exact {
			i--
		}
		if i < 0 || at-c.starts[i] >= c.extents[i].Len {
			return done, fmt.Errorf("%w: a file ends before its size", ErrDamaged)
		}
		e, into := c.extents[i], at-c.starts[i]
		n := min(e.Len-into, disk.Bytes(len(p)-done), c.size-at)
		live := min(max(c.written-at, 0), n)
		if e.Off < 0 {
			live = 0
		}
		part := p[done : done+int(n)]
		if live > 0 {
			if _, err := c.dev.ReadAt(part[:live], int64(e.Off+into)); err != nil {
				return done, err
			}
		}
		clear(part[live:])
		done += int(n)
	}
	return done, nil
}

// Drawn counts what is in use along a volume, for Info.Use.
type Drawn struct {
	per   int64
	total int64
	count []int64
	Used  int64
	Last  int64 // the last one in use, -1 for none
}

// parts is in how many parts a volume's use is drawn.
const parts = 96

// NewDrawn draws a volume of n clusters.
func NewDrawn(n int64) *Drawn {
	per := max((n+parts-1)/parts, 1)
	return &Drawn{per: per, total: n, count: make([]int64, (n+per-1)/per), Last: -1}
}

// Add counts the clusters [from, to) as in use.
func (d *Drawn) Add(from, to int64) {
	d.Used += to - from
	d.Last = max(d.Last, to-1)
	for c := from; c < to; {
		p := c / d.per
		n := min(to, (p+1)*d.per) - c
		d.count[p] += n
		c += n
	}
}

// Use is how full each part is, from 0 to 255.
func (d *Drawn) Use() []byte {
	use := make([]byte, len(d.count))
	for i, n := range d.count {
		whole := min(d.per, d.total-int64(i)*d.per)
		use[i] = byte((n*255 + whole - 1) / whole)
	}
	return use
}
