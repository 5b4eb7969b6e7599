package disk

import (
	"encoding/json"
	"math/rand/v2"
	"testing"
)

// TestSet holds sets against a slice of bytes that are in or out.
func TestSet(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 1))
	const size = 60
	random := func() Range {
		start := Bytes(rng.IntN(size))
		return Range{start, start + Bytes(rng.IntN(int(size-start)+1))}
	}
	for round := range 500 {
		var in [size]bool
		var first []Range
		for range rng.IntN(4) {
			first = append(first, random())
		}
		mark := func(r Range, to bool) {
			for at := r.Start; at < r.End; at++ {
				in[at] = to
			}
		}
		for _, r := range first {
			mark(r, true)
		}
		s := NewSet(first)
		for range rng.IntN(8) {
			r := random()
			if put := rng.IntN(2) == 0; put {
				s = s.Put(r)
				mark(r, true)
			} else {
				s = s.Cut(r)
				mark(r, false)
			}
		}
		for i, r := range s {
			if r.Len() <= 0 || i > 0 && s[i-1].End >= r.Start {
				t.Fatalf("round %d: %v is not in order", round, s)
			}
		}
		r := random()
		var within, outside, all [size]bool
		for _, x := range s.Within(r) {
			for at := x.Start; at < x.End; at++ {
				within[at] = true
			}
		}
		for _, x := range s.Outside(r) {
			for at := x.Start; at < x.End; at++ {
				outside[at] = true
			}
		}
		meets, n := false, Bytes(0)
		for _, x := range s {
			for at := x.Start; at < x.End; at++ {
				all[at] = true
			}
			n += x.Len()
		}
		for at := range Bytes(size) {
			inside := at >= r.Start && at < r.End
			meets = meets || inside && in[at]
			if all[at] != in[at] || within[at] != (inside && in[at]) || outside[at] != (inside && !in[at]) {
				t.Fatalf("round %d, byte %d of %v in %v: set %v, within %v, outside %v", round, at, r, s, all[at], within[at], outside[at])
			}
		}
		if s.Meets(r) != meets || s.Bytes() != n {
			t.Fatalf("round %d: %v meets %v: %v, want %v; %d bytes, want %d", round, s, r, s.Meets(r), meets, s.Bytes(), n)
		}
	}
}

// TestRangeJSON holds the form in which ranges stand in files: pairs.
func TestRangeJSON(t *testing.T) {
	b, err := json.Marshal([]Range{{0, 512}, {4096, 8192}})
	if err != nil || string(b) != "[[0,512],[4096,8192]]" {
		t.Fatalf("%s, %v", b, err)
	}
	var back []Range
	if err := json.Unmarshal(b, &back); err != nil || len(back) != 2 || back[1] != (Range{4096, 8192}) {
		t.Errorf("%v, %v", back, err)
	}
	if err := json.Unmarshal([]byte(`[{"Start":1}]`), &back); err == nil {
		t.Error("something else was read as a range")
	}
}
