package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// later carries steps out, an hour after what was carried out before.
func (s *shop) later(t *testing.T, im disk.Device, steps ...plan.Step) (*Result, error) {
	t.Helper()
	s.hours++
	o := s.atHour(s.options(im))
	o.Plan = &plan.Plan{Version: 1, Steps: steps}
	return CarryOut(context.Background(), o)
}

func (s *shop) must(t *testing.T, im disk.Device, steps ...plan.Step) *Result {
	t.Helper()
	res, err := s.later(t, im, steps...)
	if err != nil {
		t.Fatal(steps, err)
	}
	return res
}

// place reads all of a partition's place.
func place(t *testing.T, im disk.Device, rec *trail.Record) []byte {
	t.Helper()
	b, err := disk.ReadFull(im, rec.Span.Start.Offset(im.SectorBytes()), rec.Span.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// recorded is the record of a deletion.
func (s *shop) recorded(t *testing.T, id string) *trail.Record {
	t.Helper()
	rec, _, err := s.options(nil).Records.Load(id)
	if err != nil {
		t.Fatal(err)
	}
	return rec
}

var deleteX = plan.Step{Partition: "5", Body: plan.Deletion{Release: "not wanted", Waiver: "none needed"}}

// TestMiddleTaken makes another volume in the middle of a deleted one, and deletes that: what it left
// there is told before the first comes back, by share and by file, and needs a reason.
func TestMiddleTaken(t *testing.T) {
	for _, name := range []string{"looked into", "sealed"} {
		t.Run(name, func(t *testing.T) { middleTaken(t, name == "sealed") })
	}
}

func middleTaken(t *testing.T, sealed bool) {
	s := newShop(t)
	im := s.open(t)
	if sealed {
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		p, _ := sv.Layout.Find(5)
		if _, err := im.WriteAt([]byte("-FVE-FS-"), int64(p.Start.Offset(512))+3); err != nil {
			t.Fatal(err)
		}
	}
	was := contents(t, im)
	res := s.must(t, im, deleteX)
	id, rec := res.Records[0], s.recorded(t, res.Records[0])
	before := place(t, im, rec)
	// Over the middle, where files lie; the volume's own tables are elsewhere.
	made := s.must(t, im, plan.Step{Body: plan.Creation{StartLBA: rec.Span.Start + disk.MiB.At(512), Size: "12 MiB", Type: "basic", Format: "ntfs", Label: "Other"}})
	s.must(t, im, plan.Step{Partition: fmt.Sprint(made.Columns[0].Number), Body: plan.Deletion{Release: "not wanted", Waiver: "empty"}})
	differ := func() (n disk.Bytes) {
		now := place(t, im, rec)
		for i := 0; i < len(now); i += 512 {
			if !bytes.Equal(now[i:i+512], before[i:i+512]) {
				n += 512
			}
		}
		return n
	}()
	if differ == 0 {
		t.Fatal("nothing was written there")
	}
	start := whole(t, im)
	_, err := s.later(t, im, plan.Step{Body: plan.BringingBack{Record: id}})
	var blocked *rehearse.Blocked
	if !errors.As(err, &blocked) || blocked.Obstacles[0].Code != plan.DamageMissing || whole(t, im) != start {
		t.Fatalf("without a reason: %v", err)
	}
	back := s.must(t, im, plan.Step{Body: plan.BringingBack{Record: id, Damaged: "the rest is wanted"}})
	var wrong []string
	for path, want := range was {
		if now := contents(t, im)[path]; strings.HasPrefix(path, "5/") && now != want {
			wrong = append(wrong, strings.TrimPrefix(path, "5/"))
		}
	}
	entries, err := s.options(nil).Trail.(trail.File).Read()
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(entries, func(e trail.Entry) bool { return e.Act == trail.ActBringBack })
	if e := entries[i]; e.Reason != "the rest is wanted" || !strings.Contains(e.Text, "does not come back whole") {
		t.Errorf("the trail says %q, %q", e.Text, e.Reason)
	}
	for _, path := range wrong {
		if !slices.ContainsFunc(back.Columns[0].Notes, func(o plan.Obstacle) bool { return strings.Contains(o.Text, path) }) {
			t.Errorf("%s has other contents, and nobody said so: %+v", path, back.Columns[0].Notes)
		}
	}
	t.Logf("%s differ, %d files: %s", differ, len(wrong), back.Columns[0].Detail)
}

// TestStandIsTrue compares what is said of a deleted partition's place, sector by sector, with what was
// there: what is called untouched is the same, and what differs is called taken or unknown.
func TestStandIsTrue(t *testing.T) {
	create := func(at, size disk.Bytes) func(rec *trail.Record) plan.Step {
		return func(rec *trail.Record) plan.Step {
			return plan.Step{Body: plan.Creation{StartLBA: rec.Span.Start + at.At(512), Size: size.String(), Type: "basic", Format: "ntfs", Label: "Other", As: "other"}}
		}
	}
	step := func(x plan.Step) func(*trail.Record) plan.Step { return func(*trail.Record) plan.Step { return x } }
	for name, steps := range map[string][]func(*trail.Record) plan.Step{
		"made, grown and deleted": {create(disk.MiB, 12*disk.MiB), step(plan.Step{Partition: "5", Body: plan.Growth{By: "6 MiB"}}), step(plan.Step{Partition: "5", Body: plan.Deletion{Release: "r", Waiver: "w"}})},
		"slid over and away":      {step(plan.Step{Partition: "6", Body: plan.Sliding{By: "-30 MiB"}}), step(plan.Step{Partition: "6", Body: plan.Sliding{By: "30 MiB"}})},
		"grown over":              {step(plan.Step{Partition: "4", Body: plan.Deletion{Release: "r", Waiver: "w"}}), step(plan.Step{Partition: "3", Body: plan.Growth{By: "40 MiB"}}), step(plan.Step{Partition: "3", Body: plan.Shrinking{By: "40 MiB"}})},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop(t)
			im := s.open(t)
			rec := s.recorded(t, s.must(t, im, deleteX).Records[0])
			before := place(t, im, rec)
			for _, x := range steps {
				s.must(t, im, x(rec))
				if stand := s.trueStand(t, im, rec, before); x == nil || stand.Untouched == 0 {
					t.Errorf("%+v", stand.Stand)
				}
			}
			if stand := s.trueStand(t, im, rec, before); stand.Untouched == stand.Used {
				t.Errorf("all is called untouched: %+v", stand.Stand)
			}
		})
	}
}

