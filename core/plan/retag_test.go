package plan

import (
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/sample"
	"jadetrail/core/volume"
)

func TestRetag(t *testing.T) {
	l, b := sample.Reception(), sample.Bakery()
	yes, no := true, false
	active := sample.With(b, 1, func(s *layout.Span) { s.Active = true })
	here, lead := Facts{StartsHere: true}, Facts{StartsHere: true, Lead: true}
	for _, c := range []struct {
		name string
		l    *layout.Layout
		f    Facts
		s    Step
		want string // obstacle, or what is missing
		says func(p *layout.Span) bool
	}{
		{"a recovery partition, to data", l, here, Step{Partition: "4", Body: Retagging{Type: "basic"}}, "release-missing", func(p *layout.Span) bool { return p.Role == layout.Data && !p.Protected }},
		{"with its release", l, here, Step{Partition: "4", Body: Retagging{Type: "basic", Release: "r"}}, "", nil},
		{"a data volume, to recovery, by a technician", l, here, Step{Partition: "5", Body: Retagging{Type: "recovery"}}, "lead-missing", nil},
		{"a data volume, to recovery", l, lead, Step{Partition: "5", Body: Retagging{Type: "recovery", Attributes: "0x8000000000000001", Name: "Rescue"}}, "", func(p *layout.Span) bool {
			return p.Role == layout.Recovery && p.Protected && p.Attributes == "0x8000000000000001" && p.Name == "Rescue" && p.Volume != nil
		}},
		{"an id of its own", l, here, Step{Partition: "5", Body: Retagging{Type: "5A1C77E0-0000-4000-8000-000000000001"}}, "", func(p *layout.Span) bool { return p.TypeID == "5a1c77e0-0000-4000-8000-000000000001" }},
		{"no type of a GPT", l, here, Step{Partition: "5", Body: Retagging{Type: "07"}}, "bad-amount", nil},
		{"zeros", l, here, Step{Partition: "5", Body: Retagging{Type: "00000000-0000-0000-0000-000000000000"}}, "bad-amount", nil},
		{"the start system", l, here, Step{Partition: "3", Body: Retagging{Type: "recovery"}}, "start-system", nil},
		{"the start system's name", l, here, Step{Partition: "3", Body: Retagging{Name: "System"}}, "", nil},
		{"the only EFI partition", l, here, Step{Partition: "1", Body: Retagging{Type: "basic", Release: "r"}}, "only-efi", nil},
		{"an EFI partition elsewhere", l, Facts{}, Step{Partition: "1", Body: Retagging{Type: "basic", Release: "r"}}, "lead-missing", nil},
		{"active on a GPT", l, here, Step{Partition: "5", Body: Retagging{Active: &yes}}, "bad-amount", nil},
		{"the same", sample.With(l, 5, func(s *layout.Span) { s.Name = "Data" }), here, Step{Partition: "5", Body: Retagging{Name: "Data"}}, "nothing-to-do", nil},
		{"held", sample.With(l, 5, func(s *layout.Span) { s.Held = "a program" }), here, Step{Partition: "5", Body: Retagging{Name: "Data"}}, "held", nil},
		{"hidden on an MBR", b, lead, Step{Partition: "5", Body: Retagging{Type: "27"}}, "", func(p *layout.Span) bool { return p.Role == layout.Recovery }},
		{"a name on an MBR", b, here, Step{Partition: "5", Body: Retagging{Name: "Data"}}, "bad-amount", nil},
		{"no type of an MBR", b, here, Step{Partition: "5", Body: Retagging{Type: "reserved"}}, "bad-amount", nil},
		{"the container", b, here, Step{Partition: "2", Body: Retagging{Type: "07"}}, "has-volumes", nil},
		{"active", b, here, Step{Partition: "1", Body: Retagging{Active: &yes}}, "", func(p *layout.Span) bool { return p.Active }},
		{"a logical one active", b, here, Step{Partition: "5", Body: Retagging{Active: &yes}}, "bad-amount", nil},
		{"a second one active", active.With(append(active.Partitions(), sample.Part(3, 310*disk.GiB, disk.GiB, layout.Data, volume.NTFS))), here, Step{Partition: "3", Body: Retagging{Active: &yes}}, "in-the-way", nil},
		{"not active any more", active, here, Step{Partition: "1", Body: Retagging{Active: &no}}, "only-efi", nil},
		{"not active, elsewhere", active, Facts{}, Step{Partition: "1", Body: Retagging{Active: &no}}, "release-missing", func(p *layout.Span) bool { return !p.Active }},
		{"not active, by a technician", active, Facts{}, Step{Partition: "1", Body: Retagging{Active: &no, Release: "r"}}, "lead-missing", func(p *layout.Span) bool { return !p.Active }},
	} {
		if err := c.s.Valid(); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		col := Lay(c.l, c.f, []Step{c.s})[0]
		if got := strings.TrimSpace(codes(col.Obstacles) + " " + codes(col.Missing)); got != c.want {
			t.Errorf("%s: %q, %v %v", c.name, got, col.Obstacles, col.Missing)
		}
		if c.says != nil {
			n := col.Number
			if p, ok := col.Layout.Find(n); !ok || !c.says(p) {
				t.Errorf("%s: %+v", c.name, p)
			}
		}
	}
	for _, s := range []Step{
		{Partition: "5", Body: Retagging{}}, {Body: Retagging{Type: "basic"}}, {Partition: "5", Body: Retagging{Attributes: "many"}},
		{Partition: "5", Body: Retagging{Name: strings.Repeat("n", 37)}},
	} {
		if s.Valid() == nil {
			t.Errorf("%+v is taken", s)
		}
	}
}

