// Package ext reads, measures and checks ext2, ext3 and ext4 volumes, as the Linux
// kernel's documentation of ext4's data structures describes them; field names are
// those of that document.
package ext

import (
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/volume"
)

var le = binary.LittleEndian

// Features that change how a volume is read (s_feature_incompat).
const (
	incompatJournalDev = 0x8
	incompatRecover    = 0x4
	incompatMetaBG     = 0x10
	incompatExtents    = 0x40
	incompat64         = 0x80
	incompatFlexBG     = 0x200
	incompatInline     = 0x8000
	incompatEncrypt    = 0x10000
	incompatKnown      = 0x2 | incompatRecover | incompatMetaBG | incompatExtents | incompat64 | 0x100 | incompatFlexBG | 0x400 | 0x2000 | 0x4000 | incompatInline | incompatEncrypt | 0x20000
	roBigalloc         = 0x200
)

// Flags of an inode.
const (
	flagEncrypted = 0x800
	flagExtents   = 0x80000
	flagInline    = 0x10000000
	flagCompress  = 0x4
)

const rootInode = 2

// Volume is an ext volume on a device that begins where the volume begins.
type Volume struct {
	dev      disk.Device
	sb       []byte
	block    disk.Bytes
	blocks   int64
	first    int64 // first data block
	perGroup int64
	inodes   int64 // a group
	isize    disk.Bytes
	groups   []group
	incompat uint32
}

type group struct {
	bitmap, inodeBitmap, table int64
	free, unused               int64
	flags                      uint16
}

// Open recognises an ext volume. The device may be longer than the volume. A volume
// with features that are not known is volume.ErrUnreadable.
func Open(dev disk.Device) (*Volume, error) {
	if dev.Size() < 2048 {
		return nil, volume.ErrNotThis
	}
	b, err := disk.ReadFull(dev, 1024, 1024)
	if err != nil {
		return nil, err
	}
	if le.Uint16(b[56:]) != 0xef53 {
		return nil, volume.ErrNotThis
	}
	bad := func(what string, x any) (*Volume, error) {
		return nil, fmt.Errorf("%w: the ext superblock claims %s of %v", volume.ErrDamaged, what, x)
	}
	v := &Volume{dev: dev, sb: b, incompat: le.Uint32(b[96:]), isize: 128}
	if k := le.Uint32(b[24:]); k > 6 {
		return bad("a block size", fmt.Sprintf("2^%d KiB", k))
	}
	v.block = 1024 << le.Uint32(b[24:])
	if x := v.incompat &^ incompatKnown; x != 0 || le.Uint32(b[100:])&roBigalloc != 0 {
		return nil, fmt.Errorf("%w: an ext volume with features that are not known (%x)", volume.ErrUnreadable, x)
	}
	v.blocks, v.first = int64(le.Uint32(b[4:])), int64(le.Uint32(b[20:]))
	if v.incompat&incompat64 != 0 {
		v.blocks |= int64(le.Uint32(b[0x150:])) << 32
	}
	v.perGroup, v.inodes = int64(le.Uint32(b[32:])), int64(le.Uint32(b[40:]))
	if le.Uint32(b[76:]) > 0 {
		v.isize = disk.Bytes(le.Uint16(b[88:]))
	}
	switch {
	case v.blocks < 8 || v.blocks > int64(dev.Size()/v.block):
		return bad("blocks", v.blocks)
	case v.first > 1 || v.first >= v.blocks:
		return bad("a first block", v.first)
	case v.perGroup < 8 || v.perGroup > int64(v.block)*8:
		return bad("blocks in a group", v.perGroup)
	case v.isize < 128 || v.isize > v.block || v.isize&(v.isize-1) != 0:
		return bad("an inode size", v.isize)
	case v.inodes == 0 || v.inodes > int64(v.block)*8:
		return bad("inodes in a group", v.inodes)
	}
	return v, v.readGroups()
}

