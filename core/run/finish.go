package run

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// Ended is how a run came to its end.
type Ended string

// The ends.
const (
	EndDone   Ended = "done"
	EndUndone Ended = "undone"
	EndVoid   Ended = "void" // the journal never became whole; nothing was written
)

// All returns the runs of a folder that are not ended.
func All(runs string) ([]*Meta, error) {
	dirs, err := os.ReadDir(runs)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []*Meta
	for _, d := range dirs {
		if _, err := os.Stat(filepath.Join(runs, d.Name(), "ended.json")); err == nil {
			continue
		}
		b, err := os.ReadFile(filepath.Join(runs, d.Name(), "run.json"))
		if errors.Is(err, fs.ErrNotExist) {
			continue // cut before anything was begun
		}
		if err != nil {
			return nil, err
		}
		var m Meta
		if err := json.Unmarshal(b, &m); err != nil || m.Version != 1 {
			return nil, fmt.Errorf("the run %s cannot be read: %v", d.Name(), err)
		}
		out = append(out, &m)
	}
	return out, nil
}

// Pending returns the unfinished run on an image, nil for none.
func Pending(runs, image string) (*Meta, error) {
	all, err := All(runs)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(all, func(m *Meta) bool { return m.Image == image }); i >= 0 {
		return all[i], nil
	}
	return nil, nil
}

// Resume finishes or undoes the unfinished run on o.Image with the trail and
// shelf that it began with. Of the options, those of the plan are not used.
func Resume(ctx context.Context, o Options, undo bool) (*Result, error) {
	m, err := Pending(o.Runs, o.Image)
	if err != nil {
		return nil, err
	}
	if m == nil {
		return nil, ErrNothing
	}
	o.Who, o.Job, o.PC, o.Identity = m.Who, m.Job, m.PC, m.Identity
	o.Shelf = &shelf.Shelf{Dir: m.Shelf, Volumes: m.Shelves}
	for _, v := range m.Shelves {
		v.Now = o.Now
	}
	dir := filepath.Join(o.Runs, m.ID)
	j, f, err := openJournal(dir, o)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	res := &Result{Run: m.ID, Records: m.Kept, Marks: []string{}, Layout: m.After}
	c, err := carry.Open(j)
	if errors.Is(err, carry.ErrVoid) {
		// Cut before the first write: there is nothing to finish or to take back.
		res.Undone, res.Records, res.Layout = true, []string{}, m.Before
		return res, writeReport(o, m, &Report{Ended: EndVoid})
	}
	if err != nil {
		return nil, err
	}
	if undo {
		return undone(o, m, c, res)
	}
	sources := map[string]io.ReaderAt{}
	for _, id := range m.Backups {
		b, err := o.Shelf.Load(id)
		if err != nil {
			return nil, err
		}
		r, err := o.Shelf.Reader(b)
		if err != nil {
			return nil, err
		}
		defer r.Close()
		sources[id] = r
	}
	again := &prepared{sources: sources}
	defer again.release()
	for i := range m.Arrivals {
		if m.Arrivals[i].From != 0 {
			continue
		}
		if _, err := again.opened(o.Shelf, &m.Arrivals[i]); err != nil {
			return nil, err
		}
	}
	again.meta = m
	again.onDrive(o.Dev)
	return finish(ctx, o, m, c, again, res)
}

