// Package drives makes small drives with real volumes in them, for the tests of what works on a drive.
package drives

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/pc"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// Day is when everything on the drive was made.
var Day = time.Date(2026, 11, 20, 16, 40, 0, 0, time.UTC)

// UID is a unique id that differs in its last digits.
func UID(n int) string { return fmt.Sprintf("5a1c77e0-1042-4d0b-9c3e-0000000000%02x", n) }

// Files are some of different lengths in three folders.
func Files(tag string, n int) []volume.Source {
	var out []volume.Source
	for i := range n {
		out = append(out, volume.Source{Path: fmt.Sprintf("%s/box %d/card-%03d.txt", tag, i%3, i), Data: bytes.Repeat(fmt.Appendf(nil, "%s %d. ", tag, i), 1+i*7)})
	}
	return out
}

// FAT makes the EFI partition's volume, with some files.
func FAT(w disk.Device, start disk.LBA, files []volume.Source) error {
	return fat.Make(w, fat.Options{Label: "SYSTEM", Hidden: uint32(start), Time: Day, Files: files})
}

// Small makes a small drive like the demo's: EFI, reserved, C:, recovery, X:, OEM, gap.
func Small(t testing.TB, path string, sector disk.Bytes) {
	t.Helper()
	size, efi := 640*disk.MiB, 80*disk.MiB
	if sector == 4096 { // FAT32 needs many clusters, and they are larger here
		size, efi = 900*disk.MiB, 300*disk.MiB
	}
	im, err := disk.CreateImage(path, size, sector)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	var entries []table.Entry
	at := disk.MiB
	add := func(typ string, size disk.Bytes, attrs uint64, fill func(w disk.Device, hidden uint32) error) {
		n := len(entries) + 1
		entries = append(entries, table.NewEntry(table.Entry{Slot: n, TypeID: typ, UniqueID: UID(n), Start: at.At(sector), End: (at + size).At(sector) - 1, Attributes: attrs, Name: fmt.Sprint("part ", n)}))
		if fill != nil {
			if err := fill(disk.NewWindow(im, at, size), uint32(at.At(sector))); err != nil {
				t.Fatal(err)
			}
		}
		at += size
	}
	filled := func(tag string, n int) func(w disk.Device, hidden uint32) error {
		return func(w disk.Device, hidden uint32) error {
			return ntfs.Make(w, ntfs.Options{Label: tag, Serial: uint64(n), Hidden: hidden, Time: Day, Files: Files(tag, n)})
		}
	}
	add(table.TypeEFI, efi, table.AttrNoLetter, func(w disk.Device, hidden uint32) error {
		return FAT(w, disk.LBA(hidden), []volume.Source{{Path: "EFI/Boot/bootx64.efi", Data: []byte("start")}})
	})
	add(table.TypeReserved, 4*disk.MiB, 0, nil)
	add(table.TypeBasic, 48*disk.MiB, 0, filled("System", 60))
	add(table.TypeRecovery, 24*disk.MiB, table.AttrRequired|table.AttrNoLetter, filled("Recovery", 12))
	add(table.TypeBasic, 32*disk.MiB, 0, filled("X-rays", 30))
	add(table.TypeOEM, 16*disk.MiB, table.AttrRequired, filled("Maker", 9))
	table.New(im, UID(0xd0), entries...).Apply(im, nil)
}

// Whole is a hash of every byte of a drive; stretches of zeros count the same
// whether they are holes or not.
func Whole(t testing.TB, d disk.Device) string {
	t.Helper()
	h := blake3.New()
	const page = 4096
	zero := make([]byte, page)
	b := make([]byte, page)
	for at := disk.Bytes(0); ; {
		start, end, ok := d.Data(at)
		if !ok {
			return fmt.Sprintf("%x", h.Sum(nil))
		}
		for at = start.Down(page); at < end; at += page {
			b = b[:min(page, d.Size()-at)]
			if _, err := d.ReadAt(b, int64(at)); err != nil {
				t.Fatal(err)
			}
			if !bytes.Equal(b, zero[:len(b)]) {
				fmt.Fprintf(h, "%d ", at)
				h.Write(b)
			}
		}
	}
}

// Opened makes the small drive in a folder of the test's own, with a shop around it that has nothing yet.
func Opened(t testing.TB) facts.Sources {
	t.Helper()
	dir := t.TempDir()
	image := filepath.Join(dir, "d.img")
	Small(t, image, 512)
	im, err := disk.OpenImage(image, 0, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return Sources(dir, image, im)
}

// Sources are a drive and an installation that keeps what it knows in a folder.
func Sources(dir, image string, dev disk.Device) facts.Sources {
	sh, _ := shelf.Open(filepath.Join(dir, "shelf"))
	return facts.Sources{
		Drive: facts.Drive{
			Image: image, Dev: dev, Identity: survey.Identity{Model: "test drive", Serial: "TLX5-220-7F3K"},
			PC: &pc.Facts{Version: 1, State: pc.Off, Start: UID(3), StartDrive: UID(0xd0)},
		},
		Shop: facts.Shop{
			Runs: filepath.Join(dir, "runs"), Shelf: sh, Records: trail.Records{Dir: filepath.Join(dir, "records")},
			Trail: trail.File{Path: filepath.Join(dir, "trail.jsonl")},
		},
		Lead: true, Random: rand.NewChaCha8([32]byte{1}),
	}
}
