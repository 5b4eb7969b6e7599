package run

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/shelf"
	"jadetrail/core/sign"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// slidHalf is a shop whose train of partitions was stopped at about the middle of its writes.
func slidHalf(t *testing.T) (s *shop, dev *disk.Overlay, dir string) {
	t.Helper()
	s = newShop(t, train()...)
	base := s.open(t)
	power := &disk.Power{}
	calm := s.copyOf(t, base)
	if err := s.attempt(t, calm, t.TempDir(), power, start); err != nil {
		t.Fatal(err)
	}
	calm.Close()
	dev, dir = s.copyOf(t, base), t.TempDir()
	t.Cleanup(func() { dev.Close() })
	if err := s.attempt(t, dev, dir, &disk.Power{At: power.Writes() * 2 / 3}, start); !errors.Is(err, disk.ErrPowerCut) {
		t.Fatal(err)
	}
	return s, dev, dir
}

// calmly is attempt with a supply that does not fail.
func (s *shop) calmly(t *testing.T, dev disk.Device, dir string, f func(o Options) error) error {
	t.Helper()
	return s.attempt(t, dev, dir, &disk.Power{}, f)
}

// TestOpenIsFoundByTheDrive takes away, one after the other, all but one of those who know that a
// run is open. The drive stays closed to everything, until the run is finished or somebody says why
// it is left.
func TestOpenIsFoundByTheDrive(t *testing.T) {
	for name, c := range map[string]struct {
		lose   func(t *testing.T, s *shop, dev *disk.Overlay, dir string)
		told   []Teller
		resume bool // it can be finished
	}{
		"nothing lost": {func(*testing.T, *shop, *disk.Overlay, string) {}, []Teller{ByDrive, ByFolder, ByTrail}, true},
		"another path": {func(t *testing.T, s *shop, _ *disk.Overlay, _ string) {
			s.image = filepath.Join(s.dir, "in another bay.img")
		}, []Teller{ByDrive, ByFolder, ByTrail}, true},
		"the drive only": {func(t *testing.T, _ *shop, _ *disk.Overlay, dir string) {
			os.RemoveAll(filepath.Join(dir, "runs"))
			os.Remove(filepath.Join(dir, "trail.jsonl"))
		}, []Teller{ByDrive}, false},
		"the trail only": {func(t *testing.T, _ *shop, dev *disk.Overlay, dir string) {
			os.RemoveAll(filepath.Join(dir, "runs"))
			unsigned(t, dev)
		}, []Teller{ByTrail}, false},
		"the folder only": {func(t *testing.T, _ *shop, dev *disk.Overlay, dir string) {
			os.Remove(filepath.Join(dir, "trail.jsonl"))
			unsigned(t, dev)
		}, []Teller{ByFolder}, false},
		"run.json gone": {func(t *testing.T, _ *shop, _ *disk.Overlay, dir string) { lose(t, dir, ran.MetaFile) }, []Teller{ByDrive, ByFolder, ByTrail}, false},
		"journal gone":  {func(t *testing.T, _ *shop, _ *disk.Overlay, dir string) { lose(t, dir, ran.JournalFile) }, []Teller{ByDrive, ByFolder, ByTrail}, false},
		"journal gone, and the drive says nothing": {func(t *testing.T, _ *shop, dev *disk.Overlay, dir string) {
			lose(t, dir, ran.JournalFile)
			unsigned(t, dev)
		}, []Teller{ByFolder, ByTrail}, false},
		"the note gone": {func(t *testing.T, _ *shop, _ *disk.Overlay, dir string) { lose(t, dir, ran.BegunFile) }, []Teller{ByDrive, ByFolder, ByTrail}, true},
	} {
		t.Run(name, func(t *testing.T) {
			s, dev, dir := slidHalf(t)
			c.lose(t, s, dev, dir)
			before := whole(t, dev)
			if err := s.calmly(t, dev, dir, func(o Options) error {
				u, err := Open(o)
				if err != nil || u == nil {
					t.Fatalf("open: %+v, %v", u, err)
				}
				told := slices.Sorted(slices.Values(u.Told))
				if want := slices.Sorted(slices.Values(c.told)); !slices.Equal(told, want) {
					t.Errorf("told by %v, want %v", told, want)
				}
				return nil
			}); err != nil {
				t.Fatal(err)
			}
			steps := s.steps
			s.steps = []plan.Step{{Partition: "3", Body: plan.Labelling{Label: "Over it"}}}
			if err := s.calmly(t, dev, dir, start); !errors.Is(err, ErrPending) || !strings.Contains(err.Error(), "Nothing was written") {
				t.Errorf("a plan: %v", err)
			}
			s.steps = steps
			if err := s.calmly(t, dev, dir, func(o Options) error {
				_, err := BackUp(context.Background(), o, Wanted{Partition: 3, Kind: shelf.Files}, nil)
				return err
			}); !errors.Is(err, ErrPending) {
				t.Errorf("a backup: %v", err)
			}
			finish := func(o Options) error { _, err := Resume(context.Background(), o, false); return err }
			err := s.calmly(t, dev, dir, finish)
			if c.resume {
				if err != nil {
					t.Fatalf("finished: %v", err)
				}
				unopened(t, s, dev, dir)
				return
			}
			if err == nil || !strings.Contains(err.Error(), "Nothing was written") || whole(t, dev) != before {
				t.Fatalf("went on: %v", err)
			}
			leave := func(reason string) error {
				return s.calmly(t, dev, dir, func(o Options) error { _, err := Leave(o, reason); return err })
			}
			if err := leave("  "); !errors.Is(err, ErrPending) {
				t.Errorf("left without a reason: %v", err)
			}
			if err := leave("the customer has a new drive"); err != nil {
				t.Fatal(err)
			}
			unopened(t, s, dev, dir)
			entries, err := trail.File{Path: filepath.Join(dir, "trail.jsonl")}.Read()
			if last := entries[len(entries)-1]; err != nil || last.Act != trail.ActLeft || last.Reason != "the customer has a new drive" {
				t.Errorf("the trail ends with %+v, %v", last, err)
			}
		})
	}
}

