package ntfs

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Flags of an index entry.
const (
	entryNode = 1 // an index block hangs below it
	entryLast = 2 // closes its block; has no key
)

// entry is one entry of an index, ready to be written.
type entry struct {
	ref  uint64 // or the data's place and length, in a view index
	key  []byte
	data []byte // of a view index
}

// size of the entry without a pointer to a block below.
func (e entry) size() int {
	if e.data != nil {
		return (16 + len(e.key) + len(e.data) + 7) &^ 7
	}
	return (16 + len(e.key) + 7) &^ 7
}

func (e entry) append(b []byte, child int64) []byte {
	n := e.size()
	flags := uint16(0)
	if child >= 0 {
		n, flags = n+8, entryNode
	}
	o := make([]byte, n)
	if e.data != nil {
		le.PutUint16(o, uint16(16+len(e.key)))
		le.PutUint16(o[entDataLength:], uint16(len(e.data)))
		copy(o[16+len(e.key):], e.data)
	} else {
		le.PutUint64(o, e.ref)
	}
	le.PutUint16(o[entLength:], uint16(n))
	le.PutUint16(o[entKeyLength:], uint16(len(e.key)))
	le.PutUint16(o[entFlags:], flags)
	copy(o[entKey:], e.key)
	if child >= 0 {
		le.PutUint64(o[n-8:], uint64(child))
	}
	return append(b, o...)
}

func appendLast(b []byte, child int64) []byte {
	o := make([]byte, 16, 24)
	flags := uint16(entryLast)
	if child >= 0 {
		o = le.AppendUint64(o, uint64(child))
		flags |= entryNode
	}
	le.PutUint16(o[entLength:], uint16(len(o)))
	le.PutUint16(o[entFlags:], flags)
	return append(b, o...)
}

// blockHeader is the length of an index block's header with its fixups.
func blockHeader(block int) int { return (0x28 + 2*(block/512+1) + 7) &^ 7 }

// indexTree builds the blocks of a B+ tree over sorted entries: every block is
// filled, the entry that no longer fits moves up between it and the next. It
// returns the root's entries (with their header) and the blocks. rootRoom is
// how many bytes of entries the root may hold, vcnPer how many VCN a block is.
func indexTree(entries []entry, block, rootRoom int, vcnPer int64) (root []byte, blocks []byte) {
	level := entries
	children := make([]int64, len(entries)+1) // child before each entry, and last
	for i := range children {
		children[i] = -1
	}
	room := block - blockHeader(block)
	for {
		total := 16
		if children[0] >= 0 {
			total += 8
		}
		for _, e := range level {
			total += e.size()
			if children[0] >= 0 {
				total += 8
			}
		}
		if total <= rootRoom {
			break
		}
		var up []entry
		var upChildren []int64
		for i := 0; ; {
			start, used := i, 24
			for i < len(level) && used+level[i].size()+8 <= room {
				used += level[i].size() + 8
				i++
			}
			if i < len(level) && i == len(level)-1 {
				i-- // leave one entry for the last block
			}
			var body []byte
			for j := start; j < i; j++ {
				body = level[j].append(body, children[j])
			}
			body = appendLast(body, children[i])
			vcn := int64(len(blocks)/block) * vcnPer
			blocks = append(blocks, indexBlock(block, vcn, body, children[0] >= 0)...)
			upChildren = append(upChildren, vcn)
			if i >= len(level) {
				break
			}
			up = append(up, level[i])
			i++
		}
		level, children = up, upChildren
	}
	var body []byte
	for j, e := range level {
		body = e.append(body, children[j])
	}
	return appendLast(body, children[len(level)]), blocks
}

func indexBlock(block int, vcn int64, body []byte, node bool) []byte {
	b := make([]byte, block)
	copy(b, "INDX")
	le.PutUint16(b[hdrFixups:], 0x28)
	le.PutUint16(b[hdrFixupCount:], uint16(block/512+1))
	le.PutUint64(b[blkVCN:], uint64(vcn))
	h := blockHeader(block)
	le.PutUint32(b[24:], uint32(h-24))
	le.PutUint32(b[28:], uint32(h-24+len(body)))
	le.PutUint32(b[32:], uint32(block-24))
	if node {
		le.PutUint32(b[36:], 1)
	}
	copy(b[h:], body)
	fix(b)
	return b
}

// blockUnits is in how many units a block of an index is counted: in clusters, or in 512 bytes
// where a cluster is larger than a block.
func blockUnits(block int, cluster disk.Bytes) int64 {
	if cluster > disk.Bytes(block) {
		return int64(block) / 512
	}
	return int64(block) / int64(cluster)
}

// indexRoot is the value of an $INDEX_ROOT attribute.
func indexRoot(typ, collation uint32, block int, perBlock byte, body []byte, large bool) []byte {
	b := make([]byte, 32)
	le.PutUint32(b, typ)
	le.PutUint32(b[rootCollation:], collation)
	le.PutUint32(b[rootBlock:], uint32(block))
	b[rootPerBlock] = perBlock
	le.PutUint32(b[16:], 16)
	le.PutUint32(b[20:], uint32(16+len(body)))
	le.PutUint32(b[24:], uint32(16+len(body)))
	if large {
		le.PutUint32(b[28:], 1)
	}
	return append(b, body...)
}

