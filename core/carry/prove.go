package carry

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"jadetrail/core/digest"
	"jadetrail/core/disk"
	"jadetrail/core/script"
)

// ErrState tells that a device is not in the state in which the run left it.
var ErrState = errors.New("the drive is not as the run left it")

// Standing is what a device holds of what a run wrote and of what it has still to read.
type Standing struct {
	// Proven is how much was read and is as it must be, Unread how much the device could not
	// read, and Unknown how much nobody can tell: its source is not at hand, or only a part of
	// what was hashed together is left.
	Proven, Unread, Unknown disk.Bytes
	// Differs are the places that hold something else.
	Differs disk.Set
}

// Err is ErrState with the places that differ, nil where none does.
func (s *Standing) Err() error {
	if len(s.Differs) == 0 {
		return nil
	}
	return fmt.Errorf(
		"%w: %s in %d places hold something else, the first at byte %d", ErrState, s.Differs.Bytes(), len(s.Differs),
		s.Differs[0].Start,
	)
}

const (
	// sumLen is the length of an atom's hash.
	sumLen = 32
	// atomBytes is the longest that is hashed in one.
	atomBytes = 4 * disk.MiB
)

// atoms are the stretches of the device, as it is before the script, that it moves: cut wherever
// an operation begins or ends, so that none but the move at hand takes a part of one.
func atoms(s script.Script) []disk.Range {
	if !s.Moves() {
		return nil
	}
	var moved []disk.Range
	var cuts []disk.Bytes
	var o script.Origins
	trace := func(off, n disk.Bytes, taken bool) {
		for _, p := range o.Of(off, n) {
			if p.From < 0 {
				continue
			}
			cuts = append(cuts, p.From, p.From+p.Len)
			if taken {
				moved = append(moved, disk.Range{Start: p.From, End: p.From + p.Len})
			}
		}
	}
	for i, op := range s {
		if n := op.Len + op.Pad; n > 0 {
			trace(op.Off, n, false)
			if op.Kind == script.Move {
				trace(op.From, n, true)
			}
		}
		o.Do(op, i)
	}
	slices.Sort(cuts)
	cuts = slices.Compact(cuts)
	var out []disk.Range
	for _, r := range disk.NewSet(moved) {
		k, _ := slices.BinarySearch(cuts, r.Start+1)
		for r.Start < r.End {
			end := min(r.End, r.Start+atomBytes)
			if k < len(cuts) && cuts[k] <= end {
				end = cuts[k]
				k++
			}
			out = append(out, disk.Range{Start: r.Start, End: end})
			r.Start = end
		}
	}
	return out
}

// sumsOf are the hashes of stretches of a device, one after the other.
func sumsOf(ctx context.Context, dev disk.Device, stretches []disk.Range, report func(Progress)) ([]byte, error) {
	out := make([]byte, sumLen*len(stretches))
	tell := telling("reading what will be moved", stretches, report)
	err := shared(len(stretches), func(i int, b *[]byte) error {
		if ctx.Err() != nil {
			return ErrStopped
		}
		r := stretches[i]
		defer tell(r.Len())
		data, err := holds(dev, r, b)
		if err != nil || data == nil {
			return err
		}
		sum := blake3.Sum256(data)
		copy(out[sumLen*i:], sum[:])
		return nil
	})
	return out, err
}

// telling returns what tells of a phase that reads stretches how much more it has read; it may be
// called by several at once.
func telling(phase string, stretches []disk.Range, report func(Progress)) func(disk.Bytes) {
	if report == nil {
		return func(disk.Bytes) {}
	}
	p := Progress{Phase: phase}
	for _, r := range stretches {
		p.Total += r.Len()
	}
	var mu sync.Mutex
	return func(n disk.Bytes) {
		mu.Lock()
		defer mu.Unlock()
		p.Done += n
		report(p)
	}
}

// holds is what a stretch holds, in a buffer that is used again; nil for nothing but zeros.
func holds(dev disk.Device, r disk.Range, b *[]byte) ([]byte, error) {
	if start, _, some := dev.Data(r.Start); !some || start >= r.End {
		return nil, nil
	}
	if disk.Bytes(cap(*b)) < r.Len() {
		*b = make([]byte, r.Len())
	}
	data := (*b)[:r.Len()]
	if _, err := dev.ReadAt(data, int64(r.Start)); err != nil {
		return nil, err
	}
	if disk.Zeros(data) {
		return nil, nil
	}
	return data, nil
}

// readers is how many read at once.
const readers = 2

