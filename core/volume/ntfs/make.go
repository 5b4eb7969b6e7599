package ntfs

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Options of a new volume.
type Options struct {
	Label   string
	Cluster disk.Bytes // 0 for the usual size
	Serial  uint64
	Hidden  uint32 // sectors before the partition on its drive
	Time    time.Time
	Files   []volume.Source
}

// ErrFull is returned when the files do not fit into the volume.
var ErrFull = errors.New("the volume is too small for its files")

// Least is how large a place must be for an empty volume of Make, in bytes: 8 MiB of clusters, of up to
// 64 KiB each, and the copy of the boot sector.
const Least = 8*disk.MiB + 64*disk.KiB

// logOf is how long the log of a volume of a size is made.
func logOf(size disk.Bytes) disk.Bytes { return min(max(size/512, 2*disk.MiB), 4*disk.MiB) }

// Own is about how much a volume of Make's holds of its own, in bytes, when it is empty: its log, and what does
// not grow with it.
func Own(size disk.Bytes) disk.Bytes { return logOf(size) + 480*disk.KiB }

// Make makes a volume that fills dev and puts the files into it. dev must read
// as zeros.
func Make(dev disk.Device, opt Options) error {
	m := &maker{dev: dev, opt: opt, sector: dev.SectorBytes(), cluster: opt.Cluster, index: 4096, record: 1024}
	if m.cluster == 0 {
		m.cluster = 4096
	}
	if m.sector > 1024 {
		m.record = int(m.sector)
	}
	m.sectors = int64(dev.Size()/m.sector) - 1
	m.clusters = m.sectors / int64(m.cluster/m.sector)
	if m.cluster < m.sector || m.cluster > 2*disk.MiB || disk.Bytes(m.clusters)*m.cluster < 8*disk.MiB {
		return fmt.Errorf("%w: %s with clusters of %s", ErrFull, dev.Size(), m.cluster)
	}
	m.used = volume.NewSet((m.clusters + 63) &^ 63)
	return m.make()
}

type maker struct {
	dev           disk.Device
	opt           Options
	sector        disk.Bytes
	cluster       disk.Bytes
	record, index int
	sectors       int64
	clusters      int64
	used          volume.Set
	next          int64 // where the search for free clusters goes on
	stamp         uint64
	mft           []byte
	mftRuns       []run
	root          *folder
	byRecord      map[int64]*folder
	up            []uint16
}

// folder is a folder while the volume is made.
type folder struct {
	num, seq int64
	name     string
	parent   *folder
	subs     map[string]*folder
	entries  []entry
	modified uint64

	// Of a folder that is loaded: its attributes without the index, and its names.
	pieces []piece
	links  uint16
}

func (m *maker) clustersFor(n disk.Bytes) int64 { return int64((n + m.cluster - 1) / m.cluster) }

// take allocates n clusters from the next free ones on.
func (m *maker) take(n int64) ([]run, error) {
	var runs []run
	vcn := int64(0)
	for c, wrapped := m.next, false; n > 0; {
		if c >= m.clusters {
			if wrapped {
				return nil, ErrFull
			}
			c, wrapped = 0, true
			continue
		}
		if m.used.Word(c/64) == ^uint64(0) && c%64 == 0 {
			c += 64
			continue
		}
		if m.used.Has(c) {
			c++
			continue
		}
		end := c + 1
		for end < m.clusters && end-c < n {
			if end%64 == 0 && m.used.Word(end/64) == 0 {
				end = min(end+64, c+n, m.clusters)
				continue
			}
			if m.used.Has(end) {
				break
			}
			end++
		}
		m.used.Add(c, end)
		runs = append(runs, run{vcn: vcn, lcn: c, n: end - c})
		vcn, n = vcn+end-c, n-(end-c)
		c, m.next = end, end
	}
	return runs, nil
}

// takeAt allocates n clusters at lcn.
func (m *maker) takeAt(lcn, n int64) []run {
	m.used.Add(lcn, lcn+n)
	return []run{{lcn: lcn, n: n}}
}

