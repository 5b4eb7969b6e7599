package prove

import (
	"cmp"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"jadetrail/core/disk"
	"jadetrail/core/ran"
	"jadetrail/core/shelf"
	"jadetrail/core/volume"
)

// noted are the files of an arrival as they were noted before the run.
func noted(a *ran.Arrival) []volume.Incoming {
	var in []volume.Incoming
	for _, s := range a.Sums {
		x := volume.Incoming{SameAs: s.SameAs}
		x.Path, x.Stream, x.Bytes, x.Kind = s.Path, s.Stream, s.Bytes, volume.Plain
		in = append(in, x)
	}
	return in
}

// spot is a file that arrived and is to be compared: what it is on the volume, and what it
// should hold.
type spot struct {
	f    *volume.File
	x    *volume.Incoming
	want string // its hash, "" where only the source tells
}

// Listing is what of an arrival is to be compared: files that lie in one stretch of the
// volume, in its order, and all others.
type Listing struct {
	together, apart []spot
	files           int
}

// Listed finds every file that arrived on the volume, by its name.
func Listed(a *ran.Arrival, sh *shelf.Shelf, v volume.Volume) (*Listing, error) {
	if v == nil {
		return nil, fmt.Errorf("%w: the volume in partition %d cannot be read", ErrDiffers, a.Number)
	}
	from, in := a.Origin, a.In
	sums := map[[2]string]string{}
	if a.From != 0 {
		if in = a.In; in == nil {
			in = noted(a)
		}
		for _, x := range a.Sums {
			sums[[2]string{x.Path, x.Stream}] = x.Hash
		}
	} else if from == nil { // the run was begun by another process
		g, err := sh.Gather(a.Backup, a.Only)
		if err != nil {
			return nil, err
		}
		defer g.Close()
		from, in = g.Volume, g.In
	}
	files, err := v.Files()
	if err != nil {
		return nil, err
	}
	there := make(map[[2]string]*volume.File, len(files))
	for i := range files {
		there[[2]string{files[i].Path, files[i].Stream}] = &files[i]
	}
	archive, _ := from.(*shelf.Archive)
	l := &Listing{together: make([]spot, 0, len(in))}
	_, keeps := v.(volume.Detailer)
	for i := range in {
		x := &in[i]
		s, err := spotOf(a, x, there, keeps)
		if err != nil {
			return nil, err
		}
		if x.IsFile() && (x.SameAs == "" || !keeps) {
			l.files++
		}
		if s == nil {
			continue
		}
		if s.want = sums[[2]string{x.Path, x.Stream}]; archive != nil {
			if e, ok := archive.Entry(x.File); ok {
				s.want = e.Hash
			}
		}
		// What lies in one stretch is read in the order of the drive, many files at a time.
		if f := s.f; s.want != "" && len(f.Extents) == 1 && f.Extents[0].Off >= 0 && f.Extents[0].Len >= f.Bytes && f.Stored == "" && f.Unreadable == "" {
			l.together = append(l.together, *s)
		} else {
			l.apart = append(l.apart, *s)
		}
	}
	slices.SortFunc(l.together, func(a, b spot) int { return cmp.Compare(a.f.Extents[0].Off, b.f.Extents[0].Off) })
	return l, nil
}

