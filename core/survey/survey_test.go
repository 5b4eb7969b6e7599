package survey

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

var day = time.Date(2026, 11, 20, 16, 40, 0, 0, time.UTC)

func uid(n int) string { return fmt.Sprintf("5a1c77e0-1042-4d0b-9c3e-0000000000%02x", n) }

// piece is one partition of a test drive.
type piece struct {
	typ   string
	attrs uint64
	fill  func(t *testing.T, w disk.Device)
}

// raw puts bytes at places of a partition.
func raw(at map[int64][]byte) func(t *testing.T, w disk.Device) {
	return func(t *testing.T, w disk.Device) {
		for off, b := range at {
			if _, err := w.WriteAt(b, off); err != nil {
				t.Fatal(err)
			}
		}
	}
}

func ntfsWith(hidden uint32, files ...string) func(t *testing.T, w disk.Device) {
	return volumeOf(ntfs.Options{Label: "V", Time: day, Hidden: hidden}, files...)
}

func volumeOf(o ntfs.Options, files ...string) func(t *testing.T, w disk.Device) {
	for _, f := range files {
		o.Files = append(o.Files, volume.Source{Path: f, Data: []byte(f)})
	}
	return func(t *testing.T, w disk.Device) {
		if err := ntfs.Make(w, o); err != nil {
			t.Fatal(err)
		}
	}
}

const each = 40 * disk.MiB

func drive(t *testing.T, pieces ...piece) *disk.Image {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d.img"), disk.Bytes(len(pieces)+1)*each, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	var entries []table.Entry
	at := disk.MiB
	for i, p := range pieces {
		entries = append(entries, table.NewEntry(table.Entry{Slot: i + 1, TypeID: p.typ, UniqueID: uid(i + 1), Start: at.At(512), End: (at + each).At(512) - 1, Attributes: p.attrs}))
		if p.fill != nil {
			p.fill(t, disk.NewWindow(im, at, each))
		}
		at += each
	}
	if err := table.New(im, uid(0xd0), entries...).Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	return im
}

