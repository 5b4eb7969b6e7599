package plan

import (
	"slices"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/sample"
	"jadetrail/core/volume"
)

// twoSystems is the reception drive with an old system in partition 5.
func twoSystems() *layout.Layout {
	l := sample.Reception()
	parts := l.Partitions()
	parts[4].Role, parts[4].Note = layout.OtherSystem, layout.NoteOffered
	return l.With(parts)
}

func TestOnPC(t *testing.T) {
	l, ten := twoSystems(), 10
	recovery := Step{Body: Creation{Size: "2 GiB", Type: "recovery", Format: "ntfs", As: "new"}}
	gone := Step{Partition: "4", Body: Deletion{Release: "r", Waiver: "w"}}
	park := Step{Body: Parking{}}
	full := sample.With(l, 3, func(s *layout.Span) { s.Volume.UsedBytes = s.Volume.TotalBytes - disk.MiB })
	for _, c := range []struct {
		name  string
		l     *layout.Layout
		f     *pc.Facts
		steps []Step
		want  string
		check func(c Column) bool
	}{
		{"nothing known", l, nil, []Step{park}, "no-pc", nil},
		{"nothing known of the order", l, nil, []Step{{Body: Ordering{Wait: &ten}}}, "no-pc", nil},
		{"no recovery environment", l, &pc.Facts{Start: "d"}, []Step{park}, "not-parked", nil},
		{"its partition is gone", l, sample.InOrder(), []Step{gone, park}, "not-parked", nil},
		{"another partition", l, sample.InOrder(), []Step{{Partition: "6", Body: Parking{}}}, "not-parked", nil},
		{"start system elsewhere", l, &pc.Facts{Start: "zz", Recovery: &pc.Recovery{Partition: "e", InUse: true}}, []Step{park}, "no-system", nil},
		{"no room", full, sample.InOrder(), []Step{park}, "full", nil},
		{"held", sample.With(l, 3, func(s *layout.Span) { s.Held = "the running system" }), sample.InOrder(), []Step{park}, "held", nil},
		{"sealed", sample.With(l, 4, ofKind(volume.Sealed)), sample.InOrder(), []Step{park}, "not-readable", nil},
		{"parked", l, sample.InOrder(), []Step{park}, "", func(c Column) bool {
			p, _ := c.Layout.Find(3)
			was, _ := l.Find(3)
			return c.From == 4 && c.Number == 3 && c.Step.Folder() == parkedIn && c.PC.Recovery.Parked && !c.PC.Recovery.InUse && c.PC.Recovery.Volume == "d" && p.Volume.UsedBytes == was.Volume.UsedBytes+disk.GiB/2
		}},
		{"parked twice", l, sample.InOrder(), []Step{park, park}, "nothing-to-do", nil},
		{"parked and gone", l, sample.InOrder(), []Step{park, gone}, "", func(c Column) bool { return len(c.Notes) == 0 && c.PC.Recovery.Parked }},
		{"gone and not parked", l, sample.InOrder(), []Step{gone}, "", func(c Column) bool {
			return codes(c.Notes) == "recovery-in-use" && slices.Equal(c.Notes[0].Clears, []string{"park-recovery"}) && !c.PC.Recovery.InUse
		}},
		{"rebuilt elsewhere", l, sample.InOrder(), []Step{park, gone, recovery, {Partition: "new", Body: UsingRecovery{}}}, "", func(c Column) bool {
			p, _ := c.Layout.Find(c.Number)
			return c.From == 3 && c.Moves && c.Base == parkedIn && c.Step.Folder() == "" && c.PC.Recovery.InUse && c.PC.Recovery.Partition == p.UniqueID && c.Number != 3
		}},
		{"rebuilt, not parked", l, sample.InOrder(), []Step{gone, recovery, {Partition: "new", Body: UsingRecovery{}}}, "not-parked", nil},
		{"rebuilt too small", l, sample.InOrder(), []Step{park, gone, {Body: Creation{Size: "64 MiB", Type: "recovery", Format: "ntfs", As: "new"}}, {Partition: "new", Body: UsingRecovery{}}}, "full", nil},
		{"into a data volume", l, sample.InOrder(), []Step{park, {Partition: "5", Body: UsingRecovery{}}}, "no-volume", nil},
		{"in use already", l, sample.InOrder(), []Step{{Partition: "4", Body: UsingRecovery{}}}, "nothing-to-do", nil},
		{"back where it still lies", l, sample.InOrder(), []Step{park, {Partition: "4", Body: UsingRecovery{}}}, "", func(c Column) bool { return c.From == 0 && c.PC.Recovery.InUse && c.PC.Recovery.Partition == "e" }},
		{"parked where nobody noted", l, &pc.Facts{Start: "d", Recovery: &pc.Recovery{Partition: "d", Parked: true}}, []Step{
			{Partition: "4", Body: UsingRecovery{}},
		}, "not-parked", nil},
		{"start system dropped", l, sample.InOrder(), []Step{{Partition: "3", Body: DroppingStartEntry{}}}, "start-system", nil},
		{"not a system", l, sample.InOrder(), []Step{{Partition: "4", Body: DroppingStartEntry{}}}, "no-system", nil},
		{"dropped", l, sample.InOrder(), []Step{{Partition: "5", Body: DroppingStartEntry{}}}, "", func(c Column) bool {
			p, _ := c.Layout.Find(5)
			return len(c.PC.Order) == 1 && p.Note == layout.NoteUnstarted
		}},
		{"dropped twice", l, sample.InOrder(), []Step{
			{Partition: "5", Body: DroppingStartEntry{}}, {Partition: "5", Body: DroppingStartEntry{}},
		}, "not-in-order", nil},
		{"the old system goes", l, sample.InOrder(), []Step{
			{Partition: "5", Body: Deletion{Waiver: "w"}},
		}, "", func(c Column) bool { return codes(c.Notes) == "start-entry" && len(c.PC.Order) == 1 }},
		{"another starts", l, sample.InOrder(), []Step{{Partition: "5", Body: Ordering{Wait: &ten}}}, "", func(c Column) bool {
			was, _ := c.Layout.Find(3)
			is, _ := c.Layout.Find(5)
			return c.PC.Start == "f" && c.PC.Order[0].Title == "Old" && c.PC.Wait == 10 && was.Role == layout.OtherSystem && was.Note == layout.NoteOffered && is.Role == layout.StartSystem
		}},
		{"another starts, and the first goes", l, sample.InOrder(), []Step{
			{Partition: "5", Body: Ordering{}}, {Partition: "3", Body: DroppingStartEntry{}},
			{Partition: "3", Body: Deletion{Waiver: "w"}},
		}, "", func(c Column) bool { return len(c.PC.Order) == 1 && c.PC.Start == "f" }},
		{"a hibernated one starts", sample.With(l, 5, func(s *layout.Span) { s.Volume.Hibernated = true }), sample.InOrder(), []Step{
			{Partition: "5", Body: Ordering{}},
		}, "hibernated", nil},
		{"letter", l, sample.InOrder(), []Step{
			{Partition: "5", Body: Lettering{Letter: "X"}},
		}, "", func(c Column) bool { p, _ := c.Layout.Find(5); return p.Letter == "X" && c.PC.Letters["f"] == "X" }},
		{"letter taken", l, sample.InOrder(), []Step{{Partition: "5", Body: Lettering{Letter: "C"}}}, "letter-taken", nil},
		{"identity", l, nil, []Step{{Partition: "4", Body: NotingIdentity{}}}, "", func(c Column) bool {
			return strings.Contains(c.Detail, "unique id e") && strings.Contains(c.Detail, "sectors") && c.Layout == l
		}},
	} {
		was := sample.InOrder()
		cols := Lay(c.l, Facts{PC: c.f, Lead: true, NewIDs: []string{"n0", "n1", "n2", "n3"}}, c.steps)
		last := cols[len(cols)-1]
		if codes(last.Obstacles) != c.want || c.check != nil && !c.check(last) {
			t.Errorf("%s: %v, %+v, PC %+v", c.name, last.Obstacles, last, last.PC)
		}
		if c.f != nil && c.f.Wait == was.Wait && (len(c.f.Order) != 2 || !c.f.Recovery.InUse || c.f.Letters["f"] != "") {
			t.Errorf("%s: planning changed the facts it began with: %+v", c.name, c.f)
		}
	}
	// The acts on the right say the same.
	if a := find(t, l, 4, Facts{PC: sample.InOrder()}, ParkRecovery, ""); a.Obstacle != nil || a.Note == "" {
		t.Errorf("park: %+v", a)
	}
	if a := find(t, l, 6, Facts{PC: sample.InOrder()}, NoteIdentity, ""); a.Obstacle != nil {
		t.Errorf("identity: %+v", a)
	}
	if a := find(t, l, 3, Facts{PC: sample.InOrder()}, DropStartEntry, ""); a.Obstacle == nil || a.Obstacle.Code != IsStart {
		t.Errorf("drop: %+v", a)
	}
}

func TestParsePCSteps(t *testing.T) {
	for text, good := range map[string]bool{
		`{"do":"park-recovery"}`: true, `{"do":"park-recovery","partition":"4","folder":"/Rescue"}`: true, `{"do":"use-recovery"}`: false,
		`{"do":"start-order"}`: false, `{"do":"start-order","wait_seconds":0}`: true, `{"do":"start-order","wait_seconds":1000}`: false,
		`{"do":"start-order","partition":"3"}`: true, `{"do":"drop-start-entry","partition":"3","wait_seconds":3}`: false,
		`{"do":"letter","partition":"3","letter":"X"}`: true, `{"do":"letter","partition":"3"}`: true, `{"do":"letter","partition":"3","letter":"x"}`: false,
		`{"do":"note-identity","partition":"3"}`: true,
	} {
		if _, err := Parse([]byte(`{"version":1,"steps":[` + text + `]}`)); (err == nil) != good {
			t.Errorf("%s: %v", text, err)
		}
	}
}
