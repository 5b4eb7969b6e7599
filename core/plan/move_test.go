package plan

import (
	"fmt"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/sample"
	"jadetrail/core/volume"
)

// lies tells where a partition lies, in MiB: its first and the one behind its last.
func lies(l *layout.Layout, number int) string {
	p, ok := l.Find(number)
	if !ok {
		return "gone"
	}
	s := fmt.Sprintf("%d to %d", p.Start.Offset(sample.Sector)/disk.MiB, (p.End+1).Offset(sample.Sector)/disk.MiB)
	if p.Record != 0 {
		s += fmt.Sprintf(", record %d", p.Record.Offset(sample.Sector)/disk.MiB)
	}
	return s
}

func TestMoves(t *testing.T) {
	l := sample.Reception()
	b := sample.Bakery()
	roomy := sample.With(b, 2, func(s *layout.Span) { s.End += sample.At(20 * disk.GiB); s.Bytes += 20 * disk.GiB })
	freed := b.With(append(b.Partitions()[:2:2], b.Partitions()[3:]...)) // the container's first volume is gone
	for _, c := range []struct {
		name  string
		l     *layout.Layout
		steps []Step
		which int
		want  string // where it lies afterwards, or the code of the obstacle
	}{
		{"slide toward the end", l, []Step{{Partition: "6", Body: Sliding{By: "66 GiB"}}}, 6, "425237 to 439573"},
		{"as far as it goes", l, []Step{{Partition: "6", Body: Sliding{By: "all"}}}, 6, "497663 to 511999"},
		{"to the grid", l, []Step{{Partition: "6", Body: Sliding{By: "1 B"}}}, 6, "357654 to 371990"},
		{"toward the start, nowhere to go", l, []Step{{Partition: "6", Body: Sliding{By: "-1 GiB"}}}, 6, "bad-amount"},
		{"there and back", l, []Step{
			{Partition: "6", Body: Sliding{By: "2 GiB"}}, {Partition: "6", Body: Sliding{By: "-all"}},
		}, 6, "357653 to 371989"},
		{"hemmed in on both sides", l, []Step{{Partition: "4", Body: Sliding{By: "1 MiB"}}}, 4, "no-gap"},
		{"a train", l, []Step{
			{Partition: "6", Body: Sliding{By: "1 GiB"}}, {Partition: "5", Body: Sliding{By: "1 GiB"}},
			{Partition: "4", Body: Sliding{By: "1 GiB"}}, {Partition: "3", Body: Growth{By: "1 GiB"}},
		}, 3, "277 to 142613"},
		{"what holds no volume", l, []Step{
			{Partition: "1", Body: Deletion{Release: "r", Waiver: "w"}}, {Partition: "2", Body: Sliding{By: "-all"}},
		}, 2, "1 to 17"},
		{"bad clusters", sample.With(l, 6, func(s *layout.Span) { s.Volume.BadClusters = 1 }), []Step{
			{Partition: "6", Body: Sliding{By: "1 GiB"}},
		}, 6, "bad-clusters"},
		{"shrink at the end", l, []Step{{Partition: "5", Body: Shrinking{By: "10 GiB"}}}, 5, "142613 to 347413"},
		{"shrink to", l, []Step{{Partition: "5", Body: Shrinking{To: "120 GiB"}}}, 5, "142613 to 265493"},
		{"shrink at the head", l, []Step{{Partition: "5", Body: Shrinking{To: "120 GiB", Edge: "head"}}}, 5, "234773 to 357653"},
		{"to more than it has", l, []Step{{Partition: "5", Body: Shrinking{To: "220 GiB"}}}, 5, "bad-amount"},
		{"below what it holds", sample.With(l, 5, func(s *layout.Span) { s.Volume.ShrinkMin = 105 * disk.GiB }), []Step{
			{Partition: "5", Body: Shrinking{To: "100 GiB"}},
		}, 5, "bad-amount"},
		{"half of what it can", sample.With(l, 5, func(s *layout.Span) { s.Volume.ShrinkMin = 110 * disk.GiB }), []Step{
			{Partition: "5", Body: Shrinking{By: "half"}},
		}, 5, "142613 to 306453"},
		{"leaving room", sample.With(l, 5, func(s *layout.Span) { s.Volume.ShrinkMin = 110 * disk.GiB }), []Step{
			{Partition: "5", Body: Shrinking{By: "leave 20 GiB free"}},
		}, 5, "142613 to 275733"},
		{"it ends off the grid", sample.With(l, 6, func(s *layout.Span) { s.End -= 100; s.Bytes -= 100 * sample.Sector }), []Step{
			{Partition: "6", Body: Shrinking{By: "1 GiB"}},
		}, 6, "357653 to 370965"},
		{"sealed", sample.With(l, 6, ofKind(volume.Sealed)), []Step{{Partition: "6", Body: Shrinking{By: "1 GiB"}}}, 6, "sealed"},
		{"sealed, slid whole", sample.With(l, 6, ofKind(volume.Sealed)), []Step{
			{Partition: "6", Body: Sliding{By: "1 GiB"}},
		}, 6, "358677 to 373013"},
		{"exFAT, slid whole", sample.With(l, 6, ofKind(volume.ExFAT)), []Step{
			{Partition: "6", Body: Sliding{By: "1 GiB"}},
		}, 6, "358677 to 373013"},
		{"grow toward the start", l, []Step{
			{Partition: "4", Body: Deletion{Release: "r", Waiver: "w"}},
			{Partition: "5", Body: Growth{By: "300 MiB", Edge: "head"}},
		}, 5, "142313 to 357653"},
		{"more than the gap before", l, []Step{
			{Partition: "4", Body: Deletion{Release: "r", Waiver: "w"}},
			{Partition: "5", Body: Growth{By: "3 GiB", Edge: "head"}},
		}, 5, "bad-amount"},
		{"a logical volume, with its record", roomy, []Step{{Partition: "6", Body: Sliding{By: "all"}}}, 6, "277504 to 328704, record 277503"},
		{"a logical volume to its container's start", freed, []Step{
			{Partition: "6", Body: Sliding{By: "-all"}},
		}, 6, "103425 to 154625, record 103424"},
		{"the container grows", b, []Step{{Partition: "2", Body: Containing{Act: "grow", By: "20 GiB"}}}, 2, "103424 to 328704"},
		{"the container shrinks", b, []Step{{Partition: "2", Body: Containing{Act: "shrink", By: "all"}}}, 2, "103424 to 205826"},
		{"the container shrinks at its head", freed, []Step{
			{Partition: "2", Body: Containing{Act: "shrink", Edge: "head", By: "all"}},
		}, 2, "154625 to 308224"},
		{"a volume lies at its head", b, []Step{{Partition: "2", Body: Containing{Act: "shrink", Edge: "head", By: "1 GiB"}}}, 2, "has-volumes"},
		{"nothing touches the container", sample.With(b, 2, func(s *layout.Span) { s.End = b.LastUsable }), []Step{
			{Partition: "2", Body: Containing{Act: "grow", By: "1 GiB"}},
		}, 2, "no-gap"},
		{"no container", b, []Step{{Partition: "1", Body: Containing{Act: "grow", By: "1 GiB"}}}, 1, "no-volume"},
		{"it is not empty", b, []Step{{Partition: "2", Body: Containing{Act: "dissolve"}}}, 2, "has-volumes"},
		{"dissolved", b, []Step{
			{Partition: "5", Body: Deletion{Waiver: "w"}}, {Partition: "6", Body: Deletion{Waiver: "w"}},
			{Partition: "2", Body: Containing{Act: "dissolve"}},
		}, 2, "gone"},
		{"a second container", b, []Step{{Body: Containing{Act: "create", Size: "1 GiB"}}}, 2, "fifth-primary"},
		{"a container on a GPT", l, []Step{{Body: Containing{Act: "create", Size: "1 GiB"}}}, 2, "table-unsafe"},
		{"a container", b.With(b.Partitions()[:1]), []Step{
			{Body: Containing{Act: "create", Size: "50 GiB", As: "box"}},
			{Body: Creation{In: "container", Size: "10 GiB", Type: "basic", Format: "ntfs", As: "n"}},
		}, 5, "102402 to 112642, record 102401"},
		{"a logical volume without a container", l, []Step{
			{Body: Creation{In: "container", Size: "10 GiB", Type: "basic", Format: "ntfs"}},
		}, 5, "no-gap"},
		{"a logical volume too large", b, []Step{
			{Body: Creation{In: "container", Size: "100 GiB", Type: "basic", Format: "ntfs"}},
		}, 7, "bad-amount"},
		{"the last logical volume", b, []Step{
			{Body: Creation{In: "container", Size: "all", Type: "basic", Format: "ntfs"}},
		}, 7, "205827 to 308224, record 205826"},
	} {
		cols := Lay(c.l, Facts{NewIDs: StandIns()}, c.steps)
		last := cols[len(cols)-1]
		got := codes(last.Obstacles)
		if last.Layout != nil {
			got = lies(last.Layout, c.which)
			if s := sample.Sane(last.Layout); s != "" {
				t.Errorf("%s: %s\n%s", c.name, s, sample.Drawn(last.Layout))
			}
		}
		if got != c.want {
			t.Errorf("%s: %s, not %s (%v)", c.name, got, c.want, last.Obstacles)
		}
	}
	// What the PC knows by the place is known by the new one.
	f := Facts{PC: &pc.Facts{Version: 1, Letters: map[string]string{"b:1048576": "C"}, Start: "b:1048576", Order: []pc.StartEntry{{Partition: "b:1048576", Title: "System"}}}}
	start := sample.With(b.With(b.Partitions()[:1]), 1, func(s *layout.Span) { s.UniqueID, s.Active = "b:1048576", true })
	start.DiskID = "b"
	c := Lay(start, f, []Step{{Partition: "1", Body: Sliding{By: "1 GiB"}}})[0]
	p, _ := c.Layout.Find(1)
	if c.PC.Letters[p.UniqueID] != "C" || !c.PC.Starts(p.UniqueID) || !c.PC.InOrder(p.UniqueID) || codes(c.Notes) != "place-named" || f.PC.Letters["b:1048576"] != "C" {
		t.Errorf("%+v %v", c.PC, c.Notes)
	}
}

