package prove

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"slices"
	"sync"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/ran"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// Seen compares files while they are being filled in: each that lies in one stretch, as it
// is read back from the drive.
type Seen struct {
	expect []expected // in the order of the drive
	same   map[disk.Bytes]bool
	mu     sync.Mutex // for same, while files are filled in
	// listed are the arrivals' files as they lie on the copy, by arrival, where there is
	// one; what is read back is shown to be the same as the copy.
	listed []*Listing
}

// List lists the arrivals' files on the copy, which is not changed any more.
func (w *Seen) List(sh *shelf.Shelf, arrivals []ran.Arrival, sv *survey.Survey) error {
	w.listed = make([]*Listing, len(arrivals))
	for i := range arrivals {
		if a := &arrivals[i]; !a.Passed {
			l, err := Listed(a, sh, sv.Volume(a.Number))
			if err != nil {
				return err
			}
			w.listed[i] = l
		}
	}
	return nil
}

// expected is the contents of a file that will lie at off on the drive.
type expected struct {
	off, n disk.Bytes
	hash   string
	path   string
}

// Watching works out what the operations of a script fill in for the arrivals.
func Watching(s script.Script, arrivals []ran.Arrival) *Seen {
	w := &Seen{same: map[disk.Bytes]bool{}}
	for i := range arrivals {
		a := &arrivals[i]
		archive, _ := a.Origin.(*shelf.Archive)
		sums := map[[2]string]string{}
		for _, x := range a.Sums {
			sums[[2]string{x.Path, x.Stream}] = x.Hash
		}
		if archive == nil && len(sums) == 0 {
			continue
		}
		at := make(map[disk.Bytes]*volume.Incoming, len(a.In)) // by place in the source
		for k := range a.In {
			if x := &a.In[k]; len(x.Extents) == 1 {
				at[x.Extents[0].Off] = x
			}
		}
		for _, op := range s {
			if op.Kind != script.Fill || op.Source != a.Source() {
				continue
			}
			x := at[op.SourceOff]
			if x == nil || x.Bytes != op.Len {
				continue
			}
			want := sums[[2]string{x.Path, x.Stream}]
			if archive != nil {
				if e, ok := archive.Entry(x.File); ok {
					want = e.Hash
				}
			}
			if want != "" {
				w.expect = append(w.expect, expected{op.Off, op.Len, want, x.Path})
			}
		}
	}
	slices.SortFunc(w.expect, func(a, b expected) int { return cmp.Compare(a.off, b.off) })
	return w
}

// Expects tells that there is anything to compare.
func (w *Seen) Expects() bool { return len(w.expect) > 0 }

// Back compares what was read back.
func (w *Seen) Back(off disk.Bytes, b []byte) error {
	i, _ := slices.BinarySearchFunc(w.expect, off, func(e expected, at disk.Bytes) int { return cmp.Compare(e.off, at) })
	for end := off + disk.Bytes(len(b)); i < len(w.expect) && w.expect[i].off < end; i++ {
		e := w.expect[i]
		if e.off+e.n > end {
			continue // compared at the end
		}
		sum := blake3.Sum256(b[e.off-off : e.off-off+e.n])
		if hex.EncodeToString(sum[:]) != e.hash {
			return fmt.Errorf("%w: %s does not hold what it held where it comes from", ErrDiffers, e.path)
		}
		w.mu.Lock()
		w.same[e.off] = true
		w.mu.Unlock()
	}
	return nil
}
