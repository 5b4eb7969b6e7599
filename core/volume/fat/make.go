package fat

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Options of a new volume.
type Options struct {
	Label   string // at most 11 letters
	Cluster disk.Bytes
	Serial  uint32
	Hidden  uint32 // sectors before the partition on its drive
	Time    time.Time
	Files   []volume.Source
}

type folder struct {
	name   string
	parent *folder
	subs   []*folder
	files  []volume.Source
	first  uint32
}

type maker struct {
	dev   disk.Device
	opt   Options
	v     Volume
	next  uint32
	table []uint32
}

// reserved is how many sectors lie before the first copy of the table.
const reserved = 32

// shape lays a FAT32 volume of the given size out, with clusters of the given size, or 0 for
// one that fits.
func (v *Volume) shape(size, sec, cluster disk.Bytes) error {
	if v.sector, v.cluster = sec, cluster; v.cluster == 0 {
		v.cluster = max(4096, sec)
		if size < 300*disk.MiB {
			v.cluster = max(1024, sec)
		}
	}
	v.sectors = int64(size / sec)
	v.fatStart = reserved * sec
	// Each cluster costs its own bytes and four in each copy of the table.
	fatSectors := int64((disk.Bytes(v.sectors)*sec-v.fatStart)/(v.cluster+8)*4/sec) + 2
	v.fatSize = disk.Bytes(fatSectors) * sec
	v.dataStart = v.fatStart + 2*v.fatSize
	n := (disk.Bytes(v.sectors)*sec - v.dataStart) / v.cluster
	if n < 65525 || n > 0x0ffffff4 || v.sectors > 0xffffffff {
		return fmt.Errorf("%w: %d clusters", ErrFull, n)
	}
	v.clusters = uint32(n)
	return nil
}

// Shape tells what Make will make of a place of the given size: its clusters and its
// tables. ErrFull when the place is too small or too large for FAT32.
func Shape(size, sector disk.Bytes) (volume.Info, error) {
	var v Volume
	if err := v.shape(size, sector, 0); err != nil {
		return volume.Info{}, err
	}
	return volume.Info{Kind: volume.FAT32, ClusterBytes: v.cluster, TotalBytes: disk.Bytes(v.clusters) * v.cluster, Clean: true,
		Tables: &volume.Tables{Lead: v.dataStart, Bytes: v.fatSize, Copies: 2}}, nil
}

// Make makes a FAT32 volume that fills dev and puts the files into it. dev must
// read as zeros.
func Make(dev disk.Device, opt Options) error {
	sec := dev.SectorBytes()
	m := &maker{dev: dev, opt: opt, next: 2}
	v := &m.v
	if err := v.shape(dev.Size(), sec, opt.Cluster); err != nil {
		return err
	}
	v.dev, v.copies = dev, 2
	if len(opt.Label) > 11 {
		return fmt.Errorf("%w: the label %q is longer than 11 letters", ErrFull, opt.Label)
	}
	fatSectors := int64(v.fatSize / sec)
	m.table = []uint32{0x0ffffff8, 0x0fffffff}
	root, err := m.plan()
	if err != nil {
		return err
	}
	if err := m.folder(root); err != nil {
		return err
	}
	fat := make([]byte, 0, len(m.table)*4)
	for _, e := range m.table {
		fat = le.AppendUint32(fat, e)
	}
	for i := range disk.Bytes(2) {
		if _, err := dev.WriteAt(fat, int64(v.fatStart+i*v.fatSize)); err != nil {
			return err
		}
	}
	info := make([]byte, sec)
	le.PutUint32(info, 0x41615252)
	le.PutUint32(info[484:], 0x61417272)
	le.PutUint32(info[488:], v.clusters-(m.next-2))
	le.PutUint32(info[492:], m.next)
	info[510], info[511] = 0x55, 0xaa
	boot := m.boot(fatSectors)
	for _, at := range []int64{6, 0} {
		if _, err := dev.WriteAt(info, (at+1)*int64(sec)); err != nil {
			return err
		}
		if _, err := dev.WriteAt(boot, at*int64(sec)); err != nil {
			return err
		}
	}
	return dev.Sync()
}

