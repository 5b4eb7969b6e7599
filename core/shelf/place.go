package shelf

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"jadetrail/core/disk"
)

// place is where backups lie: a folder of the bench, or one in a volume on a drive.
type place interface {
	// title tells the place from all others; image is the drive that it lies on, "" for
	// the bench itself.
	title() string
	image() string
	free() (disk.Bytes, error)
	// each calls f for every folder that may be a backup, with its manifest or why that
	// cannot be read.
	each(f func(id string, manifest []byte, err error)) error
	// manifest reads one; fs.ErrNotExist when it is not there.
	manifest(id string) ([]byte, error)
	open(id, name string) (*spread, error)
	begin(ctx context.Context, id string) (draft, error)
	// save puts a manifest in the place of the one that is there.
	save(id string, manifest []byte) error
	// claim takes a backup for one's own until it is released; ErrBusy while it is being
	// made.
	claim(id string) (release func(), err error)
	// remove takes a backup that was claimed away; size tells what it takes.
	remove(id string) error
	// erase is remove with all of it overwritten.
	erase(id string) error
	size(id string) (disk.Bytes, error)
}

// draft is a backup that is being made. It is no backup before commit.
type draft interface {
	// contents opens the file of the contents, for which room bytes are kept free, for
	// writing, and for reading past the page cache.
	contents(name string, room int64) (w, back *spread, err error)
	// put adds a small file, and compares it.
	put(name string, b []byte) error
	commit(manifest []byte) error
	discard()
}

// spread is a file of the bench, or stretches of one behind each other as if they were a
// file.
type spread struct {
	f      *os.File
	direct bool // past the page cache
	parts  []part
	size   int64
}

// part is n bytes of the contents from at on, which lie at off in the file.
type part struct{ at, off, n int64 }

// each calls f for the stretches of the file that hold n bytes at off.
func (s *spread) each(off, n int64, f func(from, at, n int64) error) error {
	if s.parts == nil {
		return f(0, off, n)
	}
	for _, p := range s.parts {
		lo, hi := max(off, p.at), min(off+n, p.at+p.n)
		if lo < hi {
			if err := f(lo-off, p.off+lo-p.at, hi-lo); err != nil {
				return err
			}
		}
	}
	if last := s.parts[len(s.parts)-1]; off+n > last.at+last.n {
		return io.EOF
	}
	return nil
}

// ReadAt implements io.ReaderAt.
func (s *spread) ReadAt(b []byte, off int64) (n int, err error) {
	err = s.each(off, int64(len(b)), func(from, at, k int64) error {
		got, err := s.f.ReadAt(b[from:from+k], at)
		n = int(from) + got
		return err
	})
	return n, err
}

// WriteAt implements io.WriterAt.
func (s *spread) WriteAt(b []byte, off int64) (n int, err error) {
	err = s.each(off, int64(len(b)), func(from, at, k int64) error {
		got, err := s.f.WriteAt(b[from:from+k], at)
		n = int(from) + got
		return err
	})
	if err == io.EOF {
		err = unix.ENOSPC
	}
	return n, err
}

// forget drops a stretch from the page cache, so that it is next read from the medium.
func (s *spread) forget(from, to int64) error {
	return s.each(from, to-from, func(_, at, n int64) error {
		return unix.Fadvise(int(s.f.Fd()), at, n, unix.FADV_DONTNEED)
	})
}

// trim ends the contents at n bytes and gives back the room behind.
func (s *spread) trim(n int64) error {
	s.size = n
	if s.parts == nil {
		return s.f.Truncate(n)
	}
	return nil
}

func (s *spread) sync() error { return s.f.Sync() }

// touched is when a file of the bench was written to last, 0 for one on a drive.
func (s *spread) touched() (int64, error) {
	if s.parts != nil {
		return 0, nil
	}
	st, err := s.f.Stat()
	if err != nil {
		return 0, err
	}
	return st.ModTime().UnixNano(), nil
}

// Size is the length of the contents.
func (s *spread) Size() int64 { return s.size }

// Close releases the file.
func (s *spread) Close() error { return s.f.Close() }

// openSpread opens a file of the bench for reading, past the page cache where that is
// asked for and its file system can do it.
func openSpread(path string, past bool) (*spread, error) {
	s := &spread{}
	var err error
	if past {
		s.f, err = os.OpenFile(path, os.O_RDONLY|unix.O_DIRECT, 0)
		s.direct = err == nil
	}
	if s.f == nil || err != nil {
		if s.f, err = os.Open(path); err != nil {
			return nil, err
		}
	}
	st, err := s.f.Stat()
	if err != nil {
		s.f.Close()
		return nil, err
	}
	s.size = st.Size()
	return s, nil
}

// folder is a place in a folder of the bench.
type folder struct {
	dir  string
	room func() (disk.Bytes, error)
}

