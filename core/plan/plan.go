package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Lay works out what the steps lead to, one column a step. After a step with an
// obstacle the columns have no layout.
func Lay(now *layout.Layout, f Facts, steps []Step) []Column {
	var out []Column
	l := now
	for _, s := range steps {
		c := Column{Step: s, Obstacles: []Obstacle{}, Missing: []Obstacle{}}
		if l == nil {
			c.Title = string(s.Do)
			c.Obstacles = append(c.Obstacles, *obstacle("earlier-step", "An earlier step cannot be done, so this one cannot be judged."))
		} else {
			apply(&c, l, f)
		}
		l = c.Layout
		out = append(out, c)
	}
	return out
}

func apply(c *Column, l *layout.Layout, f Facts) {
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	if f.TableTrouble != "" {
		block(obstacle(TableUnsafe, f.TableTrouble))
		return
	}
	if c.Step.Do == BringBack {
		bringBack(c, l, f)
		return
	}
	n, err := strconv.Atoi(c.Step.Partition)
	p, ok := l.Find(n)
	if err != nil || !ok {
		c.Title = string(c.Step.Do)
		block(obstacle(NoSuch, fmt.Sprintf("There is no partition %s.", c.Step.Partition)))
		return
	}
	c.Number = n
	switch c.Step.Do {
	case Delete:
		c.Title, c.Detail = "Delete "+p.Title(), "kept as record"
		if o := mayDelete(l, p, f); o != nil {
			block(o)
			return
		}
		c.Missing = missing(p, c.Step, f)
		c.Layout = l.With(slices.DeleteFunc(l.Partitions(), func(s layout.Span) bool { return s.Number == n }))
	case Grow:
		c.Title = "Grow " + p.Title()
		if c.Step.Edge == "head" {
			block(obstacle(HeadNotYet, fmt.Sprintf("%s grows only into the gap that touches its end.", p.Title()), n))
			return
		}
		room, o := mayGrow(l, p)
		if o != nil {
			block(o)
			return
		}
		end, o := newEnd(l, p, room, c.Step)
		if o != nil {
			block(o)
			return
		}
		parts := l.Partitions()
		for i := range parts {
			if q := &parts[i]; q.Number == n {
				v := *q.Volume
				q.Volume = &v
				q.End = end
				q.Bytes = (end - q.Start + 1).Offset(l.Sector)
				v.TotalBytes = grownTotal(v, q.Bytes, l.Sector)
				c.Detail = fmt.Sprintf("%s to %s", p.Bytes, q.Bytes)
			}
		}
		c.Layout = l.With(parts)
	}
}

// grownTotal is the length of a volume's clusters after it has been grown to
// fill its partition: one sector stays for the copy of the boot sector.
func grownTotal(v volume.Info, part, sector disk.Bytes) disk.Bytes {
	return (part - sector).Down(v.ClusterBytes)
}

// mayDelete says why a partition cannot be deleted at all, or nil.
func mayDelete(l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	switch {
	case p.Role == layout.StartSystem:
		return obstacle(IsStart, "The PC starts this system. Name another start system first.", p.Number).clear("start-order")
	case p.Member:
		return obstacle(SetMember, "It belongs to a set of several drives; without the others nobody can say what would be lost.", p.Number)
	case p.Held != "":
		return obstacle(Held, fmt.Sprintf("The PC is running, and %s holds it open. Switch the PC off, or free the volume.", p.Held), p.Number).clear("switch-off")
	case p.Role == layout.Container:
		return obstacle(SetMember, "An extended container is dissolved with its logical volumes, which is not possible yet.", p.Number)
	case p.Role == layout.EFI && f.StartsHere:
		for _, q := range l.Partitions() {
			if q.Role == layout.EFI && q.Number != p.Number {
				return nil
			}
		}
		return obstacle(OnlyEFI, "It is the only EFI partition of the drive that the PC starts from. Without it the PC cannot start.", p.Number)
	}
	return nil
}

// missing is what the gate asks for before p is deleted.
func missing(p *layout.Span, s Step, f Facts) []Obstacle {
	out := []Obstacle{}
	if p.Protected && strings.TrimSpace(s.Release) == "" {
		out = append(out, *obstacle(ReleaseMissing, fmt.Sprintf("%s is protected. Release it with a reason.", p.Title()), p.Number).clear("release"))
	}
	if o := needsLead(p, s, f); o != nil {
		out = append(out, *o)
	}
	if p.Volume == nil || strings.TrimSpace(s.Waiver) != "" {
		return out
	}
	b, ok := f.Backups[p.Number]
	if ok && b.Verified && b.Same {
		return out
	}
	text := fmt.Sprintf("%s has contents and no backup.", p.Title())
	switch {
	case ok && !b.Verified:
		text = fmt.Sprintf("The backup of %s has not been verified.", p.Title())
	case ok:
		text = fmt.Sprintf("%s has changed since its backup was made.", p.Title())
	}
	return append(out, *obstacle(BackupMissing, text+" Make a backup, or waive it with a reason.", p.Number).clear("back-up", "waiver"))
}

