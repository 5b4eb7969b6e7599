package volume

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
)

func TestSet(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for round := range 200 {
		n := int64(1 + rng.IntN(400))
		if round%4 == 3 {
			n = int64(1 + rng.IntN(40_000)) // long enough for stretches that are looked at in one
		}
		s, naive := NewSet(n), make([]bool, n)
		for range 5 {
			from := rng.Int64N(n)
			to := from + rng.Int64N(n-from+1)
			twice := slices.Contains(naive[from:to], true)
			if s.Add(from, to) != twice {
				t.Fatalf("adding %d to %d of %d", from, to, n)
			}
			for i := from; i < to; i++ {
				naive[i] = true
			}
		}
		var count int64
		raw := make([]byte, (n+7)/8)
		for i, in := range naive {
			if s.Has(int64(i)) != in {
				t.Fatalf("%d of %d", i, n)
			}
			if in {
				count++
				raw[i/8] |= 1 << (i % 8)
			}
		}
		got := make([]bool, n)
		fill := func(from, to int64) {
			if from >= to || to > n || from > 0 && got[from-1] {
				t.Fatalf("a stretch from %d to %d of %d", from, to, n)
			}
			for i := from; i < to; i++ {
				got[i] = true
			}
		}
		if s.Each(fill); s.Count() != count || !slices.Equal(got, naive) {
			t.Fatalf("of %d clusters: counted %d, want %d", n, s.Count(), count)
		}
		clear(got)
		if err := EachSet(bytes.NewReader(raw), n, func(from, to int64) error { fill(from, to); return nil }); err != nil || !slices.Equal(got, naive) {
			t.Fatalf("read from a bitmap of %d: %v", n, err)
		}
		var l finding.List
		if s.Compare(s, &l); len(l) != 0 {
			t.Fatalf("a set differs from itself: %v", l)
		}
		if empty := NewSet(n); count > 0 {
			s.Compare(empty, &l)
			empty.Compare(s, &l)
			if len(l) != 2 || l[0].Code != "bitmap-disagrees" || l[1].Code != "clusters-lost" || !strings.HasPrefix(l[1].Text, fmt.Sprint(count, " ")) {
				t.Fatalf("against nothing: %v", l)
			}
		}
	}
	if err := EachSet(bytes.NewReader(nil), 100, func(_, _ int64) error { return nil }); err == nil {
		t.Error("a bitmap that is not there was read")
	}
}

func TestDrawn(t *testing.T) {
	d := NewDrawn(960)
	d.Add(0, 10)
	d.Add(15, 20)
	d.Add(955, 960)
	if u := d.Use(); len(u) != 96 || u[0] != 255 || u[1] != 128 || u[2] != 0 || u[95] != 128 || d.Used != 20 || d.Last != 959 {
		t.Errorf("%v, %d used, the last %d", u, d.Used, d.Last)
	}
	if d := NewDrawn(3); len(d.Use()) != 3 || d.Last != -1 {
		t.Errorf("a volume of three clusters: %v", d.Use())
	}
}

func device(t *testing.T, b []byte) *disk.Image {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "v"), disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	im.WriteAt(b, 0)
	return im
}

func TestContents(t *testing.T) {
	all := make([]byte, 64<<10)
	rand.NewChaCha8([32]byte{5}).Read(all)
	dev := device(t, all)
	ext := []Extent{{Off: 8192, Len: 4096}, {Off: -1, Len: 8192}, {Off: 0, Len: 4096}, {Off: 20480, Len: 4096}}
	want := slices.Concat(all[8192:12288], make([]byte, 8192), all[:4096], all[20480:24576])[:20000]
	clear(want[18000:]) // never written
	c := NewContents(dev, ext, 20000, 18000)
	rng := rand.New(rand.NewPCG(1, 1))
	for range 500 {
		off := rng.IntN(len(want))
		p := make([]byte, rng.IntN(9000))
		n, err := c.ReadAt(p, int64(off))
		end := min(off+len(p), len(want))
		if n != end-off || !bytes.Equal(p[:n], want[off:end]) || (err == io.EOF) != (off+len(p) > len(want)) {
			t.Fatalf("%d bytes at %d: %d, %v", len(p), off, n, err)
		}
	}
	if _, err := NewContents(dev, ext[:1], 20000, 20000).ReadAt(make([]byte, 10), 5000); !errors.Is(err, ErrDamaged) {
		t.Errorf("extents that end before the file: %v", err)
	}
	if _, err := NewContents(dev, nil, 10, 10).ReadAt(make([]byte, 10), 0); !errors.Is(err, ErrDamaged) {
		t.Errorf("no extents: %v", err)
	}
	if _, err := c.ReadAt(make([]byte, 1), -1); err != io.EOF {
		t.Errorf("before the start: %v", err)
	}
}

