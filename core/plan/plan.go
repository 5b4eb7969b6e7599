package plan

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
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
			c.Title = string(s.Do())
			c.Obstacles = append(c.Obstacles, *NewObstacle(
				"earlier-step", "An earlier step cannot be done, so this one cannot be judged.",
			))
		} else {
			f.entries, f.asking = brokenEntries(l), askingFor(now, steps, i)
			apply(&c, l, f)
			stowed(&c, l, f)
			if f.PC = c.PC; s.Do() == Clear && c.Layout != nil {
				f.TableTrouble, f.NoTable = "", Of[Clearing](s).Scheme == "none"
			}
			c.NoReturn = noReturn(c, gone, f.Room)
			if c.Layout != nil {
				lost = overGone(&c, lost)
			}
			if p, ok := l.Find(c.Number); ok && s.Do() == Delete {
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
			allBack := func(x Step) bool {
				return x.Do() == CopyBack && Of[CopyingBack](x).Backup == s.As() && len(Of[CopyingBack](x).Only) == 0
			}
			if n, err := strconv.Atoi(s.Partition); err == nil && c.Hold != nil && slices.ContainsFunc(steps[i+1:], allBack) {
				f.kept[n] = true
			}
		}
		if l = c.Layout; s.Do() == Mend && l != nil {
			f.TableTrouble = f.Mended[Of[Mending](s).Keep].Trouble
		}
		out = append(out, c)
	}
	return out
}

// filled notes what a step has put into a partition: no backup from before stands for that, nor the plan
// itself, and it may be somebody's. An empty volume that the plan makes holds nobody's files.
func (f *Facts) filled(c *Column) {
	k := c.Step.kind()
	if k.fills == nil || c.Layout == nil {
		return
	}
	number := k.fills(c)
	if number == 0 {
		return
	}
	f.made[number] = f.made[number] || k.makes
	empty := c.Step.Do() == Create && Of[Creation](c.Step).Backup == ""
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
	if c.Step.Erases() {
		return "it overwrites what it deletes"
	}
	if c.Portions {
		return "the files go over in portions, each into places that the ones before have left"
	}
	if Of[Shrinking](c.Step).DropRestorePoints {
		return "it may write over the earlier states that it drops"
	}
	if Of[Creation](c.Step).Test {
		return "it writes over all that lies in the new partition's place"
	}
	p, ok := c.Layout.Find(c.Number)
	over := c.Step.kind().over
	if !ok || c.From == 0 && c.Place != FromBackup && (over == nil || !over(c)) {
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

// missing is what the gate asks for before p is deleted.
func missing(c *Column, p *layout.Span, f Facts) []Obstacle {
	s, out := c.Step, []Obstacle{}
	if o := notReleased(p, s, f); o != nil {
		out = append(out, *o)
	}
	if o := needsLead(c, p, f); o != nil {
		out = append(out, *o)
	}
	wiped := s.wipes()
	b, ok := f.Backups[p.Number]
	if p.Volume == nil || f.kept[p.Number] && !s.Erases() || ok && b.Verified && b.Same && !wiped {
		return out
	}
	if strings.TrimSpace(s.Waiver()) != "" {
		c.Waived = append(c.Waived, p.Number)
		if personal(p, f) {
			if o := c.asks(p, LiftBackup, f); o != nil {
				out = append(out, *o)
			}
		}
		return out
	}
	if wiped { // who wants nothing to be left needs no backup, but says so
		text := fmt.Sprintf("%s and its backups are to be gone for good. Give the reason why no backup is kept.", p.Title())
		return append(out, *NewObstacle(WaiverMissing, text, p.Number).ClearedBy("waiver"))
	}
	text := fmt.Sprintf("%s has contents and no backup.", p.Title())
	switch {
	case ok && b.Away:
		text = fmt.Sprintf("The shelf with the backup of %s has left its bay since it was verified.", p.Title())
		text += " Verify it again, make another, or say why it goes without one."
		return append(out, *NewObstacle(BackupMissing, text, p.Number).ClearedBy("verify-backup", "back-up", "waiver"))
	case ok && b.Foreign:
		text = fmt.Sprintf("The backup of %s is not signed by this shop.", p.Title())
		text += " Take it in, make another, or say why it goes without one."
		return append(out, *NewObstacle(BackupMissing, text, p.Number).ClearedBy("take-in-backup", "back-up", "waiver"))
	case ok && b.Lost != "":
		text = fmt.Sprintf("The backup of %s is not what it was: %s.", p.Title(), strings.TrimSuffix(b.Lost, "."))
	case ok && !b.Verified:
		text = fmt.Sprintf("The backup of %s has not been verified.", p.Title())
	case ok:
		text = fmt.Sprintf("%s has changed since its backup was made.", p.Title())
	}
	return append(out, *NewObstacle(BackupMissing, text+" Make a backup, or say why it goes without one.", p.Number).ClearedBy("back-up", "waiver"))
}

// personal tells whether what a partition holds may be somebody's: as it is now, or as it was when the plan
// began. A plan that says otherwise of it on the way changes nothing about that.
func personal(p *layout.Span, f Facts) bool {
	return p.Volume != nil && (p.Personal || slices.Contains([]layout.Role{layout.Data, layout.OtherSystem, layout.StartSystem}, p.Role)) || f.personal[p.Number]
}

func Join(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// Covered tells whether nothing but gaps lies from one sector to another, inside the
// given container or with 0 outside.
func Covered(l *layout.Layout, from, to disk.LBA, container int) bool {
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

// apply lays one step over a drive that is laid out as l, and tells the column what it leads to.
func apply(c *Column, l *layout.Layout, f Facts) {
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	k := c.Step.kind()
	// What stands against every change of the drive.
	if stands := AgainstAll(f); stands != nil && (k.despite == nil || !k.despite(stands, f)) {
		block(stands)
		return
	}
	if k.whole != nil && k.whole(c.Step) {
		k.lay(c, l, nil, f)
		return
	}
	// The partition that it is about must be there, and must not be where backups are kept.
	n, err := strconv.Atoi(c.Step.Partition)
	p, ok := l.Find(n)
	if err != nil || !ok {
		c.Title = string(c.Step.Do())
		block(NewObstacle(NoSuch, fmt.Sprintf("There is no partition %s.", c.Step.Partition)))
		return
	}
	c.Number = n
	if o := keepsBackups(p, f); o != nil && !k.ofThePC {
		c.Title = string(c.Step.Do()) + " " + p.Title()
		block(o)
		return
	}
	if k.lay != nil {
		k.lay(c, l, p, f)
	}
}
