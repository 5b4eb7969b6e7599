package run

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// crowdedShop is a drive with two volumes that have not room for all files of the second in
// the first: "Keeps" of 24 MiB, nearly full, a small gap, and "Goes" of 32 MiB.
func crowdedShop(t *testing.T, piece [2]disk.Bytes, steps ...plan.Step) *shop {
	t.Helper()
	dir := t.TempDir()
	s := &shop{dir: dir, image: filepath.Join(dir, "d.img"), steps: steps}
	im, err := disk.CreateImage(s.image, 80*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	var entries []table.Entry
	for n, x := range []struct {
		label    string
		at, size disk.Bytes
		hold     disk.Bytes
	}{{"Keeps", 1, 24, 18}, {"Goes", 27, 32, 26}} {
		start := x.at * disk.MiB
		var in []volume.Source
		piece := piece[n]
		for i := disk.Bytes(0); (i+1)*piece < x.hold*disk.MiB; i++ {
			b := make([]byte, piece-i*100)
			for k := range b {
				b[k] = byte(int(i)*31 + k*7 + k>>9 + n)
			}
			in = append(in, volume.Source{Path: fmt.Sprintf("Shelf %d/Row %d/plate %d", i%2, i%3, i), Data: b})
		}
		in = append(in, volume.Source{Path: "notes.txt", Data: []byte(x.label)}, volume.Source{Path: "Shelf 0/empty", Folder: true},
			volume.Source{Path: "System Volume Information/log", Data: make([]byte, 300*disk.KiB)})
		w := disk.NewWindow(im, start, x.size*disk.MiB)
		if err := ntfs.Make(w, ntfs.Options{Label: x.label, Serial: uint64(n + 1), Hidden: uint32(start / 512), Time: day, Files: in}); err != nil {
			t.Fatal(err)
		}
		entries = append(entries, table.NewEntry(table.Entry{Slot: n + 1, TypeID: table.TypeBasic, UniqueID: uid(n + 1), Start: start.At(512), End: (start + x.size*disk.MiB).At(512) - 1}))
	}
	if err := table.New(im, uid(0xd0), entries...).Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	return s
}

// TestAbsorbInPortions moves files over for which there is no room all at once, into a folder
// that holds others of the same names.
func TestAbsorbInPortions(t *testing.T) {
	absorb := plan.Step{Partition: "2", Body: plan.Absorbing{Into: "1", Folder: "Shelf 1", Waiver: "the files stay"}}
	s := crowdedShop(t, [2]disk.Bytes{900 * disk.KiB, 700 * disk.KiB}, absorb)
	im := s.open(t)
	before := contents(t, im)
	for k := range before {
		if strings.HasPrefix(k, "2/System Volume") {
			delete(before, k)
		}
	}
	o := s.options(im)
	o.PC = nil
	res, err := CarryOut(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Read(im, nil)
	if err != nil || sv.Check().FirstError() != nil {
		t.Fatal(err, sv.Check())
	}
	after := contents(t, im)
	for k, v := range before {
		if rest, ok := strings.CutPrefix(k, "2/"); ok {
			k = "1/Shelf 1/" + rest
		}
		if after[k] != v {
			t.Errorf("%s is not there as it was", k)
		}
	}
	p, _ := sv.Layout.Find(1)
	n, compared := 0, 0
	for _, a := range res.Arrivals {
		n, compared = n+a.Files, compared+a.Compared
	}
	if len(after) != len(before) || p.Bytes != 58*disk.MiB || len(res.Arrivals) < 3 || compared != n || res.Good == "" || len(res.Records) != 1 {
		t.Errorf("%d files of %d, %s, %d portions with %d files, %d compared; %+v", len(after), len(before), p.Bytes, len(res.Arrivals), n, compared, res.Records)
	}
	t.Logf("%d portions", len(res.Arrivals))
}

// TestNoPortion refuses where not even the smallest file has room.
func TestNoPortion(t *testing.T) {
	s := crowdedShop(t, [2]disk.Bytes{disk.MiB, 12 * disk.MiB}, plan.Step{Partition: "2", Body: plan.Absorbing{Into: "1", Waiver: "the files stay"}})
	im := s.open(t)
	before := whole(t, im)
	o := s.options(im)
	o.PC = nil
	_, err := CarryOut(context.Background(), o)
	if !errors.Is(err, compile.ErrCannot) || !strings.Contains(err.Error(), "the smallest of the files left, Shelf 1/Row 1/plate 1, takes 12.0 MiB") || !strings.Contains(err.Error(), "Nothing was written") {
		t.Error(err)
	}
	if whole(t, im) != before {
		t.Error("refused, and something was written")
	}
}

// TestPortionsAtEveryCut cuts the power at every write of that.
func TestPortionsAtEveryCut(t *testing.T) {
	s := crowdedShop(t, [2]disk.Bytes{2 * disk.MiB, 2 * disk.MiB}, plan.Step{Partition: "2", Body: plan.Absorbing{Into: "1", Waiver: "the files stay"}})
	s.fills = true
	s.cut(t, 1)
}
