package plan

import (
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Former is a partition that an earlier state of a drive has and the drive has not any more,
// with the record or the find that can bring it back.
type Former struct {
	Record string
	Find   disk.LBA
	Told   disk.Bytes
}

// Walk is a plan that leads a drive back to an earlier state, as far as there is what it needs.
type Walk struct {
	Steps []Step
	// Cannot says what of that state does not return, and why; Stays what stays as it is now by
	// its nature.
	Cannot []string
	Stays  []string
	Price  Price
}

// WalkBack works out the steps from a drive as it is to an earlier state of it. known gives, by
// unique id, what can bring a partition back that is gone. Steps that are blocked are left out,
// and told; what they ask for (a backup, a release) the plan asks for as any other does.
func WalkBack(now, then *layout.Layout, f Facts, known map[string]Former) *Walk {
	w := &Walk{Steps: []Step{}, Cannot: []string{}, Stays: []string{}}
	if now.DiskID != then.DiskID || now.Scheme != then.Scheme || now.Sector != then.Sector {
		w.Cannot = append(w.Cannot, "The drive's table was made anew since, or of another kind: "+
			"its partitions can be brought back one by one from their records.")
		return w
	}
	// 1. What is to be: what was not there goes, and of each that was there its place, size, name and label return.
	var all wishes
	for _, p := range now.Partitions() {
		if _, was := sameAgain(then, &p); !was && p.Role != layout.Container {
			all.goes(p)
		}
	}
	for _, p := range then.Partitions() {
		q, there := sameAgain(now, &p)
		k, ok := known[strings.ToLower(p.UniqueID)]
		switch {
		case p.Role == layout.Container:
		case there:
			all.becomes(p, q)
		case ok:
			all.returns(p, k)
		default:
			w.Cannot = append(w.Cannot, fmt.Sprintf(
				"%s (%s) cannot return: there is no record of it, and no search has found it.", p.Title(), p.Bytes,
			))
		}
	}
	// 2. The steps, one after the other, whichever can be done, until none can.
	for len(f.NewIDs) < 200 {
		f.NewIDs = append(f.NewIDs, f.NewID)
	}
	w.Steps = all.planned(now, f)
	end := now
	if len(w.Steps) > 0 {
		cols := Lay(now, f, w.Steps)
		end = cols[len(cols)-1].Layout
		w.Price = PriceOf(now, cols, f)
	}
	// 3. What does not come to be, and why.
	w.Cannot = append(w.Cannot, all.unmet(end)...)
	w.Stays = append(w.Stays, "What was written into the files of volumes that are still there stays as it is now: "+
		"only how the drive is laid out is walked back, and whole partitions.")
	return w
}

// sameAgain finds the partition of another state of the drive that is the same one.
func sameAgain(l *layout.Layout, p *layout.Span) (layout.Span, bool) {
	for _, q := range l.Partitions() {
		if p.UniqueID != "" && strings.EqualFold(q.UniqueID, p.UniqueID) {
			return q, true
		}
		// On an MBR the id is the place: what was moved is known by its volume.
		v, u := p.Volume, q.Volume
		if l.Scheme == "mbr" && v != nil && u != nil && v.Serial != "" && v.Kind == u.Kind && v.Serial == u.Serial {
			return q, true
		}
	}
	return layout.Span{}, false
}

// wish is one thing that is to be as it was.
type wish struct {
	title string // what is so where it does not come to be
	// steps are what it takes on a drive that is laid out as l; done tells that it is so already.
	steps func(l *layout.Layout) (steps []Step, done bool)
	why   string // the last obstacle
	once  bool   // it was planned
}

type wishes []*wish

func (all *wishes) add(title string, steps func(l *layout.Layout) ([]Step, bool)) {
	*all = append(*all, &wish{title: title, steps: steps})
}

// goes wishes away what was not there then.
func (all *wishes) goes(p layout.Span) {
	all.add(fmt.Sprintf("%s (partition %d), which was not there then, does not go", p.Title(), p.Number), func(l *layout.Layout) ([]Step, bool) {
		_, there := sameAgain(l, &p)
		return []Step{{Partition: fmt.Sprint(p.Number), Body: Deletion{}}}, !there
	})
}

// returns wishes back what is gone, from its record or its find.
func (all *wishes) returns(p layout.Span, k Former) {
	all.add(fmt.Sprintf("%s does not return", p.Title()), func(l *layout.Layout) ([]Step, bool) {
		_, back := sameAgain(l, &p)
		return []Step{{Body: BringingBack{Record: k.Record, Find: k.Find, Told: k.Told}}}, back
	})
}

// becomes wishes that a partition which is now as q has it is as p had it.
func (all *wishes) becomes(p, q layout.Span) {
	all.placed(p, q.Number)
	if p.TypeID != q.TypeID || p.Attributes != q.Attributes || !namedAs(&p, &q) || p.Active != q.Active {
		all.entered(p, q.Number)
	}
	if v, u := p.Volume, q.Volume; v != nil && u != nil && v.Label != u.Label && u.Kind == volume.NTFS {
		all.add(fmt.Sprintf("%s does not get its label back", p.Title()), func(l *layout.Layout) ([]Step, bool) {
			c, ok := l.Find(q.Number)
			return []Step{{Partition: fmt.Sprint(q.Number), Body: Labelling{Label: v.Label}}}, !ok || c.Volume == nil || c.Volume.Label == v.Label
		})
	}
}

// placed wishes that the partition with a number has the place and size that p had: smaller first, then there, and
// then larger.
func (all *wishes) placed(p layout.Span, number int) {
	n, size := fmt.Sprint(number), fmt.Sprintf("%d B", p.Bytes)
	all.add(fmt.Sprintf("%s does not become as small as it was", p.Title()), func(l *layout.Layout) ([]Step, bool) {
		c, ok := l.Find(number)
		return []Step{{Partition: n, Body: Shrinking{To: size}}}, !ok || c.Bytes <= p.Bytes
	})
	all.add(fmt.Sprintf("%s does not return to its place", p.Title()), func(l *layout.Layout) ([]Step, bool) {
		c, ok := l.Find(number)
		if !ok || c.Start == p.Start || c.Bytes > p.Bytes {
			return nil, !ok || c.Start == p.Start
		}
		by, sign := (p.Start - c.Start).Offset(l.Sector), ""
		if by < 0 {
			by, sign = -by, "-"
		}
		return []Step{{Partition: n, Body: Sliding{By: fmt.Sprintf("%s%d B", sign, by)}}}, false
	})
	all.add(fmt.Sprintf("%s does not become as large as it was", p.Title()), func(l *layout.Layout) ([]Step, bool) {
		c, ok := l.Find(number)
		if !ok || c.Start != p.Start {
			return nil, !ok || c.Bytes >= p.Bytes
		}
		return []Step{{Partition: n, Body: Growth{To: size}}}, c.Bytes >= p.Bytes
	})
}

// entered wishes that the table says of the partition with a number what it said of p.
func (all *wishes) entered(p layout.Span, number int) {
	all.add(fmt.Sprintf("the table does not say of %s what it said then", p.Title()), func(l *layout.Layout) ([]Step, bool) {
		c, ok := l.Find(number)
		tags := Retagging{Type: p.TypeID}
		if l.Scheme == "mbr" {
			active := p.Active
			tags.Active = &active
		} else {
			tags.Attributes, tags.Name = p.Attributes, p.Name
		}
		same := ok && c.TypeID == p.TypeID && c.Attributes == p.Attributes && namedAs(&p, c) && c.Active == p.Active
		return []Step{{Partition: fmt.Sprint(number), Body: tags}}, !ok || same
	})
}

// namedAs tells that a partition has the name that it had; a step cannot take a name away.
func namedAs(was, is *layout.Span) bool { return was.Name == "" || is.Name == was.Name }

// planned are the steps that lead there, as far as they can be done.
func (all wishes) planned(now *layout.Layout, f Facts) []Step {
	steps := []Step{}
	for again := true; again && len(steps) < 100; {
		again = false
		for _, x := range all {
			at := now
			if len(steps) > 0 {
				cols := Lay(now, f, steps)
				at = cols[len(cols)-1].Layout
			}
			more, done := x.steps(at)
			if done || len(more) == 0 || x.once {
				continue
			}
			cols := Lay(now, f, append(slices.Clone(steps), more...))
			if last := cols[len(cols)-1]; len(last.Obstacles) > 0 {
				x.why = last.Obstacles[0].Text
				continue
			}
			steps, again, x.once = append(steps, more...), true, true
		}
	}
	return steps
}

// unmet says of a drive that is laid out as l in the end what is not as it was.
func (all wishes) unmet(l *layout.Layout) (out []string) {
	for _, x := range all {
		if _, done := x.steps(l); done {
			continue
		}
		text := strings.ToUpper(x.title[:1]) + x.title[1:]
		if x.why != "" {
			text += ": " + x.why
		} else {
			text += "."
		}
		out = append(out, text)
	}
	return out
}
