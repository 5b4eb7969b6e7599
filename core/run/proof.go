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

// ProveAfter is how old a verification may be in whose name something is deleted or put back, unless the shop has
// said otherwise: an older one is made again.
const ProveAfter = 24 * time.Hour

// leaned is a backup that a run leans on: it stands for something that is deleted, or is put back somewhere.
type leaned struct {
	id, title string
	number    int // of the partition that it is of
	back      bool
}

// leansOn are the backups that the run leans on, each once.
func (p *prepared) leansOn(o Options) (out []leaned, err error) {
	add := func(x leaned) {
		if x.id != "" && !slices.ContainsFunc(out, func(y leaned) bool { return y.id == x.id }) {
			out = append(out, x)
		}
	}
	for _, r := range p.records {
		add(leaned{r.rec.Backup, r.rec.Span.Title(), r.rec.Span.Number, false})
	}
	back := slices.Clone(p.meta.Backups)
	for _, a := range p.meta.Arrivals {
		back = append(back, a.Backup)
	}
	for _, id := range back {
		if id == "" {
			continue
		}
		m, err := o.Shelf.Load(id)
		if err != nil {
			return nil, fmt.Errorf("a backup that is to be put back is not on the shelf: %w. Nothing was written", err)
		}
		if m.Damage == nil { // what of it cannot be read is known, and was said
			add(leaned{id, m.From.Span.Title(), m.From.Span.Number, true})
		}
	}
	return out, nil
}

// proveBackups proves, before the first write, that the backups are whole which the run leans on: one that was
// verified longer ago, or is not the file that was verified, is read again, all of it.
func (p *prepared) proveBackups(ctx context.Context, o Options) error {
	age := o.ProveAfter
	if age == 0 {
		age = ProveAfter
	}
	all, err := p.leansOn(o)
	if err != nil {
		return err
	}
	for _, x := range all {
		what, why, then := "the backup that stands for "+x.title, "anything was deleted", "Make another"
		if x.back {
			what, why, then = "the backup of "+x.title+" that is to be put back", "it was put back", "What of it can still be had is shown on its page"
		}
		m, err := o.Shelf.Load(x.id)
		if err != nil {
			return fmt.Errorf("%s is not on the shelf: %w. Nothing was written", what, err)
		}
		if m.Verified != nil && o.Now().Sub(*m.Verified) < age && m.Lies() == nil {
			continue
		}
		_, err = o.Shelf.Verify(ctx, x.id, o.Now(), func(s shelf.Progress) {
			if o.Report != nil {
				o.Report(carry.Progress{Phase: "reading the backup of " + x.title + " again", Done: s.Done, Total: s.Total})
			}
		})
		if ctx.Err() != nil {
			return ErrNotBegun
		}
		if err != nil {
			return fmt.Errorf("%s was read again, and is not whole: %w. Nothing was written. %s", what, err, then)
		}
		e := trail.Entry{Act: trail.ActVerify, Backup: x.id, Partition: x.number}
		e.Text = fmt.Sprintf("Backup of %s read back and compared before %s, whole", x.title, why)
		if err := p.enter(o, e); err != nil {
			return err
		}
	}
	return nil
}
