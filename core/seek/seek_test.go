package seek

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

func drive(t testing.TB, size disk.Bytes) *disk.Image {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d.img"), size, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return im
}

func small(t testing.TB, im *disk.Image, at, n disk.Bytes, serial uint64) {
	t.Helper()
	if err := ntfs.Make(disk.NewWindow(im, at, n), ntfs.Options{Label: fmt.Sprint("Lost ", serial), Serial: serial, Hidden: uint32(at / 512), Files: []volume.Source{{Path: "a/b", Data: []byte("c")}}}); err != nil {
		t.Fatal(err)
	}
}

func searched(t testing.TB, im *disk.Image, likely bool, hints ...Hint) []Find {
	t.Helper()
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	s := New(im, sv, hints)
	if err := s.Likely(context.Background()); err != nil {
		t.Fatal(err)
	}
	if !likely {
		if _, err := s.Whole(context.Background(), 0); err != nil {
			t.Fatal(err)
		}
	}
	return s.Finds()
}

// TestSources finds partitions by what is not their own: a GPT that was replaced, records of a
// former chain, records of the trail.
func TestSources(t *testing.T) {
	id := func(n int) string { return fmt.Sprintf("5a1c77e0-1045-4d0b-9c3e-0000000000%02x", n) }
	t.Run("old table", func(t *testing.T) {
		im := drive(t, 200*disk.MiB)
		small(t, im, 20*disk.MiB, 30*disk.MiB, 0x1045)
		e := table.NewEntry(table.Entry{Slot: 3, TypeID: table.TypeBasic, UniqueID: id(3), Start: (20 * disk.MiB).At(512), End: (50 * disk.MiB).At(512) - 1, Name: "Plots"})
		raw := table.NewEntry(table.Entry{Slot: 4, TypeID: table.TypeLinux, UniqueID: id(4), Start: (60 * disk.MiB).At(512), End: (70 * disk.MiB).At(512) - 1})
		// The drive was copied to a larger one, and got a new table there.
		if err := table.New(disk.NewWindow(im, 0, 120*disk.MiB), id(0xd1), e, raw).Apply(disk.NewWindow(im, 0, 120*disk.MiB), nil); err != nil {
			t.Fatal(err)
		}
		if err := table.New(im, id(0xd0)).Apply(im, nil); err != nil {
			t.Fatal(err)
		}
		finds := searched(t, im, false)
		if len(finds) != 2 || finds[0].UniqueID != id(3) || finds[0].Name != "Plots" || finds[0].Confidence != Sure || finds[1].UniqueID != id(4) || finds[1].Confidence != Doubtful || finds[1].Kind != volume.Unknown {
			t.Errorf("%+v", finds)
		}
	})
	t.Run("former chain", func(t *testing.T) {
		im := drive(t, 200*disk.MiB)
		small(t, im, 31*disk.MiB, 30*disk.MiB, 0x1046)
		record := make([]byte, 512)
		record[450] = 7
		binary.LittleEndian.PutUint32(record[454:], 2048)
		binary.LittleEndian.PutUint32(record[458:], uint32(30*disk.MiB/512))
		record[510], record[511] = 0x55, 0xaa
		im.WriteAt(record, int64(30*disk.MiB))
		if err := table.NewMBR(im, 0x7f3b1046).Apply(im, nil); err != nil {
			t.Fatal(err)
		}
		finds := searched(t, im, true)
		if len(finds) != 1 || finds[0].Confidence != Sure || finds[0].Chain != (30*disk.MiB).At(512) || finds[0].TypeID != "07" || finds[0].Bytes != 30*disk.MiB {
			t.Errorf("%+v", finds)
		}
	})
	t.Run("record", func(t *testing.T) {
		im := drive(t, 200*disk.MiB)
		at := 33*disk.MiB + 12*512 // off the grid
		small(t, im, at, 30*disk.MiB, 0x1047)
		if err := table.New(im, id(0xd0)).Apply(im, nil); err != nil {
			t.Fatal(err)
		}
		if finds := searched(t, im, false); len(finds) != 1 || finds[0].Confidence != Likely && finds[0].Confidence != Sure {
			t.Errorf("it says that it began there: %+v", finds)
		}
		for _, x := range []disk.Bytes{at, at + 30*disk.MiB - 512} {
			im.WriteAt(make([]byte, 4), int64(x)+28)
		}
		if finds := searched(t, im, false); len(finds) != 1 || finds[0].Confidence != Doubtful || finds[0].Ghost {
			t.Errorf("without it: %+v", finds)
		}
		h := Hint{"d-1", layout.Span{Start: (33*disk.MiB + 12*512).At(512), End: (63*disk.MiB + 12*512).At(512) - 1, Bytes: 30 * disk.MiB, TypeID: table.TypeBasic, UniqueID: id(9)}}
		finds := searched(t, im, true, h)
		if len(finds) != 1 || finds[0].Confidence != Sure || finds[0].Record != "d-1" || finds[0].UniqueID != id(9) {
			t.Errorf("%+v", finds)
		}
		sv, _ := survey.Read(im, nil)
		if f, err := Again(im, sv, finds[0].Start, finds[0].At, []Hint{h}, nil); err != nil || f == nil || f.Confidence != Sure || f.Record != "d-1" {
			t.Errorf("again: %+v, %v", f, err)
		}
	})
	t.Run("table of files", func(t *testing.T) {
		im := drive(t, 200*disk.MiB)
		small(t, im, 40*disk.MiB, 30*disk.MiB, 0x1048)
		small(t, im, 100*disk.MiB, 30*disk.MiB, 0x1049)
		for _, at := range []disk.Bytes{40, 69, 100} { // of the second its end is left
			if err := im.Zero(at*disk.MiB, 4096); err != nil {
				t.Fatal(err)
			}
		}
		if err := im.Zero(70*disk.MiB-4096, 4096); err != nil {
			t.Fatal(err)
		}
		if err := table.New(im, id(0xd0)).Apply(im, nil); err != nil {
			t.Fatal(err)
		}
		finds := searched(t, im, false)
		if len(finds) != 2 || finds[0].Bytes != 30*disk.MiB || finds[0].Confidence != Likely || finds[0].Label != "Lost 4168" || len(finds[0].Repairs()) != 2 || finds[0].Told[0] != ByFiles || finds[1].Told[0] != ByCopy {
			t.Fatalf("%+v", finds)
		}
		sv, _ := survey.Read(im, nil)
		f, err := Again(im, sv, finds[0].Start, finds[0].At, nil, nil)
		if err != nil || f == nil || f.Volume() == nil || !f.Volume().Agrees() {
			t.Fatalf("again: %+v, %v", f, err)
		}
		// A copy of it within a living partition is not taken for one that was there.
		from := disk.NewWindow(im, 40*disk.MiB, 30*disk.MiB)
		if err := copyTo(disk.NewWindow(im, 150*disk.MiB, 30*disk.MiB), from); err != nil {
			t.Fatal(err)
		}
		im.Zero(40*disk.MiB, 30*disk.MiB)
		e := table.NewEntry(table.Entry{Slot: 1, TypeID: table.TypeBasic, UniqueID: id(1), Start: (140 * disk.MiB).At(512), End: (190 * disk.MiB).At(512) - 1})
		if err := table.New(im, id(0xd0), e).Apply(im, nil); err != nil {
			t.Fatal(err)
		}
		for _, x := range searched(t, im, false) {
			if x.Start == (150*disk.MiB).At(512) && x.Confidence != Doubtful && !x.Ghost {
				t.Errorf("%+v", x)
			}
		}
	})
	t.Run("sealed", func(t *testing.T) {
		im := drive(t, 200*disk.MiB)
		b := make([]byte, 512)
		copy(b[3:], "-FVE-FS-")
		b[510], b[511] = 0x55, 0xaa
		binary.LittleEndian.PutUint64(b[176:], uint64(4*disk.MiB))
		im.WriteAt(b, int64(10*disk.MiB))
		d := make([]byte, 64)
		copy(d, "-FVE-FS-")
		binary.LittleEndian.PutUint64(d[16:], uint64(40*disk.MiB))
		im.WriteAt(d, int64(14*disk.MiB))
		l := make([]byte, 512)
		copy(l, "LUKS\xba\xbe\x00\x01")
		copy(l[168:], "5a1c77e0-1045-4d0b-9c3e-000000000001")
		im.WriteAt(l, int64(100*disk.MiB))
		if err := table.New(im, id(0xd0)).Apply(im, nil); err != nil {
			t.Fatal(err)
		}
		finds := searched(t, im, false)
		if len(finds) != 2 || finds[0].Kind != volume.Sealed || finds[0].Bytes != 40*disk.MiB || finds[0].Confidence != Likely || finds[1].Kind != volume.Sealed || finds[1].Confidence != Doubtful || finds[1].End != finds[1].Start+finds[1].Bytes.At(512)-1 {
			t.Errorf("%+v", finds)
		}
	})
}

