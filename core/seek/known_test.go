package seek

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"jadetrail/core/chance"
	"jadetrail/core/disk"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
)

// tally counts by kind what was to be found, and what was.
type tally struct {
	partitions, start, end, files, named, found int // lost ones, and what of them was left
	former, nested, ghosts, untold              int // what is not to be taken for lost
	sureLikely, true                            int
	used, taken, unknown, same                  disk.Bytes
	whole                                       int // finds of which nobody knows what was in use
}

// known is what the searches of all drives came to.
type known struct {
	kinds   map[string]*tally
	schemes map[string]int // how drives were left
	images  int            // lost partitions that are told to be images in files, for nothing that is left says that they began where they do
}

func (k *known) of(kind volume.Kind) *tally {
	if k.kinds[string(kind)] == nil {
		k.kinds[string(kind)] = &tally{}
	}
	return k.kinds[string(kind)]
}

// TestKnownHistories searches drives of which every partition that was ever on them is known.
// With JADETRAIL_PROVE there are 300 of them.
func TestKnownHistories(t *testing.T) {
	rng, drives := chance.Of(t), 12
	if os.Getenv("JADETRAIL_PROVE") != "" {
		drives = 300
	}
	lib := library(t)
	k := &known{kinds: map[string]*tally{}, schemes: map[string]int{}}
	for n := range drives {
		path := filepath.Join(t.TempDir(), "d.img")
		im, err := disk.CreateImage(path, driveSize, 512)
		if err != nil {
			t.Fatal(err)
		}
		h := &history{t: t, rng: rng, im: im, lib: lib, used: map[int]bool{}, serial: rng.Uint64() &^ 0xff, mbr: rng.IntN(3) == 0}
		for range 6 + rng.IntN(14) {
			h.becomes()
		}
		k.schemes[h.finish()]++
		h.judge(n, k)
		im.Close()
		os.Remove(path)
	}
	t.Logf("%-6s %5s %6s %9s %6s %6s %6s   %7s %7s %7s %7s   %13s %5s   %10s %10s %10s %10s %6s", "kind", "lost", "start", "end only", "table", "named", "found", "former", "nested", "ghosts", "untold", "sure, likely", "true", "in use", "taken", "unwritten", "unknown", "no map")
	sum := &tally{}
	for _, kind := range slices.Sorted(maps.Keys(k.kinds)) {
		x := k.kinds[kind]
		t.Logf("%-6s %5d %6d %9d %6d %6d %6d   %7d %7d %7d %7d   %13d %5d   %10s %10s %10s %10s %6d", kind, x.partitions, x.start, x.end, x.files, x.named, x.found, x.former, x.nested, x.ghosts, x.untold, x.sureLikely, x.true, x.used, x.taken, x.same, x.unknown, x.whole)
		sum.sureLikely, sum.true, sum.found, sum.whole = sum.sureLikely+x.sureLikely, sum.true+x.true, sum.found+x.found, sum.whole+x.whole
	}
	for _, how := range slices.Sorted(maps.Keys(k.schemes)) {
		t.Logf("drives: %d %s", k.schemes[how], how)
	}
	t.Logf("of %d finds that are sure or likely %d are true", sum.sureLikely, sum.true)
	t.Logf("of %d lost partitions that were found, %d are told to be images in files: off the grid, and nothing is left that says that they began there", sum.found, k.images)
	t.Logf("of %d lost partitions that were found, %d tell what was in use: to the byte; %d say that it is not known", sum.found, sum.found-sum.whole, sum.whole)
	if sum.sureLikely < drives/2 || sum.true*100 < sum.sureLikely*99 && sum.sureLikely-sum.true > 2 {
		t.Errorf("only %d of %d are true", sum.true, sum.sureLikely)
	}
}

