package ext

import (
	"bytes"
	"errors"
	"io"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// bare is a volume of 1000 blocks of 1 KiB on a device, without books of its own.
func bare(t *testing.T) *Volume {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "v"), 1000*disk.KiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return &Volume{dev: im, sb: make([]byte, 1024), block: 1024, blocks: 1000, first: 1, perGroup: 8192, inodes: 16, isize: 256, groups: []group{{bitmap: 3, inodeBitmap: 4, table: 5}}}
}

func (v *Volume) put(t *testing.T, block int64, b []byte) {
	t.Helper()
	if _, err := v.dev.WriteAt(b, block*1024); err != nil {
		t.Fatal(err)
	}
}

// node makes a node of an extent tree: its depth, then three numbers an entry.
func node(depth uint16, entries ...[3]uint32) []byte {
	b := make([]byte, max(60, 12+12*len(entries)))
	le.PutUint16(b, 0xf30a)
	le.PutUint16(b[2:], uint16(len(entries)))
	le.PutUint16(b[6:], depth)
	for i, e := range entries {
		p := b[12+12*i:]
		le.PutUint32(p, e[0])
		if depth > 0 {
			le.PutUint32(p[4:], e[2])
		} else {
			le.PutUint16(p[4:], uint16(e[1]))
			le.PutUint32(p[8:], e[2])
		}
	}
	return b
}

func places(ext []volume.Extent) string {
	var out []string
	for _, e := range ext {
		at := "hole"
		if e.Off >= 0 {
			at = disk.Grouped(int64(e.Off / 1024))
		}
		out = append(out, at+"+"+disk.Grouped(int64(e.Len/1024)))
	}
	return strings.Join(out, " ")
}

func TestExtentTree(t *testing.T) {
	v := bare(t)
	v.put(t, 50, node(0, [3]uint32{0, 4, 100}, [3]uint32{4, 2, 104}, [3]uint32{10, 32768 + 3, 200}))
	v.put(t, 51, node(0, [3]uint32{20, 1, 300}))
	file := &inode{size: 25 * 1024, flags: flagExtents, place: node(1, [3]uint32{0, 0, 50}, [3]uint32{20, 0, 51})}
	ext, err := v.extents(file)
	if want := "100+6 hole+14 300+1 hole+4"; err != nil || places(ext) != want {
		t.Errorf("%s, want %s, %v", places(ext), want, err)
	}
	for name, root := range map[string][]byte{
		"no magic":             make([]byte, 60),
		"more than there is":   node(0, [3]uint32{0, 1, 10}, [3]uint32{1, 1, 11}, [3]uint32{2, 1, 12}, [3]uint32{3, 1, 13}, [3]uint32{4, 1, 14})[:60],
		"beyond the volume":    node(0, [3]uint32{0, 4, 998}),
		"at the superblock":    node(0, [3]uint32{0, 4, 0}),
		"of no length":         node(0, [3]uint32{0, 0, 100}),
		"not in order":         node(0, [3]uint32{8, 4, 100}, [3]uint32{4, 4, 200}),
		"too deep":             node(9, [3]uint32{0, 0, 50}),
		"a child as deep":      node(0x2, [3]uint32{0, 0, 50}),
		"a child that is none": node(1, [3]uint32{0, 0, 60}),
		"a child outside":      node(1, [3]uint32{0, 0, 5000}),
	} {
		if ext, err := v.extents(&inode{size: 9000, flags: flagExtents, place: root}); !errors.Is(err, volume.ErrDamaged) {
			t.Errorf("%s: %s, %v", name, places(ext), err)
		}
	}
	v.put(t, 70, node(1, [3]uint32{0, 0, 70}))
	if _, err := v.extents(&inode{size: 9000, flags: flagExtents, place: node(2, [3]uint32{0, 0, 70})}); !errors.Is(err, volume.ErrDamaged) {
		t.Errorf("a tree that contains itself: %v", err)
	}
}

func TestLists(t *testing.T) {
	v := bare(t)
	place := make([]byte, 60)
	for i := range uint32(12) {
		le.PutUint32(place[4*i:], 100+i)
	}
	le.PutUint32(place[48:], 200)
	le.PutUint32(place[52:], 201)
	single, double, leaf := make([]byte, 1024), make([]byte, 1024), make([]byte, 1024)
	for i := range uint32(256) {
		if i != 5 { // a hole
			le.PutUint32(single[4*i:], 300+i)
		}
	}
	le.PutUint32(double[4:], 202) // the first 256 are a hole
	le.PutUint32(leaf, 700)
	v.put(t, 200, single)
	v.put(t, 201, double)
	v.put(t, 202, leaf)
	ext, err := v.extents(&inode{size: (12 + 256 + 256 + 2) * 1024, place: place})
	if want := "100+12 300+5 hole+1 306+250 hole+256 700+1 hole+1"; err != nil || places(ext) != want {
		t.Errorf("%s, want %s, %v", places(ext), want, err)
	}
	le.PutUint32(single[8:], 1<<31)
	v.put(t, 200, single)
	if _, err := v.extents(&inode{size: 100 * 1024, place: place}); !errors.Is(err, volume.ErrDamaged) {
		t.Errorf("a block outside: %v", err)
	}
	le.PutUint32(place, 5000)
	if _, err := v.extents(&inode{size: 1024, place: place}); !errors.Is(err, volume.ErrDamaged) {
		t.Errorf("a first block outside: %v", err)
	}
}

