package run

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

// Names of the files in a run's folder.
const (
	metaFile     = "run.json"
	begunFile    = "begun.json"
	journalFile  = "journal"
	endedFile    = "ended.json"
	piecesFile   = "pieces.json"
	contentsFile = "contents.jsonl"
)

// begunNote is what stands beside a run's journal from before the first write on, and tells alone
// that there was one.
type begunNote struct {
	Version int         `json:"version"`
	Run     string      `json:"run"`
	Begun   time.Time   `json:"begun"`
	Drive   trail.Drive `json:"drive"`
	Size    disk.Bytes  `json:"size_bytes"`
	Meta    string      `json:"run_json"`              // BLAKE3 of run.json
	Pieces  string      `json:"pieces_json,omitempty"` // BLAKE3 of pieces.json
}

// runFolder is the folder of a run, as far as it can be read.
type runFolder struct {
	id     string
	ended  bool
	meta   *Meta
	begun  *begunNote
	broken error
}

// at is when the run was begun, as far as its folder says so.
func (d *runFolder) at() time.Time {
	switch {
	case d.begun != nil:
		return d.begun.Begun
	case d.meta != nil:
		return d.meta.Begun
	}
	return time.Time{}
}

// isOn tells that the run is one on the given drive.
func (d *runFolder) isOn(o Options, drive trail.Drive) bool {
	if d.meta != nil {
		m := d.meta
		size := o.Dev == nil || m.Before == nil || m.Before.Size == o.Dev.Size()
		was := trail.Drive{DiskID: m.DiskID, Serial: m.Identity.Serial}
		is := was
		if m.After != nil {
			is.DiskID = m.After.DiskID
		}
		if was.Same(drive) || is.Same(drive) {
			return size
		}
		// Neither its table nor its serial number names the drive.
		return size && m.Image == o.Image && (was.Serial == "" || drive.Serial == "") && (drive.DiskID == "" || was.DiskID == "" && is.DiskID == "")
	}
	return d.begun != nil && d.begun.Drive.Same(drive) && (o.Dev == nil || d.begun.Size == o.Dev.Size())
}

// folders reads all folders of runs. What is in the folder besides, and what cannot be read of
// runs, stops nothing: stray tells of it.
func folders(runs string) (out []runFolder, stray []string, err error) {
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
		if d.broken != nil && d.begun == nil && d.meta == nil {
			stray = append(stray, e.Name())
		}
		out = append(out, d)
	}
	return out, stray, nil
}

func readFolder(runs, id string) runFolder {
	d := runFolder{id: id}
	dir := filepath.Join(runs, id)
	if _, err := os.Stat(filepath.Join(dir, endedFile)); err == nil {
		d.ended = true
		return d
	}
	b, err := os.ReadFile(filepath.Join(dir, begunFile))
	if err == nil {
		var n begunNote
		if err := json.Unmarshal(b, &n); err != nil || n.Version != 1 || n.Run != id {
			d.broken = fmt.Errorf("%w: %s is not what was written", ErrBroken, begunFile)
		} else {
			d.begun = &n
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		d.broken = fmt.Errorf("%w: %s cannot be read", ErrBroken, begunFile)
	}
	_, err = os.Stat(filepath.Join(dir, journalFile))
	journal := err == nil
	b, err = os.ReadFile(filepath.Join(dir, metaFile))
	if errors.Is(err, fs.ErrNotExist) {
		if d.begun != nil || journal {
			d.broken = fmt.Errorf("%w: %s is gone", ErrBroken, metaFile)
		}
		return d
	}
	var m Meta
	switch {
	case err != nil:
		d.broken = fmt.Errorf("%w: %s cannot be read", ErrBroken, metaFile)
	case d.begun != nil && sumOf(b) != d.begun.Meta, json.Unmarshal(b, &m) != nil, m.ID != id:
		d.broken = fmt.Errorf("%w: %s is not what was written", ErrBroken, metaFile)
	case m.Version != metaVersion:
		d.broken = fmt.Errorf(
			"%w: another version of this program began it, and only that can go on with it", ErrBroken,
		)
	default:
		m.sum = sumOf(b)
		d.meta = &m
	}
	return d
}

func sumOf(b []byte) string {
	sum := blake3.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Stray tells what lies in the folder of the runs and is none, or cannot be read as one.
func Stray(runs string) ([]string, error) {
	_, stray, err := folders(runs)
	return stray, err
}
