package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/table"
	"jadetrail/core/volume"
)

// Found is a lost partition that a search has found, as it is judged now.
type Found struct {
	Span  layout.Span // what is known of it; its number, and ids that nothing tells, are empty
	Ghost bool
	// Doubtful says why it is doubtful, "" for one that is not.
	Doubtful string
	// Mend says what of it is rebuilt from a copy, "" for nothing.
	Mend string
	// Shut is why it will not open once it is back, "" where it will, or where it is of a kind that
	// nobody can look into. Listed tells that files can be found in it all the same.
	Shut   string
	Listed bool
	// Stand is how its place stands.
	Stand Stand
}

// typeOf is the type that a partition with a volume of a kind has, where nothing tells: one that holds
// loaders where a PC looks for them (UEFI 2.10, 13.3) is an EFI system partition.
func typeOf(scheme string, kind volume.Kind, role layout.Role) string {
	gpt, mbr := table.TypeBasic, "07"
	for name, of := range typeIDs {
		if is, known := roleOf[name]; known && is == role && slices.Contains([]layout.Role{layout.EFI, layout.Recovery, layout.OEM}, role) {
			kind = ""
			gpt, mbr = of[0], of[1]
		}
	}
	switch kind {
	case volume.FAT12:
		mbr = "01"
	case volume.FAT16:
		mbr = "0e"
	case volume.FAT32:
		mbr = "0c"
	case volume.Ext2, volume.Ext3, volume.Ext4:
		gpt, mbr = table.TypeLinux, "83"
	case volume.Swap:
		gpt, mbr = table.TypeSwap, "82"
	case volume.LVM:
		gpt, mbr = table.TypeLVM, "8e"
	}
	if scheme == "mbr" {
		return mbr
	}
	return gpt
}

// bringBackFound puts a lost partition that was found into the table, at its own place.
func bringBackFound(c *Column, l *layout.Layout, f Facts) {
	c.Title = "Bring back what was found"
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	x, ok := f.Finds[Of[BringingBack](c.Step).Find]
	if !ok {
		block(NewObstacle(
			NoFind,
			fmt.Sprintf(
				"Nothing is found any more that begins at sector %s. Search the drive again.",
				disk.Grouped(int64(Of[BringingBack](c.Step).Find)),
			),
		).ClearedBy("search"))
		return
	}
	p := x.Span
	c.Title = "Bring back " + p.Title()
	if x.Ghost {
		block(NewObstacle(
			NoFind,
			fmt.Sprintf(
				"%s is a ghost: a former extent of a volume that lives on, or an image inside a file. There is nothing to bring back.",
				p.Title(),
			),
		))
		return
	}
	if o := lodge(&p, l); o != nil {
		block(o)
		return
	}
	first := p.Start
	if p.Container != 0 {
		first = p.Record
	}
	if !Covered(l, first, p.End, p.Container) {
		block(inItsPlace(l, &p))
		return
	}
	if p.Number = freeNumber(l, p.Container); p.Number == 0 {
		block(slotFree(l, 0))
		return
	}
	entryFor(&p, l, f.NewID)
	c.Place, c.Detail = InPlace, "at its own place, as the search found it"
	if x.Mend != "" {
		c.Detail += "; " + x.Mend
	}
	if x.Doubtful != "" {
		c.Notes = append(c.Notes, *NewObstacle(
			Doubted,
			fmt.Sprintf("%s is doubtful. %s Its entry in the table can be taken out again.", p.Title(), x.Doubtful),
		))
	}
	c.Detail += "; " + x.Stand.Words()
	accepted(c, &p, &x.Stand)
	if o := x.willNotOpen(p.Number); o != nil && strings.TrimSpace(Of[BringingBack](c.Step).Damaged) == "" {
		c.Missing = append(c.Missing, *o)
	} else if o != nil {
		c.Notes = append(c.Notes, *o)
	}
	c.Number, c.Layout = p.Number, l.With(append(l.Partitions(), p))
}

