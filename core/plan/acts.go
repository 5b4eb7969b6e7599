package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
)

// What can be done beside the steps that are carried out so far.
const (
	Shrink  Do = "shrink"
	Slide   Do = "slide"
	Combine Do = "combine"
	Split   Do = "split"
	Create  Do = "create"
	Letter  Do = "letter"
	Look    Do = "look-inside"
)

// Act is something that can or cannot be done with a partition or gap now.
type Act struct {
	Do   Do     `json:"do"`
	Edge string `json:"edge,omitempty"` // head, where it is not the end
	// Act is what is done with a container.
	Act ContainerAct `json:"act,omitempty"`
	// Limit is the most that can be gained, cut off, or taken.
	Limit disk.Bytes `json:"limit,omitempty"`
	// Dropped is how much more could be cut off where the volume's restore points are dropped.
	Dropped  disk.Bytes `json:"dropped,omitempty"`
	Note     string     `json:"note,omitempty"` // what goes with a possible act
	Obstacle *Obstacle  `json:"obstacle,omitempty"`
	Missing  []Obstacle `json:"missing,omitempty"`
	Scheme   string     `json:"scheme,omitempty"` // of a table that is proposed
}

// Acts lists what can be done with a partition of the layout, and for what cannot,
// why and the ways round.
func Acts(l *layout.Layout, number int, f Facts) []Act {
	f = f.On(l)
	p, ok := l.Find(number)
	if !ok {
		return nil
	}
	grow := Act{Do: Grow}
	room, o := RoomToGrow(l, p, f)
	if grow.Obstacle = o; o == nil {
		grow.Limit = (room - p.End).Offset(l.Sector)
	}
	del := Act{Do: Delete}
	if del.Obstacle = AgainstDeleting(l, p, f); del.Obstacle == nil {
		del.Missing = missing(&Column{}, p, f)
	}
	return slices.Concat(
		ofContainer(l, p, f),
		[]Act{
			grow, growHead(l, p, f), ShrinkAct(l, p, f), slide(l, p, f), combine(l, p, f), split(l, p, f), del,
			letter(l, p, f), look(p),
		},
		ofThePC(l, p, f),
	)
}

// GapActs lists what can be done with the gap that begins at sector start, inside a
// container or with 0 outside.
func GapActs(l *layout.Layout, start disk.LBA, container int, f Facts) []Act {
	f = f.On(l)
	i := slices.IndexFunc(l.Spans, func(s layout.Span) bool {
		return s.Kind == layout.Gap && s.Start == start && s.Container == container
	})
	if i < 0 {
		return nil
	}
	if f.NoTable {
		return []Act{makeTable(l, f)}
	}
	create := create(l, &l.Spans[i], f)
	back := Act{Do: BringBack, Limit: l.Room(l.Spans[i]), Note: "From a record whose partition fits here."}
	switch {
	case create.Obstacle != nil && slices.Contains([]Code{TableUnsafe, ReadOnly, FifthPrimary, TableFull, GapTooSmall}, create.Obstacle.Code):
		back.Obstacle, back.Note = create.Obstacle, ""
	case !f.Deleted:
		back.Obstacle, back.Note = NewObstacle(
			NoRecord, "No record is kept of a partition that was deleted from this drive.",
		), ""
	}
	return []Act{create, back}
}

// AgainstAll is what stands against every change of a drive.
func AgainstAll(f Facts) *Obstacle {
	switch {
	case f.ReadOnly:
		return NewObstacle(
			ReadOnly,
			"The drive is attached read-only, for evidence: nothing on it may change. Attach it again for writing.",
		).ClearedBy("attach")
	case f.NoTable:
		return NewObstacle(
			TableUnsafe,
			"The drive has no partition table. Make one first: that writes to its first and last sectors alone.",
		).ClearedBy("clear")
	case f.TableTrouble != "":
		return NewObstacle(TableUnsafe, f.TableTrouble).ClearedBy("mend", "clear")
	}
	return f.entries.obstacle()
}

// keepsBackups tells that a partition is a shelf.
func keepsBackups(p *layout.Span, f Facts) *Obstacle {
	if f.Shelved[p.Number] == "" {
		return nil
	}
	return NewObstacle(
		IsShelf, fmt.Sprintf("Backups are kept in it: it is the shelf %s. No plan touches it.", f.Shelved[p.Number]),
		p.Number,
	)
}

