package shop

import (
	"testing"
	"time"

	"jadetrail/app/work"
	"jadetrail/core/plan"
)

// TestLaidPlans gives what was worked out before a run to who looks at that run, and to nobody else.
func TestLaidPlans(t *testing.T) {
	began := time.Date(2026, 12, 2, 10, 0, 0, 0, time.UTC)
	looked := func(change func(st *JobState)) *JobState {
		st := &JobState{
			Drive: &Drive{Path: "a"}, Work: work.State{Kind: "carry-out", Began: began}, Busy: true, Steps: make([]plan.Step, 1),
		}
		change(st)
		return st
	}
	var x laidPlans
	x.keep(looked(func(st *JobState) { st.Columns = []plan.Column{{Title: "Grow C:"}} }))
	for name, c := range map[string]struct {
		change func(st *JobState)
		want   bool
	}{
		"the run itself":     {func(*JobState) {}, true},
		"another drive":      {func(st *JobState) { st.Drive = &Drive{Path: "b"} }, false},
		"a later run":        {func(st *JobState) { st.Work.Began = began.Add(time.Second) }, false},
		"a backup":           {func(st *JobState) { st.Work.Kind = "back-up" }, false},
		"it has ended":       {func(st *JobState) { st.Busy = false }, false},
		"another plan of it": {func(st *JobState) { st.Steps = make([]plan.Step, 2) }, false},
	} {
		st := looked(c.change)
		if got := x.of(st); got != c.want || got != (len(st.Columns) == 1) {
			t.Errorf("%s: %v, %d columns; want %v", name, got, len(st.Columns), c.want)
		}
	}
	st := looked(func(*JobState) {})
	x.of(st)
	st.Columns[0].Title = "changed"
	again := looked(func(*JobState) {})
	if x.of(again); again.Columns[0].Title != "Grow C:" {
		t.Error("one who looks changes what others see")
	}
}