func TestJoins(t *testing.T) {
	l := sample.Reception()
	roomy := sample.With(l, 3, func(s *layout.Span) { s.Volume.UsedBytes = 20 * disk.GiB })
	out := func(to string) Step { return Step{Partition: "5", Body: CopyingOut{Volume: to, As: "kept"}} }
	back := Step{Partition: "again", Body: CopyingBack{Backup: "kept"}}
	gone := Step{Partition: "5", Body: Deletion{}}
	again := Step{Body: Creation{Size: "150 GiB", Type: "basic", Format: "ntfs", Label: "X-ray", As: "again"}}
	rec := map[string]Record{"r": {Span: *spanOf(l, 4)}}
	insides := Facts{Insides: map[int]InsideFacts{3: {Folders: []Folder{{"Users/Ines/Pictures", 30 * disk.GiB}, {"Users/Ines/Music", 8 * disk.GiB}}}}}
	held := sample.With(l, 5, func(s *layout.Span) { s.Held = "a program" })
	for _, c := range []struct {
		name     string
		l        *layout.Layout
		f        Facts
		steps    []Step
		want     string // obstacles of the last column
		miss     string // what the gate asks for in all of them
		portions bool
	}{
		{"through another volume", roomy, Facts{}, []Step{out("3"), gone, again, back}, "", "", false},
		{"which has no room", l, Facts{}, []Step{out("3")}, "full", "", false},
		{"which is the same", roomy, Facts{}, []Step{out("5")}, "no-neighbour", "", false},
		{"which is not there", roomy, Facts{}, []Step{out("9")}, "no-such-partition", "", false},
		{"not brought back", roomy, Facts{}, []Step{out("3"), gone}, "", "backup-missing", false},
		{"brought back into too small a one", roomy, Facts{}, []Step{out("3"), gone, {Body: Creation{Size: "50 GiB", Type: "basic", Format: "ntfs", As: "again"}}, back}, "full", "", false},
		{"through the shelf, not backed up", l, Facts{}, []Step{out(""), gone, again, back}, "", "backup-missing backup-missing", false},
		{"through the shelf", l, Facts{Backups: map[int]Backup{5: {ID: "b", Verified: true, Same: true}}, Arriving: map[string]Arriving{"b\x00": {Files: 3, Bytes: disk.GiB, Room: disk.GiB, Verified: true}}}, []Step{out(""), gone, again, back}, "", "", false},
		{"through the shelf, in another state", l, Facts{Backups: map[int]Backup{5: {ID: "b", Verified: true}}}, []Step{out("")}, "", "backup-missing", false},
		{"in use", held, Facts{}, []Step{out("3")}, "held", "", false},
		{"a folder moved", l, insides, []Step{
			{Partition: "3", Body: CopyingOut{Volume: "5", Only: []string{"Users/Ines/Pictures"}, Move: true}},
		}, "", "", false},
		{"a folder moved to where there is no room", l, insides, []Step{
			{Partition: "3", Body: CopyingOut{Volume: "6", Only: []string{"Users/Ines/Pictures"}, Move: true}},
		}, "full", "", false},
		{"a folder moved to itself", l, insides, []Step{
			{Partition: "3", Body: CopyingOut{Volume: "3", Only: []string{"Users/Ines/Pictures"}, Move: true}},
		}, "no-neighbour", "", false},
		{"a folder moved out of FAT", sample.With(l, 3, ofKind(volume.FAT32)), insides, []Step{
			{Partition: "3", Body: CopyingOut{Volume: "5", Only: []string{"Users/Ines/Pictures"}, Move: true}},
		}, "not-yet", "", false},
		{"absorbed", roomy, Facts{}, []Step{{Partition: "5", Body: Absorbing{Into: "3"}}}, "", "", false},
		{"absorbed in portions", sample.With(l.With(append(l.Partitions()[:3:3], l.Partitions()[4:]...)), 5, func(s *layout.Span) { s.Volume.UsedBytes = 75 * disk.GiB }), Facts{}, []Step{
			{Partition: "3", Body: Growth{By: "all"}}, {Partition: "5", Body: Absorbing{Into: "3"}},
		}, "", "", true},
		{"absorbed into too small a one", l, Facts{}, []Step{{Partition: "5", Body: Absorbing{Into: "6"}}}, "full", "", false},
		{"the start system absorbed", roomy, Facts{}, []Step{{Partition: "3", Body: Absorbing{Into: "5"}}}, "start-system", "", false},
		{"absorbed into itself", roomy, Facts{}, []Step{{Partition: "5", Body: Absorbing{Into: "5"}}}, "no-neighbour", "", false},
		{"rebuilt", l, Facts{Records: rec}, []Step{{Body: Rebuilding{Record: "r", Size: "1300 MiB"}}}, "", "", false},
		{"no record", l, Facts{}, []Step{{Body: Rebuilding{Record: "r"}}}, "no-record", "", false},
		{"cleared", sample.With(l, 3, func(s *layout.Span) { s.Role = layout.OtherSystem }), Facts{Lead: true}, []Step{
			{Body: Clearing{Scheme: "gpt", Release: "r", Waiver: "w"}},
			{Body: Creation{Size: "all", Type: "basic", Format: "ntfs"}},
		}, "", "", false},
		{"cleared, nothing settled", sample.With(l, 3, func(s *layout.Span) { s.Role = layout.Data }), Facts{}, []Step{
			{Body: Clearing{Scheme: "mbr"}},
		}, "", "release-missing backup-missing release-missing backup-missing release-missing backup-missing backup-missing release-missing backup-missing", false},
		{"cleared, the PC starts from it", l, Facts{StartsHere: true}, []Step{
			{Body: Clearing{Scheme: "gpt"}},
		}, "only-efi start-system only-efi", "", false},
		{"cleared, no table", sample.With(l, 3, func(s *layout.Span) { s.Role = layout.Data }), Facts{Lead: true}, []Step{
			{Body: Clearing{Scheme: "none", Release: "r", Waiver: "w"}},
		}, "", "", false},
	} {
		c.f.NewIDs = StandIns()
		cols := Lay(c.l, c.f, c.steps)
		last := cols[len(cols)-1]
		var miss []Obstacle
		for _, x := range cols {
			miss = append(miss, x.Missing...)
		}
		if codes(last.Obstacles) != c.want || codes(miss) != c.miss || last.Portions != c.portions {
			t.Errorf("%s: %q, missing %q, in portions %v: %v", c.name, codes(last.Obstacles), codes(miss), last.Portions, last.Obstacles)
		}
		if (last.Layout == nil) != (c.want != "") {
			t.Errorf("%s: %v", c.name, last.Layout)
		} else if last.Layout != nil && sample.Sane(last.Layout) != "" {
			t.Errorf("%s: %s", c.name, sample.Sane(last.Layout))
		}
		switch c.name {
		case "through another volume":
			p, q := spanOf(last.Layout, 3), spanOf(last.Layout, 5)
			if p.Volume.UsedBytes != 20*disk.GiB || q.Volume.UsedBytes != 105*disk.GiB || !last.Moves || last.From != 3 || last.NoReturn == "" {
				t.Errorf("%+v, %+v, %+v", p.Volume, q.Volume, last)
			}
			if p := PriceOf(c.l, cols, c.f); p.Copied != 210*disk.GiB || p.Beside != 105*disk.GiB {
				t.Errorf("%+v", p)
			}
		case "a folder moved":
			p, q := spanOf(last.Layout, 3), spanOf(last.Layout, 5)
			if p.Volume.UsedBytes != 39*disk.GiB || q.Volume.UsedBytes != 135*disk.GiB || last.Step.Folder() != "From System/Pictures" || !last.Moves || codes(last.Notes) != "paths-change less-kept" {
				t.Errorf("%+v, %+v, %+v", p.Volume, q.Volume, last)
			}
			if p := PriceOf(c.l, cols, c.f); p.Copied != 30*disk.GiB || p.Beside != 0 {
				t.Errorf("%+v", p)
			}
		case "absorbed in portions":
			if p := spanOf(last.Layout, 3); p.Volume.UsedBytes != 69*disk.GiB+75*disk.GiB || p.End != spanOf(c.l, 5).End || last.Absorbed != 5 || !strings.Contains(last.Detail, "in portions") {
				t.Errorf("%+v %s", p, last.Detail)
			}
		case "rebuilt":
			if p := spanOf(last.Layout, last.Number); p.Role != layout.Recovery || p.Bytes != 1300*disk.MiB || p.Volume == nil {
				t.Errorf("%+v", p)
			}
		case "cleared":
			if p := spanOf(last.Layout, 1); p.Bytes != last.Layout.Size-2*disk.MiB || len(last.Layout.Partitions()) != 1 || last.Layout.LastUsable != l.LastUsable {
				t.Errorf("%+v", p)
			}
		}
	}
}

