package plan

import (
	"errors"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/sample"
)

func codes(os []Obstacle) string {
	var out []string
	for _, o := range os {
		out = append(out, string(o.Code))
	}
	return strings.Join(out, " ")
}

func TestObstacles(t *testing.T) {
	l := sample.Reception()
	facts := Facts{StartsHere: true, Backups: map[int]Backup{4: {ID: "b", Verified: true, Same: true}, 6: {ID: "c", Verified: true}}}
	for _, c := range []struct {
		name  string
		steps []Step
		want  string // obstacles of the last column
		miss  string
	}{
		{"hemmed in", []Step{{Partition: "3", Body: Growth{By: "80GiB"}}}, "in-the-way", ""},
		{"start system", []Step{{Partition: "3", Body: Deletion{}}}, "start-system", ""},
		{"only EFI", []Step{{Partition: "1", Body: Deletion{Release: "r", Waiver: "w"}}}, "only-efi", ""},
		{"no such", []Step{{Partition: "9", Body: Deletion{}}}, "no-such-partition", ""},
		{"release missing, backup there", []Step{{Partition: "4", Body: Deletion{}}}, "", "release-missing"},
		{"backup of another state", []Step{{Partition: "6", Body: Deletion{Release: "r"}}}, "", "backup-missing"},
		{"waived", []Step{{Partition: "6", Body: Deletion{Release: "r", Waiver: "w"}}}, "", ""},
		{"nothing in it, release only", []Step{{Partition: "2", Body: Deletion{}}}, "", "release-missing"},
		{"a waiver over personal files", []Step{{Partition: "5", Body: Deletion{Waiver: "w"}}}, "", "lead-missing"},
		{"no backup at all", []Step{{Partition: "5", Body: Deletion{}}}, "", "backup-missing"},
		{"too much", []Step{
			{Partition: "4", Body: Deletion{Release: "r"}}, {Partition: "3", Body: Growth{By: "2GiB"}},
		}, "bad-amount", ""},
		{"fits exactly", []Step{
			{Partition: "4", Body: Deletion{Release: "r"}}, {Partition: "3", Body: Growth{By: "1GiB"}},
		}, "", ""},
		{"not larger", []Step{
			{Partition: "4", Body: Deletion{Release: "r"}}, {Partition: "3", Body: Growth{To: "100GiB"}},
		}, "bad-amount", ""},
		{"FAT", []Step{{Partition: "1", Body: Growth{By: "all"}}}, "in-the-way", ""},
		{"after an obstacle", []Step{
			{Partition: "3", Body: Deletion{}}, {Partition: "4", Body: Deletion{}},
		}, "earlier-step", ""},
		{"toward the start", []Step{{Partition: "5", Body: Growth{By: "all", Edge: "head"}}}, "in-the-way", ""},
		{"toward the start, into a gap", []Step{
			{Partition: "4", Body: Deletion{Release: "r"}}, {Partition: "5", Body: Growth{By: "all", Edge: "head"}},
		}, "", ""},
	} {
		cols := Lay(l, facts, c.steps)
		last := cols[len(cols)-1]
		if codes(last.Obstacles) != c.want || codes(last.Missing) != c.miss {
			t.Errorf("%s: obstacles %q, missing %q", c.name, codes(last.Obstacles), codes(last.Missing))
		}
		if (last.Layout == nil) != (c.want != "") {
			t.Errorf("%s: layout %v", c.name, last.Layout)
		}
	}
	// On a drive that no PC starts from, the EFI partition may go, by the lead.
	efi := []Step{{Partition: "1", Body: Deletion{Release: "r", Waiver: "w"}}}
	if c := Lay(l, Facts{}, efi)[0]; codes(c.Missing) != "lead-missing" || c.Layout == nil {
		t.Errorf("EFI: %v", c.Missing)
	}
	if c := Lay(l, Facts{Lead: true}, efi)[0]; len(c.Missing) > 0 {
		t.Errorf("EFI, by the lead: %v", c.Missing)
	}
	o := Lay(l, facts, []Step{{Partition: "3", Body: Growth{By: "1GiB"}}})[0].Obstacles[0]
	if len(o.Partitions) != 3 || !strings.Contains(o.Text, "Recovery") {
		t.Errorf("in the way: %+v", o)
	}
}