// store writes data into the runs.
func (m *maker) store(runs []run, data []byte) error {
	for _, r := range runs {
		if len(data) == 0 {
			return nil
		}
		n := min(int64(len(data)), r.n*int64(m.cluster))
		if _, err := m.dev.WriteAt(data[:n], r.lcn*int64(m.cluster)); err != nil {
			return err
		}
		data = data[n:]
	}
	return nil
}

// make writes the whole volume: what is not known before everything else is there comes last.
func (m *maker) make() error {
	m.up = upcase()
	m.stamp = fromTime(m.opt.Time)
	m.root = &folder{num: recRoot, seq: recRoot, subs: map[string]*folder{}, modified: m.stamp}
	m.byRecord = map[int64]*folder{}
	files, folders, err := m.plan()
	if err != nil {
		return err
	}
	own, err := m.reserve(len(files) + len(folders))
	if err != nil {
		return err
	}
	// The extend folder's own files.
	ext := &folder{
		num: recExtend, seq: recExtend, name: "$Extend", parent: m.root, subs: map[string]*folder{},
		modified: m.stamp,
	}
	if err := m.views(ext); err != nil {
		return err
	}
	for _, f := range files {
		if err := m.file(f); err != nil {
			return err
		}
	}
	// Folders are written from the deepest up, each after everything in it; the root comes last of all.
	slices.SortFunc(folders, func(a, b *folder) int { return strings.Count(b.path(), "/") - strings.Count(a.path(), "/") })
	for _, d := range append(folders, ext) {
		if err := m.folder(d, isFolder); err != nil {
			return err
		}
	}
	if err := m.systemFiles(own); err != nil {
		return err
	}
	if err := m.folder(m.root, isFolder); err != nil {
		return err
	}
	for num := int64(12); num < 16; num++ { // kept for later
		b := m.builder(num, num, inUse)
		b.standard(m.stamp, 0x06, 0x100)
		b.resident(atData, "", nil, false)
		if err := b.close(); err != nil {
			return err
		}
	}
	return m.finish(own)
}

// area is where something of the volume's own lies, and how long it is.
type area struct {
	runs []run
	size disk.Bytes
}

// allocated is how much room it has.
func (m *maker) allocated(p area) disk.Bytes { return disk.Bytes(runsEnd(p.runs, 0)) * m.cluster }

// bookkeeping is where the volume keeps what it knows of itself.
type bookkeeping struct {
	records           int64 // in the table of files
	boot, mirror      area
	tableBits, bitmap area
	log               area
}

// reserve gives the volume's own bookkeeping its places, with records for so many files and folders, and writes
// the log, in which nothing was ever kept.
func (m *maker) reserve(files int) (*bookkeeping, error) {
	// Records come in whole clusters and whole bytes of their own bitmap.
	own := &bookkeeping{records: (int64(recFirst+files) + 63) &^ 63}
	clusters := m.clustersFor(disk.Bytes(own.records * int64(m.record)))
	own.records = clusters * int64(m.cluster) / int64(m.record)

	own.boot = area{m.takeAt(0, m.clustersFor(8192)), 8192}
	own.mirror.size = max(4*disk.Bytes(m.record), m.cluster)
	own.mirror.runs = m.takeAt(m.clusters/2, m.clustersFor(own.mirror.size))
	m.next = own.boot.runs[0].n
	var err error
	take := func(size disk.Bytes) area {
		p := area{size: size}
		if err == nil {
			p.runs, err = m.take(m.clustersFor(size))
		}
		return p
	}
	own.tableBits = take(disk.Bytes((own.records + 63) / 64 * 8))
	if err == nil {
		m.mftRuns, err = m.take(clusters)
	}
	if err == nil && len(m.mftRuns) != 1 {
		err = fmt.Errorf("%w: its table of files would be in pieces", ErrFull)
	}
	m.mft = make([]byte, own.records*int64(m.record))
	own.bitmap = take(disk.Bytes((m.clusters + 63) / 64 * 8))
	own.log = take(logOf(disk.Bytes(m.clusters) * m.cluster).Up(m.cluster).Up(4096))
	if err != nil {
		return nil, err
	}
	return own, m.store(own.log.runs, bytes.Repeat([]byte{0xff}, int(own.log.size)))
}

