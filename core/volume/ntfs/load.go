package ntfs

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"jadetrail/core/disk"
	"jadetrail/core/script"
	"jadetrail/core/volume"
)

// fillBytes is the most that one operation fills in.
const fillBytes = 4 * disk.MiB

// inlineMost bounds contents that come in the script itself, because only opening the
// file gives them (packed files, streams that lie in a header).
const inlineMost = 16 * disk.MiB

// loader puts files into a volume, in a script.
type loader struct {
	v     *Volume
	o     volume.LoadOptions
	up    []uint16
	space *space
	now   uint64

	data    script.Script // contents, into free clusters
	blocks  script.Script // bookkeeping, into free clusters
	records map[int64][]byte
	edits   map[int64][]byte
	bits    []byte // of the table of files
	count   int64  // records that the table has
	cursor  int64
	own     []int64 // records of the file that is being laid out, which it had before

	sec        *descriptors
	newSDS     []secured
	inherited  uint32
	objects    []entry
	objectIDs  map[string]bool
	reparses   []entry
	secureFull bool
	again      []*folder // that an earlier load made
	out        volume.Arrival
	notes      map[string]int
}

// secured is a security descriptor that the volume does not have yet.
type secured struct {
	id uint32
	b  []byte
}

// arriving is one file with all its names and streams while it is being loaded.
type arriving struct {
	num     int64
	main    *volume.Incoming
	names   []named
	streams []*volume.Incoming
	folder  *folder
}

type named struct {
	parent *folder
	name   string
	short  string
}

// spelt is a name in its namespaces: a long one that has a short one beside it, or one
// that stands alone.
func (n named) spelt() []name {
	if n.short == "" || n.short == n.name {
		return []name{{text: n.name}}
	}
	return []name{{text: n.name, space: 1}, {text: n.short, space: 2}}
}

// Load implements volume.Loader. Contents and new bookkeeping go into free clusters
// first; what exists is changed after that. Files keep their times, attributes, security
// descriptors, object ids and reparse points. Packed, sparse and encrypted files arrive as
// plain ones.
//
// A volume that is not clean, or whose bitmap and run lists disagree, is refused
// (volume.ErrNotClean, volume.ErrDamaged), and one that is too small (ErrFull).
func (v *Volume) Load(into string, files []volume.Incoming, o volume.LoadOptions) (volume.Loading, error) {
	none := volume.Loading{}
	l, err := v.loader(o)
	if err != nil {
		return none, err
	}
	if err := l.load(into, files); err != nil {
		return none, err
	}
	for _, n := range slices.Sorted(maps.Keys(l.notes)) {
		l.out.Notes = append(l.out.Notes, fmt.Sprintf("%d files: %s", l.notes[n], n))
	}
	s := append(l.data, script.Op{Kind: script.Barrier, Text: "contents written"})
	s = append(s, l.blocks...)
	return volume.Loading{Script: s, Arrival: l.out}, nil
}

// loader begins a change of the volume's files.
func (v *Volume) loader(o volume.LoadOptions) (*loader, error) {
	if err := v.Clean(); err != nil {
		return nil, err
	}
	if !v.Agrees() {
		return nil, fmt.Errorf(
			"%w: the files and the bitmap of clusters disagree, or a record cannot be read", volume.ErrDamaged,
		)
	}
	l := &loader{
		v: v, o: o, now: fromTime(o.Now), records: map[int64][]byte{}, edits: map[int64][]byte{}, cursor: recFirst,
		notes: map[string]int{}, out: volume.Arrival{Renamed: map[string]string{}},
	}
	return l, l.open()
}

func (l *loader) open() (err error) {
	if l.up, err = l.v.upcase(); err != nil {
		return err
	}
	if l.space, err = l.v.space(); err != nil {
		return err
	}
	if err := l.openTable(); err != nil {
		return err
	}
	if l.sec, err = l.v.descriptors(); err != nil {
		return err
	}
	l.objectIDs = map[string]bool{}
	if num, ok := l.v.lookup("$Extend", "$ObjId"); ok {
		rows, _, err := l.v.rows(num, "$O")
		if err != nil {
			return err
		}
		for _, r := range rows {
			l.objectIDs[string(r.key)] = true
		}
	}
	return nil
}

// openTable reads which records of the table of files are in use.
func (l *loader) openTable() error {
	bm, err := l.v.system(recMFT, atBitmap, "")
	if err != nil {
		return err
	}
	if l.bits, err = bm.all(64 * disk.MiB); err != nil {
		return err
	}
	l.count = int64(min(l.v.mft.size, l.v.mft.initialised)) / int64(l.v.boot.record)
	if int64(len(l.bits))*8 < l.count {
		return fmt.Errorf(
			"%w: the table of files has %d records and a map of %d", volume.ErrDamaged, l.count, len(l.bits)*8,
		)
	}
	return nil
}

// number takes a record that the file had, or a free one; those behind the table's end are
// added to it later.
func (l *loader) number() (int64, error) {
	if len(l.own) > 0 {
		n := l.own[0]
		l.own = l.own[1:]
		return n, nil
	}
	for ; ; l.cursor++ {
		n := l.cursor
		if n >= 1<<32 {
			return 0, fmt.Errorf("%w: the table of files is full", ErrFull)
		}
		if n/8 >= int64(len(l.bits)) {
			l.bits = append(l.bits, make([]byte, 8)...)
		}
		if l.bits[n/8]>>(n%8)&1 != 0 {
			continue
		}
		if n < l.count {
			// A record that is in use without being marked so is left alone.
			if r, err := l.v.record(n); err == nil && r.flags&inUse != 0 {
				continue
			}
		}
		l.bits[n/8] |= 1 << (n % 8)
		l.cursor++
		return n, nil
	}
}

