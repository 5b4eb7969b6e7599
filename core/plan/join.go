package plan

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Hold is where a step that copies out puts a volume's files when no backup takes them: a
// folder of another volume of the drive.
type Hold struct {
	Number int // of the volume
	Folder string
	Bytes  disk.Bytes // about what they take there
}

// holdFolder is the folder that files wait in, unless the step names another.
func holdFolder(p *layout.Span) string {
	name := strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`\/:*?"<>|`, r) {
			return '-'
		}
		return r
	}, strings.TrimSpace(strings.TrimPrefix(p.Title(), p.Letter+":")))
	letters := []rune(name)
	return "Kept from " + strings.TrimRight(string(letters[:min(len(letters), 60)]), " .")
}

// filesOf is what stands against taking the files of a volume to another place.
func filesOf(p *layout.Span, f Facts) *Obstacle {
	a := look(p)
	switch {
	case a.Obstacle != nil:
		return a.Obstacle
	case p.Held != "":
		return heldOpen(p)
	case p.Volume.Hibernated:
		return asleep(p, f)
	}
	return nil
}

// copyOut takes a volume's files to the shelf, or into a folder of another volume of the
// drive. The step is named, and a later one brings them back.
func copyOut(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	c.Title = "Copy the files of " + p.Title() + " out"
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	if o := filesOf(p, f); o != nil {
		block(o)
		return
	}
	if c.Step.Move {
		moveFolder(c, l, p, f)
		return
	}
	if c.Step.Volume == "" {
		b, ok := f.Backups[p.Number]
		switch {
		case ok && b.Coverage || !ok:
			c.Missing = append(c.Missing, *obstacle(BackupMissing, fmt.Sprintf("The files of %s are to come back from the shelf, and are not there yet. Make the backup.", p.Title()), p.Number).clear("back-up"))
		case !b.Verified || !b.Same:
			c.Missing = append(c.Missing, *obstacle(BackupMissing, fmt.Sprintf("%s has changed since its backup was made, or the backup is not verified. Make it again.", p.Title()), p.Number).clear("back-up"))
		default:
			c.Backup = b.ID
		}
		c.Detail, c.Waits, c.Layout = "to the shelf", p.Volume.UsedBytes, l
		return
	}
	to, o := named(l, c.Step.Volume)
	if o == nil && to.Number == p.Number {
		o = obstacle(NoNeighbour, "Its files would be copied onto itself.", p.Number)
	}
	need := p.Volume.UsedBytes
	if o == nil {
		o = mayTake(to, need)
	}
	if o != nil {
		block(o)
		return
	}
	if c.Step.Folder == "" {
		c.Step.Folder = holdFolder(p)
	}
	c.Number, c.From = to.Number, p.Number
	c.Detail = fmt.Sprintf("into the folder %s of %s", c.Step.Folder, to.Title())
	c.Hold = &Hold{to.Number, strings.Trim(c.Step.Folder, "/"), need}
	c.less(p.Volume.Kind, to, -1)
	c.Layout = fuller(l, to.Number, need)
}

// moveFolder moves a folder of a volume into another volume of the drive.
func moveFolder(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	path := strings.Trim(c.Step.Only[0], "/")
	c.Title = fmt.Sprintf("Move %s out of %s", path, p.Title())
	var bytes disk.Bytes
	for _, x := range f.Insides[p.Number].Folders {
		if x.Path == path {
			bytes = x.Bytes
		}
	}
	to, o := named(l, c.Step.Volume)
	switch {
	case o != nil:
	case to.Number == p.Number:
		o = obstacle(NoNeighbour, "It would be moved onto its own volume.", p.Number)
	case p.Volume.Kind != volume.NTFS:
		o = obstacle(NotYet, fmt.Sprintf("%s is %s; files are taken out of NTFS volumes only.", p.Title(), p.Volume.Kind), p.Number).clear("copy-out")
	default:
		if o = mayTake(p, 0); o == nil {
			o = mayTake(to, bytes)
		}
	}
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	if c.Step.Folder == "" {
		c.Step.Folder = "From " + strings.TrimPrefix(holdFolder(p), "Kept from ") + "/" + path[strings.LastIndex(path, "/")+1:]
	}
	c.Number, c.From, c.Base, c.Moves, c.Waits = to.Number, p.Number, path, true, bytes
	c.Detail = fmt.Sprintf("into the folder %s of %s", c.Step.Folder, to.Title())
	c.Notes = append(c.Notes, *obstacle(PathsChange, fmt.Sprintf("What was in %s of %s is in %s of %s afterwards. Programs that know the old path must be told.", path, p.Title(), c.Step.Folder, to.Title()), p.Number, to.Number))
	c.less(p.Volume.Kind, to, -1)
	c.Layout = fuller(fuller(l, to.Number, bytes), p.Number, -bytes)
}

