package fat

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

var day = time.Date(2026, 3, 1, 9, 30, 2, 0, time.UTC)

func image(t testing.TB, size, sector disk.Bytes) *disk.Image {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "v.img"), size, sector)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return im
}

func sources() []volume.Source {
	var out []volume.Source
	for i := range 120 {
		out = append(out, volume.Source{Path: fmt.Sprintf("EFI/Loader %d/a rather long name %03d.efi", i%5, i), Data: bytes.Repeat([]byte{byte(i), 7}, i*i), Modified: day})
	}
	// Thirteen letters fill a long entry exactly.
	return append(out, volume.Source{Path: "thirteen.text", Data: []byte("x")}, volume.Source{Path: "EMPTY.TXT"})
}

func TestMakeAndRead(t *testing.T) {
	for _, sector := range []disk.Bytes{512, 4096} {
		dev := image(t, 300*disk.MiB, sector)
		if err := Make(dev, Options{Label: "SYSTEM", Serial: 0x1042abcd, Time: day, Files: sources()}); err != nil {
			t.Fatal(err)
		}
		v, err := Open(dev)
		if err != nil {
			t.Fatal(err)
		}
		if l := v.Check(); len(l) > 0 {
			t.Errorf("check: %+v", l)
		}
		i, err := v.Info()
		if err != nil || i.Kind != volume.FAT32 || i.Label != "SYSTEM" || i.Serial != "1042abcd" || !i.Clean || i.UsedBytes == 0 {
			t.Errorf("measured %+v, %v", i, err)
		}
		files, err := v.Files()
		if err != nil {
			t.Fatal(err)
		}
		byPath := map[string]volume.File{}
		for _, f := range files {
			byPath[f.Path] = f
		}
		for _, s := range sources() {
			f, ok := byPath[s.Path]
			if !ok {
				t.Fatalf("%s is missing", s.Path)
			}
			r, _ := v.Open(f)
			b, err := io.ReadAll(io.NewSectionReader(r, 0, int64(f.Bytes)))
			if err != nil || !bytes.Equal(b, s.Data) {
				t.Errorf("%s: %d bytes instead of %d, %v", s.Path, len(b), len(s.Data), err)
			}
		}
		var total, last disk.Bytes
		if err := v.Allocated(func(a, b disk.Bytes) error {
			if a < last || b <= a {
				t.Errorf("range %d to %d after %d", a, b, last)
			}
			total, last = total+b-a, b
			return nil
		}); err != nil || total < i.UsedBytes+v.dataStart {
			t.Errorf("allocated %d, %v", total, err)
		}
		before, _ := v.Fingerprint()
		dev.WriteAt([]byte{1}, int64(v.fatStart+v.fatSize-1))
		if after, _ := v.Fingerprint(); after == before {
			t.Error("a changed table has the same fingerprint")
		}
		if l := v.Check(); l.FirstError() == nil {
			t.Error("copies of the table differ and nobody says so")
		}
	}
}

func TestRefusesAbsurdSizes(t *testing.T) {
	dev := image(t, 300*disk.MiB, 512)
	if err := Make(dev, Options{Time: day}); err != nil {
		t.Fatal(err)
	}
	good, _ := disk.ReadFull(dev, 0, 512)
	for off, val := range map[int]byte{11: 3, 13: 3, 16: 0, 35: 0x7f, 39: 0x7f} {
		b := bytes.Clone(good)
		b[off] = val
		dev.WriteAt(b, 0)
		if _, err := Open(dev); !errors.Is(err, volume.ErrDamaged) {
			t.Errorf("byte %d = %#x: %v", off, val, err)
		}
	}
	if err := Make(image(t, 20*disk.MiB, 512), Options{}); !errors.Is(err, ErrFull) {
		t.Errorf("too small a volume: %v", err)
	}
}

// FuzzVolume changes bytes of a real volume and reads everything in it.
func FuzzVolume(f *testing.F) {
	dev := image(f, 80*disk.MiB, 512)
	if err := Make(dev, Options{Time: day, Label: "SEED", Files: sources()}); err != nil {
		f.Fatal(err)
	}
	v, _ := Open(dev)
	for i := range uint32(40) {
		f.Add(i*13, []byte{0xff})
		f.Add(uint32(v.fatStart)+i*8, []byte{3, 0, 0, 0})
		f.Add(uint32(v.dataStart)+i*32+26, []byte{2, 0})
	}
	f.Fuzz(func(t *testing.T, off uint32, data []byte) {
		o, err := disk.NewOverlay(dev, "")
		if err != nil {
			t.Fatal(err)
		}
		defer o.Close()
		at := int64(off) % int64(dev.Size())
		o.WriteAt(data[:min(int64(len(data)), int64(dev.Size())-at)], at)
		v, err := Open(o)
		if err != nil {
			return
		}
		v.Info()
		v.Check()
		v.Fingerprint()
		v.Allocated(func(a, b disk.Bytes) error { return nil })
		files, _ := v.Files()
		for _, x := range files {
			if r, err := v.Open(x); err == nil {
				io.Copy(io.Discard, io.NewSectionReader(r, 0, int64(min(x.Bytes, disk.MiB))))
			}
		}
	})
}
