package table

import (
	"bytes"
	"errors"
	"slices"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
)

const aMiB = 2048 // sectors

// bakery is an MBR with a primary, and a container of three logical volumes.
func bakery(sector disk.Bytes) []Entry {
	m := disk.MiB.At(sector)
	return []Entry{
		MBREntry(Entry{Slot: 1, TypeID: "07", Start: m, End: 10*m - 1, Active: true}, sector),
		MBREntry(Entry{Slot: 2, TypeID: "0f", Start: 12 * m, End: 60*m - 1}, sector),
		MBREntry(Entry{Slot: 5, TypeID: "07", Record: 12 * m, Start: 13 * m, End: 20*m - 1}, sector),
		MBREntry(Entry{Slot: 6, TypeID: "0b", Record: 20 * m, Start: 21 * m, End: 30*m - 1}, sector),
		MBREntry(Entry{Slot: 7, TypeID: "17", Record: 40 * m, Start: 41 * m, End: 50*m - 1}, sector),
	}
}

func slots(t *Table) (out []int) {
	for _, e := range t.Entries {
		out = append(out, e.Slot)
	}
	return out
}

func TestMBRRoundTrip(t *testing.T) {
	for _, sector := range []disk.Bytes{512, 4096} {
		dev := blank(t, sector)
		put(t, dev, NewMBR(dev, 0x7f3b1046, bakery(sector)...))
		tb, err := Read(dev)
		if err != nil || tb.Scheme != MBR || tb.DiskID != "7f3b1046" || len(tb.Findings) > 0 {
			t.Fatalf("%+v, %v", tb, err)
		}
		for i, want := range bakery(sector) {
			got := tb.Entries[i]
			if got.Slot != want.Slot || got.Start != want.Start || got.End != want.End || got.Record != want.Record || got.Active != want.Active ||
				(got.Container == 2) != (want.Slot >= 5) || got.Hidden != (want.Slot == 7) {
				t.Errorf("entry %d: %+v, want %+v", i, got, want)
			}
		}
		before, _ := disk.ReadFull(dev, 0, dev.Size())
		for _, e := range tb.Entries {
			if e.Slot == 2 {
				if _, err := tb.Set(2, nil); !errors.Is(err, ErrSlot) {
					t.Errorf("a container with volumes is deleted: %v", err)
				}
				continue
			}
			s, err := tb.Set(e.Slot, nil)
			if err != nil {
				t.Fatal(e.Slot, err)
			}
			put(t, dev, s)
			less, _ := Read(dev)
			if len(less.Entries) != 4 || len(less.Findings) > 0 || slices.ContainsFunc(less.Entries, func(x Entry) bool { return x.Start == e.Start }) {
				t.Errorf("after deleting %d: %v %v", e.Slot, slots(less), less.Findings)
			}
			if e.Record == 0 {
				s, err = less.Set(e.Slot, e.Raw)
			} else {
				var was [][]byte
				for _, r := range tb.Ranges() {
					was = append(was, before[r.Start:r.End])
				}
				s, err = less.Insert(e.Record, e.Raw, less.LinkTo(e.Record, was...))
			}
			if err != nil {
				t.Fatal(e.Slot, err)
			}
			put(t, dev, s)
			if again, _ := disk.ReadFull(dev, 0, dev.Size()); !bytes.Equal(before, again) {
				t.Errorf("deleting %d and putting it back is not identical to the byte", e.Slot)
			}
		}
		// A logical volume grows; the record before says so too.
		e := tb.Entries[3]
		s, err := tb.Set(6, e.Moved(e.Start, 40*disk.MiB.At(sector)-1))
		if err != nil {
			t.Fatal(err)
		}
		put(t, dev, s)
		grown, _ := Read(dev)
		if grown.Entries[3].End != 40*disk.MiB.At(sector)-1 || len(grown.Findings) > 0 {
			t.Errorf("grown: %+v %v", grown.Entries[3], grown.Findings)
		}
		// A new one between the others takes its place in the chain.
		n := MBREntry(Entry{TypeID: "07", Record: 52 * disk.MiB.At(sector), Start: 53 * disk.MiB.At(sector), End: 55*disk.MiB.At(sector) - 1}, sector)
		if s, err = grown.Insert(n.Record, n.Raw, nil); err != nil {
			t.Fatal(err)
		}
		put(t, dev, s)
		more, _ := Read(dev)
		if got := slots(more); !slices.Equal(got, []int{1, 2, 5, 6, 7, 8}) || len(more.Findings) > 0 {
			t.Errorf("with one more: %v %v", got, more.Findings)
		}
		more.Relabel(map[int]int{8: 12})
		if _, err := more.Set(12, nil); err != nil {
			t.Errorf("under its own number: %v", err)
		}
	}
}

