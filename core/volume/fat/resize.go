package fat

import (
	"bytes"
	"errors"
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/script"
	"jadetrail/core/volume"
)

// ErrUsed tells that what must be moved cannot be: a bad cluster lies there, or there is
// no free room for it.
var ErrUsed = errors.New("clusters lie where the volume must be free")

// limits are the smallest and the largest count of clusters of a kind (FAT specification,
// section 3.5; of FAT32 the largest that leaves the marks free).
func limits(k volume.Kind) (least, most int64, bits disk.Bytes) {
	switch k {
	case volume.FAT12:
		return 1, 4084, 12
	case volume.FAT16:
		return 4085, 65524, 16
	}
	return 65525, 0x0ffffff4, 32
}

// Reshaped is what a volume is at another size of its partition: its clusters stay as
// large as they are, and when there are more of them than its tables have room for, the
// tables grow and the first shift clusters make way. A table is never made smaller.
// ErrFull when its kind cannot have so few or so many clusters.
func Reshaped(i volume.Info, size, sector disk.Bytes) (after volume.Info, shift uint32, err error) {
	least, most, bits := limits(i.Kind)
	t := i.Tables
	if i.ClusterBytes > 0 { // some were made smaller than their kind allows, and work
		least = min(least, int64(i.TotalBytes/i.ClusterBytes))
	}
	if t == nil || i.ClusterBytes == 0 || sector <= 0 {
		return i, 0, fmt.Errorf("%w: its shape is not known", volume.ErrDamaged)
	}
	cannot := func(n int64) error {
		return fmt.Errorf(
			"%w: %d clusters of %s, and %s has from %d to %d", ErrFull, n, i.ClusterBytes, i.Kind, least, most,
		)
	}
	after = i
	for {
		n := int64((size.Down(sector) - t.Lead - disk.Bytes(shift)*i.ClusterBytes) / i.ClusterBytes)
		if n < least || size/sector > 0xffffffff {
			return i, 0, cannot(n)
		}
		// All copies together grow by whole clusters, so that every cluster stays on the
		// grid that it is on.
		grown := t.Bytes + disk.Bytes(shift)*i.ClusterBytes/disk.Bytes(t.Copies)
		if grown%sector == 0 && grown*disk.Bytes(t.Copies) == t.Bytes*disk.Bytes(t.Copies)+disk.Bytes(shift)*i.ClusterBytes && grown*8 >= disk.Bytes(n+2)*bits {
			if n > most {
				return i, 0, cannot(n)
			}
			after.TotalBytes = disk.Bytes(n) * i.ClusterBytes
			after.Tables = &volume.Tables{
				Lead: t.Lead + disk.Bytes(shift)*i.ClusterBytes, Bytes: grown, Copies: t.Copies,
			}
			return after, shift, nil
		}
		// What is still lacking, in clusters: a step of one at least, and never too far,
		// since each cluster that makes way is one less to have an entry for.
		lack := (disk.Bytes(n+2)*bits+7)/8 - grown
		shift += uint32(max(1, lack*disk.Bytes(t.Copies)/(i.ClusterBytes+8)))
	}
}

// Bounds is from what size to what size the volume's partition can be, its clusters as
// large as they are; roomy is up to where its tables need not grow.
func Bounds(i volume.Info, sector disk.Bytes) (least, roomy, most disk.Bytes) {
	lo, hi, bits := limits(i.Kind)
	t := i.Tables
	if t == nil || i.ClusterBytes == 0 {
		return 0, 0, 0
	}
	least = t.Lead + min(disk.Bytes(lo)*i.ClusterBytes, i.TotalBytes)
	more := max(((disk.Bytes(hi+2)*bits+7)/8).Up(sector)-t.Bytes, 0)
	most = t.Lead + (disk.Bytes(t.Copies) * more).Up(i.ClusterBytes) + disk.Bytes(hi)*i.ClusterBytes
	most = min(most, 0xffffffff*sector)
	return least, min(t.Lead+(t.Bytes*8/bits-2)*i.ClusterBytes, most), most
}

// reshaping is a volume on its way to another size. Clusters are counted as they are now;
// their numbers become smaller by shift when the tables have grown.
type reshaping struct {
	v       *Volume
	t       []uint32 // the table as it is
	after   volume.Info
	shift   uint32
	moved   map[uint32]uint32 // clusters that go elsewhere
	folders script.Script
}

// end is the first cluster, as they are counted now, that the volume has no more.
func (r *reshaping) end() uint32 {
	return r.shift + uint32(r.after.TotalBytes/r.v.cluster) + 2
}

