package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/klauspost/compress/zstd"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/rehearse"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// backUp makes a backup of a partition's files and returns its name.
func (s *shop) backUp(t *testing.T, number int) string {
	t.Helper()
	im, err := disk.OpenImage(s.image, 0, false)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	m, err := BackUp(context.Background(), s.options(im), Wanted{Partition: number, Kind: shelf.Files}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return m.ID
}

// againAndFill deletes X:, makes it again smaller and fills it; the same files also
// arrive in a folder of C:.
func againAndFill(backup string) []plan.Step {
	return []plan.Step{
		{Partition: "5", Body: plan.Deletion{}},
		{Body: plan.Creation{Size: "24 MiB", Type: "basic", Format: "ntfs", Label: "Again", As: "again"}},
		{Partition: "again", Body: plan.CopyingBack{Backup: backup}},
		{Partition: "3", Body: plan.CopyingBack{Backup: backup, Folder: "From X"}},
	}
}

func TestMadeAgainAndFilled(t *testing.T) {
	for _, sector := range []disk.Bytes{512, 4096} {
		s := newShopOf(t, sector)
		s.steps = againAndFill(s.backUp(t, 5))
		im := s.open(t)
		before := contents(t, im)
		res, err := CarryOut(context.Background(), s.options(im))
		if err != nil {
			t.Fatal(err)
		}
		if len(res.Arrivals) != 2 || res.Arrivals[0].Compared != 30 || res.Arrivals[1].Compared != 30 {
			t.Errorf("%+v", res.Arrivals)
		}
		want := maps.Clone(before)
		for name, data := range before {
			if path, ok := strings.CutPrefix(name, "5/"); ok {
				want["3/From X/"+path] = data
			}
		}
		if after := contents(t, im); !maps.Equal(after, want) {
			t.Errorf("%d files, %d expected", len(after), len(want))
		}
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		p, _ := sv.Layout.Find(5)
		if p == nil || p.Bytes != 24*disk.MiB || p.Volume.Label != "Again" || p.UniqueID == uid(5) || sv.Check().FirstError() != nil {
			t.Errorf("%+v, %v", p, sv.Check())
		}
	}
}

func TestRestoreRefusals(t *testing.T) {
	s := newShop(t)
	id := s.backUp(t, 3)
	im := s.open(t)
	before := whole(t, im)
	for name, x := range map[string]struct {
		number int
		backup string
		folder string
		only   []string
		want   plan.Code
	}{
		"a backup that is not there":         {number: 5, backup: "b-nowhere", want: plan.NoBackup},
		"a partition without a volume":       {number: 2, backup: id, want: plan.NoVolume},
		"a partition that is not there":      {number: 9, backup: id, want: plan.NoSuch},
		"a file that the backup has not got": {number: 5, backup: id, only: []string{"nowhere.txt"}, want: plan.NoBackup},
	} {
		_, err := RestoreInto(context.Background(), s.options(im), x.backup, x.only, x.number, x.folder)
		var o *rehearse.Blocked
		if !errors.As(err, &o) || o.Obstacles[0].Code != x.want {
			t.Errorf("%s: %v", name, err)
		}
	}
	if whole(t, im) != before {
		t.Error("a refused restore wrote")
	}
}

func TestRestoreOneFile(t *testing.T) {
	s := newShop(t)
	id := s.backUp(t, 5)
	im := s.open(t)
	o := s.options(im)
	out, err := RestoreToFolder(context.Background(), o, id, []string{"x-rays/box 1/card-004.txt"}, filepath.Join(s.dir, "out"), nil)
	if err != nil || out.Files != 1 || out.Compared != 1 {
		t.Fatalf("%+v, %v", out, err)
	}
	b, err := os.ReadFile(filepath.Join(s.dir, "out", "X-rays", "box 1", "card-004.txt"))
	if want := contents(t, im)["5/X-rays/box 1/card-004.txt"]; err != nil || string(b) != want {
		t.Errorf("%d bytes of %d, %v", len(b), len(want), err)
	}
	a, err := RestoreInto(context.Background(), s.options(im), id, []string{"X-rays/box 1/card-004.txt"}, 3, "System/box 1")
	if err != nil || a.Files != 1 || a.Compared != 1 {
		t.Fatalf("%+v, %v", a, err)
	}
	if contents(t, im)["3/System/box 1/X-rays/box 1/card-004.txt"] != string(b) {
		t.Error("the file did not arrive")
	}
	// All of them into a FAT volume.
	before := contents(t, im)
	if a, err = RestoreInto(context.Background(), s.options(im), id, nil, 1, "Old/X"); err != nil || a.Files != 30 || a.Compared != 30 {
		t.Fatalf("%+v, %v", a, err)
	}
	after := contents(t, im)
	if after["1/Old/X/X-rays/box 1/card-004.txt"] != string(b) || len(after) != len(before)+30 || after["1/EFI/Boot/bootx64.efi"] != "start" {
		t.Errorf("%d files, there were %d", len(after), len(before))
	}
}

func TestErased(t *testing.T) {
	for _, backups := range []string{"keep", "delete"} {
		s := newShop(t)
		id := s.backUp(t, 5)
		s.steps = []plan.Step{{Partition: "5", Body: plan.Deletion{Erase: true, Backups: backups}}}
		if backups == "delete" {
			s.steps[0] = s.steps[0].WithReasons("", "the owner wants it gone")
		}
		im := s.open(t)
		sv, _ := survey.Read(im, nil)
		p, _ := sv.Layout.Find(5)
		res, err := CarryOut(context.Background(), s.options(im))
		if err != nil {
			t.Fatal(err)
		}
		b, err := disk.ReadFull(im, p.Start.Offset(512), p.Bytes)
		if err != nil || strings.Trim(string(b), "\x00") != "" {
			t.Errorf("%s: its place still holds something, %v", backups, err)
		}
		rec, _, err := s.options(im).Records.Load(res.Records[0])
		if err != nil || !rec.Erased || rec.Files != 0 {
			t.Errorf("%s: %+v, %v", backups, rec, err)
		}
		// Nothing of what it held is anywhere in what is kept.
		filepath.WalkDir(filepath.Join(s.dir, "records"), func(path string, d os.DirEntry, err error) error {
			if b, _ := os.ReadFile(path); strings.Contains(string(b), "card-0") || strings.Contains(string(b), "X-rays 4.") {
				t.Errorf("%s: %s keeps names or contents", backups, d.Name())
			}
			return err
		})
		filepath.WalkDir(filepath.Join(s.dir, "runs"), func(path string, d os.DirEntry, err error) error {
			if b, _ := os.ReadFile(path); strings.Contains(string(b), "card-0") {
				t.Errorf("%s: %s keeps names", backups, d.Name())
			}
			return err
		})
		if _, err := s.options(im).Shelf.Load(id); (err == nil) != (backups == "keep") {
			t.Errorf("%s: the backup: %v", backups, err)
		}
		if _, err := bringBackRecord(s, im, res.Records[0]); err == nil && backups == "delete" {
			t.Error("what was erased came back")
		}
	}
}

// bringBackRecord tries to bring a record's partition back.
func bringBackRecord(s *shop, im *disk.Image, id string) (*Result, error) {
	o := s.options(im)
	o.Plan = &plan.Plan{Version: 1, Steps: []plan.Step{{Body: plan.BringingBack{Record: id}}}}
	return CarryOut(context.Background(), o)
}

// TestSettledBeforeClosed keeps a backup busy that an erasing takes away: the run stays
// open until that is done.
func TestSettledBeforeClosed(t *testing.T) {
	s := newShop(t)
	id := s.backUp(t, 5)
	s.steps = []plan.Step{{Partition: "5", Body: plan.Deletion{Erase: true, Backups: "delete", Waiver: "the owner wants it gone"}}}
	im := s.open(t)
	busy, err := os.Open(filepath.Join(s.dir, "shelf", id))
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Flock(int(busy.Fd()), syscall.LOCK_EX); err != nil {
		t.Fatal(err)
	}
	if _, err := CarryOut(context.Background(), s.options(im)); !errors.Is(err, shelf.ErrBusy) {
		t.Errorf("with the backup busy: %v", err)
	}
	o := s.options(im)
	if m, err := Open(o); m == nil || err != nil {
		t.Fatalf("the run was closed before its backups were settled, %v", err)
	}
	busy.Close()
	if _, err := Resume(context.Background(), o, false); err != nil {
		t.Fatal(err)
	}
	if _, err := o.Shelf.Load(id); !errors.Is(err, shelf.ErrNoBackup) {
		t.Errorf("the backup: %v", err)
	}
	if m, err := Open(o); m != nil || err != nil {
		t.Errorf("still open, %v", err)
	}
}

func TestDeleteBackup(t *testing.T) {
	s := newShop(t)
	id := s.backUp(t, 5)
	im := s.open(t)
	s.steps = []plan.Step{{Partition: "5", Body: plan.Deletion{}}}
	o := s.options(im)
	if _, err := CarryOut(context.Background(), o); err != nil {
		t.Fatal(err)
	}
	if err := takeOff(o, id, " ", o.Shelf.Delete); !errors.Is(err, ErrNeeded) {
		t.Errorf("a record relies on it: %v", err)
	}
	if _, err := o.Shelf.Load(id); err != nil {
		t.Error(err)
	}
	o.Lead = false
	if err := takeOff(o, id, "the owner took the drive", o.Shelf.Delete); !errors.Is(err, ErrLead) {
		t.Errorf("the last one, by a technician: %v", err)
	}
	o.Lead = true
	if err := takeOff(o, id, "the owner took the drive", o.Shelf.Delete); err != nil {
		t.Error(err)
	}
	if err := takeOff(o, id, "again", o.Shelf.Delete); !errors.Is(err, shelf.ErrNoBackup) {
		t.Errorf("it is gone: %v", err)
	}
	b, _ := os.ReadFile(s.options(im).Trail.(trail.File).Path)
	if text := string(b); strings.Count(text, "delete-backup") != 1 || !strings.Contains(text, "the owner took the drive") {
		t.Error(fmt.Sprint("the trail: ", text[max(0, len(text)-500):]))
	}
}

func TestImageRestoredElsewhere(t *testing.T) {
	for _, sector := range []disk.Bytes{512, 4096} {
		s := newShopOf(t, sector)
		im := s.open(t)
		m, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 4, Kind: shelf.Image}, nil)
		if err != nil {
			t.Fatal(err)
		}
		before := contents(t, im)
		// Into the gap at its own size, and larger.
		s.steps = []plan.Step{
			{Body: plan.Creation{Backup: m.ID, As: "a"}}, {Body: plan.Creation{Backup: m.ID, Size: "60 MiB"}},
		}
		if _, err := CarryOut(context.Background(), s.options(im)); err != nil {
			t.Fatal(err)
		}
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		for n, size := range map[int]disk.Bytes{7: 24 * disk.MiB, 8: 60 * disk.MiB} {
			p, _ := sv.Layout.Find(n)
			if p == nil || p.Bytes != size || p.Volume.TotalBytes < size-sector-4096 || !p.Protected || p.UniqueID == uid(4) {
				t.Errorf("partition %d: %+v", n, p)
			}
		}
		if f := sv.Check().FirstError(); f != nil {
			t.Errorf("not sound: %v", f)
		}
		for _, f := range sv.Check() {
			if f.Code == "hidden-sectors" {
				t.Errorf("the hidden sectors: %v", f)
			}
		}
		after := contents(t, im)
		for name, data := range before {
			if path, ok := strings.CutPrefix(name, "4/"); ok && (after["7/"+path] != data || after["8/"+path] != data) {
				t.Errorf("%s differs", path)
			}
			if after[name] != data {
				t.Errorf("%s was touched", name)
			}
		}
		// What cannot be looked into comes back as it is, also in a larger place.
		sealed, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 2, Kind: shelf.Image}, nil)
		if err != nil {
			t.Fatal(err)
		}
		s.steps = []plan.Step{{Body: plan.Creation{Backup: sealed.ID, Size: "8 MiB"}}}
		if _, err := CarryOut(context.Background(), s.options(im)); err != nil {
			t.Error(err)
		}
		// In the place of another one: through the gate.
		if _, err := RestoreImage(context.Background(), s.options(im), m.ID, 5, "", ""); err == nil || !strings.Contains(err.Error(), "has contents and no backup") {
			t.Errorf("over a volume without a backup: %v", err)
		}
		o := s.options(im)
		o.Lead = true
		if _, err := RestoreImage(context.Background(), o, m.ID, 5, "", "tried out"); err != nil {
			t.Fatal(err)
		}
		if again := contents(t, im); again["5/Recovery/box 1/card-004.txt"] != before["4/Recovery/box 1/card-004.txt"] {
			t.Error("what was restored in the place of another differs")
		}
		if _, err := RestoreImage(context.Background(), o, m.ID, 6, "released", "tried out"); err == nil || !strings.Contains(err.Error(), "The image is of a partition of 24") {
			t.Errorf("into a place that is too small: %v", err)
		}
	}
}

