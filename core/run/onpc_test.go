package run

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"jadetrail/core/carry"
	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/rehearse"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// elsewhere parks the recovery environment, rebuilds its partition at the end with the
// type and attributes that it had, and takes it into use from there.
func elsewhere() []plan.Step {
	wait := 10
	return []plan.Step{
		{Partition: "4", Body: plan.NotingIdentity{}},
		{Body: plan.Parking{}},
		deleteRecovery,
		growC,
		{Body: plan.Creation{Size: "26 MiB", Type: "recovery", Attributes: "0x8000000000000001", Format: "ntfs", Label: "Recovery", As: "new"}},
		{Partition: "new", Body: plan.UsingRecovery{}},
		{Body: plan.Ordering{Wait: &wait}},
		{Partition: "5", Body: plan.Lettering{Letter: "X"}},
	}
}

// withPC is the shop's options with a PC that a run changes; it returns what it kept last.
func (s *shop) withPC(o *Options) func() *pc.Facts {
	o.PC.Recovery = &pc.Recovery{Partition: uid(4), InUse: true}
	o.PC.Order = []pc.StartEntry{{Partition: uid(3), Title: "System"}}
	kept := o.PC
	o.SavePC = func(f *pc.Facts) error { kept = f; return nil }
	return func() *pc.Facts { return kept }
}

