package plan

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
)

// Lay works out what the steps lead to, one column a step. After a step with an
// obstacle the columns have no layout.
func Lay(now *layout.Layout, f Facts, steps []Step) []Column {
	var out []Column
	l := now
	f.names, f.kept = newNames(), map[int]bool{}
	for _, id := range f.Left {
		f.names.left[id] = true
	}
	f.Backups = maps.Clone(f.Backups)
	f.personal, f.starting, f.made = map[int]bool{}, map[int]bool{}, map[int]bool{}
	for _, p := range now.Partitions() {
		f.personal[p.Number], f.starting[p.Number] = personal(&p, f), starts(&p, f)
	}
	var gone []layout.Span
	lost := StillFree(now, f.Gone)
	for i, s := range steps {
		if i < len(f.NewIDs) {
			f.NewID = f.NewIDs[i]
		}
		s = f.names.resolve(s)
		c := Column{Step: s, Obstacles: []Obstacle{}, Missing: []Obstacle{}, PC: f.PC, Standing: maps.Clone(f.Backups)}
		if l == nil {
			c.Title = string(s.Do)
			c.Obstacles = append(c.Obstacles, *obstacle("earlier-step", "An earlier step cannot be done, so this one cannot be judged."))
		} else {
			f.entries, f.asking = brokenEntries(l), askingFor(now, steps, i)
			apply(&c, l, f)
			stowed(&c, l, f)
			if f.PC = c.PC; s.Do == Clear && c.Layout != nil {
				f.TableTrouble, f.NoTable = "", s.Scheme == "none"
			}
			c.NoReturn = noReturn(c, gone, f.Room)
			if c.Layout != nil {
				lost = overGone(&c, lost)
			}
			if p, ok := l.Find(c.Number); ok && s.Do == Delete {
				if f.names.left[p.UniqueID] = true; p.Volume != nil {
					gone = append(gone, *p)
				}
			}
			if p, ok := l.Find(c.Absorbed); ok { // its files are in another place, which undo takes away
				f.names.left[p.UniqueID] = true
				gone = append(gone, *p)
			}
			for _, p := range c.Cleared {
				f.names.left[p.UniqueID] = true
			}
			gone = append(gone, c.Cleared...)
			f.names.note(s, &c)
			f.filled(&c)
			allBack := func(x Step) bool { return x.Do == CopyBack && x.Backup == s.As && len(x.Only) == 0 }
			if n, err := strconv.Atoi(s.Partition); err == nil && c.Hold != nil && slices.ContainsFunc(steps[i+1:], allBack) {
				f.kept[n] = true
			}
		}
		if l = c.Layout; s.Do == Mend && l != nil {
			f.TableTrouble = f.Mended[s.Keep].Trouble
		}
		out = append(out, c)
	}
	return out
}

// filled notes what a step has put into a partition: no backup from before stands for that, nor the plan
// itself, and it may be somebody's. An empty volume that the plan makes holds nobody's files.
func (f *Facts) filled(c *Column) {
	s, number := c.Step, 0
	switch s.Do {
	case Absorb, CopyBack, BringBack, Rebuild, Create:
		number = c.Number
	case CopyOut:
		if c.From != 0 {
			number = c.Number
		}
	}
	if number == 0 || c.Layout == nil {
		return
	}
	f.made[number] = f.made[number] || s.Do == BringBack || s.Do == Rebuild || s.Do == Create
	empty := s.Do == Create && s.Backup == ""
	f.kept[number] = empty
	delete(f.Backups, number)
	if !empty {
		f.personal[number] = true
	}
}

// MostKept is the most that a run keeps beside the drive of what its plan takes away and a later
// step writes over, so that undo can bring it back.
const MostKept = 16 * disk.GiB

