package web

import (
	"crypto/ed25519"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// TestForeignBackup has a backup on the shelf that the shop has not signed: nothing goes in its name until
// the lead takes it in. One whose contents are gone is told of on the bench.
func TestForeignBackup(t *testing.T) {
	s, _ := openSmall(t)
	_, s.Store.Key, _ = ed25519.GenerateKey(nil)
	var err error
	if s.Keys, err = s.Store.Keys(); err != nil || len(s.Keys) != 1 {
		t.Fatal(s.Keys, err)
	}
	s.post(t, "/dock/detach", "bay", "B") // the shelf: the bench's own folder takes its place
	s.post(t, "/jobs/J-1042/back-up", "partition", "3", "kind", "image")
	s.idle(t)
	id := s.backups(t)[0].ID
	gate := func() string {
		t.Helper()
		s.planned(t, plan.Step{Partition: "3", Body: plan.Deletion{}})
		return s.get(t, "/jobs/J-1042/safeguard")
	}
	if page := gate(); !strings.Contains(page, "All is settled") {
		t.Fatalf("with a backup of the shop: %.3000s", page)
	}
	path := filepath.Join(s.Data, "shelf", id, "manifest.json")
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var m map[string]any
	if err := json.Unmarshal(b, &m); err != nil || m["signature"] == nil {
		t.Fatalf("the manifest is not signed: %v", err)
	}
	// The same without its signature.
	forged := strings.Replace(string(b), m["signature"].(string), "", 1)
	if err := os.WriteFile(path, []byte(forged), 0o644); err != nil {
		t.Fatal(err)
	}
	if page := gate(); !strings.Contains(page, "is not signed by this shop. Take it in") || strings.Contains(page, "All is settled") {
		t.Errorf("the gate takes it: %.3000s", page)
	}
	if page := s.get(t, "/shelf/"+id); !strings.Contains(page, "This shop has not signed it") || !strings.Contains(page, "as it says of itself") {
		t.Errorf("the backup's page: %.2000s", page)
	}
	if page := s.post(t, "/shelf/own", "backup", id, "reason", "I know it"); !strings.Contains(page, "That is for leads") {
		t.Errorf("taken in by a technician: %.400s", page)
	}
	s.post(t, "/shelf/verify", "backup", id)
	if said := s.wait(t, "shelf"); !strings.Contains(said, "not signed by this shop") {
		t.Errorf("verified: %s", said)
	}
	s.as(t, "odile")
	s.post(t, "/shelf/own", "backup", id, "reason", "I know it")
	if said := s.wait(t, "shelf"); !strings.Contains(said, "one of the shop's backups from now on") {
		t.Errorf("taken in: %s", said)
	}
	all, err := s.Store.Entries(store.Filter{Act: string(trail.ActTakeIn)})
	if err != nil || len(all) != 1 || all[0].Who != "Odile Farrow" || all[0].Reason != "I know it" || all[0].Backup != id {
		t.Errorf("the trail: %+v, %v", all, err)
	}
	if page := gate(); !strings.Contains(page, "All is settled") {
		t.Errorf("taken in, and the gate: %.3000s", page)
	}
	if page := s.get(t, "/"); strings.Contains(page, "is not what was verified") {
		t.Error("the bench tells of a loss that is none")
	}
	if err := os.Remove(filepath.Join(s.Data, "shelf", id, "image.zst")); err != nil {
		t.Fatal(err)
	}
	if page := s.get(t, "/"); !strings.Contains(page, "is not what was verified") || !strings.Contains(page, "Backup of Pictures") || strings.Contains(page, s.Data) {
		t.Errorf("the bench does not tell of the loss, or by a path: %.2500s", page)
	}
	if page := gate(); !strings.Contains(page, "is not what it was") || strings.Contains(page, s.Data) {
		t.Errorf("the gate, of what is gone: %.3000s", page)
	}
}

// TestNamesLikeSentences names a volume like what the trail says of backups: a report tells it by its whole name,
// also while the shelf is out.
func TestNamesLikeSentences(t *testing.T) {
	s, _ := openSmall(t)
	const label = "Files of Ann: 2 backed up"
	s.carry(t, plan.Step{Partition: "3", Body: plan.Labelling{Label: label}})
	s.post(t, "/jobs/J-1042/back-up", "partition", "3", "kind", "image")
	s.idle(t)
	s.post(t, "/dock/detach", "bay", "B")
	page := s.get(t, "/jobs/J-1042/hand-over")
	_, backups, _ := strings.Cut(page, "Verified by reading back")
	if row, _, _ := strings.Cut(backups, "on no shelf that is in a bay"); !strings.Contains(row, ">"+label+"</a") {
		t.Errorf("the backup is called %.600s", row)
	}
	if page := s.get(t, "/jobs/J-1042"); !strings.Contains(page, "before: Label "+label) && !strings.Contains(page, label+`"`) {
		t.Error("the column before the run is not called by its steps")
	}
}

// TestReportOfAShelfThatIsOut takes the shelf out: the report still tells of the backup, and that it is on no
// shelf in a bay; and it says of the record what the record's page says.
func TestReportOfAShelfThatIsOut(t *testing.T) {
	s, _ := openSmall(t)
	s.post(t, "/jobs/J-1042/back-up", "partition", "3", "kind", "image")
	s.idle(t)
	id := s.backups(t)[0].ID
	s.carry(t, plan.Step{Partition: "3", Body: plan.Deletion{}})
	report := func(want, not string) {
		t.Helper()
		if page := s.get(t, "/jobs/J-1042/hand-over"); !strings.Contains(page, want) || strings.Contains(page, not) {
			t.Errorf("the report does not say %q, or says %q", want, not)
		}
	}
	report("Its backup "+id+" is kept.", "on no shelf that is in a bay")
	s.post(t, "/dock/detach", "bay", "B")
	report("Its backup "+id+" is on no shelf that is in a bay now.", "is kept.")
	report("It can be brought back at its own place; all of the ", "not on the shelf")
	// Something else is made in its place and goes again: of the record, and in the report, that is told alike.
	s.carry(t, plan.Step{Body: plan.Creation{StartLBA: (41 * disk.MiB).At(512), Size: "20 MiB", Type: "basic", Format: "ntfs", As: "n"}})
	report("has its place now, or a part of it.", "It can be brought back")
	all, err := s.Records.All()
	if err != nil || len(all) != 1 {
		t.Fatal(all, err)
	}
	if page := s.get(t, "/records/"+all[0].ID); !strings.Contains(page, "cannot come back: its place is taken") {
		t.Errorf("its record: %.3000s", page)
	}
	report("cannot come back: its place is taken", "It can be brought back")
}