func TestRecoveryElsewhere(t *testing.T) {
	s := newShop(t)
	s.steps = elsewhere()
	im := s.open(t)
	before := contents(t, im)
	o := s.options(im)
	kept := s.withPC(&o)
	res, err := CarryOut(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Read(im, kept())
	if err != nil {
		t.Fatal(err)
	}
	after := contents(t, im)
	n := 0
	for path, want := range before {
		name, recovery := strings.CutPrefix(path, "4/")
		if !recovery {
			if after[path] != want {
				t.Errorf("%s has changed", path)
			}
			continue
		}
		n++
		if _, left := after["3/Parked recovery/"+name]; left || after["4/"+name] != want {
			t.Errorf("%s did not arrive, or is still where it was parked", path)
		}
	}
	p, _ := sv.Layout.Find(4)
	was, _ := res.Columns[0].Layout.Find(4)
	if n != 12 || p.Start == was.Start || p.TypeID != was.TypeID || p.Attributes != was.Attributes || p.UniqueID == was.UniqueID {
		t.Errorf("%d files; recovery is %+v", n, p)
	}
	if r := kept().Recovery; !r.InUse || r.Partition != p.UniqueID || kept().Wait != 10 || kept().Letters[uid(5)] != "X" {
		t.Errorf("the PC: %+v, %+v", kept(), r)
	}
	if len(res.Arrivals) != 2 || !res.Arrivals[0].Passed || res.Arrivals[1].Compared != 12 || len(res.Marks) != 1 || res.Good == "" {
		t.Errorf("%+v, marks %v, good %q", res.Arrivals, res.Marks, res.Good)
	}
	entries, err := trail.File{Path: s.dir + "/trail.jsonl"}.Read()
	var acts []string
	for _, e := range entries {
		acts = append(acts, string(e.Act))
		if e.Act == trail.ActMark && (len(e.Prints) != 6-1 || e.After == nil) {
			t.Errorf("the mark: %+v", e)
		}
	}
	if got := strings.Join(acts, " "); err != nil || got != "plan note-identity park-recovery release waiver delete grow create use-recovery start-order letter carried-out mark" {
		t.Errorf("trail: %s, %v", got, err)
	}
}

// TestParkedAtEveryCut cuts the power at every write of a run that copies files over,
// writes over where they came from, and copies them back.
func TestParkedAtEveryCut(t *testing.T) {
	s := newShop(t)
	s.steps = elsewhere()
	s.pc = true
	s.cut(t, 1)
}

func TestOldSystemLeaves(t *testing.T) {
	s := newShop(t, plan.Step{Partition: "5", Body: plan.Deletion{Waiver: "nothing in it"}})
	im := s.open(t)
	o := s.options(im)
	kept := s.withPC(&o)
	o.PC.Order = append(o.PC.Order, pc.StartEntry{Partition: uid(5), Title: "Old"})
	o.SavePC = nil
	if _, err := CarryOut(context.Background(), o); !errors.Is(err, rehearse.ErrNoPlace) {
		t.Fatalf("with no place for the facts: %v", err)
	}
	s.withPC(&o)
	o.PC.Order = append(o.PC.Order, pc.StartEntry{Partition: uid(5), Title: "Old"})
	kept = nil
	o.SavePC = func(f *pc.Facts) error { kept = func() *pc.Facts { return f }; return nil }
	if _, err := CarryOut(context.Background(), o); err != nil {
		t.Fatal(err)
	}
	if f := kept(); len(f.Order) != 1 || f.InOrder(uid(5)) {
		t.Errorf("the order: %+v", f.Order)
	}
	entries, err := trail.File{Path: s.dir + "/trail.jsonl"}.Read()
	if err != nil || entries[1].Act != "drop-start-entry" || entries[1].Reason == "" || entries[3].Act != trail.ActDelete {
		t.Errorf("%+v, %v", entries, err)
	}
}

// TestRetag changes what the table says of partitions, and back; no byte is other than it
// was then.
func TestRetag(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	before := whole(t, im)
	do := func(steps ...plan.Step) *Result {
		t.Helper()
		s.steps = steps
		o := s.options(im)
		s.withPC(&o)
		o.PC.Start = ""
		res, err := CarryOut(context.Background(), o)
		if err != nil {
			t.Fatal(err)
		}
		return res
	}
	res := do(plan.Step{Partition: "4", Body: plan.Retagging{Type: "basic", Attributes: "0x0", Name: "Once recovery", Release: "it is data now"}}, plan.Step{Partition: "5", Body: plan.Retagging{Type: "oem"}})
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(4)
	q, _ := sv.Layout.Find(5)
	if p.Role != "data" || p.Protected || p.Name != "Once recovery" || p.UniqueID != uid(4) || q.Role != "oem" || len(res.Records) != 0 {
		t.Errorf("%+v, %+v", p, q)
	}
	do(plan.Step{Partition: "4", Body: plan.Retagging{Type: "recovery", Attributes: "0x8000000000000001", Name: "part 4"}}, plan.Step{Partition: "5", Body: plan.Retagging{Type: "basic", Release: "back"}})
	if whole(t, im) != before {
		t.Error("it is not as it was")
	}
	files := contents(t, im)
	do(plan.Step{Partition: "5", Body: plan.Labelling{Label: "Röntgen"}})
	if sv, err = survey.Read(im, nil); err != nil || sv.Check().FirstError() != nil {
		t.Fatal(err, sv.Check())
	}
	if q, _ := sv.Layout.Find(5); q.Volume.Label != "Röntgen" {
		t.Errorf("the label: %+v", q.Volume)
	}
	if !maps.Equal(files, contents(t, im)) {
		t.Error("files have changed")
	}
}

// replaced copies a volume's files into another one of the drive, deletes it, makes it again
// smaller with the letter it had, and brings the files back.
func replaced() []plan.Step {
	return []plan.Step{
		{Partition: "4", Body: plan.CopyingOut{Volume: "3", As: "kept"}},
		deleteRecovery,
		{Body: plan.Creation{Size: "20 MiB", Type: "recovery", Format: "ntfs", Label: "Again", As: "again"}},
		{Partition: "again", Body: plan.CopyingBack{Backup: "kept"}},
	}
}

// TestThroughAnotherVolume replaces a volume with no second drive at hand; that the plan
// itself brings its files back stands in for a backup.
func TestThroughAnotherVolume(t *testing.T) {
	s := newShop(t)
	s.steps = replaced()
	s.steps[1] = s.steps[1].WithReasons(s.steps[1].Release(), "")
	im := s.open(t)
	before := contents(t, im)
	o := s.options(im)
	o.Rehearse = true
	if _, err := CarryOut(context.Background(), o); err != nil {
		t.Fatal(err)
	}
	if !maps.Equal(before, contents(t, im)) {
		t.Fatal("the rehearsal wrote")
	}
	o.Rehearse = false
	res, err := CarryOut(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	if after := contents(t, im); !maps.Equal(before, after) {
		t.Errorf("%d files before, %d after", len(before), len(after))
	}
	sv, err := survey.Read(im, nil)
	if err != nil || sv.Check().FirstError() != nil {
		t.Fatal(err, sv.Check())
	}
	if p, _ := sv.Layout.Find(4); p.Bytes != 20<<20 || p.Volume.Label != "Again" || p.UniqueID == uid(4) {
		t.Errorf("%+v", p)
	}
	if len(res.Records) != 1 || len(res.Arrivals) != 2 || res.Arrivals[1].Compared != 12 || res.Good == "" {
		t.Errorf("%+v", res)
	}
	// Without the step that brings them back nothing stands for them.
	s.steps = s.steps[:3]
	s.steps[1].Partition = "5"
	s.steps[0].Partition = "5"
	var blocked *rehearse.Blocked
	if _, err := CarryOut(context.Background(), s.options(im)); !errors.As(err, &blocked) || blocked.Obstacles[0].Code != plan.BackupMissing {
		t.Errorf("%v", err)
	}
}

// TestReplacedAtEveryCut cuts the power at every write of that.
func TestReplacedAtEveryCut(t *testing.T) {
	s := newShop(t)
	s.steps, s.fills = replaced(), true
	s.cut(t, 1)
}

// TestThroughTheShelf takes the backup that the gate had made for what a plan copies out.
func TestThroughTheShelf(t *testing.T) {
	s := newShop(t)
	s.steps = replaced()
	s.steps[0].Body, s.steps[1] = plan.CopyingOut{As: s.steps[0].As()}, s.steps[1].WithReasons(s.steps[1].Release(), "")
	im := s.open(t)
	before := contents(t, im)
	var blocked *rehearse.Blocked
	if _, err := CarryOut(context.Background(), s.options(im)); !errors.As(err, &blocked) || len(blocked.Obstacles) != 2 {
		t.Fatalf("%v", err)
	}
	if _, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 4, Kind: "files"}, nil); err != nil {
		t.Fatal(err)
	}
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	if after := contents(t, im); !maps.Equal(before, after) || len(res.Arrivals) != 1 || res.Arrivals[0].Compared != 12 {
		t.Errorf("%d files before, %d after: %+v", len(before), len(after), res.Arrivals)
	}
}

