package run

import (
	"bytes"
	"cmp"
	"encoding/hex"
	"fmt"
	"slices"
	"sync"

	"jadetrail/core/ran"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// seen compares files while they are being filled in: each that lies in one stretch, as it
// is read back from the drive.
type seen struct {
	expect []expected // in the order of the drive
	same   map[disk.Bytes]bool
	mu     sync.Mutex // for same, while files are filled in
	// listed are the arrivals' files as they lie on the copy, by arrival, where there is
	// one; what is read back is shown to be the same as the copy.
	listed []*listing
}

// list lists the arrivals' files on the copy, which is not changed any more.
func (w *seen) list(sh *shelf.Shelf, arrivals []ran.Arrival, sv *survey.Survey) error {
	w.listed = make([]*listing, len(arrivals))
	for i := range arrivals {
		if a := &arrivals[i]; !a.Passed {
			l, err := listed(a, sh, sv.Volumes[a.Number])
			if err != nil {
				return err
			}
			w.listed[i] = l
		}
	}
	return nil
}

// sameAsCopy compares every place to which a script writes bookkeeping with the copy.
func sameAsCopy(dev, copied disk.Device, s script.Script) error {
	var fills, writes script.Script
	for _, op := range s {
		if op.Kind == script.Fill {
			fills = append(fills, op)
		} else {
			writes = append(writes, op)
		}
	}
	filled := fills.Places(0)
	got, want := make([]byte, window), make([]byte, window)
	for _, p := range writes.Places(0) {
		i, _ := slices.BinarySearchFunc(filled, p[0], func(f [2]disk.Bytes, at disk.Bytes) int {
			if f[1] <= at {
				return -1
			}
			return 1
		})
		if i < len(filled) && filled[i][0] < p[1] {
			continue // contents lie there now, which are compared by themselves
		}
		for at := p[0]; at < p[1]; {
			from, to, some := copied.Data(at)
			if !some || from >= p[1] {
				from, to = p[1], p[1]
			}
			if from > at { // a hole on the copy, which is long: there must be none but zeros
				if x, _, data := dev.Data(at); !data || x >= from {
					at = from
					continue
				}
				to = from
			}
			n := min(to-at, p[1]-at, window)
			if _, err := dev.ReadAt(got[:n], int64(at)); err != nil {
				return err
			}
			if _, err := copied.ReadAt(want[:n], int64(at)); err != nil {
				return err
			}
			if !bytes.Equal(got[:n], want[:n]) {
				return fmt.Errorf("%w: what was written at byte %d reads back as something else", ErrDiffers, at)
			}
			at += n
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

// watching works out what the operations of a script fill in for the arrivals.
func watching(s script.Script, arrivals []ran.Arrival) *seen {
	w := &seen{same: map[disk.Bytes]bool{}}
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

// back compares what was read back.
func (w *seen) back(off disk.Bytes, b []byte) error {
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
