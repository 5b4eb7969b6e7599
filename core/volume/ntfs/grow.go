package ntfs

import (
	"bytes"
	"errors"
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/script"
	"jadetrail/core/volume"
)

// Reasons why a volume cannot be grown.
var (
	ErrTooSmall = errors.New("the room added is less than one cluster")
	ErrRecord   = errors.New("a record of the table of files has no room for the change")
)

// Grow returns the script that makes the volume as long as a partition of
// the given size, places counted from the volume's start. Nothing is moved:
// $Bitmap and $BadClus grow (records 6 and 8, and their copies as far as
// $MFTMirr goes), the boot sector gets the new size, a copy of it goes to
// the new end. $Bitmap grows in place when the clusters behind it are free, else
// its new part lies in the new room.
//
// A volume that is not clean, or whose bitmap and run lists disagree, is
// refused (volume.ErrNotClean, volume.ErrDamaged).
func (v *Volume) Grow(size disk.Bytes) (script.Script, error) {
	if err := v.Clean(); err != nil {
		return nil, err
	}
	o := v.boot
	sectors := int64(size/o.sector) - 1
	clusters := sectors / int64(o.cluster/o.sector)
	if clusters <= o.clusters {
		return nil, ErrTooSmall
	}
	var s script.Script
	if !v.Agrees() {
		return nil, fmt.Errorf(
			"%w: the files and the bitmap of clusters disagree, or a record cannot be read", volume.ErrDamaged,
		)
	}
	bitmap, taken, err := v.growBitmap(clusters)
	if err != nil {
		return nil, err
	}
	bad, err := v.growBadClus(clusters)
	if err != nil {
		return nil, err
	}
	if err := v.clearBits(&s, bitmap, clusters, taken); err != nil {
		return nil, err
	}
	if err := v.putRecords(&s, bitmap.record, bad); err != nil {
		return nil, err
	}
	b := o.withSectors(sectors)
	s.Put(disk.Bytes(sectors)*o.sector, b[:o.sector])
	s.Barrier("bitmap and records enlarged")
	s.Put(0, b)
	s.Barrier("volume enlarged")
	return s, nil
}

// putStream appends writes of data at off of a stream.
func (v *Volume) putStream(s *script.Script, st *stream, off int64, data []byte) error {
	for len(data) > 0 {
		at, n, err := v.place(st.runs, off)
		if err != nil {
			return err
		}
		n = min(n, int64(len(data)))
		s.Put(disk.Bytes(at), data[:n])
		data, off = data[n:], off+n
	}
	return nil
}

// place maps a stream's offset to the volume's, with the length that follows it
// there.
func (v *Volume) place(runs []run, off int64) (at, n int64, err error) {
	c := int64(v.boot.cluster)
	for _, r := range runs {
		if start := r.vcn * c; off >= start && off < start+r.n*c && r.lcn >= 0 {
			return r.lcn*c + off - start, start + r.n*c - off, nil
		}
	}
	return 0, 0, fmt.Errorf("%w: a system file has no cluster for its byte %d", volume.ErrDamaged, off)
}

// grown is $Bitmap as it will be.
type grown struct {
	runs   []run
	size   int64 // bytes of contents
	old    int64
	record []byte
}

// onePiece returns the record of a system file and its data attribute of a name, which lies
// in clusters and is named by that record alone.
func (v *Volume) onePiece(num int64, name string) (*record, *attr, error) {
	r, err := v.record(num)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %v", volume.ErrDamaged, err)
	}
	a := r.find(atData, name)
	if a == nil || a.resident || r.find(atList, "") != nil {
		return nil, nil, fmt.Errorf(
			"%w: what it holds of clusters (file %d) is not laid out in one piece", ErrRecord, num,
		)
	}
	return r, a, nil
}

// growBitmap decides where the bitmap's new part lies; taken is the range of
// clusters that it takes, if any.
func (v *Volume) growBitmap(clusters int64) (*grown, [2]int64, error) {
	var taken [2]int64
	r, a, err := v.onePiece(recBitmap, "")
	if err != nil {
		return nil, taken, err
	}
	g := &grown{runs: append([]run(nil), a.runs...), old: int64(a.size), size: max((clusters+63)/64*8, int64(a.size))}
	c := int64(v.boot.cluster)
	have := runsEnd(a.runs, 0)
	if need := (g.size + c - 1) / c; need > have {
		extra := need - have
		last := &g.runs[len(g.runs)-1]
		behind := last.lcn + last.n
		at := v.boot.clusters
		if free, err := v.free(behind, behind+extra); err != nil {
			return nil, taken, err
		} else if free && behind+extra <= clusters {
			at = behind
		}
		if at+extra > clusters {
			return nil, taken, fmt.Errorf("%w: the room added does not even hold the larger bitmap", ErrTooSmall)
		}
		taken = [2]int64{at, at + extra}
		if at == behind {
			last.n += extra
		} else {
			g.runs = append(g.runs, run{vcn: have, lcn: at, n: extra})
		}
	}
	g.record, err = resize(r, a, g.runs, disk.Bytes(runsEnd(g.runs, 0)*c), disk.Bytes(g.size), disk.Bytes(g.size))
	return g, taken, err
}

// free tells whether all clusters of [from, to) are free; those beyond the
// volume's present end count as free.
func (v *Volume) free(from, to int64) (bool, error) {
	free := true
	err := v.eachUsed(func(a, b int64) error {
		if a < to && from < b {
			free = false
		}
		return nil
	})
	return free, err
}

