package shop

import (
	"context"
	"errors"
	"fmt"
	"time"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/words"
)

// Errand is work that somebody asks for, on the drive of a job in a bay; "" is for the job's first. Where Seen
// is given, it is about the plan and the drive that somebody has seen.
type Errand struct {
	Job, Bay string
	Who      *store.Technician
	Seen     *Shown
}

// Shown is the plan and the drive that a page has shown; nil and "" where it does not say.
type Shown struct {
	Plan  *uint64
	Drive string
}

const lookAgain = " It is shown as it is now: look at it, and begin again if it is what you want"

// asSeen refuses to act on another plan, or another drive, than the page showed from which it was
// asked for.
func asSeen(seen Shown, j *store.Job, d *Drive) error {
	switch {
	case seen.Plan == nil || seen.Drive == "":
		return errors.New("this does not say which plan and which drive it is about; nothing was begun. Look at the page as it is now, and begin from there")
	case *seen.Plan != j.PlanState:
		return errors.New("the plan was changed since you looked at it, or was carried out; nothing was begun." + lookAgain)
	case seen.Drive != d.State():
		return errors.New("the drive in the bay is another one than you looked at, or has changed; nothing was begun." + lookAgain)
	}
	return nil
}

// undertaking is work on a job's drive that goes on after it was begun.
type undertaking struct {
	kind, title string
	write       bool // it writes to the drive
	do          func(ctx context.Context, w *workplace) (outcome string, err error)
}

// workplace is what an undertaking has at hand.
type workplace struct {
	job     *store.Job
	drive   *Drive
	options run.Options
	report  func(work.Update)
}

// begin opens the job's drive again and starts work on it.
func (s *Shop) begin(at Errand, u undertaking) error {
	s.planning.Lock() // the plan that is read now is the one that is carried out
	defer s.planning.Unlock()
	j, d, err := s.OpenJob(at.Job, at.Bay, u.write)
	if err == nil && at.Seen != nil {
		if err = asSeen(*at.Seen, j, d); err != nil {
			d.Close()
		}
	}
	if err != nil {
		return err
	}
	o := s.Options(d, j, at.Who.Name)
	var alike []string
	o.SerialLast, alike = s.Apart(d.Bay)
	o.Alike = len(alike) > 0
	err = s.Desk.Start(d.Path, u.kind, u.title, func(ctx context.Context, report func(work.Update)) (string, error) {
		outcome, err := u.do(ctx, &workplace{j, d, o, report})
		d.Close() // the shelf may be on this drive
		if u.write {
			if e := s.keepHead(); e != nil && err == nil {
				outcome += " The head of the trail could not be kept on the shelf: " + words.Sentence(e)
			}
		}
		return outcome, err
	})
	if err != nil {
		d.Close()
	}
	return err
}

// Rehearse begins to carry a job's plan out on a copy that is thrown away.
func (s *Shop) Rehearse(at Errand) error {
	return s.begin(at, undertaking{kind: "rehearse", title: "Rehearsal", do: func(ctx context.Context, w *workplace) (string, error) {
		o := w.options
		steps, expect, err := w.job.Steps()
		if err != nil || len(steps) == 0 {
			return "", errors.Join(err, errors.New("there is no plan to rehearse"))
		}
		o.Plan, o.Expect, o.Rehearse = &plan.Plan{Version: 1, Steps: steps}, expect, true
		w.report(work.Update{Phase: "on a copy"})
		res, err := run.CarryOut(ctx, o)
		if err != nil {
			return "", err
		}
		if err := s.Store.Rehearsed(w.job.Number, s.Now()); err != nil {
			return "", err
		}
		return fmt.Sprintf(
			"Rehearsed on a throw-away copy: all %d steps lead where the plan says, and the volumes check sound. %s would be rewritten.",
			len(steps), res.Bytes,
		), nil
	}})
}

// entersLater is said of a run that ended while the trail was away.
const entersLater = "The trail could not be reached at the end: what the run has to enter waits, and is entered when it is back."

// CarryingOut is what is said when a plan is carried out.
type CarryingOut struct {
	Serial  string // the last characters of the drive's serial number
	Compare bool   // all files are compared with what they were before
	Despite string // why it is begun though the trail is not whole
}

