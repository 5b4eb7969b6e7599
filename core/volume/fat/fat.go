// Package fat reads, measures and checks FAT12, FAT16 and FAT32 volumes, and
// makes FAT32 ones.
//
// Source: Microsoft Extensible Firmware Initiative FAT32 File System
// Specification 1.03; UEFI 2.10, 13.3 for its use in EFI system partitions.
package fat

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/zeebo/blake3"
	"golang.org/x/text/encoding/charmap"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/volume"
)

var le = binary.LittleEndian

// Volume is a FAT volume on a device that begins where the volume begins.
type Volume struct {
	dev               disk.Device
	kind              volume.Kind
	sector, cluster   disk.Bytes
	sectors           int64
	fatStart, fatSize disk.Bytes // of the first copy
	copies            int
	rootStart         disk.Bytes // FAT12/16
	rootSize          disk.Bytes
	rootCluster       uint32 // FAT32
	dataStart         disk.Bytes
	clusters          uint32
	label             string
	serial            uint32
	boot              []byte
	table             []uint32 // the FAT, read when first asked for
}

// Open recognises a FAT volume (FAT specification, section 3).
func Open(dev disk.Device) (*Volume, error) {
	b, err := disk.ReadFull(dev, 0, min(dev.Size(), max(512, dev.SectorBytes())))
	if err != nil {
		return nil, err
	}
	if len(b) < 512 || b[510] != 0x55 || b[511] != 0xaa || b[0] != 0xeb && b[0] != 0xe9 {
		return nil, volume.ErrNotThis
	}
	if k := string(b[54:57]); k != "FAT" && string(b[82:85]) != "FAT" {
		return nil, volume.ErrNotThis
	}
	v := &Volume{dev: dev, boot: b}
	v.sector = disk.Bytes(le.Uint16(b[11:]))
	spc := disk.Bytes(b[13])
	bad := func(what string, x any) (*Volume, error) {
		return nil, fmt.Errorf("%w: the FAT boot sector claims %s of %v", volume.ErrDamaged, what, x)
	}
	if v.sector < 512 || v.sector > 4096 || v.sector&(v.sector-1) != 0 {
		return bad("a sector size", v.sector)
	}
	if spc == 0 || spc&(spc-1) != 0 {
		return bad("a cluster size", spc)
	}
	v.cluster = spc * v.sector
	reserved, fatSectors := disk.Bytes(le.Uint16(b[14:])), disk.Bytes(le.Uint16(b[22:]))
	v.copies = int(b[16])
	if fatSectors == 0 {
		fatSectors = disk.Bytes(le.Uint32(b[36:]))
	}
	v.sectors = int64(le.Uint16(b[19:]))
	if v.sectors == 0 {
		v.sectors = int64(le.Uint32(b[32:]))
	}
	if reserved == 0 || v.copies == 0 || v.copies > 4 || fatSectors == 0 {
		return bad("a table", fatSectors)
	}
	v.fatStart, v.fatSize = reserved*v.sector, fatSectors*v.sector
	v.rootStart = v.fatStart + disk.Bytes(v.copies)*v.fatSize
	v.rootSize = (disk.Bytes(le.Uint16(b[17:])) * 32).Up(v.sector)
	v.dataStart = v.rootStart + v.rootSize
	if disk.Bytes(v.sectors)*v.sector > dev.Size() {
		return nil, fmt.Errorf(
			"%w: the FAT boot sector claims %s, but the partition has %s", volume.ErrDamaged,
			disk.Bytes(v.sectors)*v.sector, dev.Size(),
		)
	}
	if v.dataStart >= disk.Bytes(v.sectors)*v.sector {
		return bad("a data area at byte", int64(v.dataStart))
	}
	v.clusters = uint32((disk.Bytes(v.sectors)*v.sector - v.dataStart) / v.cluster)
	ext := b[36:]
	bits := disk.Bytes(12)
	switch { // by the count of clusters and nothing else (section 3.5)
	case v.clusters < 4085:
		v.kind = volume.FAT12
	case v.clusters < 65525:
		v.kind, bits = volume.FAT16, 16
	default:
		v.kind, bits = volume.FAT32, 32
	}
	if le.Uint16(b[22:]) == 0 { // made as FAT32, whatever the count
		v.kind, bits, ext = volume.FAT32, 32, b[64:]
		v.rootCluster = le.Uint32(b[44:])
	}
	if v.fatSize*8 < disk.Bytes(v.clusters+2)*bits {
		return bad("a table for fewer clusters than", v.clusters)
	}
	if ext[2] == 0x29 || ext[2] == 0x28 {
		v.serial = le.Uint32(ext[3:])
		v.label = strings.TrimRight(string(ext[7:18]), " \x00")
	}
	return v, nil
}

