package route

import (
	"slices"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/sample"
)

func TestRoutes(t *testing.T) {
	l := sample.Reception()
	none := plan.Facts{StartsHere: true}
	withPC := plan.Facts{StartsHere: true, PC: sample.InOrder()}
	before := l.With(append(l.Partitions()[:3:3], l.Partitions()[4:]...)) // the gap lies before partition 5
	before = sample.With(before, 6, func(s *layout.Span) { s.End = l.LastUsable; s.Bytes = (s.End - s.Start + 1).Offset(sample.Sector) })
	roomy := sample.With(l, 3, func(s *layout.Span) { s.Volume.UsedBytes = 20 * disk.GiB })
	retired := sample.With(l, 3, func(s *layout.Span) { s.Role = layout.OtherSystem })
	for _, c := range []struct {
		name   string
		l      *layout.Layout
		f      plan.Facts
		g      Goal
		titles []string
		says   string // the first obstacle
	}{
		{"nothing in between", l, none, Goal{Receiver: "6", Gain: "10 GiB"}, []string{"Grow OEM into the gap that is there"}, ""},
		{"recovery in between", l, none, Goal{Receiver: "3", Gain: "1 GiB"}, []string{"Data gives 1 GiB; slide Recovery", "Slide Recovery; back up, delete and put back Data", "Slide OEM, Data and Recovery", "Delete Recovery"}, ""},
		{"recovery in between, or moved", l, withPC, Goal{Receiver: "3", Gain: "1 GiB", Keep: []string{"5"}}, []string{"Delete Recovery; the recovery environment moves to a new place", "Data gives 1 GiB; slide Recovery", "Slide OEM, Data and Recovery", "Delete Recovery"}, ""},
		{"more than that", l, none, Goal{Receiver: "3", Gain: "66 GiB", NoSecondDrive: true}, []string{"Data gives 66 GiB; slide Recovery", "Slide OEM, Data and Recovery", "Delete Recovery; Data gives 65 GiB", "Delete OEM; slide Data and Recovery", "Delete Recovery and OEM; slide Data"}, ""},
		{"a data volume may go", l, none, Goal{Receiver: "3", Gain: "66 GiB", MayDelete: []string{"4", "5"}}, []string{"Data gives 66 GiB; slide Recovery", "Slide Recovery; back up, delete and put back Data", "Slide OEM, Data and Recovery", "Delete Data; slide Recovery", "Delete Recovery and Data"}, ""},
		{"little may be rewritten", l, none, Goal{Receiver: "3", Gain: "66 GiB", MayDelete: []string{"4", "5"}, AtMost: "1 GiB"}, []string{"Delete Data; slide Recovery", "Delete Recovery and Data"}, ""},
		{"it is to be kept, and nothing moves", l, none, Goal{Receiver: "3", Gain: "66 GiB", MayDelete: []string{"4", "5"}, Keep: []string{"5"}, AtMost: "1 GiB"}, nil, "would rewrite"},
		{"files move, not partitions", l, plan.Facts{Insides: map[int]plan.InsideFacts{3: {Folders: []plan.Folder{{Path: "Users/Ines/Pictures", Bytes: 30 * disk.GiB}, {Path: "Users/Ines/Music", Bytes: 8 * disk.GiB}}}}}, Goal{Receiver: "3", Gain: "6 GiB", Keep: []string{"4", "5", "6"}, AtMost: "40 GiB"}, []string{"Move Users/Ines/Music to Data; the size stays"}, ""},
		{"all", l, none, Goal{Receiver: "3", Gain: "all", Keep: []string{"4", "5", "6"}}, []string{"Slide OEM, Data and Recovery"}, ""},
		{"the gap lies before it", before, none, Goal{Receiver: "5", Gain: "all", Keep: []string{"6"}}, []string{"Data slides toward the start"}, ""},
		{"more than the drive has", l, none, Goal{Receiver: "3", Gain: "400 GiB"}, nil, "at most"},
		{"no such receiver", l, none, Goal{Receiver: "9", Gain: "1 GiB"}, nil, "no partition 9"},
		{"a receiver that cannot grow", l, none, Goal{Receiver: "2", Gain: "1 GiB"}, nil, ""},
		{"unwanted ones, for C:", l, none, Goal{Remove: []string{"4"}, GiveTo: "3"}, []string{"Delete Recovery; System gains 1 GiB"}, ""},
		{"unwanted ones, for nobody", l, none, Goal{Remove: []string{"4", "6", "4"}}, []string{"Delete Recovery and OEM"}, ""},
		{"unwanted ones, for two", l, none, Goal{Remove: []string{"4", "6"}, GiveTo: "3", ShareWith: []string{"5"}}, []string{
			"Delete Recovery and OEM; System gains 1 GiB; Data gains 7.50 GiB", "Delete Recovery and OEM; slide Data; System gains 7.50 GiB; Data gains 7.50 GiB",
		}, ""},
		{"the start system is unwanted", l, none, Goal{Remove: []string{"3"}}, nil, "starts this system"},
		{"unwanted ones, whose space does not touch", l, none, Goal{Remove: []string{"6"}, GiveTo: "3"}, []string{
			"Delete OEM; slide Data and Recovery; System gains 14 GiB", "Delete OEM and Recovery; slide Data; System gains 14 GiB",
		}, ""},
		{"room that is there", l, none, Goal{Room: "40 GiB"}, []string{"Create a partition into the gap that is there"}, ""},
		{"room where the OEM area is", l, none, Goal{Room: "140 GiB"}, []string{"Data gives 3.27 GiB; slide OEM", "Delete OEM"}, ""},
		{"more room than the drive has", l, none, Goal{Room: "400 GiB"}, nil, ""},
		{"two into one", l, none, Goal{Combine: []string{"3", "5"}}, []string{"Slide Recovery; back up, delete and put back Data; System gains 210 GiB", "Slide OEM, Data and Recovery; absorb Data into System; System gains 38.8 GiB"}, ""},
		{"two into one that has room", roomy, none, Goal{Combine: []string{"3", "5"}, KeepPlace: "3"}, []string{"Absorb Data into System", "Slide Recovery; absorb Data into System; System gains 210 GiB"}, ""},
		{"one into three", l, none, Goal{Split: "5", Parts: []string{"20 GiB", "30 GiB"}}, []string{"Data gives 50 GiB", "Back up, delete and put back Data"}, ""},
		{"one into three too large", l, none, Goal{Split: "5", Parts: []string{"100 GiB", "150 GiB"}}, nil, "need 250 GiB"},
		{"recovery elsewhere", l, withPC, Goal{Recovery: NewPlace}, []string{"Back up, delete and put back Recovery", "Delete Recovery; the recovery environment moves to a new place"}, ""},
		{"no recovery", l, withPC, Goal{Recovery: Without}, []string{"Recovery stays as a copy", "Delete Recovery"}, ""},
		{"plain storage", l, plan.Facts{}, Goal{Clear: true}, nil, "starts this system"},
		{"plain storage of a retired drive", retired, plan.Facts{}, Goal{Clear: true}, []string{"Delete EFI, Reserved, System, Recovery, Data and OEM; clear the drive", "Delete EFI, Reserved, System, Recovery, Data and OEM"}, ""},
		{"read-only", l, plan.Facts{ReadOnly: true}, Goal{Room: "1 GiB"}, nil, "evidence"},
		{"a gap outside the container", sample.Bakery(), plan.Facts{}, Goal{Receiver: "5", Gain: "150 GiB", Keep: []string{"6"}}, []string{"Slide Data; grow the container"}, ""},
		{"a gap outside, for the primary", sample.Bakery(), plan.Facts{}, Goal{Receiver: "1", Gain: "10 GiB", Keep: []string{"5", "6"}, Givers: []string{"1"}}, []string{"Slide Data and Data; shrink the container"}, ""},
	} {
		c.g.Version = 1
		a := Routes(c.l, c.f, &c.g)
		var titles []string
		for _, r := range a.Routes {
			titles = append(titles, r.Title)
			c.f.NewIDs = plan.StandIns()
			cols := plan.Lay(c.l, c.f, r.Plan.Steps)
			if last := cols[len(cols)-1]; len(last.Obstacles) > 0 || r.Price != plan.PriceOf(c.l, cols, c.f) {
				t.Errorf("%s: %s does not lead there: %+v", c.name, r.Title, last.Obstacles)
			}
			for _, s := range r.Plan.Steps {
				if err := s.Valid(); err != nil {
					t.Errorf("%s: %+v: %v", c.name, s, err)
				}
				if slices.Contains(c.g.Keep, s.Partition) && s.Do() == plan.Delete {
					t.Errorf("%s: %s is deleted", c.name, s.Partition)
				}
			}
		}
		if !slices.Equal(titles, c.titles) {
			t.Errorf("%s: %q, most %s, %v", c.name, titles, a.Most, a.Obstacles)
		}
		if len(titles) == 0 && (len(a.Obstacles) == 0 || !strings.Contains(a.Obstacles[0].Text, c.says)) {
			t.Errorf("%s: %v", c.name, a.Obstacles)
		}
	}
	// What is moved is not lost, and costs.
	a := Routes(l, withPC, &Goal{Version: 1, Receiver: "3", Gain: "1 GiB", Keep: []string{"5"}})
	moved, gone := a.Routes[0], a.Routes[3]
	if len(moved.Lost) != 0 || len(gone.Lost) != 1 || moved.Price.Copied != disk.GiB || gone.Price.Copied != 0 || moved.Price.Releases != 1 || moved.Price.Rewritten <= gone.Price.Rewritten || moved.Portions {
		t.Errorf("%+v, %+v", moved, gone)
	}
}