func (m *maker) boot(fatSectors int64) []byte {
	b := make([]byte, m.v.sector)
	copy(b, []byte{0xeb, 0x58, 0x90})
	copy(b[3:], "JADETRL ")
	le.PutUint16(b[11:], uint16(m.v.sector))
	b[13] = byte(m.v.cluster / m.v.sector)
	le.PutUint16(b[14:], reserved)
	b[16], b[21] = 2, 0xf8
	le.PutUint16(b[24:], 63)
	le.PutUint16(b[26:], 255)
	le.PutUint32(b[28:], m.opt.Hidden)
	le.PutUint32(b[32:], uint32(m.v.sectors))
	le.PutUint32(b[36:], uint32(fatSectors))
	le.PutUint32(b[44:], 2)
	le.PutUint16(b[48:], 1)
	le.PutUint16(b[50:], 6)
	b[64], b[66] = 0x80, 0x29
	le.PutUint32(b[67:], m.opt.Serial)
	copy(b[71:], padded(m.opt.Label, 11))
	copy(b[82:], "FAT32   ")
	copy(b[90:], []byte{0xf4, 0xeb, 0xfd}) // nothing to start: halt
	b[510], b[511] = 0x55, 0xaa
	return b
}

func padded(s string, n int) string { return (s + strings.Repeat(" ", n))[:n] }

func (m *maker) plan() (*folder, error) {
	root := &folder{}
	for _, s := range m.opt.Files {
		p := path.Clean(strings.Trim(s.Path, "/"))
		if p == "." || strings.HasPrefix(p, "..") {
			return nil, fmt.Errorf("%q is not a file's path", s.Path)
		}
		parts := strings.Split(p, "/")
		d := root
		for _, part := range parts[:len(parts)-1] {
			i := slices.IndexFunc(d.subs, func(x *folder) bool { return strings.EqualFold(x.name, part) })
			if i < 0 {
				d.subs = append(d.subs, &folder{name: part, parent: d})
				i = len(d.subs) - 1
			}
			d = d.subs[i]
		}
		s.Path = parts[len(parts)-1]
		if slices.ContainsFunc(d.files, func(x volume.Source) bool { return strings.EqualFold(x.Path, s.Path) }) || slices.ContainsFunc(d.subs, func(x *folder) bool { return strings.EqualFold(x.name, s.Path) }) {
			return nil, fmt.Errorf("%q comes twice", p)
		}
		d.files = append(d.files, s)
	}
	return root, nil
}

// take allocates a chain of n clusters and returns the first.
func (m *maker) take(n uint32) (uint32, error) {
	if n == 0 {
		return 0, nil
	}
	if m.next-2+n > m.v.clusters {
		return 0, ErrFull
	}
	first := m.next
	for range n - 1 {
		m.next++
		m.table = append(m.table, m.next)
	}
	m.next++
	m.table = append(m.table, 0x0fffffff)
	return first, nil
}

