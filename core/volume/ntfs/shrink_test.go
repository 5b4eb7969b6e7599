package ntfs

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/script"
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

// small is a file of 3000 bytes.
func small(i int) volume.Source {
	return volume.Source{Path: fmt.Sprintf("small/%04d", i), Data: bytes.Repeat([]byte{byte(i), byte(i >> 8), 7}, 1000)}
}

// madeOf makes a volume of files and opens it.
func madeOf(t *testing.T, size, cluster disk.Bytes, files []volume.Source) (*disk.Image, *Volume) {
	t.Helper()
	dev := image(t, size, 512)
	if err := Make(dev, Options{Time: day, Cluster: cluster, Files: files}); err != nil {
		t.Fatal(err)
	}
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	return dev, v
}

// apply carries a script out and opens the volume anew; its files and maps must agree.
func apply(t *testing.T, dev disk.Device, s script.Script, err error, from map[string]io.ReaderAt) *Volume {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Apply(dev, from); err != nil {
		t.Fatal(err)
	}
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	if f := v.Check(); len(f) > 0 || !v.Agrees() {
		t.Fatalf("%v", f)
	}
	l := &loader{v: v}
	if err := l.openTable(); err != nil {
		t.Fatal(err)
	}
	for n := range l.count {
		if r, err := v.record(n); err != nil || (r.flags&inUse != 0) != (l.bits[n/8]>>(n%8)&1 != 0) {
			t.Fatalf("record %d is in use or not, and marked otherwise: %v", n, err)
		}
	}
	return v
}

// removed takes files out of a volume.
func removed(t *testing.T, dev disk.Device, v *Volume, paths ...string) *Volume {
	t.Helper()
	s, err := v.Remove(paths, day)
	return apply(t, dev, s, err, nil)
}

// listedOf is how many records extend that of a file.
func listedOf(t *testing.T, v *Volume, path ...string) int {
	t.Helper()
	num, ok := v.lookup(path...)
	if !ok {
		t.Fatal(path)
	}
	r, err := v.record(num)
	if err != nil {
		t.Fatal(err)
	}
	if r.find(atList, "") == nil {
		return 0
	}
	more, err := v.extensions(r)
	if err != nil {
		t.Fatal(err)
	}
	return len(more)
}

// inUnits makes a file one that is compressed in units of 16 clusters, all of which are kept
// as they are.
func inUnits(t *testing.T, dev disk.Device, v *Volume, path ...string) *Volume {
	t.Helper()
	num, _ := v.lookup(path...)
	r, err := v.record(num)
	if err != nil {
		t.Fatal(err)
	}
	a := r.find(atData, "")
	p := outside(atData, "", a.runs, a.alloc, a.size)
	p.head = le.AppendUint64(p.head, uint64(a.alloc))
	p.head[12], p.head[34] = 1, 4
	raw, err := change(r, func(x *attr) bool { return x.typ == atData }, []piece{p.mapped(a.runs)})
	if err != nil {
		t.Fatal(err)
	}
	r.find(atStandard, "").value[33] |= 8
	fix(raw)
	var s script.Script
	err = v.putStream(&s, v.mft, num*int64(v.boot.record), raw)
	return apply(t, dev, s, err, nil)
}

// TestVacateIntoPieces moves files into hundreds of single free clusters, so that the lists of
// their stretches have no room in their records; then again and again, when they have records
// that extend them and lie behind the end once more. One of them is compressed, one folder is
// so large that its index lies there too.
func TestVacateIntoPieces(t *testing.T) {
	var all []volume.Source
	var gone [4][]string
	want := map[string][]byte{}
	add := func(f volume.Source) { all, want[f.Path+":"] = append(all, f), f.Data }
	for i := range 4000 {
		f := small(i)
		add(f)
		gone[i%4] = append(gone[i%4], f.Path)
	}
	for i, n := range []int{900, 400, 1300} {
		add(volume.Source{Path: fmt.Sprintf("behind/%d.bin", n), Data: bytes.Repeat([]byte{byte(i), 2, 3, 4}, n*1024)})
	}
	for i := range 6000 {
		add(volume.Source{Path: fmt.Sprintf("many/%04d with a name that takes much room in the index of its folder, as those of pictures often do", i), Data: []byte{byte(i)}})
	}
	dev, v := madeOf(t, 64*disk.MiB, 4096, all)
	v = inUnits(t, dev, v, "behind", "400.bin")
	most := 0
	for round, k := range []int{0, 2, 1} {
		v = removed(t, dev, v, gone[k]...)
		for _, p := range gone[k] {
			delete(want, p+":")
		}
		for range 3 {
			i, err := v.Info()
			if err != nil {
				t.Fatal(err)
			}
			s, err := v.Vacate((i.ShrinkMin + (i.ShrinkCut-i.ShrinkMin)/4 + disk.MiB/2).Down(4096))
			v = apply(t, dev, s, err, nil)
		}
		got := contentsOf(t, v)
		if !maps.EqualFunc(got, want, bytes.Equal) {
			t.Fatalf("round %d: the %d files are not what they were: %d", round, len(want), len(got))
		}
		for _, p := range [][]string{{"behind", "900.bin"}, {"behind", "400.bin"}, {"behind", "1300.bin"}, {"many"}} {
			most = max(most, listedOf(t, v, p...))
		}
	}
	if most < 3 || listedOf(t, v, "many") == 0 {
		t.Errorf("no file has more than %d records", most)
	}
	// The folder whose index its own record does not name takes files in and gives them up.
	in, source, guests := guests(rand.New(rand.NewPCG(4, 4)), 300)
	l, err := v.Load("many", in, volume.LoadOptions{Source: "s", Now: day})
	v = apply(t, dev, l.Script, err, map[string]io.ReaderAt{"s": bytes.NewReader(source)})
	for p, b := range guests {
		want["many/"+p] = b
	}
	var half []string
	for p := range want {
		if strings.HasPrefix(p, "many/") && strings.Count(p, "/") == 1 && len(half) < 3000 {
			half = append(half, strings.TrimSuffix(p, ":"))
			delete(want, p)
		}
	}
	v = removed(t, dev, v, half...)
	if got := contentsOf(t, v); !maps.EqualFunc(got, want, bytes.Equal) {
		t.Errorf("%d files instead of %d, or not as they were", len(got), len(want))
	}
}

