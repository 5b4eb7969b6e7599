package route

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

// The solver finds, among all plans of shrink, slide and grow that give a volume more
// room, one that rewrites the fewest bytes.
//
// Partitions keep their order, so a plan comes down to where each begins and ends
// afterwards. Seen from the receiver, the drive is a chain to either side: what stands next
// makes way by moving, by giving something up, or both, and passes the rest of the demand
// on across the gap behind it. For each link there is a frontier: how far it can make way
// at which price, without the choices that another beats in both. A frontier follows
// from the one of the next link, so the work grows with the links, not with their
// combinations.

// link is something that stands in the chain: a partition, or an edge of a container.
type link struct {
	p      *layout.Span // the partition, or the container
	edge   bool         // of the container, which has no width
	lo, hi disk.LBA     // hi is included
	fixed  bool
	slide  disk.Bytes // price of moving it
	cuts   []cut      // what it can give up at its end
	head   int64      // MiB that it can give up at its head, all for the price of a move
}

// cut is how much a volume can give up at its end for a price.
type cut struct {
	mib   int64
	price disk.Bytes
}

// way is one choice of a link and of those behind it: it makes way by up to mib.
type way struct {
	mib   int64
	price disk.Bytes
	steps int
	how   how
	cut   int64 // at most, of what it gives up
	next  *way  // of the link behind, nil for only the gap
	gap   int64 // MiB up to that
}

type how byte

const (
	moving how = iota
	gives      // at its end, and stays
	givesHead
	widens // an edge of a container
)

// givers are the volumes that may give something up, and how much at most.
type givers map[int]disk.Bytes

// chain lays the drive out as links in order, without those that go; at is the place of
// the receiver.
func chain(l *layout.Layout, r int, gone map[int]bool, give givers, f plan.Facts) (links []link, at int) {
	usable := l.FirstUsable.Offset(l.Sector).Up(disk.Grid).At(l.Sector)
	links = append(links, link{hi: usable - 1, fixed: true})
	at = -1
	crowd := len(give) > fewGivers
	var in *layout.Span
	leave := func() {
		if in != nil {
			links = append(links, link{p: in, edge: true, lo: in.End + 1, hi: in.End})
			in = nil
		}
	}
	for i := range l.Spans {
		p := &l.Spans[i]
		if p.Kind != layout.Partition || gone[p.Number] {
			continue
		}
		if in != nil && p.Container != in.Number {
			leave()
		}
		if p.Role == layout.Container {
			links, in = append(links, link{p: p, edge: true, lo: p.Start, hi: p.Start - 1}), p
			continue
		}
		if p.Number == r {
			at = len(links)
		}
		k := link{p: p, lo: p.Head(), hi: p.End, slide: plan.SlideBytes(p) + plan.TableSectors*l.Sector}
		k.fixed = plan.Movable(p, f) != nil || f.Shelved[p.Number] != ""
		most := disk.Bytes(0)
		if give[p.Number] > 0 {
			most = min(give[p.Number], plan.ShrinkAct(l, p, f).Limit).Down(disk.Grid)
		}
		if most > 0 && f.Shelved[p.Number] == "" {
			k.head = int64(most / disk.MiB)
			if k.cuts = cutsOf(l, p, most); crowd {
				k.cuts = thin(k.cuts, someCuts)
			}
		}
		links = append(links, k)
	}
	leave()
	end := l.LastUsable
	if last := l.Size.At(l.Sector) - 1; end > last {
		end = last
	}
	return append(links, link{lo: (end + 1).Offset(l.Sector).Down(disk.Grid).At(l.Sector), fixed: true}), at
}

// cutsOf are the amounts at which giving up more begins to cost more, up to most.
func cutsOf(l *layout.Layout, p *layout.Span, most disk.Bytes) (out []cut) {
	if (p.End+1).Offset(l.Sector)%disk.Grid != 0 {
		return nil // what it gives up is not what is asked of it
	}
	v := p.Volume
	sizes := []disk.Bytes{p.Bytes - most, v.ShrinkCut}
	if n := disk.Bytes(len(v.Use)); n > 0 {
		part := (v.TotalBytes + n - 1) / n
		for i := disk.Bytes(1); i < n; i++ {
			sizes = append(sizes, i*part)
		}
	}
	for _, size := range sizes {
		by := (p.Bytes - size).Down(disk.Grid)
		if by < disk.Grid || by > most {
			continue
		}
		out = append(out, cut{int64(by / disk.MiB), plan.CutBytes(p, p.Bytes-by) + plan.TableSectors*l.Sector})
	}
	slices.SortFunc(out, func(a, b cut) int { return cmp.Or(cmp.Compare(a.price, b.price), cmp.Compare(b.mib, a.mib)) })
	kept := out[:0]
	for _, c := range out {
		if len(kept) == 0 || c.mib > kept[len(kept)-1].mib {
			kept = append(kept, c)
		}
	}
	return kept
}