func TestRolesAndKinds(t *testing.T) {
	efi := func(t *testing.T, w disk.Device) {
		if err := fat.Make(w, fat.Options{Label: "SYSTEM", Cluster: 512, Time: day}); err != nil {
			t.Fatal(err)
		}
	}
	system := ntfsWith(0, "Windows/System32/config/SYSTEM")
	large := bytes.Repeat([]byte{7}, 17<<20)
	film := ntfs.Options{Label: "V", Time: day, Files: []volume.Source{{Path: "Recovery/holiday.mp4", Data: large}}}
	rescue := ntfs.Options{Label: "V", Time: day, Files: []volume.Source{{Path: "Recovery/WindowsRE/Winre.wim", Data: large}}}
	cases := []struct {
		piece
		role      layout.Role
		kind      volume.Kind // "" for nothing
		protected bool
		finding   string
	}{
		{piece{table.TypeEFI, 0, efi}, layout.EFI, volume.FAT32, true, "efi-without-loader"},
		{piece{table.TypeEFI, 0, nil}, layout.EFI, "", true, "efi-without-fat"},
		{piece{table.TypeReserved, 0, nil}, layout.Reserved, "", true, ""},
		{piece{table.TypeReserved, 0, ntfsWith(0)}, layout.Reserved, volume.NTFS, true, "reserved-with-volume"},
		{piece{table.TypeBasic, 0, system}, layout.StartSystem, volume.NTFS, false, ""},
		{piece{table.TypeBasic, 0, system}, layout.OtherSystem, volume.NTFS, false, ""},
		{piece{table.TypeBasic, 0, ntfsWith(0, "Windows/notes.txt")}, layout.Data, volume.NTFS, false, ""},
		{piece{table.TypeBasic, table.AttrRequired, ntfsWith(0)}, layout.OEM, volume.NTFS, true, ""},
		{piece{table.TypeBasic, table.AttrReadOnly, ntfsWith(0)}, layout.Data, volume.NTFS, true, ""},
		{piece{table.TypeRecovery, 0, nil}, layout.Recovery, "", true, "recovery-empty"},
		{piece{table.TypeOEM, 0, nil}, layout.OEM, "", true, ""},
		{piece{table.TypeLinux, 0, ntfsWith(0)}, layout.Data, volume.NTFS, false, "type-and-contents"},
		{piece{table.TypeRecovery, 0, ntfsWith(0, "notes.txt")}, layout.Recovery, volume.NTFS, true, "recovery-without-image"},
		{piece{table.TypeSwap, 0, ntfsWith(0)}, layout.Swap, volume.NTFS, false, "swap-with-volume"},
		{piece{table.TypeSwap, 0, raw(map[int64][]byte{4086: []byte("SWAPSPACE2")})}, layout.Swap, volume.Swap, false, ""},
		{piece{table.TypeBasic, 0, raw(map[int64][]byte{4096: []byte("\xfc\x4e\x2b\xa9")})}, layout.Data, volume.Member, false, ""},
		{piece{table.TypeLinux, 0, raw(map[int64][]byte{0: []byte("LUKS\xba\xbe")})}, layout.Data, volume.Sealed, false, ""},
		{piece{table.TypeLVM, 0, raw(map[int64][]byte{512: []byte("LABELONE")})}, layout.Data, volume.LVM, false, ""},
		{piece{table.TypeBasic, 0, nil}, layout.Unknown, "", false, ""},
		{piece{table.TypeBasic, 0, raw(map[int64][]byte{int64(each) - 600: {1}})}, layout.Unknown, volume.Unknown, false, ""},
		{piece{table.TypeBasic, 0, raw(map[int64][]byte{3: append([]byte("NTFS    "), make([]byte, 499)...), 510: {0x55, 0xaa}})}, layout.Unknown, volume.Unknown, false, "volume-damaged"},
		{piece{table.TypePool, 0, nil}, layout.Unknown, "", false, ""},
		{piece{table.TypeBasic, 0, raw(map[int64][]byte{65600: []byte("_BHRfS_M")})}, layout.Data, volume.Btrfs, false, "type-and-contents"},
		{piece{table.TypeOEM, 0, ntfsWith(0, "Letters/to Ida.docx")}, layout.OEM, volume.NTFS, true, "persons-files"},
		{piece{table.TypeOEM, 0, ntfsWith(0, "Tools/wallpaper.jpg")}, layout.OEM, volume.NTFS, true, ""},
		{piece{table.TypeBasic, 0, volumeOf(ntfs.Options{Label: "Recovery", Time: day}, "Letters/to Ida.docx")}, layout.Data, volume.NTFS, false, "name-and-contents"},
		{piece{table.TypeBasic, 0, volumeOf(rescue)}, layout.Data, volume.NTFS, true, "recovery-by-contents"},
		{piece{table.TypeRecovery, 0, volumeOf(rescue)}, layout.Recovery, volume.NTFS, true, ""},
		{piece{table.TypeRecovery, 0, volumeOf(film)}, layout.Recovery, volume.NTFS, true, "recovery-without-image"},
	}
	var pieces []piece
	for _, c := range cases {
		pieces = append(pieces, c.piece)
	}
	facts := &pc.Facts{Version: 1, State: pc.Running, Start: uid(5), Letters: map[string]string{uid(7): "P"}, Held: map[string]string{uid(7): "the scanner program"}}
	sv, err := Read(drive(t, pieces...), facts)
	if err != nil {
		t.Fatal(err)
	}
	for i, c := range cases {
		p, ok := sv.Layout.Find(i + 1)
		if !ok {
			t.Fatalf("partition %d is missing", i+1)
		}
		kind := volume.Kind("")
		if p.Volume != nil {
			kind = p.Volume.Kind
		}
		if p.Role != c.role || kind != c.kind || p.Protected != c.protected {
			t.Errorf("partition %d: role %s, kind %q, protected %v; want %s, %q, %v", i+1, p.Role, kind, p.Protected, c.role, c.kind, c.protected)
		}
		found := ""
		for _, f := range sv.Layout.Findings {
			if f.Partition == i+1 {
				found = f.Code
			}
		}
		if found != c.finding {
			t.Errorf("partition %d: finding %q, want %q", i+1, found, c.finding)
		}
	}
	if p, _ := sv.Layout.Find(7); p.Letter != "P" || p.Held != "the scanner program" {
		t.Errorf("letter %q, held by %q", p.Letter, p.Held)
	}
	// What nobody can look into may be somebody's, and so is what persons have wherever it lies.
	for n, want := range map[int]bool{3: false, 4: true, 11: false, 13: true, 19: false, 20: true, 21: true, 23: true, 24: true, 25: false, 26: true, 27: true, 28: false, 29: true} {
		if p, _ := sv.Layout.Find(n); p.Personal != want {
			t.Errorf("partition %d: may be somebody's: %v, want %v", n, p.Personal, want)
		}
	}
	var unread []int
	for _, p := range sv.NotLookedInto() {
		unread = append(unread, p.Number)
	}
	if want := []int{15, 16, 17, 18, 20, 21, 23}; !slices.Equal(unread, want) {
		t.Errorf("not looked into: %v, want %v", unread, want)
	}
	if p, _ := sv.Layout.Find(22); !p.Member {
		t.Error("a member of a pool was not told apart")
	}
	without, err := Read(drive(t, pieces[4]), nil)
	if err != nil {
		t.Fatal(err)
	}
	if p, _ := without.Layout.Find(1); p.Role != layout.OtherSystem {
		t.Errorf("without facts a system is %s", p.Role)
	}
}

