package plan

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/volume"
)

// parkedIn is the folder that a recovery environment is parked in.
const parkedIn = "Parked recovery"

// ofThePC tells whether a step is about the drive's PC.
func (s Step) ofThePC() bool {
	return slices.Contains([]Do{ParkRecovery, UseRecovery, DropStartEntry, StartOrder, NoteIdentity, Letter}, s.Do)
}

// validPC checks the words of a step about the PC.
func (s Step) validPC() error {
	switch {
	case s.Do == StartOrder && s.Partition == "" && s.Wait == nil:
		return errors.New("start-order names neither a partition nor a time to wait")
	case s.Do == StartOrder && s.Wait != nil && (*s.Wait < 0 || *s.Wait > pc.MaxWait):
		return fmt.Errorf("wait_seconds is %d, not 0 to %d", *s.Wait, pc.MaxWait)
	case s.Do != StartOrder && s.Wait != nil:
		return fmt.Errorf("%s does not wait", s.Do)
	case s.Partition == "" && s.Do != StartOrder && s.Do != ParkRecovery:
		return fmt.Errorf("%s names no partition", s.Do)
	case s.Do == Letter && s.Letter != "" && !pc.Letter(s.Letter):
		return fmt.Errorf("%q is not a letter from A to Z", s.Letter)
	}
	return validFolder(s.Folder)
}

// unknownPC is what stands against a step about a PC of which nothing is known.
func unknownPC(f Facts, n ...int) *Obstacle {
	if f.PC != nil {
		return nil
	}
	return obstacle(NoPC, "It is a matter of the PC, and the facts about this drive's PC are not known. Read them in.", n...).clear("read-facts")
}

// onPC lays a step about the PC; p is nil when it names no partition.
func onPC(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	var o *Obstacle
	switch c.Step.Do {
	case ParkRecovery:
		o = park(c, l, p, f)
	case UseRecovery:
		o = useRecovery(c, l, p, f)
	case DropStartEntry:
		o = dropStartEntry(c, l, p, f)
	case StartOrder:
		o = startOrder(c, l, p, f)
	case Letter:
		o = newLetter(c, l, p, f)
	case NoteIdentity:
		c.Title, c.Detail, c.Layout = "Note the identity of "+p.Title(), Identity(*p), l
	}
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
	}
}

// Identity is what tells a partition from all others, in a line.
func Identity(p layout.Span) string {
	t := []string{fmt.Sprintf("partition %d, sectors %d to %d", p.Number, p.Start, p.End), "type " + p.TypeID}
	if p.UniqueID != "" {
		t = append(t, "unique id "+p.UniqueID)
	}
	t = append(t, "attributes "+p.Attributes)
	if p.Active {
		t = append(t, "active")
	}
	if p.Name != "" {
		t = append(t, fmt.Sprintf("name %q", p.Name))
	}
	if v := p.Volume; v != nil {
		t = append(t, string(v.Kind))
		if v.Label != "" {
			t = append(t, fmt.Sprintf("label %q", v.Label))
		}
		if v.Serial != "" {
			t = append(t, "serial "+v.Serial)
		}
	}
	if p.Letter != "" {
		t = append(t, "letter "+p.Letter+":")
	}
	return strings.Join(t, ", ")
}

// byID finds a partition by its unique id.
func byID(l *layout.Layout, id string) (layout.Span, bool) {
	for _, p := range l.Partitions() {
		if id != "" && strings.EqualFold(p.UniqueID, id) {
			return p, true
		}
	}
	return layout.Span{}, false
}

