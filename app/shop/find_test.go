package shop

import (
	"fmt"
	"testing"
	"time"

	"jadetrail/app/store"
	"jadetrail/core/layout"
	"jadetrail/core/sample"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// TestFind finds what the shop keeps by a part of it, whatever dashes and letters it is written with, and of each kind no
// more than is shown.
func TestFind(t *testing.T) {
	s, c := opened(t)
	c.open(t, s)
	ines := c.worker(t, s, "ines", "Ines Marsh", store.Worker)
	if _, err := s.NewJob(ines, counted()); err != nil {
		t.Fatal(err)
	}
	id := survey.Identity{Model: "16 GB stick", Serial: "VLT1-004-77Q2"}
	if _, err := s.MakeBlank(ines, id, "64 MiB", 512, "A", "J-1001"); err != nil {
		t.Fatal(err)
	}
	l := sample.Reception()
	span, _ := l.Find(5)
	for i := range MostOfKind + 3 {
		rec := &trail.Record{
			Version: 1, ID: fmt.Sprintf("d-%03d", i), Time: time.Date(2026, 11, 20, 16, i, 0, 0, time.UTC), Who: "Ines Marsh",
			Drive: trail.Drive{DiskID: "x", Serial: "TLX5-220-7F3K"}, Span: *span, Before: l, After: l,
		}
		held := []volume.File{
			{Path: fmt.Sprintf("Letters/Quay %02d.txt", i), Kind: volume.Plain, Bytes: 7}, {Path: "Letters", Kind: volume.Folder},
		}
		if _, err := s.Records.Save(rec, trail.Contents{First: []byte("x"), Files: held}); err != nil {
			t.Fatal(err)
		}
	}
	find := func(text string) *Found {
		t.Helper()
		f, err := s.Find(text)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	if f := find("vlt1 00477q2"); len(f.Drives) != 1 || f.Drives[0].Bay != "A" || f.Drives[0].Job != "J-1001" {
		t.Errorf("by its serial number: %+v", f.Drives)
	}
	f := find("tlx5-220")
	if len(f.Records) != MostOfKind || !f.More["records"] || f.Records[0].ID != fmt.Sprintf("d-%03d", MostOfKind+2) {
		t.Errorf("%d records, more %v, the first %s", len(f.Records), f.More, f.Records[0].ID)
	}
	if len(f.Files) > 0 {
		t.Errorf("files: %+v", f.Files)
	}
	if f := find("quay 04"); len(f.Files) != 1 || f.Files[0].Path != "Letters/Quay 04.txt" || f.Files[0].Record.ID != "d-004" || f.More["files"] {
		t.Errorf("a file by its name: %+v", f.Files)
	}
	if f := find("quay"); len(f.Files) != MostOfKind || !f.More["files"] || f.More[Names] {
		t.Errorf("%d files, more %v", len(f.Files), f.More)
	}
	if f := find("letters"); len(f.Files) != 0 {
		t.Errorf("a folder is no file: %+v", f.Files)
	}
	for i := range mostLooked + 2 {
		s.LookedInto(ines.ID, Looked{"C:", fmt.Sprint("/jobs/", i)})
	}
	s.LookedInto(ines.ID, Looked{"C:", "/jobs/5"})
	if l := s.LastLooked(ines.ID); len(l) != mostLooked || l[0].Inside != "/jobs/5" || l[1].Inside != "/jobs/7" || len(s.LastLooked(ines.ID+1)) != 0 {
		t.Errorf("looked into: %+v", l)
	}
	if f := find("d-004"); len(f.Records) != 1 || f.Records[0].Span.Kind != layout.Partition {
		t.Errorf("by its id: %d records", len(f.Records))
	}
	if f := find("J-1001"); len(f.Jobs) != 1 {
		t.Errorf("a job: %+v", f.Jobs)
	}
	for _, text := range []string{"", " ", "x", "%", "__", "no such thing anywhere", "' OR 1=1 --"} {
		if f := find(text); !f.Nothing() {
			t.Errorf("%q finds %+v", text, f)
		}
	}
}
