package shelf

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Restored is the outcome of putting files somewhere.
type Restored struct {
	Files    int        `json:"files"`
	Folders  int        `json:"folders"`
	Bytes    disk.Bytes `json:"bytes"`
	Compared int        `json:"compared"` // files read back that hold what was written
	// NotThere are the files that could not be restored, with the reason.
	NotThere []string `json:"not_restored,omitempty"`
	// Elsewhere are the names that were taken, with the ones that were used.
	Renamed map[string]string `json:"renamed,omitempty"`
}

// Choose returns what of a volume is below the given paths, all of it for none, and
// whether a file belongs to it.
func Choose(v volume.Volume, paths []string) ([]volume.File, error) {
	var real []string
	for _, p := range paths {
		f, err := v.Stat(p)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p, err)
		}
		real = append(real, f.Path)
	}
	var out []volume.File
	err := v.Walk(func(f volume.File) error {
		if wanted(real, f) {
			out = volume.More(out, f)
		}
		return nil
	})
	slices.SortFunc(out, func(a, b volume.File) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return strings.Compare(a.Stream, b.Stream)
	})
	return out, err
}

// ToFolder puts files of a volume into a folder, which is made when it does not exist.
// Names that are taken there get a number. Every file is read back past the page cache
// and compared.
func ToFolder(ctx context.Context, v volume.Volume, paths []string, to string, report func(Progress)) (*Restored, error) {
	files, err := Choose(v, paths)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return nil, fmt.Errorf("the folder cannot be used: %w", err)
	}
	need := disk.Bytes(0)
	for _, f := range files {
		need += f.Bytes.Up(4096)
	}
	free, err := (&Shelf{Dir: to}).Free()
	if err != nil {
		return nil, err
	}
	if need > free {
		return nil, fmt.Errorf(
			"%w: the files take %s, and %s is free in %s; nothing was written", ErrRoom, need, free, to,
		)
	}
	root, err := os.OpenRoot(to)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	w := &putter{
		v: v, root: root, buf: make([]byte, 1<<20), report: report, total: need, tops: map[string]string{},
		names: map[uint64]string{}, out: Restored{Renamed: map[string]string{}},
	}
	for _, f := range files {
		if ctx.Err() != nil {
			return &w.out, ctx.Err()
		}
		if err := w.put(f); err != nil {
			return &w.out, err
		}
	}
	for _, d := range slices.Backward(w.folders) { // what is in them was written since
		if err := root.Chtimes(d.name, time.Time{}, d.at); err != nil {
			return &w.out, err
		}
	}
	return &w.out, w.compare(ctx)
}

type putter struct {
	v       volume.Volume
	root    *os.Root
	buf     []byte
	report  func(Progress)
	done    disk.Bytes
	total   disk.Bytes
	tops    map[string]string // names at the top as they are used
	names   map[uint64]string
	folders []dated
	files   []written
	out     Restored
}

type dated struct {
	name string
	at   time.Time
}

type written struct {
	name, sum string
	n         disk.Bytes
}

// place is where a path goes: a name at the top that is taken gets a number.
func (w *putter) place(p string) (string, error) {
	top, rest, deep := strings.Cut(p, "/")
	name, known := w.tops[top]
	if !known {
		name = top
		ext := path.Ext(top)
		for i := 2; ; i++ {
			_, err := w.root.Lstat(name)
			if errors.Is(err, fs.ErrNotExist) {
				break
			}
			if err != nil {
				return "", err
			}
			name = fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(top, ext), i, ext)
		}
		if w.tops[top] = name; name != top {
			w.out.Renamed[top] = name
		}
	}
	if deep {
		name += "/" + rest
	}
	return name, nil
}

func (w *putter) not(f volume.File, why string) error {
	name := f.Path
	if f.Stream != "" {
		name += ":" + f.Stream
	}
	w.out.NotThere = append(w.out.NotThere, name+": "+why)
	return nil
}