// unopened holds that no run is open on a drive, and that nothing of one is left on it.
func unopened(t *testing.T, s *shop, dev disk.Device, dir string) {
	t.Helper()
	if err := s.calmly(t, dev, dir, func(o Options) error {
		if u, err := Open(o); u != nil || err != nil {
			t.Errorf("still open: %+v, %v", u, err)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if x, err := sign.Find(dev); x != nil || err != nil {
		t.Errorf("the sign is left: %+v, %v", x, err)
	}
}

func unsigned(t *testing.T, dev disk.Device) {
	t.Helper()
	x, err := sign.Find(dev)
	if err != nil || x == nil {
		t.Fatal("the drive has no sign", err)
	}
	if err := sign.Remove(dev, x.At); err != nil {
		t.Fatal(err)
	}
}

// ofRun is the path of a file of the only run.
func ofRun(t *testing.T, dir, name string) string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(dir, "runs", "r-*", name))
	if err != nil || len(found) != 1 {
		t.Fatal(found, err)
	}
	return found[0]
}

func lose(t *testing.T, dir, name string) {
	t.Helper()
	if err := os.Remove(ofRun(t, dir, name)); err != nil {
		t.Fatal(err)
	}
}

// TestUnfinishedIsToldFirst reads a drive with an open run: that is the first finding, and an error.
func TestUnfinishedIsToldFirst(t *testing.T) {
	_, dev, _ := slidHalf(t)
	sv, err := survey.Read(dev, nil)
	if err != nil {
		t.Fatal(err)
	}
	l := sv.Check()
	if len(l) == 0 || l[0].Code != survey.UnfinishedRun || l[0].Severity != "error" || l.FirstError() == nil {
		t.Errorf("found %v", l)
	}
}

// TestBrokenSaysWhatIsProven damages the journal: the refusal says which pieces lie where.
func TestBrokenSaysWhatIsProven(t *testing.T) {
	s, dev, dir := slidHalf(t)
	journal := ofRun(t, dir, ran.JournalFile)
	b, err := os.ReadFile(journal)
	if err != nil {
		t.Fatal(err)
	}
	b[20] ^= 1 // in its first frame
	if err := os.WriteFile(journal, b, 0o644); err != nil {
		t.Fatal(err)
	}
	before := whole(t, dev)
	for _, undo := range []bool{false, true} {
		err := s.calmly(t, dev, dir, func(o Options) error { _, err := Resume(context.Background(), o, undo); return err })
		if !errors.Is(err, ran.ErrBroken) || whole(t, dev) != before {
			t.Fatalf("undo %v: %v", undo, err)
		}
		for _, says := range []string{"Nothing was written", "stays open", "lie in their new place only", "left as it is"} {
			if !strings.Contains(err.Error(), says) {
				t.Errorf("undo %v: does not say %q: %v", undo, says, err)
			}
		}
	}
}

// TestStrayInRuns puts into the folder of the runs what is none: it is told, and stops nothing.
func TestStrayInRuns(t *testing.T) {
	s := newShop(t, deleteRecovery)
	im := s.open(t)
	runs := s.options(im).Runs
	broken := filepath.Join(runs, "r-20260101-000000-aaaaaa")
	if err := os.MkdirAll(broken, 0o755); err != nil {
		t.Fatal(err)
	}
	for p, text := range map[string]string{filepath.Join(runs, "notes.txt"): "a note", filepath.Join(broken, ran.MetaFile): "{", filepath.Join(broken, ran.JournalFile): "x"} {
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	stray, err := ran.Stray(runs)
	if want := []string{"notes.txt", "r-20260101-000000-aaaaaa"}; err != nil || !slices.Equal(stray, want) {
		t.Errorf("stray: %v, want %v, %v", stray, want, err)
	}
	if _, err := CarryOut(context.Background(), s.options(im)); err != nil {
		t.Error(err)
	}
}

// TestAlteredRecord changes a record behind the trail's back: nothing is planned from it.
func TestAlteredRecord(t *testing.T) {
	for name, alter := range map[string]func(t *testing.T, dir string){
		"its text": func(t *testing.T, dir string) {
			p := filepath.Join(dir, "record.json")
			b, err := os.ReadFile(p)
			if err != nil {
				t.Fatal(err)
			}
			var m map[string]any
			json.Unmarshal(b, &m)
			m["who"] = "Somebody Else"
			b, _ = json.Marshal(m)
			os.WriteFile(p, b, 0o644)
		},
		"a file beside it":          func(t *testing.T, dir string) { os.WriteFile(filepath.Join(dir, trail.BlobLast), []byte("x"), 0o644) },
		"a file beside it was lost": func(t *testing.T, dir string) { os.Remove(filepath.Join(dir, trail.BlobFiles)) },
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop(t, plan.Step{Partition: "6", Body: plan.Deletion{Release: "not wanted", Waiver: "none needed"}})
			im := s.open(t)
			res, err := CarryOut(context.Background(), s.options(im))
			if err != nil {
				t.Fatal(err)
			}
			recs := s.options(im).Records
			alter(t, filepath.Join(recs.Dir, res.Records[0]))
			if rec, _, err := recs.Load(res.Records[0]); err != nil || rec.Span.Number != 6 {
				t.Errorf("it cannot be looked at: %v", err)
			}
			for _, step := range []plan.Step{
				{Body: plan.BringingBack{Record: res.Records[0]}},
				{Body: plan.Rebuilding{Record: res.Records[0], Size: "10 MiB"}},
			} {
				s.steps = []plan.Step{step}
				_, err = CarryOut(context.Background(), s.options(im))
				var b *rehearse.Blocked
				if !errors.As(err, &b) || b.Obstacles[0].Code != plan.RecordAltered {
					t.Errorf("%s: %v", step.Do(), err)
				}
			}
		})
	}
}

