package seek

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
	"jadetrail/core/volume/recognise"
)

// judge tells what claims are worth on a drive as it is.
type judge struct {
	dev    disk.Device
	sv     *survey.Survey
	living []*living
}

// living is a volume that a partition of the drive holds now.
type living struct {
	span  layout.Span
	start disk.Bytes
	v     volume.Volume
	used  []disk.Range // in bytes of the drive; read when first asked for
	files *places
}

func newJudge(dev disk.Device, sv *survey.Survey) *judge {
	j := &judge{dev: dev, sv: sv}
	for _, p := range sv.Layout.Partitions() {
		if p.Role != layout.Container {
			j.living = append(j.living, &living{
				span: p, start: p.Start.Offset(sv.Layout.Sector), v: sv.Volume(p.Number),
			})
		}
	}
	return j
}

// identityOf is that of an NTFS volume, "" for others.
func identityOf(v volume.Volume) string {
	if n, ok := v.(*ntfs.Volume); ok {
		return n.Identity()
	}
	return ""
}

func (l *living) identity() string { return identityOf(l.v) }

// inUse are the ranges of the drive that a living partition has in use: all of it where the
// inside is not known.
func (l *living) inUse() []disk.Range {
	if l.used != nil {
		return l.used
	}
	if l.v == nil {
		l.used = []disk.Range{{Start: l.start, End: l.start + l.span.Bytes}}
		return l.used
	}
	if err := l.v.Allocated(func(from, to disk.Bytes) error {
		l.used = append(l.used, disk.Range{Start: l.start + from, End: l.start + to})
		return nil
	}); err != nil || l.used == nil {
		l.used = []disk.Range{{Start: l.start, End: l.start + l.span.Bytes}}
	}
	return l.used
}

// at tells whether a place is in use.
func (l *living) at(off disk.Bytes) bool {
	if off < l.start || off >= l.start+l.span.Bytes {
		return false
	}
	i, found := slices.BinarySearchFunc(l.inUse(), off, func(r disk.Range, at disk.Bytes) int {
		switch {
		case r.End <= at:
			return -1
		case r.Start > at:
			return 1
		}
		return 0
	})
	return found && i < len(l.used)
}

// taken tells in which living volume's used part a place lies.
func (j *judge) taken(off disk.Bytes) *living {
	for _, l := range j.living {
		if l.at(off) {
			return l
		}
	}
	return nil
}

// family is what kinds are told apart by: FAT12 and FAT16 are one, and so are the versions of
// ext.
func family(k volume.Kind) string {
	switch {
	case k == volume.FAT12 || k == volume.FAT16:
		return "fat16"
	case k.IsExt():
		return "ext"
	}
	return string(k)
}

func plainSerial(s string) string {
	s = strings.ToLower(strings.ReplaceAll(s, "-", ""))
	if strings.Trim(s, "0") == "" {
		return ""
	}
	return s
}

func sameVolume(kind volume.Kind, serial string, i *volume.Info) bool {
	return i != nil && family(kind) == family(i.Kind) && plainSerial(serial) != "" && plainSerial(serial) == plainSerial(i.Serial)
}

// alike tells two volumes for the same where neither has a serial number.
func alike(a, b *volume.Info) bool {
	return a != nil && b != nil && a.Kind == b.Kind && plainSerial(a.Serial) == "" && plainSerial(b.Serial) == "" &&
		a.Label == b.Label && a.TotalBytes == b.TotalBytes && a.UsedBytes == b.UsedBytes && a.UsedBytes > 0
}

// lives tells that a claim is of a partition that the drive has.
func (j *judge) lives(c claim) bool {
	for _, l := range j.living {
		if l.start != c.start {
			continue
		}
		switch {
		case c.by == BySector || c.by == ByFiles:
			return true
		case c.by == ByCopy:
			v := l.span.Volume
			if sameVolume(c.kind, c.serial, v) || v != nil && family(c.kind) == family(v.Kind) && plainSerial(c.serial) == plainSerial(v.Serial) && c.size-v.TotalBytes < disk.MiB && v.TotalBytes-c.size < disk.MiB {
				return true
			}
		case c.size == l.span.Bytes || c.size == 0:
			return true
		}
	}
	return false
}

