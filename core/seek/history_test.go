package seek

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/maphash"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"jadetrail/core/disk"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
	"jadetrail/core/volume/recognise"
)

// kept is a volume to be put on drives, as bytes.
type kept struct {
	kind volume.Kind
	size disk.Bytes
	put  func(w disk.Device) error
}

// library are volumes that other programs and a kernel made: those of the survey's tests, and
// of the images in JADETRAIL_BASES.
func library(t testing.TB) []kept {
	var out []kept
	images, _ := filepath.Glob(filepath.Join(os.Getenv("JADETRAIL_BASES"), "*.img"))
	if os.Getenv("JADETRAIL_BASES") == "" {
		images = nil
	}
	for _, name := range []string{"kinds", "driver"} {
		z, err := os.Open("../survey/testdata/" + name + ".img.zst")
		if err != nil {
			t.Fatal(err)
		}
		defer z.Close()
		r, err := zstd.NewReader(z)
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		path := filepath.Join(t.TempDir(), name+".img")
		f, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.Copy(f, r); err != nil {
			t.Fatal(err)
		}
		f.Close()
		images = append(images, path)
	}
	for _, path := range images {
		im, err := disk.OpenImage(path, 512, false)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { im.Close() })
		sv, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range sv.Layout.Partitions() {
			if p.Volume == nil || sv.Volume(p.Number) == nil {
				continue
			}
			w := survey.Window(im, p)
			out = append(out, kept{p.Volume.Kind, p.Bytes, func(to disk.Device) error { return copyTo(to, w) }})
		}
	}
	return out
}

// copyTo copies a volume, holes as holes.
func copyTo(to, from disk.Device) error {
	for at := disk.Bytes(0); ; {
		start, end, ok := from.Data(at)
		if !ok {
			return nil
		}
		for end = min(end, from.Size()); start < end; {
			b, err := disk.ReadFull(from, start, min(disk.MiB, end-start))
			if err != nil {
				return err
			}
			if _, err := to.WriteAt(b, int64(start)); err != nil {
				return err
			}
			start += disk.Bytes(len(b))
		}
		at = end
	}
}

// was is a partition of a drive's history.
type was struct {
	kind        volume.Kind
	start, size disk.Bytes
	own         disk.Bytes // how long the volume itself is
	volume      int        // which volume it is, of all that there ever were
	entry       table.Entry
	boots       map[Source][]byte // its start and the copies of it, by where they lie
	at          map[Source]disk.Bytes
	former      bool // only where a volume was, or how large, that lived on
	nested      bool // it lies inside a file
	// Of a nested one: the volume in whose file it lies, and the file's record there.
	outer    *was
	record   []byte
	recordAt disk.Bytes
	chain    disk.Bytes // where its record in a container's chain lies, 0 for none
	second   bool       // a second table that is not in use names it
	// What it had in use when it was lost, and a sum of each sector of that.
	used []disk.Range
	sums []uint64
}

// note keeps what the starts of a volume hold.
func (w *was) note(dev disk.Device) {
	w.boots, w.at = map[Source][]byte{}, map[Source]disk.Bytes{}
	keep := func(s Source, at, n disk.Bytes) {
		if b, err := disk.ReadFull(dev, at, n); err == nil {
			w.boots[s], w.at[s] = b, at
		}
	}
	switch w.kind {
	case volume.NTFS:
		b, _ := disk.ReadFull(dev, w.start, 512)
		keep(BySector, w.start, 512)
		sector := disk.Bytes(binary.LittleEndian.Uint16(b[11:]))
		keep(ByFiles, w.start+disk.Bytes(binary.LittleEndian.Uint64(b[48:]))*disk.Bytes(b[13])*sector, 9*1024)
		keep(ByCopy, w.start+disk.Bytes(binary.LittleEndian.Uint64(b[40:]))*disk.Bytes(binary.LittleEndian.Uint16(b[11:])), 512)
	case volume.FAT32:
		keep(BySector, w.start, 512)
		keep(ByCopy, w.start+6*512, 512)
	case volume.ExFAT:
		keep(BySector, w.start, 512)
		keep(ByCopy, w.start+12*512, 512)
	case volume.Ext2, volume.Ext3, volume.Ext4:
		keep(BySector, w.start+1024, 1024)
		b := w.boots[BySector]
		block := disk.Bytes(1024) << binary.LittleEndian.Uint32(b[24:])
		per, first := disk.Bytes(binary.LittleEndian.Uint32(b[32:])), disk.Bytes(binary.LittleEndian.Uint32(b[20:]))
		if at := w.start + (first+per)*block; at+1024 < w.start+w.size {
			if c, err := disk.ReadFull(dev, at, 1024); err == nil && c[56] == 0x53 && c[57] == 0xef {
				keep(ByCopy, at, 1024)
			}
		}
	case volume.Swap:
		keep(BySector, w.start, 4096)
	default:
		keep(BySector, w.start, 512)
	}
}

