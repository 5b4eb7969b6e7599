package web

import (
	"jadetrail/core/disk"
	"jadetrail/core/plan"
)

// hand is how far a block can be worked by hand: what it gains or gives up at each edge and
// how far it slides, in bytes, each with why it goes no further.
type hand struct {
	Number    int    `json:"number"`
	GrowEnd   reach  `json:"grow_end"`
	GrowHead  reach  `json:"grow_head"`
	CutEnd    reach  `json:"cut_end"`
	CutHead   reach  `json:"cut_head"`
	SlideUp   reach  `json:"slide_up"`
	SlideDown reach  `json:"slide_down"`
	Used      int64  `json:"used"`
	Title     string `json:"title"`
}

type reach struct {
	Most int64  `json:"most"`
	Why  string `json:"why,omitempty"`
}

// hands is what can be done by hand at the plan's end.
func (st *jobState) hands() map[string]hand {
	l, facts := st.End(), st.Facts
	facts.PC = st.pcAtEnd()
	shown := st.Drive.Survey.Layout // as the map's newest column has it
	for _, c := range st.Columns {
		shown = follow(c.Layout, shown)
	}
	out := map[string]hand{}
	for _, p := range l.Partitions() {
		h := hand{Number: p.Number, Title: p.Title()}
		if p.Volume != nil {
			h.Used = int64(p.Volume.UsedBytes)
		}
		far := func(most disk.Bytes, o *plan.Obstacle, beyond string) reach {
			if o != nil {
				return reach{Why: o.Text}
			}
			return reach{Most: int64(most), Why: beyond}
		}
		for _, a := range plan.Acts(l, p.Number, facts) {
			switch {
			case a.Do == plan.Grow && a.Edge == "head":
				up, _ := plan.Touching(l, &p)
				h.GrowHead = far(min(a.Limit, up), a.Obstacle, "The gap ends there.")
			case a.Do == plan.Grow:
				h.GrowEnd = far(a.Limit, a.Obstacle, "The gap ends there.")
			case a.Do == plan.Shrink:
				h.CutEnd = far(a.Limit, a.Obstacle, "What is in it needs the rest.")
				h.CutHead = h.CutEnd
			case a.Do == plan.Slide:
				up, down := plan.Touching(l, &p)
				h.SlideUp, h.SlideDown = far(up, a.Obstacle, "The gap ends there."), far(down, a.Obstacle, "The gap ends there.")
				if a.Obstacle != nil {
					h.CutHead, h.GrowHead = reach{Why: a.Obstacle.Text}, reach{Why: a.Obstacle.Text}
				}
			}
		}
		key := p.UniqueID
		if q, ok := shown.Find(p.Number); ok {
			key = q.UniqueID
		}
		if key == "" {
			key = blockKey(p.Number)
		}
		out[key] = h
	}
	return out
}
