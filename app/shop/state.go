package shop

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/finding"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/rehearse"
	"jadetrail/core/run"
	"jadetrail/core/seek"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// JobState is a job worked out: its drive, its plan, what is missing.
type JobState struct {
	Job     *store.Job
	Drive   *Drive
	Steps   []plan.Step
	Columns []plan.Column
	Facts   plan.Facts
	Changed []string // in what the drive differs from the one the plan was made for
	Pending *run.Unfinished
	Last    *trail.Entry // the latest run that was carried out
	Good    bool         // the state after it was marked as good
	Entries int
	Work    work.State
	Busy    bool
	Finds   []seek.Find // lost partitions that are known of
	// Elsewhere tells that the job has a plan for another of its drives.
	Elsewhere bool
	// within tells that this is asked for from within the work that goes on on the drive, and that only reads it.
	within bool
}

// Told is what the trail tells of drives: the store itself, or one look at it for a page about many.
type Told interface {
	trail.Sink
	Past(d trail.Drive) (store.Past, error)
}

// WorkOut works a job out, with its drive in a bay; "" is for its first. The drive is open then.
func (s *Shop) WorkOut(number, bay string) (*JobState, error) {
	j, d, err := s.OpenJob(number, bay, false)
	if err != nil {
		return nil, err
	}
	st := &JobState{Job: j, Drive: d}
	if err := s.work(st); err != nil {
		d.Close()
		return nil, err
	}
	return st, nil
}

// WorkOutFor works out the job that a drive is here for now, with that drive: whatever its table is called, and
// no other that its job or its bay has by now.
func (s *Shop) WorkOutFor(of trail.Drive) (*JobState, error) {
	b, err := s.bayWith(of)
	if err != nil {
		return nil, err
	}
	if b.Job == nil {
		return nil, inNoBay(fmt.Sprintf("its drive is in bay %s, but for no job. Attach it for one", b.Letter))
	}
	return s.WorkOut(*b.Job, b.Letter)
}

func (s *Shop) work(st *JobState) error {
	var err error
	d := st.Drive
	var expect *layout.Layout
	if st.Steps, expect, err = st.Job.Steps(); err != nil {
		return err
	}
	if expect != nil && !expect.Drive().Same(NameOf(d)) && d.Other {
		// The job's plan is for another of its drives.
		st.Steps, expect, st.Elsewhere = nil, nil, true
	}
	if err := s.history(st, s.Store); err != nil {
		return err
	}
	if expect != nil && !st.Running() { // what a run is changing is no change by somebody else
		st.Changed = layout.Differ(expect, d.Survey.Layout)
	}
	if err := s.pending(st, s.Store); err != nil {
		return err
	}
	if s.laid.of(st) {
		return nil
	}
	if st.Facts, err = s.Facts(d, st.Job, st.Steps); err != nil {
		return err
	}
	if st.Finds, err = s.findsOn(context.Background(), d); err != nil {
		return err
	}
	st.Columns = plan.Lay(st.Begun(), st.Facts, st.Steps)
	return nil
}

// laidPlans are the plans of runs as they were worked out before their first write, by the paths of their drives. What a
// drive looks like while it is written to says nothing about its plan, and reading it then would hold the run up.
type laidPlans struct {
	mu   sync.Mutex
	list map[string]laidPlan
}

type laidPlan struct {
	began   time.Time // the work that carries it out
	facts   plan.Facts
	columns []plan.Column
}

// keep keeps what was worked out for the work that has begun on the drive.
func (x *laidPlans) keep(st *JobState) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.list == nil {
		x.list = map[string]laidPlan{}
	}
	x.list[st.Drive.Path] = laidPlan{st.Work.Began, st.Facts, st.Columns}
}

// of takes over what was worked out for the run that is under way, where that was kept.
func (x *laidPlans) of(st *JobState) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	p, ok := x.list[st.Drive.Path]
	if !ok || !st.Running() || !p.began.Equal(st.Work.Began) || len(p.columns) != len(st.Steps) {
		return false
	}
	st.Facts, st.Columns = p.facts, slices.Clone(p.columns)
	return true
}

// pending finds a run that is open on the drive, also as the trail tells of it, and tells of it before all else.
func (s *Shop) pending(st *JobState, told Told) (err error) {
	o := s.here(st.Drive)
	o.Read, o.Trail = st.Drive.Survey, told
	if st.Pending, err = run.Open(run.Options{Options: rehearse.Options{Sources: o}}); err != nil {
		return err
	}
	if l := st.Drive.Survey.Layout; st.Pending != nil {
		if len(l.Findings) > 0 && l.Findings[0].Code == survey.UnfinishedRun {
			l.Findings = l.Findings[1:]
		}
		l.Findings = append(finding.List{st.Pending.Finding()}, l.Findings...)
	}
	return nil
}

// history is what the trail tells of the drive, and what goes on with it now.
func (s *Shop) history(st *JobState, told Told) error {
	d := st.Drive
	past, err := told.Past(NameOf(d))
	if err != nil {
		return err
	}
	st.Entries, st.Last, st.Good = past.Entries, past.Last, past.Good
	if w, ok := s.Desk.State(d.Path); ok && w.Kind != "" {
		st.Work, st.Busy = w, w.Ended == nil
	}
	return nil
}

// Missing is everything that the gate still asks for.
func (st *JobState) Missing() (backups, releases, obstacles []plan.Obstacle) {
	for _, c := range st.Columns {
		obstacles = append(obstacles, c.Obstacles...)
		for _, m := range c.Missing {
			if m.Code == plan.BackupMissing {
				backups = append(backups, m)
			} else {
				releases = append(releases, m)
			}
		}
	}
	return backups, releases, obstacles
}

// OpenAsks is what the columns of a plan still ask the lead for.
func OpenAsks(cols []plan.Column) []plan.Ask {
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

// Deletions is how many partitions the plan deletes.
func (st *JobState) Deletions() (n int) {
	for _, c := range st.Columns {
		if n += len(c.Cleared); c.Step.Deletes() && c.Step.Do() != plan.Clear {
			n++
		}
	}
	return n
}

// TitleOf names a step of the plan.
func (st *JobState) TitleOf(i int) string {
	if i < len(st.Columns) && st.Columns[i].Title != "" {
		return st.Columns[i].Title
	}
	return string(st.Steps[i].Do())
}

// Running tells that a run is under way on the drive.
func (st *JobState) Running() bool {
	return st.Busy && slices.Contains([]string{"carry-out", "resume", "undo"}, st.Work.Kind)
}

// Begun is what the plan is laid on: the drive as it is, or while a run is under way, as that was begun for it.
func (st *JobState) Begun() *layout.Layout {
	if st.Running() {
		return st.Expect()
	}
	return st.Drive.Survey.Layout
}

// Expect is the drive as the plan was begun for it.
func (st *JobState) Expect() *layout.Layout {
	if _, l, err := st.Job.Steps(); err == nil && l != nil {
		return l
	}
	return st.Drive.Survey.Layout
}
