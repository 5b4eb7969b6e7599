package run

import (
	"bytes"
	"context"
	"path/filepath"
	"slices"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume/ntfs"
)

// bakeryShop is a drive with an MBR: a primary, and three logical volumes with a gap
// behind the second.
func bakeryShop(t *testing.T, sector disk.Bytes) *shop {
	t.Helper()
	dir := t.TempDir()
	s := &shop{dir: dir, image: filepath.Join(dir, "d.img")}
	im, err := disk.CreateImage(s.image, 160*disk.MiB, sector)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	m := disk.MiB.At(sector)
	entries := []table.Entry{
		{Slot: 1, TypeID: "07", Start: m, End: 31*m - 1, Active: true},
		{Slot: 2, TypeID: "0f", Start: 32 * m, End: 150*m - 1},
		{Slot: 5, TypeID: "07", Record: 32 * m, Start: 33 * m, End: 53*m - 1},
		{Slot: 6, TypeID: "07", Record: 53 * m, Start: 54 * m, End: 74*m - 1},
		{Slot: 7, TypeID: "07", Record: 90 * m, Start: 91 * m, End: 111*m - 1},
	}
	for i, e := range entries {
		entries[i] = table.MBREntry(e, sector)
		if e.Slot == 2 {
			continue
		}
		o := ntfs.Options{Label: "Volume", Serial: uint64(e.Slot), Hidden: uint32(e.Start), Time: day, Files: files("card", 10*e.Slot)}
		if err := ntfs.Make(disk.NewWindow(im, e.Start.Offset(sector), e.Bytes(sector)), o); err != nil {
			t.Fatal(err)
		}
	}
	if err := table.NewMBR(im, 0x7f3b1046, entries...).Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	return s
}

func (s *shop) run(t *testing.T, dev *disk.Image, steps ...plan.Step) *Result {
	t.Helper()
	s.steps = steps
	o := s.options(dev)
	o.PC = nil
	res, err := CarryOut(context.Background(), o)
	if err != nil {
		t.Fatal(steps, err)
	}
	return res
}

// TestMBR deletes each partition of a drive with an MBR, grows a logical volume into
// what that frees, and brings the deleted ones back identical to the byte.
func TestMBR(t *testing.T) {
	for _, sector := range []disk.Bytes{512, 4096} {
		s := bakeryShop(t, sector)
		dev := s.open(t)
		before, _ := disk.ReadFull(dev, 0, dev.Size())
		for _, n := range []string{"1", "5", "6", "7"} {
			res := s.run(t, dev, plan.Step{Do: plan.Delete, Partition: n, Waiver: "w", Lead: "Odile Farrow"})
			sv, _ := survey.Read(dev, nil)
			if len(sv.Layout.Partitions()) != 4 || sv.Check().FirstError() != nil {
				t.Errorf("after deleting %s: %+v", n, sv.Check())
			}
			s.run(t, dev, plan.Step{Do: plan.BringBack, Record: res.Records[0]})
			if again, _ := disk.ReadFull(dev, 0, dev.Size()); !bytes.Equal(before, again) {
				t.Errorf("deleting %s and bringing it back is not identical to the byte", n)
			}
		}
		// Numbers are those of the plan's beginning, also behind a deleted one.
		res := s.run(t, dev, plan.Step{Do: plan.Delete, Partition: "5", Waiver: "w", Lead: "Odile Farrow"}, plan.Step{Do: plan.Grow, Partition: "6", By: "all"},
			plan.Step{Do: plan.Delete, Partition: "7", Waiver: "w", Lead: "Odile Farrow"})
		sv, _ := survey.Read(dev, nil)
		p, ok := sv.Layout.Find(5)
		if !ok || p.Bytes != 36*disk.MiB || p.Volume.TotalBytes < 35*disk.MiB || len(sv.Layout.Partitions()) != 3 || sv.Check().FirstError() != nil {
			t.Errorf("after the plan: %+v, %v", p, sv.Check())
		}
		s.run(t, dev, plan.Step{Do: plan.BringBack, Record: res.Records[1]}, plan.Step{Do: plan.BringBack, Record: res.Records[0]})
		if sv, _ = survey.Read(dev, nil); len(sv.Layout.Partitions()) != 5 || sv.Check().FirstError() != nil {
			t.Errorf("brought back: %+v, %v", sv.Layout.Partitions(), sv.Check())
		}
	}
}

func TestMendedTable(t *testing.T) {
	s := newShop(t)
	dev := s.open(t)
	before, _ := disk.ReadFull(dev, 0, dev.Size())
	for _, at := range []int64{512 + 60, 1024 + 32, int64(dev.Size()) - 512 + 60, int64(dev.Size()) - 33*512 + 32} {
		dev.WriteAt([]byte{before[at] ^ 0xff}, at)
		s.run(t, dev, plan.Step{Do: plan.Mend})
		if again, _ := disk.ReadFull(dev, 0, dev.Size()); !bytes.Equal(before, again) {
			t.Errorf("damage at byte %d is not mended to the byte", at)
		}
	}
	s.steps = []plan.Step{{Do: plan.Mend}}
	if _, err := CarryOut(context.Background(), s.options(dev)); err == nil {
		t.Error("a sound table is mended")
	}
	// A step may follow that the damage stood against.
	dev.WriteAt([]byte{before[512+60] ^ 0xff}, 512+60)
	s.run(t, dev, plan.Step{Do: plan.Mend}, plan.Step{Do: plan.Grow, Partition: "6", By: "8 MiB"})
	sv, _ := survey.Read(dev, nil)
	if i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == 6 }); sv.Table.Entries[i].Bytes(512) != 24*disk.MiB {
		t.Errorf("%+v", sv.Table.Entries[i])
	}
}
