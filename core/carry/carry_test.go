package carry

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"

	"jadetrail/core/digest"
	"jadetrail/core/disk"
	"jadetrail/core/script"
)

const size = 4 * disk.MiB

// bench is a drive with something on it, a script over it, and a backup.
type bench struct {
	base    *disk.Image
	script  script.Script
	sources map[string]io.ReaderAt
}

func newBench(t *testing.T) *bench { return newBenchOf(t, size) }

func newBenchOf(t *testing.T, size disk.Bytes) *bench {
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d.img"), size, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	old := make([]byte, disk.MiB)
	rng := rand.NewChaCha8([32]byte{1})
	rng.Read(old)
	im.WriteAt(old, 0)
	im.WriteAt(old[:5000], int64(2*disk.MiB)+100)
	backup := make([]byte, 64<<10)
	rng.Read(backup)
	var s script.Script
	s.Put(512, bytes.Repeat([]byte{0xa1}, 4096))
	s.Put(8192, bytes.Repeat([]byte{0xa2}, 512))
	s.Barrier("one")
	s.Put(2048, bytes.Repeat([]byte{0xa3}, 1024)) // over a place written before
	s = append(s, script.Op{Kind: script.Hole, Off: 2*disk.MiB - 1024, Len: 64 << 10, Keep: true})
	s.Barrier("two")
	clear(backup[32768:49152]) // a hole
	for i := range disk.Bytes(4) {
		b := backup[i*16384 : (i+1)*16384]
		s = append(s, script.Op{Kind: script.Fill, Source: "b", SourceOff: i * 16384, Off: 3*disk.MiB + i*16384, Len: 16384, Hash: digest.Of(b, i*16384).String()})
	}
	for i := range disk.Bytes(7) { // apart from each other, with zeros behind
		s = append(s, script.Op{Kind: script.Fill, Source: "b", SourceOff: i * 1000, Off: 3*disk.MiB + 65536 + i*8192, Len: 1000, Pad: 3096})
	}
	s.Barrier("three")
	s.Put(0, bytes.Repeat([]byte{0xa4}, 512))
	return &bench{im, s, map[string]io.ReaderAt{"b": bytes.NewReader(backup)}}
}