// seq is the sequence number of a record that is taken: the one it was left with.
func (l *loader) seq(num int64) uint16 {
	if num < l.count {
		b := make([]byte, 24)
		if _, err := l.v.mft.ReadAt(b, num*int64(l.v.boot.record)); err == nil && string(b[:4]) == "FILE" {
			return max(le.Uint16(b[hdrSequence:]), 1)
		}
	}
	return 1
}

func (l *loader) ref(num int64) uint64 { return uint64(l.seq(num))<<48 | uint64(num) }

func (l *loader) bytesOf(runs []run) disk.Bytes {
	return disk.Bytes(runsEnd(runs, 0)) * l.v.boot.cluster
}

func (l *loader) clusters(n disk.Bytes) int64 {
	return int64((n + l.v.boot.cluster - 1) / l.v.boot.cluster)
}

// put writes bookkeeping into clusters of its own.
func (l *loader) put(b []byte) ([]run, error) {
	runs, err := l.space.take(l.clusters(disk.Bytes(len(b))))
	if err != nil {
		return nil, err
	}
	full := append(slices.Clone(b), make([]byte, int(l.bytesOf(runs))-len(b))...)
	for _, r := range runs {
		n := r.n * int64(l.v.boot.cluster)
		l.blocks = append(l.blocks, script.Op{
			Kind: script.Write, Off: disk.Bytes(r.lcn) * l.v.boot.cluster, Len: disk.Bytes(n), Data: full[:n],
		})
		full = full[n:]
	}
	return runs, nil
}

func (l *loader) load(into string, files []volume.Incoming) error {
	base, dirs, err := l.target(into)
	if err != nil {
		return err
	}
	l.out.Folder = into
	all, folders, err := l.sortOut(base, dirs, files)
	if err != nil {
		return err
	}
	for i := range files { // before anything else takes their clusters
		for _, x := range files[i].Placed {
			if err := l.space.claim(int64(x.Off/l.v.boot.cluster), l.clusters(x.Len)); err != nil {
				return fmt.Errorf("%s: %w", files[i].Path, err)
			}
		}
	}
	for _, a := range all {
		if err := l.arrive(a); err != nil {
			return fmt.Errorf("%s: %w", a.main.Path, err)
		}
	}
	// Folders come from the deepest up: their entries are complete then.
	for _, d := range slices.Backward(append(dirs, folders...)) {
		if err := l.newFolder(d); err != nil {
			return fmt.Errorf("folder %s: %w", d.name, err)
		}
	}
	if len(base.entries) > 0 {
		if err := l.reindex(base.num, "$I30", base.entries, l.sort); err != nil {
			return err
		}
		l.touch(base.num)
	}
	for _, d := range l.again { // as they came, and keep their times
		if len(d.entries) > 0 {
			if err := l.reindex(d.num, "$I30", d.entries, l.sort); err != nil {
				return err
			}
		}
	}
	if err := l.shared(); err != nil {
		return err
	}
	return l.close()
}

// touch notes that a folder whose entries have changed was changed now.
func (l *loader) touch(num int64) {
	r, err := parseEdited(num, l.edits[num], l.v.boot.clusters)
	if err != nil {
		return
	}
	if a := r.find(atStandard, ""); a != nil && a.resident && len(a.value) >= 32 {
		le.PutUint64(a.value[stdModified:], l.now)
		le.PutUint64(a.value[stdChanged:], l.now)
	}
}

// target finds the folder that files arrive in: the deepest that exists, and the ones
// below it that are to be made.
func (l *loader) target(into string) (*folder, []*folder, error) {
	d := &folder{num: recRoot, seq: recRoot}
	var dirs []*folder
	var have []string
	for part := range strings.SplitSeq(into, "/") {
		if part == "" {
			continue
		}
		if err := validName(part); err != nil {
			return nil, nil, err
		}
		if len(dirs) == 0 {
			if num, ok := l.v.lookup(append(have, part)...); ok {
				r, err := l.v.record(num)
				if err != nil {
					return nil, nil, err
				}
				if r.flags&isFolder == 0 {
					return nil, nil, fmt.Errorf("%q is a file, not a folder", part)
				}
				have = append(have, part)
				d = &folder{num: num, seq: int64(r.seq)}
				continue
			}
		}
		num, err := l.number()
		if err != nil {
			return nil, nil, err
		}
		sub := &folder{num: num, seq: int64(l.seq(num)), name: part, parent: d, modified: l.now}
		dirs = append(dirs, sub)
		d = sub
	}
	base := d
	if len(dirs) > 0 {
		base = dirs[0].parent
	}
	r, err := l.v.record(base.num)
	if err != nil {
		return nil, nil, err
	}
	l.inherited = 0x100
	if a := r.find(atStandard, ""); a != nil && a.resident && len(a.value) >= 56 {
		l.inherited = le.Uint32(a.value[stdSecurity:])
	}
	return base, dirs, nil
}

// ErrName is returned for a name that NTFS cannot hold.
var ErrName = errors.New("the name cannot be used")

