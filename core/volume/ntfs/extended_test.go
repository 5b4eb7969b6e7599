package ntfs

import (
	"bytes"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// eas are extended attributes, one behind the other, each beginning at 4 bytes.
func eas(pairs ...string) (out []byte) {
	for i := 0; i < len(pairs); i += 2 {
		e := make([]byte, 8)
		e[5] = byte(len(pairs[i]))
		le.PutUint16(e[6:], uint16(len(pairs[i+1])))
		e = append(append(append(e, pairs[i]...), 0), pairs[i+1]...)
		e = append(e, make([]byte, -len(e)&3)...)
		if i+2 < len(pairs) {
			le.PutUint32(e, uint32(len(e)))
		}
		out = append(out, e...)
	}
	return out
}

// TestExtendedAttributes puts files with extended attributes into a volume: short ones, ones too long
// for a record, damaged ones, and of a folder. They are read back to the byte, with what stands beside
// them.
func TestExtendedAttributes(t *testing.T) {
	short, long := eas("LXMOD", "\xa4\x81\x00\x00"), eas("A", "1", "LONG", string(bytes.Repeat([]byte("x"), 3000)))
	in := []volume.Incoming{}
	add := func(path string, kind volume.FileKind, d volume.Detail) {
		x := volume.Incoming{Detail: d}
		x.Path, x.Kind = path, kind
		in = append(in, x)
	}
	reparse := append([]byte{0x23, 0x00, 0x00, 0x80, 4, 0, 0, 0}, "here"...)
	add("folder", volume.Folder, volume.Detail{Extended: short})
	add("folder/short", volume.Plain, volume.Detail{Extended: short})
	add("long", volume.Plain, volume.Detail{Extended: long})
	add("damaged", volume.Plain, volume.Detail{Extended: short[:7]})
	add("none", volume.Plain, volume.Detail{})
	add("both", volume.Plain, volume.Detail{Extended: short, Reparse: reparse})
	dev := disk.NewPaper(32*disk.MiB, 512)
	if err := Make(dev, Options{Label: "EA", Serial: 7, Time: day}); err != nil {
		t.Fatal(err)
	}
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	v, arrival := loaded(t, dev, v, in)
	if f := v.Check().FirstError(); f != nil {
		t.Errorf("check: %s", f.Text)
	}
	for path, want := range map[string][]byte{"folder": short, "folder/short": short, "long": long, "damaged": nil, "none": nil, "both": nil} {
		f, err := v.Stat(path)
		if err != nil {
			t.Fatal(err)
		}
		d, err := v.Detail(f)
		if err != nil || !bytes.Equal(d.Extended, want) {
			t.Errorf("%s has %x, want %x, %v", path, d.Extended, want, err)
		}
		r, err := v.record(int64(f.ID))
		if err != nil {
			t.Fatal(err)
		}
		info := r.find(atEAInfo, "")
		if (info != nil) != (want != nil) {
			t.Errorf("%s: what its attributes are like: %v", path, info)
			continue
		}
		if path == "folder/short" && !bytes.Equal(info.value, []byte{14, 0, 0, 0, byte(len(short)), 0, 0, 0}) { // 5 + 5 + 4
			t.Errorf("%s: its attributes are like %x", path, info.value)
		}
	}
	if len(arrival.Notes) != 1 {
		t.Errorf("notes %q", arrival.Notes)
	}
}
