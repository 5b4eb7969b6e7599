package ntfs

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/volume"
)

var day = time.Date(2026, 3, 1, 9, 30, 0, 0, time.UTC)

func image(t testing.TB, size, sector disk.Bytes) *disk.Image {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "v.img"), size, sector)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return im
}

// contents is a file's text, from a few bytes to several clusters.
func contents(i int) []byte {
	return bytes.Repeat(fmt.Appendf(nil, "card %d of the box. ", i), 1+i*i%400)
}

func sources(n int) []volume.Source {
	var out []volume.Source
	for i := range n {
		out = append(out, volume.Source{Path: fmt.Sprintf("Patients/Box %d/card-%04d é.txt", i%7, i), Data: contents(i), Modified: day.Add(time.Duration(i) * time.Hour)})
	}
	return append(out, volume.Source{Path: "Empty", Folder: true}, volume.Source{Path: "cache.bin", Data: []byte("short"), Reserve: 3 * disk.MiB})
}

// verify opens the volume and compares it with what was put into it.
func verify(t *testing.T, dev disk.Device, n int) *Volume {
	t.Helper()
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range v.Check() {
		t.Errorf("check: %s: %s", f.Code, f.Text)
	}
	files, err := v.Files()
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]volume.File{}
	for _, f := range files {
		got[f.Path] = f
	}
	for i, s := range sources(n) {
		f, ok := got[s.Path]
		if !ok {
			t.Fatalf("%s is missing", s.Path)
		}
		if s.Folder {
			if f.Kind != volume.Folder {
				t.Errorf("%s is a %s", s.Path, f.Kind)
			}
			continue
		}
		r, err := v.Open(f)
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(io.NewSectionReader(r, 0, int64(f.Bytes)))
		if err != nil || !bytes.Equal(b, s.Data) {
			t.Fatalf("%s: %d bytes instead of %d, %v", s.Path, len(b), len(s.Data), err)
		}
		if i < n && !f.Modified.Equal(s.Modified) {
			t.Errorf("%s: modified %v, want %v", s.Path, f.Modified, s.Modified)
		}
	}
	return v
}

func TestLeast(t *testing.T) {
	for _, sector := range []disk.Bytes{512, 4096} {
		for _, cluster := range []disk.Bytes{0, 4096, 65536} {
			for size, fits := range map[disk.Bytes]bool{Least: true, 8 * disk.MiB: false} {
				im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d.img"), size, sector)
				if err != nil {
					t.Fatal(err)
				}
				if err := Make(im, Options{Cluster: cluster, Time: day}); (err == nil) != fits {
					t.Errorf("%s in sectors of %s, clusters of %s: %v", size, sector, cluster, err)
				}
				im.Close()
			}
		}
	}
}

func TestMakeAndGrow(t *testing.T) {
	for _, c := range []struct {
		sector, cluster, from, to disk.Bytes
		files                     int
		fresh                     bool // the bitmap must find a new place
	}{
		{512, 4096, 64 * disk.MiB, 90 * disk.MiB, 900, false},
		{512, 512, 16 * disk.MiB, 200 * disk.MiB, 60, true},
		{512, 64 << 10, 300 * disk.MiB, 400 * disk.MiB, 300, false},
		{4096, 4096, 64 * disk.MiB, 65 * disk.MiB, 500, false},
		{4096, 2 << 20, 2 * disk.GiB, 3 * disk.GiB, 20, false},
		{512, 4096, 138 * disk.GiB, 218 * disk.GiB, 100, true},
		{512, 4096, 138*disk.GiB + 12345*512, 138*disk.GiB + 8*disk.MiB, 5, false},
	} {
		t.Run(fmt.Sprintf("%d-%s-%s", c.sector, c.cluster, c.to), func(t *testing.T) {
			dev := image(t, c.to, c.sector)
			err := Make(disk.NewWindow(dev, 0, c.from), Options{Label: "X-rays", Cluster: c.cluster, Serial: 42, Time: day, Files: sources(c.files)})
			if err != nil {
				t.Fatal(err)
			}
			v := verify(t, disk.NewWindow(dev, 0, c.from), c.files)
			before, err := v.Info()
			if err != nil {
				t.Fatal(err)
			}
			if !before.Clean || before.Label != "X-rays" || before.TotalBytes > c.from || before.TotalBytes < c.from-c.cluster-c.sector {
				t.Errorf("measured %+v", before)
			}
			s, err := v.Grow(c.to)
			if err != nil {
				t.Fatal(err)
			}
			if err := s.Apply(dev, nil); err != nil {
				t.Fatal(err)
			}
			after, err := verify(t, dev, c.files).Info()
			if err != nil {
				t.Fatal(err)
			}
			if after.TotalBytes != (c.to - c.sector).Down(c.cluster) {
				t.Errorf("grown to %d, want %d", after.TotalBytes, (c.to - c.sector).Down(c.cluster))
			}
			if d := after.UsedBytes - before.UsedBytes; c.fresh != (d > 0) {
				t.Errorf("the bitmap took %d bytes", d)
			}
		})
	}
}