// TestRebuilt makes a recovery partition again elsewhere, with the type and attributes that
// its record has.
func TestRebuilt(t *testing.T) {
	s := newShop(t, deleteRecovery, growC)
	im := s.open(t)
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	files := contents(t, im)
	s.steps = []plan.Step{{Body: plan.Rebuilding{Record: res.Records[0], Size: "30 MiB"}}}
	if _, err := CarryOut(context.Background(), s.options(im)); err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Read(im, nil)
	if err != nil || sv.Check().FirstError() != nil {
		t.Fatal(err, sv.Check())
	}
	was, _ := res.Columns[0].Layout.Find(5)
	p, _ := sv.Layout.Find(4)
	if p.Role != "recovery" || p.Attributes != "0x8000000000000001" || p.Name != "part 4" || p.Bytes != 30<<20 || p.Start < was.End || p.UniqueID == uid(4) || p.Volume.Label != "Recovery" {
		t.Errorf("%+v", p)
	}
	if !maps.Equal(files, contents(t, im)) {
		t.Error("files have changed")
	}
	entries, err := trail.File{Path: s.dir + "/trail.jsonl"}.Read()
	if err != nil || entries[len(entries)-3].Act != "rebuild" || entries[len(entries)-3].Record != res.Records[0] {
		t.Errorf("%+v %v", entries, err)
	}
}

// arrived checks that what was below from is below to now, all else where it was, and returns
// how many files that were.
func arrived(t *testing.T, before, after map[string]string, from, to string) (n int) {
	t.Helper()
	for path, want := range before {
		at := path
		if name, moved := strings.CutPrefix(path, from); moved {
			at = to + name
			n++
		}
		if after[at] != want {
			t.Errorf("%s is not at %s", path, at)
		}
	}
	return n
}

// TestAbsorb moves one volume's files into a folder of another, which takes its place too.
func TestAbsorb(t *testing.T) {
	s := newShop(t, plan.Step{Partition: "4", Body: plan.Absorbing{Into: "3", Release: "it is data now"}})
	im := s.open(t)
	before := contents(t, im)
	was, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Read(im, nil)
	if err != nil || sv.Check().FirstError() != nil {
		t.Fatal(err, sv.Check())
	}
	after := contents(t, im)
	n := arrived(t, before, after, "4/", "3/From Recovery/")
	p, _ := sv.Layout.Find(3)
	q, _ := was.Layout.Find(4)
	if _, there := sv.Layout.Find(4); there || p.End != q.End || n != 12 || len(after) != len(before) || len(res.Records) != 1 || res.Arrivals[0].Compared != 12 || res.Good == "" {
		t.Errorf("%+v, %d files: %+v", p, n, res)
	}
	// The record brings the partition back where it was? Its place is taken; that is said.
	s.steps = []plan.Step{{Body: plan.BringingBack{Record: res.Records[0]}}}
	var blocked *rehearse.Blocked
	if _, err := CarryOut(context.Background(), s.options(im)); !errors.As(err, &blocked) || blocked.Obstacles[0].Code != plan.NowhereToGo {
		t.Errorf("%v", err)
	}
}

