// Package shelf keeps backups: it makes, verifies and reads them.
//
// A backup is a folder ID/ on the shelf with manifest.json and its contents: image.zst,
// the whole partition, or files.tar.zst, its files as a tar (POSIX.1-2001 pax format),
// with their list in files.jsonl.zst. The contents are a row of zstd frames (RFC 8878),
// one a piece, that any zstd program turns into the raw partition or the tar. The
// manifest has the BLAKE3 hash of the whole, and of every piece its chaining value in
// the same tree.
package shelf

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"
	"lukechampine.com/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// Sentinel errors.
var (
	ErrRoom     = errors.New("the shelf has not enough room")
	ErrNoBackup = errors.New("no such backup on this shelf")
	ErrKind     = errors.New("a backup is an image, or of files")
	ErrDamaged  = errors.New("the backup is damaged")
	ErrBusy     = errors.New("the backup is just being made or taken away")
)

// Kind of a backup.
type Kind string

// The kinds of backup.
const (
	Image Kind = "image" // the whole partition
	Files Kind = "files" // its files, as a tar
)

// file is the name of the contents on the shelf.
func (k Kind) file() string {
	if k == Files {
		return "files.tar.zst"
	}
	return "image.zst"
}

// listFile is the name of the list of a backup's files.
const listFile = "files.jsonl.zst"

// Shelf is a folder of backups.
type Shelf struct {
	Dir string
	// Room overrides what the folder's file system says is free.
	Room func() (disk.Bytes, error)

	mu     sync.Mutex
	listed string // the manifest's sum that list belongs to
	list   []Entry
}

// Open returns the shelf at dir, which is made when it does not exist.
func Open(dir string) (*Shelf, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("the shelf cannot be opened: %w", err)
	}
	return &Shelf{Dir: dir}, nil
}

// Free is the room left on the shelf.
func (s *Shelf) Free() (disk.Bytes, error) {
	if s.Room != nil {
		return s.Room()
	}
	var st unix.Statfs_t
	if err := unix.Statfs(s.Dir, &st); err != nil {
		return 0, err
	}
	return disk.Bytes(st.Bavail) * disk.Bytes(st.Bsize), nil
}

// Origin is what a backup was made from.
type Origin struct {
	DiskID string      `json:"disk_id"`
	Model  string      `json:"model"`
	Serial string      `json:"serial"`
	Sector disk.Bytes  `json:"sector_bytes"`
	Span   layout.Span `json:"span"`
	// Fingerprint of the partition's metadata, or for what cannot be looked into,
	// of all its contents.
	Fingerprint string `json:"fingerprint"`
}

// Piece is one frame of the image. Off and Len are the place in the partition;
// FrameOff and FrameLen in the image file. Hash is the chaining value of the piece's
// subtree (package digest).
type Piece struct {
	Off      disk.Bytes `json:"off"`
	Len      disk.Bytes `json:"len"`
	FrameOff int64      `json:"frame_off"`
	FrameLen int64      `json:"frame_len"`
	Hash     string     `json:"blake3"`
	Zero     bool       `json:"zero,omitempty"`
}

// Manifest describes a backup.
type Manifest struct {
	Version int        `json:"version"`
	ID      string     `json:"id"`
	Kind    Kind       `json:"kind"`
	Made    time.Time  `json:"made"`
	Who     string     `json:"who"`
	From    Origin     `json:"from"`
	Bytes   disk.Bytes `json:"bytes"`        // of the raw image, or of the tar
	Stored  disk.Bytes `json:"stored_bytes"` // as it lies on the shelf
	// LeftOut tells that free clusters are zeros in the image; then Allocated are
	// the ranges that hold the partition's own bytes.
	LeftOut   bool            `json:"free_left_out"`
	Allocated [][2]disk.Bytes `json:"allocated,omitempty"`
	// Of a backup of files: what was chosen of them, none for all; how many there are,
	// with how many bytes of contents; how many could not be read; and the BLAKE3 hash
	// of their list.
	Folders    []string   `json:"folders,omitempty"`
	Count      int        `json:"files,omitempty"`
	Contents   disk.Bytes `json:"contents_bytes,omitempty"`
	Unreadable int        `json:"unreadable,omitempty"`
	ListHash   string     `json:"list_blake3,omitempty"`
	Hash       string     `json:"blake3"`           // of the whole raw image, or tar
	SHA256     string     `json:"sha256,omitempty"` // of the whole raw image, once it was exported
	Verified   *time.Time `json:"verified"`
	// Damage is what the last verification found, nil for a sound backup.
	Damage *Damage `json:"damage,omitempty"`
	// KeepUntil is the day until which the backup is meant to be kept.
	KeepUntil *time.Time `json:"keep_until,omitempty"`
	Pieces    []Piece    `json:"pieces"`
	// Sum is the BLAKE3 hash of this manifest with Sum empty.
	Sum string `json:"manifest_blake3"`
}

// Whole tells that all that the partition held is in the backup: an image, or every
// file of it, and that none of it is known to be damaged.
func (m *Manifest) Whole() bool {
	return m.Damage == nil && (m.Kind == Image || len(m.Folders) == 0 && m.Unreadable == 0)
}

// sum is the hash that stands in the manifest.
func (m Manifest) sum() (string, error) {
	m.Sum = ""
	b, err := json.Marshal(m)
	h := blake3.Sum256(b)
	return hex.EncodeToString(h[:]), err
}

var idForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{2,63}$`)

// ID makes a backup's name: when, of which partition, and a tail handed in.
func ID(now time.Time, number int, tail string) string {
	return fmt.Sprintf("b-%s-p%d-%s", now.UTC().Format("20060102-150405"), number, tail)
}

func (s *Shelf) path(id string, name ...string) (string, error) {
	if !idForm.MatchString(id) {
		return "", fmt.Errorf("%w: %q", ErrNoBackup, id)
	}
	return filepath.Join(append([]string{s.Dir, id}, name...)...), nil
}

// Load reads a backup's manifest.
func (s *Shelf) Load(id string) (*Manifest, error) {
	p, err := s.path(id, "manifest.json")
	if err != nil {
		return nil, err
	}
	b, err := os.ReadFile(p)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s", ErrNoBackup, id)
	}
	if err != nil {
		return nil, err
	}
	var m Manifest
	if err := json.Unmarshal(b, &m); err != nil {
		return nil, fmt.Errorf("%w: %s: its manifest cannot be read: %v", ErrDamaged, id, err)
	}
	if sum, err := m.sum(); err != nil || sum != m.Sum {
		return nil, fmt.Errorf("%w: %s: its manifest is not what was written", ErrDamaged, id)
	}
	if m.Version != 2 || m.Kind != Image && m.Kind != Files || m.ID != id || m.Bytes < 0 || m.Bytes > 1<<50 {
		return nil, fmt.Errorf("%w: %s: its manifest is of another backup or version", ErrDamaged, id)
	}
	next, frame := disk.Bytes(0), int64(0)
	for _, p := range m.Pieces {
		if p.Off != next || p.Len <= 0 || p.Len > maxPiece || p.FrameOff != frame || p.FrameLen <= 0 || p.FrameLen > int64(2*maxPiece) {
			return nil, fmt.Errorf("%w: %s: its manifest's pieces do not follow each other", ErrDamaged, id)
		}
		next, frame = next+p.Len, frame+p.FrameLen
	}
	if next != m.Bytes {
		return nil, fmt.Errorf("%w: %s: its pieces are %d bytes of %d", ErrDamaged, id, next, m.Bytes)
	}
	return &m, nil
}

// List returns the manifests of all whole backups, the newest first; what cannot
// be read is left out.
func (s *Shelf) List() ([]*Manifest, error) {
	dirs, err := os.ReadDir(s.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil // nothing was ever put there
	}
	if err != nil {
		return nil, err
	}
	var out []*Manifest
	for _, d := range dirs {
		if m, err := s.Load(d.Name()); err == nil {
			out = append(out, m)
		}
	}
	slices.SortFunc(out, func(a, b *Manifest) int { return b.Made.Compare(a.Made) })
	return out, nil
}

// Leftover is a folder on the shelf that is no whole backup.
type Leftover struct {
	ID    string
	Bytes disk.Bytes // that it takes
	Why   string
}

// Leftovers lists what on the shelf is no whole backup and is not being made.
func (s *Shelf) Leftovers() ([]Leftover, error) {
	dirs, err := os.ReadDir(s.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Leftover
	for _, d := range dirs {
		if !d.IsDir() || !idForm.MatchString(d.Name()) {
			continue
		}
		_, err := s.Load(d.Name())
		if err == nil {
			continue
		}
		free, busy := s.claim(d.Name())
		if busy != nil {
			continue
		}
		free()
		l := Leftover{ID: d.Name(), Why: "it was not finished"}
		if !errors.Is(err, ErrNoBackup) {
			l.Why = "its manifest cannot be used"
		}
		files, err := os.ReadDir(filepath.Join(s.Dir, d.Name()))
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			if i, err := f.Info(); err == nil {
				l.Bytes += disk.Bytes(i.Size())
			}
		}
		out = append(out, l)
	}
	return out, nil
}

// claim takes a backup's folder for one's own, until it is released.
func (s *Shelf) claim(id string) (release func(), err error) {
	dir, err := s.path(id)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s", ErrNoBackup, id)
	}
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("%w: %s", ErrBusy, id)
	}
	return func() { f.Close() }, nil
}

// Keep notes until when a backup is meant to be kept, nil for no day.
func (s *Shelf) Keep(id string, until *time.Time) error {
	m, err := s.Load(id)
	if err != nil {
		return err
	}
	m.KeepUntil = until
	dir, err := s.path(id)
	if err != nil {
		return err
	}
	return s.save(dir, m)
}

// Delete takes a backup away, or what is left of one: its manifest first, so that a cut
// leaves nothing that looks whole.
func (s *Shelf) Delete(id string) error {
	release, err := s.claim(id)
	if err != nil {
		return err
	}
	defer release()
	dir, err := s.path(id)
	if err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(dir, "manifest.json")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := SyncDir(dir); err != nil {
		return err
	}
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	return SyncDir(s.Dir)
}

// Stored opens the backup's zstd frames for a hand-over, with their file's name.
func (s *Shelf) Stored(m *Manifest) (*os.File, error) {
	p, err := s.path(m.ID, m.Kind.file())
	if err != nil {
		return nil, err
	}
	return os.Open(p)
}

func (s *Shelf) save(dir string, m *Manifest) error {
	var err error
	if m.Sum, err = m.sum(); err != nil {
		return err
	}
	b, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return WriteDurably(filepath.Join(dir, "manifest.json"), b)
}

// WriteDurably puts a file in place whole or not at all, and returns when it is
// durable.
func WriteDurably(path string, b []byte) error {
	tmp := path + ".part"
	f, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(tmp, path)
	}
	if err != nil {
		os.Remove(tmp)
		return err
	}
	return SyncDir(filepath.Dir(path))
}

// SyncDir makes the names in a folder durable.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