// readGroups reads the group descriptors, which follow the superblock, or with
// meta_bg lie in the first group of those they describe.
func (v *Volume) readGroups() error {
	size := disk.Bytes(32)
	if v.incompat&incompat64 != 0 {
		if size = disk.Bytes(le.Uint16(v.sb[254:])); size < 32 || size > v.block || size&(size-1) != 0 {
			return fmt.Errorf("%w: the ext superblock claims group descriptors of %d bytes", volume.ErrDamaged, size)
		}
	}
	n := (v.blocks - v.first + v.perGroup - 1) / v.perGroup
	per := int64(v.block / size)
	if n*int64(size) > 64<<20 {
		return fmt.Errorf("%w: the ext superblock claims %d groups", volume.ErrDamaged, n)
	}
	firstMeta := int64(le.Uint32(v.sb[0x104:]))
	for i := int64(0); i < n; i += per {
		at := v.first + 1 + i/per
		if v.incompat&incompatMetaBG != 0 && i/per >= firstMeta {
			at = v.first + i*v.perGroup
			if v.superAt(i) {
				at++
			}
		}
		if at >= v.blocks {
			return fmt.Errorf("%w: group descriptors at block %d of %d", volume.ErrDamaged, at, v.blocks)
		}
		b, err := disk.ReadFull(v.dev, disk.Bytes(at)*v.block, v.block)
		if err != nil {
			return err
		}
		for k := int64(0); k < per && i+k < n; k++ {
			d := b[k*int64(size):][:size]
			g := group{
				int64(le.Uint32(d)), int64(le.Uint32(d[4:])), int64(le.Uint32(d[8:])), int64(le.Uint16(d[12:])),
				int64(le.Uint16(d[28:])), le.Uint16(d[18:]),
			}
			if size >= 64 {
				g.bitmap |= int64(le.Uint32(d[32:])) << 32
				g.inodeBitmap |= int64(le.Uint32(d[36:])) << 32
				g.table |= int64(le.Uint32(d[40:])) << 32
				g.free |= int64(le.Uint16(d[44:])) << 16
				g.unused |= int64(le.Uint16(d[50:])) << 16
			}
			tableEnd := g.table + int64((disk.Bytes(v.inodes)*v.isize+v.block-1)/v.block)
			if g.bitmap <= 0 || g.bitmap >= v.blocks || g.inodeBitmap <= 0 || g.inodeBitmap >= v.blocks || g.table <= 0 || tableEnd > v.blocks {
				return fmt.Errorf("%w: group %d keeps its books outside the volume", volume.ErrDamaged, i+k)
			}
			v.groups = append(v.groups, g)
		}
	}
	return nil
}

// superAt tells whether a group begins with a copy of the superblock.
func (v *Volume) superAt(g int64) bool {
	if g == 0 || le.Uint32(v.sb[100:])&1 == 0 { // sparse_super
		return true
	}
	if le.Uint32(v.sb[92:])&0x200 != 0 { // sparse_super2
		return g == int64(le.Uint32(v.sb[0x24c:])) || g == int64(le.Uint32(v.sb[0x250:]))
	}
	for _, p := range []int64{3, 5, 7} {
		x := p
		for x < g {
			x *= p
		}
		if x == g {
			return true
		}
	}
	return g == 1
}

func (v *Volume) readBlock(n int64) ([]byte, error) {
	if n <= 0 || n >= v.blocks {
		return nil, fmt.Errorf("%w: block %d of %d", volume.ErrDamaged, n, v.blocks)
	}
	return disk.ReadFull(v.dev, disk.Bytes(n)*v.block, v.block)
}

// inode is one file's record.
type inode struct {
	num      int64
	mode     uint16
	flags    uint32
	size     disk.Bytes
	blocks   disk.Bytes // taken
	modified time.Time
	links    uint16
	place    []byte // i_block
}

const (
	modeType   = 0xf000
	modeFile   = 0x8000
	modeFolder = 0x4000
	modeLink   = 0xa000
)

func (v *Volume) inode(num int64) (*inode, error) {
	if num < 1 || num > v.inodes*int64(len(v.groups)) {
		return nil, fmt.Errorf("%w: there is no inode %d", volume.ErrDamaged, num)
	}
	g, i := v.groups[(num-1)/v.inodes], disk.Bytes((num-1)%v.inodes)
	b, err := disk.ReadFull(v.dev, disk.Bytes(g.table)*v.block+i*v.isize, v.isize)
	if err != nil {
		return nil, err
	}
	return v.parseInode(num, b), nil
}

