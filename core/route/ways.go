package route

import (
	"cmp"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// mostGone bounds of how many partitions every selection is tried; of more, only those that
// lie side by side.
const mostGone = 6

// nearOnes is how many to either side are tried one by one then.
const nearOnes = 2

// selections are the sets of partitions that may go, worth trying: none first.
func selections(all []layout.Span, r *layout.Span) [][]layout.Span {
	out := [][]layout.Span{nil}
	if len(all) <= mostGone {
		for bits := 1; bits < 1<<len(all); bits++ {
			var set []layout.Span
			for i := range all {
				if bits>>i&1 == 1 {
					set = append(set, all[i])
				}
			}
			out = append(out, set)
		}
		return out
	}
	at, _ := slices.BinarySearchFunc(all, r.Start, func(p layout.Span, at disk.LBA) int { return cmp.Compare(p.Start, at) })
	for i := max(at-nearOnes, 0); i < min(at+nearOnes, len(all)); i++ { // each that is near, and runs to either side
		out = append(out, all[i:i+1])
	}
	for n := 2; n <= mostGone; n++ {
		if at+n <= len(all) {
			out = append(out, all[at:at+n])
		}
		if at-n >= 0 {
			out = append(out, all[at-n:at])
		}
	}
	return append(out, all)
}

// reserve is what a volume keeps free that gives some of its room without being told how
// much.
func reserve(v *volume.Info) disk.Bytes { return v.UsedBytes/10 + disk.GiB }
