package exfat

import (
	"bytes"
	"errors"
	"io"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

const (
	sector  = 512
	cluster = 4096
	heapAt  = 64 * sector
	count   = 200 // clusters
)

// maker puts a small exFAT volume together, by the specification and nothing else.
type maker struct {
	t    *testing.T
	dev  *disk.Image
	fat  []byte
	next uint32
	bits []byte
}

func newMaker(t *testing.T) *maker {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "v"), 2*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return &maker{t, im, make([]byte, 8*sector), 2, make([]byte, count/8)}
}

// chain takes n clusters, joined in the FAT and none beside the other.
func (m *maker) chain(n int, row bool) (first uint32, all []uint32) {
	for i := range n {
		c := m.next
		if m.next++; !row {
			m.next++ // a gap
		}
		all = append(all, c)
		m.bits[(c-2)/8] |= 1 << ((c - 2) % 8)
		le.PutUint32(m.fat[4*c:], 0xffffffff)
		if i > 0 && !row {
			le.PutUint32(m.fat[4*all[i-1]:], c)
		}
	}
	return all[0], all
}

func (m *maker) write(all []uint32, b []byte) {
	for i, c := range all {
		p := make([]byte, cluster)
		copy(p, b[min(i*cluster, len(b)):])
		m.dev.WriteAt(p, heapAt+int64(c-2)*cluster)
	}
}

// file makes the entries of one file.
func file(name string, attrs uint16, first uint32, size, written uint64, row bool) []byte {
	u := utf16.Encode([]rune(name))
	names := (len(u) + 14) / 15
	b := make([]byte, 32*(2+names))
	b[0], b[1] = 0x85, byte(1+names)
	le.PutUint16(b[4:], attrs)
	le.PutUint32(b[12:], (2026-1980)<<25|11<<21|20<<16|16<<11|40<<5|5)
	b[21], b[23] = 50, 0x80|8 // half a second more, two hours east
	s := b[32:]
	s[0], s[1], s[3] = 0xc0, 1, byte(len(u))
	if row {
		s[1] |= 2
	}
	le.PutUint64(s[8:], written)
	le.PutUint32(s[20:], first)
	le.PutUint64(s[24:], size)
	for i, c := range u {
		p := b[64+32*(i/15):]
		p[0] = 0xc1
		le.PutUint16(p[2+2*(i%15):], c)
	}
	sum := uint16(0)
	for i, c := range b {
		if i != 2 && i != 3 {
			sum = sum<<15 | sum>>1
			sum += uint16(c)
		}
	}
	le.PutUint16(b[2:], sum)
	return b
}

// done writes the boot sectors, the FAT and the root.
func (m *maker) done(root []byte) {
	bitmap, at := m.chain(1, true)
	first, rootAt := m.chain(1, true)
	e := make([]byte, 64)
	e[0] = 0x81
	le.PutUint32(e[20:], bitmap)
	le.PutUint64(e[24:], uint64(len(m.bits)))
	e[32], e[33] = 0x83, 5
	copy(e[34:], "K\x00i\x00n\x00d\x00s\x00")
	m.write(rootAt, append(e, root...))
	m.write(at, m.bits)
	le.PutUint32(m.fat, 0xfffffff8)
	m.dev.WriteAt(m.fat, 24*sector)
	b := make([]byte, 12*sector)
	copy(b[3:], "EXFAT   ")
	le.PutUint64(b[72:], 2*1024*1024/sector)
	le.PutUint32(b[80:], 24)
	le.PutUint32(b[84:], 8)
	le.PutUint32(b[88:], 64)
	le.PutUint32(b[92:], count)
	le.PutUint32(b[96:], first)
	le.PutUint32(b[100:], 0x1043beef)
	b[108], b[109], b[110], b[510], b[511] = 9, 3, 1, 0x55, 0xaa
	sum := uint32(0)
	for i, c := range b[:11*sector] {
		if i != 106 && i != 107 && i != 112 {
			sum = sum>>1 | sum<<31
			sum += uint32(c)
		}
	}
	for i := range 128 {
		le.PutUint32(b[11*sector+4*i:], sum)
	}
	m.dev.WriteAt(b, 0)
	m.dev.WriteAt(b, 12*sector)
}

