package compare

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

func side(t *testing.T, asFAT bool, files ...volume.Source) Side {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "v"), 80*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	now := time.Date(2026, 11, 20, 10, 0, 0, 0, time.UTC)
	if asFAT {
		if err := fat.Make(im, fat.Options{Label: "COPY", Time: now, Files: files}); err != nil {
			t.Fatal(err)
		}
		v, err := fat.Open(im)
		if err != nil {
			t.Fatal(err)
		}
		return Side{Volume: v}
	}
	if err := ntfs.Make(im, ntfs.Options{Label: "First", Time: now, Files: files}); err != nil {
		t.Fatal(err)
	}
	v, err := ntfs.Open(im)
	if err != nil {
		t.Fatal(err)
	}
	return Side{Volume: v}
}

func src(path, data string) volume.Source { return volume.Source{Path: path, Data: []byte(data)} }

func TestRun(t *testing.T) {
	long := string(make([]byte, 3<<20))
	here := side(t, false, src("glazes/ash.txt", "one"), src("glazes/celadon.txt", "two"), src("kiln.txt", "same"), src("long.bin", long+"x"), src("gone.txt", "g"), src("case.TXT", "c"), src("System Volume Information/log", "1"))
	there := side(t, true, src("glazes/ash.txt", "one"), src("glazes/celadon.txt", "2wo"), src("kiln.txt", "longer"), src("long.bin", long+"x"), src("new.txt", "n"), src("Case.txt", "c"))
	last := Progress{}
	r, err := Run(context.Background(), here, there, func(p Progress) { last = p })
	if err != nil {
		t.Fatal(err)
	}
	want := map[Verdict]int{Same: 3, Different: 2, OnlyHere: 1, OnlyThere: 1}
	for v, n := range want {
		if r.Counts[v].Files != n {
			t.Errorf("%s: %d, want %d (%v)", v, r.Counts[v].Files, n, r.Lines)
		}
	}
	if i := slices.IndexFunc(r.Lines, func(l Line) bool { return l.Path == "glazes/celadon.txt" }); i < 0 || r.Lines[i].Why != "other contents from byte 0 on" {
		t.Errorf("%v", r.Lines)
	}
	if r.Covered || len(r.Lines) != 4 || last.Done != last.Total {
		t.Errorf("%+v, %+v", r, last)
	}
	// Of its folder everything is there but one file; of the whole other side all.
	here.Dir = "glazes"
	there.Dir = "glazes"
	if r, err = Run(context.Background(), here, there, nil); err != nil || r.Counts[Same].Files != 1 || r.Counts[Different].Files != 1 {
		t.Errorf("folders: %+v, %v", r, err)
	}
	here.Dir = "nowhere"
	if _, err := Run(context.Background(), here, there, nil); !errors.Is(err, volume.ErrNotFound) {
		t.Errorf("no such folder: %v", err)
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	here.Dir, there.Dir = "", ""
	if _, err := Run(ctx, here, there, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
}

func TestCoverage(t *testing.T) {
	files := []volume.Source{src("a/b.txt", "one"), src("c.txt", "two")}
	here, there := side(t, false, files...), side(t, true, append(files, src("more.txt", "3"))...)
	here.Place = Place{DiskID: "d1", Span: layout.Span{UniqueID: "u1"}, Fingerprint: "f"}
	there.Place = Place{DiskID: "d2", Span: layout.Span{UniqueID: "u2"}}
	r, err := Run(context.Background(), here, there, nil)
	if err != nil || !r.Covered {
		t.Fatalf("%+v, %v", r, err)
	}
	r.ID = "c-1042"
	s := Store{Dir: t.TempDir()}
	if err := s.Save(r); err != nil {
		t.Fatal(err)
	}
	list, err := s.List()
	if err != nil || len(list) != 1 || !list[0].Covered {
		t.Errorf("%v, %v", list, err)
	}
	p := layout.Span{UniqueID: "u1"}
	for name, c := range map[string]struct {
		ok    bool
		disk  string
		print string
		going []string
	}{
		"as it is": {true, "d1", "f", nil}, "another drive": {false, "d3", "f", nil}, "changed since": {false, "d1", "g", nil}, "the copy goes too": {false, "d1", "f", []string{"u2"}},
	} {
		if got := list[0].Stands(layout.Drive{DiskID: c.disk}, p, c.print, c.going); got != c.ok {
			t.Errorf("%s: %v", name, got)
		}
	}
	clone := *list[0]
	clone.There.Place = Place{DiskID: "d1", Serial: "another", Span: layout.Span{UniqueID: "u1"}}
	if !clone.Stands(layout.Drive{DiskID: "d1"}, p, "f", []string{"u1"}) {
		t.Error("a copy of the whole drive, with the same ids, does not count")
	}
	if clone.There.Place.Serial = ""; clone.Stands(layout.Drive{DiskID: "d1"}, p, "f", nil) {
		t.Error("a volume covers itself")
	}
	for _, id := range []string{"../x", "c-none"} {
		if _, err := s.Load(id); !errors.Is(err, ErrNone) {
			t.Errorf("%s: %v", id, err)
		}
	}
	if err := s.Save(&Result{ID: "../x"}); !errors.Is(err, ErrNone) {
		t.Errorf("a name that is a path: %v", err)
	}
}
