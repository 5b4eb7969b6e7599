package plan

import (
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

func TestMake(t *testing.T) {
	l := reception()
	come := map[string]Arriving{"b-1\x00": {Files: 9, Bytes: disk.GiB, Room: disk.GiB, Verified: true}, "b-2\x00": {}, "b-3\x00": {Room: disk.TiB, Verified: true}}
	facts := Facts{NewIDs: []string{"11111111-2222-4333-8444-555555555555"}, Arriving: come}
	on := func(change func(*layout.Span)) *layout.Layout { return with(l, 5, change) }
	for name, c := range map[string]struct {
		l    *layout.Layout
		s    Step
		want Code
	}{
		"in the first gap that fits": {l, Step{Do: Create, Size: "2 GiB", Type: "basic", Format: "ntfs"}, ""},
		"all of the gap":             {l, Step{Do: Create, Size: "all", Type: "basic", Format: "none"}, ""},
		"more than there is":         {l, Step{Do: Create, Size: "9 TiB", Type: "basic", Format: "ntfs"}, BadAmount},
		"not in a gap":               {l, Step{Do: Create, Size: "1 GiB", Type: "basic", Format: "ntfs", StartLBA: 4096}, NoGap},
		"too small for NTFS":         {l, Step{Do: Create, Size: "2 MiB", Type: "basic", Format: "ntfs"}, TooSmall},
		"a format not made yet":      {l, Step{Do: Create, Size: "1 GiB", Type: "efi", Format: "fat32"}, NotYet},
		"files":                      {l, Step{Do: CopyBack, Partition: "5", Backup: "b-1"}, ""},
		"no such backup":             {l, Step{Do: CopyBack, Partition: "5", Backup: "b-9"}, NoBackup},
		"not verified":               {l, Step{Do: CopyBack, Partition: "5", Backup: "b-2"}, BackupMissing},
		"too many":                   {l, Step{Do: CopyBack, Partition: "5", Backup: "b-3"}, Full},
		"no volume":                  {on(func(s *layout.Span) { s.Volume = nil }), Step{Do: CopyBack, Partition: "5", Backup: "b-1"}, NoVolume},
		"not clean":                  {on(func(s *layout.Span) { s.Volume.Clean = false }), Step{Do: CopyBack, Partition: "5", Backup: "b-1"}, NotClean},
		"hibernated":                 {on(func(s *layout.Span) { s.Volume.Hibernated = true }), Step{Do: CopyBack, Partition: "5", Backup: "b-1"}, Hibernated},
		"held":                       {on(func(s *layout.Span) { s.Held = "a program" }), Step{Do: CopyBack, Partition: "5", Backup: "b-1"}, Held},
		"another file system":        {on(func(s *layout.Span) { s.Volume.Kind = volume.Ext4 }), Step{Do: CopyBack, Partition: "5", Backup: "b-1"}, NotYet},
	} {
		if err := c.s.valid(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		col := Lay(c.l, facts, []Step{c.s})[0]
		got := Code("")
		if len(col.Obstacles) > 0 {
			got = col.Obstacles[0].Code
		}
		if got != c.want || (col.Layout != nil) != (c.want == "") {
			t.Errorf("%s: %+v", name, col.Obstacles)
		}
	}
	// A later step speaks of a new partition by its name.
	cols := Lay(l, facts, []Step{{Do: Create, Size: "2 GiB", Type: "basic", Format: "ntfs", Label: "Fresh", As: "new1"}, {Do: CopyBack, Partition: "new1", Backup: "b-1"}})
	p, ok := cols[1].Layout.Find(cols[0].Number)
	if !ok || p.Volume.Label != "Fresh" || p.Bytes != 2*disk.GiB || cols[1].Number != cols[0].Number || p.Volume.UsedBytes != disk.GiB || p.UniqueID != facts.NewIDs[0] {
		t.Errorf("%+v", cols)
	}
	for _, s := range []Step{{Do: Create, Type: "basic", Format: "ntfs"}, {Do: Create, Size: "1 GiB", Format: "ntfs"}, {Do: Create, Size: "1 GiB", Type: "basic", Format: "vat"}, {Do: CopyBack, Partition: "5"}, {Do: Delete, Partition: "5", Backups: "burn"}} {
		if s.valid() == nil {
			t.Errorf("%+v is taken", s)
		}
	}
	erase := Lay(l, facts, []Step{{Do: Delete, Partition: "5", Erase: true, Backups: "delete"}})[0]
	if len(erase.Missing) != 1 || erase.Missing[0].Code != WaiverMissing {
		t.Errorf("an erase without a reason: %+v", erase.Missing)
	}
}
