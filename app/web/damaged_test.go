package web

import (
	"errors"
	"html"
	"strings"
	"testing"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// TestDamagedBack makes a volume in the middle of a deleted one, deletes it, and brings the first back:
// the record's page and the gate say what is gone, ask why it comes back all the same, and the trail has
// the answer.
func TestDamagedBack(t *testing.T) {
	s := open(t)
	s.carry(t, plan.Step{Partition: "6", Body: plan.Deletion{Release: "not wanted", Waiver: "none needed"}})
	entries, err := s.Store.Entries(store.Filter{Act: string(trail.ActDelete)})
	if err != nil || len(entries) != 1 {
		t.Fatal(entries, err)
	}
	id := entries[0].Record
	rec, _, err := s.Records.Load(id)
	if err != nil {
		t.Fatal(err)
	}
	s.carry(t, plan.Step{Body: plan.Creation{StartLBA: rec.Span.Start + disk.MiB.At(512), Size: "64 MiB", Type: "basic", Format: "ntfs", Label: "Other", As: "other"}})
	s.carry(t, plan.Step{Partition: "6", Body: plan.Deletion{Release: "not wanted", Waiver: "empty"}})
	says := func(path string, want ...string) {
		t.Helper()
		page := html.UnescapeString(s.get(t, path))
		for _, w := range want {
			if !strings.Contains(page, w) {
				t.Errorf("%s does not say %q", path, w)
			}
		}
	}
	says("/trail", "Odile Farrow answered for it")
	says("/records/"+id, "does not come back whole", `name="damaged"`, "taken by something else")
	s.post(t, "/records/"+id+"/bring-back")
	says("/jobs/J-1042/safeguard", "What comes back damaged", "A reason why it comes back all the same", "something else is still asked for")
	s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
	if out := s.settle(t); !strings.Contains(out, "does not come back whole") {
		t.Errorf("carried out without a reason: %s", out)
	}
	s.post(t, "/jobs/J-1042/steps/change", "step", "1", "damaged", "  ")
	says("/jobs/J-1042/safeguard", "A reason why it comes back all the same")
	s.post(t, "/jobs/J-1042/steps/change", "step", "1", "damaged", "the drivers are wanted")
	says("/jobs/J-1042/safeguard", "All is settled", "the drivers are wanted")
	s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
	if out := s.settle(t); strings.Contains(out, "Nothing was written") {
		t.Fatal(out)
	}
	entries, err = s.Store.Entries(store.Filter{Act: string(trail.ActBringBack)})
	if err != nil || len(entries) != 1 || entries[0].Reason != "the drivers are wanted" || !strings.Contains(entries[0].Text, "does not come back whole") {
		t.Fatalf("%+v, %v", entries, err)
	}
}

// TestHistoryIsTheDrives clears a drive of a job: its page still tells what was done on it, and a drive without
// a table and without a serial number tells nobody's history.
func TestHistoryIsTheDrives(t *testing.T) {
	s := open(t)
	s.carry(t, plan.Step{Partition: "6", Body: plan.Deletion{Release: "not wanted", Waiver: "none needed"}})
	entries := func(job, bay string) int {
		t.Helper()
		st, err := s.state(job, bay)
		if err != nil {
			t.Fatal(err)
		}
		defer st.Drive.Close()
		return st.Entries
	}
	before := entries("J-1042", "A")
	_, d, err := s.OpenJob("J-1042", "", true)
	if err != nil {
		t.Fatal(err)
	}
	err = errors.Join(d.Image.Zero(0, 34*512), d.Image.Zero(d.Image.Size()-33*512, 33*512))
	d.Close()
	if err != nil || before == 0 {
		t.Fatal(before, err)
	}
	if now := entries("J-1042", "A"); now != before {
		t.Errorf("%d entries with its table, %d without", before, now)
	}
	s.post(t, "/dock/blank", "bay", "I", "model", "Quayline 64", "serial", "BLANK-0001", "size", "64 MiB", "job", "J-1047")
	if n := entries("J-1047", "I"); n != 1 {
		t.Errorf("a blank drive has %d entries; that it was attached is one", n)
	}
}
