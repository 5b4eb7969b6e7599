package script

import (
	"math/rand/v2"
	"slices"
	"testing"

	"jadetrail/core/disk"
)

// TestOrigins holds what is worked out against a drive whose bytes say where they were.
func TestOrigins(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 6))
	for round := range 400 {
		const size = 200
		var s Script
		was := make([]int, size)
		for i := range was {
			was[i] = i
		}
		for range rng.IntN(12) {
			n := 1 + rng.IntN(60)
			off, from := rng.IntN(size-n), rng.IntN(size-n)
			if rng.IntN(3) == 0 && round%4 > 0 {
				s = append(s, Op{Kind: Move, Off: disk.Bytes(off), From: disk.Bytes(from), Len: disk.Bytes(n)})
				copy(was[off:off+n], slices.Clone(was[from:from+n]))
				continue
			}
			s = append(s, Op{Kind: Hole, Off: disk.Bytes(off), Len: disk.Bytes(n - 1), Pad: 1})
			for i := range n {
				was[off+i] = -1 - i - 1000*len(s)
			}
		}
		o := s.Origins()
		for range 20 {
			n := 1 + rng.IntN(80)
			off := rng.IntN(size - n)
			var got []int
			for _, p := range o.Of(disk.Bytes(off), disk.Bytes(n)) {
				for i := range p.Len {
					if p.From < 0 {
						got = append(got, -1-int(p.Within+i)-1000*p.By)
					} else {
						got = append(got, int(p.From+i))
					}
				}
			}
			if !slices.Equal(got, was[off:off+n]) {
				t.Fatalf("round %d, %d bytes at %d: %v instead of %v, %+v", round, n, off, got, was[off:off+n], s)
			}
			changed := func() bool {
				for i := range n {
					if was[off+i] != off+i {
						return true
					}
				}
				return false
			}()
			if changed && !o.Touches(disk.Bytes(off), disk.Bytes(n)) {
				t.Fatalf("round %d: %d bytes at %d are not said to be touched", round, n, off)
			}
		}
	}
}