// needsLead tells that a release or waiver is for the lead alone: the release of
// what a PC starts from, and a waiver over personal files.
func needsLead(p *layout.Span, s Step, f Facts) *Obstacle {
	if f.Lead || s.Lead != "" {
		return nil
	}
	released, waived := strings.TrimSpace(s.Release) != "", strings.TrimSpace(s.Waiver) != ""
	switch {
	case released && (p.Role == layout.EFI || p.Active):
		return obstacle(LeadMissing, fmt.Sprintf("The PC may start from %s: only the lead may release it.", p.Title()), p.Number).clear("lead")
	case waived && p.Volume != nil && (p.Role == layout.Data || p.Role == layout.OtherSystem):
		return obstacle(LeadMissing, fmt.Sprintf("%s may hold personal files: only the lead may waive its backup.", p.Title()), p.Number).clear("lead")
	}
	return nil
}

// mayGrow returns the gap room behind p up to which it can grow, or why it
// cannot.
func mayGrow(l *layout.Layout, p *layout.Span) (disk.LBA, *Obstacle) {
	switch {
	case p.Member:
		return 0, obstacle(SetMember, "It belongs to a set of several drives and is only handled whole.", p.Number)
	case p.Volume == nil || p.Volume.Kind != volume.NTFS:
		what := "It holds no file system"
		if p.Volume != nil {
			what = fmt.Sprintf("A %s volume is handled whole", p.Volume.Kind)
		}
		return 0, obstacle(NotGrowable, what+"; only NTFS volumes can be grown.", p.Number)
	case !p.Volume.Clean:
		return 0, obstacle(NotClean, "The volume is not clean: it was not closed properly, or waits for a check. Let its PC check it and shut down fully first.", p.Number).clear("close-volume")
	case p.Held != "" || p.Role == layout.StartSystem && p.Held != "":
		return 0, obstacle(Held, fmt.Sprintf("The PC is running, and %s holds it open.", p.Held), p.Number).clear("switch-off")
	}
	gap, ok := l.GapAt(p.End + 1)
	if !ok {
		return 0, inTheWay(l, p)
	}
	end := (gap.End + 1).Offset(l.Sector).Down(disk.Grid).At(l.Sector) - 1
	if end <= p.End {
		return 0, obstacle(GapTooSmall, fmt.Sprintf("The gap behind it is smaller than 1 MiB (%s).", gap.Bytes.Exact()), p.Number)
	}
	return end, nil
}

// inTheWay names what stands between p and the next gap that could be used.
func inTheWay(l *layout.Layout, p *layout.Span) *Obstacle {
	var between []int
	var names []string
	for _, s := range l.Spans {
		if s.Start <= p.End {
			continue
		}
		if s.Kind == layout.Partition {
			between = append(between, s.Number)
			names = append(names, s.Title())
			continue
		}
		if s.Why == layout.Free {
			verb := "lies"
			if len(names) > 1 {
				verb = "lie"
			}
			return obstacle(InTheWay, fmt.Sprintf("%s %s before the %s gap.", join(names), verb, s.Bytes), between...).clear("delete", "slide")
		}
	}
	if len(names) > 0 {
		return obstacle(NoGap, fmt.Sprintf("%s follows it, and there is no gap behind.", join(names)), between...).clear("delete", "shrink")
	}
	return obstacle(NoGap, "It reaches the end of the drive.", p.Number)
}