// mayPark is what stands against parking the recovery environment, wherever to.
func mayPark(l *layout.Layout, f Facts) (from, to layout.Span, o *Obstacle) {
	if o := unknownPC(f); o != nil {
		return from, to, o
	}
	r := f.PC.Recovery
	switch {
	case r == nil:
		return from, to, obstacle(NotParked, "The facts about the PC name no recovery environment.")
	case r.Parked:
		return from, to, obstacle(NothingToDo, "The recovery environment is parked already.")
	}
	from, there := byID(l, r.Partition)
	to, starts := byID(l, f.PC.Start)
	switch {
	case !there:
		o = obstacle(NotParked, "The partition that holds the recovery environment is not on this drive, or is gone.")
	case from.Volume == nil || sealedWhole(&from) != nil:
		o = obstacle(NotReadable, fmt.Sprintf("%s holds nothing that can be read.", from.Title()), from.Number)
	case !starts:
		o = obstacle(NoSystem, "The system that the PC starts is not on this drive: there is no volume to park it in.", from.Number)
	case from.Number == to.Number:
		o = obstacle(NothingToDo, "It lies on the start system's own volume already.", from.Number)
	default:
		o = mayTake(&to, from.Volume.UsedBytes)
	}
	return from, to, o
}

// park copies the recovery environment into a folder of the start system.
func park(c *Column, l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	c.Title = "Park the recovery environment"
	from, to, o := mayPark(l, f)
	if o != nil {
		return o
	}
	if p != nil && p.Number != from.Number {
		return obstacle(NotParked, fmt.Sprintf("The recovery environment lies in %s (partition %d), not in %s.", from.Title(), from.Number, p.Title()), p.Number)
	}
	if c.Step.Folder == "" {
		c.Step.Folder = parkedIn
	}
	used := from.Volume.UsedBytes
	c.Number, c.From = to.Number, from.Number
	c.Detail = fmt.Sprintf("copied from %s into the folder %s of %s", from.Title(), strings.Trim(c.Step.Folder, "/"), to.Title())
	c.Layout, c.PC = fuller(l, to.Number, used), f.PC.Parked(to.UniqueID, strings.Trim(c.Step.Folder, "/"), int64(used))
	return nil
}

// useRecovery takes the recovery environment into use from a partition: the one that it
// came from and still lies in, or another that it is copied into from where it is parked.
func useRecovery(c *Column, l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	c.Title = "Use the recovery environment from " + p.Title()
	if o := unknownPC(f, p.Number); o != nil {
		return o
	}
	r := f.PC.Recovery
	switch {
	case r == nil:
		return obstacle(NotParked, "The facts about the PC name no recovery environment.", p.Number)
	case r.InUse && strings.EqualFold(r.Partition, p.UniqueID):
		return obstacle(NothingToDo, "It is in use from there already.", p.Number)
	case p.Role != layout.Recovery:
		return obstacle(NoVolume, fmt.Sprintf("%s is not a recovery partition: a PC would not look for it there.", p.Title()), p.Number)
	case p.Volume == nil:
		return obstacle(NoVolume, fmt.Sprintf("%s holds no volume.", p.Title()), p.Number)
	case p.Held != "":
		return heldOpen(p)
	}
	c.PC = f.PC.RecoveryFrom(p.UniqueID)
	if strings.EqualFold(r.Partition, p.UniqueID) {
		c.Detail, c.Layout = "it still lies there", l
		return nil
	}
	from, there := byID(l, r.Volume)
	switch {
	case !r.Parked:
		return obstacle(NotParked, "It is not parked: nothing is there that could be copied. Park it first, while its partition is there.", p.Number).clear("park-recovery")
	case !there:
		return obstacle(NotParked, "The volume that it is parked in is not on this drive, or nobody noted which it is.", p.Number)
	}
	if o := mayTake(p, disk.Bytes(r.Bytes)); o != nil {
		return o
	}
	c.Number, c.From, c.Base, c.Step.Folder = p.Number, from.Number, r.Folder, ""
	c.Detail = fmt.Sprintf("copied from the folder %s of %s, where the parked copy stays", r.Folder, from.Title())
	c.Layout = fuller(l, p.Number, disk.Bytes(r.Bytes))
	if from.Volume != nil && from.Volume.Kind == volume.NTFS && mayTake(&from, 0) == nil {
		c.Moves, c.Layout = true, fuller(c.Layout, from.Number, -disk.Bytes(r.Bytes))
		c.Detail = fmt.Sprintf("moved from the folder %s of %s", r.Folder, from.Title())
	}
	return nil
}

