package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// train slides what stands behind C: to the drive's end, one after the other, so that C: can
// grow without anything being deleted.
func train() []plan.Step {
	return []plan.Step{
		{Partition: "6", Body: plan.Sliding{By: "10 MiB"}},
		{Partition: "5", Body: plan.Sliding{By: "10 MiB"}},
		{Partition: "4", Body: plan.Sliding{By: "10 MiB"}},
		{Partition: "3", Body: plan.Growth{By: "10 MiB"}},
	}
}

// gives takes room from a volume at its head and hands it on.
func gives() []plan.Step {
	return []plan.Step{
		{Partition: "6", Body: plan.Shrinking{By: "8 MiB"}},
		{Partition: "5", Body: plan.Shrinking{By: "20 MiB", Edge: "head"}},
		{Partition: "4", Body: plan.Sliding{By: "20 MiB"}}, {Partition: "3", Body: plan.Growth{By: "all"}},
	}
}

// TestSlid carries slides out and compares every file, that the drive is sound, and that the
// volumes know where they begin.
func TestSlid(t *testing.T) {
	for name, c := range map[string]struct {
		steps []plan.Step
		gone  string // what is deleted, by the number that its files stand under
	}{
		"a train, and the system grows":     {steps: train()},
		"over what was deleted, at its end": {steps: []plan.Step{deleteRecovery, {Partition: "5", Body: plan.Sliding{By: "-all"}}, {Partition: "5", Body: plan.Growth{By: "all"}}}, gone: "4/"},
		"at its head":                       {steps: []plan.Step{deleteRecovery, {Partition: "5", Body: plan.Growth{By: "all", Edge: "head"}}}, gone: "4/"},
		"a neighbour gives at its head":     {steps: gives()},
		"it gives at its end, with a slide": {steps: []plan.Step{
			{Partition: "3", Body: plan.Shrinking{By: "6 MiB"}}, {Partition: "4", Body: plan.Sliding{By: "-6 MiB"}},
			{Partition: "5", Body: plan.Growth{By: "6 MiB", Edge: "head"}},
			{Partition: "5", Body: plan.Shrinking{By: "2 MiB"}},
		}},
		"there and back": {steps: []plan.Step{
			{Partition: "6", Body: plan.Sliding{By: "7 MiB"}}, {Partition: "6", Body: plan.Sliding{By: "-3 MiB"}},
			{Partition: "6", Body: plan.Growth{By: "1 MiB"}},
		}},
	} {
		t.Run(name, func(t *testing.T) {
			for _, sector := range []disk.Bytes{512, 4096} {
				s := newShopOf(t, sector, c.steps...)
				im := s.open(t)
				files := contents(t, im)
				o := s.options(im)
				o.Rehearse = true
				if _, err := CarryOut(context.Background(), o); err != nil {
					t.Fatal(err)
				}
				res, err := CarryOut(context.Background(), s.options(im))
				if err != nil {
					t.Fatal(err)
				}
				if back := slices.ContainsFunc(res.Columns, func(c plan.Column) bool { return c.NoReturn != "" }); back {
					t.Error("it cannot be taken back")
				}
				if res.Good == "" {
					t.Error("the state is not marked as good")
				}
				if c.gone != "" {
					maps.DeleteFunc(files, func(path, _ string) bool { return strings.HasPrefix(path, c.gone) })
				}
				if got := contents(t, im); !maps.Equal(got, files) {
					t.Errorf("%d files before, %d after", len(files), len(got))
				}
				fits(t, im)
			}
		})
	}
}

// fits checks that a drive is sound, and that its volumes count the sectors before them.
func fits(t *testing.T, im *disk.Image) {
	t.Helper()
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	if f := sv.Check().FirstError(); f != nil {
		t.Error(f)
	}
	for _, p := range sv.Layout.Partitions() {
		if p.Volume == nil {
			continue
		}
		boot, err := disk.ReadFull(im, p.Start.Offset(sv.Layout.Sector), 512)
		if hidden := disk.LBA(boot[28]) | disk.LBA(boot[29])<<8 | disk.LBA(boot[30])<<16; err != nil || hidden != p.Start {
			t.Errorf("%s begins at %d and says %d", p.Title(), p.Start, hidden)
		}
	}
}