// sealedWhole is what stands against everything but handling a partition whole.
func sealedWhole(p *layout.Span) *Obstacle {
	switch {
	case p.Member || p.Volume != nil && p.Volume.Kind == volume.Member:
		return NewObstacle(
			SetMember,
			"It belongs to a set of several drives: without the others nobody can say what lies on it, so its place in the table stays as it is.",
			p.Number,
		)
	case p.Volume != nil && (p.Volume.Kind == volume.Sealed || p.Volume.Kind == volume.LVM):
		return NewObstacle(
			Sealed,
			fmt.Sprintf(
				"It is sealed (%s) and is only handled whole. Unlock and unseal it on its own PC first; its recovery key may be asked for.",
				sealedName(p.Volume),
			),
			p.Number,
		).ClearedBy("unseal")
	}
	return nil
}

func sealedName(v *volume.Info) string {
	if v.Detail != "" {
		return v.Detail
	}
	return string(v.Kind)
}

// heldOpen tells that the running PC uses a volume.
func heldOpen(p *layout.Span) *Obstacle {
	if p.Held == "" {
		return nil
	}
	text := fmt.Sprintf("The PC is running, and %s holds it open.", p.Held)
	if p.Loses != "" {
		text += fmt.Sprintf(" Closing it by force would lose %s.", p.Loses)
	}
	return NewObstacle(Held, text+" Switch the PC off and take the drive to a bay, free the volume, or carry out around a restart.", p.Number).ClearedBy("switch-off", "free-volume", "restart")
}

// Inside lists the logical volumes of a container.
func InsideOf(l *layout.Layout, container int) (out []int) {
	for _, q := range l.Partitions() {
		if q.Container == container {
			out = append(out, q.Number)
		}
	}
	return out
}

// Resizable is what stands against changing the size of the volume in p, whatever
// the edge.
func Resizable(p *layout.Span, f Facts) *Obstacle {
	if o := AgainstAll(f); o != nil {
		return o
	}
	if o := sealedWhole(p); o != nil {
		return o
	}
	v := p.Volume
	switch {
	case p.Role == layout.Container:
		return NewObstacle(
			HasVolumes, "It is a container, not a volume: it is made larger and smaller by steps of its own.",
			p.Number,
		)
	case v == nil || v.Kind == volume.Unknown:
		return NewObstacle(NoVolume, "It holds no file system that is known.", p.Number)
	case !v.Kind.Changes():
		text := fmt.Sprintf(
			"A volume of the kind %s is handled whole: it can be imaged, slid, deleted and brought back, not resized.",
			v.Kind,
		)
		if v.Kind.Opens() {
			return NewObstacle(
				NotResizable, text+" Its files can be copied to a volume of another size.", p.Number,
			).ClearedBy("copy-out")
		}
		return NewObstacle(NotResizable, text, p.Number)
	case p.Held != "":
		return heldOpen(p)
	case v.Hibernated || len(f.Asleep) > 0:
		return asleep(p, f)
	case !v.Clean:
		return NewObstacle(NotClean, "The volume is not clean: it was not closed properly, or waits for a check. Let its PC check it and shut down fully first.", p.Number).ClearedBy("close-volume")
	}
	return nil
}

// asleep says whose system is hibernated: that of p itself, or of another volume of
// the same PC.
func asleep(p *layout.Span, f Facts) *Obstacle {
	text := "Its system is hibernated: it will go on from memory and write what it remembers. Start the PC and shut it down fully first."
	if !p.Volume.Hibernated {
		text = fmt.Sprintf(
			"%s of the same PC is hibernated and may have this volume open in its memory. Start the PC and shut it down fully first.",
			strings.Join(f.Asleep, ", "),
		)
	}
	return NewObstacle(Hibernated, text, p.Number).ClearedBy("close-volume")
}

// MaxVolume is how many sectors a volume can have: NTFS counts clusters in 32 bits, a FAT
// volume has as many as its kind allows. One with bad clusters gets no larger tables: these
// would come to lie on other clusters, bad ones perhaps.
func MaxVolume(v *volume.Info, sector disk.Bytes) disk.LBA {
	if v.Tables == nil {
		return ((1<<32-1)*v.ClusterBytes + sector).At(sector)
	}
	_, roomy, most := fat.Bounds(*v, sector)
	if v.BadClusters > 0 {
		most = roomy
	}
	return most.At(sector)
}

