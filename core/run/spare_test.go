package run

import (
	"context"
	"errors"
	"math/rand/v2"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
)

// promisedBytes are the bytes that undo promises of a drive: of every partition what was not free.
func promisedBytes(t *testing.T, dev, now disk.Device) map[int][]byte {
	t.Helper()
	sv, err := survey.Read(dev, nil)
	if err != nil {
		t.Fatal(err)
	}
	out := map[int][]byte{}
	for _, p := range sv.Layout.Partitions() {
		if p.Role == layout.Container { // what lies in it counts
			continue
		}
		ranges, _, err := shelf.Ranges(survey.Window(dev, p), sv.Volume(p.Number))
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range ranges {
			b, err := disk.ReadFull(now, p.Start.Offset(dev.SectorBytes())+r.Start, r.Len())
			if err != nil {
				t.Fatal(err)
			}
			out[p.Number] = append(out[p.Number], b...)
		}
	}
	return out
}

// TestUndoGivesAllBack takes plans back, late and early, in which a step writes into what an earlier
// one has made free: the end of a volume with the copy of its boot sector, the place of a deleted
// one, clusters that files have left.
func TestUndoGivesAllBack(t *testing.T) {
	gone := func(n string) plan.Step {
		return plan.Step{Partition: n, Body: plan.Deletion{Release: "not wanted", Waiver: "none needed"}}
	}
	for name, steps := range map[string][]plan.Step{
		"over the end of a smaller one":    {{Partition: "5", Body: plan.Shrinking{By: "8 MiB"}}, {Partition: "6", Body: plan.Sliding{By: "-8 MiB"}}},
		"over the head of a smaller one":   {{Partition: "5", Body: plan.Shrinking{By: "8 MiB", Edge: "head"}}, {Partition: "4", Body: plan.Growth{By: "all"}}},
		"made in the end of a smaller one": {{Partition: "5", Body: plan.Shrinking{By: "12 MiB"}}, {Body: plan.Creation{StartLBA: (1 + 80 + 4 + 48 + 24 + 20) * 2048, Size: "12 MiB", Type: "basic", Format: "ntfs", Label: "New", As: "new"}}},
		"over a deleted one":               {gone("4"), {Partition: "5", Body: plan.Sliding{By: "-20 MiB"}}, {Partition: "6", Body: plan.Sliding{By: "-10 MiB"}}},
		"slid, then deleted and written over": {gone("4"), {Partition: "5", Body: plan.Sliding{By: "-10 MiB"}}, gone("5"),
			{Body: plan.Creation{StartLBA: (1 + 80 + 4 + 48 + 14) * 2048, Size: "30 MiB", Type: "basic", Format: "ntfs", Label: "New", As: "new"}}, {Partition: "3", Body: plan.Growth{By: "all"}}},
		"a folder moved out, and files put there": {{Partition: "5", Body: plan.CopyingOut{Volume: "3", Only: []string{"X-rays"}, Move: true, As: "out"}},
			{Partition: "6", Body: plan.CopyingOut{Volume: "5", As: "in"}}},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop(t, steps...)
			base := s.open(t)
			want, files := promisedBytes(t, base, base), contents(t, base)
			back := func(o Options) error { _, err := Resume(context.Background(), o, true); return err }
			calm, power := s.copyOf(t, base), &disk.Power{}
			if err := s.attempt(t, calm, t.TempDir(), power, start); err != nil {
				t.Fatal(err)
			}
			calm.Close()
			for _, at := range []int{power.Writes() / 2, power.Writes() * 3 / 4, power.Writes() - 3, power.Writes()} {
				dev, dir := s.copyOf(t, base), t.TempDir()
				if err := s.attempt(t, dev, dir, &disk.Power{At: at, Torn: true, Rand: rand.New(rand.NewPCG(1, 2))}, start); !errors.Is(err, disk.ErrPowerCut) {
					t.Fatalf("cut at %d: %v", at, err)
				}
				if err := s.attempt(t, dev, dir, &disk.Power{}, back); err != nil {
					t.Fatalf("cut at %d of %d: %v", at, power.Writes(), err)
				}
				for n, b := range promisedBytes(t, base, dev) {
					if string(b) != string(want[n]) {
						t.Errorf("cut at %d of %d: partition %d is not as it was", at, power.Writes(), n)
					}
				}
				for path, was := range contents(t, dev) {
					if files[path] != was {
						t.Errorf("cut at %d: %s has other contents", at, path)
					}
				}
				sv, err := survey.Read(dev, nil)
				if err != nil {
					t.Fatal(err)
				}
				if f := sv.Check().FirstError(); f != nil {
					t.Errorf("cut at %d: %s", at, f.Text)
				}
				dev.Close()
			}
		})
	}
}
