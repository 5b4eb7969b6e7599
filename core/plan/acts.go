package plan

import (
	"fmt"
	"slices"
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
	f.entries = brokenEntries(l)
	p, ok := l.Find(number)
	if !ok {
		return nil
	}
	grow := Act{Do: Grow}
	room, o := mayGrow(l, p, f)
	if grow.Obstacle = o; o == nil {
		grow.Limit = (room - p.End).Offset(l.Sector)
	}
	del := Act{Do: Delete}
	if del.Obstacle = mayDelete(l, p, f); del.Obstacle == nil {
		del.Missing = missing(&Column{}, p, f)
	}
	return slices.Concat(ofContainer(l, p, f), []Act{grow, growHead(l, p, f), shrink(l, p, f), slide(l, p, f), combine(l, p, f), split(l, p, f), del, letter(l, p, f), look(p)}, ofThePC(l, p, f))
}

// ofContainer lists what can be done with an extended container, for one.
func ofContainer(l *layout.Layout, p *layout.Span, f Facts) (out []Act) {
	if p.Role != layout.Container {
		return nil
	}
	for _, act := range []ContainerAct{GrowIt, ShrinkIt, Dissolve} {
		a := Act{Do: Container, Act: act, Obstacle: general(f)}
		c := Column{Step: Step{Do: Container, Act: string(act), By: "all"}}
		if a.Obstacle == nil {
			changeContainer(&c, l, p, f)
		}
		switch {
		case len(c.Obstacles) > 0:
			a.Obstacle = &c.Obstacles[0]
		case c.Layout != nil && act != Dissolve:
			q, _ := c.Layout.Find(p.Number)
			a.Limit, a.Note = max(q.Bytes-p.Bytes, p.Bytes-q.Bytes), "At its end; the logical volumes stay where they are."
		case c.Layout != nil:
			a.Note = "It is empty. Its room is free for primary partitions then."
		}
		out = append(out, a)
	}
	return out
}

// GapActs lists what can be done with the gap that begins at sector start, inside a
// container or with 0 outside.
func GapActs(l *layout.Layout, start disk.LBA, container int, f Facts) []Act {
	f.entries = brokenEntries(l)
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
		back.Obstacle, back.Note = obstacle(NoRecord, "No record is kept of a partition that was deleted from this drive."), ""
	}
	return []Act{create, back}
}

// makeTable is what comes first on a drive without a table: of the kind that is proposed from what a search
// has found there.
func makeTable(l *layout.Layout, f Facts) Act {
	var spans []layout.Span
	for _, g := range f.Gone {
		spans = append(spans, g.Span)
	}
	a := Act{Do: Clear}
	var why string
	a.Scheme, why = schemeFor(l, spans, f.Removable)
	if a.Note = "Proposed is " + map[string]string{"gpt": "a GPT", "mbr": "the old kind (MBR)"}[a.Scheme] + ": " + why + "."; f.ReadOnly {
		a.Obstacle = general(f)
	}
	return a
}

// general is what stands against every change of a drive.
func general(f Facts) *Obstacle {
	switch {
	case f.ReadOnly:
		return obstacle(ReadOnly, "The drive is attached read-only, for evidence: nothing on it may change. Attach it again for writing.").clear("attach")
	case f.NoTable:
		return obstacle(TableUnsafe, "The drive has no partition table. Make one first: that writes to its first and last sectors alone.").clear("clear")
	case f.TableTrouble != "":
		return obstacle(TableUnsafe, f.TableTrouble).clear("mend", "clear")
	}
	return f.entries.obstacle()
}

// keepsBackups tells that a partition is a shelf.
func keepsBackups(p *layout.Span, f Facts) *Obstacle {
	if f.Shelved[p.Number] == "" {
		return nil
	}
	return obstacle(IsShelf, fmt.Sprintf("Backups are kept in it: it is the shelf %s. No plan touches it.", f.Shelved[p.Number]), p.Number)
}