// number is the number that a cluster has afterwards.
func (r *reshaping) number(c uint32) uint32 {
	if to, ok := r.moved[c]; ok {
		c = to
	}
	return c - r.shift
}

// Grow returns the script that makes the volume as long as a partition of the given size,
// places counted from its start. Where its tables have no room for more clusters, they grow
// into the first ones: what lies in these moves to free clusters, and every cluster gets
// another number, in the tables and in the folders; no other contents are touched.
//
// A volume that is not clean or disagrees with itself is refused (volume.ErrDamaged).
func (v *Volume) Grow(size disk.Bytes) (script.Script, error) {
	if size < disk.Bytes(v.sectors)*v.sector {
		return nil, fmt.Errorf("%w: it is larger than %s", ErrFull, size)
	}
	return v.resize(size)
}

// Shrink is Grow to a smaller size: what lies behind the new end moves to free clusters
// before it, as many stretches as need be (ErrUsed when there are not enough, or when a bad
// cluster lies there).
func (v *Volume) Shrink(size disk.Bytes) (script.Script, error) {
	if size > disk.Bytes(v.sectors)*v.sector {
		return nil, fmt.Errorf("%w: it is smaller than %s", ErrFull, size)
	}
	return v.resize(size)
}

func (v *Volume) resize(size disk.Bytes) (script.Script, error) {
	i, err := v.Info()
	if err != nil {
		return nil, err
	}
	if l := v.Check(); !i.Clean || l.FirstError() != nil {
		return nil, fmt.Errorf("%w: it was not closed, or its table and folders disagree", volume.ErrDamaged)
	}
	r := &reshaping{v: v, moved: map[uint32]uint32{}}
	if r.t, err = v.fat(); err != nil {
		return nil, err
	}
	if r.after, r.shift, err = Reshaped(i, size, v.sector); err != nil {
		return nil, err
	}
	s, err := r.moves()
	if err != nil {
		return nil, err
	}
	if len(s) > 0 {
		s.Barrier("moved to free clusters of the volume")
	}
	if err := r.rename(); err != nil {
		return nil, err
	}
	s = append(s, r.folders...)
	tables, err := r.tables()
	if err != nil {
		return nil, err
	}
	s = append(s, tables...)
	boot, err := r.boot(size)
	if err != nil {
		return nil, err
	}
	s = append(s, boot...)
	s.Barrier("tables and boot sector fitted to the size")
	return s, nil
}

// moves finds new places for what lies where the tables come to lie, or behind the end.
func (r *reshaping) moves() (script.Script, error) {
	v, next := r.v, r.shift+2
	var s script.Script
	for c := uint32(2); c < uint32(len(r.t)); c++ {
		if r.t[c] == 0 || c >= r.shift+2 && c < r.end() {
			continue
		}
		if r.t[c] == markBad {
			return nil, fmt.Errorf("%w: cluster %d is bad and stays where it is", ErrUsed, c)
		}
		for next < r.end() && next < uint32(len(r.t)) && r.t[next] != 0 {
			next++
		}
		if next >= r.end() {
			return nil, fmt.Errorf("%w: there is not enough free room elsewhere", ErrUsed)
		}
		r.moved[c] = next
		if n := len(s); n > 0 && s[n-1].From+s[n-1].Len == v.at(c) && s[n-1].Off+s[n-1].Len == v.at(next) {
			s[n-1].Len += v.cluster
		} else {
			s = append(s, script.Op{Kind: script.Move, Off: v.at(next), From: v.at(c), Len: v.cluster})
		}
		next++
	}
	return s, nil
}

