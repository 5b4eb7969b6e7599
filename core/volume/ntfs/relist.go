package ntfs

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"jadetrail/core/disk"
)

// noRoom decides about an attribute for whose longer list of stretches its record has no room.
// A file gains records that extend its own, where enough are free; the file system's own
// files, and others where too few are free, are put into free clusters in one piece.
// What was moved of the attribute since then is given up in that case.
func (m *vacating) noRoom(r *record, a *attr, runs []run, since state) (now []run, extended bool, err error) {
	base := r.num
	if r.base != 0 {
		base = int64(r.base & (1<<48 - 1))
	}
	if base >= recUser {
		if err := m.open(); err != nil {
			return nil, false, err
		}
		// Parts are cut in halves until they fit: none is smaller than a quarter of a record.
		need := int64(4*len(packRuns(runs))/m.v.boot.record) + 4
		if need <= m.spare {
			m.spare -= need
			m.over[base] = true
			return runs, true, nil
		}
	}
	m.moves = m.moves[:since.moves]
	m.room.undo(since.taken, since.given)
	now, err = m.together(a.runs)
	return now, false, err
}

// state is how far the moves and the room before the end were used.
type state struct{ moves, taken, given int }

func (m *vacating) state() state {
	return state{len(m.moves), len(m.room.taken), len(m.room.given)}
}

// open begins to lay files out, once that is needed.
func (m *vacating) open() (err error) {
	if m.layout != nil {
		return nil
	}
	m.layout = &loader{v: m.v, space: m.room, records: map[int64][]byte{}, cursor: recFirst}
	if m.layout.up, err = m.v.upcase(); err != nil {
		return err
	}
	r, err := m.v.record(recMFT)
	if err != nil {
		return err
	}
	if a := r.find(atBitmap, ""); a == nil || a.resident {
		return nil // the map of records lies in a record: none is spare
	}
	if err := m.layout.openTable(); err != nil {
		return err
	}
	for n := int64(recFirst); n < m.layout.count; n++ {
		if m.layout.bits[n/8]>>(n%8)&1 == 0 {
			m.spare++
		}
	}
	return nil
}

// together moves all clusters of a run list into one free stretch.
func (m *vacating) together(runs []run) ([]run, error) {
	n := int64(0)
	for _, x := range runs {
		if x.lcn >= 0 {
			n += x.n
		}
	}
	at, ok := m.room.piece(n)
	if !ok {
		return nil, fmt.Errorf("%w: no record is free to extend it, and no %d free clusters lie together", ErrRecord, n)
	}
	c := m.v.boot.cluster
	m.room.give(runs)
	var out []run
	for _, x := range runs {
		if x.lcn >= 0 {
			m.move(disk.Bytes(x.lcn)*c, disk.Bytes(at)*c, disk.Bytes(x.n)*c)
			x.lcn, at = at, at+x.n
		}
		out = joinRun(out, x)
	}
	return out, nil
}

// extend lays the files out anew whose records have no room: their attributes, with their new
// stretches, over the records that they have and free ones.
func (m *vacating) extend() error {
	l := m.layout
	for _, base := range slices.Sorted(maps.Keys(m.over)) {
		r, err := m.v.record(base)
		if err != nil {
			return err
		}
		recs := []*record{r}
		l.own = nil
		if list := r.find(atList, ""); list != nil {
			if l.own, err = m.v.extensions(r); err != nil {
				return err
			}
			for _, num := range l.own {
				x, err := m.v.record(num)
				if err != nil {
					return err
				}
				recs = append(recs, x)
			}
			m.room.give(m.now(r, list))
		}
		if err := l.file(base, r.flags&^inUse, r.links, m.pieces(recs)); err != nil {
			return fmt.Errorf("file %d: %w", base, err)
		}
		for _, num := range l.own { // that are not needed any more
			x, err := m.v.record(num)
			if err != nil {
				return err
			}
			le.PutUint16(x.raw[22:], x.flags&^inUse)
			le.PutUint16(x.raw[16:], max(x.seq+1, 1))
			l.records[num] = x.raw
			l.bits[num/8] &^= 1 << (num % 8)
		}
	}
	for num, raw := range l.records {
		if num >= l.count {
			return fmt.Errorf("%w: no record is free to extend another", ErrRecord)
		}
		fix(raw)
		m.raws[num] = raw
	}
	return nil
}

// now is where an attribute of a record lies after the moves.
func (m *vacating) now(r *record, a *attr) []run {
	if runs := m.moved[place{r.num, a.off}]; runs != nil {
		return runs
	}
	return a.runs
}

// pieces is all attributes of a file, each as a whole, but for the list of them.
func (m *vacating) pieces(recs []*record) []piece {
	type part struct {
		r *record
		a *attr
	}
	var parts [][]part // of one attribute each
	for _, r := range recs {
		for i := range r.attrs {
			a := &r.attrs[i]
			k := -1
			if !a.resident {
				k = slices.IndexFunc(parts, func(p []part) bool {
					return p[0].a.typ == a.typ && p[0].a.name == a.name && !p[0].a.resident
				})
			}
			switch {
			case a.typ == atList:
			case k >= 0:
				parts[k] = append(parts[k], part{r, a})
			default:
				parts = append(parts, []part{{r, a}})
			}
		}
	}
	var out []piece
	for _, p := range parts {
		slices.SortFunc(p, func(x, y part) int { return cmp.Compare(x.a.lowest, y.a.lowest) })
		var runs []run
		for _, x := range p {
			for _, y := range m.now(x.r, x.a) {
				runs = joinRun(runs, y)
			}
		}
		out = append(out, carried(p[0].r, p[0].a, runs))
	}
	return out
}
