package run

import (
	"context"
	"fmt"
	"slices"
	"time"

	"jadetrail/core/carry"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
)

// ProveAfter is how old a verification may be in whose name something is deleted, unless the shop has said
// otherwise: an older one is made again.
const ProveAfter = 24 * time.Hour

// proveBackups proves, before the first write, that the backups are whole in whose name something is
// deleted: one that was verified longer ago is read again, all of it.
func (p *prepared) proveBackups(ctx context.Context, o Options) error {
	age := o.ProveAfter
	if age == 0 {
		age = ProveAfter
	}
	var proven []string
	for _, r := range p.records {
		id := r.rec.Backup
		if id == "" || slices.Contains(proven, id) {
			continue
		}
		proven = append(proven, id)
		title := r.rec.Span.Title()
		m, err := o.Shelf.Load(id)
		if err != nil {
			return fmt.Errorf("the backup that stands for %s is not on the shelf: %w. Nothing was written", title, err)
		}
		if m.Verified != nil && o.Now().Sub(*m.Verified) < age {
			continue
		}
		_, err = o.Shelf.Verify(ctx, id, o.Now(), func(s shelf.Progress) {
			if o.Report != nil {
				o.Report(carry.Progress{Phase: "reading the backup of " + title + " again", Done: s.Done, Total: s.Total})
			}
		})
		if ctx.Err() != nil {
			return ErrNotBegun
		}
		if err != nil {
			return fmt.Errorf("the backup that stands for %s was read again, and is not whole: %w. Nothing was written. Make another", title, err)
		}
		e := trail.Entry{Act: trail.ActVerify, Backup: id, Partition: r.rec.Span.Number}
		e.Text = fmt.Sprintf("Backup of %s read back and compared before anything was deleted, whole", title)
		if err := p.enter(o, e); err != nil {
			return err
		}
	}
	return nil
}