// entryBits is how many bits an entry of the table has.
var entryBits = map[volume.Kind]disk.Bytes{volume.FAT12: 12, volume.FAT16: 16, volume.FAT32: 32}

func (v *Volume) fat() ([]uint32, error) {
	if v.table != nil {
		return v.table, nil
	}
	n := int(v.clusters) + 2
	bits := entryBits[v.kind]
	b, err := disk.ReadFull(v.dev, v.fatStart, (disk.Bytes(n)*bits+7)/8)
	if err != nil {
		return nil, err
	}
	b = append(b, 0)
	t := make([]uint32, n)
	for i := range t {
		switch bits {
		case 12:
			w := le.Uint16(b[i*3/2:])
			if i&1 != 0 {
				w >>= 4
			}
			t[i] = uint32(w & 0xfff)
			if t[i] >= 0xff7 {
				t[i] |= 0x0ffff000
			}
		case 16:
			t[i] = uint32(le.Uint16(b[2*i:]))
			if t[i] >= 0xfff7 {
				t[i] |= 0x0fff0000
			}
		default:
			t[i] = le.Uint32(b[4*i:]) & 0x0fffffff
		}
	}
	v.table = t
	return t, nil
}

const (
	markBad  = 0x0ffffff7
	markLast = 0x0ffffff8 // and above
)

func (v *Volume) at(cluster uint32) disk.Bytes {
	return v.dataStart + disk.Bytes(cluster-2)*v.cluster
}

// Info implements volume.Volume.
func (v *Volume) Info() (volume.Info, error) {
	i := volume.Info{Kind: v.kind, Label: v.label, Serial: fmt.Sprintf("%08x", v.serial), ClusterBytes: v.cluster,
		TotalBytes: disk.Bytes(v.clusters) * v.cluster, Clean: true}
	t, err := v.fat()
	if err != nil {
		return i, err
	}
	if root, err := v.root(); err == nil {
		for _, e := range root {
			if e.attr&0x3f == attrLabel {
				i.Label = strings.TrimRight(e.short, " ")
			}
		}
	}
	d, bad := volume.NewDrawn(int64(v.clusters)), disk.Bytes(0) // where the last bad cluster ends, which stays
	for c, next := range t[2:] {
		if next != 0 {
			d.Add(int64(c), int64(c)+1)
		}
		if next == markBad {
			i.BadClusters++
			bad = v.at(uint32(c)+2) + v.cluster
		}
	}
	i.UsedBytes, i.Use = disk.Bytes(d.Used)*v.cluster, d.Use()
	// A volume of fewer clusters would be one of another kind.
	fewest, _, _ := limits(v.kind)
	least := v.dataStart + min(disk.Bytes(fewest)*v.cluster, i.TotalBytes)
	i.ShrinkCut = max(v.at(uint32(d.Last)+3), least)
	i.ShrinkMin, i.ShrinkMinExact = max(v.dataStart+i.UsedBytes, least, bad), true
	i.Tables = &volume.Tables{Lead: v.dataStart, Bytes: v.fatSize, Copies: v.copies}
	i.Clean = v.closed(t[1])
	return i, nil
}

// The two top bits of the second entry of a table are cleared while a volume is open, and when its
// medium has failed (section 4.2). FAT12 has none.
const (
	closedFAT16 = 0xc000
	closedFAT32 = 0x0c000000
)

// openFlag, in the byte before the extended boot signature, is set by systems that note there that a
// volume is open.
const openFlag = 0x01

