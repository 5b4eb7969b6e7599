package ntfs

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/script"
	"jadetrail/core/volume"
)

// Volume is an NTFS volume on a device that begins where the volume begins.
type Volume struct {
	dev  disk.Device
	boot *boot
	mft  *stream
	tree *tree    // every file, read when first asked for
	up   []uint16 // the table of upper-case letters, read when first asked for

	secure *descriptors // read when first asked for
}

// Open recognises an NTFS volume. The device may be longer than the volume.
func Open(dev disk.Device) (*Volume, error) {
	b, err := disk.ReadFull(dev, 0, min(dev.Size(), 512))
	if err != nil {
		return nil, err
	}
	o, err := parseBoot(b)
	if err != nil {
		return nil, err
	}
	if disk.Bytes(o.sectors)*o.sector > dev.Size() {
		return nil, fmt.Errorf(
			"%w: the NTFS boot sector claims %s, but the partition has %s", volume.ErrDamaged,
			disk.Bytes(o.sectors)*o.sector, dev.Size(),
		)
	}
	if o.raw, err = disk.ReadFull(dev, 0, max(o.sector, dev.SectorBytes())); err != nil {
		return nil, err
	}
	v := &Volume{dev: dev, boot: o}
	if err := v.openMFT(); err != nil {
		return nil, err
	}
	if v.mft.size > o.bytes() {
		return nil, fmt.Errorf(
			"%w: the table of files claims %s of a volume of %s", volume.ErrDamaged, v.mft.size, o.bytes(),
		)
	}
	return v, nil
}

func errEOF(missing int) error {
	if missing > 0 {
		return io.EOF
	}
	return nil
}

// openMFT finds the run list of the MFT in its own first record, and in the
// records that its attribute list names.
func (v *Volume) openMFT() error {
	r, err := v.first(v.boot.mft, recMFT)
	if err != nil {
		if r, _ = v.first(v.boot.mirror, recMFT); r == nil {
			return fmt.Errorf("%w: the first record of the table of files: %v", volume.ErrDamaged, err)
		}
	}
	var pieces []attr
	for _, a := range r.attrs {
		if a.typ == atData && a.name == "" {
			pieces = append(pieces, a)
		}
	}
	if len(pieces) == 0 || pieces[0].resident || pieces[0].lowest != 0 {
		return fmt.Errorf("%w: the table of files has no contents", volume.ErrDamaged)
	}
	// The first piece maps at least the records in which the others lie.
	head := pieces[0]
	if len(head.runs) == 0 || head.runs[0].lcn != v.boot.mft {
		return fmt.Errorf("%w: the table of files does not begin where the boot sector says", volume.ErrDamaged)
	}
	v.mft = &stream{
		v: v, runs: head.runs, size: min(head.size, disk.Bytes(head.highest+1)*v.boot.cluster),
		initialised: head.initialised, alloc: head.alloc,
	}
	if r.find(atList, "") == nil {
		v.mft, err = v.join(pieces)
		return err
	}
	refs, err := v.listed(r, atData, "")
	if err != nil {
		return err
	}
	for _, num := range refs {
		x, err := v.record(num)
		if err != nil {
			return fmt.Errorf("%w: record %d, which extends the table of files: %v", volume.ErrDamaged, num, err)
		}
		for _, a := range x.attrs {
			if a.typ == atData && a.name == "" {
				pieces = append(pieces, a)
			}
		}
	}
	v.mft, err = v.join(pieces)
	return err
}

// mirrorRecords is how many records of the table of files have a copy at the least.
const mirrorRecords = 4

// first reads one of the first records where the table of files, or the copy of its first
// records, begins.
func (v *Volume) first(lcn, num int64) (*record, error) {
	size := disk.Bytes(v.boot.record)
	b, err := disk.ReadFull(v.dev, disk.Bytes(lcn)*v.boot.cluster+disk.Bytes(num)*size, size)
	if err != nil {
		return nil, err
	}
	r, err := parseRecord(num, b, v.boot.clusters)
	if err == nil && (r.flags&inUse == 0 || r.base != 0) {
		err = errNotRecord
	}
	if err != nil {
		return nil, err
	}
	return r, nil
}

