package run

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"

	"jadetrail/core/facts"

	"jadetrail/core/layout"
	"jadetrail/core/ran"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"jadetrail/core/disk"
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
		Drive: m.From.Drive(),
		Text: fmt.Sprintf(
			"%d files from the backup of %s put into a folder, %s, %d compared", out.Files, m.From.Span.Title(),
			out.Bytes, out.Compared,
		),
	})
}

// RestoreInto puts files of a backup into a folder of a volume on the drive: an
// ordinary plan of one step.
func RestoreInto(ctx context.Context, o Options, backup string, only []string, number int, folder string) (*ran.Arrival, error) {
	o.Plan = &plan.Plan{
		Version: 1,
		Steps:   []plan.Step{{Do: plan.CopyBack, Partition: fmt.Sprint(number), Backup: backup, Only: only, Folder: folder}},
	}
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

// opened gathers the files of an arrival, where that was not done already, and puts their
// contents among the sources.
func (p *prepared) opened(sh *shelf.Shelf, a *ran.Arrival) ([]volume.Incoming, error) {
	key := plan.Step{Backup: a.Backup, Only: a.Only}.Arrival()
	g := p.gathered[key]
	if g == nil {
		var err error
		if g, err = sh.Gather(a.Backup, a.Only); err != nil {
			return nil, err
		}
		p.close = append(p.close, g.Close)
	}
	a.Takes(g)
	a.Origin, a.In = g.Volume, g.In
	p.sources[a.Source()] = g.All
	return g.In, nil
}

// spot is a file that arrived and is to be compared: what it is on the volume, and what it
// should hold.
type spot struct {
	f    *volume.File
	x    *volume.Incoming
	want string // its hash, "" where only the source tells
}

// listing is what of an arrival is to be compared: files that lie in one stretch of the
// volume, in its order, and all others.
type listing struct {
	together, apart []spot
	files           int
}

// listed finds every file that arrived on the volume, by its name.
func listed(a *ran.Arrival, sh *shelf.Shelf, v volume.Volume) (*listing, error) {
	if v == nil {
		return nil, fmt.Errorf("%w: the volume in partition %d cannot be read", ErrDiffers, a.Number)
	}
	from, in := a.Origin, a.In
	sums := map[[2]string]string{}
	if a.From != 0 {
		if in = a.In; in == nil {
			in = noted(a)
		}
		for _, x := range a.Sums {
			sums[[2]string{x.Path, x.Stream}] = x.Hash
		}
	} else if from == nil { // the run was begun by another process
		g, err := sh.Gather(a.Backup, a.Only)
		if err != nil {
			return nil, err
		}
		defer g.Close()
		from, in = g.Volume, g.In
	}
	files, err := v.Files()
	if err != nil {
		return nil, err
	}
	there := make(map[[2]string]*volume.File, len(files))
	for i := range files {
		there[[2]string{files[i].Path, files[i].Stream}] = &files[i]
	}
	archive, _ := from.(*shelf.Archive)
	l := &listing{together: make([]spot, 0, len(in))}
	_, keeps := v.(volume.Detailer)
	for i := range in {
		x := &in[i]
		s, err := spotOf(a, x, there, keeps)
		if err != nil {
			return nil, err
		}
		if x.IsFile() && (x.SameAs == "" || !keeps) {
			l.files++
		}
		if s == nil {
			continue
		}
		if s.want = sums[[2]string{x.Path, x.Stream}]; archive != nil {
			if e, ok := archive.Entry(x.File); ok {
				s.want = e.Hash
			}
		}
		// What lies in one stretch is read in the order of the drive, many files at a time.
		if f := s.f; s.want != "" && len(f.Extents) == 1 && f.Extents[0].Off >= 0 && f.Extents[0].Len >= f.Bytes && f.Stored == "" && f.Unreadable == "" {
			l.together = append(l.together, *s)
		} else {
			l.apart = append(l.apart, *s)
		}
	}
	slices.SortFunc(l.together, func(a, b spot) int { return cmp.Compare(a.f.Extents[0].Off, b.f.Extents[0].Off) })
	return l, nil
}

// compare reads every file of a listing and compares it with where it comes from. dev is
// the volume's partition, which begins at start; what w compared on the way is left out.
func (l *listing) compare(v volume.Volume, dev disk.Device, start disk.Bytes, w *seen) error {
	together := slices.DeleteFunc(l.together, func(s spot) bool { return w.same[start+s.f.Extents[0].Off] })
	var g errgroup.Group
	workers := runtime.GOMAXPROCS(0)
	for k := range workers { // each a stretch
		part := func(l []spot) []spot { return l[len(l)*k/workers : len(l)*(k+1)/workers] }
		g.Go(func() error {
			b := make([]byte, window)
			if err := sameTogether(dev, part(together), b); err != nil {
				return err
			}
			for _, s := range part(l.apart) {
				if err := s.same(v, b[:1<<20]); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return g.Wait()
}

// window is how much is read at once when files are compared.
const window = 2 << 20

// sameTogether compares files that each lie in one stretch of dev, in their order.
func sameTogether(dev disk.Device, spots []spot, b []byte) error {
	for i := 0; i < len(spots); {
		start, k := spots[i].f.Extents[0].Off, i
		end := start
		for ; k < len(spots); k++ {
			e := spots[k].f.Extents[0].Off + spots[k].f.Bytes
			if e-start > window && k > i || spots[k].f.Extents[0].Off-end > 64*disk.KiB {
				break
			}
			end = e
		}
		if end-start > window { // one that is longer
			sum, err := hashOf(io.NewSectionReader(dev, int64(start), int64(end-start)), end-start, b)
			if err != nil {
				return err
			}
			if sum != spots[i].want {
				return spots[i].differs()
			}
			i = k
			continue
		}
		got := b[:end-start]
		if _, err := dev.ReadAt(got, int64(start)); err != nil {
			return err
		}
		for _, s := range spots[i:k] {
			at := s.f.Extents[0].Off - start
			sum := blake3.Sum256(got[at : at+s.f.Bytes])
			if hex.EncodeToString(sum[:]) != s.want {
				return s.differs()
			}
		}
		i = k
	}
	return nil
}

func (s *spot) differs() error {
	return fmt.Errorf("%w: %s does not hold what it held where it comes from", ErrDiffers, s.f.Path)
}

// spotOf finds a file that arrived on the volume, nil where there is nothing to compare.
func spotOf(a *ran.Arrival, x *volume.Incoming, there map[[2]string]*volume.File, keeps bool) (*spot, error) {
	if !keeps && (x.Stream != "" || x.Kind == volume.Link) {
		return nil, nil // the notes say that the volume has no such thing
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
		return nil, fmt.Errorf("%w: %s is not in partition %d as it is where it comes from", ErrDiffers, path, a.Number)
	}
	if keeps && x.Stream == "" && x.SameAs == "" && !x.Modified.IsZero() && volume.FileTime(f.Modified) != volume.FileTime(x.Modified) {
		return nil, fmt.Errorf(
			"%w: %s is of another time in partition %d than where it comes from", ErrDiffers, path, a.Number,
		)
	}
	if f.Kind != volume.Plain || x.SameAs != "" && keeps || f.Bytes == 0 {
		return nil, nil
	}
	return &spot{f: f, x: x}, nil
}

// same compares a file by itself; b is a buffer.
func (s *spot) same(v volume.Volume, b []byte) error {
	got, err := v.Open(*s.f)
	if err != nil {
		return err
	}
	sum, err := hashOf(got, s.f.Bytes, b)
	if err != nil {
		return err
	}
	want := s.want
	if want == "" && s.x.Open != nil {
		was, err := s.x.Open()
		if err == nil {
			want, err = hashOf(was, s.f.Bytes, b)
		}
		if err != nil {
			return err
		}
	}
	if sum != want {
		return s.differs()
	}
	return nil
}

func hashOf(r io.ReaderAt, n disk.Bytes, b []byte) (string, error) {
	h := blake3.New()
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

// NotKept says what the volumes could not take over of the files that came into them.
func (r *Result) NotKept() (out []string) {
	for _, a := range r.Arrivals {
		out = append(out, a.Notes...)
	}
	return out
}

// erased notes what is erased, and which backups go with it.
func (p *prepared) erased(o Options, c plan.Column, step int, rec *trail.Record) error {
	x := ran.Erased{Title: rec.Span.Title(), Span: rec.Span, Step: step}
	all, err := o.Shelf.List()
	if err != nil {
		return err
	}
	if c.Step.Backups == "delete" {
		if o.Shelf.Unsure != nil { // one of its backups may lie where nobody looks
			return o.Shelf.Unsure
		}
		rec.Backup = ""
		for _, m := range all {
			if m.From.Drive().Same(o.Named(p.sv.Layout)) && layout.SamePartition(m.From.Span, rec.Span) { // wherever it lay then, and however large
				x.Backups = append(x.Backups, m.ID)
			}
		}
	}
	p.meta.Erased = append(p.meta.Erased, x)
	held, err := Holdings(o, o.Named(p.sv.Layout), rec.Span, "")
	if err == nil && len(held) > 0 { // told before anything is overwritten
		p.columns[step].Detail += "; what else is held of it goes too: " + HeldText(held)
	}
	return err
}

// leftOfErased words the places of what was erased that the drive cannot write: what they hold may
// still be there.
func leftOfErased(x ran.Erased, dev disk.Device) (string, error) {
	start := x.Span.Start.Offset(dev.SectorBytes())
	if h, knows := dev.(disk.Knower); !knows || h.Hurt(start, x.Span.Bytes) == nil {
		return "", nil
	}
	bad, err := disk.Unreadable(dev, start, x.Span.Bytes, nil)
	if err != nil || len(bad) == 0 {
		return "", err
	}
	n := disk.Bytes(0)
	for _, b := range bad {
		n += b.Len
	}
	return fmt.Sprintf(
		", but for %s in %d places that the drive cannot write or read, the first at sector %s: what they held may still be there",
		n, len(bad), disk.Grouped(int64(bad[0].Off/bad[0].Sector)),
	), nil
}

// provenErased reads what was erased, but for what later steps put there.
func provenErased(x ran.Erased, dev disk.Device, done script.Script) error {
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
				return fmt.Errorf(
					"%w: %s was erased, and the megabyte at byte %d of the drive still holds something", ErrDiffers,
					x.Title, from,
				)
			}
		}
		at = to
	}
	return nil
}

// ErrNeeded is returned for a backup that something still depends on.
var ErrNeeded = errors.New("the backup is still needed")

// takeOff takes a backup off the shelf, or what is left of one, and enters it in the trail. One that a record
// depends on needs a reason.
func takeOff(o Options, id, reason string, away func(id string) error) error {
	e, err := Gone(o, id, reason)
	if err != nil {
		return err
	}
	if err := o.Trail.Append(e); err != nil {
		return err
	}
	return away(id)
}

// lastFor is the first of the records that rely on a backup and on no other, nil for none.
func (o Options) lastFor(needed []*trail.Record, id string) (*trail.Record, error) {
	all, err := o.Shelf.List()
	if err != nil {
		return nil, err
	}
	others := slices.DeleteFunc(slices.Clone(all), func(m *shelf.Manifest) bool { return m.ID == id || !m.Whole() })
	for _, rec := range needed {
		if facts.ForRecord(rec, others) == nil {
			return rec, nil
		}
	}
	return nil, nil
}

// Gone is the entry that a backup was deleted, or why it must not be.
func Gone(o Options, id, reason string) (trail.Entry, error) {
	e := trail.Entry{
		ID: "e-gone-" + id, Time: o.Now(), Who: o.Who, Job: o.Job, Act: trail.ActDeleteBackup, Backup: id,
		Reason: strings.TrimSpace(reason),
	}
	m, err := o.Shelf.Load(id)
	if err == nil {
		e.Partition, e.Drive = m.From.Span.Number, m.From.Drive()
		e.Text = fmt.Sprintf(
			"Backup of %s of %s deleted, %s", m.From.Span.Title(), m.Made.Format("2 Jan 2006 15:04"), m.Stored,
		)
	} else {
		left, e2 := o.Shelf.Leftovers()
		i := slices.IndexFunc(left, func(l shelf.Leftover) bool { return l.ID == id })
		if e2 != nil || i < 0 {
			return e, errors.Join(err, e2)
		}
		e.Text = fmt.Sprintf("What was left of the backup %s deleted, %s: %s", id, left[i].Bytes, left[i].Why)
	}
	needed, err := o.Records.Relying(id)
	if err != nil {
		return e, err
	}
	if len(needed) > 0 && e.Reason == "" {
		return e, fmt.Errorf(
			"%w: the record of %s relies on it; nothing was deleted. Give a reason if it may go all the same",
			ErrNeeded, needed[0].Span.Title(),
		)
	}
	last, err := o.lastFor(needed, id)
	if err != nil {
		return e, err
	}
	if last != nil && !o.Lead {
		return e, fmt.Errorf("%w: it is the last backup from which the record of %s can be brought back. "+
			"Nothing was deleted. Ask the lead to delete it", ErrLead, last.Span.Title())
	}
	if len(needed) > 0 {
		e.Text += fmt.Sprintf("; the record of %s can no longer be brought back from it", needed[0].Span.Title())
	}
	return e, nil
}