// shared calls f for 0 to n-1, several at once, each with a buffer of its own.
func shared(n int, f func(i int, b *[]byte) error) error {
	var all errgroup.Group
	next := make(chan int)
	stop := make(chan struct{})
	var once sync.Once
	for range readers {
		all.Go(func() error {
			var b []byte
			for i := range next {
				if err := f(i, &b); err != nil {
					once.Do(func() { close(stop) })
					return err
				}
			}
			return nil
		})
	}
feed:
	for i := range n {
		select {
		case next <- i:
		case <-stop:
			break feed
		}
	}
	close(next)
	return all.Wait()
}

// Marked tells that something may have been written to the device.
func (c *Carry) Marked() bool { return c.marked }

// Undone tells that the run was taken back as a whole.
func (c *Carry) Undone() bool { return c.state == frameUndone }

// part is what of a move lies between lo and hi, counted from its start.
func part(op script.Op, lo, hi disk.Bytes) script.Op {
	op.Off, op.From, op.Len = op.Off+lo, op.From+lo, hi-lo
	return op
}

// halves are what of a move is done when so many bytes are, and what is not.
func halves(op script.Op, within disk.Bytes) (done, rest script.Op) {
	if op.Off < op.From { // from the start on
		return part(op, 0, within), part(op, within, op.Len)
	}
	return part(op, op.Len-within, op.Len), part(op, 0, op.Len-within)
}

// standing is what must be where on the device, as far as the journal tells.
type standing struct {
	c      *Carry
	from   int             // the first operation that is not done, or only in part
	rest   []script.Op     // those that are not done, the first perhaps in part
	lies   *script.Origins // what is done has left
	either disk.Set        // what may or may not have been written yet
	needed disk.Set        // what of the device the rest moves, as it lies now
}

// stand works out what must be where.
func (c *Carry) stand() *standing {
	s := &standing{c: c, from: c.passed, rest: slices.Clone(c.script[c.passed:]), lies: &script.Origins{}}
	var taken script.Op // of the move at hand, what is done
	if c.within > 0 {
		taken, s.rest[0] = halves(c.script[c.passed], c.within)
	}
	if c.within == 0 && !c.script[:c.passed].Moves() {
		s.lies = c.script[:c.passed].Origins()
	} else {
		for i, op := range c.script[:c.passed] {
			s.lies.Do(op, i)
		}
		s.lies.Do(taken, c.passed)
	}
	var later script.Origins
	var needed []disk.Range
	if script.Script(s.rest).Moves() {
		for i, op := range s.rest {
			if op.Kind == script.Move {
				for _, p := range later.Of(op.From, op.Len) {
					if p.From >= 0 {
						needed = append(needed, disk.Range{Start: p.From, End: p.From + p.Len})
					}
				}
			}
			later.Do(op, i)
		}
	}
	s.needed = disk.NewSet(needed)
	s.either = disk.NewSet(append(s.underWay(), disk.Range{Start: taken.From, End: taken.From + s.back(taken)}))
	for _, r := range s.needed { // what is still needed is never written over before
		s.either = s.either.Cut(r)
	}
	return s
}

// back is how much of what is done of a move may be half taken back.
func (s *standing) back(taken script.Op) disk.Bytes {
	if s.c.state == frameBack {
		return taken.Len
	}
	return 0
}

// underWay are the places to which the operations write that may have been begun since the
// last mark. It follows what Forward and Back do: between two marks come operations that put
// absolute contents, up to a barrier, or moves, up to the first other operation that settles
// them. Where undo was once begun, barriers do not end it, and what undo does not bring back
// may hold anything.
func (s *standing) underWay() []disk.Range {
	if s.c.state == frameDone {
		return nil
	}
	var out []disk.Range
	moves, over := false, false
	for _, op := range s.rest {
		over = over || moves && op.Kind != script.Move && (op.Kind != script.Hole || op.Keep)
		moves = moves || op.Kind == script.Move
		if !over || s.c.turned && !op.Keep {
			out = append(out, op.Onto())
		}
		if op.Kind == script.Barrier || op.Kind == script.NoReturn {
			over = over || !s.c.turned
		}
		if over && !s.c.turned {
			break
		}
	}
	return out
}

// part of an atom that must lie at a place.
type cover struct{ atom, at disk.Range }

