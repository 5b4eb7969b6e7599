package fat

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"unicode/utf16"

	"jadetrail/core/disk"
	"jadetrail/core/script"
	"jadetrail/core/volume"
)

// ErrNotHere is returned for files that a FAT volume cannot take.
var ErrNotHere = errors.New("a FAT volume cannot take it")

// maxFile is the largest file (FAT specification, section 4).
const maxFile = 1<<32 - 1

// loader puts files into a volume that exists.
type loader struct {
	v      *Volume
	o      volume.LoadOptions
	table  []uint32
	dirty  map[uint32]bool
	cursor uint32
	data   script.Script // contents, in clusters that were free
	made   script.Script // folders, in clusters that were free
	notes  map[string]int
	out    volume.Arrival
}

// arriving is a folder on its way.
type arriving struct {
	name  string
	x     *volume.Incoming
	subs  []*arriving
	files []*volume.Incoming
	names map[string]bool // in capitals
}

// Load implements volume.Loader. Contents and new folders go into free clusters first;
// then the table names them; only then the folder that they arrive in.
func (v *Volume) Load(into string, files []volume.Incoming, o volume.LoadOptions) (volume.Loading, error) {
	none := volume.Loading{}
	if i, err := v.Info(); err != nil || !i.Clean {
		return none, errors.Join(err, fmt.Errorf("%w: the volume was not closed properly", volume.ErrDamaged))
	}
	if l := v.Check(); l.FirstError() != nil {
		return none, fmt.Errorf("%w: %s", volume.ErrDamaged, l.FirstError().Text)
	}
	t, err := v.fat()
	if err != nil {
		return none, err
	}
	l := &loader{
		v: v, o: o, table: slices.Clone(t), dirty: map[uint32]bool{}, cursor: 2, notes: map[string]int{},
		out: volume.Arrival{Renamed: map[string]string{}},
	}
	base, missing, err := l.target(into)
	if err != nil {
		return none, err
	}
	root, err := l.sortOut(files)
	if err != nil {
		return none, err
	}
	if len(missing) == 0 {
		l.keepApart(base, root)
	}
	for _, name := range slices.Backward(missing) {
		if err := valid(name); err != nil {
			return none, err
		}
		root = &arriving{subs: []*arriving{root}, names: map[string]bool{}}
		root.subs[0].name = name
	}
	added, err := l.enter(root, base.first, base.short)
	if err != nil {
		return none, err
	}
	last, err := l.append(base, added)
	if err != nil {
		return none, err
	}
	tables, err := l.tables()
	if err != nil {
		return none, err
	}
	for _, n := range slices.Sorted(maps.Keys(l.notes)) {
		l.out.Notes = append(l.out.Notes, fmt.Sprintf("%d files: %s", l.notes[n], n))
	}
	l.out.Folder = into
	s := append(l.data, l.made...)
	s.Barrier("contents written")
	s = append(s, tables...)
	s.Barrier("the table names them")
	return volume.Loading{Script: append(s, last...), Arrival: l.out}, nil
}

// existing is a folder that is there.
type existing struct {
	first    uint32 // cluster, 0 for the root
	clusters []uint32
	slots    int // until the end mark
	names    map[string]bool
	short    map[string]bool
}

// look reads a folder of the volume.
func (l *loader) look(first uint32) (*existing, error) {
	d := &existing{first: first, names: map[string]bool{}, short: map[string]bool{}}
	err := l.v.eachEntry(first, 0, func(e dirent, next int64) bool {
		d.names[strings.ToUpper(e.name)], d.short[e.short] = true, true
		return true
	})
	if err != nil {
		return nil, err
	}
	start := first
	if start == 0 {
		start = l.v.rootCluster
	}
	whole := l.v.rootSize
	if start != 0 {
		if d.clusters, err = l.v.chain(start, max(maxFolder/int(l.v.cluster), 1)); err != nil {
			return nil, err
		}
		whole = disk.Bytes(len(d.clusters)) * l.v.cluster
	}
	for d.slots = 0; disk.Bytes(d.slots)*32 < whole; d.slots++ {
		b, err := disk.ReadFull(l.v.dev, l.slot(d, d.slots), 32)
		if err != nil {
			return nil, err
		}
		if b[0] == 0 {
			break
		}
	}
	return d, nil
}