// TestCopyAtACylinder loses the first mebibytes of a volume whose copy of the boot sector lies where, by chance,
// a partition could begin: it is told as the copy that it says it is.
func TestCopyAtACylinder(t *testing.T) {
	const last = 40 * 16 * 63                       // the sector of the copy begins a cylinder of 16 heads
	for _, hidden := range []uint32{2048, 720304} { // as it began, or as it was before it was moved there
		im := drive(t, 64*disk.MiB)
		at := disk.MiB
		o := ntfs.Options{Label: "Lost", Serial: 0x1045, Hidden: hidden, Files: []volume.Source{{Path: "a/b", Data: []byte("c")}}}
		if err := ntfs.Make(disk.NewWindow(im, at, (last+1)*512-at), o); err != nil {
			t.Fatal(err)
		}
		if err := im.Zero(at, 12*disk.MiB); err != nil {
			t.Fatal(err)
		}
		finds := searched(t, im, false)
		if len(finds) != 1 || finds[0].Start != at.At(512) || finds[0].End != last || !slices.Contains(finds[0].Told, ByCopy) {
			t.Errorf("of one that says that it began at %d: %+v", hidden, finds)
		}
	}
}

// TestSwapCarriedAlong finds the start of a swap within the place of a lost volume: it does not say where it began,
// and may have come there with what lay around it. By itself it is likely.
func TestSwapCarriedAlong(t *testing.T) {
	for _, within := range []bool{false, true} {
		im := drive(t, 64*disk.MiB)
		if within {
			small(t, im, disk.MiB, 40*disk.MiB, 0x1046)
		}
		if err := swap(disk.NewWindow(im, 30*disk.MiB, 8*disk.MiB), 7); err != nil {
			t.Fatal(err)
		}
		want := map[bool]Confidence{false: Likely, true: Doubtful}[within]
		at := slices.IndexFunc(searched(t, im, false), func(f Find) bool { return f.Kind == volume.Swap })
		if at < 0 {
			t.Fatalf("within a volume %v: it is not found", within)
		}
		if f := searched(t, im, false)[at]; f.Confidence != want {
			t.Errorf("within a volume %v: %s, not %s: %q", within, f.Confidence, want, f.Reasons)
		}
	}
}