// TestSlidAtEveryCut cuts the power at every write of a train.
func TestSlidAtEveryCut(t *testing.T) {
	s := newShop(t, train()...)
	s.fills = true // free clusters differ afterwards
	s.cut(t, 1)
}

// TestGivenAtEveryCut cuts the power at every write while a volume is made smaller, what lies
// between slides, and another one grows.
func TestGivenAtEveryCut(t *testing.T) {
	s := newShop(t, gives()...)
	s.fills = true
	s.cut(t, 1)
}

// TestSlidOnMBR slides a primary and logical volumes, the first of the chain among them.
func TestSlidOnMBR(t *testing.T) {
	s := bakeryShop(t, 512)
	im := s.open(t)
	files := contents(t, im)
	s.run(t, im, plan.Step{Partition: "7", Body: plan.Sliding{By: "20 MiB"}}, plan.Step{Partition: "6", Body: plan.Sliding{By: "5 MiB"}}, plan.Step{Partition: "5", Body: plan.Sliding{By: "3 MiB"}})
	fits(t, im)
	sv, err := survey.Read(im, nil)
	if err != nil || !maps.Equal(files, contents(t, im)) {
		t.Fatal("files have changed", err)
	}
	starts := func(l *layout.Layout) (at []disk.LBA) {
		for _, p := range l.Partitions() {
			at = append(at, p.Start/2048)
		}
		return at
	}
	if got := starts(sv.Layout); !slices.Equal(got, []disk.LBA{1, 32, 36, 59, 111}) {
		t.Errorf("they begin at %v MiB", got)
	}
	// Home again: the container can be made smaller, and the primary slid to it.
	s.run(t, im, plan.Step{Partition: "5", Body: plan.Sliding{By: "-all"}}, plan.Step{Partition: "6", Body: plan.Sliding{By: "-all"}}, plan.Step{Partition: "7", Body: plan.Sliding{By: "-all"}},
		plan.Step{Partition: "1", Body: plan.Sliding{By: "all"}}, plan.Step{Partition: "2", Body: plan.Containing{Act: "shrink", By: "all"}})
	fits(t, im)
	if sv, err = survey.Read(im, nil); err != nil || !maps.Equal(files, contents(t, im)) {
		t.Fatal("files have changed", err)
	}
	if got := starts(sv.Layout); !slices.Equal(got, []disk.LBA{2, 32, 33, 54, 75}) {
		t.Errorf("they begin at %v MiB", got)
	}
}

// TestLeftBehind slides partitions over what earlier steps of the same plan left behind: an
// empty container's record, a container's former first one, the copy of a boot sector at a
// volume's former end. Stopped late and taken back, all of it is there again.
func TestLeftBehind(t *testing.T) {
	head := plan.Step{Partition: "2", Body: plan.Containing{Act: "shrink", Edge: "head", By: "all"}}
	for name, c := range map[string]struct{ before, steps []plan.Step }{
		"a container's former start": {[]plan.Step{
			{Partition: "6", Body: plan.Sliding{By: "10 MiB"}}, {Partition: "5", Body: plan.Sliding{By: "10 MiB"}},
		}, []plan.Step{head, {Partition: "1", Body: plan.Sliding{By: "all"}}}},
		"an empty container": {[]plan.Step{
			{Partition: "7", Body: plan.Deletion{Waiver: "w"}}, {Partition: "6", Body: plan.Deletion{Waiver: "w"}},
			{Partition: "5", Body: plan.Deletion{Waiver: "w"}},
		},
			[]plan.Step{
				{Partition: "2", Body: plan.Containing{Act: "dissolve"}},
				{Partition: "1", Body: plan.Sliding{By: "20 MiB"}},
			}},
		"a volume's former end": {nil, []plan.Step{
			{Partition: "5", Body: plan.Shrinking{By: "8 MiB"}}, {Partition: "6", Body: plan.Sliding{By: "-5 MiB"}},
		}},
	} {
		t.Run(name, func(t *testing.T) {
			s := bakeryShop(t, 512)
			im := s.open(t)
			for _, x := range c.before {
				s.run(t, im, x)
			}
			was, err := survey.Read(im, nil)
			if err != nil {
				t.Fatal(err)
			}
			files := contents(t, im)
			s.steps = c.steps
			ctx, stop := context.WithCancel(context.Background())
			o := s.options(im)
			o.PC = nil
			o.Report = func(p carry.Progress) {
				if p.Phase == "" && p.Step == len(s.steps)-1 && p.Done == p.Total {
					stop()
				}
			}
			if _, err := CarryOut(ctx, o); err == nil || !strings.Contains(err.Error(), "stopped") {
				t.Fatal(err)
			}
			again := s.options(im)
			again.PC = nil
			if _, err := Resume(context.Background(), again, true); err != nil {
				t.Fatal(err)
			}
			now, err := survey.Read(im, nil)
			if err != nil || now.Check().FirstError() != nil || len(layout.Differ(was.Layout, now.Layout)) > 0 || !maps.Equal(files, contents(t, im)) {
				t.Errorf("%v, %v, %v", err, now.Check(), layout.Differ(was.Layout, now.Layout))
			}
		})
	}
}

