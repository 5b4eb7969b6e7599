package run

import (
	"context"
	"errors"
	"fmt"

	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// ErrNoPartition is returned for a partition that does not exist.
var ErrNoPartition = errors.New("there is no such partition")

// BackUp makes a verified image of a partition on the shelf and enters it in the
// trail. The drive is only read.
func BackUp(ctx context.Context, o Options, number int, report func(shelf.Progress)) (*shelf.Manifest, error) {
	if im, ok := o.Dev.(interface{ Share() error }); ok {
		if err := im.Share(); err != nil {
			return nil, err
		}
	}
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		return nil, err
	}
	p, ok := sv.Layout.Find(number)
	if !ok {
		return nil, fmt.Errorf("%w %d", ErrNoPartition, number)
	}
	now := o.Now()
	tail, err := newID("", "", o.Random)
	if err != nil {
		return nil, err
	}
	m, err := o.Shelf.Make(ctx, shelf.Request{
		ID: shelf.ID(now, number, tail[2:]), Now: now.UTC(), Who: o.Who, Dev: survey.Window(o.Dev, *p), Volume: sv.Volumes[number],
		From: shelf.NewOrigin(sv.Layout, *p, o.Identity.Model, o.Identity.Serial),
	}, report)
	if err != nil {
		return nil, err
	}
	id := "e-" + m.ID
	return m, o.Trail.Append(trail.Entry{
		ID: id, Time: now, Who: o.Who, Job: o.Job, Act: trail.ActBackup, Drive: drive(o, sv.Layout), Partition: number, Backup: m.ID,
		Text: fmt.Sprintf("%s backed up: %s, %s on the shelf, verified", p.Title(), m.Bytes, m.Stored),
	})
}
