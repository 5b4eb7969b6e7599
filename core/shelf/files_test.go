package shelf

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// withFiles is a volume of files of many sizes with streams, descriptors, links and a
// second name.
func withFiles(t testing.TB) (*disk.Image, volume.Volume) {
	t.Helper()
	im := drive(t, 96*disk.MiB)
	var files []volume.Source
	for i := range 60 {
		files = append(files, volume.Source{Path: fmt.Sprintf("Röntgen %d/bild %02d.xry", i%5, i), Data: noise(i * i * 199), Modified: day.Add(time.Duration(i) * time.Hour)})
	}
	files = append(files, volume.Source{Path: "empty", Folder: true}, volume.Source{Path: "last.bin", Data: noise(9 << 20)})
	if err := ntfs.Make(im, ntfs.Options{Label: "Files", Time: day, Files: files}); err != nil {
		t.Fatal(err)
	}
	v, err := ntfs.Open(im)
	if err != nil {
		t.Fatal(err)
	}
	var in []volume.Incoming
	add := func(path, stream string, data []byte) *volume.Incoming {
		x := volume.Incoming{File: volume.File{Path: path, Stream: stream, Kind: volume.Plain, Bytes: disk.Bytes(len(data)), Modified: day}}
		x.Open = func() (io.ReaderAt, error) { return bytes.NewReader(data), nil }
		in = append(in, x)
		return &in[len(in)-1]
	}
	add("sheet.txt", "", noise(100)).Attributes = volume.AttrHidden
	add("sheet.txt", "short", noise(3000))
	add("sheet.txt", "long=name%", noise(300_000))
	add("sheet.txt.second", "", nil).SameAs = "sheet.txt"
	// A file of 6 MiB with 300 000 bytes of data: a hole at its start, one within, and its end.
	data := make([]byte, 6<<20)
	copy(data[1<<20:], noise(200_000))
	copy(data[4<<20:], noise(100_000))
	sparse := add("sparse file.bin", "", data)
	sparse.Attributes, sparse.Extents = volume.AttrSparse, []volume.Extent{{Off: 0, Len: 6 << 20}}
	sparse.Holes = []volume.Extent{{Off: 0, Len: 1 << 20}, {Off: 2 << 20, Len: 2 << 20}, {Off: 5 << 20, Len: 1 << 20}}
	link := add("link", "", nil)
	link.Kind, link.Reparse = volume.Link, []byte{0x1d, 0, 0, 0xa0, 13, 0, 0, 0, 2, 0, 0, 0, 's', 'h', 'e', 'e', 't', '.', 't', 'x', 't'}
	l, err := v.Load("", in, volume.LoadOptions{Now: day, Source: "sparse"})
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Script.Apply(im, map[string]io.ReaderAt{"sparse": bytes.NewReader(data)}); err != nil {
		t.Fatal(err)
	}
	if v, err = ntfs.Open(im); err != nil {
		t.Fatal(err)
	}
	return im, v
}

func filesRequest(im disk.Device, v volume.Volume) Request {
	r := request(im, v)
	r.Kind, r.ID = Files, "b-files"
	return r
}

// contentsOf are the contents' hashes of a volume's files, by path and stream.
func contentsOf(t *testing.T, v volume.Volume) map[string]string {
	t.Helper()
	files, err := v.Files()
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, f := range files {
		if f.Kind != volume.Plain {
			continue
		}
		r, err := v.Open(f)
		if err != nil {
			out[f.Path+":"+f.Stream] = "unreadable"
			continue
		}
		b := make([]byte, f.Bytes)
		if n, err := r.ReadAt(b, 0); n < len(b) {
			t.Fatal(f.Path, err)
		}
		h := blake3.Sum256(b)
		out[f.Path+":"+f.Stream] = hex.EncodeToString(h[:])
	}
	return out
}