func (v *Volume) parseInode(num int64, b []byte) *inode {
	n := &inode{num: num, mode: le.Uint16(b), flags: le.Uint32(b[32:]), links: le.Uint16(b[26:]), place: b[40:100]}
	n.size = disk.Bytes(le.Uint32(b[4:])) | disk.Bytes(min(le.Uint32(b[108:]), 1<<28))<<32
	n.blocks = disk.Bytes(le.Uint32(b[28:])) * 512
	sec, nsec := int64(int32(le.Uint32(b[16:]))), int64(0)
	if len(b) >= 140 && le.Uint16(b[128:]) >= 12 { // i_mtime_extra
		x := le.Uint32(b[136:])
		sec += int64(x&3) << 32
		nsec = int64(x >> 2)
	}
	n.modified = time.Unix(sec, nsec).UTC()
	return n
}

// maxExtents bounds the pieces of one file.
const maxExtents = 1 << 20

// extents returns where a file's contents lie; what is not there, or was never
// written, is a hole.
func (v *Volume) extents(n *inode) ([]volume.Extent, error) {
	m, err := v.mapped(n, int64((n.size+v.block-1)/v.block))
	if tail := m.left - m.next; tail > 0 && err == nil {
		m.hole(tail)
	}
	return m.out, err
}

// mapped reads a file's extents up to a number of blocks.
func (v *Volume) mapped(n *inode, left int64) (*mapper, error) {
	m := &mapper{v: v, left: left}
	if n.flags&flagExtents != 0 {
		return m, m.tree(n.place, -1)
	}
	for i := range 12 {
		k := int64(le.Uint32(n.place[4*i:]))
		if k >= v.blocks {
			return m, fmt.Errorf("%w: a file's contents lie at block %d of %d", volume.ErrDamaged, k, v.blocks)
		}
		m.put(int64(i), 1, k)
	}
	at := int64(12)
	for depth := 1; depth <= 3; depth++ {
		if err := m.indirect(int64(le.Uint32(n.place[44+4*depth:])), depth, &at); err != nil {
			return m, err
		}
	}
	return m, nil
}

// mapper collects a file's extents in order.
type mapper struct {
	v    *Volume
	next int64 // block of the file
	left int64 // blocks of the file in all
	out  []volume.Extent
	read int
	used []int64 // blocks of the file's own books
}

// put adds n blocks that begin at block at of the file and at place on the volume,
// 0 for a hole. What lies behind the file's end is left out.
func (m *mapper) put(at, n, place int64) {
	if at > m.next {
		m.hole(min(at, m.left) - m.next)
	}
	if n = min(n, m.left-at); n <= 0 || at < m.next {
		return
	}
	if place == 0 {
		m.hole(n)
		return
	}
	off, l := disk.Bytes(place)*m.v.block, disk.Bytes(n)*m.v.block
	if k := len(m.out); k > 0 && m.out[k-1].Off >= 0 && m.out[k-1].Off+m.out[k-1].Len == off {
		m.out[k-1].Len += l
	} else {
		m.out = append(m.out, volume.Extent{Off: off, Len: l})
	}
	m.next += n
}

func (m *mapper) hole(n int64) {
	if n <= 0 {
		return
	}
	l := disk.Bytes(n) * m.v.block
	if k := len(m.out); k > 0 && m.out[k-1].Off < 0 {
		m.out[k-1].Len += l
	} else {
		m.out = append(m.out, volume.Extent{Off: -1, Len: l})
	}
	m.next += n
}

func (m *mapper) block(n int64) ([]byte, error) {
	if m.read++; m.read > maxExtents/64 {
		return nil, fmt.Errorf("%w: a file's list of blocks does not end", volume.ErrDamaged)
	}
	m.used = append(m.used, n)
	return m.v.readBlock(n)
}

