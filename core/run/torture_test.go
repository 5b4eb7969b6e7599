package run

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/ran"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/sign"
)

// seedOf is the seed of a random test, the same each time unless another is given; long tells
// whether all of it is asked for.
func seedOf(t *testing.T) (seed uint64, long bool) {
	t.Helper()
	seed = 20261130
	if s := os.Getenv("JADETRAIL_SEED"); s != "" {
		n, err := strconv.ParseUint(s, 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		seed = n
	}
	t.Logf("JADETRAIL_SEED=%d", seed)
	return seed, os.Getenv("JADETRAIL_PROVE") != ""
}

// tortured are shops with a plan each: together they have every kind of step that writes to a
// drive.
func tortured(t *testing.T) map[string]*shop {
	filling := newShop(t)
	filling.steps = againAndFill(filling.backUp(t, 5))
	erasing := newShop(t)
	erasing.backUp(t, 5)
	erasing.steps = []plan.Step{{Partition: "5", Body: plan.Deletion{Erase: true, Backups: "keep"}}, growC4}
	replacing := newShop(t)
	replacing.steps, replacing.fills = replaced(), true
	parking := newShop(t)
	parking.steps, parking.pc = elsewhere(), true
	absorbing := newShop(t, plan.Step{Partition: "4", Body: plan.Absorbing{Into: "3", Release: "it is data now"}})
	absorbing.fills = true
	sliding := newShop(t, train()...)
	sliding.fills = true
	giving := newShop(t, gives()...)
	giving.fills = true
	logical := bakeryShop(t, 512)
	logical.steps, logical.fills, logical.pc = []plan.Step{
		{Partition: "6", Body: plan.Sliding{By: "4 MiB"}}, {Partition: "5", Body: plan.Sliding{By: "2 MiB"}},
		{Partition: "2", Body: plan.Containing{Act: "shrink", Edge: "head", By: "all"}},
	}, true, true
	clearing := bakeryShop(t, 512)
	clearing.steps = []plan.Step{{Body: plan.Clearing{Scheme: "gpt", Release: "r", Waiver: "w"}}}
	small := newShop(t, plan.Step{Partition: "2", Body: plan.Deletion{Release: "not wanted"}}, plan.Step{Partition: "1", Body: plan.Growth{By: "all"}},
		plan.Step{Partition: "1", Body: plan.Shrinking{By: "1 MiB"}}, plan.Step{Partition: "3", Body: plan.Labelling{Label: "Reception"}}, plan.Step{Partition: "5", Body: plan.Retagging{Name: "pictures"}})
	small.fills = true
	back := newShop(t)
	im := back.open(t)
	back.steps = []plan.Step{deleteRecovery, {Partition: "6", Body: plan.Deletion{Release: "r", Waiver: "w"}}}
	res, err := CarryOut(context.Background(), back.options(im))
	if err != nil {
		t.Fatal(err)
	}
	m, err := BackUp(context.Background(), back.options(im), Wanted{Partition: 5, Kind: shelf.Image}, nil)
	if err != nil {
		t.Fatal(err)
	}
	im.Close()
	back.steps = []plan.Step{
		{Body: plan.BringingBack{Record: res.Records[1]}},
		{Body: plan.Rebuilding{Record: res.Records[0], Size: "10 MiB", As: "again"}},
		{Body: plan.Creation{Backup: m.ID, Size: "40 MiB", As: "copy"}},
	}
	back.fills = true
	return map[string]*shop{
		"delete and grow": newShop(t, deleteRecovery, growC), "fill": filling, "erase": erasing, "replace": replacing, "park": parking, "absorb": absorbing, "slide": sliding,
		"give": giving, "logical": logical, "clear": clearing, "small": small, "bring back": back,
	}
}

// half is a run that was stopped on its way: its drive, its folder, and what it should lead to.
type half struct {
	s     *shop
	name  string
	base  disk.Device
	dev   *disk.Overlay // as the run left it
	dir   string
	calm  disk.Device // as the run would leave it in the end
	after string
	files map[string]string // before
	moved script.Script
}

// stopped stops the shop's run at a random write.
func (s *shop) stopped(t *testing.T, name string, base *disk.Image, calm disk.Device, total int, rng *rand.Rand) *half {
	t.Helper()
	h := &half{s: s, name: name, base: base, dev: s.copyOf(t, base), dir: t.TempDir(), calm: calm, after: whole(t, calm), files: contents(t, base)}
	p := &disk.Power{At: 1 + rng.IntN(total), Torn: rng.IntN(2) == 0, Rand: rng}
	if err := s.attempt(t, h.dev, h.dir, p, start); !errors.Is(err, disk.ErrPowerCut) {
		t.Fatalf("%s: %v", name, err)
	}
	unsaid(t, h.dir)
	var u *Unfinished
	if err := s.attempt(t, h.dev, h.dir, &disk.Power{}, func(o Options) (err error) { u, err = Open(o); return err }); err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	if u == nil { // cut before its journal was whole
		h.dev.Close()
		return nil
	}
	c, f, err := carry.OpenIn(filepath.Join(h.dir, "runs", u.ID, ran.JournalFile), u.Meta.Journal(), nil)
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
	h.moved = c.Script()
	return h
}

// folder is the folder of the run.
func (h *half) folder(t *testing.T, dir string) string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(dir, "runs", "r-*"))
	if err != nil || len(found) == 0 {
		t.Fatal(found, err)
	}
	slices.Sort(found)
	return found[len(found)-1]
}