func (s *shop) trueStand(t *testing.T, im *disk.Image, rec *trail.Record, before []byte) *facts.Today {
	t.Helper()
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	stand, err := facts.StandOf(s.options(im).Sources, sv, rec, nil)
	if err != nil {
		t.Fatal(err)
	}
	now, start := place(t, im, rec), rec.Span.Start.Offset(512)
	for _, r := range stand.Returns {
		copy(now[r.Off:], r.Data)
	}
	for _, p := range stand.Pieces {
		if p.State == seek.Untouched && !bytes.Equal(now[p.Off-start:p.Off-start+p.Len], before[p.Off-start:p.Off-start+p.Len]) {
			t.Errorf("%d bytes at %d are called untouched, and are not", p.Len, p.Off)
		}
	}
	return stand
}

// TestKeptComesBack has a neighbour grow over a deleted volume's end and shrink back: what that wrote over
// is what the record kept, and is put back, so that the volume comes back to the byte.
func TestKeptComesBack(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	was := contents(t, im)
	rec := s.recorded(t, s.must(t, im, deleteRecovery).Records[0])
	before := place(t, im, rec)
	s.must(t, im, plan.Step{Partition: "3", Body: plan.Growth{By: "all"}})
	s.must(t, im, plan.Step{Partition: "3", Body: plan.Shrinking{To: "48 MiB"}})
	if bytes.Equal(place(t, im, rec), before) {
		t.Fatal("nothing was written there")
	}
	back := s.must(t, im, plan.Step{Body: plan.BringingBack{Record: rec.ID}})
	if !bytes.Equal(place(t, im, rec), before) || !maps.Equal(was, contents(t, im)) {
		t.Error("it is not back to the byte")
	}
	if c := back.Columns[0]; c.Place != plan.InPlace || !strings.Contains(c.Detail, "that the record kept put back") {
		t.Errorf("%s: %s", c.Place, c.Detail)
	}
}

// TestLivedOn brings a partition back, has its PC write to it, and deletes it again: of the first
// record's state nothing is called untouched that may be another, and the second's is as it says.
func TestLivedOn(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	rec := s.recorded(t, s.must(t, im, deleteX).Records[0])
	before := place(t, im, rec)
	s.must(t, im, plan.Step{Body: plan.BringingBack{Record: rec.ID}})
	if _, err := im.WriteAt([]byte("its PC wrote here"), int64(rec.Span.Start.Offset(512)+rec.Span.Bytes/2)); err != nil {
		t.Fatal(err)
	}
	again := s.recorded(t, s.must(t, im, deleteX).Records[0])
	if stand := s.trueStand(t, im, rec, before); stand.Unknown == 0 {
		t.Errorf("%+v", stand.Stand)
	}
	back := s.must(t, im, plan.Step{Body: plan.BringingBack{Record: again.ID}})
	if !strings.Contains(back.Columns[0].Detail, "untouched") || len(back.Columns[0].Notes) > 0 {
		t.Errorf("%+v", back.Columns[0])
	}
}

