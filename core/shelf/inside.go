package shelf

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/volume"
)

// Inside opens what a backup holds as a volume that is only read. Contents come from
// pieces that are compared with their hashes as they are read. Both are to be closed
// by closing the reader.
func (s *Shelf) Inside(m *Manifest) (volume.Volume, *Reader, error) {
	r, err := s.Reader(m)
	if err != nil {
		return nil, nil, err
	}
	if m.Kind == Image {
		v, err := inImage(m, r)
		if err != nil {
			r.Close()
			return nil, nil, err
		}
		return v, r, nil
	}
	list, err := s.listFor(m, r)
	if err != nil {
		r.Close()
		return nil, nil, err
	}
	a := &Archive{m: m, r: r, list: list, below: map[string][]int{}}
	for i := range list {
		p := parent(list[i].Path)
		a.below[p] = append(a.below[p], i)
	}
	return a, r, nil
}

// listFor returns the list of a backup's files, numbered, with what lies in damaged places
// marked. The last sound one is kept: making, filling and comparing ask for the same.
func (s *Shelf) listFor(m *Manifest, r *Reader) ([]Entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if m.Damage == nil && s.listed == m.Sum {
		return s.list, nil
	}
	list, err := s.ListOf(m)
	broken := errors.Is(err, ErrDamaged)
	if broken {
		list = listOfTar(m, r)
	} else if err != nil {
		return nil, err
	}
	for i := range list {
		list[i].ID = uint64(i + 1)
		if list[i].Unreadable == "" && list[i].At >= 0 && list[i].Data == nil {
			if n, _ := list[i].stored(); m.Damage.hits(list[i].At, n) {
				list[i].Unreadable = inDamage
			}
		}
	}
	if m.Damage == nil && !broken {
		s.listed, s.list = m.Sum, list
	}
	return list, nil
}

func parent(path string) string { return path[:max(strings.LastIndexByte(path, '/'), 0)] }

// Archive is the files of a backup as a volume that is only read.
type Archive struct {
	m     *Manifest
	r     *Reader
	list  []Entry
	below map[string][]int // by folder
}

// Info implements volume.Volume.
func (a *Archive) Info() (volume.Info, error) {
	i := volume.Info{Kind: volume.Unknown, TotalBytes: a.m.Contents, UsedBytes: a.m.Contents, Clean: true}
	if v := a.m.From.Span.Volume; v != nil {
		i.Kind, i.Label, i.Serial, i.ClusterBytes = v.Kind, v.Label, v.Serial, v.ClusterBytes
	}
	return i, nil
}

// Entry returns the list's line of a file that the archive returned.
func (a *Archive) Entry(f volume.File) (Entry, bool) {
	if f.ID == 0 || f.ID > uint64(len(a.list)) {
		return Entry{}, false
	}
	return a.list[f.ID-1], true
}

// Files implements volume.Volume.
func (a *Archive) Files() ([]volume.File, error) { return volume.Collect(a.Walk) }

// Walk implements volume.Volume.
func (a *Archive) Walk(visit func(volume.File) error) error {
	for _, e := range a.list {
		if err := visit(e.File); err != nil {
			return err
		}
	}
	return nil
}

func (a *Archive) folders() volume.Folders[string] {
	return volume.Folders[string]{
		Read: func(folder string, from int64, f func(volume.Entry[string], int64) bool) error {
			in := a.below[folder]
			for n := from; n < int64(len(in)); n++ {
				x := a.list[in[n]].File
				e := volume.Entry[string]{File: x}
				if x.Kind == volume.Folder && x.Stream == "" {
					e.Enter = &x.Path
				}
				e.File.Path = x.Path[len(parent(x.Path)):]
				e.File.Path = strings.TrimPrefix(e.File.Path, "/")
				if !f(e, n+1) {
					return nil
				}
			}
			return nil
		},
		Same: strings.EqualFold,
	}
}

// List implements volume.Volume.
func (a *Archive) List(dir, from string, limit int) ([]volume.File, string, error) {
	return a.folders().List(dir, from, limit)
}