func TestGrowRefusesWhatIsNotClean(t *testing.T) {
	small := disk.Bytes(64 * disk.MiB)
	for name, spoil := range map[string]func(dev disk.Device, v *Volume){
		"dirty bit": func(dev disk.Device, v *Volume) {
			r, _ := v.record(recVolume)
			r.find(atVolumeInfo, "").value[10] |= 1
			fix(r.raw)
			dev.WriteAt(r.raw, int64(v.mft.runs[0].lcn)*int64(v.boot.cluster)+recVolume*int64(v.boot.record))
		},
		"open log": func(dev disk.Device, v *Volume) {
			log, _ := v.system(recLogFile, atData, "")
			dev.WriteAt(restartPage(1, 0), log.runs[0].lcn*int64(v.boot.cluster))
		},
		"log 2.0": func(dev disk.Device, v *Volume) {
			log, _ := v.system(recLogFile, atData, "")
			dev.WriteAt(restartPage(2, 2), log.runs[0].lcn*int64(v.boot.cluster))
		},
		"half a log": func(dev disk.Device, v *Volume) {
			log, _ := v.system(recLogFile, atData, "")
			dev.WriteAt([]byte{0}, log.runs[0].lcn*int64(v.boot.cluster)+5000)
		},
	} {
		t.Run(name, func(t *testing.T) {
			dev := image(t, small+8*disk.MiB, 512)
			if err := Make(disk.NewWindow(dev, 0, small), Options{Time: day}); err != nil {
				t.Fatal(err)
			}
			v, err := Open(disk.NewWindow(dev, 0, small))
			if err != nil {
				t.Fatal(err)
			}
			spoil(dev, v)
			if v, err = Open(disk.NewWindow(dev, 0, small)); err != nil {
				t.Fatal(err)
			}
			if _, err := v.Grow(small + 8*disk.MiB); !errors.Is(err, volume.ErrNotClean) {
				t.Errorf("got %v", err)
			}
		})
	}
	t.Run("closed log", func(t *testing.T) {
		dev := image(t, small, 512)
		if err := Make(dev, Options{Time: day}); err != nil {
			t.Fatal(err)
		}
		v, _ := Open(dev)
		log, _ := v.system(recLogFile, atData, "")
		dev.WriteAt(restartPage(1, 2), log.runs[0].lcn*int64(v.boot.cluster))
		if err := v.Clean(); err != nil {
			t.Error(err)
		}
	})
}

// restartPage is the first page of a log.
func restartPage(major int16, flags uint16) []byte {
	b := make([]byte, 4096)
	copy(b, "RSTR")
	le.PutUint16(b[4:], 0x1e)
	le.PutUint16(b[6:], 9)
	le.PutUint32(b[16:], 4096)
	le.PutUint32(b[20:], 4096)
	le.PutUint16(b[24:], 0x30)
	le.PutUint16(b[28:], uint16(major))
	le.PutUint16(b[0x30+12:], 0xffff)
	le.PutUint16(b[0x30+14:], flags)
	fix(b)
	return b
}

// TestDamageIsToldTheSame checks a volume with many damaged folders several times: what is found first is the same.
func TestDamageIsToldTheSame(t *testing.T) {
	var files []volume.Source
	for i := range 600 {
		files = append(files, volume.Source{Path: fmt.Sprintf("folder %d/a file with a long name %d", i%12, i), Data: []byte("x")})
	}
	dev, _ := madeOf(t, 32*disk.MiB, 4096, files)
	b := make([]byte, dev.Size())
	if _, err := dev.ReadAt(b, 0); err != nil {
		t.Fatal(err)
	}
	for at := 0; at < len(b); at += 4096 {
		if bytes.HasPrefix(b[at:], []byte("INDX")) {
			dev.WriteAt(make([]byte, 4), int64(at))
		}
	}
	var first finding.List
	for i := range 8 {
		v, err := Open(dev)
		if err != nil {
			t.Fatal(err)
		}
		if l := v.Check(); i == 0 {
			first = l
		} else if !reflect.DeepEqual(l, first) {
			t.Fatalf("found at first %v, and then %v", first, l)
		}
	}
	if len(first) < 10 {
		t.Errorf("found %v", first)
	}
}

func TestCheckFindsDamage(t *testing.T) {
	dev := image(t, 64*disk.MiB, 512)
	if err := Make(dev, Options{Time: day, Files: sources(50)}); err != nil {
		t.Fatal(err)
	}
	v, _ := Open(dev)
	bm, _ := v.system(recBitmap, atData, "")
	at := bm.runs[0].lcn * int64(v.boot.cluster)
	b := make([]byte, 8)
	dev.ReadAt(b, at)
	b[0] &^= 1
	b[7] ^= 0x80
	dev.WriteAt(b, at)
	dev.WriteAt([]byte{1}, int64(dev.Size())-512)
	v, _ = Open(dev)
	codes := map[string]bool{}
	for _, f := range v.Check() {
		codes[f.Code] = f.Severity == finding.Error
	}
	if !codes["bitmap-disagrees"] || !codes["boot-copy-differs"] {
		t.Errorf("found %v", codes)
	}
	if _, err := v.Grow(66 * disk.MiB); !errors.Is(err, volume.ErrDamaged) {
		t.Errorf("grow: %v", err)
	}
}

