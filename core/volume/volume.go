// Package volume is what a file system offers to the rest of the core, whatever
// its kind.
package volume

import (
	"errors"
	"io"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
)

// Info is a volume's measurements. ShrinkCut is the smallest size without
// moving data, ShrinkMin with; it is exact when ShrinkMinExact.
type Info struct {
	Kind           Kind       `json:"kind"`
	Label          string     `json:"label"`
	Serial         string     `json:"serial"`
	ClusterBytes   disk.Bytes `json:"cluster_bytes"`
	TotalBytes     disk.Bytes `json:"total_bytes"`
	UsedBytes      disk.Bytes `json:"used_bytes"`
	ShrinkCut      disk.Bytes `json:"shrink_cut_bytes"`
	ShrinkMin      disk.Bytes `json:"shrink_min_bytes"`
	ShrinkMinExact bool       `json:"shrink_min_exact"`
	Clean          bool       `json:"clean"`
	// Hibernated tells that a system was put to sleep and will go on writing from
	// memory; RestorePoints that the volume keeps earlier states of itself;
	// BadClusters how many clusters it knows to be bad.
	Hibernated    bool  `json:"hibernated,omitempty"`
	RestorePoints bool  `json:"restore_points,omitempty"`
	BadClusters   int64 `json:"bad_clusters,omitempty"`
	// Tables are what stands before the clusters of a FAT volume, nil for other kinds.
	Tables *Tables `json:"tables,omitempty"`
	// Detail is what else is known, for people: the kind of encryption, the set that
	// a member belongs to.
	Detail string `json:"detail,omitempty"`
	// Use is how full the volume is along its length, in parts of equal size,
	// each from 0 to 255; it is what the map draws.
	Use []byte `json:"use,omitempty"`
}

// Tables are the file allocation tables of a volume: how many copies of how many bytes,
// and how much stands before the first cluster all together.
type Tables struct {
	Lead   disk.Bytes `json:"lead_bytes"`
	Bytes  disk.Bytes `json:"bytes"`
	Copies int        `json:"copies"`
}

// Free is the room left in the volume.
func (i Info) Free() disk.Bytes { return max(i.TotalBytes-i.UsedBytes, 0) }

// FileKind tells files, folders and links apart.
type FileKind string

// The kinds of file.
const (
	Plain  FileKind = "file"
	Folder FileKind = "folder"
	Link   FileKind = "link"
)

// Extent is a run of bytes on the volume; Off is -1 for a hole.
type Extent struct {
	Off disk.Bytes `json:"off"`
	Len disk.Bytes `json:"len"`
}

// File is one file, folder or link. Path has forward slashes and no leading
// one. Bytes is the length of its contents, Allocated the room it takes.
type File struct {
	Path      string     `json:"path"`
	Kind      FileKind   `json:"kind"`
	Bytes     disk.Bytes `json:"bytes"`
	Allocated disk.Bytes `json:"allocated,omitempty"`
	Modified  time.Time  `json:"modified"`
	Stream    string     `json:"stream,omitempty"`
	// Target is where a link leads, as far as the file system says.
	Target string `json:"target,omitempty"`
	// Stored tells that the contents are kept compressed or otherwise encoded.
	Stored  string   `json:"stored,omitempty"`
	Extents []Extent `json:"extents,omitempty"`
	// Unreadable says why the contents cannot be decoded; they are then listed,
	// never read as zeros.
	Unreadable string `json:"unreadable,omitempty"`
	// ID is the file's own number within its volume, the same for all its names; 0 for
	// what has none.
	ID uint64 `json:"-"`
	// Unwritten is how much at the end was never written and reads as zeros, where the file
	// system keeps that beside the file's place.
	Unwritten disk.Bytes `json:"-"`
}

// IsFile tells a file from a folder, a link and a further stream of a file.
func (f File) IsFile() bool { return f.Kind == Plain && f.Stream == "" }

// Source is a file for a new volume. Folders above it are made; Folder makes one
// that may stay empty. Reserve is room kept beyond the contents, in bytes, where the
// file system can do that.
type Source struct {
	Path     string
	Data     []byte
	Reserve  disk.Bytes
	Modified time.Time
	Folder   bool
}

// Volume is a file system that can be looked into.
type Volume interface {
	// Info measures the volume.
	Info() (Info, error)
	// Files returns every file, folder and link, sorted by path, the file
	// system's own files left out.
	Files() ([]File, error)
	// Walk visits every file, folder and link, folders before what is in them, the
	// file system's own files left out.
	Walk(visit func(File) error) error
	// List returns one folder's entries, at most limit of them, from a place on that
	// an earlier call returned ("" for the first), and the place of the next, "" at
	// the end. It reads no more of the folder than that takes.
	List(dir, from string, limit int) (page []File, next string, err error)
	// Stat returns one file by its path; only the folders along it are read.
	Stat(path string) (File, error)
	// Open returns the contents of a file that Files returned.
	Open(File) (io.ReaderAt, error)
	// Allocated calls f for each range [start, end) of the volume that is not
	// free, in order; what lies outside clusters counts as not free.
	Allocated(f func(start, end disk.Bytes) error) error
	// Fingerprint is a BLAKE3 hash, in hex, of all metadata: equal when nothing
	// in the volume has changed.
	Fingerprint() (string, error)
	// Agrees tells whether every cluster that holds data is marked so and every
	// file could be read: only then may free clusters be left out of a copy.
	Agrees() bool
	// Check compares the volume's structures with each other.
	Check() finding.List
}

// LastFile names the file that holds the volume's last used cluster, and tells whether
// it cannot be moved.
func LastFile(v Volume) (name string, fixed bool, err error) {
	if own, ok := v.(Laster); ok {
		return own.LastFile()
	}
	files, err := v.Files()
	last := disk.Bytes(-1)
	for _, f := range files {
		for _, e := range f.Extents {
			if e.Off >= 0 && e.Off+e.Len > last {
				last, name = e.Off+e.Len, f.Path
			}
		}
	}
	return name, false, err
}

// Sentinel errors of all file systems.
var (
	ErrNotThis    = errors.New("not a file system of this kind")
	ErrDamaged    = errors.New("the file system is damaged")
	ErrNotClean   = errors.New("the volume is not clean")
	ErrUnreadable = errors.New("the contents cannot be decoded")
	ErrNotFound   = errors.New("no such file or folder")
)