// all judges claims together, by what records of files tell too.
func (j *judge) all(claims []claim, files []told) []Find {
	finds := j.gather(claims)
	for i := range finds {
		j.evidence(&finds[i])
	}
	finds = explained(finds)
	j.ghosts(finds, files)
	for i := range finds {
		j.over(&finds[i])
	}
	return finds
}

// gather puts claims of the same volume together, and gives them what tables, chains and
// records say of the same place.
func (j *judge) gather(claims []claim) []Find {
	type key struct {
		start, size disk.Bytes
		family      string
		serial      string
	}
	var finds []Find
	at := map[key]int{}
	for _, c := range tables(claims) {
		if c.kind == "" {
			continue
		}
		k := key{c.start, c.size, family(c.kind), c.serial}
		i, there := at[k]
		if !there {
			i = len(finds)
			at[k] = i
			finds = append(finds, Find{Kind: c.kind, Serial: c.serial})
		}
		finds[i].from = append(finds[i].from, c)
	}
	alone := map[disk.Range]int{}
	for _, c := range claims {
		if c.kind != "" {
			continue
		}
		told := false
		for i := range finds {
			x := finds[i].from[0]
			if x.kind != "" && x.start == c.start && (x.size == 0 || x.size <= c.size && c.size-x.size < 4*disk.MiB) {
				finds[i].from, told = append(finds[i].from, c), true
			}
		}
		k := disk.Range{Start: c.start, End: c.size}
		if i, there := alone[k]; there {
			finds[i].from, told = append(finds[i].from, c), true
		}
		if !told {
			alone[k] = len(finds)
			finds = append(finds, Find{from: []claim{c}})
		}
	}
	return finds
}

// tables leaves out what a table of files tells where the volume's start or the copy of it tells
// the same.
func tables(claims []claim) []claim {
	return slices.DeleteFunc(slices.Clone(claims), func(c claim) bool {
		return c.by == ByFiles && slices.ContainsFunc(claims, func(x claim) bool {
			return x.kind == volume.NTFS && x.by != ByFiles && x.start == c.start && x.size-c.size < disk.MiB && c.size-x.size < disk.MiB
		})
	})
}

// explained leaves every structure to the find that it speaks for best: a boot sector is that
// of a volume that begins with it, or the copy of one that ends there, and not both. Where as much speaks for
// the one as for the other, what it says itself of where it began decides, and else where programs let partitions
// begin today.
func explained(finds []Find) []Find {
	slices.SortStableFunc(finds, func(a, b Find) int {
		return cmp.Or(
			cmp.Compare(b.weight, a.weight), cmp.Compare(b.asSaid(), a.asSaid()), cmp.Compare(b.onGrid(), a.onGrid()),
		)
	})
	taken := map[disk.Bytes]bool{}
	return slices.DeleteFunc(finds, func(f Find) bool {
		own := false
		for _, c := range f.from {
			own = own || c.kind == "" || !taken[c.at]
		}
		for _, c := range f.from {
			if c.kind != "" && own {
				taken[c.at] = true
			}
		}
		return !own
	})
}

// onGrid is 1 for a find that begins at a MiB of its drive, 0 for any other.
func (f *Find) onGrid() int {
	if f.from[0].start%disk.Grid == 0 {
		return 1
	}
	return 0
}

// asSaid is 1 for a find that begins where it says itself that it did, 0 for any other.
func (f *Find) asSaid() int {
	if began := f.from[0].began; began != 0 && began == f.Start {
		return 1
	}
	return 0
}

// testimony is what tells of a find, taken together.
type testimony struct {
	boot, again, table, files bool       // its start, the copy of it, a table or the trail, its table of files
	rebuilt                   claim      // of what its start can be made again from
	size                      disk.Bytes // the largest that is told; 0 where none is
	copies                    int
}