// TestNoWayRoundTheLead has a technician call a data volume something else, and waive its backup: what it may
// hold stays somebody's.
func TestNoWayRoundTheLead(t *testing.T) {
	l := sample.Reception()
	waive := Step{Partition: "5", Body: Deletion{Release: "r", Waiver: "w"}}
	asked := func(l *layout.Layout, steps ...Step) string {
		var all []string
		for _, c := range Lay(l, Facts{}, steps) {
			all = append(all, codes(c.Missing))
		}
		return strings.Join(all, "; ")
	}
	for _, typ := range []string{"recovery", "oem", "efi", "reserved", "swap"} {
		if got := asked(l, Step{Partition: "5", Body: Retagging{Type: typ, Release: "r"}}, waive); !strings.HasPrefix(got, "lead-missing; lead-missing") {
			t.Errorf("called %s: %s", typ, got)
		}
	}
	// As the drive is read afterwards, with contents that are not what its type says.
	odd := sample.With(l, 5, func(s *layout.Span) { s.Role, s.Protected, s.Personal = layout.Recovery, true, true })
	if got := asked(odd, waive); got != "lead-missing" {
		t.Errorf("files in something called recovery: %s", got)
	}
	if got := asked(l, Step{Partition: "4", Body: Deletion{Release: "r", Waiver: "w"}}); got != "" {
		t.Errorf("a recovery partition that is one: %s", got)
	}
}

// TestAskNamesWhatGoes has volumes called like words of a step's title: what the lead is asked names each that
// goes along, and the step's own once.
func TestAskNamesWhatGoes(t *testing.T) {
	for label, want := range map[string]string{
		"X-rays": "Clear the drive, and with it X-rays without a backup; it may hold personal files",
		"drive":  "Clear the drive, and with it drive without a backup; it may hold personal files",
	} {
		l := sample.With(sample.Reception(), 3, func(s *layout.Span) { s.Role = layout.Data })
		l = sample.With(l, 5, func(s *layout.Span) { s.Volume.Label = label })
		col := Lay(l, Facts{}, []Step{{Body: Clearing{Scheme: "gpt", Release: "r", Waiver: "w"}}})[0]
		found := false
		for _, o := range col.Missing {
			found = found || o.Ask != nil && o.Ask.Text == want
		}
		if !found {
			t.Errorf("a volume called %s: %+v %+v", label, col.Missing, col.Obstacles)
		}
	}
	own := Lay(sample.Reception(), Facts{}, []Step{{Partition: "5", Body: Deletion{Release: "r", Waiver: "w"}}})[0]
	for _, o := range own.Missing {
		if o.Ask != nil && strings.Contains(o.Ask.Text, "and with it") {
			t.Errorf("of the step's own partition: %s", o.Ask.Text)
		}
	}
}
