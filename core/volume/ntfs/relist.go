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
	m.layout = &loader{v: m.v, space: m.room, records: map[int64][]byte{}, edits: map[int64][]byte{}, cursor: recFirst}
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
		more, err := l.extending(r)
		if err != nil {
			return err
		}
		if err := l.relist(r, more, m.now, nil, nil); err != nil {
			return fmt.Errorf("file %d: %w", base, err)
		}
	}
	maps.Copy(l.edits, l.records)
	for num, raw := range l.edits {
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

// extending returns the records that extend that of a file, as they stand after the changes
// so far.
func (l *loader) extending(r *record) ([]*record, error) {
	list := r.find(atList, "")
	if list == nil {
		return nil, nil
	}
	if !list.resident && l.edits[r.num] != nil {
		return nil, fmt.Errorf("%w: the list of attributes of file %d has changed already", ErrRecord, r.num)
	}
	nums, err := l.v.extensions(r)
	if err != nil {
		return nil, err
	}
	var out []*record
	for _, num := range nums {
		x, err := l.edited(num)
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// relist lays a file that exists out anew over the records that it has, free ones where these
// do not do, and fewer where they are too many. Its attributes lie where now says; those that
// are gone are replaced by the pieces that are given.
func (l *loader) relist(r *record, more []*record, now func(*record, *attr) []run, gone func(*attr) bool, in []piece) error {
	l.own = nil
	was := []int64{r.num}
	for _, x := range more {
		l.own = append(l.own, x.num)
		was = append(was, x.num)
	}
	if list := r.find(atList, ""); list != nil {
		l.space.give(now(r, list))
	}
	if err := l.file(r.num, r.flags&^inUse, r.links, append(attributes(append([]*record{r}, more...), now, gone), in...)); err != nil {
		return err
	}
	for _, x := range more {
		if slices.Contains(l.own, x.num) {
			l.release(x)
		}
	}
	l.own = nil
	for _, num := range was {
		if raw := l.records[num]; raw != nil { // what exists is changed after what is new
			l.edits[num] = raw
			delete(l.records, num)
		}
	}
	return nil
}

// attributes is all that records of a file hold, each as a whole, but for the list of them
// and what is gone.
func attributes(recs []*record, now func(*record, *attr) []run, gone func(*attr) bool) []piece {
	type part struct {
		r *record
		a *attr
	}
	var parts [][]part // of one attribute each
	for _, r := range recs {
		for i := range r.attrs {
			a, k := &r.attrs[i], -1
			if a.typ == atList || gone != nil && gone(a) {
				continue
			}
			if !a.resident {
				k = slices.IndexFunc(parts, func(p []part) bool {
					return p[0].a.typ == a.typ && p[0].a.name == a.name && !p[0].a.resident
				})
			}
			if k >= 0 {
				parts[k] = append(parts[k], part{r, a})
			} else {
				parts = append(parts, []part{{r, a}})
			}
		}
	}
	var out []piece
	for _, p := range parts {
		slices.SortFunc(p, func(x, y part) int { return cmp.Compare(x.a.lowest, y.a.lowest) })
		var runs []run
		for _, x := range p {
			for _, y := range now(x.r, x.a) {
				runs = joinRun(runs, y)
			}
		}
		out = append(out, carried(p[0].r, p[0].a, runs))
	}
	return out
}