// indexed is one entry of a folder's index as read.
type indexed struct {
	ref  uint64
	name string
	key  []uint16 // the name in upper case
	// short tells that it is the 8.3 form of a name that is listed too.
	short bool
}

// maxBlocks bounds the blocks of one index that are read.
const maxBlocks = 1 << 20

// folder reads the index of a folder in its own order, block by block along the
// tree, each block at most once.
func (v *Volume) folder(num int64, up []uint16) ([]indexed, error) {
	w, root, err := v.walker(num, up)
	if err != nil {
		return nil, err
	}
	err = w.walk(root, 0)
	return w.out, err
}

// page returns at most limit entries of a folder behind the one named after, ""
// for the first ones. Only the blocks that this takes are read.
func (v *Volume) page(num int64, after string, limit int) ([]indexed, error) {
	up, err := v.upcase()
	if err != nil {
		return nil, err
	}
	w, root, err := v.walker(num, up)
	if err != nil {
		return nil, err
	}
	if w.limit = limit; after != "" {
		w.after = upper(bytes16(after), up)
	}
	if err = w.walk(root, 0); errors.Is(err, errEnough) {
		err = nil
	}
	return w.out, err
}

// errEnough ends a walk that has found all it was asked for.
var errEnough = errors.New("enough")

// lookup follows names from the root to a file or folder.
func (v *Volume) lookup(names ...string) (int64, bool) {
	num, _, ok := v.follow(names)
	return num, ok
}

// follow is lookup, with the path as the folders themselves spell it.
func (v *Volume) follow(names []string) (num int64, path string, ok bool) {
	up, err := v.upcase()
	if err != nil {
		return 0, "", false
	}
	num = recRoot
	for _, n := range names {
		w, root, err := v.walker(num, up)
		if err != nil {
			return 0, "", false
		}
		// The entries from the name on: those of its key come first. Where several names
		// differ in their case alone, the one that is spelt alike is meant.
		w.from, w.limit = upper(bytes16(n), up), 16
		if err := w.walk(root, 0); err != nil && !errors.Is(err, errEnough) {
			return 0, "", false
		}
		same := slices.DeleteFunc(w.out, func(x indexed) bool { return !slices.Equal(x.key, w.from) })
		if len(same) == 0 {
			return 0, "", false
		}
		i := max(slices.IndexFunc(same, func(x indexed) bool { return x.name == n }), 0)
		num, path = int64(same[i].ref&(1<<48-1)), strings.TrimPrefix(path+"/"+same[i].name, "/")
	}
	return num, path, true
}

// HasFolders tells whether the folders lie one in the other below the root.
func (v *Volume) HasFolders(names ...string) bool {
	num, ok := v.lookup(names...)
	if !ok {
		return false
	}
	r, err := v.record(num)
	return err == nil && r.flags&isFolder != 0
}

// List implements volume.Volume: in the folder's own order; the place of the next
// entry is the name of the last one.
func (v *Volume) List(dir, from string, limit int) (files []volume.File, next string, err error) {
	var parts []string
	for part := range strings.SplitSeq(dir, "/") {
		if part != "" {
			parts = append(parts, part)
		}
	}
	num, prefix, ok := v.follow(parts)
	if !ok || !v.HasFolders(parts...) {
		return nil, "", fmt.Errorf("%w: %s", volume.ErrNotFound, dir)
	}
	if prefix != "" {
		prefix += "/"
	}
	for len(files) < limit {
		ask := limit + 1
		page, err := v.page(num, from, ask)
		if err != nil {
			return files, "", err
		}
		for _, x := range page {
			if len(files) >= limit {
				return files, from, nil
			}
			from = x.name
			n := int64(x.ref & (1<<48 - 1))
			if x.short || n < 16 {
				continue
			}
			node, err := v.one(n)
			if err != nil || node.seq != uint16(x.ref>>48) {
				shown, _ := volume.Name(x.name)
				files = append(files, volume.File{
					Path: prefix + shown, Kind: volume.Plain, ID: uint64(n),
					Unreadable: fmt.Sprintf("its record %d is not what the folder says (%v)", n, err),
				})
				continue
			}
			files = append(files, v.named(node, prefix, x.name)...)
		}
		if len(page) < ask {
			return files, "", nil
		}
	}
	return files, from, nil
}

// Stat implements volume.Volume.
func (v *Volume) Stat(path string) (volume.File, error) {
	num, path, ok := v.follow(strings.Split(strings.Trim(path, "/"), "/"))
	if !ok || num < 16 {
		return volume.File{}, fmt.Errorf("%w: %s", volume.ErrNotFound, path)
	}
	n, err := v.one(num)
	if err != nil {
		return volume.File{}, err
	}
	for _, f := range v.describe(n, path) {
		if f.Stream == "" {
			return f, nil
		}
	}
	return volume.File{}, fmt.Errorf("%w: %s", volume.ErrNotFound, path)
}