// evidence reads what can be read of a find, and words how far it can be believed.
func (j *judge) evidence(f *Find) {
	sec := j.sv.Layout.Sector
	first := f.from[0]
	t := f.together()

	// Where it lies.
	f.At = first.at
	if t.size == 0 { // it does not say how long it is: up to what comes next
		t.size = j.upTo(first.start) - first.start
	}
	f.Start, f.Bytes = first.start.At(sec), t.size.Up(sec)
	f.End = f.Start + f.Bytes.At(sec) - 1

	// What it is, once its start is mended on paper.
	j.look(f, t)

	// What speaks for it, and what against it.
	say := func(format string, args ...any) { f.Reasons = append(f.Reasons, fmt.Sprintf(format, args...)) }
	if t.table {
		say("%s", tableWords(f.Told))
	}
	f.wordStart(t, say)
	f.Opens, f.agrees = j.opens(f, say)
	if t.boot && !t.again && f.Opens {
		j.copyAgain(f, first)
	}
	f.weigh(t)
	f.believe(t, say)
	if f.Kind == volume.Sealed && first.size == 0 && !t.table {
		say("It does not say how long it is; taken to end where the next thing begins.")
	}
}

// together takes together what tells of a find, and what that says of it.
func (f *Find) together() *testimony {
	t := &testimony{size: f.from[0].size}
	for _, c := range f.from {
		switch c.by {
		case BySector:
			t.boot = true
		case ByCopy:
			t.again, t.rebuilt = true, c
			t.copies++
		case ByFiles:
			t.files, t.rebuilt, f.identity = true, c, c.identity
		default:
			t.table = true
			f.TypeID, f.UniqueID = cmp.Or(f.TypeID, c.entry.TypeID), cmp.Or(f.UniqueID, c.entry.UniqueID)
			f.Name, f.Chain = cmp.Or(f.Name, c.entry.Name), cmp.Or(f.Chain, c.entry.Record)
			f.Record = cmp.Or(f.Record, c.record)
			if f.Attributes == "" {
				f.Attributes = fmt.Sprintf("0x%016x", c.entry.Attributes)
			}
			t.size = max(t.size, c.size)
		}
		if !slices.Contains(f.Told, c.by) {
			f.Told = append(f.Told, c.by)
		}
	}
	return t
}

// mendStart makes the start of a find again on paper, where it is damaged and something tells how it was. It
// returns the find's place with that.
func (j *judge) mendStart(f *Find, t *testimony) disk.Device {
	first := f.from[0]
	place := disk.NewWindow(j.dev, first.start, t.size)
	if !t.again && !t.files || t.boot || t.rebuilt.boot == nil {
		return place
	}
	var dev disk.Device = place
	if over, err := disk.NewOverlay(place, ""); err == nil {
		if _, err := over.WriteAt(t.rebuilt.boot, int64(t.rebuilt.bootAt)); err == nil {
			dev, f.Mend = over, "its damaged start is rebuilt from the copy of it"
			f.repairs = []Repair{{t.rebuilt.bootAt, t.rebuilt.boot}}
		}
	}
	if !t.files {
		return dev
	}
	f.Mend = "its start is made anew from its table of files"
	if end := t.size - disk.Bytes(len(t.rebuilt.boot)); j.taken(first.start+end) == nil {
		f.repairs = append(f.repairs, Repair{end, t.rebuilt.boot})
		f.Mend = "its start and the copy of it are made anew from its table of files"
	}
	return dev
}

// look opens what lies in the place of a find.
func (j *judge) look(f *Find, t *testimony) {
	dev := j.mendStart(f, t)
	found, err := recognise.Open(dev)
	if n, ok := found.Volume.(*ntfs.Volume); ok && err == nil {
		dev, found = f.rebuild(dev, n, found)
	}
	f.dev = dev
	if err == nil && found.Info != nil {
		f.Holds, f.volume = found.Info, found.Volume
		if f.Kind = cmp.Or(f.Kind, found.Info.Kind); family(f.Kind) == family(found.Info.Kind) {
			f.Kind, f.Label, f.Serial = found.Info.Kind, found.Info.Label, cmp.Or(found.Info.Serial, f.Serial)
		} else { // something else lies there
			f.Holds, f.volume = nil, nil
		}
	}
	f.Kind = cmp.Or(f.Kind, volume.Unknown)
}

// wordStart says what there is of a find's start.
func (f *Find) wordStart(t *testimony, say func(format string, args ...any)) {
	kind := f.from[0].kind
	switch {
	case t.boot && t.again:
		say("Its start and the copy of it agree.")
	case t.boot && kind != volume.Swap && kind != volume.FAT16 && kind != volume.Sealed:
		say("Its start is there; the copy of it is not.")
	case t.boot:
		say("Its start is there.")
	case t.again:
		say("Its start is damaged; the copy of it is there.")
	case t.files:
		say("Neither its start nor the copy of it is there; its table of files is.")
	}
}

