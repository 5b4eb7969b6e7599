package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"golang.org/x/sync/errgroup"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/sign"
	"jadetrail/core/trail"
)

// finish carries the run out from where it stands, proves the result, and closes
// it in the trail. p is without a copy where the run was begun by another process.
func finish(ctx context.Context, o Options, m *ran.Meta, c *carry.Carry, p *rehearse.Run, res *Result) (*Result, error) {
	if !c.Done() || c.Undone() {
		err := begin(o, m)
		if errors.Is(err, errNoTrail) && p.Over != nil { // it was never begun
			err = errors.Join(err, gaveUp(o, m))
		}
		if err != nil {
			return nil, err
		}
	}
	if m.PCDuring != nil && !c.Done() {
		if err := savePC(o, m, m.PCDuring); err != nil {
			return nil, err
		}
	}
	rec := disk.NewRecorder(o.Dev)
	w := prove.Watching(c.Script(), m.Arrivals)
	if w.Expects() {
		c.Seen = w.Back
	}
	var list errgroup.Group
	if p.Over != nil {
		list.Go(func() error { return w.List(o.Shelf, m.Arrivals, p.Survey) })
	}
	if c.Script().Moves() { // before the copy is of no use any more
		if err := list.Wait(); err != nil {
			return res, err
		}
	}
	c.Now = o.Now
	began := o.Now()
	err := c.Forward(ctx, rec, p.Sources, o.Report)
	res.Took.ReadBack = c.ReadBack.Seconds()
	res.Took.Write = o.Now().Sub(began).Seconds() - res.Took.ReadBack
	if e := list.Wait(); err == nil {
		err = e
	}
	if err != nil {
		return res, stopped(o.Dev, m, c, err)
	}
	began = o.Now()
	if o.Report != nil {
		o.Report(carry.Progress{Phase: "reading the drive again, and proving it", Step: len(m.Plan.Steps)})
	}
	proof, sv, err := prove.Planned(o.Proving(), m, c.Script(), rec.Written(), p.Over, w)
	if err != nil {
		return res, err
	}
	r := &ran.Report{
		Ended: ran.EndDone, Rewritten: c.Script().Rewritten(), Zeroed: c.Script().Zeroed(), Written: rec.Put(),
		Volumes: prove.States(sv, p.Sound),
	}
	if r.Start, err = prove.StartChecks(o.Dev, m.Before, sv, m.PC, cmp.Or(m.PCAfter, m.PC)); err != nil {
		return res, err
	}
	if m.Start != nil && !slices.Equal(r.Start, m.Start) { // a run begun by an older version has none
		return res, fmt.Errorf(
			"%w: the start check does not come out as on the copy: %v instead of %v", prove.ErrDiffers, r.Start, m.Start,
		)
	}
	if r.Compared, err = prove.CompareContents(filepath.Join(o.Runs, m.ID), sv, o.Report); err != nil {
		return res, err
	}
	if x := r.Compared; x != nil {
		proof += fmt.Sprintf("; %s files read before and after, all %s the same", disk.Grouped(int64(x.Files)), x.Bytes)
	}
	res.Took.Prove = o.Now().Sub(began).Seconds()
	r.Proof, r.Took = proof, res.Took
	closing := []trail.Entry{{ID: trail.EndID(m.ID, "done"), Act: trail.ActDone, Text: proof, Before: m.Before, After: m.After}}
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
	also, blanked, err := settle(o, m)
	if err != nil {
		return res, atTheEnd(err)
	}
	r.Proof += also
	closing[0].Text += also
	closing = append(closing, blanked...)
	if err := savePC(o, m, m.PCAfter); err != nil {
		return res, atTheEnd(err)
	}
	return res, atTheEnd(closeRun(o, m, r, closing...))
}

// atTheEnd says what is true of the drive when something fails after it was proven.
func atTheEnd(err error) error {
	if err == nil || errors.Is(err, ErrWaiting) {
		return err
	}
	return fmt.Errorf(
		"the drive is as planned and was read back, but the run could not be closed: %w. Finish it once that is mended; nothing more is written to the drive",
		err,
	)
}

