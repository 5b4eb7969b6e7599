package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// Creation is what is said of a new partition.
type Creation struct {
	StartLBA   disk.LBA `json:"start_lba,omitempty"` // 0 for where there is room
	Size       string   `json:"size,omitempty"`      // "" for that of the image
	Type       string   `json:"type,omitempty"`      // a word or an id, "" for that of the image
	Format     string   `json:"format,omitempty"`    // "ntfs", "fat32" or "none"
	Label      string   `json:"label,omitempty"`
	Name       string   `json:"name,omitempty"`       // in a GPT
	Attributes string   `json:"attributes,omitempty"` // in hex
	As         string   `json:"as,omitempty"`         // the name by which later steps speak of it
	Test       bool     `json:"test,omitempty"`       // every sector is read, written and read again
	Backup     string   `json:"backup,omitempty"`     // the image of a partition that fills it
	In         string   `json:"in,omitempty"`         // "container" for a logical volume
}

func (Creation) Do() Do { return Create }

func (b Creation) backup() string { return b.Backup }

func (b Creation) named() string { return b.As }

func (b Creation) amount() string { return b.Size }

func (b Creation) withAmount(text string) Body {
	b.Size = text
	return b
}

// creation makes a partition in a gap: with an empty volume, with what an image of the shelf holds, or with nothing.
var creation = kind{
	blank: Creation{},
	valid: Step.validCreate, lay: layCreate,
	whole: always, makes: true, fills: itself, copies: filledFrom,
	priced: priceOfMaking,
}

// typeIDs are the names of partition types in plans, with their type on a GPT and on an
// MBR.
var typeIDs = map[string][2]string{
	"basic":    {table.TypeBasic, "07"},
	"efi":      {table.TypeEFI, "ef"},
	"reserved": {table.TypeReserved, ""},
	"recovery": {table.TypeRecovery, "27"},
	"oem":      {table.TypeOEM, "12"},
	"linux":    {table.TypeLinux, "83"},
	"swap":     {table.TypeSwap, "82"},
}

// roleOf is what a partition of such a type is for.
var roleOf = map[string]layout.Role{
	"efi":      layout.EFI,
	"reserved": layout.Reserved,
	"recovery": layout.Recovery,
	"oem":      layout.OEM,
	"swap":     layout.Swap,
	"linux":    layout.Unknown,
}

// NewCluster is the cluster size of volumes that are made.
const NewCluster = 4 * disk.KiB

// Image is a backup of a whole partition, on its way to a place.
type Image struct {
	Span     layout.Span
	Sector   disk.Bytes
	MBR      bool // it was made from a drive with an MBR
	Verified bool
	Fills    disk.Bytes // how much of it is written
}

// restored puts the contents of an image into a new partition; an NTFS or FAT volume is
// grown to fill a larger one.
func restored(c *Column, p *layout.Span, img *Image, l *layout.Layout) {
	c.Place, c.Fills, c.Detail = FromBackup, img.Fills, fmt.Sprintf("%s, from image %s", p.Bytes, Of[Creation](c.Step).Backup)
	if img.Span.Volume == nil {
		return
	}
	v := *img.Span.Volume
	p.Volume = &v
	if p.Bytes == img.Span.Bytes {
		return
	}
	switch {
	case v.Kind != volume.NTFS && v.Tables == nil:
		c.Obstacles = append(c.Obstacles, *NewObstacle(
			NotResizable,
			fmt.Sprintf(
				"%s is %s, which this version does not grow: give it its own size, %s.", img.Span.Title(), v.Kind,
				img.Span.Bytes,
			),
		))
	case v.Tables != nil && p.Bytes.At(l.Sector) > MaxVolume(&v, l.Sector):
		c.Obstacles = append(c.Obstacles, *NewObstacle(
			TooLarge,
			fmt.Sprintf(
				"%s has clusters of %s and cannot become so large: up to %s.", img.Span.Title(), v.ClusterBytes,
				MaxVolume(&v, l.Sector).Offset(l.Sector),
			),
		))
	case !v.Clean || v.Hibernated:
		c.Obstacles = append(c.Obstacles, *NewObstacle(
			NotClean,
			fmt.Sprintf(
				"%s was not closed properly when the image was made: give it its own size, %s.", img.Span.Title(),
				img.Span.Bytes,
			),
		))
	default:
		v = filling(v, p.Bytes, l.Sector)
		c.Detail += fmt.Sprintf(", grown from %s", img.Span.Bytes)
	}
}

// Serial makes a volume's serial number from a unique id.
func Serial(id string) string {
	return (strings.ReplaceAll(id, "-", "") + "0000000000000000")[:16]
}

