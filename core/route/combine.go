package route

import (
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

// combine makes one of two volumes: one keeps its place, the other's files come into a
// folder of it.
func (s *search) combine() {
	if s.g.KeepPlace == "" {
		g := *s.g
		g.KeepPlace, s.g = g.Combine[0], &g
	}
	keep := s.g.KeepPlace
	from := s.g.Combine[0]
	if from == keep {
		from = s.g.Combine[1]
	}
	p, o := plan.Named(s.l, keep)
	q, o2 := plan.Named(s.l, from)
	for _, o := range []*plan.Obstacle{o, o2} {
		if o != nil {
			s.block(o)
			return
		}
	}
	if o := plan.AgainstDeleting(s.l, q, s.f); o != nil {
		s.block(o)
		return
	}
	s.Most = q.Bytes
	gone := map[int]bool{q.Number: true}
	absorbs := plan.Step{Partition: from, Body: plan.Absorbing{Into: keep}}
	s.add(nil, nil, []plan.Step{absorbs})
	if plan.Resizable(p, s.f) != nil || plan.FilesOf(q, s.f) != nil {
		return
	}
	// Where its place does not touch the one that stays, what lies between slides.
	moved := solve(s.l, p, q.Bytes.Down(disk.Grid), gone, nil, s.f)
	if direct := plan.Covered(s.without(q), p.End+1, q.End, p.Container) && q.Start > p.End; !direct && moved.price >= 0 {
		s.add(nil, nil, append([]plan.Step{absorbs}, moved.steps...))
	}
	// It grows first, and the files follow.
	if need := q.Volume.UsedBytes - p.Volume.Free(); need > 0 {
		if x := solve(s.l, p, (need + need/20 + disk.GiB).Up(disk.Grid), nil, nil, s.f); x.price >= 0 {
			s.add(nil, nil, append(x.steps, absorbs))
		}
		if x := solve(s.l, p, q.Bytes.Down(disk.Grid), nil, nil, s.f); x.price >= 0 {
			s.add(nil, nil, append(x.steps, absorbs))
		}
	}
	// The files wait on the shelf, or in another volume, and arrive once there is room.
	folder := "From " + strings.TrimPrefix(plan.HoldFolder(q), "Kept from ")
	back := plan.Step{Partition: keep, Body: plan.CopyingBack{Backup: "kept", Folder: folder}}
	ends := [][]plan.Step{nil}
	if moved.price >= 0 && len(moved.steps) > 0 {
		ends = append(ends, moved.steps)
	}
	holds := []plan.Step{{Partition: from, Body: plan.CopyingOut{As: "kept"}}}
	for _, x := range s.l.Partitions() {
		if x.Number != p.Number && x.Number != q.Number && plan.HoldsFiles(&x) && x.Role != layout.EFI && s.f.Shelved[x.Number] == "" && plan.MayTake(&x, q.Volume.UsedBytes) == nil {
			holds = append(holds, plan.Step{Partition: from, Body: plan.CopyingOut{Volume: strconv.Itoa(x.Number), As: "kept"}})
		}
	}
	for _, hold := range holds {
		for _, then := range ends {
			s.add(
				nil, nil,
				slices.Concat([]plan.Step{hold, {Partition: from, Body: plan.Deletion{}}}, then, []plan.Step{back}),
			)
		}
	}
}
