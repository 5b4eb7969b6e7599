package run

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"testing"

	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
)

// TestWalkBack deletes a partition, does other work over its place, deletes another, and walks
// back: the drive is laid out as it was, and every file is as it was.
func TestWalkBack(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	before := contents(t, im)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	then, first := sv.Layout, holds(t, im)
	im.Close()
	for _, n := range []int{4, 6} {
		ro := s.open(t)
		if _, err := BackUp(context.Background(), s.options(ro), Wanted{Partition: n, Kind: shelf.Image}, nil); err != nil {
			t.Fatal(err)
		}
		ro.Close()
	}
	im = s.open(t)
	for _, steps := range [][]plan.Step{
		{deleteRecovery, growC},
		{{Partition: "6", Body: plan.Deletion{Release: "not needed"}}, {Partition: "5", Body: plan.Sliding{By: "30 MiB"}}},
		{{Body: plan.Creation{Size: "20 MiB", Type: "basic", Format: "ntfs", Label: "New"}}},
	} {
		s.steps = steps
		if _, err := CarryOut(context.Background(), s.options(im)); err != nil {
			t.Fatalf("%+v: %v", steps, err)
		}
	}
	if sv, err = survey.Read(im, nil); err != nil {
		t.Fatal(err)
	}
	o := s.options(im)
	o.Lead = true
	w, err := facts.WalkBack(o.Sources, sv, then, nil)
	if err != nil || len(w.Cannot) > 0 || len(w.Steps) < 5 {
		t.Fatalf("%d steps, cannot %v, %v", len(w.Steps), w.Cannot, err)
	}
	for i := range w.Steps {
		if w.Steps[i].Deletes() {
			w.Steps[i] = w.Steps[i].WithReasons(w.Steps[i].Release(), "it was made for the test")
		}
	}
	s.steps = w.Steps
	if _, err := CarryOut(context.Background(), s.options(im)); err != nil {
		t.Fatalf("%d steps: %v", len(w.Steps), err)
	}
	if sv, err = survey.Read(im, nil); err != nil || sv.Check().FirstError() != nil {
		t.Fatal(err, sv.Check())
	}
	if to := os.Getenv("JADETRAIL_KEEP"); to != "" {
		keep(t, im, s.image, filepath.Join(to, "walked-back"), first)
	}
	if d := layout.Differ(then, sv.Layout); len(d) > 0 || !maps.Equal(before, contents(t, im)) {
		t.Errorf("%v, or files are not as they were", d)
	}
}
