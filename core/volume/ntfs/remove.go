package ntfs

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/script"
	"jadetrail/core/volume"
)

// ErrLinked is returned for a file that cannot be taken out because it has another name
// that stays.
var ErrLinked = errors.New("the file has another name, which is to stay")

// Room implements volume.Keeper.
func (v *Volume) Room(n disk.Bytes) ([]volume.Extent, error) {
	s, err := v.space()
	if err != nil {
		return nil, err
	}
	runs, err := s.take(int64((n + v.boot.cluster - 1) / v.boot.cluster))
	if err != nil {
		return nil, err
	}
	return v.extents(&stream{runs: runs}), nil
}

// Remove implements volume.Keeper. Records are marked as free with the next sequence
// number, so that what still refers to them is known to be out of date.
//
// A volume that is not clean, or whose bitmap and run lists disagree, is refused
// (volume.ErrNotClean, volume.ErrDamaged); so is a file with a name elsewhere (ErrLinked).
func (v *Volume) Remove(paths []string, now time.Time) (script.Script, error) {
	l, err := v.loader(volume.LoadOptions{Now: now})
	if err != nil {
		return nil, err
	}
	t, err := v.scan()
	if err != nil {
		return nil, err
	}
	gone := map[int64]bool{}
	for _, p := range paths {
		f, err := v.Stat(p)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p, err)
		}
		if f.ID < recUser {
			return nil, fmt.Errorf("%s: %w: it is the file system's own", p, volume.ErrNotFound)
		}
		gone[int64(f.ID)] = true
	}
	below := map[int64][]int64{}
	for num, n := range t.nodes {
		for _, x := range n.names {
			up := int64(x.parent & (1<<48 - 1))
			below[up] = append(below[up], num)
		}
	}
	var all []int64
	for num := range gone {
		all = append(all, num)
	}
	for i := 0; i < len(all); i++ {
		for _, num := range below[all[i]] {
			if !gone[num] {
				gone[num] = true
				all = append(all, num)
			}
		}
	}
	slices.Sort(all)
	parents := map[int64]bool{}
	for _, num := range all {
		n := t.nodes[num]
		if n == nil {
			return nil, fmt.Errorf("%w: record %d", volume.ErrDamaged, num)
		}
		inside, outside := 0, 0
		for _, x := range n.names {
			if up := int64(x.parent & (1<<48 - 1)); gone[up] {
				inside++
			} else {
				outside++
				parents[up] = true
			}
		}
		// One that is named itself goes with the names that its folder has for it; one that
		// goes with its folder must have no name elsewhere.
		if inside > 0 && outside > 0 {
			return nil, fmt.Errorf("%w: %s", ErrLinked, n.names[0].text)
		}
		if err := l.free(num, n); err != nil {
			return nil, err
		}
	}
	for up := range parents {
		if err := l.rebuild(up, "$I30", func(rows []entry) []entry {
			return slices.DeleteFunc(rows, func(e entry) bool { return gone[int64(e.ref&(1<<48-1))] })
		}, l.sort); err != nil {
			return nil, err
		}
		l.touch(up)
	}
	for _, x := range []struct {
		name, index string
		ref         func(e entry) []byte
	}{{"$ObjId", "$O", func(e entry) []byte { return e.data }}, {"$Reparse", "$R", func(e entry) []byte { return e.key[min(4, len(e.key)):] }}} {
		if err := l.unlist(x.name, x.index, func(e entry) bool {
			b := x.ref(e)
			return len(b) >= 8 && gone[int64(le.Uint64(b)&(1<<48-1))]
		}); err != nil {
			return nil, err
		}
	}
	if err := l.shared(); err != nil {
		return nil, err
	}
	if err := l.close(); err != nil {
		return nil, err
	}
	return l.blocks, nil
}

// free gives back a file's records and clusters.
func (l *loader) free(num int64, n *node) error {
	r, err := l.edited(num)
	if err != nil {
		return err
	}
	nums := []int64{num}
	if r.find(atList, "") != nil {
		more, err := l.v.extensions(r)
		if err != nil {
			return err
		}
		nums = append(nums, more...)
	}
	for _, s := range n.streams {
		for _, a := range s.pieces {
			l.space.give(a.runs)
		}
	}
	for _, a := range n.other {
		l.space.give(a.runs)
	}
	for _, k := range nums {
		r, err := l.edited(k)
		if err != nil {
			return err
		}
		l.release(r)
	}
	return nil
}

// release makes a record free.
func (l *loader) release(r *record) {
	le.PutUint16(r.raw[hdrFlags:], r.flags&^inUse)
	le.PutUint16(r.raw[hdrSequence:], max(r.seq+1, 1))
	l.edits[r.num] = r.raw
	l.bits[r.num/8] &^= 1 << (r.num % 8)
}

// unlist takes rows out of an index that all files share, where there are any.
func (l *loader) unlist(name, index string, gone func(entry) bool) error {
	num, ok := l.v.lookup("$Extend", name)
	if !ok {
		return nil
	}
	rows, _, err := l.v.rows(num, index)
	if err != nil || !slices.ContainsFunc(rows, gone) {
		return err
	}
	return l.rebuild(num, index, func(rows []entry) []entry { return slices.DeleteFunc(rows, gone) }, nil)
}

// SetLabel returns the script that gives the volume another label, at most 32 letters of
// UTF-16 and empty for none. A volume that is not clean is refused (volume.ErrNotClean).
func (v *Volume) SetLabel(label string) (script.Script, error) {
	name := bytes16(label)
	if len(name) > 64 {
		return nil, fmt.Errorf("%w: %q", ErrName, label)
	}
	l, err := v.loader(volume.LoadOptions{})
	if err != nil {
		return nil, err
	}
	r, err := l.edited(recVolume)
	if err != nil {
		return nil, err
	}
	if l.edits[recVolume], err = change(r, func(a *attr) bool { return a.typ == atVolumeName }, []piece{whole(atVolumeName, "", name, false)}); err != nil {
		return nil, err
	}
	if err := l.close(); err != nil {
		return nil, err
	}
	return l.blocks, nil
}