func TestAbsurdBootSector(t *testing.T) {
	dev := image(t, 16*disk.MiB, 512)
	if err := Make(dev, Options{Time: day}); err != nil {
		t.Fatal(err)
	}
	good, _ := disk.ReadFull(dev, 0, 512)
	for off, val := range map[int]byte{11: 7, 13: 0, 12: 0x40, 45: 1, 44: 0xff, 50: 0xff, 64: 0x80, 68: 0x81} {
		b := bytes.Clone(good)
		b[off] = val
		dev.WriteAt(b, 0)
		if _, err := Open(dev); !errors.Is(err, volume.ErrDamaged) {
			t.Errorf("byte %d = %#x: %v", off, val, err)
		}
	}
}

// FuzzTell reads records of which nothing else is known: what they tell must be so.
func FuzzTell(f *testing.F) {
	dev := image(f, 9*disk.MiB, 512)
	if err := Make(dev, Options{Time: day, Label: "seed", Files: append(sources(40), volume.Source{Path: "large", Data: make([]byte, 50000)})}); err != nil {
		f.Fatal(err)
	}
	v, _ := Open(dev)
	told := 0
	for rec := disk.Bytes(0); rec < 160; rec++ {
		b, err := disk.ReadFull(dev, v.TableAt()+rec*1024, 1024)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
		if t, ok := Tell(b); ok && t.Name == "large" {
			told++
			if t.Bytes != 50000 || t.Cluster != v.boot.cluster || len(t.Extents) != 1 || t.Extents[0].Len != disk.Bytes(50000).Up(v.boot.cluster) {
				f.Errorf("%+v", t)
			}
		}
	}
	if told != 1 {
		f.Errorf("%d records tell of the file", told)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		x, ok := Tell(b)
		if !ok {
			return
		}
		n := disk.Bytes(0)
		for _, e := range x.Extents {
			if n += e.Len; e.Off < 0 || e.Len <= 0 || e.Off > 1<<60 {
				t.Errorf("%+v", x)
			}
		}
		if x.Bytes < 0 || x.Bytes > n {
			t.Errorf("%+v", x)
		}
	})
}

// FuzzVolume changes bytes of a real volume and reads everything in it: it must
// never panic, loop or allocate by an unchecked number.
func FuzzVolume(f *testing.F) {
	dev := image(f, 9*disk.MiB, 512)
	if err := Make(dev, Options{Time: day, Label: "seed", Files: sources(40)}); err != nil {
		f.Fatal(err)
	}
	v, _ := Open(dev)
	mft := v.boot.mft * int64(v.boot.cluster)
	for _, rec := range []int64{0, 2, 3, 5, 6, 8, 9, 11, 64, 70} {
		for off := int64(0); off < 600; off += 24 {
			f.Add(uint32(mft+rec*1024+off), []byte{0xff, 0x7f, 1})
		}
	}
	for _, off := range []uint32{11, 13, 40, 48, 64, 68} {
		f.Add(off, []byte{0xf6})
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
		files, _ := v.Files()
		for _, x := range files {
			if r, err := v.Open(x); err == nil {
				io.Copy(io.Discard, io.NewSectionReader(r, 0, int64(min(x.Bytes, disk.MiB))))
			}
		}
		v.Grow(10 * disk.MiB)
	})
}

// TestFirstRecords reads a volume by the copy of the first records of its table of files, and
// writes them again from it. Before that it is not taken for one that is in order.
func TestFirstRecords(t *testing.T) {
	dev := image(t, 32*disk.MiB, 512)
	if err := Make(dev, Options{Time: day, Files: sources(30)}); err != nil {
		t.Fatal(err)
	}
	whole, _ := disk.ReadFull(dev, 0, dev.Size())
	v := verify(t, dev, 30)
	if s, err := v.Rebuild(); err != nil || len(s) != 0 {
		t.Errorf("%d operations, %v", len(s), err)
	}
	dev.WriteAt(bytes.Repeat([]byte{0xee}, mirrorRecords*v.boot.record), int64(v.TableAt()))
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	files, err := v.Files()
	if err != nil || len(files) < 30 || v.Agrees() || v.Check().FirstError() == nil {
		t.Errorf("%d files, %v; agrees %v", len(files), err, v.Agrees())
	}
	s, err := v.Rebuild()
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Apply(dev, nil); err != nil {
		t.Fatal(err)
	}
	if now, _ := disk.ReadFull(dev, 0, dev.Size()); !bytes.Equal(now, whole) {
		t.Error("the bytes are not what they were")
	}
	// Without the copy there is nothing to go by.
	for _, lcn := range []int64{v.boot.mft, v.boot.mirror} {
		dev.WriteAt(make([]byte, 4096), lcn*int64(v.boot.cluster))
	}
	if _, err := Open(dev); !errors.Is(err, volume.ErrDamaged) {
		t.Error(err)
	}
}
