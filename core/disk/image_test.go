package disk

import (
	"bytes"
	"math/rand/v2"
	"path/filepath"
	"testing"
)

// TestFresh reads what was just written past the page cache, whole pages or not.
func TestFresh(t *testing.T) {
	im, err := CreateImage(filepath.Join(t.TempDir(), "d.img"), 8*MiB+512, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	want := make([]byte, im.Size())
	rand.NewChaCha8([32]byte{7}).Read(want)
	if _, err := im.WriteAt(want, 0); err != nil || im.Sync() != nil {
		t.Fatal(err)
	}
	var buf []byte
	for _, r := range [][2]Bytes{{0, 4 * MiB}, {512, 100}, {4095, 4098}, {8*MiB - 1, 513}, {8 * MiB, 512}, {3, 0}} {
		got, err := Fresh(NewRecorder(im), r[0], r[1], buf)
		if err != nil || !bytes.Equal(got, want[r[0]:r[0]+r[1]]) {
			t.Errorf("%d bytes at %d: %d, %v", r[1], r[0], len(got), err)
		}
		buf = got
	}
	if _, err := Fresh(im, 8*MiB, 513, buf); err == nil {
		t.Error("read beyond the end")
	}
	if got, err := Fresh(NewWindow(im, MiB, MiB), 10, 5000, nil); err != nil || !bytes.Equal(got, want[MiB+10:][:5000]) {
		t.Error(err)
	}
}
