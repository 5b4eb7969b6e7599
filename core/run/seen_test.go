package run

import (
	"context"
	"errors"
	"slices"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/survey"
)

// flips is a drive that gives one byte wrong when it is read, from the time on when that
// byte was written.
type flips struct {
	disk.Device
	at    disk.Bytes
	armed bool
}

func (d *flips) WriteAt(b []byte, off int64) (int, error) {
	if off <= int64(d.at) && int64(d.at) < off+int64(len(b)) {
		d.armed = true
	}
	return d.Device.WriteAt(b, off)
}

func (d *flips) ReadAt(b []byte, off int64) (int, error) {
	n, err := d.Device.ReadAt(b, off)
	if i := int64(d.at) - off; d.armed && i >= 0 && i < int64(n) {
		b[i] ^= 4
	}
	return n, err
}

// twice carries a copy of files into C: out on a copy of the drive that is in order, and
// gives more such copies.
func (s *shop) twice(t *testing.T) (calm *disk.Overlay, sv *survey.Survey, over func() *disk.Overlay) {
	t.Helper()
	s.steps = []plan.Step{{Partition: "3", Body: plan.CopyingBack{Backup: s.backUp(t, 5), Folder: "From X"}}}
	base := s.open(t)
	over = func() *disk.Overlay {
		o, err := disk.NewOverlay(base, s.dir)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { o.Close() })
		return o
	}
	calm = over()
	o := s.options(calm)
	o.Runs = t.TempDir()
	if _, err := CarryOut(context.Background(), o); err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Read(calm, nil)
	if err != nil {
		t.Fatal(err)
	}
	return calm, sv, over
}

// TestReadBackWrong lets a drive give one byte of a file wrong after it was filled in: the
// run stops with that, and can be taken back.
func TestReadBackWrong(t *testing.T) {
	s := newShop(t)
	_, sv, over := s.twice(t)
	c, _ := sv.Layout.Find(3)
	files, err := sv.Volume(3).Files()
	if err != nil {
		t.Fatal(err)
	}
	tried := 0
	for _, f := range files {
		if len(f.Extents) != 1 || f.Bytes < 1500 || !slices.Contains([]string{"From X/X-rays/box 1/card-028.txt", "From X/X-rays/box 2/card-029.txt"}, f.Path) {
			continue
		}
		tried++
		dev := &flips{Device: over(), at: c.Start.Offset(512) + f.Extents[0].Off + f.Bytes - 1}
		before := contents(t, dev)
		o := s.options(dev)
		o.Runs = t.TempDir()
		if _, err := CarryOut(context.Background(), o); !errors.Is(err, prove.ErrDiffers) {
			t.Fatalf("%s: %v", f.Path, err)
		}
		if m, err := Open(o); m == nil || err != nil {
			t.Fatalf("%s: no run is pending, %v", f.Path, err)
		}
		dev.armed, dev.at = false, 0
		if r, err := Resume(context.Background(), o, true); err != nil || !r.Undone {
			t.Fatalf("%s: taking back: %v", f.Path, err)
		}
		after := contents(t, dev)
		for path, want := range before {
			if after[path] != want {
				t.Errorf("%s: %s has changed", f.Path, path)
			}
		}
		if len(after) != len(before) {
			t.Errorf("%s: %d files instead of %d", f.Path, len(after), len(before))
		}
	}
	if tried != 2 {
		t.Errorf("%d files tried", tried)
	}
}

// TestIndexReadBackWrong lets a drive give one byte of a folder's index wrong after it was
// written: neither the table of files nor the maps show that.
func TestIndexReadBackWrong(t *testing.T) {
	s := newShop(t)
	calm, sv, over := s.twice(t)
	base := over()
	c, _ := sv.Layout.Find(3)
	found := disk.Bytes(0)
	for at := c.Start.Offset(512); at < c.End.Offset(512) && found == 0; at += 4096 {
		now, _ := disk.ReadFull(calm, at, 4096)
		was, _ := disk.ReadFull(base, at, 4096)
		if string(now[:4]) == "INDX" && string(was) != string(now) {
			found = at + 200
		}
	}
	if found == 0 {
		t.Fatal("no index was written")
	}
	dev := &flips{Device: over(), at: found}
	o := s.options(dev)
	o.Runs = t.TempDir()
	if _, err := CarryOut(context.Background(), o); !errors.Is(err, prove.ErrDiffers) {
		t.Errorf("an index that reads back as something else: %v", err)
	}
}
