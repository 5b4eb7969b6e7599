package run

import (
	"context"
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/rehearse"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// BackUpFind makes a verified backup of the files of a lost partition on the shelf, without
// bringing it back. Files in whose place something else lies are listed as not readable: what is
// read there is not theirs. The drive is only read.
func BackUpFind(ctx context.Context, o Options, start disk.LBA, told disk.Bytes, report func(shelf.Progress)) (*shelf.Manifest, error) {
	if err := Closed(o); err != nil {
		return nil, err
	}
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		return nil, err
	}
	f, err := facts.Find(o.Sources, o.Dev, sv, start, told)
	if err != nil {
		return nil, err
	}
	if f.Volume() == nil {
		return nil, fmt.Errorf("%w: what begins at sector %d cannot be looked into", facts.ErrNoFind, start)
	}
	stand := f.Stand(o.Dev, sv)
	m := marked{f.Volume(), map[[2]string]bool{}}
	if err := volume.WalkPlaces(f.Volume(), func(x volume.File) error {
		if x.Kind == volume.Plain && stand.File(x, start.Offset(sv.Layout.Sector)).State == seek.Taken {
			m.bad[[2]string{x.Path, x.Stream}] = true
		}
		return nil
	}); err != nil {
		return nil, fmt.Errorf("its files cannot be listed: %w", err)
	}
	var v volume.Volume = m
	if _, ok := m.Volume.(volume.Detailer); ok {
		v = markedDetails{m}
	}
	now := o.Now()
	tail, err := rehearse.NewID("", "", o.Random)
	if err != nil {
		return nil, err
	}
	p, id := f.Span(), shelf.ID(now, 0, tail[2:])
	e := trail.Entry{ID: "e-" + id, Time: now, Who: o.Who, Job: o.Job, Act: trail.ActBackup, Drive: o.Named(sv.Layout), Backup: id, Titles: []string{p.Title()},
		Text: fmt.Sprintf("%s, which a search found at sector %s: ", p.Title(), disk.Grouped(int64(start)))}
	return o.backedUp(e, "its volume", func() (*shelf.Manifest, error) {
		return o.Shelf.Make(ctx, shelf.Request{
			Kind: shelf.Files, Drive: sv.Layout, ID: id, Now: now.UTC(), Who: o.Who, Dev: f.Device(), Volume: v,
			From: shelf.NewOrigin(sv.Layout, p, o.Identity.Model, o.Identity.Serial),
		}, report)
	})
}

// marked is a volume of which some files are not readable.
type marked struct {
	volume.Volume
	bad map[[2]string]bool // by path and stream
}

func (m marked) mark(f volume.File) volume.File {
	if f.Unreadable == "" && m.bad[[2]string{f.Path, f.Stream}] {
		f.Unreadable = "something else lies in its place now"
	}
	return f
}

// Files implements volume.Volume.
func (m marked) Files() ([]volume.File, error) {
	list, err := m.Volume.Files()
	for i := range list {
		list[i] = m.mark(list[i])
	}
	return list, err
}

// Walk implements volume.Volume.
func (m marked) Walk(visit func(volume.File) error) error {
	return m.Volume.Walk(func(f volume.File) error { return visit(m.mark(f)) })
}

// List implements volume.Volume.
func (m marked) List(dir, from string, limit int) ([]volume.File, string, error) {
	list, next, err := m.Volume.List(dir, from, limit)
	for i := range list {
		list[i] = m.mark(list[i])
	}
	return list, next, err
}

// markedDetails is one of a volume that knows more of its files.
type markedDetails struct{ marked }

// Detail implements volume.Detailer.
func (m markedDetails) Detail(f volume.File) (volume.Detail, error) {
	d, _ := m.Volume.(volume.Detailer)
	return d.Detail(f)
}