func join(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// newEnd turns a growth's amount into the partition's last sector: met to the
// alignment, never beyond the room.
func newEnd(l *layout.Layout, p *layout.Span, room disk.LBA, s Step) (disk.LBA, *Obstacle) {
	most := (room - p.End).Offset(l.Sector)
	var by disk.Bytes
	var err error
	if s.To != "" {
		var to disk.Bytes
		to, err = disk.ParseAmount(s.To, p.Bytes+most)
		if err == nil && to <= p.Bytes {
			return 0, obstacle(BadAmount, fmt.Sprintf("%s is not more than the %s that %s has.", s.To, p.Bytes, p.Title()), p.Number)
		}
		by = to - p.Bytes
	} else {
		by, err = disk.ParseAmount(s.By, most)
	}
	if err != nil {
		return 0, obstacle(BadAmount, fmt.Sprintf("%s: %v. %s can gain up to %s (%s).", p.Title(), err, p.Title(), most, most.Exact()), p.Number)
	}
	end := p.End + disk.LBA((by+l.Sector-1)/l.Sector)
	// On the grid when the amount is not exact to it; upwards while there is room.
	if up := (end + 1).Offset(l.Sector).Up(disk.Grid).At(l.Sector) - 1; up <= room {
		end = up
	} else {
		end = room
	}
	if (end - p.End).Offset(l.Sector) < p.Volume.ClusterBytes {
		return 0, obstacle(BadAmount, fmt.Sprintf("%s is less than one cluster (%s).", by.Exact(), p.Volume.ClusterBytes), p.Number)
	}
	return end, nil
}

// bringBack puts a deleted partition back: at its own place while that is free
// and still holds what it held, else from its backup.
func bringBack(c *Column, l *layout.Layout, f Facts) {
	r, ok := f.Records[c.Step.Record]
	c.Title = "Bring back"
	if !ok {
		c.Obstacles = append(c.Obstacles, *obstacle(NoRecord, fmt.Sprintf("There is no record %s.", c.Step.Record)))
		return
	}
	p := r.Span
	c.Title = "Bring back " + p.Title()
	free := slices.ContainsFunc(l.Spans, func(s layout.Span) bool {
		return s.Kind == layout.Gap && s.Why != layout.Table && s.Start <= p.Start && p.End <= s.End
	})
	if _, taken := l.Find(p.Number); taken {
		p.Number = freeNumber(l)
		if p.Number == 0 {
			c.Obstacles = append(c.Obstacles, *obstacle(TableFull, "The partition table has no free entry."))
			return
		}
	}
	if slices.ContainsFunc(l.Partitions(), func(s layout.Span) bool { return s.UniqueID == p.UniqueID }) {
		p.UniqueID = f.NewID
	}
	switch {
	case free && r.Kept:
		c.Place, c.Detail = InPlace, "at its own place"
	case r.Backup == "":
		why := "its place is taken"
		if free {
			why = "its place has been written over"
		}
		c.Obstacles = append(c.Obstacles, *obstacle(NowhereToGo, fmt.Sprintf("%s cannot come back: %s, and it has no backup.", p.Title(), why)))
		return
	case free:
		c.Place, c.Detail = FromBackup, "from its backup, at its own place"
	default:
		gap, ok := smallestGap(l, p.Bytes)
		if !ok {
			c.Obstacles = append(c.Obstacles, *obstacle(NowhereToGo, fmt.Sprintf("Its place is taken, and no gap has room for %s.", p.Bytes)))
			return
		}
		n := p.End - p.Start
		p.Start = gap.Start.Offset(l.Sector).Up(disk.Grid).At(l.Sector)
		p.End = p.Start + n
		c.Place, c.Detail = FromBackup, "from its backup, at another place"
	}
	c.Number = p.Number
	c.Layout = l.With(append(l.Partitions(), p))
}

func freeNumber(l *layout.Layout) int {
	for n := 1; n <= l.Slots; n++ {
		if _, taken := l.Find(n); !taken {
			return n
		}
	}
	return 0
}

func smallestGap(l *layout.Layout, need disk.Bytes) (layout.Span, bool) {
	var best layout.Span
	for _, s := range l.Spans {
		if s.Kind == layout.Gap && s.Why == layout.Free && l.Room(s) >= need && (best.Bytes == 0 || s.Bytes < best.Bytes) {
			best = s
		}
	}
	return best, best.Bytes > 0
}

// Act is something that can or cannot be done with a partition now.
type Act struct {
	Do       Do         `json:"do"`
	Limit    disk.Bytes `json:"limit,omitempty"` // the most that can be gained
	Obstacle *Obstacle  `json:"obstacle,omitempty"`
	Missing  []Obstacle `json:"missing,omitempty"`
}

// Acts lists what can be done with a partition of the layout, and for what
// cannot, why.
func Acts(l *layout.Layout, number int, f Facts) []Act {
	p, ok := l.Find(number)
	if !ok {
		return nil
	}
	if f.TableTrouble != "" {
		o := obstacle(TableUnsafe, f.TableTrouble)
		return []Act{{Do: Grow, Obstacle: o}, {Do: Delete, Obstacle: o}}
	}
	grow, del := Act{Do: Grow}, Act{Do: Delete}
	room, o := mayGrow(l, p)
	if grow.Obstacle = o; o == nil {
		grow.Limit = (room - p.End).Offset(l.Sector)
	}
	if del.Obstacle = mayDelete(l, p, f); del.Obstacle == nil {
		del.Missing = missing(p, Step{}, f)
	}
	return []Act{grow, del}
}