// remember keeps what a partition holds, as it is lost.
func (w *was) remember(dev disk.Device) {
	w.used, w.sums = nil, nil
	if found, err := recognise.Open(disk.NewWindow(dev, w.start, w.own)); err == nil && found.Volume != nil {
		found.Volume.Allocated(func(from, to disk.Bytes) error {
			w.used = append(w.used, disk.Range{Start: w.start + from, End: w.start + to})
			return nil
		})
	}
	if w.used == nil {
		w.used = []disk.Range{{Start: w.start, End: w.start + w.size}}
	}
	for _, r := range w.used {
		w.sums = append(w.sums, sums(dev, r.Start, r.End)...)
	}
}

var sumSeed = maphash.MakeSeed()

// sums is one for each sector of a stretch.
func sums(dev disk.Device, from, to disk.Bytes) (out []uint64) {
	b := make([]byte, disk.MiB)
	for at := from; at < to; at += disk.MiB {
		n := min(disk.MiB, to-at)
		dev.ReadAt(b[:n], int64(at))
		for i := disk.Bytes(0); i < n; i += 512 {
			out = append(out, maphash.Bytes(sumSeed, b[i:i+512]))
		}
	}
	return out
}

// left are the starts that are still there.
func (w *was) left(dev disk.Device) (out []Source) {
	for s, b := range w.boots {
		if now, err := disk.ReadFull(dev, w.at[s], disk.Bytes(len(b))); err == nil && bytes.Equal(now, b) {
			out = append(out, s)
		}
	}
	if w.second {
		out = append(out, ByTable)
	}
	if w.chain != 0 {
		if b, err := disk.ReadFull(dev, w.chain, 512); err == nil && b[510] == 0x55 && b[511] == 0xaa && b[450] == 7 &&
			binary.LittleEndian.Uint32(b[454:]) == 2048 && binary.LittleEndian.Uint32(b[458:]) == uint32(w.size/512) {
			out = append(out, ByChain)
		}
	}
	slices.Sort(out)
	return out
}

// silent tells that a kind does not keep where its volume began.
func (w *was) silent() bool {
	return !slices.Contains([]volume.Kind{volume.NTFS, volume.FAT12, volume.FAT16, volume.FAT32}, w.kind)
}

// history is a drive with what has become of it.
type history struct {
	t       *testing.T
	rng     *rand.Rand
	im      *disk.Image
	lib     []kept
	used    map[int]bool // of the library: a volume is put on a drive once
	living  []*was
	lost    []*was
	slot    int
	volumes int
	serial  uint64
	mbr     bool // the drive has an MBR, and from the middle on a container
	journal []string
}

// From here on a drive with an MBR has logical volumes.
const logical = 120 * disk.MiB

const driveSize = 400 * disk.MiB

func (h *history) say(format string, args ...any) {
	h.journal = append(h.journal, fmt.Sprintf(format, args...))
}

// free is a place of n bytes on the grid that no living partition takes.
func (h *history) free(n disk.Bytes) (disk.Bytes, bool) {
	for range 40 {
		at := 2*disk.MiB + disk.Bytes(h.rng.Int64N(int64((driveSize-n-3*disk.MiB)/disk.MiB)))*disk.MiB
		if h.mbr && (at < logical && at+n > logical || at < logical && h.primaries() > 2) {
			continue
		}
		if !slices.ContainsFunc(h.living, func(w *was) bool { return at-disk.MiB < w.start+w.size && w.start-disk.MiB < at+n }) {
			return at, true
		}
	}
	return 0, false
}

