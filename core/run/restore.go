package run

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
	"lukechampine.com/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
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

// RestoreInto puts files of a backup into a folder of a volume on the drive: an
// ordinary plan of one step.
func RestoreInto(ctx context.Context, o Options, backup string, only []string, number int, folder string) (*Arrival, error) {
	o.Plan = &plan.Plan{Version: 1, Steps: []plan.Step{{Do: plan.CopyBack, Partition: fmt.Sprint(number), Backup: backup, Only: only, Folder: folder}}}
	res, err := CarryOut(ctx, o)
	if err != nil {
		return nil, err
	}
	return &res.Arrivals[0], nil
}

// RestoreImage puts a whole image in the place of a partition: an ordinary plan that
// deletes what is there, through the same gate as any deletion, and fills the place. A
// larger place is filled by growing the volume.
func RestoreImage(ctx context.Context, o Options, backup string, number int, release, waiver string) (*Result, error) {
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		return nil, err
	}
	p, ok := sv.Layout.Find(number)
	if !ok {
		return nil, fmt.Errorf("%w %d", ErrNoPartition, number)
	}
	o.Plan = &plan.Plan{Version: 1, Steps: []plan.Step{
		{Do: plan.Delete, Partition: fmt.Sprint(number), Release: release, Waiver: waiver},
		{Do: plan.Create, StartLBA: p.Start, Size: fmt.Sprintf("%d B", p.Bytes), Backup: backup},
	}}
	return CarryOut(ctx, o)
}

// Arrival is files of a backup that a run puts into a volume.
type Arrival struct {
	Number   int               `json:"partition"`
	Backup   string            `json:"backup"`
	Only     []string          `json:"only,omitempty"`
	Folder   string            `json:"folder,omitempty"`
	Files    int               `json:"files"`
	Folders  int               `json:"folders"`
	Bytes    disk.Bytes        `json:"bytes"`
	Renamed  map[string]string `json:"renamed,omitempty"`
	Lost     []string          `json:"not_restored,omitempty"` // could not be read in the backup
	Notes    []string          `json:"notes,omitempty"`        // what the volume could not take over
	Compared int               `json:"compared"`

	from volume.Volume // the backup, and what arrives of it, while the run lasts
	in   []volume.Incoming
}

// source names the arrival's contents in a script.
func (a *Arrival) source() string {
	return "files of " + a.Backup + " " + strings.Join(a.Only, "\x00")
}

// gathered opens a backup and gathers what arrives of it.
func (a *Arrival) gathered(sh *shelf.Shelf) (volume.Volume, *shelf.Reader, []volume.Incoming, *volume.Together, error) {
	m, err := sh.Load(a.Backup)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	v, r, err := sh.Inside(m)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	files, err := shelf.Choose(v, a.Only)
	var in []volume.Incoming
	var all *volume.Together
	if err == nil {
		in, all, a.Lost, err = volume.Gather(v, files, "")
	}
	if err != nil {
		r.Close()
		return nil, nil, nil, nil, err
	}
	a.Files, a.Folders, a.Bytes = 0, 0, 0
	for _, f := range in {
		switch {
		case f.Stream != "":
		case f.Kind == volume.Folder:
			a.Folders++
		default:
			a.Files++
		}
		a.Bytes += f.Bytes
	}
	return v, r, in, all, nil
}

// opened gathers the files of an arrival and puts their contents among the sources.
func (p *prepared) opened(sh *shelf.Shelf, a *Arrival) ([]volume.Incoming, error) {
	v, r, in, all, err := a.gathered(sh)
	if err != nil {
		return nil, err
	}
	a.from, a.in = v, in
	p.close = append(p.close, r.Close)
	p.sources[a.source()] = all
	return in, nil
}