func TestMBRDamage(t *testing.T) {
	le := func(b []byte, v uint32) { b[0], b[1], b[2], b[3] = byte(v), byte(v>>8), byte(v>>16), byte(v>>24) }
	for name, c := range map[string]struct {
		damage func(b []byte)
		code   string
		left   int // entries that are still shown
	}{
		"a chain in a circle":           {func(b []byte) { le(b[20*1<<20+446+16+8:], 0) }, "chain-loop", 4},
		"a chain that leads outside":    {func(b []byte) { le(b[20*1<<20+446+16+8:], 200*aMiB) }, "chain-outside", 4},
		"a record without its mark":     {func(b []byte) { b[20*1<<20+510] = 0 }, "chain-damaged", 3},
		"a volume of no length":         {func(b []byte) { le(b[20*1<<20+446+8:], 0) }, "chain-damaged", 3},
		"a volume beyond its container": {func(b []byte) { le(b[40*1<<20+446+12:], 21*aMiB) }, "logical-outside", 5},
		"a volume over the next":        {func(b []byte) { le(b[12*1<<20+446+12:], 9*aMiB) }, "entries-overlap", 5},
		"a primary beyond the drive":    {func(b []byte) { le(b[446+12:], 70*aMiB) }, "entry-beyond-end", 5},
		"two containers":                {func(b []byte) { copy(b[446+32:], b[446+16:446+32]) }, "containers-two", 6},
		"two active": {func(b []byte) {
			copy(b[446+48:], b[446:446+16])
			b[446+48+8+1] = 0x70
			b[446+48+12+1] = 1
			b[446+48+13] = 1
		}, "active-many", 6},
		"a primary over the container":   {func(b []byte) { le(b[446+12:], 13*aMiB) }, "entries-overlap", 5},
		"a hole where a record would be": {func(b []byte) { clear(b[40*1<<20 : 40*1<<20+512]) }, "chain-damaged", 4},
	} {
		dev := blank(t, 512)
		put(t, dev, NewMBR(dev, 1, bakery(512)...))
		b, _ := disk.ReadFull(dev, 0, dev.Size())
		c.damage(b)
		dev.WriteAt(b, 0)
		tb, err := Read(dev)
		if err != nil || len(tb.Entries) != c.left || !slices.ContainsFunc([]string{c.code}, func(code string) bool {
			for _, f := range tb.Findings {
				if f.Code == code {
					return true
				}
			}
			return false
		}) {
			t.Errorf("%s: %v, %v, %v", name, slots(tb), tb.Findings, err)
		}
	}
	dev := blank(t, 512)
	b := make([]byte, 512)
	copy(b[3:], "NTFS    ")
	b[510], b[511], b[446+4], b[446+8], b[446+12] = 0x55, 0xaa, 7, 1, 9
	dev.WriteAt(b, 0)
	if tb, _ := Read(dev); tb.Scheme != None {
		t.Errorf("a file system on the whole drive is read as %s", tb.Scheme)
	}
	clear(b[:446])
	clear(b[446:510])
	dev.WriteAt(b, 0)
	if tb, _ := Read(dev); tb.Scheme != MBR || len(tb.Entries) != 0 {
		t.Errorf("an empty MBR is read as %s %v", tb.Scheme, tb.Entries)
	}
}

