package sign

import (
	"errors"
	"testing"
	"time"

	"jadetrail/core/disk"
)

func TestSign(t *testing.T) {
	for _, size := range []disk.Bytes{64 * disk.KiB, 3*disk.MiB + 512, 900 * disk.MiB} {
		dev := disk.NewPaper(size, 512)
		if s, err := Find(dev); s != nil || err != nil {
			t.Fatalf("%s, blank: %v, %v", size, s, err)
		}
		begun := time.Date(2026, 11, 20, 16, 40, 0, 0, time.UTC)
		taken := map[disk.Bytes]bool{}
		for { // place after place, until none is left
			at, err := Place(dev, func(r disk.Range) bool { return !taken[r.Start] })
			if errors.Is(err, ErrNoPlace) {
				break
			}
			taken[at] = true
			if err := Put(dev, Sign{Run: "r-20261120-164000-abcdef", Begun: begun, At: at}); err != nil {
				t.Fatal(err)
			}
			s, err := Find(dev)
			if err != nil || s == nil || s.Run != "r-20261120-164000-abcdef" || s.At != at || !s.Begun.Equal(begun) {
				t.Errorf("%s, at %d: found %+v, %v", size, at, s, err)
			}
			b := make([]byte, 1)
			dev.ReadAt(b, int64(at+signBytes-1))
			dev.WriteAt([]byte{b[0] ^ 1}, int64(at+signBytes-1))
			if s, err := Find(dev); err != nil || s == nil || s.Run != "" {
				t.Errorf("%s, at %d, damaged: found %+v, %v", size, at, s, err)
			}
			if err := Remove(dev, at); err != nil {
				t.Fatal(err)
			}
			if _, _, some := dev.Data(0); some {
				all, _ := disk.ReadFull(dev, 0, min(size, 4*disk.MiB))
				if !disk.Zeros(all) {
					t.Errorf("%s, at %d: something is left", size, at)
				}
			}
		}
		if len(taken) < 2 {
			t.Errorf("%s: only %d places", size, len(taken))
		}
	}
}

// TestPlaceHoldsNothing never takes a place that holds something.
func TestPlaceHoldsNothing(t *testing.T) {
	dev := disk.NewPaper(64*disk.MiB, 512)
	for _, at := range places(dev.Size()) {
		dev.WriteAt([]byte{1}, int64(at+Block-1))
	}
	if at, err := Place(dev, func(disk.Range) bool { return true }); !errors.Is(err, ErrNoPlace) {
		t.Errorf("took %d, %v", at, err)
	}
	if err := Remove(dev, places(dev.Size())[0]); err != nil {
		t.Fatal(err)
	}
	if b, _ := disk.ReadFull(dev, places(dev.Size())[0], Block); disk.Zeros(b) {
		t.Error("what is no sign was taken away")
	}
}

func FuzzFind(f *testing.F) {
	dev := disk.NewPaper(disk.MiB, 512)
	Put(dev, Sign{Run: "r-1", At: 28 * disk.KiB})
	seed, _ := disk.ReadFull(dev, 28*disk.KiB, Block)
	f.Add(seed)
	f.Fuzz(func(t *testing.T, b []byte) {
		dev := disk.NewPaper(disk.MiB, 512)
		dev.WriteAt(b[:min(len(b), int(Block))], int64(28*disk.KiB))
		Find(dev)
	})
}
