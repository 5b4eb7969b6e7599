package ntfs

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Collations of indexes.
const (
	byName    = 0x01
	byNumber  = 0x10 // one 32-bit number
	byHash    = 0x12 // a security descriptor's hash, then its id
	byNumbers = 0x13 // 32-bit numbers, compared one after the other
)

// rows reads all entries of an index, whatever it is over, in its order.
func (v *Volume) rows(num int64, name string) (rows []entry, collation uint32, err error) {
	root, err := v.system(num, atIndexRoot, name)
	if err != nil {
		return nil, 0, err
	}
	if len(root.value) < 32 {
		return nil, 0, fmt.Errorf("%w: index %s of record %d has no root", volume.ErrDamaged, name, num)
	}
	collation = le.Uint32(root.value[rootCollation:])
	block := int64(min(le.Uint32(root.value[rootBlock:]), 1<<20))
	per := int64(v.boot.cluster)
	if block < per {
		per = 512
	}
	var blocks *stream
	if le.Uint32(root.value[28:])&1 != 0 {
		if blocks, err = v.system(num, atIndexAlloc, name); err != nil {
			return nil, 0, err
		}
	}
	bad := func(what string) error {
		return fmt.Errorf("%w: index %s of record %d: %s", volume.ErrDamaged, name, num, what)
	}
	seen := map[int64]bool{}
	var walk func(h []byte, depth int) error
	walk = func(h []byte, depth int) error {
		if len(h) < 16 || depth > 32 {
			return bad("too deep or too short")
		}
		off, end := int(min(le.Uint32(h), 1<<20)), int(min(le.Uint32(h[4:]), 1<<20))
		if end > len(h) || off > end {
			return bad("a block is not valid")
		}
		for off+16 <= end {
			e := h[off:end]
			n, kl, flags := int(le.Uint16(e[entLength:])), int(le.Uint16(e[entKeyLength:])), le.Uint16(e[entFlags:])
			if n < 16 || n > len(e) || n%8 != 0 || 16+kl > n || flags&entryNode != 0 && n < 24 {
				return bad("an entry is not valid")
			}
			if flags&entryNode != 0 {
				vcn := int64(le.Uint64(e[n-8:]))
				if blocks == nil || vcn < 0 || vcn > 1<<40 || seen[vcn] || len(seen) > maxBlocks {
					return bad("it points to a block that does not exist or was read before")
				}
				seen[vcn] = true
				b := make([]byte, block)
				if _, err := blocks.ReadAt(b, vcn*per); err != nil || string(b[:4]) != "INDX" || unfix(b) != nil {
					return bad("a block cannot be read")
				}
				if err := walk(b[blkHeader:], depth+1); err != nil {
					return err
				}
			}
			if flags&entryLast != 0 {
				return nil
			}
			x := entry{key: slices.Clone(e[16 : 16+kl])}
			if collation == byName {
				x.ref = le.Uint64(e)
			} else {
				at, dl := int(le.Uint16(e)), int(le.Uint16(e[entDataLength:]))
				if at+dl > n {
					return bad("an entry's data are not valid")
				}
				x.data = append([]byte{}, e[at:at+dl]...)
			}
			rows = append(rows, x)
			off += n
		}
		return bad("a block has no closing entry")
	}
	return rows, collation, walk(root.value[rootHeader:], 0)
}

// before orders the keys of a view index.
func before(collation uint32) (func(a, b entry) int, bool) {
	numbers := func(a, b entry) int {
		x, y := a.key, b.key
		for len(x) >= 4 && len(y) >= 4 {
			if c := cmp.Compare(le.Uint32(x), le.Uint32(y)); c != 0 {
				return c
			}
			x, y = x[4:], y[4:]
		}
		return cmp.Compare(len(x), len(y))
	}
	switch collation {
	case byNumber, byHash, byNumbers:
		return numbers, true
	}
	return bytesBefore, false
}

func bytesBefore(a, b entry) int { return bytes.Compare(a.key, b.key) }

// index makes the attributes of an index over sorted entries; the root takes at most
// room bytes of its record.
func (l *loader) index(name string, typ, collation uint32, entries []entry, room int) ([]piece, error) {
	block := l.v.boot.index
	per := blockUnits(block, l.v.boot.cluster)
	body, blocks := indexTree(entries, block, max(room-(24+2*len(name)+16+32), 32), per)
	out := []piece{whole(atIndexRoot, name, indexRoot(typ, collation, block, byte(per), body, len(blocks) > 0), false)}
	if len(blocks) == 0 {
		return out, nil
	}
	runs, err := l.put(blocks)
	if err != nil {
		return nil, err
	}
	out = append(out, outside(atIndexAlloc, name, runs, l.bytesOf(runs), disk.Bytes(len(blocks))))
	n := len(blocks) / block
	bits := make([]byte, (n+63)/64*8)
	put(bits, 0, 0, int64(n), true)
	if len(bits) <= 32 {
		return append(out, whole(atBitmap, name, bits, false)), nil
	}
	if runs, err = l.put(bits); err != nil {
		return nil, err
	}
	return append(out, outside(atBitmap, name, runs, l.bytesOf(runs), disk.Bytes(len(bits)))), nil
}

// reindex rebuilds an index of a record that exists with more entries.
func (l *loader) reindex(num int64, name string, more []entry, sort func([]entry)) error {
	return l.rebuild(num, name, func(rows []entry) []entry { return append(rows, more...) }, sort)
}

// rebuild makes an index of a record that exists anew from what edit makes of its rows.
func (l *loader) rebuild(num int64, name string, edit func([]entry) []entry, sort func([]entry)) error {
	rows, collation, err := l.v.rows(num, name)
	if err != nil {
		return err
	}
	typ := uint32(0)
	if collation == byName {
		typ = atFileName
	} else if order, ok := before(collation); ok {
		sort = func(e []entry) { slices.SortFunc(e, order) }
	} else {
		return fmt.Errorf("%w: index %s of record %d is of a kind that is not known", volume.ErrDamaged, name, num)
	}
	rows = edit(rows)
	sort(rows)
	r, err := l.edited(num)
	if err != nil {
		return err
	}
	more, err := l.extending(r)
	if err != nil {
		return err
	}
	mine := func(a *attr) bool {
		return a.name == name && (a.typ == atIndexRoot || a.typ == atIndexAlloc || a.typ == atBitmap)
	}
	used := int(le.Uint32(r.raw[hdrUsed:]))
	for _, x := range append([]*record{r}, more...) {
		for i := range x.attrs {
			if a := &x.attrs[i]; mine(a) {
				l.space.give(a.runs)
				if x == r {
					used -= a.length
				}
			}
		}
	}
	pieces, err := l.index(name, typ, collation, rows, min(l.v.boot.record-used-220, l.v.boot.record/2))
	if err != nil {
		return err
	}
	raw, err := change(r, mine, pieces)
	if len(more) > 0 || errors.Is(err, ErrRecord) {
		return l.relist(r, more, func(_ *record, a *attr) []run { return a.runs }, mine, pieces)
	}
	if err != nil {
		return fmt.Errorf("record %d, for its index: %w", num, err)
	}
	l.edits[num] = raw
	return nil
}
