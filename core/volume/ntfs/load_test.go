package ntfs

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// guests are files of all sorts, with the bytes of all contents one behind the other.
func guests(rng *rand.Rand, n int) (in []volume.Incoming, source []byte, want map[string][]byte) {
	want = map[string][]byte{}
	born := time.Date(2021, 3, 4, 5, 6, 7, 123456700, time.UTC)
	add := func(x volume.Incoming, data []byte) {
		x.Bytes, x.Modified, x.Created = disk.Bytes(len(data)), born.Add(time.Duration(len(in))*time.Hour), born
		x.Open = func() (io.ReaderAt, error) { return bytes.NewReader(data), nil }
		if len(data) > 0 && x.Kind == volume.Plain {
			x.Extents = []volume.Extent{{Off: disk.Bytes(len(source)), Len: disk.Bytes(len(data))}}
			source = append(source, data...)
		}
		if x.Kind == volume.Plain {
			want[x.Path+":"+x.Stream] = data
		}
		in = append(in, x)
	}
	bytesOf := func(n int) []byte {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(rng.Uint32())
		}
		return b
	}
	file := func(p string) volume.Incoming { return volume.Incoming{File: volume.File{Path: p, Kind: volume.Plain}} }
	dir := func(p string) volume.Incoming {
		return volume.Incoming{File: volume.File{Path: p, Kind: volume.Folder}}
	}
	add(dir("many"), nil)
	for i := range n {
		x := file(fmt.Sprintf("many/%s %05d æøå 漢字.txt", strings.Repeat("n", rng.IntN(60)), i))
		x.Descriptor = descriptor(0x120089 + uint32(i%40))
		add(x, bytesOf(rng.IntN(9000)*rng.IntN(2)))
	}
	add(dir("deep"), nil)
	p := "deep"
	for i := range 20 {
		p += fmt.Sprintf("/level %d", i)
		add(dir(p), nil)
	}
	x := file(p + "/bottom")
	x.ObjectID = bytes.Repeat([]byte{7}, 16)
	x.Attributes = volume.AttrHidden | volume.AttrReadOnly
	add(x, bytesOf(100_000))
	full := file("deep/STREAMS~1.TXT")
	full.Path, full.Short = "deep/streams and names.txt", "STREAM~1.TXT"
	add(full, bytesOf(5000))
	for i := range 40 {
		x := file(full.Path)
		x.Stream = fmt.Sprintf("stream %02d", i)
		add(x, bytesOf(50+rng.IntN(20_000)*(i%2)))
	}
	for i := range 60 {
		x := file(fmt.Sprintf("deep/other name %02d with some length.txt", i))
		x.SameAs = full.Path
		add(x, nil)
		for _, y := range in {
			if y.Path == full.Path {
				want[x.Path+":"+y.Stream] = want[full.Path+":"+y.Stream]
			}
		}
	}
	link := volume.Incoming{File: volume.File{Path: "link", Kind: volume.Link}}
	link.Reparse = append(le.AppendUint32(nil, tagUnixLink), 8, 0, 0, 0, 2, 0, 0, 0, 'm', 'a', 'n', 'y')
	add(link, nil)
	return in, source, want
}

// fragmented is a volume in which every free stretch is short.
func fragmented(t *testing.T, size disk.Bytes) (disk.Device, *Volume) {
	t.Helper()
	var files []volume.Source
	for i := range int(size / 4096 / 4) {
		files = append(files, volume.Source{Path: fmt.Sprintf("old/%d/f%05d", i%7, i), Data: bytes.Repeat([]byte{byte(i)}, 4096*2)})
	}
	im, v := withFiles(t, size, Options{Label: "Old", Time: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), Files: files})
	return im, v
}