func (h *history) primaries() (n int) {
	for _, w := range h.living {
		if w.start < logical {
			n++
		}
	}
	return n
}

// enter gives a partition its entry at the place where it lies. A logical volume has a record
// of its own in the drive, in the MiB before it.
func (h *history) enter(w *was) {
	w.entry.Start, w.entry.End = w.start.At(512), (w.start+w.size).At(512)-1
	if w.chain = 0; !h.mbr {
		w.entry = table.NewEntry(w.entry)
		return
	}
	w.entry = table.Entry{TypeID: "07", Start: w.entry.Start, End: w.entry.End}
	if w.start >= logical {
		w.chain = w.start - disk.MiB
		w.entry.Record = w.chain.At(512)
	}
	w.entry = table.MBREntry(w.entry, 512)
	if w.chain != 0 {
		if _, err := h.im.WriteAt(w.entry.Raw, int64(w.chain)); err != nil {
			h.t.Fatal(err)
		}
	}
}

// lose takes note of what a partition is as it goes.
func (h *history) lose(w *was) {
	w.remember(h.im)
	h.lost = append(h.lost, w)
}

// files are some of contents that are nowhere else.
func (h *history) files(n int) (in []volume.Source) {
	for i := range n {
		b := make([]byte, h.rng.IntN(60000))
		h.noise(b)
		in = append(in, volume.Source{Path: fmt.Sprintf("Shelf %d/paper %d.txt", i%4, i), Data: b})
	}
	return in
}

func (h *history) noise(b []byte) {
	for k := range b {
		if k%8 == 0 && k+8 <= len(b) {
			binary.LittleEndian.PutUint64(b[k:], h.rng.Uint64())
		} else if k >= len(b)&^7 {
			b[k] = 1
		}
	}
}

// nested is the bytes of an image that lies in a file: a volume, or a drive with one.
func (h *history) nested() ([]byte, *was) {
	rng, size := h.rng, disk.Bytes(12+h.rng.IntN(6))*disk.MiB
	paper := disk.NewPaper(size, 512)
	at := disk.Bytes(0)
	if rng.IntN(2) == 0 {
		at = disk.MiB
	}
	h.serial++
	n := size - 2*at
	w := &was{kind: volume.NTFS, start: at, size: n, own: n, nested: true}
	dev := disk.NewWindow(paper, at, n)
	var err error
	i := rng.IntN(len(h.lib))
	switch x := h.lib[i]; {
	case rng.IntN(6) == 0:
		w.kind, err = volume.Swap, swap(dev, h.serial)
	case rng.IntN(2) == 0 && !h.used[i] && x.size <= n:
		h.used[i] = true
		w.kind, w.size, w.own, err = x.kind, x.size, x.size, numbered(dev, x, h.serial, 0)
	default:
		hidden := uint32(0)
		if at > 0 && rng.IntN(2) == 0 {
			hidden = uint32(at / 512)
		}
		err = ntfs.Make(dev, ntfs.Options{Label: "Nested", Serial: h.serial, Hidden: hidden, Time: time.Unix(1700000000, 0), Files: h.files(5)})
	}
	if err != nil {
		h.t.Fatal(err)
	}
	if at > 0 {
		e := table.NewEntry(table.Entry{Slot: 1, TypeID: table.TypeBasic, UniqueID: "5a1c77e0-1045-4d0b-9c3e-000000000077", Start: at.At(512), End: (at + w.size).At(512) - 1})
		if err := table.New(paper, "5a1c77e0-1045-4d0b-9c3e-0000000000d7", e).Apply(paper, nil); err != nil {
			h.t.Fatal(err)
		}
	}
	b, err := disk.ReadFull(paper, 0, size)
	if err != nil {
		h.t.Fatal(err)
	}
	return b, w
}

