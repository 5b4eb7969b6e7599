package fat

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// guests are files on their way, with the bytes of all contents one behind the other.
func guests(rng *rand.Rand, n int) (in []volume.Incoming, source []byte, want map[string][]byte) {
	want = map[string][]byte{}
	add := func(kind volume.FileKind, p, stream string, size int) *volume.Incoming {
		data := make([]byte, size)
		for i := range data {
			data[i] = byte(rng.Uint32())
		}
		x := volume.Incoming{File: volume.File{Path: p, Stream: stream, Kind: kind, Bytes: disk.Bytes(size), Modified: day.Add(time.Duration(len(in)) * time.Hour)}}
		if size > 0 {
			x.Extents = []volume.Extent{{Off: disk.Bytes(len(source)), Len: disk.Bytes(size)}}
			source = append(source, data...)
		}
		if kind == volume.Plain && stream == "" {
			want[p] = data
		}
		in = append(in, x)
		return &in[len(in)-1]
	}
	add(volume.Folder, "many", "", 0)
	for i := range n {
		add(volume.Plain, fmt.Sprintf("many/%s %04d æøå 漢字.txt", strings.Repeat("n", rng.IntN(60)), i), "", rng.IntN(3000)*rng.IntN(2))
	}
	add(volume.Folder, "many/deep", "", 0)
	add(volume.Folder, "many/deep/deeper", "", 0)
	add(volume.Plain, "many/deep/deeper/bottom.bin", "", 40_000).Attributes = volume.AttrHidden | volume.AttrReadOnly
	add(volume.Plain, "read me.txt", "", 700)
	add(volume.Plain, "read me.txt", "note", 5)
	add(volume.Plain, "zz again.txt", "", 0).SameAs = "many/deep/deeper/bottom.bin"
	want["zz again.txt"] = want["many/deep/deeper/bottom.bin"]
	return in, source, want
}

func TestLoad(t *testing.T) {
	for _, kind := range []volume.Kind{volume.FAT12, volume.FAT16, volume.FAT32} {
		for _, into := range []string{"", "From Archive", "From Archive/2021", "till"} {
			var im *disk.Image
			n := 30
			switch kind {
			case volume.FAT32:
				im, n = image(t, 80*disk.MiB, 512), 900
				if err := Make(im, Options{Label: "OLD", Time: day, Files: append(sources(), volume.Source{Path: "till/READ ME.TXT", Data: []byte("was here")}, volume.Source{Path: "Read Me.txt", Data: []byte("was here too")})}); err != nil {
					t.Fatal(err)
				}
			case volume.FAT16:
				im, _ = small(t, 16, 20000)
			default:
				im, _ = small(t, 12, 4000)
			}
			v, err := Open(im)
			if err != nil || v.kind != kind {
				t.Fatal(v.kind, err)
			}
			before := read(t, v)
			in, source, want := guests(rand.New(rand.NewPCG(1, 2)), n)
			l, err := v.Load(into, in, volume.LoadOptions{Source: "s", Now: day})
			if err != nil {
				t.Fatalf("%s %q: %v", kind, into, err)
			}
			if err := l.Script.Apply(im, map[string]io.ReaderAt{"s": bytes.NewReader(source)}); err != nil {
				t.Fatal(err)
			}
			if v, err = Open(im); err != nil {
				t.Fatal(err)
			}
			if f := v.Check(); len(f) > 0 {
				t.Errorf("%s %q: %v", kind, into, f)
			}
			after := read(t, v)
			for name, data := range before {
				if !bytes.Equal(after[name], data) {
					t.Errorf("%s %q: %s was touched", kind, into, name)
				}
				delete(after, name)
			}
			prefix := strings.Trim(into+"/", "/")
			if prefix != "" {
				prefix += "/"
			}
			for name, data := range want {
				if now, ok := l.Arrival.Renamed[name]; ok {
					name = now
				}
				if got, ok := after[prefix+name]; !ok || !bytes.Equal(got, data) {
					t.Errorf("%s %q: %s did not arrive, %v", kind, into, name, ok)
				}
				delete(after, prefix+name)
			}
			if len(after) > 0 || l.Arrival.Files != n+3 || len(l.Arrival.Notes) != 2 {
				t.Errorf("%s %q: %d more, %+v", kind, into, len(after), l.Arrival)
			}
			if _, clash := l.Arrival.Renamed["read me.txt"]; clash != (kind == volume.FAT32 && (into == "" || into == "till")) {
				t.Errorf("%s %q: renamed %v", kind, into, l.Arrival.Renamed)
			}
			f, err := v.Stat(prefix + "many/deep/deeper/bottom.bin")
			if err != nil || f.Modified.Minute() != 30 {
				t.Errorf("%+v, %v", f, err)
			}
		}
	}
}

// read is every file of a volume with its contents.
func read(t *testing.T, v *Volume) map[string][]byte {
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
			t.Fatal(err)
		}
		b := make([]byte, f.Bytes)
		if n, err := r.ReadAt(b, 0); n < len(b) {
			t.Fatal(f.Path, err)
		}
		out[f.Path] = b
	}
	return out
}

func TestLoadRefusals(t *testing.T) {
	im, _ := small(t, 12, 4000)
	v, err := Open(im)
	if err != nil {
		t.Fatal(err)
	}
	file := func(p string, n disk.Bytes) volume.Incoming {
		return volume.Incoming{File: volume.File{Path: p, Kind: volume.Plain, Bytes: n, Extents: []volume.Extent{{Len: n}}}}
	}
	var many []volume.Incoming
	for i := range 80 {
		many = append(many, file(fmt.Sprintf("file %d", i), 0))
	}
	for name, x := range map[string]struct {
		into string
		in   []volume.Incoming
		want error
	}{
		"more than there is room for":   {"", []volume.Incoming{file("a", 4*disk.MiB)}, ErrFull},
		"more than the root has room":   {"", many, ErrFull},
		"larger than a file may be":     {"", []volume.Incoming{file("a", 5*disk.GiB)}, ErrNotHere},
		"a name that cannot be":         {"", []volume.Incoming{file("a?b", 1)}, ErrNotHere},
		"a folder that cannot be":       {"a:b", []volume.Incoming{file("a", 1)}, ErrNotHere},
		"names alike but for capitals":  {"new", []volume.Incoming{file("A", 1), file("a", 1)}, ErrNotHere},
		"a name that ends with a point": {"", []volume.Incoming{file("a.", 1)}, ErrNotHere},
	} {
		if _, err := v.Load(x.into, x.in, volume.LoadOptions{Now: day}); !errors.Is(err, x.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
