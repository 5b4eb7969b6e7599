package shop

import (
	"errors"
	"strings"
	"testing"
	"time"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/sample"
	"jadetrail/core/seek"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// TestNext says what is next for a job in each state that it can be in, and nothing that comes after it.
func TestNext(t *testing.T) {
	now := time.Date(2026, 11, 20, 16, 40, 0, 0, time.UTC)
	untouched := func() *JobState {
		return &JobState{Job: &store.Job{Number: "J-1"}, Drive: &Drive{Survey: &survey.Survey{Layout: sample.Reception()}}}
	}
	planned := func(waiver, release string, f plan.Facts) func(st *JobState) {
		return func(st *JobState) {
			st.Steps = []plan.Step{{Partition: "4", Body: plan.Deletion{Release: release, Waiver: waiver}}}
			st.Columns = plan.Lay(st.Drive.Survey.Layout, f, st.Steps)
		}
	}
	// X: may be somebody's: its waiver is for the lead.
	waived := func(st *JobState) {
		st.Steps = []plan.Step{{Partition: "5", Body: plan.Deletion{Waiver: "nobody wants it"}}}
		st.Columns = plan.Lay(st.Drive.Survey.Layout, plan.Facts{}, st.Steps)
	}
	ran := func(act trail.Act, good bool) func(st *JobState) {
		return func(st *JobState) { st.Last, st.Good = &trail.Entry{Act: act, Time: now}, good }
	}
	with := func(all ...func(st *JobState)) func(st *JobState) {
		return func(st *JobState) {
			for _, f := range all {
				f(st)
			}
		}
	}
	for name, c := range map[string]struct {
		state func(st *JobState)
		want  Turn
		holds func(n Next) bool
	}{
		"nothing": {func(*JobState) {}, TurnPlan, func(n Next) bool { return n.Tight == nil || n.Tight.Number == 3 }},
		"nearly full": {func(st *JobState) {
			st.Drive.Survey.Layout = sample.With(st.Drive.Survey.Layout, 5, func(p *layout.Span) {
				p.Letter, p.Volume.UsedBytes = "X", p.Volume.TotalBytes-disk.GiB
			})
		}, TurnPlan, func(n Next) bool { return n.Tight != nil && n.Tight.Number == 5 }},
		"nothing stands for it": {
			planned("", "", plan.Facts{}), TurnBackUp, func(n Next) bool { return n.Backups == 1 && n.Reasons == 1 },
		},
		"no reason": {planned("w", "", plan.Facts{}), TurnReason, func(n Next) bool {
			return n.Backups == 0 && n.Reasons == 1 && n.Give != nil && !n.Give.Waiver && n.Give.Title != "" && n.Give.Step.Waiver() == "w"
		}},
		"the lead": {waived, TurnLead, func(n Next) bool { return n.Asked == nil && n.Asks == 1 }},
		"the lead, of what the plan makes": {func(st *JobState) {
			l := st.Drive.Survey.Layout
			st.Steps = []plan.Step{
				{Body: plan.Creation{Size: "all", Type: "basic", Format: "ntfs", As: "new"}},
				{Partition: "5", Body: plan.CopyingOut{Volume: "new"}}, {Partition: "new", Body: plan.Deletion{Waiver: "not wanted"}},
			}
			st.Columns = plan.Lay(l, plan.Facts{NewIDs: plan.StandIns()}, st.Steps)
		}, TurnLead, func(n Next) bool { return strings.Contains(n.Why, "This plan makes it") && n.Reasons+n.Asks == 0 }},
		"all there": {planned("w", "r", plan.Facts{Lead: true}), TurnCarryOut, nil},
		"an obstacle": {
			func(st *JobState) {
				st.Steps = []plan.Step{{Partition: "9", Body: plan.Deletion{}}}
				st.Columns = plan.Lay(st.Drive.Survey.Layout, plan.Facts{}, st.Steps)
			}, TurnUnblock, func(n Next) bool { return n.Step == 1 && n.Why != "" },
		},
		"another drive": {
			with(planned("w", "r", plan.Facts{Lead: true}), func(st *JobState) { st.Changed = []string{"It is another."} }), TurnAnew, nil,
		},
		"cut short": {with(planned("w", "r", plan.Facts{Lead: true}), func(st *JobState) { st.Pending = &run.Unfinished{} }), TurnFinish, nil},
		"under way": {
			func(st *JobState) {
				st.Busy, st.Work, st.Pending = true, work.State{Title: "Backup"}, &run.Unfinished{}
			}, TurnWatch,
			func(n Next) bool { return n.Work.Title == "Backup" },
		},
		"carried out":    {ran(trail.ActDone, false), TurnConfirm, func(n Next) bool { return n.Last.Time.Equal(now) }},
		"marked as good": {ran(trail.ActDone, true), TurnHandOver, nil},
		"changed by another hand": {with(ran(trail.ActDone, true), func(st *JobState) {
			st.Last.After = st.Drive.Survey.Layout.With(st.Drive.Survey.Layout.Partitions()[1:])
		}), TurnOther, func(n Next) bool { return n.Why != "" }},
		"as the run left it": {with(ran(trail.ActDone, true), func(st *JobState) { st.Last.After = st.Drive.Survey.Layout }), TurnHandOver, nil},
		"taken back":         {ran(trail.ActUndone, true), TurnPlan, nil},
		"planned anew":       {with(ran(trail.ActDone, true), planned("w", "", plan.Facts{})), TurnReason, nil},
		"handed over":        {with(ran(trail.ActDone, true), func(st *JobState) { st.Job.HandedAt = &now }), TurnClose, nil},
		"closed":             {func(st *JobState) { st.Job.HandedAt, st.Job.ClosedAt = &now, &now }, TurnClosed, nil},
		"a damaged table": {func(st *JobState) {
			st.Drive.Survey.Layout.Findings.Add(finding.Error, "gpt-backup-damaged", "It is damaged.")
		}, TurnMend, nil},
		"hibernated": {func(st *JobState) { st.Facts.Asleep = []string{"C:"} }, TurnAwake, func(n Next) bool { return n.Why == "C:" }},
		"a partition is missing": {
			func(st *JobState) { st.Drive.PC = &pc.Facts{Wanted: map[string]string{"gone": "P"}} }, TurnSearch,
			func(n Next) bool { return n.Missing.Letter == "P" && n.Found == nil },
		},
		"a partition is missing, and was found": {
			func(st *JobState) {
				st.Drive.PC = &pc.Facts{Wanted: map[string]string{"gone": "P"}}
				st.Finds = []seek.Find{{Confidence: seek.Doubtful}, {Confidence: seek.Sure, Ghost: true}, {Confidence: seek.Likely, Label: "Plots"}}
			}, TurnSearch, func(n Next) bool { return n.Found != nil && n.Found.Label == "Plots" },
		},
	} {
		st := untouched()
		c.state(st)
		if n := st.Next(nil); n.Turn != c.want || c.holds != nil && !c.holds(n) {
			t.Errorf("%s: %+v, not %s", name, n, c.want)
		}
	}
	st := untouched()
	waived(st)
	open := OpenAsks(st.Columns)
	asked := store.Ask{ID: "e-1", Number: 5, Lifts: open[0].Lifts, Purpose: open[0].Purpose, AskedAt: now}
	other, void := asked, asked
	other.Purpose, void.VoidAt = "of another plan", &now
	if n := st.Next([]store.Ask{other, void, asked}); n.Asked == nil || n.Asked.ID != "e-1" || n.Asked.Purpose != asked.Purpose {
		t.Errorf("what was asked: %+v", n.Asked)
	}
	if n := st.Next([]store.Ask{other, void}); n.Asked != nil {
		t.Errorf("what is asked no more: %+v", n.Asked)
	}
	for _, c := range []struct {
		j    store.Job
		why  error
		want Turn
	}{
		{store.Job{}, ErrNoDrive, TurnAttach}, {store.Job{}, errors.New("bad sector"), TurnUnread},
		{store.Job{HandedAt: &now}, ErrNoDrive, TurnClose}, {store.Job{HandedAt: &now, ClosedAt: &now}, ErrNoDrive, TurnClosed},
	} {
		if n := NextOf(&c.j, c.why); n.Turn != c.want {
			t.Errorf("%+v, %v: %s", c.j, c.why, n.Turn)
		}
	}
}