// TestFilesOfEveryKind backs up the files of volumes of seven kinds, most of them written
// by other drivers, and compares every one in the backup.
func TestFilesOfEveryKind(t *testing.T) {
	z, err := os.Open("../survey/testdata/kinds.img.zst")
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	d, err := zstd.NewReader(z)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	s := &shop{dir: t.TempDir()}
	s.image = filepath.Join(s.dir, "d.img")
	f, err := os.Create(s.image)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(f, d); err != nil {
		t.Fatal(err)
	}
	f.Close()
	im := s.open(t)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[volume.Kind]bool{}
	for n, v := range sv.Volumes() {
		o := s.options(im)
		m, err := BackUp(context.Background(), o, Wanted{Partition: n, Kind: shelf.Files}, nil)
		if err != nil {
			t.Fatal(n, err)
		}
		i, _ := v.Info()
		kinds[i.Kind] = true
		a, r, err := o.Shelf.Inside(m)
		if err != nil {
			t.Fatal(err)
		}
		want, got := one(t, v), one(t, a)
		if len(want) == 0 || !maps.Equal(want, got) {
			t.Errorf("%s: %d files, %d in the backup", i.Kind, len(want), len(got))
		}
		r.Close()
	}
	if len(kinds) != 7 {
		t.Errorf("only %v", kinds)
	}
}