// TestUndoneOverGone slides, makes or grows a volume over the place of a deleted one, has the power cut on
// the way, and takes it back: what the deleted one had in use lies there to the byte, and is said to.
func TestUndoneOverGone(t *testing.T) {
	for name, steps := range map[string][]plan.Step{
		"slid over it":  {{Partition: "6", Body: plan.Sliding{By: "-30 MiB"}}},
		"made there":    {{Body: plan.Creation{Size: "12 MiB", Type: "basic", Format: "ntfs", Label: "Other"}}},
		"grown over it": {{Partition: "4", Body: plan.Deletion{Release: "r", Waiver: "w"}}, {Partition: "3", Body: plan.Growth{By: "all"}}},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop(t)
			im := s.open(t)
			rec := s.recorded(t, s.must(t, im, deleteX).Records[0])
			s.steps = steps
			s.hours++
			begin := func(o Options) error { return start(s.atHour(o)) }
			power := &disk.Power{}
			calm := s.copyOf(t, im)
			if err := s.attempt(t, calm, t.TempDir(), power, begin); err != nil {
				t.Fatal(err)
			}
			calm.Close()
			for part := range 4 {
				s.undone(t, im, rec, power.Writes()*(part+1)/4-part/3, begin)
			}
		})
	}
}

// atHour has a run begin when it is that late, in the lead's name.
func (s *shop) atHour(o Options) Options {
	o.Lead, o.Now = true, func() time.Time { return day.Add(time.Duration(s.hours) * time.Hour) }
	return o
}

func (s *shop) undone(t *testing.T, im *disk.Image, rec *trail.Record, at int, begin func(Options) error) {
	t.Helper()
	before := place(t, im, rec)
	dev, dir := s.copyOf(t, im), t.TempDir()
	defer dev.Close()
	if err := s.attempt(t, dev, dir, &disk.Power{At: at}, begin); !errors.Is(err, disk.ErrPowerCut) {
		t.Fatal(err)
	}
	if err := s.calmly(t, dev, dir, func(o Options) error {
		if _, err := Resume(context.Background(), s.atHour(o), true); err != nil {
			return err
		}
		used, err := facts.InUse(o.Sources, rec)
		if err != nil || len(used) == 0 {
			return fmt.Errorf("%d ranges: %w", len(used), err)
		}
		now := place(t, dev, rec)
		for _, r := range used {
			if !bytes.Equal(now[r.Start:r.End], before[r.Start:r.End]) {
				t.Errorf("cut at write %d: of what was deleted before, bytes %d to %d are not as they were", at, r.Start, r.End)
			}
		}
		sv, err := survey.Read(dev, nil)
		if err != nil {
			return err
		}
		stand, err := facts.StandOf(o.Sources, sv, rec, nil)
		if err == nil && stand.Untouched != stand.Used {
			t.Errorf("cut at write %d: it is said to be %+v", at, stand.Stand)
		}
		return err
	}); err != nil && !errors.Is(err, ran.ErrNothing) {
		t.Fatal(err)
	}
}

