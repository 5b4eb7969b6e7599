package web

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// ruler draws a drive along a line: each span has a legible length, and within a span places keep their proportion.
type ruler struct {
	Width float64
	Bars  []rulerBar
}

// rulerBar is a partition or a gap on a ruler.
type rulerBar struct {
	Role, Title string
	Gap         bool
	X, W, UsedW float64
	start, end  disk.LBA
}

// rulerOf is the ruler of a drive, width units long.
func rulerOf(l *layout.Layout, width float64) *ruler {
	const least = 6
	r := &ruler{Width: width}
	var weight float64
	for _, sp := range l.Spans {
		if sp.Kind == layout.Gap && sp.Why != layout.Free || sp.Role == layout.Container {
			continue
		}
		weight += math.Pow(float64(sp.Bytes), 0.6)
		b := rulerBar{Role: string(sp.Role), Title: sp.Title(), Gap: sp.Kind == layout.Gap, start: sp.Start, end: sp.End}
		if b.Gap {
			b.Title = "gap"
		}
		b.Title += ", " + sp.Bytes.String()
		if b.UsedW = 1; fill(&sp) >= 0 {
			b.UsedW = float64(fill(&sp)) / 100
		}
		b.W = math.Pow(float64(sp.Bytes), 0.6)
		r.Bars = append(r.Bars, b)
	}
	room := math.Max(width-least*float64(len(r.Bars)), 0)
	x := 0.0
	for i := range r.Bars {
		b := &r.Bars[i]
		b.X, b.W = x, least+room*b.W/weight
		b.UsedW *= b.W - 1
		x += b.W
	}
	return r
}

// Wide is how wide a bar is drawn: a little is left between two.
func (b rulerBar) Wide() float64 { return b.W - 1 }

// at is where a sector lies on the ruler. What lies in no span of it lies where the next one begins.
func (r *ruler) at(lba disk.LBA) float64 {
	for _, b := range r.Bars {
		switch {
		case lba < b.start:
			return b.X
		case lba <= b.end:
			return b.X + b.W*float64(lba-b.start)/float64(b.end-b.start+1)
		}
	}
	return r.Width
}

// stretch is a part of a ruler.
type stretch struct{ X, W float64 }

// End is where it ends.
func (s stretch) End() float64 { return s.X + s.W }

func (r *ruler) stretch(from, to disk.LBA) stretch {
	x := r.at(from)
	return stretch{x, math.Max(r.at(to+1)-x, 2)}
}

// foundAt is a find over a drive's ruler: its place, and what of that something else lies over now.
type foundAt struct {
	stretch
	Taken       []stretch
	Link, Title string
	Word        string
}

// mostFound is how many finds are drawn over a drive.
const mostFound = 12

// foundOn draws finds over a drive.
func foundOn(r *ruler, finds []findRow) (out []foundAt) {
	for _, f := range finds {
		x := foundAt{
			stretch: r.stretch(f.Start, f.End), Link: f.Link, Word: f.Word,
			Title: fmt.Sprintf("%s, %s, %s", f.Title(), f.Bytes, f.Word),
		}
		for _, b := range r.Bars {
			if from, to := max(b.start, f.Start), min(b.end, f.End); !b.Gap && from <= to {
				x.Taken = append(x.Taken, r.stretch(from, to))
			}
		}
		out = append(out, x)
	}
	return out
}

// book is a backup as it stands on its shelf, drawn as wide as it takes room, the oldest first.
type book struct {
	X, W, H                 float64
	Class, Link, Text, Made string
}

// Top is where it ends on its shelf.
func (b book) Top() float64 { return booksHigh - b.H }

// A shelf is drawn booksWide by booksHigh, with as many of the newest books as have room.
const (
	booksWide, booksHigh = 1000.0, 64.0
	mostBooks            = 90
)

