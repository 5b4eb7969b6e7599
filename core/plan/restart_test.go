package plan

import (
	"strings"
	"testing"

	"jadetrail/core/sample"

	"jadetrail/core/layout"
	"jadetrail/core/pc"
)

// TestRestart: what a running PC holds open is free around a restart, which the price shows.
func TestRestart(t *testing.T) {
	l := sample.With(sample.Reception(), 3, func(s *layout.Span) { s.Held = "the running system" })
	l = sample.With(l, 5, func(s *layout.Span) { s.Held, s.Loses = "the archive program", "a film that is being read in" })
	f := Facts{StartsHere: true, PC: &pc.Facts{State: pc.Running, Held: map[string]string{"f": "the archive program"}}, NewIDs: standIns()}
	grow := []Step{{Do: Delete, Partition: "4", Release: "r", Waiver: "w"}, {Do: Grow, Partition: "3", By: "1 GiB"}}
	if cols := Lay(l, f, grow); codes(cols[1].Obstacles) != "held" || !strings.Contains(cols[1].Obstacles[0].Text, "around a restart") {
		t.Fatalf("%+v", cols[1].Obstacles)
	}
	around := append([]Step{{Do: Restart}}, grow...)
	cols := Lay(l, f, around)
	last := cols[len(cols)-1]
	if last.Layout == nil || len(last.Obstacles) > 0 || last.PC.State != pc.Off || f.PC.State != pc.Running {
		t.Fatalf("%+v", last)
	}
	if len(cols[0].Notes) != 1 || !strings.Contains(cols[0].Notes[0].Text, "a film") {
		t.Errorf("%+v", cols[0].Notes)
	}
	without := PriceOf(l, Lay(sample.With(sample.With(l, 3, func(s *layout.Span) { s.Held = "" }), 5, func(s *layout.Span) { s.Held = "" }), f, grow), f)
	if p := PriceOf(l, cols, f); p.Restarts != 1 || p.Rewritten != without.Rewritten || p.Seconds < without.Seconds+60 {
		t.Errorf("%+v beside %+v", p, without)
	}
	a := Routes(l, f, &Goal{Version: 1, Receiver: "3", Gain: "1 GiB", MayDelete: []string{"4"}})
	if len(a.Routes) == 0 || a.Routes[0].Price.Restarts != 1 || !strings.HasSuffix(a.Routes[0].Title, "around a restart") || a.Routes[0].Plan.Steps[0].Do != Restart {
		t.Errorf("%+v", a)
	}
	// A step that cannot be done has a price too: that of what comes before it.
	if p := PriceOf(l, Lay(l, f, []Step{{Do: Restart}, {Do: Delete, Partition: "9"}, {Do: Create, Size: "1 GiB", Type: "basic", Format: "ntfs", Test: true}}), f); p.Restarts != 1 {
		t.Errorf("%+v", p)
	}
	for what, x := range map[string]Facts{"nothing-to-do": {PC: &pc.Facts{State: pc.Off}}, "no-pc": {}} {
		if cols := Lay(l, x, []Step{{Do: Restart}}); codes(cols[0].Obstacles) != what {
			t.Errorf("%s: %+v", what, cols[0].Obstacles)
		}
	}
}
