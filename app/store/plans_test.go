package store

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

func TestPlanStates(t *testing.T) {
	s, _ := fresh(t)
	if err := s.Seed(opening()); err != nil {
		t.Fatal(err)
	}
	l := &layout.Layout{Scheme: "gpt", DiskID: "d"}
	now := func() *Job {
		j, _, err := s.Job("J-1042", "")
		if err != nil {
			t.Fatal(err)
		}
		return j
	}
	shown := func() string {
		j := now()
		steps, _, err := j.Steps()
		if err != nil {
			t.Fatal(err)
		}
		out := ""
		for _, x := range steps {
			out += x.Partition
		}
		undo, redo := s.Around(j)
		return fmt.Sprintf("%s undo %q redo %q", out, undo, redo)
	}
	save := func(from *uint64, what string, parts ...string) error {
		c := Change{From: from, Expect: l, What: what, Who: "Ines Marsh", When: time.Now()}
		for _, p := range parts {
			c.Steps = append(c.Steps, plan.Step{Partition: p, Body: plan.Deletion{}})
		}
		return s.SavePlan("J-1042", c)
	}
	want := func(text string) {
		t.Helper()
		if got := shown(); got != text {
			t.Errorf("%s, not %s", got, text)
		}
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(save(nil, "first", "1"))
	must(save(nil, "second", "1", "2"))
	seen := now().PlanState
	want(`12 undo "second" redo ""`)
	if _, err := s.Undo("J-1042", nil, false, time.Now()); err != nil {
		t.Fatal(err)
	}
	want(`1 undo "first" redo "second"`)
	// Who looked before that changes nothing.
	var m *Meanwhile
	if err := save(&seen, "third", "9"); !errors.As(err, &m) || !strings.Contains(err.Error(), "Ines Marsh has changed this plan meanwhile (first)") {
		t.Errorf("%v", err)
	}
	if _, err := s.Undo("J-1042", &seen, false, time.Now()); !errors.As(err, &m) {
		t.Errorf("%v", err)
	}
	_, err := s.Undo("J-1042", nil, false, time.Now())
	must(err)
	want(` undo "" redo "first"`)
	if _, err := s.Undo("J-1042", nil, false, time.Now()); !errors.Is(err, ErrNoState) {
		t.Errorf("%v", err)
	}
	for range 2 {
		_, err := s.Undo("J-1042", nil, true, time.Now())
		must(err)
	}
	want(`12 undo "second" redo ""`)
	// A change after an undo is what is done again from then on.
	_, err = s.Undo("J-1042", nil, false, time.Now())
	must(err)
	must(save(nil, "another way", "1", "7"))
	_, err = s.Undo("J-1042", nil, false, time.Now())
	must(err)
	want(`1 undo "first" redo "another way"`)
	// What was carried out is neither taken back nor done again.
	must(s.Append(trail.Entry{ID: trail.EndID("r-1", "done"), Time: time.Now(), Act: trail.ActDone, Run: "r-1", Job: "J-1042"}))
	want(` undo "" redo ""`)
	if _, err := s.Undo("J-1042", nil, true, time.Now()); !errors.Is(err, ErrNoState) {
		t.Errorf("%v", err)
	}
	must(save(nil, strings.Repeat("long ", 100), "3"))
	if st, err := s.Latest("J-1042"); err != nil || st.ID != now().PlanState || st.Who != "Ines Marsh" || len([]rune(st.What)) != 300 {
		t.Errorf("%+v %v", st, err)
	}
	if err := s.SavePlan("J-9999", Change{}); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
}

func TestKeptPlansAndRates(t *testing.T) {
	s, _ := fresh(t)
	if err := s.Seed(opening()); err != nil {
		t.Fatal(err)
	}
	steps, l := []plan.Step{{Partition: "4", Body: plan.Deletion{}}}, &layout.Layout{DiskID: "d"}
	keep := func(job, name string) error { return s.KeepPlan(name, job, "Tobias Wren", steps, l, time.Now()) }
	for _, c := range []struct {
		job, name string
		err       error
	}{{"J-1042", "a", nil}, {"J-1042", "a", ErrName}, {"J-1043", "a", nil}} {
		if err := keep(c.job, c.name); !errors.Is(err, c.err) {
			t.Errorf("%v: %v", c, err)
		}
	}
	all, err := s.KeptPlans()
	if err != nil || len(all) != 2 {
		t.Fatalf("%v %v", all, err)
	}
	k, err := s.KeptPlan(all[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	if got, on, err := k.Plan(); err != nil || len(got) != 1 || got[0].Partition != "4" || on.DiskID != "d" {
		t.Errorf("%+v %+v %v", got, on, err)
	}
	if err := s.DropPlan(k.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.KeptPlan(k.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
	// A drive's rate follows what it is measured to do.
	if r, err := s.Rate("d"); err != nil || r.Runs != 0 {
		t.Errorf("%+v %v", r, err)
	}
	for i, c := range []struct{ wrote, rate disk.Bytes }{{100 * disk.MiB, 100 * disk.MiB}, {200 * disk.MiB, 150 * disk.MiB}, {150 * disk.MiB, 150 * disk.MiB}} {
		if r, err := s.Learn("d", c.wrote, time.Second); err != nil || r.Rate != c.rate || r.Runs != i+1 {
			t.Errorf("%d: %+v %v", i, r, err)
		}
	}
}
