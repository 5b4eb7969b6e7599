package fat

import (
	"bytes"
	"io"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// small makes a FAT12 or FAT16 volume by hand, as old sticks have them: a root
// folder of fixed size, one folder, and a file scattered over every other cluster.
func small(t *testing.T, bits int, sectors int) (*disk.Image, []byte) {
	t.Helper()
	const spc, rootEntries = 2, 64
	im := image(t, disk.Bytes(sectors)*512, 512)
	perFAT := (sectors/spc*bits/8 + 511) / 512
	b := make([]byte, 512)
	copy(b, []byte{0xeb, 0x3c, 0x90})
	le.PutUint16(b[11:], 512)
	b[13] = spc
	le.PutUint16(b[14:], 1)
	b[16] = 2
	le.PutUint16(b[17:], rootEntries)
	le.PutUint16(b[19:], uint16(sectors))
	b[21] = 0xf8
	le.PutUint16(b[22:], uint16(perFAT))
	b[38] = 0x29
	le.PutUint32(b[39:], 0xfeed1046)
	copy(b[43:], "STICK      ")
	copy(b[54:], map[int]string{12: "FAT12   ", 16: "FAT16   "}[bits])
	b[510], b[511] = 0x55, 0xaa
	im.WriteAt(b, 0)

	fat := make([]byte, perFAT*512)
	set := func(c, v int) {
		if bits == 16 {
			le.PutUint16(fat[2*c:], uint16(v))
			return
		}
		at := c * 3 / 2
		w := le.Uint16(fat[at:])
		if c&1 != 0 {
			w = w&0x000f | uint16(v)<<4
		} else {
			w = w&0xf000 | uint16(v)&0x0fff
		}
		le.PutUint16(fat[at:], w)
	}
	end := 1<<bits - 1
	set(0, end-7)
	set(1, end)
	set(2, end) // the folder
	data := bytes.Repeat([]byte("till roll "), 700)
	chain := []int{}
	for c := 5; len(chain) < (len(data)+1023)/1024; c += 2 {
		chain = append(chain, c)
	}
	for i, c := range chain {
		next := end
		if i+1 < len(chain) {
			next = chain[i+1]
		}
		set(c, next)
	}
	set(400, 1<<bits-9) // a bad cluster
	im.WriteAt(fat, 512)
	im.WriteAt(fat, int64(512+len(fat)))
	root := int64(512 + 2*len(fat))
	dataStart := root + rootEntries*32
	im.WriteAt(slicesOf(shortEntry("STICK      ", attrLabel, 0, 0, day), shortEntry("TILLS      ", attrFolder, 2, 0, day)), root)
	im.WriteAt(slicesOf(shortEntry(padded(".", 11), attrFolder, 2, 0, day), shortEntry(padded("..", 11), attrFolder, 0, 0, day),
		shortEntry("ROLL    TXT", 0x20, uint32(chain[0]), uint32(len(data)), day), append([]byte{0xe5}, shortEntry("GONE    TXT", 0x20, 90, 5, day)[1:]...)), dataStart)
	for i, c := range chain {
		im.WriteAt(data[i*1024:min((i+1)*1024, len(data))], dataStart+int64(c-2)*1024)
	}
	return im, data
}

// TestNotClosed has volumes say that they were not closed: in the second entry of the table, as FAT16
// has it, or in the boot sector, as every FAT can.
func TestNotClosed(t *testing.T) {
	for _, c := range []struct {
		name   string
		bits   int
		spoil  func(im *disk.Image)
		closed bool
	}{
		{"FAT16", 16, func(*disk.Image) {}, true},
		{"FAT12", 12, func(*disk.Image) {}, true},
		{"FAT16, open in its table", 16, func(im *disk.Image) { im.WriteAt([]byte{0xff, 0x7f}, 512+2) }, false},
		{"FAT16, its medium failed", 16, func(im *disk.Image) { im.WriteAt([]byte{0xff, 0xbf}, 512+2) }, false},
		{"FAT16, open in its boot sector", 16, func(im *disk.Image) { im.WriteAt([]byte{1}, 37) }, false},
		{"FAT12, open in its boot sector", 12, func(im *disk.Image) { im.WriteAt([]byte{1}, 37) }, false},
		{"FAT12, the flag of a test of its medium", 12, func(im *disk.Image) { im.WriteAt([]byte{2}, 37) }, true},
		{"FAT12, without a signature before the flag", 12, func(im *disk.Image) { im.WriteAt([]byte{1, 0}, 37) }, true},
	} {
		im, _ := small(t, c.bits, map[int]int{12: 4000, 16: 20000}[c.bits])
		c.spoil(im)
		i, err := mustOpen(t, im).Info()
		if err != nil || i.Clean != c.closed {
			t.Errorf("%s: closed %v, want %v, %v", c.name, i.Clean, c.closed, err)
		}
	}
}

func slicesOf(bs ...[]byte) []byte { return bytes.Join(bs, nil) }

func TestSmallVolumes(t *testing.T) {
	for kind, c := range map[volume.Kind][2]int{volume.FAT12: {12, 4000}, volume.FAT16: {16, 20000}} {
		im, data := small(t, c[0], c[1])
		v, err := Open(im)
		if err != nil {
			t.Fatal(kind, err)
		}
		i, err := v.Info()
		if err != nil || i.Kind != kind || i.Label != "STICK" || i.Serial != "feed1046" || i.ClusterBytes != 1024 {
			t.Errorf("%s: %+v, %v", kind, i, err)
		}
		if want := disk.Bytes(1+7+1) * 1024; i.UsedBytes != want {
			t.Errorf("%s: %d bytes used, want %d", kind, i.UsedBytes, want)
		}
		files, err := v.Files()
		if err != nil || len(files) != 2 || files[0].Path != "TILLS" || files[1].Path != "TILLS/ROLL.TXT" {
			t.Fatalf("%s: %+v, %v", kind, files, err)
		}
		if len(files[1].Extents) != 7 || files[1].Allocated != 7*1024 {
			t.Errorf("%s: in %d pieces of %d bytes", kind, len(files[1].Extents), files[1].Allocated)
		}
		r, err := v.Open(files[1])
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(io.NewSectionReader(r, 0, int64(files[1].Bytes)))
		if err != nil || !bytes.Equal(got, data) {
			t.Errorf("%s: %d bytes, %v", kind, len(got), err)
		}
		at := make([]byte, 3000)
		if n, err := r.ReadAt(at, 2500); n != 3000 || err != nil || !bytes.Equal(at, data[2500:5500]) {
			t.Errorf("%s: from the middle: %d, %v", kind, n, err)
		}
		if n, err := r.ReadAt(at, int64(len(data))-10); n != 10 || err != io.EOF {
			t.Errorf("%s: at the end: %d, %v", kind, n, err)
		}
		if l := v.Check(); l.FirstError() != nil {
			t.Errorf("%s: %+v", kind, l)
		}
		// A chain that runs in a circle is damage, not an endless file.
		table, _ := v.fat()
		table[9] = 5
		files, _ = v.Files()
		if files[1].Unreadable == "" {
			t.Errorf("%s: a circle was taken for a file", kind)
		}
		if _, err := v.Open(files[1]); err == nil {
			t.Errorf("%s: damaged contents were opened", kind)
		}
	}
}
