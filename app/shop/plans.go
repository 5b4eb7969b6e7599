package shop

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/route"
	"jadetrail/core/seek"
)

// By is who changes a plan, and the state of it that they have seen: nil where a page does not say.
type By struct {
	Who  *store.Technician
	Seen *uint64
}

// SavePlan keeps a job's changed plan: the one way to change it. It is refused while a run of the
// plan is under way or open, for another drive of the job, and where somebody else has changed the
// plan meanwhile.
func (s *Shop) SavePlan(by By, st *JobState, steps []plan.Step, expect *layout.Layout, what string) error {
	return s.savePlanWith(by, st, steps, expect, what, -1)
}

// savePlanWith is SavePlan for a plan of which somebody has given the step own, from 0, just now. What its
// steps need the lead for is asked with it.
func (s *Shop) savePlanWith(by By, st *JobState, steps []plan.Step, expect *layout.Layout, what string, own int) error {
	return s.Changing(st, func() error {
		change := store.Change{From: by.Seen, Steps: steps, Expect: expect, What: what, Who: by.Who.Name, When: s.Now()}
		if err := s.Store.SavePlan(st.Job.Number, change); err != nil {
			return err
		}
		if err := s.AskLead(by.Who, st, steps, own); err != nil {
			return fmt.Errorf("the plan was changed, but the lead could not be asked for what it needs: %w", err)
		}
		return nil
	})
}

// Changing lets a job's plan be changed, where it may be. No run of it is begun meanwhile.
func (s *Shop) Changing(st *JobState, f func() error) error {
	s.planning.Lock()
	defer s.planning.Unlock()
	if st.Elsewhere {
		return errors.New("this job has a plan for another of its drives; nothing was changed. Carry that out or take its steps out first")
	}
	if s.Desk.Busy(st.Drive.Path) && !st.within || st.Pending != nil {
		return errors.New("a run on this drive is not finished; the plan stays as it is")
	}
	return f()
}

// Stage adds a step to the job's plan. What cannot be done is not added.
func (s *Shop) Stage(by By, st *JobState, step plan.Step) error {
	if err := step.Valid(); err != nil {
		return fmt.Errorf("%w; no step was added", err)
	}
	if st.Elsewhere {
		return errors.New("this job has a plan for another of its drives; no step was added. Carry that out or take its steps out first")
	}
	if s.Desk.Busy(st.Drive.Path) && !st.within || st.Pending != nil {
		return errors.New("a run on this drive is not finished; no step was added")
	}
	steps := append([]plan.Step{}, st.Steps...)
	at := slices.IndexFunc(steps, func(x plan.Step) bool {
		once := x.Do() == plan.Clear || x.Do() == plan.Restart || x.DeletesJust(step.Partition)
		return once && x.Do() == step.Do()
	})
	if at < 0 {
		at = len(steps)
		if i := firstDelete(steps, step); i >= 0 {
			at = i
		}
		if step.Do() == plan.Restart { // all steps are carried out within it
			at = 0
		}
		steps = slices.Insert(steps, at, step)
	}
	steps[at] = step
	facts, err := s.Facts(st.Drive, st.Job, steps)
	if err != nil {
		return err
	}
	cols := plan.Lay(st.Drive.Survey.Layout, facts, steps)
	for _, o := range append(cols[at].Obstacles, cols[at].Missing...) {
		if len(cols[at].Obstacles) > 0 {
			return errors.New(strings.TrimSuffix(o.Text, ".") + "; no step was added")
		}
	}
	s.Desk.Forget(st.Drive.Path)
	return s.savePlanWith(by, st, steps, st.Expect(), cols[at].Title, at)
}

// firstDelete is where a step belongs that must come before a partition is deleted, -1
// where it comes last.
func firstDelete(steps []plan.Step, step plan.Step) int {
	if !slices.Contains([]plan.Do{plan.ParkRecovery, plan.DropStartEntry, plan.NoteIdentity}, step.Do()) {
		return -1
	}
	return slices.IndexFunc(steps, func(x plan.Step) bool { return x.DeletesJust(step.Partition) })
}

// UnusedName is a name for a new partition that no step uses.
func UnusedName(steps []plan.Step) string {
	for n := len(steps) + 1; ; n++ {
		name := fmt.Sprintf("new%d", n)
		if !slices.ContainsFunc(steps, func(x plan.Step) bool { return x.As() == name }) {
			return name
		}
	}
}

