package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"jadetrail/core/carry"
	"jadetrail/core/layout"
	"jadetrail/core/rehearse"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
)

// ProveAfter is how old a verification may be in whose name something is deleted or put back, unless the shop has
// said otherwise: an older one is made again.
const ProveAfter = 24 * time.Hour

// leaned is a backup that a run leans on: it stands for something that is deleted, or is put back somewhere.
type leaned struct {
	*shelf.Manifest
	of   layout.Span
	back bool
}

// leansOn are the backups that the run leans on, each once.
func leansOn(p *rehearse.Run, sh *shelf.Shelf) (out []leaned, err error) {
	add := func(id string, of *layout.Span) error {
		if id == "" || slices.ContainsFunc(out, func(x leaned) bool { return x.ID == id }) {
			return nil
		}
		m, err := sh.Load(id)
		switch {
		case err != nil:
			return fmt.Errorf(
				"the backup %s, which the plan needs, is not on the shelf: %w. Nothing was written", id, err,
			)
		case of != nil:
			out = append(out, leaned{m, *of, false})
		case m.Damage == nil: // else what of it cannot be read is known, and was said
			out = append(out, leaned{m, m.From.Span, true})
		}
		return nil
	}
	for _, r := range p.Records {
		err = errors.Join(err, add(r.Record.Backup, &r.Record.Span))
	}
	for _, id := range p.Meta.Backups {
		err = errors.Join(err, add(id, nil))
	}
	for _, a := range p.Meta.Arrivals {
		err = errors.Join(err, add(a.Backup, nil))
	}
	return out, err
}

// proveBackups proves, before the first write, that the backups are whole which the run leans on: one that was
// verified longer ago, or is not the file that was verified, is read again, all of it.
func proveBackups(ctx context.Context, p *rehearse.Run, o Options) error {
	age := o.ProveAfter
	if age == 0 {
		age = ProveAfter
	}
	all, err := leansOn(p, o.Shelf)
	if err != nil {
		return err
	}
	for _, x := range all {
		if x.Verified != nil && o.Now().Sub(*x.Verified) < age && x.Lies() == nil {
			continue
		}
		title := x.of.Title()
		what, why, then := "the backup that stands for "+title, "anything was deleted", "Make another"
		if x.back {
			what, why = "the backup of "+title+" that is to be put back", "it was put back"
			then = "What of it can still be had is shown on its page"
		}
		_, err = o.Shelf.Verify(ctx, x.ID, o.Now(), func(s shelf.Progress) {
			if o.Report != nil {
				o.Report(carry.Progress{
					Phase: "reading the backup of " + title + " again", Done: s.Done, Total: s.Total,
				})
			}
		})
		if ctx.Err() != nil {
			return ErrNotBegun
		}
		if err != nil {
			return fmt.Errorf("%s was read again, and is not whole: %w. Nothing was written. %s", what, err, then)
		}
		e := trail.Entry{Act: trail.ActVerify, Backup: x.ID, Partition: x.of.Number}
		e.Text = fmt.Sprintf("Backup of %s read back and compared before %s, whole", title, why)
		if err := p.Enter(o.Options, e); err != nil {
			return err
		}
	}
	return nil
}
