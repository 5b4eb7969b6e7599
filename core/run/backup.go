package run

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/rehearse"
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
	if im, ok := o.Dev.(disk.Sharer); ok {
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
	tail, err := rehearse.NewID("", "", o.Random)
	if err != nil {
		return nil, err
	}
	id := shelf.ID(now, number, tail[2:])
	e := trail.Entry{
		ID: "e-" + id, Time: now, Who: o.Who, Job: o.Job, Act: trail.ActBackup, Drive: o.Named(sv.Layout),
		Partition: number, Backup: id, Titles: []string{p.Title()},
	}
	return o.backedUp(e, p.Title(), func() (*shelf.Manifest, error) {
		return o.Shelf.Make(ctx, shelf.Request{
			Kind: w.Kind, Drive: sv.Layout, Folders: w.Folders, ID: id, Now: now.UTC(), Who: o.Who, Dev: survey.Window(o.Dev, *p), Volume: sv.Volume(number),
			From: shelf.NewOrigin(sv.Layout, *p, o.Identity.Model, o.Identity.Serial),
		}, report)
	})
}

// Books are where it is written down that a backup is about to be made, so that none is ever
// without its entry in the trail.
type Books interface {
	// Begin is told the entry, but for what is only known when the backup was made.
	Begin(e trail.Entry) error
	// Made is told when the backup is on the shelf.
	Made(e trail.Entry) error
	// End is told when it is entered, or came to nothing.
	End(e trail.Entry) error
}

// backedUp makes a backup and enters it: written down before, and struck out afterwards.
func (o Options) backedUp(e trail.Entry, title string, made func() (*shelf.Manifest, error)) (*shelf.Manifest, error) {
	if o.Books != nil {
		if err := o.Books.Begin(e); err != nil {
			return nil, err
		}
	}
	m, err := made()
	if err != nil {
		if o.Books != nil {
			err = errors.Join(err, o.Books.End(e))
		}
		return nil, err
	}
	if o.Books != nil {
		if err := o.Books.Made(e); err != nil {
			return m, err
		}
	}
	e.Text += WordBackup(title, m)
	if err := o.Trail.Append(e); err != nil {
		if o.Books != nil { // it is entered when that is possible
			return m, fmt.Errorf(
				"%w: the backup %s was made and verified, and its entry waits: %w", ErrWaiting, m.ID, err,
			)
		}
		return m, err
	}
	if o.Books != nil {
		return m, o.Books.End(e)
	}
	return m, nil
}

// WordBackup says what was backed up.
func WordBackup(title string, m *shelf.Manifest) string {
	if m.Kind == shelf.Image {
		return fmt.Sprintf("%s backed up: %s, %s on the shelf, verified", title, m.Bytes, m.Stored)
	}
	text := fmt.Sprintf(
		"Files of %s backed up: %d with %s, %s on the shelf, verified", title, m.Count, m.Contents, m.Stored,
	)
	if len(m.Folders) > 0 {
		text += fmt.Sprintf("; only %s", strings.Join(m.Folders, ", "))
	}
	if m.Unreadable > 0 {
		text += fmt.Sprintf("; %d could not be read", m.Unreadable)
	}
	return text
}
