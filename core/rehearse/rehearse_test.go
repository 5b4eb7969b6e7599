package rehearse_test

import (
	"errors"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/rehearse"
	"jadetrail/core/sample/drives"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// options are a plan for the small drive.
func options(t *testing.T, steps ...plan.Step) rehearse.Options {
	return rehearse.Options{
		Sources: drives.Opened(t), Plan: &plan.Plan{Version: 1, Steps: steps}, Who: "Odile Farrow",
		Now: func() time.Time { return drives.Day },
	}
}

var (
	deletes = plan.Step{Partition: "4", Body: plan.Deletion{Release: "not wanted", Waiver: "nothing of value in it"}}
	grows   = plan.Step{Partition: "3", Body: plan.Growth{By: "20 MiB"}}
)

// TestNothingIsWritten works a plan out on the copy: the copy is as planned, with its record and entries, the
// drive is what it was to the byte, and no folder of a run is there. The script leads the drive where the copy is.
func TestNothingIsWritten(t *testing.T) {
	o := options(t, deletes, grows)
	before := drives.Whole(t, o.Dev)
	p, err := rehearse.Prepare(o)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Release()
	if drives.Whole(t, o.Dev) != before {
		t.Error("the drive is another one")
	}
	if _, err := os.Stat(o.Runs); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a folder of runs: %v", err)
	}
	if len(p.Records) != 1 || len(p.Columns) != 2 || p.Meta == nil || len(layout.Differ(p.Meta.After, p.Survey.Layout)) > 0 {
		t.Errorf("%d records, %d columns, %+v", len(p.Records), len(p.Columns), p.Meta)
	}
	var acts []string
	for _, e := range p.Meta.Entries {
		acts = append(acts, string(e.Act))
	}
	if got := strings.Join(acts, " "); got != "plan release waiver delete grow" {
		t.Errorf("entries: %s", got)
	}
	if err := p.Script.Apply(o.Dev, p.Sources); err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		t.Fatal(err)
	}
	c, _ := sv.Layout.Find(3)
	if len(layout.Differ(p.Meta.After, sv.Layout)) > 0 || c.Bytes != 68*disk.MiB {
		t.Errorf("C: has %s: %v", c.Bytes, layout.Differ(p.Meta.After, sv.Layout))
	}
}

// TestRefused has plans refused before anything is done on the copy, each for what stands against it.
func TestRefused(t *testing.T) {
	stands := func(code plan.Code) func(error) bool {
		return func(err error) bool {
			var b *rehearse.Blocked
			return errors.As(err, &b) && slices.ContainsFunc(b.Obstacles, func(x plan.Obstacle) bool { return x.Code == code })
		}
	}
	other := func(o *rehearse.Options) {
		sv, err := survey.Read(o.Dev, o.PC)
		if err != nil {
			t.Fatal(err)
		}
		o.Expect = sv.Layout.With(sv.Layout.Partitions()[1:])
	}
	for name, c := range map[string]struct {
		steps  []plan.Step
		change func(o *rehearse.Options)
		is     func(error) bool
	}{
		"no release": {[]plan.Step{{Partition: "4", Body: plan.Deletion{Waiver: "w"}}}, nil, stands(plan.ReleaseMissing)},
		"no backup":  {[]plan.Step{{Partition: "5", Body: plan.Deletion{}}}, nil, stands(plan.BackupMissing)},
		"no lead": {
			[]plan.Step{{Partition: "5", Body: plan.Deletion{Waiver: "w"}}}, func(o *rehearse.Options) { o.Lead = false },
			stands(plan.LeadMissing),
		},
		"no such partition": {[]plan.Step{{Partition: "9", Body: plan.Growth{By: "all"}}}, nil, stands(plan.NoSuch)},
		"in the second step": {
			[]plan.Step{deletes, {Partition: "4", Body: plan.Growth{By: "all"}}}, nil, stands(plan.NoSuch),
		},
		"of another drive": {[]plan.Step{deletes}, other, func(err error) bool { return errors.Is(err, rehearse.ErrChanged) }},
	} {
		o := options(t, c.steps...)
		if c.change != nil {
			c.change(&o)
		}
		before := drives.Whole(t, o.Dev)
		p, err := rehearse.Prepare(o)
		if p != nil {
			p.Release()
		}
		if err == nil || !c.is(err) || !strings.Contains(err.Error(), "Nothing was written") || drives.Whole(t, o.Dev) != before {
			t.Errorf("%s: %v", name, err)
		}
	}
	twice := &rehearse.Blocked{Obstacles: []plan.Obstacle{{Text: "It is held."}, {Text: "It is held."}}}
	if got := twice.Error(); got != "It is held. Nothing was written." {
		t.Errorf("said twice: %s", got)
	}
}

// TestHurt says of a bad place what lies there, and what can be done, before and after something was written.
func TestHurt(t *testing.T) {
	o := options(t)
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(5)
	files, err := sv.Volume(5).Files()
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(files, func(f volume.File) bool { return len(f.Extents) > 0 && f.Extents[0].Off > 0 })
	last := sv.Layout.Spans[len(sv.Layout.Spans)-2] // the gap before the second table
	for name, c := range map[string]struct {
		off   disk.Bytes
		write bool
		began bool
		says  []string
	}{
		"a file":     {p.Start.Offset(512) + files[i].Extents[0].Off, false, false, []string{"a part of " + files[i].Path, "Nothing was written", "back the volume up"}},
		"on the way": {p.Start.Offset(512) + files[i].Extents[0].Off, false, true, []string{files[i].Path, "Take the run back", "no file is lost that was whole"}},
		"no volume":  {sv.Layout.Partitions()[1].Start.Offset(512), false, false, []string{"(partition 2)"}},
		"a gap":      {last.Start.Offset(512), true, false, []string{"in a gap", "plan it so that this place stays free"}},
	} {
		err := rehearse.Hurt(o.Dev, sv.Layout, &disk.BadPlace{Off: c.off, Len: 512, Sector: 512, Write: c.write}, c.began)
		for _, want := range c.says {
			if !errors.Is(err, prove.ErrHurt) || !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %v does not say %q", name, err, want)
			}
		}
	}
	plain := errors.New("another")
	if got := rehearse.Hurt(o.Dev, sv.Layout, plain, false); got != plain {
		t.Errorf("another error became %v", got)
	}
}