// weigh is how much a find counts beside others in its place.
func (f *Find) weigh(t *testimony) {
	first := f.from[0]
	// One copy weighs no more than a start: what lies at either may be the other's.
	f.weight = max(t.copies-1, 0) + 2*len(f.Told)
	f.stray = !begins(first.start) && !t.table && first.began != f.Start
	for _, b := range []bool{f.Opens, f.agrees, f.Opens && f.agrees, !f.stray} {
		if b {
			f.weight += 4
		}
	}
}

// believe is how far a find can be believed.
func (f *Find) believe(t *testimony, say func(format string, args ...any)) {
	first := f.from[0]
	sound := f.Opens && f.agrees
	// Small counts are from a container's record, or what a program puts there that does not know
	// the place. A record of a chain counts from where it lies, and is carried along with what it
	// names.
	carried := first.began > 2048 && !f.placed()
	whole := f.Kind == volume.Swap || f.Kind == volume.Sealed && first.size > 0
	// What an NTFS volume says of where it began is filled in where partitions are made.
	elsewhere := f.Kind == volume.NTFS && first.began != f.Start
	switch {
	case carried:
		f.Confidence = Doubtful
		say(
			"It says that it began at sector %s: it was moved, or carried along with what lay around it.",
			disk.Grouped(int64(first.began)),
		)
	case f.stray:
		f.Confidence = Doubtful
		say("It does not begin where partitions begin: it may be an image that lay in a file.")
	case sound && t.boot && t.again && !t.table && elsewhere:
		f.Confidence = Likely
		say("It does not say that it began there.")
	case sound && (t.boot && t.again || t.table && (t.boot || t.again)):
		f.Confidence = Sure
	case sound && (t.boot || t.again || t.files), whole && t.boot:
		f.Confidence = Likely
		if t.table {
			f.Confidence = Sure
		}
	default:
		f.Confidence = Doubtful
	}
}

// begins tells that a place is one where programs let partitions begin: at a MiB, or, long ago,
// at a cylinder of 255 heads or a multiple of 16, of 63 sectors each, or at the second track of
// one, where the first of a drive and those in a container's chain began.
func begins(at disk.Bytes) bool {
	const track = 63 * 512
	for _, heads := range []disk.Bytes{16, 255} {
		if x := at % (heads * track); x == 0 || x == track {
			return true
		}
	}
	return at%disk.Grid == 0
}

// rebuild puts the first records of a table of files back from their copy, on paper.
func (f *Find) rebuild(dev disk.Device, n *ntfs.Volume, found recognise.Found) (disk.Device, recognise.Found) {
	s, err := n.Rebuild()
	if err != nil || len(s) == 0 {
		return dev, found
	}
	over, err := disk.NewOverlay(dev, "")
	if err != nil {
		return dev, found
	}
	if err := s.Apply(over, nil); err != nil {
		return dev, found
	}
	again, err := recognise.Open(over)
	if err != nil || again.Info == nil {
		return dev, found
	}
	for _, op := range s {
		if op.Kind == script.Write {
			f.repairs = append(f.repairs, Repair{op.Off, op.Data})
		}
	}
	if f.Mend != "" {
		f.Mend += ", and "
	}
	f.Mend += "the first records of its table of files are written again from their copy"
	return over, again
}

// copyAgain rebuilds the copy of a start that is whole, where the kind has one and nothing lies
// in its place.
func (j *judge) copyAgain(f *Find, c claim) {
	sec, n := disk.Bytes(512), disk.Bytes(1)
	at := disk.Bytes(0)
	b, err := disk.ReadFull(j.dev, c.start, 512)
	if err != nil {
		return
	}
	switch f.Kind {
	case volume.NTFS:
		sec = disk.Bytes(le.Uint16(b[11:]))
		at = c.size - sec
	case volume.FAT32:
		sec = disk.Bytes(le.Uint16(b[11:]))
		at = disk.Bytes(le.Uint16(b[50:])) * sec
	case volume.ExFAT:
		sec, n = 1<<b[108], 12
		at = 12 * sec
	default:
		return
	}
	if at <= 0 || at > 32*sec && f.Kind != volume.NTFS || j.taken(c.start+at) != nil {
		return
	}
	if whole, err := disk.ReadFull(j.dev, c.start, n*sec); err == nil {
		if f.repairs = append(f.repairs, Repair{at, whole}); f.Mend != "" {
			f.Mend += ", and "
		}
		f.Mend += "the copy of its start is written anew"
	}
}