func contents(t *testing.T, d disk.Device) []byte {
	t.Helper()
	b, err := disk.ReadFull(d, 0, d.Size())
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func journal(t *testing.T) *os.File {
	f, err := os.CreateTemp(t.TempDir(), "j")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

func overlay(t *testing.T, d disk.Device) *disk.Overlay {
	o, err := disk.NewOverlay(d, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { o.Close() })
	return o
}

// TestPowerCutAtEveryWrite cuts the power at every single write of a run, the
// journal's own included: whole, torn, and with unsynced writes lost; again
// while the run is resumed or undone; and then finishes it.
func TestPowerCutAtEveryWrite(t *testing.T) {
	b := newBench(t)
	before := contents(t, b.base)
	calm := overlay(t, b.base)
	power := &disk.Power{}
	c, err := Begin(context.Background(), disk.NewFaultyFile(journal(t), power), calm, b.script, "a run", nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Forward(context.Background(), disk.NewFaulty(calm, power), b.sources, nil); err != nil {
		t.Fatal(err)
	}
	after := contents(t, calm)
	total := power.Writes()
	if total < 20 || bytes.Equal(before, after) {
		t.Fatalf("the undisturbed run made %d writes", total)
	}
	// What undo promises leaves out the place of the fill.
	promised := func(x []byte) []byte {
		x = bytes.Clone(x)
		clear(x[3*disk.MiB : 3*disk.MiB+160<<10])
		return x
	}
	cuts := 0
	for at := 1; at <= total; at++ {
		for _, mode := range []struct{ torn, lose, undo bool }{{}, {undo: true}, {torn: true}, {torn: true, undo: true}, {torn: true, lose: true}, {torn: true, lose: true, undo: true}} {
			// The second cut falls at every write of the repair in turn, until the
			// repair has fewer writes than that.
			for second, again := 1, true; again; second++ {
				again = false
				cuts++
				dev, j := overlay(t, b.base), journal(t)
				rng := rand.New(rand.NewPCG(uint64(at), uint64(second)))
				p := &disk.Power{At: at, Torn: mode.torn, Lose: mode.lose, Rand: rng}
				c, err := Begin(context.Background(), disk.NewFaultyFile(j, p), dev, b.script, "a run", nil)
				void := err != nil // it has not got its name
				if !void {
					err = c.Forward(context.Background(), disk.NewFaulty(dev, p), b.sources, nil)
					if !errors.Is(err, disk.ErrPowerCut) {
						t.Fatalf("cut at %d: %v", at, err)
					}
				}
				// After the second cut all is calm.
				for _, p := range []*disk.Power{{At: second, Torn: mode.torn, Lose: mode.lose, Rand: rng}, {}} {
					if void {
						break
					}
					c, err := Open(disk.NewFaultyFile(j, p), "a run")
					if err != nil {
						t.Fatal(err)
					}
					if seen, err := c.Prove(context.Background(), dev, nil); err != nil || seen.Err() != nil {
						t.Fatalf("cut at %d, %d %+v: %v, %v", at, second, mode, err, seen.Err())
					}
					if mode.undo {
						err = c.Back(disk.NewFaulty(dev, p), nil)
					} else {
						err = c.Forward(context.Background(), disk.NewFaulty(dev, p), b.sources, nil)
					}
					if err != nil && !errors.Is(err, disk.ErrPowerCut) {
						t.Fatal(err)
					}
					again = again || err != nil
				}
				got := contents(t, dev)
				switch {
				case void && !bytes.Equal(got, before):
					t.Fatalf("cut at %d %+v: the journal was void, but the drive changed", at, mode)
				case void:
				case mode.undo && !bytes.Equal(promised(got), promised(before)):
					t.Fatalf("cut at %d, %d %+v: undo does not lead back", at, second, mode)
				case !mode.undo && !bytes.Equal(got, after):
					t.Fatalf("cut at %d, %d %+v: resume does not lead to the end", at, second, mode)
				}
				dev.Close()
				j.Close()
			}
		}
	}
	t.Logf("%d writes, %d cuts", total, cuts)
}

func TestUndoThenRedo(t *testing.T) {
	b := newBench(t)
	dev, j := overlay(t, b.base), journal(t)
	before := contents(t, dev)
	c, err := Begin(context.Background(), j, dev, b.script, "a run", nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Forward(context.Background(), dev, b.sources, nil); err != nil {
		t.Fatal(err)
	}
	after := contents(t, dev)
	if c, err = Open(j, "a run"); err != nil || c.state != frameDone {
		t.Fatalf("%v, not finished", err)
	}
	if err := c.Back(dev, nil); err != nil {
		t.Fatal(err)
	}
	got := contents(t, dev)
	copy(got[3*disk.MiB:], before[3*disk.MiB:3*disk.MiB+160<<10])
	if !bytes.Equal(got, before) {
		t.Error("undo of a finished run does not lead back")
	}
	if c, err = Open(j, "a run"); err != nil || c.state != frameUndone {
		t.Fatalf("%v", err)
	}
	if err := c.Forward(context.Background(), dev, b.sources, nil); err != nil || !bytes.Equal(contents(t, dev), after) {
		t.Errorf("redo after undo: %v", err)
	}
}

func TestStopAndWrongBackup(t *testing.T) {
	b := newBench(t)
	dev, j := overlay(t, b.base), journal(t)
	c, err := Begin(context.Background(), j, dev, b.script, "a run", nil)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	err = c.Forward(ctx, dev, b.sources, func(p Progress) {
		if p.Text == "one" {
			cancel()
		}
	})
	if !errors.Is(err, ErrStopped) {
		t.Fatal(err)
	}
	wrong := map[string]io.ReaderAt{"b": bytes.NewReader(make([]byte, 64<<10))}
	if err := c.Forward(context.Background(), dev, wrong, nil); !errors.Is(err, ErrSource) {
		t.Errorf("a backup with other contents: %v", err)
	}
	if err := c.Forward(context.Background(), dev, b.sources, nil); err != nil {
		t.Error(err)
	}
}

func FuzzOpen(f *testing.F) {
	dir := f.TempDir()
	im, _ := disk.CreateImage(filepath.Join(dir, "d"), size, 512)
	j, _ := os.Create(filepath.Join(dir, "j"))
	var s script.Script
	s.Put(0, []byte("abc"))
	s.Barrier("x")
	c, err := Begin(context.Background(), j, im, s, "a run", nil)
	if err != nil {
		f.Fatal(err)
	}
	c.Forward(context.Background(), im, nil, nil)
	seed, _ := os.ReadFile(j.Name())
	f.Add(seed)
	f.Add([]byte(magic))
	f.Fuzz(func(t *testing.T, b []byte) {
		p := filepath.Join(t.TempDir(), "j")
		os.WriteFile(p, b, 0o600)
		j, _ := os.OpenFile(p, os.O_RDWR, 0)
		defer j.Close()
		Open(j, "a run")
	})
}

// TestDamagedJournal changes and cuts the journal at every place, and drops, doubles and swaps
// its frames: that is noticed wherever it is. Only of the last frame, where it says how far the
// run is, a part may be missing; then the run is read as it was before.
func TestDamagedJournal(t *testing.T) {
	b := newBench(t)
	dev, j := overlay(t, b.base), journal(t)
	c, err := Begin(context.Background(), j, dev, b.script, "a run", nil)
	if err != nil {
		t.Fatal(err)
	}
	var ends []int64 // of the frames
	note := func() {
		ends = ends[:0]
		c, end := &Carry{j: j, end: int64(len(magic))}, int64(0)
		for ok := true; ok; _, _, ok = c.next() {
			if c.end > end {
				end = c.end
				ends = append(ends, end)
			}
		}
	}
	if err := c.Forward(context.Background(), dev, b.sources, nil); err != nil {
		t.Fatal(err)
	}
	note()
	good, err := os.ReadFile(j.Name())
	if err != nil {
		t.Fatal(err)
	}
	if ends[len(ends)-1] != int64(len(good)) || len(ends) < 20 {
		t.Fatalf("frames end at %v, of %d bytes", ends, len(good))
	}
	cases := 0
	// noticed tells whether a journal is refused, or read as one whose last frame never came.
	noticed := func(what string, at int, x []byte) {
		t.Helper()
		cases++
		os.WriteFile(j.Name(), x, 0o600)
		c, err := Open(j, "a run")
		last := at >= int(ends[len(ends)-2])
		switch {
		case err != nil && !errors.Is(err, ErrJournal):
			t.Fatalf("%s at %d: %v", what, at, err)
		case err == nil && (!last || c.state == frameDone):
			t.Fatalf("%s at %d of %d: it was not noticed", what, at, len(good))
		case err != nil && last && what != "more":
			t.Fatalf("%s at %d, in the last frame: %v", what, at, err)
		}
	}
	step := max(len(good)/1000, 1)
	for at := 0; at < len(good); at += step {
		for _, bit := range []byte{0x40, 0x01} {
			x := bytes.Clone(good)
			x[at] ^= bit
			noticed("a byte changed", at, x)
		}
		if at < int(ends[len(ends)-2]) && slices.Contains(ends, int64(at)) && at >= int(ends[len(ends)-6]) {
			continue // the end of a frame that says how far the run is: as it was earlier
		}
		if at < int(ends[len(ends)-6]) {
			noticed("cut", at, good[:at])
		}
	}
	frame := func(k int) []byte { return good[ends[k-1]:ends[k]] }
	for k := 1; k < len(ends)-1; k++ {
		at := int(ends[k-1])
		noticed("dropped", at, slices.Concat(good[:ends[k-1]], good[ends[k]:]))
		noticed("doubled", at, slices.Concat(good[:ends[k]], frame(k), good[ends[k]:]))
		noticed("swapped", at, slices.Concat(good[:ends[k-1]], frame(k+1), frame(k), good[ends[k+1]:]))
		noticed("emptied", at, slices.Concat(good[:ends[k-1]], make([]byte, len(frame(k))), good[ends[k]:]))
	}
	noticed("more", len(good), slices.Concat(good, good[:100]))
	os.WriteFile(j.Name(), good, 0o600)
	if _, err := Open(j, "another run"); !errors.Is(err, ErrJournal) {
		t.Errorf("of another run: %v", err)
	}
	t.Logf("%d cases", cases)
}

// TestSeen gives what was filled in back as it lies on the device, each byte once, and
// stops when that is refused.
func TestSeen(t *testing.T) {
	b := newBenchOf(t, 16*disk.MiB)
	long := bytes.Repeat([]byte("what does not fit into one lot "), 5<<20/31)
	b.sources["long"] = bytes.NewReader(long)
	var want disk.Bytes
	b.script = append(b.script, script.Op{Kind: script.Fill, Source: "long", Off: 8 * disk.MiB, Len: disk.Bytes(len(long))}, script.Op{Kind: script.Barrier})
	for _, op := range b.script {
		if op.Kind == script.Fill {
			want += op.Len + op.Pad
		}
	}
	for _, refuse := range []bool{false, true} {
		dev := overlay(t, b.base)
		c, err := Begin(context.Background(), journal(t), dev, b.script, "a run", nil)
		if err != nil {
			t.Fatal(err)
		}
		var sum atomic.Int64 // several are seen at once
		no := errors.New("it is something else")
		c.Seen = func(off disk.Bytes, x []byte) error {
			if there, err := disk.ReadFull(dev, off, disk.Bytes(len(x))); err != nil || !bytes.Equal(there, x) {
				t.Errorf("at %d: %v", off, err)
			}
			sum.Add(int64(len(x)))
			if refuse && off >= 8*disk.MiB {
				return no
			}
			return nil
		}
		err = c.Forward(context.Background(), dev, b.sources, nil)
		got := disk.Bytes(sum.Load())
		switch {
		case !refuse && (err != nil || got != want):
			t.Errorf("%d of %d bytes, %v", got, want, err)
		case refuse && (!errors.Is(err, no) || c.Done()):
			t.Errorf("refused: %v", err)
		}
		if !refuse {
			if all := contents(t, dev); !bytes.Equal(all[8*disk.MiB:8*disk.MiB+disk.Bytes(len(long))], long) || !bytes.Equal(all[3*disk.MiB+65536+1000:3*disk.MiB+65536+4096], make([]byte, 3096)) {
				t.Error("it was not filled in")
			}
		}
	}
}

// TestToldPlaces compares the places that a run tells of while it goes, there and back, with those it has written to.
func TestToldPlaces(t *testing.T) {
	m := newMoving(t, 11, 300*disk.KiB, 228*disk.KiB, 500*disk.KiB)
	b := newBench(t)
	for _, x := range []struct {
		name    string
		base    *disk.Image
		script  script.Script
		sources map[string]io.ReaderAt
	}{{"moves", m.base, m.script, nil}, {"fills", b.base, b.script, b.sources}} {
		dev := overlay(t, x.base)
		c, err := Begin(context.Background(), journal(t), dev, x.script, "a run", nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, way := range []string{"there", "back"} {
			var told disk.Set
			rec := disk.NewRecorder(dev)
			hear := func(p Progress) { told = told.Put(p.Onto) }
			if way == "there" {
				err = c.Forward(context.Background(), rec, x.sources, hear)
			} else {
				err = c.Back(rec, hear)
			}
			if err != nil {
				t.Fatal(err)
			}
			wrote := disk.NewSet(rec.Written())
			for _, r := range wrote {
				if left := told.Outside(r); len(left) > 0 {
					t.Errorf("%s, %s: written to %v, and not told", x.name, way, left)
				}
			}
			for _, r := range told {
				if left := wrote.Outside(r); len(left) > 0 {
					t.Errorf("%s, %s: told of %v, and not written to", x.name, way, left)
				}
			}
		}
	}
}
