// Package demo holds the stand-ins: the demo's drives, jobs, technicians and
// PCs. Everything in it is invented.
package demo

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/pc"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// People are those of Lantern Quay Repairs. The last one is the lead.
var People = []store.NewPerson{
	{Name: "Ines Marsh", Login: "ines", Password: "lantern-ines", Role: store.Worker},
	{Name: "Tobias Wren", Login: "tobias", Password: "lantern-tobias", Role: store.Worker},
	{Name: "Odile Farrow", Login: "odile", Password: "lantern-odile", Role: store.Leader},
}

// jobs on the demo's bench.
var jobs = []store.Job{
	{
		Number: "J-1042", Customer: "Tidewater Vets", PC: "reception PC",
		Story: "C: is nearly full; a recovery partition, the X-ray volume X: and an OEM area stand between it and the gap.",
		Want:  "C: gains 1 GiB and more", Goal: "gain", GoalOf: "C", GoalAmount: "1 GiB",
	},
	{
		Number: "J-1043", Customer: "Kiln & Clover pottery", PC: "studio laptop",
		Story: "Two systems; the glaze recipes in the old one must be kept. Its space lies before the one that stays.",
		Want:  "One system less, its room for C:", Goal: "remove", GoalOf: "D",
	},
	{
		Number: "J-1044", Customer: "Fernhill Choir", PC: "library PC",
		Story: "A retired lending terminal's drive becomes the archive of recordings.",
		Want:  "The whole drive as plain storage", Goal: "clear",
	},
	{
		Number: "J-1045", Customer: "Saltmarsh Surveyors", PC: "field notebook",
		Story: "P: (Plots) is gone from the table after a helper tidied up the drive; a newer small volume lies over one corner of it.",
		Want:  "P: back with all its plots",
	},
	{
		Number: "J-1046", Customer: "Brightwater Bakery", PC: "office PC",
		Story: "Three logical volumes become two, and the gap outside the container goes to the first primary.",
		Want:  "Two volumes, and C: larger", Goal: "combine", GoalOf: "E",
	},
	{
		Number: "J-1047", Customer: "Moss Lane Cycles", PC: "till PC",
		Story: "T: (Tills) cannot be opened: a card reader holds its letter. The PC is running.",
		Want:  "T: opens again",
	},
}

// bays of the demo's bench, with their images below the folder drives/ and the jobs that these are here for.
var bays = []struct{ letter, image, job string }{
	{"A", "tidewater-reception.img", "J-1042"},
	{"B", shelfImage, ""},
	{"C", "", ""},
	{"D", "kiln-studio.img", "J-1043"},
	{"E", "fernhill-terminal.img", "J-1044"},
	{"F", "saltmarsh-notebook.img", "J-1045"},
	{"G", "brightwater-office.img", "J-1046"},
	{"H", "mosslane-till.img", "J-1047"},
	{"I", "", ""},
}

const shelfImage = "shelf.img"

// Opening is the demo's shop as it opens.
func Opening() store.Opening {
	o := store.Opening{
		Settings: store.Settings{Name: "Lantern Quay Repairs", Address: "Port Ellery", Demo: true},
		People:   People, Jobs: jobs,
	}
	for _, b := range bays {
		row := store.Bay{Letter: b.letter, Shelf: b.image == shelfImage}
		if b.image != "" {
			row.Image = &b.image
		}
		if b.job != "" {
			row.Job = &b.job
		}
		o.Bays = append(o.Bays, row)
	}
	return o
}

// Unique ids of the reception PC's drive.
const (
	receptionDisk = "5a1c77e0-1042-4d0b-9c3e-7f3ba1042001"
	receptionEFI  = "5a1c77e0-1042-4d0b-9c3e-7f3ba1042011"
	receptionMSR  = "5a1c77e0-1042-4d0b-9c3e-7f3ba1042012"
	receptionC    = "5a1c77e0-1042-4d0b-9c3e-7f3ba1042013"
	receptionRec  = "5a1c77e0-1042-4d0b-9c3e-7f3ba1042014"
	receptionX    = "5a1c77e0-1042-4d0b-9c3e-7f3ba1042015"
	receptionOEM  = "5a1c77e0-1042-4d0b-9c3e-7f3ba1042016"
	shelfDisk     = "5a1c77e0-5e1f-4d0b-9c3e-0b42a1042001"
	shelfVolume   = "5a1c77e0-5e1f-4d0b-9c3e-0b42a1042011"
)

// day is when the demo's drives were last used by their owners.
var day = time.Date(2026, 11, 20, 16, 40, 0, 0, time.UTC)