// noReturn tells why a step writes over something that undo could not bring back, "" where it does
// not: what partitions held that the same plan takes away is kept beside the drive as far as that
// is not too much.
func noReturn(c Column, gone []layout.Span, room disk.Bytes) string {
	if c.Layout == nil {
		return ""
	}
	if c.Step.Erase {
		return "it overwrites what it deletes"
	}
	if c.Portions {
		return "the files go over in portions, each into places that the ones before have left"
	}
	if c.Step.DropRestorePoints {
		return "it may write over the earlier states that it drops"
	}
	if c.Step.Test {
		return "it writes over all that lies in the new partition's place"
	}
	p, ok := c.Layout.Find(c.Number)
	moves := c.Step.Do == Slide || c.Step.Do == Shrink || c.Step.Edge == "head" && c.Step.Do != Container
	if !ok || c.Step.Do != CopyBack && c.From == 0 && c.Place != FromBackup && !moves {
		return ""
	}
	most := MostKept
	if room > 0 {
		most = min(most, room/2)
	}
	kept := disk.Bytes(0)
	for _, g := range gone {
		if g.Start > p.End || p.Start > g.End {
			continue
		}
		held := g.Bytes
		if g.Volume != nil && g.Volume.ClusterBytes > 0 {
			held = g.Volume.UsedBytes
		}
		if kept += held; kept > most {
			return "it may write over what " + g.Title() + " held, which is too much to keep beside the drive"
		}
	}
	return ""
}

func apply(c *Column, l *layout.Layout, f Facts) {
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	if c.Step.Do == Mend {
		mend(c, l, f)
		return
	}
	stands := general(f)
	if stands != nil && (c.Step.Do == Clear || c.Step.Do == Delete && f.entries.text != "" && stands.Text == f.entries.obstacle().Text) {
		stands = nil // it is told for each partition then
	}
	if stands != nil {
		block(stands)
		return
	}
	if c.Step.Do == BringBack {
		bringBack(c, l, f)
		return
	}
	switch {
	case c.Step.Do == Restart:
		restart(c, l, f)
		return
	case c.Step.Do == Create:
		newPartition(c, l, f)
		return
	case c.Step.Do == Rebuild:
		rebuild(c, l, f)
		return
	case c.Step.Do == Clear:
		clearAll(c, l, f)
		return
	case c.Step.Do == Container && ContainerAct(c.Step.Act) == MakeIt:
		makeContainer(c, l, f)
		return
	}
	if c.Step.ofThePC() && c.Step.Partition == "" {
		onPC(c, l, nil, f)
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
	if o := keepsBackups(p, f); o != nil && !c.Step.ofThePC() {
		c.Title = string(c.Step.Do) + " " + p.Title()
		block(o)
		return
	}
	switch c.Step.Do {
	case Delete:
		c.Title, c.Detail = "Delete "+p.Title(), "kept as record"
		if c.Step.Erase {
			c.Title, c.Detail = "Delete and erase "+p.Title(), "overwritten; the record keeps no contents"
		}
		if o := mayDelete(l, p, f); o != nil {
			block(o)
			return
		}
		c.Missing = missing(c, p, f)
		leaves(c, p, f)
		c.Layout = l.With(slices.DeleteFunc(l.Partitions(), func(s layout.Span) bool { return s.Number == n }))
	case CopyBack:
		copyBack(c, l, p, f)
	case CopyOut:
		copyOut(c, l, p, f)
	case Absorb:
		absorb(c, l, p, f)
	case Slide:
		slideStep(c, l, p, f)
	case Shrink:
		shrinkStep(c, l, p, f)
	case Container:
		changeContainer(c, l, p, f)
	case Retag:
		retag(c, l, p, f)
	case Label:
		label(c, l, p, f)
	case ParkRecovery, UseRecovery, DropStartEntry, StartOrder, NoteIdentity, Letter:
		onPC(c, l, p, f)
	case Grow:
		c.Title = "Grow " + p.Title()
		if c.Step.Edge == "head" {
			growHeadStep(c, l, p, f)
			return
		}
		room, o := mayGrow(l, p, f)
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
				q.End = end
				q.Bytes = (end - q.Start + 1).Offset(l.Sector)
				v := filling(*q.Volume, q.Bytes, l.Sector)
				q.Volume = &v
				c.Detail = fmt.Sprintf("%s to %s", p.Bytes, q.Bytes)
			}
		}
		c.Layout = l.With(parts)
	}
}

// filling is a volume that has come to fill a partition of another size: of NTFS, one
// sector stays for the copy of the boot sector; of FAT, the tables may have grown.
func filling(v volume.Info, part, sector disk.Bytes) volume.Info {
	if v.Tables != nil {
		if after, _, err := fat.Reshaped(v, part, sector); err == nil {
			return after
		}
		return v
	}
	v.TotalBytes = (part - sector).Down(v.ClusterBytes)
	return v
}