// shelves are folders by number, for tests of walking.
func shelves(in map[int][]string) Folders[int] {
	return Folders[int]{Same: strings.EqualFold, Read: func(folder int, from int64, f func(Entry[int], int64) bool) error {
		if folder == 99 {
			return ErrDamaged
		}
		for i, name := range in[folder] {
			if int64(i) < from {
				continue
			}
			e := Entry[int]{File: File{Path: name, Kind: Plain}}
			if n := 0; strings.HasSuffix(name, "/") {
				fmt.Sscanf(name, "%d/", &n)
				e.File.Path, e.File.Kind, e.Enter = strings.TrimSuffix(name, "/"), Folder, &n
			}
			if !f(e, int64(i)+1) {
				return nil
			}
		}
		return nil
	}}
}

func TestFolders(t *testing.T) {
	f := shelves(map[int][]string{0: {"a", "1/", "b"}, 1: {"c", "2/"}, 2: {"d", "e", "f", "g", "h"}})
	files, err := Collect(f.Walk)
	var paths []string
	for _, x := range files {
		paths = append(paths, x.Path)
	}
	if want := "1 1/2 1/2/d 1/2/e 1/2/f 1/2/g 1/2/h 1/c a b"; err != nil || strings.Join(paths, " ") != want {
		t.Errorf("%v, %v", paths, err)
	}
	var listed []string
	pages := 0
	for from := ""; ; {
		page, next, err := f.List("1/2", from, 2)
		if err != nil || len(page) > 2 {
			t.Fatal(page, err)
		}
		for _, x := range page {
			listed = append(listed, x.Path)
		}
		if pages++; next == "" {
			break
		}
		from = next
	}
	if strings.Join(listed, " ") != "1/2/d 1/2/e 1/2/f 1/2/g 1/2/h" || pages != 3 {
		t.Errorf("%v in %d pages", listed, pages)
	}
	if x, err := f.Stat("/1/2/G"); err != nil || x.Path != "1/2/g" {
		t.Errorf("%+v, %v", x, err)
	}
	for _, p := range []string{"", "1/nothing", "nothing/d", "a/d"} {
		if _, err := f.Stat(p); !errors.Is(err, ErrNotFound) {
			t.Errorf("%q: %v", p, err)
		}
	}
	if _, _, err := f.List("1", "-4", 5); !errors.Is(err, ErrNotFound) {
		t.Errorf("a place before the start: %v", err)
	}
	circle := shelves(map[int][]string{0: {"1/"}, 1: {"2/"}, 2: {"1/"}})
	if err := circle.Walk(func(File) error { return nil }); !errors.Is(err, ErrDamaged) {
		t.Errorf("folders in a circle: %v", err)
	}
	if err := shelves(map[int][]string{0: {"99/"}}).Walk(func(File) error { return nil }); !errors.Is(err, ErrDamaged) {
		t.Errorf("a damaged folder: %v", err)
	}
	stop := errors.New("enough")
	if err := f.Walk(func(x File) error { return stop }); err != stop {
		t.Errorf("stopped: %v", err)
	}
}

func TestShown(t *testing.T) {
	for in, want := range map[string]string{
		"plain ünï 日本.txt": "plain ünï 日本.txt", "a\nb": "a‹0A›b", "gpj.\u202eexe": "gpj.‹202E›exe", "half\xffname": "half‹FF›name", "del\x7f": "del‹7F›", "zero\u200bwidth": "zero‹200B›width",
		"really \uFFFD": "really ‹FFFD›",
	} {
		if got := Shown(in); got != want {
			t.Errorf("%q is shown as %q, want %q", in, got, want)
		}
	}
}

// heap is a volume that is only a list of files.
type heap struct {
	Volume
	files []File
}

func (h heap) Walk(f func(File) error) error {
	for _, x := range h.files {
		if err := f(x); err != nil {
			return err
		}
	}
	return nil
}

func (h heap) Files() ([]File, error) { return Collect(h.Walk) }