// Make makes the demo's drives, their identities and the facts about the PCs in
// dir; what exists is left as it is. It tells how many drives were made.
func Make(dir string) (int, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return 0, err
	}
	made := 0
	for _, d := range []struct {
		image string
		id    survey.Identity
		facts *pc.Facts
		make  func(path string) error
	}{
		{"tidewater-reception.img", survey.Identity{Model: "512 GB solid-state drive", Serial: "TLX5-220-7F3K"}, &pc.Facts{
			Version: 1, Name: "reception PC", State: pc.Off, Start: receptionC, StartDrive: receptionDisk, Letters: map[string]string{receptionC: "C", receptionX: "X"},
			Order: []pc.StartEntry{{Partition: receptionC, Title: "System"}}, Recovery: &pc.Recovery{Partition: receptionRec, InUse: true},
		}, reception},
		{"kiln-studio.img", survey.Identity{Model: "1 TB laptop drive", Serial: "QPD4-305-1C8M"}, &pc.Facts{
			Version: 1, Name: "studio laptop", State: pc.Off, Start: id(1043, 14), StartDrive: id(1043, 1), Wait: 30,
			Order: []pc.StartEntry{
				{Partition: id(1043, 14), Title: "System"}, {Partition: id(1043, 13), Title: "Old system"},
			},
			Letters:  map[string]string{id(1043, 14): "C", id(1043, 13): "D"},
			Recovery: &pc.Recovery{Partition: id(1043, 15), InUse: true}, RestorePoints: []string{id(1043, 14)},
		}, studio},
		{"fernhill-terminal.img", survey.Identity{Model: "1 TB hard drive", Serial: "HVN2-640-4D7C"}, &pc.Facts{
			Version: 1, Name: "library PC", State: pc.Off, Letters: map[string]string{id(1044, 13): "E", id(1044, 14): "G"},
		}, terminal},
		{"saltmarsh-notebook.img", survey.Identity{Model: "256 GB solid-state drive", Serial: "TLX3-091-6B2W"}, &pc.Facts{
			Version: 1, Name: "field notebook", State: pc.Off, Start: id(1045, 13), StartDrive: id(1045, 1),
			Letters: map[string]string{id(1045, 13): "C", id(1045, 15): "N"}, Wanted: map[string]string{id(1045, 14): "P"},
		}, notebook},
		{"brightwater-office.img", survey.Identity{
			Model: "1 TB hard drive", Serial: "HVN2-118-4D7C",
		}, bakeryPC(), bakery},
		{"mosslane-till.img", survey.Identity{Model: "128 GB solid-state drive", Serial: "TLX1-447-8A0R"}, &pc.Facts{
			Version: 1, Name: "till PC", State: pc.Running, Start: id(1047, 13), StartDrive: id(1047, 1),
			Letters: map[string]string{id(1047, 13): "C"}, Devices: []pc.Device{
				{Name: "the card reader", Letter: "T"}, {Name: "the optical drive", Letter: "D"},
			},
			Wanted: map[string]string{id(1047, 14): "T"}, Recovery: &pc.Recovery{Partition: id(1047, 13), Parked: true},
		}, till},
		{"shelf.img", survey.Identity{Model: "2 TB backup drive", Serial: "KRN9-771-0B42"}, nil, shelfDrive},
	} {
		path := filepath.Join(dir, d.image)
		if _, err := os.Stat(path); err == nil {
			continue
		} else if !errors.Is(err, fs.ErrNotExist) {
			return made, err
		}
		// Made under another name, so that a drive that was cut short is made anew.
		part := path + ".part"
		if err := os.Remove(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return made, err
		}
		if err := d.make(part); err != nil {
			return made, fmt.Errorf("%s: %w", d.image, err)
		}
		if err := writeJSON(path+".drive.json", d.id); err != nil {
			return made, err
		}
		if d.facts != nil {
			if err := writeJSON(path+".pc.json", d.facts); err != nil {
				return made, err
			}
		}
		if err := os.Rename(part, path); err != nil {
			return made, err
		}
		made++
	}
	return made, nil
}

func writeJSON(path string, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append(b, '\n'), 0o644)
}

// part is a partition of a demo drive.
type part struct {
	typ, id, name string
	size          disk.Bytes
	attrs         uint64
	fill          func(w disk.Device, hidden uint32) error
}

