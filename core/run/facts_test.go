package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/rehearse"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume/ntfs"
	"jadetrail/core/words"
)

// TestBackupMustStandForTheState backs a partition up, changes it, and looks at
// what the gate then says.
func TestBackupMustStandForTheState(t *testing.T) {
	s := newShop(t, plan.Step{Partition: "4", Body: plan.Deletion{Release: "not wanted"}})
	im := s.open(t)
	missing := func() string {
		t.Helper()
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		o := s.options(im)
		f, err := facts.Gather(o.Sources, sv, s.steps)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, m := range plan.Lay(sv.Layout, f, s.steps)[0].Missing {
			out = append(out, m.Text)
		}
		return strings.Join(out, " ")
	}
	if m := missing(); !strings.Contains(m, "no backup") {
		t.Errorf("before a backup: %q", m)
	}
	m, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 4, Kind: shelf.Image}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if m := missing(); m != "" {
		t.Errorf("with a backup: %q", m)
	}
	// A backup of another partition, or of the same number elsewhere, is none.
	o := s.options(im)
	if _, err := BackUp(context.Background(), o, Wanted{Partition: 6, Kind: shelf.Image}, nil); err != nil {
		t.Fatal(err)
	}
	if m := missing(); m != "" {
		t.Errorf("with two backups: %q", m)
	}
	// One byte of a record in the table of files.
	sv, _ := survey.Read(im, nil)
	p, _ := sv.Layout.Find(4)
	at := int64(p.Start.Offset(512)) + 4*4096 + 70*1024 + 900
	old, _ := disk.ReadFull(im, disk.Bytes(at), 1)
	im.WriteAt([]byte{old[0] + 1}, at)
	if m := missing(); !strings.Contains(m, "has changed since its backup") {
		t.Errorf("after a change: %q", m)
	}
	if _, err := CarryOut(context.Background(), s.options(im)); err == nil {
		t.Error("deleted with a backup of another state")
	}
	im.WriteAt(old, at)
	if m := missing(); m != "" {
		t.Errorf("as it was again: %q", m)
	}
	// A backup that was found damaged does not stand for anything.
	path := filepath.Join(s.dir, "shelf", m.ID, "image.zst")
	good, _ := os.ReadFile(path)
	bad := bytes.Clone(good)
	bad[len(bad)/2] ^= 8
	os.WriteFile(path, bad, 0o644)
	if _, err := o.Shelf.Verify(context.Background(), m.ID, day, nil); !errors.Is(err, shelf.ErrDamaged) {
		t.Errorf("damaged: %v", err)
	}
	if m := missing(); !strings.Contains(m, "Make a backup") {
		t.Errorf("damaged: %q", m)
	}
	os.WriteFile(path, good, 0o644)
	if _, err := o.Shelf.Verify(context.Background(), m.ID, day, nil); err != nil {
		t.Fatal(err)
	}
	if m := missing(); m != "" {
		t.Errorf("verified again: %q", m)
	}
}

func TestBackUpEntersTheTrail(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	if _, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 9, Kind: shelf.Image}, nil); !errors.Is(err, ErrNoPartition) {
		t.Errorf("no such partition: %v", err)
	}
	full := s.options(im)
	full.Shelf = &shelf.Shelf{Dir: full.Shelf.Dir, Room: func() (disk.Bytes, error) { return 10, nil }}
	if _, err := BackUp(context.Background(), full, Wanted{Partition: 4, Kind: shelf.Image}, nil); !errors.Is(err, shelf.ErrRoom) {
		t.Errorf("a full shelf: %v", err)
	}
	if _, err := os.Stat(filepath.Join(s.dir, "trail.jsonl")); err == nil {
		t.Error("a backup that was not made is in the trail")
	}
	// The reserved partition holds nothing, and is backed up all the same.
	for _, n := range []int{1, 2} {
		m, err := BackUp(context.Background(), s.options(im), Wanted{Partition: n, Kind: shelf.Image}, nil)
		if err != nil {
			t.Fatal(err)
		}
		if m.Verified == nil || m.From.Fingerprint == "" || m.From.Serial != "TLX5-220-7F3K" || m.Who != "Odile Farrow" {
			t.Errorf("manifest: %+v", m)
		}
	}
	list, err := trail.File{Path: filepath.Join(s.dir, "trail.jsonl")}.Read()
	if err != nil || len(list) != 2 || list[0].Act != trail.ActBackup || list[0].Backup == "" || list[0].Partition != 1 {
		t.Errorf("%+v, %v", list, err)
	}
}

