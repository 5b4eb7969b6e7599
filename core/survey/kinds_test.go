package survey

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// kinds is a drive with a volume of each kind that can be looked into; a Linux kernel
// has made, deleted, fragmented and linked files in each.
func kinds(t testing.TB) *disk.Image { return unpacked(t, "kinds") }

func unpacked(t testing.TB, name string) *disk.Image {
	t.Helper()
	z, err := os.Open("testdata/" + name + ".img.zst")
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	d, err := zstd.NewReader(z)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	path := filepath.Join(t.TempDir(), name+".img")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(f, d); err != nil {
		t.Fatal(err)
	}
	f.Close()
	im, err := disk.OpenImage(path, 0, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return im
}

// TestKindsAgreeWithAKernel compares every file of every volume, and how large and how
// full the volumes are, with what the kernel's own drivers said of the same bytes.
func TestKindsAgreeWithAKernel(t *testing.T) {
	im := kinds(t)
	sv, err := Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	f, err := os.Open("testdata/kinds.sums")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	want := map[string]string{} // number and path to hash
	free := map[int]int64{}     // KiB
	for in := bufio.NewScanner(f); in.Scan(); {
		x := strings.Split(in.Text(), "\t")
		if x[0] == "file" {
			want[x[1]+":"+x[4]] = x[2]
			continue
		}
		n, _ := strconv.Atoi(x[1])
		total, _ := strconv.ParseInt(x[3], 10, 64)
		used, _ := strconv.ParseInt(x[4], 10, 64)
		free[n] = total - used
	}
	for n, kind := range []volume.Kind{1: volume.NTFS, volume.FAT32, volume.ExFAT, volume.Ext4, volume.Ext2, volume.FAT16, volume.FAT12} {
		if n == 0 {
			continue
		}
		p, _ := sv.Layout.Find(n)
		if p.Volume == nil || p.Volume.Kind != kind || int64(p.Volume.Free()/disk.KiB)-free[n] > 1 || free[n]-int64(p.Volume.Free()/disk.KiB) > 1 || !p.Volume.Clean {
			t.Errorf("partition %d: %+v, the kernel has %d KiB free", n, p.Volume, free[n])
			continue
		}
		v := sv.Volume(n)
		files, err := v.Files()
		if err != nil {
			t.Fatal(n, err)
		}
		var walked, listed []string
		for _, f := range files {
			if f.Kind == volume.Folder {
				listed = append(listed, pages(t, v, f.Path)...)
			}
			if !f.IsFile() {
				continue
			}
			key := strconv.Itoa(n) + ":" + f.Path
			r, err := v.Open(f)
			if err != nil {
				t.Error(key, err)
				continue
			}
			h := sha256.New()
			io.Copy(h, io.NewSectionReader(r, 0, int64(f.Bytes)))
			if got := hex.EncodeToString(h.Sum(nil)); got != want[key] {
				t.Errorf("%s has %s, the kernel read %s", key, got, want[key])
			}
			delete(want, key)
		}
		if err := v.Walk(func(f volume.File) error { walked = append(walked, f.Path); return nil }); err != nil {
			t.Error(n, err)
		}
		listed = append(listed, pages(t, v, "")...)
		slices.Sort(walked)
		slices.Sort(listed)
		if !slices.Equal(walked, listed) {
			t.Errorf("partition %d: walking finds %d, listing page by page %d", n, len(walked), len(listed))
		}
		if found := v.Check(); found.FirstError() != nil {
			t.Errorf("partition %d: %v", n, found)
		}
		if !v.Agrees() {
			t.Errorf("partition %d: its map of clusters does not agree", n)
		}
		a, err1 := v.Fingerprint()
		b, err2 := v.Fingerprint()
		if a != b || a == "" || err1 != nil || err2 != nil {
			t.Errorf("partition %d: fingerprints %s and %s, %v %v", n, a, b, err1, err2)
		}
		covered(t, n, v, files)
		s, err := volume.Summarise(v)
		if err != nil || s.Files < 50 || s.Personal.Files < 40 || s.Inside["large folder"].Files != 40 || s.Inside[""].Files != s.Files || s.Words(day) == "" {
			t.Errorf("partition %d: %+v, %v", n, s, err)
		}
		if name, fixed, err := volume.LastFile(v); err != nil || name == "" || fixed {
			t.Errorf("partition %d: its last cluster is held by %q, %v, %v", n, name, fixed, err)
		}
		if found, err := volume.Find(v, "NUMBER 7 WITH", 10); err != nil || len(found) != 1 {
			t.Errorf("partition %d: found by name: %v, %v", n, found, err)
		}
	}
	for key := range want {
		t.Errorf("%s is not found", key)
	}
}

// pages lists a folder a few entries at a time.
func pages(t *testing.T, v volume.Volume, dir string) (out []string) {
	t.Helper()
	for from := ""; ; {
		page, next, err := v.List(dir, from, 7)
		if err != nil {
			t.Fatal(dir, err)
		}
		for _, f := range page {
			out = append(out, f.Path)
		}
		if from = next; next == "" {
			return out
		}
	}
}

// covered tells that every byte of every file lies in what is allocated.
func covered(t *testing.T, n int, v volume.Volume, files []volume.File) {
	t.Helper()
	var ranges []disk.Range
	last := disk.Bytes(-1)
	if err := v.Allocated(func(a, b disk.Bytes) error {
		if a < last || b <= a {
			t.Fatalf("partition %d: allocated %d to %d behind %d", n, a, b, last)
		}
		last = b
		ranges = append(ranges, disk.Range{Start: a, End: b})
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		for _, e := range f.Extents {
			if e.Off >= 0 && !slices.ContainsFunc(ranges, func(r disk.Range) bool { return r.Start <= e.Off && e.Off < r.End }) {
				t.Errorf("partition %d: %s lies at %d, which counts as free", n, f.Path, e.Off)
			}
		}
	}
}

// TestAnotherDriver reads a volume without a table that a driver of another family has
// written: packed files, alternate streams, a sparse file, hard links, a symbolic link,
// times to 100 ns, names in other scripts.
func TestAnotherDriver(t *testing.T) {
	sv, err := Read(unpacked(t, "driver"), nil)
	if err != nil {
		t.Fatal(err)
	}
	v := sv.Volume(1)
	if p, ok := sv.Layout.Find(1); !ok || sv.Layout.Scheme != "none" || v == nil || p.Volume.Label != "Studio" || p.Bytes != sv.Layout.Size || sv.Check().FirstError() != nil {
		t.Fatalf("%+v, %v", sv.Layout, sv.Check())
	}
	if err := sv.Table.Writable(); err == nil {
		t.Error("a drive without a table has one that can be changed")
	}
	f, err := os.Open("testdata/driver.tsv")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	seen := 0
	for in := bufio.NewScanner(f); in.Scan(); seen++ {
		x := strings.Split(in.Text(), "\t")
		path, stream, _ := strings.Cut(x[2], ":")
		file, err := v.Stat(path)
		if err != nil {
			t.Error(path, err)
			continue
		}
		if stream != "" {
			list, _, err := v.List("", "", 1000)
			i := slices.IndexFunc(list, func(g volume.File) bool { return g.Path == path && g.Stream == stream })
			if err != nil || i < 0 {
				t.Errorf("%s is not listed: %v", x[2], err)
				continue
			}
			file = list[i]
		} else if at := fmt.Sprintf("%d.%09d", file.Modified.Unix(), file.Modified.Nanosecond()); at != x[1] {
			t.Errorf("%s was changed at %s, the driver says %s", path, at, x[1])
		}
		r, err := v.Open(file)
		if err != nil {
			t.Error(x[2], err)
			continue
		}
		h := sha256.New()
		io.Copy(h, io.NewSectionReader(r, 0, int64(file.Bytes)))
		if got := hex.EncodeToString(h.Sum(nil)); got != x[0] {
			t.Errorf("%s (%s) has %s, the driver read %s", x[2], file.Stored, got, x[0])
		}
	}
	if seen != 16 {
		t.Errorf("%d files compared", seen)
	}
	files, err := v.Files()
	if err != nil {
		t.Fatal(err)
	}
	stored := map[string]int{}
	for _, f := range files {
		if f.Unreadable != "" {
			t.Errorf("%s: %s", f.Path, f.Unreadable)
		}
		stored[f.Stored]++
		if f.Kind == volume.Link && (f.Path != "symbolic" || !strings.HasSuffix(f.Target, "deep/er/two.txt")) {
			t.Errorf("%s leads to %q", f.Path, f.Target)
		}
	}
	if stored["compressed"] != 4 {
		t.Errorf("%v", stored)
	}
	if many := pages(t, v, "many"); len(many) != 700 || !slices.IsSortedFunc(many, func(a, b string) int { return strings.Compare(strings.ToUpper(a), strings.ToUpper(b)) }) {
		t.Errorf("%d entries", len(many))
	}
}