// gapFor is the gap that a new partition goes into: the one at its start, or the first
// that is large enough.
func gapFor(l *layout.Layout, start disk.LBA, howLarge string, inside int) (layout.Span, bool) {
	var largest layout.Span
	for _, g := range l.Spans {
		if g.Kind != layout.Gap || g.Why != layout.Free || g.Container != inside {
			continue
		}
		if start > 0 {
			if g.Start <= start && start <= g.End {
				return layout.Span{
					Kind: g.Kind, Why: g.Why, Start: start, End: g.End,
					Bytes: (g.End - start + 1).Offset(l.Sector),
				}, true
			}
			continue
		}
		if size, err := disk.ParseAmount(howLarge, l.Room(g)); howLarge != "" && err == nil && size <= l.Room(g) {
			return g, true
		}
		if g.Bytes > largest.Bytes {
			largest = g
		}
	}
	return largest, largest.Bytes > 0
}

// validCreate checks the words of a step that creates.
func (s Step) validCreate() error {
	step := Of[Creation](s)
	if step.Size == "" && step.Backup == "" {
		return fmt.Errorf("create names no size")
	}
	if step.Size != "" {
		if _, err := disk.ParseAmount(step.Size, 1<<60); err != nil {
			return err
		}
	}
	if step.Type == "" && step.Backup == "" || len(step.Type) > 36 {
		return fmt.Errorf("create names no type")
	}
	if step.Backup != "" && step.Format != "" {
		return fmt.Errorf("create has a format and an image; one of them says what is to be in it")
	}
	if step.In != "" && step.In != "container" {
		return fmt.Errorf("in is %q, not container", step.In)
	}
	if step.Test && step.Backup != "" {
		return fmt.Errorf("an image is put into the new partition; testing its sectors is not asked for with it")
	}
	if step.StartLBA < 0 {
		return fmt.Errorf("start_lba is %d", step.StartLBA)
	}
	if step.Backup == "" && !slices.Contains([]string{"ntfs", "fat32", "fat16", "none"}, step.Format) {
		return fmt.Errorf("format is %q, not ntfs, fat32, fat16 or none", step.Format)
	}
	if n := len(utf16.Encode([]rune(step.Label))); n > 32 {
		return fmt.Errorf("the label has %d letters; 32 fit", n)
	}
	if n := len(utf16.Encode([]rune(step.Name))); n > 36 {
		return fmt.Errorf("the name has %d letters; 36 fit", n)
	}
	if step.Attributes != "" {
		if _, err := strconv.ParseUint(strings.TrimPrefix(step.Attributes, "0x"), 16, 64); err != nil {
			return fmt.Errorf("attributes are %q, not a number in hex", step.Attributes)
		}
	}
	return nil
}

// priceOfMaking is what an empty volume that is made takes.
func priceOfMaking(sum *tally, c Column, _ *layout.Span, _ *layout.Layout) {
	if is, ok := c.Layout.Find(c.Number); ok && is.Volume != nil && c.Place != FromBackup {
		sum.Rewritten += own(is)
	}
}

// filledFrom is how much a partition is filled with that comes back.
func filledFrom(c Column, _ *layout.Span, _ *layout.Layout, _ Facts) disk.Bytes {
	if c.Place == FromBackup {
		return c.Fills
	}
	return 0
}

// itself is the partition that a step makes or brings back.
func itself(c *Column) int { return c.Number }