// build makes a drive with the partitions one after the other from 1 MiB on.
func build(path string, size, sector disk.Bytes, diskID string, parts []part) error {
	im, err := disk.CreateImage(path, size, sector)
	if err != nil {
		return err
	}
	defer im.Close()
	var entries []table.Entry
	at := disk.MiB
	for i, p := range parts {
		entries = append(entries, table.NewEntry(table.Entry{
			Slot: i + 1, TypeID: p.typ, UniqueID: p.id, Start: at.At(sector), End: (at + p.size).At(sector) - 1, Attributes: p.attrs, Name: p.name,
		}))
		if p.fill != nil {
			if err := p.fill(disk.NewWindow(im, at, p.size), uint32(at.At(sector))); err != nil {
				return fmt.Errorf("%s: %w", p.name, err)
			}
		}
		at += p.size
	}
	if err := table.New(im, diskID, entries...).Apply(im, nil); err != nil {
		return err
	}
	return im.Sync()
}

func reception(path string) error {
	g := newGenerator(1042)
	return build(path, 512110190592, 512, receptionDisk, []part{
		{table.TypeEFI, receptionEFI, "EFI system partition", 260 * disk.MiB, table.AttrNoLetter, func(w disk.Device, hidden uint32) error {
			return fat.Make(
				w, fat.Options{Label: "SYSTEM", Serial: 0x7f3b1042, Hidden: hidden, Time: day, Files: g.loader()},
			)
		}},
		{table.TypeReserved, receptionMSR, "Reserved partition", 16 * disk.MiB, table.AttrNoLetter, nil},
		{table.TypeBasic, receptionC, "Basic data partition", 138 * disk.GiB, 0, func(w disk.Device, hidden uint32) error {
			return ntfs.Make(
				w,
				ntfs.Options{
					Label: "System", Serial: 0x5a1c77e07f3b1042, Hidden: hidden, Time: day,
					Files: g.system(131*disk.GiB + 400*disk.MiB),
				},
			)
		}},
		{table.TypeRecovery, receptionRec, "Recovery partition", 1290 * disk.MiB, table.AttrRequired | table.AttrNoLetter, func(w disk.Device, hidden uint32) error {
			return ntfs.Make(
				w,
				ntfs.Options{
					Label: "Recovery", Serial: 0x5a1c77e07f3b1043, Hidden: hidden, Time: day, Files: g.recovery(),
				},
			)
		}},
		{table.TypeBasic, receptionX, "Basic data partition", 210 * disk.GiB, 0, func(w disk.Device, hidden uint32) error {
			return ntfs.Make(
				w,
				ntfs.Options{
					Label: "X-rays", Serial: 0x5a1c77e07f3b1044, Hidden: hidden, Time: day,
					Files: g.xrays(74 * disk.GiB),
				},
			)
		}},
		{table.TypeOEM, receptionOEM, "Maker's area", 14*disk.GiB + 205*disk.MiB, table.AttrRequired | table.AttrNoLetter, func(w disk.Device, hidden uint32) error {
			return ntfs.Make(
				w,
				ntfs.Options{
					Label: "Maker", Serial: 0x5a1c77e07f3b1045, Hidden: hidden, Time: day,
					Files: g.maker(9 * disk.GiB),
				},
			)
		}},
	})
}

func shelfDrive(path string) error {
	return build(path, 2000398934016, 512, shelfDisk, []part{
		{table.TypeBasic, shelfVolume, "Basic data partition", (2000398934016 - 2*disk.MiB).Down(disk.Grid), 0, func(w disk.Device, hidden uint32) error {
			return ntfs.Make(w, ntfs.Options{Label: "Shelf", Serial: 0x5a1c77e00b421042, Hidden: hidden, Time: day, Files: []volume.Source{
				{Path: "Read me.txt", Data: []byte("Lantern Quay Repairs, Port Ellery. Backups of customers' drives. Never work on this drive.\r\n")},
			}})
		}},
	})
}

// generator makes the invented files, the same ones every time.
type generator struct {
	rng  *rand.Rand
	seed uint64
}

func newGenerator(seed uint64) *generator {
	return &generator{rand.New(rand.NewPCG(seed, 7)), seed}
}

func (g *generator) when() time.Time {
	return day.Add(-time.Duration(g.rng.IntN(900*24)) * time.Hour).Truncate(2 * time.Second)
}

// text is some lines of an invented note.
func (g *generator) text(title string, lines int) []byte {
	words := []string{
		"left", "right", "paw", "weighs", "less", "than", "in", "spring", "drops", "twice", "a", "day", "owner",
		"asks", "for", "the", "picture", "again", "calm", "seen", "by", "the", "window", "next", "visit", "in",
		"three", "weeks",
	}
	b := []byte(title + "\r\n")
	for range lines {
		for range 6 + g.rng.IntN(6) {
			b = append(append(b, words[g.rng.IntN(len(words))]...), ' ')
		}
		b = append(b, "\r\n"...)
	}
	return b
}