// TestNoRoom refuses a run before it begins when the host is short of room.
func TestNoRoom(t *testing.T) {
	dev := disk.NewPaper(8*disk.TiB, 512)
	if _, _, err := rehearse.Room(t.TempDir(), dev, nil); err != nil {
		t.Errorf("an empty script: %v", err)
	}
	huge := script.Script{{Kind: script.Fill, Len: disk.Bytes(1) << 55}}
	if _, _, err := rehearse.Room(t.TempDir(), dev, huge); !errors.Is(err, rehearse.ErrRoom) || !strings.Contains(err.Error(), "nothing was written") {
		t.Errorf("more than any disk has: %v", err)
	}
	holes := script.Script{{Kind: script.Move, From: 0, Off: 4 * disk.TiB, Len: 4 * disk.TiB}}
	if _, _, err := rehearse.Room(t.TempDir(), dev, holes); err != nil {
		t.Errorf("nothing but holes is moved: %v", err)
	}
	spare := append(script.Script{{Kind: script.Write, Len: 512, Data: make([]byte, 512), Keep: true}}, script.Op{Kind: script.Hole, Len: disk.TiB, Keep: true, Spare: true, Step: 1, Before: nil})
	full := &filled{Paper: dev}
	less, did, err := rehearse.Room(t.TempDir(), full, spare)
	if err != nil || did.Forever != 1 || did.Gone || len(less) != 3 || less[1].Kind != script.NoReturn || less[2].Keep || !less[0].Keep {
		t.Errorf("no room for what only undo needs: %+v, %+v, %v", did, less, err)
	}
	spare[1].Gone = true
	less, did, err = rehearse.Room(t.TempDir(), full, spare)
	if err != nil || did.Forever != -1 || !did.Gone || len(less) != 2 || less[1].Keep || !less[0].Keep {
		t.Errorf("no room for what was gone before: %+v, %+v, %v", did, less, err)
	}
}

// filled says that all of it holds something.
type filled struct{ *disk.Paper }

func (f *filled) Data(off disk.Bytes) (disk.Bytes, disk.Bytes, bool) {
	return off, f.Size(), off < f.Size()
}

func TestSentence(t *testing.T) {
	for in, want := range map[string]string{"the shelf is full": "The shelf is full.", "Done.": "Done.", "": ""} {
		if got := words.Sentence(errors.New(in)); got != want {
			t.Errorf("%q became %q", in, got)
		}
	}
	twice := plan.Obstacle{Text: "It cannot be judged."}
	if got := (&rehearse.Blocked{Obstacles: []plan.Obstacle{{Text: "No."}, twice, twice}}).Error(); got != "No. It cannot be judged. Nothing was written." {
		t.Errorf("what stands against several steps: %q", got)
	}
	if got := words.Sentence(fmt.Errorf("not all of b-1 was read: %w", context.Canceled)); got != "Not all of b-1 was read: it was stopped." {
		t.Errorf("of what was stopped: %q", got)
	}
	a, err := rehearse.NewID("d", "x", bytes.NewReader([]byte{1, 2, 3}))
	if err != nil || a != "d-x-010203" {
		t.Errorf("%s, %v", a, err)
	}
	if _, err := rehearse.NewID("d", "x", bytes.NewReader(nil)); err == nil {
		t.Error("an id without randomness")
	}
}