// finish writes the table as it is at the end, or damages it, and some of what is lost too. It
// says how it left the drive.
func (h *history) finish() (how string) {
	gone := func() { // the partitions that the drive has are lost with its table
		for _, w := range h.living {
			h.lose(w)
		}
		h.living = nil
	}
	h.write()
	switch k := h.rng.IntN(6); {
	case h.mbr && k == 0:
		gone()
		h.im.Zero(0, disk.MiB)
		how = "with an MBR that was wiped, and the chain behind it not"
	case h.mbr:
		how = "with an MBR"
	case k == 0:
		gone()
		h.im.Zero(0, disk.MiB)
		h.im.Zero(driveSize-disk.MiB, disk.MiB)
		how = "with a GPT of which nothing is left"
	case k == 1: // the partitions are there all the same
		h.im.Zero(512, disk.MiB-512)
		how = "with a GPT of which the second table alone is left"
	case k == 2: // another program has made it an MBR drive, and knows of no second table
		for _, w := range h.living {
			w.second = true
		}
		gone()
		h.im.Zero(0, disk.MiB)
		h.mbr = true
		for len(h.living) == 0 || h.rng.IntN(2) == 0 {
			h.create()
		}
		h.write()
		how = "with an MBR, and a former GPT of which the second table is left"
	default:
		how = "with a GPT"
	}
	h.say("%s", how)
	for _, w := range h.lost {
		if h.rng.IntN(4) != 0 || w.nested || h.takenNow(w.start, w.start+4096) {
			continue
		}
		h.im.Zero(w.start, 2048) // only what lies at its end, or behind its start, is left
		h.say("the start at %d MiB was wiped", w.start/disk.MiB)
		if c, there := w.at[ByCopy]; there && (w.second || w.chain != 0 || w.kind == volume.NTFS) && h.rng.IntN(2) == 0 && !h.takenNow(c, c+8192) {
			h.im.Zero(c, 8192)
			h.say("and the copy of it")
		}
	}
	return how
}

// write writes the drive's table.
func (h *history) write() {
	slices.SortFunc(h.living, func(a, b *was) int { return cmp.Compare(a.start, b.start) })
	var entries []table.Entry
	var first, last table.Entry
	for i, w := range h.living {
		e := w.entry
		if e.Slot = i + 1; h.mbr && w.chain == 0 && i > 0 {
			e.Slot = i + 2 // the second is the container's
		}
		if w.chain != 0 {
			if first.Start == 0 {
				first = e
			}
			last, e.Slot = e, 5+i
		}
		entries = append(entries, e)
	}
	if first.Start != 0 {
		entries = append(entries, table.MBREntry(table.Entry{Slot: 2, TypeID: "0f", Start: first.Record, End: last.End}, 512))
	}
	s := table.New(h.im, "5a1c77e0-1045-4d0b-9c3e-0000000000d0", entries...)
	if h.mbr {
		s = table.NewMBR(h.im, 0x7f3b1046, entries...)
	}
	if err := s.Apply(h.im, nil); err != nil {
		h.t.Fatal(err)
	}
}