func tableWords(told []Source) string {
	var t []string
	for _, s := range told {
		switch s {
		case ByTable:
			t = append(t, "a table that is not in use")
		case ByChain:
			t = append(t, "a record of a container's former chain")
		case ByRecord:
			t = append(t, "the trail")
		}
	}
	text := strings.Join(t, " and ")
	return strings.ToUpper(text[:1]) + text[1:] + " names a partition there."
}

// opens tells whether the find's own structures can be read, and whether what can be read of
// them is its own.
func (j *judge) opens(f *Find, say func(string, ...any)) (opens, agrees bool) {
	if f.volume == nil {
		if f.Holds != nil && f.Kind != volume.Swap && f.Kind != volume.Sealed && f.Kind != volume.Unknown {
			say("Its structures cannot be read.")
		}
		return false, false
	}
	var doubts []string
	table := f.Start.Offset(j.sv.Layout.Sector) + 4096
	if n, ok := f.volume.(*ntfs.Volume); ok {
		table = f.Start.Offset(j.sv.Layout.Sector) + n.TableAt()
		claimed, ok := n.Claimed()
		if agrees = ok && claimed == n.Length(); ok && !agrees {
			doubts = append(doubts, fmt.Sprintf(
				"Its table of files is of a volume of %s, not of %s: it had another size then.", claimed, n.Length(),
			))
		}
	}
	if l := j.taken(table); l != nil {
		doubts = append(doubts, fmt.Sprintf("Where its table of files was, %s has something now.", l.span.Title()))
	}
	root, _, err := f.volume.List("", "", 20)
	switch {
	case err != nil:
		say("Its root folder cannot be read: %v.", err)
	case len(root) == 0:
		say("Its root folder can be read, and is empty.")
	default:
		say("Its files can be listed.")
	}
	f.Reasons = append(f.Reasons, doubts...)
	opens = err == nil
	return opens, (opens || agrees) && len(doubts) == 0
}

// upTo is where the next partition begins, or the usable part of the drive ends.
func (j *judge) upTo(from disk.Bytes) disk.Bytes {
	end := (j.sv.Layout.LastUsable + 1).Offset(j.sv.Layout.Sector)
	if end <= from {
		end = j.dev.Size()
	}
	for _, l := range j.living {
		if l.start > from {
			end = min(end, l.start)
		}
	}
	return end
}

// ghosts tells those apart that are only the former extent of a volume that lives on, or of
// another find, and those that lie inside a file.
func (j *judge) ghosts(finds []Find, files []told) {
	j.former(finds)
	j.carriedAlong(finds)
	j.inFiles(finds, files)
}