// closed tells that the volume was closed properly, by the second entry of its table and by its boot
// sector.
func (v *Volume) closed(second uint32) bool {
	flags, signature := v.boot[37], v.boot[38]
	switch v.kind {
	case volume.FAT32:
		if flags, signature = v.boot[65], v.boot[66]; second&closedFAT32 != closedFAT32 {
			return false
		}
	case volume.FAT16:
		if second&closedFAT16 != closedFAT16 {
			return false
		}
	}
	return signature != 0x28 && signature != 0x29 || flags&openFlag == 0
}

const (
	attrFolder = 0x10
	attrLabel  = 0x08
	attrLong   = 0x0f
)

// dirent is one entry of a folder with its long name.
type dirent struct {
	name, short string
	attr        byte
	cluster     uint32
	size        uint32
	modified    time.Time
}

// chain returns the clusters of a chain, at most limit of them.
func (v *Volume) chain(first uint32, limit int) ([]uint32, error) {
	t, err := v.fat()
	if err != nil {
		return nil, err
	}
	var out []uint32
	for c := first; ; c = t[c] {
		if c < 2 || int64(c) >= int64(len(t)) {
			return out, fmt.Errorf("%w: a chain of clusters leads to %d of %d", volume.ErrDamaged, c, v.clusters)
		}
		if len(out) >= limit || len(out) > len(t) {
			return out, fmt.Errorf("%w: a chain of clusters is longer than its file", volume.ErrDamaged)
		}
		out = append(out, c)
		if t[c] >= markLast {
			return out, nil
		}
	}
}

// maxFolder is the largest folder that the specification allows, in bytes.
const maxFolder = 65536 * 32

func (v *Volume) root() ([]dirent, error) {
	var out []dirent
	err := v.eachEntry(0, 0, func(e dirent, _ int64) bool { out = append(out, e); return true })
	return out, err
}

// eachEntry calls f for the entries of a folder from the 32-byte slot from on, with
// the slot behind each, until f returns false. Cluster 0 is the root. A page of
// entries is read at a time.
func (v *Volume) eachEntry(first uint32, from int64, f func(e dirent, next int64) bool) error {
	var cs []uint32
	var at func(slot int64) (disk.Bytes, bool)
	if first == 0 && v.kind != volume.FAT32 {
		at = func(slot int64) (disk.Bytes, bool) {
			return v.rootStart + disk.Bytes(slot)*32, disk.Bytes(slot)*32 < v.rootSize
		}
	} else {
		if first == 0 {
			first = v.rootCluster
		}
		var err error
		if cs, err = v.chain(first, max(maxFolder/int(v.cluster), 1)); err != nil {
			return err
		}
		at = func(slot int64) (disk.Bytes, bool) {
			off := disk.Bytes(slot) * 32
			if int64(off/v.cluster) >= int64(len(cs)) {
				return 0, false
			}
			return v.at(cs[off/v.cluster]) + off%v.cluster, true
		}
	}
	const page = 512 // every region begins and ends on a sector
	if from > maxFolder/32 {
		return nil
	}
	var b []byte
	var p folderParser
	for slot := from; ; slot++ {
		if slot == from || slot%(page/32) == 0 {
			off, ok := at(slot - slot%(page/32))
			if !ok {
				return nil
			}
			var err error
			if b, err = disk.ReadFull(v.dev, off, page); err != nil {
				return err
			}
		}
		e, ok, end := p.next(b[slot%(page/32)*32:][:32])
		if end || ok && !f(e, slot+1) {
			return nil
		}
	}
}

// folderParser puts long names, which come in pieces before their short one, together
// (sections 6 and 7).
type folderParser struct {
	long []uint16
	sum  byte
}