// compare reads every file that arrived and compares it with the backup.
func (a *Arrival) compare(sh *shelf.Shelf, v volume.Volume) (int, error) {
	if v == nil {
		return 0, fmt.Errorf("%w: the volume in partition %d cannot be read", ErrDiffers, a.Number)
	}
	from, in := a.from, a.in
	if from == nil { // the run was begun by another process
		var r *shelf.Reader
		var err error
		if from, r, in, _, err = a.gathered(sh); err != nil {
			return 0, err
		}
		defer r.Close()
	}
	files, err := v.Files()
	if err != nil {
		return 0, err
	}
	there := make(map[[2]string]volume.File, len(files))
	for _, f := range files {
		there[[2]string{f.Path, f.Stream}] = f
	}
	archive, _ := from.(*shelf.Archive)
	var g errgroup.Group
	var n atomic.Int64
	_, keeps := v.(volume.Detailer)
	workers := runtime.GOMAXPROCS(0)
	for w := range workers { // each a stretch, so that what is read lies together
		part := in[len(in)*w/workers : len(in)*(w+1)/workers]
		g.Go(func() error {
			b := make([]byte, 1<<20)
			for _, x := range part {
				if err := a.same(x, there, v, archive, b); err != nil {
					return err
				}
				if x.Kind == volume.Plain && (x.SameAs == "" || !keeps) && x.Stream == "" {
					n.Add(1)
				}
			}
			return nil
		})
	}
	err = g.Wait()
	return int(n.Load()), err
}

// same compares one file that arrived; b is a buffer.
func (a *Arrival) same(x volume.Incoming, there map[[2]string]volume.File, v volume.Volume, archive *shelf.Archive, b []byte) error {
	_, keeps := v.(volume.Detailer)
	if !keeps && (x.Stream != "" || x.Kind == volume.Link) {
		return nil // the notes say that the volume has no such thing
	}
	path := x.Path
	top, _, _ := strings.Cut(path, "/")
	if name, renamed := a.Renamed[top]; renamed {
		path = name + path[len(top):]
	}
	if f := strings.Trim(a.Folder, "/"); f != "" {
		path = f + "/" + path
	}
	f, ok := there[[2]string{path, x.Stream}]
	if !ok || f.Kind != x.Kind || f.Kind == volume.Plain && x.SameAs == "" && f.Bytes != x.Bytes {
		return fmt.Errorf("%w: %s is not in partition %d as it is in the backup", ErrDiffers, path, a.Number)
	}
	if f.Kind != volume.Plain || x.SameAs != "" && keeps || f.Bytes == 0 {
		return nil
	}
	got, err := v.Open(f)
	if err != nil {
		return err
	}
	sum, err := hashOf(got, f.Bytes, b)
	if err != nil {
		return err
	}
	var want string
	if archive != nil {
		if e, ok := archive.Entry(x.File); ok {
			want = e.Hash
		}
	}
	if want == "" {
		was, err := x.Open()
		if err == nil {
			want, err = hashOf(was, f.Bytes, b)
		}
		if err != nil {
			return err
		}
	}
	if sum != want {
		return fmt.Errorf("%w: %s does not hold what the backup holds", ErrDiffers, path)
	}
	return nil
}

