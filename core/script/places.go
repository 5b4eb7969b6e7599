package script

import (
	"cmp"
	"slices"

	"jadetrail/core/disk"
)

// Places are the ranges that a script touches, in order, each stretch once; those that
// lie no more than apart from each other are one.
func (s Script) Places(apart disk.Bytes) [][2]disk.Bytes {
	out := make([][2]disk.Bytes, 0, len(s))
	for _, op := range s {
		if op.Len > 0 {
			out = append(out, [2]disk.Bytes{op.Off, op.Off + op.Len + op.Pad})
		}
	}
	slices.SortFunc(out, func(a, b [2]disk.Bytes) int { return cmp.Compare(a[0], b[0]) })
	n := 0
	for _, p := range out {
		if n > 0 && p[0] <= out[n-1][1]+apart {
			out[n-1][1] = max(out[n-1][1], p[1])
			continue
		}
		out[n] = p
		n++
	}
	return out[:n]
}