// TestContainerAtItsHead has a container begin later, so that the primary before it grows,
// and earlier again, with and without a logical volume at its very start.
func TestContainerAtItsHead(t *testing.T) {
	for _, sector := range []disk.Bytes{512, 4096} {
		s := bakeryShop(t, sector)
		im := s.open(t)
		files := contents(t, im)
		head := func(act plan.ContainerAct, by string) plan.Step {
			return plan.Step{Partition: "2", Body: plan.Containing{Act: act, Edge: "head", By: by}}
		}
		s.run(t, im, plan.Step{Partition: "6", Body: plan.Sliding{By: "8 MiB"}}, plan.Step{Partition: "5", Body: plan.Sliding{By: "7 MiB"}}, head("shrink", "5 MiB"), plan.Step{Partition: "1", Body: plan.Growth{By: "all"}})
		s.run(t, im, head("shrink", "all"), head("grow", "2 MiB"), plan.Step{Partition: "5", Body: plan.Sliding{By: "-2 MiB"}})
		fits(t, im)
		sv, err := survey.Read(im, nil)
		if err != nil || !maps.Equal(files, contents(t, im)) {
			t.Fatal("files have changed", err)
		}
		one, _ := sv.Layout.Find(1)
		two, _ := sv.Layout.Find(2)
		m := disk.MiB.At(sector)
		if one.End+1 != 37*m || two.Start != 37*m {
			t.Errorf("the primary ends at %d, the container begins at %d", one.End/m, two.Start/m)
		}
	}
}

// TestSlidOnMBRAtEveryCut cuts the power at every write while logical volumes change places.
func TestSlidOnMBRAtEveryCut(t *testing.T) {
	s := bakeryShop(t, 512)
	s.pc = true
	s.steps, s.fills = []plan.Step{
		{Partition: "6", Body: plan.Sliding{By: "4 MiB"}}, {Partition: "5", Body: plan.Sliding{By: "2 MiB"}},
		{Partition: "2", Body: plan.Containing{Act: "shrink", Edge: "head", By: "all"}},
	}, true
	s.cut(t, 1)
}

// TestStoppedBeforeItBegan stops a run while what it will move is read: nothing was written, and nothing
// is open.
func TestStoppedBeforeItBegan(t *testing.T) {
	s := newShop(t, train()...)
	im := s.open(t)
	before := whole(t, im)
	ctx, stop := context.WithCancel(context.Background())
	o := s.options(im)
	o.Report = func(p carry.Progress) {
		if p.Phase != "" {
			stop()
		}
	}
	if _, err := CarryOut(ctx, o); !errors.Is(err, ErrNotBegun) || whole(t, im) != before {
		t.Fatal(err)
	}
	if u, err := Open(s.options(im)); u != nil || err != nil {
		t.Errorf("a run is open: %+v, %v", u, err)
	}
	o = s.options(im) // or even before that, while the trail is read
	o.Verify = func(ctx context.Context) (*trail.Report, error) { return nil, ctx.Err() }
	if _, err := CarryOut(ctx, o); !errors.Is(err, ErrNotBegun) {
		t.Error(err)
	}
}