// sealedWhole is what stands against everything but handling a partition whole.
func sealedWhole(p *layout.Span) *Obstacle {
	switch {
	case p.Member || p.Volume != nil && p.Volume.Kind == volume.Member:
		return obstacle(SetMember, "It belongs to a set of several drives: without the others nobody can say what lies on it, so its place in the table stays as it is.", p.Number)
	case p.Volume != nil && (p.Volume.Kind == volume.Sealed || p.Volume.Kind == volume.LVM):
		return obstacle(Sealed, fmt.Sprintf("It is sealed (%s) and is only handled whole. Unlock and unseal it on its own PC first; its recovery key may be asked for.", sealedName(p.Volume)), p.Number).clear("unseal")
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
	return obstacle(Held, text+" Switch the PC off and take the drive to a bay, free the volume, or carry out around a restart.", p.Number).clear("switch-off", "free-volume", "restart")
}

// mayDelete says why a partition cannot be deleted at all, or nil.
func mayDelete(l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	if f.entries.of(p.Number) { // whatever else is wrong, it may go
		f.entries = entries{}
	}
	if o := general(f); o != nil {
		return o
	}
	switch {
	case f.Shelved[p.Number] != "":
		return keepsBackups(p, f)
	case p.Role == layout.StartSystem:
		return obstacle(IsStart, "The PC starts this system. Name another start system first.", p.Number).clear("start-order")
	case p.Member || p.Volume != nil && p.Volume.Kind == volume.Member:
		return obstacle(SetMember, "It belongs to a set of several drives; without the others nobody can say what would be lost.", p.Number)
	case p.Held != "":
		return heldOpen(p)
	case p.Role == layout.Container:
		for _, q := range l.Partitions() {
			if q.Container == p.Number {
				return obstacle(HasVolumes, "It holds logical volumes. Delete them first, each by itself.", inside(l, p.Number)...).clear("delete")
			}
		}
	case p.Role == layout.EFI && f.StartsHere:
		if !slices.ContainsFunc(l.Partitions(), func(q layout.Span) bool { return q.Role == layout.EFI && q.Number != p.Number }) {
			return obstacle(OnlyEFI, "It is the only EFI partition of the drive that the PC starts from. Without it the PC cannot start.", p.Number)
		}
	case p.Active && f.StartsHere:
		return obstacle(OnlyEFI, "It is the active partition of the drive that the PC starts from. Without it the PC cannot start.", p.Number)
	}
	return nil
}

// MayDelete tells whether a partition of the layout could be deleted, whatever the
// gate still asks for.
func MayDelete(l *layout.Layout, number int, f Facts) bool {
	f.entries = brokenEntries(l)
	p, ok := l.Find(number)
	return ok && mayDelete(l, p, f) == nil
}

// inside lists the logical volumes of a container.
func inside(l *layout.Layout, container int) (out []int) {
	for _, q := range l.Partitions() {
		if q.Container == container {
			out = append(out, q.Number)
		}
	}
	return out
}

// resizable is what stands against changing the size of the volume in p, whatever
// the edge.
func resizable(p *layout.Span, f Facts) *Obstacle {
	if o := general(f); o != nil {
		return o
	}
	if o := sealedWhole(p); o != nil {
		return o
	}
	v := p.Volume
	switch {
	case p.Role == layout.Container:
		return obstacle(HasVolumes, "It is a container, not a volume: it is made larger and smaller by steps of its own.", p.Number)
	case v == nil || v.Kind == volume.Unknown:
		return obstacle(NoVolume, "It holds no file system that is known.", p.Number)
	case v.Kind != volume.NTFS && v.Kind != volume.FAT12 && v.Kind != volume.FAT16 && v.Kind != volume.FAT32:
		text := fmt.Sprintf("A volume of the kind %s is handled whole: it can be imaged, slid, deleted and brought back, not resized.", v.Kind)
		if slices.Contains(opened, v.Kind) {
			return obstacle(NotResizable, text+" Its files can be copied to a volume of another size.", p.Number).clear("copy-out")
		}
		return obstacle(NotResizable, text, p.Number)
	case p.Held != "":
		return heldOpen(p)
	case v.Hibernated || len(f.Asleep) > 0:
		return asleep(p, f)
	case !v.Clean:
		return obstacle(NotClean, "The volume is not clean: it was not closed properly, or waits for a check. Let its PC check it and shut down fully first.", p.Number).clear("close-volume")
	}
	return nil
}

// asleep says whose system is hibernated: that of p itself, or of another volume of
// the same PC.
func asleep(p *layout.Span, f Facts) *Obstacle {
	text := "Its system is hibernated: it will go on from memory and write what it remembers. Start the PC and shut it down fully first."
	if !p.Volume.Hibernated {
		text = fmt.Sprintf("%s of the same PC is hibernated and may have this volume open in its memory. Start the PC and shut it down fully first.", strings.Join(f.Asleep, ", "))
	}
	return obstacle(Hibernated, text, p.Number).clear("close-volume")
}

// mayGrow returns the sector up to which p can grow, or why it cannot.
func mayGrow(l *layout.Layout, p *layout.Span, f Facts) (disk.LBA, *Obstacle) {
	if o := resizable(p, f); o != nil {
		return 0, o
	}
	gap, ok := l.GapAt(p.End+1, p.Container)
	if !ok {
		return 0, notAdjacent(l, p, f)
	}
	end := (gap.End + 1).Offset(l.Sector).Down(disk.Grid).At(l.Sector) - 1
	limited := false
	if most := maxVolume(p.Volume, l.Sector); end > p.Start+most-1 {
		end, limited = p.Start+most-1, true
	}
	if end <= p.End || limited && (end-p.End).Offset(l.Sector) < disk.Grid {
		if p.Volume.Tables != nil && p.Volume.BadClusters > 0 && gap.Bytes >= disk.MiB {
			return 0, obstacle(BadPlaces, "It has bad clusters, and its table of clusters would have to grow over others. Copy its files out to a sound drive.", p.Number).clear("copy-out")
		}
		if gap.Bytes >= disk.MiB {
			return 0, obstacle(TooLarge, fmt.Sprintf("With clusters of %s it cannot be larger than it is. Copy its files into a volume with larger clusters.", p.Volume.ClusterBytes), p.Number).clear("copy-out")
		}
		return 0, obstacle(GapTooSmall, fmt.Sprintf("The gap behind it is smaller than 1 MiB (%s).", gap.Bytes.Exact()), p.Number)
	}
	return end, nil
}

// maxVolume is how many sectors a volume can have: NTFS counts clusters in 32 bits, a FAT
// volume has as many as its kind allows. One with bad clusters gets no larger tables: these
// would come to lie on other clusters, bad ones perhaps.
func maxVolume(v *volume.Info, sector disk.Bytes) disk.LBA {
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
			o := obstacle(InTheWay, fmt.Sprintf("%s %s before the %s gap.", join(names), verb, s.Bytes), between...).clear("delete", "slide")
			if holds {
				o.clear("container")
			}
			return o
		}
	}
	if s := biggestGap(l, func(s layout.Span) bool { return s.Container == p.Container && s.End < p.Start }); s != nil {
		if s.End == p.Start-1 || p.Record != 0 && s.End == p.Record-1 {
			return obstacle(GapBefore, fmt.Sprintf("The %s gap lies before it, and a volume grows only at its end. Slide it toward the start, and the gap comes to lie behind it.", s.Bytes), p.Number).clear("slide", "grow-head")
		}
		return obstacle(GapBefore, fmt.Sprintf("The only gap, %s, lies further toward the start of the drive. What lies between must slide.", s.Bytes), p.Number).clear("slide")
	}
	if p.Container != 0 {
		if s := biggestGap(l, func(s layout.Span) bool { return s.Container == 0 }); s != nil {
			if len(names) > 0 {
				return obstacle(Outside, fmt.Sprintf("%s follows it, and the %s gap lies outside the extended container that both lie in. The container must grow first, and what follows slide.", join(names), s.Bytes), append(between, p.Container)...).clear("container", "slide")
			}
			return obstacle(Outside, fmt.Sprintf("The %s gap lies outside the extended container, and this volume lies in it. The container must grow first.", s.Bytes), p.Number, p.Container).clear("container")
		}
	} else if s := biggestGap(l, func(s layout.Span) bool { return s.Container != 0 }); s != nil {
		return obstacle(Inside, fmt.Sprintf("The %s gap lies inside the extended container, and this volume lies outside. The container must shrink first.", s.Bytes), p.Number, s.Container).clear("container")
	}
	if l.Scheme == "mbr" && l.Size.At(l.Sector)-1 > l.LastUsable {
		return obstacle(BeyondMBR, fmt.Sprintf("There is room behind, but it lies beyond sector %s (2 TiB), which the drive's old table (MBR) cannot name. A GPT could.", disk.Grouped(int64(l.LastUsable))), p.Number).clear("change-table")
	}
	for _, e := range f.Elsewhere {
		if e.Room >= disk.GiB {
			return obstacle(OtherDrive, fmt.Sprintf("This drive has no gap. Bay %s has %s, but two drives cannot be merged. Back files up, and restore them into a volume there.", e.Bay, e.Room), p.Number).clear("copy-out", "move-files")
		}
	}
	if len(names) > 0 {
		return obstacle(NoGap, fmt.Sprintf("%s follows it, and there is no gap behind.", join(names)), between...).clear("delete", "shrink")
	}
	return obstacle(NoGap, "It reaches the end of the drive.", p.Number)
}

