package shop

import (
	"errors"
	"path"
	"slices"
	"sync"

	"jadetrail/core/disk"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
)

// FoundFile is a file in whose name a text stands, in a list that a record or a backup has kept.
type FoundFile struct {
	Path   string
	Bytes  disk.Bytes
	Record *trail.Record   // whose list it stands in, nil for a backup's
	Backup *shelf.Manifest // the same, nil for a record's
}

// mostNames bounds how many names are gone through for one search.
const mostNames = 500_000

// Names is the kind of what there is more of, where not all lists of files were gone through.
const Names = "names"

// findFiles goes through the lists of files, those of the newest records and backups first. A list that cannot be read
// holds nothing here: its record or backup says so itself.
func (s *Shop) findFiles(f *Found, in func(texts ...string) bool, records []*trail.Record, backups []*shelf.Manifest) error {
	left := mostNames
	add := func(x FoundFile) {
		if left--; left >= 0 && in(path.Base(x.Path)) {
			f.Files = append(f.Files, x)
		}
	}
	enough := func() bool {
		if len(f.Files) > MostOfKind {
			f.Files = f.Files[:MostOfKind]
			f.More["files"] = true
			return true
		}
		f.More[Names] = left < 0
		return left < 0
	}
	for _, rec := range records {
		if enough() {
			return nil
		}
		list, err := s.Records.FileList(rec)
		if err != nil {
			continue
		}
		for _, x := range list {
			if x.IsFile() {
				add(FoundFile{Path: x.Path, Bytes: x.Bytes, Record: rec})
			}
		}
	}
	sh := s.Shelf()
	for _, m := range backups {
		if m.Kind != shelf.Files {
			continue
		}
		if enough() {
			return nil
		}
		list, err := s.lists.of(m, sh)
		if errors.Is(err, shelf.ErrDamaged) {
			continue
		}
		if err != nil {
			return err
		}
		for _, x := range list {
			x.Backup = m
			add(x)
		}
	}
	enough()
	return nil
}

// fileLists are the names of the files in backups, by the hashes of their lists: what a backup holds does not change.
type fileLists struct {
	mu    sync.Mutex
	list  map[string][]FoundFile
	names int
}

// of are the files that a backup's list names.
func (x *fileLists) of(m *shelf.Manifest, sh *shelf.Shelf) ([]FoundFile, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if list, known := x.list[m.ListHash]; known {
		return list, nil
	}
	entries, err := sh.ListOf(m)
	if err != nil {
		return nil, err
	}
	out := make([]FoundFile, 0, len(entries))
	for _, e := range entries {
		if e.IsFile() {
			out = append(out, FoundFile{Path: e.Path, Bytes: e.Bytes})
		}
	}
	if x.names += len(out); x.list == nil || x.names > mostNames {
		x.list, x.names = map[string][]FoundFile{}, len(out)
	}
	x.list[m.ListHash] = out
	return out, nil
}

// Looked is a volume that somebody has looked into, by the address of its inside.
type Looked struct{ Title, Inside string }

// lastLooked are the volumes that people have looked into last, by who they are.
type lastLooked struct {
	mu sync.Mutex
	of map[uint64][]Looked
}

// mostLooked is how many are known of one person.
const mostLooked = 6

// LookedInto notes that somebody looks into a volume.
func (s *Shop) LookedInto(who uint64, x Looked) {
	l := &s.looked
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.of == nil {
		l.of = map[uint64][]Looked{}
	}
	list := slices.DeleteFunc(l.of[who], func(y Looked) bool { return y == x })
	l.of[who] = slices.Insert(list, 0, x)[:min(len(list)+1, mostLooked)]
}

// LastLooked are the volumes that somebody has looked into last, the latest first.
func (s *Shop) LastLooked(who uint64) []Looked {
	s.looked.mu.Lock()
	defer s.looked.mu.Unlock()
	return slices.Clone(s.looked.of[who])
}
