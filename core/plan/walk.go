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
		w.Cannot = append(w.Cannot, "The drive's table was made anew since, or of another kind: its partitions can be brought back one by one from their records.")
		return w
	}
	same := func(l *layout.Layout, p *layout.Span) (layout.Span, bool) {
		for _, q := range l.Partitions() {
			if p.UniqueID != "" && strings.EqualFold(q.UniqueID, p.UniqueID) {
				return q, true
			}
			// On an MBR the id is the place: what was moved is known by its volume.
			if l.Scheme == "mbr" && q.Volume != nil && p.Volume != nil && p.Volume.Serial != "" && q.Volume.Kind == p.Volume.Kind && q.Volume.Serial == p.Volume.Serial {
				return q, true
			}
		}
		return layout.Span{}, false
	}
	type wish struct {
		title string
		steps func(l *layout.Layout) ([]Step, bool) // none where it is so already
		why   string                                // the last obstacle
		once  bool                                  // it was planned
	}
	var wishes []*wish
	add := func(title string, steps func(l *layout.Layout) ([]Step, bool)) {
		wishes = append(wishes, &wish{title: title, steps: steps})
	}
	for _, p := range now.Partitions() { // what was not there then
		if _, was := same(then, &p); was || p.Role == layout.Container {
			continue
		}
		n := fmt.Sprint(p.Number)
		add(fmt.Sprintf("%s (partition %d), which was not there then, does not go", p.Title(), p.Number), func(l *layout.Layout) ([]Step, bool) {
			_, there := same(l, &p)
			return []Step{{Do: Delete, Partition: n}}, !there
		})
	}
	parts := then.Partitions()
	for _, p := range parts {
		q, there := same(now, &p)
		if p.Role == layout.Container {
			continue
		}
		if !there {
			k, ok := known[strings.ToLower(p.UniqueID)]
			if !ok {
				w.Cannot = append(w.Cannot, fmt.Sprintf("%s (%s) cannot return: there is no record of it, and no search has found it.", p.Title(), p.Bytes))
				continue
			}
			add(fmt.Sprintf("%s does not return", p.Title()), func(l *layout.Layout) ([]Step, bool) {
				_, back := same(l, &p)
				return []Step{{Do: BringBack, Record: k.Record, Find: k.Find, Told: k.Told}}, back
			})
			continue
		}
		n, number := fmt.Sprint(q.Number), q.Number
		size := func(s layout.Span) string { return fmt.Sprintf("%d B", s.Bytes) }
		add(fmt.Sprintf("%s does not become as small as it was", p.Title()), func(l *layout.Layout) ([]Step, bool) {
			c, ok := l.Find(number)
			return []Step{{Do: Shrink, Partition: n, To: size(p)}}, !ok || c.Bytes <= p.Bytes
		})
		add(fmt.Sprintf("%s does not return to its place", p.Title()), func(l *layout.Layout) ([]Step, bool) {
			c, ok := l.Find(number)
			if !ok || c.Start == p.Start || c.Bytes > p.Bytes {
				return nil, !ok || c.Start == p.Start
			}
			by := (p.Start - c.Start).Offset(l.Sector)
			sign := ""
			if by < 0 {
				by, sign = -by, "-"
			}
			return []Step{{Do: Slide, Partition: n, By: fmt.Sprintf("%s%d B", sign, by)}}, false
		})
		add(fmt.Sprintf("%s does not become as large as it was", p.Title()), func(l *layout.Layout) ([]Step, bool) {
			c, ok := l.Find(number)
			if !ok || c.Start != p.Start {
				return nil, !ok || c.Bytes >= p.Bytes
			}
			return []Step{{Do: Grow, Partition: n, To: size(p)}}, c.Bytes >= p.Bytes
		})
		named := func(c *layout.Span) bool { return p.Name == "" || c.Name == p.Name } // a step cannot take a name away
		if p.TypeID != q.TypeID || p.Attributes != q.Attributes || !named(&q) || p.Active != q.Active {
			add(fmt.Sprintf("the table does not say of %s what it said then", p.Title()), func(l *layout.Layout) ([]Step, bool) {
				c, ok := l.Find(number)
				s := Step{Do: Retag, Partition: n, Type: p.TypeID}
				if l.Scheme == "mbr" {
					active := p.Active
					s.Active = &active
				} else {
					s.Attributes, s.Name = p.Attributes, p.Name
				}
				return []Step{s}, !ok || c.TypeID == p.TypeID && c.Attributes == p.Attributes && named(c) && c.Active == p.Active
			})
		}
		if v, u := p.Volume, q.Volume; v != nil && u != nil && v.Label != u.Label && u.Kind == volume.NTFS {
			add(fmt.Sprintf("%s does not get its label back", p.Title()), func(l *layout.Layout) ([]Step, bool) {
				c, ok := l.Find(number)
				return []Step{{Do: Label, Partition: n, Label: v.Label}}, !ok || c.Volume == nil || c.Volume.Label == v.Label
			})
		}
	}
	for len(f.NewIDs) < 200 {
		f.NewIDs = append(f.NewIDs, f.NewID)
	}
	// One after the other, whichever can be done, until none can.
	for again := true; again && len(w.Steps) < 100; {
		again = false
		for _, x := range wishes {
			at := now
			if len(w.Steps) > 0 {
				cols := Lay(now, f, w.Steps)
				at = cols[len(cols)-1].Layout
			}
			steps, done := x.steps(at)
			if done || len(steps) == 0 || x.once {
				continue
			}
			cols := Lay(now, f, append(slices.Clone(w.Steps), steps...))
			if last := cols[len(cols)-1]; len(last.Obstacles) > 0 {
				x.why = last.Obstacles[0].Text
				continue
			}
			w.Steps, again, x.once = append(w.Steps, steps...), true, true
		}
	}
	end := now
	if len(w.Steps) > 0 {
		cols := Lay(now, f, w.Steps)
		end = cols[len(cols)-1].Layout
		w.Price = PriceOf(now, cols, f)
	}
	for _, x := range wishes {
		if _, done := x.steps(end); !done {
			text := strings.ToUpper(x.title[:1]) + x.title[1:]
			if x.why != "" {
				text += ": " + x.why
			} else {
				text += "."
			}
			w.Cannot = append(w.Cannot, text)
		}
	}
	w.Stays = append(w.Stays, "What was written into the files of volumes that are still there stays as it is now: only how the drive is laid out is walked back, and whole partitions.")
	return w
}
