package ntfs

import (
	"bytes"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Told is what a single record of a table of files tells of a file's contents, wherever the
// record lies and whether or not its file was deleted.
type Told struct {
	Name    string
	Bytes   disk.Bytes // of the contents
	Cluster disk.Bytes
	Extents []volume.Extent // from the start of its volume, in the order of the contents
}

// Tell reads the record at the start of b, of which nothing else is known: a cluster is as large
// as the number of them and the room that they take say. b is left as it is. Not told is of
// contents that lie within the record, are compressed or sparse, or are listed in several
// records; so is of what is no record.
func Tell(b []byte) (*Told, bool) {
	if len(b) < 512 || string(b[:4]) != "FILE" {
		return nil, false
	}
	size := int(min(le.Uint32(b[hdrAllocated:]), 1<<20))
	if size < 512 || size > 4096 || size&(size-1) != 0 || len(b) < size {
		return nil, false
	}
	r, err := parseRecord(0, bytes.Clone(b[:size]), 1<<50)
	if err != nil || r.base != 0 || r.flags&isFolder != 0 {
		return nil, false
	}
	a := r.find(atData, "")
	if a == nil || a.resident || a.lowest != 0 || a.flags != 0 || len(a.runs) == 0 {
		return nil, false
	}
	n := disk.Bytes(runsEnd(a.runs, 0))
	t := &Told{Bytes: a.size, Cluster: a.alloc / n}
	if t.Cluster < 512 || t.Cluster > 2*disk.MiB || t.Cluster&(t.Cluster-1) != 0 || t.Cluster*n != a.alloc || a.size > a.alloc {
		return nil, false
	}
	for _, x := range a.runs {
		if x.lcn < 0 || disk.Bytes(x.lcn) > 1<<60/t.Cluster {
			return nil, false
		}
		t.Extents = append(t.Extents, volume.Extent{
			Off: disk.Bytes(x.lcn) * t.Cluster, Len: disk.Bytes(x.n) * t.Cluster,
		})
	}
	for _, x := range r.attrs {
		if v := x.value; x.typ == atFileName && len(v) >= 66 && v[65] != 2 && len(v) >= 66+2*int(v[64]) {
			t.Name = text16(v[66 : 66+2*int(v[64])])
		}
	}
	return t, true
}
