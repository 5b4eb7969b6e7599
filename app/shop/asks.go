package shop

import (
	"errors"
	"fmt"
	"slices"

	"jadetrail/app/store"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
)

// ErrStateChanged tells that an ask was for other contents than there are.
var ErrStateChanged = errors.New("what the partition holds has changed since it was asked for, so nothing was approved of. " +
	"It is asked for anew with the contents as they are now: look at them, and answer that")

// approved gives what the lead has approved of in a job's plan, by the trail.
func (s *Shop) approved(job string) ([]facts.Approved, error) {
	entries, err := s.Store.Approved(job)
	if err != nil {
		return nil, err
	}
	var out []facts.Approved
	for _, e := range entries {
		a := e.Answer
		yes := plan.Approval{ID: e.ID, Lead: e.Who, Reason: e.Reason, Time: e.Time}
		yes.Ask = plan.Ask{
			Lifts: plan.Lifts(a.Lifts), Partition: e.Partition, UniqueID: a.UniqueID, Purpose: a.Purpose,
			Touched: a.Touched,
		}
		out = append(out, facts.Approved{Approval: yes, Drive: e.Drive, State: a.State})
	}
	return out, nil
}

// AskLead asks the lead for what the steps of a job's plan need of one. The one of them that a lead has given
// just now, own from 0, is approved of at once with the reason that it carries; -1 is for none.
func (s *Shop) AskLead(who *store.Technician, st *JobState, steps []plan.Step, own int) error {
	may := func(x plan.Step) bool { return x.Release()+x.Waiver() != "" || x.Do() == plan.Retag }
	if !slices.ContainsFunc(steps, may) {
		return nil
	}
	facts, err := s.Facts(st.Drive, st.Job, steps)
	if err != nil {
		return err
	}
	for _, ask := range OpenAsks(plan.Lay(st.Drive.Survey.Layout, facts, steps)) {
		id, err := s.KeepAsk(st, ask, who.Name)
		if err != nil {
			return err
		}
		if who.Lead() && id != "" && ask.Reason != "" && own >= 0 && ask.Purpose == plan.Purpose(steps, own) {
			if err := s.Store.Answer(id, who.ID, true, ask.Reason, s.Now()); err != nil {
				return err
			}
		}
	}
	return nil
}

// KeepAsk keeps one thing that is asked of the lead, for the contents as they are now. It returns its id,
// "" where it was answered.
func (s *Shop) KeepAsk(st *JobState, ask plan.Ask, who string) (string, error) {
	state, err := facts.StateOf(st.Drive.Image, st.Drive.Survey, ask.Touched)
	if err != nil {
		return "", err
	}
	tail, err := s.tail()
	if err != nil {
		return "", err
	}
	d := NameOf(st.Drive)
	return s.Store.AskLead(store.Ask{
		ID: "ask-" + tail, Job: st.Job.Number, Disk: d.DiskID, Model: d.Model, Serial: d.Serial,
		Lifts: ask.Lifts, Number: ask.Partition, UniqueID: ask.UniqueID, Purpose: ask.Purpose, State: state, Touched: ask.Touched,
		Text: ask.Text, Reason: ask.Reason, AskedBy: who, AskedAt: s.Now().UTC(),
	})
}

// Answered enters an answer. A yes is for the contents as they were when it was asked for, and no others.
func (s *Shop) Answered(who *store.Technician, a *store.Ask, yes bool, why string) error {
	if yes {
		st, err := s.WorkOutFor(a.Drive())
		if err != nil {
			return fmt.Errorf("the drive that it is about cannot be looked at: %w", err)
		}
		defer st.Drive.Close()
		now, err := facts.StateOf(st.Drive.Image, st.Drive.Survey, a.Touched)
		if err != nil {
			return err
		}
		if now != a.State {
			if err := s.AskLead(who, st, st.Steps, -1); err != nil { // with what is there now
				return err
			}
			return ErrStateChanged
		}
	}
	return s.Store.Answer(a.ID, who.ID, yes, why, s.Now())
}
