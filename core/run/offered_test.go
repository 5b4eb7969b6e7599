package run

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/route"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
)

// anyGoal is a goal for a drive of some partitions.
func anyGoal(rng *rand.Rand, numbers []string) *route.Goal {
	any := func() string { return numbers[rng.IntN(len(numbers))] }
	amount := func() string { return fmt.Sprintf("%d MiB", 1+rng.IntN(12)) }
	g := route.Goal{Version: 1, NoSecondDrive: rng.IntN(3) == 0}
	switch rng.IntN(6) {
	case 0:
		if g.Receiver, g.Gain = any(), amount(); rng.IntN(2) == 0 {
			g.MayDelete = []string{any()}
		}
	case 1:
		g.Remove = []string{any()}
		g.GiveTo = any()
	case 2:
		g.Combine = []string{any(), any()}
		g.KeepPlace = g.Combine[rng.IntN(2)]
	case 3:
		g.Split, g.Parts = any(), []string{amount()}
	case 4:
		g.Room = amount()
	default:
		g.Clear = true
	}
	return &g
}

// TestOfferedCanBeDone rehearses, on random drives, every route that a goal is answered with and every act
// that is offered: none of them is offered that cannot be carried out. What needs a backup first has it made.
func TestOfferedCanBeDone(t *testing.T) {
	rng, wanted := tries(t, 40, 3000)
	drives, goals, routes, acts := 0, 0, 0, 0
	var wrong []string
	for routes+acts < wanted {
		dir := t.TempDir()
		s := &shop{dir: dir, image: filepath.Join(dir, "d.img"), seed: uint64(drives)}
		sector, _ := randomDrive(t, s.image, rng, nil)
		im, err := disk.OpenImage(s.image, sector, true)
		if err != nil {
			t.Fatal(err)
		}
		drives++
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		options := func() Options {
			o := s.options(im)
			o.PC, o.Rehearse = nil, true
			return o
		}
		backed := map[int]bool{}
		// rehearsed tells why steps that are offered cannot be done.
		rehearsed := func(what string, steps []plan.Step) {
			o := options()
			for _, x := range steps { // a copy on the shelf is made before
				n, _ := strconv.Atoi(x.Partition)
				if x.Do() != plan.CopyOut || x.Other() != "" || backed[n] {
					continue
				}
				if _, err := BackUp(context.Background(), o, Wanted{Partition: n, Kind: shelf.Files}, nil); err != nil {
					wrong = append(wrong, fmt.Sprintf("%s: the backup of %d: %v", what, n, err))
					return
				}
				backed[n] = true
			}
			o.Plan = &plan.Plan{Version: 1, Steps: steps}
			if _, err := CarryOut(context.Background(), o); err != nil {
				wrong = append(wrong, fmt.Sprintf("drive %d, %s: %+v: %v", drives, what, steps, err))
			}
		}
		f, err := facts.Gather(options().Sources, sv, nil)
		if err != nil {
			t.Fatal(err)
		}
		var numbers []string
		for _, p := range sv.Layout.Partitions() {
			number := strconv.Itoa(p.Number)
			numbers = append(numbers, number)
			for _, a := range plan.Acts(sv.Layout, p.Number, f) {
				if a.Obstacle != nil {
					continue
				}
				x := plan.Step{Partition: number}
				switch a.Do {
				case plan.Grow:
					x.Body = plan.Growth{By: fmt.Sprintf("%d B", a.Limit), Edge: a.Edge}
				case plan.Shrink:
					x.Body = plan.Shrinking{By: fmt.Sprintf("%d B", a.Limit), Edge: a.Edge}
				case plan.Slide:
					x.Body = plan.Sliding{By: []string{"all", "-all"}[rng.IntN(2)]}
					if cols := plan.Lay(sv.Layout, f, []plan.Step{x}); len(cols[0].Obstacles) > 0 {
						continue // there is room on the other side
					}
				case plan.Delete:
					x.Body = plan.Deletion{}
				case plan.Container:
					box := plan.Containing{Act: a.Act}
					if a.Act != plan.Dissolve {
						box.By = "all"
					}
					x.Body = box
				default:
					continue
				}
				acts++
				rehearsed("offered", []plan.Step{x})
			}
		}
		for range 6 {
			g := anyGoal(rng, numbers)
			goals++
			for _, r := range route.Routes(sv.Layout, f, g).Routes {
				routes++
				rehearsed(fmt.Sprintf("goal %+v, route %q", *g, r.Title), r.Plan.Steps)
			}
		}
		im.Close()
		os.RemoveAll(dir)
	}
	t.Logf("%d drives, %d acts offered, %d goals with %d routes: %d cannot be done", drives, acts, goals, routes, len(wrong))
	for _, w := range wrong[:min(len(wrong), 20)] {
		t.Error(w)
	}
}

// TestOfferedOnAPC rehearses every route by which two volumes of a drive that a PC starts from are combined, and
// that frees the place of one: also those into its only EFI partition, or into one that its maker filled.
func TestOfferedOnAPC(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	o := s.options(im)
	sv, err := survey.Read(im, o.PC)
	if err != nil {
		t.Fatal(err)
	}
	o.Rehearse = true
	parts := sv.Layout.Partitions()
	for _, p := range parts {
		if sv.Volume(p.Number) == nil {
			continue
		}
		if _, err := BackUp(context.Background(), o, Wanted{Partition: p.Number, Kind: shelf.Files}, nil); err != nil {
			t.Fatal(err)
		}
	}
	f, err := facts.Gather(o.Sources, sv, nil)
	if err != nil {
		t.Fatal(err)
	}
	routes := 0
	for _, a := range parts {
		for _, b := range parts {
			here, there := strconv.Itoa(a.Number), strconv.Itoa(b.Number)
			both := []string{here, there}
			goals := []*route.Goal{
				{Version: 1, Combine: both, KeepPlace: here}, {Version: 1, Combine: both, KeepPlace: there},
				{Version: 1, Remove: []string{here}, GiveTo: there},
			}
			for _, g := range goals {
				if here == there {
					continue
				}
				for _, r := range route.Routes(sv.Layout, f, g).Routes {
					routes++
					o.Plan = &plan.Plan{Version: 1, Steps: r.Plan.Steps}
					if _, err := CarryOut(context.Background(), o); err != nil {
						t.Errorf("%+v, %q: %v", *g, r.Title, err)
					}
				}
			}
		}
	}
	if t.Logf("%d routes", routes); routes < 50 {
		t.Error("few are offered")
	}
}