// isSystem is what stands against naming a partition in the start order.
func isSystem(p *layout.Span, f Facts) *Obstacle {
	if o := unknownPC(f, p.Number); o != nil {
		return o
	}
	if p.Role != layout.StartSystem && p.Role != layout.OtherSystem {
		return obstacle(NoSystem, fmt.Sprintf("%s holds no system.", p.Title()), p.Number)
	}
	return nil
}

// mayDrop is what stands against taking a system out of the start order.
func mayDrop(p *layout.Span, f Facts) *Obstacle {
	if o := isSystem(p, f); o != nil {
		return o
	}
	switch {
	case f.PC.Starts(p.UniqueID):
		return obstacle(IsStart, "The PC starts this system by default, so it stays in the start order. Name another start system first.", p.Number).clear("start-order")
	case !f.PC.InOrder(p.UniqueID):
		return obstacle(NotInOrder, "The PC does not offer to start this system.", p.Number)
	}
	return nil
}

func dropStartEntry(c *Column, l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	c.Title = fmt.Sprintf("Take %s out of the start order", p.Title())
	if o := mayDrop(p, f); o != nil {
		return o
	}
	after, err := f.PC.WithoutEntry(p.UniqueID)
	if err != nil {
		return obstacle(NotInOrder, err.Error(), p.Number)
	}
	c.PC, c.Detail = after, fmt.Sprintf("the PC offers %d of %d systems from then on", len(after.Order), len(f.PC.Order))
	c.Layout = started(l, after)
	return nil
}

// startOrder puts a system first, or changes for how long the PC asks, or both.
func startOrder(c *Column, l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	c.Title = "Change the start order"
	if o := unknownPC(f); o != nil {
		return o
	}
	after := f.PC
	var said []string
	if p != nil {
		if o := isSystem(p, f); o != nil {
			return o
		}
		if p.Volume == nil || p.Volume.Hibernated && !f.PC.Starts(p.UniqueID) {
			return obstacle(Hibernated, fmt.Sprintf("%s is hibernated; start it once and shut it down first.", p.Title()), p.Number).clear("shut-down")
		}
		after = after.WithStart(p.UniqueID, p.Title())
		said = append(said, fmt.Sprintf("%s is the system that the PC starts", p.Title()))
	}
	if c.Step.Wait != nil {
		var err error
		if after, err = after.WithWait(*c.Step.Wait); err != nil {
			return obstacle(BadAmount, err.Error())
		}
		said = append(said, fmt.Sprintf("it asks for %d s", after.Wait))
	}
	c.Detail, c.PC, c.Layout = strings.Join(said, "; "), after, started(l, after)
	return nil
}

// started is the layout with the systems as the PC starts them.
func started(l *layout.Layout, after *pc.Facts) *layout.Layout {
	parts := l.Partitions()
	for i := range parts {
		q := &parts[i]
		if q.Role != layout.StartSystem && q.Role != layout.OtherSystem {
			continue
		}
		q.Role, q.Note = layout.OtherSystem, layout.NoteUnstarted
		switch {
		case after.Starts(q.UniqueID):
			q.Role, q.Note = layout.StartSystem, ""
		case after.InOrder(q.UniqueID):
			q.Note = layout.NoteOffered
		}
	}
	return l.With(parts)
}