// judge compares what a search finds with what is known.
func (h *history) judge(n int, all *known) {
	sv, err := survey.Read(h.im, nil)
	if err != nil {
		h.t.Fatal(err)
	}
	s := New(h.im, sv, nil)
	if err := s.Likely(context.Background()); err != nil {
		h.t.Fatal(err)
	}
	if reached, err := s.Whole(context.Background(), 0); err != nil || reached != driveSize {
		h.t.Fatal(err, reached)
	}
	finds := s.Finds()
	bad := func(format string, args ...any) {
		h.t.Helper()
		h.t.Errorf("drive %d: %s\n%s", n, fmt.Sprintf(format, args...), strings.Join(h.journal, "\n"))
		for _, f := range finds {
			h.t.Logf("  find %s at byte %d, %s, %s, ghost %v: %v", f.Kind, f.Start.Offset(512), f.Bytes, f.Confidence, f.Ghost, f.Reasons)
		}
	}
	var shown []*was
	for _, p := range sv.Layout.Partitions() {
		i := slices.IndexFunc(h.living, func(w *was) bool { return w.start == p.Start.Offset(512) && w.size == p.Bytes })
		if i >= 0 {
			shown = append(shown, h.living[i])
		}
	}
	if len(shown) != len(h.living) {
		bad("%d partitions are shown, and there are %d", len(shown), len(h.living))
	}
	same := func(w *was, f Find) bool {
		if f.Start.Offset(512) != w.start {
			return false
		}
		if f.Kind == volume.Unknown { // only a table or a chain tells of it
			return f.Bytes == w.size
		}
		named := slices.Contains(f.Told, ByTable) || slices.Contains(f.Told, ByChain) // as long as the partition was
		return family(f.Kind) == family(w.kind) && (named && f.Bytes == w.size || f.Bytes-w.own < disk.MiB && w.own-f.Bytes < disk.MiB)
	}
	for k, w := range h.lost {
		x := all.of(w.kind)
		left := w.left(h.im)
		named := len(left) > 0 && !slices.ContainsFunc(left, func(s Source) bool { return s == BySector || s == ByCopy || s == ByFiles })
		i, tell := -1, w.former || w.nested
		for n, f := range finds { // where there are several, one that is told for what it is
			if (same(w, f) || named && f.Start.Offset(512) == w.start && f.Bytes == w.size) && (i < 0 || finds[i].Ghost != tell && f.Ghost == tell) {
				i = n
			}
		}
		if w.former || w.nested {
			if i < 0 || finds[i].Kind == volume.Unknown || !w.nested && (h.alsoTrue(w) || !h.livesOn(w)) {
				continue // what it left is all there is of it, and is a find as others
			}
			if w.nested {
				x.nested++
			} else {
				x.former++
			}
			switch {
			case finds[i].Ghost:
				x.ghosts++
			case w.nested && (finds[i].Confidence == Doubtful || begins(w.start)) && !h.outerStands(w):
				x.untold++ // of what it lay in nothing is left
				h.t.Logf("drive %d: nothing tells that the %s at byte %d lay in a file: %v\n%s", n, w.kind, w.start, finds[i].Reasons, strings.Join(h.journal, "\n"))
			default:
				bad("%s at byte %d is a ghost and not told to be one", w.kind, w.start)
			}
			continue
		}
		there := named && slices.ContainsFunc(h.living, func(y *was) bool { return y.start == w.start })
		if i < 0 && (there || h.alsoLives(w)) {
			continue // nothing tells it from the one that lives there
		}
		x.partitions++
		switch {
		case slices.Contains(left, BySector):
			x.start++
		case slices.Contains(left, ByCopy):
			x.end++
		case slices.Contains(left, ByFiles):
			x.files++
		case named:
			x.named++
		default:
			continue
		}
		if i < 0 {
			bad("%s of %s at byte %d is not found, though %v is there", w.kind, w.size, w.start, left)
			continue
		}
		x.found++
		silent := w.silent() || slices.Equal(finds[i].Told, []Source{ByFiles}) // nothing that is left says that it began there
		switch {
		case !finds[i].Ghost:
		case there: // what lies there lives on
			continue
		case finds[i].Inferred && !begins(w.start) && silent:
			all.images++
		default:
			bad("%s of %s at byte %d was there, and is told to be a ghost", w.kind, w.size, w.start)
		}
		// Of several volumes that began there, one after the other, it is the last.
		if slices.ContainsFunc(h.lost[k+1:], func(y *was) bool { return !y.nested && same(y, finds[i]) }) {
			continue
		}
		if why := h.shares(w, &finds[i], sv, x); why != "" {
			bad("%s at byte %d: %s", w.kind, w.start, why)
		}
	}
	for _, f := range finds {
		if f.Ghost || f.Confidence == Doubtful {
			continue
		}
		x := all.of(f.Kind)
		x.sureLikely++
		if slices.ContainsFunc(h.lost, func(w *was) bool { return !w.nested && !(w.former && h.livesOn(w)) && same(w, f) }) {
			x.true++
		} else {
			h.t.Logf("drive %d: %s of %s at byte %d is %s, and never was; %v\n%s", n, f.Kind, f.Bytes, f.Start.Offset(512), f.Confidence, f.Reasons, strings.Join(h.journal, "\n"))
		}
	}
}

