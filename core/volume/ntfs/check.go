package ntfs

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/volume"
)

// Check implements volume.Volume: the boot sector and its copy, the mirror of
// the table of files, every run list against $Bitmap, and every folder's index
// against the files' own names.
func (v *Volume) Check() finding.List {
	var l finding.List
	if err := v.Clean(); err != nil {
		sev := finding.Warning
		if errors.Is(err, volume.ErrDamaged) {
			sev = finding.Error
		}
		l.Add(sev, "not-clean", "%s.", err)
	}
	end := disk.Bytes(v.boot.sectors) * v.boot.sector
	if b, err := disk.ReadFull(v.dev, end, 512); err != nil {
		l.Add(finding.Error, "boot-copy-missing", "The copy of the boot sector would lie beyond the partition's end.")
	} else if !bytes.Equal(b, v.boot.raw[:512]) {
		l.Add(
			finding.Error, "boot-copy-differs",
			"The copy of the boot sector at the volume's end differs from the boot sector.",
		)
	}
	v.checkMirror(&l)
	t, err := v.scan()
	if err != nil {
		l.Add(finding.Error, "files-unreadable", "The table of files cannot be read: %v.", err)
		return l
	}
	for i, e := range t.trouble {
		if i == 20 {
			l.Add(finding.Error, "record-damaged", "And %d more damaged records.", len(t.trouble)-i)
			break
		}
		l.Add(finding.Error, "record-damaged", "%s.", e)
	}
	v.checkBitmap(&l, t)
	v.checkFolders(&l, t)
	v.checkUnits(&l)
	return l
}

// checkUnits looks at the unit in which the file system's own indexes count their blocks: a
// driver may refuse the volume for it.
func (v *Volume) checkUnits(l *finding.List) {
	for _, x := range []struct {
		num  int64
		name string
	}{{recRoot, "$I30"}, {recSecure, "$SDH"}, {recSecure, "$SII"}} {
		root, err := v.system(x.num, atIndexRoot, x.name)
		if err != nil || len(root.value) < 16 {
			continue // what is missing is said elsewhere
		}
		if block := le.Uint32(root.value[8:]); block >= 512 && block <= 1<<20 && int64(root.value[12]) != blockUnits(int(block), v.boot.cluster) {
			l.Add(
				finding.Warning, "index-units",
				"The index %s of record %d counts its blocks in another unit than the volume's.", x.name, x.num,
			)
		}
	}
}

// mirrored is how many records $MFTMirr repeats.
func (v *Volume) mirrored() (int64, *stream, error) {
	m, err := v.system(recMirror, atData, "")
	if err != nil {
		return 0, nil, err
	}
	return min(int64(m.size), int64(v.mft.size)) / int64(v.boot.record), m, nil
}

func (v *Volume) checkMirror(l *finding.List) {
	n, m, err := v.mirrored()
	if err != nil {
		l.Add(finding.Error, "mirror-unreadable", "The copy of the first records cannot be read: %v.", err)
		return
	}
	if n > 4096 {
		l.Add(finding.Error, "mirror-absurd", "The copy of the first records claims %d records.", n)
		return
	}
	a, b := make([]byte, n*int64(v.boot.record)), make([]byte, n*int64(v.boot.record))
	_, e1 := v.mft.ReadAt(a, 0)
	_, e2 := m.ReadAt(b, 0)
	if e1 != nil || e2 != nil || !bytes.Equal(a, b) {
		l.Add(finding.Error, "mirror-differs", "The copy of the first records ($MFTMirr) differs from them.")
	}
}

// marked returns the clusters that run lists use, and how many are used twice.
func (v *Volume) marked(t *tree) (volume.Set, int) {
	used := volume.NewSet(v.boot.clusters)
	twice := 0
	mark := func(runs []run) {
		for _, r := range runs {
			if r.lcn >= 0 && used.Add(r.lcn, r.lcn+r.n) {
				twice++
			}
		}
	}
	for _, num := range t.numbers() {
		n := t.nodes[num]
		for _, c := range n.streams {
			for _, a := range c.pieces {
				mark(a.runs)
			}
		}
		for _, a := range n.other {
			mark(a.runs)
		}
	}
	return used, twice
}