// noTable tells that there is no table which something could be put into, nil where there is one.
func noTable(l *layout.Layout) *Obstacle {
	if l.Scheme != "none" {
		return nil
	}
	text := "The drive has no partition table that it could be put into. Make one first: that writes to the first and last sectors of the drive alone."
	return NewObstacle(NoGap, text).ClearedBy("clear")
}

// lodge finds what a partition lies in, in the table that a drive has now: a container that is around it, and
// a place for its record, or the drive itself.
func lodge(p *layout.Span, l *layout.Layout) *Obstacle {
	p.Container = 0
	for _, q := range l.Partitions() {
		if q.Role == layout.Container && q.Start <= p.Start && p.End <= q.End {
			p.Container = q.Number
		}
	}
	if p.Container == 0 {
		p.Record = 0
		return noTable(l)
	}
	if p.Record = recordFor(l, *p); p.Record == 0 {
		return NewObstacle(InTheWay, fmt.Sprintf("Before %s there is no room for its record in the container's chain.", p.Title())).ClearedBy("slide", "shrink")
	}
	return nil
}

// ofOtherKind tells that a partition's entry was one in a table of another kind than the drive's is now, or
// that it never had one.
func ofOtherKind(p *layout.Span, l *layout.Layout) bool {
	return p.TypeID == "" || (len(p.TypeID) == 2) != (l.Scheme == "mbr")
}

// entryFor makes a partition's entry one for the table that a drive has now. newID is for what has no id there
// or one that something else has.
func entryFor(p *layout.Span, l *layout.Layout, newID string) {
	if ofOtherKind(p, l) {
		kind := volume.Unknown
		if p.Volume != nil {
			kind = p.Volume.Kind
		}
		p.TypeID, p.Active, p.Hidden = typeOf(l.Scheme, kind, p.Role), false, false
	}
	if p.TypeName = table.TypeName(p.TypeID); p.Attributes == "" || l.Scheme == "mbr" {
		p.Attributes = "0x0000000000000000"
	}
	switch {
	case l.Scheme == "mbr":
		p.Name, p.UniqueID = "", layout.PlaceID(l.DiskID, p.Start.Offset(l.Sector))
	case len(p.UniqueID) != 36 || slices.ContainsFunc(l.Partitions(), func(q layout.Span) bool { return q.UniqueID == p.UniqueID }):
		p.UniqueID = newID
	}
}

// willNotOpen says that what comes back cannot be opened, and what to do instead; nil where it can.
func (x *Found) willNotOpen(number int) *Obstacle {
	if x.Shut == "" {
		return nil
	}
	text := fmt.Sprintf("%s will not open as what it was once it is back: %s", x.Span.Title(), x.Shut)
	if x.Listed {
		text += " Put its files on the shelf instead, as far as they can be found. To bring it back all the same, say why."
	} else {
		text += " No files can be found in it. To bring it back all the same, for other tools to look into, say why."
	}
	return NewObstacle(DamageMissing, text, number).ClearedBy("back-up-find", "damaged")
}

// recordFor is where the record of a logical volume that comes back can stand: where it stood,
// or as near before the volume as there is room; 0 for nowhere.
func recordFor(l *layout.Layout, p layout.Span) disk.LBA {
	for _, at := range []disk.LBA{p.Record, p.Start - disk.Grid.At(l.Sector), p.Start - 63, p.Start - 1} {
		if at > 0 && at < p.Start && (Covered(l, at, p.Start-1, p.Container) || atHead(l, at, p)) {
			return at
		}
	}
	return 0
}

// atHead tells that a record's place is that of the container's own first sector, which holds
// no volume of its own.
func atHead(l *layout.Layout, at disk.LBA, p layout.Span) bool {
	q, ok := l.Find(p.Container)
	return ok && at == q.Start && Covered(l, at+1, p.Start-1, p.Container)
}

