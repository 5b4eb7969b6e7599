package ntfs

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// TestShrink makes volumes shorter down to their last used cluster and longer again, with
// sectors and clusters of several sizes; they are sound each time.
func TestShrink(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 2))
	for _, c := range []struct{ sector, cluster disk.Bytes }{{512, 4096}, {512, 512}, {4096, 4096}, {512, 65536}} {
		const whole = 96 * disk.MiB
		dev := image(t, whole, c.sector)
		if err := Make(disk.NewWindow(dev, 0, whole), Options{Time: day, Cluster: c.cluster, Files: sources(150)}); err != nil {
			t.Fatal(err)
		}
		size := disk.Bytes(whole)
		for range 12 {
			v, err := Open(disk.NewWindow(dev, 0, size))
			if err != nil {
				t.Fatal(err)
			}
			i, err := v.Info()
			if err != nil {
				t.Fatal(err)
			}
			to := i.ShrinkCut + disk.Bytes(rng.IntN(int(whole-i.ShrinkCut)))
			switch rng.IntN(4) {
			case 0:
				to = i.ShrinkCut
			case 1:
				to = whole
			}
			to = to.Down(c.sector)
			s, err := v.Shrink(to)
			if to > size {
				s, err = v.Grow(to)
			}
			if errors.Is(err, ErrTooSmall) {
				continue
			}
			if err != nil {
				t.Fatalf("%d to %d: %v", size, to, err)
			}
			if err := s.Apply(dev, nil); err != nil {
				t.Fatal(err)
			}
			size = to
			got := verify(t, disk.NewWindow(dev, 0, size), 150)
			if j, _ := got.Info(); j.TotalBytes > size || j.TotalBytes+c.cluster+c.sector < size || j.UsedBytes < i.UsedBytes {
				t.Fatalf("the volume has %d bytes of %d, %d used before and %d after", j.TotalBytes, size, i.UsedBytes, j.UsedBytes)
			}
		}
		v, _ := Open(disk.NewWindow(dev, 0, size))
		i, _ := v.Info()
		if _, err := v.Shrink(i.ShrinkCut - c.cluster); !errors.Is(err, ErrUsed) {
			t.Errorf("over the last used cluster: %v", err)
		}
	}
}

// TestShrinkRefusesWhatIsNotClean marks a volume as in use.
func TestShrinkRefusesWhatIsNotClean(t *testing.T) {
	dev := image(t, 32*disk.MiB, 512)
	if err := Make(dev, Options{Time: day, Files: sources(20)}); err != nil {
		t.Fatal(err)
	}
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	r, err := v.record(recVolume)
	if err != nil {
		t.Fatal(err)
	}
	r.find(atVolumeInfo, "").value[10] |= 1
	fix(r.raw)
	dev.WriteAt(r.raw, v.mft.runs[0].lcn*int64(v.boot.cluster)+recVolume*int64(v.boot.record))
	if v, err = Open(dev); err != nil {
		t.Fatal(err)
	}
	if _, err := v.Shrink(24 * disk.MiB); !errors.Is(err, volume.ErrNotClean) {
		t.Errorf("%v", err)
	}
}

// TestVacate empties the ends of volumes that are full of pieces, cuts them there, and goes on
// until no more can be cut; every file is the same each time.
func TestVacate(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 8))
	for _, c := range []struct{ sector, cluster disk.Bytes }{{512, 4096}, {512, 512}, {4096, 4096}, {512, 16384}} {
		const whole = 96 * disk.MiB
		dev := image(t, whole, c.sector)
		all, gone := sources(150), []string{}
		fill := map[string][]byte{}
		for i := range 66 {
			f := volume.Source{Path: fmt.Sprintf("fill/%02d", i), Data: bytes.Repeat([]byte{byte(i), 1, 2}, 350000)}
			all = append(all, f)
			if i%3 > 0 {
				gone = append(gone, f.Path)
			} else {
				fill[f.Path] = f.Data
			}
		}
		if err := Make(dev, Options{Time: day, Cluster: c.cluster, Files: all}); err != nil {
			t.Fatal(err)
		}
		v, err := Open(dev)
		if err != nil {
			t.Fatal(err)
		}
		s, err := v.Remove(gone, day)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Apply(dev, nil); err != nil {
			t.Fatal(err)
		}
		size, moved, refused := disk.Bytes(whole), 0, error(nil)
		for range 30 {
			v, err := Open(disk.NewWindow(dev, 0, size))
			if err != nil {
				t.Fatal(err)
			}
			i, err := v.Info()
			if err != nil {
				t.Fatal(err)
			}
			to := (size - disk.Bytes(1+rng.IntN(9))*disk.MiB).Down(c.sector)
			if to < i.ShrinkMin {
				break
			}
			s, err := v.Vacate(to)
			if refused = err; errors.Is(err, ErrUsed) || errors.Is(err, ErrRecord) {
				break
			}
			if err != nil {
				t.Fatalf("%d to %d: %v", size, to, err)
			}
			if s.Moves() {
				moved++
			}
			if err := s.Apply(dev, nil); err != nil {
				t.Fatal(err)
			}
			now := verify(t, disk.NewWindow(dev, 0, size), 150)
			if s, err = now.Shrink(to); err != nil {
				t.Fatalf("%d to %d, emptied: %v", size, to, err)
			}
			if err := s.Apply(dev, nil); err != nil {
				t.Fatal(err)
			}
			size = to
			now = verify(t, disk.NewWindow(dev, 0, size), 150)
			for path, want := range fill {
				f, err := now.Stat(path)
				if err != nil {
					t.Fatal(err)
				}
				r, err := now.Open(f)
				got := make([]byte, len(want))
				if err == nil {
					_, err = r.ReadAt(got, 0)
				}
				if err != nil && err != io.EOF || !bytes.Equal(got, want) {
					t.Fatalf("%s is not what it was: %v", path, err)
				}
			}
		}
		if moved < 4 {
			t.Errorf("clusters of %d: moved %d times, ended at %d with %v", c.cluster, moved, size, refused)
		}
		t.Logf("clusters of %d: moved %d times, ended at %s with %v", c.cluster, moved, size, refused)
	}
}
