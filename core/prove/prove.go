// Package prove shows of a drive, read again, that a run came out as it was worked out: laid out as planned, each
// volume with the metadata that it should have, every file that arrived the same as where it comes from, nothing
// written beside the plan; or that it is again as it was before.
package prove

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/ran"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
)

// ErrDiffers tells that the drive read back after a run is not as planned. It is
// the one failure after which something has been written; the run can be undone.
var ErrDiffers = errors.New("after the run the drive is not as planned")

// Drive is a drive on which something is proven.
type Drive struct {
	Dev    disk.Device
	PC     *pc.Facts    // where the run does not change what is known of it
	Shelf  *shelf.Shelf // from which something may have come
	Report func(carry.Progress)
}

// Planned reads the drive back: it is laid out as planned, every volume has the fingerprint that the copy had, and
// nothing was written beside the script. It returns what that showed, in words, and the drive as it was read.
//
// did is the script that was carried out, written where something was written in all. copied is the copy on which
// it was done before, nil for a run that was begun by another process.
func Planned(d Drive, m *ran.Meta, did script.Script, written []disk.Range, copied *disk.Overlay, w *Seen) (string, *survey.Survey, error) {
	p := &proof{d: d, m: m, did: did, w: w}
	for _, shown := range []func() error{
		p.pastTheCache, p.laidOut,
		func() error { return p.metadata(copied) },
		func() error { return p.nothingBeside(written) },
		p.tested, p.erased, p.arrived,
	} {
		if err := shown(); err != nil {
			return "", nil, err
		}
	}
	return p.text, p.sv, nil
}

// proof is what was shown of a drive so far.
type proof struct {
	d    Drive
	m    *ran.Meta
	did  script.Script
	w    *Seen
	sv   *survey.Survey // the drive, once it was read
	text string
}

// pastTheCache has what was written read from the drive itself.
func (p *proof) pastTheCache() error {
	im, ok := p.d.Dev.(disk.Cached)
	if !ok {
		return nil
	}
	places := p.did.Places(disk.MiB)
	for _, r := range places {
		if err := im.Forget(r.Start, r.Len()); err != nil {
			return err
		}
	}
	if len(p.m.Arrivals) > 0 && len(p.w.same) == 0 { // all of it will be compared
		for _, r := range places {
			im.Prefetch(r.Start, r.Len())
		}
	}
	return nil
}

// laidOut reads the drive, and compares how it is laid out.
func (p *proof) laidOut() (err error) {
	if p.sv, err = survey.Read(p.d.Dev, cmp.Or(p.m.PCAfter, p.d.PC)); err != nil {
		return err
	}
	p.sv.Relabel(p.m.After)
	if other := layout.Differ(p.m.After, p.sv.Layout); len(other) > 0 {
		return fmt.Errorf("%w: %s", ErrDiffers, strings.Join(other, " "))
	}
	return nil
}

// metadata compares what was written with the copy, and the metadata of every volume with what it was there.
func (p *proof) metadata(copied *disk.Overlay) error {
	var all errgroup.Group
	if copied != nil && !p.did.Moves() { // what was moved was compared as it was moved
		all.Go(func() error { return sameAsCopy(p.d.Dev, copied, p.did) })
	}
	for n, want := range p.m.Prints {
		all.Go(func() error {
			v := p.sv.Volume(number(n))
			if v == nil {
				return fmt.Errorf("%w: the volume in partition %s cannot be read", ErrDiffers, n)
			}
			if got, err := v.Fingerprint(); err != nil || got != want {
				return fmt.Errorf("%w: the volume in partition %s has other metadata (%v)", ErrDiffers, n, err)
			}
			return nil
		})
	}
	return all.Wait()
}

// nothingBeside finds what was written and is not in the script.
func (p *proof) nothingBeside(written []disk.Range) error {
	planned := p.did.Places(0)
	for _, r := range written {
		i, _ := slices.BinarySearchFunc(planned, r.Start, func(q disk.Range, at disk.Bytes) int {
			if q.End <= at {
				return -1
			}
			return 1
		})
		if i == len(planned) || r.Start < planned[i].Start || planned[i].End < r.End {
			return fmt.Errorf("%w: bytes %d to %d were written, which are not in the plan", ErrDiffers, r.Start, r.End)
		}
	}
	p.text = fmt.Sprintf("Carried out and read back: the drive is as planned, the metadata of %s is as it should be, "+
		"and nothing was written outside the plan (%s in all)", volumes(len(p.m.Prints)), Figures(p.did)) + intactText(p.m.Intact)
	return nil
}

