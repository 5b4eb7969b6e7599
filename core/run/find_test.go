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
	"jadetrail/core/volume/ntfs"
)

// lostShop is a shop whose partition 5 is gone from the table; its first sector is damaged, or
// the copy of it, or the first records of its table of files.
func lostShop(t *testing.T, damaged ...string) (s *shop, find *seek.Find) {
	t.Helper()
	s = newShop(t)
	im := s.open(t)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(5)
	out, err := sv.Table.Set(5, nil)
	if err == nil {
		err = out.Apply(im, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, what := range damaged {
		at := p.Start.Offset(512)
		switch what {
		case "table":
			at += sv.Volume(5).(*ntfs.Volume).TableAt()
		case "copy":
			at += p.Bytes - 4096
		}
		if err := im.Zero(at, 4096); err != nil {
			t.Fatal(err)
		}
	}
	if sv, err = survey.Read(im, nil); err != nil {
		t.Fatal(err)
	}
	x := seek.New(im, sv, nil)
	if _, err := x.Whole(context.Background(), 0); err != nil {
		t.Fatal(err)
	}
	for _, f := range x.Finds() {
		if f.Start == p.Start && !f.Ghost {
			im.Close()
			return s, &f
		}
	}
	t.Fatalf("not found: %+v", x.Finds())
	return nil, nil
}

// TestFindBack brings lost partitions back of which some is rebuilt from its copy.
func TestFindBack(t *testing.T) {
	t.Run("start", func(t *testing.T) { findBack(t, "start") })
	t.Run("table of files", func(t *testing.T) { findBack(t, "table") })
	t.Run("both", func(t *testing.T) { findBack(t, "start", "table") })
	t.Run("start and copy", func(t *testing.T) { findBack(t, "start", "copy") })
}

func findBack(t *testing.T, damaged ...string) {
	s, f := lostShop(t, damaged...)
	im := s.open(t)
	// Its files on the shelf, without bringing it back.
	m, err := BackUpFind(context.Background(), s.options(im), f.Start, f.At, nil)
	if err != nil || m.Kind != shelf.Files || m.Verified == nil || m.Unreadable != 0 || m.Count < 30 {
		t.Fatalf("%+v, %v", m, err)
	}
	s.steps = []plan.Step{{Body: plan.BringingBack{Find: f.Start, Told: f.At}}}
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Read(im, nil)
	if err != nil || sv.Check().FirstError() != nil {
		t.Fatal(err, sv.Check())
	}
	whole := newShop(t)
	was := contents(t, whole.open(t))
	if now := contents(t, im); !maps.Equal(was, now) || res.Good == "" {
		t.Errorf("%d files, there were %d; %+v", len(now), len(was), res)
	}
	// A second time there is nothing to be found.
	if _, err := CarryOut(context.Background(), s.options(im)); err == nil {
		t.Error("it came back twice")
	}
}

// TestFindBackAtEveryCut cuts the power at every write of that.
func TestFindBackAtEveryCut(t *testing.T) {
	s, f := lostShop(t, "start", "table")
	s.steps = []plan.Step{{Body: plan.BringingBack{Find: f.Start, Told: f.At}}}
	s.cut(t, 4)
}

// TestRestorePointsAtEveryCut cuts the power at every write of a run that drops them.
func TestRestorePointsAtEveryCut(t *testing.T) {
	s := restorePointShop(t)
	s.steps = []plan.Step{{Partition: "5", Body: plan.Shrinking{To: "12 MiB", DropRestorePoints: true}}}
	s.fills, s.pc = true, true
	s.cut(t, 1)
}

// TestBackUpFindPartly lays a small volume over a lost one: files in its place are left out.
func TestBackUpFindPartly(t *testing.T) {
	s, f := lostShop(t, "start")
	im := s.open(t)
	s.steps = []plan.Step{
		{Body: plan.Creation{StartLBA: f.Start + (2 * disk.MiB).At(512), Size: "12 MiB", Type: "basic", Format: "ntfs", Label: "Over"}},
	}
	if _, err := CarryOut(context.Background(), s.options(im)); err != nil {
		t.Fatal(err)
	}
	m, err := BackUpFind(context.Background(), s.options(im), f.Start, f.At, nil)
	if err != nil {
		t.Skip("its table of files is gone under the other: ", err)
	}
	if m.Unreadable == 0 {
		t.Errorf("%d files, none of them left out", m.Count)
	}
}

// TestCopyIsNoGhost deletes the copy of a volume that lives on: the trail knows it as a partition of its own,
// and it is found where it lies, and comes back.
func TestCopyIsNoGhost(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(5)
	b, err := disk.ReadFull(im, p.Start.Offset(512), p.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	at := 300 * disk.MiB
	if _, err := im.WriteAt(b, int64(at)); err != nil {
		t.Fatal(err)
	}
	out, err := sv.Table.Set(7, table.NewEntry(table.Entry{Slot: 7, TypeID: table.TypeBasic, UniqueID: uid(7), Start: at.At(512), End: (at + p.Bytes).At(512) - 1}).Raw)
	if err == nil {
		err = out.Apply(im, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	was := contents(t, im)
	s.must(t, im, plan.Step{Partition: "7", Body: plan.Deletion{Waiver: "a copy"}})
	o := s.options(im)
	if sv, err = survey.Read(im, nil); err != nil {
		t.Fatal(err)
	}
	of, err := o.Records.Of(o.Named(sv.Layout))
	if err != nil {
		t.Fatal(err)
	}
	x := seek.New(im, sv, facts.Hints(of))
	if err := x.Likely(context.Background()); err != nil {
		t.Fatal(err)
	}
	for _, f := range x.Finds() {
		if f.Start != at.At(512) {
			continue
		}
		if f.Ghost || f.Confidence != seek.Sure {
			t.Fatalf("%+v", f.Reasons)
		}
		s.must(t, im, plan.Step{Body: plan.BringingBack{Find: f.Start, Told: f.At}})
		if !maps.Equal(was, contents(t, im)) {
			t.Error("it is not as it was")
		}
		return
	}
	t.Fatalf("it is not found: %+v", x.Finds())
}

// TestWillNotOpen brings back what cannot be opened once it is back: that is said before, and needs a
// reason.
func TestWillNotOpen(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(5)
	out, err := sv.Table.Set(5, nil)
	if err == nil {
		err = out.Apply(im, nil)
	}
	if err == nil { // all but the boot sector and its copy
		err = im.Zero(p.Start.Offset(512)+4096, p.Bytes-8192)
	}
	if err != nil {
		t.Fatal(err)
	}
	if sv, err = survey.Read(im, nil); err != nil {
		t.Fatal(err)
	}
	x := seek.New(im, sv, nil)
	if err := x.Likely(context.Background()); err != nil {
		t.Fatal(err)
	}
	for _, f := range x.Finds() {
		if f.Start != p.Start {
			continue
		}
		step := plan.Step{Body: plan.BringingBack{Find: f.Start, Told: f.At}}
		if _, err := s.later(t, im, step); err == nil || !strings.Contains(err.Error(), "will not open as what it was") {
			t.Errorf("without a reason: %v", err)
		}
		s.must(t, im, step.Accepting("for another tool to look into"))
		return
	}
	t.Fatalf("it is not found: %+v", x.Finds())
}