// TestFormerGPT reads drives that were given an MBR and kept a GPT or a part of one: the MBR is
// what systems go by. One that lists nothing, or only a GPT, does not overrule it.
func TestFormerGPT(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(dev disk.Device)
		kind  byte
		want  Scheme
	}{
		"both copies":      {func(disk.Device) {}, 7, MBR},
		"the second":       {func(d disk.Device) { d.WriteAt(make([]byte, 20480), 512) }, 7, MBR},
		"the first":        {func(d disk.Device) { d.WriteAt(make([]byte, 512), int64(d.Size())-512) }, 7, MBR},
		"an empty MBR":     {func(disk.Device) {}, 0, GPT},
		"a protective MBR": {func(disk.Device) {}, 0xee, GPT},
	} {
		dev := blank(t, 512)
		put(t, dev, New(dev, uid(0xd0), entry(1, 2048, 4095)))
		mbr := make([]byte, 512)
		copy(mbr[446:], []byte{0, 0, 0, 0, c.kind, 0, 0, 0, 0, 0x10, 0, 0, 0, 8, 0, 0})
		if c.kind == 0 {
			clear(mbr[446:462])
		}
		mbr[510], mbr[511] = 0x55, 0xaa
		dev.WriteAt(mbr, 0)
		c.spoil(dev)
		tb, err := Read(dev)
		if err != nil || tb.Scheme != c.want {
			t.Fatalf("%s: %+v, %v", name, tb, err)
		}
		former := slices.ContainsFunc(tb.Findings, func(f finding.Finding) bool { return f.Code == "gpt-former" })
		if former != (c.want == MBR) || former && (len(tb.Entries) != 1 || tb.Entries[0].Start != 4096 || tb.Writable() != nil) {
			t.Errorf("%s: %+v, %v", name, tb.Findings, tb.Writable())
		}
	}
}

func TestMend(t *testing.T) {
	for name, c := range map[string]struct {
		damage func(dev disk.Device)
		keep   int
		fails  bool
	}{
		"first header":     {func(d disk.Device) { d.WriteAt(make([]byte, 8), 512) }, 0, false},
		"first entries":    {func(d disk.Device) { d.WriteAt([]byte{1}, 1024) }, 0, false},
		"second header":    {func(d disk.Device) { d.WriteAt(make([]byte, 8), int64(d.Size())-512) }, 0, false},
		"second entries":   {func(d disk.Device) { d.WriteAt([]byte{1}, int64(d.Size())-512*33) }, 0, false},
		"the damaged kept": {func(d disk.Device) { d.WriteAt([]byte{1}, 1024) }, 1, true},
		"protective MBR":   {func(d disk.Device) { d.WriteAt(make([]byte, 512), 0); d.WriteAt([]byte{1}, 1024) }, 0, false},
	} {
		dev := blank(t, 512)
		put(t, dev, New(dev, uid(0xd0), entry(2, 2048, 4095), entry(1, 4096, 8191)))
		before, _ := disk.ReadFull(dev, 0, dev.Size())
		c.damage(dev)
		tb, _ := Read(dev)
		s, err := tb.Mend(c.keep)
		if c.fails {
			if !errors.Is(err, ErrNotWritable) {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if err != nil {
			t.Fatal(name, err)
		}
		put(t, dev, s)
		if again, _ := disk.ReadFull(dev, 0, dev.Size()); !bytes.Equal(before, again) {
			t.Errorf("%s: the mended table is not what it was", name)
		}
	}
	// Two valid copies that differ: one of them must be chosen.
	dev := blank(t, 512)
	put(t, dev, New(dev, uid(0xd0), entry(1, 2048, 4095)))
	old, _ := disk.ReadFull(dev, dev.Size()-33*512, 33*512)
	tb, _ := Read(dev)
	s, _ := tb.Set(1, tb.Entries[0].Moved(2048, 6143))
	put(t, dev, s)
	dev.WriteAt(old, int64(dev.Size())-33*512)
	tb, _ = Read(dev)
	if _, err := tb.Mend(0); !errors.Is(err, ErrNotWritable) {
		t.Errorf("two that differ: %v", err)
	}
	for keep, end := range map[int]disk.LBA{1: 6143, 2: 4095} {
		over, err := disk.NewOverlay(dev, t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		defer over.Close()
		s, err := tb.Mend(keep)
		if err != nil {
			t.Fatal(err)
		}
		put(t, over, s)
		if x, _ := Read(over); len(x.Findings) > 0 || x.Entries[0].End != end {
			t.Errorf("copy %d kept: %+v %v", keep, x.Entries, x.Findings)
		}
	}
}
