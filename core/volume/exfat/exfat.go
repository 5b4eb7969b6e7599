// Package exfat reads, measures and checks exFAT volumes, by the exFAT file system
// specification, version 1.00. Section numbers are those of that document.
package exfat

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"math/bits"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/volume"
)

var le = binary.LittleEndian

// Volume is an exFAT volume on a device that begins where the volume begins.
type Volume struct {
	dev      disk.Device
	boot     []byte
	sector   disk.Bytes
	cluster  disk.Bytes
	length   disk.Bytes // of the volume
	fatAt    disk.Bytes
	fatLen   disk.Bytes
	heap     disk.Bytes // where cluster 2 lies
	clusters uint32
	root     uint32
	label    string
	bitmap   stretch
}

// stretch is where contents lie: a chain in the FAT, or clusters in a row.
type stretch struct {
	first uint32
	bytes disk.Bytes
	row   bool
}

// Limits of the specification (section 3.1).
const (
	maxClusters = 1<<32 - 11
	maxCluster  = 32 * disk.MiB
	maxFolder   = 256 * disk.MiB // section 7.4
)

// Open recognises an exFAT volume. The device may be longer than the volume.
func Open(dev disk.Device) (*Volume, error) {
	b, err := disk.ReadFull(dev, 0, min(dev.Size(), 512))
	if err != nil {
		return nil, err
	}
	if len(b) < 512 || string(b[3:11]) != "EXFAT   " || b[510] != 0x55 || b[511] != 0xaa {
		return nil, volume.ErrNotThis
	}
	bad := func(what string, x any) (*Volume, error) {
		return nil, fmt.Errorf("%w: the exFAT boot sector claims %s of %v", volume.ErrDamaged, what, x)
	}
	if b[108] < 9 || b[108] > 12 || b[109] > 25-b[108] {
		return bad("sectors and clusters", fmt.Sprintf("2^%d and 2^%d", b[108], b[109]))
	}
	v := &Volume{dev: dev, boot: b, sector: 1 << b[108], clusters: le.Uint32(b[92:]), root: le.Uint32(b[96:])}
	v.cluster = v.sector << b[109]
	if n := le.Uint64(b[72:]); n == 0 || n > uint64(dev.Size()/v.sector) {
		return bad("a length in sectors", n)
	}
	v.length = disk.Bytes(le.Uint64(b[72:])) * v.sector
	at := func(off int) disk.Bytes { return disk.Bytes(le.Uint32(b[off:])) * v.sector }
	v.fatAt, v.fatLen, v.heap = at(80), at(84), at(88)
	switch {
	case v.clusters == 0 || v.clusters > maxClusters || v.heap+disk.Bytes(v.clusters)*v.cluster > v.length:
		return bad("clusters", v.clusters)
	case v.fatAt < 24*v.sector || v.fatLen < (disk.Bytes(v.clusters)+2)*4 || v.fatAt+v.fatLen > v.heap:
		return bad("a table of clusters at byte", int64(v.fatAt))
	case v.root < 2 || v.root-2 >= v.clusters:
		return bad("a root folder at cluster", v.root)
	}
	return v, v.readRoot()
}

// readRoot finds the label and the bitmap of clusters in the root folder.
func (v *Volume) readRoot() error {
	return v.slots(stretch{first: v.root}, 0, func(_ int64, b []byte) bool {
		switch b[0] {
		case 0x83: // section 7.3
			v.label = text(b[2 : 2+2*min(int(b[1]), 11)])
		case 0x81: // section 7.1
			if b[1]&1 == 0 {
				v.bitmap = stretch{le.Uint32(b[20:]), disk.Bytes(min(le.Uint64(b[24:]), 1<<50)), false}
			}
		}
		return true
	})
}

func text(b []byte) string {
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = le.Uint16(b[2*i:])
	}
	return string(utf16.Decode(u))
}

func (v *Volume) at(cluster uint32) disk.Bytes { return v.heap + disk.Bytes(cluster-2)*v.cluster }

