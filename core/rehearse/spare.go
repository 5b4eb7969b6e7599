package rehearse

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
)

// promised follows what undo must bring back through the operations of a plan: the tables, and of
// every volume what was not free before the first step. A step may write into what an earlier
// one has made free; that is then kept in the journal, as far as it lies nowhere else.
type promised struct {
	dev    disk.Device
	before *survey.Survey
	places []layout.Span // of partitions that no operation has touched yet
	live   disk.Set      // where what must come back lies now
	// asked is where what was gone before the run lies, as far as it could still be brought
	// back: it is kept too, where there is room.
	asked disk.Set
	gone  disk.Bytes // how much of that is kept
	// weakens tells that some of it is not, because that would be too much.
	weakens bool
	over    bool // the run has come to where it cannot be taken back
}

func newPromised(dev disk.Device, before *survey.Survey) *promised {
	k := &promised{dev: dev, before: before}
	for _, p := range before.Layout.Partitions() {
		if p.Role != layout.Container {
			k.places = append(k.places, p)
		}
	}
	for _, r := range before.Table.Ranges() {
		k.live = k.live.Put(disk.Range{Start: r.Start, End: r.End})
	}
	return k
}

// touch takes in the partitions whose places a range meets: nothing of them has moved yet.
func (k *promised) touch(r disk.Range) error {
	for i := 0; i < len(k.places); i++ {
		p := k.places[i]
		w := survey.Window(k.dev, p)
		start := p.Start.Offset(k.dev.SectorBytes())
		if !r.Meets(disk.Range{Start: start, End: start + w.Size()}) {
			continue
		}
		k.places = slices.Delete(k.places, i, i+1)
		i--
		ranges, _, err := shelf.Ranges(w, k.before.Volume(p.Number))
		if err != nil {
			return fmt.Errorf("partition %d: %w", p.Number, err)
		}
		for _, x := range ranges {
			k.live = k.live.Put(disk.Range{Start: start + x.Start, End: start + x.End})
		}
	}
	return nil
}

// keep returns the operations with all kept that they write over and undo must bring back.
func (k *promised) keep(s script.Script) (script.Script, error) {
	out := make(script.Script, 0, len(s))
	for _, op := range s {
		to := op.Onto()
		if k.over = k.over || op.Kind == script.NoReturn; k.over || to.Len() == 0 {
			out = append(out, op)
			continue
		}
		from := disk.Range{Start: op.From, End: op.From + op.Len}
		err := k.touch(to)
		if err == nil && op.Kind == script.Move {
			err = k.touch(from)
		}
		if err != nil {
			return nil, err
		}
		lost := k.live.Within(to)
		var gone []disk.Range // of which nothing lives
		for _, r := range k.asked.Within(to) {
			gone = append(gone, k.live.Outside(r)...)
		}
		k.asked = k.asked.Cut(to)
		gone = k.within(gone)
		switch {
		case op.Kind == script.Move: // but for what the move itself takes along
			for _, kept := range []struct {
				ranges []disk.Range
				gone   bool
			}{{lost, false}, {gone, true}} {
				for _, r := range kept.ranges {
					for _, x := range (disk.Set{from}).Outside(r) {
						out = append(out, script.Op{
							Kind: script.Hole, Off: x.Start, Len: x.Len(), Keep: true, Spare: true, Gone: kept.gone,
							Step: op.Step,
						})
					}
				}
			}
			out = append(out, op)
		case op.Keep || len(lost)+len(gone) == 0:
			out = append(out, op)
		case op.Kind == script.Hole:
			out = append(out, split(op, lost, gone)...)
		default:
			op.Keep, op.Spare, op.Gone = true, true, len(lost) == 0
			out = append(out, op)
		}
		if op.Kind != script.Move {
			k.live = k.live.Cut(to)
			continue
		}
		moved := k.live.Within(from)
		k.live = k.live.Cut(to).Cut(from)
		for _, r := range moved {
			k.live = k.live.Put(disk.Range{Start: r.Start - op.From + op.Off, End: r.End - op.From + op.Off})
		}
	}
	return out, nil
}

// within lets go of ranges of what was gone before where they would be too much to keep.
func (k *promised) within(gone []disk.Range) []disk.Range {
	n := disk.Set(gone).Bytes()
	if n == 0 {
		return nil
	}
	if k.gone+n > mostGone {
		k.weakens = true
		return nil
	}
	k.gone += n
	return gone
}

// Weakens tells that something which was gone before is not kept, though it could still be brought back.
func (p *Run) Weakens() bool { return p.promised.weakens }

// ErrRoom tells that the bench has no room for what a run keeps.
var ErrRoom = errors.New("there is not enough room to work")

