package shelf

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

var day = time.Date(2026, 11, 20, 16, 40, 0, 0, time.UTC)

func drive(t testing.TB, size disk.Bytes) *disk.Image {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d.img"), size, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return im
}

func noise(n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{9}).Read(b)
	return b
}

// withVolume is a drive that is one NTFS volume, with old bytes in a free
// cluster.
func withVolume(t testing.TB) (*disk.Image, volume.Volume, disk.Bytes) {
	im := drive(t, 96*disk.MiB)
	if err := ntfs.Make(im, ntfs.Options{Label: "Recovery", Time: day, Files: []volume.Source{{Path: "a/rescue.bin", Data: noise(5 << 20)}, {Path: "b.txt", Data: []byte("b")}}}); err != nil {
		t.Fatal(err)
	}
	stale := 80 * disk.MiB
	im.WriteAt([]byte("old bytes in a free cluster"), int64(stale))
	v, err := ntfs.Open(im)
	if err != nil {
		t.Fatal(err)
	}
	return im, v, stale
}

func request(im disk.Device, v volume.Volume) Request {
	return Request{Kind: Image, ID: "b-1", Now: day, Who: "Ines Marsh", Dev: im, Volume: v, From: Origin{Sector: 512, Span: layout.Span{Number: 4, Bytes: im.Size()}}}
}

func TestImageIsWhatZstdReads(t *testing.T) {
	for name, sealed := range map[string]bool{"free clusters left out": false, "every sector": true} {
		im, v, stale := withVolume(t)
		want, _ := disk.ReadFull(im, 0, im.Size())
		if sealed {
			v = nil
		} else {
			clear(want[stale : stale+64])
		}
		sh, _ := Open(t.TempDir())
		m, err := sh.Make(context.Background(), request(im, v), nil)
		if err != nil {
			t.Fatal(name, err)
		}
		if m.Verified == nil || m.LeftOut == sealed || m.From.Fingerprint == "" {
			t.Errorf("%s: %+v", name, m)
		}
		sum := blake3.Sum256(want)
		if m.Hash != hex.EncodeToString(sum[:]) {
			t.Errorf("%s: the whole has another hash", name)
		}
		got, err := exec.Command("zstd", "-d", "-c", filepath.Join(sh.Dir, "b-1", "image.zst")).Output()
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s: zstd -d gives %d bytes, %v", name, len(got), err)
		}
		if m, err = sh.Export(context.Background(), m.ID, nil); err != nil {
			t.Fatal(err)
		}
		if h := sha256.Sum256(want); m.SHA256 != hex.EncodeToString(h[:]) {
			t.Errorf("%s: exported with SHA-256 %s", name, m.SHA256)
		}
		if m, err = sh.Load(m.ID); err != nil || m.SHA256 == "" {
			t.Errorf("%s: the manifest does not keep the hash: %v", name, err)
		}
		r, err := sh.Reader(m)
		if err != nil {
			t.Fatal(err)
		}
		b := make([]byte, 9<<20)
		if _, err := r.ReadAt(b, 3<<20); err != nil || !bytes.Equal(b, want[3<<20:12<<20]) {
			t.Errorf("%s: read from the middle: %v", name, err)
		}
		if _, err := r.ReadAt(b, int64(m.Bytes)-100); err != io.EOF {
			t.Errorf("%s: read past the end: %v", name, err)
		}
		r.Close()
		c, err := sh.Compare(im, m)
		if err != nil || c.Differ != 0 || c.Same+c.Unknown != im.Size() {
			t.Errorf("%s: compared %+v, %v", name, c, err)
		}
		im.WriteAt([]byte{0x5a}, 600) // into the boot area, which is never free
		if c, err = sh.Compare(im, m); err != nil || c.Differ != 512 || len(c.Other) != 1 || c.Other[0] != (disk.Range{Start: 512, End: 1024}) {
			t.Errorf("%s: a changed byte in the second sector is told as %+v, %v", name, c, err)
		}
		if c.Same != c.Alike.Bytes() || c.Same+c.Differ+c.Unknown != im.Size() {
			t.Errorf("%s: the figures are not those of the ranges: %+v", name, c)
		}
	}
}