func TestVolume(t *testing.T) {
	m := newMaker(t)
	long := bytes.Repeat([]byte("a line of the log\n"), 900)
	first, all := m.chain(4, false)
	m.write(all, long)
	rowFirst, row := m.chain(3, true)
	m.write(row, long)
	sub, subAt := m.chain(1, true)
	m.write(subAt, file("Inside a folder with a name of some length.txt", 0x20, 0, 0, 0, false))
	deleted := file("gone.txt", 0x20, 9, 5, 5, false)
	for i := 0; i < len(deleted); i += 32 {
		deleted[i] &^= 0x80
	}
	broken := file("broken.txt", 0x20, rowFirst, 5, 5, true)
	broken[40] ^= 1
	root := bytes.Join([][]byte{file("chain.log", 0x20, first, uint64(len(long)), 10000, false), deleted, file("row.log", 0x20, rowFirst, 9000, 9000, true), file("Ordner für Ä", 0x10, sub, cluster, cluster, true), broken}, nil)
	m.done(root)
	v, err := Open(m.dev)
	if err != nil {
		t.Fatal(err)
	}
	files, err := v.Files()
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range files {
		names = append(names, f.Path)
	}
	if want := "Ordner für Ä|Ordner für Ä/Inside a folder with a name of some length.txt|broken.txt|chain.log|row.log"; strings.Join(names, "|") != want {
		t.Errorf("%q", names)
	}
	want := append(bytes.Clone(long[:10000]), make([]byte, len(long)-10000)...)
	for path, b := range map[string][]byte{"CHAIN.log": want, "row.log": long[:9000], "ordner für ä/inside a folder with a name of some length.txt": {}} {
		f, err := v.Stat(path)
		if err != nil {
			t.Fatal(path, err)
		}
		r, err := v.Open(f)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(io.NewSectionReader(r, 0, int64(f.Bytes))); err != nil || !bytes.Equal(got, b) {
			t.Errorf("%s: %d bytes of %d, %v", path, len(got), len(b), err)
		}
		if at := time.Date(2026, 11, 20, 14, 40, 10, 5e8, time.UTC); !f.Modified.Equal(at) {
			t.Errorf("%s was changed %s", path, f.Modified)
		}
	}
	if f, _ := v.Stat("broken.txt"); f.Unreadable == "" {
		t.Error("damaged entries pass for a file")
	}
	i, err := v.Info()
	if err != nil || i.Label != "Kinds" || i.Serial != "1043beef" || i.ClusterBytes != cluster || i.TotalBytes != count*cluster || i.UsedBytes != 10*cluster || !i.Clean {
		t.Errorf("%+v, %v", i, err)
	}
	l := v.Check()
	if len(l) != 2 || l[0].Code != "file-damaged" || l[1].Code != "clusters-shared" {
		t.Errorf("%v", l)
	}
}

func TestDamagedChains(t *testing.T) {
	for name, c := range map[string]struct {
		damage func(m *maker, all []uint32)
		says   string
	}{
		"a circle":     {func(m *maker, all []uint32) { le.PutUint32(m.fat[4*all[1]:], all[0]) }, "circle"},
		"outside":      {func(m *maker, all []uint32) { le.PutUint32(m.fat[4*all[1]:], 5000) }, "cluster 5000 of"},
		"too short":    {func(m *maker, all []uint32) { le.PutUint32(m.fat[4*all[1]:], 0xffffffff) }, "too short"},
		"free cluster": {func(m *maker, all []uint32) { le.PutUint32(m.fat[4*all[1]:], 0) }, "cluster 0 of"},
	} {
		m := newMaker(t)
		first, all := m.chain(4, false)
		size := uint64(4 * cluster)
		if name == "a circle" { // only a folder's length is told by its chain
			size = 0
		}
		c.damage(m, all)
		attrs := uint16(0x20)
		if size == 0 {
			attrs = 0x10
		}
		m.done(file("x", attrs, first, size, size, false))
		v, err := Open(m.dev)
		if err != nil {
			t.Fatal(name, err)
		}
		f, err := v.Stat("x")
		if err != nil || !strings.Contains(f.Unreadable, c.says) {
			t.Errorf("%s: %+v, %v", name, f, err)
		}
		if _, err := v.Open(f); !errors.Is(err, volume.ErrUnreadable) {
			t.Errorf("%s: opened, %v", name, err)
		}
	}
	m := newMaker(t)
	m.done(nil)
	for at, b := range map[int64]byte{108: 8, 109: 30, 72: 0xff, 88: 0, 96: 1, 84: 0} {
		over, err := disk.NewOverlay(m.dev, t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		p := []byte{b}
		if at == 72 {
			p = bytes.Repeat(p, 8)
		}
		over.WriteAt(p, at)
		if _, err := Open(over); !errors.Is(err, volume.ErrDamaged) {
			t.Errorf("byte %d is %x: %v", at, b, err)
		}
		over.Close()
	}
}