func validName(n string) error {
	if n == "" || n == "." || n == ".." || len(utf16.Encode([]rune(n))) > 255 || strings.ContainsAny(n, "/\x00") {
		return fmt.Errorf("%w: %q", ErrName, n)
	}
	return nil
}

// sortOut gives every file its record and its place: files with all their names and
// streams, and folders, each before what is in it.
func (l *loader) sortOut(base *folder, dirs []*folder, files []volume.Incoming) ([]*arriving, []*folder, error) {
	top, taken := base, map[string]bool{}
	if len(dirs) > 0 {
		top = dirs[len(dirs)-1]
	} else {
		rows, _, err := l.v.rows(base.num, "$I30")
		if err != nil {
			return nil, nil, err
		}
		for _, r := range rows {
			if len(r.key) >= 66 {
				taken[l.fold(text16(r.key[fnText:]))] = true
			}
		}
	}
	var all []*arriving
	var folders []*folder
	byPath := map[string]*arriving{}
	byDir := map[string]*folder{"": top}
	for i := range files {
		f := &files[i]
		if f.Stream != "" {
			if a := byPath[f.Path]; a != nil {
				a.streams = append(a.streams, f)
			}
			continue
		}
		dir := byDir[parentOf(f.Path)]
		if dir == nil {
			return nil, nil, fmt.Errorf("%q comes before its folder", f.Path)
		}
		name := path.Base(f.Path)
		if err := validName(name); err != nil {
			return nil, nil, err
		}
		n := named{dir, name, f.Short}
		if l.o.Onto != nil && f.Kind == volume.Folder {
			d, err := l.onto(dir, top, name)
			if err != nil {
				return nil, nil, err
			}
			byDir[f.Path] = d
			continue
		}
		if dir == top {
			n = l.apart(n, taken)
		}
		if first := byPath[f.SameAs]; f.SameAs != "" && first != nil {
			first.names = append(first.names, n)
			l.out.Files++
			continue
		}
		num, err := l.number()
		if err != nil {
			return nil, nil, err
		}
		a := &arriving{num: num, main: f, names: []named{n}}
		byPath[f.Path] = a
		all = append(all, a)
		if f.Kind == volume.Folder {
			d := &folder{num: num, seq: int64(l.seq(num)), name: n.name, parent: dir, modified: l.time(f.Modified)}
			a.folder, byDir[f.Path] = d, d
			folders = append(folders, d)
			l.out.Folders++
			continue
		}
		l.out.Files++
	}
	return all, folders, nil
}

// onto finds a folder that an earlier load made.
func (l *loader) onto(dir, top *folder, name string) (*folder, error) {
	if now, renamed := l.o.Onto[name]; renamed && dir == top {
		l.out.Renamed[name], name = now, now
	}
	rows, _, err := l.v.rows(dir.num, "$I30")
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		if len(r.key) >= 66 && r.key[fnSpace] != 2 && text16(r.key[fnText:]) == name {
			d := &folder{num: int64(r.ref & (1<<48 - 1)), seq: int64(r.ref >> 48), name: name, parent: dir}
			l.again = append(l.again, d)
			return d, nil
		}
	}
	return nil, fmt.Errorf("%w: the folder %q of the files before these", volume.ErrNotFound, name)
}

func parentOf(p string) string { return p[:max(strings.LastIndexByte(p, '/'), 0)] }

func (l *loader) fold(s string) string {
	var b []byte
	for _, u := range upper(bytes16(s), l.up) {
		b = le.AppendUint16(b, u)
	}
	return string(b)
}

// apart keeps a name out of the way of those that are there.
func (l *loader) apart(n named, taken map[string]bool) named {
	want, ext := n.name, path.Ext(n.name)
	for i := 2; taken[l.fold(n.name)]; i++ {
		n.name = fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(want, ext), i, ext)
	}
	if n.name != want {
		l.out.Renamed[want] = n.name
	}
	taken[l.fold(n.name)] = true
	if n.short != "" {
		if taken[l.fold(n.short)] {
			n.short = ""
		} else {
			taken[l.fold(n.short)] = true
		}
	}
	return n
}

func (l *loader) time(t time.Time) uint64 {
	if t.IsZero() {
		return l.now
	}
	return fromTime(t)
}

// times are a file's four, as they stand in its record and its names.
func (l *loader) times(f *volume.Incoming) (out [4]uint64) {
	m := f.Modified
	for i, t := range []time.Time{f.Created, m, f.Changed, f.Accessed} {
		if t.IsZero() {
			t = m
		}
		out[i] = l.time(t)
	}
	return out
}

