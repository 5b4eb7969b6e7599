package shop

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/held"
	"jadetrail/core/layout"
	"jadetrail/core/trail"
)

// besidesLooked is where besides looks.
var besidesLooked = []string{
	"the folders of files that were restored", "the drives that were handed out", "the search of the drive",
	"the former plans of the job", "what is kept in memory",
}

// besides finds what the shop holds of a partition beside what a run knows.
func (s *Shop) besides(d *Drive, job string) held.Besides {
	return func(of trail.Drive, span layout.Span) ([]held.Holding, error) {
		var out []held.Holding
		take := func(kind, path string) {
			out = append(out, held.Holding{
				Kind: kind, Name: filepath.Base(path), Bytes: heldAt(path),
				Erase: func() error { return disk.Shred(path) },
			})
		}
		restored, err := s.Restored(of, span)
		if err != nil {
			return nil, err
		}
		for _, p := range restored {
			take("restored folder", p)
		}
		copies, err := s.HandOuts(d)
		if err != nil {
			return nil, err
		}
		for _, p := range copies {
			take("handed-out drive", p)
		}
		if p := s.searchFile(d); heldAt(p) > 0 {
			take("search", p)
		}
		n, err := s.Store.NamingPlans(job)
		if err != nil {
			return nil, err
		}
		if n > 0 {
			out = append(out, held.Holding{
				Kind: "former plan", Name: fmt.Sprint(n), Erase: func() error { return s.Store.ForgetNames(job) },
			})
		}
		if s.holdsSeen(d.Path) {
			out = append(out, held.Holding{
				Kind: "page in memory", Name: filepath.Base(d.Path),
				Erase: func() error { s.forgetSeen(d.Path); return nil },
			})
		}
		return out, nil
	}
}

// OriginsFolder has, for each restored folder, the partition that its files are of: its backup may be
// gone, and the partition may have another number, or its number another partition, by the time that
// somebody asks.
const OriginsFolder = "restored-from"

// restoredFrom is the partition that the files of a restored folder are of.
type restoredFrom struct {
	trail.Drive
	Span layout.Span `json:"span"`
}

// lies tells that the files are of a partition: of the same, or of a lost one that was found in its
// place.
func (f restoredFrom) lies(span layout.Span) bool {
	return layout.SamePartition(f.Span, span) || f.Span.Number == 0 && f.Span.Start <= span.End && span.Start <= f.Span.End
}

// Restored are the folders with files that were restored from backups of a partition, whether those are
// still there or not. One of which nobody noted the partition goes by its number.
func (s *Shop) Restored(of trail.Drive, span layout.Span) (out []string, err error) {
	numbers, err := s.backedUpAs(of)
	if err != nil {
		return nil, err
	}
	folders, err := os.ReadDir(s.Folder("restored"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, f := range folders {
		var from restoredFrom
		b, err := os.ReadFile(filepath.Join(s.Folder(OriginsFolder), f.Name()+".json"))
		if err == nil {
			err = json.Unmarshal(b, &from)
		}
		its := err == nil && from.Same(of) && from.lies(span)
		if err != nil {
			backup := f.Name()[:max(0, strings.LastIndex(f.Name(), "-"))]
			n, known := numbers[backup]
			its = known && (n == span.Number || n == 0)
		}
		if its {
			out = append(out, filepath.Join(s.Folder("restored"), f.Name()))
		}
	}
	return out, nil
}

// backedUpAs are the numbers that the partitions of a drive had when they were backed up, by the ids of
// the backups; 0 where a backup is of none.
func (s *Shop) backedUpAs(of trail.Drive) (map[string]int, error) {
	entries, err := s.Store.Entries(store.Filter{Drive: &of, Act: string(trail.ActBackup)})
	if err != nil {
		return nil, err
	}
	out := map[string]int{}
	for _, e := range entries {
		if e.Backup != "" {
			out[e.Backup] = e.Partition
		}
	}
	return out, nil
}

// heldAt is how much a file or folder holds.
func heldAt(path string) (n disk.Bytes) {
	filepath.WalkDir(path, func(_ string, e os.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			if st, err := e.Info(); err == nil {
				n += disk.Bytes(st.Size())
			}
		}
		return nil // what cannot be read is told when it is to be overwritten
	})
	return n
}

// holdsSeen tells that something is in memory that was worked out of a drive or of volumes.
func (s *Shop) holdsSeen(path string) bool {
	s.seen.mu.Lock()
	_, some := s.seen.list[path]
	s.seen.mu.Unlock()
	s.sums.mu.Lock()
	defer s.sums.mu.Unlock()
	return some || len(s.sums.list)+len(s.sums.last) > 0
}

// forgetSeen forgets that.
func (s *Shop) forgetSeen(path string) {
	s.seen.mu.Lock()
	delete(s.seen.list, path)
	s.seen.mu.Unlock()
	s.sums.mu.Lock()
	defer s.sums.mu.Unlock()
	clear(s.sums.list)
	clear(s.sums.last)
}

// Erasing says what this installation holds of the partitions that a plan erases, before anything is
// overwritten.
func (s *Shop) Erasing(st *JobState) (map[int]string, error) {
	out := map[int]string{}
	o := s.Options(st.Drive, st.Job, "")
	for _, c := range st.Columns {
		if !c.Step.Erases() {
			continue
		}
		p, ok := st.Drive.Survey.Layout.Find(c.Number)
		if !ok {
			continue
		}
		all, err := held.Of(o.Shop, o.Besides, NameOf(st.Drive), *p, "")
		if err != nil {
			return nil, err
		}
		all = slices.DeleteFunc(all, func(h held.Holding) bool { return h.Kind == "page in memory" })
		if len(all) > 0 {
			out[c.Number] = held.Text(all)
		}
	}
	return out, nil
}
