package main

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strings"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// sids are the accounts that the descriptors of the files to restore speak of.
var sids = [][]byte{
	{1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0},
	{1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0},
	{1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0},
}

// descriptor is a self-relative security descriptor of its own for each i ([MS-DTYP] 2.4.6).
func descriptor(i int) []byte {
	owner, who := sids[i%2], sids[i%3]
	acl := []byte{2, 0, byte(8 + 8 + len(who)), 0, 1, 0, 0, 0, 0, 3, byte(8 + len(who)), 0, byte(i), byte(i >> 8), 0x12, 0}
	acl = append(acl, who...)
	d := []byte{1, 0, 4, 0x80, 20, 0, 0, 0, byte(20 + len(owner)), 0, 0, 0, 0, 0, 0, 0, byte(20 + 2*len(owner)), 0, 0, 0}
	return append(append(append(d, owner...), owner...), acl...)
}

// restoreDrive makes a drive with a volume of 2 GiB in some 16,000 files, 10,000 of them
// in one folder, with long and foreign names, streams and descriptors, and one behind it
// that has room for little more.
func restoreDrive(path string) error {
	im, err := disk.CreateImage(path, 24*disk.GiB, 512)
	if err != nil {
		return err
	}
	defer im.Close()
	rng := rand.New(rand.NewPCG(7, 11))
	noise := make([]byte, 4*disk.MiB)
	for i := range noise {
		noise[i] = byte(rng.Uint32())
	}
	some := func(n int) []byte { at := rng.IntN(len(noise) - n + 1); return noise[at : at+n] }
	born := time.Date(2023, 5, 6, 7, 8, 9, 123456700, time.UTC)
	var files []volume.Source
	for i := range 10000 {
		files = append(files, volume.Source{Path: fmt.Sprintf("Ten thousand/scan %05d %s.xry", i, strings.Repeat("z", i%40)), Data: some(rng.IntN(12000)), Modified: born.Add(time.Duration(i) * time.Minute)})
	}
	for i := range 4000 {
		name := fmt.Sprintf("Über die Brücke %d/Ελληνικά/漢字 %d/%s %04d.dat", i%9, i%41, strings.Repeat("name ", i%45), i)
		files = append(files, volume.Source{Path: name, Data: some(rng.IntN(1_000_000)), Modified: born.Add(time.Duration(i) * time.Hour)})
	}
	a, sizeA, b, sizeB := disk.MiB, 9*disk.GiB, 10*disk.GiB, 13*disk.GiB
	first := disk.NewWindow(im, a, sizeA)
	if err := ntfs.Make(first, ntfs.Options{Label: "Scans", Hidden: uint32(a / 512), Time: born, Files: files}); err != nil {
		return err
	}
	if err := ntfs.Make(disk.NewWindow(im, b, sizeB), ntfs.Options{Label: "Nearly full", Hidden: uint32(b / 512), Time: born,
		Files: []volume.Source{{Path: "store.bin", Data: []byte("reserved"), Reserve: 9 * disk.GiB}}}); err != nil {
		return err
	}
	v, err := ntfs.Open(first)
	if err != nil {
		return err
	}
	var in []volume.Incoming
	add := func(path, stream string, n, i int) {
		data := some(n)
		x := volume.Incoming{File: volume.File{Path: path, Stream: stream, Kind: volume.Plain, Bytes: disk.Bytes(n), Modified: born.Add(time.Duration(i) * time.Second)}}
		x.Open = func() (io.ReaderAt, error) { return bytes.NewReader(data), nil }
		if stream == "" {
			x.Created, x.Accessed, x.Changed = born.Add(-time.Hour), born.Add(time.Duration(i)*time.Hour), born.Add(time.Duration(i)*time.Minute)
			x.Attributes, x.Descriptor = []uint32{volume.AttrArchive, volume.AttrHidden, volume.AttrReadOnly | volume.AttrSystem}[i%3], descriptor(i)
		}
		in = append(in, x)
	}
	for i := range 1500 {
		p := fmt.Sprintf("sheet %04d with a long name.txt", i)
		add(p, "", rng.IntN(5000), i)
		for k := range i % 3 {
			add(p, fmt.Sprintf("note %d", k), rng.IntN(20000*(1+k)), i)
		}
	}
	l, err := v.Load("With streams", in, volume.LoadOptions{Now: born})
	if err != nil {
		return err
	}
	if err := l.Script.Apply(first, nil); err != nil {
		return err
	}
	entry := func(slot int, at, size disk.Bytes) table.Entry {
		return table.NewEntry(table.Entry{Slot: slot, TypeID: table.TypeBasic, UniqueID: fmt.Sprintf("5a1c77e0-7e57-4d0b-9c3e-0000000000%02x", slot), Start: at.At(512), End: (at + size).At(512) - 1})
	}
	return table.New(im, "5a1c77e0-7e57-4d0b-9c3e-000000000100", entry(1, a, sizeA), entry(2, b, sizeB)).Apply(im, nil)
}

// pieces prints how many files a partition has, their bytes, the most pieces that one of
// them lies in, and the most entries of one folder.
func pieces(path string, number int) error {
	im, err := disk.OpenImage(path, 0, false)
	if err != nil {
		return err
	}
	defer im.Close()
	sv, err := survey.Read(im, nil)
	if err != nil {
		return err
	}
	s, ok := sv.Layout.Find(number)
	if !ok {
		return os.ErrNotExist
	}
	v, err := ntfs.Open(disk.NewWindow(im, s.Start.Offset(512), s.Bytes))
	if err != nil {
		return err
	}
	files, err := v.Files()
	if err != nil {
		return err
	}
	n, sum, most, in := 0, disk.Bytes(0), 0, map[string]int{}
	for _, f := range files {
		if f.Kind == volume.Plain && f.Stream == "" {
			n, sum, most = n+1, sum+f.Bytes, max(most, len(f.Extents))
			in[f.Path[:max(strings.LastIndexByte(f.Path, '/'), 0)]]++
		}
	}
	largest := 0
	for _, k := range in {
		largest = max(largest, k)
	}
	fmt.Printf("%d files, %s, one in %d pieces, a folder with %d files\n", n, sum, most, largest)
	return nil
}
