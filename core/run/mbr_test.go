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
	"jadetrail/core/trail"
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
			res := s.run(t, dev, plan.Step{Partition: n, Body: plan.Deletion{Waiver: "w", Release: "r"}})
			sv, _ := survey.Read(dev, nil)
			if len(sv.Layout.Partitions()) != 4 || sv.Check().FirstError() != nil {
				t.Errorf("after deleting %s: %+v", n, sv.Check())
			}
			s.run(t, dev, plan.Step{Body: plan.BringingBack{Record: res.Records[0]}})
			if again, _ := disk.ReadFull(dev, 0, dev.Size()); !bytes.Equal(before, again) {
				t.Errorf("deleting %s and bringing it back is not identical to the byte", n)
			}
		}
		// Numbers are those of the plan's beginning, also behind a deleted one.
		res := s.run(t, dev, plan.Step{Partition: "5", Body: plan.Deletion{Waiver: "w"}}, plan.Step{Partition: "6", Body: plan.Growth{By: "all"}},
			plan.Step{Partition: "7", Body: plan.Deletion{Waiver: "w"}})
		sv, _ := survey.Read(dev, nil)
		p, ok := sv.Layout.Find(5)
		if !ok || p.Bytes != 36*disk.MiB || p.Volume.TotalBytes < 35*disk.MiB || len(sv.Layout.Partitions()) != 3 || sv.Check().FirstError() != nil {
			t.Errorf("after the plan: %+v, %v", p, sv.Check())
		}
		s.run(t, dev, plan.Step{Body: plan.BringingBack{Record: res.Records[1]}}, plan.Step{Body: plan.BringingBack{Record: res.Records[0]}})
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
		s.run(t, dev, plan.Step{Body: plan.Mending{}})
		if again, _ := disk.ReadFull(dev, 0, dev.Size()); !bytes.Equal(before, again) {
			t.Errorf("damage at byte %d is not mended to the byte", at)
		}
	}
	s.steps = []plan.Step{{Body: plan.Mending{}}}
	if _, err := CarryOut(context.Background(), s.options(dev)); err == nil {
		t.Error("a sound table is mended")
	}
	// A step may follow that the damage stood against.
	dev.WriteAt([]byte{before[512+60] ^ 0xff}, 512+60)
	s.run(t, dev, plan.Step{Body: plan.Mending{}}, plan.Step{Partition: "6", Body: plan.Growth{By: "8 MiB"}})
	sv, _ := survey.Read(dev, nil)
	if i := slices.IndexFunc(sv.Table.Entries, func(e table.Entry) bool { return e.Slot == 6 }); sv.Table.Entries[i].Bytes(512) != 24*disk.MiB {
		t.Errorf("%+v", sv.Table.Entries[i])
	}
}

// TestLogicalMade makes a logical volume in each gap of a container and where its first one
// was, and takes the whole away again.
func TestLogicalMade(t *testing.T) {
	for _, sector := range []disk.Bytes{512, 4096} {
		s := bakeryShop(t, sector)
		im := s.open(t)
		before := contents(t, im)
		made := plan.Step{Body: plan.Creation{In: "container", Size: "10 MiB", Type: "basic", Format: "ntfs", Label: "New"}}
		s.run(t, im, made)
		s.run(t, im, plan.Step{Partition: "5", Body: plan.Deletion{Waiver: "w"}}, made)
		sv, err := survey.Read(im, nil)
		if err != nil || sv.Check().FirstError() != nil {
			t.Fatal(err, sv.Check())
		}
		var news int
		box, _ := sv.Layout.Find(2)
		for _, p := range sv.Layout.Partitions() {
			if p.Volume != nil && p.Volume.Label == "New" {
				if news++; p.Container != 2 || p.Bytes != 10*disk.MiB || p.Record < box.Start {
					t.Errorf("%+v", p)
				}
			}
		}
		if news != 2 {
			t.Errorf("sectors of %s: %d new volumes\n%+v", sector, news, sv.Layout.Spans)
		}
		after := contents(t, im)
		for path, want := range before {
			if path[0] == '1' && after[path] != want {
				t.Errorf("%s has changed", path)
			}
		}
	}
}