// extents of a stretch of contents; size bounds a chain, 0 for a folder's own end.
func (v *Volume) extents(s stretch) ([]volume.Extent, error) {
	if s.first == 0 && s.bytes == 0 {
		return nil, nil
	}
	limit := (s.bytes + v.cluster - 1) / v.cluster
	if s.bytes == 0 {
		limit = (maxFolder + v.cluster - 1) / v.cluster
	}
	outside := func(c uint32) error {
		return fmt.Errorf("%w: contents lie at cluster %d of %d", volume.ErrDamaged, c, v.clusters)
	}
	if s.first < 2 || s.first-2 >= v.clusters {
		return nil, outside(s.first)
	}
	if s.row {
		if limit > disk.Bytes(v.clusters-(s.first-2)) {
			return nil, outside(s.first)
		}
		return []volume.Extent{{Off: v.at(s.first), Len: limit * v.cluster}}, nil
	}
	var out []volume.Extent
	page, pageAt := []byte(nil), disk.Bytes(-1)
	count := disk.Bytes(0)
	for c := s.first; ; {
		if count++; count > disk.Bytes(v.clusters) || count > limit && s.bytes == 0 {
			return out, fmt.Errorf("%w: a chain of clusters runs in a circle", volume.ErrDamaged)
		}
		if n := len(out); n > 0 && out[n-1].Off+out[n-1].Len == v.at(c) {
			out[n-1].Len += v.cluster
		} else {
			out = append(out, volume.Extent{Off: v.at(c), Len: v.cluster})
		}
		if s.bytes > 0 && count == limit {
			return out, nil
		}
		off := disk.Bytes(c) * 4
		if p := off.Down(4096); p != pageAt {
			var err error
			if page, err = disk.ReadFull(v.dev, v.fatAt+p, min(4096, v.fatLen-p)); err != nil {
				return out, err
			}
			pageAt = p
		}
		next := le.Uint32(page[off-pageAt:])
		if next == 0xffffffff {
			if s.bytes > 0 {
				return out, fmt.Errorf("%w: its chain of clusters is too short", volume.ErrDamaged)
			}
			return out, nil
		}
		if next < 2 || next-2 >= v.clusters {
			return out, outside(next)
		}
		c = next
	}
}

// slots calls f for the 32-byte entries of a folder from the given one on, until f
// returns false or the folder ends.
func (v *Volume) slots(s stretch, from int64, f func(slot int64, b []byte) bool) error {
	ext, err := v.extents(s)
	if err != nil {
		return err
	}
	slot := int64(0)
	for _, e := range ext {
		if n := int64(e.Len / 32); slot+n <= from {
			slot += n
			continue
		}
		skip := disk.Bytes(max(from-slot, 0)) * 32
		slot = max(slot, from)
		for at := skip; at < e.Len; {
			n := min(4096-at%4096, e.Len-at)
			b, err := disk.ReadFull(v.dev, e.Off+at, n)
			if err != nil {
				return err
			}
			for ; len(b) >= 32; b = b[32:] {
				if b[0] == 0 || !f(slot, b[:32]) {
					return nil
				}
				slot++
			}
			at += n
		}
	}
	return nil
}

// set is a file's entries of a folder put together (section 7.4).
type set struct {
	attrs    uint16
	name     string
	modified time.Time
	data     stretch
	written  disk.Bytes
	bad      bool // its checksum does not match
}

// sets calls f for each file of a folder from the slot from on, with the slot
// behind it.
func (v *Volume) sets(s stretch, from int64, f func(x set, next int64) bool) error {
	var raw []byte
	left := 0
	return v.slots(s, from, func(slot int64, b []byte) bool {
		switch {
		case b[0] == 0x85 && b[1] >= 2:
			raw, left = append([]byte(nil), b...), int(b[1])
			return true
		case left == 0 || b[0]&0x80 == 0:
			raw, left = nil, 0
			return true
		}
		raw = append(raw, b...)
		if left--; left > 0 {
			return true
		}
		x, ok := parseSet(raw)
		return !ok || f(x, slot+1)
	})
}

func parseSet(raw []byte) (x set, ok bool) {
	sum := uint16(0)
	for i, c := range raw {
		if i == 2 || i == 3 {
			continue
		}
		sum = sum<<15 | sum>>1
		sum += uint16(c)
	}
	x.bad = sum != le.Uint16(raw[2:])
	x.attrs = le.Uint16(raw[4:])
	x.modified = when(le.Uint32(raw[12:]), raw[21], raw[23])
	st := raw[32:]
	if st[0] != 0xc0 {
		return x, false
	}
	x.data = stretch{le.Uint32(st[20:]), disk.Bytes(min(le.Uint64(st[24:]), 1<<60)), st[1]&2 != 0}
	x.written = disk.Bytes(min(le.Uint64(st[8:]), 1<<60))
	var name []byte
	for p := raw[64:]; len(p) >= 32 && p[0] == 0xc1; p = p[32:] {
		name = append(name, p[2:32]...)
	}
	n := 2 * int(st[3])
	if n == 0 || n > len(name) {
		return x, false
	}
	x.name = text(name[:n])
	return x, true
}