// CarryOut begins to carry a job's plan out.
func (s *Shop) CarryOut(at Errand, how CarryingOut) error {
	if len(how.Despite) > MaxReason {
		return errors.New("that reason is too long; nothing was begun")
	}
	return s.begin(at, undertaking{kind: "carry-out", title: "Carry out", write: true, do: func(ctx context.Context, w *workplace) (string, error) {
		o := w.options
		steps, expect, err := w.job.Steps()
		if err != nil || len(steps) == 0 {
			return "", errors.Join(err, errors.New("there is no plan to carry out"))
		}
		o.Plan, o.Expect, o.Serial = &plan.Plan{Version: 1, Steps: steps}, expect, how.Serial
		w.report(work.Update{Phase: "reading the drive again, and doing every step on a copy"})
		said, titles, err := s.estimate(w.job.Number, w.drive.Bay)
		if err != nil {
			return "", err
		}
		o.Report, o.Compare, o.Despite, o.Verify = toUpdate(w.report, titles, false), how.Compare, how.Despite, s.verify
		began := s.Now()
		res, err := run.CarryOut(ctx, o)
		late := ""
		if errors.Is(err, run.ErrWaiting) { // what was done to the drive is done
			late, err = " "+entersLater, nil
		}
		if err != nil {
			return "", err
		}
		took := s.Now().Sub(began)
		text := fmt.Sprintf(
			"Carried out and read back: the drive is as planned. %s kept. %s in their places in %s; %s and %s were expected.",
			words.Count(len(res.Records), "record"), res.Bytes, plan.Lasts(int64(took.Round(time.Second).Seconds())),
			said.Rewritten, plan.Lasts(said.Seconds),
		)
		if said.Zeroed > 0 {
			text += fmt.Sprintf(" %s were made zeros.", res.Zeroed)
		}
		if res.Written < res.Bytes-res.Bytes/20 {
			text += fmt.Sprintf(" %s of it was written; the rest is empty.", res.Written)
		}
		for _, x := range res.NotKept() {
			text += " Not kept of " + x + "."
		}
		if text += late; late != "" {
			return text, nil
		}
		if res.Written >= leastMeasured {
			r, err := s.Store.Learn(
				w.drive.Label(), res.Written, time.Duration((res.Took.Write+res.Took.ReadBack)*float64(time.Second)),
			)
			if err != nil { // what was done to the drive is done
				return text + " How fast this drive is could not be noted.", nil
			}
			text += fmt.Sprintf(" This drive is now reckoned with %s/s.", r.Rate)
		}
		return text, nil
	}})
}

// leastMeasured is how much a run must write to say something about the drive.
const leastMeasured = 64 * disk.MiB

// estimate is the price of a job's plan as it stands, and what its steps are called. It is kept for who looks at the run.
func (s *Shop) estimate(number, bay string) (plan.Price, []string, error) {
	st, err := s.WorkOut(number, bay)
	if err != nil {
		return plan.Price{}, nil, err
	}
	defer st.Drive.Close()
	s.laid.keep(st)
	var titles []string
	for _, c := range st.Columns {
		titles = append(titles, c.Title)
	}
	return plan.PriceOf(st.Drive.Survey.Layout, st.Columns, st.Facts), titles, nil
}

// EndRun begins to finish the run that is open on a drive, or to take it back; asked is the run that is meant.
func (s *Shop) EndRun(at Errand, asked string, undo bool) error {
	kind, title := "resume", "Finishing the run"
	if undo {
		kind, title = "undo", "Taking the run back"
	}
	return s.begin(at, undertaking{kind: kind, title: title, write: true, do: func(ctx context.Context, w *workplace) (string, error) {
		o := w.options
		open, err := run.Open(o)
		if err != nil {
			return "", err
		}
		switch {
		case open == nil:
			return "", errors.New("no run is open on this drive any more; it was finished or taken back meanwhile")
		case asked != open.ID:
			return "", fmt.Errorf(
				"another run is open on this drive than you looked at (%s). Look at it first; nothing was done",
				open.ID,
			)
		}
		o.Report = toUpdate(w.report, open.Titles(), undo)
		res, err := run.Resume(ctx, o, undo)
		if errors.Is(err, run.ErrWaiting) {
			return "The run has ended, and the drive is as it should be. " + entersLater, nil
		}
		if err != nil {
			return "", err
		}
		if res.Undone {
			return "The run was taken back; the drive is as it was before it.", nil
		}
		return "The run was finished: the drive is as planned.", nil
	}})
}

// LeaveAsItIs ends the run that is open on a drive with the drive as it is; asked is the run that is meant.
func (s *Shop) LeaveAsItIs(at Errand, asked, reason string) error {
	if reason == "" || len(reason) > MaxReason {
		return errors.New("it needs a reason, of at most 500 letters, to leave a drive as it is; nothing was done")
	}
	return s.begin(at, undertaking{kind: "leave", title: "Leaving the drive as it is", write: true, do: func(_ context.Context, w *workplace) (string, error) {
		o := w.options
		open, err := run.Open(o)
		if err != nil {
			return "", err
		}
		if open == nil || open.ID != asked {
			return "", errors.New("another run is open on this drive than you looked at, or none; nothing was done")
		}
		if _, err := run.Leave(o, reason); err != nil {
			return "", err
		}
		return "The drive is left as it is; the run has ended. Look at what is on it before anything else is done to it.", nil
	}})
}

// StopAt stops the work on a drive of a job at its next safe point. Whether the drive can be read is nothing to
// that.
func (s *Shop) StopAt(number, letter string) error {
	_, bay, err := s.Store.Job(number, letter)
	if err != nil {
		return err
	}
	if bay == nil || bay.Image == nil {
		return ErrNoDrive
	}
	s.Desk.Stop(s.ImageOf(bay))
	return nil
}

// toUpdate passes the progress of a carry-out, whose steps have the titles, or of taking it
// back on.
func toUpdate(report func(work.Update), titles []string, undo bool) func(carry.Progress) {
	step := 0
	return func(p carry.Progress) {
		phase := p.Phase
		if !undo && (phase == "" || p.Step > 0) {
			step = p.Step + 1
		}
		switch {
		case phase != "":
		case undo:
			phase = "taking back"
		case p.Step < len(titles):
			phase = titles[p.Step]
			if len(titles) > 1 {
				phase = fmt.Sprintf("step %d of %d, %s", p.Step+1, len(titles), phase)
			}
		}
		report(work.Update{
			Phase: phase, Step: step, Done: p.Done, Total: p.Total, Onto: p.Onto, Final: p.Final,
		})
	}
}
