package table

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/script"
)

func blank(t testing.TB, sector disk.Bytes) *disk.Image {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d.img"), 64*disk.MiB, sector)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return im
}

func put(t testing.TB, dev disk.Device, s script.Script) {
	t.Helper()
	if err := s.Apply(dev, nil); err != nil {
		t.Fatal(err)
	}
}

func uid(n int) string { return fmt.Sprintf("5a1c77e0-1042-4d0b-9c3e-0000000000%02x", n) }

func entry(slot int, start, end disk.LBA) Entry {
	return NewEntry(Entry{Slot: slot, TypeID: TypeBasic, UniqueID: uid(slot), Start: start, End: end, Attributes: AttrHidden, Name: fmt.Sprint("Ställe ", slot)})
}

func TestRoundTrip(t *testing.T) {
	for _, sector := range []disk.Bytes{512, 4096} {
		dev := blank(t, sector)
		put(t, dev, New(dev, uid(0xd0), entry(2, 512, 1023), entry(1, 1024, 2047)))
		tb, err := Read(dev)
		if err != nil || tb.Scheme != GPT || tb.DiskID != uid(0xd0) || len(tb.Findings) > 0 {
			t.Fatalf("%+v, %v", tb, err)
		}
		if len(tb.Entries) != 2 || tb.Entries[0].Slot != 2 || tb.Entries[0].Name != "Ställe 2" || tb.Entries[1].Start != 1024 {
			t.Errorf("%+v", tb.Entries)
		}
		before, _ := disk.ReadFull(dev, 0, dev.Size())
		s, err := tb.Set(2, nil)
		if err != nil {
			t.Fatal(err)
		}
		put(t, dev, s)
		less, _ := Read(dev)
		if len(less.Entries) != 1 || len(less.Findings) > 0 {
			t.Errorf("after delete: %+v %v", less.Entries, less.Findings)
		}
		s, err = less.Set(2, tb.Entries[0].Raw)
		if err != nil {
			t.Fatal(err)
		}
		put(t, dev, s)
		if again, _ := disk.ReadFull(dev, 0, dev.Size()); !bytes.Equal(before, again) {
			t.Error("deleting and putting back is not identical to the byte")
		}
		if same, _ := tb.Set(2, tb.Entries[0].Raw); same != nil {
			t.Error("setting what is there already writes")
		}
		if _, err := tb.Set(129, nil); !errors.Is(err, ErrSlot) {
			t.Errorf("slot 129: %v", err)
		}
	}
}

// TestSafeAtEveryWrite reads the table after every single write of a change: one
// copy is valid at every moment, and holds either the old table or the new.
func TestSafeAtEveryWrite(t *testing.T) {
	dev := blank(t, 512)
	put(t, dev, New(dev, uid(0xd0), entry(1, 2048, 4095), entry(2, 4096, 8191)))
	tb, _ := Read(dev)
	s, err := tb.Set(1, nil)
	if err != nil {
		t.Fatal(err)
	}
	for i, op := range s {
		put(t, dev, script.Script{op})
		now, err := Read(dev)
		if err != nil || now.Scheme != GPT || now.copy() == nil {
			t.Fatalf("after write %d no copy is valid: %v", i, err)
		}
		if n := len(now.Entries); n != 1 && n != 2 {
			t.Fatalf("after write %d the table has %d entries", i, n)
		}
	}
}

func TestWhatIsNotOursIsKept(t *testing.T) {
	dev := blank(t, 512)
	put(t, dev, New(dev, uid(0xd0), entry(1, 2048, 4095)))
	// Boot code and signature in the MBR, and bytes behind the header.
	dev.WriteAt([]byte("boot code"), 10)
	dev.WriteAt([]byte{1, 2, 3, 4}, 440)
	dev.WriteAt([]byte("kept"), 512+200)
	tb, _ := Read(dev)
	s, _ := tb.Set(1, nil)
	put(t, dev, s)
	b, _ := disk.ReadFull(dev, 0, 1024)
	if string(b[10:19]) != "boot code" || b[440] != 1 || string(b[712:716]) != "kept" {
		t.Error("bytes that are not ours were changed")
	}
}