func TestFullShelf(t *testing.T) {
	im, v, _ := withVolume(t)
	sh, _ := Open(t.TempDir())
	sh.Room = func() (disk.Bytes, error) { return 4 * disk.MiB, nil }
	if _, err := sh.Make(context.Background(), request(im, v), nil); !errors.Is(err, ErrRoom) {
		t.Errorf("a shelf with too little room: %v", err)
	}
	if left, _ := os.ReadDir(sh.Dir); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	// A shelf that fills up while the backup is made.
	if dir := os.Getenv("JADETRAIL_SMALL_DISK"); dir != "" {
		sh := &Shelf{Dir: dir, Room: func() (disk.Bytes, error) { return disk.TiB, nil }}
		if _, err := sh.Make(context.Background(), request(im, v), nil); !errors.Is(err, ErrRoom) {
			t.Errorf("a shelf that fills up: %v", err)
		}
		if left, _ := os.ReadDir(dir); len(left) > 0 {
			t.Errorf("left behind: %v", left)
		}
	}
}

// TestMissing tells a backup that is not there from one of which nobody can say.
func TestMissing(t *testing.T) {
	sh, _ := Open(t.TempDir())
	look := func() map[string]error {
		_, err := sh.Load("b-1")
		return map[string]error{"load": err, "delete": sh.Delete("b-1"), "erase": sh.Erase("b-1")}
	}
	for how, err := range look() {
		if !errors.Is(err, ErrNoBackup) || !Missing(err) {
			t.Errorf("%s: %v", how, err)
		}
	}
	sh.Volumes = []*OnVolume{{Title: "Bay B", Image: filepath.Join(t.TempDir(), "away.img"), Partition: "x"}}
	for how, err := range look() {
		if !errors.Is(err, ErrNoBackup) || Missing(err) {
			t.Errorf("%s, where a drive is away: %v", how, err)
		}
	}
	sh.Volumes, sh.Unsure = nil, errors.New("the bays are not known")
	for how, err := range look() {
		if !errors.Is(err, ErrNoBackup) || Missing(err) || !errors.Is(err, sh.Unsure) {
			t.Errorf("%s, where the places are not known: %v", how, err)
		}
	}
}