// begin lets everybody know that the run is open before its first write: the trail, and the drive
// itself. Each of them can tell it alone from then on.
func begin(o Options, m *ran.Meta) error {
	if err := o.Trail.Append(m.Entries...); err != nil {
		return fmt.Errorf("%w: %w", errNoTrail, err)
	}
	if m.Sign == 0 {
		return nil
	}
	return sign.Put(o.Dev, sign.Sign{Run: m.ID, Begun: m.Begun, At: m.Sign})
}

// errNoTrail tells that the trail did not take that a run begins.
var errNoTrail = errors.New("the trail cannot be reached, so nothing was written")

// savePC keeps the facts about the PC where the plan changes them.
func savePC(o Options, m *ran.Meta, facts *pc.Facts) error {
	if m.PCAfter == nil {
		return nil
	}
	if o.SavePC == nil {
		return rehearse.ErrNoPlace
	}
	if err := o.SavePC(facts); err != nil {
		return fmt.Errorf("the facts about the PC could not be kept: %w", err)
	}
	return nil
}

// mark is the entry that marks the state after a run as good: every volume checks sound
// and was closed properly. Otherwise why tells what is wrong.
func mark(volumes []ran.VolumeState, m *ran.Meta) (e trail.Entry, why string) {
	for _, v := range volumes {
		if v.Text != "" {
			return e, fmt.Sprintf("%s (partition %d): %s", v.Title, v.Number, v.Text)
		}
	}
	return trail.Entry{ID: "e-" + m.ID + "-good", Act: trail.ActMark, After: m.After,
		Text: fmt.Sprintf("Good state marked: %d volumes check sound; their fingerprints are noted", len(volumes)), Prints: m.Prints}, ""
}

// undone takes the run back and closes it.
func undone(o Options, m *ran.Meta, c *carry.Carry, res *Result) (*Result, error) {
	if !c.Undone() {
		if err := begin(o, m); err != nil {
			return nil, err
		}
	}
	if err := c.Back(o.Dev, o.Report); err != nil {
		return res, err
	}
	if err := prove.AsBefore(o.Proving(), m, c); err != nil {
		return res, err
	}
	if err := savePC(o, m, m.PC); err != nil { // where the run was cut short after they were changed
		return res, err
	}
	closing := trail.Entry{
		ID: trail.EndID(m.ID, "undone"), Act: trail.ActUndone,
		Text: "Taken back; the drive is as it was before the run", Before: m.After, After: m.Before,
	}
	res.Undone, res.Layout, res.Marks = true, m.Before, []string{closing.ID}
	last := []trail.Entry{closing}
	if m.PCDuring != nil {
		last = append(last, up(m))
	}
	return res, closeRun(o, m, &ran.Report{Ended: ran.EndUndone}, last...)
}

// up says in the trail that the PC was started again.
func up(m *ran.Meta) trail.Entry {
	return trail.Entry{
		ID: "e-" + m.ID + "-up", Act: trail.Act(plan.Restart),
		Text: "The PC was started again, and reaches its drive in place",
	}
}

// closeRun ends a run: the drive's sign is taken away, the end is noted in the run's folder, and
// entered in the trail. From the note on the run has ended; an end that the trail could not take
// waits in the folder (Enter).
func closeRun(o Options, m *ran.Meta, r *ran.Report, closing ...trail.Entry) error {
	if m.Sign != 0 {
		if err := sign.Remove(o.Dev, m.Sign); err != nil {
			return err
		}
	}
	for i := range closing {
		e := &closing[i]
		e.Time, e.Who, e.Job, e.Run, e.Drive = o.Now(), m.Who, m.Job, m.ID, m.Drive()
	}
	r.Closing = closing
	if err := ran.WriteReport(o.Runs, m.ID, o.Now(), r); err != nil {
		return err
	}
	if len(m.Erased) > 0 && r.Ended == ran.EndDone { // nothing of it is needed to take the run back any more
		if err := ran.Forget(o.Runs, m); err != nil {
			return err
		}
	}
	return enter(o, m.ID, closing)
}
