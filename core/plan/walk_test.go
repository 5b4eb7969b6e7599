package plan

import (
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/sample"
)

// TestWalkBack lays plans on the reception PC's drive, and walks each back.
func TestWalkBack(t *testing.T) {
	then := sample.With(sample.Reception(), 5, func(s *layout.Span) { s.Name, s.Attributes = "Basic data partition", "0x0000000000000000" })
	facts := func() Facts {
		f := Facts{NewIDs: StandIns(), NewID: StandIns()[0], Records: map[string]Record{}, Lead: true}
		for _, p := range then.Partitions() {
			f.Records["r-"+p.UniqueID] = Record{Span: p, Stand: &Stand{Used: disk.MiB, Untouched: disk.MiB}}
		}
		return f
	}
	known := map[string]Former{}
	for _, p := range then.Partitions() {
		known[strings.ToLower(p.UniqueID)] = Former{Record: "r-" + p.UniqueID}
	}
	for name, steps := range map[string][]Step{
		"nothing":           nil,
		"deleted":           {{Partition: "4", Body: Deletion{Release: "r", Waiver: "w"}}},
		"deleted and grown": {{Partition: "4", Body: Deletion{Release: "r", Waiver: "w"}}, {Partition: "3", Body: Growth{By: "1 GiB"}}},
		"slid and grown":    {{Partition: "6", Body: Sliding{By: "20 GiB"}}, {Partition: "5", Body: Sliding{By: "20 GiB"}}, {Partition: "4", Body: Sliding{By: "20 GiB"}}, {Partition: "3", Body: Growth{By: "20 GiB"}}},
		"shrunk and a new":  {{Partition: "5", Body: Shrinking{By: "30 GiB"}}, {Body: Creation{Size: "20 GiB", Type: "basic", Format: "ntfs", Label: "New"}}},
		"at the head":       {{Partition: "5", Body: Shrinking{By: "30 GiB", Edge: "head"}}},
		"retagged":          {{Partition: "5", Body: Retagging{Name: "Other", Attributes: "0x8000000000000000"}}},
		"labelled":          {{Partition: "5", Body: Labelling{Label: "Other"}}},
	} {
		f := facts()
		now := then
		if len(steps) > 0 {
			cols := Lay(then, f, steps)
			last := cols[len(cols)-1]
			if now = last.Layout; now == nil {
				t.Fatalf("%s: %+v", name, last.Obstacles)
			}
		}
		w := WalkBack(now, then, facts(), known)
		if len(w.Cannot) > 0 {
			t.Errorf("%s: %v", name, w.Cannot)
			continue
		}
		end := now
		if len(w.Steps) > 0 {
			cols := Lay(now, facts(), w.Steps)
			end = cols[len(cols)-1].Layout
		}
		if end == nil {
			t.Errorf("%s: %+v", name, w.Steps)
		} else if d := layout.Differ(then, end); len(d) > 0 {
			t.Errorf("%s: %v after %+v", name, d, w.Steps)
		}
	}
	// What is not known of cannot return; what is in the way is told.
	f := facts()
	cols := Lay(then, f, []Step{{Partition: "4", Body: Deletion{Release: "r", Waiver: "w"}}})
	w := WalkBack(cols[0].Layout, then, f, nil)
	if len(w.Steps) != 0 || len(w.Cannot) != 1 || !strings.Contains(w.Cannot[0], "there is no record of it") {
		t.Errorf("%+v", w)
	}
	other := *then
	other.DiskID = "another"
	if w := WalkBack(&other, then, f, known); len(w.Cannot) != 1 {
		t.Errorf("%+v", w)
	}
}