// arrive puts a file's contents, records and names.
func (l *loader) arrive(a *arriving) error {
	f := a.main
	attrs := f.Attributes &^ (volume.AttrPacked | volume.AttrSparse | volume.AttrSealed | volume.AttrReparse | 0x10000010)
	reparse := f.Reparse
	if len(reparse) >= 8 && le.Uint32(reparse) == tagSystem {
		reparse = nil // its contents arrive as what they are
	}
	if len(reparse) >= 8 {
		attrs |= volume.AttrReparse
	} else {
		reparse = nil
	}
	if attrs == 0 && f.Kind == volume.Plain {
		attrs = volume.AttrArchive
	}
	if f.Kind == volume.Plain && f.Attributes&volume.AttrSparse != 0 {
		if l.sparse(f) {
			attrs |= volume.AttrSparse
		} else {
			l.notes["they were sparse, and take their whole length here"]++
		}
	}
	if f.Kind == volume.Plain && f.Attributes&volume.AttrPacked != 0 {
		l.notes["they were compressed, and are not here"]++
	}
	extended, packed := l.extended(f, reparse != nil)
	sid := l.security(f.Descriptor)
	times := l.times(f)
	std := make([]byte, 72)
	for i, t := range times {
		le.PutUint64(std[8*i:], t)
	}
	le.PutUint32(std[stdAttributes:], attrs)
	le.PutUint32(std[stdSecurity:], sid)
	pieces := []piece{whole(atStandard, "", std, false)}
	if len(f.ObjectID) >= 16 && !l.objectIDs[string(f.ObjectID[:16])] {
		l.objectIDs[string(f.ObjectID[:16])] = true
		pieces = append(pieces, whole(atObjectID, "", f.ObjectID, false))
		row := le.AppendUint64(nil, l.ref(a.num))
		row = append(row, f.ObjectID[16:min(len(f.ObjectID), 64)]...)
		l.objects = append(l.objects, entry{key: f.ObjectID[:16], data: append(row, make([]byte, 56-len(row))...)})
	}
	if reparse != nil {
		l.reparses = append(l.reparses, entry{
			key: le.AppendUint64(le.AppendUint32(nil, le.Uint32(reparse)), l.ref(a.num)), data: []byte{},
		})
	}
	// How much of a record the names and the rest will take, for what may lie in it.
	room := l.v.boot.record - head(l.v.boot.record) - 8 - len(pieces[0].b) - 24 - len(reparse) - len(f.ObjectID)
	for _, p := range extended {
		room -= len(p.b)
	}
	for _, n := range a.names {
		room -= 96 + 2*len(n.name)
		if n.short != "" {
			room -= 120
		}
	}
	size, alloc := disk.Bytes(0), disk.Bytes(0)
	if f.Kind == volume.Plain {
		p, err := l.contents(f, "", room-64)
		if err != nil {
			return err
		}
		size, alloc = f.Bytes, disk.Bytes(taken(p.runs))*l.v.boot.cluster
		if p.runs == nil {
			alloc = (size + 7) &^ 7
			room -= len(p.b)
		}
		pieces = append(pieces, p)
	}
	for _, s := range a.streams {
		p, err := l.contents(s, s.Stream, min(room-64, 300))
		if err != nil {
			return err
		}
		room -= len(p.b)
		pieces = append(pieces, p)
	}
	if reparse != nil {
		if len(reparse) > mostInline {
			runs, err := l.put(reparse)
			if err != nil {
				return err
			}
			pieces = append(pieces, outside(atReparse, "", runs, l.bytesOf(runs), disk.Bytes(len(reparse))))
		} else {
			pieces = append(pieces, whole(atReparse, "", reparse, false))
		}
	}
	for i := range extended {
		if b := extended[i].b; len(b) <= mostInline {
			continue
		}
		runs, err := l.put(f.Extended)
		if err != nil {
			return err
		}
		extended[i] = outside(atEA, "", runs, l.bytesOf(runs), disk.Bytes(len(f.Extended)))
	}
	pieces = append(pieces, extended...)
	links := uint16(0)
	for _, n := range a.names {
		for _, x := range n.spelt() {
			fn := nameValue(uint64(n.parent.seq)<<48|uint64(n.parent.num), x.text, x.space, times, size, alloc, attrs)
			if f.Kind == volume.Folder {
				le.PutUint32(fn[fnAttributes:], attrs|0x10000000)
			}
			if reparse != nil {
				le.PutUint32(fn[fnReparse:], le.Uint32(reparse))
			} else {
				le.PutUint16(fn[fnReparse:], packed)
			}
			pieces = append(pieces, whole(atFileName, "", fn, true))
			n.parent.entries = append(n.parent.entries, entry{ref: l.ref(a.num), key: fn})
			links++
		}
	}
	if a.folder != nil {
		a.folder.pieces, a.folder.links = pieces, links
		return nil
	}
	return l.file(a.num, 0, links, pieces)
}

// mostInline is the most of a reparse point, or of extended attributes, that a record takes.
const mostInline = 512

// extended makes the two attributes that hold a file's extended attributes: what they are like
// (packed size, how many must be understood, whole size), and they themselves. packed is their size
// without what only aligns them, which a file's names tell too; where a name tells of a reparse point,
// there is no room for it, and NTFS allows no file to have both.
func (l *loader) extended(f *volume.Incoming, reparse bool) (out []piece, packed uint16) {
	b := f.Extended
	if len(b) == 0 {
		return nil, 0
	}
	size, needed, sound := 0, 0, true
	for at := 0; ; {
		if at+8 > len(b) || at+9+int(b[at+5])+int(le.Uint16(b[at+6:])) > len(b) {
			sound = false
			break
		}
		if size += 5 + int(b[at+5]) + int(le.Uint16(b[at+6:])); b[at+4]&0x80 != 0 {
			needed++
		}
		next := int(le.Uint32(b[at:]))
		if next == 0 || at+next == len(b) {
			break
		}
		if next < 8 || next > len(b)-at {
			sound = false
			break
		}
		at += next
	}
	if !sound || reparse || size > 0xffff {
		l.notes["their extended attributes could not be kept: they are damaged, or stand beside a reparse point"]++
		return nil, 0
	}
	info := make([]byte, 8)
	le.PutUint16(info, uint16(size))
	le.PutUint16(info[2:], uint16(needed))
	le.PutUint32(info[4:], uint32(len(b)))
	return []piece{whole(atEAInfo, "", info, false), whole(atEA, "", b, false)}, uint16(size)
}