// TestNested tells an image in a file for a ghost by what is left to tell: the file, a record of
// it alone, or where it lies; and leaves alone what says that it began where it lies.
func TestNested(t *testing.T) {
	const outer, length = 20 * disk.MiB, 90 * disk.MiB
	image := make([]byte, 24*disk.MiB)
	paper := disk.NewPaper(disk.Bytes(len(image)), 512)
	if err := ntfs.Make(disk.NewWindow(paper, disk.MiB, 22*disk.MiB), ntfs.Options{Label: "Machine", Serial: 0x77, Hidden: 2048}); err != nil {
		t.Fatal(err)
	}
	inner := table.NewEntry(table.Entry{Slot: 1, TypeID: table.TypeBasic, UniqueID: "5a1c77e0-1045-4d0b-9c3e-000000000077", Start: disk.MiB.At(512), End: (23 * disk.MiB).At(512) - 1})
	if err := table.New(paper, "5a1c77e0-1045-4d0b-9c3e-0000000000d7", inner).Apply(paper, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := paper.ReadAt(image, 0); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name     string
		living   bool // the volume around it is a partition's
		change   func(im *disk.Image, record, file disk.Bytes)
		reason   string // "" where it is none
		inferred bool
	}{
		{"the file's first sector is gone", false, func(im *disk.Image, _, file disk.Bytes) { im.Zero(file, 512) }, "the file machine.img of the find Data", false},
		{"the image's tables are gone", false, func(im *disk.Image, _, file disk.Bytes) {
			im.Zero(file, disk.MiB)
			im.Zero(file+23*disk.MiB, disk.MiB)
		}, "the file machine.img of the find Data", true},
		{"only a record is left", false, func(im *disk.Image, record, file disk.Bytes) {
			im.Zero(outer, record-outer)
			im.Zero(record+1024, file-record-1024)
			im.Zero(file+disk.Bytes(len(image)), outer+length-file-disk.Bytes(len(image)))
		}, "the file machine.img, whose record", true},
		{"a deleted file", true, func(im *disk.Image, record, _ disk.Bytes) { im.WriteAt([]byte{0}, int64(record)+22) }, "the file machine.img, whose record", false},
		{"no record is left", false, func(im *disk.Image, record, _ disk.Bytes) { im.Zero(record, 1024) }, "in what the find Data had in use", true},
		{"it says that it began there", false, func(im *disk.Image, record, file disk.Bytes) {
			im.Zero(record, 1024)
			for _, at := range []disk.Bytes{file + disk.MiB, file + 23*disk.MiB - 512} {
				im.WriteAt(binary.LittleEndian.AppendUint32(nil, uint32((file+disk.MiB)/512)), int64(at)+28)
			}
		}, "", false},
	} {
		im := drive(t, 200*disk.MiB)
		if err := ntfs.Make(disk.NewWindow(im, outer, length), ntfs.Options{Label: "Data", Serial: 0x76, Hidden: uint32(outer / 512), Files: []volume.Source{{Path: "a", Data: make([]byte, 9000)}, {Path: "machine.img", Data: image}}}); err != nil {
			t.Fatal(err)
		}
		v, err := ntfs.Open(disk.NewWindow(im, outer, length))
		if err != nil {
			t.Fatal(err)
		}
		h, file := &history{t: t, im: im}, disk.Bytes(0)
		list, _ := v.Files()
		for _, f := range list {
			if f.Path == "machine.img" {
				file = outer + f.Extents[0].Off
			}
		}
		record, _ := h.recordOf("machine.img", outer, length)
		var entries []table.Entry
		if c.living {
			entries = append(entries, table.NewEntry(table.Entry{Slot: 1, TypeID: table.TypeBasic, UniqueID: "5a1c77e0-1045-4d0b-9c3e-000000000001", Start: outer.At(512), End: (outer + length).At(512) - 1}))
		}
		if err := table.New(im, "5a1c77e0-1045-4d0b-9c3e-0000000000d0", entries...).Apply(im, nil); err != nil {
			t.Fatal(err)
		}
		c.change(im, record, file)
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		s := New(im, sv, nil)
		if _, err := s.Whole(context.Background(), 0); err != nil {
			t.Fatal(err)
		}
		finds := s.Finds()
		i := slices.IndexFunc(finds, func(f Find) bool { return f.Start == (file + disk.MiB).At(512) })
		if i < 0 {
			t.Fatalf("%s: not found: %+v", c.name, finds)
		}
		told := func(when string, f *Find) {
			t.Helper()
			if f == nil || f.Ghost != (c.reason != "") || f.Inferred != c.inferred || !strings.Contains(f.Reasons[0], c.reason) {
				t.Errorf("%s, %s: %+v", c.name, when, f)
			}
		}
		told("after a search", &finds[i])
		f, err := Again(im, sv, finds[i].Start, finds[i].At, nil, s.Told())
		if err != nil {
			t.Fatal(err)
		}
		told("later", f)
	}
}