// Rebuild returns the script that writes the first records of the table of files again from
// their copy ($MFTMirr), those that are damaged: an empty one where none is.
func (v *Volume) Rebuild() (script.Script, error) {
	var s script.Script
	size := disk.Bytes(v.boot.record)
	for num := range int64(mirrorRecords) {
		if _, err := v.first(v.boot.mft, num); err == nil {
			continue
		}
		if _, err := v.first(v.boot.mirror, num); err != nil {
			continue
		}
		raw, err := disk.ReadFull(v.dev, disk.Bytes(v.boot.mirror)*v.boot.cluster+disk.Bytes(num)*size, size)
		if err != nil {
			return nil, err
		}
		s.Put(disk.Bytes(v.boot.mft)*v.boot.cluster+disk.Bytes(num)*size, raw)
	}
	return s, nil
}

// listed returns the records other than r itself in which r's attribute list
// says that pieces of an attribute lie.
func (v *Volume) listed(r *record, typ uint32, name string) ([]int64, error) {
	return v.list(r, func(t uint32, n string) bool { return t == typ && n == name })
}

// extensions returns all records that r's attribute list names beside r itself.
func (v *Volume) extensions(r *record) ([]int64, error) {
	all, err := v.list(r, func(uint32, string) bool { return true })
	slices.Sort(all)
	return slices.Compact(all), err
}

func (v *Volume) list(r *record, wanted func(typ uint32, name string) bool) ([]int64, error) {
	s, err := v.join([]attr{*r.find(atList, "")})
	if err != nil {
		return nil, err
	}
	b, err := s.all(1 << 20)
	if err != nil {
		return nil, err
	}
	var out []int64
	for len(b) >= lstName {
		n, nl, no := int(le.Uint16(b[lstLength:])), int(b[lstNameLength]), int(b[lstNameOffset])
		if n < lstName || n > len(b) || no+2*nl > n {
			return nil, fmt.Errorf("%w: an attribute list is not valid", volume.ErrDamaged)
		}
		num := int64(le.Uint64(b[lstReference:]) & (1<<48 - 1))
		if num != r.num && wanted(le.Uint32(b), text16(b[no:no+2*nl])) {
			out = append(out, num)
		}
		b = b[n:]
	}
	return out, nil
}

// record reads one record of the MFT.
func (v *Volume) record(num int64) (*record, error) {
	b := make([]byte, v.boot.record)
	if _, err := v.mft.ReadAt(b, num*int64(v.boot.record)); err != nil {
		return nil, fmt.Errorf("record %d: %w", num, err)
	}
	r, err := parseRecord(num, b, v.boot.clusters)
	if err != nil && num < mirrorRecords {
		if again, _ := v.first(v.boot.mirror, num); again != nil {
			return again, nil
		}
	}
	if err != nil {
		return r, fmt.Errorf("record %d: %w", num, err)
	}
	return r, nil
}

// system returns a stream of a system file, following its attribute list.
func (v *Volume) system(num int64, typ uint32, name string) (*stream, error) {
	r, err := v.record(num)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", volume.ErrDamaged, err)
	}
	recs := []*record{r}
	if r.find(atList, "") != nil {
		refs, err := v.listed(r, typ, name)
		if err != nil {
			return nil, err
		}
		for _, n := range refs {
			x, err := v.record(n)
			if err != nil {
				return nil, fmt.Errorf("%w: %v", volume.ErrDamaged, err)
			}
			recs = append(recs, x)
		}
	}
	var pieces []attr
	for _, x := range recs {
		for _, a := range x.attrs {
			if a.typ == typ && a.name == name {
				pieces = append(pieces, a)
			}
		}
	}
	if len(pieces) == 0 {
		return nil, fmt.Errorf("%w: system file %d lacks attribute %x", volume.ErrDamaged, num, typ)
	}
	return v.join(pieces)
}

