// Command kinddrive makes a drive with one partition for each file system that can
// be looked into: NTFS and FAT32 made by our own code, and places that other
// programs format. It prints what, offset and length in bytes, one partition a line.
// Other words make drives with gaps between, with large sectors, or one whose files are to be restored; a
// number tells of the files of that partition.
package main

import (
	"fmt"
	"log"
	"os"
	"strconv"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

func main() {
	log.SetFlags(0)
	if len(os.Args) != 3 {
		log.Fatal("usage: kinddrive IMAGE small|large|plans|sectors|restore|NUMBER")
	}
	number, notNumber := strconv.Atoi(os.Args[2])
	switch {
	case os.Args[2] == "sectors":
		if err := sectors(os.Args[1]); err != nil {
			log.Fatal(err)
		}
		return
	case os.Args[2] == "restore":
		if err := restoreDrive(os.Args[1]); err != nil {
			log.Fatal(err)
		}
		return
	case notNumber == nil:
		if err := pieces(os.Args[1], number); err != nil {
			log.Fatal(err)
		}
		return
	}
	small := map[string]disk.Bytes{"ntfs": 24, "fat32": 72, "exfat": 8, "ext4": 8, "ext2": 4, "fat16": 8, "fat12": 2}
	whole, between := 3*disk.GiB, disk.Bytes(0)
	kinds := []string{"ntfs", "fat32", "exfat", "ext4", "ext2", "fat16", "fat12"}
	switch os.Args[2] {
	case "small":
		whole = 140 * disk.MiB
	case "plans": // room between them, for them to be moved about
		small = map[string]disk.Bytes{"ntfs": 48, "fat32": 64, "exfat": 12, "ext4": 12, "fat16": 24, "fat12": 3}
		whole, between = 230*disk.MiB, 6*disk.MiB
		kinds = []string{"ntfs", "fat16", "exfat", "fat32", "ext4", "fat12"}
	}
	im, err := disk.CreateImage(os.Args[1], whole, 512)
	if err != nil {
		log.Fatal(err)
	}
	defer im.Close()
	at := disk.MiB
	var entries []table.Entry
	for i, what := range kinds {
		size := 400 * disk.MiB
		if what == "fat12" {
			size = 4 * disk.MiB
		}
		if os.Args[2] != "large" {
			size = small[what] * disk.MiB
		}
		entries = append(entries, table.NewEntry(table.Entry{Slot: i + 1, TypeID: table.TypeBasic, UniqueID: fmt.Sprintf("5a1c77e0-c1d5-4d0b-9c3e-0000000000%02x", i), Start: at.At(512), End: (at + size).At(512) - 1, Name: what}))
		w := disk.NewWindow(im, at, size)
		files := []volume.Source{{Path: "made by us/read me.txt", Data: []byte("the first file\n")}}
		switch what {
		case "ntfs":
			err = ntfs.Make(w, ntfs.Options{Label: "Kinds", Serial: 0x7f3a, Hidden: uint32(at / 512), Time: time.Unix(1.79e9, 0), Files: files})
		case "fat32":
			cluster := disk.Bytes(0)
			if between > 0 {
				cluster = 512
			}
			err = fat.Make(w, fat.Options{Label: "KINDS", Cluster: cluster, Serial: 0x7f3b, Hidden: uint32(at / 512), Time: time.Unix(1.79e9, 0), Files: files})
		}
		if err != nil {
			log.Fatal(err)
		}
		fmt.Println(what, int64(at), int64(size))
		at += size + between
	}
	if err := table.New(im, "5a1c77e0-c1d5-4d0b-9c3e-000000000100", entries...).Apply(im, nil); err != nil {
		log.Fatal(err)
	}
}

// sectors makes a drive with sectors of 4096 bytes, and one with an MBR of such beside
// it, whose name ends in .mbr; both have NTFS and FAT32 volumes.
func sectors(path string) error {
	const sector, size = 4096, 500 * disk.MiB
	for _, p := range []string{path, path + ".mbr"} {
		im, err := disk.CreateImage(p, 1200*disk.MiB, sector)
		if err != nil {
			return err
		}
		defer im.Close()
		var files []volume.Source
		for i := range 400 {
			files = append(files, volume.Source{Path: fmt.Sprintf("box %d/card %03d.txt", i%7, i), Data: fmt.Appendf(nil, "card %d of a drive with large sectors", i), Modified: time.Unix(1.79e9, 0)})
		}
		a, b := disk.MiB, disk.MiB+size+disk.MiB
		for i, at := range []disk.Bytes{a, b} {
			w, hidden := disk.NewWindow(im, at, size), uint32(at/sector)
			if i == 0 {
				err = ntfs.Make(w, ntfs.Options{Label: "Large", Hidden: hidden, Time: time.Unix(1.79e9, 0), Files: files})
			} else {
				err = fat.Make(w, fat.Options{Label: "LARGE", Hidden: hidden, Time: time.Unix(1.79e9, 0), Files: files})
			}
			if err != nil {
				return err
			}
		}
		entry := func(slot int, at disk.Bytes) table.Entry {
			return table.Entry{Slot: slot, TypeID: table.TypeBasic, UniqueID: fmt.Sprintf("5a1c77e0-4096-4d0b-9c3e-0000000000%02x", slot), Start: at.At(sector), End: (at + size).At(sector) - 1}
		}
		s := table.New(im, "5a1c77e0-4096-4d0b-9c3e-000000000100", table.NewEntry(entry(1, a)), table.NewEntry(entry(2, b)))
		if p != path {
			first, box, inside := entry(1, a), entry(2, b-disk.MiB), entry(5, b)
			first.TypeID, box.TypeID, inside.TypeID = "07", "0f", "0c"
			box.End, inside.Record = inside.End, box.Start
			s = table.NewMBR(im, 0x40961043, table.MBREntry(first, sector), table.MBREntry(box, sector), table.MBREntry(inside, sector))
		}
		if err := s.Apply(im, nil); err != nil {
			return err
		}
	}
	return nil
}
