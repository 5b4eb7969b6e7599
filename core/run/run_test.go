package run

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/sample/drives"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// The drive of these tests, and its shop's clock.
var (
	day       = drives.Day
	uid       = drives.UID
	files     = drives.Files
	makeDrive = drives.Small
	whole     = drives.Whole
)

// shop is a drive with all that belongs to it.
type shop struct {
	dir   string
	image string
	steps []plan.Step
	pc    bool // the plan changes the facts about the PC
	fills bool // it writes into free clusters, whose former contents are not promised
	seed  uint64
	hours int // since it began, of what is carried out by later
}

func newShop(t testing.TB, steps ...plan.Step) *shop { return newShopOf(t, 512, steps...) }

func newShopOf(t testing.TB, sector disk.Bytes, steps ...plan.Step) *shop {
	t.Helper()
	dir := t.TempDir()
	s := &shop{dir: dir, image: filepath.Join(dir, "d.img"), steps: steps}
	makeDrive(t, s.image, sector)
	return s
}

func (s *shop) open(t testing.TB) *disk.Image {
	t.Helper()
	im, err := disk.OpenImage(s.image, 0, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return im
}

// options gives every run the same clock and the same randomness.
func (s *shop) options(dev disk.Device) Options {
	s.seed++
	o := drives.Sources(s.dir, s.image, dev)
	o.Random = rand.NewChaCha8([32]byte{byte(s.seed), byte(s.seed >> 8)})
	return Options{
		Options: rehearse.Options{
			Sources: o,
			Plan:    &plan.Plan{Version: 1, Steps: s.steps}, Who: "Odile Farrow",
			TrailRef: filepath.Join(s.dir, "trail.jsonl"), Now: func() time.Time { return day },
		},
		Serial: "7f3k",
	}
}

// contents maps every file of every volume to what it holds.
func contents(t testing.TB, d disk.Device) map[string]string {
	t.Helper()
	sv, err := survey.Read(d, nil)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for n, v := range sv.Volumes() {
		list, err := v.Files()
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range list {
			if f.Kind != volume.Plain {
				continue
			}
			r, err := v.Open(f)
			if err != nil {
				t.Fatal(err)
			}
			b, err := io.ReadAll(io.NewSectionReader(r, 0, int64(f.Bytes)))
			if err != nil {
				t.Fatal(err)
			}
			out[fmt.Sprintf("%d/%s", n, f.Path)] = string(b)
		}
	}
	return out
}

var (
	deleteRecovery = plan.Step{Partition: "4", Body: plan.Deletion{Release: "the customer does not want it", Waiver: "nothing of value in it"}}
	growC          = plan.Step{Partition: "3", Body: plan.Growth{By: "20 MiB"}}
	growC4         = plan.Step{Partition: "4", Body: plan.Growth{By: "4 MiB"}}
)

func TestDeleteAndGrow(t *testing.T) {
	s := newShop(t, deleteRecovery, growC)
	im := s.open(t)
	before := contents(t, im)
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	sv, _ := survey.Read(im, nil)
	if l := sv.Check(); l.FirstError() != nil || slices.ContainsFunc(l, func(f finding.Finding) bool {
		return f.Severity == finding.Warning && f.Code != "recovery-without-image"
	}) {
		t.Errorf("check: %v", l)
	}
	c, _ := sv.Layout.Find(3)
	if c.Bytes != 68*disk.MiB || c.Volume.TotalBytes != 68*disk.MiB-4096 {
		t.Errorf("C: has %s, its volume %d", c.Bytes, c.Volume.TotalBytes)
	}
	if len(layout.Differ(res.Layout, sv.Layout)) > 0 {
		t.Error("not as planned")
	}
	after := contents(t, im)
	for path, want := range before {
		if strings.HasPrefix(path, "4/") {
			continue
		}
		if after[path] != want {
			t.Errorf("%s has changed", path)
		}
	}
	entries, err := trail.File{Path: filepath.Join(s.dir, "trail.jsonl")}.Read()
	if err != nil {
		t.Fatal(err)
	}
	var acts []string
	for _, e := range entries {
		acts = append(acts, string(e.Act))
		if e.Act == trail.ActDelete && (e.Record != res.Records[0] || e.RecordHash == "" || e.Before == nil || e.After == nil || e.Reason == "") {
			t.Errorf("the entry of the deletion: %+v", e)
		}
	}
	if got := strings.Join(acts, " "); got != "plan release waiver delete grow carried-out mark" {
		t.Errorf("trail: %s", got)
	}
	recs := trail.Records{Dir: filepath.Join(s.dir, "records")}
	rec, _, err := recs.Load(res.Records[0])
	if err != nil {
		t.Fatal(err)
	}
	list, err := recs.FileList(rec)
	if err != nil || len(list) < 12 || rec.Span.UniqueID != uid(4) || len(rec.TableBefore) != 5 || len(rec.TableAfter) != 5 {
		t.Errorf("record: %d files, %+v, %v", len(list), rec.Span, err)
	}
	var ranges []disk.Range
	b, err := recs.Blob(rec, trail.BlobRanges)
	if err != nil || json.Unmarshal(b, &ranges) != nil || len(ranges) < 2 {
		t.Errorf("record: ranges %v, %v", ranges, err)
	}
	// A record that was altered is not taken for one.
	p := filepath.Join(recs.Dir, rec.ID, trail.BlobFirst)
	os.WriteFile(p, []byte("x"), 0o644)
	if _, err := recs.Blob(rec, trail.BlobFirst); !errors.Is(err, trail.ErrNoRecord) {
		t.Errorf("altered record: %v", err)
	}
}

func TestBringBackIsIdentical(t *testing.T) {
	s := newShop(t, plan.Step{Partition: "6", Body: plan.Deletion{Release: "not wanted", Waiver: "none needed"}})
	im := s.open(t)
	before := whole(t, im)
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	if before == whole(t, im) {
		t.Fatal("nothing was deleted")
	}
	s.steps = []plan.Step{{Body: plan.BringingBack{Record: res.Records[0]}}}
	back, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	if !(before == whole(t, im)) {
		t.Error("the drive is not identical to the byte")
	}
	if back.Columns[0].Place != plan.InPlace {
		t.Errorf("brought back %s", back.Columns[0].Place)
	}
	f, _ := os.Open(filepath.Join(s.dir, "trail.jsonl"))
	defer f.Close()
	if r, err := trail.Verify(f, nil); err != nil || !r.Sound() || r.Entries != 10 {
		t.Errorf("trail: %+v, %v", r, err)
	}
}

func TestBringBackFromBackup(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	before := contents(t, im)
	if _, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 4, Kind: shelf.Image}, nil); err != nil {
		t.Fatal(err)
	}
	s.steps = []plan.Step{
		{Partition: "4", Body: plan.Deletion{Release: "not wanted"}}, {Partition: "3", Body: plan.Growth{By: "all"}},
	}
	res, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	s.steps = []plan.Step{{Body: plan.BringingBack{Record: res.Records[0]}}}
	back, err := CarryOut(context.Background(), s.options(im))
	if err != nil {
		t.Fatal(err)
	}
	if back.Columns[0].Place != plan.FromBackup {
		t.Errorf("brought back %s", back.Columns[0].Place)
	}
	sv, _ := survey.Read(im, nil)
	if l := sv.Check(); l.FirstError() != nil || slices.ContainsFunc(l, func(f finding.Finding) bool {
		return f.Severity == finding.Warning && f.Code != "recovery-without-image"
	}) {
		t.Errorf("check: %v", l)
	}
	p, ok := sv.Layout.Find(4)
	was, _ := res.Columns[0].Layout.Find(4)
	if !ok || p.UniqueID != uid(4) || was != nil || p.Attributes != "0x8000000000000001" || p.TypeID != table.TypeRecovery {
		t.Errorf("came back as %+v", p)
	}
	after := contents(t, im)
	for path, want := range before {
		if after[path] != want {
			t.Errorf("%s is not as it was", path)
		}
	}
}