// notAdjacent says why no gap touches p's end: what stands between, or where else
// there is room.
func notAdjacent(l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	var between []int
	var names []string
	holds := false
	for _, s := range l.Spans {
		if s.Start <= p.End || s.Container != p.Container {
			continue
		}
		if s.Kind == layout.Partition {
			between = append(between, s.Number)
			names = append(names, fmt.Sprintf("%s (%s)", s.Title(), s.Bytes))
			holds = holds || s.Role == layout.Container
			continue
		}
		if s.Why == layout.Free && len(names) > 0 {
			verb := "lies"
			if len(names) > 1 {
				verb = "lie"
			}
			o := NewObstacle(InTheWay, fmt.Sprintf("%s %s before the %s gap.", Join(names), verb, s.Bytes), between...).ClearedBy("delete", "slide")
			if holds {
				o.ClearedBy("container")
			}
			return o
		}
	}
	if s := BiggestGap(l, func(s layout.Span) bool { return s.Container == p.Container && s.End < p.Start }); s != nil {
		if s.End == p.Start-1 || p.Record != 0 && s.End == p.Record-1 {
			return NewObstacle(GapBefore, fmt.Sprintf("The %s gap lies before it, and a volume grows only at its end. Slide it toward the start, and the gap comes to lie behind it.", s.Bytes), p.Number).ClearedBy("slide", "grow-head")
		}
		return NewObstacle(
			GapBefore,
			fmt.Sprintf(
				"The only gap, %s, lies further toward the start of the drive. What lies between must slide.",
				s.Bytes,
			),
			p.Number,
		).ClearedBy("slide")
	}
	if p.Container != 0 {
		if s := BiggestGap(l, func(s layout.Span) bool { return s.Container == 0 }); s != nil {
			if len(names) > 0 {
				return NewObstacle(
					Outside,
					fmt.Sprintf(
						"%s it, and the %s gap lies outside the extended container that both lie in. "+
							"The container must grow first, and what follows slide.", following(names), s.Bytes,
					),
					append(between, p.Container)...,
				).ClearedBy("container", "slide")
			}
			return NewObstacle(
				Outside,
				fmt.Sprintf(
					"The %s gap lies outside the extended container, and this volume lies in it. The container must grow first.",
					s.Bytes,
				),
				p.Number, p.Container,
			).ClearedBy("container")
		}
	} else if s := BiggestGap(l, func(s layout.Span) bool { return s.Container != 0 }); s != nil {
		return NewObstacle(
			Inside,
			fmt.Sprintf(
				"The %s gap lies inside the extended container, and this volume lies outside. The container must shrink first.",
				s.Bytes,
			),
			p.Number, s.Container,
		).ClearedBy("container")
	}
	if l.Scheme == "mbr" && l.Size.At(l.Sector)-1 > l.LastUsable {
		return NewObstacle(BeyondMBR, fmt.Sprintf("There is room behind, but it lies beyond sector %s (2 TiB), which the drive's old table (MBR) cannot name. A GPT could.", disk.Grouped(int64(l.LastUsable))), p.Number).ClearedBy("change-table")
	}
	for _, e := range f.Elsewhere {
		if e.Room >= disk.GiB {
			return NewObstacle(OtherDrive, fmt.Sprintf("This drive has no gap. Bay %s has %s, but two drives cannot be merged. Back files up, and restore them into a volume there.", e.Bay, e.Room), p.Number).ClearedBy("copy-out", "move-files")
		}
	}
	if len(names) > 0 {
		text := following(names) + " it, and there is no gap behind."
		return NewObstacle(NoGap, text, between...).ClearedBy("delete", "shrink")
	}
	return NewObstacle(NoGap, "It reaches the end of the drive.", p.Number)
}

func BiggestGap(l *layout.Layout, fits func(layout.Span) bool) *layout.Span {
	var best *layout.Span
	for i, s := range l.Spans {
		if s.Kind == layout.Gap && s.Why == layout.Free && fits(s) && (best == nil || s.Bytes > best.Bytes) {
			best = &l.Spans[i]
		}
	}
	return best
}

// before is the gap that ends where p, or its record in the chain, begins.
func before(l *layout.Layout, p *layout.Span) *layout.Span {
	head := p.Start
	if p.Record != 0 {
		head = p.Record
	}
	return BiggestGap(l, func(s layout.Span) bool { return s.Container == p.Container && s.End == head-1 })
}

// combine looks for a volume of the same drive that could take p's files.
func combine(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Combine}
	if a.Obstacle = Resizable(p, f); a.Obstacle != nil {
		return a
	}
	if p.Role == layout.StartSystem {
		a.Obstacle = NewObstacle(
			IsStart, "The PC starts this system: it can take another volume's files, but not be taken into one.",
			p.Number,
		)
		return a
	}
	var near []string
	for _, q := range l.Partitions() {
		if q.Number != p.Number && Resizable(&q, f) == nil && q.Role != layout.EFI && q.Role != layout.Recovery && q.Role != layout.OEM {
			near = append(near, q.Title())
		}
	}
	switch {
	case len(near) > 0:
		a.Note = "Its files would come to lie in a folder of " + either(near) + "."
	case len(f.Elsewhere) > 0:
		a.Obstacle = NewObstacle(
			OtherDrive,
			fmt.Sprintf(
				"No other volume of this drive can take it, and two drives cannot be merged. Back its files up, and restore them into a volume of the drive in bay %s.",
				f.Elsewhere[0].Bay,
			),
			p.Number,
		).ClearedBy("copy-out")
	default:
		a.Obstacle = NewObstacle(NoNeighbour, "No other volume of this drive can take its files.", p.Number)
	}
	return a
}