// slot is where a 32-byte slot of a folder lies.
func (l *loader) slot(d *existing, n int) disk.Bytes {
	off := disk.Bytes(n) * 32
	if d.clusters == nil {
		return l.v.rootStart + off
	}
	return l.v.at(d.clusters[off/l.v.cluster]) + off%l.v.cluster
}

// target finds the deepest folder on the way that exists, and the names below it.
func (l *loader) target(into string) (*existing, []string, error) {
	d, err := l.look(0)
	var missing []string
	for part := range strings.SplitSeq(into, "/") {
		if err != nil {
			return nil, nil, err
		}
		if part == "" {
			continue
		}
		if missing != nil {
			missing = append(missing, part)
			continue
		}
		found, is := uint32(0), false
		if err := l.v.eachEntry(d.first, 0, func(e dirent, _ int64) bool {
			if is = strings.EqualFold(e.name, part) && e.attr&attrLabel == 0; is && e.attr&attrFolder != 0 {
				found = e.cluster
			}
			return !is
		}); err != nil {
			return nil, nil, err
		}
		switch {
		case is && found == 0:
			return nil, nil, fmt.Errorf("%q is a file, not a folder", part)
		case !is:
			missing = []string{part}
		default:
			d, err = l.look(found)
		}
	}
	return d, missing, err
}

// valid tells whether a name can be a long name (section 7).
func valid(name string) error {
	n := len(utf16.Encode([]rune(name)))
	if n == 0 || n > 255 || name != strings.TrimRight(name, ". ") || strings.ContainsAny(name, `"*/:<>?\|`) || strings.ContainsFunc(name, func(r rune) bool { return r < 0x20 }) {
		return fmt.Errorf("%w: the name %q", ErrNotHere, name)
	}
	return nil
}

// sortOut makes a tree of what arrives.
func (l *loader) sortOut(files []volume.Incoming) (*arriving, error) {
	root := &arriving{names: map[string]bool{}}
	byPath, dirs := map[string]*volume.Incoming{}, map[string]*arriving{"": root}
	folder := func(p string) (*arriving, error) {
		if d := dirs[p]; d != nil {
			return d, nil
		}
		return nil, fmt.Errorf("%w: %s has no folder", ErrNotHere, p)
	}
	for i := range files {
		x := &files[i]
		if x.IsFile() && x.SameAs == "" {
			byPath[x.Path] = x
		}
	}
	for i := range files {
		x := &files[i]
		dir, name := path.Split(x.Path)
		switch {
		case x.Stream != "":
			l.notes["their alternate streams are not kept by FAT"]++
			continue
		case x.Kind == volume.Link:
			l.notes["links are not kept by FAT"]++
			continue
		case x.Bytes > maxFile:
			return nil, fmt.Errorf("%w: %s has %s, more than the 4 GiB of a file there", ErrNotHere, x.Path, x.Bytes)
		}
		if err := valid(name); err != nil {
			return nil, err
		}
		d, err := folder(strings.TrimSuffix(dir, "/"))
		if err != nil {
			return nil, err
		}
		if up := strings.ToUpper(name); d.names[up] {
			return nil, fmt.Errorf("%w: %s differs from another name only in capitals", ErrNotHere, x.Path)
		} else {
			d.names[up] = true
		}
		if len(x.Descriptor) > 0 {
			l.notes["who may do what with them is not kept by FAT"]++
		}
		if len(x.Extended) > 0 {
			l.notes["their extended attributes are not kept by FAT"]++
		}
		if x.Kind == volume.Plain && x.Attributes&(volume.AttrSparse|volume.AttrPacked) != 0 {
			l.notes["they were sparse or compressed, and take their whole length here"]++
		}
		if x.Kind == volume.Folder {
			sub := &arriving{name: name, x: x, names: map[string]bool{}}
			d.subs, dirs[x.Path] = append(d.subs, sub), sub
			l.out.Folders++
			continue
		}
		if x.SameAs != "" {
			first := byPath[x.SameAs]
			if first == nil {
				return nil, fmt.Errorf("%w: %s is a second name of what does not arrive", ErrNotHere, x.Path)
			}
			y := *first
			y.Path, x = x.Path, &y
			l.notes["second names are files of their own on FAT"]++
		}
		d.files = append(d.files, x)
		l.out.Files, l.out.Bytes = l.out.Files+1, l.out.Bytes+x.Bytes
	}
	return root, nil
}

