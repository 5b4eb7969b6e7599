// Package held is what an installation still holds of a partition besides its backups, so that it can be told,
// and taken away where the partition is erased.
package held

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/ran"
	"jadetrail/core/trail"
)

// Holding is something that an installation still holds of the contents, or the names of files, of a
// partition.
type Holding struct {
	Kind  string     // of what there may be several: "record", "run", "comparison", "restored folder"
	Name  string     // which one
	Bytes disk.Bytes // that it takes
	// Erase overwrites it where it lies, and takes it away.
	Erase func() error
}

// Besides finds what else an installation holds of a partition.
type Besides func(d trail.Drive, span layout.Span) ([]Holding, error)

// Looked is where Of looks, for the certificate.
var Looked = []string{"the records of deletions", "the folders of runs", "the comparisons"}

// Of finds what the installation holds of a partition besides its backups: what records of its
// earlier deletions kept, what runs on its drive kept to be taken back and to compare, comparisons with
// it, and what besides adds, nil for nothing. own is a run that is left out, because it needs it still.
func Of(o facts.Shop, besides Besides, drive trail.Drive, span layout.Span, own string) ([]Holding, error) {
	out, err := heldByRecords(o, drive, span)
	if err != nil {
		return nil, err
	}
	runs, err := heldByRuns(o, drive, own)
	if err != nil {
		return nil, err
	}
	out = append(out, runs...)
	proofs, err := o.Coverage.List()
	if err != nil {
		return nil, err
	}
	for _, c := range proofs {
		for _, side := range []compare.Place{c.Here.Place, c.There.Place} {
			if !side.Drive().Same(drive) || !layout.SamePartition(side.Span, span) {
				continue
			}
			path := o.Coverage.Path(c.ID)
			out = append(out, Holding{"comparison", c.ID, sizeOf(path), func() error { return disk.Shred(path) }})
			break
		}
	}
	if besides != nil {
		more, err := besides(drive, span)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	return out, nil
}

func heldByRecords(o facts.Shop, drive trail.Drive, span layout.Span) ([]Holding, error) {
	all, err := o.Records.Of(drive)
	if err != nil {
		return nil, err
	}
	var out []Holding
	for _, rec := range all {
		if rec.Erased || !layout.SamePartition(rec.Span, span) {
			continue
		}
		n := disk.Bytes(0)
		for name := range rec.Blobs {
			n += sizeOf(filepath.Join(o.Records.Dir, rec.ID, name))
		}
		out = append(out, Holding{"record", rec.ID, n, func() error { return o.Records.Blank(rec.ID) }})
	}
	return out, nil
}

// heldByRuns are the ended runs on a drive that hold something still.
func heldByRuns(o facts.Shop, drive trail.Drive, own string) ([]Holding, error) {
	dirs, err := os.ReadDir(o.Runs)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Holding
	for _, d := range dirs {
		m, r, err := ran.Read(o.Runs, d.Name())
		if err != nil || r == nil || m.ID == own || !drive.Same(m.Drive()) { // strays are told elsewhere
			continue
		}
		n := disk.Bytes(0)
		for _, name := range ran.Telling {
			n += sizeOf(filepath.Join(o.Runs, m.ID, name))
		}
		if n > 0 || m.HoldsNames() {
			out = append(out, Holding{"run", m.ID, n, func() error { return ran.Forget(o.Runs, m) }})
		}
	}
	return out, nil
}

func sizeOf(path string) disk.Bytes {
	st, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return disk.Bytes(st.Size())
}

// Text says what is held, by kind.
func Text(held []Holding) string {
	count, bytes := map[string]int{}, disk.Bytes(0)
	for _, h := range held {
		count[h.Kind]++
		bytes += h.Bytes
	}
	var kinds []string
	for k, n := range count {
		if n == 1 {
			kinds = append(kinds, "1 "+k)
		} else {
			kinds = append(kinds, fmt.Sprintf("%d %ss", n, k))
		}
	}
	slices.Sort(kinds)
	return fmt.Sprintf("%s (%s)", strings.Join(kinds, ", "), bytes)
}