// missing is what the gate asks for before p is deleted.
func missing(c *Column, p *layout.Span, f Facts) []Obstacle {
	s, out := c.Step, []Obstacle{}
	if o := notReleased(p, s, f); o != nil {
		out = append(out, *o)
	}
	if o := needsLead(c, p, f); o != nil {
		out = append(out, *o)
	}
	wiped := s.Erase && s.Backups == "delete"
	b, ok := f.Backups[p.Number]
	if p.Volume == nil || f.kept[p.Number] && !s.Erase || ok && b.Verified && b.Same && !wiped {
		return out
	}
	if strings.TrimSpace(s.Waiver) != "" {
		c.Waived = append(c.Waived, p.Number)
		if personal(p, f) {
			if o := c.asks(p, LiftBackup, f); o != nil {
				out = append(out, *o)
			}
		}
		return out
	}
	if wiped { // who wants nothing to be left needs no backup, but says so
		text := fmt.Sprintf("%s and its backups are to be gone for good. Give the reason as a waiver.", p.Title())
		return append(out, *obstacle(WaiverMissing, text, p.Number).clear("waiver"))
	}
	text := fmt.Sprintf("%s has contents and no backup.", p.Title())
	switch {
	case ok && b.Away:
		text = fmt.Sprintf("The shelf with the backup of %s has left its bay since it was verified.", p.Title())
		text += " Verify it again, make another, or waive it with a reason."
		return append(out, *obstacle(BackupMissing, text, p.Number).clear("verify-backup", "back-up", "waiver"))
	case ok && b.Foreign:
		text = fmt.Sprintf("The backup of %s is not signed by this shop.", p.Title())
		text += " Take it in, make another, or waive it with a reason."
		return append(out, *obstacle(BackupMissing, text, p.Number).clear("take-in-backup", "back-up", "waiver"))
	case ok && b.Lost != "":
		text = fmt.Sprintf("The backup of %s is not what it was: %s.", p.Title(), strings.TrimSuffix(b.Lost, "."))
	case ok && !b.Verified:
		text = fmt.Sprintf("The backup of %s has not been verified.", p.Title())
	case ok:
		text = fmt.Sprintf("%s has changed since its backup was made.", p.Title())
	}
	return append(out, *obstacle(BackupMissing, text+" Make a backup, or waive it with a reason.", p.Number).clear("back-up", "waiver"))
}