// finish carries the run out from where it stands, proves the result, and closes
// it in the trail. p is without a copy where the run was begun by another process.
func finish(ctx context.Context, o Options, m *Meta, c *carry.Carry, p *prepared, res *Result) (*Result, error) {
	if err := o.Trail.Append(m.Entries...); err != nil {
		return nil, err
	}
	rec := disk.NewRecorder(o.Dev)
	w := watching(c.Script(), m.Arrivals)
	if len(w.expect) > 0 {
		c.Seen = w.back
	}
	var list errgroup.Group
	if p.over != nil {
		list.Go(func() error { return w.list(o.Shelf, m.Arrivals, p.sv) })
	}
	if c.Script().Moves() { // before the copy is of no use any more
		if err := list.Wait(); err != nil {
			return res, err
		}
	}
	began := time.Now()
	err := c.Forward(ctx, rec, p.sources, o.Report)
	res.Took.ReadBack = c.ReadBack.Seconds()
	res.Took.Write = time.Since(began).Seconds() - res.Took.ReadBack
	if e := list.Wait(); err == nil {
		err = e
	}
	if err != nil {
		return res, stopped(o.Dev, m, c, err)
	}
	began = time.Now()
	if o.Report != nil {
		o.Report(carry.Progress{Phase: "reading the drive again, and proving it"})
	}
	proof, sv, err := prove(o, m, c, rec, p, w)
	if err != nil {
		return res, err
	}
	r := &Report{Ended: EndDone, Rewritten: c.Script().Rewritten(), Written: rec.Put(), Volumes: states(sv, p.sound)}
	if r.Start, err = startChecks(o.Dev, m.Before, sv, m.PC, cmp.Or(m.PCAfter, m.PC)); err != nil {
		return res, err
	}
	if m.Start != nil && !slices.Equal(r.Start, m.Start) { // a run begun by an older version has none
		return res, fmt.Errorf("%w: the start check does not come out as on the copy: %v instead of %v", ErrDiffers, r.Start, m.Start)
	}
	if r.Compared, err = compareContents(filepath.Join(o.Runs, m.ID), sv, o.Report); err != nil {
		return res, err
	}
	if x := r.Compared; x != nil {
		proof += fmt.Sprintf("; %s files read before and after, all %s the same", disk.Grouped(int64(x.Files)), x.Bytes)
	}
	res.Took.Prove = time.Since(began).Seconds()
	r.Proof, r.Took = proof, res.Took
	closing := []trail.Entry{{ID: "e-" + m.ID + "-done", Act: trail.ActDone, Text: proof, Before: m.Before, After: m.After}}
	good, why := mark(r.Volumes, m)
	if m.PCDuring != nil {
		closing = append(closing, up(m))
	}
	if r.Why = why; why == "" {
		r.Good = true
		closing = append(closing, good)
	} else {
		closing[0].Text += "; the state is not marked as good: " + why
	}
	res.Written, res.Report = r.Written, r
	res.Marks, res.Arrivals = []string{closing[0].ID}, m.Arrivals
	if why == "" {
		res.Good = good.ID
	}
	// Before the run is closed: one that is cut short here is finished, and settled, later.
	if err := settle(o, m); err != nil {
		return res, err
	}
	if err := savePC(o, m, m.PCAfter); err != nil {
		return res, err
	}
	return res, closeRun(o, m, r, closing...)
}

// savePC keeps the facts about the PC where the plan changes them.
func savePC(o Options, m *Meta, facts *pc.Facts) error {
	if m.PCAfter == nil {
		return nil
	}
	if o.SavePC == nil {
		return errNoPlace
	}
	if err := o.SavePC(facts); err != nil {
		return fmt.Errorf("the facts about the PC could not be kept: %w", err)
	}
	return nil
}

var errNoPlace = errors.New("the plan changes the facts about the PC, and there is no place to keep them")

// mark is the entry that marks the state after a run as good: every volume checks sound
// and was closed properly. Otherwise why tells what is wrong.
func mark(volumes []VolumeState, m *Meta) (e trail.Entry, why string) {
	for _, v := range volumes {
		if v.Text != "" {
			return e, fmt.Sprintf("%s (partition %d): %s", v.Title, v.Number, v.Text)
		}
	}
	return trail.Entry{ID: "e-" + m.ID + "-good", Act: trail.ActMark, After: m.After,
		Text: fmt.Sprintf("Good state marked: %d volumes check sound; their fingerprints are noted", len(volumes)), Prints: m.Prints}, ""
}