// takeBack puts files into a volume that an earlier step copied out to another one of the
// drive.
func takeBack(c *Column, l *layout.Layout, p *layout.Span, h *Hold) {
	c.Title = "Put the files back into " + p.Title()
	from, ok := l.Find(h.Number)
	switch {
	case !ok:
		c.Obstacles = append(c.Obstacles, *obstacle(NoBackup, "The volume that the files were copied to is not there any more.", p.Number))
		return
	case from.Number == p.Number:
		c.Obstacles = append(c.Obstacles, *obstacle(NoNeighbour, "The files wait in this volume itself.", p.Number))
		return
	case len(c.Step.Only) > 0:
		c.Obstacles = append(c.Obstacles, *obstacle(BadAmount, "Files that an earlier step copied out come back all together.", p.Number))
		return
	}
	if o := mayTake(p, h.Bytes); o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	c.From, c.Base = from.Number, h.Folder
	c.less(from.Volume.Kind, p, -1)
	c.Layout = fuller(l, p.Number, h.Bytes)
	c.Detail = fmt.Sprintf("copied from the folder %s of %s, where the copy stays", h.Folder, from.Title())
	if from.Volume.Kind == volume.NTFS && mayTake(from, 0) == nil {
		c.Moves, c.Layout = true, fuller(c.Layout, from.Number, -h.Bytes)
		c.Detail = fmt.Sprintf("moved from the folder %s of %s", h.Folder, from.Title())
	}
}

// absorb moves the files of one volume into a folder of another; its partition goes, and
// where its place touches the other's end, the other takes it.
func absorb(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	c.Title = "Absorb " + p.Title()
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	to, o := named(l, c.Step.Into)
	if o == nil && to.Number == p.Number {
		o = obstacle(NoNeighbour, "A volume cannot absorb itself.", p.Number)
	}
	if o == nil {
		c.Title = fmt.Sprintf("Absorb %s into %s", p.Title(), to.Title())
		o = mayDelete(l, p, f)
	}
	if o == nil {
		o = filesOf(p, f)
	}
	if o == nil && !p.Volume.Clean {
		o = obstacle(NotClean, fmt.Sprintf("%s was not closed properly.", p.Title()), p.Number).clear("close-volume")
	}
	if o == nil {
		o = mayTake(to, 0)
	}
	if o != nil {
		block(o)
		return
	}
	room := to.Volume.Free()
	after := l.With(slices.DeleteFunc(l.Partitions(), func(s layout.Span) bool { return s.Number == p.Number }))
	end := to.End
	if to.End < p.Start && mayGrowTo(after, to, p.End, f) {
		end = p.End
	}
	whole := (end - to.Start + 1).Offset(l.Sector)
	grown := room
	if end > to.End {
		grown += whole - to.Bytes
	}
	need := p.Volume.UsedBytes
	switch {
	case need <= room:
		c.Detail = "its files first, then its place"
	case need+need/64+2*disk.MiB <= grown: // what the files' bookkeeping may take
		c.Portions = true
		c.Detail = fmt.Sprintf("in portions: %s has %s free, and the files take %s", to.Title(), room, need)
		if o := inPortions(l, p, to, f); o != nil {
			block(o)
			return
		}
	default:
		block(obstacle(Full, fmt.Sprintf("The files of %s take %s, and %s would have room for %s.", p.Title(), need, to.Title(), grown), p.Number, to.Number).clear("shrink", "move-files"))
		return
	}
	if o := notReleased(p, c.Step, f); o != nil {
		c.Missing = append(c.Missing, *o)
	}
	if o := needsLead(c, p, f); o != nil {
		c.Missing = append(c.Missing, *o)
	}
	if c.Step.Folder == "" {
		c.Step.Folder = "From " + strings.TrimPrefix(holdFolder(p), "Kept from ")
	}
	leaves(c, p, f)
	c.Number = to.Number
	c.Notes = append(c.Notes, *obstacle(PathsChange, fmt.Sprintf("What was at the root of %s is in the folder %s of %s afterwards.", p.Title(), c.Step.Folder, to.Title()), p.Number, to.Number))
	c.less(p.Volume.Kind, to, -1)
	parts := after.Partitions()
	for i := range parts {
		if q := &parts[i]; q.Number == to.Number {
			v := *q.Volume
			if end > q.End {
				q.End, q.Bytes = end, whole
				v = filling(v, whole, l.Sector)
				v.Use = nil
			}
			v.UsedBytes += need
			q.Volume = &v
		}
	}
	c.Absorbed, c.From = p.Number, p.Number
	c.Layout = l.With(parts)
}