func (w *putter) put(f volume.File) error {
	name, err := w.place(f.Path)
	if err != nil {
		return err
	}
	switch {
	case f.Unreadable != "":
		return w.not(f, f.Unreadable)
	case f.Kind == volume.Folder && f.Stream == "":
		if err := w.root.MkdirAll(name, 0o755); err != nil {
			return err
		}
		w.folders = append(w.folders, dated{name, f.Modified})
		w.out.Folders++
		return nil
	case f.Kind == volume.Link:
		if err := w.root.Symlink(f.Target, name); err != nil {
			return w.not(f, "a link that cannot be made here: "+err.Error())
		}
		w.out.Files++
		return nil
	}
	if first, again := w.names[f.ID]; again && f.ID != 0 && f.Stream == "" && w.root.Link(first, name) == nil {
		w.out.Files++
		return nil
	}
	r, err := w.v.Open(f)
	if err != nil {
		return w.not(f, err.Error())
	}
	if f.Stream != "" {
		if b := w.small(r, f); b != nil && w.attach(name, "user."+f.Stream, b) {
			return nil
		}
		name += ":" + f.Stream
	}
	w.names[f.ID] = name
	return w.copy(r, f, name)
}

// small reads what can be an extended attribute.
func (w *putter) small(r io.ReaderAt, f volume.File) []byte {
	if f.Bytes > 64<<10 {
		return nil
	}
	b := make([]byte, f.Bytes)
	if n, _ := r.ReadAt(b, 0); n < len(b) {
		return nil
	}
	return b
}

func (w *putter) attach(name, key string, b []byte) bool {
	f, err := w.root.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	return unix.Fsetxattr(int(f.Fd()), key, b, 0) == nil
}

func (w *putter) copy(r io.ReaderAt, f volume.File, name string) error {
	o, err := w.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	defer o.Close()
	sum, sparse := blake3.New(), len(volume.HolesOf(r)) > 0
	if err := o.Truncate(int64(f.Bytes)); err != nil {
		return err
	}
	for at := disk.Bytes(0); at < f.Bytes; {
		b := w.buf[:min(f.Bytes-at, disk.Bytes(len(w.buf)))]
		if n, err := r.ReadAt(b, int64(at)); n < len(b) {
			return errors.Join(w.root.Remove(name), w.not(f, fmt.Sprintf("from byte %d on: %v", at+disk.Bytes(n), err)))
		}
		sum.Write(b)
		if !sparse || !disk.Zeros(b) { // a hole stays one
			if _, err := o.WriteAt(b, int64(at)); err != nil {
				return err
			}
		}
		at += disk.Bytes(len(b))
		if w.done += disk.Bytes(len(b)); w.report != nil {
			w.report(Progress{"writing", w.done, w.total})
		}
	}
	if err := w.root.Chtimes(name, time.Time{}, f.Modified); err != nil {
		return err
	}
	h := hex.EncodeToString(sum.Sum(nil))
	if a, ok := w.v.(*Archive); ok {
		if e, _ := a.Entry(f); e.Hash != "" && e.Hash != h {
			return fmt.Errorf("%w: %s is not what the list says", ErrDamaged, f.Path)
		}
	}
	w.files = append(w.files, written{name, h, f.Bytes})
	w.out.Files, w.out.Bytes = w.out.Files+1, w.out.Bytes+f.Bytes
	return nil
}

// compare makes all durable and reads it back.
func (w *putter) compare(ctx context.Context) error {
	d, err := w.root.Open(".")
	if err != nil {
		return err
	}
	defer d.Close()
	if err := unix.Syncfs(int(d.Fd())); err != nil {
		return err
	}
	w.done = 0
	for _, x := range w.files {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		f, err := w.root.Open(x.name)
		if err != nil {
			return err
		}
		sum := blake3.New()
		err = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED)
		if err == nil {
			_, err = io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{f}, w.buf)
		}
		f.Close()
		if err != nil || hex.EncodeToString(sum.Sum(nil)) != x.sum {
			return fmt.Errorf("%w: %s does not read back as it was written (%v)", ErrDamaged, x.name, err)
		}
		w.out.Compared++
		if w.done += x.n; w.report != nil {
			w.report(Progress{"comparing", w.done, w.total})
		}
	}
	return nil
}
