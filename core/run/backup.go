package run

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// ErrNoPartition is returned for a partition that does not exist.
var ErrNoPartition = errors.New("there is no such partition")

// Wanted is a backup that is asked for: of which partition, and which folders of its
// files, none for all.
type Wanted struct {
	Partition int
	Kind      shelf.Kind
	Folders   []string
}

// BackUp makes a verified backup of a partition on the shelf and enters it in the
// trail. The drive is only read.
func BackUp(ctx context.Context, o Options, w Wanted, report func(shelf.Progress)) (*shelf.Manifest, error) {
	number := w.Partition
	if err := Closed(o); err != nil { // what is half moved is no backup of anything
		return nil, err
	}
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
		Kind: w.Kind, Drive: sv.Layout, Folders: w.Folders, ID: shelf.ID(now, number, tail[2:]), Now: now.UTC(), Who: o.Who, Dev: survey.Window(o.Dev, *p), Volume: sv.Volumes[number],
		From: shelf.NewOrigin(sv.Layout, *p, o.Identity.Model, o.Identity.Serial),
	}, report)
	if err != nil {
		return nil, err
	}
	id := "e-" + m.ID
	return m, o.Trail.Append(trail.Entry{
		ID: id, Time: now, Who: o.Who, Job: o.Job, Act: trail.ActBackup, Drive: drive(o, sv.Layout), Partition: number, Backup: m.ID,
		Text: wordBackup(p.Title(), m),
	})
}

func wordBackup(title string, m *shelf.Manifest) string {
	if m.Kind == shelf.Image {
		return fmt.Sprintf("%s backed up: %s, %s on the shelf, verified", title, m.Bytes, m.Stored)
	}
	text := fmt.Sprintf("Files of %s backed up: %d with %s, %s on the shelf, verified", title, m.Count, m.Contents, m.Stored)
	if len(m.Folders) > 0 {
		text += fmt.Sprintf("; only %s", strings.Join(m.Folders, ", "))
	}
	if m.Unreadable > 0 {
		text += fmt.Sprintf("; %d could not be read", m.Unreadable)
	}
	return text
}
