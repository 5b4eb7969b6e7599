package prove_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/rehearse"
	"jadetrail/core/sample/drives"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// done works steps out on the small drive, does them there, and returns what is known of that.
func done(t *testing.T, steps ...plan.Step) (rehearse.Options, *rehearse.Run) {
	t.Helper()
	o := rehearse.Options{
		Sources: drives.Opened(t), Plan: &plan.Plan{Version: 1, Steps: steps}, Who: "Odile Farrow",
		Now: func() time.Time { return drives.Day },
	}
	p, err := rehearse.Prepare(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Release)
	if err := p.Script.Apply(o.Dev, p.Sources); err != nil {
		t.Fatal(err)
	}
	return o, p
}

// placeOf is where on the drive the first file of a partition lies that has clusters of its own.
func placeOf(t *testing.T, o rehearse.Options, number int) (path string, at disk.Bytes) {
	t.Helper()
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(number)
	files, err := sv.Volume(number).Files()
	i := slices.IndexFunc(files, func(f volume.File) bool {
		return f.Kind == volume.Plain && len(f.Extents) > 0 && f.Extents[0].Off > 0
	})
	if err != nil || i < 0 {
		t.Fatal(err, i)
	}
	return files[i].Path, p.Start.Offset(512) + files[i].Extents[0].Off
}

// TestPlanned proves a plan that was done right, and finds each byte that is not as the plan has it: in the table, in
// what a volume says of itself, and beside what the plan writes.
func TestPlanned(t *testing.T) {
	steps := []plan.Step{
		{Partition: "4", Body: plan.Deletion{Release: "not wanted", Waiver: "nothing of value in it"}},
		{Partition: "3", Body: plan.Growth{By: "20 MiB"}},
	}
	c := disk.MiB + 84*disk.MiB // where C: begins
	for name, spoilt := range map[string]struct {
		at   disk.Bytes // -1 for nowhere
		says string
	}{
		"as planned":                {-1, ""},
		"the table":                 {1024 + 2*128 + 40, "read back"},
		"the start of the volume":   {c + 72, ""},
		"beside what it was to be":  {0, "outside"},
		"what the table calls free": {500 * disk.MiB, "outside"},
	} {
		o, p := done(t, steps...)
		written := p.Script.Places(0)
		if spoilt.at >= 0 {
			b, err := disk.ReadFull(o.Dev, spoilt.at, 1)
			if err == nil {
				_, err = o.Dev.WriteAt([]byte{b[0] ^ 0x55}, int64(spoilt.at))
			}
			if err != nil {
				t.Fatal(err)
			}
			if spoilt.says == "outside" { // as who watches the drive would have seen it
				written = append(written, disk.Range{Start: spoilt.at, End: spoilt.at + 1})
			}
		}
		text, sv, err := prove.Planned(o.Proving(), p.Meta, p.Script, written, p.Over, prove.Watching(p.Script, p.Meta.Arrivals))
		if good := spoilt.at < 0; (err == nil) != good || good && (text == "" || sv == nil) || !good && !errors.Is(err, prove.ErrDiffers) {
			t.Errorf("%s: %q, %v", name, text, err)
		}
	}
}

// TestStartChecks tells from the bytes whether the PC will start: not without the loader, and of a PC that nobody
// knows nothing is told.
func TestStartChecks(t *testing.T) {
	o := drives.Opened(t)
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		t.Fatal(err)
	}
	trouble := func() (out []string) {
		now, err := survey.Read(o.Dev, o.PC)
		if err != nil {
			t.Fatal(err)
		}
		checks, err := prove.StartChecks(o.Dev, sv.Layout, now, o.PC, o.PC)
		if err != nil || len(checks) == 0 {
			t.Fatal(checks, err)
		}
		for _, x := range checks {
			if x.Standing != plan.Sound {
				out = append(out, x.Text)
			}
		}
		return out
	}
	if got := trouble(); len(got) != 0 {
		t.Errorf("a PC that starts: %v", got)
	}
	efi, _ := sv.Layout.Find(1)
	var zeros script.Script
	zeros.Empty(efi.Start.Offset(512), efi.Bytes)
	err = zeros.Apply(o.Dev, nil)
	if err == nil {
		err = drives.FAT(disk.NewWindow(o.Dev, efi.Start.Offset(512), efi.Bytes), efi.Start, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(trouble(), " "); !strings.Contains(got, "loader") {
		t.Errorf("without a loader: %q", got)
	}
	if checks, err := prove.StartChecks(o.Dev, sv.Layout, sv, nil, o.PC); len(checks) != 0 || err != nil {
		t.Errorf("of a PC that nobody knows: %v, %v", checks, err)
	}
}

// TestPlaceIn says in which partition a place lies, also in one that the run has deleted.
func TestPlaceIn(t *testing.T) {
	o, p := done(t, plan.Step{Partition: "4", Body: plan.Deletion{Release: "r", Waiver: "w"}})
	_, at := placeOf(t, o, 5)
	gone, _ := p.Meta.Before.Find(4)
	for want, r := range map[string]disk.Range{
		"(partition 5)": {Start: at, End: at + 1},
		"(partition 4)": {Start: gone.Start.Offset(512), End: gone.Start.Offset(512) + 1},
		"":              {Start: 600 * disk.MiB, End: 600*disk.MiB + 1},
	} {
		if got := prove.PlaceIn(p.Meta, r); !strings.Contains(got, want) || (got == "") != (want == "") {
			t.Errorf("%v: %q, not %q", r, got, want)
		}
	}
}

// TestWords words bad places, how much is changed, and how far it has come.
func TestWords(t *testing.T) {
	for want, bad := range map[string][]disk.BadPlace{
		"1 sector: 2":              {{Off: 1024, Len: 512, Sector: 512}},
		"5 sectors: 2, 10 to 13":   {{Off: 1024, Len: 512, Sector: 512}, {Off: 5120, Len: 2048, Sector: 512}},
		"9 sectors: 0, 2, 4, 6, 8": slices.Collect(everyOther(9)),
	} {
		if got := prove.Sectors(bad); !strings.HasPrefix(got, want) || len(bad) > 8 && !strings.HasSuffix(got, "14, and more") {
			t.Errorf("%q, not %q", got, want)
		}
	}
	var s script.Script
	s.Put(0, make([]byte, 4096))
	if got := prove.Figures(s); got != "4 KiB" {
		t.Errorf("%s are written", got)
	}
	s.Empty(disk.MiB, 2*disk.MiB)
	if got := prove.Figures(s); got != "4 KiB written and 2 MiB made zeros" {
		t.Errorf("with zeros: %s", got)
	}
	var seen []disk.Bytes
	count := prove.Counting("reading", 10, func(p carry.Progress) { seen = append(seen, p.Done) })
	for range 3 {
		count(4)
	}
	if !slices.Equal(seen, []disk.Bytes{4, 8, 10}) {
		t.Errorf("of 10: %v", seen)
	}
}

// everyOther are n bad places with a good one between each two.
func everyOther(n int) func(yield func(disk.BadPlace) bool) {
	return func(yield func(disk.BadPlace) bool) {
		for i := range n {
			if !yield(disk.BadPlace{Off: disk.Bytes(i) * 1024, Len: 512, Sector: 512}) {
				return
			}
		}
	}
}