func TestCheck(t *testing.T) {
	im := drive(t, piece{table.TypeBasic, 0, ntfsWith(2048)}, piece{table.TypeBasic, 0, ntfsWith(7)})
	sv, err := Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	l := sv.Check()
	if len(l) != 1 || l[0].Code != "hidden-sectors" || l[0].Severity != "note" || l[0].Partition != 2 {
		t.Errorf("found %+v", l)
	}
	blank, err := disk.CreateImage(filepath.Join(t.TempDir(), "b.img"), each, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer blank.Close()
	if sv, err = Read(blank, nil); err != nil || sv.Layout.Scheme != "none" || len(sv.Layout.Spans) != 1 || sv.Layout.Spans[0].Why != layout.Free {
		t.Errorf("a blank drive: %+v, %v", sv.Layout, err)
	}
}

func TestIdentity(t *testing.T) {
	p := filepath.Join(t.TempDir(), "d.img")
	if id, err := ReadIdentity(p); err != nil || id != (Identity{}) {
		t.Errorf("none: %+v, %v", id, err)
	}
	os.WriteFile(p+".drive.json", []byte(`{"model": "stick", "serial": "A-1", "removable": true}`), 0o644)
	if id, err := ReadIdentity(p); err != nil || id != (Identity{Model: "stick", Serial: "A-1", Removable: true}) {
		t.Errorf("%+v, %v", id, err)
	}
	os.WriteFile(p+".drive.json", []byte(`{`), 0o644)
	if _, err := ReadIdentity(p); err == nil {
		t.Error("half an identity was taken")
	}
}

func TestFactsAboutThePC(t *testing.T) {
	for text, ok := range map[string]bool{
		`{"version": 1, "name": "a", "state": "off", "letters": {"x": "C"}}`: true,
		`{"version": 2, "state": "off"}`:                                     false,
		`{"version": 1, "state": "asleep"}`:                                  false,
		`{"version": 1, "state": "off", "lettres": {}}`:                      false,
		`[]`: false,
	} {
		if _, err := pc.Parse([]byte(text)); (err == nil) != ok {
			t.Errorf("%s: %v", text, err)
		}
	}
}

func TestApart(t *testing.T) {
	id := Identity{Model: "512 GB solid-state drive", Serial: "TLX5-220-7F3K"}
	for name, c := range map[string]struct {
		other Seen
		last  int
		alike bool
	}{
		"another":          {Seen{Identity{Model: "2 TB", Serial: "KRN9-771-0B42"}, 2}, 4, false},
		"ends alike":       {Seen{Identity{Model: "2 TB", Serial: "ZZZ9-110-7f3k"}, 2}, 6, true},
		"looks alike":      {Seen{Identity{Model: "512 GB Solid-state drive", Serial: "KRN9-771-0B42"}, 1}, 4, true},
		"of another size":  {Seen{Identity{Model: "512 GB solid-state drive", Serial: "KRN9-771-0B42"}, 2}, 4, false},
		"the same serial":  {Seen{id, 1}, 11, true},
		"longer, same end": {Seen{Identity{Serial: "AATLX5-220-7F3K"}, 2}, 11, true},
		"without a serial": {Seen{Identity{}, 2}, 4, false},
	} {
		last, alike := Apart(id, 1, map[string]Seen{"B": c.other})
		if last != c.last || (len(alike) == 1) != c.alike {
			t.Errorf("%s: %d, %v", name, last, alike)
		}
	}
}

// TestTypesOfTheOldTable finds types of an MBR that are for other volumes than they hold.
func TestTypesOfTheOldTable(t *testing.T) {
	for _, c := range []struct {
		typ  string
		ntfs bool
		want bool
	}{{"07", true, false}, {"0c", true, true}, {"06", true, true}, {"0c", false, false}, {"0b", false, false}, {"07", false, true}} {
		im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d.img"), 64*disk.MiB, 512)
		if err != nil {
			t.Fatal(err)
		}
		w := disk.NewWindow(im, disk.MiB, 60*disk.MiB)
		if c.ntfs {
			err = ntfs.Make(w, ntfs.Options{Hidden: 2048, Time: time.Now()})
		} else {
			err = fat.Make(w, fat.Options{Hidden: 2048, Cluster: 512, Time: time.Now()})
		}
		if err != nil {
			t.Fatal(err)
		}
		e := table.MBREntry(table.Entry{Slot: 1, TypeID: c.typ, Start: 2048, End: 2048 + (60 * disk.MiB).At(512) - 1}, 512)
		if err := table.NewMBR(im, 0x7f3b1046, e).Apply(im, nil); err != nil {
			t.Fatal(err)
		}
		sv, err := Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		found := slices.ContainsFunc(sv.Layout.Findings, func(f finding.Finding) bool { return f.Code == "type-and-contents" && f.Partition == 1 })
		if found != c.want {
			t.Errorf("type %s, NTFS %v: %+v", c.typ, c.ntfs, sv.Layout.Findings)
		}
		im.Close()
	}
}

// TestLoadersOfAnotherType takes loaders on the drive that the PC starts from for what they are, whatever the
// type of their partition says.
func TestLoadersOfAnotherType(t *testing.T) {
	with := func(paths ...string) func(t *testing.T, w disk.Device) {
		return func(t *testing.T, w disk.Device) {
			var files []volume.Source
			for _, p := range paths {
				files = append(files, volume.Source{Path: p, Data: []byte("start")})
			}
			if err := fat.Make(w, fat.Options{Cluster: 512, Time: day, Files: files}); err != nil {
				t.Fatal(err)
			}
		}
	}
	im := drive(t, piece{table.TypeBasic, 0, with("EFI/Boot/bootx64.efi")}, piece{table.TypeBasic, 0, with("EFI/Boot/read me.txt")}, piece{table.TypeBasic, 0, with("Boot/bootx64.efi")})
	for starts, want := range map[string][]layout.Role{uid(0xd0): {layout.EFI, layout.Data, layout.Data}, uid(0xd1): {layout.Data, layout.Data, layout.Data}, "": {layout.Data, layout.Data, layout.Data}} {
		sv, err := Read(im, &pc.Facts{Version: 1, StartDrive: starts})
		if err != nil {
			t.Fatal(err)
		}
		for i, role := range want {
			p, _ := sv.Layout.Find(i + 1)
			told := slices.ContainsFunc(sv.Layout.Findings, func(f finding.Finding) bool { return f.Code == "efi-by-contents" && f.Partition == i+1 })
			if p.Role != role || p.Protected != (role == layout.EFI) || told != (role == layout.EFI) {
				t.Errorf("start drive %q, partition %d: %s, protected %v, told %v", starts, i+1, p.Role, p.Protected, told)
			}
		}
	}
}