// former tells of finds that are of a volume that lives on, or lie in a living partition's
// files, and of those that are one volume with others.
func (j *judge) former(finds []Find) {
	order := make([]int, len(finds))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(finds[b].weight, finds[a].weight) })
	for n, i := range order {
		f := &finds[i]
		for _, l := range j.living {
			if sameVolume(f.Kind, f.Serial, l.span.Volume) || alike(f.Holds, l.span.Volume) || f.identity != "" && f.identity == l.identity() {
				if j.copied(f, l) {
					continue
				}
				f.ghost(
					"It is where %s was, or how large it was; that volume lives on (partition %d).", l.span.Title(),
					l.span.Number,
				)
				break
			}
		}
		if f.Ghost {
			continue
		}
		switch in, name := j.insideLiving(f); {
		case in == nil:
		case name != "":
			f.ghost("It lies inside the file %s of %s (partition %d).", name, in.span.Title(), in.span.Number)
			continue
		case in.span.Volume != nil && in.span.Volume.Kind == volume.LVM:
			f.ghost("It lies inside %s (partition %d), whose volumes are parts of it.", in.span.Title(), in.span.Number)
			continue
		case in.v == nil: // it may be left from before
			f.doubt(
				"What tells of it lies inside %s (partition %d), of which nobody knows what it has written where.",
				in.span.Title(), in.span.Number,
			)
		}
		for _, k := range order[:n] {
			g := &finds[k]
			same := sameVolume(f.Kind, f.Serial, g.Holds) || f.identity != "" && f.identity == identityOf(g.volume)
			switch {
			case twice(f, g):
				for _, x := range []*Find{f, g} {
					x.doubt("The same volume lies at two places: one of them is where it was before it was moved, and nothing tells which.")
				}
			case !same || f.Ghost:
			case f.Start == g.Start && g.agrees:
				f.ghost("It is how large %s was at another time.", g.Title())
			case f.Start == g.Start:
				f.doubt("The same volume is told to be of %s too, and nothing tells which it was last.", g.Bytes)
			case f.stray && g.Start < f.Start && f.Start <= g.End:
				f.ghost("It is a copy of the start of %s, within it.", g.Title())
			default:
				f.doubt(
					"The same volume lies at sector %s, and more of it: one of them is where it was before it was moved.",
					disk.Grouped(int64(g.Start)),
				)
			}
		}
	}
}

// copied tells that a find is no former extent of a volume that lives on, but a copy of it: the trail
// knows it as a partition of its own, deleted where it lies, and what lies there is whole. By an MBR,
// whose entries have no ids, that cannot be told for certain.
func (j *judge) copied(f *Find, l *living) bool {
	if !slices.Contains(f.Told, ByRecord) || !f.Opens || !f.agrees || strings.EqualFold(f.UniqueID, l.span.UniqueID) {
		return false
	}
	if len(f.TypeID) == 2 {
		f.doubt(
			"%s (partition %d) is the same volume: this is a copy of it, or where it was before it was moved.",
			l.span.Title(), l.span.Number,
		)
	} else {
		f.Reasons = append(f.Reasons, fmt.Sprintf(
			"%s (partition %d) has the same serial number: one is a copy of the other.", l.span.Title(),
			l.span.Number,
		))
	}
	return true
}

// carriedAlong doubts what a table of files alone tells of within another's place, or the start alone of what
// does not say where it began: it may have been moved with what lay around it.
func (j *judge) carriedAlong(finds []Find) {
	for i := range finds {
		f := &finds[i]
		placeless := f.Kind == volume.Swap || f.Kind == volume.Sealed
		if f.identity == "" && !placeless || f.Ghost || f.Confidence != Likely {
			continue
		}
		in := slices.ContainsFunc(j.living, func(l *living) bool { return l.span.Start <= f.Start && f.End <= l.span.End })
		for k := range finds {
			g := &finds[k]
			in = in || i != k && !g.Ghost && g.Start <= f.Start && f.End <= g.End && g.Bytes > f.Bytes
		}
		if in {
			f.doubt("It lies within the place of another, with which it may have been carried along.")
		}
	}
}

// inFiles tells of finds that lie inside a file of another find, or of a volume of which a
// record of the file is left, and of those that lie where only a file can have held them.
func (j *judge) inFiles(finds []Find, files []told) {
	for i := range finds {
		f := &finds[i]
		for k := range finds {
			g := &finds[k]
			if f.Ghost || i == k || g.volume == nil || f.Start < g.Start || f.Start > g.End || f.Start == g.Start && f.Bytes >= g.Bytes {
				continue
			}
			switch name, certain := j.insideFind(f, g); {
			case certain:
				f.ghost("It lies inside the file %s of the find %s.", name, g.Title())
			case name != "":
				f.inferred("It lies in what the file %s of the find %s had in use: an image in that.", name, g.Title())
			}
		}
	}
	slices.SortFunc(files, func(a, b told) int { return cmp.Compare(a.Bytes, b.Bytes) })
	starts := map[disk.Bytes]disk.Bytes{}
	for _, l := range j.living {
		starts[l.start] = l.span.Bytes
	}
	for _, g := range finds {
		at := g.Start.Offset(j.sv.Layout.Sector)
		starts[at] = max(starts[at], g.Bytes)
	}
	for i := range finds {
		if f := &finds[i]; !f.Ghost {
			j.insideTold(f, finds, starts, files)
		}
	}
	for i := range finds {
		if f := &finds[i]; f.stray && !f.Ghost {
			if in := j.around(f, finds); in != "" {
				f.inferred(
					"It lies in what the find %s had in use: an image in a file of that, though nothing is left that names the file.",
					in,
				)
			}
		}
	}
}