func TestLargeSectors(t *testing.T) {
	s := newShopOf(t, 4096, deleteRecovery, growC)
	im := s.open(t)
	if im.SectorBytes() != 4096 {
		t.Fatalf("taken for sectors of %d", im.SectorBytes())
	}
	before := contents(t, im)
	if _, err := CarryOut(context.Background(), s.options(im)); err != nil {
		t.Fatal(err)
	}
	sv, _ := survey.Read(im, nil)
	if l := sv.Check(); l.FirstError() != nil || slices.ContainsFunc(l, func(f finding.Finding) bool {
		return f.Severity == finding.Warning && f.Code != "recovery-without-image"
	}) {
		t.Errorf("check: %v", l)
	}
	if c, _ := sv.Layout.Find(3); c.Bytes != 68*disk.MiB || c.Volume.TotalBytes != 68*disk.MiB-4096 {
		t.Errorf("C: has %s, its volume %d", c.Bytes, c.Volume.TotalBytes)
	}
	after := contents(t, im)
	for path, want := range before {
		if !strings.HasPrefix(path, "4/") && after[path] != want {
			t.Errorf("%s has changed", path)
		}
	}
}

// TestPowerCutAtEveryWrite cuts the power at every write of a whole carry-out,
// on the drive and in the journal; the next start finishes the run or takes it
// back.
func TestPowerCutAtEveryWrite(t *testing.T) {
	t.Run("delete and grow", func(t *testing.T) { newShop(t, deleteRecovery, growC).cut(t, 4) })
	t.Run("make again and fill", func(t *testing.T) {
		s := newShop(t)
		s.steps, s.fills = againAndFill(s.backUp(t, 5)), true
		s.cut(t, 1)
	})
	t.Run("erase", func(t *testing.T) {
		s := newShop(t)
		s.backUp(t, 5)
		s.steps = []plan.Step{{Partition: "5", Body: plan.Deletion{Erase: true, Backups: "keep"}}, growC4}
		s.cut(t, 1)
	})
	t.Run("FAT larger and smaller, label, tag", func(t *testing.T) {
		s := newShop(t, plan.Step{Partition: "2", Body: plan.Deletion{Release: "not wanted"}}, plan.Step{Partition: "1", Body: plan.Growth{By: "all"}},
			plan.Step{Partition: "1", Body: plan.Shrinking{By: "1 MiB"}}, plan.Step{Partition: "3", Body: plan.Labelling{Label: "Reception"}}, plan.Step{Partition: "5", Body: plan.Retagging{Name: "pictures"}},
			plan.Step{Partition: "3", Body: plan.Growth{By: "1 MiB", Edge: "head"}})
		s.fills = true
		s.cut(t, 1)
	})
	t.Run("mend", func(t *testing.T) {
		s := newShop(t, plan.Step{Body: plan.Mending{}})
		im := s.open(t)
		if _, err := im.WriteAt(make([]byte, 512), int64(im.Size()-512)); err != nil {
			t.Fatal(err)
		}
		im.Close()
		s.cut(t, 4)
	})
	t.Run("bring back, make again", func(t *testing.T) {
		s := newShop(t)
		im := s.open(t)
		s.steps = []plan.Step{deleteRecovery, {Partition: "6", Body: plan.Deletion{Release: "r", Waiver: "w"}}}
		res, err := CarryOut(context.Background(), s.options(im))
		if err != nil {
			t.Fatal(err)
		}
		im.Close()
		s.steps = []plan.Step{
			{Body: plan.BringingBack{Record: res.Records[1]}},
			{Body: plan.Rebuilding{Record: res.Records[0], Size: "10 MiB", As: "again"}},
		}
		s.fills = true
		s.cut(t, 1)
	})
	t.Run("from an image", func(t *testing.T) {
		s := newShop(t)
		im := s.open(t)
		m, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 4, Kind: shelf.Image}, nil)
		if err != nil {
			t.Fatal(err)
		}
		im.Close()
		s.steps = []plan.Step{{Body: plan.Creation{Backup: m.ID, Size: "30 MiB", As: "copy"}}}
		s.fills = true
		s.cut(t, 1)
	})
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// copyOf is a copy of a drive that is thrown away.
func (s *shop) copyOf(t testing.TB, dev disk.Device) *disk.Overlay {
	t.Helper()
	o, err := disk.NewOverlay(dev, s.dir)
	if err != nil {
		t.Fatal(err)
	}
	return o
}