// stored takes room for data and writes it there.
func (m *maker) stored(data []byte) (area, error) {
	runs, err := m.take(m.clustersFor(disk.Bytes(len(data))))
	if err == nil {
		err = m.store(runs, data)
	}
	return area{runs, disk.Bytes(len(data))}, err
}

// systemFile is one of the volume's own files: its record, its name, what its name tells of it, and its attributes.
type systemFile struct {
	num  int64
	name string
	told area
	fill func(b *builder) error
}

// systemFiles writes the volume's own files but for the folders among them.
func (m *maker) systemFiles(own *bookkeeping) error {
	defs, err := m.stored(attrDefs())
	if err != nil {
		return err
	}
	table := make([]byte, 0, 128<<10)
	for _, u := range m.up {
		table = le.AppendUint16(table, u)
	}
	up, err := m.stored(table)
	if err != nil {
		return err
	}
	descriptors, sdh, sii := securityStreams()
	sds, err := m.stored(descriptors)
	if err != nil {
		return err
	}
	plain := func(num int64, name string, p area) systemFile {
		return systemFile{num, name, p, func(b *builder) error { b.stream(atData, "", p.runs, m.allocated(p), p.size); return nil }}
	}
	for _, s := range []systemFile{
		{recMFT, "$MFT", area{m.mftRuns, disk.Bytes(len(m.mft))}, func(b *builder) error {
			size := disk.Bytes(len(m.mft))
			b.stream(atData, "", m.mftRuns, size, size)
			b.stream(atBitmap, "", own.tableBits.runs, m.allocated(own.tableBits), own.tableBits.size)
			return nil
		}},
		plain(recMirror, "$MFTMirr", own.mirror),
		plain(recLogFile, "$LogFile", own.log),
		{recVolume, "$Volume", area{}, func(b *builder) error {
			b.resident(atVolumeName, "", bytes16(m.opt.Label), false)
			b.resident(atVolumeInfo, "", []byte{0, 0, 0, 0, 0, 0, 0, 0, 3, 1, 0, 0}, false)
			b.resident(atData, "", nil, false)
			return nil
		}},
		plain(recAttrDef, "$AttrDef", defs),
		plain(recBitmap, "$Bitmap", own.bitmap),
		plain(recBoot, "$Boot", own.boot),
		{recBadClus, "$BadClus", area{}, func(b *builder) error {
			all := disk.Bytes(m.clusters) * m.cluster
			b.resident(atData, "", nil, false)
			b.stream(atData, "$Bad", []run{{lcn: -1, n: m.clusters}}, all, all)
			return nil
		}},
		{recSecure, "$Secure", area{}, func(b *builder) error {
			b.stream(atData, "$SDS", sds.runs, m.allocated(sds), sds.size)
			b.view("$SDH", 0x12, sdh)
			b.view("$SII", 0x10, sii)
			return nil
		}},
		plain(recUpCase, "$UpCase", up),
	} {
		if err := m.systemFile(s); err != nil {
			return err
		}
	}
	return nil
}

// systemFile writes one of them, and puts its name into the root.
func (m *maker) systemFile(s systemFile) error {
	b := m.builder(s.num, s.num, inUse)
	if s.num == recMFT {
		b.raw[hdrSequence] = 1
	}
	if s.num == recSecure {
		le.PutUint16(b.raw[hdrFlags:], inUse|0x0008)
	}
	name := m.fileName(m.root, s.name, m.stamp, s.told.size, m.allocated(s.told), 0x06)
	b.standard(m.stamp, 0x06, 0x100)
	b.resident(atFileName, "", name, true)
	if err := s.fill(b); err != nil {
		return err
	}
	m.root.entries = append(m.root.entries, entry{ref: uint64(max(s.num, 1))<<48 | uint64(s.num), key: name})
	return b.close()
}

