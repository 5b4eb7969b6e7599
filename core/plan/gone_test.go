package plan

import (
	"slices"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/sample"
	"jadetrail/core/volume"
)

// TestOverRecords lays steps over places from which something could still be brought back.
func TestOverRecords(t *testing.T) {
	l := sample.Reception()
	recovery, _ := l.Find(4)
	oem, _ := l.Find(6)
	l = l.With(slices.DeleteFunc(l.Partitions(), func(p layout.Span) bool { return p.Number == 4 || p.Number == 6 }))
	f := Facts{Records: map[string]Record{"d-1": {Span: *recovery, Stand: &Stand{Used: disk.MiB, Untouched: disk.MiB}}}, Gone: []Gone{
		{Record: "d-1", Span: *recovery, Backup: true},
		{Record: "d-2", Span: *oem},
		{Record: "d-3", Span: sample.Part(9, 300*disk.MiB, disk.GiB, layout.Data, volume.NTFS)}, // C: lies there now
	}}
	for name, c := range map[string]struct {
		steps []Step
		over  [][]string // by step
	}{
		"into one place": {[]Step{{Partition: "3", Body: Growth{By: "512 MiB"}}}, [][]string{{"d-1"}}},
		"step by step, said once": {[]Step{
			{Partition: "3", Body: Growth{By: "256 MiB"}}, {Partition: "3", Body: Growth{By: "256 MiB"}},
		}, [][]string{{"d-1"}, nil}},
		"behind it": {[]Step{
			{Body: Creation{StartLBA: oem.End + 1, Size: "1 GiB", Type: "basic", Format: "ntfs"}},
		}, [][]string{nil}},
		"both": {[]Step{
			{Partition: "5", Body: Sliding{By: "-1 GiB"}}, {Partition: "5", Body: Growth{By: "all"}},
		}, [][]string{{"d-1"}, {"d-2"}}},
		"brought back": {[]Step{
			{Body: BringingBack{Record: "d-1"}}, {Partition: "5", Body: Growth{By: "1 GiB"}},
		}, [][]string{nil, {"d-2"}}},
		"deleted by the plan itself": {[]Step{
			{Partition: "5", Body: Deletion{Waiver: "w"}}, {Partition: "3", Body: Growth{By: "20 GiB"}},
		}, [][]string{nil, {"d-1"}}},
	} {
		t.Run(name, func(t *testing.T) {
			cols := Lay(l, f, c.steps)
			n := 0
			for i, col := range cols {
				if len(col.Obstacles) > 0 || !slices.Equal(col.Over, c.over[i]) {
					t.Errorf("step %d: over %v instead of %v; %v", i+1, col.Over, c.over[i], col.Obstacles)
				}
				notes := 0
				for _, x := range col.Notes {
					if x.Code == OverRecord {
						notes++
					}
				}
				if n += len(col.Over); notes != len(col.Over) {
					t.Errorf("step %d: %d notes", i+1, notes)
				}
			}
			if p := PriceOf(l, cols, f); p.Over != n {
				t.Errorf("the price says %d, the steps %d", p.Over, n)
			}
		})
	}
}

// TestNoReturnOverWhatIsGone slides over the place of a partition that the same plan has taken
// away: undo can bring that back only as far as it is kept.
func TestNoReturnOverWhatIsGone(t *testing.T) {
	l := sample.Reception()
	slide := Step{Partition: "5", Body: Sliding{By: "-512 MiB"}}
	for name, first := range map[string]Step{
		"deleted":  {Partition: "4", Body: Deletion{Release: "r", Waiver: "w"}},
		"absorbed": {Partition: "4", Body: Absorbing{Into: "5", Release: "r"}},
	} {
		for room, forever := range map[disk.Bytes]bool{0: false, disk.TiB: false, disk.MiB: true} { // what it held is kept where there is room
			cols := Lay(l, Facts{Room: room}, []Step{first, slide})
			if last := cols[1]; len(last.Obstacles) > 0 || (last.NoReturn != "") != forever {
				t.Errorf("%s, with room for %s: %q, %v", name, room, last.NoReturn, last.Obstacles)
			}
		}
	}
	if cols := Lay(l, Facts{}, []Step{
		{Partition: "6", Body: Sliding{By: "1 GiB"}}, {Partition: "5", Body: Sliding{By: "1 GiB"}},
	}); cols[1].NoReturn != "" {
		t.Errorf("nothing is gone: %q", cols[1].NoReturn)
	}
}
