package carry

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/script"
)

// moving is a drive of a megabyte on which a partition is moved about, and a script as a
// plan's steps would make it: moved, with what is not its own made a hole, its first sector
// mended, the table written.
type moving struct {
	base   *disk.Image
	script script.Script
	at     disk.Bytes   // where the partition lies before
	parts  []disk.Range // of it that are allocated
}

const (
	movingSize = disk.MiB
	partBytes  = 400 * disk.KiB
)

func newMoving(t *testing.T, seed uint64, places ...disk.Bytes) *moving {
	rng := rand.New(rand.NewPCG(seed, 1))
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d.img"), movingSize, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	m := &moving{base: im, at: places[0]}
	noise := func(off, n disk.Bytes) {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(rng.Uint32())
		}
		im.WriteAt(b, int64(off))
	}
	noise(0, 4*disk.KiB) // the table
	noise(700*disk.KiB, 40*disk.KiB)
	for at := disk.Bytes(0); at < partBytes; { // allocated, free with something stale, or allocated and a hole
		n := min(disk.Bytes(1+rng.IntN(12))*4*disk.KiB, partBytes-at)
		switch kind := rng.IntN(4); {
		case at == 0 || kind > 1:
			noise(m.at+at, n)
			m.parts = append(m.parts, disk.Range{Start: at, End: at + n})
		case kind == 1:
			im.Zero(m.at+at, n)
			m.parts = append(m.parts, disk.Range{Start: at, End: at + n})
		default:
			noise(m.at+at, n)
		}
		at += n
	}
	now := m.at
	for k, to := range places[1:] {
		var s script.Script
		at := disk.Bytes(0)
		for _, p := range m.parts {
			if p.Start > at {
				s = append(s, script.Op{Kind: script.Hole, Off: to + at, Len: p.Start - at})
			}
			s = append(s, script.Op{Kind: script.Move, Off: to + p.Start, From: now + p.Start, Len: p.End - p.Start})
			at = p.End
		}
		if at < partBytes {
			s = append(s, script.Op{Kind: script.Hole, Off: to + at, Len: partBytes - at})
		}
		if to > now {
			slices.Reverse(s)
		}
		m.script = append(m.script, s...)
		m.script.Barrier("moved")
		m.script.Put(to, bytes.Repeat([]byte{byte(0xb0 + k)}, 512))
		m.script.Put(to+8*disk.KiB, bytes.Repeat([]byte{byte(0xc0 + k)}, 1024))
		m.script.Barrier("mended")
		m.script.Put(512, bytes.Repeat([]byte{byte(0xd0 + k)}, 2048))
		m.script.Barrier("table")
		now = to
	}
	return m
}

// promised is what undo brings back: the table, and what is allocated.
func (m *moving) promised(b []byte) []byte {
	out := bytes.Clone(b[:4*disk.KiB])
	for _, p := range m.parts {
		out = append(out, b[m.at+p.Start:m.at+p.End]...)
	}
	return out
}