func create(l *layout.Layout, gap *layout.Span, f Facts) Act {
	a := Act{Do: Create, Limit: l.Room(*gap)}
	if gap.Container != 0 {
		a.Limit -= disk.Grid // its record goes before it
	}
	switch {
	case AgainstAll(f) != nil:
		a.Obstacle = AgainstAll(f)
	case gap.Why == layout.Table && l.Scheme == "mbr" && gap.Start > l.LastUsable:
		a.Obstacle = NewObstacle(BeyondMBR, "It lies beyond 2 TiB, which the drive's old table (MBR) cannot name. A GPT could.").ClearedBy("change-table")
	case gap.Why == layout.Table || gap.Why == layout.InChain:
		a.Obstacle = NewObstacle(GapTooSmall, "The table itself lies here.")
	case a.Limit < disk.MiB:
		a.Obstacle = NewObstacle(
			GapTooSmall,
			fmt.Sprintf("It is %s, less than the 1 MiB on which partitions begin and end.", gap.Bytes.Exact()),
		)
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

// layCreate makes a partition in a gap.
func layCreate(c *Column, l *layout.Layout, _ *layout.Span, f Facts) {
	Of[Creation](c.Step).lay(c, l, f)
}

// lay makes a partition that is as the body says.
func (b Creation) lay(c *Column, l *layout.Layout, f Facts) {
	m := making{s: b, l: l, f: f}
	c.Title = "Create " + strings.TrimSpace(m.s.Label)
	if m.s.Label == "" {
		c.Title = "Create a partition"
	}
	for _, part := range []func() *Obstacle{m.room, m.image, m.amount, m.entry} {
		o := part()
		if m.img != nil {
			c.Title = "Restore " + m.img.Span.Title()
		}
		if o != nil {
			c.Obstacles = append(c.Obstacles, *o)
			return
		}
	}
	if m.img != nil {
		restored(c, &m.p, m.img, l)
	} else if o := m.volume(); o != nil {
		c.Obstacles = append(c.Obstacles, *o)
	} else {
		c.Detail = fmt.Sprintf("%s, %s", m.p.Bytes, formatWords[m.s.Format])
		if m.s.Test {
			c.Detail += ", every sector tested"
		}
	}
	if len(c.Obstacles) == 0 {
		c.Number, c.Layout = m.p.Number, l.With(append(l.Partitions(), m.p))
	}
}

// formatWords are the formats of new volumes in words.
var formatWords = map[string]string{"ntfs": "NTFS", "fat32": "FAT32", "none": "no volume"}

// making is a partition while it is worked out: what the step says, and what has come of it so far.
type making struct {
	s      Creation
	l      *layout.Layout
	f      Facts
	inside int // the number of the container that it lies in, 0 for none
	gap    layout.Span
	most   disk.Bytes // that there is room for
	img    *Image     // that fills it, nil for none
	size   disk.Bytes
	p      layout.Span
}

// room finds the gap that it goes into.
func (m *making) room() *Obstacle {
	if m.s.In != "" {
		i := slices.IndexFunc(m.l.Spans, func(p layout.Span) bool { return p.Role == layout.Container })
		if i < 0 {
			return NewObstacle(
				NoGap, "The drive has no extended container that a logical volume could lie in.",
			).ClearedBy("container")
		}
		m.inside = m.l.Spans[i].Number
	}
	gap, ok := gapFor(m.l, m.s.StartLBA, m.s.Size, m.inside)
	if !ok {
		return NewObstacle(NoGap, "There is no free room for a new partition there.")
	}
	if box, ok := m.l.Find(m.inside); ok && gap.Start == box.Start+1 {
		gap.Start = box.Start // its record can stand there
	}
	m.gap, m.most = gap, m.l.Room(gap)
	if m.inside != 0 { // its record goes before it
		m.most -= disk.Grid
	}
	return nil
}

// image finds the image that fills it; what the step does not say of the partition is as it was there.
func (m *making) image() *Obstacle {
	if m.s.Backup == "" {
		return nil
	}
	x, ok := m.f.Images[m.s.Backup]
	switch {
	case !ok:
		return NewObstacle(NoBackup, fmt.Sprintf("There is no image %s on the shelf.", m.s.Backup))
	case !x.Verified:
		return NewObstacle(BackupMissing, fmt.Sprintf("The backup %s has not been verified.", m.s.Backup)).ClearedBy("verify-backup")
	case x.Sector != m.l.Sector:
		return NewObstacle(
			NotResizable,
			fmt.Sprintf(
				"The image is of a drive with sectors of %s, and this one has sectors of %s: what is in it would not be readable here.",
				x.Sector, m.l.Sector,
			),
		)
	}
	m.img = &x
	if m.s.Size == "" {
		m.s.Size = fmt.Sprintf("%d B", x.Span.Bytes)
	}
	if m.s.Type == "" {
		m.s.Type = "basic"
		if x.MBR == (m.l.Scheme == "mbr") {
			m.s.Type = x.Span.TypeID
		}
	}
	return nil
}

// amount works out its size.
func (m *making) amount() *Obstacle {
	size, err := disk.ParseAmount(m.s.Size, m.most)
	switch {
	case err == nil && m.img != nil && size < m.img.Span.Bytes:
		return NewObstacle(
			TooSmall,
			fmt.Sprintf("The image is of a partition of %s (%s).", m.img.Span.Bytes, m.img.Span.Bytes.Exact()),
		)
	case err != nil:
		return NewObstacle(BadAmount, fmt.Sprintf("%v. The gap has room for %s (%s).", err, m.most, m.most.Exact()))
	case size > m.most:
		return NewObstacle(
			GapTooSmall, fmt.Sprintf("%s is more than the %s of the gap (%s).", size, m.most, m.most.Exact()),
		)
	}
	m.size = min(size.Up(disk.Grid), m.most)
	return nil
}

// entry works out what the table says of it, and where it lies.
func (m *making) entry() *Obstacle {
	n := freeNumber(m.l, m.inside)
	if n == 0 {
		return NewObstacle(TableFull, "The partition table has no free entry.")
	}
	id, role, known := typeFor(m.l.Scheme, m.s.Type)
	if !known {
		return NewObstacle(BadAmount, fmt.Sprintf("A table of kind %s has no type for %q.", m.l.Scheme, m.s.Type))
	}
	role = cmp.Or(role, layout.Data)
	if m.l.Scheme == "mbr" && m.s.Type == "basic" && m.s.Format == "fat32" {
		id = "0c" // FAT32, by sector numbers
	}
	start, record := max(m.gap.Start.Offset(m.l.Sector).Up(disk.Grid).At(m.l.Sector), m.s.StartLBA), disk.LBA(0)
	if m.inside != 0 {
		record = start
		start += disk.Grid.At(m.l.Sector)
	}
	m.p = layout.Span{
		Kind: layout.Partition, Container: m.inside, Record: record, Number: n,
		Start: start, End: min(start+m.size.At(m.l.Sector)-1, m.gap.End),
		TypeID: id, TypeName: table.TypeName(id), UniqueID: m.f.NewID, Name: m.s.Name, Attributes: "0x0000000000000000", Role: role,
		Protected: slices.Contains([]layout.Role{layout.EFI, layout.Reserved, layout.Recovery, layout.OEM}, role),
	}
	m.attributes()
	if m.img != nil {
		m.asInImage()
	}
	m.p.Bytes = (m.p.End - m.p.Start + 1).Offset(m.l.Sector)
	if m.l.Scheme == "mbr" {
		m.p.UniqueID = layout.PlaceID(m.l.DiskID, m.p.Start.Offset(m.l.Sector))
		m.p.Name = ""
	}
	return nil
}

// attributes gives it those of the step, or those that a recovery partition has.
func (m *making) attributes() {
	text := m.s.Attributes
	if text == "" && m.p.Role == layout.Recovery && m.l.Scheme == "gpt" { // as PCs make them: kept, and no letter
		text = fmt.Sprintf("0x%x", uint64(table.AttrRequired|table.AttrNoLetter))
	}
	if m.s.Attributes = text; text == "" {
		return
	}
	a, _ := strconv.ParseUint(strings.TrimPrefix(text, "0x"), 16, 64) // the step was found valid
	m.p.Attributes = fmt.Sprintf("0x%016x", a)
	m.p.Protected = m.p.Protected || a&(table.AttrRequired|table.AttrReadOnly) != 0
}

// asInImage takes over what its image was made of.
func (m *making) asInImage() {
	was := m.img.Span
	m.p.Role = was.Role
	if was.Role == layout.StartSystem {
		m.p.Role = layout.OtherSystem // it starts nothing from here
	}
	if m.s.Name == "" {
		m.p.Name = was.Name
	}
	if m.s.Attributes == "" && !m.img.MBR {
		m.p.Attributes, m.p.Protected = was.Attributes, was.Protected
	}
	if m.size == was.Bytes { // to the sector, also when that is no whole MiB
		m.p.End = m.p.Start + m.size.At(m.l.Sector) - 1
	}
}

// volume is the empty volume that it gets.
func (m *making) volume() *Obstacle {
	switch m.s.Format {
	case "ntfs":
		if m.p.Bytes < ntfs.Least {
			return NewObstacle(
				TooSmall, fmt.Sprintf("An NTFS volume needs at least %s; %s were asked for.", ntfs.Least, m.p.Bytes),
			)
		}
		v := volume.Info{
			Kind: volume.NTFS, Label: m.s.Label, Serial: Serial(m.f.NewID), ClusterBytes: NewCluster, Clean: true,
		}
		v = filling(v, m.p.Bytes, m.l.Sector)
		m.p.Volume = &v
	case "fat32":
		v, err := fat.Shape(m.p.Bytes, m.l.Sector)
		if err != nil {
			return NewObstacle(
				TooSmall,
				fmt.Sprintf(
					"A FAT32 volume has from 65 525 clusters up to 2^32 sectors: about 65 MiB to 2 TiB; %s were asked for.",
					m.p.Bytes,
				),
			)
		}
		if len(m.s.Label) > 11 || strings.ContainsFunc(m.s.Label, notInFAT) {
			return NewObstacle(
				BadAmount,
				fmt.Sprintf(
					"%q cannot be the label of a FAT volume: it has at most 11 plain letters, digits and spaces.",
					m.s.Label,
				),
			)
		}
		v.Label, v.Serial = strings.ToUpper(m.s.Label), Serial(m.f.NewID)[:8]
		m.p.Volume = &v
	case "fat16":
		return NewObstacle(NotYet, "This version makes NTFS and FAT32 volumes, or partitions without a volume.")
	default:
		if m.p.Role == layout.Data {
			m.p.Role = layout.Unknown
		}
	}
	return nil
}

// notInFAT tells that a sign cannot stand in the label of a FAT volume (FAT specification, 6.1).
func notInFAT(r rune) bool {
	return r < ' ' || r > '~' || strings.ContainsRune(`"*+,./:;<=>?[\]|`, r)
}
