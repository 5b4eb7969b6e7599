package plan

import (
	"math/rand/v2"
	"strconv"
	"testing"

	"jadetrail/core/chance"
	"jadetrail/core/layout"
	"jadetrail/core/sample"
)

// TestImproved joins and cancels what can be joined and cancelled, and leaves everything else.
func TestImproved(t *testing.T) {
	l := sample.Reception() // 6 is followed by the gap
	grow := func(by string) Step { return Step{Partition: "6", Body: Growth{By: by}} }
	slide := func(by string) Step { return Step{Partition: "6", Body: Sliding{By: by}} }
	deletes := Step{Partition: "4", Body: Deletion{Release: "r", Waiver: "w"}}
	for name, c := range map[string]struct {
		steps []Step
		want  int // how many steps are left
	}{
		"nothing":                         {[]Step{grow("1 GiB")}, 1},
		"twice the same way":              {[]Step{grow("1 GiB"), grow("2 GiB")}, 1},
		"there and back":                  {[]Step{slide("2 GiB"), slide("-2 GiB")}, 0},
		"there and half the way back":     {[]Step{slide("4 GiB"), slide("-2 GiB")}, 1},
		"with another one in between":     {[]Step{grow("1 GiB"), deletes, grow("1 GiB")}, 2},
		"of different partitions":         {[]Step{deletes, {Partition: "3", Body: Growth{By: "all"}}, grow("1 GiB")}, 3},
		"needed for what is in between":   {[]Step{slide("4 GiB"), {Partition: "5", Body: Growth{By: "4 GiB"}}, grow("1 GiB")}, 3},
		"that cannot be done is as it is": {[]Step{grow("900 GiB"), grow("1 GiB")}, 2},
	} {
		f := Facts{NewIDs: StandIns(), Lead: true}
		better, saved := Improved(l, f, c.steps)
		if len(better) != c.want || saved < 0 {
			t.Errorf("%s: %d steps, %s saved: %+v", name, len(better), saved, better)
		}
	}
}

// TestImprovedAnyPlan improves random plans: each leads where the other led, asks for no more and writes no more.
func TestImprovedAnyPlan(t *testing.T) {
	rng := chance.Of(t)
	improved := 0
	for n := range 400 {
		l := sample.AnyDrive(rng, 2+rng.IntN(6))
		f := Facts{NewIDs: StandIns(), Lead: true}
		var steps []Step
		end := l
		for range 2 + rng.IntN(6) {
			s := anyResize(rng, end)
			cols := Lay(l, f, append(steps, s))
			if last := cols[len(cols)-1]; len(last.Obstacles) == 0 && last.Layout != nil {
				steps, end = append(steps, s), last.Layout
			}
		}
		better, saved := Improved(l, f, steps)
		was, ok := worth(l, f, steps)
		is, still := worth(l, f, better)
		if !ok || !still || len(better) > len(steps) || saved != was.price.Rewritten-is.price.Rewritten || saved < 0 || is.missing > was.missing {
			t.Fatalf("drive %d: %+v became %+v", n, steps, better)
		}
		if d := layout.Differ(was.end, is.end); len(d) > 0 {
			t.Fatalf("drive %d: another end: %v", n, d)
		}
		if len(better) < len(steps) {
			improved++
		}
	}
	if improved < sample.Many(30, 30) {
		t.Errorf("only %d plans were improved", improved)
	}
}

// anyResize is a step that changes the place or the size of some partition.
func anyResize(rng *rand.Rand, l *layout.Layout) Step {
	ps := l.Partitions()
	if len(ps) == 0 {
		return Step{Partition: "1", Body: Growth{By: "all"}}
	}
	s := Step{Partition: strconv.Itoa(ps[rng.IntN(min(len(ps), 3))].Number)}
	by := strconv.Itoa(1+rng.IntN(900)) + " MiB"
	switch rng.IntN(4) {
	case 0:
		s.Body = Growth{By: by}
	case 1:
		s.Body = Shrinking{By: by}
	case 2:
		s.Body = Sliding{By: by}
	default:
		s.Body = Sliding{By: "-" + by}
	}
	return s
}
