package ntfs

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// packable is what the files in testdata hold, which another program has compressed:
// words, zeros, calls as in a program, and a stretch that does not compress.
func packable() []byte {
	rng := rand.New(rand.NewPCG(1047, 3))
	words := []string{"glaze", "kiln", "ash", "celadon", "cone", "bisque", "slip", "feldspar", "draws", "cools", "twice"}
	var b []byte
	for len(b) < 50000 {
		switch rng.IntN(12) {
		case 0:
			b = append(b, 0xe8)
			b = binary.LittleEndian.AppendUint32(b, uint32(5000-len(b)%32768))
		case 1:
			for range rng.IntN(40) {
				b = append(b, byte(rng.Uint32()))
			}
		case 2:
			for range rng.IntN(400) {
				b = append(b, 0)
			}
		default:
			b = append(append(b, words[rng.IntN(len(words))]...), ' ')
		}
	}
	b = b[:50000]
	for i := 16000; i < 28000; i++ {
		b[i] = byte(rng.Uint32())
	}
	return b
}

func TestSystemCompression(t *testing.T) {
	want := packable()
	for name, form := range map[string]systemForm{
		"xpress-4096": {chunk: 4096}, "xpress-8192": {chunk: 8192}, "xpress-16384": {chunk: 16384}, "lzx-32768": {chunk: 32768, lzx: true},
	} {
		packed, err := os.ReadFile("testdata/" + name + ".bin")
		if err != nil {
			t.Fatal(err)
		}
		r, err := newSystemUnpacker(&stream{value: packed, size: disk.Bytes(len(packed))}, 50000, form)
		if err != nil {
			t.Fatal(name, err)
		}
		got := make([]byte, len(want))
		if n, err := r.ReadAt(got, 0); err != nil || !bytes.Equal(got, want) {
			at := 0
			for at < n && got[at] == want[at] {
				at++
			}
			t.Errorf("%s: %d bytes, the first %d right, %v", name, n, at, err)
			continue
		}
		part := make([]byte, 9000)
		if _, err := r.ReadAt(part, 30000); err != nil || !bytes.Equal(part, want[30000:39000]) {
			t.Errorf("%s: from the middle: %v", name, err)
		}
		if _, err := r.ReadAt(part, 45000); err != io.EOF {
			t.Errorf("%s: past the end: %v", name, err)
		}
		// Damaged at any place: an error or other bytes, and never a panic.
		rng := rand.New(rand.NewPCG(1, 2))
		for range 300 {
			bad := bytes.Clone(packed)
			for range 1 + rng.IntN(4) {
				bad[rng.IntN(len(bad))] ^= byte(1 + rng.IntN(255))
			}
			bad = bad[:rng.IntN(len(bad))+1]
			if r, err := newSystemUnpacker(&stream{value: bad, size: disk.Bytes(len(bad))}, 50000, form); err == nil {
				r.ReadAt(got, 0)
			}
		}
	}
}

// pack compresses in the form of LZNT1, for tests only: it looks for matches in the
// simplest way.
func pack(in []byte) []byte {
	var out []byte
	for len(in) > 0 {
		chunk := in[:min(4096, len(in))]
		in = in[len(chunk):]
		var c []byte
		for i := 0; i < len(chunk); {
			flagAt := len(c)
			c = append(c, 0)
			for bit := 0; bit < 8 && i < len(chunk); bit++ {
				shift := 12
				for pos := i - 1; pos >= 16; pos >>= 1 {
					shift--
				}
				best, back := 0, 0
				for b := 1; b <= min(i, 1<<(16-shift)) && b < 600; b++ {
					n := 0
					for i+n < len(chunk) && n < 1<<shift+2 && chunk[i+n] == chunk[i+n-b] {
						n++
					}
					if n > best {
						best, back = n, b
					}
				}
				if best < 3 {
					c = append(c, chunk[i])
					i++
					continue
				}
				c[flagAt] |= 1 << bit
				c = le.AppendUint16(c, uint16((back-1)<<shift|(best-3)))
				i += best
			}
		}
		if len(c) >= len(chunk) {
			out = le.AppendUint16(out, uint16(len(chunk)-1)|0x3000)
			out = append(out, chunk...)
			continue
		}
		out = le.AppendUint16(out, uint16(len(c)-1)|0xb000)
		out = append(out, c...)
	}
	return out
}