func (v *Volume) checkBitmap(l *finding.List, t *tree) {
	used, twice := v.marked(t)
	if twice > 0 {
		l.Add(finding.Error, "clusters-shared", "%d run lists use clusters that another one uses too.", twice)
	}
	marked := volume.NewSet(v.boot.clusters)
	if err := v.eachUsed(func(from, to int64) error { marked.Add(from, to); return nil }); err != nil {
		l.Add(finding.Error, "bitmap-unreadable", "The bitmap of clusters cannot be read: %v.", err)
		return
	}
	used.Compare(marked, l)
}

// Agrees implements volume.Volume: whether every cluster that a run list uses is marked in
// $Bitmap, and every record could be read: only then may free clusters be left
// out of a copy.
func (v *Volume) Agrees() bool {
	t, err := v.scan()
	if err != nil || len(t.trouble) > 0 {
		return false
	}
	var l finding.List
	v.checkBitmap(&l, t)
	return l.FirstError() == nil
}

// Upcase returns the volume's own table of upper-case letters.
func (v *Volume) upcase() ([]uint16, error) {
	if v.up != nil {
		return v.up, nil
	}
	s, err := v.system(recUpCase, atData, "")
	if err != nil {
		return nil, err
	}
	b, err := s.all(128 << 10)
	if err != nil {
		return nil, err
	}
	if len(b) != 128<<10 {
		return nil, fmt.Errorf("%w: $UpCase has %d bytes", volume.ErrDamaged, len(b))
	}
	v.up = upper(b, nil)
	return v.up, nil
}

// checkNames looks for names that no file may have.
func checkNames(l *finding.List, t *tree) {
	found := 0
	for _, num := range t.numbers() {
		if num < 16 {
			continue
		}
		for _, x := range t.nodes[num].names {
			shown, misnamed := volume.Name(x.text)
			if misnamed == "" {
				continue
			}
			if found++; found <= 20 {
				l.Add(finding.Error, "name-damaged", "Record %d, %s: %s.", num, shown, misnamed)
			}
		}
	}
}

func (v *Volume) checkFolders(l *finding.List, t *tree) {
	up, err := v.upcase()
	if err != nil {
		l.Add(finding.Error, "upcase-damaged", "%s.", err)
		return
	}
	type link struct {
		ref  uint64
		name string
	}
	want := map[int64]map[link]bool{}
	for num, n := range t.nodes {
		for _, x := range n.names {
			p := int64(x.parent & (1<<48 - 1))
			if want[p] == nil {
				want[p] = map[link]bool{}
			}
			want[p][link{uint64(n.seq)<<48 | uint64(num), x.text}] = true
		}
	}
	checkNames(l, t)
	reported := 0
	report := func(code, format string, args ...any) {
		if reported++; reported <= 20 {
			l.Add(finding.Error, code, format, args...)
		}
	}
	for _, num := range t.numbers() {
		if t.nodes[num].flags&isFolder == 0 {
			continue
		}
		got, err := v.folder(num, up)
		if err != nil {
			report("folder-damaged", "Folder %d: %s.", num, err)
			continue
		}
		for i, e := range got {
			if !want[num][link{e.ref, e.name}] {
				report("folder-entry-wrong", "Folder %d lists %q, but no file says that it is there.", num, e.name)
			}
			delete(want[num], link{e.ref, e.name})
			if i > 0 && got[i-1].name == e.name {
				report("folder-entry-twice", "Folder %d lists %q twice.", num, e.name)
			}
			if i > 0 && slices.Compare(got[i-1].key, e.key) > 0 {
				report(
					"folder-order", "Folder %d lists %q before %q, which is not its order.", num, got[i-1].name,
					e.name,
				)
			}
		}
		for _, x := range slices.SortedFunc(maps.Keys(want[num]), func(a, b link) int { return cmp.Or(strings.Compare(a.name, b.name), cmp.Compare(a.ref, b.ref)) }) {
			report("folder-entry-missing", "Folder %d does not list %q.", num, x.name)
		}
	}
}