func TestDamage(t *testing.T) {
	le := binary.LittleEndian
	for _, c := range []struct {
		name  string
		spoil func(dev disk.Device)
		code  string
	}{
		{"first header", func(d disk.Device) { d.WriteAt([]byte{0xff}, 512+50) }, "gpt-primary-damaged"},
		{"first entries", func(d disk.Device) { d.WriteAt([]byte{0xff}, 1024+1000) }, "gpt-primary-damaged"},
		{"second header", func(d disk.Device) { d.WriteAt([]byte{0xff}, int64(d.Size())-500) }, "gpt-backup-damaged"},
		{"both", func(d disk.Device) { d.WriteAt([]byte{0xff}, 512+50); d.WriteAt([]byte{0xff}, int64(d.Size())-500) }, "gpt-both-damaged"},
		{"no protective MBR", func(d disk.Device) { d.WriteAt(make([]byte, 66), 446) }, "gpt-protective-mbr-missing"},
		{"hybrid", func(d disk.Device) { d.WriteAt([]byte{0, 0, 0, 0, 7, 0, 0, 0, 0, 8, 0, 0, 0, 8, 0, 0}, 462) }, "hybrid-mbr"},
		{"overlap", func(d disk.Device) { put(t, d, New(d, uid(1), entry(1, 2048, 4096), entry(2, 4096, 5000))) }, "entries-overlap"},
		{"beyond the end", func(d disk.Device) { put(t, d, New(d, uid(1), entry(1, 2048, 1<<40))) }, "entry-beyond-end"},
		{"outside usable", func(d disk.Device) { put(t, d, New(d, uid(1), entry(1, 10, 100))) }, "entry-outside-usable"},
		{"backwards", func(d disk.Device) { put(t, d, New(d, uid(1), entry(1, 100, 50))) }, "entry-absurd"},
		{"huge array", func(d disk.Device) {
			b, _ := disk.ReadFull(d, 512, 512)
			le.PutUint32(b[80:], 0xffffffff)
			sealHeader(b)
			d.WriteAt(b, 512)
		}, "gpt-primary-damaged"},
	} {
		dev := blank(t, 512)
		put(t, dev, New(dev, uid(0xd0), entry(1, 2048, 4095)))
		c.spoil(dev)
		tb, err := Read(dev)
		if err != nil || len(tb.Findings) == 0 || tb.Findings[0].Code != c.code {
			t.Errorf("%s: %+v, %v", c.name, tb.Findings, err)
		}
		if w := tb.Writable(); (w == nil) != (c.code == "gpt-protective-mbr-missing") {
			t.Errorf("%s: writable: %v", c.name, w)
		}
	}
}

func TestMBR(t *testing.T) {
	dev := blank(t, 512)
	b := make([]byte, 512)
	copy(b[440:], []byte{0x0d, 0xf0, 0xad, 0xba})
	copy(b[446:], []byte{0x80, 0, 0, 0, 7, 0, 0, 0, 0, 8, 0, 0, 0, 8, 0, 0})
	copy(b[462:], []byte{0, 0, 0, 0, 0x0f, 0, 0, 0, 0, 0x10, 0, 0, 0, 8, 0, 0})
	b[510], b[511] = 0x55, 0xaa
	dev.WriteAt(b, 0)
	tb, err := Read(dev)
	if err != nil || tb.Scheme != MBR || tb.DiskID != "baadf00d" || len(tb.Entries) != 2 || !tb.Entries[0].Active || tb.Entries[1].TypeID != "0f" {
		t.Errorf("%+v, %v", tb, err)
	}
	if tb.Writable() == nil {
		t.Error("an MBR may not be changed yet")
	}
	if tb, _ := Read(blank(t, 512)); tb.Scheme != None {
		t.Errorf("a blank drive has a %s", tb.Scheme)
	}
}