// attempt does something on a drive whose runs, records and trail lie in dir, with a supply that
// may fail. Each attempt is the same run.
func (s *shop) attempt(t testing.TB, dev disk.Device, dir string, p *disk.Power, f func(o Options) error) error {
	t.Helper()
	o := s.options(disk.NewFaulty(dev, p))
	o.Random = rand.NewChaCha8([32]byte{1})
	o.Runs, o.Records, o.Trail = filepath.Join(dir, "runs"), trail.Records{Dir: filepath.Join(dir, "records")}, trail.File{Path: filepath.Join(dir, "trail.jsonl")}
	o.Journal = func(f disk.File) disk.File { return disk.NewFaultyFile(f, p) }
	if s.pc {
		s.withPC(&o)
	}
	if kept := filepath.Join(s.dir, "records"); exists(kept) && !exists(o.Records.Dir) { // of former runs
		if err := os.CopyFS(o.Records.Dir, os.DirFS(kept)); err != nil {
			t.Fatal(err)
		}
	}
	return f(o)
}

func start(o Options) error {
	_, err := CarryOut(context.Background(), o)
	return err
}

// cut tries the shop's plan with the power cut at every write, in so many of the four
// ways each time: torn or not, finished or taken back.
func (s *shop) cut(t *testing.T, ways int) {
	base := s.open(t)
	before, files, promised := whole(t, base), contents(t, base), promisedBytes(t, base, base)
	over := func() *disk.Overlay { return s.copyOf(t, base) }
	attempt := func(dev disk.Device, dir string, p *disk.Power, f func(o Options) error) error {
		return s.attempt(t, dev, dir, p, f)
	}
	entries := func(dir string) int64 {
		f, err := os.Open(filepath.Join(dir, "trail.jsonl"))
		if errors.Is(err, os.ErrNotExist) {
			return 0
		}
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		r, err := trail.Verify(f, nil)
		if err != nil || !r.Sound() {
			t.Fatalf("the trail: %v, %v", r.Problems, err)
		}
		return r.Entries
	}
	calm, calmDir := over(), t.TempDir()
	power := &disk.Power{}
	if err := attempt(calm, calmDir, power, start); err != nil {
		t.Fatal(err)
	}
	after := whole(t, calm)
	calm.Close()
	if before == after {
		t.Fatal("the undisturbed run changed nothing")
	}
	total, back, finished, every := power.Writes(), 0, 0, 1
	if total > 60 && os.Getenv("JADETRAIL_PROVE") == "" {
		every = max(2, total/50) // of a long run, some; make prove takes them all
	}
	for at := 1; at <= total; at += every {
		for mode := range ways {
			if mode += at; ways == 4 {
				mode -= at
			}
			torn, undo := mode&1 != 0, mode&2 != 0
			dev, dir := over(), t.TempDir()
			rng := rand.New(rand.NewPCG(uint64(at), uint64(mode)))
			err := attempt(dev, dir, &disk.Power{At: at, Torn: torn, Lose: torn, Rand: rng}, start)
			if !errors.Is(err, disk.ErrPowerCut) {
				t.Fatalf("cut at %d: %v", at, err)
			}
			unsaid(t, dir)
			void, taken := false, undo
			repair := func(o Options) error {
				r, err := Resume(context.Background(), o, taken)
				if errors.Is(err, carry.ErrNoReturn) { // from there on it can only be finished
					taken = false
					r, err = Resume(context.Background(), o, false)
				}
				if err == nil {
					void = r.Void
				}
				return err
			}
			// Cut again at a write of the repair, another one each time.
			err = attempt(dev, dir, &disk.Power{At: 1 + at%7, Torn: torn, Lose: torn, Rand: rng}, repair)
			if err != nil && !errors.Is(err, disk.ErrPowerCut) {
				t.Fatalf("cut at %d, repair: %v", at, err)
			}
			if err != nil {
				if err := attempt(dev, dir, &disk.Power{}, repair); err != nil {
					t.Fatalf("cut at %d, second repair: %v", at, err)
				}
			}
			want, closing := after, int64(2) // with the mark of the good state
			if taken || void {
				want, closing = before, 1
				back++
			} else {
				finished++
			}
			if void {
				closing = 0
			}
			if (s.pc || s.fills) && taken {
				if !maps.Equal(contents(t, dev), files) || !maps.EqualFunc(promisedBytes(t, base, dev), promised, bytes.Equal) {
					t.Fatalf("cut at %d, torn %v: after taking back, files have changed", at, torn)
				}
			} else if whole(t, dev) != want {
				t.Fatalf("cut at %d, torn %v, undo %v: the bytes are not what they should be", at, torn, taken)
			}
			if n := entries(dir); n != entries(calmDir)-2+closing && (n != 0 || !taken && !void) {
				t.Fatalf("cut at %d: the trail has %d entries", at, n)
			}
			if err := attempt(dev, dir, &disk.Power{}, func(o Options) error {
				u, err := Open(o)
				if u != nil {
					err = u.Broken
					t.Errorf("cut at %d: still unfinished, %s", at, u.words())
				}
				return err
			}); err != nil {
				t.Fatal(err)
			}
			dev.Close()
		}
	}
	t.Logf("%d writes; finished %d times, taken back %d times", total, finished, back)
	if back == 0 || finished == 0 {
		t.Error("only one way was tried")
	}
}

