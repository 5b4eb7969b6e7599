package plan

import (
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// mostImproved bounds the plans that are looked through: every pair of steps is laid anew.
const mostImproved = 16

// Improved joins steps of a plan that one of them can do, and leaves out those that cancel each other. The drive at the
// end is the same, no more is asked for, and less is written or there are fewer steps. saved is how much less is
// written; steps are as they were where nothing can be improved.
func Improved(now *layout.Layout, f Facts, steps []Step) (better []Step, saved disk.Bytes) {
	better = steps
	if len(steps) < 2 || len(steps) > mostImproved {
		return better, 0
	}
	was, ok := worth(now, f, steps)
	if !ok {
		return better, 0
	}
	is := was
	for {
		next, w, found := improvedOnce(now, f, better, is)
		if !found {
			return better, was.price.Rewritten - is.price.Rewritten
		}
		better, is = next, w
	}
}

// worthOf is what a plan leads to, as one is held against another.
type worthOf struct {
	cols    []Column
	end     *layout.Layout
	price   Price
	missing int
}

// worth lays a plan; it returns false for one that cannot be done.
func worth(now *layout.Layout, f Facts, steps []Step) (w worthOf, ok bool) {
	w.cols = Lay(now, f, steps)
	for _, c := range w.cols {
		if len(c.Obstacles) > 0 || c.Layout == nil {
			return w, false
		}
		w.missing += len(c.Missing)
	}
	if w.end = now; len(w.cols) > 0 {
		w.end = w.cols[len(w.cols)-1].Layout
	}
	w.price = PriceOf(now, w.cols, f)
	return w, true
}

// improvedOnce tries each pair of steps that change the place or the size of the same partition.
func improvedOnce(now *layout.Layout, f Facts, steps []Step, w worthOf) ([]Step, worthOf, bool) {
	for i, a := range steps {
		if !resizes(a) {
			continue
		}
		for j := i + 1; j < len(steps); j++ {
			if b := steps[j]; !resizes(b) || b.Partition != a.Partition {
				continue
			}
			without := slices.Delete(slices.Delete(slices.Clone(steps), j, j+1), i, i+1)
			tries := [][]Step{without}
			if one, ok := joined(now, w.cols, i, j); ok {
				tries = append(tries, slices.Insert(slices.Clone(without), j-1, one), slices.Insert(slices.Clone(without), i, one))
			}
			for _, t := range tries {
				x, ok := worth(now, f, t)
				less := x.price.Rewritten <= w.price.Rewritten && x.missing <= w.missing && x.price.Seconds <= w.price.Seconds
				if ok && less && len(layout.Differ(w.end, x.end)) == 0 {
					return t, x, true
				}
			}
		}
	}
	return nil, w, false
}

// resizes tells that a step changes the place or the size of its partition, and nothing else.
func resizes(s Step) bool {
	switch b := s.Body.(type) {
	case Growth, Sliding:
		return true
	case Shrinking:
		return !b.DropRestorePoints
	}
	return false
}

// exactly is an amount as a step has it, in the largest unit in which it is whole.
func exactly(n disk.Bytes) string {
	switch {
	case n%disk.GiB == 0:
		return fmt.Sprintf("%d GiB", n/disk.GiB)
	case n%disk.MiB == 0:
		return fmt.Sprintf("%d MiB", n/disk.MiB)
	}
	return fmt.Sprintf("%d B", n)
}

// joined is the one step that leads from what a partition was before step i to what it is after step j, where one can.
func joined(now *layout.Layout, cols []Column, i, j int) (Step, bool) {
	before := now
	if i > 0 {
		before = cols[i-1].Layout
	}
	p, was := before.Find(cols[i].Number)
	q, is := cols[j].Layout.Find(cols[j].Number)
	if !was || !is || p.Number != q.Number {
		return Step{}, false
	}
	s := Step{Partition: cols[i].Step.Partition}
	by := func(n disk.LBA) string { return exactly(n.Offset(now.Sector)) }
	switch {
	case p.Start == q.Start && q.End > p.End:
		s.Body = Growth{By: by(q.End - p.End)}
	case p.Start == q.Start && q.End < p.End:
		s.Body = Shrinking{By: by(p.End - q.End)}
	case p.End == q.End && q.Start < p.Start:
		s.Body = Growth{By: by(p.Start - q.Start), Edge: "head"}
	case p.End == q.End && q.Start > p.Start:
		s.Body = Shrinking{By: by(q.Start - p.Start), Edge: "head"}
	case q.Start-p.Start == q.End-p.End && q.Start > p.Start:
		s.Body = Sliding{By: by(q.Start - p.Start)}
	case q.Start-p.Start == q.End-p.End && q.Start < p.Start:
		s.Body = Sliding{By: "-" + by(p.Start-q.Start)}
	default:
		return Step{}, false
	}
	return s, true
}