// doubt makes a find doubtful for a reason.
func (f *Find) doubt(format string, args ...any) {
	f.Confidence = Doubtful
	f.Reasons = append(f.Reasons, fmt.Sprintf(format, args...))
}

// ghost takes a find for a ghost.
func (f *Find) ghost(format string, args ...any) {
	f.Ghost = true
	f.Reasons = append([]string{fmt.Sprintf(format, args...)}, f.Reasons...)
}

// inferred takes a find for a ghost that may yet be none: nothing that is known begins there, and
// what tells of a file that it lies in may be older than the find.
func (f *Find) inferred(format string, args ...any) {
	f.ghost(format, args...)
	f.Inferred = true
}

// placed tells that a find was where it lies: a table or the trail names it there, or it says so
// itself.
func (f *Find) placed() bool {
	return f.from[0].began == f.Start || slices.Contains(f.Told, ByTable) || slices.Contains(f.Told, ByRecord)
}

// around names another find, or the former place of a volume, in whose place a find lies: of
// which nobody knows what it had in use, or which had all of it in use.
func (j *judge) around(f *Find, finds []Find) string {
	sec := j.sv.Layout.Sector
	for i := range finds {
		g := &finds[i]
		if g.stray || g.Start > f.Start || f.End > g.End {
			continue
		}
		if used, known := g.InUse(sec); known {
			free := f.Bytes
			for _, r := range used {
				free -= max(0, min(r.End, (f.End+1).Offset(sec))-max(r.Start, f.Start.Offset(sec)))
			}
			if free > 0 {
				continue
			}
		}
		return g.Title()
	}
	return ""
}

// twice tells that two finds are the same volume, whole, at two places.
func twice(f, g *Find) bool {
	if f.Start == g.Start || f.Bytes != g.Bytes || f.Holds == nil || g.Holds == nil || f.Ghost || g.Ghost || f.Holds.Kind != g.Holds.Kind {
		return false
	}
	if sealed := f.volume == nil || g.volume == nil; sealed && f.Kind != volume.Swap && f.Kind != volume.Sealed {
		return false
	}
	if sameVolume(f.Kind, f.Serial, g.Holds) {
		return true
	}
	return alike(f.Holds, g.Holds)
}

// insideLiving tells in which partition all that tells of a find lies in what is in use, and in
// which file. Of one whose inside is not known, all is.
func (j *judge) insideLiving(f *Find) (*living, string) {
	var in *living
	for _, c := range f.from {
		if c.kind == "" {
			return nil, ""
		}
		l := j.taken(c.at)
		if l == nil || in != nil && in != l {
			return nil, ""
		}
		in = l
	}
	if in == nil || in.v == nil {
		return in, ""
	}
	if in.files == nil {
		in.files = placesOf(in.v)
	}
	p, _ := in.files.at(f.from[0].at - in.start)
	return in, p.name
}

// insideFind names the file of another find that a find lies in. That is certain of one that is
// as long and begins with it, or that holds a drive of which it is a partition; not of one that
// is longer, or has all of it where no partition begins.
func (j *judge) insideFind(f, g *Find) (name string, certain bool) {
	start := g.Start.Offset(j.sv.Layout.Sector)
	if g.files == nil {
		g.files = placesOf(g.volume)
	}
	p, ok := g.files.at(f.from[0].at - start)
	rest := p.file.Bytes - f.from[0].size
	if !ok || rest < 0 || f.placed() {
		return "", false
	}
	from := f.Start.Offset(j.sv.Layout.Sector) - start
	into := p.into + from - (f.from[0].at - start)
	switch {
	case into == 0:
		return p.name, rest < disk.MiB
	case into < 0 || from-into < 0 || from-into+p.file.Bytes > g.dev.Size():
		return "", false
	}
	// The table of a drive whose image a file is.
	t, err := table.Read(disk.NewWindow(g.dev, from-into, p.file.Bytes))
	switch {
	case err == nil && slices.ContainsFunc(t.Entries, func(e table.Entry) bool { return e.Start.Offset(t.Sector) == into }):
		return p.name, true
	case f.stray && into <= rest:
		return p.name, false
	}
	return "", false
}

