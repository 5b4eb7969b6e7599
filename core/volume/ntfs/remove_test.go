package ntfs

import (
	"bytes"
	"errors"
	"io"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// TestRemove puts files of all kinds into a fragmented volume and takes them out again,
// several times over.
func TestRemove(t *testing.T) {
	im, v := fragmented(t, 96*disk.MiB)
	before := contentsOf(t, v)
	s, err := v.space()
	if err != nil {
		t.Fatal(err)
	}
	free := []int64{s.left}
	for round := range 3 {
		in, source, want := guests(rand.New(rand.NewPCG(5, uint64(round))), 1500)
		l, err := v.Load("Here/and there", in, volume.LoadOptions{Source: "s", Now: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)})
		if err != nil {
			t.Fatal(err)
		}
		if err := l.Script.Apply(im, map[string]io.ReaderAt{"s": bytes.NewReader(source)}); err != nil {
			t.Fatal(err)
		}
		if v, err = Open(im); err != nil {
			t.Fatal(err)
		}
		// A part first, then all of it.
		for _, paths := range [][]string{{"Here/and there/many"}, {"Here"}} {
			out, err := v.Remove(paths, time.Unix(1_700_000_000, 0))
			if err != nil {
				t.Fatal(err)
			}
			if err := out.Apply(im, nil); err != nil {
				t.Fatal(err)
			}
			if v, err = Open(im); err != nil {
				t.Fatal(err)
			}
			if f := v.Check().FirstError(); f != nil || !v.Agrees() {
				t.Fatalf("round %d, %v: afterwards %v", round, paths, f)
			}
			after := contentsOf(t, v)
			for p, b := range want {
				gone := strings.HasPrefix("Here/and there/"+p, paths[0]+"/")
				if b2, there := after["Here/and there/"+p]; there == gone || there && !bytes.Equal(b, b2) {
					t.Fatalf("round %d, %v: %s is there: %v", round, paths, p, there)
				}
				delete(after, "Here/and there/"+p)
			}
			if !maps.EqualFunc(before, after, bytes.Equal) {
				t.Fatalf("round %d, %v: other files have changed", round, paths)
			}
		}
		if s, err = v.space(); err != nil {
			t.Fatal(err)
		}
		free = append(free, s.left)
		for _, x := range [][2]string{{"$ObjId", "$O"}, {"$Reparse", "$R"}} {
			num, _ := v.lookup("$Extend", x[0])
			if rows, _, err := v.rows(num, x[1]); err != nil || len(rows) > 0 {
				t.Errorf("round %d: %s has %d rows, %v", round, x[0], len(rows), err)
			}
		}
	}
	// What the table of files took the first time it keeps; afterwards nothing is lost.
	if free[2] != free[1] || free[3] != free[1] || free[0]-free[1] > 420 {
		t.Errorf("free clusters: %v", free)
	}
}

func TestRemoveRefuses(t *testing.T) {
	im, v := withFiles(t, 16*disk.MiB, Options{Time: time.Unix(0, 0), Files: []volume.Source{{Path: "a/file", Data: []byte("x")}}})
	for p, want := range map[string]error{"nobody": volume.ErrNotFound, "$MFT": volume.ErrNotFound, "a/nobody": volume.ErrNotFound} {
		if _, err := v.Remove([]string{p}, time.Unix(0, 0)); !errors.Is(err, want) {
			t.Errorf("%s: %v", p, err)
		}
	}
	twice := []volume.Incoming{
		{File: volume.File{Path: "one", Kind: volume.Folder}}, {File: volume.File{Path: "one/f", Kind: volume.Plain}},
		{File: volume.File{Path: "two", Kind: volume.Folder}}, {File: volume.File{Path: "two/f", Kind: volume.Plain}, SameAs: "one/f"},
	}
	l, err := v.Load("", twice, volume.LoadOptions{Now: time.Unix(0, 0)})
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Script.Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	if v, err = Open(im); err != nil {
		t.Fatal(err)
	}
	if _, err := v.Remove([]string{"one"}, time.Unix(0, 0)); !errors.Is(err, ErrLinked) {
		t.Errorf("a file with a name that stays: %v", err)
	}
	if _, err := v.Remove([]string{"one", "two"}, time.Unix(0, 0)); err != nil {
		t.Errorf("both names: %v", err)
	}
}

// TestPlaced writes contents into free clusters first and lists them as a file afterwards.
func TestPlaced(t *testing.T) {
	im, v := fragmented(t, 64*disk.MiB)
	data := make([]byte, 9*disk.MiB+1234)
	for i := range data {
		data[i] = byte(i * 7 >> 8)
	}
	room, err := v.Room(disk.Bytes(len(data)) + 3*disk.MiB)
	if err != nil {
		t.Fatal(err)
	}
	var placed []volume.Extent
	rest := data
	for _, x := range room {
		if len(rest) == 0 {
			break
		}
		n := min(disk.Bytes(len(rest)), x.Len)
		if _, err := im.WriteAt(rest[:n], int64(x.Off)); err != nil {
			t.Fatal(err)
		}
		placed, rest = append(placed, volume.Extent{Off: x.Off, Len: n.Up(v.boot.cluster)}), rest[n:]
	}
	in := []volume.Incoming{{File: volume.File{Path: "big.zst", Kind: volume.Plain, Bytes: disk.Bytes(len(data))}, Placed: placed}}
	l, err := v.Load("Backups/b-1", in, volume.LoadOptions{Now: time.Unix(0, 0)})
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Script.Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	if v, err = Open(im); err != nil || v.Check().FirstError() != nil || !v.Agrees() {
		t.Fatal(err, v.Check())
	}
	if got := contentsOf(t, v)["Backups/b-1/big.zst:"]; !bytes.Equal(got, data) {
		t.Errorf("%d bytes instead of %d", len(got), len(data))
	}
	// The same place again is refused: it is not free any more.
	if _, err := v.Load("Backups/b-2", in, volume.LoadOptions{}); !errors.Is(err, ErrFull) {
		t.Errorf("into clusters that are used: %v", err)
	}
}

func TestSetLabel(t *testing.T) {
	im, v := fragmented(t, 32*disk.MiB)
	before := contentsOf(t, v)
	for _, label := range []string{"Another", "", "Töpferei & Ton 2026, Regal 12", strings.Repeat("n", 32)} {
		s, err := v.SetLabel(label)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Apply(im, nil); err != nil {
			t.Fatal(err)
		}
		if v, err = Open(im); err != nil || v.Check().FirstError() != nil || !v.Agrees() {
			t.Fatalf("%q: %v, %v", label, err, v.Check())
		}
		if i, err := v.Info(); err != nil || i.Label != label {
			t.Errorf("%q: it has the label %q, %v", label, i.Label, err)
		}
	}
	if !maps.EqualFunc(before, contentsOf(t, v), bytes.Equal) {
		t.Error("files have changed")
	}
	if _, err := v.SetLabel(strings.Repeat("n", 33)); !errors.Is(err, ErrName) {
		t.Errorf("too long: %v", err)
	}
}