// inPortions tells whether a volume can go over into another bit by bit.
func inPortions(l *layout.Layout, p, to *layout.Span, f Facts) *Obstacle {
	if p.Volume.Kind != volume.NTFS || to.Volume.Kind != volume.NTFS {
		return obstacle(NotYet, fmt.Sprintf("%s has not room for all files of %s at once, and in portions they go from NTFS into NTFS only.", to.Title(), p.Title()), p.Number, to.Number).clear("copy-out", "move-files")
	}
	return movable(p, f)
}

// mayGrowTo tells whether a volume can grow up to a sector.
func mayGrowTo(l *layout.Layout, p *layout.Span, end disk.LBA, f Facts) bool {
	room, o := mayGrow(l, p, f)
	return o == nil && room >= end
}

// clearAll takes everything off the drive and gives it an empty table of the wanted kind,
// or none.
func clearAll(c *Column, l *layout.Layout, f Facts) {
	c.Title = "Clear the drive"
	parts := l.Partitions()
	if f.ReadOnly {
		c.Obstacles = append(c.Obstacles, *general(f))
		return
	}
	f.TableTrouble, f.NoTable, f.entries = "", false, entries{} // it goes with all that is wrong with it
	for i := range parts {
		p := &parts[i]
		o := mayDelete(l, p, f)
		if o != nil && o.Code == HasVolumes { // they go as well
			o = nil
		}
		if o != nil {
			c.Obstacles = append(c.Obstacles, *o)
			continue
		}
		c.Missing = append(c.Missing, missing(c, p, f)...)
		leaves(c, p, f)
		f.PC = c.PC
	}
	if f.StartsHere {
		c.Obstacles = append(c.Obstacles, *obstacle(OnlyEFI, "The PC starts from this drive: without its partitions it cannot start. Take the drive out of the PC's start order, or let it start from another.").clear("start-order"))
	}
	if len(c.Obstacles) > 0 {
		c.Missing = []Obstacle{}
		return
	}
	out := *l
	out.Scheme, out.DiskID = c.Step.Scheme, f.NewID
	sectors := l.Size.At(l.Sector)
	switch c.Step.Scheme {
	case "gpt":
		out.Slots = 128
		table := disk.LBA((128*128 + l.Sector - 1) / l.Sector)
		out.FirstUsable, out.LastUsable = 2+table, sectors-2-table
	case "mbr":
		out.Slots, out.DiskID = 4, Serial(f.NewID)[:8]
		out.FirstUsable, out.LastUsable = 1, min(sectors-1, 1<<32-1)
	default:
		out.Slots, out.DiskID, out.FirstUsable, out.LastUsable = 0, "", 0, 0
	}
	c.Detail = map[string]string{"gpt": "a new, empty GPT", "mbr": "a new, empty table of the old kind (MBR)", "none": "no table"}[c.Step.Scheme]
	if len(parts) == 0 && c.Step.Scheme != "none" {
		c.Title = "Make a table"
	}
	c.Cleared = parts
	c.Layout = out.With(nil)
}

