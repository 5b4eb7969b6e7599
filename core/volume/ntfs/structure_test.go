package ntfs

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

func TestRunsRoundTrip(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		clusters := int64(1) << (8 + rng.IntN(40))
		var runs []run
		vcn := int64(0)
		for range rng.IntN(12) {
			n := 1 + rng.Int64N(clusters/4)
			r := run{vcn: vcn, lcn: rng.Int64N(clusters - n + 1), n: n}
			if rng.IntN(4) == 0 {
				r.lcn = -1
			}
			runs = append(runs, r)
			vcn += n
		}
		got, err := parseRuns(packRuns(runs), 0, clusters)
		if err != nil || !slices.Equal(got, runs) {
			t.Fatalf("%v became %v, %v", runs, got, err)
		}
	}
	for name, b := range map[string][]byte{
		"no closing zero": {0x11, 1, 1}, "beyond the volume": {0x11, 0x7f, 0x01, 0}, "before the volume": {0x11, 1, 0xff, 0}, "no length": {0x10, 1, 0},
		"negative length": {0x11, 0x80, 1, 0}, "cut off": {0x44, 1, 2, 3}, "absurd widths": {0xff, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0}, "empty": {},
	} {
		if _, err := parseRuns(b, 0, 100); !errors.Is(err, errRuns) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestFixups(t *testing.T) {
	b := make([]byte, 2048)
	for i := range b {
		b[i] = byte(i * 7)
	}
	copy(b, "FILE")
	le.PutUint16(b[4:], 0x30)
	le.PutUint16(b[6:], 5)
	want := bytes.Clone(b)
	fix(b)
	if bytes.Equal(b[510:512], want[510:512]) || !bytes.Equal(b[510:512], b[1022:1024]) {
		t.Error("the sectors' ends do not hold the sequence number")
	}
	torn := bytes.Clone(b)
	torn[1023] ^= 1
	if err := unfix(torn); !errors.Is(err, errTorn) {
		t.Errorf("a torn record: %v", err)
	}
	if err := unfix(b); err != nil || !bytes.Equal(b[0x3a:], want[0x3a:]) {
		t.Errorf("not as before: %v", err)
	}
	for _, off := range []uint16{0, 7, 2040, 0xffff} {
		x := bytes.Clone(want)
		le.PutUint16(x[4:], off)
		if err := unfix(x); !errors.Is(err, errNotRecord) {
			t.Errorf("offset %d: %v", off, err)
		}
	}
}

// TestLargeFolders fills one folder with very many files, so that its index is a
// tree of several levels, and reads it back in its order.
func TestLargeFolders(t *testing.T) {
	for _, cluster := range []disk.Bytes{512, 4096, 32 << 10} {
		for _, n := range []int{1, 2, 9, 40, 41, 300, 9000} {
			dev := image(t, 128*disk.MiB, 512)
			var files []volume.Source
			for i := range n {
				files = append(files, volume.Source{Path: fmt.Sprintf("box/%s %05d", strings.Repeat("ÄöxY"[:1+i%5], 1+i%37), i), Data: []byte{byte(i)}})
			}
			if err := Make(dev, Options{Time: day, Cluster: cluster, Files: files}); err != nil {
				t.Fatal(err)
			}
			v, err := Open(dev)
			if err != nil {
				t.Fatal(err)
			}
			if l := v.Check(); len(l) > 0 {
				t.Fatalf("%d files, clusters of %d: %+v", n, cluster, l[0])
			}
			list, err := v.Files()
			if err != nil || len(list) != n+1 {
				t.Fatalf("%d files, clusters of %d: listed %d, %v", n, cluster, len(list), err)
			}
			up, err := v.upcase()
			if err != nil {
				t.Fatal(err)
			}
			in, err := v.folder(recFirst, up)
			if n == 1 || err == nil && len(in) == 0 { // the folder's record depends on the order of making
				in, err = v.folder(int64(list[0].ID), up)
			}
			if err != nil || len(in) != n && len(in) != 1 {
				t.Fatalf("the folder lists %d, %v", len(in), err)
			}
			if !v.HasFolders("BOX") || v.HasFolders("box", "nothing") {
				t.Error("folders are not found by their names")
			}
		}
	}
}

// TestAttributeList splits a file's contents over two records, as a volume does
// with a file of very many pieces, and reads it through the list.
func TestAttributeList(t *testing.T) {
	dev := image(t, 32*disk.MiB, 512)
	data := make([]byte, 40960)
	for i := range data {
		data[i] = byte(i >> 4)
	}
	if err := Make(dev, Options{Time: day, Files: []volume.Source{{Path: "scattered.bin", Data: data}, {Path: "spare", Data: []byte("s")}}}); err != nil {
		t.Fatal(err)
	}
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	base, err := v.record(recFirst)
	if err != nil {
		t.Fatal(err)
	}
	whole := base.find(atData, "").runs
	m := &maker{dev: dev, record: 1024, cluster: 4096, mft: make([]byte, 66*1024)}
	std, name := base.find(atStandard, "").value, base.find(atFileName, "").value
	list := func(typ uint32, lowest int64, rec uint64, id byte) []byte {
		b := make([]byte, 32)
		le.PutUint32(b, typ)
		le.PutUint16(b[4:], 32)
		b[7] = 26
		le.PutUint64(b[8:], uint64(lowest))
		le.PutUint64(b[16:], rec)
		b[24] = id
		return b
	}
	const self, other = uint64(1)<<48 | recFirst, uint64(1)<<48 | (recFirst + 1)
	b := m.builder(recFirst, 1, inUse)
	b.resident(atStandard, "", std, false)
	b.resident(atList, "", slices.Concat(list(atStandard, 0, self, 0), list(atFileName, 0, self, 1), list(atData, 0, self, 2), list(atData, 4, other, 0)), false)
	b.resident(atFileName, "", name, true)
	b.stream(atData, "", []run{{vcn: 0, lcn: whole[0].lcn, n: 4}}, 40960, 40960)
	if err := b.close(); err != nil {
		t.Fatal(err)
	}
	x := m.builder(recFirst+1, 1, inUse)
	le.PutUint64(x.raw[32:], self)
	x.stream(atData, "", []run{{vcn: 4, lcn: whole[0].lcn + 4, n: 6}}, 0, 0)
	at := int(le.Uint16(x.raw[20:]))
	le.PutUint64(x.raw[at+16:], 4) // lowest VCN
	if err := x.close(); err != nil {
		t.Fatal(err)
	}
	dev.WriteAt(m.mft[recFirst*1024:], v.boot.mft*4096+recFirst*1024)
	if v, err = Open(dev); err != nil {
		t.Fatal(err)
	}
	s, err := v.system(recFirst, atData, "")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := s.all(1 << 20); err != nil || !bytes.Equal(got, data) {
		t.Errorf("through the list: %d bytes, %v", len(got), err)
	}
	files, _ := v.Files()
	f := files[slices.IndexFunc(files, func(f volume.File) bool { return f.Path == "scattered.bin" })]
	r, err := v.Open(f)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(io.NewSectionReader(r, 0, int64(f.Bytes))); err != nil || !bytes.Equal(got, data) || len(f.Extents) != 2 {
		t.Errorf("as a file: %d bytes in %d pieces, %v", len(got), len(f.Extents), err)
	}
}

// TestScatteredMFT lets the table of files itself go on in another record, and
// opens the volume through its attribute list.
func TestScatteredMFT(t *testing.T) {
	dev := image(t, 32*disk.MiB, 512)
	if err := Make(dev, Options{Time: day, Files: sources(200)}); err != nil {
		t.Fatal(err)
	}
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	r, err := v.record(recMFT)
	if err != nil {
		t.Fatal(err)
	}
	d, bits := r.find(atData, ""), r.find(atBitmap, "")
	total, first := d.runs[0].n, int64(12)
	lcn := d.runs[0].lcn
	const spare = 30 // a record that no file uses
	m := &maker{dev: dev, record: 1024, cluster: 4096, mft: make([]byte, 64*1024)}
	list := make([]byte, 0, 96)
	for _, e := range []struct {
		typ, lowest, ref uint64
	}{{atData, 0, 1 << 48}, {atData, uint64(first), 1<<48 | spare}} {
		b := make([]byte, 32)
		le.PutUint32(b, uint32(e.typ))
		le.PutUint16(b[4:], 32)
		b[7] = 26
		le.PutUint64(b[8:], e.lowest)
		le.PutUint64(b[16:], e.ref)
		list = append(list, b...)
	}
	b := m.builder(recMFT, 1, inUse)
	b.resident(atStandard, "", r.find(atStandard, "").value, false)
	b.resident(atList, "", list, false)
	b.resident(atFileName, "", r.find(atFileName, "").value, true)
	b.stream(atData, "", []run{{lcn: lcn, n: first}}, d.alloc, d.size)
	b.stream(atBitmap, "", bits.runs, bits.alloc, bits.size)
	if err := b.close(); err != nil {
		t.Fatal(err)
	}
	x := m.builder(spare, 1, inUse)
	le.PutUint64(x.raw[32:], 1<<48)
	x.stream(atData, "", []run{{vcn: first, lcn: lcn + first, n: total - first}}, 0, 0)
	le.PutUint64(x.raw[int(le.Uint16(x.raw[20:]))+16:], uint64(first))
	if err := x.close(); err != nil {
		t.Fatal(err)
	}
	base := v.boot.mft * 4096
	dev.WriteAt(m.mft[:1024], base)
	dev.WriteAt(m.mft[spare*1024:(spare+1)*1024], base+spare*1024)
	mirror, _ := v.system(recMirror, atData, "")
	dev.WriteAt(m.mft[:1024], mirror.runs[0].lcn*4096)
	v = verify(t, dev, 200)
	if len(v.mft.runs) != 2 || v.mft.size != d.size {
		t.Errorf("the table of files: %d runs, %d bytes", len(v.mft.runs), v.mft.size)
	}
	if _, err := v.Grow(32 * disk.MiB); !errors.Is(err, ErrTooSmall) {
		t.Errorf("grow by nothing: %v", err)
	}
}

// TestWhatCannotBeDecoded marks contents as compressed, encrypted and kept
// elsewhere: they are listed and never read as zeros.
func TestWhatCannotBeDecoded(t *testing.T) {
	dev := image(t, 32*disk.MiB, 512)
	data := bytes.Repeat([]byte("x"), 9000)
	if err := Make(dev, Options{Time: day, Files: []volume.Source{{Path: "a", Data: data}}}); err != nil {
		t.Fatal(err)
	}
	for flags, want := range map[uint16]string{1: "compressed in a form that is not known", flagEncrypted: "encrypted"} {
		v, _ := Open(dev)
		r, err := v.record(recFirst)
		if err != nil {
			t.Fatal(err)
		}
		le.PutUint16(r.raw[r.find(atData, "").off+12:], flags)
		fix(r.raw)
		dev.WriteAt(r.raw, v.boot.mft*4096+recFirst*1024)
		v, _ = Open(dev)
		files, err := v.Files()
		if err != nil || len(files) != 1 || files[0].Unreadable != want || files[0].Bytes != 9000 {
			t.Fatalf("%s: %+v, %v", want, files, err)
		}
		if _, err := v.Open(files[0]); !errors.Is(err, volume.ErrUnreadable) {
			t.Errorf("%s: %v", want, err)
		}
	}
}

func TestBitsOfTheBitmap(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for range 300 {
		b := make([]byte, 40)
		for i := range b {
			b[i] = byte(rng.Uint32())
		}
		base := int64(rng.IntN(100)) * 8
		from, to, set := int64(rng.IntN(1200)), int64(rng.IntN(1200)), rng.IntN(2) == 0
		want := bytes.Clone(b)
		for n := from; n < to; n++ {
			if i := n - base; i >= 0 && i < 320 {
				want[i/8] &^= 1 << (i % 8)
				if set {
					want[i/8] |= 1 << (i % 8)
				}
			}
		}
		if put(b, base, from, to, set); !bytes.Equal(b, want) {
			t.Fatalf("bits %d to %d from %d", from, to, base)
		}
	}
}

// TestMeasures compares what Info and Allocated say with the bitmap itself.
func TestMeasures(t *testing.T) {
	dev := image(t, 96*disk.MiB, 512)
	if err := Make(dev, Options{Time: day, Files: sources(120)}); err != nil {
		t.Fatal(err)
	}
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	s, err := v.system(recBitmap, atData, "")
	if err != nil {
		t.Fatal(err)
	}
	bits, err := s.all(1 << 20)
	if err != nil {
		t.Fatal(err)
	}
	used, last := int64(0), int64(0)
	for c := range v.boot.clusters {
		if bits[c/8]>>(c%8)&1 != 0 {
			used, last = used+1, c
		}
	}
	i, err := v.Info()
	if err != nil || i.UsedBytes != disk.Bytes(used)*4096 || i.ShrinkCut != disk.Bytes(last+1)*4096+512 {
		t.Errorf("measured %+v, %v; the bitmap has %d clusters, the last is %d", i, err, used, last)
	}
	var sum, end disk.Bytes
	if err := v.Allocated(func(a, b disk.Bytes) error {
		if a < end || b <= a {
			t.Errorf("range %d to %d behind %d", a, b, end)
		}
		sum, end = sum+b-a, b
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if outside := dev.Size() - v.boot.bytes(); sum != i.UsedBytes+outside || end != dev.Size() {
		t.Errorf("%d bytes are not free, up to %d; want %d", sum, end, i.UsedBytes+outside)
	}
	stop := errors.New("enough")
	if err := v.Allocated(func(a, b disk.Bytes) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("a walk that was ended: %v", err)
	}
}

// TestListInTheHead refuses an attribute whose list of stretches would lie in its own head.
func TestListInTheHead(t *testing.T) {
	for _, at := range []uint16{0, 16, 63, 64} {
		b := outside(atData, "", []run{{0, 9, 3}}, 3*4096, 3*4096).b
		le.PutUint16(b[32:], at)
		if _, err := parseAttr(b, 100); (err == nil) != (at == 64) {
			t.Errorf("at byte %d: %v", at, err)
		}
	}
}
