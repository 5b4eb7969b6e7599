// Command benchdrive makes the drives that scripts/bench.sh measures with, and
// prints the ranges (offset and length in bytes) that plain tools read for
// comparison.
package main

import (
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

func main() {
	log.SetFlags(0)
	if len(os.Args) != 3 {
		log.Fatal("usage: benchdrive inspect|grow|backup|give|files|look|summary|page|read IMAGE, or damaged FOLDER")
	}
	if os.Args[1] == "damaged" {
		if err := damaged(os.Args[2]); err != nil {
			log.Fatal(err)
		}
		return
	}
	if look := map[string]func(*ntfs.Volume) error{"summary": summary, "page": page, "read": read}[os.Args[1]]; look != nil {
		if err := opened(os.Args[2], look); err != nil {
			log.Fatal(err)
		}
		return
	}
	sizes := map[string][]disk.Bytes{"grow": {138 * disk.GiB}, "backup": {2080 * disk.MiB}, "files": {3 * disk.GiB}, "give": {4600 * disk.MiB}, "look": {6 * disk.GiB}}
	for range 20 {
		sizes["inspect"] = append(sizes["inspect"], 92*disk.GiB)
	}
	whole := map[string]disk.Bytes{"inspect": 2000398934016, "grow": 256 * disk.GiB, "backup": 2300 * disk.MiB, "files": 7 * disk.GiB, "give": 5 * disk.GiB, "look": 7 * disk.GiB}
	if err := build(os.Args[1], os.Args[2], whole[os.Args[1]], sizes[os.Args[1]]); err != nil {
		log.Fatal(err)
	}
}

func build(what, path string, whole disk.Bytes, parts []disk.Bytes) error {
	im, err := disk.CreateImage(path, whole, 512)
	if err != nil {
		return err
	}
	defer im.Close()
	var entries []table.Entry
	at := disk.MiB
	for i, size := range parts {
		entries = append(entries, table.NewEntry(table.Entry{Slot: i + 1, TypeID: table.TypeBasic, UniqueID: fmt.Sprintf("5a1c77e0-be9c-4d0b-9c3e-0000000000%02x", i), Start: at.At(512), End: (at + size).At(512) - 1, Name: fmt.Sprint("part ", i+1)}))
		if err := ntfs.Make(disk.NewWindow(im, at, size), ntfs.Options{Label: fmt.Sprint("Volume ", i+1), Hidden: uint32(at / 512), Time: time.Unix(1.79e9, 0), Files: files(what, size)}); err != nil {
			return err
		}
		at += size
	}
	if err := table.New(im, "5a1c77e0-be9c-4d0b-9c3e-000000000100", entries...).Apply(im, nil); err != nil {
		return err
	}
	if what == "give" {
		w := disk.NewWindow(im, disk.MiB, parts[0])
		v, err := ntfs.Open(w)
		if err != nil {
			return err
		}
		s, err := v.Remove([]string{"first"}, time.Unix(1.79e9, 0))
		if err != nil {
			return err
		}
		if err := s.Apply(w, nil); err != nil {
			return err
		}
	}
	if err := im.Sync(); err != nil {
		return err
	}
	return ranges(im, what)
}

// files are a few thousand small ones, and for the backup 2 GiB that do not
// compress.
func files(what string, size disk.Bytes) []volume.Source {
	var out []volume.Source
	rng := rand.NewChaCha8([32]byte{1})
	n, each := 200, 3000
	switch what {
	case "grow":
		n = 4000
	case "backup":
		n, each = 32, 64<<20
	case "give": // what comes first is taken away again
		out = append(out, volume.Source{Path: "first", Data: []byte("x"), Reserve: 2350 * disk.MiB})
		n, each = 32, 64<<20
	case "look":
		return manyFiles(rng)
	case "files":
		return documents(rng)
	}
	for i := range n {
		b := make([]byte, each)
		rng.Read(b)
		out = append(out, volume.Source{Path: fmt.Sprintf("Folder %d/file %d.bin", i%40, i), Data: b})
	}
	if what != "backup" && what != "give" { // scattered, so that the bitmaps are no plain stretch
		for i := range 60 {
			out = append(out, volume.Source{Path: fmt.Sprintf("Large/%d.bin", i), Data: []byte("x"), Reserve: size / 80})
		}
	}
	return out
}

// documents are 20 000 small files of words, and 1.6 GiB in larger ones, half of them
// words and half that does not compress.
func documents(rng *rand.ChaCha8) []volume.Source {
	r := rand.New(rng)
	words := make([]byte, 0, 16<<20)
	for len(words) < 15<<20 {
		words = fmt.Appendf(words, "%s of sheet %d, ", []string{"mill", "harbour", "kiln", "orchard", "lantern", "tide"}[r.IntN(6)], r.IntN(100000))
	}
	noise := make([]byte, 16<<20)
	rng.Read(noise)
	var out []volume.Source
	for i := range 20000 {
		n := r.IntN(20000)
		at := r.IntN(len(words) - n)
		out = append(out, volume.Source{Path: fmt.Sprintf("small/Folder %d/sheet %05d.txt", i%200, i), Data: words[at : at+n]})
	}
	for i := range 100 {
		from := [][]byte{words, noise}[i%2]
		n := min(8<<20+r.IntN(16<<20), len(from))
		at := r.IntN(len(from) - n + 1)
		out = append(out, volume.Source{Path: fmt.Sprintf("large/scan %03d.bin", i), Data: from[at : at+n]})
	}
	return out
}

// ranges prints what a plain read has to read: the tables, and of each volume the
// bitmap; for the growth the table of files too; for the backup the partition.
func ranges(im *disk.Image, what string) error {
	sv, err := survey.Read(im, nil)
	if err != nil {
		return err
	}
	if what == "files" {
		return nil
	}
	if what == "backup" {
		p := sv.Layout.Partitions()[0]
		fmt.Println(int64(p.Start.Offset(512)), int64(2*disk.GiB))
		return nil
	}
	if what == "look" { // the table of files, then the large file
		v := sv.Volume(1).(*ntfs.Volume)
		start := sv.Layout.Partitions()[0].Start.Offset(512)
		large, err := v.Stat("large.bin")
		if err != nil {
			return err
		}
		for _, e := range v.Places(true)[2:] {
			fmt.Println("table", int64(start+e.Off), int64(e.Len))
		}
		for _, e := range large.Extents {
			fmt.Println("large", int64(start+e.Off), int64(min(e.Len, large.Bytes)))
		}
		return nil
	}
	for _, r := range sv.Table.Ranges() {
		fmt.Println(int64(r.Start), int64(r.End-r.Start))
	}
	for _, p := range sv.Layout.Partitions() {
		for _, s := range sv.Volume(p.Number).(*ntfs.Volume).Places(what == "grow") {
			fmt.Println(int64(p.Start.Offset(512)+s.Off), int64(s.Len))
		}
	}
	return nil
}