// tree reads a node of the extent tree; depth is what the node above said, -1 for
// the root.
func (m *mapper) tree(b []byte, depth int) error {
	bad := func() error { return fmt.Errorf("%w: a tree of extents is not valid", volume.ErrDamaged) }
	if le.Uint16(b) != 0xf30a {
		return bad()
	}
	count, d := int(le.Uint16(b[2:])), int(le.Uint16(b[6:]))
	if depth >= 0 && d != depth-1 || d > 5 || 12+12*count > len(b) {
		return bad()
	}
	for i := range count {
		e := b[12+12*i:]
		if d > 0 {
			c, err := m.block(int64(le.Uint32(e[4:])) | int64(le.Uint16(e[8:]))<<32)
			if err == nil {
				err = m.tree(c, d)
			}
			if err != nil {
				return err
			}
			continue
		}
		at, n := int64(le.Uint32(e)), int64(le.Uint16(e[4:]))
		place := int64(le.Uint32(e[8:])) | int64(le.Uint16(e[6:]))<<32
		never := n > 32768
		if never {
			n -= 32768
		}
		if n == 0 || place <= 0 || place > m.v.blocks-n || at < m.next || len(m.out) > maxExtents {
			return bad()
		}
		if never { // reserved, reads as zeros
			place = 0
		}
		m.put(at, n, place)
	}
	return nil
}

// indirect reads a block that lists blocks, or blocks that list them.
func (m *mapper) indirect(n int64, depth int, at *int64) error {
	per := int64(m.v.block / 4)
	span := int64(1)
	for range depth {
		span *= per
	}
	if n == 0 || *at >= m.left {
		*at += span
		return nil
	}
	b, err := m.block(n)
	if err != nil {
		return err
	}
	for i := range per {
		k := int64(le.Uint32(b[4*i:]))
		if depth > 1 {
			if err := m.indirect(k, depth-1, at); err != nil {
				return err
			}
			continue
		}
		if k >= m.v.blocks || len(m.out) > maxExtents {
			return fmt.Errorf("%w: a file's contents lie at block %d of %d", volume.ErrDamaged, k, m.v.blocks)
		}
		if *at < m.left {
			m.put(*at, 1, k)
		}
		*at++
	}
	return nil
}

// maxFolder bounds a folder's length.
const maxFolder = 512 * disk.MiB

// entries calls f for the entries of a folder from byte from on, with the place
// behind each, until f returns false. A folder with an index reads the same way: its
// inner nodes look like unused entries.
func (v *Volume) entries(num, from int64, f func(num int64, name []byte, next int64) bool) error {
	n, err := v.inode(num)
	if err != nil {
		return err
	}
	switch {
	case n.mode&modeType != modeFolder || n.size > maxFolder:
		return fmt.Errorf("%w: inode %d is no folder", volume.ErrDamaged, num)
	case n.flags&flagEncrypted != 0:
		return fmt.Errorf("%w: the folder is encrypted", volume.ErrUnreadable)
	case n.flags&flagInline != 0:
		return v.inlineEntries(n, from, f)
	}
	ext, err := v.extents(n)
	if err != nil {
		return err
	}
	r := volume.NewContents(v.dev, ext, n.size, n.size)
	b := make([]byte, v.block)
	for at := from - from%int64(v.block); disk.Bytes(at) < n.size; at += int64(v.block) {
		if k, err := r.ReadAt(b, at); err != nil && (err != io.EOF || k < len(b)) {
			return fmt.Errorf("%w: a folder's length is no whole number of blocks", volume.ErrDamaged)
		}
		if more, err := v.row(b, at, from, f); err != nil || !more {
			return err
		}
	}
	return nil
}

// row reads the entries of one block of a folder.
func (v *Volume) row(b []byte, at, from int64, f func(num int64, name []byte, next int64) bool) (more bool, err error) {
	for off := 0; off+8 <= len(b); {
		e := b[off:]
		n := int(le.Uint16(e[4:]))
		if len(b) == 65536 && (n == 0xffff || n == 0) {
			n = 65536
		}
		if n < 8 || n > len(e) || n%4 != 0 || 8+int(e[6]) > n {
			return false, fmt.Errorf("%w: an entry of a folder is not valid", volume.ErrDamaged)
		}
		name := e[8 : 8+int(e[6])]
		if k := le.Uint32(e); k != 0 && at+int64(off) >= from && len(name) > 0 && string(name) != "." && string(name) != ".." {
			if !f(int64(k), name, at+int64(off+n)) {
				return false, nil
			}
		}
		off += n
	}
	return true, nil
}

// inlineEntries reads a small folder that lies in its inode: four bytes for the one
// above, then entries.
func (v *Volume) inlineEntries(n *inode, from int64, f func(num int64, name []byte, next int64) bool) error {
	if n.size > 60 {
		return fmt.Errorf("%w: a folder is kept among extended attributes", volume.ErrUnreadable)
	}
	_, err := v.row(n.place[4:max(n.size, 4)], 4, from, f)
	return err
}