// rename writes the folders that name a cluster by a number which is not its own any more,
// each where it is then.
func (r *reshaping) rename() error {
	v := r.v
	if r.shift == 0 && len(r.moved) == 0 {
		return nil
	}
	firsts := []uint32{}
	if v.kind == volume.FAT32 {
		firsts = append(firsts, v.rootCluster)
	} else {
		b, err := disk.ReadFull(v.dev, v.rootStart, v.rootSize)
		if err != nil {
			return err
		}
		if _, changed := r.renamed(b, true); changed || r.shift > 0 {
			r.folders.Put(v.rootStart+disk.Bytes(r.shift)*v.cluster, b)
		}
	}
	err := v.Walk(func(f volume.File) error {
		if f.Kind == volume.Folder && f.Unreadable == "" {
			firsts = append(firsts, uint32(f.ID))
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, first := range firsts {
		cs, err := v.chain(first, len(r.t))
		if err != nil {
			return err
		}
		on := true
		for _, c := range cs {
			b, err := disk.ReadFull(v.dev, v.at(c), v.cluster)
			if err != nil {
				return err
			}
			var changed bool
			if on, changed = r.renamed(b, on); changed {
				r.folders.Put(v.at(r.number(c)+r.shift), b)
			}
		}
	}
	return nil
}

// renamed changes the entries of a piece of a folder; on tells that it does not end in it.
// Entries of deleted files follow their clusters too, where these stay in their place.
func (r *reshaping) renamed(b []byte, on bool) (more, changed bool) {
	for e := b; on && len(e) >= 32; e = e[32:] {
		if e[0] == 0 {
			return false, changed
		}
		c := uint32(le.Uint16(e[26:]))
		if r.v.kind == volume.FAT32 {
			c |= uint32(le.Uint16(e[20:])) << 16
		}
		if e[11]&0x3f == attrLong || c < 2 || c >= uint32(len(r.t)) || e[0] == 0xe5 && c < r.shift+2 {
			continue
		}
		n := r.number(c)
		if n == c {
			continue
		}
		le.PutUint16(e[26:], uint16(n))
		if r.v.kind == volume.FAT32 {
			le.PutUint16(e[20:], uint16(n>>16))
		}
		changed = true
	}
	return on, changed
}

// tables writes every copy of the table in its new place, as far as what lies there is
// not the same already.
func (r *reshaping) tables() (script.Script, error) {
	v, t := r.v, r.after.Tables
	_, _, bits := limits(v.kind)
	old, err := disk.ReadFull(v.dev, v.fatStart, v.fatSize)
	if err != nil {
		return nil, err
	}
	b := make([]byte, t.Bytes+1)
	copy(b, old[:2*bits/8]) // the first two entries hold the medium and the marks
	for c := uint32(2); c < uint32(len(r.t)); c++ {
		x := r.t[c]
		if x == 0 {
			continue
		}
		if bits == 32 { // the top bits are not ours
			x |= le.Uint32(old[4*c:]) & 0xf0000000
		}
		if low := x & 0x0fffffff; low >= 2 && low < uint32(len(r.t)) {
			x = x&0xf0000000 | r.number(low)
		}
		put(b, r.number(c), x, bits)
	}
	b = b[:t.Bytes]
	const part = 64 << 10
	var s script.Script
	for k := range disk.Bytes(t.Copies) {
		for at := disk.Bytes(0); at < t.Bytes; at += part {
			x, to := b[at:min(at+part, t.Bytes)], v.fatStart+k*t.Bytes+at
			was, err := disk.ReadFull(v.dev, to, disk.Bytes(len(x)))
			if err != nil {
				return nil, err
			}
			if !bytes.Equal(was, x) {
				s.Put(to, x)
			}
		}
	}
	return s, nil
}

// put sets an entry of a table.
func put(b []byte, c, x uint32, bits disk.Bytes) {
	switch bits {
	case 12:
		w := b[c*3/2:]
		if c&1 != 0 {
			le.PutUint16(w, le.Uint16(w)&0x000f|uint16(x)<<4)
		} else {
			le.PutUint16(w, le.Uint16(w)&0xf000|uint16(x)&0x0fff)
		}
	case 16:
		le.PutUint16(b[2*c:], uint16(x))
	default:
		le.PutUint32(b[4*c:], x)
	}
}

// boot writes the boot sector and, of FAT32, the counts of free clusters and the copies of
// both (sections 3 and 5). The boot sector comes last.
func (r *reshaping) boot(size disk.Bytes) (script.Script, error) {
	v, t := r.v, r.after.Tables
	b := bytes.Clone(v.boot)
	sectors := uint32(size / v.sector)
	le.PutUint16(b[19:], 0)
	le.PutUint32(b[32:], sectors)
	if v.kind != volume.FAT32 {
		if sectors < 1<<16 && le.Uint16(v.boot[19:]) != 0 {
			le.PutUint16(b[19:], uint16(sectors))
			le.PutUint32(b[32:], 0)
		}
		le.PutUint16(b[22:], uint16(t.Bytes/v.sector))
		var s script.Script
		s.Put(0, b)
		return s, nil
	}
	le.PutUint32(b[36:], uint32(t.Bytes/v.sector))
	le.PutUint32(b[44:], r.number(v.rootCluster))
	used := uint32(0)
	for _, x := range r.t[2:] {
		if x != 0 {
			used++
		}
	}
	s, err := v.counts(uint32(r.after.TotalBytes/v.cluster)-used, 0xffffffff)
	if err != nil {
		return nil, err
	}
	if second := disk.Bytes(le.Uint16(b[50:])); second > 0 && second*v.sector < v.fatStart {
		s.Put(second*v.sector, b)
	}
	s.Put(0, b)
	return s, nil
}
