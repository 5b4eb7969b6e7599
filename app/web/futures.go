package web

import (
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/route"
	"jadetrail/core/words"
)

// future is a drive as a route would leave it, for the map.
type future struct {
	ID     string  `json:"id"`
	Title  string  `json:"title"`
	Lost   string  `json:"lost"` // what is gone then, in words
	Care   bool    `json:"care,omitempty"`
	Blocks []block `json:"blocks"`
	Piles  []pile  `json:"piles,omitempty"`
	Price  string  `json:"price"`
	// Asks are what it asks for, and what somebody should know of it.
	Asks []string `json:"asks,omitempty"`
}

// mostFutures is how many routes are drawn; all of them stand in the table.
const mostFutures = 4

// futures are the drive as the routes of an answer would leave it, the best first.
func (st *jobState) futures(a *route.Answer) (out []future) {
	if a == nil {
		return nil
	}
	end, f := st.End(), st.Facts
	f.NewIDs = plan.StandIns()
	for _, r := range a.Routes[:min(len(a.Routes), mostFutures)] {
		cols := plan.Lay(st.Drive.Survey.Layout, f, slices.Concat(st.Steps, r.Plan.Steps))
		l := follow(cols[len(cols)-1].Layout, end)
		if l == nil {
			continue
		}
		x := future{
			ID: r.ID, Title: r.Title, Lost: "nothing is lost", Blocks: blocks(l, end), Asks: asksOf(&r),
			Price: fmt.Sprintf("≈ %s, %s rewritten", plan.Lasts(r.Price.Seconds), r.Price.Rewritten),
		}
		if len(r.Lost) > 0 {
			x.Lost, x.Care = "gone: "+strings.Join(r.Lost, ", "), true
		}
		for _, p := range end.Partitions() {
			if !slices.ContainsFunc(l.Partitions(), func(q layout.Span) bool { return q.UniqueID == p.UniqueID }) {
				x.Piles = append(x.Piles, pile{Key: p.UniqueID, Title: p.Title()})
			}
		}
		out = append(out, x)
	}
	return out
}

// asksOf is what a route asks of people, in a few words each.
func asksOf(r *route.Route) (out []string) {
	p := r.Price
	for _, x := range []struct {
		n         int
		one, many string
	}{
		{p.Deleted, "deletion", "deletions"}, {p.Releases, "reason", "reasons"}, {p.Checks, "check on the PC", "checks on the PC"},
		{p.Over, "record is written over", "records are written over"}, {p.Tables, "new table", "new tables"},
	} {
		if x.n > 0 {
			out = append(out, words.Plural(x.n, x.one, x.many))
		}
	}
	if p.Beside > 0 {
		out = append(out, p.Beside.String()+" put aside")
	}
	if r.Portions {
		out = append(out, "in portions: not taken back once begun")
	}
	return out
}