func biggestGap(l *layout.Layout, fits func(layout.Span) bool) *layout.Span {
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
	return biggestGap(l, func(s layout.Span) bool { return s.Container == p.Container && s.End == head-1 })
}

// movable is what stands against changing where p lies.
func movable(p *layout.Span, f Facts) *Obstacle {
	if o := general(f); o != nil {
		return o
	}
	switch {
	case p.Member || p.Volume != nil && p.Volume.Kind == volume.Member:
		return sealedWhole(p)
	case p.Role == layout.Container:
		return obstacle(HasVolumes, "A container slides with the volumes in it, which this version does not do.", p.Number)
	case p.Held != "":
		return heldOpen(p)
	case p.Volume != nil && p.Volume.BadClusters > 0:
		return obstacle(BadPlaces, fmt.Sprintf("It has %d bad clusters. They are places on this drive: moved, good clusters would be marked, and the bad ones used. Copy its files out to a sound drive.", p.Volume.BadClusters), p.Number).clear("copy-out")
	case p.Volume != nil && p.Volume.Hibernated || len(f.Asleep) > 0 && p.Volume != nil && p.Volume.Kind != volume.Unknown:
		return asleep(p, f)
	}
	return nil
}

func growHead(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Grow, Edge: "head"}
	if a.Obstacle = resizable(p, f); a.Obstacle != nil {
		return a
	}
	if a.Obstacle = movable(p, f); a.Obstacle != nil {
		return a
	}
	if g := before(l, p); g != nil {
		a.Limit, a.Note = l.Room(*g), "The volume slides to the start of the gap and grows there."
		return a
	}
	var last *layout.Span
	for i, s := range l.Spans {
		if s.Kind == layout.Partition && s.Container == p.Container && s.End < p.Start {
			last = &l.Spans[i]
		}
	}
	if last == nil {
		a.Obstacle = obstacle(NoGap, "It begins where partitions can begin.", p.Number)
		return a
	}
	text := fmt.Sprintf("%s (%s) ends where it begins.", last.Title(), last.Bytes)
	if g := biggestGap(l, func(s layout.Span) bool { return s.Container == p.Container && s.End < last.Start }); g != nil {
		text = fmt.Sprintf("%s (%s) lies between it and the %s gap before.", last.Title(), last.Bytes, g.Bytes)
	}
	a.Obstacle = obstacle(InTheWay, text, last.Number).clear("delete", "slide")
	return a
}

