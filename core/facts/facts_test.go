package facts_test

import (
	"context"
	"path/filepath"
	"slices"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/sample/drives"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// read surveys the drive of some sources.
func read(t *testing.T, o facts.Sources) *survey.Survey {
	t.Helper()
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		t.Fatal(err)
	}
	return sv
}

// gathered is what is known for some steps.
func gathered(t *testing.T, o facts.Sources, steps ...plan.Step) plan.Facts {
	t.Helper()
	f, err := facts.Gather(o, read(t, o), steps)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// backedUp makes a verified backup of a partition.
func backedUp(t *testing.T, o facts.Sources, number int, id string) *shelf.Manifest {
	t.Helper()
	sv := read(t, o)
	p, _ := sv.Layout.Find(number)
	m, err := o.Shelf.Make(context.Background(), shelf.Request{
		Kind: shelf.Files, Drive: sv.Layout, ID: id, Now: drives.Day, Who: "Odile Farrow", Dev: survey.Window(o.Dev, *p),
		Volume: sv.Volume(number), From: shelf.NewOrigin(sv.Layout, *p, o.Identity.Model, o.Identity.Serial),
	}, nil)
	if err == nil {
		_, err = o.Shelf.Verify(context.Background(), m.ID, drives.Day, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	if m, err = o.Shelf.Load(m.ID); err != nil {
		t.Fatal(err)
	}
	return m
}

// TestBackupStands has a backup stand for a partition while it is as it was backed up, on this drive, and no longer.
func TestBackupStands(t *testing.T) {
	o := drives.Opened(t)
	if f := gathered(t, o); len(f.Backups) != 0 || !f.StartsHere || f.Room == 0 {
		t.Errorf("before any backup: %+v, starts here %v, room %s", f.Backups, f.StartsHere, f.Room)
	}
	m := backedUp(t, o, 5, shelf.ID(drives.Day, 5, "one"))
	b, ok := gathered(t, o).Backups[5]
	if !ok || b.ID != m.ID || !b.Verified || !b.Same || b.Away || b.Lost != "" {
		t.Errorf("made just now: %+v", b)
	}
	other := o
	other.Identity.Serial = "TLX5-220-0000"
	if f := gathered(t, other); len(f.Backups) != 0 {
		t.Errorf("of another drive: %+v", f.Backups)
	}
	sv := read(t, o)
	state := func(numbers ...int) string {
		s, err := facts.StateOf(o.Dev, read(t, o), numbers)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	p, _ := sv.Layout.Find(5)
	was, all := state(5), state(3, 5)
	if all != state(5, 3) || was == all {
		t.Error("a state hangs on the order of the partitions, or not on which they are")
	}
	label, err := sv.Volume(5).(*ntfs.Volume).SetLabel("Anew")
	if err != nil {
		t.Fatal(err)
	}
	if err := label.Shift(p.Start.Offset(512)).Apply(o.Dev, nil); err != nil {
		t.Fatal(err)
	}
	if b := gathered(t, o).Backups[5]; b.Same || !b.Verified {
		t.Errorf("changed since: %+v", b)
	}
	if state(5) == was {
		t.Error("a changed volume is in the same state")
	}
	if _, err := facts.StateOf(o.Dev, sv, []int{9}); err == nil {
		t.Error("a partition that is not there has a state")
	}
}

// TestApprovalHolds has an approval hold for the drive and the contents that were looked at, and for no other.
func TestApprovalHolds(t *testing.T) {
	o := drives.Opened(t)
	sv := read(t, o)
	state, err := facts.StateOf(o.Dev, sv, []int{4})
	if err != nil {
		t.Fatal(err)
	}
	yes := facts.Approved{Approval: plan.Approval{Ask: plan.Ask{Partition: 4, Touched: []int{4}}, ID: "e-1"}, Drive: o.Named(sv.Layout), State: state}
	for name, c := range map[string]struct {
		change func(a *facts.Approved)
		holds  bool
	}{
		"as it was":                  {func(*facts.Approved) {}, true},
		"of other contents":          {func(a *facts.Approved) { a.State = "another" }, false},
		"of another drive":           {func(a *facts.Approved) { a.Drive = trail.Drive{DiskID: drives.UID(1), Serial: "X"} }, false},
		"of a partition that is not": {func(a *facts.Approved) { a.Touched = []int{4, 9} }, false},
	} {
		a := yes
		c.change(&a)
		o.Approvals = func() ([]facts.Approved, error) { return []facts.Approved{a}, nil }
		if got := gathered(t, o).Approvals; (len(got) == 1) != c.holds {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

// TestOnlyWhatIsNamed gathers of records, backups and finds what the steps name and there is, and nothing of what
// there is not.
func TestOnlyWhatIsNamed(t *testing.T) {
	o := drives.Opened(t)
	m := backedUp(t, o, 5, shelf.ID(drives.Day, 5, "two"))
	f := gathered(t, o,
		plan.Step{Partition: "3", Body: plan.CopyingBack{Backup: m.ID}}, plan.Step{Partition: "3", Body: plan.CopyingBack{Backup: "b-none"}},
		plan.Step{Body: plan.BringingBack{Record: "d-none"}}, plan.Step{Body: plan.BringingBack{Find: 4096}},
		plan.Step{Body: plan.Creation{Backup: m.ID, Size: "all"}},
	)
	a, there := f.Arriving[plan.CopyingBack{Backup: m.ID}.Arrival()]
	if len(f.Arriving) != 1 || !there || a.Files != 30 || !a.Verified || a.Bytes == 0 || a.Room < a.Bytes {
		t.Errorf("what arrives: %+v", f.Arriving)
	}
	if len(f.Records)+len(f.Finds)+len(f.Images) != 0 {
		t.Errorf("records %v, finds %v, images %v", f.Records, f.Finds, f.Images)
	}
	if len(f.Loaders[drives.UID(1)]) != 1 || f.Deleted {
		t.Errorf("loaders %v, deleted %v", f.Loaders, f.Deleted)
	}
	if len(f.NewIDs) != 5 || slices.Contains(f.NewIDs, "") {
		t.Errorf("ids for five steps: %v", f.NewIDs)
	}
}

// TestTableTrouble damages the second copy of the table: that stands against changes, and mending is known to lift it.
func TestTableTrouble(t *testing.T) {
	o := drives.Opened(t)
	last := int64(o.Dev.Size() - 512)
	if _, err := o.Dev.WriteAt([]byte{0xff}, last+60); err != nil {
		t.Fatal(err)
	}
	f := gathered(t, o)
	if f.TableTrouble == "" || len(f.Mended) != 0 {
		t.Errorf("a damaged copy: %q, %v", f.TableTrouble, f.Mended)
	}
	f = gathered(t, o, plan.Step{Body: plan.Mending{}})
	after, ok := f.Mended[0]
	if !ok || after.Trouble != "" || len(layout.Differ(read(t, o).Layout, after.Layout)) > 0 {
		t.Errorf("mended: %+v", after)
	}
}

// TestWithFolders notes the folders of people's files beside what was known, and leaves that as it was.
func TestWithFolders(t *testing.T) {
	f := plan.Facts{Insides: map[int]plan.InsideFacts{5: {LastFile: "kept"}}}
	sum, err := volume.Summarise(read(t, drives.Opened(t)).Volume(5))
	if err != nil {
		t.Fatal(err)
	}
	g := facts.WithFolders(f, 5, sum)
	if g.Insides[5].LastFile != "kept" || len(sum.People()) == 0 || len(g.Insides[5].Folders) != len(sum.People()) || len(f.Insides[5].Folders) != 0 {
		t.Errorf("%+v of %+v", g.Insides, f.Insides)
	}
}

// TestFree tells the room beside a folder that is not made yet.
func TestFree(t *testing.T) {
	dir := t.TempDir()
	there, err := facts.Free(dir)
	later, e := facts.Free(filepath.Join(dir, "shop", "runs"))
	if err != nil || e != nil || there == 0 || max(there-later, later-there) > disk.GiB {
		t.Errorf("%s there, %s later: %v, %v", there, later, err, e)
	}
}
