package script

import (
	"bytes"
	"io"
	"path/filepath"
	"testing"

	"jadetrail/core/disk"
)

func TestScript(t *testing.T) {
	var s Script
	s.Put(100, []byte("abc"))
	s.Barrier("one")
	s = append(s, Op{Kind: Hole, Off: 101, Len: 1, Keep: true}, Op{Kind: Fill, Source: "b", SourceOff: 2, Off: 200, Len: 4})
	moved := s.Shift(1000)
	if s[0].Off != 100 || moved[0].Off != 1100 || moved[1].Off != 0 || moved[3].Off != 1200 || moved[3].SourceOff != 2 {
		t.Errorf("shifted: %+v", moved)
	}
	if s.Rewritten() != 7 || !s[0].Keep {
		t.Errorf("%d bytes rewritten", s.Rewritten())
	}
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d"), disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	if err := moved.Apply(im, nil); err == nil {
		t.Error("a fill without its source was done")
	}
	if err := moved.Apply(im, map[string]io.ReaderAt{"b": bytes.NewReader([]byte("__wxyz"))}); err != nil {
		t.Fatal(err)
	}
	b, _ := disk.ReadFull(im, 1100, 110)
	if string(b[:3]) != "a\x00c" || string(b[100:104]) != "wxyz" {
		t.Errorf("%q", b)
	}
	if err := (Script{{Kind: Write, Off: disk.MiB, Data: []byte("x")}}).Apply(im, nil); err == nil {
		t.Error("a write beyond the drive's end was done")
	}
}
