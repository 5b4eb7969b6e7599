package recognise

import (
	"os"
	"path/filepath"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

func device(t testing.TB, at map[int64]string) *disk.Image {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "v"), 2*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	for off, b := range at {
		im.WriteAt([]byte(b), off)
	}
	return im
}

func TestSignatures(t *testing.T) {
	for name, c := range map[string]struct {
		at   map[int64]string
		want volume.Kind
	}{
		"nothing":          {nil, ""},
		"zeros written":    {map[int64]string{0: string(make([]byte, 100000))}, ""},
		"one byte":         {map[int64]string{1 << 20: "x"}, volume.Unknown},
		"ReFS":             {map[int64]string{3: "ReFS"}, volume.ReFS},
		"ISO":              {map[int64]string{32769: "CD001"}, volume.ISO},
		"RAID":             {map[int64]string{4096: "\xfc\x4e\x2b\xa9"}, volume.Member},
		"older RAID":       {map[int64]string{2<<20 - 65536: "\xfc\x4e\x2b\xa9\x00\x00\x00\x00"}, volume.Member},
		"RAID 1.0":         {map[int64]string{2<<20 - 8192: "\xfc\x4e\x2b\xa9\x01\x00\x00\x00"}, volume.Member},
		"neither":          {map[int64]string{2<<20 - 8192: "\xfc\x4e\x2b\xa9\x07\x00\x00\x00"}, volume.Unknown},
		"bcache":           {map[int64]string{4096 + 24: "\xc6\x85\x73\xf6\x4e\x1a\x45\xca\x82\x65\xf5\x7f\x48\xba\x6d\x81"}, volume.Member},
		"ZFS":              {map[int64]string{128<<10 + 5<<10: "\x0c\xb1\xba\x00\x00\x00\x00\x00"}, volume.Member},
		"XFS":              {map[int64]string{0: "XFSB"}, volume.XFS},
		"Btrfs":            {map[int64]string{65600: "_BHRfS_M"}, volume.Btrfs},
		"Btrfs, a set":     {map[int64]string{65600: "_BHRfS_M", 65536 + 136: "\x02"}, volume.Member},
		"APFS":             {map[int64]string{32: "NXSB"}, volume.APFS},
		"HFS+":             {map[int64]string{1024: "H+\x00\x04"}, volume.HFSPlus},
		"half an exFAT":    {map[int64]string{3: "EXFAT   ", 510: "\x55\xaa"}, volume.Unknown},
		"swap":             {map[int64]string{4086: "SWAPSPACE2"}, volume.Swap},
		"LVM":              {map[int64]string{512: "LABELONE"}, volume.LVM},
		"encrypted":        {map[int64]string{0: "LUKS\xba\xbe\x00\x02"}, volume.Sealed},
		"encrypted volume": {map[int64]string{3: "-FVE-FS-"}, volume.Sealed},
		"half an ext":      {map[int64]string{1024 + 56: "\x53\xef"}, volume.Unknown},
		"half an NTFS":     {map[int64]string{3: "NTFS    ", 510: "\x55\xaa"}, volume.Unknown},
		"half a FAT":       {map[int64]string{0: "\xeb\x3c\x90", 54: "FAT16   ", 510: "\x55\xaa"}, volume.Unknown},
	} {
		f, err := Open(device(t, c.at))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		got := volume.Kind("")
		if f.Info != nil {
			got = f.Info.Kind
			if f.Info.TotalBytes != 2*disk.MiB {
				t.Errorf("%s: measured %d", name, f.Info.TotalBytes)
			}
		}
		if got != c.want || f.Volume != nil {
			t.Errorf("%s is %q, want %q", name, got, c.want)
		}
	}
}

// TestHandledWhole reads what is known of volumes that nobody looks into: label, id and length.
func TestHandledWhole(t *testing.T) {
	for name, c := range map[string]struct {
		at            map[int64]string
		label, serial string
		size          disk.Bytes
	}{
		"XFS":      {map[int64]string{0: "XFSB\x00\x00\x10\x00\x00\x00\x00\x00\x00\x00\x01\x80", 32: "\xab", 108: "Attic"}, "Attic", "ab000000000000000000000000000000", 0x180 << 12},
		"Btrfs":    {map[int64]string{65600: "_BHRfS_M", 65568: "\xcd", 65536 + 209: "\x00\x00\x18", 65536 + 299: "Cellar"}, "Cellar", "cd000000000000000000000000000000", 3 * disk.MiB / 2},
		"APFS":     {map[int64]string{32: "NXSB\x00\x10\x00\x00\x80\x01"}, "", "00000000000000000000000000000000", 0x180 << 12},
		"HFS+":     {map[int64]string{1024: "H+\x00\x04", 1024 + 40: "\x00\x00\x10\x00\x00\x00\x03\x00"}, "", "", 3 * disk.MiB},
		"no block": {map[int64]string{0: "XFSB\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x01\x80"}, "", "00000000000000000000000000000000", 2 * disk.MiB},
		"endless":  {map[int64]string{0: "XFSB\x00\x00\x10\x00\xff\xff\xff\xff\xff\xff\xff\xff"}, "", "00000000000000000000000000000000", 2 * disk.MiB},
	} {
		f, err := Open(device(t, c.at))
		if err != nil || f.Info == nil || f.Info.Label != c.label || f.Info.Serial != c.serial || f.Info.TotalBytes != c.size {
			t.Errorf("%s: %+v, %v", name, f.Info, err)
		}
		if tooLong := len(f.Findings) == 1 && f.Findings[0].Code == "volume-too-long"; tooLong != (c.size > 2*disk.MiB) {
			t.Errorf("%s: %+v", name, f.Findings)
		}
	}
}

// TestMemberBehindAVolume has the mark of a set behind a whole file system: it is one of a set all the same.
func TestMemberBehindAVolume(t *testing.T) {
	for at, major := range map[disk.Bytes]byte{32*disk.MiB - 8*disk.KiB: 1, 32*disk.MiB - 64*disk.KiB: 0} {
		p := disk.NewPaper(32*disk.MiB, 512)
		if err := ntfs.Make(p, ntfs.Options{Label: "Set", Serial: 7}); err != nil {
			t.Fatal(err)
		}
		if f, err := Open(p); err != nil || f.Volume == nil {
			t.Fatal(f, err)
		}
		if _, err := p.WriteAt([]byte{0xfc, 0x4e, 0x2b, 0xa9, major, 0, 0, 0}, int64(at)); err != nil {
			t.Fatal(err)
		}
		if f, err := Open(p); err != nil || f.Volume != nil || f.Info.Kind != volume.Member {
			t.Errorf("a mark at %s: %+v, %v", at, f.Info, err)
		}
	}
}

// FuzzOpen recognises whatever the first and second half of a device hold.
func FuzzOpen(f *testing.F) {
	f.Add([]byte("\xeb\x52\x90NTFS    "), []byte("x"))
	f.Add([]byte("\xeb\x3c\x90MSDOS5.0"), []byte{})
	f.Fuzz(func(t *testing.T, a, b []byte) {
		if len(a)+len(b) > 1<<20 {
			return
		}
		p := filepath.Join(t.TempDir(), "v")
		os.WriteFile(p, nil, 0o600)
		os.Truncate(p, int64(disk.MiB*2))
		im, err := disk.OpenImage(p, 512, true)
		if err != nil {
			t.Fatal(err)
		}
		defer im.Close()
		im.WriteAt(a, 0)
		im.WriteAt([]byte{0x55, 0xaa}, 510)
		im.WriteAt(b, 1024)
		Open(im)
	})
}
