package disk

import (
	"cmp"
	"encoding/json"
	"slices"
	"sort"
)

// Range is the bytes from Start to End, which is not included. One that ends where it starts
// is empty.
type Range struct{ Start, End Bytes }

// Len is how many bytes there are in the range.
func (r Range) Len() Bytes { return r.End - r.Start }

// Meets tells that the two have a byte in common.
func (r Range) Meets(o Range) bool { return r.Start < o.End && o.Start < r.End }

// Set is a set of bytes: ranges in order, none of them empty, none touching the next.
type Set []Range

// NewSet is the bytes of all ranges, in whatever order they come and however they overlap.
func NewSet(ranges []Range) Set {
	sorted := slices.Clone(ranges)
	slices.SortFunc(sorted, func(a, b Range) int { return cmp.Compare(a.Start, b.Start) })
	out := sorted[:0]
	for _, r := range sorted {
		switch n := len(out); {
		case r.Len() <= 0:
		case n > 0 && r.Start <= out[n-1].End:
			out[n-1].End = max(out[n-1].End, r.End)
		default:
			out = append(out, r)
		}
	}
	return Set(out)
}

// first is the first range that ends behind a place.
func (s Set) first(at Bytes) int {
	return sort.Search(len(s), func(i int) bool { return s[i].End > at })
}

// Within are the parts of r that are in the set, in order.
func (s Set) Within(r Range) []Range {
	var out []Range
	for i := s.first(r.Start); i < len(s) && s[i].Start < r.End; i++ {
		out = append(out, Range{max(s[i].Start, r.Start), min(s[i].End, r.End)})
	}
	return out
}

// Outside are the parts of r that are not in the set, in order.
func (s Set) Outside(r Range) []Range {
	var out []Range
	at := r.Start
	for _, in := range s.Within(r) {
		if in.Start > at {
			out = append(out, Range{at, in.Start})
		}
		at = in.End
	}
	if at < r.End {
		out = append(out, Range{at, r.End})
	}
	return out
}

// Meets tells that the set has a byte of r.
func (s Set) Meets(r Range) bool {
	i := s.first(r.Start)
	return r.Len() > 0 && i < len(s) && s[i].Start < r.End
}

// Put returns the set with all of r in it; s is not to be used any more.
func (s Set) Put(r Range) Set {
	if r.Len() <= 0 {
		return s
	}
	i := sort.Search(len(s), func(i int) bool { return s[i].End >= r.Start })
	j := i
	for ; j < len(s) && s[j].Start <= r.End; j++ {
		r = Range{min(r.Start, s[j].Start), max(r.End, s[j].End)}
	}
	return slices.Replace(s, i, j, r)
}

// Cut returns the set without any of r; s is not to be used any more.
func (s Set) Cut(r Range) Set {
	if r.Len() <= 0 {
		return s
	}
	i := s.first(r.Start)
	j := i
	var left []Range
	for ; j < len(s) && s[j].Start < r.End; j++ {
		if s[j].Start < r.Start {
			left = append(left, Range{s[j].Start, r.Start})
		}
		if s[j].End > r.End {
			left = append(left, Range{r.End, s[j].End})
		}
	}
	return slices.Replace(s, i, j, left...)
}

// Bytes is how many bytes are in the set.
func (s Set) Bytes() (n Bytes) {
	for _, r := range s {
		n += r.Len()
	}
	return n
}

// MarshalJSON writes a range as a pair, start and end.
func (r Range) MarshalJSON() ([]byte, error) { return json.Marshal([2]Bytes{r.Start, r.End}) }

// UnmarshalJSON reads such a pair.
func (r *Range) UnmarshalJSON(b []byte) error {
	var pair [2]Bytes
	err := json.Unmarshal(b, &pair)
	r.Start, r.End = pair[0], pair[1]
	return err
}