// Stat implements volume.Volume.
func (a *Archive) Stat(path string) (volume.File, error) {
	path = strings.Trim(path, "/")
	i, ok := slices.BinarySearchFunc(a.list, path, func(e Entry, p string) int {
		return cmp.Or(
			strings.Compare(e.Path, p), strings.Compare(e.Stream, ""),
		)
	})
	if ok {
		return a.list[i].File, nil
	}
	return a.folders().Stat(path)
}

// SameAs is the first name of a file that has several.
func (a *Archive) SameAs(f volume.File) string {
	e, _ := a.Entry(f)
	return e.SameAs
}

// first is the line of a file's first name, or of the same stream of it.
func (a *Archive) first(e Entry) (Entry, bool) {
	i, ok := slices.BinarySearchFunc(a.list, e, func(x, e Entry) int {
		return cmp.Or(strings.Compare(x.Path, e.SameAs), strings.Compare(x.Stream, e.Stream))
	})
	if !ok || a.list[i].SameAs != "" {
		return Entry{}, false
	}
	return a.list[i], true
}

// Detail implements volume.Detailer.
func (a *Archive) Detail(f volume.File) (volume.Detail, error) {
	e, ok := a.Entry(f)
	if !ok {
		return volume.Detail{}, fmt.Errorf("%w: %s", volume.ErrNotFound, f.Path)
	}
	if x, ok := a.first(e); e.SameAs != "" && ok {
		return x.Detail, nil
	}
	return e.Detail, nil
}

// Open implements volume.Volume.
func (a *Archive) Open(f volume.File) (io.ReaderAt, error) {
	e, ok := a.Entry(f)
	switch {
	case !ok:
		return nil, fmt.Errorf("%w: %s", volume.ErrNotFound, f.Path)
	case e.Unreadable != "":
		return nil, fmt.Errorf("%s: %w: %s", f.Path, volume.ErrUnreadable, e.Unreadable)
	case e.SameAs != "":
		x, ok := a.first(e)
		if !ok {
			return nil, fmt.Errorf("%w: %s has no first name", ErrDamaged, f.Path)
		}
		return a.Open(x.File)
	case e.Data != nil || e.Bytes == 0:
		return bytes.NewReader(e.Data), nil
	case e.At < 0:
		return nil, fmt.Errorf("%s: %w: it has no contents in the backup", f.Path, volume.ErrUnreadable)
	}
	return member{a.r, e.At, e.Bytes, e.Holes}, nil
}

// Allocated implements volume.Volume: an archive has no clusters.
func (a *Archive) Allocated(func(start, end disk.Bytes) error) error { return nil }

// Fingerprint implements volume.Volume: the tar's own hash.
func (a *Archive) Fingerprint() (string, error) { return a.m.Hash, nil }

// Agrees implements volume.Volume.
func (a *Archive) Agrees() bool { return true }

// Check implements volume.Volume; Verify compares a backup with its hashes.
func (a *Archive) Check() finding.List { return nil }

// medium is an image's contents as a device that is only read.
type medium struct {
	*Reader
	sector disk.Bytes
}

func (d *medium) Size() disk.Bytes        { return d.m.Bytes }
func (d *medium) SectorBytes() disk.Bytes { return d.sector }
func (d *medium) Sync() error             { return nil }

func (d *medium) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off > int64(d.m.Bytes)-int64(len(b)) {
		return 0, fmt.Errorf("%w: %d bytes at %d of %d", disk.ErrBounds, len(b), off, d.m.Bytes)
	}
	return d.Reader.ReadAt(b, off)
}

func (d *medium) WriteAt([]byte, int64) (int, error) { return 0, disk.ErrReadOnly }
func (d *medium) Zero(disk.Bytes, disk.Bytes) error  { return disk.ErrReadOnly }

// Data implements disk.Device by the pieces that are not zeros.
func (d *medium) Data(off disk.Bytes) (start, end disk.Bytes, ok bool) {
	for i := int(off / pieceBytes); i < len(d.m.Pieces); i++ {
		if p := d.m.Pieces[i]; !p.Zero && p.Off+p.Len > off {
			return max(p.Off, off), p.Off + p.Len, true
		}
	}
	return 0, 0, false
}
