package plan

import (
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

// creation makes a partition in a gap: with an empty volume, with what an image of the shelf holds, or with nothing.
var creation = kind{
	valid: Step.validCreate, lay: layCreate, amount: bySize, whole: always, makes: true, fills: itself, copies: filledFrom,
	priced: priceOfMaking,
}

// typeIDs are the names of partition types in plans, with their type on a GPT and on an
// MBR.
var typeIDs = map[string][2]string{
	"basic": {table.TypeBasic, "07"}, "efi": {table.TypeEFI, "ef"}, "reserved": {table.TypeReserved, ""}, "recovery": {table.TypeRecovery, "27"},
	"oem": {table.TypeOEM, "12"}, "linux": {table.TypeLinux, "83"}, "swap": {table.TypeSwap, "82"},
}

var roleOf = map[string]layout.Role{"efi": layout.EFI, "reserved": layout.Reserved, "recovery": layout.Recovery, "oem": layout.OEM, "swap": layout.Swap, "linux": layout.Unknown}

// NewCluster is the cluster size of volumes that are made.
const NewCluster = 4 * disk.KiB

// layCreate makes a partition in a gap.
func layCreate(c *Column, l *layout.Layout, _ *layout.Span, f Facts) {
	s := c.Step
	c.Title = "Create " + strings.TrimSpace(s.Label)
	if s.Label == "" {
		c.Title = "Create a partition"
	}
	inside := 0 // the container's number
	if s.In != "" {
		i := slices.IndexFunc(l.Spans, func(p layout.Span) bool { return p.Role == layout.Container })
		if i < 0 {
			c.Obstacles = append(c.Obstacles, *obstacle(NoGap, "The drive has no extended container that a logical volume could lie in.").clear("container"))
			return
		}
		inside = l.Spans[i].Number
	}
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	gap, ok := gapFor(l, s, inside)
	if !ok {
		block(obstacle(NoGap, "There is no free room for a new partition there."))
		return
	}
	if box, ok := l.Find(inside); ok && gap.Start == box.Start+1 {
		gap.Start = box.Start // its record can stand there
	}
	most := l.Room(gap)
	if inside != 0 { // its record goes before it
		most -= disk.Grid
	}
	var img *Image
	if s.Backup != "" {
		x, ok := f.Images[s.Backup]
		switch {
		case !ok:
			block(obstacle(NoBackup, fmt.Sprintf("There is no image %s on the shelf.", s.Backup)))
			return
		case !x.Verified:
			block(obstacle(BackupMissing, fmt.Sprintf("The backup %s has not been verified.", s.Backup)).clear("verify-backup"))
			return
		case x.Sector != l.Sector:
			block(obstacle(NotResizable, fmt.Sprintf("The image is of a drive with sectors of %s, and this one has sectors of %s: what is in it would not be readable here.", x.Sector, l.Sector)))
			return
		}
		img, c.Title = &x, "Restore "+x.Span.Title()
		if s.Size == "" {
			s.Size = fmt.Sprintf("%d B", x.Span.Bytes)
		}
		if s.Type == "" {
			s.Type = "basic"
			if x.MBR == (l.Scheme == "mbr") {
				s.Type = x.Span.TypeID
			}
		}
	}
	size, err := disk.ParseAmount(s.Size, most)
	if err == nil && img != nil && size < img.Span.Bytes {
		block(obstacle(TooSmall, fmt.Sprintf("The image is of a partition of %s (%s).", img.Span.Bytes, img.Span.Bytes.Exact())))
		return
	}
	switch {
	case err != nil:
		block(obstacle(BadAmount, fmt.Sprintf("%v. The gap has room for %s (%s).", err, most, most.Exact())))
		return
	case size > most:
		block(obstacle(GapTooSmall, fmt.Sprintf("%s is more than the %s of the gap (%s).", size, most, most.Exact())))
		return
	}
	n := freeNumber(l, inside)
	if n == 0 {
		block(obstacle(TableFull, "The partition table has no free entry."))
		return
	}
	id, role, known := typeFor(l.Scheme, s.Type)
	if !known {
		block(obstacle(BadAmount, fmt.Sprintf("A table of kind %s has no type for %q.", l.Scheme, s.Type)))
		return
	}
	if role == "" {
		role = layout.Data
	}
	if l.Scheme == "mbr" && s.Type == "basic" && s.Format == "fat32" {
		id = "0c" // FAT32, by sector numbers
	}
	start := max(gap.Start.Offset(l.Sector).Up(disk.Grid).At(l.Sector), s.StartLBA)
	size = min(size.Up(disk.Grid), most)
	record := disk.LBA(0)
	if inside != 0 {
		record = start
		start += disk.Grid.At(l.Sector)
	}
	p := layout.Span{Container: inside, Record: record,

		Kind: layout.Partition, Number: n, Start: start, End: start + size.At(l.Sector) - 1, TypeID: id, TypeName: table.TypeName(id),
		UniqueID: f.NewID, Name: s.Name, Attributes: "0x0000000000000000", Role: role,
		Protected: slices.Contains([]layout.Role{layout.EFI, layout.Reserved, layout.Recovery, layout.OEM}, role),
	}
	if s.Attributes == "" && role == layout.Recovery && l.Scheme == "gpt" { // as PCs make them: kept, and no letter
		s.Attributes = fmt.Sprintf("0x%x", uint64(table.AttrRequired|table.AttrNoLetter))
	}
	if s.Attributes != "" {
		a, _ := strconv.ParseUint(strings.TrimPrefix(s.Attributes, "0x"), 16, 64)
		p.Attributes = fmt.Sprintf("0x%016x", a)
		p.Protected = p.Protected || a&(table.AttrRequired|table.AttrReadOnly) != 0
	}
	if p.End > gap.End {
		p.End = gap.End
	}
	if img != nil {
		p.Role = img.Span.Role
		if p.Role == layout.StartSystem {
			p.Role = layout.OtherSystem // it starts nothing from here
		}
		if s.Name == "" {
			p.Name = img.Span.Name
		}
		if s.Attributes == "" && !img.MBR {
			p.Attributes, p.Protected = img.Span.Attributes, img.Span.Protected
		}
		if size == img.Span.Bytes { // to the sector, also when that is no whole MiB
			p.End = p.Start + size.At(l.Sector) - 1
		}
	}
	p.Bytes = (p.End - p.Start + 1).Offset(l.Sector)
	if l.Scheme == "mbr" {
		p.UniqueID = layout.PlaceID(l.DiskID, p.Start.Offset(l.Sector))
		p.Name = ""
	}
	if img != nil {
		restored(c, &p, img, l)
		if len(c.Obstacles) == 0 {
			c.Number, c.Layout = n, l.With(append(l.Partitions(), p))
		}
		return
	}
	switch s.Format {
	case "ntfs":
		if p.Bytes < ntfs.Least {
			block(obstacle(TooSmall, fmt.Sprintf("An NTFS volume needs at least %s; %s were asked for.", ntfs.Least, p.Bytes)))
			return
		}
		v := volume.Info{Kind: volume.NTFS, Label: s.Label, Serial: Serial(f.NewID), ClusterBytes: NewCluster, Clean: true}
		v = filling(v, p.Bytes, l.Sector)
		p.Volume = &v
	case "fat32":
		v, err := fat.Shape(p.Bytes, l.Sector)
		if err != nil {
			block(obstacle(TooSmall, fmt.Sprintf("A FAT32 volume has from 65 525 clusters up to 2^32 sectors: about 65 MiB to 2 TiB; %s were asked for.", p.Bytes)))
			return
		}
		if len(s.Label) > 11 || strings.ContainsFunc(s.Label, func(r rune) bool { return r < ' ' || r > '~' || strings.ContainsRune(`"*+,./:;<=>?[\]|`, r) }) {
			block(obstacle(BadAmount, fmt.Sprintf("%q cannot be the label of a FAT volume: it has at most 11 plain letters, digits and spaces.", s.Label)))
			return
		}
		v.Label, v.Serial = strings.ToUpper(s.Label), Serial(f.NewID)[:8]
		p.Volume = &v
	case "fat16":
		block(obstacle(NotYet, "This version makes NTFS and FAT32 volumes, or partitions without a volume."))
		return
	default:
		if role == layout.Data {
			p.Role = layout.Unknown
		}
	}
	if s.Test {
		defer func() { c.Detail += ", every sector tested" }()
	}
	c.Number, c.Detail = n, fmt.Sprintf("%s, %s", p.Bytes, map[string]string{"ntfs": "NTFS", "fat32": "FAT32", "none": "no volume"}[s.Format])
	c.Layout = l.With(append(l.Partitions(), p))
}

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
	c.Place, c.Fills, c.Detail = FromBackup, img.Fills, fmt.Sprintf("%s, from image %s", p.Bytes, c.Step.Backup)
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
		c.Obstacles = append(c.Obstacles, *obstacle(NotResizable, fmt.Sprintf("%s is %s, which this version does not grow: give it its own size, %s.", img.Span.Title(), v.Kind, img.Span.Bytes)))
	case v.Tables != nil && p.Bytes.At(l.Sector) > maxVolume(&v, l.Sector):
		c.Obstacles = append(c.Obstacles, *obstacle(TooLarge, fmt.Sprintf("%s has clusters of %s and cannot become so large: up to %s.", img.Span.Title(), v.ClusterBytes, maxVolume(&v, l.Sector).Offset(l.Sector))))
	case !v.Clean || v.Hibernated:
		c.Obstacles = append(c.Obstacles, *obstacle(NotClean, fmt.Sprintf("%s was not closed properly when the image was made: give it its own size, %s.", img.Span.Title(), img.Span.Bytes)))
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
func gapFor(l *layout.Layout, s Step, inside int) (layout.Span, bool) {
	var largest layout.Span
	for _, g := range l.Spans {
		if g.Kind != layout.Gap || g.Why != layout.Free || g.Container != inside {
			continue
		}
		if s.StartLBA > 0 {
			if g.Start <= s.StartLBA && s.StartLBA <= g.End {
				return layout.Span{Kind: g.Kind, Why: g.Why, Start: s.StartLBA, End: g.End, Bytes: (g.End - s.StartLBA + 1).Offset(l.Sector)}, true
			}
			continue
		}
		if size, err := disk.ParseAmount(s.Size, l.Room(g)); s.Size != "" && err == nil && size <= l.Room(g) {
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
	if s.Size == "" && s.Backup == "" {
		return fmt.Errorf("create names no size")
	}
	if s.Size != "" {
		if _, err := disk.ParseAmount(s.Size, 1<<60); err != nil {
			return err
		}
	}
	if s.Type == "" && s.Backup == "" || len(s.Type) > 36 {
		return fmt.Errorf("create names no type")
	}
	if s.Backup != "" && s.Format != "" {
		return fmt.Errorf("create has a format and an image; one of them says what is to be in it")
	}
	if s.In != "" && s.In != "container" {
		return fmt.Errorf("in is %q, not container", s.In)
	}
	if s.Test && s.Backup != "" {
		return fmt.Errorf("an image is put into the new partition; testing its sectors is not asked for with it")
	}
	if s.StartLBA < 0 {
		return fmt.Errorf("start_lba is %d", s.StartLBA)
	}
	if s.Backup == "" && !slices.Contains([]string{"ntfs", "fat32", "fat16", "none"}, s.Format) {
		return fmt.Errorf("format is %q, not ntfs, fat32, fat16 or none", s.Format)
	}
	if n := len(utf16.Encode([]rune(s.Label))); n > 32 {
		return fmt.Errorf("the label has %d letters; 32 fit", n)
	}
	if n := len(utf16.Encode([]rune(s.Name))); n > 36 {
		return fmt.Errorf("the name has %d letters; 36 fit", n)
	}
	if s.Attributes != "" {
		if _, err := strconv.ParseUint(strings.TrimPrefix(s.Attributes, "0x"), 16, 64); err != nil {
			return fmt.Errorf("attributes are %q, not a number in hex", s.Attributes)
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