// noise is bytes that do not compress.
func (g *generator) noise(n int) []byte {
	g.seed++
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{byte(g.seed), byte(g.seed >> 8), 3}).Read(b)
	return b
}

func (g *generator) loader() []volume.Source {
	var out []volume.Source
	out = append(out, volume.Source{Path: "EFI/Boot/bootx64.efi", Data: g.noise(1400 << 10), Modified: g.when()})
	for i := range 24 {
		out = append(out, volume.Source{
			Path: fmt.Sprintf("EFI/Loader/Languages/words-%02d.dat", i), Data: g.noise(20<<10 + i*700),
			Modified: g.when(),
		})
	}
	return append(out, volume.Source{
		Path: "EFI/Loader/start.cfg", Data: []byte("wait 5\r\nstart reception\r\n"), Modified: g.when(),
	})
}

var species = []string{"cat", "dog", "rabbit", "goose", "tortoise", "ferret", "parrot", "hedgehog"}

// spread reserves room over a few large files, so that a volume is as full as
// its story says.
func (g *generator) spread(dir string, n int, total disk.Bytes) []volume.Source {
	var out []volume.Source
	for i := range n {
		out = append(out, volume.Source{
			Path: fmt.Sprintf("%s/block-%03d.cache", dir, i), Data: g.text("cache block", 4),
			Reserve: total / disk.Bytes(n), Modified: g.when(),
		})
	}
	return out
}

func (g *generator) system(full disk.Bytes) []volume.Source {
	var out []volume.Source
	for i := range 300 {
		out = append(out, volume.Source{
			Path: fmt.Sprintf("Windows/System32/module-%03d.dll", i), Data: g.noise(2<<10 + g.rng.IntN(14<<10)),
			Modified: g.when(),
		})
	}
	for _, hive := range []string{"SYSTEM", "SOFTWARE", "SAM"} {
		out = append(out, volume.Source{
			Path: "Windows/System32/config/" + hive, Data: g.noise(64 << 10), Modified: g.when(),
		})
	}
	for i := range 1800 {
		s := species[g.rng.IntN(len(species))]
		out = append(out, volume.Source{
			Path: fmt.Sprintf("Practice/Patients/%02d/%s-%05d card.txt", i%60, s, 10000+i*7),
			Data: g.text("Patient card: "+s, 3+g.rng.IntN(30)), Modified: g.when(),
		})
	}
	for i := range 240 {
		out = append(out, volume.Source{
			Path: fmt.Sprintf("Practice/Letters/2026-%02d/reminder %03d.txt", 1+i%11, i),
			Data: g.text("Reminder", 12), Modified: g.when(),
		})
	}
	return append(out, g.spread("Practice/Imaging cache", 96, full)...)
}

func (g *generator) recovery() []volume.Source {
	out := []volume.Source{
		{Path: "Recovery/rescue image.bin", Data: g.noise(40 << 20), Reserve: 700 * disk.MiB, Modified: g.when()},
		{Path: "Recovery/boot image.sdi", Data: g.noise(3 << 20), Modified: g.when()},
		{Path: "Recovery/settings.xml", Data: []byte("<recovery place=\"4\" in-use=\"yes\"/>\r\n"), Modified: g.when()},
	}
	for i := range 30 {
		out = append(out, volume.Source{
			Path: fmt.Sprintf("Recovery/Logs/attempt-%02d.log", i), Data: g.text("Recovery log", 9),
			Modified: g.when(),
		})
	}
	return out
}

func (g *generator) xrays(full disk.Bytes) []volume.Source {
	var out []volume.Source
	for i := range 900 {
		s := species[g.rng.IntN(len(species))]
		out = append(out, volume.Source{
			Path: fmt.Sprintf("X-rays/%d/%s-%05d view %d.xry", 2024+i%3, s, 10000+i*7, 1+i%4),
			Data: g.noise(4<<10 + g.rng.IntN(20<<10)), Modified: g.when(),
		})
	}
	return append(out, g.spread("X-rays/Full size", 48, full)...)
}

func (g *generator) maker(full disk.Bytes) []volume.Source {
	var out []volume.Source
	for i := range 160 {
		out = append(out, volume.Source{
			Path: fmt.Sprintf("Drivers/Set %d/part-%03d.pak", i%9, i), Data: g.noise(8 << 10), Modified: g.when(),
		})
	}
	return append(out, g.spread("Image", 12, full)...)
}
