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
	"crypto/ed25519"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// Sentinel errors.
var (
	ErrRoom     = errors.New("the shelf has not enough room")
	ErrNoBackup = errors.New("no such backup on this shelf")
	// ErrUnsure goes with ErrNoBackup where a place could not be looked into.
	ErrUnsure  = errors.New("whether it is there cannot be told, because not every place can be looked into")
	ErrKind    = errors.New("a backup is an image, or of files")
	ErrDamaged = errors.New("the backup is damaged")
	ErrBusy    = errors.New("the backup is just being made or taken away")
	ErrSame    = errors.New("a backup must lie on another drive")
	ErrNoPlace = errors.New("there is no such place for backups")
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

// manifestFile is the name of what makes a folder a backup.
const manifestFile = "manifest.json"

// Shelf is all the places where backups lie. Each backup is in one of them.
type Shelf struct {
	// Dir is a folder of the bench, "" for none; Volumes are folders in volumes on drives.
	Dir     string
	Volumes []*OnVolume
	// To is the title of the place that new backups go to, "" for the first.
	To string
	// Room overrides what the folder's file system says is free.
	Room func() (disk.Bytes, error)
	// Key signs the manifests that are written, nil for none. Keys are those that the shop has had: what
	// none of them has signed is foreign.
	Key  ed25519.PrivateKey
	Keys []ed25519.PublicKey
	// Unsure is why there may be Volumes that are not named here, nil where all are.
	Unsure error

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

// Onto returns the same shelf with new backups going to the place of that title.
func (s *Shelf) Onto(title string) *Shelf {
	return &Shelf{Dir: s.Dir, Volumes: s.Volumes, To: title, Room: s.Room, Unsure: s.Unsure, Key: s.Key, Keys: s.Keys}
}

// Missing tells that an error says for certain that there is no such backup.
func Missing(err error) bool { return errors.Is(err, ErrNoBackup) && !errors.Is(err, ErrUnsure) }

// absent says that a backup was not found; trouble is what kept a place from being looked into.
func (s *Shelf) absent(id string, trouble error) error {
	if trouble = errors.Join(trouble, s.Unsure); trouble != nil {
		return fmt.Errorf("%w: %s: %w: %w", ErrNoBackup, id, ErrUnsure, trouble)
	}
	return fmt.Errorf("%w: %s", ErrNoBackup, id)
}

func (s *Shelf) places() []place {
	var out []place
	if s.Dir != "" {
		out = append(out, &folder{s.Dir, s.Room})
	}
	for _, v := range s.Volumes {
		out = append(out, v)
	}
	return out
}

// target is the place that new backups go to.
func (s *Shelf) target() (place, error) {
	for _, p := range s.places() {
		if s.To == "" || p.title() == s.To {
			return p, nil
		}
	}
	return nil, fmt.Errorf("%w: %q", ErrNoPlace, s.To)
}

// OnDrive tells which partitions of a drive hold places of the shelf, with their titles.
func (s *Shelf) OnDrive(l *layout.Layout) map[int]string {
	out := map[int]string{}
	for _, p := range l.Partitions() {
		for _, v := range s.Volumes {
			if strings.EqualFold(p.UniqueID, v.Partition) {
				out[p.Number] = v.Title
			}
		}
	}
	return out
}

// Place is one of the places as it stands.
type Place struct {
	Title   string
	Image   string // of the drive that it lies on, "" for the bench itself
	Free    disk.Bytes
	Trouble string // why it cannot be used, "" when it can
}

// Has tells whether there is a place of that title.
func (s *Shelf) Has(title string) bool {
	return slices.ContainsFunc(s.places(), func(p place) bool { return p.title() == title })
}

// Places tells how all places stand.
func (s *Shelf) Places() []Place {
	var out []Place
	for _, p := range s.places() {
		x := Place{Title: p.title(), Image: p.image()}
		var err error
		if x.Free, err = p.free(); err != nil {
			x.Trouble = err.Error()
		}
		out = append(out, x)
	}
	return out
}

// Free is the room left in the place that new backups go to.
func (s *Shelf) Free() (disk.Bytes, error) {
	p, err := s.target()
	if err != nil {
		return 0, err
	}
	return p.free()
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

// Drive is the one that the backup was made of.
func (o Origin) Drive() layout.Drive {
	return layout.Drive{DiskID: o.DiskID, Model: o.Model, Serial: o.Serial}
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
	LeftOut   bool         `json:"free_left_out"`
	Allocated []disk.Range `json:"allocated,omitempty"`
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
	// Away tells that its shelf has left its bay since it was verified: nobody knows what was
	// done to it, until it is read again.
	Away bool `json:"-"`
	// Damage is what the last verification found, nil for a sound backup.
	Damage *Damage `json:"damage,omitempty"`
	// KeepUntil is the day until which the backup is meant to be kept.
	KeepUntil *time.Time `json:"keep_until,omitempty"`
	Pieces    []Piece    `json:"pieces"`
	// Touched is when the file of the contents was written to last, as it was when they were verified, in
	// nanoseconds of Unix time by the bench's own file system; 0 where that is not known.
	Touched int64 `json:"touched_ns,omitempty"`
	// TakenIn tells that it came from elsewhere.
	TakenIn *TakenIn `json:"taken_in,omitempty"`
	// Sum is the BLAKE3 hash of this manifest with Sum and Signature empty; Signature is the shop's
	// Ed25519 signature (RFC 8032) of it, in base64.
	Sum       string `json:"manifest_blake3"`
	Signature string `json:"signature,omitempty"`
	// Foreign tells that no key of the shop has signed it.
	Foreign bool `json:"-"`

	at place // where it was found
}

// Where is the title of the place that the backup lies in.
func (m *Manifest) Where() string {
	if m.at == nil {
		return ""
	}
	return m.at.title()
}

// On tells whether the backup lies on a drive with the given layout.
func (m *Manifest) On(l *layout.Layout) bool {
	v, ok := m.at.(*OnVolume)
	return ok && v.on(l)
}

// Whole tells that all that the partition held is in the backup: an image, or every
// file of it, and that none of it is known to be damaged.
func (m *Manifest) Whole() bool {
	return m.Damage == nil && (m.Kind == Image || len(m.Folders) == 0 && m.Unreadable == 0)
}

// sum is the hash that stands in the manifest.
func (m Manifest) sum() (string, error) {
	m.Sum, m.Signature = "", ""
	b, err := json.Marshal(m)
	h := blake3.Sum256(b)
	return hex.EncodeToString(h[:]), err
}

var idForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{2,63}$`)

// ID makes a backup's name: when, of which partition, and a tail handed in.
func ID(now time.Time, number int, tail string) string {
	return fmt.Sprintf("b-%s-p%d-%s", now.UTC().Format("20060102-150405"), number, tail)
}

// Load reads a backup's manifest.
func (s *Shelf) Load(id string) (*Manifest, error) {
	if !idForm.MatchString(id) {
		return nil, fmt.Errorf("%w: %q", ErrNoBackup, id)
	}
	var trouble error
	for _, p := range s.places() {
		b, err := p.manifest(id)
		switch {
		case err == nil:
			m, err := parse(id, b, p)
			if err != nil {
				return nil, err
			}
			return s.owned(m), nil
		case !errors.Is(err, fs.ErrNotExist):
			trouble = err
		}
	}
	return nil, s.absent(id, trouble) // it may lie in a place that cannot be read now
}

// parse reads a manifest and checks that its parts fit each other.
func parse(id string, b []byte, at place) (*Manifest, error) {
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
	m.at = at
	if on, ok := at.(*OnVolume); ok && m.Verified != nil && m.Verified.Before(on.Since) {
		m.Away, m.Verified = true, nil
	}
	return &m, nil
}

// List returns the manifests of all whole backups, the newest first; what cannot
// be read is left out.
func (s *Shelf) List() ([]*Manifest, error) {
	var out []*Manifest
	for _, p := range s.places() {
		err := p.each(func(id string, b []byte, err error) {
			if err != nil {
				return
			}
			if m, err := parse(id, b, p); err == nil {
				out = append(out, s.owned(m))
			}
		})
		if err != nil && p.image() == "" {
			return nil, err // a drive that is away takes its backups along
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
	var out []Leftover
	for _, p := range s.places() {
		var all []Leftover
		err := p.each(func(id string, b []byte, err error) {
			l := Leftover{ID: id, Why: "it was not finished"}
			if err == nil {
				if _, err = parse(id, b, p); err == nil {
					return
				}
				l.Why = "its manifest cannot be used"
			}
			all = append(all, l)
		})
		if err != nil && p.image() == "" {
			return nil, err
		}
		for _, l := range all {
			free, busy := p.claim(l.ID)
			if busy != nil {
				continue
			}
			free()
			if l.Bytes, err = p.size(l.ID); err != nil {
				return nil, err
			}
			out = append(out, l)
		}
	}
	return out, nil
}

// Keep notes until when a backup is meant to be kept, nil for no day.
func (s *Shelf) Keep(id string, until *time.Time) error {
	m, err := s.Load(id)
	if err != nil {
		return err
	}
	m.KeepUntil = until
	return s.save(m)
}

// Delete takes a backup away, or what is left of one.
func (s *Shelf) Delete(id string) error { return s.take(id, place.remove) }

// Erase is Delete with all that the backup holds overwritten.
func (s *Shelf) Erase(id string) error { return s.take(id, place.erase) }

// take takes a backup away.
func (s *Shelf) take(id string, away func(p place, id string) error) error {
	if !idForm.MatchString(id) {
		return fmt.Errorf("%w: %q", ErrNoBackup, id)
	}
	var trouble error
	for _, p := range s.places() {
		release, err := p.claim(id)
		if errors.Is(err, ErrNoBackup) {
			if errors.Is(err, ErrUnsure) {
				trouble = err
			}
			continue
		}
		if err != nil {
			return err
		}
		err = away(p, id)
		release()
		if !errors.Is(err, ErrNoBackup) {
			return err
		}
	}
	return s.absent(id, trouble)
}

// Stored is the row of a backup's zstd frames.
type Stored struct {
	*io.SectionReader
	Name string // of the file
	s    *spread
}

// Close releases it.
func (s *Stored) Close() error { return s.s.Close() }

// Stored opens a backup's zstd frames for a hand-over.
func (s *Shelf) Stored(m *Manifest) (*Stored, error) {
	f, err := s.file(m, m.Kind.file())
	if err != nil {
		return nil, err
	}
	return &Stored{io.NewSectionReader(f, 0, f.Size()), m.Kind.file(), f}, nil
}

// file opens a file of a backup.
func (s *Shelf) file(m *Manifest, name string) (*spread, error) {
	if m.at == nil {
		return nil, fmt.Errorf("%w: %s", ErrNoBackup, m.ID)
	}
	return m.at.open(m.ID, name)
}

func (s *Shelf) save(m *Manifest) error {
	if m.Foreign {
		return ErrForeign
	}
	b, err := s.sealed(m)
	if err != nil {
		return err
	}
	return m.at.save(m.ID, b)
}
