package demo

import (
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/pc"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// Ids of the other jobs' drives: the job, and a number within it.
func id(job, n int) string { return fmt.Sprintf("5a1c77e0-%d-4d0b-9c3e-7f3ba%d%03d", job, job, n) }

func ntfsPart(label string, serial uint64, files []volume.Source) func(disk.Device, uint32) error {
	return func(w disk.Device, hidden uint32) error {
		return ntfs.Make(w, ntfs.Options{Label: label, Serial: serial, Hidden: hidden, Time: day, Files: files})
	}
}

func efiPart(serial uint32, files []volume.Source) func(disk.Device, uint32) error {
	return func(w disk.Device, hidden uint32) error {
		return fat.Make(w, fat.Options{Label: "SYSTEM", Serial: serial, Hidden: hidden, Time: day, Files: files})
	}
}

// basicSystem is a system with people's files in a few folders.
func (g *generator) basicSystem(full disk.Bytes, people func() []volume.Source) []volume.Source {
	var out []volume.Source
	for i := range 220 {
		out = append(out, volume.Source{
			Path: fmt.Sprintf("Windows/System32/module-%03d.dll", i), Data: g.noise(2<<10 + g.rng.IntN(12<<10)),
			Modified: g.when(),
		})
	}
	for _, hive := range []string{"SYSTEM", "SOFTWARE", "SAM"} {
		out = append(out, volume.Source{
			Path: "Windows/System32/config/" + hive, Data: g.noise(48 << 10), Modified: g.when(),
		})
	}
	for i := range 40 {
		out = append(out, volume.Source{
			Path: fmt.Sprintf("Program Files/Office/part-%02d.dll", i), Data: g.noise(6 << 10), Modified: g.when(),
		})
	}
	out = append(out, people()...)
	return append(out, g.spread("Windows/Installer", 40, full)...)
}

func (g *generator) many(n int, path func(i int) string, size int) []volume.Source {
	var out []volume.Source
	for i := range n {
		p := path(i)
		s := volume.Source{Path: p, Modified: g.when()}
		if volume.GroupOf(p) == volume.Documents {
			s.Data = g.text(p, 4+g.rng.IntN(20))
		} else {
			s.Data = g.noise(size/2 + g.rng.IntN(size))
		}
		out = append(out, s)
	}
	return out
}

var glazes = []string{"ash", "celadon", "tenmoku", "shino", "oribe", "rutile blue", "chun", "iron red"}

// studio is the laptop of J-1043: the old system lies before the one that stays.
func studio(path string) error {
	g := newGenerator(1043)
	recipes := func() []volume.Source {
		out := g.many(320, func(i int) string {
			return fmt.Sprintf("Users/Clover/Glaze recipes/%s/test %03d.txt", glazes[i%len(glazes)], i)
		}, 3000)
		return append(out, g.many(140, func(i int) string { return fmt.Sprintf("Users/Clover/Pictures/kiln load %03d.jpg", i) }, 9000)...)
	}
	return build(path, 1000204886016, 512, id(1043, 1), []part{
		{table.TypeEFI, id(1043, 11), "EFI system partition", 300 * disk.MiB, table.AttrNoLetter, efiPart(0x1043, g.loader())},
		{table.TypeReserved, id(1043, 12), "Reserved partition", 16 * disk.MiB, table.AttrNoLetter, nil},
		{table.TypeBasic, id(1043, 13), "Basic data partition", 240 * disk.GiB, 0, ntfsPart(
			"Old system", 0x5a1c77e010430003, g.basicSystem(96*disk.GiB, recipes),
		)},
		{table.TypeBasic, id(1043, 14), "Basic data partition", 420 * disk.GiB, 0, ntfsPart("System", 0x5a1c77e010430004, g.basicSystem(371*disk.GiB, func() []volume.Source {
			return g.many(200, func(i int) string {
				return fmt.Sprintf(
					"Users/Clover/Orders/%d/order %03d.txt", 2025+i%2, i,
				)
			}, 3000)
		}))},
		{table.TypeRecovery, id(1043, 15), "Recovery partition", 990 * disk.MiB, table.AttrRequired | table.AttrNoLetter, ntfsPart("Recovery", 0x5a1c77e010430005, g.recovery())},
	})
}

// terminal is the retired lending terminal's drive of J-1044.
func terminal(path string) error {
	g := newGenerator(1044)
	return build(path, 1000204886016, 512, id(1044, 1), []part{
		{table.TypeEFI, id(1044, 11), "EFI system partition", 260 * disk.MiB, table.AttrNoLetter, efiPart(0x1044, g.loader())},
		{table.TypeReserved, id(1044, 12), "Reserved partition", 16 * disk.MiB, table.AttrNoLetter, nil},
		{table.TypeBasic, id(1044, 13), "Basic data partition", 180 * disk.GiB, 0, ntfsPart("Lending", 0x5a1c77e010440003, g.basicSystem(44*disk.GiB, func() []volume.Source {
			return g.many(260, func(i int) string { return fmt.Sprintf("Lending/Loans/%02d/card %04d.csv", i%12+1, i) }, 2000)
		}))},
		{table.TypeBasic, id(1044, 14), "Basic data partition", 600 * disk.GiB, 0, ntfsPart("Catalogue", 0x5a1c77e010440004, append(g.many(420, func(i int) string {
			return fmt.Sprintf("Scores/%s/part %02d.pdf", []string{"Evensong", "Harvest", "Carols", "Requiem"}[i%4], i)
		}, 8000), g.spread("Covers", 30, 210*disk.GiB)...))},
		{table.TypeOEM, id(1044, 15), "Maker's area", 18 * disk.GiB, table.AttrRequired | table.AttrNoLetter, ntfsPart("Maker", 0x5a1c77e010440005, g.maker(11*disk.GiB))},
		{table.TypeRecovery, id(1044, 16), "Recovery partition", 800 * disk.MiB, table.AttrRequired | table.AttrNoLetter, ntfsPart("Recovery", 0x5a1c77e010440006, g.recovery())},
	})
}

// Places of the field notebook's drive: where the lost volume begins, and the small
// one that was laid over its end.
const (
	plotsSeed = 10450004
	plotsAt   = 90 * disk.GiB
	plotsSize = 120 * disk.GiB
	notesSize = 4 * disk.GiB
)

// notebook is the drive of J-1045: P: is gone from the table, and a newer volume lies
// over its last corner.
func notebook(path string) error {
	g := newGenerator(1045)
	if err := build(path, 256060514304, 512, id(1045, 1), []part{
		{table.TypeEFI, id(1045, 11), "EFI system partition", 260 * disk.MiB, table.AttrNoLetter, efiPart(0x1045, g.loader())},
		{table.TypeReserved, id(1045, 12), "Reserved partition", 16 * disk.MiB, table.AttrNoLetter, nil},
		{table.TypeBasic, id(1045, 13), "Basic data partition", 80 * disk.GiB, 0, ntfsPart("System", 0x5a1c77e010450003, g.basicSystem(52*disk.GiB, func() []volume.Source {
			return g.many(120, func(i int) string { return fmt.Sprintf("Users/Field/Reports/site %03d.docx", i) }, 5000)
		}))},
	}); err != nil {
		return err
	}
	im, err := disk.OpenImage(path, 0, true)
	if err != nil {
		return err
	}
	defer im.Close()
	plots := plotsOf(newGenerator(plotsSeed))
	if err := ntfsPart("Plots", 0x5a1c77e010450004, plots)(disk.NewWindow(im, plotsAt, plotsSize), uint32(plotsAt/512)); err != nil {
		return err
	}
	notes := g.many(60, func(i int) string { return fmt.Sprintf("Notes/day %02d.txt", i) }, 2000)
	at := plotsAt + plotsSize - notesSize
	if err := over(im, at, notesSize, ntfsPart("Notes", 0x5a1c77e010450005, notes)); err != nil {
		return err
	}
	t, err := table.Read(im)
	if err != nil {
		return err
	}
	s, err := t.Set(
		4,
		table.NewEntry(table.Entry{
			Slot: 4, TypeID: table.TypeBasic, UniqueID: id(1045, 15), Start: at.At(512),
			End: (at + notesSize).At(512) - 1, Name: "Basic data partition",
		}).Raw,
	)
	if err != nil {
		return err
	}
	if err := s.Apply(im, nil); err != nil {
		return err
	}
	return im.Sync()
}

// plotsOf are the files of the partition that is gone.
func plotsOf(g *generator) []volume.Source {
	plots := append(g.many(700, func(i int) string {
		return fmt.Sprintf("Plots/Saltmarsh %02d/%s %03d.dwg", i%28+1, []string{"levels", "boundary", "drains"}[i%3], i)
	}, 9000), g.spread("Scans", 40, 116*disk.GiB-20*disk.MiB)...)
	// Surveys of the last weeks lie at the end: in the corner that the newer volume lies over.
	plots = append(plots, g.many(90, func(i int) string { return fmt.Sprintf("Surveys/2026 autumn/site %02d.las", i+1) }, 1<<20)...)
	return plots
}

// over makes a volume where something else lies: what it has in use is written, and what lies
// in its free clusters stays.
func over(im *disk.Image, at, n disk.Bytes, fill func(disk.Device, uint32) error) error {
	paper := disk.NewPaper(n, im.SectorBytes())
	if err := fill(paper, uint32(at/im.SectorBytes())); err != nil {
		return err
	}
	v, err := ntfs.Open(paper)
	if err != nil {
		return err
	}
	return v.Allocated(func(from, to disk.Bytes) error {
		for ; from < to; from += disk.MiB {
			b, err := disk.ReadFull(paper, from, min(disk.MiB, to-from))
			if err != nil {
				return err
			}
			if disk.Zeros(b) {
				err = im.Zero(at+from, disk.Bytes(len(b)))
			} else {
				_, err = im.WriteAt(b, int64(at+from))
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

const bakerySignature = 0x7f3b1046

// bakery is the drive of J-1046: an MBR with a primary, and a container of three
// logical volumes; the gap lies outside the container.
func bakery(path string) error {
	g := newGenerator(1046)
	im, err := disk.CreateImage(path, 1000204886016, 512)
	if err != nil {
		return err
	}
	defer im.Close()
	m := disk.LBA(2048)
	gib := disk.GiB.At(512)
	c := m + 150*gib
	d, e, f := c+m, c+m+120*gib+m, c+m+120*gib+m+90*gib+m
	end := f + 160*gib
	entries := []table.Entry{
		{Slot: 1, TypeID: "07", Start: m, End: c - 1, Active: true},
		{Slot: 2, TypeID: "0f", Start: c, End: end - 1},
		{Slot: 5, TypeID: "07", Record: c, Start: d, End: d + 120*gib - 1},
		{Slot: 6, TypeID: "07", Record: d + 120*gib, Start: e, End: e + 90*gib - 1},
		{Slot: 7, TypeID: "07", Record: e + 90*gib, Start: f, End: end - 1},
	}
	fills := map[int]func(disk.Device, uint32) error{
		1: ntfsPart("System", 0x5a1c77e010460001, g.basicSystem(137*disk.GiB, func() []volume.Source {
			return g.many(180, func(i int) string {
				return fmt.Sprintf(
					"Users/Office/Invoices/%d/invoice %04d.pdf", 2024+i%3, i,
				)
			}, 6000)
		})),
		5: ntfsPart(
			"Orders", 0x5a1c77e010460005,
			append(g.many(380, func(i int) string { return fmt.Sprintf("Orders/week %02d/slip %04d.txt", i%52+1, i) }, 2000), g.spread("Scans", 20, 31*disk.GiB)...),
		),
		6: ntfsPart("Recipes", 0x5a1c77e010460006, append(g.many(210, func(i int) string {
			return fmt.Sprintf("%s/recipe %03d.odt", []string{"Rye", "Wheat", "Sweet"}[i%3], i)
		}, 4000), g.spread("Films", 8, 12*disk.GiB)...)),
		7: ntfsPart(
			"Old backup", 0x5a1c77e010460007,
			g.many(120, func(i int) string { return fmt.Sprintf("2019/part %03d.zip", i) }, 20000),
		),
	}
	for i, x := range entries {
		entries[i] = table.MBREntry(x, 512)
		if fill := fills[x.Slot]; fill != nil {
			if err := fill(disk.NewWindow(im, x.Start.Offset(512), x.Bytes(512)), uint32(x.Start)); err != nil {
				return err
			}
		}
	}
	if err := table.NewMBR(im, bakerySignature, entries...).Apply(im, nil); err != nil {
		return err
	}
	if _, err := im.WriteAt(startCode, 0); err != nil {
		return err
	}
	return im.Sync()
}

// startCode is code for a drive's first sector that does no more than to stop: cli, and hlt
// again and again.
var startCode = []byte{0xfa, 0xf4, 0xeb, 0xfd}

// till is the drive of J-1047.
func till(path string) error {
	g := newGenerator(1047)
	return build(path, 128035676160, 512, id(1047, 1), []part{
		{table.TypeEFI, id(1047, 11), "EFI system partition", 260 * disk.MiB, table.AttrNoLetter, efiPart(0x1047, g.loader())},
		{table.TypeReserved, id(1047, 12), "Reserved partition", 16 * disk.MiB, table.AttrNoLetter, nil},
		{table.TypeBasic, id(1047, 13), "Basic data partition", 70 * disk.GiB, 0, ntfsPart("System", 0x5a1c77e010470003, g.basicSystem(41*disk.GiB, func() []volume.Source {
			return g.many(90, func(i int) string { return fmt.Sprintf("Users/Shop/Repairs/ticket %03d.txt", i) }, 2000)
		}))},
		{table.TypeBasic, id(1047, 14), "Basic data partition", 40 * disk.GiB, 0, ntfsPart("Tills", 0x5a1c77e010470004, g.many(520, func(i int) string {
			return fmt.Sprintf("Tills/2026-%02d/day %02d till %d.csv", i/52+1, i%52/2+1, i%2+1)
		}, 3000))},
	})
}

func placeID(start disk.LBA) string { return fmt.Sprintf("%08x:%d", bakerySignature, int64(start)*512) }

// bakeryPC is the PC of J-1046, which knows its volumes by their places.
func bakeryPC() *pc.Facts {
	gib, m := disk.GiB.At(512), disk.LBA(2048)
	c := m + 150*gib
	d, e := c+m, c+m+120*gib+m
	f := e + 90*gib + m
	return &pc.Facts{Version: 1, Name: "office PC", State: pc.Off, Start: placeID(m), StartDrive: fmt.Sprintf("%08x", bakerySignature),
		Order: []pc.StartEntry{{Partition: placeID(m), Title: "System"}}, Letters: map[string]string{placeID(m): "C", placeID(d): "D", placeID(e): "E", placeID(f): "F"}}
}
