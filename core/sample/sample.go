// Package sample has layouts of drives for tests: those of the demo's jobs, and such as chance draws. Nothing but
// tests uses it.
package sample

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
)

// With returns the layout with one partition changed.
func With(l *layout.Layout, n int, change func(s *layout.Span)) *layout.Layout {
	ps := l.Partitions()
	for i := range ps {
		if ps[i].Number != n {
			continue
		}
		if v := ps[i].Volume; v != nil {
			c := *v
			ps[i].Volume = &c
		}
		change(&ps[i])
	}
	return l.With(ps)
}

// Bakery is an MBR drive: a primary, a container with two logical volumes and room
// behind them, and room behind the container.
func Bakery() *layout.Layout {
	l := &layout.Layout{
		Scheme: "mbr", Size: 500 * disk.GiB, Sector: Sector, FirstUsable: 1, Slots: 4, DiskID: "7f3b1046",
	}
	l.LastUsable = l.Size.At(Sector) - 1
	box := Part(2, 101*disk.GiB, 200*disk.GiB, layout.Container, "")
	a := Part(5, 101*disk.GiB+disk.MiB, 50*disk.GiB, layout.Data, volume.NTFS)
	b := Part(6, 151*disk.GiB+2*disk.MiB, 50*disk.GiB, layout.Data, volume.NTFS)
	a.Container, a.Record, b.Container, b.Record = 2, At(101*disk.GiB), 2, At(151*disk.GiB+disk.MiB)
	return l.With([]layout.Span{Part(1, disk.MiB, 100*disk.GiB, layout.StartSystem, volume.NTFS), box, a, b})
}

// InOrder are the facts of the reception PC: it starts partition 3, offers 5 too, and
// has its recovery environment in 4.
func InOrder() *pc.Facts {
	return &pc.Facts{
		Version: 1, State: pc.Off, Start: "d", Wait: 5, Order: []pc.StartEntry{
			{Partition: "d", Title: "System"}, {Partition: "f", Title: "Old"},
		},
		Recovery: &pc.Recovery{Partition: "e", InUse: true}, Letters: map[string]string{"d": "C"},
	}
}

// Sector is the size of a sector on all of them, in bytes.
const Sector = 512

// At is the sector at a byte.
func At(b disk.Bytes) disk.LBA { return b.At(Sector) }

// Part is a partition from a byte on, with a volume of a kind that is half full; with "" as that, without one.
func Part(n int, start, size disk.Bytes, role layout.Role, kind volume.Kind) layout.Span {
	p := layout.Span{
		Kind: layout.Partition, Number: n, Start: At(start), End: At(start+size) - 1, Bytes: size, Role: role,
		UniqueID: string(rune('a' + n)),
	}
	p.Protected = role == layout.EFI || role == layout.Recovery || role == layout.OEM || role == layout.Reserved
	if kind != "" {
		p.Volume = &volume.Info{
			Kind: kind, ClusterBytes: 4096, TotalBytes: (size - Sector).Down(4096), UsedBytes: size / 2, Clean: true,
		}
		if v, err := fat.Shape(size, Sector); kind == volume.FAT32 && err == nil {
			v.UsedBytes = v.TotalBytes / 2
			p.Volume = &v
		}
	}
	return p
}

// Reception is a drive like that of the demo: the system is hemmed in.
func Reception() *layout.Layout {
	l := &layout.Layout{Scheme: "gpt", Size: 500 * disk.GiB, Sector: Sector, FirstUsable: 34, Slots: 128}
	l.LastUsable = l.Size.At(Sector) - 34
	return l.With([]layout.Span{
		Part(1, disk.MiB, 260*disk.MiB, layout.EFI, volume.FAT32),
		Part(2, 261*disk.MiB, 16*disk.MiB, layout.Reserved, ""),
		Part(3, 277*disk.MiB, 138*disk.GiB, layout.StartSystem, volume.NTFS),
		Part(4, 277*disk.MiB+138*disk.GiB, disk.GiB, layout.Recovery, volume.NTFS),
		Part(5, 277*disk.MiB+139*disk.GiB, 210*disk.GiB, layout.Data, volume.NTFS),
		Part(6, 277*disk.MiB+349*disk.GiB, 14*disk.GiB, layout.OEM, volume.NTFS),
	})
}

// Many is how much of something a test does: a few, or with JADETRAIL_PROVE all of it.
func Many(few, all int) int {
	if os.Getenv("JADETRAIL_PROVE") != "" {
		return all
	}
	return few
}