// TestMovedAtEveryCut cuts the power at every write while a partition is moved over itself,
// there and back, and again while that is resumed or undone.
func TestMovedAtEveryCut(t *testing.T) {
	cuts, often := 0, 1
	var proven, unknown disk.Bytes
	if os.Getenv("JADETRAIL_PROVE") != "" {
		often = 4
	}
	for seed, places := range [][]disk.Bytes{
		{300 * disk.KiB, 268 * disk.KiB},                               // by less than its length
		{100 * disk.KiB, 164 * disk.KiB},                               // the other way
		{300 * disk.KiB, 236 * disk.KiB, 332 * disk.KiB},               // there and back over where it was
		{16 * disk.KiB, 560 * disk.KiB, 500 * disk.KiB, 16 * disk.KiB}, // without meeting itself, and home
		{300 * disk.KiB, 292 * disk.KiB, 500 * disk.KiB},               // by two blocks
	} {
		m := newMoving(t, uint64(seed), places...)
		before := contents(t, m.base)
		if err := m.script.Try(overlay(t, m.base), nil, false); err != nil {
			t.Fatal(err)
		}
		calm, power := overlay(t, m.base), &disk.Power{}
		c, err := Begin(context.Background(), disk.NewFaultyFile(journal(t), power), calm, m.script, "a run", nil)
		if err != nil {
			t.Fatal(err)
		}
		if err := c.Forward(context.Background(), disk.NewFaulty(calm, power), nil, nil); err != nil {
			t.Fatal(err)
		}
		after, total := contents(t, calm), power.Writes()
		plain := overlay(t, m.base)
		m.script.Apply(plain, nil)
		if got := contents(t, plain); !bytes.Equal(m.final(got, places), m.final(after, places)) {
			t.Fatalf("%v: the run and the rehearsal differ", places)
		}
		rng := rand.New(rand.NewPCG(uint64(seed), 9))
		for at := 1; at <= total; at++ {
			for _, undo := range []bool{false, true} {
				for range often {
					cuts++
					mode := &disk.Power{At: at, Torn: rng.IntN(3) > 0, Lose: rng.IntN(3) > 0, Rand: rng}
					dev, j := overlay(t, m.base), journal(t)
					c, err := Begin(context.Background(), disk.NewFaultyFile(j, mode), dev, m.script, "a run", nil)
					void := err != nil
					if !void {
						if err = c.Forward(context.Background(), disk.NewFaulty(dev, mode), nil, nil); !errors.Is(err, disk.ErrPowerCut) {
							t.Fatalf("cut at %d: %v", at, err)
						}
					}
					// Cut again and again, in either direction, and then to the end.
					for more := rng.IntN(4); more >= 0; more-- {
						p, way := &disk.Power{At: 1 + rng.IntN(2*total), Torn: mode.Torn, Lose: mode.Lose, Rand: rng}, rng.IntN(2) == 0
						if more == 0 {
							p, way = &disk.Power{}, undo
						}
						if void {
							break
						}
						c, err := Open(disk.NewFaultyFile(j, p), "a run")
						if err != nil {
							t.Fatal(err)
						}
						seen, err := c.Prove(context.Background(), dev, nil)
						if err != nil || seen.Err() != nil {
							t.Fatalf("%v, cut at %d %+v: %v, %v", places, at, mode, err, seen.Err())
						}
						proven, unknown = proven+seen.Proven, unknown+seen.Unknown
						if way {
							err = c.Back(disk.NewFaulty(dev, p), nil)
						} else {
							err = c.Forward(context.Background(), disk.NewFaulty(dev, p), nil, nil)
						}
						if err != nil && !errors.Is(err, disk.ErrPowerCut) {
							t.Fatalf("%v, cut at %d %+v: %v", places, at, mode, err)
						}
					}
					got := contents(t, dev)
					if void || undo {
						if !bytes.Equal(m.promised(got), m.promised(before)) {
							t.Fatalf("%v, cut at %d %+v: undo does not lead back", places, at, mode)
						}
					} else if !bytes.Equal(m.final(got, places), m.final(after, places)) {
						t.Fatalf("%v, cut at %d %+v: resume does not lead to the end", places, at, mode)
					}
					dev.Close()
					j.Close()
				}
			}
		}
		t.Logf("%v: %d writes", places, total)
	}
	t.Logf("%d cuts; %s proven before going on, %s unknown", cuts, proven, unknown)
}

// final is what a finished run promises: the table, and the whole partition in its last
// place, where what is not allocated is a hole.
func (m *moving) final(b []byte, places []disk.Bytes) []byte {
	last := places[len(places)-1]
	return append(bytes.Clone(b[:4*disk.KiB]), b[last:last+partBytes]...)
}

// TestMovedIsWhatItWas compares what was moved with what it was, and that its free room is
// empty then.
func TestMovedIsWhatItWas(t *testing.T) {
	m := newMoving(t, 7, 300*disk.KiB, 228*disk.KiB)
	m.script = m.script[:slices.IndexFunc(m.script, func(op script.Op) bool { return op.Kind == script.Barrier })]
	dev := overlay(t, m.base)
	before := contents(t, dev)
	c, err := Begin(context.Background(), journal(t), dev, m.script, "a run", nil)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	n := 0
	err = c.Forward(ctx, dev, nil, func(Progress) {
		if n++; n == 3 {
			cancel()
		}
	})
	if !errors.Is(err, ErrStopped) {
		t.Fatalf("stopped: %v", err)
	}
	if err := c.Forward(context.Background(), dev, nil, nil); err != nil {
		t.Fatal(err)
	}
	want := make([]byte, partBytes)
	for _, p := range m.parts {
		copy(want[p.Start:p.End], before[m.at+p.Start:m.at+p.End])
	}
	if got := contents(t, dev)[228*disk.KiB:][:partBytes]; !bytes.Equal(got, want) {
		t.Error("not what it was")
	}
}

// TestMovedReadsBackWrong has the device forget a write: that is found before what it was
// made from is written over.
func TestMovedReadsBackWrong(t *testing.T) {
	m := newMoving(t, 3, 300*disk.KiB, 268*disk.KiB)
	dev := overlay(t, m.base)
	before := contents(t, dev)
	c, err := Begin(context.Background(), journal(t), dev, m.script, "a run", nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Forward(context.Background(), &forgets{Device: dev, at: 5}, nil, nil); !errors.Is(err, ErrMoved) {
		t.Fatalf("%v", err)
	}
	if err := c.Back(dev, nil); err != nil || !bytes.Equal(m.promised(contents(t, dev)), m.promised(before)) {
		t.Errorf("undo: %v", err)
	}
}

type forgets struct {
	disk.Device
	at int
}

func (f *forgets) WriteAt(b []byte, off int64) (int, error) {
	if f.at--; f.at == 0 {
		return len(b), nil
	}
	return f.Device.WriteAt(b, off)
}