func withFiles(t *testing.T, size disk.Bytes, o Options) (disk.Device, *Volume) {
	t.Helper()
	im, err := disk.CreateImage(t.TempDir()+"/v.img", size, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	if err := Make(im, o); err != nil {
		t.Fatal(err)
	}
	v, err := Open(im)
	if err != nil {
		t.Fatal(err)
	}
	return im, v
}

func contentsOf(t *testing.T, v *Volume) map[string][]byte {
	t.Helper()
	files, err := v.Files()
	if err != nil {
		t.Fatal(err)
	}
	out := map[string][]byte{}
	for _, f := range files {
		if f.Kind != volume.Plain {
			continue
		}
		r, err := v.Open(f)
		if err != nil {
			t.Fatalf("%s: %v", f.Path, err)
		}
		b := make([]byte, f.Bytes)
		if n, err := r.ReadAt(b, 0); n < len(b) {
			t.Fatalf("%s: %d of %d bytes, %v", f.Path, n, len(b), err)
		}
		out[f.Path+":"+f.Stream] = b
	}
	return out
}

func TestLoad(t *testing.T) {
	for _, into := range []string{"", "From Archive", "From Archive/2021/all", "old/3"} {
		im, v := fragmented(t, 96*disk.MiB)
		before := contentsOf(t, v)
		in, source, want := guests(rand.New(rand.NewPCG(5, 6)), 1500)
		l, err := v.Load(into, in, volume.LoadOptions{Source: "s", Now: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)})
		if err != nil {
			t.Fatalf("%q: %v", into, err)
		}
		if err := l.Script.Apply(im, map[string]io.ReaderAt{"s": bytes.NewReader(source)}); err != nil {
			t.Fatal(err)
		}
		if v, err = Open(im); err != nil {
			t.Fatal(err)
		}
		if f := v.Check().FirstError(); f != nil || !v.Agrees() {
			t.Fatalf("%q: afterwards %v", into, f)
		}
		for _, f := range v.Check() {
			t.Logf("%q: %s", into, f.Text)
		}
		after := contentsOf(t, v)
		prefix := strings.TrimPrefix(into+"/", "/")
		for p, b := range want {
			if !bytes.Equal(after[prefix+p], b) {
				t.Errorf("%q: %s is %d bytes instead of %d", into, p, len(after[prefix+p]), len(b))
			}
			delete(after, prefix+p)
		}
		for p, b := range before {
			if !bytes.Equal(after[p], b) {
				t.Errorf("%q: %s was changed", into, p)
			}
			delete(after, p)
		}
		if len(after) > 0 {
			t.Errorf("%q: %d files are new that never came", into, len(after))
		}
		for _, x := range in {
			f, err := v.Stat(prefix + x.Path)
			if err != nil || x.Stream != "" {
				if x.Stream == "" {
					t.Errorf("%q: %s: %v", into, x.Path, err)
				}
				continue
			}
			d, err := v.Detail(f)
			if err != nil || x.SameAs == "" && (!f.Modified.Equal(x.Modified) || !d.Created.Equal(x.Created)) {
				t.Errorf("%q: %s has other times: %v %v, %v", into, x.Path, f.Modified, d.Created, err)
			}
			if x.Descriptor != nil && !bytes.Equal(d.Descriptor, x.Descriptor) || x.ObjectID != nil && !bytes.Equal(d.ObjectID, x.ObjectID) || x.Reparse != nil && !bytes.Equal(d.Reparse, x.Reparse) || d.Short != x.Short && x.SameAs == "" {
				t.Errorf("%q: %s has lost what belongs to it: %+v", into, x.Path, d)
			}
		}
	}
}