// keepApart gives names at the top that are taken a number.
func (l *loader) keepApart(base *existing, root *arriving) {
	free := func(name string) string {
		ext := path.Ext(name)
		now := name
		for i := 2; base.names[strings.ToUpper(now)] || now != name && root.names[strings.ToUpper(now)]; i++ {
			now = fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(name, ext), i, ext)
		}
		if now != name {
			l.out.Renamed[name] = now
			root.names[strings.ToUpper(now)] = true
		}
		return now
	}
	for _, s := range root.subs {
		s.name = free(s.name)
	}
	for i, f := range root.files {
		y := *f
		y.Path = free(f.Path)
		root.files[i] = &y
	}
}

// take allocates a chain of clusters and returns them.
func (l *loader) take(n int) ([]uint32, error) {
	var out []uint32
	for ; len(out) < n; l.cursor++ {
		if int(l.cursor) >= len(l.table) {
			return nil, fmt.Errorf("%w: its free clusters are not enough", ErrFull)
		}
		if l.table[l.cursor] == 0 {
			out = append(out, l.cursor)
		}
	}
	for i, c := range out {
		if l.dirty[c] = true; i+1 < n {
			l.table[c] = out[i+1]
		} else {
			l.table[c] = 0x0fffffff
		}
	}
	return out, nil
}

// enter writes what arrives in a folder, and returns the folder's new entries.
func (l *loader) enter(d *arriving, self uint32, used map[string]bool) ([]byte, error) {
	var b []byte
	for _, s := range d.subs {
		first, err := l.folder(s, self)
		if err != nil {
			return nil, err
		}
		e := entries(s.name, attrFolder, first, 0, l.o.Now, used)
		if s.x != nil {
			l.dress(e, s.x)
		}
		b = append(b, e...)
	}
	for _, f := range d.files {
		first, err := l.contents(f)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Path, err)
		}
		e := entries(path.Base(f.Path), 0, first, uint32(f.Bytes), f.Modified, used)
		l.dress(e, f)
		b = append(b, e...)
	}
	return b, nil
}

// dress puts times and attributes into the short entry, which is the last.
func (l *loader) dress(entries []byte, x *volume.Incoming) {
	e := entries[len(entries)-32:]
	e[11] |= byte(x.Attributes & (volume.AttrReadOnly | volume.AttrHidden | volume.AttrSystem | volume.AttrArchive))
	if !x.Modified.IsZero() {
		copy(e[14:], shortEntry("", 0, 0, 0, x.Modified)[14:20])
		copy(e[22:26], shortEntry("", 0, 0, 0, x.Modified)[22:26])
	}
	if !x.Created.IsZero() {
		copy(e[14:18], shortEntry("", 0, 0, 0, x.Created)[14:18])
	}
}