func (v *Volume) folders() volume.Folders[int64] {
	return volume.Folders[int64]{Root: rootInode, Same: func(a, b string) bool { return a == b },
		Read: func(folder, from int64, f func(volume.Entry[int64], int64) bool) error {
			return v.entries(folder, from, func(num int64, name []byte, next int64) bool {
				shown, misnamed := volume.Name(string(name))
				e := volume.Entry[int64]{File: volume.File{Path: shown, Kind: volume.Plain, ID: uint64(num)}}
				n, err := v.inode(num)
				if err != nil {
					e.File.Unreadable = err.Error()
					return f(e, next)
				}
				v.describe(&e.File, n)
				if e.File.Kind == volume.Folder && e.File.Unreadable == "" {
					e.Enter = &num
				}
				e.File.Unreadable = cmp.Or(e.File.Unreadable, misnamed)
				return f(e, next)
			})
		}}
}

func (v *Volume) describe(f *volume.File, n *inode) {
	f.Modified, f.Allocated = n.modified, n.blocks
	switch n.mode & modeType {
	case modeFolder:
		f.Kind = volume.Folder
	case modeLink:
		f.Kind, f.Bytes = volume.Link, n.size
		if n.size < 60 && n.flags&flagExtents == 0 {
			f.Target = string(n.place[:n.size])
			return
		}
	case modeFile:
		f.Bytes = n.size
	default:
		f.Kind, f.Target = volume.Link, "a device, pipe or socket"
		return
	}
	switch {
	case n.flags&flagEncrypted != 0:
		f.Unreadable = "encrypted"
		return
	case n.flags&flagCompress != 0:
		f.Unreadable = "compressed"
		return
	case n.flags&flagInline != 0:
		if n.size > 60 {
			f.Unreadable = "kept among extended attributes"
		}
		f.Stored = "in its inode"
		return
	}
	ext, err := v.extents(n)
	if f.Extents = ext; err != nil {
		f.Unreadable = err.Error()
	}
	if f.Kind == volume.Link && err == nil && n.size <= 4096 {
		b := make([]byte, n.size)
		if _, err := volume.NewContents(v.dev, ext, n.size, n.size).ReadAt(b, 0); err == nil {
			f.Target = string(b)
		}
	}
}

// Walk implements volume.Volume.
func (v *Volume) Walk(visit func(volume.File) error) error { return v.folders().Walk(visit) }

// List implements volume.Volume.
func (v *Volume) List(dir, from string, limit int) ([]volume.File, string, error) {
	return v.folders().List(dir, from, limit)
}

// Stat implements volume.Volume.
func (v *Volume) Stat(path string) (volume.File, error) { return v.folders().Stat(path) }

// Files implements volume.Volume.
func (v *Volume) Files() ([]volume.File, error) { return volume.Collect(v.Walk) }

// HasFolders tells whether the folders lie one in the other below the root.
func (v *Volume) HasFolders(names ...string) bool {
	_, _, err := v.folders().Find(strings.Join(names, "/"))
	return err == nil
}

// Open implements volume.Volume.
func (v *Volume) Open(f volume.File) (io.ReaderAt, error) {
	if f.Unreadable != "" {
		return nil, fmt.Errorf("%s: %w: %s", f.Path, volume.ErrUnreadable, f.Unreadable)
	}
	n, err := v.inode(int64(f.ID))
	if err != nil {
		return nil, err
	}
	if n.flags&flagInline != 0 {
		return strings.NewReader(string(n.place[:min(n.size, 60)])), nil
	}
	ext, err := v.extents(n)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Path, err)
	}
	return volume.NewContents(v.dev, ext, n.size, n.size), nil
}