func TestFilesAreWhatTarReads(t *testing.T) {
	im, v := withFiles(t)
	sh, _ := Open(t.TempDir())
	m, err := sh.Make(context.Background(), filesRequest(im, v), nil)
	if err != nil {
		t.Fatal(err)
	}
	if !m.Whole() || m.Verified == nil || m.Count != 71 || m.Unreadable != 0 {
		t.Errorf("%d files, %d unreadable, %+v", m.Count, m.Unreadable, m.State())
	}
	want := contentsOf(t, v)
	out := t.TempDir()
	stored := filepath.Join(sh.Dir, m.ID, "files.tar.zst")
	script := `zstd -dcq "$0" | tar --warning=no-unknown-keyword -x -C "$1"`
	if b, err := exec.Command("bash", "-c", script, stored, out).CombinedOutput(); err != nil {
		t.Fatalf("tar: %v, %s", err, b)
	}
	got := map[string]string{}
	filepath.WalkDir(out, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			b, _ := os.ReadFile(p)
			h := blake3.Sum256(b)
			name, _ := filepath.Rel(out, p)
			if st, err := os.Stat(p); err == nil && name == "sparse file.bin" && st.Sys().(*syscall.Stat_t).Blocks*512 > 3<<20 {
				t.Errorf("%s takes %d bytes out of tar", name, st.Sys().(*syscall.Stat_t).Blocks*512)
			}
			if !strings.Contains(name, ":") {
				name += ":"
			}
			got[name] = hex.EncodeToString(h[:])
		}
		return err
	})
	for name, sum := range want {
		if got[name] != sum && name != "sheet.txt:short" && name != "sheet.txt.second:short" && name != "sheet.txt.second:long=name%" {
			t.Errorf("%s came out of tar with the hash %q", name, got[name])
		}
	}
	if target, _ := os.Readlink(filepath.Join(out, "link")); target != "sheet.txt" {
		t.Errorf("the link came out of tar as one to %q", target)
	}
	// The same through the archive, with what belongs to the files.
	a, r, err := sh.Inside(m)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	for name, sum := range contentsOf(t, a) {
		if w, ok := want[name]; ok && w != sum {
			t.Errorf("%s has the hash %s in the archive", name, sum)
		}
	}
	f, err := a.Stat("sheet.txt")
	if err != nil {
		t.Fatal(err)
	}
	if d, _ := a.(volume.Detailer).Detail(f); d.Attributes&volume.AttrHidden == 0 || d.Created.IsZero() {
		t.Errorf("what belongs to a file: %+v", d)
	}
	listed := r.m.Count
	if again := listOfTar(m, r); len(again) < listed {
		t.Errorf("from the tar itself %d entries are listed, of %d files", len(again), listed)
	} else {
		list, _ := sh.ListOf(m)
		for i, e := range again {
			x := list[i]
			if e.Path != x.Path || e.SameAs != x.SameAs || x.SameAs != "" && e.Bytes != x.Bytes || e.Stream != x.Stream || e.At != x.At || !slices.Equal(e.Holes, x.Holes) || e.Kind != x.Kind || x.SameAs == "" && (!e.Created.Equal(x.Created) || e.Attributes != x.Attributes || !bytes.Equal(e.Descriptor, x.Descriptor)) {
				t.Errorf("from the tar itself %+v, in the list %+v", e, x)
			}
		}
	}
}

func TestChosenFolders(t *testing.T) {
	im, v := withFiles(t)
	sh, _ := Open(t.TempDir())
	r := filesRequest(im, v)
	r.Folders = []string{"röntgen 3", "empty"}
	m, err := sh.Make(context.Background(), r, nil)
	if err != nil || m.Whole() || m.Count != 14 {
		t.Fatalf("%+v, %v", m, err)
	}
	r.ID, r.Folders = "b-2", []string{"nowhere"}
	if _, err := sh.Make(context.Background(), r, nil); !errors.Is(err, volume.ErrNotFound) {
		t.Errorf("a folder that does not exist: %v", err)
	}
	r.Volume, r.Folders = nil, nil
	if _, err := sh.Make(context.Background(), r, nil); !errors.Is(err, ErrKind) {
		t.Errorf("files of what cannot be looked into: %v", err)
	}
}