// TestAbsorbedAtEveryCut cuts the power at every write of that.
func TestAbsorbedAtEveryCut(t *testing.T) {
	s := newShop(t, plan.Step{Partition: "4", Body: plan.Absorbing{Into: "3", Release: "it is data now"}})
	s.fills = true
	s.cut(t, 1)
}

// TestFolderMoved moves one folder of a volume into another one: files, not partitions.
func TestFolderMoved(t *testing.T) {
	move := plan.Step{Partition: "3", Body: plan.CopyingOut{Volume: "5", Only: []string{"System/box 0"}, Move: true}}
	s := newShop(t, move, move)
	im := s.open(t)
	before := contents(t, im)
	was := whole(t, im)
	if _, err := CarryOut(context.Background(), s.options(im)); !errors.Is(err, compile.ErrCannot) || whole(t, im) != was {
		t.Errorf("moved twice: %v", err)
	}
	s.steps = s.steps[:1]
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Read(im, nil)
	if err != nil || sv.Check().FirstError() != nil {
		t.Fatal(err, sv.Check())
	}
	after := contents(t, im)
	n := arrived(t, before, after, "3/System/box 0/", "5/From System/box 0/")
	if n != 20 || len(after) != len(before) || res.Arrivals[0].Compared != 20 || res.Good == "" || len(res.Records) != 0 {
		t.Errorf("%d files; %+v", n, res)
	}
	im.Close()
	s.fills = true
	out := plan.Of[plan.CopyingOut](s.steps[0])
	out.Only = []string{"System/box 1"}
	s.steps[0].Body = out
	s.cut(t, 1)
}

