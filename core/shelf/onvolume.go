package shelf

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// VolumeFolder is the folder at the root of a volume that backups lie in.
const VolumeFolder = "Backups"

// OnVolume is a place in an NTFS volume on a drive in a bay. Contents are written past the
// page cache into clusters that are free, read back, and only then listed in the volume,
// all files of a backup in one act through a journal: a backup that is cut short has
// never been there.
type OnVolume struct {
	Title     string `json:"title"`     // tells it from all others
	Image     string `json:"image"`     // of the drive
	Partition string `json:"partition"` // its unique id
	// Since is since when the drive has been in its bay, without a break; zero for always.
	Since time.Time `json:"since,omitzero"`
	// Now gives the time for what is listed.
	Now func() time.Time `json:"-"`

	mu    sync.Mutex
	stamp time.Time         // when the drive was last written, as far as known holds
	known map[string][]byte // manifests
}

// A drive that is in use is tried again so often, with so long between.
const (
	tries = 1500
	pause = 20 * time.Millisecond
)

func (p *OnVolume) title() string { return p.Title }
func (p *OnVolume) image() string { return p.Image }

// onDrive is the volume opened on its drive.
type onDrive struct {
	im    *disk.Image
	start disk.Bytes // of the partition
	v     volume.Keeper
}

// attach opens the volume, with others kept from writing to the drive, and to write with
// others kept out altogether. What an earlier act left unfinished is taken back first.
func (p *OnVolume) attach(write bool) (*onDrive, error) {
	if _, err := os.Stat(p.journal()); err == nil && !write {
		d, err := p.attach(true)
		if err != nil {
			return nil, err
		}
		d.im.Close()
	}
	var im *disk.Image
	var err error
	for try := 1; ; try++ {
		if im, err = disk.OpenImage(p.Image, 0, write); err == nil && !write {
			if err = im.Share(); err != nil {
				im.Close()
			}
		}
		if err == nil {
			break
		}
		if !errors.Is(err, disk.ErrInUse) || try == tries {
			return nil, fmt.Errorf("the drive of the shelf %s cannot be used: %w", p.Title, err)
		}
		time.Sleep(pause)
	}
	if write {
		if err := p.settle(im); err != nil {
			im.Close()
			return nil, err
		}
	}
	d, err := p.find(im)
	if err != nil {
		im.Close()
		return nil, err
	}
	return &onDrive{im, d.start, d.v}, nil
}

// on tells whether the place lies on a drive with the given layout.
func (p *OnVolume) on(l *layout.Layout) bool {
	return slices.ContainsFunc(l.Partitions(), func(x layout.Span) bool { return strings.EqualFold(x.UniqueID, p.Partition) })
}

// find finds the volume on a device.
func (p *OnVolume) find(dev disk.Device) (*onDrive, error) {
	sv, err := survey.Read(dev, nil)
	if err != nil {
		return nil, err
	}
	for _, x := range sv.Layout.Partitions() {
		if !strings.EqualFold(x.UniqueID, p.Partition) {
			continue
		}
		v, ok := sv.Volume(x.Number).(volume.Keeper)
		if !ok {
			return nil, fmt.Errorf("%w: the volume of %s is not one that backups can be kept in", ErrNoPlace, p.Title)
		}
		return &onDrive{start: x.Start.Offset(sv.Layout.Sector), v: v}, nil
	}
	return nil, fmt.Errorf("%w: the partition of %s is not on its drive", ErrNoPlace, p.Title)
}

func (p *OnVolume) journal() string { return p.Image + ".shelf-journal" }

// settle takes back what an act left unfinished.
func (p *OnVolume) settle(im *disk.Image) error {
	c, f, err := carry.OpenIn(p.journal(), shelfJournal, nil)
	if errors.Is(err, fs.ErrNotExist) { // a journal that never became whole has another name
		return nil
	}
	if err == nil {
		defer f.Close()
		err = takenBack(c, im)
	}
	if err != nil {
		return fmt.Errorf(
			"what was left unfinished on the shelf %s cannot be taken back: %w. Nothing more was written", p.Title,
			err,
		)
	}
	return p.forgetJournal()
}