// folder makes a new folder and all below it, and returns its first cluster.
func (l *loader) folder(d *arriving, parent uint32) (uint32, error) {
	size := 64
	for _, f := range d.files {
		size += entrySize(path.Base(f.Path))
	}
	for _, s := range d.subs {
		size += entrySize(s.name)
	}
	if size > maxFolder {
		return 0, fmt.Errorf("%w: the folder %s has too many files", ErrNotHere, d.name)
	}
	cs, err := l.take(int((disk.Bytes(size) + l.v.cluster - 1) / l.v.cluster))
	if err != nil {
		return 0, err
	}
	if parent == l.v.rootCluster {
		parent = 0
	}
	b := append(shortEntry(padded(".", 11), attrFolder, cs[0], 0, l.o.Now), shortEntry(padded("..", 11), attrFolder, parent, 0, l.o.Now)...)
	in, err := l.enter(d, cs[0], map[string]bool{})
	if err != nil {
		return 0, err
	}
	b = append(b, in...)
	b = append(b, make([]byte, len(cs)*int(l.v.cluster)-len(b))...)
	for i, c := range cs {
		l.made = append(l.made, script.Op{
			Kind: script.Write, Off: l.v.at(c), Len: l.v.cluster, Data: b[i*int(l.v.cluster):][:l.v.cluster],
		})
	}
	return cs[0], nil
}

// fillBytes is the most that one operation fills; inline the most that the script holds
// of a file itself.
const (
	fillBytes = 4 * disk.MiB
	inline    = 16 * disk.MiB
)

// contents puts a file's bytes into free clusters and returns the first.
func (l *loader) contents(x *volume.Incoming) (uint32, error) {
	if x.Bytes == 0 {
		return 0, nil
	}
	cs, err := l.take(int((x.Bytes + l.v.cluster - 1) / l.v.cluster))
	if err != nil {
		return 0, err
	}
	var whole []byte
	if len(x.Extents) == 0 {
		if x.Bytes > inline {
			return 0, fmt.Errorf("%w: its contents cannot be had in pieces", ErrNotHere)
		}
		r, err := x.Open()
		if err != nil {
			return 0, err
		}
		whole = make([]byte, x.Bytes)
		if n, err := r.ReadAt(whole, 0); n < len(whole) {
			return 0, errors.Join(io.ErrUnexpectedEOF, err)
		}
	}
	src, into := 0, disk.Bytes(0) // place in the source's extents
	left := x.Bytes
	for i := 0; i < len(cs); {
		k := i + 1
		for k < len(cs) && cs[k] == cs[k-1]+1 {
			k++
		}
		off := l.v.at(cs[i])
		n := min(disk.Bytes(k-i)*l.v.cluster, left)
		for n > 0 {
			op := script.Op{Kind: script.Fill, Off: off, Len: min(n, fillBytes), Source: l.o.Source}
			if whole != nil {
				op.Kind, op.Source, op.Data = script.Write, "", whole[x.Bytes-left:][:op.Len]
			} else {
				for src < len(x.Extents) && into == x.Extents[src].Len {
					src, into = src+1, 0
				}
				if src >= len(x.Extents) {
					return 0, fmt.Errorf("%w: its contents are shorter than it", ErrNotHere)
				}
				op.Len = min(op.Len, x.Extents[src].Len-into)
				op.SourceOff = x.Extents[src].Off + into
				into += op.Len
			}
			off, n, left = off+op.Len, n-op.Len, left-op.Len
			if left == 0 && op.Kind == script.Fill {
				op.Pad = x.Bytes.Up(l.v.cluster) - x.Bytes
			}
			l.data = append(l.data, op)
		}
		i = k
	}
	return cs[0], nil
}

