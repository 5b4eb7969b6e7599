package shelf

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

const shelfID = "5a1c77e0-5e1f-4d0b-9c3e-0b42a1042011"

// onVolume makes a drive with a volume that backups can be kept in.
func onVolume(t testing.TB, size disk.Bytes) *OnVolume {
	t.Helper()
	image := filepath.Join(t.TempDir(), "shelf.img")
	im, err := disk.CreateImage(image, size+2*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	e := table.NewEntry(table.Entry{Slot: 1, TypeID: table.TypeBasic, UniqueID: shelfID, Start: 2048, End: (disk.MiB + size).At(512) - 1, Name: "Shelf"})
	err = errors.Join(table.New(im, "5a1c77e0-5e1f-4d0b-9c3e-0b42a1042001", e).Apply(im, nil),
		ntfs.Make(disk.NewWindow(im, disk.MiB, size), ntfs.Options{Label: "Shelf", Hidden: 2048, Time: day, Files: []volume.Source{{Path: "Read me.txt", Data: []byte("Backups of customers' drives.")}}}))
	if err != nil {
		t.Fatal(err)
	}
	return &OnVolume{Title: "Bay B", Image: image, Partition: shelfID, Now: func() time.Time { return day }}
}

// soundShelf opens the volume and tells that nothing is wrong with it.
func soundShelf(t testing.TB, p *OnVolume) *ntfs.Volume {
	t.Helper()
	im, err := disk.OpenImage(p.Image, 0, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	v := sv.Volume(1).(*ntfs.Volume)
	if f := v.Check().FirstError(); f != nil || !v.Agrees() {
		t.Fatalf("the shelf's volume: %v", f)
	}
	if b, err := readAll(v, "Read me.txt"); err != nil || string(b) != "Backups of customers' drives." {
		t.Errorf("what was on the shelf's volume: %q, %v", b, err)
	}
	return v
}

func TestOnVolume(t *testing.T) {
	im, v := withFiles(t)
	p := onVolume(t, 400*disk.MiB)
	sh := &Shelf{Dir: t.TempDir(), Volumes: []*OnVolume{p}, To: "Bay B"}
	before, err := sh.Free()
	if err != nil {
		t.Fatal(err)
	}
	image, err := sh.Make(context.Background(), request(im, v), nil)
	if err != nil {
		t.Fatal(err)
	}
	files := request(im, v)
	files.Kind, files.ID = Files, "b-files"
	tar, err := sh.Make(context.Background(), files, nil)
	if err != nil {
		t.Fatal(err)
	}
	inner := soundShelf(t, p)
	if !Holds(inner) || Holds(v) {
		t.Error("backups in a volume are not told from their absence")
	}
	for name, n := range map[string]disk.Bytes{"Backups/b-1/image.zst": image.Stored, "Backups/b-files/files.tar.zst": tar.Stored, "Backups/b-files/files.jsonl.zst": 0, "Backups/b-files/manifest.json": 0} {
		if f, err := inner.Stat(name); err != nil || n > 0 && f.Bytes != n {
			t.Errorf("%s: %+v, %v", name, f, err)
		}
	}
	// The same backup in a folder has the same contents.
	plain, err := (&Shelf{Dir: t.TempDir()}).Make(context.Background(), request(im, v), nil)
	if err != nil || plain.Hash != image.Hash || plain.Stored != image.Stored {
		t.Errorf("in a folder it is %s, on the volume %s, %v", plain.Hash, image.Hash, err)
	}
	list, err := sh.List()
	if err != nil || len(list) != 2 {
		t.Fatalf("%d backups, %v", len(list), err)
	}
	if title := list[0].Where(); title != "Bay B" {
		t.Errorf("it lies in %q", title)
	}
	// Everything that can be done with a backup in a folder can be done here.
	until := day.AddDate(1, 0, 0)
	if err := sh.Keep("b-1", &until); err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"b-1", "b-files"} {
		if m, err := sh.Verify(context.Background(), id, day.AddDate(0, 0, 1), nil); err != nil || !m.Verified.Equal(day.AddDate(0, 0, 1)) {
			t.Fatalf("%s: %v", id, err)
		}
		m, err := sh.Load(id)
		if err != nil || !m.Verified.Equal(day.AddDate(0, 0, 1)) || id == "b-1" && !m.KeepUntil.Equal(until) {
			t.Fatalf("%s: %+v, %v", id, m, err)
		}
		a, r, err := sh.Inside(m)
		if err != nil {
			t.Fatal(err)
		}
		want := contentsOf(t, v)
		for name, sum := range contentsOf(t, a) {
			if want[name] != sum {
				t.Errorf("%s: %s differs", id, name)
			}
			delete(want, name)
		}
		if r.Close(); len(want) > 0 {
			t.Errorf("%s: %d files are not in it", id, len(want))
		}
	}
	s, err := sh.Stored(image)
	if err != nil {
		t.Fatal(err)
	}
	b, err := io.ReadAll(s)
	if s.Close(); err != nil || disk.Bytes(len(b)) != image.Stored {
		t.Errorf("handed over: %d bytes, %v", len(b), err)
	}
	soundShelf(t, p)
	for _, id := range []string{"b-1", "b-files"} {
		if err := sh.Delete(id); err != nil {
			t.Fatal(err)
		}
	}
	if err := sh.Delete("b-1"); !errors.Is(err, ErrNoBackup) {
		t.Errorf("deleted twice: %v", err)
	}
	soundShelf(t, p)
	if list, err := sh.List(); err != nil || len(list) > 0 {
		t.Errorf("after deleting: %v, %v", list, err)
	}
	if after, err := sh.Free(); err != nil || before-after > disk.MiB {
		t.Errorf("%s are free after all is deleted, %s were before: %v", after, before, err)
	}
}

// TestOnVolumeFull makes backups onto volumes of all small sizes, and onto one that
// disappears.
func TestOnVolumeFull(t *testing.T) {
	im, v := withFiles(t)
	whole, full := 0, 0
	for size := 12 * disk.MiB; size <= 40*disk.MiB; size += 2 * disk.MiB {
		p := onVolume(t, size)
		sh := &Shelf{Volumes: []*OnVolume{p}}
		r := request(im, v)
		r.Kind = Files
		m, err := sh.Make(context.Background(), r, nil)
		list, _ := sh.List()
		switch {
		case err == nil && len(list) == 1:
			if _, err := sh.Verify(context.Background(), m.ID, day, nil); err != nil {
				t.Errorf("%s: %v", size, err)
			}
			whole++
		case errors.Is(err, ErrRoom) && len(list) == 0:
			full++
		default:
			t.Errorf("%s: %d backups, %v", size, len(list), err)
		}
		soundShelf(t, p)
	}
	if whole == 0 || full == 0 {
		t.Errorf("%d whole, %d times no room", whole, full)
	}
	for n := range 6 {
		p := onVolume(t, 100*disk.MiB)
		sh, k := &Shelf{Volumes: []*OnVolume{p}}, 0
		_, err := sh.Make(context.Background(), request(im, v), func(Progress) {
			if k == n*3 {
				os.Remove(p.Image)
			}
			k++
		})
		if err == nil {
			t.Errorf("gone at report %d: it looks whole", n*3)
		}
		if l, err := sh.List(); len(l) > 0 || err != nil {
			t.Errorf("gone at report %d: %v, %v", n*3, l, err)
		}
	}
}

// TestOnVolumeChanged gives a backup up whose volume something else has written to
// meanwhile, and leaves that alone.
func TestOnVolumeChanged(t *testing.T) {
	im, v := withFiles(t)
	p := onVolume(t, 100*disk.MiB)
	sh := &Shelf{Volumes: []*OnVolume{p}}
	if _, err := sh.Make(context.Background(), request(im, v), nil); err != nil {
		t.Fatal(err)
	}
	d, err := p.begin(context.Background(), "b-2")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := disk.OpenImage(p.Image, 0, true); !errors.Is(err, disk.ErrInUse) {
		t.Errorf("while a backup is being made the drive can be written: %v", err)
	}
	if _, err := p.tryLock(); !errors.Is(err, ErrBusy) {
		t.Errorf("two backups at once: %v", err)
	}
	w, back, err := d.contents("image.zst", 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	w.size = 5000
	if _, err := w.WriteAt(bytes.Repeat([]byte{7}, 8192), 0); err != nil && w.direct == false {
		t.Fatal(err)
	}
	d.(*inVolume).print = "something else"
	if err := d.commit([]byte("{}")); err == nil {
		t.Error("it was listed on a volume that had changed")
	}
	d.discard()
	w.Close()
	back.Close()
	soundShelf(t, p)
	if l, err := sh.List(); err != nil || len(l) != 1 || slices.ContainsFunc(l, func(m *Manifest) bool { return m.ID != "b-1" }) {
		t.Errorf("%v, %v", l, err)
	}
}

// TestKilledOnVolume kills the process at every call by which it changes the shelf's drive
// or the journal.
func TestKilledOnVolume(t *testing.T) {
	if err := exec.Command("strace", "-qq", "-e", "trace=none", "true").Run(); err != nil {
		t.Skip("processes cannot be traced here")
	}
	im, v := withFiles(t)
	image, want := copyOf(t, im), contentsOf(t, v)
	whole, none := 0, 0
	for _, call := range []string{"openat", "fallocate", "pwrite64", "fsync", "unlinkat"} {
		for n := 1; n < 400; n++ {
			p := onVolume(t, 100*disk.MiB)
			sh := &Shelf{Volumes: []*OnVolume{p}}
			_, err := aside(t, "killed", nil, []string{"strace", "-f", "-qq", "-o", "/dev/null", "-P", p.Image, "-P", p.Image + ".shelf-journal", "-P", filepath.Dir(p.Image),
				"-e", "trace=" + call, "-e", fmt.Sprintf("inject=%s:signal=KILL:when=%d", call, n)}, "JADETRAIL_IMAGE="+image, "JADETRAIL_SHELF=", "JADETRAIL_SHELF_IMAGE="+p.Image)
			list, e := sh.List() // which takes back what was left unfinished
			if _, j := os.Stat(p.journal()); e != nil || j == nil {
				t.Fatalf("%s %d: %v, journal %v", call, n, e, j)
			}
			inner := soundShelf(t, p)
			if len(list) == 0 {
				none++
				if _, e := inner.Stat(VolumeFolder); e == nil {
					t.Errorf("%s %d: something was left", call, n)
				}
			} else {
				whole++
				if _, e := sh.Verify(context.Background(), "b-files", day, nil); e != nil {
					t.Errorf("%s %d: it looks whole: %v", call, n, e)
				}
				a, r, e := sh.Inside(list[0])
				if e != nil {
					t.Fatal(e)
				}
				for name, sum := range contentsOf(t, a) {
					if want[name] != sum {
						t.Errorf("%s %d: %s differs", call, n, name)
					}
				}
				r.Close()
			}
			if err == nil {
				break // it was not killed: there are no more such calls
			}
		}
	}
	t.Logf("killed %d times with nothing there, %d whole", none, whole)
	if none < 10 || whole < 5 {
		t.Error("too few kills")
	}
}

// TestPrepare makes blank drives shelves, and leaves alone what is not blank.
func TestPrepare(t *testing.T) {
	for _, sector := range []disk.Bytes{512, 4096} {
		path := filepath.Join(t.TempDir(), "new.img")
		im, err := disk.CreateImage(path, 300*disk.MiB, sector)
		if err != nil {
			t.Fatal(err)
		}
		defer im.Close()
		n := NewVolume{Label: "Vault", DiskID: "5a1c77e0-5e1f-4d0b-9c3e-0b42a1042001", UniqueID: shelfID, Serial: 7, Now: day}
		l, err := Prepare(im, path, n)
		if err != nil {
			t.Fatal(err)
		}
		if p, ok := l.Find(1); !ok || p.Bytes != 298*disk.MiB || p.Volume.Label != "Vault" || p.UniqueID != shelfID {
			t.Errorf("%+v", p)
		}
		before := print(t, im)
		if _, err := Prepare(im, path, n); !errors.Is(err, ErrNotBlank) || print(t, im) != before {
			t.Errorf("made again: %v", err)
		}
		im.Close()
		src, v := withFiles(t)
		sh := &Shelf{Volumes: []*OnVolume{{Title: "Bay C", Image: path, Partition: shelfID, Now: func() time.Time { return day }}}}
		if _, err := sh.Make(context.Background(), request(src, v), nil); err != nil {
			t.Error(err)
		}
		if on := sh.OnDrive(l); on[1] != "Bay C" {
			t.Errorf("on the drive: %v", on)
		}
		r := request(src, v)
		if r.ID, r.Drive = "b-2", l; true {
			if _, err := sh.Make(context.Background(), r, nil); !errors.Is(err, ErrSame) {
				t.Errorf("onto the drive itself: %v", err)
			}
		}
	}
	path := filepath.Join(t.TempDir(), "used.img")
	im, err := disk.CreateImage(path, 300*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	im.WriteAt([]byte("something"), 200<<20)
	if _, err := Prepare(im, path, NewVolume{Label: "Vault"}); !errors.Is(err, ErrNotBlank) {
		t.Errorf("over something: %v", err)
	}
}

// TestKilledAtManifest kills the process at every write by which it puts another manifest in
// the place of one, or takes a backup away: what was whole stays whole, or is gone.
func TestKilledAtManifest(t *testing.T) {
	if err := exec.Command("strace", "-qq", "-e", "trace=none", "true").Run(); err != nil {
		t.Skip("processes cannot be traced here")
	}
	im, v := withFiles(t)
	image := copyOf(t, im)
	made := onVolume(t, 100*disk.MiB)
	if _, err := (&Shelf{Volumes: []*OnVolume{made}}).Make(context.Background(), filesRequest(im, v), nil); err != nil {
		t.Fatal(err)
	}
	// All room is taken but for a little at the end, so that what is taken out is written over
	// by what comes in its place.
	d, err := made.attach(true)
	if err != nil {
		t.Fatal(err)
	}
	i, err := d.v.Info()
	if err != nil {
		t.Fatal(err)
	}
	room, err := d.v.Room(i.Free())
	if err != nil {
		t.Fatal(err)
	}
	slices.SortFunc(room, func(a, b volume.Extent) int { return cmp.Compare(a.Off, b.Off) })
	room[len(room)-1].Len -= 12 * i.ClusterBytes
	taken := volume.Incoming{File: volume.File{Path: "taken", Kind: volume.Plain}, Placed: room}
	for _, x := range room {
		taken.Bytes += x.Len
	}
	if err := made.act(d, nil, made.files("", []volume.Incoming{taken})); err != nil {
		t.Fatal(err)
	}
	d.im.Close()
	sound, err := os.ReadFile(made.Image)
	if err != nil {
		t.Fatal(err)
	}
	for _, what := range []string{"kept", "deleted"} {
		before, after := 0, 0
		for _, call := range []string{"pwrite64", "fsync", "fallocate", "unlinkat"} {
			for n := 1; n < 400; n++ {
				p := onVolume(t, 100*disk.MiB)
				if err := os.WriteFile(p.Image, sound, 0o644); err != nil {
					t.Fatal(err)
				}
				_, err := aside(t, what, nil, []string{"strace", "-f", "-qq", "-o", "/dev/null", "-P", p.Image, "-P", p.Image + ".shelf-journal", "-P", filepath.Dir(p.Image),
					"-e", "trace=" + call, "-e", fmt.Sprintf("inject=%s:signal=KILL:when=%d", call, n)}, "JADETRAIL_IMAGE="+image, "JADETRAIL_SHELF_IMAGE="+p.Image)
				sh := &Shelf{Volumes: []*OnVolume{p}}
				list, e := sh.List()
				left, _ := sh.Leftovers()
				soundShelf(t, p)
				if e != nil || len(left) > 0 || len(list) == 0 && what == "kept" {
					t.Fatalf("%s, %s %d: %d whole, %d not, %v", what, call, n, len(list), len(left), e)
				}
				done := len(list) == 0 || list[0].KeepUntil != nil
				if len(list) > 0 {
					if _, e := sh.Verify(context.Background(), "b-files", day, nil); e != nil {
						t.Fatalf("%s, %s %d: %v", what, call, n, e)
					}
				}
				if done {
					after++
				} else {
					before++
				}
				if err == nil {
					break
				}
			}
		}
		t.Logf("%s: %d times as before, %d times done", what, before, after)
		if before < 3 || after < 2 {
			t.Errorf("%s: too few kills", what)
		}
	}
}