func TestParseGoal(t *testing.T) {
	for text, good := range map[string]bool{
		`{"version": 1, "receiver": "3", "gain": "66GiB", "keep": ["5"], "may_delete": ["4"], "givers": ["5"]}`: true,
		`{"version": 1, "remove": ["1", "2"], "give_to": "3"}`:                                                  true, `{"version": 1, "combine": ["3", "5"], "keep_place": "3"}`: true,
		`{"version": 1, "split": "5", "parts": ["1 GiB"]}`: true, `{"version": 1, "split": "5"}`: false, `{"version": 1, "combine": ["3"]}`: false, `{"version": 1, "recovery": "gone"}`: false,
		`{"version": 1, "recovery": "without", "at_most": "5 GiB", "no_second_drive": true}`: true, `{"version": 1, "recovery": "without", "at_most": "all"}`: false,
		`{"version": 1, "room": "40GiB"}`: true, `{"version": 1, "clear": true}`: true,
		`{"version": 2, "clear": true}`: false, `{"version": 1}`: false, `{"version": 1, "clear": true, "room": "1 GiB"}`: false,
		`{"version": 1, "receiver": "3"}`: false, `{"version": 1, "receiver": "3", "gain": "lots"}`: false, `{"version": 1, "wish": 1}`: false,
		`{"version": 1, "clear": true} x`: false, `[]`: false, ``: false,
	} {
		if _, err := ParseGoal([]byte(text)); (err == nil) != good {
			t.Errorf("%s: %v", text, err)
		}
	}
}