// Info implements volume.Volume.
func (v *Volume) Info() (volume.Info, error) {
	i := volume.Info{
		Kind: volume.NTFS, Serial: fmt.Sprintf("%016x", v.boot.serial), ClusterBytes: v.boot.cluster, TotalBytes: v.boot.bytes(),
	}
	vol, err := v.record(recVolume)
	if err != nil {
		return i, fmt.Errorf("%w: %v", volume.ErrDamaged, err)
	}
	if a := vol.find(atVolumeName, ""); a != nil && a.resident {
		i.Label = text16(a.value)
	}
	d, err := v.measure()
	if err != nil {
		return i, err
	}
	i.UsedBytes, i.Use = disk.Bytes(d.Used)*v.boot.cluster, d.Use()
	// The copy of the boot sector takes one more sector behind the clusters.
	i.ShrinkCut = disk.Bytes(d.Last+1)*v.boot.cluster + v.boot.sector
	i.ShrinkMin = i.UsedBytes + v.boot.sector
	i.Clean = v.Clean() == nil
	i.Hibernated, i.RestorePoints = v.hibernated(), v.restorePoints()
	if s, err := v.system(recBadClus, atData, "$Bad"); err == nil {
		for _, r := range s.runs {
			if r.lcn >= 0 {
				i.BadClusters += r.n
			}
		}
	}
	return i, nil
}

// measure counts the clusters in use, finds the last of them, and how full each
// part of the volume is. The bitmap is read in pieces, holes not at all.
func (v *Volume) measure() (*volume.Drawn, error) {
	d := volume.NewDrawn(v.boot.clusters)
	return d, v.eachUsed(func(from, to int64) error { d.Add(from, to); return nil })
}

// hibernated tells whether a system was put to sleep with its memory kept in a
// file of this volume, whose first bytes then say so.
func (v *Volume) hibernated() bool {
	num, ok := v.lookup("hiberfil.sys")
	if !ok {
		return false
	}
	s, err := v.system(num, atData, "")
	if err != nil || s.size < 4096 {
		return false
	}
	b := make([]byte, 4)
	_, err = s.ReadAt(b, 0)
	mark := strings.ToUpper(string(b))
	return err == nil && (mark == "HIBR" || mark == "WAKE" || mark == "RSTR")
}

// restoreMark ends the names of the files in which earlier states are kept.
const restoreMark = "{3808876b-c176-4e48-b7ae-04046e6cc752}"

// restorePoints tells whether the volume keeps earlier states of itself.
func (v *Volume) restorePoints() bool {
	_, kept := v.RestorePoints()
	return kept
}

// RestorePoints lists the files in which the volume keeps earlier states of itself, and the
// catalogue of them; kept tells that there are any states.
func (v *Volume) RestorePoints() (files []string, kept bool) {
	const folder = "System Volume Information"
	num, ok := v.lookup(folder)
	if !ok {
		return nil, false
	}
	list, err := v.page(num, "", 1000)
	if err != nil {
		return nil, false
	}
	for _, x := range list {
		if strings.HasSuffix(strings.ToLower(x.name), restoreMark) {
			files = append(files, folder+"/"+x.name)
			kept = kept || !strings.EqualFold(x.name, restoreMark)
		}
	}
	return files, kept
}

// eachUsed calls f for every stretch [from, to) of clusters that $Bitmap marks
// as in use, in order, joined as far as one piece of the bitmap goes.
func (v *Volume) eachUsed(f func(from, to int64) error) error {
	s, err := v.system(recBitmap, atData, "")
	if err != nil {
		return err
	}
	if s.size < disk.Bytes((v.boot.clusters+7)/8) {
		return fmt.Errorf("%w: $Bitmap has %d bytes for %d clusters", volume.ErrDamaged, s.size, v.boot.clusters)
	}
	return volume.EachSet(s, v.boot.clusters, f)
}

// Allocated implements volume.Volume.
func (v *Volume) Allocated(f func(start, end disk.Bytes) error) error {
	err := v.eachUsed(func(from, to int64) error {
		return f(disk.Bytes(from)*v.boot.cluster, disk.Bytes(to)*v.boot.cluster)
	})
	if err == nil && v.boot.bytes() < v.dev.Size() {
		err = f(v.boot.bytes(), v.dev.Size())
	}
	return err
}

