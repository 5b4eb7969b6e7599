package web

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"jadetrail/core/words"

	"github.com/gin-gonic/gin"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/run"
)

// undertaking is work on a job's drive that goes on after it was begun.
type undertaking struct {
	kind, title string
	write       bool // it writes to the drive
	do          func(ctx context.Context, w *workplace) (outcome string, err error)
}

// workplace is what an undertaking has at hand.
type workplace struct {
	job     *store.Job
	drive   *drive
	options run.Options
	report  func(work.Update)
}

// Place is the drive that work is to be done on: that of a job, in a bay; "" is for the job's first. Where Seen
// is given, it is about the plan and the drive that somebody has seen.
type Place struct {
	Job, Bay string
	Who      *store.Technician
	Seen     *Shown
}

// Shown is the plan and the drive that a page has shown; nil and "" where it does not say.
type Shown struct {
	Plan  *uint64
	Drive string
}

// begin opens the job's drive again and starts work on it.
func (s *Server) begin(at Place, u undertaking) error {
	s.planning.Lock() // the plan that is read now is the one that is carried out
	defer s.planning.Unlock()
	j, d, err := s.job(at.Job, at.Bay, u.write)
	if err == nil && at.Seen != nil {
		if err = asSeen(*at.Seen, j, d); err != nil {
			d.close()
		}
	}
	if err != nil {
		return err
	}
	o := s.options(d, j, at.Who.Name)
	var alike []string
	o.SerialLast, alike = s.apart(d.Bay)
	o.Alike = len(alike) > 0
	err = s.desk.Start(d.path, u.kind, u.title, func(ctx context.Context, report func(work.Update)) (string, error) {
		outcome, err := u.do(ctx, &workplace{j, d, o, report})
		d.close() // the shelf may be on this drive
		if u.write {
			if e := s.keepHead(); e != nil && err == nil {
				outcome += " The head of the trail could not be kept on the shelf: " + run.Sentence(e)
			}
		}
		return outcome, err
	})
	if err != nil {
		d.close()
	}
	return err
}

// placeOf is the place that a request is about.
func placeOf(c *gin.Context) Place { return Place{Job: c.Param("job"), Bay: bayOf(c), Who: me(c)} }

// seenPlace is the place that a request is about, as its page showed it.
func seenPlace(c *gin.Context) Place {
	at := placeOf(c)
	at.Seen = &Shown{seenPlan(c), c.Query("drive")}
	return at
}

// begun leads back to the job, where its work is shown or why it was not begun.
func (s *Server) begun(c *gin.Context, err error) {
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	c.Redirect(http.StatusSeeOther, back(c))
}

func (s *Server) rehearse(c *gin.Context) { s.begun(c, s.rehearsePlan(seenPlace(c))) }

// rehearsePlan begins to carry a job's plan out on a copy that is thrown away.
func (s *Server) rehearsePlan(at Place) error {
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
		if err := s.store.Rehearsed(w.job.Number, s.now()); err != nil {
			return "", err
		}
		return fmt.Sprintf("Rehearsed on a throw-away copy: all %d steps lead where the plan says, and the volumes check sound. %s would be rewritten.", len(steps), res.Bytes), nil
	}})
}

// entersLater is said of a run that ended while the trail was away.
const entersLater = "The trail could not be reached at the end: what the run has to enter waits, and is entered when it is back."

func (s *Server) carryOut(c *gin.Context) {
	s.begun(c, s.carryPlanOut(seenPlace(c), Start{Serial: c.PostForm("serial"), Compare: c.PostForm("compare") != "", Despite: c.PostForm("despite")}))
}

// Start is what is said when a plan is carried out.
type Start struct {
	Serial  string // the last characters of the drive's serial number
	Compare bool   // all files are compared with what they were before
	Despite string // why it is begun though the trail is not whole
}

// carryPlanOut begins to carry a job's plan out.
func (s *Server) carryPlanOut(at Place, start Start) error {
	if len(start.Despite) > maxReason {
		return errors.New("that reason is too long; nothing was begun")
	}
	return s.begin(at, undertaking{kind: "carry-out", title: "Carry out", write: true, do: func(ctx context.Context, w *workplace) (string, error) {
		o := w.options
		steps, expect, err := w.job.Steps()
		if err != nil || len(steps) == 0 {
			return "", errors.Join(err, errors.New("there is no plan to carry out"))
		}
		o.Plan, o.Expect, o.Serial = &plan.Plan{Version: 1, Steps: steps}, expect, start.Serial
		w.report(work.Update{Phase: "reading the drive again, and doing every step on a copy"})
		said, titles, err := s.estimate(w.job.Number, w.drive.Bay)
		if err != nil {
			return "", err
		}
		o.Report, o.Compare, o.Despite, o.Verify = toUpdate(w.report, titles, false), start.Compare, start.Despite, s.verify
		began := s.now()
		res, err := run.CarryOut(ctx, o)
		late := ""
		if errors.Is(err, run.ErrWaiting) { // what was done to the drive is done
			late, err = " "+entersLater, nil
		}
		if err != nil {
			return "", err
		}
		took := s.now().Sub(began)
		text := fmt.Sprintf("Carried out and read back: the drive is as planned. %s kept. %s in their places in %s; %s and %s were expected.", words.Count(len(res.Records), "record"), res.Bytes, plan.Lasts(int64(took.Round(time.Second).Seconds())), said.Rewritten, plan.Lasts(said.Seconds))
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
			r, err := s.store.Learn(w.drive.label(), res.Written, time.Duration((res.Took.Write+res.Took.ReadBack)*float64(time.Second)))
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

// estimate is the price of a job's plan as it stands, and what its steps are called.
func (s *Server) estimate(number, bay string) (plan.Price, []string, error) {
	st, err := s.workOut(number, bay)
	if err != nil {
		return plan.Price{}, nil, err
	}
	defer st.Drive.close()
	var titles []string
	for _, c := range st.Columns {
		titles = append(titles, c.Title)
	}
	return plan.PriceOf(st.Drive.sv.Layout, st.Columns, st.Facts), titles, nil
}

func (s *Server) resume(c *gin.Context) {
	s.begun(c, s.endRun(placeOf(c), c.PostForm("run"), c.PostForm("undo") == "yes"))
}

// endRun begins to finish the run that is open on a drive, or to take it back; asked is the run that is meant.
func (s *Server) endRun(at Place, asked string, undo bool) error {
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
			return "", fmt.Errorf("another run is open on this drive than you looked at (%s). Look at it first; nothing was done", open.ID)
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

func (s *Server) leave(c *gin.Context) {
	s.begun(c, s.leaveAsItIs(placeOf(c), c.PostForm("run"), strings.TrimSpace(c.PostForm("reason"))))
}

// leaveAsItIs ends the run that is open on a drive with the drive as it is; asked is the run that is meant.
func (s *Server) leaveAsItIs(at Place, asked, reason string) error {
	if reason == "" || len(reason) > maxReason {
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

func (s *Server) stopWork(c *gin.Context) { s.begun(c, s.stopAt(c.Param("job"), bayOf(c))) }

// stopAt stops the work on a drive of a job at its next safe point. Whether the drive can be read is nothing to
// that.
func (s *Server) stopAt(number, letter string) error {
	_, bay, err := s.store.Job(number, letter)
	if err != nil {
		return err
	}
	if bay == nil || bay.Image == nil {
		return errNoDrive
	}
	s.desk.Stop(s.imageOf(bay))
	return nil
}
