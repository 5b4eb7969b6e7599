package bench

import (
	"encoding/json"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
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
		if v := sv.Volumes[p.Number]; v != nil {
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
		for n, v := range sv.Volumes {
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