func split(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Split}
	s := ShrinkAct(l, p, f)
	if a.Obstacle = s.Obstacle; a.Obstacle != nil {
		return a
	}
	if p.Container == 0 {
		if a.Obstacle = slotFree(l, p.Number); a.Obstacle != nil {
			return a
		}
	}
	least := leastVolume(p.Volume.Kind)
	if s.Limit < least {
		a.Obstacle = NewObstacle(
			TooSmall, fmt.Sprintf("It can give up %s, and a volume needs %s.", s.Limit, least), p.Number,
		)
		return a
	}
	a.Limit, a.Note = s.Limit, "The new volume takes what this one gives up at its end."
	return a
}

// leastVolume is the smallest volume that is worth its bookkeeping.
func leastVolume(k volume.Kind) disk.Bytes {
	if k == volume.FAT32 {
		return 33 * disk.MiB // FAT32 begins at 65 525 clusters
	}
	return 8 * disk.MiB
}

// slotFree tells whether the table has room for one more entry outside a container.
func slotFree(l *layout.Layout, number int) *Obstacle {
	if freeNumber(l, 0) != 0 {
		return nil
	}
	if l.Scheme != "mbr" {
		return NewObstacle(TableFull, fmt.Sprintf("All %d entries of the table are in use.", l.Slots), number)
	}
	has := slices.ContainsFunc(l.Partitions(), func(q layout.Span) bool { return q.Role == layout.Container })
	if has {
		return NewObstacle(FifthPrimary, "The table (MBR) has four entries, and all are in use. A logical volume in the extended container needs none of them.", number).ClearedBy("logical", "delete")
	}
	return NewObstacle(FifthPrimary, "The table (MBR) has four entries, and all are in use. One of them must become an extended container, or the table a GPT.", number).ClearedBy("container", "change-table", "delete")
}

// first tells whether p is the first partition of the drive.
func first(l *layout.Layout, p *layout.Span) bool {
	return !slices.ContainsFunc(l.Partitions(), func(q layout.Span) bool { return q.Start < p.Start })
}

func look(p *layout.Span) Act {
	a := Act{Do: Look}
	v := p.Volume
	switch {
	case sealedWhole(p) != nil:
		a.Obstacle = sealedWhole(p)
	case v == nil || v.Kind == volume.Unknown:
		a.Obstacle = NewObstacle(NoVolume, "It holds no file system that is known.", p.Number)
	case !v.Kind.Opens():
		a.Obstacle = NewObstacle(
			NotReadable,
			fmt.Sprintf("Volumes of the kind %s are recognised and handled whole, but not opened.", v.Kind), p.Number,
		)
	case v.ClusterBytes == 0:
		a.Obstacle = NewObstacle(
			NotReadable, "Its file system is damaged and cannot be opened. Search the drive for what is left of it.",
			p.Number,
		).ClearedBy("search")
	}
	return a
}

// HoldsFiles tells whether a partition may hold somebody's files.
func HoldsFiles(p *layout.Span) bool {
	return p.Role != layout.Recovery && p.Role != layout.OEM && p.Role != layout.Reserved && p.Volume != nil
}

// MayGrow tells whether a partition holds a volume that can be grown at all.
func MayGrow(p *layout.Span, f Facts) bool { return Resizable(p, f) == nil }

// Named finds a partition that a goal or a step names.
func Named(l *layout.Layout, name string) (*layout.Span, *Obstacle) {
	n, err := strconv.Atoi(name)
	p, ok := l.Find(n)
	if err != nil || !ok {
		return nil, NewObstacle(NoSuch, fmt.Sprintf("There is no partition %s.", name))
	}
	return p, nil
}

// following says that the named follow.
func following(names []string) string {
	if len(names) == 1 {
		return names[0] + " follows"
	}
	return Join(names) + " follow"
}

// either lists what can be chosen from.
func either(all []string) string {
	if n := len(all); n > 2 {
		return strings.Join(all[:n-1], ", ") + " or " + all[n-1]
	}
	return strings.Join(all, " or ")
}