// nameValue is the value of a $FILE_NAME attribute.
func nameValue(parent uint64, name string, space byte, times [4]uint64, size, alloc disk.Bytes, attrs uint32) []byte {
	n := bytes16(name)
	b := make([]byte, 66+len(n))
	le.PutUint64(b, parent)
	for i, t := range times {
		le.PutUint64(b[8+8*i:], t)
	}
	le.PutUint64(b[fnAllocated:], uint64(alloc))
	le.PutUint64(b[fnSize:], uint64(size))
	le.PutUint32(b[fnAttributes:], attrs)
	b[fnLength], b[fnSpace] = byte(len(n)/2), space
	copy(b[fnText:], n)
	return b
}

// contents makes the attribute of a stream's contents: in the record when they are at
// most room bytes, else in clusters that are filled from the source.
func (l *loader) contents(f *volume.Incoming, name string, room int) (piece, error) {
	inline := func(most disk.Bytes) ([]byte, error) {
		if f.Bytes > most {
			return nil, fmt.Errorf(
				"%w: its contents are kept packed and are longer than %s", volume.ErrUnreadable, most,
			)
		}
		r, err := f.Open()
		if err != nil {
			return nil, err
		}
		b := make([]byte, f.Bytes)
		if n, err := r.ReadAt(b, 0); n < len(b) {
			return nil, fmt.Errorf("%w: it ends at byte %d (%v)", volume.ErrUnreadable, n, err)
		}
		return b, nil
	}
	l.out.Bytes += f.Bytes
	if f.Bytes == 0 {
		return whole(atData, name, nil, false), nil
	}
	if f.Placed != nil {
		var runs []run
		vcn := int64(0)
		for _, x := range f.Placed {
			r := run{vcn: vcn, lcn: int64(x.Off / l.v.boot.cluster), n: l.clusters(x.Len)}
			runs, vcn = append(runs, r), vcn+r.n
		}
		if l.clusters(f.Bytes) != vcn {
			return piece{}, fmt.Errorf(
				"%w: it has %d clusters in place for %d bytes", volume.ErrUnreadable, vcn, f.Bytes,
			)
		}
		return outside(atData, name, runs, l.bytesOf(runs), f.Bytes), nil
	}
	if !l.o.Apart && f.Bytes <= disk.Bytes(max(room, 0)) {
		b, err := inline(f.Bytes)
		return whole(atData, name, b, false), err
	}
	var runs []run
	var err error
	holes, n := l.holes(f), l.clusters(f.Bytes)
	if n -= together(holes); n > 0 {
		if runs, err = l.space.take(n); err != nil {
			return piece{}, err
		}
	}
	p := outside(atData, name, runs, l.bytesOf(runs), f.Bytes)
	if name == "" && l.sparse(f) {
		runs = withHoles(runs, holes)
		p = holed(atData, name, runs, l.bytesOf(runs), f.Bytes, disk.Bytes(n)*l.v.boot.cluster)
	}
	if len(f.Extents) > 0 {
		return p, l.fill(runs, f)
	}
	b, err := inline(inlineMost)
	if err != nil {
		return piece{}, err
	}
	cluster := int64(l.v.boot.cluster)
	for _, r := range runs {
		part := b[:min(int64(len(b)), r.n*cluster)]
		b = b[len(part):]
		// To the cluster's end: what an earlier file left there is not the new one's.
		part = append(slices.Clone(part), make([]byte, -len(part)&int(cluster-1))...)
		l.data = append(l.data, script.Op{
			Kind: script.Write, Off: disk.Bytes(r.lcn) * l.v.boot.cluster, Len: disk.Bytes(len(part)), Data: part,
		})
	}
	return p, nil
}

// fill appends the operations that fill clusters from where the contents lie in the
// source.
func (l *loader) fill(runs []run, f *volume.Incoming) error {
	left, at := f.Bytes, disk.Bytes(0) // at within the file
	i, into := 0, disk.Bytes(0)        // the extent that is read, and how far
	for _, r := range runs {
		if r.lcn < 0 { // whole, and in one extent: see sparse
			n := min(disk.Bytes(r.n)*l.v.boot.cluster, left)
			left, at, into = left-n, at+n, into+n
			continue
		}
		off := disk.Bytes(r.lcn) * l.v.boot.cluster
		for room := disk.Bytes(r.n) * l.v.boot.cluster; room > 0 && left > 0; {
			for i < len(f.Extents) && into == f.Extents[i].Len {
				i, into = i+1, 0
			}
			if i >= len(f.Extents) {
				return fmt.Errorf("%w: its contents end at byte %d of %d", volume.ErrUnreadable, at, f.Bytes)
			}
			e := f.Extents[i]
			n := min(room, left, e.Len-into, fillBytes)
			op := script.Op{Kind: script.Fill, Off: off, Len: n, Source: l.o.Source, SourceOff: e.Off + into}
			if e.Off < 0 {
				op = script.Op{Kind: script.Hole, Off: off, Len: n}
			}
			l.data = append(l.data, op)
			off, room, left, at, into = off+n, room-n, left-n, at+n, into+n
			if last := &l.data[len(l.data)-1]; left == 0 && last.Kind == script.Fill {
				last.Pad = -off & (l.v.boot.cluster - 1)
			}
		}
	}
	return nil
}