// TestStands lays covers over what was in use: what lies there now counts first, then what is
// known to be as it was.
func TestStands(t *testing.T) {
	covers := []Cover{{10, 60, Unsure, "later", Had}, {15, 25, Taken, "a run", Wrote}, {20, 40, Untouched, "", Compared}, {30, 35, Taken, "now", Lies}, {55, 70, Taken, "now", Lies}}
	s := Stands([]disk.Range{{Start: 50, End: 100}, {Start: 0, End: 45}}, covers, Untouched)
	var got string
	for _, p := range s.Pieces {
		got += fmt.Sprintf("%d-%d %s %s; ", p.Off, p.Off+p.Len, p.State, p.By)
	}
	want := "0-10 untouched ; 10-15 unknown later; 15-20 taken a run; 20-30 untouched ; 30-35 taken now; 35-40 untouched ; 40-45 unknown later; 50-55 unknown later; 55-70 taken now; 70-100 untouched ; "
	if got != want || s.Used != 95 || s.Taken != 25 || s.Unknown != 15 || s.Untouched != 55 || len(s.By) != 2 {
		t.Errorf("%s\n%+v", got, s)
	}
	for _, c := range []struct {
		at, n disk.Bytes
		want  State
	}{{0, 10, Untouched}, {0, 11, Unsure}, {0, 31, Taken}, {45, 5, Untouched}} {
		if f := s.File(volume.File{Extents: []volume.Extent{{Off: c.at, Len: c.n}}}, 0); f.State != c.want {
			t.Errorf("a file of %d bytes at %d: %+v", c.n, c.at, f)
		}
	}
}

// TestStoppedSearch goes on from where it was stopped, and passes over what cannot be read.
func TestStoppedSearch(t *testing.T) {
	im := drive(t, 200*disk.MiB)
	small(t, im, 20*disk.MiB, 30*disk.MiB, 1)
	small(t, im, 120*disk.MiB+8192, 30*disk.MiB, 2)
	if err := table.New(im, "5a1c77e0-1045-4d0b-9c3e-0000000000d0").Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	im.WriteAt(bytes.Repeat([]byte{7}, int(40*disk.MiB)), int64(70*disk.MiB))
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	s := New(im, sv, nil)
	ctx, stop := context.WithCancel(context.Background())
	s.Report = func(p Progress) {
		if p.Done > 10*disk.MiB {
			stop()
		}
	}
	reached, err := s.Whole(ctx, 0)
	if err != nil || reached >= 120*disk.MiB || reached == 0 {
		t.Fatal(reached, err)
	}
	if reached, err = s.Whole(context.Background(), reached); err != nil || reached != 200*disk.MiB || len(s.Finds()) != 2 {
		t.Errorf("%d, %v: %+v", reached, err, s.Finds())
	}
}

