package volume

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/script"
)

// Incoming is a file, folder, link or stream on its way into a volume. Its Path is
// counted from the folder that it arrives in; its Extents are where its contents lie in
// the source, and are empty where only Open can give them.
type Incoming struct {
	File
	Detail
	// SameAs is the path of another incoming file of which this is one more name.
	SameAs string
	// Open returns the contents.
	Open func() (io.ReaderAt, error)
	// Holes are what of the contents was never written and reads as zeros, in order; Off is
	// counted from the file's start. A volume that knows sparse files takes no room for them.
	Holes []Extent
	// Placed tells that the contents lie in free clusters of the volume already, and
	// where: whole clusters, from the file's start on.
	Placed []Extent
}

// Sparse is contents that know their holes, in order, with Off counted from the file's start.
type Sparse interface {
	io.ReaderAt
	Holes() []Extent
}

// HolesOf are the holes in what a file holds, nil for none, or where that is not known.
func HolesOf(r io.ReaderAt) []Extent {
	if s, ok := r.(Sparse); ok {
		return s.Holes()
	}
	return nil
}

// LengthOf is how long extents are all together.
func LengthOf(list []Extent) (n disk.Bytes) {
	for _, x := range list {
		n += x.Len
	}
	return n
}

// Arrival is what became of incoming files.
type Arrival struct {
	Folder  string            // the folder that they arrived in, as it is spelt
	Renamed map[string]string // names at the top that were taken
	Files   int
	Folders int
	Bytes   disk.Bytes
	// Notes tell what of the files the volume could not take over.
	Notes []string
}

// Loader is a volume that takes files in.
type Loader interface {
	// Load returns the script that puts files into a folder, which is made when it does not
	// exist. Contents are filled in from the named source.
	Load(into string, files []Incoming, o LoadOptions) (Loading, error)
}

// Keeper is a volume in which room for contents can be found before they are known, and
// from which files can be taken.
type Keeper interface {
	Volume
	Loader
	// Room returns free stretches of whole clusters, n bytes or a little more together.
	Room(n disk.Bytes) ([]Extent, error)
	// Remove returns the script that takes files, and folders with all that is in them, out
	// of the volume. What they held stays where it was until something else is put there.
	Remove(paths []string, now time.Time) (script.Script, error)
}

// LoadOptions are what loading needs beside the files.
type LoadOptions struct {
	// Source names the script's source that the extents lie in.
	Source string
	Now    time.Time
	// Onto, if it is not nil, tells that these are some more files of a load that was done
	// before: folders are the ones that it made. It gives the names at the top that it had to
	// keep apart from others, under those that they have where they come from.
	Onto map[string]string
	// Apart tells that contents lie in clusters of their own, however short they are.
	Apart bool
}

// Loading is files on their way into a volume: what is to be done, and what comes of it.
type Loading struct {
	Script  script.Script
	Arrival Arrival
}

// Together is the contents of files one behind the other, as one source that a script
// fills from. It is the same for the same files in the same order.
type Together struct {
	v      Volume
	files  []File
	starts []disk.Bytes
	size   disk.Bytes

	mu   sync.Mutex
	last int
	open io.ReaderAt
}

// Gather puts files of a volume, sorted as Files returns them, on their way into
// another; paths are counted from the folder base. What cannot be read is left out, and
// told in lost.
func Gather(v Volume, files []File, base string) (in []Incoming, all *Together, lost []string, err error) {
	all = &Together{v: v, last: -1}
	first := map[uint64]string{}
	same, _ := v.(SameNamer)
	detail, has := v.(Detailer)
	in = make([]Incoming, 0, len(files))
	for i, f := range files {
		if f.Unreadable != "" {
			lost = append(lost, f.Path+": "+f.Unreadable)
			continue
		}
		again := false // a stream that arrived with the file's first name
		x := Incoming{File: f, Open: func() (io.ReaderAt, error) { return v.Open(files[i]) }}
		x.Path, x.Extents = strings.TrimPrefix(strings.TrimPrefix(f.Path, base), "/"), nil
		if has && f.Stream == "" {
			if x.Detail, err = detail.Detail(f); err != nil {
				return nil, nil, nil, err
			}
		}
		if x.Attributes&AttrSparse != 0 && f.Kind == Plain {
			if r, err := x.Open(); err == nil { // what cannot be read is told where it is read
				x.Holes = HolesOf(r)
			}
		}
		switch {
		case x.Path == "" || f.Kind != Plain:
		case same != nil && same.SameAs(f) != "":
			x.SameAs = strings.TrimPrefix(strings.TrimPrefix(same.SameAs(f), base), "/")
			again = f.Stream != ""
		case same == nil && has && first[f.ID] != "" && first[f.ID] != x.Path:
			x.SameAs = first[f.ID]
			again = f.Stream != ""
		default:
			if f.Stream == "" {
				first[f.ID] = x.Path
			}
			if f.Bytes > 0 {
				x.Extents = []Extent{{Off: all.size, Len: f.Bytes}}
				all.files, all.starts = append(all.files, f), append(all.starts, all.size)
				all.size += f.Bytes
			}
		}
		if x.Path != "" && !again {
			in = append(in, x)
		}
	}
	return in, all, lost, nil
}

// ReadAt implements io.ReaderAt.
func (t *Together) ReadAt(b []byte, off int64) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for done := 0; ; {
		at := disk.Bytes(off) + disk.Bytes(done)
		if done == len(b) {
			return done, nil
		}
		if at < 0 || at >= t.size {
			return done, io.EOF
		}
		i, exact := slices.BinarySearch(t.starts, at)
		if !exact {
			i--
		}
		if i != t.last {
			r, err := t.v.Open(t.files[i])
			if err != nil {
				return done, err
			}
			t.last, t.open = i, r
		}
		into := at - t.starts[i]
		n := min(disk.Bytes(len(b)-done), t.files[i].Bytes-into)
		if k, err := t.open.ReadAt(b[done:done+int(n)], int64(into)); k < int(n) {
			return done + k, fmt.Errorf("%s: %w", t.files[i].Path, cmp.Or(err, io.ErrUnexpectedEOF))
		}
		done += int(n)
	}
}

// Size is the length of all contents.
func (t *Together) Size() disk.Bytes { return t.size }