// TestSlideStopped stops a slide and takes it back.
func TestSlideStopped(t *testing.T) {
	s := newShop(t, train()...)
	im := s.open(t)
	files := contents(t, im)
	ctx, stop := context.WithCancel(context.Background())
	o := s.options(im)
	o.Report = func(p carry.Progress) {
		if p.Phase == "" && p.Step == 1 && p.Done > 0 {
			stop()
		}
	}
	if _, err := CarryOut(ctx, o); err == nil || !strings.Contains(err.Error(), "stopped") {
		t.Fatal(err)
	}
	res, err := Resume(context.Background(), s.options(im), true)
	if err != nil || !res.Undone {
		t.Fatal(err)
	}
	if !maps.Equal(files, contents(t, im)) {
		t.Error("files have changed")
	}
	fits(t, im)
}

// TestLogicalSlidWhole slides a logical volume that nobody can look into over the place of its
// own record: every byte of it is the same.
func TestLogicalSlidWhole(t *testing.T) {
	s := bakeryShop(t, 512)
	im := s.open(t)
	noise := make([]byte, 20*disk.MiB)
	rand.NewChaCha8([32]byte{6}).Read(noise)
	if _, err := im.WriteAt(noise, int64(91*disk.MiB)); err != nil {
		t.Fatal(err)
	}
	s.run(t, im, plan.Step{Partition: "7", Body: plan.Sliding{By: "-10 MiB"}})
	got, err := disk.ReadFull(im, 81*disk.MiB, 20*disk.MiB)
	if err != nil || !bytes.Equal(got, noise) {
		t.Errorf("not what it was: %v", err)
	}
}

// TestIntactSeesLoss: a script that does to a file what it must not is not carried out,
// whatever else agrees.
func TestIntactSeesLoss(t *testing.T) {
	s := newShop(t, deleteRecovery, plan.Step{Partition: "5", Body: plan.Sliding{By: "-20 MiB"}}, plan.Step{Partition: "3", Body: plan.Growth{By: "4 MiB"}})
	im := s.open(t)
	o := s.options(im)
	p, err := rehearse.Prepare(o.Options)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Release()
	if in := p.Meta.Intact; in.Volumes != 2 || in.Untouched != 2 || in.Files != 90 || in.Moved < 20 || in.Moved > 30 || in.Compared != 0 {
		t.Errorf("%+v", in)
	}
	x, _ := p.Survey.Layout.Find(5)
	files, err := p.Survey.Volume(5).Files()
	if err != nil {
		t.Fatal(err)
	}
	at := disk.Bytes(0)
	for _, f := range files {
		if len(f.Extents) == 1 && f.Extents[0].Off > 0 && f.Kind == volume.Plain {
			at = x.Start.Offset(512) + f.Extents[0].Off
		}
	}
	right := p.Script
	for what, spoil := range map[string]func() script.Script{
		"a cluster written over": func() script.Script {
			return append(slices.Clone(right), script.Op{Kind: script.Write, Off: at, Len: 4, Data: []byte("lost")})
		},
		"a move from the wrong place": func() script.Script {
			out := slices.Clone(right)
			for i := range out {
				if op := &out[i]; op.Kind == script.Move && op.Off <= at && at < op.Off+op.Len {
					op.From += 4096
				}
			}
			return out
		},
	} {
		p.Script, p.Meta.Intact = spoil(), ran.Intact{}
		over, err := disk.NewOverlay(im, "")
		if err != nil {
			t.Fatal(err)
		}
		if err := p.Script.Apply(over, nil); err != nil {
			t.Fatal(err)
		}
		after, err := survey.Read(over, nil)
		if err != nil {
			t.Fatal(what, err)
		}
		before, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		p.Survey = after
		if err := p.Intact(before); err == nil {
			t.Errorf("%s was not seen", what)
		}
		over.Close()
	}
}

