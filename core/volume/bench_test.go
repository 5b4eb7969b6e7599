package volume

import (
	"bytes"
	"testing"
)

// BenchmarkEachSet looks for stretches in the bitmap of a volume of 512 GiB, a third of which is in use, beside a
// plain copy of as much.
func BenchmarkEachSet(b *testing.B) {
	raw := make([]byte, 16<<20)
	for i := range raw[:len(raw)/3] {
		raw[i] = 0xff
	}
	b.Run("stretches", func(b *testing.B) {
		b.SetBytes(int64(len(raw)))
		for b.Loop() {
			if err := EachSet(bytes.NewReader(raw), int64(len(raw))*8, func(_, _ int64) error { return nil }); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("copy", func(b *testing.B) {
		to := make([]byte, len(raw))
		b.SetBytes(int64(len(raw)))
		for b.Loop() {
			copy(to, raw)
		}
	})
}