// TestBrokenTrail carries out on a trail that does not verify: only for a reason, which is entered.
func TestBrokenTrail(t *testing.T) {
	s := newShop(t, deleteRecovery)
	im := s.open(t)
	o := s.options(im)
	o.Verify = func(context.Context) (*trail.Report, error) {
		return &trail.Report{Problems: []string{"Entry 3: it was altered."}}, nil
	}
	if _, err := CarryOut(context.Background(), o); !errors.Is(err, ErrTrail) || !strings.Contains(err.Error(), "Entry 3") {
		t.Fatal(err)
	}
	o.Despite = "the entry is known"
	if _, err := CarryOut(context.Background(), o); err != nil {
		t.Fatal(err)
	}
	entries, err := o.Trail.(trail.File).Read()
	if e := entries[0]; err != nil || e.Act != trail.ActPlan || e.Reason != "the entry is known" || !strings.Contains(e.Text, "Entry 3") {
		t.Errorf("entered: %+v, %v", e, err)
	}
}

// full is a journal on a host that has room for so many bytes more.
type full struct {
	disk.File
	room int
}

func (f *full) WriteAt(b []byte, off int64) (int, error) {
	n := min(len(b), max(f.room, 0))
	if f.room -= len(b); n == len(b) {
		return f.File.WriteAt(b, off)
	}
	k, err := f.File.WriteAt(b[:n], off) // as much as there is room for
	return k, errors.Join(err, unix.ENOSPC)
}