func FuzzParseGoal(f *testing.F) {
	f.Add([]byte(`{"version": 1, "receiver": "3", "gain": "66GiB", "keep": ["5"]}`))
	f.Add([]byte(`{"version": 1, "room": "40GiB", "may_delete": ["4", "6"]}`))
	l := sample.Reception()
	f.Fuzz(func(t *testing.T, b []byte) {
		g, err := ParseGoal(b)
		if err != nil {
			return
		}
		for _, r := range Routes(l, plan.Facts{StartsHere: true, PC: sample.InOrder()}, g).Routes {
			for _, s := range r.Plan.Steps {
				if s.Valid() != nil || s.Do() == plan.Delete && slices.Contains(g.Keep, s.Partition) && len(g.Remove) == 0 {
					t.Errorf("%s: %+v", b, s)
				}
			}
		}
	})
}

// TestRestart: what a running PC holds open is free around a restart, which the price shows.
func TestRestart(t *testing.T) {
	l := sample.With(sample.Reception(), 3, func(s *layout.Span) { s.Held = "the running system" })
	l = sample.With(l, 5, func(s *layout.Span) { s.Held, s.Loses = "the archive program", "a film that is being read in" })
	f := plan.Facts{StartsHere: true, PC: &pc.Facts{State: pc.Running, Held: map[string]string{"f": "the archive program"}}, NewIDs: plan.StandIns()}
	grow := []plan.Step{
		{Partition: "4", Body: plan.Deletion{Release: "r", Waiver: "w"}},
		{Partition: "3", Body: plan.Growth{By: "1 GiB"}},
	}
	if cols := plan.Lay(l, f, grow); codes(cols[1].Obstacles) != "held" || !strings.Contains(cols[1].Obstacles[0].Text, "around a restart") {
		t.Fatalf("%+v", cols[1].Obstacles)
	}
	around := append([]plan.Step{{Body: plan.Restarting{}}}, grow...)
	cols := plan.Lay(l, f, around)
	last := cols[len(cols)-1]
	if last.Layout == nil || len(last.Obstacles) > 0 || last.PC.State != pc.Off || f.PC.State != pc.Running {
		t.Fatalf("%+v", last)
	}
	if len(cols[0].Notes) != 1 || !strings.Contains(cols[0].Notes[0].Text, "a film") {
		t.Errorf("%+v", cols[0].Notes)
	}
	without := plan.PriceOf(l, plan.Lay(sample.With(sample.With(l, 3, func(s *layout.Span) { s.Held = "" }), 5, func(s *layout.Span) { s.Held = "" }), f, grow), f)
	if p := plan.PriceOf(l, cols, f); p.Restarts != 1 || p.Rewritten != without.Rewritten || p.Seconds < without.Seconds+60 {
		t.Errorf("%+v beside %+v", p, without)
	}
	a := Routes(l, f, &Goal{Version: 1, Receiver: "3", Gain: "1 GiB", MayDelete: []string{"4"}})
	if len(a.Routes) == 0 || a.Routes[0].Price.Restarts != 1 || !strings.HasSuffix(a.Routes[0].Title, "around a restart") || a.Routes[0].Plan.Steps[0].Do() != plan.Restart {
		t.Errorf("%+v", a)
	}
	// A step that cannot be done has a price too: that of what comes before it.
	if p := plan.PriceOf(l, plan.Lay(l, f, []plan.Step{
		{Body: plan.Restarting{}}, {Partition: "9", Body: plan.Deletion{}},
		{Body: plan.Creation{Size: "1 GiB", Type: "basic", Format: "ntfs", Test: true}},
	}), f); p.Restarts != 1 {
		t.Errorf("%+v", p)
	}
	for what, x := range map[string]plan.Facts{"nothing-to-do": {PC: &pc.Facts{State: pc.Off}}, "no-pc": {}} {
		if cols := plan.Lay(l, x, []plan.Step{{Body: plan.Restarting{}}}); codes(cols[0].Obstacles) != what {
			t.Errorf("%s: %+v", what, cols[0].Obstacles)
		}
	}
}

// codes are the codes of obstacles, in their order.
func codes(obstacles []plan.Obstacle) string {
	var all []string
	for _, o := range obstacles {
		all = append(all, string(o.Code))
	}
	return strings.Join(all, " ")
}