// TestCoverageStandsForABackup deletes a volume that was proven to be only a copy.
func TestCoverageStandsForABackup(t *testing.T) {
	s := newShop(t, plan.Step{Partition: "5", Body: plan.Deletion{}})
	im := s.open(t)
	o := s.options(im)
	c := compare.Store{Dir: t.TempDir()}
	o.Coverage = c
	said := func(print string) func(compare.Place) (string, error) {
		return func(compare.Place) (string, error) { return print, nil }
	}
	if _, err := CarryOut(context.Background(), o); err == nil {
		t.Fatal("deleted without a backup")
	}
	// The same files on another drive.
	other, err := disk.CreateImage(filepath.Join(t.TempDir(), "copy"), 40*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if err := ntfs.Make(other, ntfs.Options{Label: "Copy", Time: day, Files: files("X-rays", 30)}); err != nil {
		t.Fatal(err)
	}
	there, err := ntfs.Open(other)
	if err != nil {
		t.Fatal(err)
	}
	sv, _ := survey.Read(im, nil)
	p, _ := sv.Layout.Find(5)
	print, _ := sv.Volume(5).Fingerprint()
	now, _ := there.Fingerprint()
	r, err := compare.Run(context.Background(), compare.Side{Volume: sv.Volume(5), Place: compare.Place{DiskID: sv.Layout.DiskID, Span: *p, Fingerprint: print}},
		compare.Side{Volume: there, Place: compare.Place{DiskID: "another", Fingerprint: now}}, nil)
	if err != nil || !r.Covered {
		t.Fatalf("%+v, %v", r, err)
	}
	r.ID = "c-copy"
	if err := o.Coverage.Save(r); err != nil {
		t.Fatal(err)
	}
	// Its drive is away, or not as it was: that it was there once stands for nothing.
	for name, elsewhere := range map[string]func(compare.Place) (string, error){"not to be looked at": nil, "gone": said(""), "changed": said("another")} {
		o = s.options(im)
		o.Coverage, o.Elsewhere = c, elsewhere
		var blocked *rehearse.Blocked
		if _, err := CarryOut(context.Background(), o); !errors.As(err, &blocked) || blocked.Obstacles[0].Code != plan.BackupMissing {
			t.Errorf("the copy is %s: %v", name, err)
		}
	}
	o = s.options(im)
	o.Coverage, o.Elsewhere = c, said(now)
	res, err := CarryOut(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	if rec, _, err := o.Records.Load(res.Records[0]); err != nil || rec.Coverage != "c-copy" || rec.Backup != "" {
		t.Errorf("%+v, %v", rec, err)
	}
}

// TestCopiesOfEachOther has two volumes that are copies of each other: one of them may go without a backup,
// and never both, in one plan or in two.
func TestCopiesOfEachOther(t *testing.T) {
	for name, plans := range map[string][][]plan.Step{
		"one after the other": {{{Partition: "4", Body: plan.Deletion{Release: "r"}}}, {{Partition: "5", Body: plan.Deletion{}}}},
		"both":                {{{Partition: "4", Body: plan.Deletion{Release: "r"}}, {Partition: "5", Body: plan.Deletion{}}}},
		"cleared":             {{{Body: plan.Clearing{Scheme: "gpt", Release: "r"}}}},
		"one absorbed":        {{{Partition: "4", Body: plan.Absorbing{Into: "3", Release: "r"}}, {Partition: "5", Body: plan.Deletion{}}}},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop(t)
			im := s.open(t)
			p, _ := read(t, im).Layout.Find(5)
			w := survey.Window(im, *p)
			if err := ntfs.Make(w, ntfs.Options{Label: "Copy", Time: day, Files: files("Recovery", 12)}); err != nil {
				t.Fatal(err)
			}
			sv := read(t, im)
			side := func(n int) compare.Side {
				p, _ := sv.Layout.Find(n)
				print, err := sv.Volume(n).Fingerprint()
				if err != nil {
					t.Fatal(err)
				}
				return compare.Side{Volume: sv.Volume(n), Place: compare.Place{DiskID: sv.Layout.DiskID, Serial: "TLX5-220-7F3K", Span: *p, Fingerprint: print}}
			}
			c := compare.Store{Dir: t.TempDir()}
			for i, pair := range [][2]int{{4, 5}, {5, 4}} {
				r, err := compare.Run(context.Background(), side(pair[0]), side(pair[1]), nil)
				if err != nil || !r.Covered {
					t.Fatalf("%+v, %v", r, err)
				}
				if r.ID = fmt.Sprintf("c-copy-%d", i); c.Save(r) != nil {
					t.Fatal("not kept")
				}
			}
			var last error
			for i, steps := range plans {
				s.steps = steps
				o := s.options(im)
				o.Coverage, o.PC = c, nil
				if _, last = CarryOut(context.Background(), o); last != nil && i < len(plans)-1 {
					t.Fatal(last)
				}
			}
			var blocked *rehearse.Blocked
			if !errors.As(last, &blocked) || !slices.ContainsFunc(blocked.Obstacles, func(o plan.Obstacle) bool { return o.Code == plan.BackupMissing }) {
				t.Errorf("%v", last)
			}
		})
	}
}