// newFolder writes a folder's record, and for one that did not arrive puts it into the
// folder above.
func (l *loader) newFolder(d *folder) error {
	if d.pieces == nil {
		times := [4]uint64{d.modified, d.modified, d.modified, d.modified}
		std := make([]byte, 72)
		for i, t := range times {
			le.PutUint64(std[8*i:], t)
		}
		le.PutUint32(std[stdSecurity:], l.inherited)
		fn := nameValue(uint64(d.parent.seq)<<48|uint64(d.parent.num), d.name, 0, times, 0, 0, 0x10000000)
		d.pieces, d.links = []piece{whole(atStandard, "", std, false), whole(atFileName, "", fn, true)}, 1
		d.parent.entries = append(d.parent.entries, entry{ref: l.ref(d.num), key: fn})
	}
	l.sort(d.entries)
	room := l.v.boot.record - head(l.v.boot.record) - 8 - 180
	for _, p := range d.pieces {
		room -= len(p.b)
	}
	in, err := l.index("$I30", atFileName, byName, d.entries, room)
	if err != nil {
		return err
	}
	return l.file(d.num, isFolder, d.links, append(d.pieces, in...))
}

// sort puts entries into the order of the volume's own upper-case table.
func (l *loader) sort(entries []entry) {
	type keyed struct {
		key []uint16
		e   entry
	}
	k := make([]keyed, len(entries))
	for i, e := range entries {
		k[i] = keyed{upper(e.key[66:66+2*int(e.key[64])], l.up), e}
	}
	slices.SortStableFunc(k, func(a, b keyed) int {
		if c := slices.Compare(a.key, b.key); c != 0 {
			return c
		}
		// Names that differ in their case alone.
		return slices.Compare(upper(a.e.key[fnText:], nil), upper(b.e.key[fnText:], nil))
	})
	for i := range k {
		entries[i] = k[i].e
	}
}

// security is the id of a descriptor in the volume, which is given one if it is new.
func (l *loader) security(d []byte) uint32 {
	if len(d) < 20 {
		return l.inherited
	}
	if id, ok := l.sec.ids[string(d)]; ok {
		return id
	}
	if l.secureFull || len(d) > maxDescriptor {
		l.notes["their security descriptors could not be kept; they have those of their folder"]++
		return l.inherited
	}
	l.sec.last++
	id := l.sec.last
	l.sec.ids[string(d)], l.sec.byID[id] = id, d
	l.newSDS = append(l.newSDS, secured{id, d})
	return id
}

// parseEdited parses a record whose fixups are not in place; its attributes share raw's
// bytes.
func parseEdited(num int64, raw []byte, clusters int64) (*record, error) {
	r := &record{
		num: num, seq: le.Uint16(raw[hdrSequence:]), links: le.Uint16(raw[hdrLinks:]), flags: le.Uint16(raw[hdrFlags:]),
		base: le.Uint64(raw[hdrBase:]), raw: raw,
	}
	for off := int(le.Uint16(raw[hdrFirst:])); off+8 <= len(raw) && le.Uint32(raw[off:]) != atEnd; {
		a, err := parseAttr(raw[off:], clusters)
		if err != nil {
			return nil, err
		}
		a.off = off
		r.attrs = append(r.attrs, a)
		off += a.length
	}
	return r, nil
}

// edited is a record that exists as it stands after the changes so far.
func (l *loader) edited(num int64) (*record, error) {
	for _, changed := range []map[int64][]byte{l.edits, l.records} {
		if raw := changed[num]; raw != nil {
			return parseEdited(num, raw, l.v.boot.clusters)
		}
	}
	return l.v.record(num)
}

// shared changes what all files share: security descriptors, object ids, reparse
// points, and the id of the change journal, whose readers must not trust it any more.
func (l *loader) shared() error {
	if len(l.newSDS) > 0 {
		if err := l.addDescriptors(); err != nil {
			return err
		}
	}
	for _, x := range []struct {
		name, index string
		rows        []entry
	}{{"$ObjId", "$O", l.objects}, {"$Reparse", "$R", l.reparses}} {
		if len(x.rows) == 0 {
			continue
		}
		num, ok := l.v.lookup("$Extend", x.name)
		if !ok {
			return fmt.Errorf("%w: it has no %s", volume.ErrDamaged, x.name)
		}
		if err := l.reindex(num, x.index, x.rows, nil); err != nil {
			return err
		}
	}
	num, ok := l.v.lookup("$Extend", "$UsnJrnl")
	if !ok {
		return nil
	}
	r, err := l.edited(num)
	if err != nil {
		return err
	}
	if a := r.find(atData, "$Max"); a != nil && a.resident && len(a.value) >= 24 {
		le.PutUint64(a.value[stdChanged:], l.now)
		l.edits[num] = r.raw
	}
	return nil
}

