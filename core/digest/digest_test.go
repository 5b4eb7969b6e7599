package digest

import (
	"encoding/hex"
	"math/rand/v2"
	"testing"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
)

func TestWholeIsBLAKE3(t *testing.T) {
	all := make([]byte, 300<<10+77)
	rand.NewChaCha8([32]byte{9}).Read(all)
	for _, piece := range []int{1 << 10, 16 << 10, 64 << 10} {
		for _, n := range []int{1, 1023, 1024, 1025, 16 << 10, 17000, 64 << 10, 65 << 10, 128 << 10, 200000, len(all)} {
			var w Whole
			for at := 0; at < n; at += piece {
				w.Add(Of(all[at:min(at+piece, n)], disk.Bytes(at)))
			}
			sum := blake3.Sum256(all[:n])
			if got := w.Sum(); got != hex.EncodeToString(sum[:]) {
				t.Errorf("%d bytes in pieces of %d: %s", n, piece, got)
			}
		}
	}
	if a, b := Of(all[:4096], 0), Of(all[:4096], 4096); a.String() == b.String() {
		t.Error("a piece in another place has the same hash")
	}
}
