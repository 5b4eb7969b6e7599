package ntfs

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Reparse tags that change what a file's contents mean.
const (
	tagMount       = 0xa0000003
	tagSymlink     = 0xa000000c
	tagSystem      = 0x80000017 // kept compressed in another stream by the system
	tagDeduped     = 0x80000013 // the contents are kept in a store for several files
	tagPlaceholder = 0x9000001a // the contents are elsewhere; masks 0000f000
	tagStart       = 0x8000001b // names a program; has no contents
	tagUnixLink    = 0xa000001d
	tagSocket      = 0x80000023
)

// name is one $FILE_NAME attribute.
type name struct {
	parent uint64 // reference of the folder
	text   string
	space  byte // namespace: 0 POSIX, 1 long, 2 short (8.3), 3 both
}

// streamOf is one stream of a file; pieces are kept where the runs are wanted.
type streamOf struct {
	name        string
	size, alloc disk.Bytes
	flags       uint16
	unit        uint8
	pieces      []attr
}

// node is a base record with all that its extension records add.
type node struct {
	num      int64
	seq      uint16
	flags    uint16
	names    []name
	modified uint64
	reparse  uint32
	link     []byte // data of a reparse point
	streams  []streamOf
	other    []attr // everything else that has runs
	trouble  error
}

// tree is every file of the volume.
type tree struct {
	nodes   map[int64]*node
	trouble []error // records that could not be read
	runs    bool    // run lists are kept too
}

// scan reads the whole table of files once, piece by piece, and keeps it.
func (v *Volume) scan() (*tree, error) {
	if v.tree != nil {
		return v.tree, nil
	}
	t, err := v.read(true)
	if err == nil {
		v.tree = t
	}
	return t, err
}

func (v *Volume) read(runs bool) (*tree, error) {
	t := &tree{nodes: map[int64]*node{}, runs: runs}
	size := int64(v.boot.record)
	count := int64(v.mft.size) / size
	per := max((256<<10)/size, 1)
	b := make([]byte, per*size)
	var scratch record
	for first := int64(0); first < count; first += per {
		n := min(per, count-first)
		if _, err := v.mft.ReadAt(b[:n*size], first*size); err != nil {
			return nil, err
		}
		for i := range n {
			t.add(v, first+i, b[i*size:(i+1)*size], &scratch)
		}
	}
	return t, nil
}

func (t *tree) node(num int64) *node {
	n := t.nodes[num]
	if n == nil {
		n = &node{num: num}
		t.nodes[num] = n
	}
	return n
}

func (t *tree) add(v *Volume, num int64, b []byte, scratch *record) {
	if string(b[:4]) != "FILE" || le.Uint16(b[hdrFlags:])&inUse == 0 {
		if num < mirrorRecords {
			t.trouble = append(t.trouble, fmt.Errorf(
				"record %d of the table of files is not there; the copy of it is read", num,
			))
		} else if string(b[:4]) == "BAAD" {
			t.trouble = append(t.trouble, fmt.Errorf("record %d is marked as damaged", num))
		}
		return
	}
	r, err := parseInto(scratch, num, b, v.boot.clusters)
	if err != nil {
		t.trouble = append(t.trouble, fmt.Errorf("record %d: %w", num, err))
		if r == nil {
			return
		}
	}
	t.take(r, err)
}

