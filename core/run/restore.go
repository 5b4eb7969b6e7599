package run

import (
	"context"
	"fmt"

	"jadetrail/core/shelf"
	"jadetrail/core/trail"
)

// RestoreToFolder puts files of a backup into a folder on the bench, compares them, and
// enters it in the trail.
func RestoreToFolder(ctx context.Context, o Options, backup string, only []string, to string, report func(shelf.Progress)) (*shelf.Restored, error) {
	m, err := o.Shelf.Load(backup)
	if err != nil {
		return nil, err
	}
	v, r, err := o.Shelf.Inside(m)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	out, err := shelf.ToFolder(ctx, v, only, to, report)
	if err != nil {
		return out, err
	}
	id, err := newID("e-x", o.Now().UTC().Format("20060102-150405"), o.Random)
	if err != nil {
		return out, err
	}
	return out, o.Trail.Append(trail.Entry{
		ID: id, Time: o.Now(), Who: o.Who, Job: o.Job, Act: trail.ActRestore, Backup: m.ID, Partition: m.From.Span.Number,
		Drive: trail.Drive{DiskID: m.From.DiskID, Model: m.From.Model, Serial: m.From.Serial},
		Text:  fmt.Sprintf("%d files from the backup of %s put into a folder, %s, %d compared", out.Files, m.From.Span.Title(), out.Bytes, out.Compared),
	})
}