// TestUnreadableFilesStay marks one file of a partition as encrypted: it cannot come along, so
// nothing that would take its place away is carried out.
func TestUnreadableFilesStay(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(4)
	at := p.Start.Offset(512)
	raw, err := disk.ReadFull(im, at, p.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	marked := false
	for r := 0; r+1024 <= len(raw) && !marked; r += 1024 {
		number := binary.LittleEndian.Uint32(raw[r+44:])
		if string(raw[r:r+4]) != "FILE" || number < 24 || raw[r+22]&3 != 1 { // a plain file's record (bit 1: a folder's)
			continue
		}
		for a := r + int(binary.LittleEndian.Uint16(raw[r+20:])); binary.LittleEndian.Uint32(raw[a:]) != 0xffffffff; a += int(binary.LittleEndian.Uint32(raw[a+4:])) {
			if raw[a] == 0x80 && raw[a+8] == 1 { // contents outside the record
				binary.LittleEndian.PutUint16(raw[a+12:], 0x4000)
				marked = true
			}
		}
		if marked {
			im.WriteAt(raw[r:r+1024], int64(at)+int64(r))
		}
	}
	if !marked {
		t.Fatal("no file with contents outside its record")
	}
	before := whole(t, im)
	for _, steps := range [][]plan.Step{
		{{Partition: "4", Body: plan.Absorbing{Into: "3", Release: "it is data now"}}},
		{{Partition: "4", Body: plan.CopyingOut{Volume: "5", Only: []string{"Recovery"}, Move: true}}},
		replaced(),
	} {
		s.steps = steps
		_, err := CarryOut(context.Background(), s.options(im))
		if !errors.Is(err, compile.ErrCannot) || !strings.Contains(err.Error(), "1 of its files cannot be read") {
			t.Errorf("%s: %v", steps[0].Do(), err)
		}
	}
	if whole(t, im) != before {
		t.Error("something was written")
	}
}

// TestGoneIsKnown asks for the facts after a deletion: what could be brought back is known
// while its place is free, and a step over it says so.
func TestGoneIsKnown(t *testing.T) {
	s := newShop(t, deleteRecovery)
	im := s.open(t)
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	lay := func(steps ...plan.Step) (plan.Facts, []plan.Column) {
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		o := s.options(im)
		f, err := facts.Gather(o.Sources, sv, steps)
		if err != nil {
			t.Fatal(err)
		}
		return f, plan.Lay(sv.Layout, f, steps)
	}
	f, cols := lay(growC)
	if len(f.Gone) != 1 || f.Gone[0].Record != res.Records[0] || len(cols[0].Over) != 1 || cols[0].Notes[0].Code != plan.OverRecord {
		t.Errorf("%+v, %+v", f.Gone, cols[0])
	}
	s.steps = []plan.Step{{Body: plan.BringingBack{Record: res.Records[0]}}}
	if _, cols = lay(s.steps...); len(cols[0].Over) != 0 {
		t.Errorf("%+v", cols[0].Notes)
	}
	if _, err := CarryOut(context.Background(), s.options(im)); err != nil {
		t.Fatal(err)
	}
	if f, _ := lay(growC); len(f.Gone) != 0 {
		t.Errorf("still gone: %+v", f.Gone)
	}
}

// TestWhatStarts reads what the PC of a drive starts: its loaders, or the code in the first
// sector.
func TestWhatStarts(t *testing.T) {
	facts := func(s *shop) plan.Facts {
		im := s.open(t)
		defer im.Close()
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		o := s.options(im)
		o.PC = &pc.Facts{Version: 1, StartDrive: sv.Layout.DiskID}
		f, err := facts.Gather(o.Sources, sv, nil)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	if f := facts(newShop(t)); !slices.Equal(f.Loaders[uid(1)], []string{"EFI/Boot/bootx64.efi"}) || f.NoStartCode {
		t.Errorf("%v %v", f.Loaders, f.NoStartCode)
	}
	mbr := bakeryShop(t, 512)
	if f := facts(mbr); !f.NoStartCode {
		t.Error("the first sector holds code?")
	}
	im := mbr.open(t)
	im.WriteAt([]byte{0xfa}, 439)
	im.Close()
	if f := facts(mbr); f.NoStartCode {
		t.Error("its code is not seen")
	}
}

// TestAroundRestart: a running PC is shut down for the run and started again afterwards, which
// its facts and the trail show, also when the run is stopped and taken back.
func TestAroundRestart(t *testing.T) {
	s := newShop(t, plan.Step{Body: plan.Restarting{}}, deleteRecovery, growC)
	im := s.open(t)
	for _, undo := range []bool{true, false} {
		o := s.options(im)
		running := *o.PC
		running.State = pc.Running
		o.PC = &running
		var states []pc.State
		o.SavePC = func(f *pc.Facts) error { states = append(states, f.State); return nil }
		ctx, stop := context.WithCancel(context.Background())
		if undo {
			o.Report = func(p carry.Progress) {
				if p.Phase == "" && p.Done > 0 {
					stop()
				}
			}
		}
		res, err := CarryOut(ctx, o)
		if undo {
			if !errors.Is(err, carry.ErrStopped) {
				t.Fatal(err)
			}
			if m, _ := Open(o); m == nil || len(states) != 1 || states[0] != pc.Off {
				t.Fatalf("on the way: %v", states)
			}
			again := o
			again.Report = nil
			res, err = Resume(context.Background(), again, true)
		}
		stop()
		if err != nil || !slices.Equal(states, []pc.State{pc.Off, pc.Running}) {
			t.Fatalf("undo %v: %v, %v", undo, states, err)
		}
		list, err := trail.File{Path: filepath.Join(s.dir, "trail.jsonl")}.Read()
		if err != nil || !slices.ContainsFunc(list, func(e trail.Entry) bool {
			return e.Run == res.Run && strings.Contains(e.Text, "The PC was started again")
		}) {
			t.Errorf("undo %v: the trail does not tell of it: %v", undo, err)
		}
	}
	// Without the restart the running system is in the way.
	s.steps = []plan.Step{{Partition: "3", Body: plan.Shrinking{By: "1 MiB"}}}
	o := s.options(im)
	o.PC.State = pc.Running
	var blocked *rehearse.Blocked
	if _, err := CarryOut(context.Background(), o); !errors.As(err, &blocked) || blocked.Obstacles[0].Code != plan.Held {
		t.Errorf("%v", err)
	}
}

// TestLetterIsFree gives the letter of a volume that an earlier plan deleted, or absorbed, to another.
func TestLetterIsFree(t *testing.T) {
	for name, c := range map[string]struct {
		gone   plan.Step
		letter string
	}{
		"deleted":          {plan.Step{Partition: "5", Body: plan.Deletion{Waiver: "w"}}, "X"},
		"deleted, erased":  {plan.Step{Partition: "5", Body: plan.Deletion{Waiver: "w", Erase: true, Backups: "keep"}}, "X"},
		"absorbed":         {plan.Step{Partition: "5", Body: plan.Absorbing{Into: "6", Folder: "/From X", Release: "r", Waiver: "w"}}, "X"},
		"not gone, refuse": {plan.Step{Partition: "6", Body: plan.Labelling{Label: "Other"}}, "X"},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop(t)
			im := s.open(t)
			do := func(steps ...plan.Step) error {
				s.hours++
				o := s.atHour(s.options(im))
				o.PC.Letters = map[string]string{uid(5): c.letter}
				o.SavePC, o.Plan = func(*pc.Facts) error { return nil }, &plan.Plan{Version: 1, Steps: steps}
				return start(o)
			}
			give := plan.Step{Partition: "6", Body: plan.Lettering{Letter: c.letter}}
			if name == "absorbed" { // in one plan too
				if err := do(c.gone, give); err != nil {
					t.Fatal(err)
				}
				return
			}
			if err := do(c.gone); err != nil {
				t.Fatal(err)
			}
			if err := do(give); (err == nil) != (c.gone.Do() == plan.Delete) {
				t.Errorf("%v", err)
			}
		})
	}
}