func newLetter(c *Column, l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	c.Title = "Give " + p.Title() + " the letter " + c.Step.Letter + ":"
	if c.Step.Letter == "" {
		c.Title = "Take the letter of " + p.Title() + " away"
	}
	if o := unknownPC(f, p.Number); o != nil {
		return o
	}
	if o := heldOpen(p); o != nil {
		return o
	}
	facts := f.PC
	if _, id, taken := facts.Holder(c.Step.Letter); taken && f.names != nil && f.names.left[id] { // it takes the place of one that the plan deletes
		facts, _ = facts.WithLetter(id, "")
	}
	after, err := facts.WithLetter(p.UniqueID, c.Step.Letter)
	if err != nil {
		return obstacle(LetterTaken, sentence(err), p.Number).clear("letter")
	}
	parts := l.Partitions()
	for i := range parts {
		if parts[i].Number == p.Number {
			parts[i].Letter = c.Step.Letter
		}
	}
	c.PC, c.Layout = after, l.With(parts)
	c.Detail = "people see it under " + c.Step.Letter + ":"
	if c.Step.Letter == "" {
		c.Detail = "people do not see it then"
	}
	return nil
}

func sentence(err error) string {
	s := err.Error()
	return strings.ToUpper(s[:1]) + s[1:] + "."
}

// leaves tells what a deletion means for the PC: a system that goes leaves the start
// order first, and a recovery environment goes with its partition.
func leaves(c *Column, p *layout.Span, f Facts) {
	if f.PC == nil {
		return
	}
	c.PC = f.PC.Gone(p.UniqueID)
	if f.PC.InOrder(p.UniqueID) {
		c.Notes = append(c.Notes, *obstacle(StartEntryLeft, fmt.Sprintf("The PC offers to start %s. It leaves the start order before it is deleted.", p.Title()), p.Number))
	}
	if r := f.PC.Recovery; r != nil && r.InUse && strings.EqualFold(r.Partition, p.UniqueID) {
		c.Notes = append(c.Notes, *obstacle(RecoveryInUse, fmt.Sprintf("The PC's recovery environment is in use from %s. Park it first, or the PC is without one.", p.Title()), p.Number).clear("park-recovery"))
	}
}

// ofThePC lists the acts that are about the PC, for the partitions that they concern.
func ofThePC(l *layout.Layout, p *layout.Span, f Facts) []Act {
	var out []Act
	if p.Role == layout.Recovery || f.PC != nil && f.PC.Recovery != nil && strings.EqualFold(f.PC.Recovery.Partition, p.UniqueID) {
		park := Act{Do: ParkRecovery}
		if _, to, o := mayPark(l, f); o != nil {
			park.Obstacle = o
		} else if !strings.EqualFold(f.PC.Recovery.Partition, p.UniqueID) {
			park.Obstacle = obstacle(NotParked, "The PC's recovery environment lies in another partition.", p.Number)
		} else {
			park.Note = fmt.Sprintf("It is copied into a folder of %s, and can be taken back into use from there.", to.Title())
		}
		c := Column{Step: Step{Do: UseRecovery, Partition: strconv.Itoa(p.Number)}}
		use := Act{Do: UseRecovery, Obstacle: useRecovery(&c, l, p, f)}
		if use.Obstacle == nil {
			use.Note = strings.ToUpper(c.Detail[:1]) + c.Detail[1:] + "."
		}
		out = append(out, park, use)
	}
	if p.Role == layout.StartSystem || p.Role == layout.OtherSystem {
		c := Column{Step: Step{Do: StartOrder, Partition: strconv.Itoa(p.Number)}}
		first := Act{Do: StartOrder, Obstacle: startOrder(&c, l, p, f)}
		switch {
		case first.Obstacle != nil:
		case f.PC.Starts(p.UniqueID):
			first.Note = fmt.Sprintf("The PC starts it by default and asks for %d s.", f.PC.Wait)
		default:
			first.Note = fmt.Sprintf("It becomes the system that the PC starts by default. The PC asks for %d s.", f.PC.Wait)
		}
		drop := Act{Do: DropStartEntry, Obstacle: mayDrop(p, f)}
		if drop.Obstacle == nil {
			drop.Note = "The PC no longer offers to start it. Its files stay."
		}
		out = append(out, first, drop)
	}
	return append(out, Act{Do: NoteIdentity, Note: "What tells it from all others goes into the trail as it is now."})
}
