package plan

import (
	"fmt"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/sample"
)

func TestStartChecks(t *testing.T) {
	l := twoSystems()
	full := sample.With(l, 4, func(s *layout.Span) { s.Volume.UsedBytes = s.Volume.TotalBytes - 100*disk.MiB })
	old := sample.Bakery()
	old = sample.With(old, 1, func(s *layout.Span) { s.UniqueID, s.Active = layout.PlaceID("b", disk.MiB), true })
	old.DiskID = "b"
	bakes := &pc.Facts{Version: 1, Start: layout.PlaceID("b", disk.MiB), StartDrive: "b", Order: []pc.StartEntry{{Partition: layout.PlaceID("b", disk.MiB), Title: "System"}}}
	gone := func(n string) Step { return Step{Partition: n, Body: Deletion{Release: "r", Waiver: "w"}} }
	for _, c := range []struct {
		name  string
		l     *layout.Layout
		f     Facts
		steps []Step
		want  []string // what and how it stands, of all but the sound ones
	}{
		{"as it is", l, Facts{StartsHere: true, PC: sample.InOrder()}, nil, nil},
		{"recovery goes", l, Facts{StartsHere: true, PC: sample.InOrder()}, []Step{gone("4")}, []string{"Recovery must"}},
		{"recovery is parked and goes", l, Facts{StartsHere: true, PC: sample.InOrder()}, []Step{
			{Body: Parking{}}, gone("4"),
		}, []string{"Recovery must"}},
		{"recovery moves", l, Facts{StartsHere: true, PC: sample.InOrder()}, []Step{
			{Body: Parking{}}, gone("4"), {Body: Creation{Size: "2 GiB", Type: "recovery", Format: "ntfs", As: "r"}},
			{Partition: "r", Body: UsingRecovery{}},
		}, nil},
		{"recovery is too small", full, Facts{StartsHere: true, PC: sample.InOrder()}, nil, []string{"Recovery must"}},
		{"the other system goes", l, Facts{StartsHere: true, PC: sample.InOrder()}, []Step{gone("5")}, []string{"Start entry mends"}},
		{"it leaves the order", l, Facts{StartsHere: true, PC: sample.InOrder()}, []Step{
			{Partition: "5", Body: DroppingStartEntry{}},
		}, []string{"Start entry mends"}},
		{"a start volume moves on an MBR", old, Facts{StartsHere: true, PC: bakes}, []Step{
			{Partition: "1", Body: Sliding{By: "500 MiB"}},
		}, []string{"Place mends"}},
		{"it is not active any more", old, Facts{StartsHere: true, PC: bakes}, nil, []string{"Active partition wrong"}},
		{"of a drive that nothing starts from", l, Facts{PC: &pc.Facts{Version: 1}}, []Step{gone("1"), gone("4")}, nil},
		{"no loader", l, Facts{PC: sample.InOrder(), StartsHere: true, Loaders: map[string][]string{"b": {}}}, nil, []string{"Loaders wrong"}},
		{"an EFI partition that cannot be read", l, Facts{PC: sample.InOrder(), StartsHere: true, Loaders: map[string][]string{}}, nil, []string{"Loaders must"}},
		{"only its own loader", l, Facts{PC: sample.InOrder(), StartsHere: true, Loaders: map[string][]string{"b": {"EFI/Own/start.efi"}}}, nil, nil},
		{"no start code", old, Facts{StartsHere: true, PC: bakes, NoStartCode: true}, nil, []string{"Start code wrong"}},
		{"no EFI partition", l, Facts{PC: &pc.Facts{Version: 1, Start: "d"}, StartsHere: true}, nil, []string{"Loaders wrong"}},
		{"cleared", sample.With(l, 3, func(s *layout.Span) { s.Role = layout.Data }), Facts{PC: &pc.Facts{Version: 1, Start: "x", StartDrive: ""}}, []Step{
			{Body: Clearing{Scheme: "gpt", Release: "r", Waiver: "w"}},
		}, nil},
	} {
		c.f.NewIDs = StandIns()
		if c.f.Loaders == nil {
			c.f.Loaders = map[string][]string{"b": {"EFI/Loader/a.efi", "EFI/Boot/bootx64.efi"}}
		}
		end, after := c.l, c.f.PC
		if cols := Lay(c.l, c.f, c.steps); len(cols) > 0 {
			last := cols[len(cols)-1]
			if end, after = last.Layout, last.PC; end == nil {
				t.Errorf("%s: %v", c.name, last.Obstacles)
				continue
			}
		}
		switch c.name { // what no plan may do
		case "no EFI partition":
			end = end.With(end.Partitions()[1:])
		case "it is not active any more":
			end = sample.With(end, 1, func(s *layout.Span) { s.Active = false })
		}
		var got []string
		for _, x := range StartChecks(c.l, end, c.f, after) {
			if x.Text == "" {
				t.Errorf("%s: %+v says nothing", c.name, x)
			}
			if x.Standing != Sound {
				got = append(got, fmt.Sprintf("%s %s", x.What, x.Standing))
			}
		}
		if strings.Join(got, ", ") != strings.Join(c.want, ", ") {
			t.Errorf("%s: %v, not %v", c.name, got, c.want)
		}
	}
	if StartChecks(l, l, Facts{}, nil) != nil {
		t.Error("of a PC that nobody knows something is said")
	}
}
