package trail

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

func TestRecords(t *testing.T) {
	dir := t.TempDir()
	im, err := disk.CreateImage(filepath.Join(dir, "d.img"), 16*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	span := layout.Span{Kind: layout.Partition, Number: 4, Start: 2048, End: 2048 + 8191, Bytes: 4 * disk.MiB}
	w := disk.NewWindow(im, disk.MiB, 4*disk.MiB)
	w.WriteAt([]byte("first"), 0)
	w.WriteAt([]byte("last"), int64(4*disk.MiB)-4)
	first, last, err := Edges(w)
	if err != nil || !bytes.HasPrefix(first, []byte("first")) || !bytes.HasSuffix(last, []byte("last")) {
		t.Fatal(err)
	}
	recs := Records{filepath.Join(dir, "records")}
	rec := &Record{ID: "d-1", Time: time.Now(), Span: span, Entry: make([]byte, 128)}
	files := []volume.File{{Path: "a", Kind: volume.Folder}, {Path: "a/b", Kind: volume.Plain, Bytes: 3, Extents: []volume.Extent{{Off: 4096, Len: 4096}}}}
	hash, err := recs.Save(rec, Contents{First: first, Last: last, Ranges: []disk.Range{{Start: 0, End: 4096}}, Files: files})
	if err != nil {
		t.Fatal(err)
	}
	back, again, err := recs.Load("d-1")
	if err != nil || again != hash || back.Span.Start != 2048 || back.Files != 1 {
		t.Fatalf("%+v, %v", back, err)
	}
	if list, err := recs.FileList(back); err != nil || len(list) != 2 || list[1].Extents[0].Off != 4096 {
		t.Errorf("%+v, %v", list, err)
	}
	kept := func(want bool, what string) {
		t.Helper()
		if got, err := recs.Kept(back, im); err != nil || got != want {
			t.Errorf("%s: kept %v, %v", what, got, err)
		}
	}
	kept(true, "untouched")
	w.WriteAt([]byte{1}, int64(2*disk.MiB))
	kept(true, "changed in its middle, of which nothing is known")
	w.WriteAt([]byte("later"), int64(4*disk.MiB)-5)
	kept(false, "written over at its end")
	for _, id := range []string{"", "..", "../records/d-1", "d-2", "D-1", "d-1/record.json"} {
		if _, _, err := recs.Load(id); !errors.Is(err, ErrNoRecord) {
			t.Errorf("%q: %v", id, err)
		}
		if _, err := recs.Save(&Record{ID: id + "/"}, Contents{}); !errors.Is(err, ErrNoRecord) {
			t.Errorf("save %q: %v", id, err)
		}
	}
	p := filepath.Join(recs.Dir, "d-1", "record.json")
	b, _ := os.ReadFile(p)
	os.WriteFile(p, bytes.Replace(b, []byte(`"number":4`), []byte(`"number":5`), 1), 0o644)
	if _, other, err := recs.Load("d-1"); err != nil || other == hash {
		t.Error("an altered record has the same hash")
	}
	if _, err := recs.Blob(back, "../record.json"); !errors.Is(err, ErrNoRecord) {
		t.Errorf("a file that is none of its own: %v", err)
	}
}
