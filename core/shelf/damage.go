package shelf

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
	"jadetrail/core/volume/recognise"
)

// Damage is what of a backup did not read back as it was written.
type Damage struct {
	Pieces []int `json:"pieces,omitempty"`
	// Lost are the ranges of the image or the tar that cannot be had, start and end.
	Lost []disk.Range `json:"lost,omitempty"`
	// List tells that the list of files is damaged; the tar itself names them too.
	List bool `json:"list,omitempty"`
	// Files are the first names of those whose contents are concerned, More how many
	// there are beyond them. Unnamed tells why names cannot be told.
	Files   []string `json:"files,omitempty"`
	More    int      `json:"more,omitempty"`
	Unnamed string   `json:"unnamed,omitempty"`
	// Tables tells that the file system's own tables are concerned, so that files may be
	// missing that cannot be named.
	Tables bool `json:"tables,omitempty"`

	of int
	id string
}

// maxNamed is the most files that a damage names.
const maxNamed = 200

// Error implements error.
func (d *Damage) Error() string { return fmt.Sprintf("%v: %s: %s", ErrDamaged, d.id, d.What()) }

// What says all that is damaged, and which files that concerns.
func (d *Damage) What() string {
	var parts []string
	if len(d.Pieces) > 0 {
		parts = append(parts, fmt.Sprintf(
			"%d of %d pieces do not read back as they were written, the first at byte %d", len(d.Pieces), d.of,
			d.Lost[0].Start,
		))
	}
	if d.List {
		parts = append(parts, "the list of its files is not what was written")
	}
	if what := d.Concerned(); what != "" {
		parts = append(parts, what)
	}
	return strings.Join(parts, "; ")
}

// Concerned says which files the damage concerns.
func (d *Damage) Concerned() string {
	s := d.named()
	if d.Tables {
		s += "; the file system's own tables are concerned, so that there may be more"
	}
	if d.List && len(d.Pieces) > 0 && d.Unnamed == "" {
		s += "; the list of its files is damaged too, so that there may be more"
	}
	return s
}

func (d *Damage) named() string {
	switch n := len(d.Files) + d.More; {
	case d.Unnamed != "":
		return "which files are concerned cannot be told: " + d.Unnamed
	case n == 0:
		return "no file's contents are concerned"
	case n == 1:
		return "one file is concerned: " + d.Files[0]
	case n <= 3:
		return fmt.Sprintf("%d files are concerned: %s", n, strings.Join(d.Files, ", "))
	default:
		return fmt.Sprintf("%d files are concerned, %s among them", n, strings.Join(d.Files[:3], ", "))
	}
}

// Unwrap makes a damage an ErrDamaged.
func (d *Damage) Unwrap() error { return ErrDamaged }

// hits tells whether a range holds anything that is lost.
func (d *Damage) hits(off, n disk.Bytes) bool {
	return d != nil && n > 0 && slices.ContainsFunc(d.Lost, func(r disk.Range) bool { return off < r.End && r.Start < off+n })
}

func (d *Damage) name(f volume.File) {
	name := f.Path
	if f.Stream != "" {
		name += ":" + f.Stream
	}
	if len(d.Files) < maxNamed {
		d.Files = append(d.Files, name)
	} else {
		d.More++
	}
}

// damage finds out what the pieces that were lost were part of.
func (s *Shelf) damage(m *Manifest, bad []int, list bool) *Damage {
	d := &Damage{Pieces: bad, List: list, id: m.ID, of: len(m.Pieces)}
	for _, i := range bad {
		p := m.Pieces[i]
		if n := len(d.Lost); n > 0 && d.Lost[n-1].End == p.Off {
			d.Lost[n-1].End = p.Off + p.Len
		} else {
			d.Lost = append(d.Lost, disk.Range{Start: p.Off, End: p.Off + p.Len})
		}
	}
	if len(bad) == 0 {
		return d
	}
	with := *m
	with.Damage = d
	v, r, err := s.Inside(&with)
	if err != nil {
		d.Unnamed = err.Error()
		return d
	}
	defer r.Close()
	files, err := v.Files()
	if err != nil {
		d.Unnamed = err.Error()
	}
	archive, _ := v.(*Archive)
	for _, f := range files {
		if archive != nil {
			e, _ := archive.Entry(f)
			if e.SameAs != "" {
				e, _ = archive.first(e)
			}
			if e.Unreadable == inDamage {
				d.name(f)
			}
		} else if f.Unreadable == inDamage {
			d.name(f)
		}
	}
	if list && len(d.Files) == 0 { // the tar names them too, as far as that is not what was lost
		d.Unnamed = "the list of its files is damaged too"
	}
	d.Tables = archive == nil && d.inTables(m, files)
	return d
}