// addDescriptors puts new security descriptors behind those of the volume, in both
// copies, and into the two indexes over them.
func (l *loader) addDescriptors() error {
	s, err := l.v.system(recSecure, atData, "$SDS")
	if err != nil {
		return err
	}
	at := (l.sec.end + 15) &^ 15
	var sdh, sii []entry
	writes := map[int64][]byte{}
	end := int64(s.size)
	for _, d := range l.newSDS {
		n := int64(20 + len(d.b))
		if at%(2*sdsBlock)+n > sdsBlock {
			at = (at/(2*sdsBlock) + 1) * 2 * sdsBlock
		}
		hash := uint32(0)
		for i := 0; i+4 <= len(d.b); i += 4 {
			hash = (hash<<3 | hash>>29) + le.Uint32(d.b[i:])
		}
		h := make([]byte, 20, n)
		le.PutUint32(h, hash)
		le.PutUint32(h[sdsID:], d.id)
		le.PutUint64(h[sdsOffset:], uint64(at))
		le.PutUint32(h[sdsLength:], uint32(n))
		sdh = append(sdh, entry{key: h[:8:8], data: append(slices.Clone(h), 'I', 0, 'I', 0)})
		sii = append(sii, entry{key: h[4:8:8], data: slices.Clone(h)})
		b := append(h, d.b...)
		writes[at], writes[at+sdsBlock] = b, b
		end = max(end, at+sdsBlock+n)
		at = (at + n + 15) &^ 15
	}
	r, err := l.edited(recSecure)
	if err != nil {
		return err
	}
	a := r.find(atData, "$SDS")
	if a == nil || a.resident || r.find(atList, "") != nil {
		return fmt.Errorf("%w: $Secure lies in several records", ErrRecord)
	}
	runs := slices.Clone(a.runs)
	if have := runsEnd(runs, 0); l.clusters(disk.Bytes(end)) > have {
		if runs, err = l.extend(runs, l.clusters(disk.Bytes(end))-have); err != nil {
			return err
		}
		// Whatever lay in the new clusters is not part of the stream.
		if err := l.zero(runs, int64(s.size), int64(l.bytesOf(runs))); err != nil {
			return err
		}
	}
	for off, b := range writes {
		if err := l.v.putStream(&l.blocks, &stream{runs: runs}, off, b); err != nil {
			return err
		}
	}
	raw, err := change(r, func(x *attr) bool { return x.typ == atData && x.name == "$SDS" }, []piece{outside(atData, "$SDS", runs, l.bytesOf(runs), disk.Bytes(end))})
	if err != nil {
		return err
	}
	l.edits[recSecure] = raw
	if err := l.reindex(recSecure, "$SDH", sdh, nil); err != nil {
		return err
	}
	return l.reindex(recSecure, "$SII", sii, nil)
}

// extend lengthens runs by n clusters, in place if those behind are free.
func (l *loader) extend(runs []run, n int64) ([]run, error) {
	end := runsEnd(runs, 0)
	if k := len(runs) - 1; k >= 0 && runs[k].lcn >= 0 && l.space.behind(runs[k].lcn+runs[k].n, n) {
		runs[k].n += n
		return runs, nil
	}
	more, err := l.space.take(n)
	if err != nil {
		return nil, err
	}
	for _, r := range more {
		r.vcn += end
		runs = append(runs, r)
	}
	return runs, nil
}

// zero appends the operations that clear a stretch of a stream.
func (l *loader) zero(runs []run, from, to int64) error {
	for from < to {
		at, n, err := l.v.place(runs, from)
		if err != nil {
			return err
		}
		n = min(n, to-from)
		l.blocks = append(l.blocks, script.Op{Kind: script.Hole, Off: disk.Bytes(at), Len: disk.Bytes(n), Keep: true})
		from += n
	}
	return nil
}

// close writes records, enlarges the table of files when that is needed, and changes the
// maps of records and clusters.
func (l *loader) close() error {
	last := l.count - 1
	for n := range l.records {
		last = max(last, n)
	}
	size := int64(l.v.boot.record)
	table := l.v.mft.runs
	if last >= l.count {
		var err error
		if table, err = l.growTable(last + 1); err != nil {
			return err
		}
	}
	nums := slices.Sorted(maps.Keys(l.records))
	st := &stream{runs: table}
	for i := 0; i < len(nums); { // those that follow each other together
		k := i
		for k < len(nums) && nums[k] == nums[i]+int64(k-i) && int64(k-i)*size < int64(fillBytes) {
			fix(l.records[nums[k]])
			k++
		}
		b := make([]byte, 0, int64(k-i)*size)
		for _, n := range nums[i:k] {
			b = append(b, l.records[n]...)
		}
		if err := l.v.putStream(&l.blocks, st, nums[i]*size, b); err != nil {
			return err
		}
		i = k
	}
	l.blocks = joined(l.blocks)
	l.blocks.Barrier("files and folders written, not yet listed")
	if err := l.marks(); err != nil {
		return err
	}
	mirrored, mirror, err := l.v.mirrored()
	if err != nil {
		return err
	}
	for _, n := range slices.Sorted(maps.Keys(l.edits)) {
		fix(l.edits[n])
		if err := l.v.putStream(&l.blocks, l.v.mft, n*size, l.edits[n]); err != nil {
			return err
		}
		if n < mirrored {
			if err := l.v.putStream(&l.blocks, mirror, n*size, l.edits[n]); err != nil {
				return err
			}
		}
	}
	l.blocks.Barrier("files listed")
	return nil
}

