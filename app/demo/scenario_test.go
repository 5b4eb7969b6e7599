package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/seek"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// stored is how much room a sparse file takes.
func stored(t *testing.T, path string) disk.Bytes {
	t.Helper()
	st, err := os.Stat(path)
	if err != nil {
		t.Fatal(err)
	}
	return disk.Bytes(st.Sys().(*syscall.Stat_t).Blocks) * 512
}

func TestDemoDrives(t *testing.T) {
	dir := t.TempDir()
	if n, err := Make(dir); err != nil || n != 7 {
		t.Fatalf("%d drives made, %v", n, err)
	}
	if n, err := Make(dir); err != nil || n != 0 {
		t.Errorf("a second time %d drives were made, %v", n, err)
	}
	path := filepath.Join(dir, "tidewater-reception.img")
	b, err := os.ReadFile(path + ".pc.json")
	if err != nil {
		t.Fatal(err)
	}
	facts, err := pc.Parse(b)
	if err != nil {
		t.Fatal(err)
	}
	im, err := disk.OpenImage(path, 0, false)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	sv, err := survey.Read(im, facts)
	if err != nil {
		t.Fatal(err)
	}
	if l := sv.Check(); len(l) > 0 {
		t.Errorf("check: %+v", l)
	}
	var roles []layout.Role
	files := 0
	for _, p := range sv.Layout.Partitions() {
		roles = append(roles, p.Role)
		if v := sv.Volume(p.Number); v != nil {
			list, err := v.Files()
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range list {
				if f.Kind == volume.Plain {
					files++
				}
			}
		}
	}
	want, _ := json.Marshal([]layout.Role{layout.EFI, layout.Reserved, layout.StartSystem, layout.Recovery, layout.Data, layout.OEM})
	if got, _ := json.Marshal(roles); string(got) != string(want) {
		t.Errorf("roles: %s", got)
	}
	c, _ := sv.Layout.Find(3)
	if full := c.Volume.UsedBytes * 100 / c.Volume.TotalBytes; full < 95 || c.Bytes < 100*disk.GiB {
		t.Errorf("C: has %s and is %d %% full", c.Bytes, full)
	}
	if files < 3000 {
		t.Errorf("only %d files", files)
	}
	for _, image := range []string{path, filepath.Join(dir, "shelf.img")} {
		if s := stored(t, image); s > 300*disk.MiB {
			t.Errorf("%s takes %s", filepath.Base(image), s)
		}
	}
}

// TestSameEveryTime makes the drives twice: a test or a picture made from them is
// the same on every machine.
func TestSameEveryTime(t *testing.T) {
	prints := func() map[int]string {
		dir := t.TempDir()
		if _, err := Make(dir); err != nil {
			t.Fatal(err)
		}
		im, err := disk.OpenImage(filepath.Join(dir, "tidewater-reception.img"), 0, false)
		if err != nil {
			t.Fatal(err)
		}
		defer im.Close()
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		out := map[int]string{}
		for n, v := range sv.Volumes() {
			if out[n], err = v.Fingerprint(); err != nil {
				t.Fatal(err)
			}
		}
		return out
	}
	a, b := prints(), prints()
	for n := range a {
		if a[n] != b[n] {
			t.Errorf("volume %d differs from one time to the next", n)
		}
	}
	if len(a) != 5 {
		t.Errorf("%d volumes", len(a))
	}
}

func TestDrivesThatWereCutShortAreMadeAnew(t *testing.T) {
	dir := t.TempDir()
	half := filepath.Join(dir, "shelf.img.part")
	if err := os.WriteFile(half, []byte("half a drive"), 0o644); err != nil {
		t.Fatal(err)
	}
	if n, err := Make(dir); err != nil || n != 7 {
		t.Fatalf("%d, %v", n, err)
	}
	if _, err := os.Stat(half); err == nil {
		t.Error("half a drive is still there")
	}
}

// TestLostPlots finds the partition that is gone from the notebook's drive, and compares every
// file of it with what it held: those are wrong that are told to have something else in their
// place, and no others.
func TestLostPlots(t *testing.T) {
	path := filepath.Join(t.TempDir(), "notebook.img")
	if err := notebook(path); err != nil {
		t.Fatal(err)
	}
	im, err := disk.OpenImage(path, 0, false)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	s := seek.New(im, sv, nil)
	if err := s.Likely(context.Background()); err != nil {
		t.Fatal(err)
	}
	finds := s.Finds()
	if len(finds) != 1 || finds[0].Label != "Plots" || finds[0].Confidence != seek.Likely || finds[0].Bytes != plotsSize {
		t.Fatalf("%+v", finds)
	}
	f := &finds[0]
	stand := f.Stand(im, sv)
	if stand.Whole {
		t.Error("its own map is not believed")
	}
	list, err := f.Volume().Files()
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]volume.File{}
	for _, x := range list {
		there[x.Path] = x
	}
	wrong := map[bool]int{}
	for _, x := range plotsOf(newGenerator(plotsSeed)) {
		file := there[x.Path]
		r, err := f.Volume().Open(file)
		if err != nil {
			t.Fatal(err)
		}
		b := make([]byte, len(x.Data))
		if _, err := r.ReadAt(b, 0); err != nil && len(b) > 0 && int64(file.Bytes) != int64(len(b)) {
			t.Fatal(x.Path, err)
		}
		same, told := bytes.Equal(b, x.Data), stand.File(file, plotsAt).State == seek.Taken
		if same == told && len(x.Data) > 4096 {
			t.Errorf("%s: its contents are there: %v, something is in its place: %v", x.Path, same, told)
		}
		wrong[told]++
	}
	if wrong[true] < 3 || wrong[false] < 700 {
		t.Errorf("%v", wrong)
	}
}
