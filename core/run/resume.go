package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"jadetrail/core/carry"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/shelf"
	"jadetrail/core/sign"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// Resume finishes or undoes the unfinished run on the drive with the trail and
// shelf that it began with. Of the options, those of the plan are not used. Nothing is written
// before the journal was found whole and the drive as the run left it.
func Resume(ctx context.Context, o Options, undo bool) (*Result, error) {
	u, err := Open(o)
	if err != nil {
		return nil, err
	}
	if u == nil {
		return gaveUpBefore(o)
	}
	if u.Broken != nil {
		return nil, u.broken(o, u.Broken)
	}
	m := u.Meta
	c, f, err := carry.OpenIn(filepath.Join(o.Runs, m.ID, ran.JournalFile), m.Journal(), o.Journal)
	if err != nil {
		return nil, u.broken(o, fmt.Errorf("%w: %w", ran.ErrBroken, err))
	}
	defer f.Close()
	if err := theDrive(ctx, o, u, c); err != nil {
		return nil, err
	}
	identity := o.Identity
	o.Who, o.Job, o.PC, o.Identity = m.Who, m.Job, m.PC, m.Identity
	o.Identity.ReadOnly = identity.ReadOnly
	o.Shelf = shelfOf(o, m)
	res := &Result{Run: m.ID, Records: m.Kept, Marks: []string{}, Layout: m.After}
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
	again := &rehearse.Run{Sources: sources}
	defer again.Release()
	for i := range m.Arrivals {
		if m.Arrivals[i].From != 0 {
			continue
		}
		if _, err := again.Opened(o.Shelf, &m.Arrivals[i]); err != nil {
			return nil, err
		}
	}
	again.Meta = m
	again.FromDrive(o.Dev)
	return finish(ctx, o, m, c, again, res)
}

// broken says why a run can be neither finished nor taken back, what can still be proven of its
// drive, and what can be done.
func (u *Unfinished) broken(o Options, why error) error {
	u.Broken = why
	text := ""
	if e, err := u.Prove(o); err == nil {
		text = " " + e.Text()
	}
	return fmt.Errorf(
		"%w. Nothing was written, and the run stays open (%s).%s Put back what is missing, or the drive as it was; or say, with a reason, that the drive is left as it is",
		why, u.words(), text,
	)
}

// shelfOf is the shelf that the run began with.
func shelfOf(o Options, m *ran.Meta) *shelf.Shelf {
	for _, v := range m.Shelves {
		v.Now = o.Now
	}
	return &shelf.Shelf{Dir: m.Moved(o.Runs, m.Shelf), Volumes: m.Shelves}
}

// gaveUp closes a run that came to nothing before anything was written.
func gaveUp(o Options, m *ran.Meta) error {
	return ran.WriteReport(o.Runs, m.ID, o.Now(), &ran.Report{Ended: ran.EndVoid})
}

// gaveUpBefore closes the runs on the drive that were cut before anything was written; ErrNothing
// where there is none.
func gaveUpBefore(o Options) (*Result, error) {
	drive, _, err := o.Signed()
	if err != nil {
		return nil, err
	}
	dirs, _, err := ran.Folders(o.Runs)
	if err != nil {
		return nil, err
	}
	var res *Result
	for _, d := range dirs {
		if d.Ended || d.Meta == nil || !d.IsOn(drive, o.Drive.Size(), o.Image) {
			continue
		}
		if err := gaveUp(o, d.Meta); err != nil {
			return nil, err
		}
		res = &Result{
			Run: d.ID, Undone: true, Void: true, Records: []string{}, Marks: []string{}, Layout: d.Meta.Before,
		}
	}
	if res == nil {
		return nil, ran.ErrNothing
	}
	return res, nil
}

// Leave ends the unfinished run on the drive with the drive as it is: neither finished nor taken
// back. Somebody must say why. The run's folder is kept.
func Leave(o Options, reason string) (*Result, error) {
	if reason = strings.TrimSpace(reason); reason == "" {
		return nil, fmt.Errorf(
			"%w: it needs a reason to leave a drive with a run that is neither finished nor taken back. Nothing was written",
			ErrPending,
		)
	}
	u, err := Open(o)
	if err != nil {
		return nil, err
	}
	if u == nil {
		return nil, ran.ErrNothing
	}
	evidence, err := u.Prove(o)
	if err != nil {
		return nil, err
	}
	drive, _, err := o.Signed()
	if err != nil {
		return nil, err
	}
	s, err := sign.Find(o.Dev)
	if err != nil {
		return nil, err
	}
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		return nil, err
	}
	id := cmp.Or(u.ID, "unknown")
	e := trail.Entry{ID: trail.EndID(id, "left"), Time: o.Now(), Who: o.Who, Job: o.Job, Act: trail.ActLeft, Run: id, Drive: drive, Reason: reason, After: sv.Layout,
		Text: "The drive is left as it is, with the run neither finished nor taken back. " + evidence.Text()}
	if u.ID == "" || u.Broken != nil && errors.Is(u.Broken, ErrOther) { // not the end of that run elsewhere
		tail, err := rehearse.NewID("", o.Now().UTC().Format("20060102-150405"), o.Random)
		if err != nil {
			return nil, err
		}
		e.ID, e.Run = e.ID+tail, ""
	}
	if err := o.Trail.Append(e); err != nil {
		return nil, fmt.Errorf("that the drive is left could not be entered in the trail, so nothing was done: %w", err)
	}
	if s != nil {
		if err := sign.Remove(o.Dev, s.At); err != nil {
			return nil, err
		}
	}
	if e.Run != "" {
		if err := os.MkdirAll(filepath.Join(o.Runs, id), 0o755); err != nil {
			return nil, err
		}
		if err := ran.WriteReport(o.Runs, id, o.Now(), &ran.Report{Ended: ran.EndLeft, Why: reason}); err != nil {
			return nil, err
		}
	}
	return &Result{Run: id, Records: []string{}, Marks: []string{e.ID}, Layout: sv.Layout}, nil
}