func TestAmountsAreMetToTheAlignment(t *testing.T) {
	l := sample.Reception()
	del := Step{Partition: "4", Body: Deletion{Release: "r", Waiver: "w"}}
	for by, want := range map[string]disk.Bytes{
		"all": disk.GiB, "half": disk.GiB / 2, "300 MiB": 300 * disk.MiB, "all but 24 MiB": 1000 * disk.MiB,
		"500 MB": 477 * disk.MiB, "+1GiB": disk.GiB, "1073741823 B": disk.GiB,
	} {
		cols := Lay(l, Facts{}, []Step{del, {Partition: "3", Body: Growth{By: by}}})
		p, ok := func() (*layout.Span, bool) {
			if cols[1].Layout == nil {
				return nil, false
			}
			return cols[1].Layout.Find(3)
		}()
		if !ok || p.Bytes-138*disk.GiB != want {
			t.Errorf("%s: %+v %v", by, p, cols[1].Obstacles)
			continue
		}
		if p.Volume.TotalBytes != (p.Bytes - sample.Sector).Down(4096) {
			t.Errorf("%s: the volume has %d", by, p.Volume.TotalBytes)
		}
	}
	if before, _ := l.Find(3); before.Bytes != 138*disk.GiB || before.Volume.TotalBytes != (138*disk.GiB-sample.Sector).Down(4096) {
		t.Error("planning changed the layout it began with")
	}
}

func TestBringBack(t *testing.T) {
	l := sample.Reception()
	gone, _ := l.Find(6)
	after := Lay(l, Facts{}, []Step{{Partition: "6", Body: Deletion{Release: "r", Waiver: "w"}}})[0].Layout
	grown := Lay(after, Facts{}, []Step{{Partition: "5", Body: Growth{By: "10GiB"}}})[0].Layout
	for _, c := range []struct {
		name string
		l    *layout.Layout
		r    Record
		want Place
		code string
	}{
		{"free and kept", after, Record{Span: *gone, Stand: &Stand{Used: disk.MiB, Untouched: disk.MiB}}, InPlace, ""},
		{"written over, no backup", after, Record{Span: *gone}, "", "nowhere-to-go"},
		{"written over, backup", after, Record{Span: *gone, Backup: "b"}, FromBackup, ""},
		{"taken, backup", grown, Record{Span: *gone, Stand: &Stand{Used: disk.MiB, Untouched: disk.MiB}, Backup: "b"}, FromBackup, ""},
		{"taken, no backup", grown, Record{Span: *gone, Stand: &Stand{Used: disk.MiB, Untouched: disk.MiB}}, "", "nowhere-to-go"},
		{"no free entry", func() *layout.Layout { full := *l; full.Slots = 6; return &full }(), Record{Span: *gone, Stand: &Stand{Used: disk.MiB, Untouched: disk.MiB}, Backup: "b"}, "", "table-full"},
		{"already there", l, Record{Span: *gone, Stand: &Stand{Used: disk.MiB, Untouched: disk.MiB}, Backup: "b"}, FromBackup, ""},
	} {
		col := Lay(c.l, Facts{Records: map[string]Record{"r": c.r}, NewID: "new"}, []Step{{Body: BringingBack{Record: "r"}}})[0]
		if col.Place != c.want || codes(col.Obstacles) != c.code {
			t.Errorf("%s: %q %q", c.name, col.Place, codes(col.Obstacles))
		}
		if col.Layout != nil {
			p, ok := col.Layout.Find(col.Number)
			if !ok || p.Bytes != gone.Bytes || p.TypeID != gone.TypeID || p.Start.Offset(sample.Sector)%disk.Grid != 0 {
				t.Errorf("%s: came back as %+v", c.name, p)
			}
			if c.want == InPlace && len(layout.Differ(l, col.Layout)) != 0 {
				t.Errorf("%s: %v", c.name, layout.Differ(l, col.Layout))
			}
			if c.name == "already there" && p.UniqueID != "new" {
				t.Error("two partitions would have the same unique id")
			}
		}
	}
}

func TestParse(t *testing.T) {
	for text, ok := range map[string]bool{
		`{"version":1,"steps":[{"do":"delete","partition":"4"}]}`:                   true,
		`{"version":1,"steps":[]}`:                                                  false,
		`{"version":2,"steps":[{"do":"delete","partition":"4"}]}`:                   false,
		`{"version":1,"steps":[{"do":"delete"}]}`:                                   false,
		`{"version":1,"steps":[{"do":"melt","partition":"4"}]}`:                     false,
		`{"version":1,"steps":[{"do":"grow","partition":"4","by":"-5"}]}`:           false,
		`{"version":1,"steps":[{"do":"grow","partition":"4","by":"lots"}]}`:         false,
		`{"version":1,"steps":[{"do":"grow","partition":"4","by":"1B","to":"2B"}]}`: false,
		`{"version":1,"steps":[{"do":"delete","partition":"4"}]} x`:                 false,
		`nonsense`: false,
	} {
		if _, err := Parse([]byte(text)); (err == nil) != ok || err != nil && !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %v", text, err)
		}
	}
}