// prove reads the drive back: it is laid out as planned, every volume has the
// fingerprint that the copy had, and nothing was written beside the script.
func prove(o Options, m *Meta, c *carry.Carry, rec *disk.Recorder, p *prepared, w *seen) (string, *survey.Survey, error) {
	// What was written is read past the page cache.
	if im, ok := o.Dev.(interface {
		Forget(off, n disk.Bytes) error
		Prefetch(off, n disk.Bytes)
	}); ok {
		written := places(c.Script(), disk.MiB)
		for _, p := range written {
			if err := im.Forget(p[0], p[1]-p[0]); err != nil {
				return "", nil, err
			}
		}
		if len(m.Arrivals) > 0 && len(w.same) == 0 { // all of it will be compared
			for _, p := range written {
				im.Prefetch(p[0], p[1]-p[0])
			}
		}
	}
	sv, err := survey.Read(o.Dev, cmp.Or(m.PCAfter, o.PC))
	if err != nil {
		return "", nil, err
	}
	sv.Relabel(m.After)
	if d := layout.Differ(m.After, sv.Layout); len(d) > 0 {
		return "", nil, fmt.Errorf("%w: %s", ErrDiffers, strings.Join(d, " "))
	}
	var all errgroup.Group
	if p.over != nil && !c.Script().Moves() { // what was moved was compared as it was moved
		all.Go(func() error { return sameAsCopy(o.Dev, p.over, c.Script()) })
	}
	for n, want := range m.Prints {
		all.Go(func() error {
			v := sv.Volumes[number(n)]
			if v == nil {
				return fmt.Errorf("%w: the volume in partition %s cannot be read", ErrDiffers, n)
			}
			if got, err := v.Fingerprint(); err != nil || got != want {
				return fmt.Errorf("%w: the volume in partition %s has other metadata (%v)", ErrDiffers, n, err)
			}
			return nil
		})
	}
	if err := all.Wait(); err != nil {
		return "", nil, err
	}
	planned := places(c.Script(), 0)
	for _, w := range rec.Written() {
		i, _ := slices.BinarySearchFunc(planned, w[0], func(p [2]disk.Bytes, at disk.Bytes) int {
			if p[1] <= at {
				return -1
			}
			return 1
		})
		if i == len(planned) || w[0] < planned[i][0] || planned[i][1] < w[1] {
			return "", nil, fmt.Errorf("%w: bytes %d to %d were written, which are not in the plan", ErrDiffers, w[0], w[1])
		}
	}
	text := fmt.Sprintf("Carried out and read back: the drive is as planned, %d volumes have the metadata they should, and nothing was written outside the plan (%s in all)",
		len(m.Prints), c.Script().Rewritten()) + m.Intact.words()
	for _, x := range m.Tested {
		if err := x.proven(o); err != nil {
			return "", nil, err
		}
		text += fmt.Sprintf("; every sector of %s (%s) read, written and read again", x.Title, x.Len)
	}
	for _, x := range m.Erased {
		if err := x.proven(o.Dev, c.Script()); err != nil {
			return "", nil, err
		}
		left, err := x.left(o.Dev)
		if err != nil {
			return "", nil, err
		}
		text += fmt.Sprintf("; %s erased and read back as zeros%s", x.Title, left)
	}
	for i := range m.Arrivals {
		a := &m.Arrivals[i]
		if a.Passed {
			continue
		}
		at, ok := sv.Layout.Find(a.Number)
		if !ok {
			return "", nil, fmt.Errorf("%w: there is no partition %d", ErrDiffers, a.Number)
		}
		v := sv.Volumes[a.Number]
		var l *listing
		if w.listed != nil {
			l = w.listed[i]
		} else if l, err = a.list(o.Shelf, v); err != nil {
			return "", nil, err
		}
		if err := l.compare(v, survey.Window(o.Dev, *at), at.Start.Offset(sv.Layout.Sector), w); err != nil {
			return "", nil, err
		}
		a.Compared = l.files
		text += fmt.Sprintf("; %d files put into partition %d, each compared with where it comes from", l.files, a.Number)
	}
	return text, sv, nil
}

// places are the ranges that a script touches, in order, each stretch once; those that
// lie no more than apart from each other are one.
func places(s script.Script, apart disk.Bytes) [][2]disk.Bytes {
	out := make([][2]disk.Bytes, 0, len(s))
	for _, op := range s {
		if op.Len > 0 {
			out = append(out, [2]disk.Bytes{op.Off, op.Off + op.Len + op.Pad})
		}
	}
	slices.SortFunc(out, func(a, b [2]disk.Bytes) int { return cmp.Compare(a[0], b[0]) })
	n := 0
	for _, p := range out {
		if n > 0 && p[0] <= out[n-1][1]+apart {
			out[n-1][1] = max(out[n-1][1], p[1])
			continue
		}
		out[n] = p
		n++
	}
	return out[:n]
}

// undone takes the run back and closes it.
func undone(o Options, m *Meta, c *carry.Carry, res *Result) (*Result, error) {
	if err := o.Trail.Append(m.Entries...); err != nil {
		return nil, err
	}
	if err := c.Back(o.Dev, o.Report); err != nil {
		return res, err
	}
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		return res, err
	}
	if d := layout.Differ(m.Before, sv.Layout); len(d) > 0 {
		return res, fmt.Errorf("%w: after undo: %s", ErrDiffers, strings.Join(d, " "))
	}
	if err := savePC(o, m, m.PC); err != nil { // where the run was cut short after they were changed
		return res, err
	}
	closing := trail.Entry{ID: "e-" + m.ID + "-undone", Act: trail.ActUndone, Text: "Taken back; the drive is as it was before the run", Before: m.After, After: m.Before}
	res.Undone, res.Layout, res.Marks = true, m.Before, []string{closing.ID}
	last := []trail.Entry{closing}
	if m.PCDuring != nil {
		last = append(last, up(m))
	}
	return res, closeRun(o, m, &Report{Ended: EndUndone}, last...)
}

// up says in the trail that the PC was started again.
func up(m *Meta) trail.Entry {
	return trail.Entry{ID: "e-" + m.ID + "-up", Act: trail.Act(plan.Restart), Text: "The PC was started again, and reaches its drive in place"}
}

func closeRun(o Options, m *Meta, r *Report, closing ...trail.Entry) error {
	for i := range closing {
		e := &closing[i]
		e.Time, e.Who, e.Job, e.Run = o.Now(), m.Who, m.Job, m.ID
		e.Drive = trail.Drive{DiskID: m.DiskID, Model: m.Identity.Model, Serial: m.Identity.Serial}
	}
	if err := o.Trail.Append(closing...); err != nil {
		return err
	}
	return writeReport(o, m, r)
}