// when is a timestamp with its hundredths and its offset from UTC in quarters of an
// hour (section 7.4.8 to 7.4.10).
func when(t uint32, hundredths, zone byte) time.Time {
	at := time.Date(
		1980+int(t>>25), time.Month(t>>21&15), int(t>>16&31), int(t>>11&31), int(t>>5&63), int(t&31)*2,
		int(hundredths)*10_000_000, time.UTC,
	)
	if zone&0x80 != 0 {
		at = at.Add(-time.Duration(int8(zone<<1)>>1) * 15 * time.Minute)
	}
	return at
}

func (v *Volume) folders() volume.Folders[stretch] {
	return volume.Folders[stretch]{Root: stretch{first: v.root}, Same: strings.EqualFold,
		Read: func(s stretch, from int64, f func(volume.Entry[stretch], int64) bool) error {
			return v.sets(s, from, func(x set, next int64) bool {
				shown, misnamed := volume.Name(x.name)
				e := volume.Entry[stretch]{File: volume.File{
					Path: shown, Kind: volume.Plain, Bytes: x.data.bytes, Modified: x.modified,
					ID: uint64(x.data.first), Unwritten: max(x.data.bytes-x.written, 0),
				}}
				ext, err := v.extents(x.data)
				if e.File.Extents = ext; err != nil {
					e.File.Unreadable = err.Error()
				}
				for _, y := range ext {
					e.File.Allocated += y.Len
				}
				switch {
				case x.bad:
					e.File.Unreadable = "its entries in the folder are damaged"
				case x.attrs&0x10 != 0:
					e.File.Kind, e.File.Bytes = volume.Folder, 0
					if err == nil && x.data.first != 0 {
						e.Enter = &x.data
					}
				}
				e.File.Unreadable = cmp.Or(e.File.Unreadable, misnamed)
				return f(e, next)
			})
		}}
}

// Walk implements volume.Volume.
func (v *Volume) Walk(visit func(volume.File) error) error { return v.folders().Walk(visit) }

// List implements volume.Volume.
func (v *Volume) List(dir, from string, limit int) ([]volume.File, string, error) {
	return v.folders().List(dir, from, limit)
}

// Stat implements volume.Volume.
func (v *Volume) Stat(path string) (volume.File, error) { return v.folders().Stat(path) }

// Files implements volume.Volume.
func (v *Volume) Files() ([]volume.File, error) { return volume.Collect(v.Walk) }

// Open implements volume.Volume.
func (v *Volume) Open(f volume.File) (io.ReaderAt, error) {
	if f.Unreadable != "" {
		return nil, fmt.Errorf("%s: %w: %s", f.Path, volume.ErrUnreadable, f.Unreadable)
	}
	return volume.NewContents(v.dev, f.Extents, f.Bytes, f.Bytes-f.Unwritten), nil
}

// eachUsed calls f for each stretch [from, to) of clusters that the bitmap marks,
// counted from 0.
func (v *Volume) eachUsed(f func(from, to int64)) error {
	ext, err := v.extents(v.bitmap)
	if err != nil {
		return err
	}
	need := disk.Bytes(v.clusters+7) / 8
	if v.bitmap.bytes < need {
		return fmt.Errorf(
			"%w: the bitmap of clusters has %d bytes for %d clusters", volume.ErrDamaged, v.bitmap.bytes, v.clusters,
		)
	}
	r := volume.NewContents(v.dev, ext, v.bitmap.bytes, v.bitmap.bytes)
	return volume.EachSet(r, int64(v.clusters), func(from, to int64) error { f(from, to); return nil })
}

// Info implements volume.Volume.
func (v *Volume) Info() (volume.Info, error) {
	i := volume.Info{Kind: volume.ExFAT, Label: v.label, Serial: fmt.Sprintf("%08x", le.Uint32(v.boot[100:])), ClusterBytes: v.cluster,
		TotalBytes: disk.Bytes(v.clusters) * v.cluster, Clean: le.Uint16(v.boot[106:])&6 == 0}
	d := volume.NewDrawn(int64(v.clusters))
	if err := v.eachUsed(d.Add); err != nil {
		return i, err
	}
	i.UsedBytes, i.Use = disk.Bytes(d.Used)*v.cluster, d.Use()
	i.ShrinkCut = v.heap + disk.Bytes(d.Last+1)*v.cluster
	i.ShrinkMin = v.heap + i.UsedBytes
	return i, nil
}

