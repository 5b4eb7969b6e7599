package plan

import (
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/sample"
	"jadetrail/core/volume"
)

func TestMake(t *testing.T) {
	l := sample.Reception()
	come := map[string]Arriving{"b-1\x00": {Files: 9, Bytes: disk.GiB, Room: disk.GiB, Verified: true}, "b-2\x00": {}, "b-3\x00": {Room: disk.TiB, Verified: true}}
	facts := Facts{NewIDs: []string{"11111111-2222-4333-8444-555555555555"}, Arriving: come}
	on := func(change func(*layout.Span)) *layout.Layout { return sample.With(l, 5, change) }
	for name, c := range map[string]struct {
		l    *layout.Layout
		s    Step
		want Code
	}{
		"in the first gap that fits": {l, Step{Body: Creation{Size: "2 GiB", Type: "basic", Format: "ntfs"}}, ""},
		"all of the gap":             {l, Step{Body: Creation{Size: "all", Type: "basic", Format: "none"}}, ""},
		"more than there is":         {l, Step{Body: Creation{Size: "9 TiB", Type: "basic", Format: "ntfs"}}, BadAmount},
		"not in a gap":               {l, Step{Body: Creation{Size: "1 GiB", Type: "basic", Format: "ntfs", StartLBA: 4096}}, NoGap},
		"too small for NTFS":         {l, Step{Body: Creation{Size: "2 MiB", Type: "basic", Format: "ntfs"}}, TooSmall},
		"a format not made yet":      {l, Step{Body: Creation{Size: "1 GiB", Type: "efi", Format: "fat16"}}, NotYet},
		"FAT32":                      {l, Step{Body: Creation{Size: "300 MiB", Type: "efi", Format: "fat32", Label: "System"}}, ""},
		"too small for FAT32":        {l, Step{Body: Creation{Size: "40 MiB", Type: "efi", Format: "fat32"}}, TooSmall},
		"no label for FAT":           {l, Step{Body: Creation{Size: "300 MiB", Type: "efi", Format: "fat32", Label: "a/b"}}, BadAmount},
		"too long a label for FAT":   {l, Step{Body: Creation{Size: "300 MiB", Type: "efi", Format: "fat32", Label: "twelve chars"}}, BadAmount},
		"files":                      {l, Step{Partition: "5", Body: CopyingBack{Backup: "b-1"}}, ""},
		"no such backup":             {l, Step{Partition: "5", Body: CopyingBack{Backup: "b-9"}}, NoBackup},
		"not verified":               {l, Step{Partition: "5", Body: CopyingBack{Backup: "b-2"}}, BackupMissing},
		"too many":                   {l, Step{Partition: "5", Body: CopyingBack{Backup: "b-3"}}, Full},
		"no volume":                  {on(func(s *layout.Span) { s.Volume = nil }), Step{Partition: "5", Body: CopyingBack{Backup: "b-1"}}, NoVolume},
		"not clean":                  {on(func(s *layout.Span) { s.Volume.Clean = false }), Step{Partition: "5", Body: CopyingBack{Backup: "b-1"}}, NotClean},
		"hibernated":                 {on(func(s *layout.Span) { s.Volume.Hibernated = true }), Step{Partition: "5", Body: CopyingBack{Backup: "b-1"}}, Hibernated},
		"held":                       {on(func(s *layout.Span) { s.Held = "a program" }), Step{Partition: "5", Body: CopyingBack{Backup: "b-1"}}, Held},
		"another file system":        {on(func(s *layout.Span) { s.Volume.Kind = volume.Ext4 }), Step{Partition: "5", Body: CopyingBack{Backup: "b-1"}}, NotYet},
	} {
		if err := c.s.Valid(); err != nil {
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
	cols := Lay(l, facts, []Step{
		{Body: Creation{Size: "2 GiB", Type: "basic", Format: "ntfs", Label: "Fresh", As: "new1"}},
		{Partition: "new1", Body: CopyingBack{Backup: "b-1"}},
	})
	p, ok := cols[1].Layout.Find(cols[0].Number)
	if !ok || p.Volume.Label != "Fresh" || p.Bytes != 2*disk.GiB || cols[1].Number != cols[0].Number || p.Volume.UsedBytes != disk.GiB || p.UniqueID != facts.NewIDs[0] {
		t.Errorf("%+v", cols)
	}
	for _, s := range []Step{
		{Body: Creation{Type: "basic", Format: "ntfs"}}, {Body: Creation{Size: "1 GiB", Format: "ntfs"}},
		{Body: Creation{Size: "1 GiB", Type: "basic", Format: "vat"}}, {Partition: "5", Body: CopyingBack{}},
		{Partition: "5", Body: Deletion{Backups: "burn"}},
	} {
		if s.Valid() == nil {
			t.Errorf("%+v is taken", s)
		}
	}
	erase := Lay(l, facts, []Step{{Partition: "5", Body: Deletion{Erase: true, Backups: "delete"}}})[0]
	if len(erase.Missing) != 1 || erase.Missing[0].Code != WaiverMissing {
		t.Errorf("an erase without a reason: %+v", erase.Missing)
	}
}

func TestImages(t *testing.T) {
	l := sample.Reception()
	x, _ := l.Find(5)
	image := func(change func(*Image)) Image {
		v := *x.Volume
		i := Image{Span: *x, Sector: l.Sector, Verified: true}
		i.Span.Volume, i.Span.Bytes = &v, 8*disk.GiB
		i.Span.Name, i.Span.Attributes, i.Span.TypeID = "X's name", "0x8000000000000000", typeIDs["basic"][0]
		if change != nil {
			change(&i)
		}
		return i
	}
	facts := Facts{NewIDs: []string{"11111111-2222-4333-8444-555555555555"}, Images: map[string]Image{
		"b-sound":      image(nil),
		"b-unverified": image(func(i *Image) { i.Verified = false }),
		"b-sectors":    image(func(i *Image) { i.Sector = 4096 }),
		"b-fat":        image(func(i *Image) { i.Span.Volume.Kind = volume.FAT32 }),
		"b-open":       image(func(i *Image) { i.Span.Volume.Clean = false }),
		"b-sealed":     image(func(i *Image) { i.Span.Volume = nil }),
		"b-system":     image(func(i *Image) { i.Span.Role = layout.StartSystem }),
		"b-mbr":        image(func(i *Image) { i.MBR, i.Span.TypeID = true, "07" }),
	}}
	for name, c := range map[string]struct {
		s    Step
		want Code
	}{
		"its own size":                    {Step{Body: Creation{Backup: "b-sound"}}, ""},
		"larger":                          {Step{Body: Creation{Backup: "b-sound", Size: "12 GiB"}}, ""},
		"smaller":                         {Step{Body: Creation{Backup: "b-sound", Size: "2 GiB"}}, TooSmall},
		"not there":                       {Step{Body: Creation{Backup: "b-nowhere"}}, NoBackup},
		"not verified":                    {Step{Body: Creation{Backup: "b-unverified"}}, BackupMissing},
		"sectors of another size":         {Step{Body: Creation{Backup: "b-sectors"}}, NotResizable},
		"what is not grown, its size":     {Step{Body: Creation{Backup: "b-fat"}}, ""},
		"what is not grown, larger":       {Step{Body: Creation{Backup: "b-fat", Size: "12 GiB"}}, NotResizable},
		"left open, its size":             {Step{Body: Creation{Backup: "b-open"}}, ""},
		"left open, larger":               {Step{Body: Creation{Backup: "b-open", Size: "12 GiB"}}, NotClean},
		"what cannot be looked into":      {Step{Body: Creation{Backup: "b-sealed", Size: "9 GiB"}}, ""},
		"a system that starts nothing":    {Step{Body: Creation{Backup: "b-system"}}, ""},
		"from a drive with another table": {Step{Body: Creation{Backup: "b-mbr"}}, ""},
	} {
		if err := c.s.Valid(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		col := Lay(l, facts, []Step{c.s})[0]
		got := Code("")
		if len(col.Obstacles) > 0 {
			got = col.Obstacles[0].Code
		}
		if got != c.want || (col.Layout != nil) != (c.want == "") {
			t.Errorf("%s: %+v", name, col.Obstacles)
		}
		if c.want != "" || col.Layout == nil {
			continue
		}
		p, ok := col.Layout.Find(col.Number)
		if !ok || col.Place != FromBackup || p.UniqueID != facts.NewIDs[0] || p.Role == layout.StartSystem || len(p.TypeID) != 36 {
			t.Errorf("%s: %+v", name, p)
		}
		if c.s.Amount() == "" && p.Bytes != 8*disk.GiB || name == "larger" && (p.Bytes != 12*disk.GiB || p.Volume.TotalBytes <= 8*disk.GiB) {
			t.Errorf("%s: %s", name, p.Bytes)
		}
		if own := p.Attributes == "0x8000000000000000"; own == facts.Images[c.s.Backup()].MBR {
			t.Errorf("%s: attributes %s", name, p.Attributes)
		}
	}
	if (Step{Body: Creation{Backup: "b-sound", Format: "ntfs"}}).Valid() == nil {
		t.Error("a format and an image at once are taken")
	}
}

func TestNoReturn(t *testing.T) {
	l := sample.Reception()
	x, _ := l.Find(5)
	facts := Facts{
		NewIDs:   []string{"11111111-2222-4333-8444-555555555551", "11111111-2222-4333-8444-555555555552", "11111111-2222-4333-8444-555555555553"},
		Backups:  map[int]Backup{5: {ID: "b-1", Verified: true, Same: true}},
		Arriving: map[string]Arriving{"b-1\x00": {Files: 9, Bytes: disk.GiB, Room: disk.GiB, Verified: true}},
	}
	gone := Step{Partition: "5", Body: Deletion{}}
	again := Step{Body: Creation{StartLBA: x.Start, Size: "20 GiB", Type: "basic", Format: "ntfs", As: "again"}}
	back := Step{Partition: "again", Body: CopyingBack{Backup: "b-1"}}
	for name, c := range map[string]struct {
		steps []Step
		want  []bool
	}{
		"files over what was deleted": {[]Step{gone, again, back}, []bool{false, false, true}},
		"files beside it":             {[]Step{gone, {Partition: "3", Body: CopyingBack{Backup: "b-1"}}}, []bool{false, false}},
		"erased":                      {[]Step{{Partition: "5", Body: Deletion{Erase: true}}, again}, []bool{true, false}},
		"nothing deleted":             {[]Step{{Partition: "5", Body: CopyingBack{Backup: "b-1"}}}, []bool{false}},
	} {
		for i, col := range Lay(l, facts, c.steps) {
			if len(col.Obstacles) > 0 || (col.NoReturn != "") != c.want[i] {
				t.Errorf("%s, step %d: %q, %+v", name, i+1, col.NoReturn, col.Obstacles)
			}
		}
	}
}

// TestTypeOfFAT gives a FAT32 volume on an MBR its own type.
func TestTypeOfFAT(t *testing.T) {
	for format, want := range map[string]string{"fat32": "0c", "ntfs": "07"} {
		l := sample.Bakery()
		l = l.With(l.Partitions()[:1])
		c := Lay(l, Facts{NewIDs: StandIns()}, []Step{{Body: Creation{Size: "2 GiB", Type: "basic", Format: format, As: "n"}}})[0]
		if c.Layout == nil {
			t.Fatal(c.Obstacles)
		}
		if p, _ := c.Layout.Find(c.Number); p.TypeID != want {
			t.Errorf("%s has the type %s", format, p.TypeID)
		}
	}
}