// With up to fewGivers volumes that may give something up, every amount at which that begins
// to cost more is weighed. With more of them only some are, and a frontier keeps so many
// ways at most: the result is then good, and no longer proven to be the best.
const (
	fewGivers = 7
	someCuts  = 4
	someWays  = 48
)

// thin leaves so many, spread evenly, with the first and the last.
func thin[T any](all []T, most int) []T {
	if len(all) <= most {
		return all
	}
	out := make([]T, most)
	for i := range out {
		out[i] = all[i*(len(all)-1)/(most-1)]
	}
	return out
}

// frontier leaves out what another way beats in both how far it goes and its price.
func frontier(ways []way) []way {
	slices.SortFunc(ways, func(a, b way) int {
		return cmp.Or(cmp.Compare(a.price, b.price), cmp.Compare(b.mib, a.mib), cmp.Compare(a.steps, b.steps))
	})
	kept := ways[:0]
	for _, w := range ways {
		if len(kept) == 0 || w.mib > kept[len(kept)-1].mib {
			kept = append(kept, w)
		}
	}
	return slices.Clone(kept)
}

// between is the room from one link to the next, in whole MiB.
func between(l *layout.Layout, a, b *link) int64 {
	room := (b.lo - a.hi - 1).Offset(l.Sector)
	if a.edge && b.edge && a.p == b.p { // an empty container keeps a little
		room -= 2 * disk.Grid
	}
	return int64(max(room, 0) / disk.Grid)
}

// makeWay is the frontier of the first of the links: how it and those behind it can make
// way for what comes from before them. Toward the start (back), the links are in their
// order as seen from the receiver. No way goes further than need.
func makeWay(l *layout.Layout, links []link, back bool, need int64) []way {
	// Behind the gaps that are enough together nothing need make way.
	room, givers := int64(0), 0
	for i := range links {
		if len(links[i].cuts) > 0 {
			givers++
		}
		if i+1 == len(links) {
			break
		}
		if back {
			room += between(l, &links[i+1], &links[i])
		} else {
			room += between(l, &links[i], &links[i+1])
		}
		if room >= need || links[i].fixed {
			links = links[:i+2]
			break
		}
	}
	var ways []way // of the link behind
	for i := len(links) - 1; i >= 0; i-- {
		k := &links[i]
		if k.fixed && len(k.cuts) == 0 {
			ways = nil
			continue
		}
		gap := int64(0)
		if i+1 < len(links) {
			if gap = between(l, k, &links[i+1]); back {
				gap = between(l, &links[i+1], k)
			}
		}
		// What is behind: only the gap, or more.
		behind := append(make([]way, 0, len(ways)+1), way{mib: gap})
		for j := range ways {
			w := &ways[j]
			behind = append(behind, way{mib: min(gap+w.mib, need), price: w.price, steps: w.steps, next: w})
		}
		out := make([]way, 0, len(behind)*(1+len(k.cuts))+len(k.cuts)+1)
		add := func(w way) {
			if w.mib = min(w.mib, need); w.mib > 0 {
				w.gap = gap
				out = append(out, w)
			}
		}
		for _, b := range behind {
			switch {
			case k.edge:
				add(way{
					mib: b.mib, price: b.price + plan.TableSectors*l.Sector, steps: b.steps + 1, how: widens,
					next: b.next,
				})
			case !k.fixed:
				add(way{mib: b.mib, price: b.price + k.slide, steps: b.steps + 1, how: moving, next: b.next})
				for _, c := range k.cuts {
					add(way{
						mib: b.mib + c.mib, price: b.price + k.slide + c.price, steps: b.steps + 2, how: moving,
						cut: c.mib, next: b.next,
					})
				}
			}
		}
		if !k.fixed && !back && k.head > 0 {
			add(way{mib: k.head, price: k.slide, steps: 1, how: givesHead})
		}
		if back { // its end comes nearer to its start
			for _, c := range k.cuts {
				add(way{mib: c.mib, price: c.price, steps: 1, how: gives, cut: c.mib})
			}
		}
		if ways = frontier(out); givers > fewGivers {
			ways = thin(ways, someWays)
		}
	}
	return ways
}

// stepsFor are the steps by which the links make way by an amount, those furthest away
// first.
func stepsFor(links []link, w *way, mib int64, back bool) []plan.Step {
	k := &links[0]
	n := strconv.Itoa(k.p.Number)
	by := fmt.Sprintf("%d MiB", mib)
	switch w.how {
	case givesHead:
		return []plan.Step{{Partition: n, Body: plan.Shrinking{By: by, Edge: "head"}}}
	case gives:
		return []plan.Step{{Partition: n, Body: plan.Shrinking{By: by}}}
	}
	// As much as what is behind gives, and the rest by itself.
	room := w.gap
	if w.next != nil {
		room += w.next.mib
	}
	give := max(mib-room, 0)
	var out []plan.Step
	if pass := mib - give - w.gap; pass > 0 && w.next != nil {
		out = stepsFor(links[1:], w.next, pass, back)
	}
	if w.how == widens {
		box := plan.Containing{By: by, Act: plan.GrowIt}
		atStart := k.lo == k.p.Start
		if atStart == !back { // it comes nearer to its other edge
			box.Act = plan.ShrinkIt
		}
		if atStart {
			box.Edge = "head"
		}
		return append(out, plan.Step{Partition: n, Body: box})
	}
	if give > 0 {
		out = append(out, plan.Step{Partition: n, Body: plan.Shrinking{By: fmt.Sprintf("%d MiB", give)}})
	}
	if back { // its end comes nearer by what it gives already
		by = fmt.Sprintf("-%d MiB", mib-give)
	}
	return append(out, plan.Step{Partition: n, Body: plan.Sliding{By: by}})
}