// unreadable is a volume in which one file cannot be opened and another breaks off.
type unreadable struct{ volume.Volume }

func (u unreadable) Open(f volume.File) (io.ReaderAt, error) {
	r, err := u.Volume.Open(f)
	switch {
	case strings.HasSuffix(f.Path, "bild 20.xry"):
		return nil, volume.ErrUnreadable
	case f.Path == "last.bin":
		return io.NewSectionReader(r, 0, 5<<20), nil
	}
	return r, err
}

func TestWhatCannotBeReadIsListed(t *testing.T) {
	im, v := withFiles(t)
	sh, _ := Open(t.TempDir())
	m, err := sh.Make(context.Background(), filesRequest(im, unreadable{v}), nil)
	if err != nil || m.Unreadable != 2 || m.Whole() {
		t.Fatalf("%+v, %v", m, err)
	}
	list, _ := sh.ListOf(m)
	var lost []string
	for _, e := range list {
		if e.Unreadable != "" {
			lost = append(lost, e.Path)
		}
	}
	if !slices.Equal(lost, []string{"Röntgen 0/bild 20.xry", "last.bin"}) {
		t.Errorf("listed as unreadable: %v", lost)
	}
	out := exec.Command("bash", "-c", `zstd -dcq "$0" | tar --warning=no-unknown-keyword -t | wc -l`, filepath.Join(sh.Dir, m.ID, "files.tar.zst"))
	if b, err := out.Output(); err != nil || strings.TrimSpace(string(b)) != "71" {
		t.Errorf("tar lists %s, %v", b, err)
	}
}

func TestFlippedBits(t *testing.T) {
	for _, kind := range []Kind{Files, Image} {
		im, v := withFiles(t)
		want := contentsOf(t, v)
		sh, _ := Open(t.TempDir())
		r := filesRequest(im, v)
		r.Kind = kind
		m, err := sh.Make(context.Background(), r, nil)
		if err != nil {
			t.Fatal(err)
		}
		dir, whole := filepath.Join(sh.Dir, m.ID), map[string][]byte{}
		parts, _ := os.ReadDir(dir)
		for _, p := range parts {
			whole[p.Name()], _ = os.ReadFile(filepath.Join(dir, p.Name()))
		}
		concerned := 0
		for name, good := range whole {
			for step := range 10 {
				at := len(good)*step/10 + step*7%11
				bad := bytes.Clone(good)
				bad[at] ^= 1 << (step % 8)
				os.WriteFile(filepath.Join(dir, name), bad, 0o644)
				m, err := sh.Verify(context.Background(), "b-files", day, nil)
				if !errors.Is(err, ErrDamaged) {
					// Only bytes that say nothing may be changed unseen.
					if name == "manifest.json" && err == nil {
						continue
					}
					t.Fatalf("%s, %s, byte %d: %v", kind, name, at, err)
				}
				if name == "manifest.json" {
					left, _ := sh.Leftovers()
					if len(left) != 1 || m != nil {
						t.Errorf("%s: a damaged manifest: %+v", kind, left)
					}
				} else {
					if m, err = sh.Load("b-files"); err != nil || m.Damage == nil || m.Verified != nil || m.Whole() || m.State() != "damaged" {
						t.Fatalf("%s, %s, byte %d: %+v, %v", kind, name, at, m, err)
					}
					const list = "the list of its files is not what was written; no file's contents are concerned"
					if what := m.Damage.What(); name == "files.jsonl.zst" && what != list || what == "" {
						t.Errorf("%s, %s, byte %d: told as %q", kind, name, at, what)
					}
					concerned += len(m.Damage.Files)
					rest(t, sh, m, want)
				}
				for n, b := range whole {
					os.WriteFile(filepath.Join(dir, n), b, 0o644)
				}
			}
		}
		if concerned == 0 {
			t.Errorf("%s: no file was ever concerned", kind)
		}
		if m, err := sh.Verify(context.Background(), "b-files", day, nil); err != nil || m.Damage != nil {
			t.Errorf("%s: repaired: %+v, %v", kind, m.Damage, err)
		}
	}
}

