package run

import (
	"context"
	"maps"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/table"
)

// entry puts an entry into a GPT's slot, whatever stands against it: the table is made again with it.
func (s *shop) entry(t *testing.T, im *disk.Image, slot int, start, end disk.LBA) {
	t.Helper()
	tb, err := table.Read(im)
	if err != nil {
		t.Fatal(err)
	}
	all := append(tb.Entries, table.NewEntry(table.Entry{Slot: slot, TypeID: table.TypeBasic, UniqueID: uid(slot), Start: start, End: end}))
	if err := table.New(im, tb.DiskID, all...).Apply(im, nil); err != nil {
		t.Fatal(err)
	}
}

// TestBrokenEntries takes entries out of a table that cannot be so: nothing else is changed before, and
// all is as it was afterwards.
func TestBrokenEntries(t *testing.T) {
	for name, place := range map[string][2]disk.LBA{
		"over two others":        {(100 * disk.MiB).At(512), (140 * disk.MiB).At(512)},
		"beyond the drive's end": {(600 * disk.MiB).At(512), (900 * disk.MiB).At(512)},
		"outside what is usable": {20, 1000},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop(t)
			im := s.open(t)
			was, before := contents(t, im), whole(t, im)
			s.entry(t, im, 9, place[0], place[1])
			if _, err := s.later(t, im, plan.Step{Partition: "6", Body: plan.Growth{By: "16 MiB"}}); err == nil {
				t.Fatal("something was changed in a table that cannot be so")
			}
			s.must(t, im, plan.Step{Partition: "9", Body: plan.Deletion{Release: "it cannot be so", Waiver: "it holds nothing of its own"}})
			if whole(t, im) != before || !maps.Equal(was, contents(t, im)) {
				t.Error("the drive is not as it was")
			}
			s.must(t, im, plan.Step{Partition: "6", Body: plan.Growth{By: "16 MiB"}})
		})
	}
}

// TestTableGone wipes the tables of drives: all that was in them is found, and comes back into a table that
// is made, each file as it was, and a container is made for logical volumes.
func TestTableGone(t *testing.T) {
	for name, c := range map[string]struct {
		shop   *shop
		scheme string
		parts  int
	}{
		"gpt": {newShop(t), "gpt", 5}, // a reserved partition without contents cannot be found
		"mbr": {bakeryShop(t, 512), "mbr", 5},
	} {
		t.Run(name, func(t *testing.T) {
			im := c.shop.open(t)
			was := map[string]string{}
			for _, text := range contents(t, im) {
				was[text] = "there"
			}
			for _, at := range []disk.Bytes{0, im.Size() - 33*512} {
				n := disk.Bytes(33 * 512)
				if c.scheme == "mbr" {
					n = 512
				}
				if err := im.Zero(at, n); err != nil {
					t.Fatal(err)
				}
			}
			c.shop.allBack(t, im)
			sv, err := survey.Read(im, nil)
			if err != nil {
				t.Fatal(err)
			}
			if f := sv.Check().FirstError(); f != nil || sv.Layout.Scheme != c.scheme || len(sv.Layout.Partitions()) != c.parts {
				t.Errorf("%v, a %s with %d partitions", f, sv.Layout.Scheme, len(sv.Layout.Partitions()))
			}
			now := map[string]string{}
			for _, text := range contents(t, im) {
				now[text] = "there"
			}
			if !maps.Equal(was, now) {
				t.Errorf("%d files are there, and %d were", len(now), len(was))
			}
		})
	}
}

// allBack brings back all that a search finds, sure or likely.
func (s *shop) allBack(t *testing.T, im *disk.Image) {
	t.Helper()
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	x := seek.New(im, sv, nil)
	if _, err := x.Whole(context.Background(), 0); err != nil {
		t.Fatal(err)
	}
	var steps []plan.Step
	for _, f := range x.Finds() {
		if !f.Ghost && f.Confidence != seek.Doubtful {
			steps = append(steps, plan.Step{Body: plan.BringingBack{Find: f.Start, Told: f.At}})
		}
	}
	o := s.atHour(s.options(im))
	o.PC, o.Seen = nil, func() ([]disk.Bytes, error) { return x.Told(), nil }
	f, err := facts.Gather(o.Sources, sv, steps)
	if err != nil {
		t.Fatal(err)
	}
	back, no := plan.AllBack(sv.Layout, f, steps)
	if len(no) > 0 {
		t.Fatal(no)
	}
	o.Plan = &plan.Plan{Version: 1, Steps: back.Steps}
	if _, err := CarryOut(context.Background(), o); err != nil {
		t.Fatal(err)
	}
}

// TestHistoryOutlivesTheTable deletes a partition, clears the drive and gives it another table: its record is
// still one of the drive, and the partition comes back from it.
func TestHistoryOutlivesTheTable(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	was := contents(t, im)
	kept, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 6, Kind: shelf.Image}, nil)
	if err != nil {
		t.Fatal(err)
	}
	id := s.must(t, im, plan.Step{Partition: "6", Body: plan.Deletion{Release: "r"}}).Records[0]
	pc := plan.Step{Body: plan.Clearing{Scheme: "gpt", Release: "r", Waiver: "w"}}
	s.hours++
	o := s.atHour(s.options(im))
	o.PC, o.Plan = nil, &plan.Plan{Version: 1, Steps: []plan.Step{pc}}
	if _, err := CarryOut(context.Background(), o); err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	of, err := o.Records.Of(o.Named(sv.Layout))
	if err != nil || len(of) != 6 {
		t.Fatalf("%d records, %v", len(of), err)
	}
	back := s.must(t, im, plan.Step{Body: plan.BringingBack{Record: id}})
	if back.Columns[0].Place != plan.InPlace {
		t.Errorf("%+v", back.Columns[0])
	}
	if sv, err = survey.Read(im, nil); err != nil || sv.Layout.DiskID == kept.From.DiskID {
		t.Fatalf("the table is not another: %v", err)
	}
	f, err := facts.Gather(s.options(im).Sources, sv, nil)
	if b := f.Backups[back.Columns[0].Number]; err != nil || b.ID != kept.ID || !b.Verified || !b.Same {
		t.Errorf("its backup: %+v, %v", b, err)
	}
	for path, want := range contents(t, im) {
		if _, name, _ := strings.Cut(path, "/"); was["6/"+name] != want {
			t.Errorf("%s is not as it was", path)
		}
	}
}
