package script

import (
	"cmp"
	"slices"

	"jadetrail/core/disk"
)

// Places are the ranges that a script touches, in order, each stretch once; those that
// lie no more than apart from each other are one.
func (s Script) Places(apart disk.Bytes) []disk.Range {
	out := make([]disk.Range, 0, len(s))
	for _, op := range s {
		if op.Len > 0 {
			out = append(out, disk.Range{Start: op.Off, End: op.Off + op.Len + op.Pad})
		}
	}
	slices.SortFunc(out, func(a, b disk.Range) int { return cmp.Compare(a.Start, b.Start) })
	n := 0
	for _, p := range out {
		if n > 0 && p.Start <= out[n-1].End+apart {
			out[n-1].End = max(out[n-1].End, p.End)
			continue
		}
		out[n] = p
		n++
	}
	return out[:n]
}
