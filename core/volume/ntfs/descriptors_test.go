package ntfs

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// walked goes along the descriptors of a volume as a reader does that knows no index: each begins at
// the next 16 bytes behind the one before, and a block ends where none does. It returns their ids.
func walked(t *testing.T, v *Volume) []uint32 {
	t.Helper()
	s, err := v.system(recSecure, atData, "$SDS")
	if err != nil {
		t.Fatal(err)
	}
	all := make([]byte, s.size)
	if _, err := s.ReadAt(all, 0); err != nil {
		t.Fatal(err)
	}
	var ids []uint32
	for block := 0; block < len(all); block += 2 * sdsBlock {
		for at := block; at+20 <= min(len(all), block+sdsBlock); {
			h := all[at:]
			n := int(le.Uint32(h[16:]))
			if n == 0 {
				break
			}
			if le.Uint64(h[8:]) != uint64(at) || at+n > len(all) {
				t.Fatalf("at %d lies no descriptor: % x", at, h[:20])
			}
			if other := all[at+sdsBlock:]; len(other) < n || !bytes.Equal(h[:n], other[:n]) {
				t.Errorf("the copy of the descriptor at %d is another", at)
			}
			ids = append(ids, le.Uint32(h[4:]))
			at = (at + n + 15) &^ 15
		}
	}
	return ids
}

// loaded puts files into a volume, and reads it anew.
func loaded(t *testing.T, dev disk.Device, v *Volume, in []volume.Incoming) (*Volume, volume.Arrival) {
	t.Helper()
	l, err := v.Load("", in, volume.LoadOptions{Source: "s", Now: day})
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Script.Apply(dev, nil); err != nil {
		t.Fatal(err)
	}
	if v, err = Open(dev); err != nil {
		t.Fatal(err)
	}
	return v, l.Arrival
}

// TestDescriptorsWalked finds every descriptor of a new volume, and of one that took many more than
// fit into one block, without the help of an index.
func TestDescriptorsWalked(t *testing.T) {
	dev := disk.NewPaper(64*disk.MiB, 512)
	if err := Make(dev, Options{Label: "Walk", Serial: 7, Time: day}); err != nil {
		t.Fatal(err)
	}
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	if got := walked(t, v); !slices.Equal(got, []uint32{0x100, 0x101}) {
		t.Fatalf("a new volume has %x", got)
	}
	rng := rand.New(rand.NewPCG(4, 4))
	var in []volume.Incoming
	for i := range 900 {
		d := bytes.Clone(descriptor(0x1f01ff))
		d = append(d, make([]byte, 4*rng.IntN(120))...)
		le.PutUint32(d[len(d)-4:], uint32(i+1)) // none like another
		x := volume.Incoming{Detail: volume.Detail{Descriptor: d}}
		x.Path, x.Kind = fmt.Sprintf("f%03d.txt", i), volume.Plain
		in = append(in, x)
	}
	v, _ = loaded(t, dev, v, in)
	if got := walked(t, v); len(got) != 902 {
		t.Errorf("%d descriptors are found, of 902", len(got))
	}
}