// TestListAndContentsDamaged damages a backup's list of files and its contents: that no file is named does not say
// that none is concerned.
func TestListAndContentsDamaged(t *testing.T) {
	im, v := withFiles(t)
	sh, _ := Open(t.TempDir())
	m, err := sh.Make(context.Background(), filesRequest(im, v), nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"files.jsonl.zst", "files.tar.zst"} {
		path := filepath.Join(sh.Dir, m.ID, name)
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if name == "files.tar.zst" { // every piece of it
			for _, p := range m.Pieces {
				b[p.FrameOff+p.FrameLen/2] ^= 4
			}
		} else {
			b[len(b)/2] ^= 4
		}
		if err := os.WriteFile(path, b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	var d *Damage
	if _, err := sh.Verify(context.Background(), m.ID, day, nil); !errors.As(err, &d) {
		t.Fatal(err)
	}
	if what := d.What(); strings.Contains(what, "no file's contents") || !strings.Contains(what, "cannot be told") && !strings.Contains(what, "may be more") {
		t.Errorf("told as %q", what)
	}
}

// rest restores what a damaged backup still has: every file that the damage does not
// name, and none that it names.
func rest(t *testing.T, sh *Shelf, m *Manifest, want map[string]string) {
	t.Helper()
	v, r, err := sh.Inside(m)
	if err != nil {
		if m.Damage.Unnamed == "" {
			t.Errorf("%v: cannot be looked into: %v", m.Damage, err)
		}
		return
	}
	defer r.Close()
	if m.Damage.Unnamed != "" {
		return
	}
	out, err := ToFolder(context.Background(), v, nil, t.TempDir(), nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(out.NotThere) != len(m.Damage.Files) {
		t.Errorf("%d files are named, not restored: %q", len(m.Damage.Files), out.NotThere)
	}
	for name, sum := range contentsOf(t, v) {
		bare := strings.TrimSuffix(name, ":")
		if named := slices.Contains(m.Damage.Files, bare); named != (sum == "unreadable") || !named && sum != want[name] {
			t.Errorf("%s: named %v, %.8s, was %.8s", name, named, sum, want[name])
		}
	}
}

func TestFileGoneOrLonger(t *testing.T) {
	im, v := withFiles(t)
	sh, _ := Open(t.TempDir())
	m, err := sh.Make(context.Background(), filesRequest(im, v), nil)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(sh.Dir, m.ID, "files.tar.zst")
	good, _ := os.ReadFile(path)
	for name, spoil := range map[string]func() error{
		"longer":  func() error { return os.WriteFile(path, append(bytes.Clone(good), 0), 0o644) },
		"shorter": func() error { return os.Truncate(path, int64(len(good)/2)) },
		"gone":    func() error { return os.Remove(path) },
	} {
		if err := spoil(); err != nil {
			t.Fatal(err)
		}
		if _, err := sh.Verify(context.Background(), m.ID, day, nil); !errors.Is(err, ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
		if m, err := sh.Load(m.ID); err != nil || m.State() != "damaged" || m.Whole() || m.Damage.Concerned() == "" {
			t.Errorf("%s: %s, %v", name, m.State(), err)
		}
		if err := os.WriteFile(path, good, 0o644); err != nil {
			t.Fatal(err)
		}
		if m, err := sh.Verify(context.Background(), m.ID, day, nil); err != nil || m.State() != "verified" {
			t.Errorf("%s: as it was again: %v", name, err)
		}
	}
}

// aside runs one of the tests below in a process of its own.
func aside(t *testing.T, what string, attr *syscall.SysProcAttr, before []string, env ...string) ([]byte, error) {
	t.Helper()
	args := append(before, os.Args[0], "-test.run=^TestAside$", "-test.v")
	c := exec.Command(args[0], args[1:]...)
	c.Env, c.SysProcAttr = append(os.Environ(), append(env, "JADETRAIL_ASIDE="+what)...), attr
	return c.CombinedOutput()
}

// TestAside is what the tests below do in processes of their own.
func TestAside(t *testing.T) {
	what := os.Getenv("JADETRAIL_ASIDE")
	if what == "" {
		t.Skip("it is part of other tests")
	}
	im, err := disk.OpenImage(os.Getenv("JADETRAIL_IMAGE"), 512, false)
	if err != nil {
		t.Fatal(err)
	}
	v, err := ntfs.Open(im)
	if err != nil {
		t.Fatal(err)
	}
	r := filesRequest(im, v)
	if what == "killed" {
		sh := &Shelf{Dir: os.Getenv("JADETRAIL_SHELF")}
		if sh.Dir == "" {
			sh.Volumes = []*OnVolume{{Title: "Bay B", Image: os.Getenv("JADETRAIL_SHELF_IMAGE"), Partition: shelfID, Now: func() time.Time { return day }}}
		}
		if _, err := sh.Make(context.Background(), r, nil); err != nil {
			t.Fatal(err)
		}
		return
	}
	if what == "kept" || what == "deleted" {
		sh, until := &Shelf{Volumes: []*OnVolume{{Title: "Bay B", Image: os.Getenv("JADETRAIL_SHELF_IMAGE"), Partition: shelfID, Now: func() time.Time { return day }}}}, day.AddDate(1, 0, 0)
		err := sh.Keep("b-files", &until)
		if what == "deleted" {
			err = sh.Delete("b-files")
		}
		if err != nil {
			t.Fatal(err)
		}
		return
	}
	whole := 0
	for mib := 1; mib <= 30; mib++ {
		dir := t.TempDir()
		if err := syscall.Mount("none", dir, "tmpfs", 0, fmt.Sprintf("size=%dm", mib)); err != nil {
			t.Skip(err)
		}
		sh := &Shelf{Dir: dir, Room: func() (disk.Bytes, error) { return disk.TiB, nil }}
		_, err := sh.Make(context.Background(), r, nil)
		left, _ := os.ReadDir(dir)
		switch {
		case err == nil:
			whole++
			if m, err := sh.Verify(context.Background(), r.ID, day, nil); err != nil || !m.Whole() {
				t.Errorf("with %d MiB: %v", mib, err)
			}
		case !errors.Is(err, ErrRoom) || len(left) > 0:
			t.Errorf("with %d MiB: %v, left behind: %v", mib, err, left)
		}
		syscall.Unmount(dir, 0)
	}
	if whole == 0 || whole == 30 {
		t.Errorf("%d of 30 backups had room", whole)
	}
	fmt.Println("all sizes tried")
}

func TestTargetFullAtEveryMegabyte(t *testing.T) {
	im, _ := withFiles(t)
	attr := &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS,
		UidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}}, GidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}}
	b, err := aside(t, "full", attr, nil, "JADETRAIL_IMAGE="+copyOf(t, im))
	if errors.Is(err, syscall.EPERM) || strings.Contains(string(b), "SKIP") {
		t.Skip("small file systems cannot be made here")
	}
	if err != nil || !strings.Contains(string(b), "all sizes tried") {
		t.Errorf("%v\n%s", err, b)
	}
}