// own marks what the volume's own books take: copies of the superblock and of the
// descriptors, bitmaps, tables of inodes.
func (v *Volume) own(mark func(from, to int64)) {
	size := int64(32)
	if v.incompat&incompat64 != 0 {
		size = int64(le.Uint16(v.sb[254:]))
	}
	per := int64(v.block) / size
	rows := (int64(len(v.groups)) + per - 1) / per
	old := rows
	if v.incompat&incompatMetaBG != 0 {
		old = min(rows, int64(le.Uint32(v.sb[0x104:])))
	}
	reserved := int64(le.Uint16(v.sb[206:])) // s_reserved_gdt_blocks
	table := int64((disk.Bytes(v.inodes)*v.isize + v.block - 1) / v.block)
	mark(0, v.first)
	for i, g := range v.groups {
		at := v.first + int64(i)*v.perGroup
		if super := v.superAt(int64(i)); super {
			n := 1 + old
			if old > 0 {
				n += reserved
			}
			mark(at, min(at+n, v.blocks))
			at++
		}
		if meta := int64(i) / per; v.incompat&incompatMetaBG != 0 && meta >= old {
			if k := int64(i) % per; k == 0 || k == 1 || k == per-1 {
				mark(at, at+1)
			}
		}
		mark(g.bitmap, g.bitmap+1)
		mark(g.inodeBitmap, g.inodeBitmap+1)
		mark(g.table, g.table+table)
	}
}

// used returns the blocks in use: by the groups' bitmaps, of which those that were
// never written count as free but for the volume's own books.
func (v *Volume) used() (volume.Set, error) {
	s := volume.NewSet(v.blocks)
	v.own(func(from, to int64) { s.Add(from, min(to, v.blocks)) })
	for i, g := range v.groups {
		if g.flags&2 != 0 { // BLOCK_UNINIT
			continue
		}
		start := v.first + int64(i)*v.perGroup
		n := min(v.perGroup, v.blocks-start)
		w := disk.NewWindow(v.dev, disk.Bytes(g.bitmap)*v.block, v.block)
		if err := volume.EachSet(w, n, func(from, to int64) error { s.Add(start+from, start+to); return nil }); err != nil {
			return s, err
		}
	}
	return s, nil
}

func (v *Volume) eachUsed(f func(from, to int64)) error {
	s, err := v.used()
	if err != nil {
		return err
	}
	s.Each(f)
	return nil
}

// Info implements volume.Volume.
func (v *Volume) Info() (volume.Info, error) {
	i := volume.Info{Kind: volume.Ext2, Label: strings.TrimRight(string(v.sb[120:136]), "\x00"), Serial: hex.EncodeToString(v.sb[104:120]),
		ClusterBytes: v.block, TotalBytes: disk.Bytes(v.blocks) * v.block}
	// A journal makes ext3, extents or what came with them ext4.
	compat, ro := le.Uint32(v.sb[92:]), le.Uint32(v.sb[100:])
	if compat&4 != 0 {
		i.Kind = volume.Ext3
	}
	if v.incompat&(incompatExtents|incompat64|incompatFlexBG|incompatInline) != 0 || ro&0x478 != 0 {
		i.Kind = volume.Ext4
	}
	i.Clean = le.Uint16(v.sb[58:])&3 == 1 && v.incompat&incompatRecover == 0
	d := volume.NewDrawn(v.blocks)
	if err := v.eachUsed(d.Add); err != nil {
		return i, err
	}
	i.UsedBytes, i.Use = disk.Bytes(d.Used)*v.block, d.Use()
	i.ShrinkCut, i.ShrinkMin = disk.Bytes(d.Last+1)*v.block, i.UsedBytes
	return i, nil
}

// Allocated implements volume.Volume.
func (v *Volume) Allocated(f func(start, end disk.Bytes) error) error {
	var stop error
	err := v.eachUsed(func(from, to int64) {
		if stop == nil {
			stop = f(disk.Bytes(from)*v.block, disk.Bytes(to)*v.block)
		}
	})
	if err == nil {
		err = stop
	}
	if tail := disk.Bytes(v.blocks) * v.block; err == nil && tail < v.dev.Size() {
		err = f(tail, v.dev.Size())
	}
	return err
}

// Fingerprint implements volume.Volume: the superblock, the descriptors, the bitmaps
// and the used part of the tables of inodes.
func (v *Volume) Fingerprint() (string, error) {
	h := blake3.New()
	h.Write(v.sb)
	for i, g := range v.groups {
		fmt.Fprintf(h, "%d %v\n", i, g)
		for _, n := range []int64{g.bitmap, g.inodeBitmap} {
			if err := volume.HashStored(h, v.dev, disk.Bytes(n)*v.block, disk.Bytes(n+1)*v.block); err != nil {
				return "", err
			}
		}
		at := disk.Bytes(g.table) * v.block
		if err := volume.HashStored(h, v.dev, at, at+disk.Bytes(max(v.inodes-g.unused, 0))*v.isize); err != nil {
			return "", err
		}
	}
	return volume.HashFiles(h, v)
}