// spot is a random byte of the drive among those that the run writes, or moves.
func (h *half) spot(rng *rand.Rand) (disk.Bytes, bool) {
	var all []disk.Range
	for _, op := range h.moved {
		if op.Kind == script.Move && rng.IntN(2) == 0 {
			all = append(all, disk.Range{Start: op.From, End: op.From + op.Len})
		} else if op.Len > 0 && op.Kind != script.Hole {
			all = append(all, disk.Range{Start: op.Off, End: op.Off + op.Len})
		}
	}
	if len(all) == 0 {
		return 0, false
	}
	r := all[rng.IntN(len(all))]
	return r.Start + disk.Bytes(rng.Int64N(int64(r.Len()))), true
}

// change is one thing that happens to a stopped run. It returns the drive at hand afterwards, and
// what it did, "" where there was nothing to do it to.
type change func(t *testing.T, h, other *half, dev *disk.Overlay, dir string, rng *rand.Rand) (disk.Device, string)

// flip changes a byte of a drive.
func flip(dev disk.Device, at disk.Bytes) {
	b := make([]byte, 1)
	dev.ReadAt(b, int64(at))
	dev.WriteAt([]byte{b[0] ^ 0x21}, int64(at))
}

// frames are where the frames of a journal end.
func frames(b []byte) []int {
	out := []int{8}
	for at := 8; at+9 <= len(b); {
		at += 9 + int(binary.LittleEndian.Uint32(b[at:])) + 16
		if at > len(b) {
			break
		}
		out = append(out, at)
	}
	return out
}