// FuzzRead reads tables that lie about every field.
func FuzzRead(f *testing.F) {
	dev := blank(f, 512)
	put(f, dev, New(dev, uid(0xd0), entry(1, 2048, 4095), entry(5, 8192, 9000)))
	head, _ := disk.ReadFull(dev, 0, 34*512)
	tail, _ := disk.ReadFull(dev, dev.Size()-33*512, 33*512)
	f.Add(head, tail)
	f.Add(head[:1024], tail[32*512:])
	f.Add(make([]byte, 512), tail)
	old := blank(f, 512)
	small := []Entry{
		MBREntry(Entry{Slot: 1, TypeID: "07", Start: 63, End: 99}, 512), MBREntry(Entry{Slot: 2, TypeID: "0f", Start: 100, End: 400}, 512),
		MBREntry(Entry{Slot: 5, TypeID: "07", Record: 100, Start: 101, End: 149}, 512), MBREntry(Entry{Slot: 6, TypeID: "0b", Record: 150, Start: 151, End: 200}, 512),
	}
	put(f, old, NewMBR(old, 7, small...))
	chained, _ := disk.ReadFull(old, 0, 160*512)
	f.Add(chained, []byte{})
	f.Fuzz(func(t *testing.T, head, tail []byte) {
		if len(head) > 16<<20 || len(tail) > 16<<20 {
			return
		}
		p := filepath.Join(t.TempDir(), "d")
		os.WriteFile(p, nil, 0o600)
		os.Truncate(p, int64(64*disk.MiB))
		im, err := disk.OpenImage(p, 512, true)
		if err != nil {
			t.Fatal(err)
		}
		defer im.Close()
		im.WriteAt(head[:min(len(head), 32<<20)], 0)
		im.WriteAt(tail, int64(im.Size())-int64(len(tail)))
		// Checksums are made to fit, so that what lies behind them is read too.
		for _, at := range []int64{512, int64(im.Size()) - 512} {
			h := make([]byte, 512)
			im.ReadAt(h, at)
			if n := binary.LittleEndian.Uint32(h[12:]); n >= 92 && n <= 512 {
				sealHeader(h)
				im.WriteAt(h, at)
			}
		}
		tb, err := Read(im)
		if err != nil {
			return
		}
		tb.Ranges()
		tb.Slots()
		tb.Set(1, nil)
		tb.Set(5, nil)
		tb.Insert(300, make([]byte, 512), nil)
		tb.Mend(0)
		tb.Relabel(map[int]int{5: 9})
	})
}

// TestManyEntries reads a table with 256 slots, which its headers say themselves.
func TestManyEntries(t *testing.T) {
	dev := blank(t, 512)
	put(t, dev, New(dev, uid(0xd0)))
	last := dev.Size().At(512) - 1
	array := make([]byte, 256*128)
	for i := range 200 {
		copy(array[i*128:], entry(i+1, disk.LBA(2048+100*i), disk.LBA(2048+100*i+99)).Raw)
	}
	for _, at := range []disk.LBA{1, last} {
		h, _ := disk.ReadFull(dev, at.Offset(512), 512)
		place := disk.LBA(2)
		if at == last {
			place = last - 64
		}
		le := binary.LittleEndian
		le.PutUint64(h[40:], 66)
		le.PutUint64(h[48:], uint64(last-65))
		le.PutUint64(h[72:], uint64(place))
		le.PutUint32(h[80:], 256)
		le.PutUint32(h[88:], crc(array))
		sealHeader(h)
		dev.WriteAt(array, int64(place)*512)
		dev.WriteAt(h, int64(at)*512)
	}
	tb, err := Read(dev)
	if err != nil || len(tb.Entries) != 200 || tb.Slots() != 256 || len(tb.Findings) > 0 {
		t.Fatalf("%d entries of %d, %v, %v", len(tb.Entries), tb.Slots(), tb.Findings, err)
	}
	s, err := tb.Set(256, entry(256, 40000, 41000).Raw)
	if err != nil {
		t.Fatal(err)
	}
	put(t, dev, s)
	if tb, _ = Read(dev); len(tb.Entries) != 201 || len(tb.Findings) > 0 {
		t.Errorf("%d entries, %v", len(tb.Entries), tb.Findings)
	}
}