// one is every file, link and stream of a volume with what it holds.
func one(t *testing.T, v volume.Volume) map[string]string {
	t.Helper()
	list, err := v.Files()
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, f := range list {
		name := fmt.Sprintf("%s %s:%s %s %d", f.Kind, f.Path, f.Stream, f.Target, f.Modified.Unix())
		if out[name] = "unreadable"; f.Kind != volume.Plain {
			continue
		}
		if r, err := v.Open(f); err == nil {
			b, err := io.ReadAll(io.NewSectionReader(r, 0, int64(f.Bytes)))
			if err != nil {
				t.Fatal(f.Path, err)
			}
			out[name] = string(b)
		}
	}
	return out
}

// TestNewFAT makes a FAT32 volume of each kind of sectors and fills it from a backup of NTFS
// files.
func TestNewFAT(t *testing.T) {
	for sector, size := range map[disk.Bytes]string{512: "90 MiB", 4096: "280 MiB"} {
		s := newShopOf(t, sector)
		s.steps = []plan.Step{
			{Body: plan.Creation{Size: size, Type: "efi", Format: "fat32", Label: "Loader", As: "new"}},
			{Partition: "new", Body: plan.CopyingBack{Backup: s.backUp(t, 5), Folder: "From X"}},
		}
		im := s.open(t)
		before := contents(t, im)
		res, err := CarryOut(context.Background(), s.options(im))
		if err != nil {
			t.Fatal(err)
		}
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		p, ok := sv.Layout.Find(res.Columns[0].Number)
		if !ok || p.Volume == nil || p.Volume.Kind != volume.FAT32 || p.Volume.Label != "LOADER" || p.Role != "efi" || sv.Check().FirstError() != nil {
			t.Fatalf("%+v, %v", p, sv.Check())
		}
		after, n := contents(t, im), 0
		for path, want := range before {
			if name, x := strings.CutPrefix(path, "5/"); x {
				n++
				if got := after[fmt.Sprintf("%d/From X/%s", p.Number, name)]; got != want {
					t.Errorf("%s: %d bytes", name, len(got))
				}
			}
		}
		if n != 30 || res.Arrivals[0].Compared != 30 {
			t.Errorf("%d files, %+v", n, res.Arrivals)
		}
	}
}