func TestVerifyFindsDamage(t *testing.T) {
	im, v, _ := withVolume(t)
	sh, _ := Open(t.TempDir())
	m, err := sh.Make(context.Background(), request(im, v), nil)
	if err != nil {
		t.Fatal(err)
	}
	p := filepath.Join(sh.Dir, m.ID, "image.zst")
	good, _ := os.ReadFile(p)
	for name, spoil := range map[string]func(b []byte) []byte{
		"a byte changed": func(b []byte) []byte { b[m.Pieces[0].FrameLen/2] ^= 1; return b },
		"cut short":      func(b []byte) []byte { return b[:len(b)-3] },
		"pieces swapped": func(b []byte) []byte { copy(b[m.Pieces[1].FrameOff:], b[:100]); return b },
		"gone":           func(b []byte) []byte { return nil },
	} {
		if b := spoil(bytes.Clone(good)); b != nil {
			os.WriteFile(p, b, 0o644)
		} else {
			os.Remove(p)
		}
		if _, err := sh.Verify(context.Background(), m.ID, day, nil); !errors.Is(err, ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
	}
	os.WriteFile(p, good, 0o644)
	if m, err := sh.Verify(context.Background(), m.ID, day.Add(time.Hour), nil); err != nil || !m.Verified.Equal(day.Add(time.Hour)) {
		t.Errorf("whole again: %v", err)
	}
	for _, id := range []string{"../b-1", "", "nothing-here", "B-1"} {
		if _, err := sh.Load(id); !errors.Is(err, ErrNoBackup) {
			t.Errorf("%q: %v", id, err)
		}
	}
}

func TestStoppedBackupLeavesNothing(t *testing.T) {
	im, v, _ := withVolume(t)
	sh, _ := Open(t.TempDir())
	ctx, cancel := context.WithCancel(context.Background())
	_, err := sh.Make(ctx, request(im, v), func(Progress) { cancel() })
	if !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if left, _ := os.ReadDir(sh.Dir); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// TestHostileManifest changes what a manifest says: it is refused before anything
// is allocated by its word.
func TestHostileManifest(t *testing.T) {
	im, v, _ := withVolume(t)
	sh, _ := Open(t.TempDir())
	good, err := sh.Make(context.Background(), request(im, v), nil)
	if err != nil {
		t.Fatal(err)
	}
	for name, change := range map[string]func(m *Manifest){
		"another name":       func(m *Manifest) { m.ID = "b-2" },
		"a newer version":    func(m *Manifest) { m.Version = 3 },
		"absurd size":        func(m *Manifest) { m.Bytes = 1 << 60 },
		"negative size":      func(m *Manifest) { m.Bytes = -1 },
		"a huge piece":       func(m *Manifest) { m.Pieces[1].Len = 1 << 40 },
		"a huge frame":       func(m *Manifest) { m.Pieces[1].FrameLen = 1 << 40 },
		"pieces overlap":     func(m *Manifest) { m.Pieces[1].Off -= 10 },
		"a piece is missing": func(m *Manifest) { m.Pieces = m.Pieces[1:] },
		"cut short":          func(m *Manifest) { m.Pieces = m.Pieces[:3] },
	} {
		m := *good
		m.Pieces = append([]Piece(nil), good.Pieces...)
		change(&m)
		b, err := sh.sealed(&m)
		if err == nil {
			err = m.at.save(good.ID, b)
		}
		if err != nil {
			t.Fatal(err)
		}
		if _, err := sh.Load(good.ID); !errors.Is(err, ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
		if list, err := sh.List(); err != nil || len(list) != 0 {
			t.Errorf("%s: is listed: %v, %v", name, list, err)
		}
	}
	os.WriteFile(filepath.Join(sh.Dir, good.ID, "manifest.json"), []byte("{"), 0o644)
	if _, err := sh.Load(good.ID); !errors.Is(err, ErrDamaged) {
		t.Errorf("half a manifest: %v", err)
	}
}

// TestWriter compares the direct writer with a plain buffer under random appends and
// flushes, into a file and into stretches of one that lie the wrong way round.
func TestWriter(t *testing.T) {
	dir := t.TempDir()
	plain := &inFolder{p: &folder{dir: dir}, id: "b-1"}
	os.Mkdir(filepath.Join(dir, "b-1"), 0o755)
	whole, back, err := plain.contents("w", 8<<20)
	if err != nil {
		t.Fatal(err)
	}
	apart, backApart := &spread{direct: whole.direct}, &spread{}
	flags := os.O_RDWR | os.O_CREATE
	if apart.direct {
		flags |= unix.O_DIRECT
	}
	if apart.f, err = os.OpenFile(filepath.Join(dir, "apart"), flags, 0o644); err != nil {
		t.Fatal(err)
	}
	const n = 3 * block
	for at := int64(0); at < 240<<20; at += n {
		apart.parts = append(apart.parts, part{at, 240<<20 - n - at/n*n, n})
	}
	if backApart.f, err = os.Open(filepath.Join(dir, "apart")); err != nil {
		t.Fatal(err)
	}
	backApart.parts = apart.parts
	for _, x := range [][2]*spread{{whole, back}, {apart, backApart}} {
		rng := rand.New(rand.NewPCG(1, 9))
		w := newWriter(x[0])
		var want []byte
		src := noise(3 << 20)
		for range 60 {
			b := src[:rng.IntN(1<<rng.IntN(22)+1)]
			w.append(b)
			want = append(want, b...)
			if rng.IntN(3) > 0 {
				continue
			}
			if err := w.flush(); err != nil {
				t.Fatal(err)
			}
			if err := compareBack(x[1], want); err != nil {
				t.Fatalf("after %d bytes: %v", len(want), err)
			}
		}
		if err := errors.Join(w.flush(), w.finish(), compareBack(x[1], want)); err != nil || x[0].Size() != int64(len(want)) {
			t.Fatalf("finished after %d bytes: %d, %v", len(want), x[0].Size(), err)
		}
		want[len(want)/2] ^= 1
		if err := compareBack(x[1], want); !errors.Is(err, ErrDamaged) {
			t.Errorf("another byte: %v", err)
		}
		w.Close()
		x[1].Close()
	}
}

func TestRawFramesAreZstd(t *testing.T) {
	for _, n := range []int{1, 128<<10 - 1, 128 << 10, 128<<10 + 1, 4 << 20} {
		b := noise(n)
		p := filepath.Join(t.TempDir(), "f.zst")
		os.WriteFile(p, appendRaw(appendRaw(nil, b), b), 0o644)
		got, err := exec.Command("zstd", "-d", "-c", p).Output()
		if err != nil || !bytes.Equal(got, append(bytes.Clone(b), b...)) {
			t.Errorf("%d bytes: %d came back, %v", n, len(got), err)
		}
	}
}
