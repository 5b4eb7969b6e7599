package trail

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"time"

	"github.com/klauspost/compress/zstd"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Record is what is kept of one deletion. The larger parts lie beside it in
// files of their own, named in Blobs with their SHA-256.
type Record struct {
	Version     int               `json:"version"`
	ID          string            `json:"id"`
	Time        time.Time         `json:"time"`
	Who         string            `json:"who"`
	Run         string            `json:"run,omitempty"`  // that deleted it,
	Step        int               `json:"step,omitempty"` // and in which step of it, from 0
	Drive       Drive             `json:"drive"`
	Span        layout.Span       `json:"span"`
	Entry       []byte            `json:"entry"` // of the table, to the byte
	Fingerprint string            `json:"fingerprint"`
	Reason      string            `json:"reason"` // of the release
	Waiver      string            `json:"waiver,omitempty"`
	Backup      string            `json:"backup,omitempty"`
	Coverage    string            `json:"coverage,omitempty"` // the comparison that stood for a backup
	Erased      bool              `json:"erased,omitempty"`   // its place was overwritten; nothing of its contents is kept
	Files       int               `json:"files"`              // that it held, without folders, links and further streams
	Before      *layout.Layout    `json:"before"`
	After       *layout.Layout    `json:"after"`
	TableBefore []Stretch         `json:"table_before"`
	TableAfter  []Stretch         `json:"table_after"`
	Blobs       map[string]string `json:"blobs"`
}

// Stretch is bytes at a place on the drive.
type Stretch struct {
	Off  disk.Bytes `json:"off"`
	Data []byte     `json:"data"`
}

// Names of the files beside a record.
const (
	BlobFirst  = "first.bin.zst"   // first megabyte of the partition
	BlobLast   = "last.bin.zst"    // last megabyte
	BlobRanges = "ranges.json.zst" // the ranges that were not free: the allocation bitmap
	BlobFiles  = "files.json.zst"  // every file with size, date and extents
)

// Edge is how much of a partition's start and end is kept.
const Edge = disk.MiB

// Records is a folder of records.
type Records struct{ Dir string }

// ErrNoRecord is returned for a record that does not exist or was altered.
var ErrNoRecord = errors.New("no such record")

var recordForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{2,63}$`)

// Contents is what a record is made of beside its own fields.
type Contents struct {
	First, Last []byte
	Ranges      []disk.Range
	Files       []volume.File
}

// Save writes a record, durably and whole or not at all, and returns the hash
// that its trail entry holds.
func (r Records) Save(rec *Record, c Contents) (string, error) {
	if !recordForm.MatchString(rec.ID) {
		return "", fmt.Errorf("%w: %q", ErrNoRecord, rec.ID)
	}
	dir := filepath.Join(r.Dir, rec.ID)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	ranges, err := json.Marshal(c.Ranges)
	if err != nil {
		return "", err
	}
	files, err := json.Marshal(c.Files)
	if err != nil {
		return "", err
	}
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return "", err
	}
	rec.Version, rec.Blobs, rec.Files = 1, map[string]string{}, 0
	for _, f := range c.Files {
		if f.IsFile() {
			rec.Files++
		}
	}
	parts := map[string][]byte{BlobFirst: c.First, BlobLast: c.Last, BlobRanges: ranges, BlobFiles: files}
	if rec.Erased {
		parts = nil // a record without contents: not even their names
	}
	for name, b := range parts {
		z := enc.EncodeAll(b, nil)
		h := sha256.Sum256(z)
		rec.Blobs[name] = hex.EncodeToString(h[:])
		if err := disk.WriteDurably(filepath.Join(dir, name), z); err != nil {
			return "", err
		}
	}
	b, err := json.Marshal(rec)
	if err != nil {
		return "", err
	}
	if err := disk.WriteDurably(filepath.Join(dir, "record.json"), b); err != nil {
		return "", err
	}
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:]), disk.SyncDir(r.Dir)
}

// Blank takes away what a record keeps of contents and names: its files are overwritten and gone, and
// it says so. Its hash is another one from then on.
func (r Records) Blank(id string) error {
	rec, _, err := r.Load(id)
	if err != nil {
		return err
	}
	dir := filepath.Join(r.Dir, id)
	for _, name := range []string{BlobFirst, BlobLast, BlobRanges, BlobFiles} {
		if err := disk.Shred(filepath.Join(dir, name)); err != nil {
			return err
		}
	}
	rec.Erased, rec.Files, rec.Blobs, rec.Backup, rec.Coverage = true, 0, nil, "", ""
	b, err := json.Marshal(rec)
	if err != nil {
		return err
	}
	return disk.WriteDurably(filepath.Join(dir, "record.json"), b)
}

// Load reads a record and its hash.
func (r Records) Load(id string) (*Record, string, error) {
	if !recordForm.MatchString(id) {
		return nil, "", fmt.Errorf("%w: %q", ErrNoRecord, id)
	}
	b, err := os.ReadFile(filepath.Join(r.Dir, id, "record.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, "", fmt.Errorf("%w: %s", ErrNoRecord, id)
	}
	if err != nil {
		return nil, "", err
	}
	var rec Record
	if err := json.Unmarshal(b, &rec); err != nil || rec.ID != id || rec.Version != 1 {
		return nil, "", fmt.Errorf("%w: %s cannot be read", ErrNoRecord, id)
	}
	h := sha256.Sum256(b)
	return &rec, hex.EncodeToString(h[:]), nil
}

// Relying are the records whose contents a backup keeps.
func (r Records) Relying(backup string) ([]*Record, error) {
	return r.those(func(rec *Record) bool { return rec.Backup == backup })
}

// Of are the records of deletions from a drive, whatever its table was called at the time.
func (r Records) Of(d Drive) ([]*Record, error) {
	return r.those(func(rec *Record) bool { return rec.Drive.Same(d) })
}

// All are the records of all drives.
func (r Records) All() ([]*Record, error) {
	return r.those(func(*Record) bool { return true })
}

func (r Records) those(wanted func(*Record) bool) ([]*Record, error) {
	dirs, err := os.ReadDir(r.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []*Record
	for _, d := range dirs {
		if rec, _, err := r.Load(d.Name()); err == nil && wanted(rec) {
			out = append(out, rec)
		}
	}
	return out, nil
}

// maxBlob bounds what a record's file may unpack to.
const maxBlob = 1 << 30

// Blob reads one of the files beside a record and compares it with its hash.
func (r Records) Blob(rec *Record, name string) ([]byte, error) {
	want, ok := rec.Blobs[name]
	if !ok {
		return nil, fmt.Errorf("%w: %s has no %s", ErrNoRecord, rec.ID, name)
	}
	z, err := os.ReadFile(filepath.Join(r.Dir, rec.ID, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s of %s is gone", ErrNoRecord, name, rec.ID)
	}
	if err != nil {
		return nil, err
	}
	if h := sha256.Sum256(z); hex.EncodeToString(h[:]) != want {
		return nil, fmt.Errorf("%w: %s: %s was altered", ErrNoRecord, rec.ID, name)
	}
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxBlob))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.DecodeAll(z, nil)
}

// Whole tells that all files beside a record are there as they were written.
func (r Records) Whole(rec *Record) error {
	for _, name := range slices.Sorted(maps.Keys(rec.Blobs)) {
		if _, err := r.Blob(rec, name); err != nil {
			return err
		}
	}
	return nil
}

// FileList reads the list of files that the partition held.
func (r Records) FileList(rec *Record) ([]volume.File, error) {
	if rec.Erased {
		return nil, nil
	}
	b, err := r.Blob(rec, BlobFiles)
	if err != nil {
		return nil, err
	}
	var out []volume.File
	return out, json.Unmarshal(b, &out)
}

// Kept compares the first and last megabyte that a record kept with what the
// drive holds there now.
func (r Records) Kept(rec *Record, dev disk.Device) (bool, error) {
	if rec.Erased {
		return false, nil
	}
	w := disk.NewWindow(dev, rec.Span.Start.Offset(dev.SectorBytes()), rec.Span.Bytes)
	first, last, err := Edges(w)
	if err != nil {
		return false, err
	}
	for name, now := range map[string][]byte{BlobFirst: first, BlobLast: last} {
		was, err := r.Blob(rec, name)
		if err != nil {
			return false, err
		}
		if string(was) != string(now) {
			return false, nil
		}
	}
	return true, nil
}

// Edges reads the first and last megabyte of a partition.
func Edges(w disk.Device) (first, last []byte, err error) {
	n := min(Edge, w.Size())
	if first, err = disk.ReadFull(w, 0, n); err != nil {
		return nil, nil, err
	}
	last, err = disk.ReadFull(w, w.Size()-n, n)
	return first, last, err
}

// CheckRecord checks the files of a record that came from elsewhere: the record is the one that
// its trail entry names by its hash, and so is each file beside it.
func CheckRecord(id, hash string, files map[string][]byte) error {
	bad := func(what string) error { return fmt.Errorf("%w: %s of the record %s", ErrNoRecord, what, id) }
	if !recordForm.MatchString(id) {
		return bad("the name")
	}
	b, there := files["record.json"]
	h := sha256.Sum256(b)
	if !there || hash == "" || hex.EncodeToString(h[:]) != hash {
		return bad("record.json is not the one that the trail names, or is missing:")
	}
	var rec Record
	if err := json.Unmarshal(b, &rec); err != nil || rec.ID != id || rec.Version != 1 {
		return bad("record.json cannot be read:")
	}
	for name, x := range files {
		if name == "record.json" {
			continue
		}
		if !slices.Contains([]string{BlobFirst, BlobLast, BlobRanges, BlobFiles}, name) {
			return bad("a file of another name is with the parts")
		}
		h := sha256.Sum256(x)
		if want, known := rec.Blobs[name]; !known || hex.EncodeToString(h[:]) != want {
			return bad(name + " is not the one")
		}
	}
	for name := range rec.Blobs {
		if files[name] == nil {
			return bad(name + " is missing")
		}
	}
	return nil
}