// swap makes a place for what does not fit into memory.
func swap(dev disk.Device, serial uint64) error {
	b := make([]byte, 4096)
	binary.LittleEndian.PutUint32(b[1024:], 1)
	binary.LittleEndian.PutUint32(b[1028:], uint32(dev.Size()/4096-1))
	binary.LittleEndian.PutUint64(b[1036:], serial)
	binary.LittleEndian.PutUint64(b[1044:], 0x7f3b)
	copy(b[4086:], "SWAPSPACE2")
	_, err := dev.WriteAt(b, 0)
	return err
}

// create puts a volume at a place.
func (h *history) create() {
	rng := h.rng
	w := &was{}
	h.serial++
	serial := h.serial
	var put func(dev disk.Device, start disk.Bytes) error
	var nested *was
	switch k := rng.IntN(10); {
	case k < 4:
		w.kind, w.size = volume.NTFS, disk.Bytes(12+rng.IntN(60))*disk.MiB
		in := h.files(3 + rng.IntN(40))
		if rng.IntN(3) == 0 && w.size > 36*disk.MiB {
			b, n := h.nested()
			nested = n
			in = append(in, volume.Source{Path: "machine.img", Data: b})
		}
		cluster := []disk.Bytes{0, 0, 4096, 16384}[rng.IntN(4)]
		put = func(dev disk.Device, start disk.Bytes) error {
			return ntfs.Make(dev, ntfs.Options{Label: fmt.Sprintf("Data %d", serial), Cluster: cluster, Serial: serial, Hidden: uint32(start / 512), Time: time.Unix(1700000000, 0), Files: in})
		}
	case k < 6:
		w.kind, w.size = volume.FAT32, disk.Bytes(36+rng.IntN(30))*disk.MiB
		in := h.files(3 + rng.IntN(20))
		put = func(dev disk.Device, start disk.Bytes) error {
			return fat.Make(dev, fat.Options{Label: "CARD", Cluster: 512, Serial: uint32(serial), Hidden: uint32(start / 512), Time: time.Unix(1700000000, 0), Files: in})
		}
	case k == 6:
		w.kind, w.size = volume.Swap, disk.Bytes(4+rng.IntN(20))*disk.MiB
		put = func(dev disk.Device, _ disk.Bytes) error { return swap(dev, serial) }
	default:
		i := rng.IntN(len(h.lib))
		if h.used[i] {
			return
		}
		h.used[i] = true
		x := h.lib[i]
		w.kind, w.size = x.kind, x.size
		put = func(dev disk.Device, at disk.Bytes) error { return numbered(dev, x, serial, at) }
	}
	at, ok := h.free(w.size + disk.MiB)
	if !ok {
		return
	}
	if (w.kind == volume.NTFS || w.kind == volume.FAT32) && rng.IntN(6) == 0 { // where no system of today puts one
		at += disk.Bytes(1+rng.IntN(255)) * 4096
	}
	h.volumes++
	w.start, w.own, w.volume = at, w.size, h.volumes
	// A new volume is made on what reads as zeros here only where it is one of ours: they
	// write their own structures, and leave what lies in free clusters.
	if err := over(h.im, at, w.size, func(dev disk.Device) error { return put(dev, at) }); err != nil {
		h.t.Fatal(err)
	}
	w.note(h.im)
	h.slot++
	w.entry = table.Entry{Slot: h.slot, TypeID: table.TypeBasic, UniqueID: fmt.Sprintf("5a1c77e0-1045-4d0b-9c3e-%012x", h.slot)}
	h.enter(w)
	h.living = append(h.living, w)
	h.say("made %s of %s at %d MiB and %d bytes", w.kind, w.size, at/disk.MiB, at%disk.MiB)
	if nested != nil { // where in the drive it came to lie
		if v, err := ntfs.Open(disk.NewWindow(h.im, at, w.size)); err == nil {
			list, _ := v.Files()
			for _, f := range list {
				if f.Path == "machine.img" && len(f.Extents) == 1 {
					nested.start += at + f.Extents[0].Off
					nested.note(h.im)
					outer := *w
					nested.outer = &outer
					nested.recordAt, nested.record = h.recordOf("machine.img", at, w.size)
					h.lost = append(h.lost, nested)
					h.say("with an image inside a file, its %s at byte %d", nested.kind, nested.start)
				}
			}
		}
	}
}

