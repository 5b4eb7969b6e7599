package run

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"jadetrail/core/ran"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
)

// keep makes durable what the run is: where it writes, what the files hold that are to be
// compared, the records of its deletions, and its plan.
func (p *prepared) keep(o Options, dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := ran.NotePlaces(dir, p.script, len(p.columns)); err != nil {
		return err
	}
	if o.Compare {
		if err := p.noteContents(o.Dev, dir, o.Report); err != nil {
			return fmt.Errorf("the files could not be read for the comparison: %w. Nothing was written", err)
		}
	}
	for _, r := range p.records {
		hash, err := o.Records.Save(r.rec, r.c)
		if err != nil {
			return fmt.Errorf("the record of the deletion could not be kept, so nothing was written: %w", err)
		}
		for j := range p.meta.Entries {
			if p.meta.Entries[j].Record == r.rec.ID {
				p.meta.Entries[j].RecordHash = hash
			}
		}
	}
	b, err := json.Marshal(p.meta)
	if err != nil {
		return err
	}
	p.meta.Hash = ran.SumOf(b)
	if err := disk.WriteDurably(filepath.Join(dir, ran.MetaFile), b); err != nil {
		return err
	}
	return disk.SyncDir(o.Runs)
}

// noteBegun notes durably, beside the journal, that there is one, and what the run moves.
func noteBegun(o Options, m *ran.Meta, c *carry.Carry) error {
	dir := filepath.Join(o.Runs, m.ID)
	n := ran.Begun{Version: 1, Run: m.ID, Begun: m.Begun, Drive: m.Drive(), Size: m.Before.Size, Meta: m.Hash}
	var err error
	if n.Pieces, err = notePieces(dir, c); err != nil {
		return err
	}
	b, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return disk.WriteDurably(filepath.Join(dir, ran.BegunFile), b)
}