// inItsPlace names what lies in the place of a partition that is to come back.
func inItsPlace(l *layout.Layout, p *layout.Span) *Obstacle {
	o := NewObstacle(InTheWay, "").ClearedBy("slide", "shrink", "delete")
	for _, q := range l.Partitions() {
		if q.Role == layout.Container && q.Number == p.Container || q.Start > p.End || q.End < p.Start {
			continue
		}
		n := (min(q.End, p.End) - max(q.Start, p.Start) + 1).Offset(l.Sector)
		o.Partitions = append(o.Partitions, q.Number)
		o.Text += fmt.Sprintf("%s (partition %d) lies over %s of its place. ", q.Title(), q.Number, n)
	}
	if o.Text == "" {
		o.Text = "Its place is not free. "
	}
	o.Text = fmt.Sprintf(
		"%s cannot come back as it is: %sWhat lies there must be made smaller, slid away, or deleted first.",
		p.Title(), o.Text,
	)
	return o
}

// Back is one complete way to bring a find back.
type Back struct {
	Title string
	Steps []Step
	Price Price
	// Damage is what a reason is asked for, nil where nothing of it is known to be gone.
	Damage *Obstacle
}

// WaysBack works out ways to bring a find back: at once where its place is free, else after
// what lies over it was slid away or made smaller. Only ways that can be done are given; else
// the obstacles say why there is none. then are steps that follow, for what they name by
// the step's As.
func WaysBack(l *layout.Layout, f Facts, back Step, then ...Step) (ways []Back, obstacles []Obstacle) {
	x, ok := f.Finds[Of[BringingBack](back).Find]
	table := TableFirst(l, f, []layout.Span{x.Span})
	try := func(title string, steps ...Step) bool {
		steps = slices.Concat(table, steps, []Step{back}, then)
		for len(f.NewIDs) < len(steps) {
			f.NewIDs = append(f.NewIDs, f.NewID)
		}
		cols := Lay(l, f, steps)
		for _, c := range cols {
			if len(c.Obstacles) > 0 {
				obstacles = append(obstacles, c.Obstacles...)
				return false
			}
		}
		way := Back{Title: title, Steps: steps, Price: PriceOf(l, cols, f)}
		for _, c := range cols {
			way.Damage = cmp.Or(way.Damage, c.Damage())
		}
		ways = append(ways, way)
		return true
	}
	title := "Put it back into the table"
	if len(table) > 0 {
		title = tableTitle(table[0]) + ", and put it back there"
	}
	if try(title) || !ok || x.Ghost {
		return ways, obstacles
	}
	straight := obstacles
	p := x.Span
	size := func(n disk.LBA) string {
		return fmt.Sprintf("%d MiB", n.Offset(l.Sector).Up(disk.Grid)/disk.MiB)
	}
	for _, way := range []struct {
		word string
		step func(q layout.Span) (Step, bool)
	}{
		{"make %s smaller", func(q layout.Span) (Step, bool) {
			var less Shrinking
			switch {
			case q.Start < p.Start: // its end lies over it
				less.By = size(q.End - p.Start + 1)
			case q.End > p.End:
				less.By, less.Edge = size(p.End-q.Start+1), "head"
			default:
				return Step{}, false
			}
			return Step{Partition: fmt.Sprint(q.Number), Body: less}, true
		}},
		{"slide %s toward the end", func(q layout.Span) (Step, bool) {
			return Step{Partition: fmt.Sprint(q.Number), Body: Sliding{By: size(p.End - q.Head() + 1)}}, true
		}},
		{"slide %s toward the start", func(q layout.Span) (Step, bool) {
			return Step{Partition: fmt.Sprint(q.Number), Body: Sliding{By: "-" + size(q.End-p.Start+1)}}, true
		}},
	} {
		var steps []Step
		var titles []string
		possible := true
		for _, q := range l.Partitions() {
			if q.Role == layout.Container || q.Start > p.End || q.End < p.Start {
				continue
			}
			s, ok := way.step(q)
			possible = possible && ok
			steps, titles = append(steps, s), append(titles, fmt.Sprintf(way.word, q.Title()))
		}
		if possible && len(steps) > 0 {
			title := Join(titles) + ", then put it back"
			try(strings.ToUpper(title[:1])+title[1:], steps...)
		}
	}
	if len(ways) > 0 {
		return ways, nil
	}
	return nil, straight
}