// next takes one 32-byte entry; ok tells that a file is complete, end that the
// folder ends here.
func (p *folderParser) next(b []byte) (e dirent, ok, end bool) {
	switch {
	case b[0] == 0:
		return e, false, true
	case b[0] == 0xe5:
		p.long = nil
		return e, false, false
	case b[11] == attrLong:
		var part []uint16
		for _, span := range [][2]int{{1, 11}, {14, 26}, {28, 32}} {
			for i := span[0]; i < span[1]; i += 2 {
				part = append(part, le.Uint16(b[i:]))
			}
		}
		if b[0]&0x40 != 0 || len(p.long) > 260 {
			p.long, p.sum = nil, b[13]
		}
		p.long = append(part, p.long...)
		return e, false, false
	}
	e = dirent{
		attr: b[11], short: string(b[:11]), cluster: uint32(le.Uint16(b[20:]))<<16 | uint32(le.Uint16(b[26:])),
		size: le.Uint32(b[28:]),
	}
	d, c := le.Uint16(b[24:]), le.Uint16(b[22:])
	e.modified = time.Date(
		1980+int(d>>9), time.Month(d>>5&15), int(d&31), int(c>>11), int(c>>5&63), int(c&31)*2, 0, time.UTC,
	)
	name, ext := oem(e.short[:8]), oem(e.short[8:])
	if b[0] == 0x05 {
		name = oem("\xe5" + e.short[1:8])
	}
	if b[12]&0x08 != 0 { // the name, the extension in lower case
		name = strings.ToLower(name)
	}
	if b[12]&0x10 != 0 {
		ext = strings.ToLower(ext)
	}
	if e.name = name; ext != "" {
		e.name += "." + ext
	}
	if p.long != nil && p.sum == checksum(b[:11]) {
		if i := slices.Index(p.long, 0); i >= 0 {
			p.long = p.long[:i]
		}
		e.name = string(utf16.Decode(p.long))
	}
	p.long = nil
	return e, true, false
}

// oem is a part of a short name in the old code page.
func oem(s string) string {
	t, err := charmap.CodePage437.NewDecoder().String(strings.TrimRight(s, " "))
	if err != nil {
		return s
	}
	return t
}

// checksum ties a long name to its short one (section 7.2).
func checksum(short []byte) (sum byte) {
	for _, c := range short[:11] {
		sum = sum>>1 | sum<<7
		sum += c
	}
	return sum
}

// folders is the volume as folders; the root of FAT12 and FAT16 is cluster 0.
func (v *Volume) folders() volume.Folders[uint32] {
	return volume.Folders[uint32]{Same: strings.EqualFold, Read: func(first uint32, from int64, f func(volume.Entry[uint32], int64) bool) error {
		return v.eachEntry(first, from, func(e dirent, next int64) bool {
			if e.attr&attrLabel != 0 || e.name == "." || e.name == ".." {
				return true
			}
			x, enter := v.describe(e)
			out := volume.Entry[uint32]{File: x}
			if enter {
				out.Enter = &e.cluster
			}
			return f(out, next)
		})
	}}
}

