// Package route finds the ways to a goal: complete plans, each with its price, of which none is worse in every
// respect than another. It is built on plan, which says what every step of a way leads to; it is as pure as that.
//
// Each kind of goal has a file of its name with the ways that are tried for it. What gives a volume more room by
// moving and shrinking what stands beside it is found by the solver in solve.go, at the fewest bytes rewritten.
package route

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

// Route is one complete way to a goal.
type Route struct {
	ID    string     `json:"id"` // from its steps
	Title string     `json:"title"`
	Lost  []string   `json:"lost"` // what is gone afterwards but for its record and backup
	Price plan.Price `json:"price"`
	Plan  plan.Plan  `json:"plan"`
	// Gained is what those volumes gain that are to be given something.
	Gained disk.Bytes `json:"bytes_gained"`
	// Portions tells that files go over in portions, because there is no room for all at once.
	Portions bool `json:"portions,omitempty"`
	// Notes are consequences that somebody should know.
	Notes []string `json:"notes,omitempty"`
}

// Words are the price of a route and what comes with it, for people.
func (r *Route) Words() []string {
	p := r.Price
	count := func(n int, one, more string) string {
		if n == 1 {
			return "1 " + one
		}
		return fmt.Sprintf("%d %s", n, more)
	}
	t := []string{count(len(r.Plan.Steps), "step", "steps"), p.Rewritten.String() + " rewritten"}
	if p.Copied > 0 {
		t = append(t, p.Copied.String()+" of it copied out and back")
	}
	if p.Beside > 0 {
		t = append(t, p.Beside.String()+" kept aside for a while")
	}
	if p.Given > 0 {
		t = append(t, p.Given.String()+" given up by others")
	}
	if p.Deleted > 0 {
		t = append(t, count(p.Deleted, "partition deleted", "partitions deleted"))
	}
	if p.Releases > 0 {
		t = append(t, count(p.Releases, "reason", "reasons"))
	}
	if p.Over > 0 {
		t = append(t, count(p.Over, "deleted partition", "deleted partitions")+" written over")
	}
	if p.Checks > 0 {
		t = append(t, count(p.Checks, "thing to check on the PC", "things to check on the PC"))
	}
	if p.Tables > 0 {
		t = append(t, "a new table")
	}
	if p.Restarts > 0 {
		t = append(t, count(p.Restarts, "restart", "restarts"))
	}
	t = append(t, "about "+plan.Lasts(p.Seconds))
	if len(r.Lost) > 0 {
		t = append(t, "gone: "+plan.Join(r.Lost))
	}
	if r.Portions {
		t = append(t, "in portions, and not to be taken back")
	}
	return t
}

// Answer is the routes to a goal worth choosing between, or why there is none.
type Answer struct {
	Routes    []Route         `json:"routes"`
	Obstacles []plan.Obstacle `json:"obstacles"`
	// Most is the most that can be had of what was asked for.
	Most disk.Bytes `json:"most_bytes"`
}

// Routes works out the ways to a goal. Those that are worse in every respect than another
// are left out.
func Routes(l *layout.Layout, f plan.Facts, g *Goal) *Answer {
	s := search{&Answer{Routes: []Route{}, Obstacles: []plan.Obstacle{}}, l, f, g}
	s.f.NewIDs = append(slices.Clone(f.NewIDs), plan.StandIns()...)
	s.f = s.f.On(l)
	if o := plan.AgainstAll(s.f); o != nil && !(g.Clear && !f.ReadOnly) { // which takes the table with all that is wrong with it
		s.block(o)
	} else {
		for _, k := range kinds {
			if k.wanted(g) {
				k.ways(&s)
				break
			}
		}
	}
	s.aroundRestart()
	s.best()
	return s.Answer
}

// kind is one kind of goal: whether it is what a goal is about, and how its routes are found. Each kind has a file of
// its name.
type kind struct {
	wanted func(g *Goal) bool
	ways   func(s *search)
}

