package web

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"jadetrail/app/shop"
	"jadetrail/core/layout"
	"jadetrail/core/trail"
)

// block is a span as the map draws it.
type block struct {
	Key     string `json:"key"`
	Kind    string `json:"kind"`
	Inside  int    `json:"inside,omitempty"` // the container's number
	Number  int    `json:"number"`
	Role    string `json:"role"`
	Title   string `json:"title"`
	Size    string `json:"size"`
	Exact   string `json:"exact"`
	Left    string `json:"left,omitempty"`
	Care    bool   `json:"care,omitempty"`
	Bytes   int64  `json:"bytes"`
	Start   int64  `json:"start"`
	End     int64  `json:"end"`
	Fill    int    `json:"fill"` // percent, -1 where unknown
	Use     []int  `json:"use,omitempty"`
	Changed bool   `json:"changed,omitempty"`
}

// blockKey is the key of a partition without a unique id.
func blockKey(number int) string { return fmt.Sprint("p", number) }

// pile is the record of a deletion on the way from one column to the next.
type pile struct {
	Key    string `json:"key"`
	Title  string `json:"title"`
	Record string `json:"record,omitempty"`
}

// mapColumn is one mark of the trail map.
type mapColumn struct {
	Kind   string  `json:"kind"` // past, now, plan
	Step   int     `json:"step,omitempty"`
	Title  string  `json:"title"`
	Sub    string  `json:"sub"`
	Why    string  `json:"why,omitempty"` // an obstacle
	Blocks []block `json:"blocks"`
	Piles  []pile  `json:"piles,omitempty"` // of the step that leads to this column
	// Finds are lost partitions, drawn beside the blocks.
	Finds []findMark `json:"finds,omitempty"`
	Good  string     `json:"good,omitempty"` // what was checked when the state was marked as good
}

func fill(sp *layout.Span) int {
	if sp.Volume == nil || sp.Volume.TotalBytes == 0 || sp.Volume.ClusterBytes == 0 {
		return -1
	}
	return int(math.Ceil(float64(sp.Volume.UsedBytes) * 100 / float64(sp.Volume.TotalBytes)))
}

func blocks(l *layout.Layout, before *layout.Layout) []block {
	var out []block
	for _, sp := range l.Spans {
		if sp.Kind == layout.Gap {
			if sp.Why != layout.Free {
				continue // explained in the table below the map
			}
			out = append(out, block{
				Key: gapKey(sp), Kind: "gap", Inside: sp.Container, Title: "gap", Size: sp.Bytes.String(),
				Exact: sp.Bytes.Exact(), Bytes: int64(sp.Bytes), Start: int64(sp.Start), End: int64(sp.End), Fill: -1,
			})
			continue
		}
		b := block{
			Key: sp.UniqueID, Kind: "partition", Inside: sp.Container, Number: sp.Number, Role: string(sp.Role), Title: sp.Title(), Size: sp.Bytes.String(), Exact: sp.Bytes.Exact(),
			Bytes: int64(sp.Bytes), Start: int64(sp.Start), End: int64(sp.End), Fill: fill(&sp),
		}
		if b.Key == "" {
			b.Key = blockKey(sp.Number)
		}
		if v := sp.Volume; v != nil && v.ClusterBytes > 0 {
			b.Left, b.Care = v.Free().String()+" left", shop.Tight(&sp)
			for _, u := range v.Use {
				b.Use = append(b.Use, int(u))
			}
		}
		if before != nil {
			was, ok := before.Find(sp.Number)
			b.Changed = !ok || was.Start != sp.Start || was.End != sp.End || was.UniqueID != sp.UniqueID
			if ok && was.Bytes != sp.Bytes {
				b.Use = nil // the parts of the old length say nothing about the new one
			}
		}
		out = append(out, b)
	}
	return out
}

// follow is a layout in which the partitions of an MBR, which are known by their places, go by
// the ids that they had before: so the map sees where one has gone to.
func follow(l, before *layout.Layout) *layout.Layout {
	if l == nil || before == nil || l.Scheme != "mbr" || before.Scheme != "mbr" {
		return l
	}
	parts := l.Partitions()
	for i := range parts {
		p := &parts[i]
		was, ok := before.Find(p.Number)
		if ok && was.Role == p.Role && (was.Volume == nil) == (p.Volume == nil) && (p.Volume == nil || was.Volume.Serial == p.Volume.Serial) {
			p.UniqueID = was.UniqueID
		}
	}
	return l.With(parts)
}

// past builds the columns before now from the runs in the trail, the latest few; good is
// the mark that the latest of them ended with, nil for none.
func (s *Server) past(d *shop.Drive, most int) (cols []mapColumn, piles []pile, good *trail.Entry, err error) {
	entries, err := s.Store.Entries(shop.History(d))
	if err != nil {
		return nil, nil, nil, err
	}
	slices.Reverse(entries)
	gone := map[string][]pile{}
	what := map[string]string{}
	for _, e := range entries {
		switch e.Act {
		case trail.ActDelete:
			if p, ok := e.Before.Find(e.Partition); ok {
				gone[e.Run] = append(gone[e.Run], pile{p.UniqueID, p.Title(), e.Record})
			}
		case trail.ActPlan:
			what[e.Run] = cmp.Or(strings.Join(e.Titles, ", "), e.Text)
		case trail.ActDone:
			if e.Before == nil {
				continue
			}
			col := mapColumn{
				Kind: "past", Title: e.Time.Local().Format("2 Jan 15:04"), Sub: "before: " + what[e.Run],
				Blocks: blocks(e.Before, nil), Piles: piles,
			}
			if good != nil && len(layout.Differ(good.After, e.Before)) == 0 {
				col.Good = good.Text
			}
			cols = append(cols, col)
			piles, good = gone[e.Run], nil
		case trail.ActMark:
			good = &e
		}
	}
	if len(cols) > most {
		cols = cols[len(cols)-most:]
	}
	return cols, piles, good, nil
}

// smallBar is one stripe of a small column drawing.
type smallBar struct {
	Role           string
	Gap            bool
	W, Y, H, UsedH float64
}

// Within is how wide the outline of a gap is: its line lies within the stripe.
func (b smallBar) Within() float64 { return b.W - 1 }

// column computes a small drawing of a drive, so many units wide and high.
func column(l *layout.Layout, width, height float64) []smallBar {
	if l == nil {
		return nil
	}
	var spans []layout.Span
	var weight float64
	for _, sp := range l.Spans {
		if sp.Kind == layout.Gap && sp.Why != layout.Free || sp.Role == layout.Container {
			continue
		}
		spans = append(spans, sp)
		weight += math.Pow(float64(sp.Bytes), 0.6)
	}
	var out []smallBar
	y := 0.0
	space := height - 1.5*float64(len(spans)) - 2*float64(len(spans))
	for _, sp := range spans {
		h := 2 + math.Max(space, 0)*math.Pow(float64(sp.Bytes), 0.6)/weight
		b := smallBar{Role: string(sp.Role), W: width, Y: y, H: h, Gap: sp.Kind == layout.Gap}
		if f := fill(&sp); f >= 0 {
			b.UsedH = h * float64(f) / 100
		} else {
			b.UsedH = h
		}
		out = append(out, b)
		y += h + 1.5
	}
	return out
}
