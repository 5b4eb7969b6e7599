package ntfs

import (
	"cmp"
	"fmt"
	"slices"
)

// space is the clusters of a volume that are free, and what of them is taken.
type space struct {
	free   []stretch // in order
	at     int       // of the stretch from which is taken next
	toobig int64     // no stretch is as long as this
	left   int64
	taken  []stretch
	given  []stretch // clusters given back
}

type stretch struct{ from, to int64 }

func (v *Volume) space() (*space, error) {
	s, next := &space{toobig: 1 << 62}, int64(0)
	add := func(to int64) {
		if next < to {
			s.free = append(s.free, stretch{next, to})
			s.left += to - next
		}
	}
	if err := v.eachUsed(func(from, to int64) error {
		add(from)
		next = to
		return nil
	}); err != nil {
		return nil, err
	}
	add(v.boot.clusters)
	return s, nil
}

// before leaves only what is free before a cluster.
func (s *space) before(end int64) {
	var kept []stretch
	s.left = 0
	for _, f := range s.free {
		if f.to = min(f.to, end); f.from < f.to {
			kept = append(kept, f)
			s.left += f.to - f.from
		}
	}
	s.free = kept
}

// take allocates n clusters: in one piece where there is one that is long enough, else
// in as few as possible.
func (s *space) take(n int64) ([]run, error) {
	if n > s.left {
		return nil, ErrFull
	}
	if n < s.toobig {
		for k := range len(s.free) {
			i := (s.at + k) % len(s.free)
			if f := &s.free[i]; f.to-f.from >= n {
				s.at = i
				return []run{{lcn: s.cut(f, n), n: n}}, nil
			}
		}
		s.toobig = n
	}
	order := make([]int, len(s.free))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		return cmp.Compare(s.free[b].to-s.free[b].from, s.free[a].to-s.free[a].from)
	})
	var runs []run
	vcn := int64(0)
	for _, i := range order {
		f := &s.free[i]
		k := min(n-vcn, f.to-f.from)
		runs = append(runs, run{vcn: vcn, lcn: s.cut(f, k), n: k})
		if vcn += k; vcn == n {
			return runs, nil
		}
	}
	return nil, fmt.Errorf("%w: %d clusters are wanted", ErrFull, n)
}

// cut takes n clusters from the start of a stretch.
func (s *space) cut(f *stretch, n int64) int64 {
	lcn := f.from
	f.from += n
	s.left -= n
	s.taken = append(s.taken, stretch{lcn, lcn + n})
	return lcn
}

// piece takes n clusters that lie together, if there are such.
func (s *space) piece(n int64) (lcn int64, ok bool) {
	for i := range s.free {
		if f := &s.free[i]; f.to-f.from >= n {
			return s.cut(f, n), true
		}
	}
	return 0, false
}

// undo makes free again what was taken, and takes back what was given, after there were so
// many stretches of each.
func (s *space) undo(taken, given int) {
	s.free = append(s.free, s.taken[taken:]...)
	slices.SortFunc(s.free, func(a, b stretch) int { return cmp.Compare(a.from, b.from) })
	var joined []stretch
	s.left = 0
	for _, f := range s.free {
		s.left += f.to - f.from
		if n := len(joined) - 1; n >= 0 && joined[n].to == f.from {
			joined[n].to = f.to
		} else if f.from < f.to {
			joined = append(joined, f)
		}
	}
	s.free, s.at, s.toobig = joined, 0, 1<<62
	s.taken, s.given = s.taken[:taken], s.given[:given]
}

// claim takes n clusters at lcn, which must be free.
func (s *space) claim(lcn, n int64) error {
	i, _ := slices.BinarySearchFunc(s.free, lcn, func(f stretch, at int64) int {
		if f.to <= at {
			return -1
		}
		return 1
	})
	if n <= 0 || i >= len(s.free) || lcn < s.free[i].from || lcn+n > s.free[i].to {
		return fmt.Errorf("%w: clusters %d to %d are not free", ErrFull, lcn, lcn+n-1)
	}
	f := s.free[i]
	s.free = slices.Replace(s.free, i, i+1, stretch{f.from, lcn}, stretch{lcn + n, f.to})
	s.left -= n
	s.taken = append(s.taken, stretch{lcn, lcn + n})
	return nil
}

// behind takes n clusters at lcn if they are free.
func (s *space) behind(lcn, n int64) bool {
	i, _ := slices.BinarySearchFunc(s.free, lcn, func(f stretch, at int64) int {
		if f.to <= at {
			return -1
		}
		return 1
	})
	if i >= len(s.free) || s.free[i].from != lcn || s.free[i].to-lcn < n {
		return false
	}
	s.cut(&s.free[i], n)
	return true
}

// give marks the clusters of runs as free again; they are not taken any more by what
// is being done, so that undo finds them as they were.
func (s *space) give(runs []run) {
	for _, r := range runs {
		if r.lcn >= 0 {
			s.given = append(s.given, stretch{r.lcn, r.lcn + r.n})
		}
	}
}
