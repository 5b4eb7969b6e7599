package fat

import (
	"bytes"
	"errors"
	"io"
	"maps"
	"math/rand/v2"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// TestResized makes volumes of each kind larger and smaller again and again, to where their
// tables must grow and their files move.
func TestResized(t *testing.T) {
	for _, c := range []struct {
		kind  volume.Kind
		sizes disk.Range // from, to
	}{{volume.FAT12, disk.Range{Start: 1200 * disk.KiB, End: 4096 * disk.KiB}}, {volume.FAT16, disk.Range{Start: 8 * disk.MiB, End: 64 * disk.MiB}}, {volume.FAT32, disk.Range{Start: 66 * disk.MiB, End: 300 * disk.MiB}}} {
		rng := rand.New(rand.NewPCG(uint64(len(c.kind)), 7))
		dev, n := disk.NewPaper(c.sizes.End+disk.MiB, 512), 30
		switch c.kind {
		case volume.FAT32:
			n = 900
			im := image(t, 80*disk.MiB, 512)
			if err := Make(im, Options{Label: "OLD", Time: day, Files: sources()}); err != nil {
				t.Fatal(err)
			}
			copyOnto(t, dev, im)
		case volume.FAT16:
			im, _ := small(t, 16, 20000)
			copyOnto(t, dev, im)
		default:
			im, _ := small(t, 12, 4000)
			copyOnto(t, dev, im)
		}
		v, err := Open(dev)
		if err != nil {
			t.Fatal(err)
		}
		in, source, _ := guests(rng, n)
		l, err := v.Load("", in, volume.LoadOptions{Source: "s", Now: day})
		if err != nil {
			t.Fatal(err)
		}
		if err := l.Script.Apply(dev, map[string]io.ReaderAt{"s": bytes.NewReader(source)}); err != nil {
			t.Fatal(err)
		}
		if v, err = Open(dev); err != nil {
			t.Fatal(err)
		}
		want := read(t, v)
		grown, cut, renumbered := 0, 0, 0
		for range 40 {
			i, _ := v.Info()
			size := (c.sizes.Start + disk.Bytes(rng.Int64N(int64(c.sizes.End-c.sizes.Start)))).Down(512)
			after, shift, err := Reshaped(i, size, 512)
			if err != nil {
				t.Fatal(c.kind, size, err)
			}
			act := v.Grow
			if now := disk.Bytes(v.sectors) * 512; size < now {
				if size < i.ShrinkMin+8*disk.KiB { // a bad cluster may lie there
					continue
				}
				act = v.Shrink
				cut++
			} else {
				grown++
			}
			if shift > 0 {
				renumbered++
			}
			s, err := act(size)
			if errors.Is(err, ErrUsed) && i.BadClusters > 0 {
				continue
			}
			if err != nil {
				t.Fatalf("%s to %s: %v", c.kind, size, err)
			}
			if err := s.Apply(dev, nil); err != nil {
				t.Fatal(err)
			}
			if v, err = Open(dev); err != nil {
				t.Fatalf("%s to %s: %v", c.kind, size, err)
			}
			if l := v.Check(); l.FirstError() != nil || len(l) > 0 {
				t.Fatalf("%s to %s: %+v", c.kind, size, l)
			}
			got, _ := v.Info()
			if v.kind != c.kind || disk.Bytes(v.sectors)*512 != size || got.TotalBytes != after.TotalBytes || *got.Tables != *after.Tables || got.UsedBytes != i.UsedBytes || got.BadClusters != i.BadClusters || got.Label != i.Label {
				t.Fatalf("%s to %s: %+v, expected %+v", c.kind, size, got, after)
			}
			if !maps.EqualFunc(want, read(t, v), bytes.Equal) {
				t.Fatalf("%s to %s: files differ", c.kind, size)
			}
			if c.kind == volume.FAT32 {
				b, _ := disk.ReadFull(dev, 512, 512)
				if free := disk.Bytes(le.Uint32(b[488:])) * v.cluster; free != got.Free() {
					t.Fatalf("%s to %s: it says %s free, and %s are", c.kind, size, free, got.Free())
				}
			}
		}
		if grown < 5 || cut < 5 || renumbered == 0 {
			t.Errorf("%s: grown %d times, cut %d times, tables grown %d times", c.kind, grown, cut, renumbered)
		}
		t.Logf("%s: grown %d times, cut %d times, its tables %d times", c.kind, grown, cut, renumbered)
	}
}

func copyOnto(t *testing.T, to disk.Device, from disk.Device) {
	t.Helper()
	b, err := disk.ReadFull(from, 0, from.Size())
	if err == nil {
		_, err = to.WriteAt(b, 0)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestDeletedFollow: what a deleted file's entry says of its clusters stays true when the
// clusters get other numbers.
func TestDeletedFollow(t *testing.T) {
	im, _ := small(t, 16, 20000)
	dev := disk.NewPaper(40*disk.MiB, 512)
	copyOnto(t, dev, im)
	if _, err := dev.WriteAt([]byte("gone but here"), int64(mustOpen(t, dev).at(90))); err != nil {
		t.Fatal(err)
	}
	v := mustOpen(t, dev)
	s, err := v.Grow(14 * disk.MiB)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Apply(dev, nil); err != nil {
		t.Fatal(err)
	}
	after := mustOpen(t, dev)
	folder, err := after.Stat("TILLS")
	if err != nil {
		t.Fatal(err)
	}
	b, _ := disk.ReadFull(dev, folder.Extents[0].Off, 1024)
	e := b[3*32:]
	c := uint32(le.Uint16(e[26:]))
	text, _ := disk.ReadFull(dev, after.at(c), 13)
	if e[0] != 0xe5 || c == 90 || string(text) != "gone but here" {
		t.Errorf("entry % x names cluster %d, which holds %q", e[:32], c, text)
	}
}

func mustOpen(t *testing.T, dev disk.Device) *Volume {
	t.Helper()
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// TestResizeRefusals: a kind keeps its bounds, and bad clusters stay where they are.
// TestShrinkLimit makes volumes of each kind as small as they say that they can be, and no smaller.
func TestShrinkLimit(t *testing.T) {
	for name, dev := range map[string]disk.Device{
		"FAT12 with a bad cluster": func() disk.Device { im, _ := small(t, 12, 4000); return im }(),
		"FAT16":                    func() disk.Device { im, _ := small(t, 16, 20000); return im }(),
		"FAT32": func() disk.Device {
			im := image(t, 80*disk.MiB, 512)
			if err := Make(im, Options{Label: "OLD", Time: day, Files: sources()}); err != nil {
				t.Fatal(err)
			}
			return im
		}(),
	} {
		v := mustOpen(t, dev)
		i, err := v.Info()
		if err != nil || !i.ShrinkMinExact {
			t.Fatalf("%s: %+v, %v", name, i, err)
		}
		if _, err := v.Shrink(i.ShrinkMin - v.cluster); err == nil {
			t.Errorf("%s: a cluster smaller than %s was met", name, i.ShrinkMin)
		}
		want := read(t, v)
		s, err := v.Shrink(i.ShrinkMin)
		if err != nil {
			t.Errorf("%s: %s cannot be met: %v", name, i.ShrinkMin, err)
			continue
		}
		if err := s.Apply(dev, nil); err != nil {
			t.Fatal(err)
		}
		w := mustOpen(t, dev)
		if got := read(t, w); len(got) != len(want) || w.Check().FirstError() != nil {
			t.Errorf("%s: %d files of %d, %v", name, len(got), len(want), w.Check())
		}
	}
}

func TestResizeRefusals(t *testing.T) {
	im, _ := small(t, 12, 4000)
	dev := disk.NewPaper(16*disk.MiB, 512)
	copyOnto(t, dev, im)
	v := mustOpen(t, dev)
	i, _ := v.Info()
	least, roomy, most := Bounds(i, 512)
	if least > roomy || roomy > most {
		t.Fatal(least, roomy, most)
	}
	if _, err := v.Grow(most.Down(512)); err != nil {
		t.Errorf("to the most: %v", err)
	}
	if _, shift, err := Reshaped(i, roomy, 512); err != nil || shift != 0 {
		t.Errorf("roomy: %d, %v", shift, err)
	}
	if _, shift, err := Reshaped(i, roomy+v.cluster, 512); err != nil || shift == 0 {
		t.Errorf("more than roomy: %d, %v", shift, err)
	}
	if _, err := v.Grow(most + v.cluster); !errors.Is(err, ErrFull) {
		t.Errorf("more than the most: %v", err)
	}
	if _, err := v.Shrink(v.at(400)); !errors.Is(err, ErrUsed) { // cluster 400 is bad
		t.Errorf("a bad cluster was moved: %v", err)
	}
	if _, err := v.Shrink(i.ShrinkMin - 4096); !errors.Is(err, ErrUsed) && !errors.Is(err, ErrFull) {
		t.Errorf("smaller than its files: %v", err)
	}
}
