package ntfs

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/script"
	"jadetrail/core/volume"
)

// vacating is what is moved out of a volume's end.
type vacating struct {
	v      *Volume
	end    int64  // the first cluster that must become free
	room   *space // that is free before it
	moves  script.Script
	raws   map[int64][]byte // records that change
	table  []run            // where the table of files lies then,
	bitmap []run            // where $Bitmap lies then
	mirror []run            // where $MFTMirr lies then
	marks  []run            // where the map of records lies then

	moved  map[place][]run // where attributes lie then that were moved
	over   map[int64]bool  // files whose records have no room for that
	layout *loader         // that lays these out anew, once there are any
	spare  int64           // records that are free and not yet counted on
}

// place is where an attribute stands: its record, and its offset in it.
type place struct {
	num int64
	off int
}

// Vacate returns the script after which nothing lies behind where a volume of the given size
// would end, so that Shrink can cut it there; the volume keeps its size. What lies there is
// moved to free clusters, as many stretches as need be, each file's record is written anew,
// and so are the copies of records and, where $MFT or $MFTMirr moves, the boot sector and its
// copy. A file whose record has no room for the longer list of its stretches gains records
// that extend it ($ATTRIBUTE_LIST), or where none are free is put into one piece, as the file
// system's own files are. Nothing is to be done when the script is empty.
//
// Bad clusters stay where they are, and so does a table of files whose own list of stretches
// does not lie in one record: where they lie there the volume is refused (ErrUsed), as is one
// that is not clean or disagrees with itself, or where a record has no room and neither way
// out is left (ErrRecord).
func (v *Volume) Vacate(size disk.Bytes) (script.Script, error) {
	if err := v.Clean(); err != nil {
		return nil, err
	}
	o := v.boot
	m := &vacating{
		v: v, end: (int64(size/o.sector) - 1) / int64(o.cluster/o.sector), raws: map[int64][]byte{},
		moved: map[place][]run{}, over: map[int64]bool{},
	}
	if m.end >= o.clusters || m.end < 1 {
		return nil, ErrTooSmall
	}
	if !v.Agrees() {
		return nil, fmt.Errorf(
			"%w: the files and the bitmap of clusters disagree, or a record cannot be read", volume.ErrDamaged,
		)
	}
	var err error
	if m.room, err = v.space(); err != nil {
		return nil, err
	}
	m.room.before(m.end)
	for num := range int64(v.mft.size) / int64(o.record) {
		if err := m.record(num); err != nil {
			return nil, err
		}
	}
	if len(m.over) > 0 {
		if err := m.extend(); err != nil {
			return nil, err
		}
	}
	return m.script()
}

// record moves what a record's attributes have behind the end.
func (m *vacating) record(num int64) error {
	r, err := m.v.record(num)
	if err != nil || r.flags&inUse == 0 {
		return nil // what is in use and cannot be read makes the volume disagree with itself
	}
	offs := make([]int, len(r.attrs)) // as they stand on the volume
	for i, a := range r.attrs {
		offs[i] = a.off
	}
	for i := range offs {
		a := &r.attrs[i]
		if a.resident || !slices.ContainsFunc(a.runs, func(x run) bool { return x.lcn >= 0 && x.lcn+x.n > m.end }) {
			continue
		}
		if num == 0 && a.typ == atData && r.find(atList, "") != nil || r.base&(1<<48-1) == 0 && r.base != 0 && a.typ == atData || num == recBadClus {
			return fmt.Errorf(
				"%w: a table of files in many pieces or a bad cluster (file %d), which stay where they are", ErrUsed,
				num,
			)
		}
		since := m.state()
		runs, err := m.away(a.runs)
		if err != nil {
			return err
		}
		raw, err := withRuns(r, a, runs, nil)
		if errors.Is(err, ErrRecord) {
			var extended bool
			if runs, extended, err = m.noRoom(r, a, runs, since); err == nil && !extended {
				raw, err = withRuns(r, a, runs, nil)
			}
		}
		if err != nil {
			return fmt.Errorf("file %d: %w", num, err)
		}
		m.moved[place{num, offs[i]}] = runs
		if raw == nil {
			continue
		}
		switch {
		case num == 0 && a.typ == atData:
			m.table = runs
		case num == recBitmap && a.typ == atData:
			m.bitmap = runs
		case num == recMirror && a.typ == atData:
			m.mirror = runs
		case num == 0 && a.typ == atBitmap:
			m.marks = runs
		}
		m.raws[num] = raw
		if r, err = parseRecord(num, bytes.Clone(raw), m.v.boot.clusters); err != nil {
			return fmt.Errorf("%w: %v", volume.ErrDamaged, err)
		}
	}
	return nil
}