// booksOf are the backups of one place as books, and how many older ones are not drawn.
func booksOf(rows []shelfRow, place string, now time.Time) (out []book, older int) {
	rows = slices.DeleteFunc(slices.Clone(rows), func(r shelfRow) bool { return r.Where() != place })
	slices.SortFunc(rows, func(a, b shelfRow) int { return cmp.Or(a.Made.Compare(b.Made), cmp.Compare(a.ID, b.ID)) })
	older = max(len(rows)-mostBooks, 0)
	rows = rows[older:]
	const least = 9
	weigh := func(r *shelfRow) float64 { return math.Pow(float64(max(r.Stored, 1)), 0.5) }
	var most, whole float64
	for i := range rows {
		w := weigh(&rows[i])
		most, whole = max(most, w), whole+w
	}
	x := 0.0
	for _, r := range rows {
		w := weigh(&r)
		b := book{
			X: x, Made: ago(now.Sub(r.Made)), H: booksHigh * (0.55 + 0.45*w/most), Class: r.standing(), Link: "/shelf/" + r.ID,
			W: least + math.Min((booksWide-(least+2)*float64(len(rows)))*w/whole, 60*w/most),
		}
		b.Text = fmt.Sprintf(
			"%s of %s, %s, made %s (%s), %s", r.Kind, r.From.Span.Title(), r.Stored, when(r.Made), ago(now.Sub(r.Made)),
			standings[b.Class],
		)
		x += b.W + 2
		out = append(out, b)
	}
	return out, older
}

// standings are what the classes of books say.
var standings = map[string]string{
	"damaged": "damaged, or not what was verified here", "past": "kept longer than it has to be", "verified": "verified",
	"unverified": "not verified",
}

// standing is how a backup stands, as the class of its book.
func (r *shelfRow) standing() string {
	switch {
	case r.Foreign || r.Lost != "" || r.Damage != nil:
		return "damaged"
	case r.Expired:
		return "past"
	case r.Verified != nil:
		return "verified"
	}
	return "unverified"
}

// moment is a drive after something was done to it.
type moment struct {
	Layout     *layout.Layout
	When, What string
	Link       string
}

// mostMoments is how many moments of a drive's life are drawn.
const mostMoments = 16

// lifeOf is the life of the drive that entries are about, the newest entry first: as it was before the first of them and
// after each run. It is nil where they are about several drives, or tell of no run.
func lifeOf(entries []trail.Entry) (out []moment) {
	for i := len(entries) - 1; i >= 0; i-- {
		e := entries[i]
		if !e.Drive.Same(entries[0].Drive) {
			return nil
		}
		if e.Act != trail.ActDone && e.Act != trail.ActUndone || e.After == nil {
			continue
		}
		if len(out) == 0 && e.Before != nil {
			out = append(out, moment{e.Before, "before", "", fmt.Sprintf("/trail/%d", e.Seq)})
		}
		out = append(out, moment{e.After, when(e.Time), words.Entered(e.Act), fmt.Sprintf("/trail/%d", e.Seq)})
	}
	return out[max(len(out)-mostMoments, 0):]
}

// pair is what became of some files of two sides that were compared: those of one verdict, as a band from one side to the
// other, or on one side alone.
type pair struct {
	Y, H        float64
	Here, There bool
	Verdict     compare.Verdict
	Files       int
	Bytes       disk.Bytes
}

// Middle is where its words stand.
func (p pair) Middle() float64 { return p.Y + p.H/2 + 4 }

// At and Anchor are where its words stand across: between the sides, or beside the one that has the files.
func (p pair) At() int {
	switch {
	case !p.There:
		return 132
	case !p.Here:
		return 588
	}
	return 360
}

// Anchor is the end of its words that stands at At.
func (p pair) Anchor() string {
	switch {
	case !p.There:
		return "start"
	case !p.Here:
		return "end"
	}
	return "middle"
}

// pairsOf are the two sides of a comparison, one above the other by their verdicts, and how high they are drawn.
func pairsOf(r *compare.Result) (out []pair, height float64) {
	const least, room, space = 20, 120, 4
	weigh := func(n int) float64 { return math.Pow(float64(n), 0.5) }
	verdicts := []compare.Verdict{compare.Same, compare.Different, compare.Unknown, compare.OnlyHere, compare.OnlyThere}
	whole := 0.0
	for _, v := range verdicts {
		whole += weigh(r.Counts[v].Files)
	}
	for _, v := range verdicts {
		n := r.Counts[v]
		if n.Files == 0 {
			continue
		}
		p := pair{
			Y: height, H: least + room*weigh(n.Files)/whole, Here: v != compare.OnlyThere, There: v != compare.OnlyHere,
			Verdict: v, Files: n.Files, Bytes: n.Bytes,
		}
		out = append(out, p)
		height += p.H + space
	}
	return out, height
}
