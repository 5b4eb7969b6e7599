package plan

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
	"jadetrail/core/volume"
)

// Route is one complete way to a goal.
type Route struct {
	ID    string   `json:"id"` // from its steps
	Title string   `json:"title"`
	Lost  []string `json:"lost"` // what is gone afterwards but for its record and backup
	Price Price    `json:"price"`
	Plan  Plan     `json:"plan"`
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
		t = append(t, count(p.Releases, "release", "releases"))
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
	t = append(t, "about "+Lasts(p.Seconds))
	if len(r.Lost) > 0 {
		t = append(t, "gone: "+join(r.Lost))
	}
	if r.Portions {
		t = append(t, "in portions, and not to be taken back")
	}
	return t
}

// Answer is the routes to a goal worth choosing between, or why there is none.
type Answer struct {
	Routes    []Route    `json:"routes"`
	Obstacles []Obstacle `json:"obstacles"`
	// Most is the most that can be had of what was asked for.
	Most disk.Bytes `json:"most_bytes"`
}

// search is the work on one goal.
type search struct {
	*Answer
	l *layout.Layout
	f Facts
	g *Goal
}

// Routes works out the ways to a goal. Those that are worse in every respect than another
// are left out.
func Routes(l *layout.Layout, f Facts, g *Goal) *Answer {
	s := search{&Answer{Routes: []Route{}, Obstacles: []Obstacle{}}, l, f, g}
	s.f.NewIDs = append(slices.Clone(f.NewIDs), standIns()...)
	s.f = s.f.On(l)
	switch {
	case g.Clear && !f.ReadOnly: // which takes the table with all that is wrong with it
		s.clearDrive()
	case general(s.f) != nil:
		s.block(general(s.f))
	case g.Receiver != "":
		s.gain()
	case len(g.Remove) > 0:
		s.remove()
	case g.Room != "":
		s.room()
	case len(g.Combine) > 0:
		s.combine()
	case g.Split != "":
		s.split()
	case g.Recovery != "":
		s.recovery()
	default:
		s.clearDrive()
	}
	s.aroundRestart()
	s.best()
	return s.Answer
}

func (s *search) block(o *Obstacle) { s.Obstacles = append(s.Obstacles, *o) }

// mayGo tells whether the goal lets a partition go, and if not, why.
func (s *search) mayGo(p *layout.Span) *Obstacle {
	g, name := s.g, strconv.Itoa(p.Number)
	switch {
	case slices.Contains(g.Keep, name):
		return obstacle(InTheWay, fmt.Sprintf("%s (%s) stands in the way and is to be kept.", p.Title(), p.Bytes), p.Number).clear("slide")
	case len(g.MayDelete) > 0 && !slices.Contains(g.MayDelete, name), len(g.MayDelete) == 0 && (HoldsFiles(p) || p.Role == layout.EFI):
		return obstacle(InTheWay, fmt.Sprintf("%s (%s) stands in the way, and nobody said that it may go.", p.Title(), p.Bytes), p.Number).clear("delete", "slide")
	}
	return mayDelete(s.l, p, s.f)
}

// deletions are the steps that delete partitions.
func deletions(parts []layout.Span) []Step {
	var out []Step
	for _, p := range parts {
		out = append(out, Step{Do: Delete, Partition: strconv.Itoa(p.Number)})
	}
	return out
}

// mostGone bounds of how many partitions every selection is tried; of more, only those that
// lie side by side.
const mostGone = 6

// nearOnes is how many to either side are tried one by one then.
const nearOnes = 2