// entry makes one entry of a folder.
func entry(num uint32, length int, name string) []byte {
	b := make([]byte, length)
	le.PutUint32(b, num)
	le.PutUint16(b[4:], uint16(length))
	b[6] = byte(len(name))
	copy(b[8:], name)
	return b
}

func (v *Volume) putInode(t *testing.T, num int64, mode uint16, flags uint32, size uint32, place []byte) {
	t.Helper()
	b := make([]byte, 256)
	le.PutUint16(b, mode)
	le.PutUint32(b[4:], size)
	le.PutUint32(b[16:], 1795193445)
	le.PutUint32(b[32:], flags)
	copy(b[40:100], place)
	le.PutUint16(b[128:], 32)
	le.PutUint32(b[136:], 123456789<<2)
	if _, err := v.dev.WriteAt(b, 5*1024+(num-1)*256); err != nil {
		t.Fatal(err)
	}
}

func TestFolder(t *testing.T) {
	v := bare(t)
	v.put(t, 100, bytes.Join([][]byte{entry(2, 12, "."), entry(2, 12, ".."), entry(12, 20, "letter.txt"), entry(0, 16, "deleted"), entry(13, 16, "link"), entry(14, 948, "small")}, nil))
	v.putInode(t, 2, modeFolder|0o755, flagExtents, 1024, node(0, [3]uint32{0, 1, 100}))
	v.putInode(t, 12, modeFile|0o644, flagExtents, 11, node(0, [3]uint32{0, 1, 101}))
	v.putInode(t, 13, modeLink|0o777, 0, 10, []byte("letter.txt"))
	v.putInode(t, 14, modeFolder|0o755, flagInline, 60, append([]byte{2, 0, 0, 0}, entry(15, 56, "inline.txt")...))
	v.putInode(t, 15, modeFile|0o644, flagInline, 9, []byte("in the inode")[:9])
	v.put(t, 101, []byte("Dear Clover"))
	files, err := v.Files()
	var got []string
	for _, f := range files {
		got = append(got, f.Path+" "+string(f.Kind)+" "+f.Target)
		if f.Kind == volume.Plain && !f.Modified.Equal(time.Unix(1795193445, 123456789)) {
			t.Errorf("%s was changed %s", f.Path, f.Modified)
		}
	}
	if want := "letter.txt file |link link letter.txt|small folder |small/inline.txt file "; err != nil || strings.Join(got, "|") != want {
		t.Errorf("%q, %v", got, err)
	}
	for path, want := range map[string]string{"letter.txt": "Dear Clover", "small/inline.txt": "in the in"} {
		f, err := v.Stat(path)
		if err != nil {
			t.Fatal(path, err)
		}
		r, err := v.Open(f)
		if err != nil {
			t.Fatal(err)
		}
		if b, err := io.ReadAll(io.NewSectionReader(r, 0, int64(f.Bytes))); string(b) != want || err != nil {
			t.Errorf("%s: %q, %v", path, b, err)
		}
	}
	if _, err := v.Stat("LETTER.txt"); !errors.Is(err, volume.ErrNotFound) {
		t.Errorf("another case is the same name: %v", err)
	}
	for name, row := range map[string][]byte{"too short": entry(12, 12, "")[:8], "beyond the block": func() []byte { e := entry(12, 16, "x"); le.PutUint16(e[4:], 4000); return e }(), "a name longer than it": func() []byte { e := entry(12, 16, "x"); e[6] = 200; return e }(), "odd": func() []byte { e := entry(12, 16, "x"); le.PutUint16(e[4:], 13); return e }()} {
		if name == "too short" {
			le.PutUint16(row[4:], 4)
		}
		v.put(t, 100, row)
		if _, err := v.Files(); !errors.Is(err, volume.ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestSuperblockCopies(t *testing.T) {
	v := bare(t)
	le.PutUint32(v.sb[100:], 1)
	var got []int64
	for g := range int64(130) {
		if v.superAt(g) {
			got = append(got, g)
		}
	}
	if want := []int64{0, 1, 3, 5, 7, 9, 25, 27, 49, 81, 125}; len(got) != len(want) || got[10] != 125 || got[6] != 25 {
		t.Errorf("%v, want %v", got, want)
	}
	le.PutUint32(v.sb[92:], 0x200)
	le.PutUint32(v.sb[0x24c:], 1)
	le.PutUint32(v.sb[0x250:], 40)
	if !v.superAt(40) || v.superAt(3) || !v.superAt(0) {
		t.Error("with two copies only")
	}
	le.PutUint32(v.sb[100:], 0)
	if !v.superAt(4) {
		t.Error("without sparse copies every group has one")
	}
}