// AnyDrive makes a drive with up to n partitions of all kinds, on a GPT or an MBR.
func AnyDrive(rng *rand.Rand, n int) *layout.Layout {
	l := &layout.Layout{
		Scheme: "gpt", Size: disk.Bytes(64+rng.IntN(2000)) * disk.GiB, Sector: Sector, FirstUsable: 34, Slots: 128,
		DiskID: "d",
	}
	l.LastUsable = At(l.Size) - 34
	mbr := rng.IntN(3) == 0
	if mbr {
		l.Scheme, l.Slots, l.FirstUsable, l.LastUsable = "mbr", 4, 1, At(l.Size)-1
		n = min(n, 3)
	}
	room := l.Size - 4*disk.MiB
	next := disk.MiB
	var parts []layout.Span
	make1 := func(number, container int, record disk.Bytes) {
		size := min(disk.Bytes(1+rng.IntN(int(room/disk.Bytes(n+1)/disk.MiB)))*disk.MiB, room-next)
		if rng.IntN(4) == 0 {
			size = disk.Bytes(16+rng.IntN(900)) * disk.MiB
		}
		role := []layout.Role{
			layout.Data, layout.Data, layout.Data, layout.Data, layout.OtherSystem, layout.Recovery, layout.OEM,
			layout.Reserved, layout.EFI, layout.Unknown,
		}[rng.IntN(10)]
		k := []volume.Kind{
			volume.NTFS, volume.NTFS, volume.NTFS, volume.NTFS, volume.NTFS, volume.FAT32, volume.Ext4, volume.Sealed,
			volume.ExFAT, "",
		}[rng.IntN(10)]
		if role == layout.Reserved {
			k = ""
		}
		if next+size > room {
			return
		}
		p := Part(number, next, size, role, k)
		if rng.IntN(12) == 0 && container == 0 { // it does not end on the grid
			p.End -= disk.LBA(rng.IntN(2048))
			if p.Bytes = (p.End - p.Start + 1).Offset(Sector); p.Volume != nil {
				p.Volume.TotalBytes = (p.Bytes - Sector).Down(p.Volume.ClusterBytes)
			}
		}
		p.UniqueID = fmt.Sprintf("id-%d", number)
		if v := p.Volume; v != nil {
			v.Label = fmt.Sprintf("Volume %d", number)
			v.UsedBytes = disk.Bytes(rng.Int64N(int64(v.TotalBytes) + 1)).Down(4096)
			if v.ShrinkMin = v.UsedBytes; v.Tables != nil {
				v.ShrinkMin += v.Tables.Lead
			}
			v.ShrinkCut = v.ShrinkMin + disk.Bytes(rng.Int64N(int64(v.TotalBytes-v.UsedBytes)+1)).Down(4096)
			v.Clean = rng.IntN(12) > 0
			v.RestorePoints = rng.IntN(9) == 0
			if rng.IntN(15) == 0 {
				v.BadClusters = 3
			}
			for range rng.IntN(2) * 24 {
				v.Use = append(v.Use, byte(rng.IntN(256)))
			}
		}
		if p.Container = container; container != 0 {
			p.Record = At(record)
		}
		if mbr {
			p.UniqueID = layout.PlaceID("d", p.Start.Offset(Sector))
		}
		parts = append(parts, p)
		next += size
	}
	gap := func() {
		if rng.IntN(2) == 0 {
			next += disk.Bytes(rng.IntN(int(room/disk.Bytes(3*n)/disk.MiB))) * disk.MiB
		}
	}
	number := 0
	for range n {
		gap()
		number++
		make1(number, 0, 0)
	}
	if mbr && next < room-4*disk.GiB {
		box := layout.Span{Kind: layout.Partition, Number: number + 1, Start: At(next), Role: layout.Container}
		before := len(parts)
		for i := range rng.IntN(4) {
			if i > 0 {
				gap()
			}
			record := next
			if next += disk.MiB; next < room-disk.GiB {
				make1(5+i, box.Number, record)
			}
		}
		gap()
		next = max(min(next, room), box.Start.Offset(Sector)+2*disk.MiB)
		box.End = At(next) - 1
		box.Bytes, box.UniqueID = (box.End - box.Start + 1).Offset(Sector), layout.PlaceID("d", box.Start.Offset(Sector))
		for i := range parts[before:] {
			parts[before+i].Number = 5 + i
		}
		parts = append(parts, box)
	}
	if i := rng.IntN(len(parts) + 1); i < len(parts) && parts[i].Role == layout.OtherSystem {
		parts[i].Role = layout.StartSystem
	}
	return l.With(parts)
}

// Sane tells in what a layout is impossible.
func Sane(l *layout.Layout) string {
	last := disk.LBA(-1)
	for _, p := range l.ByPlace() {
		if p.Container != 0 {
			box, ok := l.Find(p.Container)
			if !ok || p.Head() < box.Start || p.End > box.End || p.Record == 0 || p.Record >= p.Start {
				return fmt.Sprintf("partition %d lies outside its container", p.Number)
			}
		}
		if p.Role == layout.Container {
			continue
		}
		if p.Head() <= last || p.End < p.Start || p.Start < l.FirstUsable || p.End > l.LastUsable {
			return fmt.Sprintf("partition %d lies over another or outside", p.Number)
		}
		if p.Bytes != (p.End - p.Start + 1).Offset(l.Sector) {
			return fmt.Sprintf("partition %d has another size than its place", p.Number)
		}
		if v := p.Volume; v != nil && (v.TotalBytes > p.Bytes || v.UsedBytes > v.TotalBytes || v.UsedBytes < 0) {
			return fmt.Sprintf(
				"the volume in partition %d has %d of %d, in %d", p.Number, v.UsedBytes, v.TotalBytes, p.Bytes,
			)
		}
		last = p.End
	}
	return ""
}

// Drawn is a layout as text, each span a line.
func Drawn(l *layout.Layout) string {
	var b strings.Builder
	for _, s := range l.Spans {
		fmt.Fprintf(
			&b, "%s %d in %d: %d to %d, %s %s %s", s.Kind, s.Number, s.Container, s.Start, s.End, s.Bytes, s.Role,
			s.Why,
		)
		if v := s.Volume; v != nil {
			fmt.Fprintf(
				&b, " %s used %s min %s cut %s clean %v bad %d", v.Kind, v.UsedBytes, v.ShrinkMin, v.ShrinkCut,
				v.Clean, v.BadClusters,
			)
		}
		fmt.Fprintln(&b)
	}
	return b.String()
}