func TestSummary(t *testing.T) {
	day := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	v := heap{files: []File{
		{Path: "Users", Kind: Folder}, {Path: "Users/Clover", Kind: Folder}, {Path: "Windows", Kind: Folder}, {Path: "Windows/System32", Kind: Folder},
		{Path: "Users/Clover/kiln.JPG", Kind: Plain, Bytes: 5000, Allocated: 8192, Modified: day},
		{Path: "Users/Clover/recipe.txt", Kind: Plain, Bytes: 100, Modified: day.Add(-time.Hour)},
		{Path: "Users/Clover/recipe.txt", Kind: Plain, Stream: "note", Bytes: 9},
		{Path: "Windows/System32/a.dll", Kind: Plain, Bytes: 20000, Allocated: 20480},
		{Path: "Windows/letter.doc", Kind: Plain, Bytes: 1, Unreadable: "encrypted"},
		{Path: "link", Kind: Link}, {Path: "pagefile.sys", Kind: Plain, Bytes: 7, Allocated: 4096}, {Path: "from the future.txt", Kind: Plain, Modified: day.AddDate(900, 0, 0)},
	}}
	s, err := Summarise(v)
	if err != nil {
		t.Fatal(err)
	}
	if s.Files != 6 || s.Folders != 4 || s.Links != 1 || s.Streams != 1 || s.Unreadable != 1 || !s.System || s.Personal.Files != 3 || s.Newest.Path != "Users/Clover/kiln.JPG" {
		t.Errorf("%+v", s)
	}
	if s.Groups[Pictures].Files != 1 || s.Groups[Programs].Files != 2 || s.Groups[Other].Files != 0 || s.Groups[Documents].Files != 3 {
		t.Errorf("%v", s.Groups)
	}
	if got := s.Largest(""); !slices.Equal(got, []string{"Windows", "Users"}) || s.Inside["Users"].Taken != 8292 || s.Inside["Users/Clover"].Files != 2 || s.Inside[""].Files != 6 {
		t.Errorf("%v, %v", got, s.Inside)
	}
	more, err := Summarise(heap{files: append(slices.Clone(v.files), File{Path: "Users/Clover/Glazes/ash.txt", Kind: Plain, Allocated: 70}, File{Path: "Users/Clover/AppData/x", Kind: Plain, Allocated: 900}, File{Path: "Orders/2026/a", Kind: Plain, Allocated: 50})})
	if got := more.People(); err != nil || !slices.Equal(got, []Place{{"Users/Clover/Glazes", 70}, {"Orders", 50}, {"Orders/2026", 50}}) {
		t.Errorf("%v, %v", got, err)
	}
	words := s.Words(day.AddDate(0, 0, 3))
	for _, says := range []string{"6 files in 4 folders", "Mostly programs", "operating system", "3 files may be people's own", "3 days ago", "kiln.JPG", "1 file cannot be read"} {
		if !strings.Contains(words, says) {
			t.Errorf("%q is not in %s", says, words)
		}
	}
	for files, want := range map[int]string{0: "Empty.", 1: "Empty but for 1 folder."} {
		if s, _ := Summarise(heap{files: v.files[:files]}); s.Words(day) != want {
			t.Errorf("%d: %s", files, s.Words(day))
		}
	}
	if found, err := Find(v, "RECIPE", 10); err != nil || len(found) != 1 {
		t.Errorf("%v, %v", found, err)
	}
	if found, _ := Find(v, "", 3); len(found) != 3 {
		t.Errorf("not bounded: %v", found)
	}
}

func TestHashStored(t *testing.T) {
	sum := func(b []byte, from, to disk.Bytes) string {
		h := blake3.New()
		if err := HashStored(h, device(t, b), from, to); err != nil {
			t.Fatal(err)
		}
		return fmt.Sprintf("%x", h.Sum(nil))
	}
	b := make([]byte, 100000)
	b[50000] = 1
	if sum(b, 0, disk.MiB) != sum(b[:60000], 0, disk.MiB) {
		t.Error("zeros that are stored count for more than holes")
	}
	c := bytes.Clone(b)
	c[50001] = 1
	d := append(make([]byte, 4096), b...)
	if sum(b, 0, disk.MiB) == sum(c, 0, disk.MiB) || sum(b, 0, disk.MiB) == sum(d, 0, disk.MiB) || sum(b, 0, 40000) == sum(b, 0, disk.MiB) {
		t.Error("other bytes, or the same elsewhere, have the same hash")
	}
	// Wherever holes begin and end, also where that is not where blocks are counted from.
	e := make([]byte, 200000)
	for i := 70000; i < 90000; i++ {
		e[i] = byte(i)
	}
	sparse, err := disk.CreateImage(t.TempDir()+"/sparse", 400*512, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer sparse.Close()
	sparse.WriteAt(e[70000:90000], 70000)
	h := blake3.New()
	if err := HashStored(h, sparse, 1024, 190000); err != nil || fmt.Sprintf("%x", h.Sum(nil)) != sum(e, 1024, 190000) {
		t.Errorf("holes in other places give another hash: %v", err)
	}
}