// away finds new places for what of a run list lies behind the end.
func (m *vacating) away(runs []run) ([]run, error) {
	c := m.v.boot.cluster
	var out []run
	for _, x := range runs {
		if x.lcn < 0 || x.lcn+x.n <= m.end {
			out = joinRun(out, x)
			continue
		}
		if stays := m.end - x.lcn; stays > 0 {
			out = joinRun(out, run{x.vcn, x.lcn, stays})
			x = run{x.vcn + stays, m.end, x.n - stays}
		}
		to, err := m.room.take(x.n)
		if err != nil {
			return nil, fmt.Errorf("%w, and before it there is not enough free room", ErrUsed)
		}
		m.room.give([]run{x})
		for _, y := range to {
			m.move(disk.Bytes(x.lcn+y.vcn)*c, disk.Bytes(y.lcn)*c, disk.Bytes(y.n)*c)
			out = joinRun(out, run{x.vcn + y.vcn, y.lcn, y.n})
		}
	}
	return out, nil
}

// move appends that contents go from one place to another.
func (m *vacating) move(from, to, n disk.Bytes) {
	m.moves = append(m.moves, script.Op{Kind: script.Move, Off: to, From: from, Len: n})
}

// joinRun appends a run, as part of the last one where it follows that on the volume too.
func joinRun(runs []run, x run) []run {
	n := len(runs) - 1
	if n >= 0 && (x.lcn >= 0 && runs[n].lcn >= 0 && runs[n].lcn+runs[n].n == x.lcn || x.lcn < 0 && runs[n].lcn < 0) {
		runs[n].n += x.n
		return runs
	}
	return append(runs, x)
}

// script puts it together: the contents first, then what names their new places.
func (m *vacating) script() (script.Script, error) {
	v := m.v
	if len(m.moves) == 0 {
		return nil, nil
	}
	st, err := v.system(recBitmap, atData, "")
	if err != nil {
		return nil, err
	}
	if m.bitmap == nil {
		m.bitmap = st.runs
	}
	n, mirror, err := v.mirrored()
	if err != nil {
		return nil, err
	}
	if m.mirror == nil {
		m.mirror = mirror.runs
	}
	if m.table == nil {
		m.table = v.mft.runs
	}
	s := m.moves
	s.Barrier("moved to free clusters of the volume")
	if err := m.bits(&s, st, true); err != nil {
		return nil, err
	}
	if len(m.over) > 0 {
		s = append(s, m.layout.blocks...)
		if err := m.recordMap(&s); err != nil {
			return nil, err
		}
	}
	s.Barrier("their new clusters marked")
	for _, num := range slices.Sorted(maps.Keys(m.raws)) {
		raw := m.raws[num]
		if err := v.putStream(&s, &stream{runs: m.table}, num*int64(v.boot.record), raw); err != nil {
			return nil, err
		}
		if num < n {
			if err := v.putStream(&s, &stream{runs: m.mirror}, num*int64(v.boot.record), raw); err != nil {
				return nil, err
			}
		}
	}
	if at, copied := m.table[0].lcn, m.mirror[0].lcn; at != v.mft.runs[0].lcn || copied != mirror.runs[0].lcn {
		b := bytes.Clone(v.boot.raw)
		le.PutUint64(b[bootTable:], uint64(at))
		le.PutUint64(b[bootMirror:], uint64(copied))
		s.Put(disk.Bytes(le.Uint64(b[bootSectors:]))*v.boot.sector, b[:v.boot.sector])
		s.Put(0, b)
	}
	s.Barrier("the files name their new places")
	if err := m.bits(&s, st, false); err != nil {
		return nil, err
	}
	s.Barrier("the volume's end is free")
	return s, nil
}

// recordMap appends the writes of the map of records.
func (m *vacating) recordMap(s *script.Script) error {
	old, err := m.v.system(recMFT, atBitmap, "")
	if err != nil {
		return err
	}
	was, err := old.all(64 * disk.MiB)
	if err != nil {
		return err
	}
	at := old
	if m.marks != nil {
		at = &stream{runs: m.marks}
	}
	m.layout.blocks = nil
	if err := m.layout.changed(at, 0, was, m.layout.bits, int64(old.size)); err != nil {
		return err
	}
	*s = append(*s, m.layout.blocks...)
	return nil
}

// bits appends the writes of the bitmap: with the new clusters marked, and then without
// those that were left.
func (m *vacating) bits(s *script.Script, old *stream, before bool) error {
	const piece = 64 << 10
	size := int64(old.size)
	for at := int64(0); at < size; at += piece {
		n := min(piece, size-at)
		meets := func(x stretch) bool { return x.from < (at+n)*8 && at*8 < x.to }
		changes := m.room.given
		if before {
			changes = m.room.taken
		}
		if !slices.ContainsFunc(changes, meets) {
			continue
		}
		b := make([]byte, n)
		if k, err := old.ReadAt(b, at); k < len(b) {
			return errors.Join(volume.ErrDamaged, err)
		}
		for _, x := range m.room.taken {
			put(b, at*8, x.from, x.to, true)
		}
		if !before {
			for _, x := range m.room.given {
				put(b, at*8, x.from, x.to, false)
			}
		}
		if err := m.v.putStream(s, &stream{runs: m.bitmap}, at, b); err != nil {
			return err
		}
	}
	return nil
}