func hashOf(r io.ReaderAt, n disk.Bytes, b []byte) (string, error) {
	h := blake3.New(32, nil)
	for at := disk.Bytes(0); at < n; {
		part := b[:min(n-at, disk.Bytes(len(b)))]
		if k, err := r.ReadAt(part, int64(at)); k < len(part) {
			return "", errors.Join(ErrDiffers, err)
		}
		h.Write(part)
		at += disk.Bytes(len(part))
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Erased is a partition whose place a run overwrites, and what becomes of its backups.
type Erased struct {
	Title   string      `json:"title"`
	Span    layout.Span `json:"span"`
	Backups []string    `json:"backups,omitempty"` // that go too
	Step    int         `json:"step"`              // of the plan, from 0
}

// erased notes what is erased, and which backups go with it.
func (p *prepared) erased(o Options, c plan.Column, step int, rec *trail.Record) error {
	x := Erased{Title: rec.Span.Title(), Span: rec.Span, Step: step}
	all, err := o.Shelf.List()
	if err != nil {
		return err
	}
	if c.Step.Backups == "delete" {
		rec.Backup = ""
		for _, m := range all {
			if sameOrigin(m, p.sv.Layout.DiskID, rec.Span) {
				x.Backups = append(x.Backups, m.ID)
			}
		}
	}
	p.meta.Erased = append(p.meta.Erased, x)
	return nil
}

// proven reads what was erased, but for what later steps put there.
func (x Erased) proven(dev disk.Device, done script.Script) error {
	start := x.Span.Start.Offset(dev.SectorBytes())
	b, zeros := make([]byte, 1<<20), make([]byte, 1<<20)
	for at := start; at < start+x.Span.Bytes; {
		from, to, ok := dev.Data(at)
		if !ok || from >= start+x.Span.Bytes {
			return nil
		}
		for from, to = max(from, at), min(to, start+x.Span.Bytes); from < to; from += disk.Bytes(len(b)) {
			part := b[:min(disk.Bytes(len(b)), to-from)]
			if _, err := dev.ReadAt(part, int64(from)); err != nil {
				return err
			}
			for _, op := range done {
				if lo, hi := max(op.Off, from), min(op.Off+op.Len, from+disk.Bytes(len(part))); op.Step > x.Step && lo < hi {
					clear(part[lo-from : hi-from])
				}
			}
			if !bytes.Equal(part, zeros[:len(part)]) {
				return fmt.Errorf("%w: %s was erased, and the megabyte at byte %d of the drive still holds something", ErrDiffers, x.Title, from)
			}
		}
		at = to
	}
	return nil
}

// settle takes away the backups that go with what was erased.
func settle(o Options, m *Meta) error {
	for _, x := range m.Erased {
		for _, id := range x.Backups {
			if err := DeleteBackup(o, id, "its partition was erased: "+x.Title); err != nil && !errors.Is(err, shelf.ErrNoBackup) {
				return err
			}
		}
	}
	return nil
}

// ErrNeeded is returned for a backup that something still depends on.
var ErrNeeded = errors.New("the backup is still needed")

// DeleteBackup takes a backup off the shelf, or what is left of one, and enters it in
// the trail. One that a record depends on needs a reason.
func DeleteBackup(o Options, id, reason string) error {
	e := trail.Entry{ID: "e-gone-" + id, Time: o.Now(), Who: o.Who, Job: o.Job, Act: trail.ActDeleteBackup, Backup: id, Reason: strings.TrimSpace(reason)}
	m, err := o.Shelf.Load(id)
	if err == nil {
		e.Partition, e.Drive = m.From.Span.Number, trail.Drive{DiskID: m.From.DiskID, Model: m.From.Model, Serial: m.From.Serial}
		e.Text = fmt.Sprintf("Backup of %s of %s deleted, %s", m.From.Span.Title(), m.Made.Format("2 Jan 2006 15:04"), m.Stored)
	} else {
		left, e2 := o.Shelf.Leftovers()
		i := slices.IndexFunc(left, func(l shelf.Leftover) bool { return l.ID == id })
		if e2 != nil || i < 0 {
			return errors.Join(err, e2)
		}
		e.Text = fmt.Sprintf("What was left of the backup %s deleted, %s: %s", id, left[i].Bytes, left[i].Why)
	}
	needed, err := o.Records.Relying(id)
	if err != nil {
		return err
	}
	if len(needed) > 0 && e.Reason == "" {
		return fmt.Errorf("%w: the record of %s relies on it; nothing was deleted. Give a reason if it may go all the same", ErrNeeded, needed[0].Span.Title())
	}
	if len(needed) > 0 {
		e.Text += fmt.Sprintf("; the record of %s can no longer be brought back from it", needed[0].Span.Title())
	}
	if err := o.Trail.Append(e); err != nil {
		return err
	}
	return o.Shelf.Delete(id)
}