// takenBack takes an act back on the drive that it left.
func takenBack(c *carry.Carry, im *disk.Image) error {
	if c.Done() {
		return nil
	}
	seen, err := c.Prove(context.Background(), im, nil)
	if err == nil {
		err = seen.Err()
	}
	if err != nil {
		return err
	}
	return c.Back(im, nil)
}

// shelfJournal is what the journal of an act on a shelf says that it belongs to.
const shelfJournal = "shelf"

func (p *OnVolume) forgetJournal() error {
	if err := os.Remove(p.journal()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return disk.SyncDir(filepath.Dir(p.Image))
}

// act changes the volume, whole or not at all: each step is worked out on a copy that has
// those before it. What a step writes may lie where an earlier one took something out, so
// that all of it is kept for taking back but what the first one puts into free clusters.
func (p *OnVolume) act(d *onDrive, sources map[string]io.ReaderAt, steps ...func(v volume.Keeper) (script.Script, error)) error {
	p.mu.Lock()
	p.known = nil
	p.mu.Unlock()
	over, err := disk.NewOverlay(d.im, filepath.Dir(p.Image))
	if err != nil {
		return err
	}
	defer over.Close()
	var all script.Script
	for i, step := range steps {
		at, err := p.find(over)
		if err != nil {
			return err
		}
		s, err := step(at.v)
		if err != nil {
			return err
		}
		s = s.Shift(d.start)
		if err := s.Apply(over, sources); err != nil {
			return err
		}
		for k := range s {
			s[k].Keep = s[k].Keep || i > 0 && s[k].Kind != script.Barrier
		}
		all = append(all, s...)
	}
	c, f, err := carry.BeginIn(context.Background(), p.journal(), d.im, all, shelfJournal, nil, nil)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := c.Forward(context.Background(), d.im, sources, nil); err != nil {
		return errors.Join(err, p.settle(d.im))
	}
	return p.forgetJournal()
}

func (p *OnVolume) free() (disk.Bytes, error) {
	d, err := p.attach(false)
	if err != nil {
		return 0, err
	}
	defer d.im.Close()
	i, err := d.v.Info()
	if err != nil {
		return 0, err
	}
	host, err := hostRoom(p.Image)
	return min(i.Free(), host), err // the drive's image may have holes
}

// listed reads all manifests, where the drive was written since they were last read.
func (p *OnVolume) listed() (map[string][]byte, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	st, err := os.Stat(p.Image)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(p.journal()); err != nil && p.known != nil && p.stamp.Equal(st.ModTime()) {
		return p.known, nil
	}
	d, err := p.attach(false)
	if err != nil {
		return nil, err
	}
	defer d.im.Close()
	if st, err = os.Stat(p.Image); err != nil {
		return nil, err
	}
	all, err := manifests(d.v)
	if err != nil {
		return nil, err
	}
	p.stamp, p.known = st.ModTime(), all
	return all, nil
}

// manifests are the folders of a volume that may be backups, with their manifests where
// there are any.
func manifests(v volume.Volume) (map[string][]byte, error) {
	all := map[string][]byte{}
	for from := ""; ; {
		list, next, err := v.List(VolumeFolder, from, 1000)
		if errors.Is(err, volume.ErrNotFound) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		for _, f := range list {
			id := path.Base(f.Path)
			if f.Kind != volume.Folder || !idForm.MatchString(id) {
				continue
			}
			all[id] = nil
			if b, err := readAll(v, path.Join(VolumeFolder, id, manifestFile)); err == nil {
				all[id] = b
			}
		}
		if from = next; from == "" {
			return all, nil
		}
	}
}

// Holds tells whether a volume has backups of ours in it; a folder of that name alone is
// none.
func Holds(v volume.Volume) bool {
	all, err := manifests(v)
	if err != nil {
		return false
	}
	for id, b := range all {
		if m, err := parse(id, b, nil); err == nil && m.ID == id {
			return true
		}
	}
	return false
}

// readAll reads a small file of a volume.
func readAll(v volume.Volume, name string) ([]byte, error) {
	f, err := v.Stat(name)
	if err != nil {
		return nil, err
	}
	if f.Bytes > maxList {
		return nil, fmt.Errorf("%w: %s is absurdly long", ErrDamaged, name)
	}
	r, err := v.Open(f)
	if err != nil {
		return nil, err
	}
	b := make([]byte, f.Bytes)
	if n, err := r.ReadAt(b, 0); n < len(b) {
		return nil, err
	}
	return b, nil
}

func (p *OnVolume) each(f func(id string, manifest []byte, err error)) error {
	all, err := p.listed()
	for id, b := range all {
		if b == nil {
			f(id, nil, fs.ErrNotExist)
		} else {
			f(id, b, nil)
		}
	}
	return err
}

func (p *OnVolume) manifest(id string) ([]byte, error) {
	all, err := p.listed()
	if err != nil { // a drive that is not there is no backup that is not there
		return nil, fmt.Errorf("%s cannot be looked into: %v", p.Title, err)
	}
	if all[id] == nil {
		return nil, fs.ErrNotExist
	}
	return all[id], nil
}

// in is where a file of a backup lies in the volume.
func in(id, name string) string { return path.Join(VolumeFolder, id, name) }

// open finds out where a file lies on the drive: it is then read from there, and the drive
// is not held.
func (p *OnVolume) open(id, name string) (*spread, error) {
	d, err := p.attach(false)
	if err != nil {
		return nil, err
	}
	defer d.im.Close()
	f, err := d.v.Stat(in(id, name))
	if errors.Is(err, volume.ErrNotFound) {
		return nil, fs.ErrNotExist
	}
	if err != nil {
		return nil, err
	}
	s := &spread{size: int64(f.Bytes), parts: []part{}}
	at := int64(0)
	for _, x := range d.places(f) {
		s.parts = append(s.parts, part{at, int64(d.start + x.Off), int64(x.Len)})
		at += int64(x.Len)
	}
	if at < int64(f.Bytes) || at == 0 {
		return nil, fmt.Errorf("%w: %s of %s does not lie in clusters of its own", ErrDamaged, name, id)
	}
	s.f, err = os.Open(p.Image)
	return s, err
}

// places is where a file's contents lie in the volume.
func (d *onDrive) places(f volume.File) []volume.Extent {
	if all, err := d.v.Files(); err == nil {
		for _, x := range all {
			if x.ID == f.ID && x.Stream == "" {
				return x.Extents
			}
		}
	}
	return nil
}

// tryLock keeps others from making or taking away backups in this place; ErrBusy tells that one of them is at it.
func (p *OnVolume) tryLock() (release func(), err error) {
	f, err := os.OpenFile(p.Image+".shelf-lock", os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return nil, err
	}
	if err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err == nil {
		return func() { f.Close() }, nil
	}
	f.Close()
	if errors.Is(err, unix.EWOULDBLOCK) {
		err = ErrBusy
	}
	return nil, err
}

// lock is tryLock that waits until nobody else is at it.
func (p *OnVolume) lock(ctx context.Context) (release func(), err error) {
	for {
		if release, err = p.tryLock(); !errors.Is(err, ErrBusy) {
			return release, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// InUse tells whether a backup in a volume of a drive's image is being made or taken away.
func InUse(image string) bool {
	free, err := (&OnVolume{Image: image}).tryLock()
	if err == nil {
		free()
	}
	return err != nil
}

func (p *OnVolume) claim(id string) (release func(), err error) {
	all, err := p.listed()
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w: %w", ErrNoBackup, id, ErrUnsure, err)
	}
	if _, there := all[id]; !there {
		return nil, fmt.Errorf("%w: %s", ErrNoBackup, id)
	}
	if release, err = p.tryLock(); err != nil {
		err = fmt.Errorf("%w: %s", err, id)
	}
	return release, err
}

// files is a script that lists files in a folder of the volume.
func (p *OnVolume) files(into string, in []volume.Incoming) func(v volume.Keeper) (script.Script, error) {
	return func(v volume.Keeper) (script.Script, error) {
		l, err := v.Load(into, in, volume.LoadOptions{Source: "files", Now: p.Now(), Apart: true})
		return l.Script, err
	}
}

// inline is a small file on its way into the volume, its contents at off in the source.
func inline(name string, b []byte, off int, now time.Time) volume.Incoming {
	n := disk.Bytes(len(b))
	return volume.Incoming{File: volume.File{Path: name, Kind: volume.Plain, Bytes: n, Modified: now, Extents: []volume.Extent{{Off: disk.Bytes(off), Len: n}}},
		Open: func() (io.ReaderAt, error) { return bytes.NewReader(b), nil }}
}

func (p *OnVolume) save(id string, manifest []byte) error {
	release, err := p.lock(context.Background())
	if err != nil {
		return err
	}
	defer release()
	return p.replace(path.Join(VolumeFolder, id), manifestFile, manifest, true)
}

func (p *OnVolume) size(id string) (n disk.Bytes, err error) {
	d, err := p.attach(false)
	if err != nil {
		return 0, err
	}
	defer d.im.Close()
	list, _, err := d.v.List(path.Join(VolumeFolder, id), "", 100)
	for _, f := range list {
		n += f.Bytes
	}
	return n, err
}

func (p *OnVolume) remove(id string) error {
	d, err := p.attach(true)
	if err != nil {
		return err
	}
	defer d.im.Close()
	all, err := d.v.Files()
	if err != nil {
		return err
	}
	var room []volume.Extent
	for _, f := range all {
		if strings.HasPrefix(f.Path, path.Join(VolumeFolder, id)+"/") {
			room = append(room, f.Extents...)
		}
	}
	if err := p.act(d, nil, func(v volume.Keeper) (script.Script, error) {
		return v.Remove([]string{path.Join(VolumeFolder, id)}, p.Now())
	}); err != nil {
		return err
	}
	return d.giveBack(room)
}

// erase is remove: the clusters of what is removed are given back as holes, which read as zeros.
func (p *OnVolume) erase(id string) error { return p.remove(id) }

// giveBack makes holes of free clusters, so that they take no room on the host.
func (d *onDrive) giveBack(room []volume.Extent) error {
	for _, x := range room {
		if x.Off < 0 {
			continue
		}
		if err := d.im.Zero(d.start+x.Off, x.Len); err != nil {
			return err
		}
	}
	return nil
}

func (p *OnVolume) begin(ctx context.Context, id string) (draft, error) {
	release, err := p.lock(ctx)
	if err != nil {
		return nil, err
	}
	d, err := p.attach(false)
	if err != nil {
		release()
		return nil, err
	}
	print, err := d.v.Fingerprint()
	if err == nil {
		if _, e := d.v.Stat(path.Join(VolumeFolder, id)); e == nil {
			err = fmt.Errorf("the backup cannot be begun: %s is there already", id)
		}
	}
	if err != nil {
		d.im.Close()
		release()
		return nil, err
	}
	return &inVolume{p: p, id: id, d: d, print: print, release: release}, nil
}

// inVolume is a draft in a volume. While it is written, the drive is kept from changing.
type inVolume struct {
	p       *OnVolume
	id      string
	d       *onDrive
	print   string
	release func()
	name    string
	w       *spread
	room    []volume.Extent
	small   []volume.Incoming
	source  []byte
}

func (d *inVolume) contents(name string, room int64) (w, back *spread, err error) {
	d.name = name
	info, err := d.d.v.Info()
	if err != nil {
		return nil, nil, err
	}
	if d.room, err = d.d.v.Room(disk.Bytes(max(room, 1)) + disk.Bytes(block)); err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrRoom, err)
	}
	flags := 0
	if info.ClusterBytes%block == 0 && d.d.start%block == 0 {
		flags = unix.O_DIRECT
	}
	w, back = &spread{direct: flags != 0}, &spread{direct: flags != 0}
	at := int64(0)
	for _, x := range d.room {
		w.parts = append(w.parts, part{at, int64(d.d.start + x.Off), int64(x.Len)})
		at += int64(x.Len)
	}
	back.parts, d.w = w.parts, w
	if w.f, err = os.OpenFile(d.p.Image, os.O_WRONLY|flags, 0); err != nil {
		return nil, nil, err
	}
	if back.f, err = os.OpenFile(d.p.Image, os.O_RDONLY|flags, 0); err != nil {
		w.f.Close()
		return nil, nil, err
	}
	for _, x := range w.parts { // the host's room too
		if err := unix.Fallocate(int(w.f.Fd()), unix.FALLOC_FL_KEEP_SIZE, x.off, x.n); err != nil && !errors.Is(err, unix.EOPNOTSUPP) {
			w.f.Close()
			back.f.Close()
			return nil, nil, err
		}
	}
	return w, back, nil
}

func (d *inVolume) put(name string, b []byte) error {
	d.small = append(d.small, inline(name, b, len(d.source), d.p.Now()))
	d.source = append(d.source, b...)
	return nil
}

// commit lists all files of the backup in the volume, and reads the small ones back.
func (d *inVolume) commit(manifest []byte) error {
	big := volume.Incoming{File: volume.File{
		Path: d.name, Kind: volume.Plain, Bytes: disk.Bytes(d.w.size), Modified: d.p.Now(),
	}}
	info, err := d.d.v.Info()
	if err != nil {
		return err
	}
	left := big.Bytes.Up(info.ClusterBytes)
	var rest []volume.Extent
	for _, x := range d.room {
		n := min(left, x.Len)
		if n > 0 {
			big.Placed = append(big.Placed, volume.Extent{Off: x.Off, Len: n})
		}
		if n < x.Len {
			rest = append(rest, volume.Extent{Off: x.Off + n, Len: x.Len - n})
		}
		left -= n
	}
	if err := d.put(manifestFile, manifest); err != nil {
		return err
	}
	all := append([]volume.Incoming{big}, d.small...)
	slices.SortFunc(all, func(a, b volume.Incoming) int { return cmp.Compare(a.Path, b.Path) })
	d.d.im.Close()
	if d.d, err = d.p.attach(true); err != nil {
		return err
	}
	if now, err := d.d.v.Fingerprint(); err != nil || now != d.print {
		return fmt.Errorf(
			"the volume of the shelf %s was changed by something else meanwhile (%v); the backup was given up",
			d.p.Title, err,
		)
	}
	if err := d.d.giveBack(rest); err != nil {
		return err
	}
	err = d.p.act(
		d.d, map[string]io.ReaderAt{"files": bytes.NewReader(d.source)},
		d.p.files(path.Join(VolumeFolder, d.id), all),
	)
	if err != nil {
		return err
	}
	d.room = nil
	d.d.im.Close()
	for _, f := range d.small {
		if err := d.p.same(d.id, f); err != nil {
			return errors.Join(err, d.p.remove(d.id))
		}
	}
	d.release()
	return nil
}

// same reads a small file back past the page cache.
func (p *OnVolume) same(id string, f volume.Incoming) error {
	s, err := p.open(id, f.Path)
	if err != nil {
		return err
	}
	defer s.Close()
	r, err := f.Open()
	if err != nil {
		return err
	}
	b := make([]byte, f.Bytes)
	if _, err := r.ReadAt(b, 0); err != nil && err != io.EOF {
		return err
	}
	return compareBack(s, b)
}

// discard leaves the volume as it was: nothing of the backup was listed.
func (d *inVolume) discard() {
	if d.d != nil {
		if d.room != nil {
			d.d.im.Close()
			if w, err := d.p.attach(true); err == nil {
				if now, err := w.v.Fingerprint(); err == nil && now == d.print {
					w.giveBack(d.room)
				}
				w.im.Close()
			}
		} else {
			d.d.im.Close()
		}
	}
	d.release()
}
