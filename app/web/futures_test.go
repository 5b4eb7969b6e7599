package web

import (
	"strings"
	"testing"

	"jadetrail/app/shop"
	"jadetrail/core/plan"
	"jadetrail/core/route"
)

// TestGoalsInARow takes a route, and another behind it: each that is offered there can be done there, and leads where it
// is drawn. A route that gives a name which the plan gives already is not offered.
func TestGoalsInARow(t *testing.T) {
	s := open(t)
	tobias, err := s.Store.SignIn(t.Context(), "tobias", "lantern-tobias")
	if err != nil {
		t.Fatal(err)
	}
	out := func() *jobState {
		t.Helper()
		st, err := s.state("J-1042", "")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { st.Drive.Close() })
		return st
	}
	take := func(g *route.Goal) (before, after int) {
		t.Helper()
		st := out()
		a := s.RoutesTo(st.JobState, g)
		drawn := st.futures(a)
		if len(a.Routes) == 0 || len(drawn) != min(len(a.Routes), mostFutures) {
			t.Fatalf("%d routes, %d futures", len(a.Routes), len(drawn))
		}
		for _, f := range drawn {
			if f.ID == "" || len(f.Blocks) == 0 || !strings.Contains(f.Price, "rewritten") || (f.Lost == "nothing is lost") == f.Care {
				t.Errorf("a future: %+v", f)
			}
		}
		if _, err := s.TakeRoute(shop.By{Who: tobias, Seen: &st.Job.PlanState}, st.JobState, g, a.Routes[0].ID); err != nil {
			t.Fatal(err)
		}
		now := out()
		var told []string
		for _, b := range drawn[0].Blocks {
			told = append(told, b.Title+" "+b.Size)
		}
		var is []string
		for _, b := range blocks(now.End(), nil) {
			is = append(is, b.Title+" "+b.Size)
		}
		if got := strings.Join(is, ", "); got != strings.Join(told, ", ") {
			t.Errorf("drawn was %v, planned is %s", told, got)
		}
		for _, c := range now.Columns {
			if len(c.Obstacles) > 0 {
				t.Errorf("%s: %v", c.Title, c.Obstacles)
			}
		}
		return len(st.Steps), len(now.Steps)
	}
	gain := &route.Goal{Version: 1, Receiver: "3", Gain: "1 GiB"}
	if _, after := take(gain); after < 2 {
		t.Fatalf("%d steps", after)
	}
	before, after := take(&route.Goal{Version: 1, Room: "5 GiB"})
	if after <= before {
		t.Errorf("%d steps, and %d behind them", before, after)
	}
	st := out()
	for _, r := range s.RoutesTo(st.JobState, &route.Goal{Version: 1, Receiver: "3", Gain: "30 GiB"}).Routes {
		for _, x := range r.Plan.Steps {
			for _, y := range st.Steps {
				if x.As() != "" && x.As() == y.As() {
					t.Errorf("%s gives the name %s again", r.Title, x.As())
				}
			}
		}
	}
	if _, err := s.TakeRoute(shop.By{Who: tobias, Seen: &st.Job.PlanState}, st.JobState, gain, "none"); err == nil {
		t.Error("a route that is not there was taken")
	}
	// Behind a step that cannot be done nothing is offered.
	st.Steps = append(st.Steps, plan.Step{Partition: "9", Body: plan.Growth{By: "all"}})
	st.Columns = plan.Lay(st.Drive.Survey.Layout, st.Facts, st.Steps)
	if a := s.RoutesTo(st.JobState, gain); a != nil {
		t.Errorf("behind what cannot be done: %+v", a)
	}
}