// Fingerprint implements volume.Volume: the boot sector, the table of files and
// the bitmap, which change with every change to the volume.
func (v *Volume) Fingerprint() (string, error) {
	h := blake3.New()
	h.Write(v.boot.raw)
	bm, err := v.system(recBitmap, atData, "")
	if err != nil {
		return "", err
	}
	for _, s := range []*stream{v.mft, bm} {
		if _, err := io.CopyBuffer(h, io.NewSectionReader(s, 0, int64(s.size)), make([]byte, 1<<20)); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("%x", h.Sum(nil)), nil
}

// Clean says why the volume is not clean, or nil: the dirty bit of $Volume is
// clear, and the log is all FFh or its current restart area is valid and marked
// clean. A log of version 2.0 is not clean.
func (v *Volume) Clean() error {
	r, err := v.record(recVolume)
	if err != nil {
		return fmt.Errorf("%w: %v", volume.ErrDamaged, err)
	}
	a := r.find(atVolumeInfo, "")
	if a == nil || !a.resident || len(a.value) < 12 {
		return fmt.Errorf("%w: $Volume does not say how it was left", volume.ErrDamaged)
	}
	if le.Uint16(a.value[10:])&1 != 0 {
		return fmt.Errorf("%w: it was marked for checking (dirty bit)", volume.ErrNotClean)
	}
	log, err := v.system(recLogFile, atData, "")
	if err != nil {
		return err
	}
	return logClean(log)
}

// emptyLog is a piece of a $LogFile in which nothing was ever kept.
var emptyLog = sync.OnceValue(func() []byte { return bytes.Repeat([]byte{0xff}, 64<<10) })

// logClean judges $LogFile by its two restart pages.
func logClean(log *stream) error {
	unclean := func(why string) error { return fmt.Errorf("%w: its log %s", volume.ErrNotClean, why) }
	var best []byte
	var bestLSN uint64
	size := int64(4096)
	for i := range int64(2) {
		b := make([]byte, 512)
		if _, err := log.ReadAt(b, i*size); err != nil || string(b[:4]) != "RSTR" {
			continue
		}
		page := int64(le.Uint32(b[16:]))
		if page < 512 || page > 64<<10 || page&(page-1) != 0 {
			continue
		}
		b = make([]byte, page)
		if _, err := log.ReadAt(b, i*size); err != nil || unfix(b) != nil {
			continue
		}
		if i == 0 {
			size = page
		}
		area := int(le.Uint16(b[24:]))
		if area < 30 || area+48 > len(b) {
			continue
		}
		if lsn := le.Uint64(b[area:]); best == nil || lsn > bestLSN {
			best, bestLSN = b, lsn
		}
	}
	if best == nil {
		empty := emptyLog()
		buf := make([]byte, len(empty))
		for off := int64(0); off < int64(log.size); off += int64(len(buf)) {
			n, err := log.ReadAt(buf, off)
			if err != nil && err != io.EOF {
				return err
			}
			if !bytes.Equal(buf[:n], empty[:n]) {
				return unclean("has no valid restart page and is not empty")
			}
		}
		return nil
	}
	if int16(le.Uint16(best[28:])) >= 2 {
		return unclean("is of version 2.0, which a running system leaves behind")
	}
	if area := best[le.Uint16(best[24:]):]; le.Uint16(area[14:])&2 == 0 {
		return unclean("was not closed")
	}
	return nil
}

func toTime(v uint64) time.Time { return volume.FromFileTime(v) }

func fromTime(t time.Time) uint64 { return volume.FileTime(t) }

// SectorBytes is the length of the sectors in which the volume counts.
func (v *Volume) SectorBytes() disk.Bytes { return v.boot.sector }

// Hidden is the number of sectors before the volume that its boot sector counts.
func (v *Volume) Hidden() uint32 { return v.boot.hidden }

// Places returns where the volume's own bookkeeping lies: the boot sector, the
// bitmap of clusters, and if asked for the table of files.
func (v *Volume) Places(files bool) []volume.Extent {
	out := []volume.Extent{{Off: 0, Len: v.boot.sector}}
	streams := []*stream{}
	if bm, err := v.system(recBitmap, atData, ""); err == nil {
		streams = append(streams, bm)
	}
	if files {
		streams = append(streams, v.mft)
	}
	for _, s := range streams {
		for _, r := range s.runs {
			out = append(out, volume.Extent{
				Off: disk.Bytes(r.lcn) * v.boot.cluster, Len: disk.Bytes(r.n) * v.boot.cluster,
			})
		}
	}
	return out
}
