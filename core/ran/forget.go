package ran

import (
	"encoding/json"
	"path/filepath"

	"jadetrail/core/disk"
)

// Telling are the files of a run that hold contents or names, and that nobody needs once it has ended.
var Telling = []string{JournalFile, JournalFile + ".new", ContentsFile, PiecesFile}

// Forget takes away what an ended run keeps of contents and names.
func Forget(runs string, m *Meta) error {
	dir := filepath.Join(runs, m.ID)
	for _, name := range Telling {
		if err := disk.Shred(filepath.Join(dir, name)); err != nil {
			return err
		}
	}
	if !m.HoldsNames() {
		return nil
	}
	for i := range m.Arrivals {
		a := &m.Arrivals[i]
		a.Sums, a.Only, a.Renamed, a.Lost = nil, nil, nil, nil
	}
	for i := range m.Plan.Steps {
		m.Plan.Steps[i] = m.Plan.Steps[i].Unnamed()
	}
	b, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if err := disk.Shred(filepath.Join(dir, MetaFile)); err != nil {
		return err
	}
	return disk.WriteDurably(filepath.Join(dir, MetaFile), b)
}