// TestStandWithStrays has files in the folder of runs that are none, or cannot be read: they stop nothing, and
// of one that may have been a run nobody knows where it wrote.
func TestStandWithStrays(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	rec := s.recorded(t, s.must(t, im, deleteX).Records[0])
	stand := func() *facts.Today {
		t.Helper()
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		got, err := facts.StandOf(s.options(im).Sources, sv, rec, nil)
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	runs := s.options(im).Runs
	for name, text := range map[string]string{"notes.txt": "a note", "empty/none": ""} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(runs, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(runs, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got := stand(); got.Untouched != got.Used {
		t.Errorf("beside a note: %+v", got.Stand)
	}
	if err := os.MkdirAll(filepath.Join(runs, "r-20261121-120000-abcdef"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(runs, "r-20261121-120000-abcdef", "run.json"), []byte("{"), 0o644); err != nil {
		t.Fatal(err)
	}
	if got := stand(); got.Unknown == 0 || got.Taken > 0 {
		t.Errorf("beside a run that cannot be read: %+v", got.Stand)
	}
}

// TestTakenByWhatCameBack lets a volume slide into a deleted one's place, deletes it too, and brings the first
// back although something else lies in its place: what that calls its own is still the other one's, as far as
// nothing was written. While it is there, and when it is deleted again, none of that is called taken.
func TestTakenByWhatCameBack(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	first := s.must(t, im, deleteRecovery).Records[0]
	s.must(t, im, plan.Step{Partition: "5", Body: plan.Growth{By: "all", Edge: "head"}})
	second := s.must(t, im, deleteX).Records[0]
	rec := s.recorded(t, second)
	was := place(t, im, rec)
	files, err := s.options(nil).Records.FileList(rec)
	if err != nil {
		t.Fatal(err)
	}
	judge := func(when string) {
		t.Helper()
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		o := s.atHour(s.options(im))
		today, err := facts.StandOf(o.Sources, sv, rec, nil)
		if err != nil {
			t.Fatal(err)
		}
		now, start, same := place(t, im, rec), rec.Span.Start.Offset(512), 0
		for _, f := range files {
			if len(f.Extents) == 0 {
				continue
			}
			is := true
			for _, e := range f.Extents {
				is = is && bytes.Equal(now[e.Off:e.Off+e.Len], was[e.Off:e.Off+e.Len])
			}
			if state := today.File(f, start).State; is && state == seek.Taken || !is && state == seek.Untouched {
				t.Errorf("%s: %s is there %v, and called %s", when, f.Path, is, state)
			}
			if is {
				same++
			}
		}
		if same == 0 {
			t.Errorf("%s: nothing of it is left, which proves nothing", when)
		}
	}
	back := s.must(t, im, plan.Step{Body: plan.BringingBack{Record: first, Damaged: "what is left is wanted"}})
	judge("while the first is there")
	s.must(t, im, plan.Step{Partition: fmt.Sprint(back.Columns[0].Number), Body: plan.Deletion{Release: "not wanted", Waiver: "none needed"}})
	judge("once it is deleted again")
}

// TestBackAndFoundAgain brings a partition back from its backup, loses the table, and searches: what the bringing
// back wrote is its own, and none of its files that are there is called taken.
func TestBackAndFoundAgain(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	if _, err := BackUp(context.Background(), s.atHour(s.options(im)), Wanted{Partition: 5, Kind: shelf.Image}, nil); err != nil {
		t.Fatal(err)
	}
	first := s.must(t, im, plan.Step{Partition: "5", Body: plan.Deletion{Release: "not wanted"}}).Records[0]
	rec := s.recorded(t, first)
	was := place(t, im, rec)
	made := s.must(t, im, plan.Step{Body: plan.Creation{StartLBA: rec.Span.Start + disk.MiB.At(512), Size: "12 MiB", Type: "basic", Format: "ntfs", Label: "Other"}})
	s.must(t, im, plan.Step{Partition: fmt.Sprint(made.Columns[0].Number), Body: plan.Deletion{Release: "not wanted", Waiver: "empty"}})
	if back := s.must(t, im, plan.Step{Body: plan.BringingBack{Record: first}}); back.Columns[0].Place != plan.FromBackup {
		t.Fatalf("it came back as %s", back.Columns[0].Place)
	}
	for _, at := range []disk.Bytes{0, im.Size() - 33*512} {
		if err := im.Zero(at, 33*512); err != nil {
			t.Fatal(err)
		}
	}
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	o := s.atHour(s.options(im))
	x := seek.New(im, sv, nil)
	if _, err := x.Whole(context.Background(), 0); err != nil {
		t.Fatal(err)
	}
	there, now := 0, place(t, im, rec)
	for _, f := range x.Finds() {
		if f.Start != rec.Span.Start || f.Volume() == nil {
			continue
		}
		stand, err := facts.FindStands(o.Sources, sv, &f)
		if err != nil {
			t.Fatal(err)
		}
		files, err := f.Volume().Files()
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range files {
			is := len(x.Extents) > 0
			for _, e := range x.Extents {
				is = is && bytes.Equal(now[e.Off:e.Off+e.Len], was[e.Off:e.Off+e.Len])
			}
			if !is {
				continue
			}
			there++
			if state := stand.File(x, f.Start.Offset(512)).State; state == seek.Taken {
				t.Errorf("%s is there, and called taken", x.Path)
			}
		}
	}
	if there == 0 {
		t.Error("nothing of it was found")
	}
}
