package web

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/sample"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// TestRuler draws a drive along a line without holes, and keeps the order of all places on it.
func TestRuler(t *testing.T) {
	l := sample.Reception()
	r := rulerOf(l, 1000)
	x := 0.0
	for _, b := range r.Bars {
		if math.Abs(b.X-x) > 1e-6 || b.W < 6 || b.UsedW > b.Wide()+1e-6 {
			t.Errorf("%s is drawn from %g, %g wide and %g full, after %g", b.Title, b.X, b.W, b.UsedW, x)
		}
		x += b.W
	}
	if math.Abs(x-1000) > 1e-6 {
		t.Errorf("it is %g long", x)
	}
	last := -1.0
	end := disk.LBA(l.Size / l.Sector)
	for lba := disk.LBA(0); lba < end; lba += end / 500 {
		if at := r.at(lba); at < last || at > 1000 {
			t.Fatalf("sector %d lies at %g, one before it at %g", lba, at, last)
		} else {
			last = at
		}
	}
	p := l.Partitions()[2]
	find := findRow{Find: seek.Find{Start: p.Start - 100, End: p.Start + 10_000_000, Bytes: disk.GiB}, Word: "likely"}
	found := foundOn(r, []findRow{find})
	whole := 0.0
	for _, x := range found[0].Taken {
		whole += x.W
		if x.X < found[0].X-1e-6 || x.End() > found[0].End()+2 {
			t.Errorf("%+v is taken of %+v", x, found[0].stretch)
		}
	}
	if len(found) != 1 || len(found[0].Taken) == 0 || whole == 0 {
		t.Errorf("what lies over %s is not drawn: %+v", p.Title(), found)
	}
	if free := foundOn(r, []findRow{{Find: seek.Find{Start: end - 3000, End: end - 2000}}}); len(free[0].Taken) != 0 {
		t.Errorf("at the drive's end nothing lies: %+v", free)
	}
}

// TestBooks has backups stand on their shelf in the order of their age, within its room, however many there are.
func TestBooks(t *testing.T) {
	now := time.Date(2026, 12, 2, 10, 0, 0, 0, time.UTC)
	for _, n := range []int{0, 1, 3, 90, 300} {
		var rows []shelfRow
		for i := range n {
			m := &shelf.Manifest{ID: fmt.Sprint("b-", i), Made: now.Add(-time.Duration(i) * time.Hour), Stored: disk.Bytes(i*i+1) * disk.MiB}
			if i%2 == 0 {
				m.Verified = &now
			}
			rows = append(rows, shelfRow{Manifest: m, Expired: i%5 == 0})
		}
		place := ""
		if n > 0 {
			place = rows[0].Where()
		}
		books, older := booksOf(rows, place, now)
		if len(books)+older != n || len(books) > mostBooks {
			t.Errorf("of %d, %d are drawn and %d are not", n, len(books), older)
		}
		x := 0.0
		for i, b := range books {
			if b.X < x || b.W < 5 || b.X+b.W > booksWide+1 || b.H <= 0 || b.H > booksHigh {
				t.Errorf("%d of %d stands at %g, %g wide and %g high, after %g", i, n, b.X, b.W, b.H, x)
			}
			x = b.X + b.W
			if want := fmt.Sprint("/shelf/b-", len(books)-1-i); b.Link != want {
				t.Errorf("%d of %d is %s, want %s", i, n, b.Link, want)
			}
			if b.Class == "" || !strings.Contains(b.Text, standings[b.Class]) {
				t.Errorf("%q is said of %q", b.Text, b.Class)
			}
		}
		if other, _ := booksOf(rows, "elsewhere", now); len(other) > 0 {
			t.Errorf("%d stand on another shelf", len(other))
		}
	}
}

// TestLife draws the life of one drive, and of several none.
func TestLife(t *testing.T) {
	a, b := sample.Reception(), sample.Reception()
	one, other := trail.Drive{Serial: "AA-1"}, trail.Drive{Serial: "BB-2"}
	at := time.Date(2026, 12, 2, 10, 0, 0, 0, time.UTC)
	entry := func(seq int64, d trail.Drive, act trail.Act, before, after *layout.Layout) trail.Entry {
		return trail.Entry{Seq: seq, Drive: d, Act: act, Before: before, After: after, Time: at.Add(time.Duration(seq) * time.Minute)}
	}
	list := []trail.Entry{
		entry(4, one, trail.ActUndone, b, a), entry(3, one, trail.ActDone, a, b), entry(2, one, trail.ActDelete, a, b), entry(1, one, trail.ActBackup, nil, nil),
	}
	life := lifeOf(list)
	if len(life) != 3 || life[0].Layout != a || life[1].Layout != b || life[2].Layout != a || life[0].When != "before" || life[2].Link != "/trail/4" {
		t.Errorf("%+v", life)
	}
	if life := lifeOf(append(list, entry(0, other, trail.ActDone, a, b))); life != nil {
		t.Errorf("of two drives: %+v", life)
	}
	if lifeOf(list[2:]) != nil || lifeOf(nil) != nil {
		t.Error("without a run there is nothing to draw")
	}
}

// TestPairs draws each verdict that a comparison came to once, one below the other, on the sides that have the files.
func TestPairs(t *testing.T) {
	r := &compare.Result{Counts: map[compare.Verdict]volume.Sum{
		compare.Same: {Files: 900, Bytes: disk.GiB}, compare.OnlyThere: {Files: 1}, compare.OnlyHere: {Files: 12}, compare.Different: {},
	}}
	pairs, height := pairsOf(r)
	want := map[compare.Verdict][2]bool{compare.Same: {true, true}, compare.OnlyHere: {true, false}, compare.OnlyThere: {false, true}}
	y := 0.0
	for _, p := range pairs {
		if sides, ok := want[p.Verdict]; !ok || sides != [2]bool{p.Here, p.There} || p.Files != r.Counts[p.Verdict].Files {
			t.Errorf("%+v", p)
		}
		if p.Y < y || p.H < 13 {
			t.Errorf("%s stands at %g, %g high, after %g", p.Verdict, p.Y, p.H, y)
		}
		y = p.Y + p.H
	}
	if len(pairs) != len(want) || height < y || pairs[0].H < pairs[1].H || pairs[1].H < pairs[2].H {
		t.Errorf("%d are drawn, %g high: %+v", len(pairs), height, pairs)
	}
	if pairs, height := pairsOf(&compare.Result{}); len(pairs) != 0 || height != 0 {
		t.Errorf("nothing was compared: %+v", pairs)
	}
}
