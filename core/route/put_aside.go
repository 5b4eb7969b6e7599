package route

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/volume"
)

// replaceOne looks for the ways in which a volume for files goes, is made again, smaller
// where that is needed, and gets its files back.
func (s *search) replaceOne(p *layout.Span, want disk.Bytes, sets [][]layout.Span) {
	var near []layout.Span
	for _, q := range s.l.Partitions() {
		if q.Number != p.Number && s.replaceable(&q) {
			near = append(near, q)
		}
	}
	away := func(q layout.Span) disk.LBA { return max(q.Start-p.End, p.Start-q.End) }
	slices.SortFunc(near, func(a, b layout.Span) int { return cmp.Compare(away(a), away(b)) })
	for _, q := range near[:min(len(near), nearOnes)] {
		least := disk.Bytes(-1)
		for _, set := range sets[:min(len(sets), 8)] {
			if numbers(set)[q.Number] {
				continue
			}
			gone := numbers(set)
			gone[q.Number] = true
			x := solve(s.l, p, want, gone, nil, s.f)
			if x.price < 0 || len(x.steps) == 0 {
				continue
			}
			if y := solve(s.l, p, want, numbers(set), nil, s.f); y.price >= 0 && y.price <= x.price {
				continue // it need not go
			}
			if least >= 0 && x.price >= least {
				continue // more goes, and nothing is won
			}
			least = x.price
			s.replace(&q, set, q.Bytes, x.steps...)
		}
	}
}

// replaceable tells whether a volume's files can be put aside and brought back.
func (s *search) replaceable(q *layout.Span) bool {
	return q.Role == layout.Data && q.Volume != nil && q.Volume.Kind == volume.NTFS && !slices.Contains(s.g.Keep, strconv.Itoa(q.Number)) &&
		plan.AgainstDeleting(s.l, q, s.f) == nil && plan.FilesOf(q, s.f) == nil && q.Volume.Clean
}

// replace adds the ways that copy a volume's files out, delete it and others, do steps, make
// it again in the room that is left, at most as large as wanted, and bring the files back.
func (s *search) replace(q *layout.Span, gone []layout.Span, size disk.Bytes, then ...plan.Step) {
	n := strconv.Itoa(q.Number)
	back := func(hold string) []plan.Step {
		return []plan.Step{{Partition: "again", Body: plan.CopyingBack{Backup: hold}}}
	}
	letter := func() []plan.Step {
		if q.Letter == "" || s.f.PC == nil {
			return nil
		}
		return []plan.Step{{Partition: "again", Body: plan.Lettering{Letter: q.Letter}}}
	}
	lay := func(steps []plan.Step) *layout.Layout {
		cols := plan.Lay(s.l, s.f, steps)
		return cols[len(cols)-1].Layout
	}
	least := q.Volume.UsedBytes + q.Volume.UsedBytes/20 + 64*disk.MiB
	made := func(steps []plan.Step) (plan.Creation, bool) {
		after := lay(steps)
		if after == nil {
			return plan.Creation{}, false
		}
		gap := plan.BiggestGap(after, func(g layout.Span) bool { return g.Container == q.Container })
		room := disk.Bytes(0)
		if gap != nil {
			if room = after.Room(*gap); q.Container != 0 {
				room -= disk.Grid // for its record
			}
		}
		if room < least {
			s.block(plan.NewObstacle(
				plan.GapTooSmall,
				fmt.Sprintf("%s would find no room again for the %s that are in it.", q.Title(), q.Volume.UsedBytes),
				q.Number,
			))
			return plan.Creation{}, false
		}
		again := plan.Again(s.l, q)
		again.As, again.StartLBA = "again", gap.Start.Offset(s.l.Sector).Up(disk.Grid).At(s.l.Sector)
		if again.Size = fmt.Sprintf("%d B", min(size, room)); q.Container != 0 {
			again.In = "container"
		}
		return again, true
	}
	all := append(slices.Clone(gone), *q)
	// Through the shelf.
	steps := append([]plan.Step{{Partition: n, Body: plan.CopyingOut{As: "kept"}}}, deletions(all)...)
	steps = append(steps, then...)
	if again, ok := made(steps); ok {
		s.add(gone, nil, slices.Concat(steps, []plan.Step{{Body: again}}, back("kept"), letter()))
	}
	// Through another volume of the drive: the one with the most room.
	var to *layout.Span
	for _, x := range s.l.Partitions() {
		if x.Number != q.Number && !numbers(gone)[x.Number] && plan.HoldsFiles(&x) && x.Role != layout.EFI && s.f.Shelved[x.Number] == "" && plan.MayTake(&x, least) == nil && (to == nil || x.Volume.Free() > to.Volume.Free()) {
			to = &x
		}
	}
	if to != nil {
		steps := append([]plan.Step{{Partition: n, Body: plan.CopyingOut{Volume: strconv.Itoa(to.Number), As: "kept"}}}, deletions(all)...)
		steps = append(steps, then...)
		if again, ok := made(steps); ok {
			s.add(gone, nil, slices.Concat(steps, []plan.Step{{Body: again}}, back("kept"), letter()))
		}
	}
	// Through a temporary one in a gap, as far from the start as there is room.
	var gap *layout.Span
	for i := range s.l.Spans {
		if g := &s.l.Spans[i]; g.Kind == layout.Gap && g.Why == layout.Free && g.Container == 0 && s.l.Room(*g) >= least {
			gap = g
		}
	}
	if gap != nil && to == nil {
		temp := plan.Creation{
			Size: fmt.Sprintf("%d B", least), Type: "basic", Format: "ntfs", Label: "Temporary", As: "temporary",
		}
		end := (gap.End + 1).Offset(s.l.Sector).Down(disk.Grid)
		temp.StartLBA = (end - least.Up(disk.Grid)).At(s.l.Sector)
		steps := append([]plan.Step{
			{Body: temp}, {Partition: n, Body: plan.CopyingOut{Volume: "temporary", As: "kept"}},
		}, deletions(all)...)
		steps = append(steps, then...)
		if again, ok := made(steps); ok {
			s.add(
				gone, nil,
				slices.Concat(
					steps, []plan.Step{{Body: again}}, back("kept"), []plan.Step{{Partition: "temporary", Body: plan.Deletion{}}},
					letter(),
				),
			)
		}
	}
}
