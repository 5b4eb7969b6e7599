package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// badly makes sectors of a shop's drive such that they cannot be read or written.
func (s *shop) badly(t *testing.T, sectors ...[2]disk.LBA) {
	t.Helper()
	b, err := json.Marshal(sectors)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(s.image+".bad.json", b, 0o644); err != nil {
		t.Fatal(err)
	}
}

// TestHurt slides a volume of which a file cannot be read: the run stops there, names the
// file, and is taken back; what can be read is backed up.
func TestHurt(t *testing.T) {
	s := newShop(t, plan.Step{Partition: "6", Body: plan.Sliding{By: "40 MiB"}}, plan.Step{Partition: "5", Body: plan.Sliding{By: "6 MiB"}})
	im := s.open(t)
	before := contents(t, im)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	x, _ := sv.Layout.Find(5)
	files, err := sv.Volume(5).Files()
	if err != nil {
		t.Fatal(err)
	}
	var file volume.File
	for _, f := range files {
		if f.Kind == volume.Plain && len(f.Extents) == 1 && f.Extents[0].Off > 0 {
			file = f
		}
	}
	im.Close()
	lba := (x.Start.Offset(512) + file.Extents[0].Off).At(512)
	s.badly(t, [2]disk.LBA{lba, 2})
	im = s.open(t)
	_, err = CarryOut(context.Background(), s.options(im))
	var bad *disk.BadPlace
	if !errors.Is(err, prove.ErrHurt) || !errors.As(err, &bad) || bad.Write || !strings.Contains(err.Error(), file.Path+" in X-rays") || !strings.Contains(err.Error(), "Nothing was written") {
		t.Fatal(err)
	}
	if m, err := Open(s.options(im)); err != nil || m != nil {
		t.Fatalf("a run is open, %+v, %v", m, err)
	}
	im.Close()
	if err := os.Remove(s.image + ".bad.json"); err != nil {
		t.Fatal(err)
	}
	im = s.open(t)
	// The same place wears out while the run is on its way there.
	worn := &wearing{Image: im, at: disk.Range{Start: lba.Offset(512), End: (lba + 2).Offset(512)}, writes: 12}
	_, err = CarryOut(context.Background(), s.options(worn))
	if !errors.Is(err, prove.ErrHurt) || !errors.As(err, &bad) || bad.Write || !strings.Contains(err.Error(), file.Path+" in X-rays") || !strings.Contains(err.Error(), "Take the run back") {
		t.Fatal(err)
	}
	if m, err := Open(s.options(worn)); err != nil || m == nil {
		t.Fatal("nothing is there to be taken back", err)
	}
	again := s.options(worn)
	again.PC = nil
	if r, err := Resume(context.Background(), again, true); err != nil || !r.Undone {
		t.Fatal(err)
	}
	im.Close()
	s.badly(t, [2]disk.LBA{lba, 2})
	im = s.open(t)
	// Which comparison of every file would have found before anything was written.
	o := s.options(im)
	o.Compare = true
	m, err := BackUp(context.Background(), o, Wanted{Partition: 5, Kind: shelf.Files}, nil)
	if err != nil || m.Unreadable != 1 {
		t.Fatalf("the backup of what can be read: %+v, %v", m, err)
	}
	im.Close()
	if err := os.Remove(s.image + ".bad.json"); err != nil {
		t.Fatal(err)
	}
	im = s.open(t)
	if !maps.Equal(contents(t, im), before) {
		t.Error("the files are not as they were")
	}
	im.Close()

	// A free place that cannot be written.
	s.badly(t, [2]disk.LBA{lba + (6 * disk.MiB).At(512), 1})
	im = s.open(t)
	_, err = CarryOut(context.Background(), s.options(im))
	if !errors.As(err, &bad) || !bad.Write || !strings.Contains(err.Error(), "stays free") {
		t.Fatal(err)
	}
	again = s.options(im)
	again.PC = nil
	if _, err := Resume(context.Background(), again, true); err != nil {
		t.Fatal(err)
	}
}

// wearing is a drive of which a place can no longer be read after so many writes.
type wearing struct {
	*disk.Image
	at     disk.Range
	writes int
}

func (w *wearing) WriteAt(b []byte, off int64) (int, error) {
	w.writes--
	return w.Image.WriteAt(b, off)
}

func (w *wearing) ReadAt(b []byte, off int64) (int, error) {
	if r := (disk.Range{Start: disk.Bytes(off), End: disk.Bytes(off) + disk.Bytes(len(b))}); w.writes < 0 && w.at.Meets(r) {
		return 0, &disk.BadPlace{Off: w.at.Start, Len: w.at.Len(), Sector: 512}
	}
	return w.Image.ReadAt(b, off)
}

// TestEverySector makes a partition of which every sector is tested; over one that cannot be
// read none is made, and the sectors are named.
func TestEverySector(t *testing.T) {
	step := plan.Step{Body: plan.Creation{Size: "20 MiB", Type: "basic", Format: "ntfs", Label: "New", As: "new", Test: true}}
	s := newShop(t, step)
	im := s.open(t)
	gap := 0
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range sv.Layout.Partitions() {
		gap = max(gap, int(p.End)+1)
	}
	at := disk.LBA(gap).Offset(512)
	if _, err := im.WriteAt([]byte("left behind"), int64(at+9*disk.MiB+disk.KiB)); err != nil {
		t.Fatal(err)
	}
	im.Close()
	bad := (at + 11*disk.MiB).At(512)
	s.badly(t, [2]disk.LBA{bad, 3}, [2]disk.LBA{bad + 4000, 1})
	im = s.open(t)
	_, err = CarryOut(context.Background(), s.options(im))
	if !errors.Is(err, prove.ErrHurt) || !strings.Contains(err.Error(), "4 sectors: ") || !strings.Contains(err.Error(), disk.Grouped(int64(bad))+" to "+disk.Grouped(int64(bad+2))) || !strings.Contains(err.Error(), disk.Grouped(int64(bad+4000))) {
		t.Fatal(err)
	}
	if m, err := Open(s.options(im)); m != nil || err != nil {
		t.Fatal("something was begun", err)
	}
	im.Close()
	if err := os.Remove(s.image + ".bad.json"); err != nil {
		t.Fatal(err)
	}
	im = s.open(t)
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil || !strings.Contains(res.Report.Proof, "every sector of New (20 MiB) read, written and read again") {
		t.Fatal(res, err)
	}
	if b, _ := disk.ReadFull(im, at+9*disk.MiB, disk.MiB); strings.Contains(string(b), "left behind") {
		t.Error("what lay there was not written over")
	}
	if sv, err = survey.Read(im, nil); err != nil || sv.Check().FirstError() != nil {
		t.Error(err, sv.Check())
	}
}

// TestErasedButForBadPlaces erases a partition with a bad sector: the proof says what is left.
func TestErasedButForBadPlaces(t *testing.T) {
	s := newShop(t, plan.Step{Partition: "5", Body: plan.Deletion{Erase: true, Waiver: "the owner wants it gone"}})
	im := s.open(t)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(5)
	im.Close()
	s.badly(t, [2]disk.LBA{p.Start + 30000, 3})
	im = s.open(t)
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	if want := fmt.Sprintf("zeros, but for 1.50 KiB in 1 places that the drive cannot write or read, the first at sector %s", disk.Grouped(int64(p.Start+30000))); !strings.Contains(res.Report.Proof, want) {
		t.Errorf("%q does not say %q", res.Report.Proof, want)
	}
}
