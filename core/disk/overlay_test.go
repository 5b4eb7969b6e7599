package disk

import (
	"bytes"
	"math/rand/v2"
	"testing"
)

// TestOverlayAgainstPlainBytes writes, refers, moves and zeros at random and compares every byte
// with the same done to plain memory.
func TestOverlayAgainstPlainBytes(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	const size = 64 * page
	base, err := CreateImage(t.TempDir()+"/base.img", size, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer base.Close()
	want := make([]byte, size)
	for i := range want {
		want[i] = byte(rng.Uint32())
	}
	base.WriteAt(want, 0)
	first := bytes.Clone(want)
	source := make([]byte, 3*size)
	for i := range source {
		source[i] = byte(rng.Uint32())
	}
	o, err := NewOverlay(base, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer o.Close()
	for i := range 4000 {
		n := 1 + rng.IntN([]int{20, 700, 3 * page, 20 * page}[i%4])
		off := rng.IntN(size - n + 1)
		switch rng.IntN(5) {
		case 0:
			b := source[n : 2*n]
			if _, err := o.WriteAt(b, int64(off)); err != nil {
				t.Fatal(err)
			}
			copy(want[off:], b)
		case 1:
			if err := o.Zero(Bytes(off), Bytes(n)); err != nil {
				t.Fatal(err)
			}
			clear(want[off : off+n])
		case 2:
			from := rng.IntN(size - n + 1)
			if err := o.Move(Bytes(off), Bytes(from), Bytes(n)); err != nil {
				t.Fatal(err)
			}
			copy(want[off:off+n], want[from:from+n])
		default:
			at := rng.IntN(len(source) - n)
			if err := o.Refer(Bytes(off), Bytes(n), bytes.NewReader(source), int64(at)); err != nil {
				t.Fatal(err)
			}
			copy(want[off:], source[at:at+n])
		}
		got := make([]byte, 1+rng.IntN(4*page))
		off = rng.IntN(size - len(got) + 1)
		if _, err := o.ReadAt(got, int64(off)); err != nil || !bytes.Equal(got, want[off:off+len(got)]) {
			t.Fatalf("after %d changes: %d bytes at %d differ, %v", i, len(got), off, err)
		}
		// Nothing that is not zero lies outside what Data tells of.
		if start, _, ok := o.Data(Bytes(off)); bytes.Trim(want[off:min(int(start), size)], "\x00") != nil && (!ok || int(start) > off) {
			t.Fatalf("after %d changes: data from %d on is not told of", i, off)
		}
	}
	if err := o.Refer(size-10, 20, bytes.NewReader(source), 0); err == nil {
		t.Error("beyond the end")
	}
	if got, _ := ReadFull(base, 0, size); !bytes.Equal(got, first) {
		t.Error("the base was changed")
	}
}