// mostGone is how much a run keeps at most of what was gone before it: a journal is held in memory while it
// is written.
const mostGone = 256 * disk.MiB

// split makes of a hole the parts that are kept, for what must come back or for what is gone, and those
// that need not be.
func split(op script.Op, lost, gone []disk.Range) (out script.Script) {
	kept := make([]script.Op, 0, len(lost)+len(gone))
	for i, r := range append(slices.Clone(lost), gone...) {
		kept = append(kept, script.Op{
			Kind: script.Hole, Off: r.Start, Len: r.Len(), Keep: true, Spare: true, Gone: i >= len(lost),
			Step: op.Step,
		})
	}
	slices.SortFunc(kept, func(a, b script.Op) int { return cmp.Compare(a.Off, b.Off) })
	at := op.Off
	free := func(to disk.Bytes) {
		if to > at {
			out = append(out, script.Op{Kind: script.Hole, Off: at, Len: to - at, Step: op.Step})
		}
	}
	for _, x := range kept {
		free(x.Off)
		out, at = append(out, x), x.Off+x.Len
	}
	free(op.Onto().End)
	return out
}

// needs is the room that a run takes on the host beside the drive: its journal, with what it keeps
// of the drive, and what the drive's image may newly take.
func needs(dev disk.Device, s script.Script) disk.Bytes {
	need := s.Kept() + s.Rewritten() + 16*disk.MiB
	moved := disk.Bytes(0)
	for _, op := range s {
		if op.Kind == script.Move { // no more than it is moved by comes to lie where nothing lay
			need -= op.Len
			moved += min(op.Len, max(op.Off-op.From, op.From-op.Off))
		}
		if op.Keep && op.Before == nil {
			need += heldIn(dev, op.Onto())
		}
	}
	if moved > 0 { // and no more than there is: holes are moved as holes
		need += min(moved, heldIn(dev, disk.Range{End: dev.Size()}))
	}
	return need
}

// heldIn is how much of a range is no hole.
func heldIn(dev disk.Device, r disk.Range) (n disk.Bytes) {
	for at := r.Start; ; {
		start, end, ok := dev.Data(at)
		if !ok || start >= r.End {
			return n
		}
		n, at = n+min(end, r.End)-max(start, at), end
	}
}

// Lean is what a run does without where the host has no room for it.
type Lean struct {
	Forever int  // the step from which on it can only be finished, -1 for none
	Gone    bool // what was gone before the run is not brought back by undo
}

// Room sees that the host has room for a run. Where it has not, that is kept least of all which was
// gone before the run, and then not even what only undo would need: from the first place on that is then
// written over, the run can only be finished, and the script says so there.
func Room(runs string, dev disk.Device, s script.Script) (script.Script, Lean, error) {
	l := Lean{Forever: -1}
	room, err := facts.Free(runs)
	if err != nil {
		return nil, l, err
	}
	need := needs(dev, s)
	less, spared := withoutGone(s)
	if all := need - needs(dev, less); spared && (need > room || all > min(plan.MostKept, room/2)) {
		s, need, l.Gone = less, need-all, true
	}
	if need <= room {
		return s, l, nil
	}
	s, l.Forever = without(s)
	if l.Forever >= 0 {
		need = needs(dev, s)
	}
	if need > room {
		return nil, l, fmt.Errorf(
			"%w: the run needs %s beside the drive, and %s is free; nothing was written", ErrRoom, need, room,
		)
	}
	return s, l, nil
}

// withoutGone is a script that does not keep what was gone before it, and whether that is less.
func withoutGone(s script.Script) (out script.Script, less bool) {
	for _, op := range s {
		if op.Gone {
			op.Keep, op.Spare, op.Gone, op.Before, less = false, false, false, nil, true
		}
		out = append(out, op)
	}
	return out, less
}

// without is a script that does not keep what would be kept only for undo.
func without(s script.Script) (out script.Script, step int) {
	step = -1
	for _, op := range s {
		if !op.Spare {
			out = append(out, op)
			continue
		}
		if step < 0 && !op.Gone {
			step = op.Step
			out = append(out, script.Op{Kind: script.NoReturn, Step: step, Text: "from here on " + NoRoomToKeep})
		}
		if op.Keep, op.Spare, op.Gone, op.Before = false, false, false, nil; op.Kind != script.Hole || op.Len > 0 {
			out = append(out, op)
		}
	}
	return out, step
}

// NoRoomToKeep is why a run cannot be taken back from a step on.
const NoRoomToKeep = "it writes over what an earlier step has made free, and the bench has no room to keep that"