// unsaid takes away what a run said of itself after the power was gone.
func unsaid(t *testing.T, dir string) {
	ended, err := filepath.Glob(filepath.Join(dir, "runs", "*", ran.EndedFile))
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range ended {
		if err := os.Remove(p); err != nil {
			t.Fatal(err)
		}
	}
}

func TestRefusals(t *testing.T) {
	patch := func(off int64, b ...byte) func(t *testing.T, im disk.Device) {
		return func(t *testing.T, im disk.Device) { im.WriteAt(b, off) }
	}
	// reseal changes the copies of the table with valid checksums.
	reseal := func(slot int, edit func(e *table.Entry), copies int) func(t *testing.T, im disk.Device) {
		return func(t *testing.T, im disk.Device) {
			tb, _ := table.Read(im)
			i := slices.IndexFunc(tb.Entries, func(e table.Entry) bool { return e.Slot == slot })
			e := tb.Entries[i]
			edit(&e)
			s, err := tb.Set(slot, table.NewEntry(e).Raw)
			if err != nil {
				t.Fatal(err)
			}
			n := slices.IndexFunc(s, func(o script.Op) bool { return o.Kind == script.Barrier })
			if copies == 1 {
				s = s[:n]
			}
			s.Apply(im, nil)
		}
	}
	last := int64(640*disk.MiB) - 512
	for _, c := range []struct {
		name  string
		spoil func(t *testing.T, im disk.Device)
		opt   func(o *Options)
		is    error
		code  plan.Code
		says  string
	}{
		{"wrong serial", nil, func(o *Options) { o.Serial = "7F3X" }, ErrSerial, "", "serial number"},
		{"no serial", nil, func(o *Options) { o.Serial = "" }, ErrSerial, "", "Nothing was written"},
		{"first header damaged", patch(512+60, 0xff), nil, nil, plan.TableUnsafe, "first copy"},
		{"second header damaged", patch(last+60, 0xff), nil, nil, plan.TableUnsafe, "second copy"},
		{"both headers damaged", func(t *testing.T, im disk.Device) { patch(512+60, 0xff)(t, im); patch(last+60, 0xff)(t, im) }, nil, nil, plan.TableUnsafe, "Both copies"},
		{"copies differ", reseal(5, func(e *table.Entry) { e.Name = "another" }, 1), nil, nil, plan.TableUnsafe, "differ"},
		{"entries overlap", reseal(5, func(e *table.Entry) { e.Start -= 4096 }, 2), func(o *Options) { o.Plan.Steps = o.Plan.Steps[1:] }, nil, plan.TableUnsafe, "overlap"},
		{"absurd boot sector", patch(int64((1+80+4)*disk.MiB)+13, 3), nil, nil, plan.NoVolume, "file system"},
		{"more than the gap", nil, func(o *Options) { o.Plan.Steps[1].SetAmount("25 MiB") }, nil, plan.BadAmount, "24 MiB"},
		{"no backup", nil, func(o *Options) { o.Plan.Steps[0] = o.Plan.Steps[0].WithReasons("not wanted", "") }, nil, plan.BackupMissing, "backup"},
		{"no release", nil, func(o *Options) { o.Plan.Steps[0] = o.Plan.Steps[0].WithReasons(" ", "empty") }, nil, plan.ReleaseMissing, "protected"},
		{"changed drive", nil, func(o *Options) {
			sv, _ := survey.Read(o.Dev, nil)
			o.Expect = sv.Layout
			reseal(6, func(e *table.Entry) { e.End -= 2048 }, 2)(t, o.Dev)
		}, rehearse.ErrChanged, "", "Partition 6 lies at"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newShop(t, deleteRecovery, growC)
			im := s.open(t)
			if c.spoil != nil {
				c.spoil(t, im)
			}
			o := s.options(im)
			if c.opt != nil {
				c.opt(&o)
			}
			before := whole(t, im)
			_, err := CarryOut(context.Background(), o)
			var b *rehearse.Blocked
			switch {
			case err == nil:
				t.Fatal("was carried out")
			case c.is != nil && !errors.Is(err, c.is):
				t.Errorf("got %v", err)
			case c.code != "" && (!errors.As(err, &b) || !slices.ContainsFunc(b.Obstacles, func(o plan.Obstacle) bool { return o.Code == c.code })):
				t.Errorf("got %v", err)
			}
			if !strings.Contains(err.Error(), c.says) || !strings.Contains(err.Error(), "Nothing was written") {
				t.Errorf("says %q", err)
			}
			if !(before == whole(t, im)) {
				t.Error("the drive was changed")
			}
			if left, _ := os.ReadDir(o.Runs); len(left) > 0 {
				t.Errorf("a run was begun: %v", left)
			}
		})
	}
}