// TestLoadTwice brings the same files again: their names are kept apart, and the
// descriptors are not kept twice.
func TestLoadTwice(t *testing.T) {
	im, v := withFiles(t, 64*disk.MiB, Options{Time: time.Unix(0, 0)})
	for i := range 3 {
		in, source, want := guests(rand.New(rand.NewPCG(1, 2)), 30)
		l, err := v.Load("Here", in, volume.LoadOptions{Source: "s", Now: time.Unix(1_700_000_000, 0)})
		if err != nil {
			t.Fatal(err)
		}
		if err := l.Script.Apply(im, map[string]io.ReaderAt{"s": bytes.NewReader(source)}); err != nil {
			t.Fatal(err)
		}
		if v, err = Open(im); err != nil || v.Check().FirstError() != nil {
			t.Fatal(err, v.Check())
		}
		name := "many"
		if i > 0 {
			name = fmt.Sprintf("many (%d)", i+1)
		}
		if l.Arrival.Renamed["many"] != name && i > 0 {
			t.Errorf("time %d: renamed %v", i, l.Arrival.Renamed)
		}
		got := contentsOf(t, v)
		for p, b := range want {
			if rest, ok := strings.CutPrefix(p, "many/"); ok && !bytes.Equal(got["Here/"+name+"/"+rest], b) {
				t.Errorf("time %d: %s", i, p)
			}
		}
	}
	d, err := v.descriptors()
	if err != nil || len(d.byID) != 2+29 {
		t.Errorf("%d descriptors, %v, %x", len(d.byID), err, slices.Sorted(maps.Keys(d.byID)))
	}
}

func TestLoadRefuses(t *testing.T) {
	_, v := withFiles(t, 16*disk.MiB, Options{Time: time.Unix(0, 0), Files: []volume.Source{{Path: "a file", Data: []byte("x")}}})
	big := volume.Incoming{File: volume.File{Path: "big", Kind: volume.Plain, Bytes: 64 * disk.MiB, Extents: []volume.Extent{{Len: 64 * disk.MiB}}}}
	if _, err := v.Load("", []volume.Incoming{big}, volume.LoadOptions{}); !errors.Is(err, ErrFull) {
		t.Errorf("too large: %v", err)
	}
	for _, n := range []string{"..", "a\x00b", strings.Repeat("n", 256)} {
		if _, err := v.Load("", []volume.Incoming{{File: volume.File{Path: n, Kind: volume.Plain}}}, volume.LoadOptions{}); !errors.Is(err, ErrName) {
			t.Errorf("%q: %v", n, err)
		}
	}
	if _, err := v.Load("a file/below", nil, volume.LoadOptions{}); err == nil {
		t.Error("a file was taken for a folder")
	}
	short := volume.Incoming{File: volume.File{Path: "short", Kind: volume.Plain, Bytes: 9000, Extents: []volume.Extent{{Len: 100}}}}
	if _, err := v.Load("", []volume.Incoming{short}, volume.LoadOptions{}); !errors.Is(err, volume.ErrUnreadable) {
		t.Errorf("contents that end early: %v", err)
	}
}

// TestSpace takes room in all sizes until nothing is left, and never twice.
func TestSpace(t *testing.T) {
	_, v := fragmented(t, 32*disk.MiB)
	s, err := v.space()
	if err != nil {
		t.Fatal(err)
	}
	rng, seen, left := rand.New(rand.NewPCG(8, 9)), map[int64]bool{}, s.left
	for s.left > 0 {
		n := min(1+rng.Int64N(200), s.left)
		runs, err := s.take(n)
		if err != nil || runsEnd(runs, 0) != n {
			t.Fatalf("%d of %d: %v, %v", n, s.left, runs, err)
		}
		for _, r := range runs {
			for c := r.lcn; c < r.lcn+r.n; c++ {
				if seen[c] {
					t.Fatalf("cluster %d is taken twice", c)
				}
				seen[c] = true
			}
		}
	}
	if int64(len(seen)) != left {
		t.Errorf("%d of %d clusters", len(seen), left)
	}
	if _, err := s.take(1); !errors.Is(err, ErrFull) {
		t.Errorf("from nothing: %v", err)
	}
	if !slices.ContainsFunc(s.taken, func(x stretch) bool { return x.from < x.to }) {
		t.Error("nothing is noted as taken")
	}
}