func spanOf(l *layout.Layout, number int) *layout.Span {
	p, ok := l.Find(number)
	if !ok {
		return &layout.Span{Volume: &volume.Info{}}
	}
	return p
}

// TestNotKept says beforehand what files do not have any more where they come to.
func TestNotKept(t *testing.T) {
	to := func(k volume.Kind) *layout.Span {
		s := sample.Part(5, disk.MiB, disk.GiB, layout.Data, k)
		return &s
	}
	for _, c := range []struct {
		from, to volume.Kind
		packed   int
		want     string
	}{
		{volume.NTFS, volume.NTFS, -1, "not compressed in"}, {volume.Unknown, volume.NTFS, 30, "30 files are compressed"}, {volume.Unknown, volume.NTFS, 1, "1 file is compressed"},
		{volume.Unknown, volume.NTFS, 0, ""}, {volume.FAT32, volume.NTFS, -1, ""}, {volume.ExFAT, volume.FAT32, -1, ""}, {volume.Ext4, volume.NTFS, -1, "Owners and permissions"},
		{volume.NTFS, volume.FAT32, -1, "alternate streams"}, {volume.Unknown, volume.FAT16, 0, "alternate streams"},
	} {
		o := notKept(c.from, to(c.to), c.packed)
		if (o == nil) != (c.want == "") || o != nil && !strings.Contains(o.Text, c.want) {
			t.Errorf("%s to %s, %d: %v", c.from, c.to, c.packed, o)
		}
	}
}