// Agrees implements volume.Volume.
func (v *Volume) Agrees() bool { l := v.Check(); return l.FirstError() == nil }

// Check implements volume.Volume: the counts of the superblock, and every file's
// blocks against the bitmaps.
func (v *Volume) Check() finding.List {
	var l finding.List
	switch {
	case v.incompat&incompatRecover != 0:
		l.Add(
			finding.Warning, "not-clean",
			"The volume was not closed: its journal has changes that are not in place yet.",
		)
	case le.Uint16(v.sb[58:])&1 == 0:
		l.Add(finding.Warning, "not-clean", "The volume was not closed.")
	case le.Uint16(v.sb[58:])&2 != 0:
		l.Add(finding.Warning, "not-clean", "The system has found errors on the volume; it waits for a check.")
	}
	marked, err := v.used()
	if err != nil {
		l.Add(finding.Error, "bitmap-unreadable", "The bitmaps of blocks cannot be read: %v.", err)
		return l
	}
	used := volume.NewSet(v.blocks)
	v.own(func(from, to int64) { used.Add(from, min(to, v.blocks)) })
	say := func(code, format string, args ...any) {
		if len(l) < 50 {
			l.Add(finding.Error, code, format, args...)
		}
	}
	seen := map[int64]bool{}
	take := func(num int64, what string) {
		if seen[num] {
			return
		}
		seen[num] = true
		n, err := v.inode(num)
		if err != nil {
			say("file-damaged", "%s: %s.", what, err)
			return
		}
		if t := n.mode & modeType; n.flags&(flagInline|flagEncrypted) != 0 && n.flags&flagExtents == 0 || t != modeFile && t != modeFolder && t != modeLink && t != 0 || t == modeLink && n.size < 60 {
			return
		}
		left := int64((n.size + v.block - 1) / v.block)
		if n.flags&flagExtents != 0 {
			left = 1 << 40 // also what was reserved behind the end
		}
		m, err := v.mapped(n, left)
		if err != nil {
			say("file-damaged", "%s: %s.", what, err)
		}
		for _, k := range m.used {
			if k > 0 && k < v.blocks && used.Add(k, k+1) {
				say("clusters-shared", "%s uses blocks that something else uses too.", what)
			}
		}
		for _, e := range m.out {
			if e.Off >= 0 && used.Add(int64(e.Off/v.block), int64((e.Off+e.Len)/v.block)) {
				say("clusters-shared", "%s uses blocks that something else uses too.", what)
			}
		}
	}
	for num := int64(1); num < max(int64(le.Uint32(v.sb[84:])), 11); num++ {
		if num == 7 { // keeps the room for more descriptors, which counts as the volume's own
			continue
		}
		take(num, fmt.Sprintf("the volume's own file %d", num))
	}
	err = v.Walk(func(f volume.File) error {
		if f.Unreadable == volume.Misnamed {
			say("name-damaged", "%s: %s.", f.Path, f.Unreadable)
		}
		take(int64(f.ID), f.Path)
		return nil
	})
	if err != nil {
		say("files-unreadable", "The folders cannot be read: %v.", err)
		return l
	}
	var only finding.List
	used.Compare(marked, &only)
	for _, f := range only {
		// Blocks of extended attributes and what was reserved behind a file's end are
		// not followed here.
		if f.Severity == finding.Error {
			l = append(l, f)
		}
	}
	if free := v.blocks - marked.Count(); le.Uint16(v.sb[58:])&1 != 0 && v.incompat&incompatRecover == 0 {
		said := int64(le.Uint32(v.sb[12:]))
		if v.incompat&incompat64 != 0 {
			said |= int64(le.Uint32(v.sb[0x158:])) << 32
		}
		if said != free {
			l.Add(finding.Note, "free-count", "The superblock counts %d free blocks, the bitmaps %d.", said, free)
		}
	}
	return l
}