// finish writes what depends on everything else: the table of files, both
// bitmaps, the copy of the first records and the two boot sectors.
func (m *maker) finish(own *bookkeeping) error {
	bits := make([]byte, own.tableBits.size)
	for i := range own.records {
		rec := m.mft[i*int64(m.record) : (i+1)*int64(m.record)]
		if rec[0] == 0 { // never used: an empty record
			b := m.builder(i, 1, 0)
			if err := b.close(); err != nil {
				return err
			}
		}
		if le.Uint16(rec[hdrFlags:])&inUse != 0 {
			bits[i/8] |= 1 << (i % 8)
		}
	}
	if err := m.store(own.tableBits.runs, bits); err != nil {
		return err
	}
	if err := m.store(m.mftRuns, m.mft); err != nil {
		return err
	}
	if err := m.store(own.mirror.runs, m.mft[:min(int(own.mirror.size), len(m.mft))]); err != nil {
		return err
	}
	if err := m.storeBitmap(own.bitmap); err != nil {
		return err
	}
	b := m.bootSector()
	if _, err := m.dev.WriteAt(b, m.sectors*int64(m.sector)); err != nil {
		return err
	}
	if _, err := m.dev.WriteAt(b, 0); err != nil {
		return err
	}
	return m.dev.Sync()
}