// describe is an entry as a file; enter tells that it is a folder that can be
// looked into.
func (v *Volume) describe(e dirent) (f volume.File, enter bool) {
	shown, misnamed := volume.Name(e.name)
	f = volume.File{
		Path: shown, Kind: volume.Plain, Bytes: disk.Bytes(e.size), Modified: e.modified, ID: uint64(e.cluster),
	}
	limit := int((f.Bytes + v.cluster - 1) / v.cluster)
	if e.attr&attrFolder != 0 {
		f.Kind, f.Bytes, limit = volume.Folder, 0, maxFolder/int(v.cluster)+1
	}
	var err error
	if e.cluster != 0 {
		var cs []uint32
		cs, err = v.chain(e.cluster, max(limit, 1))
		f.Extents, f.Allocated = v.extents(cs), disk.Bytes(len(cs))*v.cluster
		if err == nil && f.Allocated < f.Bytes {
			err = fmt.Errorf("%w: its chain of clusters is too short", volume.ErrDamaged)
		}
	} else if f.Bytes > 0 || f.Kind == volume.Folder {
		err = fmt.Errorf("%w: it has no clusters", volume.ErrDamaged)
	}
	if f.Unreadable = misnamed; err != nil {
		f.Unreadable = err.Error()
	}
	return f, f.Kind == volume.Folder && err == nil
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

func (v *Volume) extents(cs []uint32) []volume.Extent {
	var out []volume.Extent
	for i, c := range cs {
		if i > 0 && c == cs[i-1]+1 {
			out[len(out)-1].Len += v.cluster
			continue
		}
		out = append(out, volume.Extent{Off: v.at(c), Len: v.cluster})
	}
	return out
}

// Open implements volume.Volume.
func (v *Volume) Open(f volume.File) (io.ReaderAt, error) {
	if f.Unreadable != "" {
		return nil, fmt.Errorf("%s: %w: %s", f.Path, volume.ErrUnreadable, f.Unreadable)
	}
	return volume.NewContents(v.dev, f.Extents, f.Bytes, f.Bytes), nil
}

// Allocated implements volume.Volume.
func (v *Volume) Allocated(f func(start, end disk.Bytes) error) error {
	t, err := v.fat()
	if err != nil {
		return err
	}
	start, end := disk.Bytes(0), v.dataStart
	for c := uint32(2); c < uint32(len(t)); c++ {
		if t[c] == 0 {
			continue
		}
		if at := v.at(c); at != end {
			if err := f(start, end); err != nil {
				return err
			}
			start = at
		}
		end = v.at(c + 1)
	}
	if tail := v.at(uint32(len(t))); tail < v.dev.Size() {
		if end != tail {
			if err := f(start, end); err != nil {
				return err
			}
			start = tail
		}
		end = v.dev.Size()
	}
	return f(start, end)
}

// Fingerprint implements volume.Volume: everything before the data area, and
// every folder.
func (v *Volume) Fingerprint() (string, error) {
	h := blake3.New()
	if _, err := io.Copy(h, io.NewSectionReader(v.dev, 0, int64(v.dataStart))); err != nil {
		return "", err
	}
	files, err := v.Files()
	if err != nil {
		return "", err
	}
	for _, f := range files {
		fmt.Fprintf(h, "%s\x00%d\x00%d\x00%d\n", f.Path, f.Bytes, f.ID, f.Modified.Unix())
	}
	return fmt.Sprintf("%x", h.Sum(nil)), nil
}

// Check implements volume.Volume: the copies of the FAT, the copy of the boot
// sector, every chain.
func (v *Volume) Check() finding.List {
	var l finding.List
	first, err := disk.ReadFull(v.dev, v.fatStart, v.fatSize)
	if err != nil {
		l.Add(finding.Error, "fat-unreadable", "The file allocation table cannot be read: %v.", err)
		return l
	}
	for i := 1; i < v.copies; i++ {
		b, err := disk.ReadFull(v.dev, v.fatStart+disk.Bytes(i)*v.fatSize, v.fatSize)
		if err != nil || string(b) != string(first) {
			l.Add(
				finding.Error, "fat-copies-differ", "Copy %d of the file allocation table differs from the first.",
				i+1,
			)
		}
	}
	if at := disk.Bytes(le.Uint16(v.boot[50:])); v.kind == volume.FAT32 && at > 0 && at*v.sector < v.fatStart {
		if b, err := disk.ReadFull(v.dev, at*v.sector, 512); err != nil || string(b) != string(v.boot[:512]) {
			l.Add(finding.Warning, "boot-copy-differs", "The copy of the boot sector differs from it.")
		}
	}
	files, err := v.Files()
	if err != nil {
		l.Add(finding.Error, "files-unreadable", "The folders cannot be read: %v.", err)
		return l
	}
	used := map[disk.Bytes]string{}
	for _, f := range files {
		if f.Unreadable != "" {
			l.Add(finding.Error, "file-damaged", "%s: %s.", f.Path, f.Unreadable)
		}
		for _, e := range f.Extents {
			for at := e.Off; at < e.Off+e.Len; at += v.cluster {
				if other, twice := used[at]; twice {
					l.Add(finding.Error, "clusters-shared", "%s and %s use the same cluster.", other, f.Path)
					return l
				}
				used[at] = f.Path
			}
		}
	}
	if i, err := v.Info(); err == nil && !i.Clean {
		l.Add(finding.Warning, "not-clean", "The volume was not closed.")
	}
	return l
}

// Agrees implements volume.Volume.
func (v *Volume) Agrees() bool { l := v.Check(); return l.FirstError() == nil }

// ErrFull is returned when the files do not fit into the volume, or the volume
// is too small or too large for FAT32.
var ErrFull = errors.New("the volume does not fit FAT32 or its files")

// SectorBytes is the length of the sectors in which the volume counts.
func (v *Volume) SectorBytes() disk.Bytes { return v.sector }

// Hidden is the number of sectors before the volume that its boot sector counts.
func (v *Volume) Hidden() uint32 { return le.Uint32(v.boot[28:]) }