func shrink(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Shrink}
	if a.Obstacle = resizable(p, f); a.Obstacle != nil {
		return a
	}
	v := p.Volume
	least := leastVolume(v.Kind)
	if v.Tables != nil {
		low, _, _ := fat.Bounds(*v, l.Sector)
		least = max(least, low)
	}
	cut := (p.Bytes - max(v.ShrinkCut, least).Up(disk.Grid)).Down(disk.Grid)
	most := (p.Bytes - max(v.ShrinkMin, least).Up(disk.Grid)).Down(disk.Grid)
	last := f.Insides[p.Number]
	switch {
	case most < disk.Grid:
		a.Obstacle = obstacle(Full, fmt.Sprintf("It is full to within 1 MiB (%s left).", v.Free()), p.Number).clear("move-files")
		return a
	case v.BadClusters > 0 && cut < disk.Grid:
		a.Obstacle = obstacle(BadPlaces, "Bad clusters lie near its end and cannot be moved.", p.Number).clear("copy-out")
		return a
	case last.Fixed && cut < disk.Grid:
		a.Obstacle = obstacle(LastCluster, fmt.Sprintf("%s holds the last used cluster and cannot be moved.", last.LastFile), p.Number).clear("move-files", "copy-out")
		return a
	case v.RestorePoints && cut < disk.Grid:
		a.Dropped = most
		a.Obstacle = obstacle(RestorePoints, "It keeps earlier states of itself, which moving data would make unusable. Drop them, or shrink no further than its last used cluster.", p.Number).clear("drop-restore-points")
		return a
	}
	a.Limit = most
	a.Note = fmt.Sprintf("%s by cutting alone; the rest by moving data inside it.", max(cut, 0))
	if last.LastFile != "" {
		a.Note = fmt.Sprintf("%s by cutting alone; then %s holds the last used cluster.", max(cut, 0), last.LastFile)
	}
	if last.Fixed || v.RestorePoints || v.BadClusters > 0 {
		a.Limit, a.Note = cut, a.Note+" What lies there cannot be moved."
		if !last.Fixed && v.BadClusters == 0 {
			a.Dropped = most
			a.Note += fmt.Sprintf(" Without its restore points it could give up %s.", most)
		}
	}
	return a
}