// solution is how a volume gains room.
type solution struct {
	steps []plan.Step
	price disk.Bytes
	most  disk.Bytes // that could be gained at all
}

// solve finds the plan of shrink, slide and grow that rewrites the fewest bytes for a
// volume to gain an amount, 0 to ask only for the most. Partitions in gone are not there
// any more.
func solve(l *layout.Layout, r *layout.Span, want disk.Bytes, gone map[int]bool, give givers, f plan.Facts) solution {
	links, at := chain(l, r.Number, gone, give, f)
	if at < 0 {
		return solution{}
	}
	me := &links[at]
	right, left := links[at+1:], slices.Clone(links[:at])
	slices.Reverse(left)
	need := int64(l.Size / disk.Grid)
	if want > 0 {
		need = int64((want + disk.Grid - 1) / disk.Grid)
	}
	most := (plan.MaxVolume(r.Volume, l.Sector) - (r.End - r.Start + 1)).Offset(l.Sector).Down(disk.Grid)
	// To the right: up to where the next link comes to begin, on the grid.
	type side struct {
		gain  disk.Bytes
		price disk.Bytes
		w     *way
	}
	var rights, lefts []side
	reach := func(w *way) disk.Bytes {
		lo := right[0].lo.Offset(l.Sector)
		if w != nil {
			lo += disk.Bytes(w.mib) * disk.Grid
		}
		return max(lo.Down(disk.Grid)-(r.End+1).Offset(l.Sector), 0)
	}
	rights = append(rights, side{gain: reach(nil)})
	ways := makeWay(l, right, false, need+1) // one more, where the ends are not on the grid
	for i := range ways {
		rights = append(rights, side{reach(&ways[i]), ways[i].price, &ways[i]})
	}
	lefts = append(lefts, side{})
	if !me.fixed {
		gap := between(l, &left[0], me)
		if gap > 0 {
			lefts = append(lefts, side{gain: disk.Bytes(gap) * disk.Grid})
		}
		back := makeWay(l, left, true, need)
		for i := range back {
			lefts = append(lefts, side{disk.Bytes(gap+back[i].mib) * disk.Grid, back[i].price, &back[i]})
		}
	}
	best := solution{price: -1}
	try := func(a, b side, by disk.Bytes) { // by is what it gains toward the start
		price := a.price + b.price + plan.GrowBytes(r, want)
		if by > 0 {
			price += me.slide
		}
		if by < want {
			price += plan.TableSectors * l.Sector
		}
		if best.price >= 0 && price >= best.price {
			return
		}
		best.price, best.steps = price, nil
		n := strconv.Itoa(r.Number)
		if b.w != nil && by < want {
			end := ((r.End + 1).Offset(l.Sector) + want - by).Up(disk.Grid)
			if over := end - right[0].lo.Offset(l.Sector); over > 0 {
				best.steps = stepsFor(right, b.w, int64((over+disk.Grid-1)/disk.Grid), false)
			}
		}
		if by > 0 {
			if over := int64(by/disk.Grid) - between(l, &left[0], me); over > 0 {
				best.steps = append(best.steps, stepsFor(left, a.w, over, true)...)
			}
			text := fmt.Sprintf("%d MiB", by/disk.MiB)
			x := plan.Step{Partition: n, Body: plan.Growth{By: text, Edge: "head"}}
			if by < want { // it grows at its end, all at once
				x.Body = plan.Sliding{By: "-" + text}
			}
			best.steps = append(best.steps, x)
		}
		if by < want {
			best.steps = append(best.steps, plan.Step{Partition: n, Body: plan.Growth{By: fmt.Sprintf("%d B", want)}})
		}
	}
	for _, a := range lefts {
		for _, b := range rights {
			best.most = max(best.most, min(a.gain+b.gain, most))
			if want <= 0 || a.gain+b.gain < want || want > most {
				continue
			}
			// As little as must be at the one edge, or all there.
			if by := max((want - b.gain).Up(disk.Grid), 0); by <= a.gain {
				try(a, b, by)
			}
			if by := want.Up(disk.Grid); by <= a.gain && b.w == nil {
				try(a, b, by)
			}
		}
	}
	return best
}