// rebuild makes a partition again as a record has it: with the type, attributes, name and
// label that it had, at the wanted size, and empty.
func rebuild(c *Column, l *layout.Layout, f Facts) {
	c.Title = "Rebuild"
	r, o := f.record(c.Step.Record)
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	s := Again(l, &r.Span)
	s.Do, s.Record, s.As = Rebuild, c.Step.Record, c.Step.As
	if c.Step.Size != "" {
		s.Size = c.Step.Size
	}
	s.StartLBA = c.Step.StartLBA
	c.Step = s
	newPartition(c, l, f)
	c.Title = "Rebuild " + r.Span.Title()
	if c.Layout != nil {
		c.Detail += ", with its former type" + map[bool]string{true: " and attributes"}[l.Scheme == "gpt"]
	}
}

// Again is the step that makes a partition like one that was, empty.
func Again(l *layout.Layout, p *layout.Span) Step {
	s := Step{Do: Create, Size: fmt.Sprintf("%d B", p.Bytes), Type: p.TypeID, Format: "none", Name: p.Name, Attributes: p.Attributes}
	if p.Volume != nil {
		s.Label, s.Format = p.Volume.Label, "ntfs"
		if p.Volume.Kind == volume.FAT32 {
			s.Format = "fat32"
		}
	}
	if l.Scheme == "mbr" {
		s.Name, s.Attributes = "", ""
	}
	if p.TypeID == "" || (len(p.TypeID) == 2) != (l.Scheme == "mbr") { // it was on a table of the other kind
		s.Type = map[layout.Role]string{layout.EFI: "efi", layout.Reserved: "reserved", layout.Recovery: "recovery", layout.OEM: "oem", layout.Swap: "swap"}[p.Role]
		if s.Type == "" {
			s.Type = "basic"
		}
	}
	return s
}

// validJoin checks the words of the steps in this file.
func (s Step) validJoin() error {
	switch {
	case s.Do == Rebuild && s.Record == "":
		return errors.New("rebuild names no record")
	case s.Do == Rebuild && s.Size != "":
		_, err := disk.ParseAmount(s.Size, 1<<60)
		return err
	case s.Do == Clear && !slices.Contains([]string{"gpt", "mbr", "none"}, s.Scheme):
		return fmt.Errorf("scheme is %q, not gpt, mbr or none", s.Scheme)
	case s.Do == Absorb && (s.Partition == "" || s.Into == ""):
		return errors.New("absorb needs a partition and the one that takes it in")
	case s.Do == CopyOut && s.Move && (len(s.Only) != 1 || strings.Trim(s.Only[0], "/") == "" || s.Volume == ""):
		return errors.New("what is moved is one folder, and it goes into another volume")
	case s.Do == CopyOut && !s.Move && len(s.Only) > 0:
		return errors.New("copy-out copies all of a volume, or moves one folder")
	case s.Do == CopyOut && s.Partition == "":
		return errors.New("copy-out names no partition")
	}
	return validFolder(s.Folder)
}

// shelved are files that a step copies out to the shelf: the backup, "" while there is none,
// and about how much room they take.
type shelved struct {
	id    string
	bytes disk.Bytes
}

// names are what steps of a plan have been given names for: partitions by their numbers,
// and files that were copied out.
type names struct {
	parts   map[string]string
	backups map[string]shelved
	holds   map[string]*Hold
	left    map[string]bool // unique ids of what was deleted
}

func newNames() *names {
	return &names{map[string]string{}, map[string]shelved{}, map[string]*Hold{}, map[string]bool{}}
}

// resolve puts into a step what names of earlier steps stand for.
func (n *names) resolve(s Step) Step {
	for _, at := range []*string{&s.Partition, &s.Into, &s.Volume} {
		if number, ok := n.parts[*at]; ok {
			*at = number
		}
	}
	return s
}

// note keeps the names that a step gives.
func (n *names) note(s Step, c *Column) {
	if s.As == "" {
		return
	}
	switch {
	case c.Hold != nil:
		n.holds[s.As] = c.Hold
	case s.Do == CopyOut:
		n.backups[s.As] = shelved{c.Backup, c.Waits}
	case s.Do == Create || s.Do == Rebuild || s.Do == Container || s.Do == BringBack:
		n.parts[s.As] = strconv.Itoa(c.Number)
	}
}