// insideTold looks among the records of files, in the order of their length, for one in whose
// file a find lies: a file as long as it, or the image of a drive on which it is a partition that
// begins where they do. The volume of the file began where partitions begin; where the find does
// so too, which many files would fit, it is one that is known: starts are those, with how long
// they are. By one that is not known it is inferred.
func (j *judge) insideTold(f *Find, finds []Find, starts map[disk.Bytes]disk.Bytes, files []told) {
	c := f.from[0]
	if c.size == 0 || f.placed() {
		return
	}
	i, _ := slices.BinarySearchFunc(files, c.size, func(x told, n disk.Bytes) int { return cmp.Compare(x.Bytes, n) })
	for ; i < len(files) && files[i].Bytes < c.size+3*disk.MiB; i++ {
		x := &files[i]
		for _, into := range []disk.Bytes{0, 63 * 512, disk.MiB} {
			first, rest := x.Extents[0], x.Bytes-into-c.size
			start := c.start - into - first.Off
			fits := rest >= 0 && (into > 0 || rest < 4096) && into < first.Len && start > 0 && !strings.HasPrefix(x.Name, "$")
			if fits && (starts[start] > f.Bytes || f.stray && begins(start)) && j.within(x.at, start, finds) {
				f.named = x.at
				tell := f.inferred
				if starts[start] > f.Bytes {
					tell = f.ghost
				}
				tell(
					"It lies inside the file %s, whose record lies at sector %s.", x.Name,
					disk.Grouped(int64(x.at.At(j.sv.Layout.Sector))),
				)
				return
			}
		}
	}
}

// within tells that a record may be one of a volume that begins at start: nothing that is known
// begins between them, and has the record in its place.
func (j *judge) within(record, start disk.Bytes, finds []Find) bool {
	sec := j.sv.Layout.Sector
	between := func(from, n disk.Bytes) bool { return start < from && from <= record && record < from+n }
	return record > start &&
		!slices.ContainsFunc(j.living, func(l *living) bool { return between(l.start, l.span.Bytes) }) &&
		!slices.ContainsFunc(finds, func(g Find) bool { return !g.stray && between(g.Start.Offset(sec), g.Bytes) })
}

// over notes which partitions lie in a find's place now.
func (j *judge) over(f *Find) {
	for _, l := range j.living {
		lo, hi := max(l.span.Start, f.Start), min(l.span.End, f.End)
		if lo <= hi {
			f.Over = append(f.Over, Over{l.span.Number, l.span.Title(), (hi - lo + 1).Offset(j.sv.Layout.Sector)})
		}
	}
}

// places tells which file lies at a place of a volume.
type places struct {
	stretches []placed
}

// placed is a stretch of a file.
type placed struct {
	off, len, into disk.Bytes
	name           string
	file           volume.File
}

func placesOf(v volume.Volume) *places {
	p := &places{}
	walk := v.Walk
	if w, ok := v.(volume.PlaceWalker); ok {
		walk = w.WalkPlaces
	}
	// As far as it can be walked.
	_ = walk(func(f volume.File) error {
		into := disk.Bytes(0)
		for _, e := range f.Extents {
			if e.Off >= 0 {
				p.stretches = append(p.stretches, placed{e.Off, e.Len, into, f.Path, f})
			}
			into += e.Len
		}
		return nil
	})
	slices.SortFunc(p.stretches, func(a, b placed) int { return cmp.Compare(a.off, b.off) })
	return p
}

// at finds the stretch at a place; its into is how far into the file the place lies.
func (p *places) at(off disk.Bytes) (placed, bool) {
	i, exact := slices.BinarySearchFunc(p.stretches, off, func(x placed, at disk.Bytes) int { return cmp.Compare(x.off, at) })
	if !exact {
		i--
	}
	if i < 0 || off >= p.stretches[i].off+p.stretches[i].len {
		return placed{}, false
	}
	x := p.stretches[i]
	x.into += off - x.off
	return x, true
}