// Prove reads the device and tells whether it is in the state in which the run left it: what the
// finished part wrote, what the rest will move, and what the rest will write over and undo would
// bring back. It writes nothing. report is told how far it has come, where it is set. An error is one
// of reading the journal, or ErrStopped; what the device cannot read is in the answer.
func (c *Carry) Prove(ctx context.Context, dev disk.Device, report func(Progress)) (*Standing, error) {
	s := c.stand()
	p := &prover{dev: dev, seen: &Standing{}}
	byAtom := map[int][]cover{}
	all := atoms(c.script)
	// held notes that bytes that the device held before lie at a place now.
	held := func(was, at disk.Range) {
		i, _ := slices.BinarySearchFunc(all, was.Start, func(a disk.Range, start disk.Bytes) int {
			if a.End <= start {
				return -1
			}
			return 1
		})
		for ; i < len(all) && all[i].Start < was.End; i++ {
			lo, hi := max(all[i].Start, was.Start), min(all[i].End, was.End)
			byAtom[i] = append(byAtom[i], cover{
				disk.Range{Start: lo, End: hi},
				disk.Range{Start: at.Start + lo - was.Start, End: at.Start + hi - was.Start},
			})
		}
	}
	var jobs []func(b *[]byte) error
	var reads []disk.Range // by job
	s.lies.Each(func(at disk.Bytes, piece script.Piece) {
		for _, r := range s.either.Outside(disk.Range{Start: at, End: at + piece.Len}) {
			if piece.From >= 0 {
				from := piece.From + r.Start - at
				held(disk.Range{Start: from, End: from + r.Len()}, r)
				continue
			}
			op, within := c.script[piece.By-1], piece.Within+r.Start-at
			reads = append(reads, r)
			jobs = append(jobs, func(b *[]byte) error { return p.made(op, within, r, b) })
		}
	})
	for _, a := range all { // what was not moved yet, and is not written over
		at := a.Start
		for _, x := range s.lies.Of(a.Start, a.Len()) {
			if x.From == at {
				for _, r := range s.either.Outside(disk.Range{Start: at, End: at + x.Len}) {
					held(r, r)
				}
			}
			at += x.Len
		}
	}
	for i, covers := range byAtom {
		reads = append(reads, all[i])
		jobs = append(jobs, func(b *[]byte) error { return p.atom(all[i], [sumLen]byte(c.sums[sumLen*i:]), covers, b) })
	}
	for _, k := range s.kept() {
		reads = append(reads, k.r)
		jobs = append(jobs, func(b *[]byte) error { return p.prior(c, k, b) })
	}
	tell := telling("proving that the drive is as the run left it", reads, report)
	err := shared(len(jobs), func(i int, b *[]byte) error {
		if ctx.Err() != nil {
			return ErrStopped
		}
		defer tell(reads[i].Len())
		return jobs[i](b)
	})
	return p.seen, err
}

// kept is a part of the place of an operation that is not done, which must still hold what the
// journal kept of it.
type kept struct {
	op int
	r  disk.Range
}

// What the finished part wrote is compared by what it wrote.
func (s *standing) kept() []kept {
	var out []kept
	var done []disk.Range
	s.lies.Each(func(at disk.Bytes, p script.Piece) { done = append(done, disk.Range{Start: at, End: at + p.Len}) })
	written := disk.NewSet(done)
	for i, op := range s.rest {
		to := op.Onto()
		if op.Keep {
			for _, r := range written.Outside(to) {
				for _, x := range s.either.Outside(r) {
					out = append(out, kept{s.from + i, x})
				}
			}
		}
		written = written.Put(to)
	}
	return out
}

// prover compares, several places at once.
type prover struct {
	dev  disk.Device
	mu   sync.Mutex
	seen *Standing
}

// note adds what became of a place.
func (p *prover) note(r disk.Range, same bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if same {
		p.seen.Proven += r.Len()
	} else {
		p.seen.Differs = p.seen.Differs.Put(r)
	}
}

// read is what a place holds, never nil unless the device cannot read it.
func (p *prover) read(r disk.Range, b *[]byte) []byte {
	data, err := holds(p.dev, r, b)
	switch {
	case err != nil:
		p.mu.Lock()
		p.seen.Unread += r.Len()
		p.mu.Unlock()
		return nil
	case data == nil:
		if disk.Bytes(cap(*b)) < r.Len() {
			*b = make([]byte, r.Len())
		}
		data = (*b)[:r.Len()]
		clear(data)
	}
	return data
}

func (p *prover) unknown(r disk.Range) {
	p.mu.Lock()
	p.seen.Unknown += r.Len()
	p.mu.Unlock()
}

// made compares what an operation made: r holds what is within bytes into its contents.
func (p *prover) made(op script.Op, within disk.Bytes, r disk.Range, b *[]byte) error {
	if op.Kind == script.Fill {
		return p.filled(op, within, r, b)
	}
	for at := r.Start; at < r.End; {
		part := disk.Range{Start: at, End: min(at+atomBytes, r.End)}
		at = part.End
		if op.Kind == script.Hole {
			data, err := holds(p.dev, part, b)
			if err != nil {
				p.read(part, b) // counts it
				continue
			}
			p.note(part, data == nil)
			continue
		}
		from := within + part.Start - r.Start
		if from+part.Len() > disk.Bytes(len(op.Data)) {
			return fmt.Errorf("%w: an operation has less data than it writes", ErrJournal)
		}
		if data := p.read(part, b); data != nil {
			p.note(part, bytes.Equal(data, op.Data[from:from+part.Len()]))
		}
	}
	return nil
}

