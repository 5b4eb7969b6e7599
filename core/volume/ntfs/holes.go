package ntfs

import (
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// What is kept sparse is divided like what is compressed, in units of 2^4 clusters (compression unit,
// offset 34 of an attribute that is not resident): holes begin and end with one.
const (
	sparseShift = 4
	sparseUnit  = 1 << sparseShift
)

// sparse tells that an incoming file can be kept sparse: its contents come in one piece from a source,
// into clusters that are looked for here.
func (l *loader) sparse(f *volume.Incoming) bool {
	return f.Attributes&volume.AttrSparse != 0 && f.Stream == "" && f.Placed == nil && len(f.Extents) == 1 && f.Bytes >= sparseUnit*l.v.boot.cluster
}

// holes are the runs of an incoming file that get no clusters, with lcn -1.
func (l *loader) holes(f *volume.Incoming) (out []run) {
	if !l.sparse(f) {
		return nil
	}
	for _, h := range f.Holes {
		if h.Off < 0 || h.Len <= 0 || h.Off > f.Bytes-h.Len {
			continue
		}
		from, to := l.clusters(h.Off), int64((h.Off+h.Len)/l.v.boot.cluster)
		if h.Off+h.Len == f.Bytes { // nothing lies in the last cluster behind it
			to = l.clusters(f.Bytes)
		} else {
			to = to / sparseUnit * sparseUnit
		}
		from = (from + sparseUnit - 1) / sparseUnit * sparseUnit
		if len(out) > 0 {
			from = max(from, runsEnd(out, 0))
		}
		if from < to {
			out = append(out, run{vcn: from, lcn: -1, n: to - from})
		}
	}
	return out
}

// together is how many clusters of a stream runs map, and taken how many of the volume.
func together(runs []run) (n int64) {
	for _, r := range runs {
		n += r.n
	}
	return n
}

func taken(runs []run) (n int64) {
	for _, r := range runs {
		if r.lcn >= 0 {
			n += r.n
		}
	}
	return n
}

// withHoles puts clusters, in their order, between holes.
func withHoles(runs, holes []run) (out []run) {
	vcn := int64(0)
	for _, r := range runs {
		for r.n > 0 {
			n := r.n
			if len(holes) > 0 {
				n = min(n, holes[0].vcn-vcn)
			}
			if n > 0 {
				out = append(out, run{vcn: vcn, lcn: r.lcn, n: n})
				r.lcn, r.n, vcn = r.lcn+n, r.n-n, vcn+n
			} else {
				out, vcn, holes = append(out, holes[0]), runsEnd(holes[:1], 0), holes[1:]
			}
		}
	}
	return append(out, holes...)
}

// holed is an attribute of which not all has clusters: flagged so, with its unit, and behind the sizes
// the one that it takes.
func holed(typ uint32, name string, runs []run, alloc, size, room disk.Bytes) piece {
	p := outside(typ, name, nil, alloc, size)
	nm := bytes16(name)
	h := slices.Concat(p.head[:64], le.AppendUint64(nil, uint64(room)), nm)
	h = append(h, make([]byte, -len(h)&7)...)
	le.PutUint16(h[10:], 72)
	le.PutUint16(h[12:], flagSparse)
	h[34] = sparseShift
	return piece{typ: typ, name: name, head: h, unit: sparseUnit}.mapped(runs)
}