func TestTruncatedImage(t *testing.T) {
	s := newShop(t, deleteRecovery)
	if err := os.Truncate(s.image, int64(300*disk.MiB)); err != nil {
		t.Fatal(err)
	}
	im := s.open(t)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	if !slices.ContainsFunc(sv.Layout.Findings, func(f finding.Finding) bool { return f.Code == "drive-too-short" }) {
		t.Errorf("found %v", sv.Layout.Findings)
	}
	if _, err := CarryOut(context.Background(), s.options(im)); err == nil {
		t.Error("a truncated image was changed")
	}
}

func TestOneRunAtATime(t *testing.T) {
	s := newShop(t, deleteRecovery)
	im := s.open(t)
	ctx, cancel := context.WithCancel(context.Background())
	o := s.options(im)
	o.Report = func(carry.Progress) { cancel() }
	if _, err := CarryOut(ctx, o); !errors.Is(err, carry.ErrStopped) {
		t.Fatalf("%v", err)
	}
	if _, err := CarryOut(context.Background(), s.options(im)); !errors.Is(err, ErrPending) {
		t.Errorf("a second run over an unfinished one: %v", err)
	}
	if _, err := disk.OpenImage(s.image, 0, true); !errors.Is(err, disk.ErrInUse) {
		t.Errorf("a second writer: %v", err)
	}
	if _, err := Resume(context.Background(), s.options(im), false); err != nil {
		t.Error(err)
	}
	if _, err := Resume(context.Background(), s.options(im), false); !errors.Is(err, ran.ErrNothing) {
		t.Errorf("nothing to resume: %v", err)
	}
}

