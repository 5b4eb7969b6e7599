package web

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/store"
	"jadetrail/core/plan"
	"jadetrail/core/run"
)

// errStateChanged tells that an ask was for other contents than there are.
var errStateChanged = errors.New("what the partition holds has changed since it was asked for, so nothing was approved of. " +
	"It is asked for anew with the contents as they are now: look at them, and answer that")

// approved gives what the lead has approved of in a job's plan, by the trail.
func (s *Server) approved(job string) ([]run.Approved, error) {
	entries, err := s.store.Approved(job)
	if err != nil {
		return nil, err
	}
	var out []run.Approved
	for _, e := range entries {
		a := e.Answer
		yes := plan.Approval{ID: e.ID, Lead: e.Who, Reason: e.Reason, Time: e.Time}
		yes.Ask = plan.Ask{Lifts: plan.Lifts(a.Lifts), Partition: e.Partition, UniqueID: a.UniqueID, Purpose: a.Purpose, Touched: a.Touched}
		out = append(out, run.Approved{Approval: yes, Drive: e.Drive, State: a.State})
	}
	return out, nil
}

// openAsks is what the columns of a plan still ask the lead for.
func openAsks(cols []plan.Column) []plan.Ask {
	var out []plan.Ask
	for _, c := range cols {
		for _, o := range c.Missing {
			if o.Ask != nil {
				out = append(out, *o.Ask)
			}
		}
	}
	return out
}

// askLead asks the lead for what the steps of a job's plan need of one. The one of them that a lead has given
// just now, own from 0, is approved of at once with the reason that it carries; -1 is for none.
func (s *Server) askLead(who *store.Technician, st *State, steps []plan.Step, own int) error {
	if !slices.ContainsFunc(steps, func(x plan.Step) bool { return x.Release+x.Waiver != "" || x.Do == plan.Retag }) {
		return nil
	}
	facts, err := s.facts(st.Drive, st.Job, steps)
	if err != nil {
		return err
	}
	for _, ask := range openAsks(plan.Lay(st.Drive.sv.Layout, facts, steps)) {
		id, err := s.keepAsk(st, ask, who.Name)
		if err != nil {
			return err
		}
		if who.Lead && id != "" && ask.Reason != "" && own >= 0 && ask.Purpose == plan.Purpose(steps, own) {
			if err := s.store.Answer(id, who.ID, true, ask.Reason, s.now()); err != nil {
				return err
			}
		}
	}
	return nil
}

// keepAsk keeps one thing that is asked of the lead, for the contents as they are now. It returns its id,
// "" where it was answered.
func (s *Server) keepAsk(st *State, ask plan.Ask, who string) (string, error) {
	state, err := run.StateOf(st.Drive.im, st.Drive.sv, ask.Touched)
	if err != nil {
		return "", err
	}
	tail, err := s.tail()
	if err != nil {
		return "", err
	}
	d := driveName(st.Drive)
	return s.store.AskLead(store.Ask{
		ID: "ask-" + tail, Job: st.Job.Number, Disk: d.DiskID, Model: d.Model, Serial: d.Serial,
		Lifts: ask.Lifts, Number: ask.Partition, UniqueID: ask.UniqueID, Purpose: ask.Purpose, State: state, Touched: ask.Touched,
		Text: ask.Text, Reason: ask.Reason, AskedBy: who, AskedAt: s.now().UTC(),
	})
}

// askAgain asks the lead for what the job's plan needs, where what was asked for before is void.
func (s *Server) askAgain(c *gin.Context) {
	st, err := s.workOut(c.Param("job"), bayOf(c))
	if err == nil {
		defer st.Drive.close()
		err = s.changing(st, func() error { return s.askLead(me(c), st, st.Steps, -1) })
	}
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.say(c, "sound", "The lead is asked.", back(c))
}

// answer is what the lead says to an ask.
func (s *Server) answer(c *gin.Context) {
	yes, why := c.PostForm("answer") == "yes", strings.TrimSpace(c.PostForm("why"))
	a, err := s.store.Ask(c.Param("ask"))
	where := "/"
	if err == nil {
		where = "/jobs/" + url.PathEscape(a.Job) + "/safeguard"
		if b := bayOf(c); b != "" {
			where += "?bay=" + url.QueryEscape(b)
		}
	}
	switch {
	case err != nil:
	case !me(c).Lead:
		err = store.ErrNotLead
	case c.PostForm("answer") != "yes" && c.PostForm("answer") != "no":
		err = errors.New("an answer is yes or no; nothing was changed")
	case why == "" || len(why) > maxReason:
		err = fmt.Errorf("an answer has a reason, of at most %d letters; nothing was changed", maxReason)
	default:
		err = s.answered(me(c), a, yes, why)
	}
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	s.say(c, "sound", map[bool]string{true: "Approved: ", false: "Not approved: "}[yes]+a.Text+".", where)
}

// answered enters an answer. A yes is for the contents as they were when it was asked for, and no others.
func (s *Server) answered(who *store.Technician, a *store.Ask, yes bool, why string) error {
	if yes {
		st, err := s.workOutFor(a.Drive())
		if err != nil {
			return fmt.Errorf("the drive that it is about cannot be looked at: %w", err)
		}
		defer st.Drive.close()
		now, err := run.StateOf(st.Drive.im, st.Drive.sv, a.Touched)
		if err != nil {
			return err
		}
		if now != a.State {
			if err := s.askLead(who, st, st.Steps, -1); err != nil { // with what is there now
				return err
			}
			return errStateChanged
		}
	}
	return s.store.Answer(a.ID, who.ID, yes, why, s.now())
}

// askView is what was asked of the lead, as a page shows it.
type askView struct {
	store.Ask
	Standing bool // it is among what the gate takes
	Other    bool // it was approved of, and is for other contents than there are
}

// asked are the asks of the plan for a partition, the newest first; with what stands of them.
func (st *jobState) asked(asks []store.Ask, number int) []askView {
	var out []askView
	purposes := plan.Purposes(st.Steps)
	for _, a := range asks {
		former := a.VoidAt != nil && !slices.Contains(purposes, a.Purpose) // of a plan that is not this one
		if a.Number != number || !a.Drive().Same(driveName(st.Drive)) || former {
			continue
		}
		v := askView{Ask: a}
		if a.Yes != nil && *a.Yes && a.VoidAt == nil {
			v.Standing = slices.ContainsFunc(st.Facts.Approvals, func(x plan.Approval) bool { return x.ID == a.ID })
			v.Other = !v.Standing
		}
		out = append(out, v)
	}
	return out
}
