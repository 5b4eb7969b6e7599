package web

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// relabel makes the drive in a bay another one, whose table says the same.
func (s *front) relabel(t *testing.T, image, serial string) {
	t.Helper()
	path := filepath.Join(s.Data, "drives", image)
	id, err := survey.ReadIdentity(path)
	if err != nil {
		t.Fatal(err)
	}
	id.Serial = serial
	b, err := json.Marshal(id)
	if err == nil {
		err = os.WriteFile(path+shop.IdentityEnds, b, 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// openDeleted is openSmall with a partition of J-1042 deleted by the lead; record is the page of its record.
func openDeleted(t *testing.T) (s *front, record string) {
	t.Helper()
	s, _ = openSmall(t)
	s.as(t, "odile")
	s.carry(t, plan.Step{Partition: "4", Body: plan.Deletion{Release: "r", Waiver: "w"}})
	all, err := s.Records.All()
	if err != nil || len(all) != 1 {
		t.Fatal(len(all), err)
	}
	return s, "/records/" + all[0].ID
}

// TestAnotherDriveInTheBay puts another drive, with the same table, in a drive's place: what belongs to the
// first is said of none but it, and no plan that was made for it is carried out on the other.
func TestAnotherDriveInTheBay(t *testing.T) {
	s, record := openDeleted(t)
	if page := s.get(t, record); !strings.Contains(page, "Plan to bring it back") {
		t.Fatal("it cannot be brought back")
	}
	s.planned(t, plan.Step{Partition: "2", Body: plan.Deletion{Release: "r", Waiver: "w"}})
	ready := s.shown(t, "J-1042", "carry-out")
	s.relabel(t, "tidewater-reception.img", "TLX5-220-9999")
	page := s.get(t, record)
	if strings.Contains(page, "Plan to bring it back") || strings.Contains(page, "untouched <strong") || !strings.Contains(page, "(TLX5-220-7F3K) is in no bay") {
		t.Errorf("the record is told of another drive: %s", page)
	}
	if page := s.post(t, record+"/bring-back"); !strings.Contains(page, "is in no bay") {
		t.Errorf("brought back on another drive: %.300s", page)
	}
	if page := s.get(t, "/jobs/J-1042"); !strings.Contains(page, "its serial number is TLX5-220-9999 instead of TLX5-220-7F3K") {
		t.Error("the plan of another drive is not told from one of this")
	}
	if page := s.post(t, ready, "serial", "9999"); !strings.Contains(page, "othing was begun") {
		t.Errorf("a plan for another drive is carried out: %s", page)
	}
	s.idle(t)
	entries, err := s.Store.Entries(store.Filter{Act: string(trail.ActDelete)})
	if err != nil || len(entries) != 1 {
		t.Errorf("%d deletions, %v", len(entries), err)
	}
	s.relabel(t, "tidewater-reception.img", "TLX5-220-7F3K")
	if page := s.get(t, record); !strings.Contains(page, "Plan to bring it back") {
		t.Error("its own drive is not found again")
	}
}

// TestHistoryByLabel clears a drive: the trail knows it as one drive before and after, by its serial number.
func TestHistoryByLabel(t *testing.T) {
	s, _ := openSmall(t)
	s.as(t, "odile")
	s.carry(t, plan.Step{Partition: "4", Body: plan.Deletion{Release: "r", Waiver: "w"}})
	s.post(t, "/jobs/J-1042/pc/state", "state", "off")
	s.carry(t, plan.Step{Body: plan.Clearing{Scheme: "none", Release: "r", Waiver: "w"}})
	page := s.get(t, "/trail?drive=TLX5-220-7F3K")
	if strings.Count(page, `<option value="TLX5-220-7F3K"`) != 1 || strings.Count(page, "Carried out and read back") != 2 {
		t.Errorf("%d choices, %d runs", strings.Count(page, `<option value="TLX5-220-7F3K"`), strings.Count(page, "Carried out and read back"))
	}
}

// TestRecordNamesItsBackup deletes a partition in the name of a backup of its files: its record's page says what
// that backup can be used for, and does not deny it.
func TestRecordNamesItsBackup(t *testing.T) {
	s, _ := openSmall(t)
	s.post(t, "/jobs/J-1042/back-up", "partition", "3", "kind", "files")
	s.idle(t)
	s.carry(t, plan.Step{Partition: "3", Body: plan.Deletion{}})
	all, err := s.Records.All()
	if err != nil || len(all) != 1 || all[0].Backup == "" {
		t.Fatalf("%+v, %v", all, err)
	}
	page := s.get(t, "/records/"+all[0].ID)
	if strings.Contains(page, "No backup") || !strings.Contains(page, "Its backup "+all[0].Backup+" has its files, and not what each sector held") {
		t.Errorf("of its backup the page says something else: %s", page)
	}
}

// TestWasElsewhere takes a drive out of its bay after a deletion and attaches it again: what lay in the deleted
// partition's place is called untouched no further than what the record kept of it still tells.
func TestWasElsewhere(t *testing.T) {
	s, record := openDeleted(t)
	stand := func() (untouched, unknown string) {
		t.Helper()
		m := regexp.MustCompile(`: ([^,"]*) untouched, [^,"]* taken, ([^,"]*) not known"`).FindStringSubmatch(s.get(t, record))
		if m == nil {
			t.Fatal("the page does not say how its place stands")
		}
		return m[1], m[2]
	}
	if untouched, unknown := stand(); untouched == "0 B" || unknown != "0 B" {
		t.Fatalf("before: %s untouched, %s not known", untouched, unknown)
	}
	s.post(t, "/jobs/J-1042/steps/take-out", "step", "1")
	s.post(t, "/dock/detach", "bay", "A")
	files, _ := filepath.Glob(filepath.Join(s.Data, "dock", "*.img"))
	if len(files) != 1 {
		t.Fatalf("in the dock: %v", files)
	}
	s.post(t, "/dock/attach", "file", filepath.Base(files[0]), "bay", "A", "job", "J-1042")
	s.idle(t)
	if page := s.get(t, record); !strings.Contains(page, "The drive has been out of its bay since") {
		t.Error("it is not said why")
	}
	if untouched, unknown := stand(); unknown == "0 B" {
		t.Errorf("after it was elsewhere: %s untouched, %s not known", untouched, unknown)
	}
}