// take adds what a record says to its node. The record's own bytes are not kept.
func (t *tree) take(r *record, trouble error) {
	base := r.num
	if r.base != 0 {
		base = int64(r.base & (1<<48 - 1))
	}
	n := t.node(base)
	if trouble != nil {
		n.trouble = trouble
	}
	if base == r.num {
		n.seq, n.flags = r.seq, r.flags
	}
	for _, a := range r.attrs {
		switch {
		case a.typ == atFileName && a.resident && len(a.value) >= 66:
			f := a.value
			if l := int(f[64]); len(f) >= 66+2*l {
				n.names = append(n.names, name{le.Uint64(f), text16(f[fnText : fnText+2*l]), f[fnSpace]})
			}
		case a.typ == atStandard && a.resident && len(a.value) >= 48:
			n.modified = le.Uint64(a.value[stdModified:])
		case a.typ == atReparse && a.resident && len(a.value) >= 8:
			n.reparse, n.link = le.Uint32(a.value), slices.Clone(a.value[8:])
		case a.typ == atReparse && !a.resident:
			n.reparse = ^uint32(0) // too long to be judged
		case a.typ == atData:
			i := slices.IndexFunc(n.streams, func(c streamOf) bool { return c.name == a.name })
			if i < 0 {
				i = len(n.streams)
				n.streams = append(n.streams, streamOf{name: a.name})
			}
			c := &n.streams[i]
			if a.resident || a.lowest == 0 {
				c.size, c.alloc, c.flags, c.unit = a.size, a.taken, a.flags, a.unit
			}
			if a.resident { // what fits the record is never packed, whatever its flag says
				c.flags &^= flagCompressed
			}
			if a.value = nil; t.runs {
				c.pieces = append(c.pieces, a)
			}
		}
		if !a.resident && a.typ != atData && t.runs {
			a.value = nil
			n.other = append(n.other, a)
		}
	}
}

// one reads a single file with its extension records.
func (v *Volume) one(num int64) (*node, error) {
	r, err := v.record(num)
	if r == nil {
		return nil, err
	}
	if r.base != 0 {
		return nil, fmt.Errorf("%w: record %d only extends another", volume.ErrDamaged, num)
	}
	t := &tree{nodes: map[int64]*node{}, runs: true}
	t.take(r, err)
	if r.find(atList, "") != nil {
		all, err := v.extensions(r)
		if err != nil {
			t.nodes[num].trouble = err
		}
		for _, x := range all {
			if e, err := v.record(x); err == nil && int64(e.base&(1<<48-1)) == num {
				t.take(e, nil)
			} else {
				t.nodes[num].trouble = fmt.Errorf("record %d, which extends it, cannot be read (%v)", x, err)
			}
		}
	}
	return t.nodes[num], nil
}

// maxDepth bounds the folders above a file; a chain that is longer runs in a
// circle.
const maxDepth = 256

// paths names nodes from the root, and remembers folders.
type paths struct {
	t     *tree
	known map[int64]string // of folders, with a slash behind
}

// numbers are those of the records in use, in order: what is found of a volume is told the same each time.
func (t *tree) numbers() []int64 { return slices.Sorted(maps.Keys(t.nodes)) }

func (t *tree) paths() *paths { return &paths{t, map[int64]string{recRoot: ""}} }

// folder is the path of a folder; ok is false for what cannot be reached from the
// root, and for the file system's own.
func (p *paths) folder(num int64, depth int) (string, bool) {
	if s, ok := p.known[num]; ok {
		return s, s != "\x00"
	}
	p.known[num] = "\x00" // until it is known, and for good if it is not reached
	n := p.t.nodes[num]
	if n == nil || n.flags&isFolder == 0 || num == recExtend || depth > maxDepth {
		return "", false
	}
	for _, x := range n.names {
		if x.space == 2 {
			continue
		}
		if up, ok := p.above(x, depth); ok {
			shown, _ := volume.Name(x.text)
			s := up + shown + "/"
			p.known[num] = s
			return s, true
		}
	}
	return "", false
}

// above is the path of the folder that a name lies in.
func (p *paths) above(x name, depth int) (string, bool) {
	num := int64(x.parent & (1<<48 - 1))
	if up := p.t.nodes[num]; up == nil || up.seq != uint16(x.parent>>48) {
		return "", false
	}
	return p.folder(num, depth+1)
}