// filled compares what was filled in from a source, where all of it is there and the script has
// its hash. Without, whoever carried it out compares the files themselves at the end.
func (p *prover) filled(op script.Op, within disk.Bytes, r disk.Range, b *[]byte) error {
	if within >= op.Len { // the zeros behind
		return p.made(script.Op{Kind: script.Hole}, 0, r, b)
	}
	if within > 0 || r.Len() < op.Len || op.Hash == "" {
		p.unknown(r)
		return nil
	}
	whole := disk.Range{Start: r.Start, End: r.Start + op.Len}
	if data := p.read(whole, b); data != nil {
		p.note(whole, digest.Of(data, op.SourceOff).String() == op.Hash)
	}
	if r.Len() > op.Len {
		return p.made(script.Op{Kind: script.Hole}, 0, disk.Range{Start: whole.End, End: r.End}, b)
	}
	return nil
}

// prior compares a place with what the journal kept of it.
func (p *prover) prior(c *Carry, k kept, b *[]byte) error {
	want := make([]byte, k.r.Len())
	i, _ := slices.BinarySearchFunc(c.priors, k.op, func(x prior, op int) int { return x.op - op })
	for ; i < len(c.priors) && c.priors[i].op == k.op; i++ {
		x := c.priors[i]
		lo, hi := max(x.off, k.r.Start), min(x.off+disk.Bytes(len(x.data)), k.r.End)
		if lo < hi {
			copy(want[lo-k.r.Start:], x.data[lo-x.off:hi-x.off])
		}
	}
	if data := p.read(k.r, b); data != nil {
		p.note(k.r, bytes.Equal(data, want))
	}
	return nil
}

// atom compares what is left of a stretch that is moved, at every place where it must lie. Of
// the move at hand one part lies in the old place and one in the new.
func (p *prover) atom(a disk.Range, want [sumLen]byte, covers []cover, b *[]byte) error {
	slices.SortStableFunc(covers, func(x, y cover) int {
		if x.atom.Start != y.atom.Start {
			return int(min(max(x.atom.Start-y.atom.Start, -1), 1))
		}
		return int(min(max(y.atom.Len()-x.atom.Len(), -1), 1))
	})
	used := make([]bool, len(covers))
	for {
		var chain []int
		at := a.Start
		for i, x := range covers {
			if !used[i] && x.atom.Start == at {
				chain = append(chain, i)
				at = x.atom.End
			}
		}
		if at < a.End {
			break
		}
		whole := make([]byte, 0, a.Len())
		readable := true
		for _, i := range chain {
			used[i] = true
			data := p.read(covers[i].at, b)
			readable = readable && data != nil
			whole = append(whole, data...)
		}
		if !readable {
			continue
		}
		same := disk.Zeros(whole) && want == [sumLen]byte{} || blake3.Sum256(whole) == want
		for _, i := range chain {
			p.note(covers[i].at, same)
		}
	}
	for i, x := range covers {
		if !used[i] {
			p.unknown(x.at)
		}
	}
	return nil
}

// Moved is a stretch that a run moves: where it lies before, where the run leaves it, -1 where
// nowhere as a whole, and its BLAKE3 hash, all zeros for nothing but zeros.
type Moved struct {
	From, To, Len disk.Bytes
	Sum           [sumLen]byte
}

// Moved are the stretches that the run moves.
func (c *Carry) Moved() []Moved {
	all := atoms(c.script)
	if len(all) == 0 {
		return nil
	}
	type place struct{ from, at, n disk.Bytes }
	var places []place
	c.script.Origins().Each(func(at disk.Bytes, p script.Piece) {
		if p.From >= 0 {
			places = append(places, place{p.From, at, p.Len})
		}
	})
	slices.SortFunc(places, func(a, b place) int { return cmp.Compare(a.from, b.from) })
	out := make([]Moved, len(all))
	for i, a := range all {
		out[i] = Moved{From: a.Start, To: -1, Len: a.Len(), Sum: [sumLen]byte(c.sums[sumLen*i:])}
		k, _ := slices.BinarySearchFunc(places, a.Start+1, func(p place, at disk.Bytes) int { return cmp.Compare(p.from, at) })
		if k > 0 && places[k-1].from+places[k-1].n >= a.End {
			out[i].To = places[k-1].at + a.Start - places[k-1].from
		}
	}
	return out
}