// TestContainer makes a container larger and smaller at its end, empties and dissolves it,
// and makes another one with a logical volume in it; the other volumes keep every file.
func TestContainer(t *testing.T) {
	s := bakeryShop(t, 512)
	im := s.open(t)
	before := contents(t, im)
	box := func(act plan.ContainerAct, by string) plan.Step {
		return plan.Step{Partition: "2", Body: plan.Containing{Act: act, By: by}}
	}
	bytes := func() disk.Bytes {
		sv, err := survey.Read(im, nil)
		if err != nil || sv.Check().FirstError() != nil {
			t.Fatal(err, sv.Check())
		}
		p, _ := sv.Layout.Find(2)
		return p.Bytes
	}
	s.run(t, im, box("grow", "5 MiB"))
	if got := bytes(); got != 123*disk.MiB {
		t.Errorf("grown to %s", got)
	}
	s.run(t, im, box("shrink", "all"))
	if got := bytes(); got != 79*disk.MiB {
		t.Errorf("shrunk to %s", got)
	}
	for path, want := range contents(t, im) {
		if before[path] != want {
			t.Errorf("%s has changed", path)
		}
	}
	gone := func(n string) plan.Step { return plan.Step{Partition: n, Body: plan.Deletion{Waiver: "w"}} }
	s.run(t, im, gone("5"), gone("6"), gone("7"), plan.Step{Partition: "2", Body: plan.Containing{Act: "dissolve"}})
	s.run(t, im, plan.Step{Body: plan.Containing{Act: "create", Size: "60 MiB", As: "box"}}, plan.Step{Body: plan.Creation{In: "container", Size: "20 MiB", Type: "basic", Format: "ntfs", Label: "Inside"}})
	sv, err := survey.Read(im, nil)
	if err != nil || sv.Check().FirstError() != nil {
		t.Fatal(err, sv.Check())
	}
	p, _ := sv.Layout.Find(2)
	q, ok := sv.Layout.Find(5)
	if !ok || q.Volume.Label != "Inside" || q.Container != 2 || q.Record != p.Start || p.Bytes != 60*disk.MiB {
		t.Errorf("%+v\n%+v", p, q)
	}
	for path, want := range before {
		if path[0] == '1' && contents(t, im)[path] != want {
			t.Errorf("%s has changed", path)
		}
	}
}

// TestCleared clears drives of both kinds to all three, keeps a record of each partition, and
// makes one volume of all the room.
func TestCleared(t *testing.T) {
	storage := plan.Step{Body: plan.Creation{Size: "all", Type: "basic", Format: "ntfs", Label: "Storage"}}
	for _, scheme := range []string{"gpt", "mbr", "none"} {
		for name, s := range map[string]*shop{"gpt": newShop(t), "mbr": bakeryShop(t, 512)} {
			im := s.open(t)
			sv, err := survey.Read(im, nil)
			if err != nil {
				t.Fatal(err)
			}
			had := len(sv.Layout.Partitions())
			steps := []plan.Step{{Body: plan.Clearing{Scheme: scheme, Release: "it becomes storage", Waiver: "nothing is wanted"}}}
			if scheme != "none" {
				steps = append(steps, storage)
			}
			res := s.run(t, im, steps...)
			if sv, err = survey.Read(im, nil); err != nil || sv.Check().FirstError() != nil {
				t.Fatal(err, sv.Check())
			}
			parts := sv.Layout.Partitions()
			if len(res.Records) != had || string(sv.Layout.Scheme) != scheme || len(parts) != len(steps)-1 {
				t.Errorf("%s to %s: %d records of %d, %+v", name, scheme, len(res.Records), had, sv.Layout)
			}
			if len(parts) == 1 && (parts[0].Volume.Label != "Storage" || parts[0].Bytes < sv.Layout.Size-3*disk.MiB) {
				t.Errorf("%s to %s: %+v", name, scheme, parts[0])
			}
			for _, id := range res.Records {
				if r, _, err := (trail.Records{Dir: s.dir + "/records"}).Load(id); err != nil || r.After == nil || len(r.TableBefore) == 0 {
					t.Errorf("%s to %s: record %s: %+v, %v", name, scheme, id, r, err)
				}
			}
			im.Close()
		}
	}
}

// TestClearedAtEveryCut cuts the power at every write of clearing.
func TestClearedAtEveryCut(t *testing.T) {
	s := bakeryShop(t, 512)
	s.steps = []plan.Step{{Body: plan.Clearing{Scheme: "gpt", Release: "r", Waiver: "w"}}}
	s.cut(t, 4)
}