func TestTargetGone(t *testing.T) {
	im, v := withFiles(t)
	for n := range 6 {
		sh, _ := Open(t.TempDir())
		calls := 0
		m, err := sh.Make(context.Background(), filesRequest(im, v), func(Progress) {
			if calls++; calls == n+1 {
				os.RemoveAll(sh.Dir)
			}
		})
		if err == nil {
			t.Errorf("gone at report %d: %+v", n, m.State())
		}
		if l, err := sh.List(); len(l) > 0 || err != nil {
			t.Errorf("gone at report %d: %v, %v", n, l, err)
		}
	}
}

// TestKilledAtEveryWrite kills the process at every call by which it changes files.
func TestKilledAtEveryWrite(t *testing.T) {
	if err := exec.Command("strace", "-qq", "-e", "trace=none", "true").Run(); err != nil {
		t.Skip("processes cannot be traced here")
	}
	im, v := withFiles(t)
	image, before, want := copyOf(t, im), print(t, im), contentsOf(t, v)
	whole, unfinished := 0, 0
	for _, call := range []string{"mkdirat", "openat", "fallocate", "pwrite64", "ftruncate", "fsync", "renameat", "write"} {
		for n := 1; n < 400; n++ {
			sh, _ := Open(t.TempDir())
			_, err := aside(t, "killed", nil, []string{"strace", "-f", "-qq", "-o", "/dev/null", "-P", sh.Dir + "/b-files", "-P", sh.Dir + "/b-files/files.tar.zst", "-P", sh.Dir + "/b-files/files.jsonl.zst.part", "-P", sh.Dir + "/b-files/manifest.json.part", "-P", sh.Dir,
				"-e", "trace=" + call, "-e", fmt.Sprintf("inject=%s:signal=KILL:when=%d", call, n)}, "JADETRAIL_IMAGE="+image, "JADETRAIL_SHELF="+sh.Dir)
			list, _ := sh.List()
			left, _ := sh.Leftovers()
			switch {
			case len(list) == 1 && len(left) == 0:
				whole++
				if _, err := sh.Verify(context.Background(), "b-files", day, nil); err != nil {
					t.Errorf("%s %d: it looks whole: %v", call, n, err)
				}
				if a, r, err := sh.Inside(list[0]); err != nil {
					t.Error(err)
				} else {
					for name, sum := range contentsOf(t, a) {
						if want[name] != sum {
							t.Errorf("%s %d: %s differs", call, n, name)
						}
					}
					r.Close()
				}
			case len(list) == 0 && len(left) <= 1:
				unfinished++
				for _, l := range left {
					if err := sh.Delete(l.ID); err != nil {
						t.Errorf("%s %d: %v", call, n, err)
					}
				}
			default:
				t.Errorf("%s %d: %d whole, %d unfinished", call, n, len(list), len(left))
			}
			if err == nil {
				break // it was not killed: there are no more such calls
			}
		}
	}
	t.Logf("killed %d times with nothing whole, %d whole", unfinished, whole)
	b, err := os.ReadFile(image)
	after := blake3.Sum256(b)
	if unfinished < 10 || err != nil || hex.EncodeToString(after[:]) != before {
		t.Error("too few kills, or the drive was written")
	}
}