// recordOf finds the record of a file in the table of files of an NTFS volume, by its bytes.
func (h *history) recordOf(name string, start, size disk.Bytes) (at disk.Bytes, record []byte) {
	wide := make([]byte, 0, 2*len(name))
	for _, c := range name {
		wide = append(wide, byte(c), 0)
	}
	b, err := disk.ReadFull(h.im, start, size)
	if err != nil {
		h.t.Fatal(err)
	}
	for at := 0; at+1024 <= len(b); at += 1024 {
		if string(b[at:at+4]) == "FILE" && b[at+22]&2 == 0 && bytes.Contains(b[at:at+1024], wide) {
			return start + disk.Bytes(at), bytes.Clone(b[at : at+1024])
		}
	}
	h.t.Fatalf("no record of %s", name)
	return 0, nil
}

// numbered puts a volume of the library on a drive, with a serial number of its own where it has
// none, and with the place where it begins, where it keeps that: without them nobody could tell
// where it was before.
func numbered(dev disk.Device, x kept, serial uint64, begins disk.Bytes) error {
	if err := x.put(dev); err != nil {
		return err
	}
	b := binary.LittleEndian.AppendUint64(nil, serial)
	hidden := binary.LittleEndian.AppendUint32(nil, uint32(begins/512))
	switch x.kind {
	case volume.NTFS:
		first, err := disk.ReadFull(dev, 0, 512)
		if err != nil {
			return err
		}
		for _, at := range []disk.Bytes{0, disk.Bytes(binary.LittleEndian.Uint64(first[40:])) * 512} {
			if _, err := dev.WriteAt(b, int64(at)+72); err != nil {
				return err
			}
			if _, err := dev.WriteAt(hidden, int64(at)+28); err != nil {
				return err
			}
		}
		// The moment at which its table of files was made, in the first record and the copy of it.
		cluster := disk.Bytes(binary.LittleEndian.Uint16(first[11:])) * disk.Bytes(first[13])
		for _, lcn := range []int{48, 56} {
			at := disk.Bytes(binary.LittleEndian.Uint64(first[lcn:])) * cluster
			r, err := disk.ReadFull(dev, at, 512)
			if err != nil {
				return err
			}
			attr := disk.Bytes(binary.LittleEndian.Uint16(r[20:]))
			if _, err := dev.WriteAt(b[:4], int64(at+attr+disk.Bytes(binary.LittleEndian.Uint16(r[attr+20:])))); err != nil {
				return err
			}
		}
	case volume.FAT12, volume.FAT16:
		if _, err := dev.WriteAt(b[:4], 39); err != nil {
			return err
		}
		if _, err := dev.WriteAt(hidden, 28); err != nil {
			return err
		}
	case volume.FAT32:
		for _, at := range []int64{67, 6*512 + 67} {
			if _, err := dev.WriteAt(b[:4], at); err != nil {
				return err
			}
			if _, err := dev.WriteAt(hidden, at-67+28); err != nil {
				return err
			}
		}
	}
	return nil
}

// over makes a volume on paper and puts what it has written on the drive, over what is there.
func over(im *disk.Image, at, n disk.Bytes, put func(disk.Device) error) error {
	paper := disk.NewPaper(n, 512)
	if err := put(paper); err != nil {
		return err
	}
	if found, err := recognise.Open(paper); err == nil && found.Info != nil && found.Info.Tables != nil { // with the zeros in them
		im.Zero(at, found.Info.Tables.Lead)
	}
	return copyTo(disk.NewWindow(im, at, n), paper)
}