// kinds are all kinds of goals. They are entered when the program starts, because routes to one ask for those to
// others.
var kinds []kind

// search is the work on one goal.
type search struct {
	*Answer
	l *layout.Layout
	f plan.Facts
	g *Goal
}

func init() {
	kinds = []kind{
		{func(g *Goal) bool { return g.Receiver != "" }, (*search).gain},
		{func(g *Goal) bool { return len(g.Remove) > 0 }, (*search).remove},
		{func(g *Goal) bool { return g.Room != "" }, (*search).room},
		{func(g *Goal) bool { return len(g.Combine) > 0 }, (*search).combine},
		{func(g *Goal) bool { return g.Split != "" }, (*search).split},
		{func(g *Goal) bool { return g.Recovery != "" }, (*search).recovery},
		{func(g *Goal) bool { return g.Clear }, (*search).clearDrive},
	}
}

func (s *search) block(o *plan.Obstacle) { s.Obstacles = append(s.Obstacles, *o) }

// mayGo tells whether the goal lets a partition go, and if not, why.
func (s *search) mayGo(p *layout.Span) *plan.Obstacle {
	g, name := s.g, strconv.Itoa(p.Number)
	switch {
	case slices.Contains(g.Keep, name):
		return plan.NewObstacle(
			plan.InTheWay, fmt.Sprintf("%s (%s) stands in the way and is to be kept.", p.Title(), p.Bytes), p.Number,
		).ClearedBy("slide")
	case len(g.MayDelete) > 0 && !slices.Contains(g.MayDelete, name), len(g.MayDelete) == 0 && (plan.HoldsFiles(p) || p.Role == layout.EFI):
		return plan.NewObstacle(plan.InTheWay, fmt.Sprintf("%s (%s) stands in the way, and nobody said that it may go.", p.Title(), p.Bytes), p.Number).ClearedBy("delete", "slide")
	}
	return plan.AgainstDeleting(s.l, p, s.f)
}

// deletions are the steps that delete partitions.
func deletions(parts []layout.Span) []plan.Step {
	var out []plan.Step
	for _, p := range parts {
		out = append(out, plan.Step{Partition: strconv.Itoa(p.Number), Body: plan.Deletion{}})
	}
	return out
}

func numbers(set []layout.Span) map[int]bool {
	m := map[int]bool{}
	for _, p := range set {
		m[p.Number] = true
	}
	return m
}

// try adds the ways that delete the given partitions and then do steps: simply, and with
// the PC's recovery environment parked and taken into use from a new place.
func (s *search) try(gone []layout.Span, then ...plan.Step) {
	s.add(gone, nil, append(deletions(gone), then...))
	if s.f.PC == nil || s.f.PC.Recovery == nil || !s.f.PC.Recovery.InUse {
		return
	}
	i := slices.IndexFunc(gone, func(p layout.Span) bool { return strings.EqualFold(p.UniqueID, s.f.PC.Recovery.Partition) })
	if i < 0 || gone[i].Role != layout.Recovery {
		return
	}
	r := gone[i]
	steps := append([]plan.Step{{Partition: strconv.Itoa(r.Number), Body: plan.Parking{}}}, deletions(gone)...)
	steps = append(steps, then...)
	again := plan.Again(s.l, &r)
	again.As = "recovery"
	s.add(gone, &r, append(steps, plan.Step{Body: again}, plan.Step{Partition: "recovery", Body: plan.UsingRecovery{}}))
}

// toShelf tells that a step copies files out to the shelf.
func toShelf(s plan.Step) bool {
	out, ok := s.Body.(plan.CopyingOut)
	return ok && out.Volume == ""
}