func (p *folder) title() string { return "the bench's own folder" }
func (p *folder) image() string { return "" }

func (p *folder) free() (disk.Bytes, error) {
	if p.room != nil {
		return p.room()
	}
	for dir := p.dir; ; dir = filepath.Dir(dir) { // it is made by the first backup
		n, err := hostRoom(dir)
		if !errors.Is(err, fs.ErrNotExist) || dir == filepath.Dir(dir) {
			return n, err
		}
	}
}

func hostRoom(path string) (disk.Bytes, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(path, &st); err != nil {
		return 0, err
	}
	return disk.Bytes(st.Bavail) * disk.Bytes(st.Bsize), nil
}

func (p *folder) path(id string, name ...string) string {
	return filepath.Join(append([]string{p.dir, id}, name...)...)
}

func (p *folder) each(f func(id string, manifest []byte, err error)) error {
	dirs, err := os.ReadDir(p.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // nothing was ever put there
	}
	if err != nil {
		return err
	}
	for _, d := range dirs {
		if d.IsDir() && idForm.MatchString(d.Name()) {
			b, err := p.manifest(d.Name())
			f(d.Name(), b, err)
		}
	}
	return nil
}

// maxManifest bounds a manifest, with the hashes of all pieces of the largest backup.
const maxManifest = 256 * disk.MiB

func (p *folder) manifest(id string) ([]byte, error) {
	return disk.ReadSmall(p.path(id, manifestFile), maxManifest)
}

func (p *folder) open(id, name string) (*spread, error) { return openSpread(p.path(id, name), false) }

func (p *folder) claim(id string) (release func(), err error) {
	f, err := os.Open(p.path(id))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s", ErrNoBackup, id)
	}
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("%w: %s", ErrBusy, id)
	}
	return func() { f.Close() }, nil
}

func (p *folder) save(id string, manifest []byte) error {
	return disk.WriteDurably(p.path(id, manifestFile), manifest)
}

// remove takes the manifest first, so that a cut leaves nothing that looks whole.
func (p *folder) remove(id string) error {
	if err := os.Remove(p.path(id, manifestFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := disk.SyncDir(p.path(id)); err != nil {
		return err
	}
	if err := os.RemoveAll(p.path(id)); err != nil {
		return err
	}
	return disk.SyncDir(p.dir)
}

func (p *folder) erase(id string) error {
	if err := disk.Shred(p.path(id, manifestFile)); err != nil { // it is no backup from here on
		return err
	}
	return disk.Shred(p.path(id))
}

func (p *folder) size(id string) (n disk.Bytes, err error) {
	files, err := os.ReadDir(p.path(id))
	for _, f := range files {
		if i, err := f.Info(); err == nil {
			n += disk.Bytes(i.Size())
		}
	}
	return n, err
}

func (p *folder) begin(_ context.Context, id string) (draft, error) {
	if err := os.MkdirAll(p.dir, 0o755); err != nil {
		return nil, fmt.Errorf("the shelf cannot be used: %w", err)
	}
	if err := os.Mkdir(p.path(id), 0o755); err != nil {
		return nil, fmt.Errorf("the backup cannot be begun: %w", err)
	}
	release, err := p.claim(id)
	if err != nil {
		return nil, err
	}
	return &inFolder{p, id, release}, nil
}

// inFolder is a draft in a folder.
type inFolder struct {
	p       *folder
	id      string
	release func()
}

func (d *inFolder) contents(name string, room int64) (w, back *spread, err error) {
	path := d.p.path(d.id, name)
	const flags = os.O_WRONLY | os.O_CREATE | os.O_EXCL
	w = &spread{}
	if w.f, err = os.OpenFile(path, flags|unix.O_DIRECT, 0o644); err == nil {
		w.direct = true
	} else {
		os.Remove(path) // a file system without direct writes may have made it
		if w.f, err = os.OpenFile(path, flags, 0o644); err != nil {
			return nil, nil, err
		}
	}
	if err := unix.Fallocate(int(w.f.Fd()), 0, 0, max(room, 1)); err != nil && !errors.Is(err, unix.EOPNOTSUPP) {
		w.f.Close()
		return nil, nil, err
	}
	if back, err = openSpread(path, true); err != nil {
		w.f.Close()
	}
	return w, back, err
}

func (d *inFolder) put(name string, b []byte) error {
	path := d.p.path(d.id, name)
	if err := disk.WriteDurably(path, b); err != nil {
		return err
	}
	back, err := openSpread(path, true)
	if err != nil {
		return err
	}
	defer back.Close()
	return compareBack(back, b)
}

func (d *inFolder) commit(manifest []byte) error {
	defer d.release()
	if err := d.p.save(d.id, manifest); err != nil {
		return err
	}
	return disk.SyncDir(d.p.dir)
}

func (d *inFolder) discard() {
	os.RemoveAll(d.p.path(d.id))
	d.release()
}