func (v *Volume) walker(num int64, up []uint16) (*walker, []byte, error) {
	r, err := v.record(num)
	if err != nil {
		return nil, nil, err
	}
	root, err := v.system(num, atIndexRoot, "$I30")
	if err != nil {
		return nil, nil, err
	}
	if len(root.value) < 32 {
		return nil, nil, fmt.Errorf("%w: folder %d has no root of its index", volume.ErrDamaged, num)
	}
	var blocks *stream
	if le.Uint32(root.value[28:])&1 != 0 {
		if blocks, err = v.system(r.num, atIndexAlloc, "$I30"); err != nil {
			return nil, nil, err
		}
	}
	w := &walker{v: v, blocks: blocks, block: int64(v.boot.index), up: up, seen: map[int64]bool{}}
	w.per = int64(v.boot.cluster)
	if w.block < w.per {
		w.per = 512
	}
	return w, root.value[rootHeader:], nil
}

type walker struct {
	v          *Volume
	blocks     *stream
	block, per int64
	up         []uint16
	seen       map[int64]bool
	out        []indexed
	after      []uint16 // only what comes behind this key
	from       []uint16 // only what comes at or behind this key
	limit      int      // 0 for all
}

// skips tells that an entry, and what hangs below it, comes before what is asked
// for.
func (w *walker) skips(key []uint16) bool {
	return w.after != nil && slices.Compare(key, w.after) <= 0 || w.from != nil && slices.Compare(key, w.from) < 0
}

func (w *walker) walk(h []byte, depth int) error {
	bad := func(what string) error { return fmt.Errorf("%w: an index %s", volume.ErrDamaged, what) }
	if len(h) < 16 || depth > 32 {
		return bad("is too deep or too short")
	}
	off, end := int(min(le.Uint32(h), 1<<20)), int(min(le.Uint32(h[4:]), 1<<20))
	if end > len(h) || off > end {
		return bad("block is not valid")
	}
	for off+16 <= end {
		e := h[off:end]
		n, kl, flags := int(le.Uint16(e[entLength:])), int(le.Uint16(e[entKeyLength:])), le.Uint16(e[entFlags:])
		if n < 16 || n > len(e) || n%8 != 0 || 16+kl > n {
			return bad("entry is not valid")
		}
		k := e[16 : 16+kl]
		var key []uint16
		if flags&entryLast == 0 {
			if kl < 66 || kl < 66+2*int(k[64]) {
				return bad("entry has no name")
			}
			if key = upper(k[66:66+2*int(k[64])], w.up); w.skips(key) {
				off += n
				continue
			}
		}
		if flags&entryNode != 0 {
			if n < 24 {
				return bad("entry is not valid")
			}
			if err := w.child(int64(le.Uint64(e[n-8:])), depth); err != nil {
				return err
			}
		}
		if flags&entryLast != 0 {
			return nil
		}
		w.out = append(w.out, indexed{le.Uint64(e), text16(k[fnText : fnText+2*int(k[fnLength])]), key, k[fnSpace] == 2})
		if w.limit > 0 && len(w.out) == w.limit {
			return errEnough
		}
		off += n
	}
	return bad("block has no closing entry")
}

func (w *walker) child(vcn int64, depth int) error {
	if w.blocks == nil || vcn < 0 || vcn > 1<<40 || w.seen[vcn] || len(w.seen) > maxBlocks {
		return fmt.Errorf("%w: an index points to a block that does not exist or was read before", volume.ErrDamaged)
	}
	w.seen[vcn] = true
	b := make([]byte, w.block)
	if _, err := w.blocks.ReadAt(b, vcn*w.per); err != nil {
		return fmt.Errorf("%w: an index points beyond its blocks", volume.ErrDamaged)
	}
	if string(b[:4]) != "INDX" || unfix(b) != nil || int64(le.Uint64(b[blkVCN:])) != vcn {
		return fmt.Errorf("%w: an index block is not valid", volume.ErrDamaged)
	}
	return w.walk(b[blkHeader:], depth+1)
}

// upcase is the table of upper-case letters that is put into new volumes: each
// letter of one 16-bit unit whose upper-case form leads back to it.
func upcase() []uint16 {
	t := make([]uint16, 65536)
	for i := range t {
		t[i] = uint16(i)
		if u := unicode.ToUpper(rune(i)); u != rune(i) && u < 65536 && unicode.ToLower(u) == rune(i) && !utf16.IsSurrogate(rune(i)) {
			t[i] = uint16(u)
		}
	}
	return t
}

func upper(b []byte, up []uint16) []uint16 {
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = le.Uint16(b[2*i:])
		if up != nil {
			u[i] = up[u[i]]
		}
	}
	return u
}