// FuzzClaims reads what may lie at a place of a drive: nothing of it may make the search fail.
func FuzzClaims(f *testing.F) {
	im := drive(f, 24*disk.MiB)
	small(f, im, 0, 12*disk.MiB, 3)
	b, _ := disk.ReadFull(im, 0, 8192)
	f.Add(b, uint32(0))
	v, err := ntfs.Open(disk.NewWindow(im, 0, 12*disk.MiB))
	if err != nil {
		f.Fatal(err)
	}
	b, _ = disk.ReadFull(im, 0, v.TableAt()+128*disk.KiB)
	clear(b[:512])
	f.Add(b, uint32(v.TableAt()))
	table.New(im, "5a1c77e0-1045-4d0b-9c3e-0000000000d0").Apply(im, nil)
	b, _ = disk.ReadFull(im, 0, 20480)
	f.Add(b, uint32(512))
	f.Fuzz(func(t *testing.T, b []byte, at uint32) {
		if len(b) > 16<<20 {
			return
		}
		dev := disk.NewPaper((disk.Bytes(len(b)) + disk.MiB).Up(4096), 512)
		if _, err := dev.WriteAt(b, 0); err != nil {
			t.Fatal(err)
		}
		sv, err := survey.Read(dev, nil)
		if err != nil {
			t.Fatal(err)
		}
		s := New(dev, sv, nil)
		s.add((disk.Bytes(at) % dev.Size()).Down(512))
		if err := s.sectors(make([]byte, dev.Size()), 0); err != nil {
			t.Fatal(err)
		}
		if err := s.chase(); err != nil {
			t.Fatal(err)
		}
		for _, x := range s.Finds() {
			if x.Start < 0 || x.Bytes <= 0 || x.Start.Offset(512)+x.Bytes > dev.Size()+512 || len(x.Reasons) == 0 {
				t.Errorf("%+v", x)
			}
		}
	})
}

// BenchmarkWhole goes through a drive that is full of what is not looked for.
func BenchmarkWhole(b *testing.B) {
	im := drive(b, 512*disk.MiB)
	noise := make([]byte, disk.MiB)
	x := uint64(88172645463325252)
	for i := 0; i < len(noise); i += 8 {
		x ^= x << 13
		x ^= x >> 7
		x ^= x << 17
		binary.LittleEndian.PutUint64(noise[i:], x)
	}
	for at := int64(0); at < int64(512*disk.MiB); at += int64(disk.MiB) {
		im.WriteAt(noise, at)
	}
	sv, err := survey.Read(im, nil)
	if err != nil {
		b.Fatal(err)
	}
	b.SetBytes(int64(512 * disk.MiB))
	for b.Loop() {
		if _, err := New(im, sv, nil).Whole(context.Background(), 0); err != nil {
			b.Fatal(err)
		}
	}
}

// TestKeptInTables has a file whose contents a file system keeps in its own tables: it is called untouched only
// where all of these are.
func TestKeptInTables(t *testing.T) {
	small := volume.File{Path: "small", Kind: volume.Plain, Bytes: 100}
	large := volume.File{Path: "large", Kind: volume.Plain, Bytes: 50, Extents: []volume.Extent{{Off: 50, Len: 50}}}
	for name, c := range map[string]struct {
		covers []Cover
		want   State
	}{
		"nothing happened":          {nil, Untouched},
		"the large file is taken":   {[]Cover{{1050, 1100, Taken, "b", Wrote}}, Untouched},
		"the tables are not known":  {[]Cover{{0, 2000, Unsure, "b", Had}}, Unsure},
		"some of them are taken":    {[]Cover{{1000, 1010, Taken, "b", Wrote}}, Unsure},
		"written beside all in use": {[]Cover{{1200, 1300, Taken, "b", Wrote}}, Untouched},
	} {
		s := Stands([]disk.Range{{Start: 1000, End: 1100}}, c.covers, Untouched)
		s.Tables([]volume.File{small, large}, 1000)
		if got := s.File(small, 1000).State; got != c.want {
			t.Errorf("%s: it is %s", name, got)
		}
	}
}
