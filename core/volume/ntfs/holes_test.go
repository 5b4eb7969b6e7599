package ntfs

import (
	"math/rand/v2"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// TestHoles divides sparse files among clusters: every cluster is mapped once, in order, no hole takes
// in a byte that was not one, and holes are as long as they can be.
func TestHoles(t *testing.T) {
	rng := rand.New(rand.NewPCG(16, 4))
	const cluster = 4096
	l := &loader{v: &Volume{boot: &boot{cluster: cluster}}}
	for range 300 {
		f := &volume.Incoming{File: volume.File{Kind: volume.Plain, Bytes: disk.Bytes(70_000 + rng.IntN(3_000_000)), Extents: []volume.Extent{{}}}, Detail: volume.Detail{Attributes: volume.AttrSparse}}
		zero := make([]bool, l.clusters(f.Bytes)*cluster) // what lies behind the end is none of the file's
		for i := f.Bytes; int(i) < len(zero); i++ {
			zero[i] = true
		}
		for at := disk.Bytes(rng.IntN(100_000)); at < f.Bytes; {
			h := volume.Extent{Off: at, Len: min(disk.Bytes(1+rng.IntN(400_000)), f.Bytes-at)}
			f.Holes = append(f.Holes, h)
			for i := range h.Len {
				zero[h.Off+i] = true
			}
			at += h.Len + disk.Bytes(1+rng.IntN(200_000))
		}
		holes := l.holes(f)
		var data []run
		for left, lcn := l.clusters(f.Bytes)-together(holes), int64(1000); left > 0; {
			n := min(left, 1+rng.Int64N(60))
			data = append(data, run{vcn: l.clusters(f.Bytes), lcn: lcn, n: n})
			left, lcn = left-n, lcn+n+5
		}
		runs := withHoles(data, holes)
		next, back := int64(0), int64(0)
		for _, r := range runs {
			if r.vcn != next {
				t.Fatalf("%v: a run begins at %d, not %d", f.Holes, r.vcn, next)
			}
			next += r.n
			if r.lcn >= 0 {
				back += r.n
				continue
			}
			if r.vcn%sparseUnit != 0 || r.n%sparseUnit != 0 && next != l.clusters(f.Bytes) {
				t.Fatalf("a hole from %d to %d", r.vcn, next)
			}
			for i := r.vcn * cluster; i < next*cluster; i++ {
				if !zero[i] {
					t.Fatalf("byte %d is lost in a hole", i)
				}
			}
		}
		if next != l.clusters(f.Bytes) || back != taken(runs) || back != l.clusters(f.Bytes)-together(holes) {
			t.Fatalf("%v: %d clusters are mapped, %d of them taken", f.Holes, next, back)
		}
		for unit := int64(0); (unit+1)*sparseUnit <= l.clusters(f.Bytes); unit++ {
			all := true
			for i := unit * sparseUnit * cluster; i < (unit+1)*sparseUnit*cluster && all; i++ {
				all = zero[i]
			}
			in := false
			for _, h := range holes {
				in = in || h.vcn <= unit*sparseUnit && (unit+1)*sparseUnit <= h.vcn+h.n
			}
			whole := false // of one hole: two that touch are two
			for _, h := range f.Holes {
				whole = whole || h.Off <= disk.Bytes(unit*sparseUnit*cluster) && disk.Bytes((unit+1)*sparseUnit*cluster) <= h.Off+h.Len
			}
			if all && whole && !in {
				t.Fatalf("%v: the unit %d has clusters", f.Holes, unit)
			}
		}
	}
	hostile := &volume.Incoming{File: volume.File{Kind: volume.Plain, Bytes: 1 << 20, Extents: []volume.Extent{{}}}, Detail: volume.Detail{Attributes: volume.AttrSparse},
		Holes: []volume.Extent{{Off: -1 << 20, Len: 1 << 20}, {Off: 0, Len: 1 << 62}, {Off: 1 << 62, Len: 5}, {Off: 5 << 16, Len: 3 << 16}, {Off: 1 << 16, Len: 3 << 16}, {Off: 1, Len: -7}}}
	if got := l.holes(hostile); len(got) != 1 || got[0] != (run{80, -1, 48}) {
		t.Errorf("holes that lie nowhere, or go backwards: %v", got)
	}
}
