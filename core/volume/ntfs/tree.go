package ntfs

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Reparse tags that change what a file's contents mean.
const (
	tagMount       = 0xa0000003
	tagSymlink     = 0xa000000c
	tagCompressed  = 0x80000017 // kept compressed in another stream by the system
	tagPlaceholder = 0x9000001a // the contents are elsewhere; masks 0000f000
)

// name is one $FILE_NAME attribute.
type name struct {
	parent uint64 // reference of the folder
	text   string
	space  byte // namespace: 0 POSIX, 1 long, 2 short (8.3), 3 both
}

// node is a base record with all that its extension records add.
type node struct {
	num      int64
	seq      uint16
	flags    uint16
	names    []name
	modified uint64
	reparse  uint32
	pieces   map[string][]attr // contents by stream name
	other    []attr            // everything else that has runs
	trouble  error
}

// tree is every file of the volume.
type tree struct {
	nodes   map[int64]*node
	trouble []error // records that could not be read
}

// scan reads the whole table of files once, piece by piece.
func (v *Volume) scan() (*tree, error) {
	if v.tree != nil {
		return v.tree, nil
	}
	t := &tree{nodes: map[int64]*node{}}
	size := int64(v.boot.record)
	count := int64(v.mft.size) / size
	per := max((1<<20)/size, 1)
	for first := int64(0); first < count; first += per {
		n := min(per, count-first)
		b := make([]byte, n*size)
		if _, err := v.mft.ReadAt(b, first*size); err != nil {
			return nil, err
		}
		for i := range n {
			t.add(v, first+i, b[i*size:(i+1)*size])
		}
	}
	v.tree = t
	return t, nil
}

func (t *tree) node(num int64) *node {
	n := t.nodes[num]
	if n == nil {
		n = &node{num: num, pieces: map[string][]attr{}}
		t.nodes[num] = n
	}
	return n
}

func (t *tree) add(v *Volume, num int64, b []byte) {
	if string(b[:4]) != "FILE" || le.Uint16(b[22:])&inUse == 0 {
		if string(b[:4]) == "BAAD" {
			t.trouble = append(t.trouble, fmt.Errorf("record %d is marked as damaged", num))
		}
		return
	}
	r, err := parseRecord(num, b, v.boot.clusters)
	if err != nil {
		t.trouble = append(t.trouble, fmt.Errorf("record %d: %w", num, err))
		if r == nil {
			return
		}
	}
	base := num
	if r.base != 0 {
		base = int64(r.base & (1<<48 - 1))
	}
	n := t.node(base)
	if err != nil {
		n.trouble = err
	}
	if base == num {
		n.seq, n.flags = r.seq, r.flags
	}
	for _, a := range r.attrs {
		switch {
		case a.typ == atFileName && a.resident && len(a.value) >= 66:
			f := a.value
			if l := int(f[64]); len(f) >= 66+2*l {
				n.names = append(n.names, name{le.Uint64(f), text16(f[66 : 66+2*l]), f[65]})
			}
		case a.typ == atStandard && a.resident && len(a.value) >= 48:
			n.modified = le.Uint64(a.value[8:])
		case a.typ == atReparse && a.resident && len(a.value) >= 4:
			n.reparse = le.Uint32(a.value)
		case a.typ == atData:
			if a.resident { // the record's bytes are not kept
				a.value = slices.Clone(a.value)
			}
			n.pieces[a.name] = append(n.pieces[a.name], a)
		case !a.resident:
			n.other = append(n.other, a)
		}
	}
}

// maxDepth bounds the folders above a file; a chain that is longer runs in a
// circle.
const maxDepth = 256

// path names a node from the root; ok is false for what cannot be reached from
// it, and for the file system's own files.
func (t *tree) path(n *node) (string, bool) {
	var parts []string
	for depth := 0; n.num != recRoot; depth++ {
		i := slices.IndexFunc(n.names, func(x name) bool { return x.space != 2 })
		if i < 0 || depth > maxDepth {
			return "", false
		}
		parts = append(parts, n.names[i].text)
		up := t.nodes[int64(n.names[i].parent&(1<<48-1))]
		if up == nil || up.seq != uint16(n.names[i].parent>>48) || up.flags&isFolder == 0 || up.num == recExtend {
			return "", false
		}
		n = up
	}
	slices.Reverse(parts)
	return strings.Join(parts, "/"), true
}

// Files implements volume.Volume.
func (v *Volume) Files() ([]volume.File, error) {
	t, err := v.scan()
	if err != nil {
		return nil, err
	}
	var out []volume.File
	for num, n := range t.nodes {
		if num < 16 || len(n.names) == 0 {
			continue
		}
		path, ok := t.path(n)
		if !ok {
			continue
		}
		out = append(out, v.describe(n, path)...)
	}
	slices.SortFunc(out, func(a, b volume.File) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return strings.Compare(a.Stream, b.Stream)
	})
	return out, nil
}

// describe lists a node: itself, and one more for each alternate stream.
func (v *Volume) describe(n *node, path string) []volume.File {
	f := volume.File{Path: path, Kind: volume.Plain, Modified: toTime(n.modified), ID: uint64(n.num)}
	if n.flags&isFolder != 0 {
		f.Kind = volume.Folder
	}
	switch {
	case n.reparse == tagMount || n.reparse == tagSymlink:
		f.Kind = volume.Link
	case n.reparse == tagCompressed:
		f.Unreadable = "compressed by the system"
	case n.reparse&0xffff0fff == tagPlaceholder:
		f.Unreadable = "a placeholder; its contents are kept elsewhere"
	}
	if n.trouble != nil {
		f.Unreadable = n.trouble.Error()
	}
	var out []volume.File
	for stream, pieces := range n.pieces {
		g := f
		g.Stream = stream
		if stream != "" {
			g.Kind = volume.Plain
		}
		s, err := v.join(pieces)
		if err != nil {
			g.Unreadable = err.Error()
		} else {
			g.Bytes, g.Allocated = s.size, s.alloc
			for _, r := range s.runs {
				e := volume.Extent{Off: -1, Len: disk.Bytes(r.n) * v.boot.cluster}
				if r.lcn >= 0 {
					e.Off = disk.Bytes(r.lcn) * v.boot.cluster
				}
				g.Extents = append(g.Extents, e)
			}
			if s.flags&flagCompressed != 0 {
				g.Unreadable = "compressed"
			}
			if s.flags&flagEncrypted != 0 {
				g.Unreadable = "encrypted"
			}
		}
		out = append(out, g)
	}
	if _, has := n.pieces[""]; !has {
		out = append(out, f)
	}
	return out
}

// Open implements volume.Volume.
func (v *Volume) Open(f volume.File) (io.ReaderAt, error) {
	if f.Unreadable != "" {
		return nil, fmt.Errorf("%s: %w: %s", f.Path, volume.ErrUnreadable, f.Unreadable)
	}
	t, err := v.scan()
	if err != nil {
		return nil, err
	}
	n := t.nodes[int64(f.ID)]
	if n == nil || len(n.pieces[f.Stream]) == 0 {
		return nil, fmt.Errorf("%s: %w", f.Path, volume.ErrNotFound)
	}
	return v.join(n.pieces[f.Stream])
}