// shares compares what is told of a find's clusters with what they held when it was lost.
func (h *history) shares(w *was, f *Find, sv *survey.Survey, x *tally) string {
	stand := f.Stand(h.im, sv)
	if stand.Untouched+stand.Taken+stand.Unknown != stand.Used {
		return fmt.Sprintf("its shares do not add up: %+v", stand)
	}
	if stand.Whole {
		x.whole++
		return ""
	}
	x.used, x.taken, x.unknown = x.used+stand.Used, x.taken+stand.Taken, x.unknown+stand.Unknown
	wrong := disk.Bytes(0)
	told, _ := f.InUse(512)
	was := slices.Clone(w.used)
	if end := w.start + f.Bytes; slices.Contains(f.Told, ByFiles) && f.Bytes < w.own { // its end is known to a cluster
		for i := range was {
			was[i].End = min(was[i].End, end)
		}
	}
	if f.Bytes > w.own { // what of a partition its volume does not reach counts as in use
		was = append(was, disk.Range{Start: w.start + w.own, End: w.start + f.Bytes})
	}
	for _, r := range told {
		wrong += r.End - r.Start - overlap(r, was)
	}
	for _, r := range was {
		wrong += r.End - r.Start - overlap(r, told)
	}
	if wrong > 0 {
		return fmt.Sprintf("%d bytes of %d are told as in use and were not, or were and are not told; %+v %v", wrong, stand.Used, stand.By, f.Reasons)
	}
	for _, p := range stand.Pieces {
		n, all := disk.Bytes(0), disk.Range{Start: p.Off, End: p.Off + p.Len}
		for _, l := range h.living {
			if l.used == nil {
				l.remember(h.im)
			}
			n += overlap(all, l.used)
			n += overlap(all, []disk.Range{{Start: l.start + l.own, End: l.start + l.size}})
		}
		for _, r := range sv.Table.Ranges() {
			n += overlap(all, []disk.Range{r})
		}
		if p.State == Taken && n != p.Len && !strings.Contains(p.By, "partition table") || p.State != Taken && n > 0 {
			return fmt.Sprintf("%d bytes at byte %d are told as %s, and %d of them are in use", p.Len, p.Off, p.State, n)
		}
	}
	at := 0
	for _, r := range w.used {
		for i, sum := range sums(h.im, r.Start, r.End) {
			off, same := r.Start+disk.Bytes(i)*512, sum == w.sums[at]
			at++
			k, _ := slices.BinarySearchFunc(stand.Pieces, off, func(p Piece, off disk.Bytes) int {
				if p.Off+p.Len <= off {
					return -1
				}
				return 1
			})
			switch {
			case k == len(stand.Pieces) && off >= w.start+f.Bytes:
			case stand.Pieces[k].State == Untouched && !same:
				return fmt.Sprintf("the sector at byte %d is told as untouched, and is not", off)
			case stand.Pieces[k].State == Taken && same:
				x.same += 512
			}
		}
	}
	return ""
}

// overlap is how much of a stretch others cover.
func overlap(r disk.Range, by []disk.Range) (n disk.Bytes) {
	for _, x := range by {
		n += max(0, min(r.End, x.End)-max(r.Start, x.Start))
	}
	return n
}

// livesOn tells that a volume is on the drive at another place or of another size. Else what it
// left where it was is all there is of it.
func (h *history) livesOn(w *was) bool {
	return slices.ContainsFunc(h.living, func(x *was) bool { return x.volume == w.volume })
}

// outerStands tells that something is left to know of a file that an image lies in it: its
// record, or, of one that does not begin where partitions begin, the volume that it lies in.
func (h *history) outerStands(w *was) bool {
	now, err := disk.ReadFull(h.im, w.recordAt, disk.Bytes(len(w.record)))
	if err == nil && bytes.Equal(now, w.record) {
		return true
	}
	return !begins(w.start) && slices.ContainsFunc(append(slices.Clone(h.living), h.lost...), func(x *was) bool {
		return x.volume == w.outer.volume && x.start == w.outer.start && slices.ContainsFunc(x.left(h.im), func(s Source) bool { return s == BySector || s == ByCopy || s == ByFiles })
	})
}

// alsoTrue tells that a lost partition was at the very place of a former extent too.
func (h *history) alsoTrue(w *was) bool {
	return slices.ContainsFunc(h.lost, func(x *was) bool {
		return !x.former && !x.nested && x.start == w.start && family(x.kind) == family(w.kind) && x.size == w.size
	})
}

// alsoLives tells that a living one lies at the very place of a lost one.
func (h *history) alsoLives(w *was) bool {
	return slices.ContainsFunc(h.living, func(x *was) bool { return x.start == w.start && family(x.kind) == family(w.kind) })
}