// TestVacateIntoOnePiece moves a file in so many stretches that its record just holds their
// list: between places farther apart the list would be longer. Where no record is free to
// extend it, it is put into one piece; where that has no room either, it is refused.
func TestVacateIntoOnePiece(t *testing.T) {
	const pieces, c = 220, 1024
	all := []volume.Source{{Path: "room", Data: []byte("for it"), Reserve: 3 * pieces * c}}
	var holes []string
	for i := range pieces {
		f := small(i) // of three clusters
		holes = append(holes, f.Path)
		all = append(all, f, volume.Source{Path: fmt.Sprintf("between/%d", i), Data: []byte("kept"), Reserve: 130 * c})
	}
	dev, v := madeOf(t, 48*disk.MiB, c, all)
	space, err := v.space()
	if err != nil {
		t.Fatal(err)
	}
	end := space.free[len(space.free)-1]
	x := volume.Incoming{File: volume.File{Path: "x", Kind: volume.Plain, Bytes: 3 * pieces * c}}
	want := make([]byte, x.Bytes)
	for i := range pieces {
		at := disk.Bytes(end.from+100+4*int64(i)) * c
		part := want[3*i*c : 3*(i+1)*c]
		copy(part, bytes.Repeat([]byte{byte(i), 1, 2}, c))
		x.Placed = append(x.Placed, volume.Extent{Off: at, Len: 3 * c})
		if _, err := dev.WriteAt(part, int64(at)); err != nil {
			t.Fatal(err)
		}
	}
	l, err := v.Load("", []volume.Incoming{x}, volume.LoadOptions{Now: day})
	v = apply(t, dev, l.Script, err, nil)
	v = removed(t, dev, v, holes...)
	to := disk.Bytes(end.from+100) * c
	if _, err := v.Vacate(to); err != nil {
		t.Fatalf("with records that are free: %v", err)
	}
	// Every record is in use.
	marks, err := v.system(recMFT, atBitmap, "")
	if err != nil {
		t.Fatal(err)
	}
	var full script.Script
	if err := v.putStream(&full, marks, 0, bytes.Repeat([]byte{255}, int(marks.size))); err != nil {
		t.Fatal(err)
	}
	if err := full.Apply(dev, nil); err != nil {
		t.Fatal(err)
	}
	if v, err = Open(dev); err != nil {
		t.Fatal(err)
	}
	if _, err := v.Vacate(to); !errors.Is(err, ErrRecord) {
		t.Errorf("with no room in one piece: %v", err)
	}
	s, err := v.Remove([]string{"room"}, day)
	if err != nil {
		t.Fatal(err)
	}
	if err := append(s, full...).Apply(dev, nil); err != nil {
		t.Fatal(err)
	}
	if v, err = Open(dev); err != nil {
		t.Fatal(err)
	}
	if s, err = v.Vacate(to); err != nil {
		t.Fatal(err)
	}
	if err := s.Apply(dev, nil); err != nil {
		t.Fatal(err)
	}
	if v, err = Open(dev); err != nil {
		t.Fatal(err)
	}
	if f := v.Check(); len(f) > 0 || !v.Agrees() {
		t.Fatalf("%v", f)
	}
	num, _ := v.lookup("x")
	st, err := v.system(num, atData, "")
	if err != nil || len(st.runs) != 1 || listedOf(t, v, "x") != 0 {
		t.Errorf("it lies in %d stretches, %v", len(st.runs), err)
	}
	if got := contentsOf(t, v)["x:"]; !bytes.Equal(got, want) {
		t.Error("it is not what it was")
	}
	if free, err := v.free(end.from+100, v.boot.clusters); err != nil || !free {
		t.Errorf("its end is not free, %v", err)
	}
}