var changes = map[string]change{
	"a file": func(t *testing.T, h, other *half, dev *disk.Overlay, dir string, rng *rand.Rand) (disk.Device, string) {
		folder := h.folder(t, dir)
		list, err := os.ReadDir(folder)
		if err != nil {
			t.Fatal(err)
		}
		name := list[rng.IntN(len(list))].Name()
		path := filepath.Join(folder, name)
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		what := ""
		switch k := rng.IntN(8); {
		case k == 0:
			what = "removed"
			os.Remove(path)
			return dev, name + " " + what
		case k == 1:
			what, b = "emptied", nil
		case k == 2:
			what, b = "doubled", slices.Concat(b, b)
		case k == 3 && len(b) > 0:
			what, b = "cut", b[:rng.IntN(len(b))]
		case k == 4 && other != nil:
			x, err := os.ReadFile(filepath.Join(other.folder(t, other.dir), name))
			if err != nil {
				return dev, ""
			}
			what, b = "exchanged with that of another run", x
		case len(b) > 0:
			what = "changed"
			b[rng.IntN(len(b))] ^= 1 << rng.IntN(8)
		}
		if err := os.WriteFile(path, b, 0o644); err != nil {
			t.Fatal(err)
		}
		return dev, name + " " + what
	},
	"a frame": func(t *testing.T, h, _ *half, dev *disk.Overlay, dir string, rng *rand.Rand) (disk.Device, string) {
		path := filepath.Join(h.folder(t, dir), ran.JournalFile)
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		ends := frames(b)
		k := 1 + rng.IntN(len(ends)-1)
		f := b[ends[k-1]:ends[k]]
		what := ""
		switch rng.IntN(6) {
		case 0:
			what, b = "dropped", slices.Concat(b[:ends[k-1]], b[ends[k]:])
		case 1:
			what, b = "doubled", slices.Concat(b[:ends[k]], f, b[ends[k]:])
		case 2:
			j := 1 + rng.IntN(len(ends)-1)
			what, b = "put elsewhere", slices.Concat(b[:ends[k-1]], b[ends[j-1]:ends[j]], b[ends[k]:])
		case 3:
			what, b = "the last, with all behind it", b[:ends[k-1]]
		case 4:
			b = bytes.Clone(b)
			binary.LittleEndian.PutUint32(b[ends[k-1]:], rng.Uint32()>>rng.IntN(32))
			what = "given another length"
		case 5:
			b = bytes.Clone(b)
			clear(b[ends[k-1]:ends[k]])
			what = "emptied"
		}
		if err := os.WriteFile(path, b, 0o644); err != nil {
			t.Fatal(err)
		}
		return dev, fmt.Sprintf("frame %d of %d %s", k, len(ends)-1, what)
	},
	"the drive put back": func(t *testing.T, h, other *half, dev *disk.Overlay, dir string, rng *rand.Rand) (disk.Device, string) {
		if other != nil && rng.IntN(2) == 0 {
			dev.Close()
			return h.s.copyOf(t, other.dev), "the drive as it was at another moment of the run"
		}
		dev.Close()
		return h.s.copyOf(t, h.base), "the drive as it was before the run"
	},
	"the drive exchanged": func(t *testing.T, h, _ *half, dev *disk.Overlay, dir string, rng *rand.Rand) (disk.Device, string) {
		dev.Close()
		x := h.s.copyOf(t, h.base) // of the same size and table, with other contents
		for range 40 {
			if at, ok := h.spot(rng); ok {
				flip(x, at)
			}
		}
		return x, "another drive"
	},
	"a byte of the drive": func(t *testing.T, h, _ *half, dev *disk.Overlay, dir string, rng *rand.Rand) (disk.Device, string) {
		at, ok := h.spot(rng)
		if !ok {
			return dev, ""
		}
		flip(dev, at)
		return dev, fmt.Sprintf("byte %d of the drive", at)
	},
	"the sign": func(t *testing.T, h, _ *half, dev *disk.Overlay, dir string, rng *rand.Rand) (disk.Device, string) {
		s, err := sign.Find(dev)
		if err != nil || s == nil {
			return dev, ""
		}
		switch rng.IntN(3) {
		case 0:
			sign.Remove(dev, s.At)
			return dev, "the sign taken away"
		case 1:
			flip(dev, s.At+disk.Bytes(60+rng.IntN(60)))
			return dev, "the sign damaged"
		}
		sign.Put(dev, sign.Sign{Run: "r-20260101-000000-aaaaaa", At: s.At})
		return dev, "the sign of another run"
	},
	"nothing": func(_ *testing.T, _, _ *half, dev *disk.Overlay, _ string, _ *rand.Rand) (disk.Device, string) {
		return dev, "nothing at all"
	},
}