// folder allocates and writes a folder and all below it.
func (m *maker) folder(d *folder) error {
	size := 64
	for _, f := range d.files {
		size += entrySize(f.Path)
	}
	for _, s := range d.subs {
		size += entrySize(s.name)
	}
	if size > maxFolder {
		return fmt.Errorf("%w: a folder has too many files", ErrFull)
	}
	var err error
	if d.first, err = m.take(uint32((disk.Bytes(size) + m.v.cluster - 1) / m.v.cluster)); err != nil {
		return err
	}
	var b []byte
	used := map[string]bool{}
	if d.parent == nil {
		if m.opt.Label != "" {
			b = append(b, shortEntry(padded(m.opt.Label, 11), attrLabel, 0, 0, m.opt.Time)...)
		}
	} else {
		up := d.parent.first
		if d.parent.parent == nil {
			up = 0
		}
		b = append(b, shortEntry(padded(".", 11), attrFolder, d.first, 0, m.opt.Time)...)
		b = append(b, shortEntry(padded("..", 11), attrFolder, up, 0, m.opt.Time)...)
	}
	for _, s := range d.subs {
		if err := m.folder(s); err != nil {
			return err
		}
		b = append(b, entries(s.name, attrFolder, s.first, 0, m.opt.Time, used)...)
	}
	for _, f := range d.files {
		first, err := m.take(uint32((disk.Bytes(len(f.Data)) + m.v.cluster - 1) / m.v.cluster))
		if err != nil {
			return err
		}
		if first != 0 {
			if _, err := m.dev.WriteAt(f.Data, int64(m.v.at(first))); err != nil {
				return err
			}
		}
		when := f.Modified
		if when.IsZero() {
			when = m.opt.Time
		}
		b = append(b, entries(f.Path, 0x20, first, uint32(len(f.Data)), when, used)...)
	}
	_, err = m.dev.WriteAt(b, int64(m.v.at(d.first)))
	return err
}

func entrySize(name string) int { return 32 * (1 + (len(utf16.Encode([]rune(name)))+12)/13) }

// entries are a short entry and the long name before it.
func entries(name string, attr byte, first, size uint32, when time.Time, used map[string]bool) []byte {
	short := shortName(name, used)
	long := append(utf16.Encode([]rune(name)), 0)
	for len(long)%13 != 0 {
		long = append(long, 0xffff)
	}
	if len(long)-13 >= len(utf16.Encode([]rune(name))) { // a full last entry needs no closing zero
		long = long[:len(long)-13]
	}
	sum := checksum([]byte(short))
	var b []byte
	for i := len(long)/13 - 1; i >= 0; i-- {
		e := make([]byte, 32)
		e[0] = byte(i + 1)
		if i == len(long)/13-1 {
			e[0] |= 0x40
		}
		e[11], e[13] = attrLong, sum
		part := long[i*13:]
		for j, at := range []int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30} {
			le.PutUint16(e[at:], part[j])
		}
		b = append(b, e...)
	}
	return append(b, shortEntry(short, attr, first, size, when)...)
}

// shortName makes a short name that is not yet used in its folder.
func shortName(name string, used map[string]bool) string {
	clean := func(s string, n int) string {
		var out []rune
		for _, c := range strings.ToUpper(s) {
			if len(out) < n && strings.ContainsRune("ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-", c) {
				out = append(out, c)
			}
		}
		return string(out)
	}
	ext := path.Ext(name)
	base, ext := clean(strings.TrimSuffix(name, ext), 8), clean(strings.TrimPrefix(ext, "."), 3)
	short := padded(base, 8) + padded(ext, 3)
	for i := 1; used[short] || base == ""; i++ {
		tail := fmt.Sprintf("~%d", i)
		short = padded(base[:min(len(base), 8-len(tail))]+tail, 8) + padded(ext, 3)
		if !used[short] {
			break
		}
	}
	used[short] = true
	return short
}

func shortEntry(short string, attr byte, first, size uint32, when time.Time) []byte {
	b := make([]byte, 32)
	copy(b, short)
	b[11] = attr
	when = when.UTC()
	date := uint16(max(when.Year()-1980, 0)<<9 | int(when.Month())<<5 | when.Day())
	clock := uint16(when.Hour()<<11 | when.Minute()<<5 | when.Second()/2)
	for _, at := range []int{14, 22} {
		le.PutUint16(b[at:], clock)
		le.PutUint16(b[at+2:], date)
	}
	le.PutUint16(b[18:], date)
	le.PutUint16(b[20:], uint16(first>>16))
	le.PutUint16(b[26:], uint16(first))
	le.PutUint32(b[28:], size)
	return b
}