// restoreMark ends the names of the files in which earlier states are kept.
const restoreMark = "{3808876b-c176-4e48-b7ae-04046e6cc752}"

// restorePointShop is a shop whose X: keeps restore points near its end.
func restorePointShop(t *testing.T) *shop {
	t.Helper()
	s := newShop(t)
	im := s.open(t)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(5)
	w := survey.Window(im, *p)
	many := append(files("X-rays", 30), volume.Source{Path: "large", Data: bytes.Repeat([]byte{7}, int(16*disk.MiB))},
		volume.Source{Path: "System Volume Information/" + restoreMark, Data: []byte("catalogue")},
		volume.Source{Path: "System Volume Information/{5a1c77e0-1043-11ee-9c3e-7f3ba1043001}" + restoreMark, Data: bytes.Repeat([]byte{9}, int(2*disk.MiB))})
	if err := ntfs.Make(w, ntfs.Options{Label: "X-rays", Serial: 30, Hidden: uint32(p.Start), Time: day, Files: many}); err != nil {
		t.Fatal(err)
	}
	n, err := ntfs.Open(w)
	if err != nil {
		t.Fatal(err)
	}
	out, err := n.Remove([]string{"large"}, day)
	if err == nil {
		err = out.Apply(w, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	im.Close()
	return s
}

// TestRestorePointsDropped makes a volume smaller whose restore points lie near its end: they
// stay, and bound it, or go by choice.
func TestRestorePointsDropped(t *testing.T) {
	s := restorePointShop(t)
	s.steps = []plan.Step{{Partition: "5", Body: plan.Shrinking{To: "12 MiB"}}}
	im := s.open(t)
	before := contents(t, im)
	var blocked *rehearse.Blocked
	if _, err := CarryOut(context.Background(), s.options(im)); !errors.As(err, &blocked) {
		t.Fatalf("kept: %v", err)
	}
	less := plan.Of[plan.Shrinking](s.steps[0])
	less.DropRestorePoints = true
	s.steps[0].Body = less
	o := s.options(im)
	o.PC.RestorePoints = []string{uid(5), uid(3)}
	kept := s.withPC(&o)
	if _, err := CarryOut(context.Background(), o); err != nil {
		t.Fatal(err)
	}
	after := contents(t, im)
	for k, v := range before {
		if after[k] != v && !strings.Contains(k, restoreMark) {
			t.Errorf("%s is not as it was", k)
		}
	}
	sv, err := survey.Read(im, kept())
	if err != nil || sv.Check().FirstError() != nil {
		t.Fatal(err, sv.Check())
	}
	if q, _ := sv.Layout.Find(5); q.Bytes != 12*disk.MiB || q.Volume.RestorePoints || len(after) != len(before)-2 || len(kept().RestorePoints) != 1 {
		t.Errorf("%s, %d files of %d, %v", q.Bytes, len(after), len(before), kept().RestorePoints)
	}
}

// TestPowerCutIntoPieces cuts the power while a volume becomes smaller whose last file goes into
// hundreds of single free clusters, and its list of them into records that extend its own.
func TestPowerCutIntoPieces(t *testing.T) {
	dir := t.TempDir()
	s := &shop{dir: dir, image: filepath.Join(dir, "d.img")}
	im, err := disk.CreateImage(s.image, 40*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	w := disk.NewWindow(im, disk.MiB, 34*disk.MiB)
	by, err := combed(w, ntfs.Options{Label: "Comb", Serial: 1, Hidden: 2048, Time: day, Files: files("comb", 20)}, rand.New(rand.NewPCG(6, 1)))
	if err != nil {
		t.Fatal(err)
	}
	e := table.NewEntry(table.Entry{Slot: 1, TypeID: table.TypeBasic, UniqueID: uid(1), Start: 2048, End: 2048 + w.Size().At(512) - 1})
	if err := table.New(im, uid(0xd0), e).Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	im.Close()
	s.steps, s.fills = []plan.Step{{Partition: "1", Body: plan.Shrinking{By: fmt.Sprintf("%d MiB", by/disk.MiB)}}}, true
	s.cut(t, 1)
}