// inTables tells whether anything was lost that is allocated and not files' contents.
func (d *Damage) inTables(m *Manifest, files []volume.File) bool {
	lost := func(off, n disk.Bytes) (sum disk.Bytes) {
		for _, r := range d.Lost {
			sum += max(min(off+n, r.End)-max(off, r.Start), 0)
		}
		return sum
	}
	var used, contents disk.Bytes
	for _, r := range m.Allocated {
		used += lost(r.Start, r.End-r.Start)
	}
	seen := map[uint64]bool{}
	for _, f := range files {
		if f.Stream != "" || !seen[f.ID] {
			for _, x := range f.Extents {
				contents += lost(x.Off, x.Len)
			}
		}
		seen[f.ID] = true
	}
	return !m.LeftOut || contents < used
}

// patchy is an image with damaged pieces, which read as zeros, so that what is whole in
// its file system can be found.
type patchy struct{ *medium }

func (p patchy) ReadAt(b []byte, off int64) (int, error) {
	n, err := p.medium.ReadAt(b, off)
	if err == nil || off < 0 || off > int64(p.m.Bytes)-int64(len(b)) {
		return n, err
	}
	at, end := disk.Bytes(off), disk.Bytes(off)+disk.Bytes(len(b))
	for _, r := range p.m.Damage.Lost {
		for at < min(r.Start, end) {
			k, err := p.medium.ReadAt(b[at-disk.Bytes(off):min(r.Start, end)-disk.Bytes(off)], int64(at))
			if err != nil {
				return int(at-disk.Bytes(off)) + k, err
			}
			at += disk.Bytes(k)
		}
		if r.End > at && at < end {
			to := min(r.End, end)
			clear(b[at-disk.Bytes(off) : to-disk.Bytes(off)])
			at = to
		}
	}
	if at < end {
		k, err := p.medium.ReadAt(b[at-disk.Bytes(off):], int64(at))
		return int(at-disk.Bytes(off)) + k, err
	}
	return len(b), nil
}

// mended is the volume in an image with damaged pieces: what lies in them is unreadable.
type mended struct {
	volume.Volume
	d *Damage
}

const inDamage = "its place in the backup is damaged"

func (v mended) mark(f *volume.File) {
	if f.Unreadable == "" && slices.ContainsFunc(f.Extents, func(x volume.Extent) bool { return v.d.hits(x.Off, x.Len) }) {
		f.Unreadable = inDamage
	}
}

// Files implements volume.Volume.
func (v mended) Files() ([]volume.File, error) { return volume.Collect(v.Walk) }

// Walk implements volume.Volume.
func (v mended) Walk(visit func(volume.File) error) error {
	files, err := v.Volume.Files()
	if err != nil {
		return err
	}
	for _, f := range files {
		v.mark(&f)
		if err := visit(f); err != nil {
			return err
		}
	}
	return nil
}

// Open implements volume.Volume.
func (v mended) Open(f volume.File) (io.ReaderAt, error) {
	if v.mark(&f); f.Unreadable == inDamage {
		return nil, fmt.Errorf("%s: %w: %s", f.Path, volume.ErrUnreadable, f.Unreadable)
	}
	return v.Volume.Open(f)
}

// Detail implements volume.Detailer.
func (v mended) Detail(f volume.File) (volume.Detail, error) {
	if d, ok := v.Volume.(volume.Detailer); ok {
		return d.Detail(f)
	}
	return volume.Detail{}, nil
}

// inImage opens the volume that an image holds.
func inImage(m *Manifest, r *Reader) (volume.Volume, error) {
	whole := &medium{Reader: r, sector: m.From.Sector}
	var dev disk.Device = whole
	if m.Damage != nil {
		dev = patchy{whole}
	}
	found, err := recognise.Open(dev)
	if err == nil && found.Volume == nil {
		err = fmt.Errorf("%w: what it holds cannot be looked into", volume.ErrNotThis)
	}
	if err != nil {
		return nil, err
	}
	if m.Damage != nil {
		return mended{found.Volume, m.Damage}, nil
	}
	return found.Volume, nil
}

// State says how a backup stands, in a word or two.
func (m *Manifest) State() string {
	switch {
	case m.Damage != nil:
		return "damaged"
	case m.Verified == nil:
		return "not verified"
	}
	return "verified"
}