// append puts entries at the end of a folder that exists, which gains clusters when it
// must.
func (l *loader) append(d *existing, b []byte) (script.Script, error) {
	if len(b) == 0 {
		return nil, nil
	}
	need := disk.Bytes(d.slots*32 + len(b))
	if need > maxFolder {
		return nil, fmt.Errorf("%w: the folder has too many files", ErrNotHere)
	}
	if d.clusters == nil && need > l.v.rootSize {
		return nil, fmt.Errorf(
			"%w: its root has room for %d more entries, and %d are needed. Put them into a folder", ErrFull,
			int(l.v.rootSize)/32-d.slots, len(b)/32,
		)
	}
	if have := disk.Bytes(len(d.clusters)) * l.v.cluster; d.clusters != nil && need > have {
		more, err := l.take(int((need - have + l.v.cluster - 1) / l.v.cluster))
		if err != nil {
			return nil, err
		}
		end := d.clusters[len(d.clusters)-1]
		l.table[end], l.dirty[end] = more[0], true
		for _, c := range more { // an end mark everywhere, before the table leads there
			l.made = append(l.made, script.Op{
				Kind: script.Write, Off: l.v.at(c), Len: l.v.cluster, Data: make([]byte, l.v.cluster),
			})
		}
		d.clusters = append(d.clusters, more...)
	}
	// What follows the old end mark up to the end of its sector may be anything.
	for len(b)%int(l.v.sector) != (int(l.v.sector)-d.slots*32%int(l.v.sector))%int(l.v.sector) {
		b = append(b, 0)
	}
	var s script.Script
	for n := d.slots; len(b) > 0; {
		k := int(l.v.sector) - n*32%int(l.v.sector)
		s.Put(l.slot(d, n), b[:k])
		n, b = n+k/32, b[k:]
	}
	return s, nil
}

// tables writes the changed sectors of every copy of the table, and the count of free
// clusters (sections 4 and 5).
func (l *loader) tables() (script.Script, error) {
	sectors := map[disk.Bytes][]byte{}
	set := func(off disk.Bytes, mask, value byte) error {
		at := off.Down(l.v.sector)
		b := sectors[at]
		if b == nil {
			var err error
			if b, err = disk.ReadFull(l.v.dev, l.v.fatStart+at, l.v.sector); err != nil {
				return err
			}
			sectors[at] = b
		}
		b[off-at] = b[off-at]&^mask | value&mask
		return nil
	}
	for c := range l.dirty {
		n, off := l.table[c], disk.Bytes(c)
		var err error
		switch l.v.kind {
		case volume.FAT12:
			off = off * 3 / 2
			if c&1 != 0 {
				err = errors.Join(set(off, 0xf0, byte(n)<<4), set(off+1, 0xff, byte(n>>4)))
			} else {
				err = errors.Join(set(off, 0xff, byte(n)), set(off+1, 0x0f, byte(n>>8)))
			}
		case volume.FAT16:
			err = errors.Join(set(2*off, 0xff, byte(n)), set(2*off+1, 0xff, byte(n>>8)))
		default:
			for i := range disk.Bytes(4) {
				mask := byte(0xff)
				if i == 3 {
					mask = 0x0f // the top bits are not ours
				}
				err = errors.Join(err, set(4*off+i, mask, byte(n>>(8*i))))
			}
		}
		if err != nil {
			return nil, err
		}
	}
	var s script.Script
	for copy := range disk.Bytes(l.v.copies) {
		for _, at := range slices.Sorted(maps.Keys(sectors)) {
			s.Put(l.v.fatStart+copy*l.v.fatSize+at, sectors[at])
		}
	}
	if l.v.kind != volume.FAT32 {
		return s, nil
	}
	free := uint32(0)
	for _, n := range l.table[2:] {
		if n == 0 {
			free++
		}
	}
	counts, err := l.v.counts(free, min(l.cursor, l.v.clusters+1))
	return append(s, counts...), err
}

// counts writes how many clusters of a FAT32 volume are free and where to look for one, in
// both copies that say so (section 5).
func (v *Volume) counts(free, next uint32) (script.Script, error) {
	var s script.Script
	info, second := disk.Bytes(le.Uint16(v.boot[48:])), disk.Bytes(le.Uint16(v.boot[50:]))
	for _, at := range []disk.Bytes{info, second + info} {
		if at == 0 || at*v.sector >= v.fatStart || at != info && second == 0 {
			continue
		}
		b, err := disk.ReadFull(v.dev, at*v.sector, v.sector)
		if err != nil {
			return nil, err
		}
		if le.Uint32(b) != 0x41615252 || le.Uint32(b[484:]) != 0x61417272 {
			continue
		}
		le.PutUint32(b[488:], free)
		le.PutUint32(b[492:], next)
		s.Put(at*v.sector, b)
	}
	return s, nil
}