// tested reads the places again of which every sector is tested.
func (p *proof) tested() error {
	for _, x := range p.m.Tested {
		if err := readsAgain(x, p.d); err != nil {
			return err
		}
		p.text += fmt.Sprintf("; every sector of %s (%s) read, written and read again", x.Title, x.Len)
	}
	return nil
}

// erased reads the places again that were overwritten.
func (p *proof) erased() error {
	for _, x := range p.m.Erased {
		if err := provenErased(x, p.d.Dev, p.did); err != nil {
			return err
		}
		left, err := leftOfErased(x, p.d.Dev)
		if err != nil {
			return err
		}
		p.text += fmt.Sprintf("; %s erased and read back as zeros%s", x.Title, left)
	}
	return nil
}

// arrived compares the files that were put into volumes with where they come from.
func (p *proof) arrived() error {
	for i := range p.m.Arrivals {
		a := &p.m.Arrivals[i]
		if a.Passed {
			continue
		}
		at, ok := p.sv.Layout.Find(a.Number)
		if !ok {
			return fmt.Errorf("%w: there is no partition %d", ErrDiffers, a.Number)
		}
		v := p.sv.Volume(a.Number)
		var l *Listing
		var err error
		if p.w.listed != nil {
			l = p.w.listed[i]
		} else if l, err = Listed(a, p.d.Shelf, v); err != nil {
			return err
		}
		if err := l.compare(v, survey.Window(p.d.Dev, *at), at.Start.Offset(p.sv.Layout.Sector), p.w); err != nil {
			return err
		}
		a.Compared = l.files
		p.text += fmt.Sprintf(
			"; %d files put into partition %d, each compared with where it comes from", l.files, a.Number,
		)
	}
	return nil
}

// Figures say how much of a drive a script changes.
func Figures(s script.Script) string {
	if zeroed := s.Zeroed(); zeroed > 0 {
		return fmt.Sprintf("%s written and %s made zeros", s.Rewritten(), zeroed)
	}
	return s.Rewritten().String()
}

func number(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}

// intactText says what was proven.
func intactText(in ran.Intact) string {
	text := ""
	if in.Files > 0 || in.Volumes > 0 {
		text = fmt.Sprintf("; %s files of %s followed to where they lie now (%d of them moved, %d read and compared)",
			disk.Grouped(int64(in.Files)), volumes(in.Volumes), in.Moved, in.Compared)
	}
	if in.Untouched > 0 {
		text += fmt.Sprintf("; %s not touched", volumes(in.Untouched))
	}
	return text
}

// volumes words how many there are.
func volumes(n int) string {
	if n == 1 {
		return "1 volume"
	}
	return fmt.Sprintf("%d volumes", n)
}

// States checks every volume; those that the copy showed sound are not checked again.
func States(sv *survey.Survey, sound map[int]bool) []ran.VolumeState {
	out := []ran.VolumeState{}
	for _, p := range sv.Layout.Partitions() {
		v := sv.Volume(p.Number)
		if v == nil {
			continue
		}
		s := ran.VolumeState{Number: p.Number, Title: p.Title(), Sound: true, Used: p.Volume.UsedBytes}
		if sound[p.Number] { // checked on the copy, and its fingerprint is the same
		} else if f := v.Check().FirstError(); f != nil {
			s.Sound, s.Text = false, f.Text
		}
		if s.Sound && !p.Volume.Clean {
			s.Text = "it was not closed properly"
		}
		out = append(out, s)
	}
	return out
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
		i, _ := slices.BinarySearchFunc(filled, p.Start, func(f disk.Range, at disk.Bytes) int {
			if f.End <= at {
				return -1
			}
			return 1
		})
		if i < len(filled) && filled[i].Start < p.End {
			continue // contents lie there now, which are compared by themselves
		}
		for at := p.Start; at < p.End; {
			from, to, some := copied.Data(at)
			if !some || from >= p.End {
				from, to = p.End, p.End
			}
			if from > at { // a hole on the copy, which is long: there must be none but zeros
				if x, _, data := dev.Data(at); !data || x >= from {
					at = from
					continue
				}
				to = from
			}
			n := min(to-at, p.End-at, window)
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