// storeBitmap writes the bitmap of clusters.
func (m *maker) storeBitmap(bitmap area) error {
	// Written in pieces, zeros left as the holes they are.
	m.used.Add(m.clusters, m.used.Words()*64)
	piece := make([]byte, 0, 64<<10)
	at := int64(0)
	flush := func() error {
		defer func() { at, piece = at+int64(len(piece)), piece[:0] }()
		if !slices.ContainsFunc(piece, func(b byte) bool { return b != 0 }) {
			return nil
		}
		rest := piece
		for off := at; len(rest) > 0; {
			v := &Volume{boot: &boot{cluster: m.cluster}}
			p, n, err := v.place(bitmap.runs, off)
			if err != nil {
				return err
			}
			n = min(n, int64(len(rest)))
			if _, err := m.dev.WriteAt(rest[:n], p); err != nil {
				return err
			}
			rest, off = rest[n:], off+n
		}
		return nil
	}
	for i := range m.used.Words() {
		w := m.used.Word(i)
		if piece = le.AppendUint64(piece, w); len(piece) == cap(piece) {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

func (m *maker) bootSector() []byte {
	return bootFields{
		sector: m.sector, cluster: m.cluster, hidden: m.opt.Hidden, sectors: m.sectors, mft: m.mftRuns[0].lcn,
		mirror: m.clusters / 2, record: m.record, index: m.index, serial: m.opt.Serial,
	}.bytes()
}

// bootFields is what a boot sector says.
type bootFields struct {
	sector, cluster disk.Bytes
	hidden          uint32
	sectors         int64
	mft, mirror     int64
	record, index   int
	serial          uint64
}

// bytes is a boot sector that starts nothing.
func (f bootFields) bytes() []byte {
	b := make([]byte, f.sector)
	copy(b, []byte{0xeb, 0x52, 0x90})
	copy(b[bootOEM:], oemID)
	le.PutUint16(b[bootSectorBytes:], uint16(f.sector))
	b[bootPerCluster] = clusterCode(f.cluster / f.sector)
	b[21] = 0xf8
	le.PutUint16(b[bootTrack:], 63)
	le.PutUint16(b[bootHeads:], 255)
	le.PutUint32(b[bootHidden:], f.hidden)
	copy(b[36:], []byte{0x80, 0, 0x80, 0})
	le.PutUint64(b[bootSectors:], uint64(f.sectors))
	le.PutUint64(b[bootTable:], uint64(f.mft))
	le.PutUint64(b[bootMirror:], uint64(f.mirror))
	b[bootRecord] = sizeCode(disk.Bytes(f.record), f.cluster)
	b[bootIndex] = sizeCode(disk.Bytes(f.index), f.cluster)
	le.PutUint64(b[bootSerial:], f.serial)
	copy(b[84:], []byte{0xf4, 0xeb, 0xfd}) // nothing to start: halt
	b[510], b[511] = 0x55, 0xaa
	return b
}

func clusterCode(spc disk.Bytes) byte {
	if spc <= 128 {
		return byte(spc)
	}
	return byte(256 - log2(spc))
}

// sizeCode is a count of clusters, or a negative power of two for what is
// smaller than a cluster.
func sizeCode(n, cluster disk.Bytes) byte {
	if n >= cluster {
		return byte(n / cluster)
	}
	return byte(256 - log2(n))
}

func log2(n disk.Bytes) (k int) {
	for n > 1 {
		n, k = n/2, k+1
	}
	return k
}

// planned is a file whose record number is settled.
type planned struct {
	volume.Source
	num int64
	dir *folder
}

// plan settles folders and record numbers.
func (m *maker) plan() ([]planned, []*folder, error) {
	var files []planned
	var folders []*folder
	num := int64(recFirst)
	taken := map[string]bool{} // paths of files
	dir := func(p string) *folder {
		d := m.root
		if p == "." {
			return d
		}
		for part := range strings.SplitSeq(p, "/") {
			sub := d.subs[strings.ToLower(part)]
			if sub == nil {
				sub = &folder{num: num, seq: 1, name: part, parent: d, subs: map[string]*folder{}, modified: m.stamp}
				num++
				d.subs[strings.ToLower(part)] = sub
				folders = append(folders, sub)
			}
			d = sub
		}
		return d
	}
	for _, s := range m.opt.Files {
		p := path.Clean(strings.Trim(s.Path, "/"))
		if p == "." || strings.HasPrefix(p, "..") || len(utf16.Encode([]rune(path.Base(p)))) > 255 {
			return nil, nil, fmt.Errorf("%q is not a file's path", s.Path)
		}
		if s.Folder {
			dir(p)
			continue
		}
		if taken[strings.ToLower(p)] {
			return nil, nil, fmt.Errorf("%q comes twice", s.Path)
		}
		taken[strings.ToLower(p)] = true
		d := dir(path.Dir(p))
		s.Path = path.Base(p)
		files = append(files, planned{s, num, d})
		num++
	}
	for _, d := range folders {
		if taken[strings.TrimPrefix(strings.ToLower(d.path()), "/")] {
			return nil, nil, fmt.Errorf("%q is a file and a folder", d.path())
		}
	}
	return files, folders, nil
}

func (d *folder) path() string {
	if d.parent == nil {
		return ""
	}
	return d.parent.path() + "/" + d.name
}

func (d *folder) ref() uint64 { return uint64(d.seq)<<48 | uint64(d.num) }

// file writes a file's contents and record and puts it into its folder.
func (m *maker) file(f planned) error {
	stamp := m.stamp
	if !f.Modified.IsZero() {
		stamp = fromTime(f.Modified)
	}
	size := disk.Bytes(len(f.Data))
	room := m.record - 320 - 2*len(f.Path)
	alloc := (size + 7) &^ 7
	var runs []run
	if len(f.Data) > room || f.Reserve > 0 {
		var err error
		if runs, err = m.take(m.clustersFor(size + f.Reserve)); err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
		if err := m.store(runs, f.Data); err != nil {
			return err
		}
		alloc = disk.Bytes(runsEnd(runs, 0)) * m.cluster
	}
	fn := m.fileName(f.dir, f.Path, stamp, size, alloc, 0x20)
	b := m.builder(f.num, 1, inUse)
	b.standard(stamp, 0x20, 0x101)
	b.resident(atFileName, "", fn, true)
	if runs != nil {
		b.stream(atData, "", runs, alloc, size)
	} else {
		b.resident(atData, "", f.Data, false)
	}
	if err := b.close(); err != nil {
		return fmt.Errorf("%s: %w", f.Path, err)
	}
	f.dir.entries = append(f.dir.entries, entry{ref: 1<<48 | uint64(f.num), key: fn})
	return nil
}

// folder writes a folder's index and record, and puts it into the folder above.
func (m *maker) folder(d *folder, flags uint16) error {
	attrs, sid := uint32(0x10000000), uint32(0x101)
	up := d.parent
	name := d.name
	if d.num < recFirst {
		attrs, sid = attrs|0x06, 0x100
	}
	if up == nil {
		up, name = d, "."
	}
	fn := m.fileName(up, name, d.modified, 0, 0, attrs)
	if d == m.root { // the root lists itself
		d.entries = append(d.entries, entry{ref: d.ref(), key: fn})
	}
	if up != d {
		up.entries = append(up.entries, entry{ref: d.ref(), key: fn})
	}
	m.sort(d.entries)
	per := blockUnits(m.index, m.cluster)
	b := m.builder(d.num, d.seq, inUse|flags)
	b.standard(d.modified, attrs&^0x10000000, sid)
	b.resident(atFileName, "", fn, true)
	root, blocks := indexTree(d.entries, m.index, m.record-b.off-280, per)
	b.resident(atIndexRoot, "$I30", indexRoot(atFileName, 1, m.index, byte(per), root, len(blocks) > 0), false)
	if len(blocks) > 0 {
		runs, err := m.take(m.clustersFor(disk.Bytes(len(blocks))))
		if err != nil {
			return err
		}
		if err := m.store(runs, blocks); err != nil {
			return err
		}
		b.stream(atIndexAlloc, "$I30", runs, disk.Bytes(runsEnd(runs, 0))*m.cluster, disk.Bytes(len(blocks)))
		n := len(blocks) / m.index
		bits := make([]byte, (n+63)/64*8)
		for i := range n {
			bits[i/8] |= 1 << (i % 8)
		}
		if len(bits) <= 64 {
			b.resident(atBitmap, "$I30", bits, false)
		} else {
			runs, err := m.take(m.clustersFor(disk.Bytes(len(bits))))
			if err != nil {
				return err
			}
			if err := m.store(runs, bits); err != nil {
				return err
			}
			b.stream(atBitmap, "$I30", runs, disk.Bytes(runsEnd(runs, 0))*m.cluster, disk.Bytes(len(bits)))
		}
	}
	return b.close()
}

// sort puts entries into the order of the volume's own upper-case table.
func (m *maker) sort(entries []entry) {
	keys := make(map[*byte][]uint16, len(entries))
	key := func(e entry) []uint16 {
		k := keys[&e.key[0]]
		if k == nil {
			k = upper(e.key[66:66+2*int(e.key[64])], m.up)
			keys[&e.key[0]] = k
		}
		return k
	}
	slices.SortFunc(entries, func(a, b entry) int { return slices.Compare(key(a), key(b)) })
}

// fileName is the value of a $FILE_NAME attribute.
func (m *maker) fileName(parent *folder, name string, stamp uint64, size, alloc disk.Bytes, attrs uint32) []byte {
	n := bytes16(name)
	b := make([]byte, 66+len(n))
	le.PutUint64(b, parent.ref())
	for i := range 4 {
		le.PutUint64(b[8+8*i:], stamp)
	}
	le.PutUint64(b[fnAllocated:], uint64(alloc))
	le.PutUint64(b[fnSize:], uint64(size))
	le.PutUint32(b[fnAttributes:], attrs)
	b[fnLength] = byte(len(n) / 2)
	if short(name) {
		b[fnSpace] = 3
	}
	copy(b[fnText:], n)
	return b
}

// short tells whether a name needs no other short (8.3) name beside it.
func short(name string) bool {
	base, ext, _ := strings.Cut(name, ".")
	if len(base) == 0 || len(base) > 8 || len(ext) > 3 {
		return false
	}
	for _, c := range base + ext {
		if !strings.ContainsRune("ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-$~", c) {
			return false
		}
	}
	return true
}