// Allocated implements volume.Volume.
func (v *Volume) Allocated(f func(start, end disk.Bytes) error) error {
	start, end := disk.Bytes(0), v.heap
	var stop error
	emit := func(a, b disk.Bytes) {
		if a == end {
			end = b
			return
		}
		if stop == nil {
			stop = f(start, end)
		}
		start, end = a, b
	}
	err := v.eachUsed(func(from, to int64) { emit(v.at(uint32(from)+2), v.at(uint32(to)+2)) })
	if tail := v.at(v.clusters + 2); tail < v.dev.Size() {
		emit(tail, v.dev.Size())
	}
	if err == nil && stop == nil {
		stop = f(start, end)
	}
	if stop != nil {
		return stop
	}
	return err
}

// Fingerprint implements volume.Volume: everything before the clusters, the bitmap,
// and every folder.
func (v *Volume) Fingerprint() (string, error) {
	h := blake3.New()
	if err := volume.HashStored(h, v.dev, 0, v.heap); err != nil {
		return "", err
	}
	if err := v.eachUsed(func(from, to int64) { fmt.Fprintf(h, "%d-%d\n", from, to) }); err != nil {
		return "", err
	}
	return volume.HashFiles(h, v)
}

// Hidden is the number of sectors before the volume that its boot sector counts.
func (v *Volume) Hidden() uint32 { return uint32(min(le.Uint64(v.boot[64:]), 1<<32-1)) }

// Agrees implements volume.Volume.
func (v *Volume) Agrees() bool { l := v.Check(); return l.FirstError() == nil }

// Check implements volume.Volume: the checksum of the boot region and its copy
// (section 3.4), every file's entries and clusters against the bitmap.
func (v *Volume) Check() finding.List {
	var l finding.List
	region := func(at disk.Bytes) (uint32, bool) {
		b, err := disk.ReadFull(v.dev, at, 12*v.sector)
		if err != nil {
			return 0, false
		}
		sum := uint32(0)
		for i, c := range b[:11*v.sector] {
			if i != 106 && i != 107 && i != 112 {
				sum = bits.RotateLeft32(sum, -1) + uint32(c)
			}
		}
		return sum, sum == le.Uint32(b[11*v.sector:])
	}
	first, ok := region(0)
	if !ok {
		l.Add(finding.Error, "boot-checksum", "The checksum of the boot sectors does not match.")
	}
	if copy, ok := region(12 * v.sector); !ok || copy != first {
		l.Add(finding.Warning, "boot-copy-differs", "The copy of the boot sectors differs from them.")
	}
	if le.Uint16(v.boot[106:])&2 != 0 {
		l.Add(finding.Warning, "not-clean", "The volume was not closed.")
	}
	used := volume.NewSet(int64(v.clusters))
	mark := func(what string, ext []volume.Extent) {
		for _, e := range ext {
			if from := int64((e.Off - v.heap) / v.cluster); used.Add(from, from+int64(e.Len/v.cluster)) {
				l.Add(finding.Error, "clusters-shared", "%s uses clusters that something else uses too.", what)
			}
		}
	}
	for _, x := range []struct {
		what string
		at   stretch
	}{{"the root folder", stretch{first: v.root}}, {"the bitmap", v.bitmap}} {
		ext, err := v.extents(x.at)
		if err != nil {
			l.Add(finding.Error, "chain-damaged", "%s: %s.", x.what, err)
		}
		mark(x.what, ext)
	}
	err := v.slots(stretch{first: v.root}, 0, func(_ int64, b []byte) bool {
		if b[0] == 0x82 { // the table of upper-case letters, section 7.2
			ext, err := v.extents(stretch{le.Uint32(b[20:]), disk.Bytes(min(le.Uint64(b[24:]), 1<<30)), false})
			if err != nil {
				l.Add(finding.Error, "upcase-damaged", "The table of upper-case letters cannot be read.")
			}
			mark("the table of upper-case letters", ext)
		}
		return true
	})
	if err == nil {
		err = v.Walk(func(f volume.File) error {
			if f.Unreadable != "" && len(l) < 50 {
				l.Add(finding.Error, "file-damaged", "%s: %s.", f.Path, f.Unreadable)
			}
			if len(l) < 50 {
				mark(f.Path, f.Extents)
			}
			return nil
		})
	}
	if err != nil {
		l.Add(finding.Error, "files-unreadable", "The folders cannot be read: %v.", err)
		return l
	}
	marked := volume.NewSet(int64(v.clusters))
	if err := v.eachUsed(func(from, to int64) { marked.Add(from, to) }); err != nil {
		l.Add(finding.Error, "bitmap-unreadable", "The bitmap of clusters cannot be read: %v.", err)
		return l
	}
	used.Compare(marked, &l)
	return l
}