// joined puts kept writes that follow each other on the volume together.
func joined(s script.Script) script.Script {
	var out script.Script
	for _, op := range s {
		if n := len(out) - 1; n >= 0 && op.Kind == script.Write && out[n].Kind == script.Write && out[n].Keep == op.Keep && out[n].Off+out[n].Len == op.Off && out[n].Len < fillBytes {
			if cap(out[n].Data) == len(out[n].Data) {
				out[n].Data = append(make([]byte, 0, 2*len(out[n].Data)+len(op.Data)), out[n].Data...)
			}
			out[n].Data = append(out[n].Data, op.Data...)
			out[n].Len += op.Len
			continue
		}
		out = append(out, op)
	}
	return out
}

// growTable makes room for records in the table of files and its map; those that are
// not used yet are written as free ones.
func (l *loader) growTable(count int64) ([]run, error) {
	r, err := l.edited(recMFT)
	if err != nil {
		return nil, err
	}
	data, bits := r.find(atData, ""), r.find(atBitmap, "")
	if r.find(atList, "") != nil || data == nil || bits == nil || data.resident || bits.resident {
		return nil, fmt.Errorf("%w: the table of files lies in many pieces and cannot be enlarged", ErrRecord)
	}
	size, c := int64(l.v.boot.record), int64(l.v.boot.cluster)
	count = max(count, int64(l.v.mft.size)/size)
	per := max(c/size, 1)
	count = (count + 63) / 64 * 64
	count = (count + per - 1) / per * per
	runs := slices.Clone(data.runs)
	if have := runsEnd(runs, 0); (count*size+c-1)/c > have {
		if runs, err = l.extend(runs, (count*size+c-1)/c-have); err != nil {
			return nil, err
		}
	}
	st := &stream{runs: runs}
	for n := l.count; n < count; n++ {
		if l.records[n] == nil {
			b, err := compose(int(size), n, 1, 0, 0, 0, nil)
			if err != nil {
				return nil, err
			}
			fix(b)
			if err := l.v.putStream(&l.blocks, st, n*size, b); err != nil {
				return nil, err
			}
		}
	}
	mapRuns := slices.Clone(bits.runs)
	if need := (count + 63) / 64 * 8; int64(len(l.bits)) < need {
		l.bits = append(l.bits, make([]byte, need-int64(len(l.bits)))...)
	}
	if have := runsEnd(mapRuns, 0); l.clusters(disk.Bytes(len(l.bits))) > have {
		if mapRuns, err = l.extend(mapRuns, l.clusters(disk.Bytes(len(l.bits)))-have); err != nil {
			return nil, err
		}
	}
	raw, err := change(r, func(a *attr) bool { return a.typ == atData && a.name == "" || a.typ == atBitmap }, []piece{
		outside(atData, "", runs, l.bytesOf(runs), disk.Bytes(count*size)),
		outside(atBitmap, "", mapRuns, l.bytesOf(mapRuns), disk.Bytes(len(l.bits))),
	})
	if err != nil {
		return nil, fmt.Errorf("%w: the table of files would be in too many pieces", err)
	}
	l.edits[recMFT] = raw
	l.count = count
	return runs, nil
}

// marks writes the map of records and the map of clusters.
func (l *loader) marks() error {
	old, err := l.v.system(recMFT, atBitmap, "")
	if err != nil {
		return err
	}
	runs := old.runs
	if raw := l.edits[recMFT]; raw != nil {
		r, err := parseEdited(recMFT, raw, l.v.boot.clusters)
		if err != nil {
			return err
		}
		runs = r.find(atBitmap, "").runs
	}
	if old.value != nil {
		return fmt.Errorf("%w: the map of records lies in its own record", ErrRecord)
	}
	was := make([]byte, len(l.bits))
	if n, err := old.ReadAt(was, 0); err != nil && err != io.EOF {
		return err
	} else if err := l.changed(&stream{runs: runs}, 0, was[:n], l.bits, int64(old.size)); err != nil {
		return err
	}
	bm, err := l.v.system(recBitmap, atData, "")
	if err != nil {
		return err
	}
	const part = 64 << 10
	parts := map[int64]bool{}
	for _, x := range append(slices.Clone(l.space.taken), l.space.given...) {
		for p := x.from / 8 / part; p <= (x.to-1)/8/part; p++ {
			parts[p] = true
		}
	}
	for _, p := range slices.Sorted(maps.Keys(parts)) {
		b := make([]byte, min(part, int64(bm.size)-p*part))
		if _, err := bm.ReadAt(b, p*part); err != nil && err != io.EOF {
			return err
		}
		was := bytes.Clone(b)
		for _, x := range l.space.taken {
			put(b, p*part*8, x.from, x.to, true)
		}
		for _, x := range l.space.given {
			put(b, p*part*8, x.from, x.to, false)
		}
		if err := l.changed(bm, p*part, was, b, int64(bm.size)); err != nil {
			return err
		}
	}
	return nil
}

// changed writes what differs of a stretch of a stream, in blocks.
func (l *loader) changed(st *stream, off int64, was, now []byte, size int64) error {
	const grain = 512
	for at := 0; at < len(now); at += grain {
		b := now[at:min(at+grain, len(now))]
		if at+len(b) <= len(was) && off+int64(at+len(b)) <= size && bytes.Equal(b, was[at:at+len(b)]) {
			continue
		}
		if err := l.v.putStream(&l.blocks, st, off+int64(at), b); err != nil {
			return err
		}
	}
	return nil
}