// add adds a way if it can be done; kept is the one of the deleted partitions whose contents
// live on elsewhere.
func (s *search) add(gone []layout.Span, kept *layout.Span, steps []plan.Step) {
	cols := plan.Lay(s.l, s.f, steps)
	r := Route{Lost: []string{}, Plan: plan.Plan{Version: 1, Steps: steps}}
	for _, c := range cols {
		if len(c.Obstacles) > 0 {
			s.Obstacles = append(s.Obstacles, c.Obstacles...)
			return
		}
		r.Portions = r.Portions || c.Portions
		for _, n := range c.Notes {
			r.Notes = append(r.Notes, n.Text)
		}
	}
	r.Price = plan.PriceOf(s.l, cols, s.f)
	if most, err := disk.ParseAmount(s.g.AtMost, 1<<60); s.g.AtMost != "" && (err != nil || r.Price.Rewritten > most) {
		s.Obstacles = append([]plan.Obstacle{*plan.NewObstacle(
			plan.TooMuch,
			fmt.Sprintf("A route would rewrite %s, more than the %s that may be.", r.Price.Rewritten, most),
		)}, s.Obstacles...)
		return
	}
	if s.g.NoSecondDrive && slices.ContainsFunc(steps, toShelf) {
		return
	}
	for _, p := range gone {
		if p.Volume != nil && (kept == nil || p.Number != kept.Number) {
			r.Lost = append(r.Lost, p.Title())
		}
	}
	var gains []string
	for _, name := range append([]string{s.g.GiveTo, s.g.KeepPlace}, s.g.ShareWith...) {
		was, ok := s.l.Find(plan.Number(name))
		if q, still := cols[len(cols)-1].Layout.Find(plan.Number(name)); ok && still {
			r.Gained += q.Bytes - was.Bytes
			if q.Bytes > was.Bytes {
				gains = append(gains, fmt.Sprintf("%s gains %s", was.Title(), q.Bytes-was.Bytes))
			}
		}
	}
	r.Title = titleOf(s.l, cols, gone, kept, gains)
	b, err := json.Marshal(steps)
	if err != nil {
		return
	}
	sum := sha256.Sum256(b)
	r.ID = hex.EncodeToString(sum[:6])
	s.Routes = append(s.Routes, r)
}

// mostShown bounds how many routes are shown.
const mostShown = 12

// best leaves routes out that are worse in every respect than another, and sorts the rest by
// what they lose, then by what they rewrite.
func (a *Answer) best() {
	worse := func(r, s Route) bool {
		p, q := r.Price, s.Price
		return p.Rewritten >= q.Rewritten && p.Copied >= q.Copied && p.Beside >= q.Beside && p.Given >= q.Given && p.Deleted >= q.Deleted && p.Releases >= q.Releases && p.Restarts >= q.Restarts && p.Tables >= q.Tables && p.Over >= q.Over && p.Checks >= q.Checks && len(r.Lost) >= len(s.Lost) &&
			r.Gained <= s.Gained && (r.Portions || !s.Portions)
	}
	var kept []Route
	for i, r := range a.Routes {
		same := func(s Route) bool { return worse(r, s) && worse(s, r) }
		if !slices.ContainsFunc(a.Routes, func(s Route) bool { return worse(r, s) && !worse(s, r) }) && !slices.ContainsFunc(a.Routes[:i], same) {
			kept = append(kept, r)
		}
	}
	slices.SortStableFunc(kept, func(r, s Route) int {
		return cmp.Or(
			cmp.Compare(len(r.Lost), len(s.Lost)), cmp.Compare(r.Price.Rewritten, s.Price.Rewritten),
			cmp.Compare(r.Price.Deleted, s.Price.Deleted),
		)
	})
	a.Routes = append([]Route{}, kept[:min(len(kept), mostShown)]...)
	if len(a.Routes) > 0 {
		a.Obstacles = []plan.Obstacle{}
	}
}

// without is the layout with a partition gone.
func (s *search) without(q *layout.Span) *layout.Layout {
	return s.l.With(slices.DeleteFunc(s.l.Partitions(), func(x layout.Span) bool { return x.Number == q.Number }))
}