// selections are the sets of partitions that may go, worth trying: none first.
func selections(all []layout.Span, r *layout.Span) [][]layout.Span {
	out := [][]layout.Span{nil}
	if len(all) <= mostGone {
		for bits := 1; bits < 1<<len(all); bits++ {
			var set []layout.Span
			for i := range all {
				if bits>>i&1 == 1 {
					set = append(set, all[i])
				}
			}
			out = append(out, set)
		}
		return out
	}
	at, _ := slices.BinarySearchFunc(all, r.Start, func(p layout.Span, at disk.LBA) int { return cmp.Compare(p.Start, at) })
	for i := max(at-nearOnes, 0); i < min(at+nearOnes, len(all)); i++ { // each that is near, and runs to either side
		out = append(out, all[i:i+1])
	}
	for n := 2; n <= mostGone; n++ {
		if at+n <= len(all) {
			out = append(out, all[at:at+n])
		}
		if at-n >= 0 {
			out = append(out, all[at-n:at])
		}
	}
	return append(out, all)
}

// reserve is what a volume keeps free that gives some of its room without being told how
// much.
func reserve(v *volume.Info) disk.Bytes { return v.UsedBytes/10 + disk.GiB }

// giving are the volumes that may give: those that the goal names all they can, or, when it
// names none, every volume for files what leaves it some room.
func (s *search) giving(r *layout.Span) givers {
	give := givers{}
	for _, p := range s.l.Partitions() {
		a := shrink(s.l, &p, s.f)
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

// gain looks for the ways to make a volume larger.
func (s *search) gain() {
	p, o := named(s.l, s.g.Receiver)
	if o == nil {
		o = resizable(p, s.f)
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
			s.Obstacles = append([]Obstacle{*obstacle(GapTooSmall, fmt.Sprintf("%s can gain %s at most (%s) with what may go.", p.Title(), s.Most, s.Most.Exact()), p.Number)}, s.Obstacles...)
		} else if _, o := mayGrow(s.l, p, s.f); o != nil {
			s.Obstacles = append([]Obstacle{*o}, s.Obstacles...)
		} else {
			s.block(obstacle(GapTooSmall, fmt.Sprintf("%s cannot gain anything with what may go.", p.Title()), p.Number))
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

// mostFolders bounds how many folders a route moves.
const mostFolders = 3

// moveFiles makes room in a volume by moving folders of people's files to another one of the
// drive: what is moved then is files, not partitions.
func (s *search) moveFiles(p *layout.Span, want disk.Bytes) {
	var chosen []Folder
	sum := disk.Bytes(0)
	for _, x := range s.f.Insides[p.Number].Folders {
		if sum >= want || len(chosen) == mostFolders {
			break
		}
		if !slices.ContainsFunc(chosen, func(y Folder) bool {
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
			chosen, sum = []Folder{x}, x.Bytes
		}
	}
	for _, q := range s.l.Partitions() {
		if q.Number == p.Number || !HoldsFiles(&q) || q.Role == layout.EFI || s.f.Shelved[q.Number] != "" || mayTake(&q, sum+sum/100) != nil {
			continue
		}
		var steps []Step
		for _, x := range chosen {
			steps = append(steps, Step{Do: CopyOut, Partition: s.g.Receiver, Volume: strconv.Itoa(q.Number), Only: []string{x.Path}, Move: true})
		}
		s.add(nil, nil, steps)
	}
}

func numbers(set []layout.Span) map[int]bool {
	m := map[int]bool{}
	for _, p := range set {
		m[p.Number] = true
	}
	return m
}

// draft is a way that has been found and is not yet laid out.
type draft struct {
	gone  []layout.Span
	steps []Step
	price disk.Bytes
	lost  int
	gives bool
	later bool
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
			d := draft{gone: set, steps: x.steps, price: x.price + disk.Bytes(len(set))*tableSectors*s.l.Sector}
			for _, q := range set {
				if q.Volume != nil {
					d.lost++
				}
			}
			if slices.ContainsFunc(x.steps, func(x Step) bool { return x.Do == Slide || x.Do == Shrink || x.Do == Container || x.Edge == "head" }) {
				d.later = true
			}
			d.gives = slices.ContainsFunc(x.steps, func(x Step) bool { return x.Do == Shrink })
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

// try adds the ways that delete the given partitions and then do steps: simply, and with
// the PC's recovery environment parked and taken into use from a new place.
func (s *search) try(gone []layout.Span, then ...Step) {
	s.add(gone, nil, append(deletions(gone), then...))
	if s.f.PC == nil || s.f.PC.Recovery == nil || !s.f.PC.Recovery.InUse {
		return
	}
	i := slices.IndexFunc(gone, func(p layout.Span) bool { return strings.EqualFold(p.UniqueID, s.f.PC.Recovery.Partition) })
	if i < 0 || gone[i].Role != layout.Recovery {
		return
	}
	r := gone[i]
	steps := append([]Step{{Do: ParkRecovery, Partition: strconv.Itoa(r.Number)}}, deletions(gone)...)
	steps = append(steps, then...)
	again := Again(s.l, &r)
	again.As = "recovery"
	s.add(gone, &r, append(steps, again, Step{Do: UseRecovery, Partition: "recovery"}))
}

// add adds a way if it can be done; kept is the one of the deleted partitions whose contents
// live on elsewhere.
func (s *search) add(gone []layout.Span, kept *layout.Span, steps []Step) {
	cols := Lay(s.l, s.f, steps)
	r := Route{Lost: []string{}, Plan: Plan{Version: 1, Steps: steps}}
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
	r.Price = PriceOf(s.l, cols, s.f)
	if most, err := disk.ParseAmount(s.g.AtMost, 1<<60); s.g.AtMost != "" && (err != nil || r.Price.Rewritten > most) {
		s.Obstacles = append([]Obstacle{*obstacle(TooMuch, fmt.Sprintf("A route would rewrite %s, more than the %s that may be.", r.Price.Rewritten, most))}, s.Obstacles...)
		return
	}
	if s.g.NoSecondDrive && slices.ContainsFunc(steps, func(x Step) bool { return x.Do == CopyOut && x.Volume == "" }) {
		return
	}
	for _, p := range gone {
		if p.Volume != nil && (kept == nil || p.Number != kept.Number) {
			r.Lost = append(r.Lost, p.Title())
		}
	}
	for _, name := range append([]string{s.g.GiveTo, s.g.KeepPlace}, s.g.ShareWith...) {
		was, ok := s.l.Find(number(name))
		if q, still := cols[len(cols)-1].Layout.Find(number(name)); ok && still {
			r.Gained += q.Bytes - was.Bytes
		}
	}
	r.Title = titleOf(s.l, cols, gone, kept)
	if r.Gained > 0 && len(s.g.Combine) > 0 {
		if p, ok := s.l.Find(number(s.g.KeepPlace)); ok {
			r.Title += fmt.Sprintf("; %s gains %s", p.Title(), r.Gained)
		}
	}
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
		return cmp.Or(cmp.Compare(len(r.Lost), len(s.Lost)), cmp.Compare(r.Price.Rewritten, s.Price.Rewritten), cmp.Compare(r.Price.Deleted, s.Price.Deleted))
	})
	a.Routes = append([]Route{}, kept[:min(len(kept), mostShown)]...)
	if len(a.Routes) > 0 {
		a.Obstacles = []Obstacle{}
	}
}

// takeIn absorbs a neighbour whose place is enough for what is wanted.
func (s *search) takeIn(p *layout.Span, want disk.Bytes) {
	for _, q := range s.l.Partitions() {
		if q.Container == p.Container && q.Start > p.End && q.Bytes >= want && q.Role == layout.Data && q.Volume != nil && !slices.Contains(s.g.Keep, strconv.Itoa(q.Number)) && covered(s.without(&q), p.End+1, q.End, p.Container) {
			s.add(nil, nil, []Step{{Do: Absorb, Partition: strconv.Itoa(q.Number), Into: s.g.Receiver}})
		}
	}
}

// without is the layout with a partition gone.
func (s *search) without(q *layout.Span) *layout.Layout {
	return s.l.With(slices.DeleteFunc(s.l.Partitions(), func(x layout.Span) bool { return x.Number == q.Number }))
}

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
		mayDelete(s.l, q, s.f) == nil && filesOf(q, s.f) == nil && q.Volume.Clean
}

// replace adds the ways that copy a volume's files out, delete it and others, do steps, make
// it again in the room that is left, at most as large as wanted, and bring the files back.
func (s *search) replace(q *layout.Span, gone []layout.Span, size disk.Bytes, then ...Step) {
	n := strconv.Itoa(q.Number)
	back := func(hold string) []Step {
		return []Step{{Do: CopyBack, Partition: "again", Backup: hold}}
	}
	letter := func() []Step {
		if q.Letter == "" || s.f.PC == nil {
			return nil
		}
		return []Step{{Do: Letter, Partition: "again", Letter: q.Letter}}
	}
	lay := func(steps []Step) *layout.Layout {
		cols := Lay(s.l, s.f, steps)
		return cols[len(cols)-1].Layout
	}
	least := q.Volume.UsedBytes + q.Volume.UsedBytes/20 + 64*disk.MiB
	made := func(steps []Step) (Step, bool) {
		after := lay(steps)
		if after == nil {
			return Step{}, false
		}
		gap := biggestGap(after, func(g layout.Span) bool { return g.Container == q.Container })
		room := disk.Bytes(0)
		if gap != nil {
			if room = after.Room(*gap); q.Container != 0 {
				room -= disk.Grid // for its record
			}
		}
		if room < least {
			s.block(obstacle(GapTooSmall, fmt.Sprintf("%s would find no room again for the %s that are in it.", q.Title(), q.Volume.UsedBytes), q.Number))
			return Step{}, false
		}
		again := Again(s.l, q)
		again.As, again.StartLBA = "again", gap.Start.Offset(s.l.Sector).Up(disk.Grid).At(s.l.Sector)
		if again.Size = fmt.Sprintf("%d B", min(size, room)); q.Container != 0 {
			again.In = "container"
		}
		return again, true
	}
	all := append(slices.Clone(gone), *q)
	// Through the shelf.
	steps := append([]Step{{Do: CopyOut, Partition: n, As: "kept"}}, deletions(all)...)
	steps = append(steps, then...)
	if again, ok := made(steps); ok {
		s.add(gone, nil, slices.Concat(steps, []Step{again}, back("kept"), letter()))
	}
	// Through another volume of the drive: the one with the most room.
	var to *layout.Span
	for _, x := range s.l.Partitions() {
		if x.Number != q.Number && !numbers(gone)[x.Number] && HoldsFiles(&x) && x.Role != layout.EFI && s.f.Shelved[x.Number] == "" && mayTake(&x, least) == nil && (to == nil || x.Volume.Free() > to.Volume.Free()) {
			to = &x
		}
	}
	if to != nil {
		steps := append([]Step{{Do: CopyOut, Partition: n, Volume: strconv.Itoa(to.Number), As: "kept"}}, deletions(all)...)
		steps = append(steps, then...)
		if again, ok := made(steps); ok {
			s.add(gone, nil, slices.Concat(steps, []Step{again}, back("kept"), letter()))
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
		temp := Step{Do: Create, Size: fmt.Sprintf("%d B", least), Type: "basic", Format: "ntfs", Label: "Temporary", As: "temporary"}
		end := (gap.End + 1).Offset(s.l.Sector).Down(disk.Grid)
		temp.StartLBA = (end - least.Up(disk.Grid)).At(s.l.Sector)
		steps := append([]Step{temp, {Do: CopyOut, Partition: n, Volume: "temporary", As: "kept"}}, deletions(all)...)
		steps = append(steps, then...)
		if again, ok := made(steps); ok {
			s.add(gone, nil, slices.Concat(steps, []Step{again}, back("kept"), []Step{{Do: Delete, Partition: "temporary"}}, letter()))
		}
	}
}

// remove deletes what is unwanted and gives its space to a volume, or shares it among
// several.
func (s *search) remove() {
	var gone []layout.Span
	for _, name := range s.g.Remove {
		p, o := named(s.l, name)
		if o == nil && numbers(gone)[p.Number] {
			continue
		}
		if o == nil {
			o = mayDelete(s.l, p, s.f)
		}
		if o != nil && o.Code == HasVolumes && !slices.ContainsFunc(inside(s.l, p.Number), func(n int) bool { return !slices.Contains(s.g.Remove, strconv.Itoa(n)) }) {
			o = nil // they go first
		}
		if o != nil {
			s.block(o)
			continue
		}
		gone, s.Most = append(gone, *p), s.Most+p.Bytes
	}
	if len(s.Obstacles) > 0 || len(gone) == 0 {
		return
	}
	slices.SortStableFunc(gone, func(a, b layout.Span) int { return cmp.Compare(b.Container, a.Container) })
	receivers := s.g.ShareWith
	if s.g.GiveTo != "" {
		receivers = append([]string{s.g.GiveTo}, receivers...)
	}
	if len(receivers) == 0 {
		s.try(gone)
		return
	}
	after := s.l.With(slices.DeleteFunc(s.l.Partitions(), func(p layout.Span) bool { return numbers(gone)[p.Number] }))
	share := (s.Most / disk.Bytes(len(receivers))).Down(disk.Grid)
	if len(receivers) == 1 {
		s.giveAll(receivers[0], gone)
	}
	// By growing alone, and by whatever else it takes.
	for _, onlyGrow := range []bool{true, false} {
		l, steps, ok := after, []Step(nil), true
		for _, name := range receivers {
			r, o := named(l, name)
			if o == nil {
				o = resizable(r, s.f)
			}
			if o != nil {
				s.block(o)
				return
			}
			var more []Step
			if onlyGrow {
				room, o := mayGrow(l, r, s.f)
				if o != nil {
					s.block(o)
					ok = false
					break
				}
				more = []Step{{Do: Grow, Partition: name, By: "all"}}
				if most := (room - r.End).Offset(l.Sector); len(receivers) > 1 && most > share {
					more[0].By = fmt.Sprintf("%d B", share)
				}
			} else {
				x := solve(l, r, 0, nil, nil, s.f)
				if x = solve(l, r, min(share, x.most), nil, nil, s.f); x.price < 0 || len(x.steps) == 0 {
					ok = false
					break
				}
				more = x.steps
			}
			steps = append(steps, more...)
			cols := Lay(l, s.f, more)
			if l = cols[len(cols)-1].Layout; l == nil {
				s.Obstacles = append(s.Obstacles, cols[len(cols)-1].Obstacles...)
				ok = false
				break
			}
		}
		if ok {
			s.try(gone, steps...)
		}
	}
}

// giveAll looks for the ways in which one volume gains as much as what goes had, with
// whatever else may go.
func (s *search) giveAll(name string, gone []layout.Span) {
	r, o := named(s.l, name)
	if o == nil {
		o = resizable(r, s.f)
	}
	if o != nil || numbers(gone)[r.Number] {
		return // that is said elsewhere
	}
	var may []layout.Span
	for _, q := range s.l.ByPlace() {
		if q.Number != r.Number && q.Role != layout.Container && !numbers(gone)[q.Number] && s.mayGo(&q) == nil {
			may = append(may, q)
		}
	}
	for _, set := range selections(may, r) {
		all := slices.Concat(gone, set)
		x := solve(s.l, r, 0, numbers(all), nil, s.f)
		if x = solve(s.l, r, min(s.Most, x.most).Down(disk.Grid), numbers(all), nil, s.f); x.price >= 0 && len(x.steps) > 0 {
			s.try(all, x.steps...)
		}
	}
}

// room makes room for a new volume: in a gap that is there, with what may go, or by moving
// what stands between gaps.
func (s *search) room() {
	fresh := Step{Do: Create, Size: s.g.Room, Type: "basic", Format: "ntfs", As: "new"}
	parts := slices.DeleteFunc(s.l.ByPlace(), func(p layout.Span) bool { return p.Container != 0 })
	most := func(l *layout.Layout) disk.Bytes {
		if g := biggestGap(l, func(g layout.Span) bool { return g.Container == 0 }); g != nil {
			return l.Room(*g)
		}
		return 0
	}
	s.Most = most(s.l)
	s.try(nil, fresh)
	// Neighbours that may go, as few of them as make the room.
	for i := range parts {
		for k := i; k < min(len(parts), i+mostGone); k++ {
			if o := s.mayGo(&parts[k]); o != nil {
				break
			}
			after := Lay(s.l, s.f, deletions(parts[i:k+1]))
			if end := after[len(after)-1].Layout; end != nil {
				s.Most = max(s.Most, most(end))
			}
			before := len(s.Routes)
			if s.try(parts[i:k+1], fresh); len(s.Routes) > before {
				break
			}
		}
	}
	s.gather(fresh)
}

// gather moves partitions so that gaps come together where a new volume is to be, with and
// without volumes that give something up.
func (s *search) gather(fresh Step) {
	want, err := disk.ParseAmount(s.g.Room, 1<<60)
	if err != nil { // a share of what there is needs nothing moved
		return
	}
	need := int64((want + disk.Grid - 1) / disk.Grid)
	for _, give := range []givers{nil, s.giving(&layout.Span{})} {
		links, _ := chain(s.l, 0, nil, give, s.f)
		best, steps := disk.Bytes(-1), []Step(nil)
		inside := false
		for i := 0; i+1 < len(links); i++ {
			if links[i].edge {
				inside = links[i].lo == links[i].p.Start
			}
			if inside {
				continue
			}
			right, left := links[i+1:], slices.Clone(links[:i+1])
			slices.Reverse(left)
			gap := between(s.l, &links[i], &links[i+1])
			lefts := append([]way{{}}, makeWay(s.l, left, true, need)...)
			rights := append([]way{{}}, makeWay(s.l, right, false, need)...)
			for a := range lefts {
				for b := range rights {
					s.Most = max(s.Most, disk.Bytes(gap+lefts[a].mib+rights[b].mib)*disk.Grid)
					price := lefts[a].price + rights[b].price
					if gap+lefts[a].mib+rights[b].mib < need || best >= 0 && price >= best || price == 0 {
						continue
					}
					best, steps = price, nil
					x := min(need-gap, rights[b].mib)
					if x > 0 {
						steps = append(steps, stepsFor(right, &rights[b], x, false)...)
					}
					if y := need - gap - max(x, 0); y > 0 {
						steps = append(steps, stepsFor(left, &lefts[a], y, true)...)
					}
				}
			}
		}
		if best >= 0 {
			s.try(nil, append(steps, fresh)...)
		}
	}
}

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
	p, o := named(s.l, keep)
	q, o2 := named(s.l, from)
	for _, o := range []*Obstacle{o, o2} {
		if o != nil {
			s.block(o)
			return
		}
	}
	if o := mayDelete(s.l, q, s.f); o != nil {
		s.block(o)
		return
	}
	s.Most = q.Bytes
	gone := map[int]bool{q.Number: true}
	absorbs := Step{Do: Absorb, Partition: from, Into: keep}
	s.add(nil, nil, []Step{absorbs})
	if resizable(p, s.f) != nil || filesOf(q, s.f) != nil {
		return
	}
	// Where its place does not touch the one that stays, what lies between slides.
	moved := solve(s.l, p, q.Bytes.Down(disk.Grid), gone, nil, s.f)
	if direct := covered(s.without(q), p.End+1, q.End, p.Container) && q.Start > p.End; !direct && moved.price >= 0 {
		s.add(nil, nil, append([]Step{absorbs}, moved.steps...))
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
	folder := "From " + strings.TrimPrefix(holdFolder(q), "Kept from ")
	back := Step{Do: CopyBack, Partition: keep, Backup: "kept", Folder: folder}
	ends := [][]Step{nil}
	if moved.price >= 0 && len(moved.steps) > 0 {
		ends = append(ends, moved.steps)
	}
	holds := []Step{{Do: CopyOut, Partition: from, As: "kept"}}
	for _, x := range s.l.Partitions() {
		if x.Number != p.Number && x.Number != q.Number && HoldsFiles(&x) && x.Role != layout.EFI && s.f.Shelved[x.Number] == "" && mayTake(&x, q.Volume.UsedBytes) == nil {
			holds = append(holds, Step{Do: CopyOut, Partition: from, Volume: strconv.Itoa(x.Number), As: "kept"})
		}
	}
	for _, hold := range holds {
		for _, then := range ends {
			s.add(nil, nil, slices.Concat([]Step{hold, {Do: Delete, Partition: from}}, then, []Step{back}))
		}
	}
}

// split makes several volumes of one.
func (s *search) split() {
	p, o := named(s.l, s.g.Split)
	if o != nil {
		s.block(o)
		return
	}
	a := shrink(s.l, p, s.f)
	if a.Obstacle != nil {
		s.block(a.Obstacle)
		return
	}
	s.Most = a.Limit
	sum := disk.Bytes(0)
	var fresh []Step
	for i, text := range s.g.Parts {
		size, err := disk.ParseAmount(text, a.Limit)
		if err != nil {
			s.block(obstacle(BadAmount, fmt.Sprintf("%v. %s can give up %s (%s).", err, p.Title(), a.Limit, a.Limit.Exact()), p.Number))
			return
		}
		size = size.Up(disk.Grid)
		sum += size
		x := Step{Do: Create, Size: fmt.Sprintf("%d B", size), Type: "basic", Format: "ntfs", As: fmt.Sprintf("part%d", i+1)}
		if p.Container != 0 {
			x.In = "container"
			sum += disk.Grid // for its record
		}
		fresh = append(fresh, x)
	}
	if sum > a.Limit {
		s.block(obstacle(GapTooSmall, fmt.Sprintf("%s can give up %s (%s), and the new volumes need %s.", p.Title(), a.Limit, a.Limit.Exact(), sum), p.Number))
		return
	}
	edge := (p.End + 1).Offset(s.l.Sector)
	at := (edge - sum).Up(disk.Grid)
	for i := range fresh { // each behind the one before
		fresh[i].StartLBA = at.At(s.l.Sector)
		size, _ := disk.ParseAmount(fresh[i].Size, 1<<60)
		if at += size; p.Container != 0 {
			at += disk.Grid
		}
	}
	s.add(nil, nil, append([]Step{{Do: Shrink, Partition: s.g.Split, By: fmt.Sprintf("%d B", sum)}}, fresh...))
	if s.replaceable(p) {
		s.replace(p, nil, p.Bytes-sum)
		for i := range s.Routes { // what it gives up becomes the new ones
			r := &s.Routes[i]
			if slices.ContainsFunc(r.Plan.Steps, func(x Step) bool { return x.Do == CopyOut }) {
				steps := slices.Clone(r.Plan.Steps)
				for _, x := range fresh {
					x.StartLBA = 0
					steps = append(steps, x)
				}
				*r = Route{}
				s.add(nil, nil, steps)
			}
		}
		s.Routes = slices.DeleteFunc(s.Routes, func(r Route) bool { return r.ID == "" })
	}
}

// recovery gives the recovery partition a new place, or does without it.
func (s *search) recovery() {
	var r *layout.Span
	for _, p := range s.l.ByPlace() {
		if p.Role == layout.Recovery && (r == nil || s.f.PC != nil && s.f.PC.Recovery != nil && strings.EqualFold(p.UniqueID, s.f.PC.Recovery.Partition)) {
			r = &p
		}
	}
	if r == nil {
		s.block(obstacle(NoSuch, "There is no recovery partition."))
		return
	}
	if o := mayDelete(s.l, r, s.f); o != nil {
		s.block(o)
		return
	}
	s.Most = r.Bytes
	n := strconv.Itoa(r.Number)
	if s.g.Recovery == Without {
		s.add([]layout.Span{*r}, nil, []Step{{Do: Delete, Partition: n}})
		s.add(nil, nil, []Step{{Do: ParkRecovery, Partition: n}, {Do: Delete, Partition: n}})
		return
	}
	for _, by := range []string{"all", "-all"} {
		s.add(nil, nil, []Step{{Do: Slide, Partition: n, By: by}})
	}
	for _, g := range s.l.Spans {
		if g.Kind != layout.Gap || g.Why != layout.Free || g.Container != 0 || s.l.Room(g) < r.Bytes {
			continue
		}
		again := Again(s.l, r)
		again.As = "recovery"
		// At the end of the gap: what lies before it can still grow.
		again.StartLBA = ((g.End + 1).Offset(s.l.Sector).Down(disk.Grid) - r.Bytes.Up(disk.Grid)).At(s.l.Sector)
		s.add([]layout.Span{*r}, r, []Step{{Do: ParkRecovery, Partition: n}, {Do: Delete, Partition: n}, again, {Do: UseRecovery, Partition: "recovery"}})
		copies := again
		copies.As = "again"
		s.add(nil, nil, []Step{{Do: CopyOut, Partition: n, As: "kept"}, {Do: Delete, Partition: n}, copies, {Do: CopyBack, Partition: "again", Backup: "kept"}})
	}
}

// clearDrive makes plain storage of the whole drive.
func (s *search) clearDrive() {
	parts := s.l.ByPlace()
	slices.SortStableFunc(parts, func(a, b layout.Span) int { // logical volumes before their container
		return cmp.Compare(b.Container, a.Container)
	})
	for i := range parts {
		if o := mayDelete(s.l, &parts[i], s.f); o != nil && o.Code != HasVolumes {
			s.block(o)
		}
	}
	if len(s.Obstacles) > 0 {
		return
	}
	s.Most = s.l.Size
	store := Step{Do: Create, Size: "all", Type: "basic", Format: "ntfs", Label: "Storage", As: "storage"}
	if len(parts) > 0 || s.l.Scheme != "none" {
		s.add(parts, nil, append(deletions(parts), store))
	}
	s.add(parts, nil, []Step{{Do: Clear, Scheme: "gpt"}, store})
	if s.l.Size <= 2<<40 {
		s.add(parts, nil, []Step{{Do: Clear, Scheme: "mbr"}, store})
	}
}

// routeWords are what the steps of a route do, as far as they have been told.
type routeWords struct {
	now               *layout.Layout
	kept              *layout.Span // the recovery partition that gets a new place, nil for none
	slid, gave, other []string
}

// said has, for each kind of step that a route tells of, how that is done.
var said = map[Do]func(w *routeWords, c Column, was *layout.Span){
	Absorb: asTitled, Clear: asTitled, Container: asTitled, CopyOut: routedCopyOut, Grow: routedGrow, ParkRecovery: routedParking,
	Shrink: routedShrink, Slide: routedSlide,
}

func routedParking(w *routeWords, _ Column, _ *layout.Span) {
	if w.kept == nil {
		w.other = append(w.other, "the recovery environment stays parked")
	}
}

// asTitled has a route say what a step does as its title says it.
func asTitled(w *routeWords, c Column, _ *layout.Span) {
	w.other = append(w.other, strings.ToLower(c.Title[:1])+c.Title[1:])
}

// titleOf words a route by what its steps do.
func titleOf(now *layout.Layout, cols []Column, gone []layout.Span, kept *layout.Span) string {
	w := routeWords{now: now, kept: kept}
	for _, c := range cols {
		was, ok := now.Find(c.Number)
		if !ok {
			was = &layout.Span{}
		}
		if say := said[c.Step.Do]; say != nil {
			say(&w, c, was)
		}
	}
	var del, parts []string
	for _, p := range gone {
		del = append(del, p.Title())
	}
	if len(del) > 0 {
		parts = append(parts, "delete "+join(del))
	}
	parts = append(parts, w.gave...)
	if len(w.slid) > 0 {
		parts = append(parts, "slide "+join(w.slid))
	}
	parts = append(parts, w.other...)
	if kept != nil {
		parts = append(parts, "the recovery environment moves to a new place")
	}
	if len(parts) == 0 {
		parts = append(parts, cols[len(cols)-1].Title+" into the gap that is there")
	}
	text := strings.Join(parts, "; ")
	return strings.ToUpper(text[:1]) + text[1:]
}