// TableFirst is the step that makes a table where a drive has none that anything could be put into, with
// what was found to say of which kind.
func TableFirst(l *layout.Layout, f Facts, spans []layout.Span) []Step {
	if !f.NoTable && f.TableTrouble == "" || len(l.Partitions()) > 0 {
		return nil
	}
	scheme, _ := schemeFor(l, spans, f.Removable)
	return []Step{{Body: Clearing{Scheme: scheme}}}
}

// tableTitles are what making a table is called, by its scheme.
var tableTitles = map[string]string{"gpt": "Make a GPT", "mbr": "Make a table of the old kind (MBR)"}

func tableTitle(s Step) string {
	return tableTitles[Of[Clearing](s).Scheme]
}

// AllBack works out how all of some finds come back at once, each a step that brings one back: in the
// order of their places, so that they have the numbers that they are likeliest to have had, logical
// volumes into a container that is made for them, and into a table that is made where there is none.
func AllBack(l *layout.Layout, f Facts, backs []Step) (*Back, []Obstacle) {
	backs = slices.DeleteFunc(slices.Clone(backs), func(s Step) bool {
		x, ok := f.Finds[Of[BringingBack](s).Find]
		return !ok || x.Ghost
	})
	slices.SortFunc(backs, func(a, b Step) int { return cmp.Compare(Of[BringingBack](a).Find, Of[BringingBack](b).Find) })
	var spans []layout.Span
	var primary, logical []Step
	var from, to disk.LBA
	for _, s := range backs {
		p := f.Finds[Of[BringingBack](s).Find].Span
		spans = append(spans, p)
		if p.Record == 0 {
			primary = append(primary, s)
			continue
		}
		if len(logical) == 0 {
			from = p.Record
		}
		logical = append(logical, s)
		from, to = min(from, p.Record), max(to, p.End)
	}
	steps := TableFirst(l, f, spans)
	there := slices.ContainsFunc(l.Partitions(), func(p layout.Span) bool { return p.Role == layout.Container })
	if mbr := l.Scheme == "mbr" && len(steps) == 0 || len(steps) > 0 && Of[Clearing](steps[0]).Scheme == "mbr"; mbr && len(logical) > 0 && !there {
		steps = append(steps, primary...)
		size := fmt.Sprintf("%d B", (to - from + 1).Offset(l.Sector))
		steps = append(steps, Step{Body: Containing{Act: MakeIt, StartLBA: from, Size: size}})
		steps = append(steps, logical...)
	} else {
		steps = append(steps, backs...)
	}
	if len(backs) == 0 {
		return nil, []Obstacle{*NewObstacle(
			NoFind, "Nothing was found that could be brought back.",
		).ClearedBy("search")}
	}
	f.NewIDs = append(slices.Clone(f.NewIDs), StandIns()...)
	for len(f.NewIDs) < len(steps) {
		f.NewIDs = append(f.NewIDs, f.NewID)
	}
	out := &Back{Title: "Bring all of them back", Steps: steps}
	cols := Lay(l, f, steps)
	for _, c := range cols {
		if len(c.Obstacles) > 0 {
			return nil, c.Obstacles
		}
		out.Damage = cmp.Or(out.Damage, c.Damage())
	}
	out.Price = PriceOf(l, cols, f)
	return out, nil
}

// StandIns are unique ids that only tell new partitions apart while a plan is laid.
var StandIns = sync.OnceValue(func() (out []string) {
	for i := range 1000 {
		out = append(out, fmt.Sprintf("%08x-0000-4000-8000-%012x", i+1, i+1))
	}
	return out
})