// becomes is one more thing that happens to the drive.
func (h *history) becomes() {
	rng := h.rng
	if len(h.living) == 0 || rng.IntN(3) == 0 {
		h.create()
		return
	}
	i := rng.IntN(len(h.living))
	w := h.living[i]
	switch rng.IntN(8) {
	case 0, 1, 2:
		h.living = slices.Delete(h.living, i, i+1)
		h.lose(w)
		h.say("deleted the %s at %d MiB", w.kind, w.start/disk.MiB)
	case 3: // another program moves it, and leaves what was there
		to, ok := h.free(w.size)
		if !ok || w.kind != volume.NTFS && w.kind != volume.FAT32 {
			return
		}
		from := disk.NewWindow(h.im, w.start, w.size)
		if err := copyTo(disk.NewWindow(h.im, to, w.size), from); err != nil {
			h.t.Fatal(err)
		}
		old := *w
		old.former = true
		h.lost = append(h.lost, &old)
		w.start = to
		h.enter(w)
		w.note(h.im)
		h.say("moved a %s from %d to %d MiB", w.kind, old.start/disk.MiB, to/disk.MiB)
	case 4: // made smaller or larger
		h.resize(w)
	case 5: // reformatted
		put := kept{}
		for k, x := range h.lib {
			if !h.used[k] && x.size <= w.size {
				h.used[k], put = true, x
				break
			}
		}
		if put.put == nil {
			return
		}
		lost := *w
		h.lose(&lost)
		lost.chain = 0 // it names what is there from now on
		h.serial++
		if err := numbered(disk.NewWindow(h.im, w.start, put.size), put, h.serial, w.start); err != nil {
			h.t.Fatal(err)
		}
		h.volumes++
		w.kind, w.own, w.volume = put.kind, put.size, h.volumes
		w.note(h.im)
		h.say("reformatted the %s at %d MiB as %s", lost.kind, w.start/disk.MiB, w.kind)
	default: // something is written over a gap
		n := disk.Bytes(1+rng.IntN(2000)) * 4096
		at, ok := h.free(n.Up(disk.MiB))
		if !ok {
			return
		}
		b := make([]byte, n)
		for k := 0; k < len(b); k += 8 {
			binary.LittleEndian.PutUint64(b[k:], rng.Uint64())
		}
		if rng.IntN(2) == 0 {
			clear(b)
		} else if rng.IntN(3) == 0 { // where a volume that is lost has its tables
			if k := rng.IntN(len(h.lost) + 1); k < len(h.lost) && !h.takenNow(h.lost[k].start, h.lost[k].start+n) {
				at = h.lost[k].start + 4096
				b = b[:n-4096]
			}
		}
		if _, err := h.im.WriteAt(b, int64(at)); err != nil {
			h.t.Fatal(err)
		}
		h.say("%s written over at %d MiB", n, at/disk.MiB)
	}
}

// resize makes an NTFS volume smaller or larger.
func (h *history) resize(w *was) {
	if w.kind != volume.NTFS {
		return
	}
	old := *w
	v, err := ntfs.Open(disk.NewWindow(h.im, w.start, w.size))
	if err != nil {
		return
	}
	to := w.size + 4*disk.MiB
	if info, err := v.Info(); err == nil && h.rng.IntN(2) == 0 && info.ShrinkCut < w.size-4*disk.MiB {
		to = info.ShrinkCut.Up(disk.MiB) + disk.MiB
	}
	if to > w.size && (w.start+to > driveSize-2*disk.MiB || h.mbr && w.start < logical && w.start+to > logical-disk.MiB || slices.ContainsFunc(h.living, func(x *was) bool { return x != w && x.start-disk.MiB < w.start+to && w.start < x.start+x.size })) {
		return
	}
	dev := disk.NewWindow(h.im, w.start, max(to, w.size))
	if v, err = ntfs.Open(dev); err != nil {
		return
	}
	s, err := v.Shrink(to)
	if to > w.size {
		s, err = v.Grow(to)
	}
	if err != nil || s.Apply(dev, nil) != nil {
		return
	}
	old.former = true
	h.lost = append(h.lost, &old)
	w.size, w.own = to, to
	h.enter(w)
	w.note(h.im)
	h.say("%s at %d MiB went from %s to %s", w.kind, w.start/disk.MiB, old.size, to)
}

// takenNow tells that a living partition has some of a stretch.
func (h *history) takenNow(from, to disk.Bytes) bool {
	return slices.ContainsFunc(h.living, func(x *was) bool { return x.start-disk.MiB < to && from < x.start+x.size })
}