func slide(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Slide}
	if a.Obstacle = movable(p, f); a.Obstacle != nil {
		return a
	}
	up, down := Touching(l, p)
	if up+down < disk.Grid {
		a.Obstacle = obstacle(NoGap, "No gap touches it on either side.", p.Number).clear("delete", "shrink")
		return a
	}
	a.Limit = max(up, down)
	a.Note = fmt.Sprintf("%s toward the start, %s toward the end.", up, down)
	if p.Role == layout.StartSystem || p.Active {
		a.Note += " The PC starts from it: what names its place must be mended too."
	}
	return a
}

// combine looks for a volume of the same drive that could take p's files.
func combine(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Combine}
	if a.Obstacle = resizable(p, f); a.Obstacle != nil {
		return a
	}
	if p.Role == layout.StartSystem {
		a.Obstacle = obstacle(IsStart, "The PC starts this system: it can take another volume's files, but not be taken into one.", p.Number)
		return a
	}
	var near []string
	for _, q := range l.Partitions() {
		if q.Number != p.Number && resizable(&q, f) == nil && q.Role != layout.EFI && q.Role != layout.Recovery && q.Role != layout.OEM {
			near = append(near, q.Title())
		}
	}
	switch {
	case len(near) > 0:
		a.Note = "Its files would come to lie in a folder of " + strings.Join(near, " or ") + "."
	case len(f.Elsewhere) > 0:
		a.Obstacle = obstacle(OtherDrive, fmt.Sprintf("No other volume of this drive can take it, and two drives cannot be merged. Back its files up, and restore them into a volume of the drive in bay %s.", f.Elsewhere[0].Bay), p.Number).clear("copy-out")
	default:
		a.Obstacle = obstacle(NoNeighbour, "No other volume of this drive can take its files.", p.Number)
	}
	return a
}

func split(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Split}
	s := shrink(l, p, f)
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
		a.Obstacle = obstacle(TooSmall, fmt.Sprintf("It can give up %s, and a volume needs %s.", s.Limit, least), p.Number)
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
		return obstacle(TableFull, fmt.Sprintf("All %d entries of the table are in use.", l.Slots), number)
	}
	has := slices.ContainsFunc(l.Partitions(), func(q layout.Span) bool { return q.Role == layout.Container })
	if has {
		return obstacle(FifthPrimary, "The table (MBR) has four entries, and all are in use. A logical volume in the extended container needs none of them.", number).clear("logical", "delete")
	}
	return obstacle(FifthPrimary, "The table (MBR) has four entries, and all are in use. One of them must become an extended container, or the table a GPT.", number).clear("container", "change-table", "delete")
}