// StageInBay stages a step in the plan of the job whose drive is in a bay. It returns that job's number.
func (s *Shop) StageInBay(by By, bay string, step plan.Step) (job string, err error) {
	return s.stageInBay(by, bay, step, "")
}

// stageInBay is StageInBay from within work that only reads the drive within; "" is for none.
func (s *Shop) stageInBay(by By, bay string, step plan.Step, within string) (job string, err error) {
	bays, err := s.Store.Bays()
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(bays, func(b store.Bay) bool { return b.Letter == bay && b.Job != nil })
	if i < 0 {
		return "", errors.New("there is no drive of a job in that bay; nothing was planned")
	}
	st, err := s.WorkOut(*bays[i].Job, bay)
	if err != nil {
		return "", err
	}
	defer st.Drive.Close()
	st.within = st.Drive.Path == within
	return st.Job.Number, s.Stage(by, st, step)
}

// NewPlan makes steps the plan of a job that has none: SavePlan for all that is laid at once.
func (s *Shop) NewPlan(by By, st *JobState, steps []plan.Step, what string) error {
	if err := st.unplanned(); err != nil {
		return err
	}
	if err := s.SavePlan(by, st, steps, st.Expect(), what); err != nil {
		return err
	}
	s.Desk.Forget(st.Drive.Path)
	return nil
}

// unplanned refuses a job that has a plan.
func (st *JobState) unplanned() error {
	switch {
	case st.Elsewhere:
		return errors.New("this job has a plan for another of its drives; nothing was planned. Carry that out or take its steps out first")
	case len(st.Steps) > 0:
		return errors.New("this job has a plan already; it stays as it is. Take its steps out first")
	}
	return nil
}

// End is the layout after the plan, the present one without a plan, nil when a step cannot be done.
func (st *JobState) End() *layout.Layout {
	if n := len(st.Columns); n > 0 {
		return st.Columns[n-1].Layout
	}
	return st.Drive.Survey.Layout
}

// RoutesTo are the routes to a goal from the plan's end. Each of them was laid behind the plan's own steps, and can
// be done there. nil is for a plan that cannot be done itself.
func (s *Shop) RoutesTo(st *JobState, goal *route.Goal) *route.Answer {
	end, f := st.End(), s.WithFolders(st, goal)
	if end == nil {
		return nil
	}
	if len(st.Steps) == 0 {
		return route.Routes(end, f, goal)
	}
	f.PC = st.Columns[len(st.Columns)-1].PC
	a := route.Routes(end, f, goal)
	a.Routes = slices.DeleteFunc(a.Routes, func(r route.Route) bool {
		cols, ok := st.behind(r.Plan.Steps)
		return !ok || cols[len(cols)-1].Layout == nil
	})
	return a
}

// behind lays steps behind those of the plan. It returns false where they give a name that the plan gives, too.
func (st *JobState) behind(steps []plan.Step) ([]plan.Column, bool) {
	for _, x := range steps {
		if x.As() != "" && slices.ContainsFunc(st.Steps, func(y plan.Step) bool { return x.As() == y.As() }) {
			return nil, false
		}
	}
	f := st.Facts
	f.NewIDs = plan.StandIns()
	return plan.Lay(st.Drive.Survey.Layout, f, slices.Concat(st.Steps, steps)), true
}

// TakeRoute makes a route to a goal the plan of a job, or goes on with it from the plan's end. It returns what the
// route is called.
func (s *Shop) TakeRoute(by By, st *JobState, goal *route.Goal, id string) (title string, err error) {
	if st.Elsewhere {
		return "", st.unplanned()
	}
	answer := s.RoutesTo(st, goal)
	if answer == nil {
		return "", errors.New("a step of the plan cannot be done, so nothing can follow it; nothing was planned")
	}
	i := slices.IndexFunc(answer.Routes, func(r route.Route) bool { return r.ID == id })
	if i < 0 {
		return "", errors.New("that route is not there any more; look at the drive as it is now")
	}
	r := &answer.Routes[i]
	if len(st.Steps) == 0 {
		return r.Title, s.NewPlan(by, st, r.Plan.Steps, "the route “"+r.Title+"”")
	}
	all := slices.Concat(st.Steps, r.Plan.Steps)
	if err := s.SavePlan(by, st, all, st.Expect(), "the route “"+r.Title+"” behind the plan"); err != nil {
		return "", err
	}
	s.Desk.Forget(st.Drive.Path)
	return r.Title, nil
}