// personal tells whether what a partition holds may be somebody's: as it is now, or as it was when the plan
// began. A plan that says otherwise of it on the way changes nothing about that.
func personal(p *layout.Span, f Facts) bool {
	return p.Volume != nil && (p.Personal || slices.Contains([]layout.Role{layout.Data, layout.OtherSystem, layout.StartSystem}, p.Role)) || f.personal[p.Number]
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

// record is what is known of a deletion, or why nothing can be planned from it.
func (f *Facts) record(id string) (Record, *Obstacle) {
	r, ok := f.Records[id]
	switch {
	case !ok:
		return r, obstacle(NoRecord, fmt.Sprintf("There is no record %s.", id))
	case r.Altered:
		return r, obstacle(RecordAltered, fmt.Sprintf("The record %s is not as it was entered in the trail: it, or a file beside it, was altered or is gone. It can be looked at, and nothing is planned from it. Put it back as it was from a copy of the shop's data, or search for the partition.", id))
	}
	return r, nil
}

// bringBack puts a deleted partition back: at its own place while that is free
// and still holds what it held, else from its backup.
func bringBack(c *Column, l *layout.Layout, f Facts) {
	if c.Step.Find != 0 {
		bringBackFound(c, l, f)
		return
	}
	c.Title = "Bring back"
	r, o := f.record(c.Step.Record)
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	p := r.Span
	c.Title = "Bring back " + p.Title()
	anew := p.TypeID != "" && ofOtherKind(&p, l)
	o = noTable(l)
	if anew && o == nil {
		o = lodge(&p, l)
	}
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	first := p.Start
	if p.Container != 0 { // its record needs room too
		first = p.Record
		if x, ok := l.Find(p.Container); !ok || x.Role != layout.Container {
			c.Obstacles = append(c.Obstacles, *obstacle(NowhereToGo, fmt.Sprintf("%s was a logical volume, and its container is gone.", p.Title())))
			return
		}
	}
	free := covered(l, first, p.End, p.Container)
	if _, taken := l.Find(p.Number); taken || anew && (p.Container != 0 || p.Number > l.Slots) {
		p.Number = freeNumber(l, p.Container)
		if p.Number == 0 {
			c.Obstacles = append(c.Obstacles, *obstacle(TableFull, "The partition table has no free entry."))
			return
		}
	}
	if slices.ContainsFunc(l.Partitions(), func(s layout.Span) bool { return s.UniqueID == p.UniqueID }) {
		p.UniqueID = f.NewID
	}
	if anew {
		entryFor(&p, l, f.NewID)
	}
	switch {
	case free && r.Stand != nil && (r.Backup == "" || r.Stand.Taken == 0 || strings.TrimSpace(c.Step.Damaged) != ""):
		c.Place, c.Fills, c.Detail = InPlace, r.Stand.Returns, "at its own place; "+r.Stand.Words()
		accepted(c, &p, r.Stand)
	case r.Backup == "":
		why := "its place is taken"
		if free {
			why = "its record kept nothing of its contents, or is one of another drive"
		}
		c.Obstacles = append(c.Obstacles, *obstacle(NowhereToGo, fmt.Sprintf("%s cannot come back: %s, and it has no backup.", p.Title(), why)))
		return
	case free:
		c.Place, c.Fills, c.Detail = FromBackup, r.Fills, "from its backup, at its own place"
	default:
		need := p.Bytes
		if p.Container != 0 {
			need += disk.Grid // for its record
		}
		gap, ok := smallestGap(l, need, p.Container)
		if !ok {
			c.Obstacles = append(c.Obstacles, *obstacle(NowhereToGo, fmt.Sprintf("Its place is taken, and no gap has room for %s.", p.Bytes)))
			return
		}
		n := p.End - p.Start
		p.Start = gap.Start.Offset(l.Sector).Up(disk.Grid).At(l.Sector)
		if p.Container != 0 {
			p.Record = p.Start
			p.Start += disk.Grid.At(l.Sector)
		}
		p.End = p.Start + n
		c.Place, c.Fills, c.Detail = FromBackup, r.Fills, "from its backup, at another place"
	}
	if l.Scheme == "mbr" {
		p.UniqueID = layout.PlaceID(l.DiskID, p.Start.Offset(l.Sector))
	}
	if anew {
		c.Detail += "; its entry is made anew for a table of kind " + l.Scheme
	}
	c.Number = p.Number
	c.Layout = l.With(append(l.Partitions(), p))
}

// mend rewrites one copy of the table from the other.
func mend(c *Column, l *layout.Layout, f Facts) {
	c.Title, c.Detail = "Mend the table", "the other copy is written again"
	after := f.Mended[c.Step.Keep].Layout
	switch {
	case f.ReadOnly:
		c.Obstacles = append(c.Obstacles, *general(f))
	case after == nil:
		text := f.MendTrouble
		if text == "" {
			text = "Both copies of the table are whole and the same: there is nothing to mend."
		}
		c.Obstacles = append(c.Obstacles, *obstacle(TableUnsafe, text))
	default:
		c.Layout = after
	}
}

// covered tells whether nothing but gaps lies from one sector to another, inside the
// given container or with 0 outside.
func covered(l *layout.Layout, from, to disk.LBA, container int) bool {
	for _, s := range l.Spans {
		if s.Container != container || s.Start > from || s.End < from {
			continue
		}
		if s.Kind != layout.Gap || s.Why == layout.Table {
			return false
		}
		if s.End >= to {
			return true
		}
		from = s.End + 1
	}
	return false
}

// freeNumber is a slot for a new partition, or for a logical volume the next
// number; 0 when the table is full.
func freeNumber(l *layout.Layout, container int) int {
	if container != 0 {
		n := 4
		for _, p := range l.Partitions() {
			n = max(n, p.Number)
		}
		return n + 1
	}
	for n := 1; n <= l.Slots; n++ {
		if _, taken := l.Find(n); !taken {
			return n
		}
	}
	return 0
}

func smallestGap(l *layout.Layout, need disk.Bytes, container int) (layout.Span, bool) {
	var best layout.Span
	for _, s := range l.Spans {
		if s.Kind == layout.Gap && s.Why == layout.Free && s.Container == container && l.Room(s) >= need && (best.Bytes == 0 || s.Bytes < best.Bytes) {
			best = s
		}
	}
	return best, best.Bytes > 0
}