// copyOf is a drive in a file of its own.
func copyOf(t *testing.T, d disk.Device) string {
	t.Helper()
	b, err := disk.ReadFull(d, 0, d.Size())
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "copy.img")
	if err := os.WriteFile(path, b, 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

func print(t *testing.T, d disk.Device) string {
	t.Helper()
	b, err := disk.ReadFull(d, 0, d.Size())
	if err != nil {
		t.Fatal(err)
	}
	h := blake3.Sum256(b)
	return hex.EncodeToString(h[:])
}

func FuzzListOfTar(f *testing.F) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	w.WriteHeader(&tar.Header{Name: "a/b:s", Size: 3, Mode: 0o644, Format: tar.FormatPAX, PAXRecords: map[string]string{keyStream + "n": "x", keyAttributes: "\x00\x00\x00\x20"}})
	w.Write([]byte("abc"))
	w.Close()
	f.Add(b.Bytes())
	f.Add(b.Bytes()[:700])
	f.Fuzz(func(t *testing.T, b []byte) {
		sh, im := &Shelf{Dir: t.TempDir()}, drive(t, disk.MiB)
		if len(b) == 0 || len(b) > 1<<20 {
			return
		}
		im.WriteAt(b, 0)
		r := request(disk.NewWindow(im, 0, disk.Bytes(len(b)).Up(512)), nil)
		m, err := sh.Make(context.Background(), r, nil)
		if err != nil {
			t.Fatal(err)
		}
		rd, err := sh.Reader(m)
		if err != nil {
			t.Fatal(err)
		}
		defer rd.Close()
		for _, e := range listOfTar(m, rd) {
			if e.At > m.Bytes || e.Bytes < 0 {
				t.Errorf("%+v", e)
			}
		}
	})
}