// WorthBack are the steps that bring back what was found, sure or likely.
func WorthBack(finds []seek.Find) []plan.Step {
	var out []plan.Step
	for _, f := range finds {
		if !f.Ghost && f.Confidence != seek.Doubtful {
			out = append(out, plan.Step{Body: plan.BringingBack{Find: f.Start, Told: f.At}})
		}
	}
	return out
}

func (s *Shop) AllBack(st *JobState) (*plan.Back, error) {
	steps := WorthBack(st.Finds)
	f, err := s.Facts(st.Drive, st.Job, steps)
	if err != nil {
		return nil, err
	}
	back, no := plan.AllBack(st.Drive.Survey.Layout, f, steps)
	if len(no) > 0 {
		return nil, errors.New(strings.TrimSuffix(no[0].Text, ".") + "; nothing was planned")
	}
	return back, nil
}

// WaysBack are the ways to bring a find back, with the letter that is expected of it, where one
// partition is missing of which the PC knows the letter.
func (s *Shop) WaysBack(st *JobState, f *seek.Find) ([]plan.Back, []plan.Obstacle, error) {
	known, l := st.Facts, st.Drive.Survey.Layout
	found, err := facts.AsFound(s.Options(st.Drive, st.Job, "").Sources, st.Drive.Survey, f)
	if err != nil {
		return nil, nil, err
	}
	known.Finds = map[disk.LBA]plan.Found{f.Start: found}
	step := plan.Step{Body: plan.BringingBack{Find: f.Start, Told: f.At, As: "found"}}
	var then []plan.Step
	if st.Drive.PC != nil {
		gone := slices.DeleteFunc(st.Drive.PC.MissingLetters(l.Has), func(m pc.Missing) bool { return !m.Gone })
		if len(gone) == 1 && gone[0].Holder == "" {
			then = append(then, plan.Step{Partition: step.As(), Body: plan.Lettering{Letter: gone[0].Letter}})
		}
	}
	ways, no := plan.WaysBack(l, known, step, then...)
	return ways, no, nil
}

// ErrNoReason tells that a partition would come back damaged, and nobody said why.
var ErrNoReason = errors.New("it does not come back whole; say why it is to come back all the same. Nothing was planned")

// AcceptDamage gives the steps that bring something back the reason why it comes back damaged.
func AcceptDamage(steps []plan.Step, reason string) error {
	if reason == "" || len(reason) > MaxReason {
		return ErrNoReason
	}
	for i := range steps {
		steps[i] = steps[i].Accepting(reason)
	}
	return nil
}

// Undo takes the latest change of a job's plan back, or does it again. It returns what was changed.
func (s *Shop) Undo(by By, st *JobState, again bool) (what string, err error) {
	err = s.Changing(st, func() (err error) {
		if what, err = s.Store.Undo(st.Job.Number, by.Seen, again, s.Now()); err != nil {
			return err
		}
		j, _, err := s.Store.Job(st.Job.Number, st.Drive.Bay)
		if err != nil {
			return err
		}
		steps, _, err := j.Steps()
		if err != nil {
			return err
		}
		return s.AskLead(by.Who, st, steps, -1)
	})
	return what, err
}

// mostName bounds the names of kept plans.
const mostName = 80

// KeepAs keeps a job's plan under a name.
func (s *Shop) KeepAs(who *store.Technician, st *JobState, name string) error {
	switch {
	case len(st.Steps) == 0:
		return errors.New("there is no plan to keep")
	case name == "" || utf8.RuneCountInString(name) > mostName:
		return fmt.Errorf("a name has from 1 to %d letters; nothing was kept", mostName)
	}
	return s.Store.KeepPlan(name, st.Job.Number, who.Name, st.Steps, st.Expect(), s.Now())
}

// ForAnotherDrive readies the steps of a plan that was made for a drive as expect, nil where that is not
// known: reasons, and who answers for them, are given anew. It returns in what the drive is another one, "" for
// nothing.
func ForAnotherDrive(st *JobState, steps []plan.Step, expect *layout.Layout) string {
	for i := range steps {
		steps[i] = steps[i].Unreasoned()
	}
	if expect == nil {
		return ""
	}
	d := layout.Differ(expect, st.Drive.Survey.Layout)
	if len(d) == 0 {
		return ""
	}
	fits := "It was made for another state of the drive, or for another drive: " + strings.Join(d[:min(len(d), 3)], " ")
	if len(d) > 3 {
		fits += fmt.Sprintf(" And %d more.", len(d)-3)
	}
	return fits
}

// MaxReason bounds a reason that is typed.
const MaxReason = 500
