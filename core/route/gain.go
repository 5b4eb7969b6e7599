package route

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

// gain looks for the ways to make a volume larger.
func (s *search) gain() {
	p, o := plan.Named(s.l, s.g.Receiver)
	if o == nil {
		o = plan.Resizable(p, s.f)
	}
	if o != nil {
		s.block(o)
		return
	}
	var may []layout.Span
	for _, q := range s.l.ByPlace() {
		if q.Number == p.Number || q.Role == layout.Container {
			continue
		}
		if o := s.mayGo(&q); o == nil {
			may = append(may, q)
		} else if q.Container == p.Container && q.Start > p.End {
			s.block(o)
		}
	}
	sets := selections(may, p)
	give := s.giving(p)
	// The more goes and gives, the more there is to gain.
	s.Most = solve(s.l, p, 0, numbers(may), give, s.f).most
	// All, or a share, is of what is free: nobody gives, and what goes was named.
	whole := solve(s.l, p, 0, nil, nil, s.f).most
	if len(s.g.MayDelete) > 0 || whole == 0 {
		whole = solve(s.l, p, 0, numbers(may), nil, s.f).most
	}
	if !disk.Relative(s.g.Gain) {
		whole = s.Most
	}
	want, err := disk.ParseAmount(s.g.Gain, whole)
	if err != nil || want > s.Most {
		if want > 0 || s.Most > 0 {
			s.Obstacles = append([]plan.Obstacle{*plan.NewObstacle(
				plan.GapTooSmall,
				fmt.Sprintf("%s can gain %s at most (%s) with what may go.", p.Title(), s.Most, s.Most.Exact()),
				p.Number,
			)}, s.Obstacles...)
		} else if _, o := plan.RoomToGrow(s.l, p, s.f); o != nil {
			s.Obstacles = append([]plan.Obstacle{*o}, s.Obstacles...)
		} else {
			s.block(plan.NewObstacle(
				plan.GapTooSmall, fmt.Sprintf("%s cannot gain anything with what may go.", p.Title()), p.Number,
			))
		}
		return
	}
	if want <= 0 {
		return
	}
	s.reach(p, want, sets, give)
	s.replaceOne(p, want, sets)
	s.takeIn(p, want)
	s.moveFiles(p, want)
}

// giving are the volumes that may give: those that the goal names all they can, or, when it
// names none, every volume for files what leaves it some room.
func (s *search) giving(r *layout.Span) givers {
	give := givers{}
	for _, p := range s.l.Partitions() {
		a := plan.ShrinkAct(s.l, &p, s.f)
		if p.Number == r.Number || a.Obstacle != nil {
			continue
		}
		switch name := strconv.Itoa(p.Number); {
		case slices.Contains(s.g.Givers, name):
			give[p.Number] = a.Limit
		case len(s.g.Givers) == 0 && (p.Role == layout.Data || p.Role == layout.OtherSystem):
			if most := min(a.Limit, p.Volume.Free()-reserve(p.Volume)); most >= disk.Grid {
				give[p.Number] = most
			}
		}
	}
	return give
}

// reach tries every selection of what may go, with and without givers, and lays out those
// that no other beats.
func (s *search) reach(p *layout.Span, want disk.Bytes, sets [][]layout.Span, give givers) {
	var all []draft
	for _, set := range sets {
		for _, g := range []givers{nil, give} {
			if g != nil && len(g) == 0 {
				continue
			}
			x := solve(s.l, p, want, numbers(set), g, s.f)
			if x.price < 0 || len(x.steps) == 0 {
				continue
			}
			d := draft{gone: set, steps: x.steps, price: x.price + disk.Bytes(len(set))*plan.TableSectors*s.l.Sector}
			for _, q := range set {
				if q.Volume != nil {
					d.lost++
				}
			}
			if slices.ContainsFunc(x.steps, func(x plan.Step) bool {
				return x.Do() == plan.Slide || x.Do() == plan.Shrink || x.Do() == plan.Container || x.AtHead()
			}) {
				d.later = true
			}
			d.gives = slices.ContainsFunc(x.steps, func(x plan.Step) bool { return x.Do() == plan.Shrink })
			all = append(all, d)
		}
	}
	for i, d := range all {
		beaten := func(e draft) bool {
			return e.price <= d.price && len(e.gone) <= len(d.gone) && e.lost <= d.lost && (!e.later || d.later) && (!e.gives || d.gives)
		}
		if !slices.ContainsFunc(all[:i], beaten) && !slices.ContainsFunc(all[i+1:], func(e draft) bool { return beaten(e) && e.price < d.price }) {
			s.try(d.gone, d.steps...)
		}
	}
}

// draft is a way that has been found and is not yet laid out.
type draft struct {
	gone  []layout.Span
	steps []plan.Step
	price disk.Bytes
	lost  int
	gives bool
	later bool
}

// takeIn absorbs a neighbour whose place is enough for what is wanted.
func (s *search) takeIn(p *layout.Span, want disk.Bytes) {
	for _, q := range s.l.Partitions() {
		if q.Container == p.Container && q.Start > p.End && q.Bytes >= want && q.Role == layout.Data && q.Volume != nil && !slices.Contains(s.g.Keep, strconv.Itoa(q.Number)) && plan.Covered(s.without(&q), p.End+1, q.End, p.Container) {
			s.add(nil, nil, []plan.Step{{Partition: strconv.Itoa(q.Number), Body: plan.Absorbing{Into: s.g.Receiver}}})
		}
	}
}

// mostFolders bounds how many folders a route moves.
const mostFolders = 3

// moveFiles makes room in a volume by moving folders of people's files to another one of the
// drive: what is moved then is files, not partitions.
func (s *search) moveFiles(p *layout.Span, want disk.Bytes) {
	var chosen []plan.Folder
	sum := disk.Bytes(0)
	for _, x := range s.f.Insides[p.Number].Folders {
		if sum >= want || len(chosen) == mostFolders {
			break
		}
		if !slices.ContainsFunc(chosen, func(y plan.Folder) bool {
			return strings.HasPrefix(x.Path+"/", y.Path+"/") || strings.HasPrefix(y.Path+"/", x.Path+"/")
		}) {
			chosen, sum = append(chosen, x), sum+x.Bytes
		}
	}
	if sum < want || len(chosen) == 0 {
		return
	}
	// The smallest of them that is enough by itself moves less.
	for _, x := range s.f.Insides[p.Number].Folders {
		if x.Bytes >= want && x.Bytes <= sum {
			chosen, sum = []plan.Folder{x}, x.Bytes
		}
	}
	for _, q := range s.l.Partitions() {
		if q.Number == p.Number || !plan.HoldsFiles(&q) || q.Role == layout.EFI || s.f.Shelved[q.Number] != "" || plan.MayTake(&q, sum+sum/100) != nil {
			continue
		}
		var steps []plan.Step
		for _, x := range chosen {
			move := plan.CopyingOut{Volume: strconv.Itoa(q.Number), Only: []string{x.Path}, Move: true}
			steps = append(steps, plan.Step{Partition: s.g.Receiver, Body: move})
		}
		s.add(nil, nil, steps)
	}
}