func TestLZNT1(t *testing.T) {
	// The example of MS-XCA, section 3.2.
	given := []byte{0x38, 0xb0, 0x88, 0x46, 0x23, 0x20, 0x00, 0x20, 0x47, 0x20, 0x41, 0x00, 0x10, 0xa2, 0x47, 0x01, 0xa0, 0x45, 0x20, 0x44, 0x00, 0x08, 0x45, 0x01, 0x50, 0x79, 0x00, 0xc0,
		0x45, 0x20, 0x05, 0x24, 0x13, 0x88, 0x05, 0xb4, 0x02, 0x4a, 0x44, 0xef, 0x03, 0x58, 0x02, 0x8c, 0x09, 0x16, 0x01, 0x48, 0x45, 0x00, 0xbe, 0x00, 0x9e, 0x00, 0x04, 0x01, 0x18, 0x90, 0x00}
	text := "F# F# G A A G F# E D D E F# F# E E F# F# G A A G F# E D D E F# E D D E E F# D E F# G F# D E F# G F# E D E A F# F# G A A G F# E D D E F# E D D\x00"
	out := make([]byte, len(text))
	if err := lznt1(out, given); err != nil || string(out) != text {
		t.Errorf("%q, %v", out, err)
	}
	want := packable()
	got := make([]byte, len(want))
	if err := lznt1(got, pack(want)); err != nil || !bytes.Equal(got, want) {
		t.Errorf("packed and unpacked: %v", err)
	}
	rng := rand.New(rand.NewPCG(1, 2))
	good := pack(want[:9000])
	for range 300 {
		bad := bytes.Clone(good)
		for range 1 + rng.IntN(4) {
			bad[rng.IntN(len(bad))] ^= byte(1 + rng.IntN(255))
		}
		lznt1(got[:9000], bad[:rng.IntN(len(bad))])
	}
}

// TestCompressedFile reads a file of units that are stored, packed and left out.
func TestCompressedFile(t *testing.T) {
	want := append(packable()[:40000], make([]byte, 2*65536-40000)...)
	want = append(want, packable()[16000:28000]...)
	dev := image(t, 32*disk.MiB, 512)
	packed := append(pack(want[:65536]), 0, 0)
	packed = append(packed, make([]byte, 36864-len(packed))...) // nine clusters, then seven left out
	s := &stream{v: &Volume{dev: dev, boot: &boot{cluster: 4096, clusters: 8192}}, size: disk.Bytes(len(want)), initialised: disk.Bytes(len(want)), unit: 4, flags: 1}
	s.runs = []run{{0, 100, 9}, {9, -1, 7}, {16, -1, 16}, {32, 200, 3}, {35, -1, 13}}
	dev.WriteAt(packed, 100*4096)
	tail := append(pack(want[2*65536:]), 0, 0)
	dev.WriteAt(tail, 200*4096)
	r, err := newUnpacker(s)
	if err != nil {
		t.Fatal(err)
	}
	got := make([]byte, len(want))
	if n, err := r.ReadAt(got, 0); err != nil || !bytes.Equal(got, want) {
		t.Errorf("%d bytes, %v", n, err)
	}
	s.unit = 0
	if _, err := newUnpacker(s); !errors.Is(err, volume.ErrUnreadable) {
		t.Errorf("without a unit: %v", err)
	}
}

// FuzzUnpack decodes whatever bytes as each kind of compressed contents.
func FuzzUnpack(f *testing.F) {
	for _, name := range []string{"xpress-4096", "lzx-32768"} {
		b, err := os.ReadFile("testdata/" + name + ".bin")
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
		f.Add(b[100:9000])
	}
	f.Add(pack(packable()[:9000]))
	f.Fuzz(func(t *testing.T, b []byte) {
		out := make([]byte, 65536)
		lznt1(out, b)
		xpress(out[:16384], b)
		lzx(out[:32768], b)
		if len(b) == 0 {
			return
		}
		for _, form := range []systemForm{{chunk: 4096}, {chunk: 32768, lzx: true}} {
			if r, err := newSystemUnpacker(&stream{value: b, size: disk.Bytes(len(b))}, disk.Bytes(len(b))*3, form); err == nil {
				io.Copy(io.Discard, io.NewSectionReader(r, 0, 1<<20))
			}
		}
	})
}