// TestHostFull fills the host at every place of a run's journal: what was not begun has not touched the
// drive, and what was stopped is finished, or taken back, once there is room.
func TestHostFull(t *testing.T) {
	s := newShop(t, deleteRecovery, growC)
	base := s.open(t)
	before := whole(t, base)
	calm, dir := s.copyOf(t, base), t.TempDir()
	if err := s.calmly(t, calm, dir, start); err != nil {
		t.Fatal(err)
	}
	after := whole(t, calm)
	calm.Close()
	journal := ofRun(t, dir, ran.JournalFile)
	st, err := os.Stat(journal)
	if err != nil {
		t.Fatal(err)
	}
	length, refused, stopped := int(st.Size()), 0, 0
	rooms := []int{0, 7, 8, 100, length / 3, length / 2}
	for at := length - 60; at < length; at++ { // through every byte of the last marks
		rooms = append(rooms, at)
	}
	for i, room := range rooms {
		dev, dir, undo := s.copyOf(t, base), t.TempDir(), i%2 == 0
		err := s.calmly(t, dev, dir, func(o Options) error {
			o.Journal = func(f disk.File) disk.File { return &full{f, room} }
			return start(o)
		})
		if !errors.Is(err, unix.ENOSPC) {
			t.Fatalf("with room for %d of %d bytes: %v", room, length, err)
		}
		var open *Unfinished
		if err := s.calmly(t, dev, dir, func(o Options) (err error) { open, err = Open(o); return err }); err != nil {
			t.Fatal(err)
		}
		if open == nil {
			if refused++; whole(t, dev) != before {
				t.Errorf("with room for %d of %d bytes: nothing is open, and the drive has changed", room, length)
			}
			dev.Close()
			continue
		}
		stopped++
		if err := s.calmly(t, dev, dir, func(o Options) error { _, err := Resume(context.Background(), o, undo); return err }); err != nil {
			t.Fatalf("with room for %d of %d bytes, undo %v: %v", room, length, undo, err)
		}
		if now := whole(t, dev); undo && now != before || !undo && now != after {
			t.Errorf("with room for %d of %d bytes, undo %v: the bytes are not what they should be", room, length, undo)
		}
		unopened(t, s, dev, dir)
		dev.Close()
	}
	if refused < 6 || stopped < 30 {
		t.Errorf("%d refused, %d stopped", refused, stopped)
	}
}

// away is a trail that cannot be reached for a while.
type away struct {
	trail.File
	after int // so many times it can
}

func (a *away) Append(entries ...trail.Entry) error {
	if a.after--; a.after < 0 {
		return errors.New("the database is away")
	}
	return a.File.Append(entries...)
}

// TestTrailAway takes the trail away before a run, and at its end: the first is refused with nothing
// written, the second has ended, and its end is entered once the trail is back.
func TestTrailAway(t *testing.T) {
	s := newShop(t, deleteRecovery)
	im := s.open(t)
	before := whole(t, im)
	o := s.options(im)
	file := o.Trail.(trail.File)
	o.Trail = &away{file, 0}
	if _, err := CarryOut(context.Background(), o); err == nil || !strings.Contains(err.Error(), "nothing was written") || whole(t, im) != before {
		t.Fatalf("without a trail: %v", err)
	}
	o = s.options(im)
	o.Trail = &away{file, 1}
	res, err := CarryOut(context.Background(), o)
	if !errors.Is(err, ErrWaiting) || res == nil {
		t.Fatalf("away at the end: %v", err)
	}
	if x, err := sign.Find(im); x != nil || err != nil {
		t.Errorf("the drive still has its sign, %v", err)
	}
	if u, err := Open(s.options(im)); u != nil || err != nil {
		t.Errorf("still open: %+v, %v", u, err)
	}
	for range 2 { // once
		if _, err := Enter(o.Runs, file); err != nil {
			t.Fatal(err)
		}
	}
	open, err := file.Unended(trail.Drive{})
	entries, _ := file.Read()
	acts := ""
	for _, e := range entries {
		acts += string(e.Act) + " "
	}
	if err != nil || len(open) > 0 || acts != "plan release waiver delete carried-out mark " {
		t.Errorf("the trail has %s, open %v, %v", acts, open, err)
	}
}