// TestAbsorbOntoAFolder absorbs a volume into a folder that is there already, written in another case.
func TestAbsorbOntoAFolder(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	before := contents(t, im)
	s.must(t, im, plan.Step{Partition: "5", Body: plan.Absorbing{Into: "6", Folder: "/MAKER/box 1", Release: "r", Waiver: "w"}})
	after := contents(t, im)
	if n := arrived(t, before, after, "5/", "6/Maker/box 1/"); n != 30 {
		t.Errorf("%d files arrived", n)
	}
	for path, was := range before {
		if strings.HasPrefix(path, "6/") && after[path] != was {
			t.Errorf("%s is not as it was", path)
		}
	}
}

// TestNamesThatNoPCOpens refuses folders by names that the customer's PC cannot open.
func TestNamesThatNoPCOpens(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	for _, folder := range []string{"/aux", "/From X/nul.txt", "/From X. ", "/From X/ends with a dot.", "/a<b", "/a:b", "/what?", "/tab\there", "/COM1", "/con .files", "/" + strings.Repeat("x", 256), "/a/../b", "/."} {
		text, err := json.Marshal(plan.Plan{Version: 1, Steps: []plan.Step{
			{Partition: "5", Body: plan.Absorbing{Into: "6", Folder: folder, Release: "r", Waiver: "w"}},
		}})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := plan.Parse(text); err == nil {
			t.Errorf("%q is taken for a folder", folder)
		}
	}
	o := s.atHour(s.options(im))
	o.Plan = &plan.Plan{Version: 1, Steps: []plan.Step{
		{Partition: "5", Body: plan.Absorbing{Into: "6", Folder: "/console/ö. x/com10", Release: "r", Waiver: "w"}},
	}}
	o.Rehearse = true
	if err := start(o); err != nil {
		t.Errorf("a folder that every PC opens: %v", err)
	}
}

// TestNothingArrives copies and absorbs an empty volume, and puts an empty one's files back: there is nothing
// to put anywhere, and that is no mishap.
func TestNothingArrives(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	was := contents(t, im)
	empty := func() string {
		t.Helper()
		return fmt.Sprint(s.must(t, im, plan.Step{Body: plan.Creation{Size: "16 MiB", Type: "basic", Format: "ntfs", Label: "Empty"}}).Columns[0].Number)
	}
	n := empty()
	copied := func(n string) string {
		t.Helper()
		number, _ := strconv.Atoi(n)
		m, err := BackUp(context.Background(), s.options(im), Wanted{Partition: number, Kind: shelf.Files}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return m.ID
	}
	s.must(t, im, plan.Step{Partition: "3", Body: plan.CopyingBack{Backup: copied(n), Folder: "Back"}})
	s.must(t, im, plan.Step{Partition: n, Body: plan.CopyingOut{Volume: "3", As: "held"}})
	s.must(t, im, plan.Step{Partition: n, Body: plan.Absorbing{Into: "3", Folder: "Taken"}})
	some := plan.Step{Partition: "5", Body: plan.CopyingBack{Backup: copied("6"), Folder: "Maker"}}
	res := s.must(t, im, some, plan.Step{Partition: empty(), Body: plan.Absorbing{Into: "3", Folder: "Taken"}})
	if len(res.Arrivals) != 1 || res.Arrivals[0].Files == 0 {
		t.Errorf("%+v", res.Arrivals)
	}
	now := contents(t, im)
	for path, want := range was {
		if now[path] != want {
			t.Errorf("%s is not as it was", path)
		}
	}
}