// visit describes every file below the root, each under each of its names.
func (t *tree) visit(v *Volume, f func(volume.File) error) error {
	p := t.paths()
	for num, n := range t.nodes {
		if num < 16 || len(n.names) == 0 {
			continue
		}
		for _, x := range n.names {
			if x.space == 2 {
				continue
			}
			up, ok := p.above(x, 0)
			if !ok {
				continue
			}
			for _, g := range v.named(n, up, x.text) {
				if err := f(g); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Files implements volume.Volume.
func (v *Volume) Files() ([]volume.File, error) {
	t, err := v.scan()
	if err != nil {
		return nil, err
	}
	return volume.Collect(func(f func(volume.File) error) error { return t.visit(v, f) })
}

// Walk implements volume.Volume. Extents are left out, and nothing is kept.
func (v *Volume) Walk(f func(volume.File) error) error {
	t := v.tree
	if t == nil {
		var err error
		if t, err = v.read(false); err != nil {
			return err
		}
	}
	return t.visit(v, f)
}

// WalkPlaces is Walk with the extents of every file; it keeps what it has read of the table.
func (v *Volume) WalkPlaces(f func(volume.File) error) error {
	t, err := v.scan()
	if err != nil {
		return err
	}
	return t.visit(v, f)
}

// LastFile names the file that holds the last used cluster, and tells whether it is
// one that cannot be moved: the boot sector's own, or the list of bad clusters.
func (v *Volume) LastFile() (name string, fixed bool, err error) {
	t, err := v.scan()
	if err != nil {
		return "", false, err
	}
	last, at := int64(-1), (*node)(nil)
	see := func(n *node, runs []run) {
		for _, r := range runs {
			if r.lcn >= 0 && r.lcn+r.n > last {
				last, at = r.lcn+r.n, n
			}
		}
	}
	for _, n := range t.nodes {
		for _, c := range n.streams {
			for _, a := range c.pieces {
				see(n, a.runs)
			}
		}
		for _, a := range n.other {
			see(n, a.runs)
		}
	}
	if at == nil {
		return "", false, nil
	}
	if at.num == recRoot {
		return "the root folder", false, nil
	}
	if at.num < 16 && len(at.names) > 0 {
		return at.names[0].text, at.num == recBoot || at.num == recBadClus, nil
	}
	p := t.paths()
	for _, x := range at.names {
		if up, ok := p.above(x, 0); ok && x.space != 2 {
			shown, _ := volume.Name(x.text)
			return up + shown, strings.HasPrefix(up, "System Volume Information/"), nil
		}
	}
	return "a file without a name", false, nil
}

// named is describe for a node under one of its names, in the folder at a path. Where the name is damaged, or that of a
// stream is, it is told.
func (v *Volume) named(n *node, up, name string) []volume.File {
	shown, misnamed := volume.Name(name)
	out := v.describe(n, up+shown)
	for i := range out {
		f := &out[i]
		trouble := misnamed
		if f.Stream != "" {
			if f.Stream, trouble = volume.Name(f.Stream); trouble == "" {
				trouble = misnamed
			}
		}
		f.Unreadable = cmp.Or(f.Unreadable, trouble)
	}
	return out
}

// describe lists a node: itself, and one more for each alternate stream.
func (v *Volume) describe(n *node, path string) []volume.File {
	f := volume.File{Path: path, Kind: volume.Plain, Modified: toTime(n.modified), ID: uint64(n.num)}
	if n.flags&isFolder != 0 {
		f.Kind = volume.Folder
	}
	tag, packed := n.reparse, false
	switch {
	case tag == 0 || tag == tagStart || tag == tagSocket || f.Kind == volume.Folder && tag&0x20000000 == 0:
	case tag == tagMount || tag == tagSymlink || tag == tagUnixLink:
		f.Kind, f.Target = volume.Link, linkTarget(tag, n.link)
	case tag == tagSystem:
		packed = true
	case tag&0xffff0fff == tagPlaceholder:
		f.Unreadable = "a placeholder; its contents are kept elsewhere"
	case tag == tagDeduped:
		f.Unreadable = "its contents are kept in a store shared with other files"
	default:
		f.Unreadable = fmt.Sprintf("its contents are given by another program (reparse point %08x)", tag)
	}
	if n.trouble != nil {
		f.Unreadable = n.trouble.Error()
	}
	out := make([]volume.File, 0, max(len(n.streams), 1))
	has := false
	for i := range n.streams {
		c := &n.streams[i]
		g := f
		if g.Stream = c.name; c.name != "" {
			g.Kind, g.Target = volume.Plain, ""
			if packed && c.name == packedStream {
				continue // it is where the contents are kept
			}
			if n.trouble == nil {
				g.Unreadable = ""
			}
		}
		has = has || c.name == ""
		g.Bytes, g.Allocated = c.size, c.alloc
		switch {
		case c.flags&flagEncrypted != 0:
			g.Unreadable = "encrypted"
		case c.flags&flagCompressed != 0 && c.size > 0 && c.unit == 0:
			g.Unreadable = "compressed in a form that is not known"
		case c.flags&flagCompressed != 0:
			g.Stored = "compressed"
		case packed && c.name == "":
			g.Stored = "compressed by the system"
			if _, err := systemFormat(n.link); err != nil {
				g.Unreadable = err.Error()
			}
		}
		if c.pieces != nil {
			s, err := v.join(c.pieces)
			if err != nil {
				g.Unreadable = err.Error()
			} else {
				g.Extents = v.extents(s)
			}
		}
		out = append(out, g)
	}
	if !has {
		out = append(out, f)
	}
	return out
}

func (v *Volume) extents(s *stream) []volume.Extent {
	var out []volume.Extent
	for _, r := range s.runs {
		e := volume.Extent{Off: -1, Len: disk.Bytes(r.n) * v.boot.cluster}
		if r.lcn >= 0 {
			e.Off = disk.Bytes(r.lcn) * v.boot.cluster
		}
		out = append(out, e)
	}
	return out
}

// linkTarget is where a link leads, from the data of its reparse point.
func linkTarget(tag uint32, b []byte) string {
	head := 8
	switch tag {
	case tagUnixLink:
		if len(b) > 4 {
			return string(b[4:])
		}
		return ""
	case tagSymlink:
		head = 12
	}
	if len(b) < head {
		return ""
	}
	for _, at := range []int{4, 0} { // the name for people, else the one for the system
		off, n := head+int(le.Uint16(b[at:])), int(le.Uint16(b[at+2:]))
		if n > 0 && off+n <= len(b) {
			return strings.ReplaceAll(strings.TrimPrefix(text16(b[off:off+n]), `\??\`), `\`, "/")
		}
	}
	return ""
}

// Open implements volume.Volume. Compressed contents are decoded.
func (v *Volume) Open(f volume.File) (io.ReaderAt, error) {
	unreadable := func(why string) (io.ReaderAt, error) {
		return nil, fmt.Errorf("%s: %w: %s", f.Path, volume.ErrUnreadable, why)
	}
	if f.Unreadable != "" {
		return unreadable(f.Unreadable)
	}
	n, err := v.one(int64(f.ID))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Path, err)
	}
	if !slices.ContainsFunc(n.streams, func(c streamOf) bool { return c.name == f.Stream }) {
		if f.Kind == volume.Plain && f.Bytes == 0 {
			return strings.NewReader(""), nil
		}
		return nil, fmt.Errorf("%s: %w", f.Path, volume.ErrNotFound)
	}
	s, err := v.system(int64(f.ID), atData, f.Stream)
	if err != nil {
		return unreadable(err.Error())
	}
	switch {
	case s.flags&flagEncrypted != 0:
		return unreadable("encrypted")
	case s.flags&flagCompressed != 0:
		return newUnpacker(s)
	case n.reparse == tagSystem && f.Stream == "":
		form, err := systemFormat(n.link)
		if err != nil {
			return unreadable(err.Error())
		}
		inner, err := v.system(int64(f.ID), atData, packedStream)
		if err != nil {
			return unreadable(err.Error())
		}
		return newSystemUnpacker(inner, s.size, form)
	}
	return s, nil
}
