package ntfs

import (
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Remains is an NTFS volume of which neither the boot sector nor the copy of it is left, worked
// out from its table of files.
type Remains struct {
	Start, Size disk.Bytes // on the device, with the copy of the boot sector
	Boot        []byte     // its boot sector, made anew: with no code to start from, and no serial number
	Identity    string     // as Volume.Identity
}

// FromTable works out the volume whose table of files, or the copy of its first records, begins
// at a place of a device. Its clusters are as large as their number and the length of the table
// say, its length is that of the list of bad clusters ($BadClus), which covers every cluster.
// What a boot sector knows besides (how many sectors remain behind the last cluster, its serial
// number) is not kept anywhere else. Nothing is written. What is no such table is refused with
// volume.ErrNotThis.
func FromTable(dev disk.Device, at disk.Bytes) (*Remains, error) {
	head, err := disk.ReadFull(dev, at, min(4096, dev.Size()-at))
	if err != nil || len(head) < 1024 || string(head[:4]) != "FILE" {
		return nil, volume.ErrNotThis
	}
	size := int(min(le.Uint32(head[hdrAllocated:]), 1<<20))
	if size < 512 || size > 4096 || size&(size-1) != 0 || len(head) < size {
		return nil, volume.ErrNotThis
	}
	most := int64(dev.Size() / 512)
	data := func(num int64, off disk.Bytes) *attr {
		b, err := disk.ReadFull(dev, off, disk.Bytes(size))
		if err != nil {
			return nil
		}
		r, err := parseRecord(num, b, most)
		if err != nil || r.flags&inUse == 0 || r.base != 0 {
			return nil
		}
		a := r.find(atData, "")
		if a == nil || a.resident || a.lowest != 0 || len(a.runs) == 0 || a.runs[0].lcn < 0 {
			return nil
		}
		return a
	}
	table, mirror := data(recMFT, at), data(recMirror, at+disk.Bytes(size))
	if table == nil || mirror == nil {
		return nil, volume.ErrNotThis
	}
	n := disk.Bytes(runsEnd(table.runs, 0))
	cluster := table.alloc / n
	if sec := dev.SectorBytes(); cluster < sec || cluster > 2*disk.MiB || cluster&(cluster-1) != 0 || cluster*n != table.alloc {
		return nil, volume.ErrNotThis
	}
	for _, lcn := range []int64{table.runs[0].lcn, mirror.runs[0].lcn} {
		start := at - disk.Bytes(lcn)*cluster
		if start < 0 || start%dev.SectorBytes() != 0 {
			continue
		}
		if r, err := remains(dev, start, bootFields{cluster: cluster, mft: table.runs[0].lcn, mirror: mirror.runs[0].lcn, record: size}); err == nil {
			return r, nil
		}
	}
	return nil, volume.ErrNotThis
}

// remains opens the volume that would begin at start, and takes from it what is missing.
func remains(dev disk.Device, start disk.Bytes, f bootFields) (*Remains, error) {
	f.sector, f.index, f.hidden = dev.SectorBytes(), 4096, uint32(start/dev.SectorBytes())
	f.sectors = int64((dev.Size()-start)/f.sector) - 1
	over, err := disk.NewOverlay(disk.NewWindow(dev, start, dev.Size()-start), "")
	if err != nil {
		return nil, err
	}
	defer over.Close()
	if _, err := over.WriteAt(f.bytes(), 0); err != nil {
		return nil, err
	}
	v, err := Open(over)
	if err != nil {
		return nil, err
	}
	claimed, ok := v.Claimed()
	root, err := v.system(recRoot, atIndexRoot, "$I30")
	if !ok || err != nil || claimed <= 0 || claimed%f.cluster != 0 || len(root.value) < 16 || start+claimed+f.sector > dev.Size() {
		return nil, volume.ErrNotThis
	}
	// Behind the last cluster lies less than another one, and the copy of the boot sector: as
	// much as a cluster where partitions begin and end at whole ones.
	size := claimed + f.sector
	if start%f.cluster == 0 && start+claimed+f.cluster <= dev.Size() {
		size = claimed + f.cluster
	}
	f.sectors, f.index = int64(size/f.sector)-1, int(min(le.Uint32(root.value[rootBlock:]), 1<<20))
	b := f.bytes()
	if _, err := parseBoot(b); err != nil {
		return nil, err
	}
	return &Remains{Start: start, Size: size, Boot: b, Identity: v.Identity()}, nil
}

// Identity tells a volume from others where its serial number is not known: the moment at which
// its table of files was made, to 100 ns, and its label.
func (v *Volume) Identity() string {
	r, err := v.record(recMFT)
	if err != nil {
		return ""
	}
	s := r.find(atStandard, "")
	if s == nil || len(s.value) < 8 {
		return ""
	}
	label := ""
	if r, err := v.record(recVolume); err == nil {
		if a := r.find(atVolumeName, ""); a != nil && a.resident {
			label = text16(a.value)
		}
	}
	return fmt.Sprintf("%016x %s", le.Uint64(s.value), label)
}