// growBadClus lengthens the last hole of $BadClus:$Bad, which is as long as the
// volume.
func (v *Volume) growBadClus(clusters int64) ([]byte, error) {
	r, a, err := v.onePiece(recBadClus, "$Bad")
	if err != nil {
		return nil, err
	}
	runs := append([]run(nil), a.runs...)
	end := runsEnd(runs, 0)
	if end > clusters {
		return nil, fmt.Errorf("%w: $BadClus covers %d clusters of %d", volume.ErrDamaged, end, v.boot.clusters)
	}
	if n := len(runs); n > 0 && runs[n-1].lcn < 0 {
		runs[n-1].n += clusters - end
	} else {
		runs = append(runs, run{vcn: end, lcn: -1, n: clusters - end})
	}
	size := disk.Bytes(clusters) * v.boot.cluster
	initialised := a.initialised
	if initialised == a.size {
		initialised = size
	}
	return resize(r, a, runs, size, size, initialised)
}

// resize returns the bytes of a record in which one attribute that is not
// resident has other runs and sizes; what follows it moves along.
func resize(r *record, a *attr, runs []run, alloc, size, initialised disk.Bytes) ([]byte, error) {
	return withRuns(r, a, runs, func(h []byte) {
		le.PutUint64(h[attrHighest:], uint64(runsEnd(runs, 0)-1))
		le.PutUint64(h[attrAllocated:], uint64(alloc))
		le.PutUint64(h[attrSize:], uint64(size))
		le.PutUint64(h[attrInitialised:], uint64(initialised))
	})
}

// withRuns returns the bytes of a record in which one attribute that is not resident has
// other runs; change, where it is not nil, changes the head of the attribute besides.
func withRuns(r *record, a *attr, runs []run, change func(head []byte)) ([]byte, error) {
	pairs := packRuns(runs)
	at := int(le.Uint16(r.raw[a.off+attrRuns:]))
	length := (at + len(pairs) + 7) &^ 7
	used := int(le.Uint32(r.raw[hdrUsed:]))
	if used-a.length+length > len(r.raw) {
		return nil, ErrRecord
	}
	b := append([]byte(nil), r.raw[:a.off+at]...)
	le.PutUint32(b[a.off+attrLength:], uint32(length))
	if change != nil {
		change(b[a.off:])
	}
	b = append(b, pairs...)
	b = append(b, make([]byte, a.off+length-len(b))...)
	b = append(b, r.raw[a.off+a.length:used]...)
	le.PutUint32(b[hdrUsed:], uint32(len(b)))
	b = append(b, make([]byte, len(r.raw)-len(b))...)
	fix(b)
	return b, nil
}

// clearBits appends the writes that make the new clusters free: the padding bits
// behind the old end are cleared, the bitmap's own new clusters marked, the
// padding behind the new end set.
func (v *Volume) clearBits(s *script.Script, g *grown, clusters int64, taken [2]int64) error {
	old, err := v.system(recBitmap, atData, "")
	if err != nil {
		return err
	}
	from := v.boot.clusters / 8
	// The bitmap is made piece by piece; pieces that stay zero become holes.
	const piece = 64 << 10
	none := make([]byte, piece)
	for at := from - from%piece; at < g.size; at += piece {
		b := make([]byte, min(piece, g.size-at))
		if at < g.old {
			if _, err := old.ReadAt(b[:min(int64(len(b)), g.old-at)], at); err != nil {
				return err
			}
		}
		before := append([]byte(nil), b...)
		put(b, at*8, v.boot.clusters, clusters, false)
		put(b, at*8, clusters, g.size*8, true)
		put(b, at*8, taken[0], taken[1], true)
		zero := bytes.Equal(b, none[:len(b)])
		for off := int64(0); off < int64(len(b)); {
			p, n, err := v.place(g.runs, at+off)
			if err != nil {
				return err
			}
			n = min(n, int64(len(b))-off)
			now, was := b[off:off+n], before[off:off+n]
			switch {
			case at+off+n <= g.old && string(now) == string(was):
			case zero:
				*s = append(*s, script.Op{Kind: script.Hole, Off: disk.Bytes(p), Len: disk.Bytes(n), Keep: true})
			default:
				s.Put(disk.Bytes(p), now)
			}
			off += n
		}
	}
	// A taken cluster before the old end lies in a piece that was not visited.
	return v.markTaken(s, old, from-from%piece, taken)
}

// put sets or clears the bits [from, to) of a bitmap, of which b holds the bits
// from base on.
func put(b []byte, base, from, to int64, set bool) {
	from, to = max(from-base, 0), min(to-base, int64(len(b))*8)
	for i := from; i < to; {
		if i%8 == 0 && to-i >= 8 {
			b[i/8] = 0
			if set {
				b[i/8] = 0xff
			}
			i += 8
			continue
		}
		if b[i/8] &^= 1 << (i % 8); set {
			b[i/8] |= 1 << (i % 8)
		}
		i++
	}
}

// markTaken sets the bits of taken clusters whose part of the bitmap lies before
// byte limit.
func (v *Volume) markTaken(s *script.Script, old *stream, limit int64, taken [2]int64) error {
	if taken[1] == 0 || taken[0]/8 >= limit {
		return nil
	}
	first, end := taken[0]/8, min((taken[1]+7)/8, limit)
	b := make([]byte, end-first)
	if _, err := old.ReadAt(b, first); err != nil {
		return err
	}
	put(b, first*8, taken[0], taken[1], true)
	return v.putStream(s, old, first, b)
}