func TestRehearsalWritesNothing(t *testing.T) {
	s := newShop(t, deleteRecovery, growC)
	im := s.open(t)
	before := whole(t, im)
	o := s.options(im)
	o.Rehearse = true
	res, err := CarryOut(context.Background(), o)
	if err != nil || res.Bytes == 0 {
		t.Fatal(err)
	}
	if !(before == whole(t, im)) {
		t.Error("the drive was changed")
	}
	for _, d := range []string{"runs", "records", "trail.jsonl"} {
		if _, err := os.Stat(filepath.Join(s.dir, d)); err == nil {
			t.Errorf("%s was made", d)
		}
	}
}

// TestSerialCheck asks for the serial number before anything else is done, says how much of it, and lets
// dashes be left out; on a drive that looks like another it asks before any writing to more than a table.
func TestSerialCheck(t *testing.T) {
	slide := plan.Step{Partition: "6", Body: plan.Sliding{By: "8 MiB"}}
	label := plan.Step{Partition: "6", Body: plan.Retagging{Name: "Other", Release: "r"}}
	for name, c := range map[string]struct {
		steps []plan.Step
		alike bool
		last  int
		typed string
		says  string // "" where it goes on
	}{
		"deletes":                 {[]plan.Step{deleteRecovery}, false, 0, "", "the last 4 characters"},
		"with a dash":             {[]plan.Step{deleteRecovery}, false, 5, "0-7f3K", ""},
		"without":                 {[]plan.Step{deleteRecovery}, false, 5, "07F3K", ""},
		"more than asked":         {[]plan.Step{deleteRecovery}, false, 5, "22-0-7F3K", ""},
		"all of it":               {[]plan.Step{deleteRecovery}, false, 4, "TLX5-22-0-7F3K", ""},
		"more than there is":      {[]plan.Step{deleteRecovery}, false, 4, "1TLX5-22-0-7F3K", "does not end in"},
		"too few":                 {[]plan.Step{deleteRecovery}, false, 5, "7F3K", "\"7F3K\" is 4 of them"},
		"one":                     {[]plan.Step{deleteRecovery}, false, 5, "-K", "\"-K\" is 1 of them"},
		"too few, and wrong":      {[]plan.Step{deleteRecovery}, false, 5, "7F3X", "does not end in \"7F3X\""},
		"a dash in place of one":  {[]plan.Step{deleteRecovery}, false, 5, "-7F3K", "is 4 of them"},
		"slides":                  {[]plan.Step{slide}, false, 0, "", ""},
		"slides, alike":           {[]plan.Step{slide}, true, 5, "", "the last 5 characters"},
		"the table alone, alike":  {[]plan.Step{label}, true, 5, "", ""},
		"slides, alike, the same": {[]plan.Step{slide}, true, 5, "07f3k", ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop(t, c.steps...)
			im := s.open(t)
			o := s.options(im)
			o.Identity.Serial, o.Serial, o.SerialLast, o.Alike, o.Lead = "TLX5-22-0-7F3K", c.typed, c.last, c.alike, true
			rehearsed := false
			o.Before = func([]plan.Column) { rehearsed = true }
			_, err := CarryOut(context.Background(), o)
			if (err == nil) != (c.says == "") || err != nil && (!errors.Is(err, ErrSerial) || !strings.Contains(err.Error(), c.says) || rehearsed) {
				t.Errorf("%v, worked out before that: %v", err, rehearsed)
			}
		})
	}
}