func create(l *layout.Layout, gap *layout.Span, f Facts) Act {
	a := Act{Do: Create, Limit: l.Room(*gap)}
	if gap.Container != 0 {
		a.Limit -= disk.Grid // its record goes before it
	}
	switch {
	case general(f) != nil:
		a.Obstacle = general(f)
	case gap.Why == layout.Table && l.Scheme == "mbr" && gap.Start > l.LastUsable:
		a.Obstacle = obstacle(BeyondMBR, "It lies beyond 2 TiB, which the drive's old table (MBR) cannot name. A GPT could.").clear("change-table")
	case gap.Why == layout.Table || gap.Why == layout.InChain:
		a.Obstacle = obstacle(GapTooSmall, "The table itself lies here.")
	case a.Limit < disk.MiB:
		a.Obstacle = obstacle(GapTooSmall, fmt.Sprintf("It is %s, less than the 1 MiB on which partitions begin and end.", gap.Bytes.Exact()))
	case gap.Container == 0:
		a.Obstacle = slotFree(l, 0)
	}
	if a.Obstacle == nil {
		a.Note = "A new volume of any size up to this."
		if gap.Container != 0 {
			a.Note = "A new logical volume of any size up to this."
		}
	} else {
		a.Limit = 0
	}
	return a
}

// first tells whether p is the first partition of the drive.
func first(l *layout.Layout, p *layout.Span) bool {
	return !slices.ContainsFunc(l.Partitions(), func(q layout.Span) bool { return q.Start < p.Start })
}

func letter(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Letter}
	switch {
	case p.Role == layout.Container || p.Role == layout.Reserved || p.Role == layout.EFI:
		a.Obstacle = obstacle(NoVolume, "It is not for people's files; it has no letter.", p.Number)
	case p.Volume == nil || sealedWhole(p) != nil || !slices.Contains([]volume.Kind{volume.NTFS, volume.FAT12, volume.FAT16, volume.FAT32, volume.ExFAT, volume.ReFS}, p.Volume.Kind):
		a.Obstacle = obstacle(NoVolume, "It holds no file system to which a PC of this kind gives a letter.", p.Number)
	case f.PC == nil:
		a.Obstacle = obstacle(NoPC, "Letters belong to a PC, and the facts about this drive's PC are not known. Read them in.", p.Number).clear("read-facts")
	case f.Lacks[p.UniqueID].Letter != "":
		m := f.Lacks[p.UniqueID]
		a.Note = fmt.Sprintf("The volume is there, only its letter %s: is missing.", m.Letter)
		if m.Holder != "" {
			a.Obstacle = obstacle(LetterTaken, fmt.Sprintf("The volume is there and its files are too. Its letter %s: is missing, because %s has it. %s: is free; or take %s: from %s first.", m.Letter, m.Holder, m.Propose, m.Letter, m.Holder), p.Number).clear("letter")
		}
	case f.Removable && p.Letter == "" && !first(l, p):
		a.Obstacle = obstacle(Removable, "The drive is a stick or card, and most PCs give a letter only to the first partition of those.", p.Number)
	case p.Letter != "":
		a.Note = fmt.Sprintf("It has %s:. It can be changed, or taken away to hide the volume.", p.Letter)
	default:
		a.Note = "It has none, so people do not see it."
	}
	return a
}

// opened are the kinds of volumes that can be looked into.
var opened = []volume.Kind{volume.NTFS, volume.FAT12, volume.FAT16, volume.FAT32, volume.ExFAT, volume.Ext2, volume.Ext3, volume.Ext4}

func look(p *layout.Span) Act {
	a := Act{Do: Look}
	v := p.Volume
	switch {
	case sealedWhole(p) != nil:
		a.Obstacle = sealedWhole(p)
	case v == nil || v.Kind == volume.Unknown:
		a.Obstacle = obstacle(NoVolume, "It holds no file system that is known.", p.Number)
	case !slices.Contains(opened, v.Kind):
		a.Obstacle = obstacle(NotReadable, fmt.Sprintf("Volumes of the kind %s are recognised and handled whole, but not opened.", v.Kind), p.Number)
	case v.ClusterBytes == 0:
		a.Obstacle = obstacle(NotReadable, "Its file system is damaged and cannot be opened. Search the drive for what is left of it.", p.Number).clear("search")
	}
	return a
}
