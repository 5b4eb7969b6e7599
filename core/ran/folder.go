// Package ran is what is kept of runs, each in a folder of its own: how it was begun, where it writes, and what
// it says of itself when it has ended.
package ran

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/trail"
)

// ErrBroken tells that what was kept of an open run is damaged or gone. Nothing is written
// on a guess; the run stays open.
var ErrBroken = errors.New("what was kept of the unfinished run is damaged")

// ErrNothing tells that there is no such run.
var ErrNothing = errors.New("no unfinished run on this drive")

// Names of the files in a run's folder.
const (
	MetaFile     = "run.json"
	BegunFile    = "begun.json"
	JournalFile  = "journal"
	EndedFile    = "ended.json"
	PiecesFile   = "pieces.json"
	ContentsFile = "contents.jsonl"
)

// Begun is what stands beside a run's journal from before the first write on, and tells alone
// that there was one.
type Begun struct {
	Version int         `json:"version"`
	Run     string      `json:"run"`
	Begun   time.Time   `json:"begun"`
	Drive   trail.Drive `json:"drive"`
	Size    disk.Bytes  `json:"size_bytes"`
	Meta    string      `json:"run_json"`              // BLAKE3 of run.json
	Pieces  string      `json:"pieces_json,omitempty"` // BLAKE3 of pieces.json
}

// Folder is the folder of a run, as far as it can be read.
type Folder struct {
	ID     string
	Ended  bool
	Meta   *Meta
	Begun  *Begun
	Broken error
}

// At is when the run was begun, as far as its folder says so.
func (d *Folder) At() time.Time {
	switch {
	case d.Begun != nil:
		return d.Begun.Begun
	case d.Meta != nil:
		return d.Meta.Begun
	}
	return time.Time{}
}

// IsOn tells that the run is one on a drive: of that size, 0 where it is not known, and with its image at that
// path.
func (d *Folder) IsOn(drive trail.Drive, size disk.Bytes, image string) bool {
	of := func(was disk.Bytes) bool { return size == 0 || was == size }
	if d.Meta == nil {
		return d.Begun != nil && d.Begun.Drive.Same(drive) && of(d.Begun.Size)
	}
	m := d.Meta
	if m.Before != nil && !of(m.Before.Size) {
		return false
	}
	was := trail.Drive{DiskID: m.DiskID, Serial: m.Identity.Serial}
	is := was
	if m.After != nil {
		is.DiskID = m.After.DiskID
	}
	if was.Same(drive) || is.Same(drive) {
		return true
	}
	// Neither its table nor its serial number names the drive.
	return m.Image == image && (was.Serial == "" || drive.Serial == "") && (drive.DiskID == "" || was.DiskID == "" && is.DiskID == "")
}

// Folders reads all folders of runs. What is in the folder besides, and what cannot be read of
// runs, stops nothing: stray tells of it.
func Folders(runs string) (out []Folder, stray []string, err error) {
	dirs, err := os.ReadDir(runs)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	for _, e := range dirs {
		if !e.IsDir() {
			stray = append(stray, e.Name())
			continue
		}
		d := readFolder(runs, e.Name())
		if d.Broken != nil && d.Begun == nil && d.Meta == nil {
			stray = append(stray, e.Name())
		}
		out = append(out, d)
	}
	return out, stray, nil
}

func readFolder(runs, id string) Folder {
	d := Folder{ID: id}
	dir := filepath.Join(runs, id)
	if _, err := os.Stat(filepath.Join(dir, EndedFile)); err == nil {
		d.Ended = true
		return d
	}
	b, err := os.ReadFile(filepath.Join(dir, BegunFile))
	if err == nil {
		var n Begun
		if err := json.Unmarshal(b, &n); err != nil || n.Version != 1 || n.Run != id {
			d.Broken = fmt.Errorf("%w: %s is not what was written", ErrBroken, BegunFile)
		} else {
			d.Begun = &n
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		d.Broken = fmt.Errorf("%w: %s cannot be read", ErrBroken, BegunFile)
	}
	_, err = os.Stat(filepath.Join(dir, JournalFile))
	journal := err == nil
	b, err = os.ReadFile(filepath.Join(dir, MetaFile))
	if errors.Is(err, fs.ErrNotExist) {
		if d.Begun != nil || journal {
			d.Broken = fmt.Errorf("%w: %s is gone", ErrBroken, MetaFile)
		}
		return d
	}
	var m Meta
	switch {
	case err != nil:
		d.Broken = fmt.Errorf("%w: %s cannot be read", ErrBroken, MetaFile)
	case d.Begun != nil && SumOf(b) != d.Begun.Meta, json.Unmarshal(b, &m) != nil, m.ID != id, m.Version == Version && !m.whole():
		d.Broken = fmt.Errorf("%w: %s is not what was written", ErrBroken, MetaFile)
	case m.Version != Version:
		d.Broken = fmt.Errorf(
			"%w: another version of this program began it, and only that can go on with it", ErrBroken,
		)
	default:
		m.Hash = SumOf(b)
		d.Meta = &m
	}
	return d
}

// SumOf is how a file of the folder is known again, by what is in it: its BLAKE3 in hexadecimal.
func SumOf(b []byte) string {
	sum := blake3.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Stray tells what lies in the folder of the runs and is none, or cannot be read as one.
func Stray(runs string) ([]string, error) {
	_, stray, err := Folders(runs)
	return stray, err
}