// TestTorturedRuns stops runs of every kind of step at random places and does something to what
// was kept of them, or to their drive. Each is then right to the byte, or refused with nothing
// written and the run still open.
func TestTorturedRuns(t *testing.T) {
	seed, long := seedOf(t)
	cases := 20
	if long {
		cases = 450
	}
	rng := rand.New(rand.NewPCG(seed, 16))
	right, refused := map[string]int{}, map[string]int{}
	shops := tortured(t)
	for _, name := range slices.Sorted(maps.Keys(shops)) {
		s := shops[name]
		base := s.open(t)
		calm, power := s.copyOf(t, base), &disk.Power{}
		if err := s.attempt(t, calm, t.TempDir(), power, start); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var h, other *half
		for i := range cases {
			if i%5 == 0 { // another stop
				if other != nil && other != h {
					other.dev.Close()
				}
				other = h
				for h = nil; h == nil; {
					h = s.stopped(t, name, base, calm, power.Writes(), rng)
				}
			}
			kinds := slices.Sorted(maps.Keys(changes))
			kind := kinds[rng.IntN(len(kinds))]
			h.suffer(t, other, kind, rng, right, refused)
		}
		calm.Close()
	}
	total := 0
	for _, kind := range slices.Sorted(maps.Keys(changes)) {
		total += right[kind] + refused[kind]
		t.Logf("%-20s %4d right to the byte, %4d refused with the run still open", kind, right[kind], refused[kind])
	}
	t.Logf("%d cases", total)
	if right["nothing"] == 0 || refused["nothing"] > 0 || right["the drive exchanged"] > 0 {
		t.Error("what was not touched is gone on with, and another drive never")
	}
}

// onlyFree tells that a drive differs from what the run should leave only where nothing lies in the
// end: in clusters that a step has filled and a later one has freed.
func (h *half) onlyFree(t *testing.T, dev disk.Device) bool {
	t.Helper()
	want := promisedBytes(t, h.calm, h.calm)
	for n, b := range promisedBytes(t, h.calm, dev) {
		if !bytes.Equal(b, want[n]) {
			return false
		}
	}
	return true
}

// suffer changes something about a stopped run, and goes on with it.
func (h *half) suffer(t *testing.T, other *half, kind string, rng *rand.Rand, right, refused map[string]int) {
	t.Helper()
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS(h.dir)); err != nil {
		t.Fatal(err)
	}
	dev, what := changes[kind](t, h, other, h.s.copyOf(t, h.dev), dir, rng)
	defer func() { dev.(*disk.Overlay).Close() }()
	if what == "" {
		return
	}
	undo := rng.IntN(2) == 0
	said := fmt.Sprintf("%s, %s, undo %v", h.name, what, undo)
	before := whole(t, dev)
	var res *Result
	err := h.s.attempt(t, dev, dir, &disk.Power{}, func(o Options) (err error) {
		res, err = Resume(context.Background(), o, undo)
		if errors.Is(err, carry.ErrNoReturn) {
			undo = false
			res, err = Resume(context.Background(), o, false)
		}
		return err
	})
	var open *Unfinished
	if e := h.s.attempt(t, dev, dir, &disk.Power{}, func(o Options) (err error) { open, err = Open(o); return err }); e != nil {
		t.Fatalf("%s: whether a run is open cannot be told: %v", said, e)
	}
	now := whole(t, dev)
	switch {
	case err != nil && open == nil:
		t.Errorf("%s: refused, and no run is open: %v", said, err)
	case err != nil && now != before && !errors.Is(err, prove.ErrDiffers):
		t.Errorf("%s: refused after something was written: %v", said, err)
	case err != nil:
		if !strings.Contains(err.Error(), "othing was written") && !errors.Is(err, prove.ErrDiffers) && !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: does not say what was not touched: %v", said, err)
		}
		refused[kind]++
	case open != nil:
		t.Errorf("%s: %+v, and the run is still open", said, res)
	case undo || res.Void:
		for n, b := range promisedBytes(t, h.base, dev) {
			if !bytes.Equal(b, promisedBytes(t, h.base, h.base)[n]) {
				t.Errorf("%s: partition %d is not as it was", said, n)
			}
		}
		right[kind]++
	default:
		if now != h.after && !h.onlyFree(t, dev) {
			t.Errorf("%s: the drive is not as the run should leave it", said)
		}
		right[kind]++
	}
}
