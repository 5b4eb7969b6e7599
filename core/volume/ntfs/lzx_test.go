package ntfs

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"testing"

	another "github.com/Microsoft/go-winio/wim/lzx"
)

// TestLZXBesideAnother decodes chunks as they are, and damaged at random places, here and by a decoder that is not
// ours. Where both make something of a chunk it is the same.
func TestLZXBesideAnother(t *testing.T) {
	packed, err := os.ReadFile("testdata/lzx-32768.bin")
	if err != nil {
		t.Fatal(err)
	}
	second := 4 + int(le.Uint32(packed))
	rng := rand.New(rand.NewPCG(18, 10))
	same, refused := 0, 0
	for _, chunk := range []struct {
		in   []byte
		size int
	}{{packed[4:second], 32768}, {packed[second:], 50000 - 32768}} {
		for n := range 500 {
			in := bytes.Clone(chunk.in)
			for range min(n, 1+rng.IntN(3)) { // the first time as it is
				in[rng.IntN(len(in))] ^= byte(1 + rng.IntN(255))
			}
			ours, theirs := make([]byte, chunk.size), make([]byte, chunk.size)
			oursErr := lzx(ours, in)
			theirsErr := decodeWithAnother(theirs, in)
			switch {
			case n == 0 && (oursErr != nil || theirsErr != nil):
				t.Fatalf("a whole chunk of %d bytes: %v, and the other: %v", chunk.size, oursErr, theirsErr)
			case oursErr != nil || theirsErr != nil:
				refused++
			case !bytes.Equal(ours, theirs):
				t.Errorf("damaged %d: both decode %d bytes, and not to the same", n, chunk.size)
			default:
				same++
			}
		}
	}
	t.Logf("%d decoded to the same by both, %d refused by one or both", same, refused)
	if same < 50 {
		t.Errorf("only %d chunks were decoded by both", same)
	}
}

// decodeWithAnother decodes a chunk with the other decoder, which some damage makes panic.
func decodeWithAnother(out, in []byte) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("it panics: %v", p)
		}
	}()
	r, err := another.NewReader(bytes.NewReader(in), len(out))
	if err != nil {
		return err
	}
	defer r.Close()
	_, err = io.ReadFull(r, out)
	return err
}