// TestProvenAgain deletes a volume in the name of a backup that was verified long ago: it is read again
// before anything is written, and what is not whole, or not on the shelf as it was, stands for nothing.
func TestProvenAgain(t *testing.T) {
	for name, c := range map[string]struct {
		hours  int
		change func(path string) error
		want   string
	}{
		"young":                     {2, nil, ""},
		"old":                       {200, nil, ""},
		"old and damaged":           {200, scratch, "was read again, and is not whole"},
		"young, written to":         {2, func(p string) error { return os.Chtimes(p, day, day) }, "written to after they were verified"},
		"young, its contents gone":  {2, os.Remove, "are not on the shelf any more"},
		"verified at another place": {2, func(p string) error { return os.Truncate(p, 100) }, "are there, of"},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop(t, plan.Step{Partition: "5", Body: plan.Deletion{}})
			im := s.open(t)
			m, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 5, Kind: shelf.Image}, nil)
			if err != nil {
				t.Fatal(err)
			}
			if c.change != nil {
				if err := c.change(filepath.Join(s.dir, "shelf", m.ID, "image.zst")); err != nil {
					t.Fatal(err)
				}
			}
			before := whole(t, im)
			o := s.options(im)
			o.Now = func() time.Time { return day.Add(time.Duration(c.hours) * time.Hour) }
			_, err = CarryOut(context.Background(), o)
			if c.want != "" {
				if err == nil || !strings.Contains(err.Error(), c.want) {
					t.Errorf("%v", err)
				}
				if whole(t, im) != before {
					t.Error("something was written")
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			again, err := o.Shelf.Load(m.ID)
			if err != nil || again.Verified == nil || again.Verified.Equal(day) == (c.hours > 24) {
				t.Errorf("verified %v, %v", again.Verified, err)
			}
		})
	}
}

// scratch changes a byte of a file's contents, and leaves its times as they were.
func scratch(path string) error {
	st, err := os.Stat(path)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	b := []byte{0}
	if _, err = f.ReadAt(b, st.Size()/2); err == nil {
		b[0] ^= 1
		_, err = f.WriteAt(b, st.Size()/2)
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Chtimes(path, st.ModTime(), st.ModTime())
}

// read reads a drive of which no PC is known.
func read(t *testing.T, dev disk.Device) *survey.Survey {
	t.Helper()
	sv, err := survey.Read(dev, nil)
	if err != nil {
		t.Fatal(err)
	}
	return sv
}

// TestUnsoundStaysItsSize refuses to change the size of a volume that does not check sound.
func TestUnsoundStaysItsSize(t *testing.T) {
	for _, step := range []plan.Step{
		{Partition: "6", Body: plan.Growth{By: "8 MiB"}}, {Partition: "6", Body: plan.Shrinking{By: "1 MiB"}},
	} {
		s := newShop(t, step)
		im := s.open(t)
		p, _ := read(t, im).Layout.Find(6)
		if _, err := im.WriteAt(make([]byte, 512), int64(p.End.Offset(512))); err != nil { // the copy of its boot sector
			t.Fatal(err)
		}
		before := whole(t, im)
		var blocked *rehearse.Blocked
		if _, err := CarryOut(context.Background(), s.options(im)); !errors.As(err, &blocked) || blocked.Obstacles[0].Code != plan.Unsound {
			t.Errorf("%s: %v", step.Do(), err)
		}
		if whole(t, im) != before {
			t.Errorf("%s: something was written", step.Do())
		}
	}
}

// TestPutBackProven has somebody change an image on the shelf behind its first pieces: it is read again before
// anything of it is put back, and nothing is begun that cannot be ended.
func TestPutBackProven(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(5)
	noise := make([]byte, p.Bytes)
	rand.NewChaCha8([32]byte{5}).Read(noise)
	if _, err := im.WriteAt(noise, int64(p.Start.Offset(512))); err != nil {
		t.Fatal(err)
	}
	m, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 5, Kind: shelf.Image}, nil)
	if err != nil {
		t.Fatal(err)
	}
	rec := s.recorded(t, s.must(t, im, plan.Step{Partition: "5", Body: plan.Deletion{}}).Records[0])
	s.must(t, im, plan.Step{Body: plan.Creation{StartLBA: rec.Span.Start, Size: "12 MiB", Type: "basic", Format: "ntfs", Label: "Other"}})
	image := filepath.Join(s.dir, "shelf", m.ID, "image.zst")
	if err := errors.Join(scratch(image), os.Chtimes(image, time.Now(), time.Now())); err != nil {
		t.Fatal(err)
	}
	before := whole(t, im)
	_, err = s.later(t, im, plan.Step{Body: plan.BringingBack{Record: rec.ID}})
	if err == nil || !strings.Contains(err.Error(), "that is to be put back was read again, and is not whole") {
		t.Errorf("put back: %v", err)
	}
	if open, err := Open(s.options(im)); err != nil || open != nil || whole(t, im) != before {
		t.Errorf("a run is open: %+v, %v", open, err)
	}
}
