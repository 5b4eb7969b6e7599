package run

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
)

// makeDurable keeps what the run is: where it writes, what the files hold that are to be
// compared, the records of its deletions, and its plan.
func makeDurable(p *rehearse.Run, o Options, dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := ran.NotePlaces(dir, p.Script, len(p.Columns)); err != nil {
		return err
	}
	if o.Compare {
		if err := noteContents(p, o.Dev, dir, o.Report); err != nil {
			return fmt.Errorf("the files could not be read for the comparison: %w. Nothing was written", err)
		}
	}
	for _, r := range p.Records {
		hash, err := o.Records.Save(r.Record, r.Contents)
		if err != nil {
			return fmt.Errorf("the record of the deletion could not be kept, so nothing was written: %w", err)
		}
		for j := range p.Meta.Entries {
			if p.Meta.Entries[j].Record == r.Record.ID {
				p.Meta.Entries[j].RecordHash = hash
			}
		}
	}
	b, err := json.Marshal(p.Meta)
	if err != nil {
		return err
	}
	p.Meta.Hash = ran.SumOf(b)
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