// compare reads every file of a listing and compares it with where it comes from. dev is
// the volume's partition, which begins at start; what w compared on the way is left out.
func (l *Listing) compare(v volume.Volume, dev disk.Device, start disk.Bytes, w *Seen) error {
	together := slices.DeleteFunc(l.together, func(s spot) bool { return w.same[start+s.f.Extents[0].Off] })
	var g errgroup.Group
	workers := runtime.GOMAXPROCS(0)
	for k := range workers { // each a stretch
		part := func(l []spot) []spot { return l[len(l)*k/workers : len(l)*(k+1)/workers] }
		g.Go(func() error {
			b := make([]byte, window)
			if err := sameTogether(dev, part(together), b); err != nil {
				return err
			}
			for _, s := range part(l.apart) {
				if err := s.same(v, b[:1<<20]); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return g.Wait()
}

// window is how much is read at once when files are compared.
const window = 2 << 20

// sameTogether compares files that each lie in one stretch of dev, in their order.
func sameTogether(dev disk.Device, spots []spot, b []byte) error {
	for i := 0; i < len(spots); {
		start, k := spots[i].f.Extents[0].Off, i
		end := start
		for ; k < len(spots); k++ {
			e := spots[k].f.Extents[0].Off + spots[k].f.Bytes
			if e-start > window && k > i || spots[k].f.Extents[0].Off-end > 64*disk.KiB {
				break
			}
			end = e
		}
		if end-start > window { // one that is longer
			sum, err := HashOf(io.NewSectionReader(dev, int64(start), int64(end-start)), end-start, b)
			if err != nil {
				return err
			}
			if sum != spots[i].want {
				return spots[i].differs()
			}
			i = k
			continue
		}
		got := b[:end-start]
		if _, err := dev.ReadAt(got, int64(start)); err != nil {
			return err
		}
		for _, s := range spots[i:k] {
			at := s.f.Extents[0].Off - start
			sum := blake3.Sum256(got[at : at+s.f.Bytes])
			if hex.EncodeToString(sum[:]) != s.want {
				return s.differs()
			}
		}
		i = k
	}
	return nil
}

func (s *spot) differs() error {
	return fmt.Errorf("%w: %s does not hold what it held where it comes from", ErrDiffers, s.f.Path)
}

// spotOf finds a file that arrived on the volume, nil where there is nothing to compare.
func spotOf(a *ran.Arrival, x *volume.Incoming, there map[[2]string]*volume.File, keeps bool) (*spot, error) {
	if !keeps && (x.Stream != "" || x.Kind == volume.Link) {
		return nil, nil // the notes say that the volume has no such thing
	}
	path := x.Path
	top, _, _ := strings.Cut(path, "/")
	if name, renamed := a.Renamed[top]; renamed {
		path = name + path[len(top):]
	}
	if f := strings.Trim(a.Folder, "/"); f != "" {
		path = f + "/" + path
	}
	f, ok := there[[2]string{path, x.Stream}]
	if !ok || f.Kind != x.Kind || f.Kind == volume.Plain && x.SameAs == "" && f.Bytes != x.Bytes {
		return nil, fmt.Errorf("%w: %s is not in partition %d as it is where it comes from", ErrDiffers, path, a.Number)
	}
	if keeps && x.Stream == "" && x.SameAs == "" && !x.Modified.IsZero() && volume.FileTime(f.Modified) != volume.FileTime(x.Modified) {
		return nil, fmt.Errorf(
			"%w: %s is of another time in partition %d than where it comes from", ErrDiffers, path, a.Number,
		)
	}
	if f.Kind != volume.Plain || x.SameAs != "" && keeps || f.Bytes == 0 {
		return nil, nil
	}
	return &spot{f: f, x: x}, nil
}

// same compares a file by itself; b is a buffer.
func (s *spot) same(v volume.Volume, b []byte) error {
	got, err := v.Open(*s.f)
	if err != nil {
		return err
	}
	sum, err := HashOf(got, s.f.Bytes, b)
	if err != nil {
		return err
	}
	want := s.want
	if want == "" && s.x.Open != nil {
		was, err := s.x.Open()
		if err == nil {
			want, err = HashOf(was, s.f.Bytes, b)
		}
		if err != nil {
			return err
		}
	}
	if sum != want {
		return s.differs()
	}
	return nil
}

// HashOf is the BLAKE3 of the first n bytes of what is read, in hexadecimal; b is a buffer.
func HashOf(r io.ReaderAt, n disk.Bytes, b []byte) (string, error) {
	h := blake3.New()
	for at := disk.Bytes(0); at < n; {
		part := b[:min(n-at, disk.Bytes(len(b)))]
		if k, err := r.ReadAt(part, int64(at)); k < len(part) {
			return "", errors.Join(ErrDiffers, err)
		}
		h.Write(part)
		at += disk.Bytes(len(part))
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
